package cli

import (
	"flag"
	"fmt"
)

var convertCommand = &command{
	name: "convert", usage: "[flags] FILE",
	short: "changes the format",
	long: `
Reads an image and writes it in the format that -to, or the name behind -o,
gives. What the format cannot hold is an error (an address that is too wide,
holes in raw bytes) or told in a note (a start address, a header).

With -swap, the bytes in each word are put into reverse order first; runs must
begin and end with whole words.

With -in, only what lies in the span is written; raw bytes then are the span's,
from its first address to its last.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		r.define(fs)
		w.define(fs)
		var in string
		var swap uint64
		fs.StringVar(&in, "in", "", "write `SPAN` only")
		fs.Func("swap", "reverse the bytes in words of `N` bytes, 2, 4 or 8", func(v string) error {
			switch v {
			case "2", "4", "8":
				swap = uint64(v[0] - '0')
				return nil
			}
			return fmt.Errorf("%q is none of 2, 4, 8", v)
		})
		return func(s *session, args []string) error {
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			if in != "" {
				where, err := spans("in", []string{in}, withImage(names(dev), f.Image))
				if err != nil {
					return err
				}
				whole := f.Image
				f.Image = whole.Cut(where...)
				s.noteLostStart(whole, f.Image)
				w.options.Span = &where[0]
			}
			if swap > 0 {
				if f.Image, err = f.Image.Swap(swap); err != nil {
					return inputf("%w", err)
				}
			}
			return s.write(&w, &r, f.Image, f.Format)
		}
	},
}
