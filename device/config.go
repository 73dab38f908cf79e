package device

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"math/bits"
	"slices"
	"strings"
	"sync"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// Word is a configuration word.
type Word struct {
	Name    string
	At      uint64 // its address in images
	Width   int    // in bytes, 1 to 8
	Order   memory.Order
	Default uint64 // as the device is delivered
	Fields  []Field
	// ComplementAt is where the device wants the complement of the word; nil is
	// nowhere.
	ComplementAt *uint64
}

// Complement returns where the complement of the word stands; ok is false where
// the device wants none.
func (w *Word) Complement() (s memory.Span, ok bool) {
	if w.ComplementAt == nil {
		return s, false
	}
	return memory.Span{First: *w.ComplementAt, Last: *w.ComplementAt + uint64(w.Width) - 1}, true
}

// Field is a named group of a word's bits.
type Field struct {
	Name     string
	Low      int // its lowest bit
	Bits     int // how many bits it has
	Values   []FieldValue
	wordName string
}

// FieldValue is one of the values that a field may have.
type FieldValue struct {
	Value    uint64
	Meaning  string
	Hazard   string            // why it cannot be undone, or may shut the device; "" is no hazard
	Unless   map[string]string // fields and meanings with which it is no hazard
	Sets     map[string]string // a region's size, or start: the region that start-up enters
	Requires map[string]string // fields and what they must mean along with it
	Protects []memory.Span     // neither erased nor programmed while it is set
	Effect   Effect
	Needs    *Needs // what it needs of the board; nil is nothing
	Gives    *Gives // the clock that follows; nil is not said
}

// Effect is what a device does from the next reset on, where a field has a value.
type Effect string

// The effects; "" is none that a programmer sees.
const (
	Locked  Effect = "locked"  // nothing is read or programmed until the whole part is erased
	Closed  Effect = "closed"  // the programming port answers nothing
	Stopped Effect = "stopped" // it does not run, unless its board has what the value asks for
)

// Group is a setting whose bits are in several fields.
type Group struct {
	Name   string
	Fields []string // the one with its lowest bits first
	Values []FieldValue
}

// Of returns the group's value, by what each field is.
func (g *Group) Of(m *Map, values func(*Word) uint64) (v uint64) {
	shift := 0
	for _, name := range g.Fields {
		if w, f := m.Field(name); f != nil {
			v |= f.Of(values(w)) << shift
			shift += f.Bits
		}
	}
	return v
}

// Group returns the group of a name, or nil.
func (m *Map) Group(name string) *Group {
	i := slices.IndexFunc(m.Groups, func(g Group) bool { return strings.EqualFold(g.Name, name) })
	if i < 0 {
		return nil
	}
	return &m.Groups[i]
}

// Span returns the addresses of the word.
func (w *Word) Span() memory.Span {
	return memory.Span{First: w.At, Last: w.At + uint64(w.Width) - 1}
}

// Of returns the field's value in a word.
func (f *Field) Of(word uint64) uint64 { return word >> f.Low & (1<<f.Bits - 1) }

// Mask returns the field's bits in a word.
func (f *Field) Mask() uint64 { return (1<<f.Bits - 1) << f.Low }

// Value returns what a value of the field is; nil is not defined.
func (f *Field) Value(v uint64) *FieldValue {
	i := slices.IndexFunc(f.Values, func(fv FieldValue) bool { return fv.Value == v })
	if i < 0 {
		return nil
	}
	return &f.Values[i]
}

// Named returns the value that a text names: a meaning, in any case, or a
// number that is defined.
func (f *Field) Named(text string) (uint64, error) {
	for i := range f.Values {
		if strings.EqualFold(f.Values[i].Meaning, text) {
			return f.Values[i].Value, nil
		}
	}
	n, err := span.Number(text)
	if err == nil && bits.Len64(n) <= f.Bits && (f.Value(n) != nil || len(f.Values) == 0) {
		return n, nil
	}
	var known []string
	for i := range f.Values {
		known = append(known, f.Values[i].Meaning)
	}
	if len(known) == 0 {
		return 0, fmt.Errorf("%s is a number of %d bits, %q is not", f.Name, f.Bits, text)
	}
	return 0, fmt.Errorf("%s means one of: %s", f.Name, strings.Join(known, "; "))
}

// Named returns the value that a text names, as [Field.Named] does.
func (g *Group) Named(m *Map, text string) (uint64, error) { return g.whole(m).Named(text) }

