package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var placeCommand = &command{
	name: "place", usage: "-at ADDRESS | -by ±N | -region NAME [flags] FILE",
	short: "moves an image",
	long: `
Moves all bytes of an image: its first byte to an address, all by a distance, or
its first byte to the first address of a region, where it must fit. A start
address that lies inside the image moves with it.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var at, by, region string
		r.define(fs)
		w.define(fs)
		fs.StringVar(&at, "at", "", "put the first byte at `ADDRESS`")
		fs.StringVar(&by, "by", "", "move up by `N`, or down by -N")
		fs.StringVar(&region, "region", "", "put it into region `NAME` of the device map")
		return func(s *session, args []string) error {
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			given := 0
			var placing span.Placing
			if at != "" {
				given++
				placing.Kind = span.FirstAt
				if placing.Value, err = span.Address(at, names(dev)); err != nil {
					return usagef("-at %w", err)
				}
			}
			if by != "" {
				given++
				distance, down := strings.CutPrefix(by, "-")
				placing.Kind = span.Up
				if down {
					placing.Kind = span.Down
				}
				if placing.Value, err = span.Address(strings.TrimPrefix(distance, "+"), names(dev)); err != nil {
					return usagef("-by %w", err)
				}
			}
			var home memory.Span
			if region != "" {
				given++
				if dev == nil {
					return usagef("-region names a region of a device map; which? -device MAP")
				}
				r := dev.Region(region)
				if r == nil {
					return usagef("-region: %s has no region %q; %s", dev.Name, region, source.DidYouMean(region, dev.RegionNames()))
				}
				home = r.Span
				placing = span.Placing{Kind: span.FirstAt, Value: home.First}
			}
			if given != 1 {
				return usagef("where to? One of -at ADDRESS, -by N and -region NAME")
			}
			before, ok := f.Image.Span()
			if !ok {
				return inputf("%s: holds no bytes, so there is nothing to move", f.Name)
			}
			if region != "" && before.Size() > home.Size() {
				return inputf("%s: is %s long and does not fit into region %s, %s: %s bytes too long", f.Name,
					memory.FormatSize(before.Size()), region, home, memory.FormatCount(before.Size()-home.Size()))
			}
			if f.Image, err = placing.Apply(f.Image); err != nil {
				return inputf("%s: %w", f.Name, err)
			}
			after, _ := f.Image.Span()
			s.note("moved from %s to %s", before.Range(), after.Range())
			return s.write(&w, &r, f.Image, f.Format)
		}
	},
}

var cutCommand = &command{
	name: "cut", usage: "-keep SPAN | -drop SPAN [flags] FILE",
	short: "keeps or drops spans",
	long: `
Keeps only what lies in the spans given with -keep, less what lies in those
given with -drop. Either may be given several times.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var keep, drop list
		r.define(fs)
		w.define(fs)
		fs.Var(&keep, "keep", "keep what lies in `SPAN`; may be given several times")
		fs.Var(&drop, "drop", "drop what lies in `SPAN`; may be given several times")
		return func(s *session, args []string) error {
			if len(keep)+len(drop) == 0 {
				return usagef("what is cut? -keep SPAN or -drop SPAN")
			}
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			known := withImage(names(dev), f.Image)
			kept, err := spans("keep", keep, known)
			if err != nil {
				return err
			}
			dropped, err := spans("drop", drop, known)
			if err != nil {
				return err
			}
			if len(keep) == 0 {
				kept = memory.Complement(nil)
			}
			before := f.Image.Bytes()
			image := f.Image.Cut(memory.Without(kept, dropped)...)
			s.note("dropped %s of %s bytes", memory.FormatCount(before-image.Bytes()), memory.FormatCount(before))
			if image.Empty() {
				s.note("note: nothing is left")
			}
			s.noteLostStart(f.Image, image)
			return s.write(&w, &r, image, f.Format)
		}
	},
}

// noteLostStart tells of a start address that went with the bytes cut off.
func (s *session) noteLostStart(before, after *memory.Image) {
	if before.Start.Kind != memory.NoStart && after.Start.Kind == memory.NoStart {
		s.note("note: the start address %s is dropped with the bytes there", memory.FormatAddress(before.Start.Address()))
	}
}

