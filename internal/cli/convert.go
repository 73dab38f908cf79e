package cli

import "flag"

var convertCommand = &command{
	name: "convert", usage: "[flags] FILE",
	short: "changes the format",
	long: `
Reads an image and writes it in the format that -to, or the name behind -o,
gives. What the format cannot hold is an error (an address that is too wide,
holes in raw bytes) or told in a note (a start address, a header).

With -in, only what lies in the span is written; raw bytes then are the span's,
from its first address to its last.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		r.define(fs)
		w.define(fs)
		var in string
		fs.StringVar(&in, "in", "", "write `SPAN` only")
		return func(s *session, args []string) error {
			operand, err := s.oneOperand(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			f, err := s.read(&r, operand, names(dev))
			if err != nil {
				return err
			}
			if in != "" {
				where, err := spans("in", []string{in}, withImage(names(dev), f.Image))
				if err != nil {
					return err
				}
				f.Image = f.Image.Cut(where...)
				w.options.Span = &where[0]
			}
			return s.write(&w, &r, f.Image, f.Format)
		}
	},
}
