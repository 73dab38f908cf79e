package device

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source/settings"
	"mexalt/span"
)

// config loads the configuration words, whose fields must not overlap, and the
// groups of them.
func (l *loader) config(m *Map, list []wordFile, groups []groupFile) {
	c := &configLoader{loader: l, m: m, taken: map[string]bool{}, wrong: map[string]bool{}}
	for i := range list {
		c.word(fmt.Sprintf("config[%d]", i), &list[i])
	}
	m.fields = map[string][2]int{}
	for i := range m.Config {
		for j := range m.Config[i].Fields {
			if name := strings.ToLower(m.Config[i].Fields[j].Name); !c.has(name) {
				m.fields[name] = [2]int{i, j}
			}
		}
	}
	for i := range groups {
		c.group(fmt.Sprintf("group[%d]", i), &groups[i])
	}
	c.wordOverlaps()
	for _, later := range c.later {
		later()
	}
	c.sizes()
	l.fields = c.taken
}

// undefined reports whether a word of a group may be delivered with a value that
// nothing defines.
func (c *configLoader) undefined(g *Group) bool {
	for _, name := range g.Fields {
		w, _ := c.m.Field(name)
		for i := range c.m.file.Config {
			if f := &c.m.file.Config[i]; w != nil && f.Name == w.Name && f.Undefined {
				return true
			}
		}
	}
	return false
}

func (c *configLoader) has(field string) bool {
	_, ok := c.m.fields[field]
	return ok
}

// configLoader loads configuration words.
type configLoader struct {
	*loader
	m     *Map
	taken map[string]bool // names of words, fields and groups
	wrong map[string]bool // fields whose values are not all known
	later []func()        // what waits until all fields are known
	set   []sizeSet
	words []placedWord
}

// sizeSet is a size that a value sets.
type sizeSet struct{ path, field, meaning, region, size string }

type placedWord struct {
	memory.Span
	name, path string
}

func (c *configLoader) named(path, name string) {
	switch {
	case name == "": // told by keys
		c.misnamed = true
	case !span.IsName(name):
		c.problem(path+".name", fmt.Sprintf("%q cannot be a name", name), "letters, digits and _, with no digit first", "")
		c.misnamed = true
	case c.taken[strings.ToLower(name)]:
		c.problem(path+".name", fmt.Sprintf("the name %s is given twice", name), "", "")
		c.misnamed = true
	}
	c.taken[strings.ToLower(name)] = true
}

func (c *configLoader) word(path string, f *wordFile) {
	c.named(path, f.Name)
	ok := c.keys(path, "configuration word "+f.Name, f)
	w := Word{Name: f.Name, Order: memory.Order(f.Order)}
	width, ok1 := c.within(path, "width", f.Width, 0, 1, 8)
	at, ok2 := c.number(path+".at", f.At, 0)
	if !ok || !ok1 || !ok2 {
		for i := range f.Fields {
			c.taken[strings.ToLower(f.Fields[i].Name)] = true // they are not missing
		}
		return
	}
	w.At, w.Width = at, int(width)
	c.placeWord(path+".at", "configuration word "+f.Name, w.Span(), w.At)
	if f.ComplementAt != "" {
		if at, ok := c.number(path+".complement-at", f.ComplementAt, 0); ok {
			w.ComplementAt = &at
			s, _ := w.Complement()
			c.placeWord(path+".complement-at", "the complement of "+f.Name, s, at)
		}
	}
	w.Default, ok = c.number(path+".default", f.Default, 0)
	if ok && w.Width < 8 && w.Default>>(8*w.Width) != 0 {
		c.problem(path+".default", fmt.Sprintf("the default 0x%X has more than %d bytes", w.Default, w.Width), "", "")
		ok = false
	}
	before := c.count
	for j := range f.Fields {
		at := fmt.Sprintf("%s.field[%d]", path, j)
		c.named(at, f.Fields[j].Name)
		if field, sound := c.field(at, &w, &f.Fields[j]); sound {
			w.Fields = append(w.Fields, field)
		}
	}
	ok = ok && c.count == before
	for i := range w.Fields {
		field := &w.Fields[i]
		if is := field.Of(w.Default); ok && !f.Undefined && len(field.Values) > 0 && field.Value(is) == nil {
			where := path
			if f.Default != "" {
				where += ".default"
			}
			c.problem(where, fmt.Sprintf("the default %s sets %s to %d, which it does not define", w.Format(w.Default), field.Name, is),
				"a value that is defined; or undefined = true, if the device is delivered so", "")
		}
	}
	c.m.Config = append(c.m.Config, w)
}

