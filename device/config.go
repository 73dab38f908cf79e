package device

import (
	"cmp"
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

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
	Big     bool   // most significant byte first
	Default uint64 // as the part is delivered
	Fields  []Field
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
	Hazard   string            // why it cannot be undone, or may shut the part; "" is no hazard
	Sets     map[string]string // a region's size, or start: the region that start-up enters
	Requires map[string]string // fields and what they must mean along with it
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
	var known []string
	for i := range f.Values {
		if strings.EqualFold(f.Values[i].Meaning, text) {
			return f.Values[i].Value, nil
		}
		known = append(known, f.Values[i].Meaning)
	}
	n, err := span.Number(text)
	if err == nil && bits.Len64(n) <= f.Bits && (f.Value(n) != nil || len(f.Values) == 0) {
		return n, nil
	}
	if len(known) == 0 {
		return 0, fmt.Errorf("%s is a number of %d bits, %q is not", f.Name, f.Bits, text)
	}
	return 0, fmt.Errorf("%s means one of: %s", f.Name, strings.Join(known, "; "))
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
	b := make([]byte, w.Width)
	for i := range b {
		at := i
		if w.Big {
			at = w.Width - 1 - i
		}
		b[at] = byte(v >> (8 * i))
	}
	return b
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
	return m.with(values), fromImage
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
	return m.with(values)
}

func (m *Map) with(values map[string]uint64) *Map {
	sets := map[string]string{}
	for _, w := range m.Config {
		for _, f := range w.Fields {
			if v := f.Value(f.Of(values[w.Name])); v != nil {
				maps.Copy(sets, v.Sets)
			}
		}
	}
	f := m.file
	f.Regions = slices.Clone(f.Regions)
	for i := range f.Regions {
		if size, ok := sets[f.Regions[i].Name]; ok {
			f.Regions[i].Size = settings.Expression(size)
		}
	}
	var problems source.Problems
	resolved := build(m.File, f, settings.Silent(&problems))
	if problems.Errors() > 0 {
		return m
	}
	resolved.Enters = sets[startKey]
	return resolved
}

// The file as it is written.
type (
	wordFile struct {
		Name    string              `toml:"name"`
		At      settings.Expression `toml:"at"`
		Width   uint64              `toml:"width"`
		Order   string              `toml:"order"`
		Default uint64              `toml:"default"`
		Fields  []fieldFile         `toml:"field"`
	}
	fieldFile struct {
		Name   string              `toml:"name"`
		Bits   settings.Expression `toml:"bits"`
		Values []valueFile         `toml:"values"`
	}
	valueFile struct {
		Value    uint64                         `toml:"value"`
		Meaning  string                         `toml:"meaning"`
		Hazard   string                         `toml:"hazard"`
		Sets     map[string]settings.Expression `toml:"sets"`
		Requires map[string]string              `toml:"requires"`
	}
)

func (l *loader) start(m *Map, f *startFile) {
	if f == nil {
		return
	}
	l.word("start", "kind", f.Kind, startKinds)
	m.Start = Start{Kind: StartKind(f.Kind), Stack: f.Stack, StackAlign: f.StackAlign, Target: f.Target, OddTarget: f.OddTarget}
	if f.At == "" {
		l.file.Problem("start", "start has no place", "at = ADDRESS expected", "")
	}
	m.Start.At, _ = l.number("start.at", f.At, 0)
	for key, name := range map[string]string{"stack": f.Stack, "target": f.Target} {
		if _, ok := l.names.Span(name); name != "" && !ok {
			l.file.Problem("start."+key, fmt.Sprintf("there is no memory or region %s", name), "", source.DidYouMean(name, l.names.Known()))
		}
	}
}

func (l *loader) checksums(m *Map, list []checksumFile) {
	for i, f := range list {
		path := fmt.Sprintf("checksum[%d]", i)
		if f.Kind == "" || f.In == "" || f.At == "" {
			l.file.Problem(path, "a checksum needs kind, in and at", "", "")
			continue
		}
		in, err := span.Span(f.In, l.names)
		if err != nil {
			l.file.Problem(path+".in", err.Error(), "", "")
			continue
		}
		at, ok := l.number(path+".at", f.At, 0)
		if f.Order == "" {
			f.Order = "little"
		}
		l.word(path, "order", f.Order, []string{"little", "big"})
		if f.Slot != "" {
			l.word(path, "slot", f.Slot, []string{"skip", "zero", "erased"})
		}
		if !ok {
			continue
		}
		if m.MemoryAt(at) == nil {
			l.file.Problem(path+".at", fmt.Sprintf("the checksum is stored at %s, which lies in no memory", memory.FormatAddress(at)), "", "")
			continue
		}
		c := Checksum{Name: f.Name, Kind: f.Kind, In: in, At: at, Order: f.Order, Slot: f.Slot}
		if r := m.RegionAt(at); r != nil {
			c.Region = r.Name
		}
		if c.Name == "" {
			c.Name = cmp.Or(c.Region, f.Kind)
		}
		m.Checksums = append(m.Checksums, c)
	}
}

