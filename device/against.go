package device

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mexalt/memory"
)

// Difference is something in which two maps are not the same.
type Difference struct {
	What  string // memory, region, word, field, value, checksum, start, identity
	Name  string
	Here  string // what the one says; "" where it has nothing of it
	There string // what the other says
}

// Against returns in what two maps differ: what is there in one alone, and what
// means something else. Configuration words are compared by their addresses and
// bits, as it is these that are programmed.
func (m *Map) Against(other *Map) []Difference {
	d := &differences{}
	here, there := identityFacts(m, other)
	d.add("identity", "", here, there)
	d.named("memory", memoryFacts(m), memoryFacts(other))
	d.named("region", regionFacts(m), regionFacts(other))
	d.named("start", startFacts(m), startFacts(other))
	d.named("checksum", checksumFacts(m), checksumFacts(other))
	d.words(m, other)
	d.named("port", portFacts(m), portFacts(other))
	d.named("speed", speedFacts(m), speedFacts(other))
	return d.list
}

// ByIdentityOnly reports whether two maps differ in nothing but how their devices identify
// themselves, so that an image which fits one fits the other too.
func (m *Map) ByIdentityOnly(other *Map) bool {
	list := m.Against(other)
	return len(list) == 1 && list[0].What == "identity"
}

// identityFacts says how two devices identify themselves, and where a debugger reads it, if
// that is not the same.
func identityFacts(m, other *Map) (here, there string) {
	here, there = IdentitiesText(m), IdentitiesText(other)
	at := func(m *Map) string {
		if m.IdentityReadAt == nil {
			return ""
		}
		return ", read at " + memory.FormatAddress(*m.IdentityReadAt)
	}
	if at(m) != at(other) {
		here, there = here+at(m), there+at(other)
	}
	return here, there
}

// IdentitiesText says how a device may identify itself; "" is that its map says nothing.
func IdentitiesText(m *Map) string {
	var list []string
	for _, one := range m.Identities {
		list = append(list, one.String())
	}
	return strings.Join(list, ", or ")
}

type differences struct{ list []Difference }

func (d *differences) add(what, name, here, there string) {
	if here != there {
		d.list = append(d.list, Difference{what, name, here, there})
	}
}

// named compares what has names: by each fact where both have it.
func (d *differences) named(what string, here, there []facts) {
	index := func(list []facts) map[string]int {
		by := map[string]int{}
		for i := range list {
			if _, ok := by[list[i].name]; !ok {
				by[list[i].name] = i
			}
		}
		return by
	}
	thereBy, hereBy := index(there), index(here)
	for _, a := range here {
		i, ok := thereBy[a.name]
		if !ok {
			d.add(what, a.name, a.summary(), "")
			continue
		}
		for j, f := range a.list {
			d.add(what, strings.TrimSpace(a.name+" "+f.key), f.value, there[i].list[j].value)
		}
	}
	for _, b := range there {
		if _, ok := hereBy[b.name]; !ok {
			d.add(what, b.name, "", b.summary())
		}
	}
}

// facts are what is said of one thing, the same keys in the same order for all of a
// kind.
type facts struct {
	name string
	list []fact
}

type fact struct{ key, value string }

// summary is the first fact, which says what it is.
func (f *facts) summary() string { return f.list[0].value }

func memoryFacts(m *Map) (list []facts) {
	for i := range m.Memories {
		mem := &m.Memories[i]
		var sectors, aliases []string
		for _, s := range mem.Sectors {
			text := fmt.Sprintf("%d x %s", s.Count, memory.FormatSize(s.Size))
			if s.Erase != (Times{}) {
				text += fmt.Sprintf(" in %s to %s", FormatTime(s.Erase.Typical), FormatTime(s.Erase.Most))
			}
			sectors = append(sectors, text)
		}
		for _, a := range mem.Aliases {
			aliases = append(aliases, memory.FormatAddress(a.First))
		}
		list = append(
			list,
			facts{
				mem.Name,
				[]fact{
					{"", string(mem.Kind) + " " + mem.Span.String()},
					{"in the device", memory.FormatAddress(mem.PartFirst)},
					{"unit", fmt.Sprint(mem.Unit)},
					{
						"page",
						memory.FormatCount(mem.Page),
					},
					{"granule", memory.FormatCount(mem.Granule)},
					{"write-once", fmt.Sprint(mem.WriteOnce)},
					{"sectors", strings.Join(sectors, " + ")},
					{"erased", fmt.Sprintf("%02X", mem.Erased)},
					{"aliases", strings.Join(aliases, ", ")},
				},
			},
		)
	}
	return list
}

func regionFacts(m *Map) (list []facts) {
	for r := range m.All() {
		list = append(list, facts{r.Name, []fact{{"", string(r.Role) + " " + r.Span.String()}, {"required", fmt.Sprint(r.Required)}}})
	}
	return list
}

func startFacts(m *Map) (list []facts) {
	for i := range m.Starts {
		s := &m.Starts[i]
		list = append(
			list,
			facts{
				fmt.Sprint(i + 1),
				[]fact{
					{"", string(s.Kind) + " at " + memory.FormatAddress(s.At)},
					{"stack", s.Stack},
					{"target", s.Target},
					{"odd target", fmt.Sprint(s.OddTarget)},
					{"width", fmt.Sprint(s.Width)},
				},
			},
		)
	}
	return list
}