var patchCommand = &command{
	name: "patch", usage: "-at ADDRESS -bytes B | -text T | -number N [flags] FILE",
	short: "writes bytes, text or a number",
	long: `
Writes over the bytes at an address. A text takes its bytes in UTF-8, a number
-width bytes in -order; a text or bytes shorter than -width are filled up with
-pad, longer ones are an error, as is a number that does not fit. Negative
numbers are written as two's complement.

Nothing is written where the image holds no byte, unless -grow allows it. With
-expect, nothing is written unless the old bytes are those.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var p patching
		r.define(fs)
		w.defineBase(fs)
		w.defineHoles(fs)
		p.define(fs)
		return func(s *session, args []string) error {
			fs.Visit(func(f *flag.Flag) { p.textGiven = p.textGiven || f.Name == "text" })
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			patch, err := p.patch(withImage(names(dev), f.Image))
			if err != nil {
				return err
			}
			image, old, missing, err := patch.Apply(f.Image, &source.Input{Name: "patch", Counting: source.Operation})
			if err != nil {
				return inputf("%s: %w", f.Name, err)
			}
			was := "% X"
			if missing == uint64(len(old)) {
				was = "nothing"
			} else {
				was = fmt.Sprintf(was, shorten(old))
			}
			s.note("patched %s: was %s, is % X", memory.Span{First: patch.At, Last: patch.At + uint64(len(old)) - 1}, was, shorten(patch.Bytes))
			return s.write(&w, &r, image, f.Format)
		}
	},
}

// shorten returns the first bytes of a patch for showing.
func shorten(b []byte) []byte { return b[:min(len(b), 16)] }

// patching holds the flags of patch.
type patching struct {
	at, bytes, text, number, order, expect string
	textGiven, grow                        bool
	width                                  uint64
	pad                                    *byte
}

func (p *patching) define(fs *flag.FlagSet) {
	p.order = "little"
	fs.StringVar(&p.at, "at", "", "write at `ADDRESS`")
	fs.StringVar(&p.bytes, "bytes", "", "write `BYTES`")
	fs.StringVar(&p.text, "text", "", "write `TEXT`")
	fs.StringVar(&p.number, "number", "", "write the number `N`")
	fs.Func("width", "write `N` bytes in all; a number has 1 to 8", func(v string) error {
		n, err := span.Number(v)
		if err == nil && (n == 0 || n > memory.MostFilled) {
			err = fmt.Errorf("%q is no width; 1 to %d bytes", v, memory.MostFilled)
		}
		p.width = n
		return err
	})
	fs.Var(choice{&p.order, []string{"little", "big"}}, "order", "write a number's bytes in `ORDER` little or big (little)")
	fs.Func("pad", "fill up to -width with `BYTE` (00)", oneByte(&p.pad))
	fs.StringVar(&p.expect, "expect", "", "refuse unless the old bytes are `BYTES`")
	fs.BoolVar(&p.grow, "grow", false, "allow writing where the image holds nothing")
}

// patch makes the patch of the flags.
func (p *patching) patch(known span.Names) (memory.Patch, error) {
	out := memory.Patch{Grow: p.grow}
	var err error
	if p.at == "" {
		return out, usagef("where to? -at ADDRESS")
	}
	if out.At, err = span.Address(p.at, known); err != nil {
		return out, usagef("-at %w", err)
	}
	if p.expect != "" {
		if out.Expect, err = span.Bytes(p.expect); err != nil {
			return out, usagef("-expect %w", err)
		}
	}
	given := 0
	if p.bytes != "" {
		given++
		if out.Bytes, err = span.Bytes(p.bytes); err != nil {
			return out, usagef("-bytes %w", err)
		}
	}
	if p.textGiven {
		given++
		out.Bytes = []byte(p.text)
	}
	if p.number != "" {
		given++
		if out.Bytes, err = p.numberBytes(known); err != nil {
			return out, err
		}
	}
	if given != 1 {
		return out, usagef("what is written? One of -bytes, -text and -number")
	}
	if n := uint64(len(out.Bytes)); p.width > 0 && n > p.width {
		return out, usagef("%d bytes are longer than -width %d by %d", n, p.width, n-p.width)
	} else if p.width > n {
		pad := byte(0)
		if p.pad != nil {
			pad = *p.pad
		}
		filled := make([]byte, p.width)
		for i := copy(filled, out.Bytes); i < len(filled); i++ {
			filled[i] = pad
		}
		out.Bytes = filled
	}
	if len(out.Bytes) == 0 {
		return out, usagef("the text is empty; -width N writes N times -pad")
	}
	return out, nil
}

func (p *patching) numberBytes(known span.Names) ([]byte, error) {
	if p.width == 0 || p.width > 8 {
		return nil, usagef("-number needs -width, 1 to 8 bytes")
	}
	text, negative := strings.CutPrefix(p.number, "-")
	n, err := span.Address(text, known)
	if err != nil {
		return nil, usagef("-number %w", err)
	}
	width := int(p.width)
	if negative {
		if n > 1<<(8*width-1) {
			return nil, usagef("-number -%s does not fit into %d bytes as two's complement", text, width)
		}
		n = -n
	} else if width < 8 && n >= 1<<(8*width) {
		return nil, usagef("-number %s does not fit into %d bytes; the largest is 0x%X", p.number, width, uint64(1)<<(8*width)-1)
	}
	b := make([]byte, width)
	for i := range b {
		if p.order == "little" {
			b[i] = byte(n >> (8 * i))
		} else {
			b[width-1-i] = byte(n >> (8 * i))
		}
	}
	return b, nil
}

var splitCommand = &command{
	name: "split", usage: "-by WAY -o TEMPLATE [flags] FILE",
	short: "one image into several",
	long: `
Writes the parts of an image to files of their own, all or none. WAY is one of

  regions    by the regions of the device map
  memories   by the memories of the device map
  runs       by its runs
  size N     into blocks of N addresses, which begin at multiples of N
  lanes N    into N lanes, as parts beside each other on a wide bus hold them:
             of every N words of -lane-width bytes, each lane has one

Parts that hold nothing are left out. The files are named by the template given
with -o, in which {name} is the name of the region, memory or part, {n} its
number from 0, {first} and {last} its first and last address. What lies in no
region or memory is an error, unless -rest gives the part that holds it a name.

With -device, a table says how much of which region each part uses.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var by, rest string
		laneWidth := uint64(1)
		r.define(fs)
		w.define(fs)
		fs.StringVar(&by, "by", "", "split by `WAY` regions, memories, runs, size N or lanes N")
		fs.StringVar(&rest, "rest", "", "put what lies in no region into a part called `NAME`")
		fs.Func("lane-width", "lanes: words of `N` bytes, 1, 2 or 4 (1)", oneTwoFour(&laneWidth))
		return func(s *session, args []string) error {
			way, number, _ := strings.Cut(strings.Replace(by, "=", " ", 1), " ")
			if (way == "size" || way == "lanes") && number == "" {
				// -by size 16K, without quotes: the number came as an operand.
				number, args = takeNumber(args)
			}
			if (way == "regions" || way == "memories") && r.device == "" {
				return usagef("-by %s needs a device map; which? -device MAP", way)
			}
			var n uint64
			var err error
			if way == "size" || way == "lanes" {
				if n, err = span.Number(number); err != nil {
					return usagef("-by %s N: %w", way, err)
				}
				if n == 0 || way == "lanes" && n > 64 {
					return usagef("-by %s %d: 1 or more expected, and up to 64 lanes", way, n)
				}
			}
			if w.to == "" {
				return usagef("which files? -o TEMPLATE, such as -o part-{name}.hex")
			}
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			var spans []memory.NamedSpan
			var parts []memory.Part
			switch way {
			case "regions":
				for _, r := range dev.Regions {
					spans = append(spans, memory.NamedSpan{Span: r.Span, Name: r.Name})
				}
			case "memories":
				for _, m := range dev.Memories {
					spans = append(spans, memory.NamedSpan{Span: m.Span, Name: m.Name})
				}
			case "runs":
				parts = f.Image.SplitRuns()
			case "size":
				parts = f.Image.SplitSize(n)
			case "lanes":
				parts = f.Image.SplitLanes(n, laneWidth)
				if f.Image.Start.Kind != memory.NoStart {
					s.note("note: the start address %s is left out; no lane holds it alone", memory.FormatAddress(f.Image.Start.Address()))
				}
			default:
				return usagef("-by: %q is none of regions, memories, runs, size N, lanes N", by)
			}
			if spans != nil {
				var left *memory.Image
				parts, left = f.Image.Split(spans)
				if !left.Empty() && rest == "" {
					at := left.Runs()[0]
					from, _ := left.Origin(at.First)
					return inputf("%s: %s bytes lie in none of the %s, the first at %s; -rest NAME makes a part of them", from, memory.FormatCount(left.Bytes()), way, at.Span())
				} else if !left.Empty() {
					parts = append(parts, memory.Part{Name: rest, Image: left})
				}
			}
			if len(parts) == 0 {
				return inputf("%s: holds no bytes, so there is nothing to split", f.Name)
			}
			if parts, err = nameParts(parts, w.to); err != nil {
				return err
			}
			if err := s.writeAll(&w, &r, parts, f.Format); err != nil {
				return err
			}
			if dev != nil && way != "lanes" {
				s.printUses(dev, parts)
			}
			return nil
		}
	},
}

