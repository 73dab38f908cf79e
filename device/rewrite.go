package device

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Writing is a word that is written in its turn.
type Writing struct {
	Word  *Word
	Value uint64
	By    string  // the port, "" where the map gives none
	Left  []WayIn // the ways in afterwards, after a reset
}

// Rewriting is how a device gets from the words that it has to others: an order in which
// each word is written through a port that is still there, with a reset after each.
type Rewriting struct {
	Erase *Writing
	Takes []string // the memories that the erase takes with it
	Words []Writing
	Fault string            // why there is no order; "" is that there is one
	Last  []WayIn           // afterwards
	After map[string]uint64 // the words afterwards
	// NoReturn is the number of the word, from 1, after which no way in remains; 0 is that
	// one does.
	NoReturn int
}

// mostReordered is how many words are tried in all orders.
const mostReordered = 12

// Rewrite finds the order in which words of a device that has some values are written: in
// the order of the map, if that is one. Others stay as they are. Where a lock keeps words
// from being written, erasing the whole device opens it.
func (m *Map) Rewrite(now, words map[string]uint64) *Rewriting {
	with := func(is map[string]uint64) map[string]uint64 {
		is = maps.Clone(is)
		maps.Copy(is, words)
		return is
	}
	wanted := with(now)
	before := m.WaysIn(now)
	r := &Rewriting{After: wanted}
	if order, ok := m.order(now, wanted); ok {
		r.Words = order
	} else if by := portFor(before, CanEraseAll); by != nil {
		opened := m.Opened(now)
		r.Erase = &Writing{By: by.Port, Left: m.WaysIn(opened)}
		for i := range m.Memories {
			if k := m.Memories[i].Kind; k == Flash || k == EEPROM {
				r.Takes = append(r.Takes, m.Memories[i].Name)
			}
		}
		r.After = with(opened)
		if r.Words, ok = m.order(opened, r.After); !ok {
			r.Fault = "the words cannot be written after an erase of the whole device either: " + waysText(r.Erase.Left)
		}
	} else if by := portFor(before, CanWords); by == nil {
		r.Fault = "no port can write words: " + waysText(before)
	} else {
		r.Fault = m.blocked(now, wanted)
	}
	if r.Fault != "" {
		r.Words = nil
	}
	r.Last = before
	if r.Erase != nil {
		r.Last = r.Erase.Left
	}
	for i := range r.Words {
		if r.Last = r.Words[i].Left; !AnyChanges(r.Last) && r.NoReturn == 0 {
			r.NoReturn = i + 1
		}
	}
	return r
}

// Opened returns the words of a device after it was erased as a whole: what locks it is as
// delivered.
func (m *Map) Opened(values map[string]uint64) map[string]uint64 {
	open := maps.Clone(values)
	for _, a := range m.Acting(values) {
		if a.Effect != Locked {
			continue
		}
		fields := []string{a.Field}
		if g := m.Group(a.Field); g != nil {
			fields = g.Fields
		}
		for _, name := range fields {
			if w, f := m.Field(name); f != nil {
				open[w.Name] = open[w.Name]&^f.Mask() | w.Default&f.Mask()
			}
		}
	}
	return open
}

// changed returns the words whose values differ.
func (m *Map) changed(now, wanted map[string]uint64) (list []*Word) {
	for i := range m.Config {
		if w := &m.Config[i]; now[w.Name] != wanted[w.Name] {
			list = append(list, w)
		}
	}
	return list
}

// order finds an order in which each word is written through a port that writes words
// then. It goes through the sets of words that can be written first, smaller ones before
// larger ones.
func (m *Map) order(now, wanted map[string]uint64) (list []Writing, ok bool) {
	changed := m.changed(now, wanted)
	if len(changed) > mostReordered {
		return m.inTurn(changed, now, wanted)
	}
	type written struct{ last, before int } // how a set is reached; last is -1 of the empty set
	reached := map[int]written{0: {-1, 0}}
	all := 1<<len(changed) - 1
	for set := 0; set < all; set++ {
		if _, ok := reached[set]; !ok || portFor(m.WaysIn(mixed(changed, now, wanted, set)), CanWords) == nil {
			continue
		}
		for i := range changed {
			next := set | 1<<i
			if how, ok := reached[next]; next != set && (!ok || i > how.last) { // later words last: the map's order where it does
				reached[next] = written{i, set}
			}
		}
	}
	if _, ok := reached[all]; !ok {
		return nil, false
	}
	for set := all; set != 0; set = reached[set].before {
		how := reached[set]
		by := portFor(m.WaysIn(mixed(changed, now, wanted, how.before)), CanWords)
		w := changed[how.last]
		list = append(list, Writing{w, wanted[w.Name], by.Port, m.WaysIn(mixed(changed, now, wanted, set))})
	}
	slices.Reverse(list)
	return list, true
}

// inTurn writes very many words: in each turn the first after which words can still be
// written, or, as the last, the one that is left.
func (m *Map) inTurn(changed []*Word, now, wanted map[string]uint64) (list []Writing, ok bool) {
	is := maps.Clone(now)
	left := slices.Clone(changed)
	for len(left) > 0 {
		by := portFor(m.WaysIn(is), CanWords)
		if by == nil {
			return nil, false
		}
		pick := slices.IndexFunc(left, func(w *Word) bool {
			next := maps.Clone(is)
			next[w.Name] = wanted[w.Name]
			return len(left) == 1 || portFor(m.WaysIn(next), CanWords) != nil
		})
		if pick < 0 {
			return nil, false
		}
		w := left[pick]
		is[w.Name] = wanted[w.Name]
		list = append(list, Writing{w, wanted[w.Name], by.Port, m.WaysIn(is)})
		left = slices.Delete(left, pick, pick+1)
	}
	return list, true
}

// mixed returns the values where a set of the changed words was written.
func mixed(changed []*Word, now, wanted map[string]uint64, set int) map[string]uint64 {
	is := maps.Clone(now)
	for i, w := range changed {
		if set>>i&1 != 0 {
			is[w.Name] = wanted[w.Name]
		}
	}
	return is
}

// blocked says which words keep others from being written.
func (m *Map) blocked(now, wanted map[string]uint64) string {
	var closing []string
	for _, w := range m.changed(now, wanted) {
		one := maps.Clone(now)
		one[w.Name] = wanted[w.Name]
		if ways := m.WaysIn(one); portFor(ways, CanWords) == nil {
			closing = append(closing, fmt.Sprintf("after %s, %s", w.Name, waysText(ways)))
		}
	}
	return "no order of the words leaves a port for each: " + strings.Join(closing, ". ")
}

// portFor returns the first way in that does something; nil is none.
func portFor(list []WayIn, a Ability) *WayIn {
	i := slices.IndexFunc(list, func(w WayIn) bool { return w.Does(a) })
	if i < 0 {
		return nil
	}
	return &list[i]
}

func waysText(list []WayIn) string {
	var texts []string
	for _, w := range list {
		texts = append(texts, w.String())
	}
	return strings.Join(texts, "; ")
}

// WayBack is how the words of a device can be changed again.
type WayBack struct {
	Port   string
	Locked bool // only an erase of the whole device is left
}

// WaysBack returns the way back that takes least with it: a port that writes words, or else
// one that erases the whole device.
func WaysBack(list []WayIn) WayBack {
	if w := portFor(list, CanWords); w != nil {
		return WayBack{Port: cmp.Or(w.Port, "the programming port")}
	}
	if w := portFor(list, CanEraseAll); w != nil {
		return WayBack{cmp.Or(w.Port, "the programming port"), true}
	}
	return WayBack{}
}
