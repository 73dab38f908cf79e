// Package raw reads and writes raw binary: bytes without addresses.
package raw

import (
	"fmt"
	"io"
	"strings"

	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// Format is raw binary in the table of formats.
var Format = &format.Format{
	Name:  "raw",
	Word:  "raw",
	Words: []format.Word{{Word: "bin"}, {Word: "raw"}},
	Extensions: []format.Extension{
		{Ending: ".bin", Word: "raw"},
		{Ending: ".raw", Word: "raw"},
		{Ending: ".img", Word: "raw"},
		{Ending: ".rom", Word: "raw"},
	},
	Binary:   true,
	Unplaced: true,
	Reader: format.ReadFunc(func(r io.Reader, in *source.Input, o format.ReadOptions, _ *source.Problems) (*format.Content, error) {
		in.Counting = source.Offsets
		m, err := Read(r, in, o.Size)
		return &format.Content{Image: m, Unproven: "no addresses or checksums of its own"}, err
	}).Reader,
	SharesInput: true,
	Writer:      func(o format.WriteOptions) format.Writer { return &Writer{Span: o.Span, Place: o.Place, Huge: o.Huge} },
}

// Read reads all of r as an image that begins at address 0. size is how many
// bytes are expected, or below 0 where that is not known.
func Read(r io.Reader, in *source.Input, size int64) (*memory.Image, error) {
	data, err := format.ReadAll(r, size)
	if err != nil {
		return nil, err
	}
	m, _ := memory.FromBytes(0, data, in)
	return m, nil
}

// Writer writes raw bytes. The zero value writes from the image's first byte to
// its last and takes no holes.
type Writer struct {
	Span  *memory.Span // what to write; nil is the image's own span
	Holes *byte        // what holes are written as; nil makes them an error
	Huge  bool         // holes may be more than a file should have
	// Place names spans in messages; nil prints them as they are.
	Place func(memory.Span) string
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	return []*key.Key{format.KeyOfHoles(&w.Holes)}
}

// mostHoles is how many bytes of holes are written without asking, where they
// are more than the data: 16 MiB.
const mostHoles = 16 << 20

// Extent returns what is written; ok is false where that is nothing.
func (w *Writer) Extent(m *memory.Image) (memory.Span, bool) {
	if w.Span != nil {
		return *w.Span, true
	}
	return m.Span()
}

// Check tells what keeps an image from being written, and that header and start
// address are left out.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	if m.Header() != nil {
		notes = append(notes, fmt.Sprintf("the header %q is left out: a raw file contains only data", m.Header()))
	}
	if m.Start().Kind != memory.NoStart {
		notes = append(notes,
			fmt.Sprintf("the start address %s is lost: a raw file contains only data", memory.FormatAddress(m.Start().Address())))
	}
	span, ok := w.Extent(m)
	if !ok {
		return notes, nil
	}
	holes := m.Holes(span)
	data := m.Count(span)
	missing := span.Size() - data
	if span.Size() > format.Most {
		return notes, fmt.Errorf("%s are more raw bytes than one file may have, %s", memory.FormatSize(span.Size()),
			memory.FormatSize(format.Most))
	}
	// A span that was asked for may have more holes, within what inputs can make
	// a result be.
	tooMany := w.Span == nil && missing > mostHoles && missing > data || missing > memory.Proportion(data)
	if !w.Huge && tooMany {
		p := &source.Problem{
			What: fmt.Sprintf("raw bytes from %s would have %s of data and %s of holes (%s)", span.Range(), memory.FormatSize(data),
				memory.FormatSize(missing), w.list(holes)),
			Advice: source.Advice{Text: "cut the image, write part of it, or write a record format",
				AnyOf: []source.Setting{{Key: "huge", Does: "writes them anyway"}}},
		}
		return notes, p
	}
	if len(holes) > 0 && w.Holes == nil {
		noun, whose := "a hole", "the image"
		if w.Place != nil {
			whose = "the part"
		}
		if len(holes) > 1 {
			noun = fmt.Sprintf("%d holes", len(holes))
		}
		return notes, &source.Problem{
			What: fmt.Sprintf("a raw file cannot have holes, and %s has %s: %s", whose, noun, w.list(holes)),
			Advice: source.Advice{Text: "fill them first",
				AnyOf: []source.Setting{{Key: format.HolesKey, Value: "FF", Does: "writes them as FF"}}},
		}
	}
	return notes, nil
}

// list names the first few spans.
func (w *Writer) list(spans []memory.Span) string {
	const few = 8
	place := w.Place
	if place == nil {
		place = memory.Span.String
	}
	var names []string
	for _, s := range spans[:min(len(spans), few)] {
		names = append(names, place(s))
	}
	if more := len(spans) - few; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

// Write writes the bytes of an image.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	span, ok := w.Extent(m)
	if !ok {
		return nil
	}
	next := span.First
	for r := range m.In(span) {
		if err := w.hole(to, r.First-next); err != nil {
			return err
		}
		if _, err := to.Write(r.Data); err != nil {
			return err
		}
		next = r.Last() + 1 // 0 behind the last address of all, where no hole follows
	}
	return w.hole(to, span.Last-next+1)
}

func (w *Writer) hole(to io.Writer, n uint64) error {
	block := make([]byte, min(n, 64<<10))
	for i := range block {
		block[i] = *w.Holes
	}
	for n > 0 {
		part := block[:min(n, uint64(len(block)))]
		if _, err := to.Write(part); err != nil {
			return err
		}
		n -= uint64(len(part))
	}
	return nil
}
