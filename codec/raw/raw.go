// Package raw reads and writes raw binary: bytes without addresses.
package raw

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Most is the largest file that is read or written, 4 GiB.
const Most = 1 << 32

// ErrTooLarge says that a file is larger than [Most].
var ErrTooLarge = errors.New("larger than 4 GiB, the most that is read")

// Read reads all of r as an image that begins at address 0. size is how many
// bytes are expected, or below 0 where that is not known.
func Read(r io.Reader, in *source.Input, size int64) (*memory.Image, error) {
	if size > Most {
		return nil, ErrTooLarge
	}
	const least = 64 << 10
	data := make([]byte, 0, max(size, least)+1) // room to see the end without growing
	for {
		if len(data) == cap(data) {
			data = append(data, 0)[:len(data)]
		}
		n, err := r.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		if len(data) > Most {
			return nil, ErrTooLarge
		}
		if err == io.EOF {
			m, _ := memory.FromBytes(0, data, in)
			return m, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// WriteOptions set what is written. The zero value writes from the image's
// first byte to its last and takes no holes.
type WriteOptions struct {
	Span  *memory.Span // what to write; nil is the image's own span
	Holes *byte        // what holes are written as; nil makes them an error
}

// mostHoles is how many bytes of holes are written without asking, where they
// are more than the data: 16 MiB.
const mostHoles = 16 << 20

// span returns what is written; ok is false where that is nothing.
func (o WriteOptions) span(m *memory.Image) (memory.Span, bool) {
	if o.Span != nil {
		return *o.Span, true
	}
	return m.Span()
}

// Check tells what keeps an image from being written with these options.
func (o WriteOptions) Check(m *memory.Image) error {
	span, ok := o.span(m)
	if !ok {
		return nil
	}
	holes := m.Holes(span)
	data := m.Count(span)
	missing := span.Size() - data
	if o.Span == nil && missing > mostHoles && missing > data {
		return fmt.Errorf("raw bytes from %s would hold %s of data and %s of holes (%s); cut the image, name a span with -in, or write a record format",
			span.Range(), memory.FormatSize(data), memory.FormatSize(missing), list(holes))
	}
	if span.Size() > Most {
		return fmt.Errorf("%s are more raw bytes than one file may hold, %s", memory.FormatSize(span.Size()), memory.FormatSize(Most))
	}
	if len(holes) > 0 && o.Holes == nil {
		noun := "a hole"
		if len(holes) > 1 {
			noun = fmt.Sprintf("%d holes", len(holes))
		}
		return fmt.Errorf("raw bytes have no addresses and the image has %s: %s; say what holes are written as (-holes FF) or fill them first",
			noun, list(holes))
	}
	return nil
}

// list names the first few spans.
func list(spans []memory.Span) string {
	const most = 8
	var names []string
	for _, s := range spans[:min(len(spans), most)] {
		names = append(names, s.String())
	}
	if more := len(spans) - most; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

// Write writes the bytes of an image.
func Write(w io.Writer, m *memory.Image, o WriteOptions) error {
	if err := o.Check(m); err != nil {
		return err
	}
	span, ok := o.span(m)
	if !ok {
		return nil
	}
	next := span.First
	for r := range m.In(span) {
		if err := o.hole(w, r.First-next); err != nil {
			return err
		}
		if _, err := w.Write(r.Data); err != nil {
			return err
		}
		next = r.Last() + 1 // 0 behind the last address of all, where nothing follows
		if r.Last() == span.Last {
			return nil
		}
	}
	return o.hole(w, span.Last-next+1)
}

func (o WriteOptions) hole(w io.Writer, n uint64) error {
	if n == 0 {
		return nil
	}
	block := make([]byte, min(n, 64<<10))
	for i := range block {
		block[i] = *o.Holes
	}
	for n > 0 {
		part := block[:min(n, uint64(len(block)))]
		if _, err := w.Write(part); err != nil {
			return err
		}
		n -= uint64(len(part))
	}
	return nil
}