func checksumFacts(m *Map) (list []facts) {
	for i := range m.Checksums {
		c := &m.Checksums[i]
		list = append(
			list,
			facts{
				c.Name,
				[]fact{
					{"", c.Kind.Name + " over " + memory.FormatSpans(c.In)},
					{"place", fmt.Sprintf("%s, %d after", memory.FormatAddress(c.At), c.Behind())},
					{"order", c.Order.String()},
					{"guards", c.Guards},
					{"checked by hardware", fmt.Sprint(c.Hardware)},
					{"slot", c.Slot},
					{"swap", fmt.Sprint(c.Swap)},
				},
			},
		)
	}
	return list
}

func portFacts(m *Map) (list []facts) {
	for i := range m.Ports {
		p := &m.Ports[i]
		when := ""
		for _, w := range p.When {
			when += fmt.Sprintf("%s: %s; ", strings.Join(Meanings(w.If), ", "), (&WayIn{Can: w.Can}).CanText())
		}
		list = append(
			list,
			facts{p.Name,
				[]fact{{"", "can " + (&WayIn{Can: p.Can}).CanText()}, {"clock", fmt.Sprint(p.Clock)}, {"wired", fmt.Sprint(p.Wired)},
					{"needs", strings.Join(Meanings(p.Needs), ", ")}, {"when", when}}},
		)
	}
	return list
}

// Meanings lists fields and what they mean, sorted.
func Meanings(set map[string]string) (list []string) {
	for _, field := range slices.Sorted(maps.Keys(set)) {
		list = append(list, field+" = "+set[field])
	}
	return list
}

func speedFacts(m *Map) (list []facts) {
	for i, s := range m.Speeds {
		list = append(list, facts{fmt.Sprint(i + 1), []fact{{"", Voltage.FormatRange(s.Supply) + ": " + Frequency.FormatRange(s.Clock)}}})
	}
	return list
}

// words compares configuration words by their addresses, and fields by their bits.
func (d *differences) words(m, other *Map) {
	at := func(m *Map, address uint64) *Word {
		i := slices.IndexFunc(m.Config, func(w Word) bool { return w.At == address })
		if i < 0 {
			return nil
		}
		return &m.Config[i]
	}
	addresses := map[uint64]bool{}
	for _, w := range append(slices.Clone(m.Config), other.Config...) {
		addresses[w.At] = true
	}
	for _, address := range slices.Sorted(maps.Keys(addresses)) {
		a, b := at(m, address), at(other, address)
		place := memory.FormatAddress(address)
		switch {
		case b == nil:
			d.add("word", place, a.Name, "")
		case a == nil:
			d.add("word", place, "", b.Name)
		default:
			d.add("word", place, a.Name, b.Name)
			d.add("word", place+" bytes", fmt.Sprint(a.Width), fmt.Sprint(b.Width))
			d.add("word", place+" as delivered", a.Format(a.Default), b.Format(b.Default))
			d.fields(place, a, b)
		}
	}
}

func (d *differences) fields(place string, a, b *Word) {
	same := func(f *Field, list []Field) *Field {
		i := slices.IndexFunc(list, func(g Field) bool { return g.Low == f.Low && g.Bits == f.Bits })
		if i < 0 {
			return nil
		}
		return &list[i]
	}
	name := func(f *Field) string { return place + " bits " + f.BitsText() }
	for i := range a.Fields {
		f := &a.Fields[i]
		g := same(f, b.Fields)
		if g == nil {
			d.add("field", name(f), f.Name, strings.Join(overlapping(f, b), ", "))
			continue
		}
		d.add("field", name(f), f.Name, g.Name)
		d.values(name(f), f, g)
	}
	for i := range b.Fields {
		if f := &b.Fields[i]; same(f, a.Fields) == nil {
			d.add("field", name(f), strings.Join(overlapping(f, a), ", "), f.Name)
		}
	}
}

// overlapping names the fields of a word that have bits in common with a field.
func overlapping(f *Field, w *Word) (names []string) {
	for i := range w.Fields {
		if g := &w.Fields[i]; g.Mask()&f.Mask() != 0 {
			names = append(names, fmt.Sprintf("%s (bits %s)", g.Name, g.BitsText()))
		}
	}
	return names
}

// values compares what the same bits mean: the trap between two variants of a device.
func (d *differences) values(name string, f, g *Field) {
	numbers := map[uint64]bool{}
	for _, v := range append(slices.Clone(f.Values), g.Values...) {
		numbers[v.Value] = true
	}
	means := func(f *Field, n uint64) string {
		v := f.Value(n)
		if v == nil {
			return "not defined"
		}
		text := cmp.Or(v.Meaning, "not defined")
		if v.Hazard != "" {
			text += " (hazard)"
		}
		if v.Needs != nil {
			text += ", needs " + v.Needs.String()
		}
		return text
	}
	for _, n := range slices.Sorted(maps.Keys(numbers)) {
		d.add("value", fmt.Sprintf("%s = %d", name, n), means(f, n), means(g, n))
	}
}