// placeWord proves where a word or its complement lies.
func (c *configLoader) placeWord(path, what string, s memory.Span, at uint64) {
	if s.Last < s.First {
		c.problem(path, what+" runs past the last 64-bit address", "", "")
		return
	}
	if !c.inMemory(c.m, path, what, s) {
		return
	}
	if mem := c.m.MemoryAt(at); !mem.Programmable() {
		c.problem(path, fmt.Sprintf("%s is in %s, which is %s", what, mem.Name, mem.Kind), "a memory that can be programmed", "")
	}
	if r := c.m.InnermostAt(at); r != nil && r.Role == Reserved {
		c.problem(path, fmt.Sprintf("%s is in region %s, which is reserved", what, r.Name), "", "")
	}
	c.words = append(c.words, placedWord{s, what, path})
}

// wordOverlaps finds words that lie over one another.
func (c *configLoader) wordOverlaps() {
	slices.SortStableFunc(c.words, func(a, b placedWord) int { return cmp.Compare(a.First, b.First) })
	for i := 1; i < len(c.words); i++ {
		a, b := &c.words[i-1], &c.words[i]
		if both, ok := a.Meet(b.Span); ok {
			c.problem(b.path, fmt.Sprintf("%s overlaps %s over %s", b.name, a.name, both), "", "")
		}
	}
}

func (c *configLoader) field(path string, w *Word, f *fieldFile) (Field, bool) {
	out := Field{Name: f.Name, wordName: w.Name}
	if !c.keys(path, "field "+f.Name, f) {
		return out, false
	}
	low, high, err := parseBits(string(f.Bits))
	switch {
	case err != "":
		c.problem(path+".bits", err, "bits = 3, or bits = \"4..7\"", "")
		return out, false
	case high >= uint64(8*w.Width):
		c.problem(path+".bits", fmt.Sprintf("bit %d is outside the word %s of %d bits", high, w.Name, 8*w.Width), "", "")
		return out, false
	}
	out.Low, out.Bits = int(low), int(high-low)+1
	for i := range w.Fields {
		if w.Fields[i].Mask()&out.Mask() != 0 {
			c.problem(path+".bits", fmt.Sprintf("field %s overlaps field %s", f.Name, w.Fields[i].Name), "", "")
		}
	}
	out.Values = c.values(path, f.Name, out.Bits, f.Values)
	return out, true
}

// parseBits reads one bit, or several as LOW..HIGH.
func parseBits(text string) (low, high uint64, wrong string) {
	first, last, several := strings.Cut(text, "..")
	if !several {
		last = first
	}
	low, err1 := span.Number(strings.TrimSpace(first))
	high, err2 := span.Number(strings.TrimSpace(last))
	switch {
	case err1 != nil || err2 != nil:
		return 0, 0, fmt.Sprintf("%q are not bits", text)
	case low > high:
		return 0, 0, fmt.Sprintf("bits %s: the lower one comes first, %d..%d", text, high, low)
	}
	return low, high, ""
}

// values loads what the values of a field or a group mean.
func (c *configLoader) values(path, name string, bits int, list []valueFile) (values []FieldValue) {
	const most = 4096
	if len(list) > most {
		c.problem(path+".values", fmt.Sprintf("%d values", len(list)),
			fmt.Sprintf("at most %d; leave all out if the field is a number", most), "")
		return nil
	}
	meanings, numbers := map[string]bool{}, map[uint64]bool{}
	before := c.count
	defer func() { c.wrong[strings.ToLower(name)] = c.count > before }()
	for k := range list {
		f := &list[k]
		at := fmt.Sprintf("%s.values[%d]", path, k)
		ok := c.keys(at, "the value", f)
		n, ok1 := c.number(at+".value", f.Value, 0)
		if !ok || !ok1 {
			continue
		}
		switch meaning := strings.ToLower(f.Meaning); {
		case bits < 64 && n>>bits != 0:
			c.problem(at+".value", fmt.Sprintf("the value %d has more than the field's %d bits", n, bits), "", "")
		case numbers[n]:
			c.problem(at+".value", fmt.Sprintf("the value %d is given twice", n), "", "")
		case meanings[meaning]:
			c.problem(at+".meaning", fmt.Sprintf("two values of %s mean %q", name, f.Meaning), "", "")
		default:
			meanings[meaning] = true
		}
		numbers[n] = true
		v := FieldValue{
			Value:    n,
			Meaning:  f.Meaning,
			Hazard:   f.Hazard,
			Unless:   f.HazardUnless,
			Requires: f.Requires,
			Sets:     map[string]string{},
			Effect:   Effect(f.Effect),
		}
		if f.Hazard == "" && c.file.Has(at+".hazard") {
			c.problem(at+".hazard", "hazard is empty", "hazard = \"WHY\", or no such key", "")
		} else if len(f.HazardUnless) > 0 && f.Hazard == "" {
			c.problem(at+".hazard-unless", "hazard-unless has no effect without a hazard", "hazard = \"WHY\"", "")
		}
		c.sets(at, name, f, &v)
		v.Needs, v.Gives = c.needs(at+".needs", f.Needs), c.gives(at+".gives", f.Gives)
		for i, text := range f.Protects {
			path := c.file.Item(at+".protects", i)
			if s, ok := c.span(c.m, path, text); ok && c.kept(c.m, path, "what is protected, "+s.Range()+",", s) {
				v.Protects = append(v.Protects, s)
			}
		}
		c.later = append(c.later, func() {
			c.others(at+".requires", name, f.Requires)
			c.others(at+".hazard-unless", name, f.HazardUnless)
		})
		values = append(values, v)
	}
	return values
}

