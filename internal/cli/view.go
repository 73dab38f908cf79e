package cli

import (
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/span"
)

var viewCommand = &command{
	name: "view", usage: "[flags] FILE",
	short: "bytes in rows with text, regions and holes marked",
	long: `
Prints the image's bytes in rows, with their text beside them. Holes, and rows
that repeat the one before them, take one line. With -device, the borders and
names of regions are marked, and no row lies in two of them; -origin shows the
file and line that each row came from, and the operations on the way. Of an ELF
file, the symbols that begin in a row stand above it.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		var in []string
		columns := uint64(16)
		view := render.View{}
		f.add(span.ListKey(&in, "in", "SPAN", "print SPAN only; may be given several times (image)"),
			span.SwitchKey(&view.Origin, "origin", "show where each row came from"),
			span.NumberKey(&columns, 1, 256, "columns", "N", "N bytes in a row, 1 to 256 (16)"))
		r.define(f)
		return func(s *session, args []string) error {
			view.Columns = int(columns)
			dev, file, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			all, ok := file.Image.Span()
			if !ok {
				s.note(file.Name + " holds no bytes")
				return nil
			}
			dev = s.configured(dev, file.Image)
			where, err := spans("in", in, withImage(s.names(dev), file.Image))
			if err != nil {
				return err
			}
			if len(where) == 0 {
				where = []memory.Span{all}
			}
			if dev != nil {
				for _, region := range dev.Regions {
					view.Labels = append(view.Labels, render.Label{Span: region.Span, Name: region.Name})
				}
			}
			if file.Program != nil {
				view.Symbols = report.SymbolsIn(file.Program)
			}
			view.Print(s.print, file.Image, where)
			return nil
		}
	},
}