// config reads the configuration words, whose fields must not overlap.
func (l *loader) config(m *Map, list []wordFile) {
	taken := map[string]bool{}
	name := func(path, what, name string) {
		switch {
		case name == "":
			l.file.Problem(path, "the "+what+" has no name", "name = \"NAME\" expected", "")
		case !span.IsName(name):
			l.file.Problem(path+".name", fmt.Sprintf("%q cannot be a name", name), "letters, digits and _ expected, not a digit first", "")
		case taken[name]:
			l.file.Problem(path+".name", fmt.Sprintf("the name %s is given twice", name), "", "")
		}
		taken[name] = true
	}
	for i, f := range list {
		path := fmt.Sprintf("config[%d]", i)
		name(path, "configuration word", f.Name)
		w := Word{Name: f.Name, Width: int(f.Width), Big: f.Order == "big", Default: f.Default}
		if f.Order != "" {
			l.word(path, "order", f.Order, []string{"little", "big"})
		}
		if f.Width < 1 || f.Width > 8 {
			l.file.Problem(path+".width", fmt.Sprintf("a width of %d bytes", f.Width), "1 to 8 expected", "")
			continue
		}
		if f.At == "" {
			l.file.Problem(path, fmt.Sprintf("configuration word %s has no place", f.Name), "at = ADDRESS expected", "")
			continue
		}
		var ok bool
		if w.At, ok = l.number(path+".at", f.At, 0); !ok {
			continue
		}
		if mem := m.MemoryAt(w.At); mem == nil || !mem.Span.Covers(w.Span()) {
			l.file.Problem(path+".at", fmt.Sprintf("configuration word %s lies in no memory", f.Name), "", "")
		}
		if f.Width < 8 && f.Default>>(8*f.Width) != 0 {
			l.file.Problem(path+".default", fmt.Sprintf("the default 0x%X has more than %d bytes", f.Default, f.Width), "", "")
		}
		for j, ff := range f.Fields {
			at := fmt.Sprintf("%s.field[%d]", path, j)
			name(at, "field", ff.Name)
			if field, ok := l.field(at, m, &w, ff); ok {
				w.Fields = append(w.Fields, field)
			}
		}
		m.Config = append(m.Config, w)
	}
	for i, f := range list {
		for j, ff := range f.Fields {
			for k, v := range ff.Values {
				for needed := range v.Requires {
					if _, other := m.Field(needed); other == nil {
						l.file.Problem(fmt.Sprintf("config[%d].field[%d].values[%d].requires.%s", i, j, k, needed), fmt.Sprintf("there is no field %s", needed), "", source.DidYouMean(needed, m.FieldNames()))
					}
				}
			}
		}
	}
}

func (l *loader) field(path string, m *Map, w *Word, f fieldFile) (Field, bool) {
	out := Field{Name: f.Name, wordName: w.Name}
	first, last := uint64(0), uint64(0)
	if n, err := span.Number(string(f.Bits)); err == nil {
		first, last = n, n
	} else if s, err := span.Span(string(f.Bits), span.Names{}); err == nil {
		first, last = s.First, s.Last
	} else {
		l.file.Problem(path, fmt.Sprintf("field %s has no bits", f.Name), "bits = 3, or bits = \"4..7\" expected", "")
		return out, false
	}
	if last >= uint64(8*w.Width) {
		l.file.Problem(path+".bits", fmt.Sprintf("bit %d lies outside the word %s of %d bits", last, w.Name, 8*w.Width), "", "")
		return out, false
	}
	out.Low, out.Bits = int(first), int(last-first)+1
	for i := range w.Fields {
		if w.Fields[i].Mask()&out.Mask() != 0 {
			l.file.Problem(path+".bits", fmt.Sprintf("field %s overlaps field %s", f.Name, w.Fields[i].Name), "", "")
		}
	}
	for k, v := range f.Values {
		at := fmt.Sprintf("%s.values[%d]", path, k)
		if out.Bits < 64 && v.Value>>out.Bits != 0 {
			l.file.Problem(at+".value", fmt.Sprintf("the value %d has more than the field's %d bits", v.Value, out.Bits), "", "")
		}
		if out.Value(v.Value) != nil {
			l.file.Problem(at+".value", fmt.Sprintf("the value %d is given twice", v.Value), "", "")
		}
		fv := FieldValue{Value: v.Value, Meaning: v.Meaning, Hazard: v.Hazard, Requires: v.Requires, Sets: map[string]string{}}
		for key, e := range v.Sets {
			fv.Sets[key] = string(e)
			name := key
			if key == startKey {
				name = string(e)
			}
			if m.Region(name) == nil {
				l.file.Problem(at+".sets."+key, fmt.Sprintf("there is no region %s", name), "", source.DidYouMean(name, m.RegionNames()))
			}
		}
		out.Values = append(out.Values, fv)
	}
	return out, true
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
