package cli

import (
	"flag"
	"fmt"
	"strconv"

	"mexalt/internal/render"
	"mexalt/memory"
)

var viewCommand = &command{
	name: "view", usage: "[flags] FILE",
	short: "bytes in rows with text, regions and holes marked",
	long: `
Prints the image's bytes in rows, with their text beside them. Holes, and rows
that repeat the one before them, take one line. With -device, the borders and
names of regions are marked, and no row lies in two of them; -origin shows the
file and line that each row came from.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var in list
		view := render.View{Columns: 16}
		r.define(fs)
		fs.Var(&in, "in", "print `SPAN` only; may be given several times (image)")
		fs.BoolVar(&view.Origin, "origin", false, "show where each row came from")
		fs.Func("columns", "`N` bytes in a row (16)", func(v string) error {
			n, err := strconv.Atoi(v)
			if err != nil || n < 1 || n > 256 {
				return fmt.Errorf("%q is no number of bytes in a row; 1 to 256", v)
			}
			view.Columns = n
			return nil
		})
		return func(s *session, args []string) error {
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			all, ok := f.Image.Span()
			if !ok {
				s.note("%s holds no bytes", f.Name)
				return nil
			}
			where, err := spans("in", in, withImage(names(dev), f.Image))
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
			view.Print(s.out, f.Image, where)
			return nil
		}
	},
}
