package operation

import (
	"fmt"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
	"strings"
)

// Placing says how an input's addresses are changed.
type Placing struct {
	Kind  PlacingKind
	Value uint64 // the address, or the distance
}

// PlacingKind is a kind of [Placing].
type PlacingKind uint8

const (
	// AsIs leaves the addresses.
	AsIs PlacingKind = iota
	// FirstAt puts the first byte at an address.
	FirstAt
	// Up shifts all up by a distance.
	Up
	// Down shifts all down by a distance.
	Down
)

// ParseInput reads an input: FILE, FILE@ADDRESS, FILE@+N or FILE@-N. A file whose
// whole name exists is that file.
func ParseInput(text string, names span.Names, exists func(name string) bool) (file string, placing Placing, err error) {
	i := strings.LastIndexByte(text, '@')
	if i <= 0 || exists(text) {
		return text, Placing{}, nil
	}
	file, at := text[:i], text[i+1:]
	placing.Kind = FirstAt
	shift := 0
	switch {
	case strings.HasPrefix(at, "+"):
		placing.Kind, shift = Up, 1
	case strings.HasPrefix(at, "-"):
		placing.Kind, shift = Down, 1
	}
	placing.Value, err = span.AddressAt(text, i+1+shift, names)
	return file, placing, err
}

// Apply places an image. step is the operation that its bytes' origins then
// name.
func (p Placing) Apply(m *memory.Image, step *source.Input) (*memory.Image, error) {
	all, ok := m.Span()
	if p.Kind == AsIs || !ok {
		return m, nil
	}
	delta, down := p.Value, p.Kind == Down
	if p.Kind == FirstAt {
		if down = p.Value < all.First; down {
			delta = all.First - p.Value
		} else {
			delta = p.Value - all.First
		}
	}
	moved, ok := m.Move(delta, down, step)
	if !ok && down {
		return nil, fmt.Errorf("the image begins at %s and cannot be moved down by %s", memory.FormatAddress(all.First),
			memory.FormatAddress(delta))
	} else if !ok {
		return nil, fmt.Errorf("the image ends at %s and cannot be moved up by %s: it would run past the last 64-bit address",
			memory.FormatAddress(all.Last), memory.FormatAddress(delta))
	}
	return moved, nil
}