// others proves what a value says of other fields.
func (c *configLoader) others(path, name string, others map[string]string) {
	for _, other := range slices.Sorted(maps.Keys(others)) {
		_, f := c.m.Field(other)
		switch at := path + "." + other; {
		case strings.EqualFold(other, name):
			c.problem(at, fmt.Sprintf("%s says something of itself", name), "another field", "")
		case c.wrong[strings.ToLower(other)]: // told already
		case f == nil && (c.misnamed || c.taken[strings.ToLower(other)] && c.m.Word(other) == nil): // as is a field that is wrong itself
		case f == nil:
			c.problem(at, fmt.Sprintf("unknown field %s", other), "", c.near(other, c.m.FieldNames))
		default:
			if _, err := f.Named(others[other]); err != nil {
				c.problem(at, fmt.Sprintf("%s never means %q", f.Name, others[other]), "", err.Error())
			}
		}
	}
}

// sets proves what a value sets: the sizes of regions, and where start-up goes.
func (c *configLoader) sets(path, field string, f *valueFile, v *FieldValue) {
	for _, key := range slices.Sorted(maps.Keys(f.Sets)) {
		text := string(f.Sets[key])
		at := path + ".sets." + key
		v.Sets[key] = text
		name := key
		if key == startKey {
			name = text
		}
		if c.lost(name) {
			continue
		}
		if c.m.Region(name) == nil {
			c.problem(at, fmt.Sprintf("unknown region %s", name), "", c.near(name, c.m.RegionNames))
			continue
		}
		if key == startKey {
			continue
		}
		i := slices.IndexFunc(c.m.file.Regions, func(r regionFile) bool { return r.Name == name })
		if i < 0 || c.m.file.Regions[i].Size == "" {
			c.problem(at, fmt.Sprintf("region %s is given by both its ends, so its size cannot be set", name),
				"first and size, or size and last, there", "")
			continue
		}
		size, ok := c.number(at, settings.Expression(text), 0)
		switch {
		case !ok:
		case size == 0:
			c.problem(at, "a size of 0 bytes", "1 or more", "")
		default:
			c.set = append(c.set, sizeSet{at, field, f.Meaning, name, text})
		}
	}
}

// sizes proves that the map works out with each size that is set.
func (c *configLoader) sizes() {
	// Each different one takes as long as loading the map.
	most := min(64, 4+64_000/(len(c.m.file.Regions)+1))
	tried := map[[2]string]error{}
	if c.again || c.count > 0 {
		return
	}
	for _, s := range c.set {
		key := [2]string{s.region, s.size}
		err, done := tried[key]
		if !done && len(tried) < most {
			_, err = c.m.withRegions(map[string]string{s.region: s.size})
			tried[key] = err
		}
		if err != nil {
			c.problem(s.path, fmt.Sprintf("region %s does not fit with a size of %s: %s", s.region, s.size, err), "", "")
		}
	}
}

// group loads a setting whose bits are in several fields.
func (c *configLoader) group(path string, f *groupFile) {
	c.named(path, f.Name)
	if !c.keys(path, "group "+f.Name, f) {
		return
	}
	g := Group{Name: f.Name, Fields: f.Fields}
	bits := 0
	seen := map[string]bool{}
	for i, name := range f.Fields {
		_, field := c.m.Field(name)
		at := c.file.Item(path+".fields", i)
		switch {
		case field == nil && (c.misnamed || c.taken[strings.ToLower(name)] && c.m.Word(name) == nil):
			return
		case field == nil:
			c.problem(at, fmt.Sprintf("unknown field %s", name), "", c.near(name, c.m.FieldNames))
			return
		case seen[field.Name]:
			c.problem(at, fmt.Sprintf("field %s is given twice", name), "", "")
			return
		}
		seen[field.Name] = true
		bits += field.Bits
	}
	if bits > 64 {
		c.problem(path+".fields", fmt.Sprintf("the fields have %d bits together", bits), "at most 64", "")
		return
	}
	before := c.count
	g.Values = c.values(path, f.Name, bits, f.Values)
	is := g.Of(c.m, func(w *Word) uint64 { return w.Default })
	if c.count == before && !slices.ContainsFunc(g.Values, func(v FieldValue) bool { return v.Value == is }) && !c.undefined(&g) {
		c.problem(path+".values", fmt.Sprintf("the device is delivered with %s at %d, which is not one of them", g.Name, is),
			"a value for it, or other defaults; or undefined = true of a word, if the device is delivered so", "")
	}
	c.m.Groups = append(c.m.Groups, g)
}
