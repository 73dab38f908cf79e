package cli

import (
	"errors"
	"flag"
	"fmt"
	"strings"

	"mexalt/codec"
	"mexalt/device"
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
address, so that two fills meet without a seam.

With -pages, the pages in which the image holds a byte are filled out, and no
others: pages of the device map's size, or with -pages=N of N bytes. With
-erased, holes get what an erased byte of their memory reads as.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var in list
		f := filling{with: "FF"}
		r.define(fs)
		w.define(fs)
		fs.Var(&in, "in", "fill the holes in `SPAN`; may be given several times (image)")
		fs.StringVar(&f.with, "with", f.with, "fill with `BYTES` (FF)")
		fs.Var(&f.pages, "pages", "fill out pages that are partly used; -pages=`N` for pages of N bytes")
		fs.BoolVar(&f.erased, "erased", false, "fill with what an erased byte reads as, by the device map")
		return func(s *session, args []string) error {
			if f.pages.given && f.pages.size == 0 {
				// -pages N, without =: the number came as an operand.
				var number string
				if number, args = takeNumber(args); number != "" {
					if err := f.pages.Set(number); err != nil {
						return usagef("-pages: %w", err)
					}
				}
			}
			fs.Visit(func(g *flag.Flag) { f.withGiven = f.withGiven || g.Name == "with" })
			var err error
			if f.pattern, err = f.check(r.device != ""); err != nil {
				return err
			}
			dev, file, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			if len(in) == 0 && !f.pages.given {
				in = list{"image"}
			}
			where, err := spans("in", in, withImage(names(dev), file.Image))
			if err != nil {
				return err
			}
			what := strings.Join(in, ", ")
			if f.pages.given {
				if where, err = f.pageSpans(file, dev, where); err != nil {
					return err
				}
				what = "the pages in use"
			}
			filled, holes, text, err := f.fill(file.Image, dev, where)
			if err != nil {
				return usagef("%w", err)
			}
			size := uint64(0)
			for _, h := range holes {
				size += h.Size()
			}
			if len(holes) == 0 {
				s.note("nothing to fill: no holes in %s", what)
			} else {
				s.note("filled %s in %s with %s", memory.FormatSize(size), holeList(holes), text)
			}
			return s.write(&w, &r, filled, file.Format)
		}
	},
}

// filling holds the flags of fill.
type filling struct {
	with      string
	withGiven bool
	pages     pagesFlag
	erased    bool
	pattern   []byte
}

// pagesFlag is -pages, or -pages=N.
type pagesFlag struct {
	given bool
	size  uint64 // 0 is the device map's
}

func (p *pagesFlag) String() string   { return "" }
func (p *pagesFlag) IsBoolFlag() bool { return true }

func (p *pagesFlag) Set(v string) error {
	p.given = true
	if v == "true" {
		return nil
	}
	n, err := span.Number(v)
	if err == nil && n == 0 {
		err = errors.New("a page has 1 byte or more")
	}
	p.size = n
	return err
}

// check proves that the flags go together, and returns the pattern.
func (f *filling) check(haveDevice bool) ([]byte, error) {
	if f.erased && f.withGiven {
		return nil, usagef("-with and -erased both say what to fill with; give one")
	}
	if f.erased && !haveDevice {
		return nil, usagef("-erased takes the erased value from a device map; which? -device MAP")
	}
	if f.pages.given && f.pages.size == 0 && !haveDevice {
		return nil, usagef("-pages takes the page size from a device map; -device MAP, or -pages=N")
	}
	pattern, err := span.Bytes(f.with)
	if err != nil {
		return nil, usagef("-with %w", err)
	}
	return pattern, nil
}

// pageSpans returns the pages that are in use, inside the spans where any are
// given.
func (f *filling) pageSpans(file *codec.File, dev *device.Map, within []memory.Span) ([]memory.Span, error) {
	var pages []memory.Span
	if f.pages.size > 0 {
		pages = file.Image.UsedPages(f.pages.size)
	} else {
		var all []memory.Span
		for _, mem := range dev.Memories {
			all = append(all, mem.Span)
			part := file.Image.Cut(mem.Span)
			if part.Empty() {
				continue
			}
			size := mem.Page
			if size == 0 {
				size = max(mem.Granule, 1)
			}
			// Pages count from the memory's first address.
			moved, _ := part.Move(mem.Span.First, true)
			for _, p := range moved.UsedPages(size) {
				pages = append(pages, memory.Span{First: p.First + mem.Span.First, Last: p.Last + mem.Span.First})
			}
		}
		if outside := file.Image.Drop(all...); !outside.Empty() {
			at := outside.Runs()[0]
			from, _ := outside.Origin(at.First)
			return nil, inputf("%s: bytes at %s lie in no memory of %s, so they have no pages", from, at.Span(), dev.Name)
		}
	}
	if len(within) > 0 {
		pages = memory.Without(pages, memory.Complement(within))
	}
	return pages, nil
}

// fill fills the holes of the spans, and says with what.
func (f *filling) fill(m *memory.Image, dev *device.Map, where []memory.Span) (out *memory.Image, holes []memory.Span, with string, err error) {
	in := &source.Input{Name: "fill", Counting: source.Operation}
	if !f.erased {
		out, holes, err = m.Fill(in, f.pattern, where...)
		return out, holes, fmt.Sprintf("% X", f.pattern), err
	}
	for _, mem := range dev.Memories {
		here := memory.Without(where, memory.Complement([]memory.Span{mem.Span}))
		if len(here) == 0 {
			continue
		}
		var more []memory.Span
		if m, more, err = m.Fill(in, []byte{mem.Erased}, here...); err != nil {
			return nil, nil, "", err
		}
		holes = append(holes, more...)
	}
	return m, holes, "the erased value", nil
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
