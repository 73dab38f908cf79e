package device

import (
	"fmt"
	"slices"

	"mexalt/memory"
)

// fixed returns where the value is stored, where neither the image nor what is fed
// says that.
func (d *Checksum) fixed() (place memory.Span, ok bool) {
	if d.Place != nil || d.behind != nil {
		return place, false
	}
	return memory.SpanOf(d.At, d.Size)
}

// numbers returns what the image says of the checksum, by the keys that say where.
func (d *Checksum) numbers() []struct {
	key string
	*FieldAt
} {
	if d.Length == nil && d.End == nil && d.Place == nil && d.Rank == nil {
		return nil // asked of each pair of checksums
	}
	all := []struct {
		key string
		*FieldAt
	}{{"length-at", d.Length}, {"end-at", d.End}, {"place-at", d.Place}, {"rank-at", d.Rank}}
	return slices.DeleteFunc(all, func(n struct {
		key string
		*FieldAt
	}) bool {
		return n.FieldAt == nil
	})
}

// checksumPlaces proves that what the checksums store and read is each at a place of
// its own, in the slot that it is of. paths says where the file gives each.
func (l *loader) checksumPlaces(m *Map, paths []string) {
	odd := make([]bool, len(m.Checksums)) // told by what is in the other slot, and by nothing else
	for i := range m.Checksums {
		odd[i] = l.slots(m, &m.Checksums[i], paths[i])
	}
	for i := range m.Checksums {
		d := &m.Checksums[i]
		if odd[i] {
			continue
		}
		if over := l.overlapped(m, i, odd); over != "" {
			l.problem(paths[i]+".at", fmt.Sprintf("the value of %s overlaps %s", d.Name, over), "a place of its own", "")
			continue
		}
		l.spansOf(m, d, paths[i])
	}
}

// overlapped names what the value of a checksum overlaps: the value of one before it, or what
// any reads; "" is nothing.
func (l *loader) overlapped(m *Map, i int, odd []bool) string {
	place, fixed := m.Checksums[i].fixed()
	if !fixed {
		return ""
	}
	for j := range m.Checksums {
		o := &m.Checksums[j]
		if odd[j] {
			continue
		}
		if other, ok := o.fixed(); ok && j < i {
			if both, meet := other.Meet(place); meet {
				return fmt.Sprintf("that of %s, at %s", o.Name, both.Range())
			}
		}
		for _, n := range o.numbers() {
			if both, meet := n.Span().Meet(place); meet {
				return fmt.Sprintf("what %s of %s reads, at %s", n.key, o.Name, both.Range())
			}
		}
	}
	return ""
}

// spansOf proves that a checksum's spans, what it skips and what it guards go together.
func (l *loader) spansOf(m *Map, d *Checksum, path string) {
	if place, fixed := d.fixed(); fixed && (d.Length != nil || d.End != nil) && d.Slot == "" && covers(d.In, d.Skip, place) {
		l.problem(path+".at", fmt.Sprintf("the value of %s is inside the span %s, as far as it can reach", d.Name, d.In[0].Range()),
			"a span that ends before it, or slot = \"skip\", \"zero\" or \"erased\"", "")
	}
	left := memory.Without(d.In, d.Skip)
	if len(d.In) > 0 && len(left) == 0 {
		l.problem(path+".skip", d.Name+" is computed over nothing: all of it is skipped", "", "")
		return
	}
	for k, skip := range d.Skip {
		if len(memory.Intersect(d.In, []memory.Span{skip})) == 0 {
			l.problem(l.file.Item(path+".skip", k),
				fmt.Sprintf("%s is outside what is fed, so that skipping it has no effect", skip.Range()), "a span within it", "")
		}
	}
	if r := m.Region(d.Guards); r != nil && len(memory.Intersect(left, []memory.Span{r.Span})) == 0 {
		l.problem(path+".guards", fmt.Sprintf("%s guards %s, and covers nothing of it", d.Name, d.Guards), "a span in it", "")
	}
}

// slots tells of keys of a checksum that are of another slot than the others are, as
// copying makes them. It reports whether there are any.
func (l *loader) slots(m *Map, d *Checksum, path string) (odd bool) {
	type ofKey struct {
		key  string
		slot *Region
	}
	var keys []ofKey
	add := func(key string, at uint64) { keys = append(keys, ofKey{key, m.RegionAt(at)}) }
	add("in", d.In[0].First)
	if place, ok := d.fixed(); ok {
		add("at", place.First)
	}
	for _, n := range d.numbers() {
		add(n.key, n.At)
	}
	if r := m.Region(d.Guards); r != nil {
		add("guards", r.Span.First)
	}
	counts := map[*Region]int{}
	var home *Region // that most are of
	for _, k := range keys {
		if k.slot != nil {
			if counts[k.slot]++; home == nil || counts[k.slot] > counts[home] {
				home = k.slot
			}
		}
	}
	for _, k := range keys {
		if k.slot == nil || k.slot == home || !alike(k.slot, home) {
			continue
		}
		odd = true
		l.problem(path+"."+k.key, fmt.Sprintf("%s of %s is in %s, and the rest of it in %s", k.key, d.Name, k.slot.Name, home.Name),
			"the same slot", "")
	}
	return odd
}

// alike reports whether two regions are slots for the same: of one role and size.
func alike(a, b *Region) bool {
	return a.Role == b.Role && a.Role == Application && a.Span.Size() == b.Span.Size()
}
