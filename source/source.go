// Package source is the ground that everything else stands on: the inputs
// that give bytes to an image, positions in them, and the problems found
// there.
//
// Readers of images, device maps and the little language all collect what
// they find in a [Problems] list and go on, so that one run tells everything
// that is wrong, and one printer shows it all alike.
package source

import (
	"fmt"
	"slices"
	"strings"
)

// Counting says how positions inside an [Input] are counted.
type Counting uint8

const (
	// Lines counts lines from 1: record files.
	Lines Counting = iota
	// Offsets counts bytes from 0: raw files.
	Offsets
	// Operation has no positions: the bytes were made by a command.
	Operation
)

// Input is whatever gives bytes to an image: a record file, a raw file, or
// the operation of a command.
type Input struct {
	Name     string // as the user named it, or the operation's name
	Counting Counting
}

// Place names a position in the input: "boot.hex:12", "table.bin+0x40", or
// the operation's name alone.
func (in *Input) Place(position uint64) string {
	switch in.Counting {
	case Lines:
		return fmt.Sprintf("%s:%d", in.Name, position)
	case Offsets:
		return fmt.Sprintf("%s+0x%X", in.Name, position)
	}
	return in.Name
}

// Severity tells whether a problem spoils its input.
type Severity uint8

const (
	// Error spoils the input: it yields nothing.
	Error Severity = iota
	// Warning lets the input be used.
	Warning
)

func (s Severity) String() string {
	if s == Warning {
		return "warning"
	}
	return "error"
}

// Problem is one thing wrong at one place.
type Problem struct {
	File     string
	Line     int // from 1; 0 where the problem concerns the whole file
	Column   int // from 1, in characters; 0 where it concerns the whole line
	Severity Severity
	What     string // what is wrong
	Expected string // what was expected instead; may be empty
	Advice   string // what to do about it; may be empty
	Text     string // the line concerned, for showing; may be empty
}

// Position returns file:line:column as far as they are known.
func (p *Problem) Position() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line > 0 {
		fmt.Fprintf(&b, ":%d", p.Line)
		if p.Column > 0 {
			fmt.Fprintf(&b, ":%d", p.Column)
		}
	}
	return b.String()
}

// Message returns the problem without its position.
func (p *Problem) Message() string {
	var b strings.Builder
	if p.Severity == Warning {
		b.WriteString("warning: ")
	}
	b.WriteString(p.What)
	if p.Expected != "" {
		b.WriteString("; ")
		b.WriteString(p.Expected)
	}
	if p.Advice != "" {
		b.WriteString(" (")
		b.WriteString(p.Advice)
		b.WriteString(")")
	}
	return b.String()
}

// Error returns the problem on one line: where, what, expected, what to do.
func (p *Problem) Error() string {
	if at := p.Position(); at != "" {
		return at + ": " + p.Message()
	}
	return p.Message()
}

// MostKept is how many problems a list keeps; those beyond are only counted,
// so that a hostile file cannot make its list of problems larger than memory.
const MostKept = 100_000

// Problems is a list of problems. The zero value is an empty list.
type Problems struct {
	list   []*Problem
	errors int
	more   int
}

// Add appends a problem.
func (ps *Problems) Add(p *Problem) {
	if p.Severity == Error {
		ps.errors++
	}
	if len(ps.list) >= MostKept {
		ps.more++
		return
	}
	ps.list = append(ps.list, p)
}

// List returns the problems kept, sorted by file, line and column.
func (ps *Problems) List() []*Problem {
	slices.SortStableFunc(ps.list, func(a, b *Problem) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return ps.list
}

// Count returns how many problems were added, kept or not.
func (ps *Problems) Count() int { return len(ps.list) + ps.more }

// Errors returns how many of them are errors.
func (ps *Problems) Errors() int { return ps.errors }

// Err returns the list as an error, or nil where it holds no error.
func (ps *Problems) Err() error {
	if ps.errors == 0 {
		return nil
	}
	return ps
}

// Error returns the first error and how many more there are.
func (ps *Problems) Error() string {
	for _, p := range ps.List() {
		if p.Severity == Error {
			if ps.errors > 1 {
				return fmt.Sprintf("%s (and %d more errors)", p.Error(), ps.errors-1)
			}
			return p.Error()
		}
	}
	return fmt.Sprintf("%d errors", ps.errors)
}
