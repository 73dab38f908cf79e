package operation

import (
	"errors"
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var fillKind = &Kind{
	Name: "fill", Usage: "FILE",
	Short: "fill holes",
	Long: `
Writes a pattern into the holes of the spans, and nowhere else. The pattern is
aligned to addresses: the byte at an address is pattern[address mod length]. Two
adjacent fills therefore join without a break.

Without ` + "`in`" + `, the holes between the image's first and last byte are filled. With a
device map, the regions in which the image has bytes are filled, and nothing between
memories.

With ` + "`pages`" + `, only pages in which the image has a byte are completed: pages of the
device map's size, or of N bytes. With ` + "`erased`" + `, holes get the erased value of their
memory.`,
	New: func() Operation { return &Fill{With: "FF"} },
}

// Fill fills holes of an image.
type Fill struct {
	In       []string // spans; nil is the image, or the regions in use
	With     string   // the pattern, as hex digits
	Pages    bool     // only pages in use are filled
	PageSize uint64   // of the pages; 0 is the map's
	Erased   bool     // with what an erased byte reads as

	with *key.Key
}

// Keys returns the operation's keys.
func (op *Fill) Keys() []*key.Key {
	op.with = key.Text(&op.With, "with", "BYTES", "fill with BYTES (FF)").HexDigits()
	size := func(text string) error {
		n, err := span.Number(text)
		if err == nil && n == 0 {
			err = errors.New("a page has 1 byte or more")
		}
		op.PageSize = n
		return err
	}
	pages := key.New("pages", "N", "fill out pages that are partly used; N bytes a page (the map's)", func(text string) error {
		op.Pages = true
		if text == "" || text == "true" {
			return nil
		}
		return size(text)
	})
	pages.Optional = true
	pages.NeedsNumber = func() bool { return op.Pages && op.PageSize == 0 }
	pages.More = size
	return []*key.Key{
		key.List(&op.In, "in", "SPAN", "fill the holes in SPAN; repeatable"),
		op.with, pages,
		key.Switch(&op.Erased, "erased", "fill with the memory's erased value (from the device map)"),
	}
}

// Check tells of keys that do not go together.
func (op *Fill) Check(withMap bool) error {
	if op.Erased && op.with != nil && op.with.Given() {
		return source.Keyf("", "`with` and `erased` both say what to fill with; give one")
	}
	if op.Erased && !withMap {
		return source.Keyf("erased", "takes the erased value from a device map, and none is given")
	}
	if op.Pages && op.PageSize == 0 && !withMap {
		return source.Keyf("pages", "takes the page size from a device map, and none is given; a size works too, as in `pages` 256")
	}
	if _, err := span.Bytes(op.With); err != nil {
		return &source.KeyError{Key: "with", Err: err}
	}
	return nil
}

// Apply fills an image.
func (op *Fill) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	where, what, err := op.spans(o, in, names)
	if err != nil {
		return nil, err
	}
	holes := uint64(0)
	for _, s := range memory.Union(where) {
		holes += s.Size() - in.Image.Count(s)
	}
	if err := e.limit("filling "+what, in.Image.Bytes()+holes); err != nil {
		return nil, err
	}
	filled, list, with, err := op.fill(e, o.Map, in.Image, where)
	if err != nil {
		return nil, source.Keyf("", "%w", err)
	}
	if len(list) == 0 {
		o.changed("nothing to fill: no holes in %s", what)
	} else {
		o.changed("filled %s in %s (%s) with %s", memory.FormatSize(memory.SizeOf(list)), memory.FormatNumber(len(list), "hole"),
			few(list), with)
	}
	o.stale(in.Image, filled)
	o.Parts = []memory.Part{{Name: in.Name, Image: filled}}
	return o, nil
}

// spans returns the spans whose holes are filled, and what they are.
func (op *Fill) spans(o *Outcome, in memory.Part, names span.Names) (where []memory.Span, what string, err error) {
	m := o.Map
	where, err = o.spans("in", op.In, names)
	if err != nil {
		return nil, "", err
	}
	what = strings.Join(op.In, ", ")
	if op.Pages {
		pages, err := op.pages(m, in)
		if err == nil && len(op.In) > 0 {
			pages = memory.Intersect(pages, where)
		}
		return pages, "the pages in use", err
	}
	if len(op.In) > 0 {
		return where, what, nil
	}
	all, ok := in.Image.Span()
	if !ok {
		return nil, "the image, which is empty", nil
	}
	if m == nil {
		return []memory.Span{all}, "the image", nil
	}
	for _, r := range m.Regions {
		if in.Image.Count(r.Span) > 0 {
			where = append(where, r.Span)
		}
	}
	for _, mem := range m.Memories {
		if len(m.RegionsIn(mem.Span)) == 0 {
			if held, ok := in.Image.Extent(mem.Span); ok {
				where = append(where, held)
			}
		}
	}
	return where, "the regions in use", nil
}

// pages returns the pages that are in use.
func (op *Fill) pages(m *device.Map, in memory.Part) ([]memory.Span, error) {
	if op.PageSize > 0 {
		return in.Image.UsedPages(op.PageSize, 0), nil
	}
	var pages, all []memory.Span
	for _, mem := range m.Memories {
		all = append(all, mem.Span)
		if part := in.Image.Cut(mem.Span); !part.Empty() {
			size := mem.Page
			if size == 0 {
				size = max(mem.Granule, 1)
			}
			pages = append(pages, part.UsedPages(size, mem.Span.First)...) // pages count from the memory's first address
		}
	}
	if outside := in.Image.Drop(all...); !outside.Empty() {
		at := outside.Runs()[0]
		from, _ := outside.Origin(at.First)
		return nil, problem(from, "bytes at %s are in no memory of %s, so they have no pages", at.Span(), m.Name)
	}
	return pages, nil
}

// fill fills the holes of the spans, and says with what.
func (op *Fill) fill(
	e *Environment,
	dev *device.Map,
	m *memory.Image,
	where []memory.Span,
) (out *memory.Image, holes []memory.Span, with string, err error) {
	if !op.Erased {
		pattern, err := span.Bytes(op.With)
		if err != nil {
			return nil, nil, "", err
		}
		out, holes, err = m.Fill(e.input("fill"), pattern, where...)
		return out, holes, fmt.Sprintf("% X", pattern), err
	}
	byValue := map[byte][]memory.Span{}
	var values []byte
	for _, mem := range dev.Memories {
		if _, ok := byValue[mem.Erased]; !ok {
			values = append(values, mem.Erased)
		}
		byValue[mem.Erased] = append(byValue[mem.Erased], mem.Span)
	}
	for _, v := range values {
		var more []memory.Span
		if m, more, err = m.Fill(e.input("fill"), []byte{v}, memory.Intersect(where, byValue[v])...); err != nil {
			return nil, nil, "", err
		}
		holes = append(holes, more...)
	}
	return m, holes, "the erased value", nil
}
