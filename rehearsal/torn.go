package rehearsal

import (
	"bytes"
	"encoding/binary"
	"slices"
	"sort"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// touch is what one step does to a unit. A step that is cut leaves its bits torn: they
// read as they stood or as they were to be, and of an erase, or where a cell is erased
// as it is written, as anything.
//
// Where a guard reads them, each granule counts as it stood, as it was to be or as erased:
// that any other bits give a value that holds is chance, and told as a number.
type touch struct {
	at   int    // the step, from 1
	data []byte // nil is an erase
	any  bool   // torn bits read as anything
}

// mostTouches is how many steps may touch a unit for it to be told exactly; one of more
// may always be anything.
const mostTouches = 5

// unit is bytes that the same steps touch, that are of the same region and covered by
// the same guards. Its contents are numbered by how many of its touches are done in a
// run; 0 is what stood there before the first.
type unit struct {
	memory.Span
	n       int // of the bank
	touches []touch
	region  *device.Region // nil is none
	given   bool           // the image has these bytes
	stood   bool           // something stood there, which was not erased
	loose   bool           // what it is may hang on more than the last run that reached it

	// Of each content: whether it is exactly what stood there, and what should in the
	// end; and whether it is so where that counts: what stood there erased, and what the
	// image does not give, counts for neither.
	isOld, isNew, wholeOld, wholeNew [mostTouches + 1]bool
	// Of a touch that is cut, over a content: whether it may read as what stood there, as
	// what should in the end, and whether it changes anything.
	mayOld, mayNew, still [mostTouches + 1][mostTouches + 1]bool
	// The same of the first touch, over what is torn itself, by the touch that tore that.
	againOld, againNew [mostTouches + 1]bool

	known sameBytes // of the granule that was held last, where all like it say the same
}

// numbered are the bytes that a granule may have: its contents, what it should have in the end,
// and erased ones.
type numbered [mostTouches + 3][]byte

const (
	numberEnd    = mostTouches + 1
	numberErased = mostTouches + 2
)

// sameBytes says which of these are the same: each has the number of the first like it.
type sameBytes [mostTouches + 3]uint8

// noGranule is what no granule has: the first is like itself.
var noGranule = sameBytes{1}

// sameBytes finds which bytes are the same; nil is none.
func (list *numbered) sameBytes() (same sameBytes) {
	const word = 8
	if len(list[0]) != word {
		for k, is := range list {
			same[k] = list.number(is)
		}
		return same
	}
	// Most granules are a word long, and there are very many.
	var words [len(list)]uint64
	for k, is := range list {
		if same[k] = uint8(len(list)); is == nil {
			continue
		}
		words[k] = binary.LittleEndian.Uint64(is)
		for i := range k + 1 {
			if list[i] != nil && words[i] == words[k] {
				same[k] = uint8(i)
				break
			}
		}
	}
	return same
}

// number returns the number of the first bytes that are these, and one more than there are
// where none is.
func (list *numbered) number(bytes []byte) uint8 {
	for i, is := range list {
		if is != nil && string(is) == string(bytes) {
			return uint8(i)
		}
	}
	return uint8(len(list))
}

func (u *unit) first() int { return u.touches[0].at }
func (u *unit) last() int  { return u.touches[len(u.touches)-1].at }

// after returns the content that a run leaves which is cut at a step that lies behind
// the unit's first; torn is the number of the touch that is cut, 0 is none.
func (u *unit) after(cut int) (content, torn int) {
	if cut > u.last() {
		return len(u.touches), 0
	}
	for i, t := range u.touches {
		switch {
		case t.at == cut:
			return i, i + 1
		case t.at > cut:
			return i, 0
		}
	}
	return len(u.touches), 0
}

// unitsOf takes apart what a plan touches. borders are addresses at which a unit must
// begin: where guards and regions do.
func unitsOf(l *steps, before, after *chip.Chip, m *device.Map, borders []memory.Span) []unit {
	var units []unit
	for n, b := range before.Banks {
		touching := l.touching(n, b)
		if len(touching) == 0 {
			continue
		}
		at := l.bordersIn(b, touching, m, borders)
		list := make([]unit, len(at))
		for i, first := range at {
			last := b.Span.Last
			if i+1 < len(at) {
				last = at[i+1] - 1
			}
			list[i] = unit{Span: memory.Span{First: first, Last: last}, n: n, region: m.RegionAt(first), given: l.image.Holds(first)}
		}
		for _, i := range touching {
			l.list[i].touch(i, b, list)
		}
		for i := range list {
			if len(list[i].touches) > 0 {
				list[i].compare(b, after.Banks[n])
				units = append(units, list[i])
			}
		}
	}
	sort.SliceStable(units, func(i, j int) bool { return units[i].first() < units[j].first() })
	return units
}

// touching returns the steps that change a bank.
func (l *steps) touching(n int, b *chip.Bank) (list []int) {
	for i := range l.list {
		s := &l.list[i]
		if s.changes() && (s.all && (b.Kind == device.Flash || b.Kind == device.EEPROM) || !s.all && s.n == n) {
			list = append(list, i)
		}
	}
	return list
}

// bordersIn returns where the units of a bank begin, in order: where steps, regions, the
// image's runs and the borders do, and once behind each.
func (l *steps) bordersIn(b *chip.Bank, touching []int, m *device.Map, borders []memory.Span) (at []uint64) {
	cut := func(s memory.Span) {
		if both, ok := s.Meet(b.Span); ok {
			at = append(at, both.First)
			if both.Last < b.Span.Last {
				at = append(at, both.Last+1)
			}
		}
	}
	cut(b.Span)
	for _, i := range touching {
		if s := &l.list[i]; !s.all {
			cut(s.span)
		}
	}
	for _, s := range borders {
		cut(s)
	}
	for i := range m.Regions {
		cut(m.Regions[i].Span)
	}
	for r := range l.image.In(b.Span) {
		cut(r.Span())
	}
	slices.Sort(at)
	return slices.Compact(at)
}

// touch adds a step, of a number, to the units of a bank that it changes, which are in order.
func (s *step) touch(number int, b *chip.Bank, units []unit) {
	span := s.span
	if s.all {
		span = b.Span
	}
	k := sort.Search(len(units), func(k int) bool { return units[k].First >= span.First })
	for ; k < len(units) && units[k].First <= span.Last; k++ {
		u := &units[k]
		t := touch{at: number + 1, any: s.do == Erase || b.Replaces}
		if s.do != Erase {
			t.data = s.data[u.First-span.First:][:u.Size()]
		}
		u.touches = append(u.touches, t)
	}
}

// compare finds what the unit's contents are, held against what stood there and what
// should in the end.
func (u *unit) compare(old, goal *chip.Bank) {
	n := len(u.touches)
	if n > mostTouches {
		u.loose, u.stood = true, true
		return
	}
	u.known = noGranule
	for k := range n + 1 {
		u.isOld[k], u.isNew[k], u.wholeOld[k], u.wholeNew[k] = true, true, true, true
		u.againOld[k], u.againNew[k] = true, true
		for t := 1; t <= n; t++ {
			u.mayOld[k][t], u.mayNew[k][t], u.still[k][t] = true, true, u.touches[t-1].data != nil
		}
	}
	u.eachWith(old, goal, func(at uint64, contents [][]byte, should []byte) { u.hold(contents, should, old, at) })
}

// each goes through the bytes that a unit has by its contents, some at a time, but for
// those that are erased and stay so. What it gives is its own, and changes.
func (u *unit) each(old *chip.Bank, do func(at uint64, contents [][]byte)) {
	u.eachWith(old, nil, func(at uint64, contents [][]byte, _ []byte) { do(at, contents) })
}

// eachWith is each, with what another bank has there; nil is none.
func (u *unit) eachWith(old, goal *chip.Bank, do func(at uint64, contents [][]byte, goal []byte)) {
	n := len(u.touches)
	hasData := slices.ContainsFunc(u.touches, func(t touch) bool { return t.data != nil })
	var contents [mostTouches + 1][]byte
	for at := u.First; ; {
		x, m := old.Next(at, u.Last)
		var y []byte
		if goal != nil {
			var p uint64
			y, p = goal.Next(at, u.Last)
			m = min(m, p)
		}
		if x != nil || y != nil || hasData {
			m = min(m, chip.BlockSize)
			for k := range n + 1 {
				contents[k] = append(contents[k][:0], old.Blank[:m]...)
			}
			if x != nil {
				copy(contents[0], x[:m])
			}
			for k, t := range u.touches {
				if t.data != nil {
					put(contents[k+1], contents[k], t.data[at-u.First:][:m], old)
				}
			}
			if y == nil {
				y = old.Blank
			}
			do(at, contents[:n+1], y[:m])
		}
		if m > u.Last-at {
			return
		}
		at += m
	}
}

// put writes what a content is when something is written over another.
func put(to, over, data []byte, b *chip.Bank) {
	for i, x := range data {
		if b.Replaces {
			to[i] = x
		} else {
			to[i] = chip.OneWay(over[i], x, b.Erased)
		}
	}
}

// hold holds some bytes of the contents against what stood there and what should.
func (u *unit) hold(contents [][]byte, goal []byte, b *chip.Bank, at uint64) {
	u.holdAll(contents, goal, b, at)
	for from := 0; from < len(goal); {
		grain := b.GranuleOf(at + uint64(from))
		to := int(min(grain.Last-at, uint64(len(goal)-1))) + 1
		u.holdGranule(contents, goal, b, at, from, to)
		from = to
	}
}

// holdAll finds what holds of all bytes alike.
func (u *unit) holdAll(contents [][]byte, goal []byte, b *chip.Bank, at uint64) {
	was := contents[0]
	u.stood = u.stood || !bytes.Equal(was, b.Blank[:len(was)])
	first := u.touches[0]
	for k, is := range contents {
		same, made := bytes.Equal(is, was), bytes.Equal(is, goal)
		u.isOld[k] = u.isOld[k] && same
		u.isNew[k] = u.isNew[k] && made
		u.wholeNew[k] = u.wholeNew[k] && (made || !u.given)
		for i := 0; u.wholeOld[k] && !same && i < len(is); i++ {
			u.wholeOld[k] = is[i] == was[i] || was[i] == b.Erased
		}
		for i := 0; !u.loose && first.data != nil && !b.Replaces && i < len(is); i++ {
			u.loose = chip.OneWay(is[i], first.data[at-u.First+uint64(i)], b.Erased) != contents[1][i]
		}
	}
}

// holdGranule finds what a granule, from one index up to another, may read as where a touch is
// cut over each of the contents.
func (u *unit) holdGranule(contents [][]byte, goal []byte, b *chip.Bank, at uint64, from, to int) {
	var list numbered
	for k := range contents {
		list[k] = contents[k][from:to]
	}
	list[numberEnd], list[numberErased] = goal[from:to], b.Blank[:to-from]
	same := list.sameBytes()
	if u.known == same {
		return
	}
	u.known = same
	is := func(what, stood int, became func() uint8, any bool) bool {
		return same[stood] == same[what] || any && same[numberErased] == same[what] || became() == same[what]
	}
	var room [64]byte // a granule is hardly ever longer
	for t := 1; t < len(contents); t++ {
		one := u.touches[t-1]
		for k := range contents {
			became := func() uint8 {
				if one.data == nil || k == t-1 {
					return same[t]
				}
				u.known = noGranule // another granule's bytes may become something else
				made := append(room[:0], list[numberErased]...)
				put(made, list[k], one.data[at-u.First+uint64(from):][:to-from], b)
				return list.number(made)
			}
			u.mayOld[k][t] = u.mayOld[k][t] && is(0, k, became, one.any)
			u.mayNew[k][t] = u.mayNew[k][t] && is(numberEnd, k, became, one.any)
			u.still[k][t] = u.still[k][t] && (!one.any || same[k] == same[numberErased]) && became() == same[k]
		}
		any := one.any || u.touches[0].any
		became := func() uint8 { return same[t] }
		u.againOld[t] = u.againOld[t] && (same[1] == same[0] || is(0, t-1, became, any))
		u.againNew[t] = u.againNew[t] && (same[1] == same[numberEnd] || is(numberEnd, t-1, became, any))
	}
}
