package cli

import "flag"

var convertCommand = &command{
	name: "convert", usage: "[flags] FILE",
	short: "changes the format",
	long: `
Reads an image and writes it in the format that -to, or the name behind -o,
gives. What the format cannot hold is an error (an address that is too wide,
holes in raw bytes) or told in a note (a start address, a header).`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		r.define(fs)
		w.define(fs)
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
			return s.write(&w, &r, f.Image, f.Format)
		}
	},
}
