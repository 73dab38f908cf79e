package cli

import (
	"mexalt/internal/report"
)

var inspectCommand = &command{
	name: "inspect", usage: "[flags] FILE...",
	short: "show what each file contains and whether it is intact",
	long: `
Prints each file's format, whether it is intact, its address ranges, start address, records, version texts and digests. With -device, also what is in each region. The digest of the contents is the same for the same
bytes at the same addresses in any format: SHA-256 over each run's first
address and length, as 64-bit big-endian numbers, and its bytes.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		f.reportsTo()
		r.define(f)
		return func(s *session, args []string) error {
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			s.files.Digest = true
			worst := 0
			var saved []string // how to go on with damaged files
			all := &report.Inspections{Wording: s.wording, Problems: s.messages}
			for _, a := range args {
				in := s.open(&r, a, s.names(dev))
				if in.err != nil {
					s.printError(in.err)
					all.Missing = append(all.Missing, s.problemsOf(in.err)...)
					worst = max(worst, statusOf(in.err))
					continue
				}
				placed := dev
				switch {
				case in.image() == nil:
					worst = max(worst, statusInput)
					if in.sound() {
						saved = append(saved, saving(in.operand))
					}
				case in.problems.Doubtful():
					worst = max(worst, statusFindings)
				}
				if in.image() == nil {
				} else if dev != nil {
					placed, _ = dev.For(in.Image)
				}
				all.All = append(all.All, report.Inspect(in.File, in.problems, in.recorded, placed))
			}
			if err := s.show(all); err != nil {
				return err
			}
			for _, text := range saved {
				s.note(text)
			}
			if worst > 0 {
				return &failure{worst, errShown}
			}
			return nil
		}
	},
}
