package cli

import (
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/span"
)

var compareCommand = &command{
	name: "compare", usage: "[flags] EXPECTED FOUND",
	short: "where two images differ",
	long: `
Compares two images byte by byte, whatever their formats: what was to be
programmed against what was read back, yesterday's release against today's.
Stretches that differ are listed with the bytes expected and found, and what
only one of the two holds; where the pattern shows it, the likely cause.

A read-back usually holds erased bytes where the image has holes: -holes FF
takes a hole as FF. Different start addresses are told, but are no difference.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		var in, skip []string
		var hole *byte
		f.add(span.ListKey(&in, "in", "SPAN", "compare inside SPAN only; may be given several times"),
			span.ListKey(&skip, "skip", "SPAN", "leave SPAN out; may be given several times"),
			span.ByteKey(&hole, "holes", "BYTE", "take a hole as BYTE"))
		f.reportsTo()
		r.define(f)
		return func(s *session, args []string) error {
			if len(args) != 2 {
				return usagef("usage: mexalt compare [flags] EXPECTED FOUND; %s", named(args))
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			s.wording.file = args[1]
			files, err := s.readAll(&r, args, s.names(dev), nil)
			if err != nil {
				return err
			}
			dev = s.configured(dev, files[0].Image)
			known := withImage(s.names(dev), files[0].Image)
			where, err := spans("in", in, known)
			if err != nil {
				return err
			}
			without, err := spans("skip", skip, known)
			if err != nil {
				return err
			}
			if len(where) == 0 {
				where = memory.Complement(nil)
			}
			where = memory.Without(where, without)
			parts := make([]memory.Part, len(files))
			for i, file := range files {
				parts[i] = memory.Part{Name: file.Name, Image: file.Image.Cut(where...)}
			}
			c := report.Compare(parts[0], parts[1], dev, hole, where)
			c.Wording = s.wording
			if err := s.show(c); err != nil {
				return err
			}
			if !c.Same() {
				return errFindings
			}
			return nil
		}
	},
}
