package cli

import (
	"flag"
	"fmt"
	"strings"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var fillCommand = &command{
	name: "fill", usage: "[flags] FILE",
	short: "fills holes",
	long: `
Writes a pattern into the holes of the spans, and only there. The pattern is
anchored to the address: byte number (address mod length) of it stands at each
address, so that two fills meet without a seam.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var in list
		with := "FF"
		r.define(fs)
		w.define(fs)
		fs.Var(&in, "in", "fill the holes in `SPAN`; may be given several times (image)")
		fs.StringVar(&with, "with", with, "fill with `BYTES` (FF)")
		return func(s *session, args []string) error {
			operand, err := s.oneOperand(args)
			if err != nil {
				return err
			}
			pattern, err := span.Bytes(with)
			if err != nil {
				return usagef("-with %w", err)
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			f, err := s.read(&r, operand, names(dev))
			if err != nil {
				return err
			}
			if len(in) == 0 {
				in = list{"image"}
			}
			where, err := spans("in", in, withImage(names(dev), f.Image))
			if err != nil {
				return err
			}
			filled, holes, err := f.Image.Fill(&source.Input{Name: "fill", Counting: source.Operation}, pattern, where...)
			if err != nil {
				return usagef("%w", err)
			}
			size := uint64(0)
			for _, h := range holes {
				size += h.Size()
			}
			if len(holes) == 0 {
				s.note("nothing to fill: no holes in %s", strings.Join(in, ", "))
			} else {
				s.note("filled %s in %s with % X", memory.FormatSize(size), holeList(holes), pattern)
			}
			return s.write(&w, &r, filled, f.Format)
		}
	},
}

// holeList counts holes and names the first few.
func holeList(holes []memory.Span) string {
	const most = 4
	var names []string
	for _, h := range holes[:min(len(holes), most)] {
		names = append(names, h.Range())
	}
	if len(holes) > most {
		names = append(names, "...")
	}
	return fmt.Sprintf("%s (%s)", render.Count(len(holes), "hole"), strings.Join(names, ", "))
}