// takeNumber takes the first operand that is a number, and no file, out of the
// operands: the value of a flag that may stand without one.
func takeNumber(args []string) (number string, rest []string) {
	i := slices.IndexFunc(args, func(a string) bool {
		_, err := span.Number(a)
		return err == nil && !exists(a)
	})
	if i < 0 {
		return "", args
	}
	return args[i], slices.Delete(slices.Clone(args), i, i+1)
}

// nameParts names parts by a template.
func nameParts(parts []memory.Part, template string) ([]memory.Part, error) {
	var named []memory.Part
	owner := map[string]string{}
	for i, p := range parts {
		all, _ := p.Image.Span()
		name, err := expand(template, map[string]string{
			"name": p.Name, "n": fmt.Sprint(i), "first": fmt.Sprintf("0x%X", all.First), "last": fmt.Sprintf("0x%X", all.Last),
		})
		if err != nil {
			return nil, err
		}
		if other, taken := owner[name]; taken {
			return nil, usagef("-o %s names the parts %s and %s alike, %s; put {name} or {n} into it", template, other, p.Name, name)
		}
		owner[name] = p.Name
		named = append(named, memory.Part{Name: name, Image: p.Image})
	}
	return named, nil
}

// expand puts values for the words in braces.
func expand(template string, values map[string]string) (string, error) {
	var out strings.Builder
	for rest := template; ; {
		before, after, found := strings.Cut(rest, "{")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		word, behind, closed := strings.Cut(after, "}")
		value, known := values[word]
		if !closed || !known {
			return "", usagef("-o %s: {%s} is not known; {name}, {n}, {first} and {last} are", template, word)
		}
		out.WriteString(value)
		rest = behind
	}
}