// whole returns the group as one field.
func (g *Group) whole(m *Map) *Field {
	bits := 0
	for _, name := range g.Fields {
		if _, f := m.Field(name); f != nil {
			bits += f.Bits
		}
	}
	return &Field{Name: g.Name, Bits: bits, Values: g.Values}
}

// BitsText names the field's bits as 3 or 4..7.
func (f *Field) BitsText() string {
	if f.Bits == 1 {
		return fmt.Sprint(f.Low)
	}
	return fmt.Sprintf("%d..%d", f.Low, f.Low+f.Bits-1)
}

// Defined returns the bits of the word that belong to fields.
func (w *Word) Defined() uint64 {
	mask := uint64(0)
	for i := range w.Fields {
		mask |= w.Fields[i].Mask()
	}
	return mask
}

// Format prints a value of the word with all its digits.
func (w *Word) Format(v uint64) string { return fmt.Sprintf("0x%0*X", 2*w.Width, v) }

// Bytes returns a value as it stands in an image.
func (w *Word) Bytes(v uint64) []byte {
	return w.Order.Bytes(v, w.Width)
}

// In returns the word's value in an image; ok is false where the image does
// not hold all of it, and the value is then the default.
func (w *Word) In(m *memory.Image) (v uint64, ok bool) {
	if m == nil {
		return w.Default, false
	}
	if g := w.GivenIn(m); g.Known == w.mask() {
		return g.Value, true
	}
	return w.Default, false
}

// Word returns the configuration word of a name, or nil.
func (m *Map) Word(name string) *Word {
	i := slices.IndexFunc(m.Config, func(w Word) bool { return strings.EqualFold(w.Name, name) })
	if i < 0 {
		return nil
	}
	return &m.Config[i]
}

// Field returns the field of a name and the word that it is in, or nil.
func (m *Map) Field(name string) (*Word, *Field) {
	if m.fields != nil {
		if at, ok := m.fields[strings.ToLower(name)]; ok {
			w := &m.Config[at[0]]
			return w, &w.Fields[at[1]]
		}
		return nil, nil
	}
	for i := range m.Config {
		for j := range m.Config[i].Fields {
			if strings.EqualFold(m.Config[i].Fields[j].Name, name) {
				return &m.Config[i], &m.Config[i].Fields[j]
			}
		}
	}
	return nil, nil
}

// FieldNames returns the names of all fields.
func (m *Map) FieldNames() []string {
	var names []string
	for _, w := range m.Config {
		for _, f := range w.Fields {
			names = append(names, f.Name)
		}
	}
	return names
}

// startKey is what a field's value sets to say where start-up goes.
const startKey = "start"

// For returns the map as it is for the configuration values in an image, and
// for the defaults of words that it does not hold: regions have the sizes that
// these set. fromImage reports whether any value came from the image. Sizes
// with which the map does not work out leave it as it is.
func (m *Map) For(image *memory.Image) (resolved *Map, fromImage bool) {
	values := map[string]uint64{}
	for _, w := range m.Config {
		v, ok := w.In(image)
		values[w.Name] = v
		fromImage = fromImage || ok
	}
	return m.Configured(values), fromImage
}

// With returns the map as it is with one field at another value.
func (m *Map) With(field *Field, value uint64, image *memory.Image) *Map {
	values := map[string]uint64{}
	for _, w := range m.Config {
		v, _ := w.In(image)
		if w.Name == field.wordName {
			v = v&^field.Mask() | value<<field.Low
		}
		values[w.Name] = v
	}
	return m.Configured(values)
}

// Meant goes through the fields and groups, by name, that have a value with a
// meaning, where the words have the values.
func (m *Map) Meant(values map[string]uint64) iter.Seq2[string, *FieldValue] {
	return func(yield func(string, *FieldValue) bool) {
		for i := range m.Config {
			w := &m.Config[i]
			for j := range w.Fields {
				f := &w.Fields[j]
				if v := f.Value(f.Of(values[w.Name])); v != nil && !yield(f.Name, v) {
					return
				}
			}
		}
		for i := range m.Groups {
			g := &m.Groups[i]
			is := g.Of(m, func(w *Word) uint64 { return values[w.Name] })
			for j := range g.Values {
				if g.Values[j].Value == is && !yield(g.Name, &g.Values[j]) {
					return
				}
			}
		}
	}
}

