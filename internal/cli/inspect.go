package cli

import (
	"cmp"
	"io"
	"os"
	"slices"

	"mexalt/device"
	"mexalt/internal/pages"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/inventory"
	"mexalt/key"
	"mexalt/source"
)

// fewFiles are inspected one by one; more are told apart in a table.
const fewFiles = 8

// many reports whether files get a table.
func many(args []string) bool {
	return len(args) > fewFiles || slices.ContainsFunc(args, func(name string) bool {
		info, err := os.Stat(name)
		return err == nil && info.IsDir()
	})
}

// folder tells the files of folders apart.
func (s *session) folder(r *reading, f *flags, args []string, form string) error {
	for _, k := range f.all() {
		if k.Given() && !slices.Contains([]string{"format", "json", "o", "quiet", "color", "device"}, k.Name) {
			return source.Keyf(k.Name, "has no effect on folders")
		}
	}
	names, err := inventory.Names(args)
	if err != nil {
		return err
	}
	dev, err := s.loadDevice(r, names)
	if err != nil {
		return err
	}
	folders := s.mapFolders(names)
	maps := device.Each(folders, nil)
	switch own := device.Own(folders); {
	case dev != nil:
		maps = func(yield func(string, *device.Map) bool) { yield(cmp.Or(r.device, r.board), dev) }
	case len(own) > 0:
		maps = device.Each(folders, slices.DeleteFunc(device.Shipped(), func(name string) bool { return slices.Contains(own, name) }))
	}
	found, err := inventory.Of(s.ctx, names, maps)
	if err != nil {
		return err
	}
	x := &report.Folder{Inventory: found}
	if form == "html" {
		s.reporting.written = true
		err = s.showAs(func(to io.Writer, _ *render.Printer) error { return pages.WriteFolder(x, to) })
	} else {
		err = s.show(x)
	}
	if err == nil && !found.Sound() {
		return errFindings
	}
	return err
}

var inspectCommand = &command{
	name: "inspect", usage: "[flags] FILE|FOLDER...",
	short: "show what each file contains and whether it is intact",
	long: `
Prints each file's format, whether it is intact, its address ranges, start
address, records, version texts and digests. With -device, also what is in each
region. The digest of the contents is the same for the same
bytes at the same addresses in any format: SHA-256 over each run's first
address and length, as 64-bit big-endian numbers, and its bytes.

A FOLDER, or more than 8 files, are listed in a table with a row for each file: its
format; what it is in terms of the device maps that lie there, else of all that are
known; twins; the program that it was made from; the manifest or the log of units that
lists it. What cannot be right comes first: a HEX file that is older than the program
next to it, two files that are both meant to be the application, a file that was changed
since its release.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		form := "text"
		f.add(key.Word(&form, []string{"text", "json", "html"}, "format", "FORMAT",
			"report as FORMAT text, json or html, a self-contained page of a FOLDER (text)"))
		reporting := f.reportsTo()
		r.define(f)
		return func(s *session, args []string) error {
			if reporting.json = reporting.json || form == "json"; reporting.json {
				form, s.quiet = "json", true
			}
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			if many(args) {
				return s.folder(&r, f, args, form)
			}
			if form == "html" {
				return source.Keyf("format", "html is of a folder, or of more than %d files", fewFiles)
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			s.files.Digest = true
			worst := 0
			var saved []string // how to go on with damaged files
			all := &report.Inspections{Wording: s.wording, Problems: s.messages}
			known := s.names(dev)
			for _, a := range args {
				in := s.open(&r, a, known)
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
