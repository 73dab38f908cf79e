package device

import (
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Given is a word's value as far as it is given.
type Given struct {
	Value uint64 // bits that are not given are as delivered
	Known uint64 // the bits that are given
}

// Whole returns a value of which all bits are given.
func (w *Word) Whole(v uint64) Given { return Given{v, w.mask()} }

func (w *Word) mask() uint64 { return 1<<(8*w.Width) - 1 } // of 8 bytes, 1<<64 is 0

// GivenIn returns what an image gives of the word.
func (w *Word) GivenIn(m *memory.Image) Given {
	g := Given{Value: w.Default}
	for i := range w.Width {
		var b [1]byte
		if !m.ReadAt(b[:], w.At+uint64(i)) {
			continue
		}
		shift := 8 * i
		if w.Big {
			shift = 8 * (w.Width - 1 - i)
		}
		g.Value = g.Value&^(0xFF<<shift) | uint64(b[0])<<shift
		g.Known |= 0xFF << shift
	}
	return g
}

// Verdict is what is wrong with a configuration word's value.
type Verdict struct {
	Kind     VerdictKind
	Word     *Word
	Field    *Field // nil where no field is concerned
	What     string
	Expected string
	Advice   source.Advice
}

// VerdictKind is a kind of [Verdict].
type VerdictKind uint8

const (
	// Undefined is bits or a value that no field defines.
	Undefined VerdictKind = iota
	// Conflict is a value that does not go with another field's.
	Conflict
	// Hazard is a value that cannot be undone, or shuts the part.
	Hazard
	// Partial is a word of which only a part is given.
	Partial
)

func (k VerdictKind) String() string {
	return [...]string{"undefined", "conflict", "hazard", "partial"}[k]
}

// Judge tells what is wrong with configuration values, as far as they are
// given. Words that are not given at all are as delivered.
func (m *Map) Judge(given map[string]Given) []Verdict {
	var list []Verdict
	for i := range m.Config {
		w := &m.Config[i]
		g := given[w.Name]
		if g.Known == 0 {
			continue
		}
		if g.Known != w.mask() {
			list = append(list, Verdict{Partial, w, nil, fmt.Sprintf("%s is given in part: bits %s of %d", w.Name, bitList(g.Known), 8*w.Width),
				fmt.Sprintf("all of it, %s", w.Span()), source.Advise("the rest was judged as delivered")})
		}
		if odd := (g.Value ^ w.Default) &^ w.Defined() & g.Known; odd != 0 {
			list = append(list, Verdict{Undefined, w, nil, fmt.Sprintf("%s is %s, with undefined bits %s changed", w.Name, w.Format(g.Value), bitList(odd)),
				fmt.Sprintf("these as delivered, in %s", w.Format(w.Default)), source.Advise("see what the fields mean, and compose a value from them")})
		}
		for j := range w.Fields {
			list = append(list, m.judgeField(w, &w.Fields[j], g, given)...)
		}
	}
	return list
}

// judgeField judges one field, which counts where any of its bits is given.
func (m *Map) judgeField(w *Word, f *Field, g Given, given map[string]Given) (list []Verdict) {
	if g.Known&f.Mask() == 0 {
		return nil
	}
	v := f.Value(f.Of(g.Value))
	if v == nil {
		if len(f.Values) > 0 {
			var known []string
			for _, k := range f.Values {
				known = append(known, fmt.Sprintf("%d (%s)", k.Value, k.Meaning))
			}
			list = append(list, Verdict{Undefined, w, f, fmt.Sprintf("%s is %d, which is not defined", f.Name, f.Of(g.Value)), strings.Join(known, ", "), source.Advise("compose a value from the meanings")})
		}
		return list
	}
	if v.Hazard != "" {
		list = append(list, Verdict{Hazard, w, f, fmt.Sprintf("%s: %s; %s", f.Name, v.Meaning, v.Hazard), "a value that can be undone", source.Advise("if it is meant, accept it by name")})
	}
	for _, name := range slices.Sorted(maps.Keys(v.Requires)) {
		otherWord, other := m.Field(name)
		if other == nil {
			continue
		}
		value := otherWord.Default
		if o := given[otherWord.Name]; o.Known != 0 {
			value = o.Value
		}
		meaning := fmt.Sprint(other.Of(value))
		if is := other.Value(other.Of(value)); is != nil {
			meaning = is.Meaning
		}
		if meaning != v.Requires[name] {
			list = append(list, Verdict{Conflict, w, f, fmt.Sprintf("%s (%s) does not go with %s (%s)", f.Name, v.Meaning, other.Name, meaning),
				fmt.Sprintf("%s: %s", other.Name, v.Requires[name]), source.Advise("change one of the two")})
		}
	}
	return list
}

// bitList names the bits that are set: 0..3, 7.
func bitList(v uint64) string {
	var names []string
	for v != 0 {
		low := bits.TrailingZeros64(v)
		run := bits.TrailingZeros64(^(v >> low))
		name := fmt.Sprint(low)
		if run > 1 {
			name = fmt.Sprintf("%d..%d", low, low+run-1)
		}
		names = append(names, name)
		v &^= (1<<run - 1) << low
	}
	return strings.Join(names, ", ")
}

// Compose returns the values of words with one field set to a meaning or a
// number, in place of those in values or, where these have none, as delivered.
func (m *Map) Compose(values map[string]uint64, field, meaning string) (*Word, error) {
	w, f := m.Field(field)
	if f == nil {
		return nil, fmt.Errorf("%s has no field %q; %s", m.Name, field, source.DidYouMean(field, m.FieldNames()))
	}
	v, err := f.Named(meaning)
	if err != nil {
		return nil, err
	}
	old, ok := values[w.Name]
	if !ok {
		old = w.Default
	}
	values[w.Name] = old&^f.Mask() | v<<f.Low
	return w, nil
}