// Configured returns the map as it is where the configuration words have the
// values: regions have the sizes that these set.
func (m *Map) Configured(values map[string]uint64) *Map {
	sets := map[string]string{}
	for _, v := range m.Meant(values) {
		maps.Copy(sets, v.Sets)
	}
	return m.sizes.get(fmt.Sprint(sets), func() *Map { // which are sorted
		resolved, err := m.sized(sets)
		if err != nil {
			return m
		}
		resolved.Enters = sets[startKey]
		return resolved
	})
}

// sizes are the maps that configuration makes of one: units and moments of rehearsals
// ask for the same again and again.
type sizes struct {
	mu    sync.Mutex
	known map[string]*Map
}

// get returns the map for what configuration sets, and makes it where it is not known.
func (s *sizes) get(sets string, make func() *Map) *Map {
	if s == nil { // of a map that did not load
		return make()
	}
	const most = 64 // so that hostile maps keep no more
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.known[sets]
	if m == nil {
		m = make()
		if len(s.known) < most {
			s.known[sets] = m
		}
	}
	return m
}

// sized returns the map with regions of other sizes. Where it does not work out
// with them, the error is the first problem.
func (m *Map) sized(sets map[string]string) (*Map, error) {
	f := m.file
	f.Regions = slices.Clone(f.Regions)
	for i := range f.Regions {
		if size, ok := sets[f.Regions[i].Name]; ok {
			f.Regions[i].Size = settings.Expression(size)
		}
	}
	var problems source.Problems
	resolved := build(m.File, f, settings.Silent(&problems), true)
	resolved.setBoard(m.Board)
	if problems.Errors() > 0 {
		for _, p := range problems.Sorted() {
			if p.Severity == source.Error {
				return nil, errors.New(p.What)
			}
		}
	}
	return resolved, nil
}

// withRegions lays the memories and regions alone out with other sizes.
func (m *Map) withRegions(sets map[string]string) (*Map, error) {
	bare := &Map{File: m.File, file: mapFile{Name: m.Name, Memories: m.file.Memories, Regions: m.file.Regions}}
	return bare.sized(sets)
}

// RegionsSet returns the regions whose sizes the field's values set.
func (f *Field) RegionsSet() []string {
	names := map[string]bool{}
	for _, v := range f.Values {
		for name := range v.Sets {
			if name != startKey {
				names[name] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// Acting is a field, or a group, whose value does something to the device.
type Acting struct {
	Field string
	*FieldValue
	Effect Effect // on its board
}

// Decided returns the word whose value sets the size of a region, and whether an image
// has all of it; nil is that none does.
func (m *Map) Decided(image *memory.Image, region string) (w *Word, given bool) {
	for i := range m.Config {
		w := &m.Config[i]
		for j := range w.Fields {
			if slices.Contains(w.Fields[j].RegionsSet(), region) {
				_, given := w.In(image)
				return w, given
			}
		}
	}
	return nil, false
}

// Assumed returns the regions whose place hangs on a configuration word that an image does
// not have, with that word: they are taken as in a delivered device.
func (m *Map) Assumed(image *memory.Image) map[string]*Word {
	now, _ := m.For(image)
	list := map[string]*Word{}
	for i := range m.Config {
		w := &m.Config[i]
		if _, given := w.In(image); given {
			continue
		}
		for j := range w.Fields {
			f := &w.Fields[j]
			if len(f.RegionsSet()) == 0 {
				continue
			}
			for _, v := range f.Values {
				for r := range m.With(f, v.Value, image).All() {
					if is := now.Region(r.Name); is != nil && is.Span != r.Span {
						list[r.Name] = w
					}
				}
			}
		}
	}
	return list
}

// Acting returns what the values of the configuration words do to the device on its
// board, as far as that is known: their effects, and what they protect. A hazard that
// another field takes away has none. What the board supports does not stop the device,
// and what it does not support does.
func (m *Map) Acting(values map[string]uint64) (list []Acting) {
	given := map[string]Given{}
	for i := range m.Config {
		w := &m.Config[i]
		given[w.Name] = w.Whole(values[w.Name])
	}
	for field, v := range m.Meant(values) {
		if m.harmless(v, given) {
			continue
		}
		effect := v.Effect
		if runs := v.Needs.running(); runs != nil {
			lacks, unsaid := m.Board.lacks(runs)
			switch {
			case len(lacks) > 0 || len(unsaid) > 0 && v.Needs.external():
				effect = Stopped
			case len(unsaid) == 0 && effect == Stopped:
				effect = ""
			}
		}
		if effect != "" || len(v.Protects) > 0 {
			list = append(list, Acting{field, v, effect})
		}
	}
	return list
}
