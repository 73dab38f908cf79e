package chip

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Extension ends the name of every chip's file.
const Extension = ".chip"

// MostBytes is how large a chip's file may be, 256 MiB.
const MostBytes = 256 << 20

// chipSchema is the first thing that a chip's file says.
const chipSchema = "mexalt.chip/1"

// chipFile is a chip as its file has it: JSON. Of each memory it has the rows that
// hold anything but erased bytes, "ADDRESS BYTES" each.
type chipFile struct {
	Schema   string     `json:"schema"`
	Device   string     `json:"device"`
	Memories []bankFile `json:"memories"`
}

type bankFile struct {
	Name string   `json:"name"`
	Rows []string `json:"rows"`
	// Written are the spans whose granules were written since they were erased, where
	// that counts: FIRST..LAST.
	Written []string `json:"written,omitempty"`
	// Undefined are the bits that an interrupted erase left.
	Undefined []undefinedFile `json:"undefined,omitempty"`
}

type undefinedFile struct {
	Span string   `json:"span"`
	Mask []string `json:"mask"` // rows of the bits that are undefined
	Was  []string `json:"was"`  // rows of what stood there before
}

// rowBytes is how many bytes a row has at the most.
const rowBytes = 32

// Save writes the chip to a file. What it holds is there, its faults are not.
func (c *Chip) Save(to io.Writer) error {
	out := chipFile{Schema: chipSchema, Device: c.Map.Name, Memories: []bankFile{}}
	for _, b := range c.Banks {
		f := bankFile{Name: b.Name, Rows: []string{}}
		for _, t := range b.Stretches {
			f.Rows = append(f.Rows, rows(t.First, t.Data, b.Erased)...)
			f.Written = append(f.Written, writtenSpans(t)...)
		}
		for _, u := range b.undefined {
			f.Undefined = append(f.Undefined, undefinedFile{u.Range(), rows(u.First, u.mask, 0), rows(u.First, u.was, b.Erased)})
		}
		if len(f.Rows) > 0 || len(f.Written) > 0 || len(f.Undefined) > 0 {
			out.Memories = append(out.Memories, f)
		}
	}
	text, err := json.MarshalIndent(out, "", " ")
	if err != nil {
		return err
	}
	_, err = to.Write(append(text, '\n'))
	return err
}

// rows returns the rows that hold anything but a byte that is left out.
func rows(first uint64, data []byte, but byte) (list []string) {
	for at := 0; at < len(data); at += rowBytes {
		row := data[at:min(at+rowBytes, len(data))]
		if bytes.Count(row, []byte{but}) == len(row) {
			continue
		}
		list = append(list, fmt.Sprintf("0x%08X %X", first+uint64(at), row))
	}
	return list
}

func writtenSpans(t *Stretch) (list []string) {
	for i := 0; i < len(t.written); i++ {
		if t.written[i] == 0 {
			continue
		}
		n := bytes.IndexByte(t.written[i:], 0)
		if n < 0 {
			n = len(t.written) - i
		}
		s := memory.Span{First: t.First + uint64(i), Last: t.First + uint64(i+n) - 1}
		list = append(list, s.Range())
		i += n
	}
	return list
}

// Load reads a chip from its file, and powers it up. What it draws, it draws from
// the seed.
func Load(name string, text []byte, m *device.Map, seed uint64) (*Chip, error) {
	var f chipFile
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	wrong := func(what, expected string) error {
		return &source.Problem{File: name, What: what, Expected: expected}
	}
	if err := d.Decode(&f); err != nil {
		p := &source.Problem{
			File:     name,
			What:     "not a chip file: " + source.JSONProblem(err),
			Expected: "a file that rehearse wrote",
		}
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			p.Line = 1 + bytes.Count(text[:min(int(syntax.Offset), len(text))], []byte("\n"))
		}
		return nil, p
	}
	switch {
	case f.Schema != chipSchema:
		return nil, wrong(fmt.Sprintf("the file says that it is %q", f.Schema), chipSchema)
	case f.Device != m.Name:
		return nil, wrong("the chip is a "+f.Device, "a "+m.Name+", as the map says")
	}
	c := New(m, seed)
	for i := range f.Memories {
		b := c.bankOf(f.Memories[i].Name)
		if b == nil {
			return nil, wrong("the device has no memory "+f.Memories[i].Name+" that can be programmed",
				"the map that the chip was made with")
		}
		if err := c.load(b, &f.Memories[i]); err != nil {
			return nil, wrong(b.Name+": "+err.Error(), "a row as in 0x00000040 A5FF, inside the memory")
		}
	}
	c.latch()
	c.Reset()
	return c, nil
}

func (c *Chip) bankOf(name string) *Bank {
	for _, b := range c.Banks {
		if b.Name == name {
			return b
		}
	}
	return nil
}

// load fills a bank from the file.
func (c *Chip) load(b *Bank, f *bankFile) error {
	b.Stretches = nil // configuration words too are as the file says
	for _, row := range f.Rows {
		at, data, err := parseRow(row, b.Span)
		if err != nil {
			return err
		}
		t := b.Reserve(c, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
		copy(t.Data[at-t.First:], data)
	}
	for _, text := range f.Written {
		s, err := span.Span(text, span.Names{})
		if err != nil || !b.Span.Covers(s) || !b.Once || s.Size() > MostHeld {
			return fmt.Errorf("%q is not a span of it that is written once", text)
		}
		t := b.Reserve(c, s)
		for i := s.First - t.First; i <= s.Last-t.First; i++ {
			t.written[i] = 1
		}
	}
	for _, u := range f.Undefined {
		s, err := span.Span(u.Span, span.Names{})
		if err != nil || !b.Span.Covers(s) || s.Size() > MostHeld {
			return fmt.Errorf("%q is not a span of it", u.Span)
		}
		b.Reserve(c, s)
		out := undefined{s, make([]byte, s.Size()), bytes.Repeat([]byte{b.Erased}, int(s.Size()))}
		for _, part := range []struct {
			rows []string
			into []byte
		}{{u.Mask, out.mask}, {u.Was, out.was}} {
			for _, row := range part.rows {
				at, data, err := parseRow(row, s)
				if err != nil {
					return err
				}
				copy(part.into[at-s.First:], data)
			}
		}
		b.undefined = append(b.undefined, out)
	}
	return nil
}

func parseRow(row string, within memory.Span) (at uint64, data []byte, err error) {
	place, digits, _ := strings.Cut(row, " ")
	if at, err = span.Number(place); err == nil {
		data, err = hex.DecodeString(digits)
	}
	s, ok := memory.SpanOf(at, uint64(len(data)))
	if err != nil || len(data) == 0 || len(data) > rowBytes || !ok || !within.Covers(s) {
		return 0, nil, fmt.Errorf("%q is not a row of it", source.Visible(row[:min(len(row), 100)]))
	}
	return at, data, nil
}
