package cli

import (
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/span"
)

var viewCommand = &command{
	name: "view", usage: "[flags] FILE",
	short: "show bytes in rows, with text, regions and holes; find bytes or text",
	long: `
Prints the image's bytes in rows, with their text next to them. Holes, and rows
that repeat the row before them, take one line. With -device, the borders and
names of regions are marked, and no row is in two of them; -origin shows the
file and line that each row came from, and the operations on the way. For an ELF
file, each symbol is printed above the row it begins in. For a damaged file, the
good lines are printed and the missing ones marked; the status is still 3.

-find lists each place that contains some bytes, or a text, and ends with status 1
if there is none. An argument of hex digits is bytes; anything else is text. Put text in double quotes to force text.`,
	setup: func(f *flags) func(*session, []string) error {
		v := &viewRun{columns: 16}
		f.add(key.List(&v.in, "in", "SPAN", "print SPAN only, or one address; repeatable (image)"),
			key.New("find", "BYTES", "find BYTES, or a text", func(text string) (err error) {
				v.wanted, v.what, err = span.Wanted(text)
				return err
			}),
			key.Switch(&v.view.Origin, "origin", "show the file and line of each row"),
			key.Number(&v.columns, 1, 256, "columns", "N", "N bytes in a row, 1 to 256 (16)"))
		f.reportsTo()
		v.r.define(f)
		return v.run
	},
}

// saving says how to go on with a damaged file.
func saving(file string) string {
	return "to save its intact records: " + (commandLine{}).save(file)
}

// viewRun holds the flags of view.
type viewRun struct {
	r       reading
	in      []string
	wanted  []byte // of -find
	what    string // as it was asked for
	columns uint64
	view    render.View
}

func (v *viewRun) run(s *session, args []string) error {
	v.view.Columns = int(v.columns)
	dev, file, err := s.readDamaged(&v.r, args)
	if err != nil {
		return err
	}
	damaged := file.failed()
	if damaged != nil {
		s.printError(damaged)
		v.view.Damage = report.Damage(file.problems)
		s.note(saving(file.operand))
	}
	all, ok := file.Image.Span()
	if !ok && damaged != nil {
		return &failure{statusOf(damaged), errShown}
	}
	if !ok {
		s.note(file.Name + " contains no bytes")
	}
	dev = s.configured(dev, file.Image)
	where, err := s.spans("in", v.in, withImage(s.names(dev), file.Image))
	if err != nil {
		return err
	}
	if len(where) == 0 && ok {
		where = []memory.Span{all}
	}
	if dev != nil {
		for s, region := range dev.Innermost() {
			v.view.Labels = append(v.view.Labels, render.Label{Span: s, Name: region.Name})
		}
		if known := s.names(dev); len(known.Words) > 0 {
			v.view.Words = known.WordText
		}
	}
	if file.Program != nil {
		v.view.Symbols = report.SymbolsIn(file.Program)
	}
	shown := &report.Viewed{View: v.view, Name: file.Name, Image: file.Image, Where: where}
	if v.wanted != nil {
		shown.Finds = report.Find(file.Image, where, v.what, v.wanted)
	}
	if err := s.show(shown); err != nil {
		return err
	}
	switch {
	case damaged != nil:
		return &failure{statusOf(damaged), errShown}
	case v.wanted != nil && len(shown.Finds.Places) == 0:
		return errFindings
	}
	return nil
}
