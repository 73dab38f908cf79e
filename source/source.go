// Package source is the ground that everything else stands on: the files that
// are read, positions in them, the problems found there, and what to do about
// these.
//
// Readers of images, device maps and the little language all collect what
// they find in a [Problems] list and go on, so that one run tells everything
// that is wrong, and one printer shows it all alike.
package source

import "fmt"

// Counting says how positions inside an [Input] are counted.
type Counting uint8

const (
	// Lines counts lines from 1: record files.
	Lines Counting = iota
	// Offsets counts bytes from 0: raw files.
	Offsets
	// Operation has no positions: the bytes were made, moved or changed by an
	// operation.
	Operation
)

// Input is whatever gives bytes to an image or changes them: a record file, a
// raw file, or an operation.
type Input struct {
	Name     string // as the user named it, or the operation's name
	Counting Counting
	Section  string // the part of the file in which positions are counted; "" is all of it
	// Detail says more of a position, such as the function and the source line;
	// nil is nothing. It may take long the first time.
	Detail func(position uint64) string `json:"-"`
	// Details returns all that Detail knows, for keeping; nil is nothing.
	Details func() []Detail `json:"-"`
}

// Detail says more of the positions from one on, up to the next that has one.
type Detail struct {
	Position uint64
	Symbol   string // "" is none
	Begins   uint64 // the position at which the symbol begins
	Size     uint64 // of the symbol; 0 of a label
	File     string // source file; "" where that is not known
	Line     int
}

// Text says it as places do: "tide_level+0x1C, gauge.c:112".
func (d *Detail) Text(position uint64) string {
	text := d.Symbol
	if more := position - d.Begins; d.Symbol != "" && more > 0 {
		text = fmt.Sprintf("%s+0x%X", text, more)
	}
	if d.File != "" {
		if text != "" {
			text += ", "
		}
		text = fmt.Sprintf("%s%s:%d", text, d.File, d.Line)
	}
	return text
}

// Place names a position in the input: "boot.hex:12", "table.bin+0x40",
// "app.elf .text+0x40 (tide_level+0x1C, gauge.c:112)", or the operation's name
// alone.
func (in *Input) Place(position uint64) string {
	name := in.Name
	switch in.Counting {
	case Lines:
		return fmt.Sprintf("%s:%d", name, position)
	case Offsets:
		if in.Section != "" {
			name += " " + Visible(in.Section)
		}
		name = fmt.Sprintf("%s+0x%X", name, position)
		if in.Detail != nil {
			if more := in.Detail(position); more != "" {
				name += " (" + more + ")"
			}
		}
	}
	return name
}
