// Package survey looks at images: where two differ and what that looks like,
// which texts look like versions, what repeats.
package survey

import (
	"bytes"

	"mexalt/memory"
)

// Presence says which of two images hold bytes at a stretch.
type Presence uint8

const (
	// InBoth is a stretch that both images hold.
	InBoth Presence = iota
	// OnlyFirst is a stretch that only the first image holds.
	OnlyFirst
	// OnlySecond is a stretch that only the second image holds.
	OnlySecond
)

// Difference is a stretch where two images are not the same. Where both hold
// bytes, a few equal ones may lie between those that differ.
type Difference struct {
	memory.Span
	Presence Presence
	Bytes    uint64 // how many of the bytes differ, or are there in one alone
}

// Comparison is what came of comparing two images.
type Comparison struct {
	Differences []Difference // by address
	Equal       uint64       // bytes that are the same in both
	Differ      uint64       // bytes that both hold, with different values
	OnlyFirst   uint64       // bytes that the first alone holds
	OnlySecond  uint64       // bytes that the second alone holds

	fresh int // differences found in the spans before this one
}

// Same reports whether no difference was found.
func (c *Comparison) Same() bool { return len(c.Differences) == 0 }

// closeBy is how many equal bytes may lie between two bytes that differ in one
// stretch.
const closeBy = 7

// Compare compares two images inside the spans, or as a whole where none is
// given. Where hole is not nil, a place that one image does not hold counts as
// holding that byte.
func Compare(a, b *memory.Image, hole *byte, spans ...memory.Span) *Comparison {
	if len(spans) == 0 {
		spans = memory.Complement(nil)
	}
	c := &Comparison{}
	for _, s := range memory.Union(spans) {
		c.fresh = len(c.Differences)
		c.compare(a, b, hole, s)
	}
	return c
}

func (c *Comparison) compare(a, b *memory.Image, hole *byte, s memory.Span) {
	var as, bs []memory.Run
	for r := range a.In(s) {
		as = append(as, r)
	}
	for r := range b.In(s) {
		bs = append(bs, r)
	}
	// advance cuts n bytes off the front of a list of runs.
	advance := func(list []memory.Run, n uint64) []memory.Run {
		if n == uint64(len(list[0].Data)) {
			return list[1:]
		}
		list[0] = memory.Run{First: list[0].First + n, Data: list[0].Data[n:]}
		return list
	}
	for len(as) > 0 || len(bs) > 0 {
		switch {
		case len(bs) == 0 || len(as) > 0 && as[0].First < bs[0].First:
			n := uint64(len(as[0].Data))
			if len(bs) > 0 {
				n = min(n, bs[0].First-as[0].First)
			}
			c.OnlyFirst += c.onlyIn(as[0].First, as[0].Data[:n], hole, OnlyFirst)
			as = advance(as, n)
		case len(as) == 0 || bs[0].First < as[0].First:
			n := uint64(len(bs[0].Data))
			if len(as) > 0 {
				n = min(n, as[0].First-bs[0].First)
			}
			c.OnlySecond += c.onlyIn(bs[0].First, bs[0].Data[:n], hole, OnlySecond)
			bs = advance(bs, n)
		default:
			n := uint64(min(len(as[0].Data), len(bs[0].Data)))
			c.both(as[0].First, as[0].Data[:n], bs[0].Data[:n])
			as, bs = advance(as, n), advance(bs, n)
		}
	}
}

// onlyIn takes bytes that one image alone holds and returns how many of them
// count as a difference.
func (c *Comparison) onlyIn(first uint64, data []byte, hole *byte, p Presence) uint64 {
	if hole == nil {
		c.add(Difference{memory.Span{First: first, Last: first + uint64(len(data)) - 1}, p, uint64(len(data))}, 1)
		return uint64(len(data))
	}
	n := uint64(0)
	for i, v := range data {
		if v != *hole {
			c.add(Difference{memory.Span{First: first + uint64(i), Last: first + uint64(i)}, p, 1}, closeBy+1)
			n++
		}
	}
	c.Equal += uint64(len(data)) - n
	return n
}

func (c *Comparison) both(first uint64, a, b []byte) {
	const block = 4 << 10
	for len(a) > 0 {
		n := min(len(a), block)
		if !bytes.Equal(a[:n], b[:n]) {
			for i := range n {
				if a[i] != b[i] {
					c.Differ++
					c.Equal--
					at := first + uint64(i)
					c.add(Difference{memory.Span{First: at, Last: at}, InBoth, 1}, closeBy+1)
				}
			}
		}
		c.Equal += uint64(n)
		first, a, b = first+uint64(n), a[n:], b[n:]
	}
}

// add adds a difference, to the last one where that is of the same kind, of the
// same span, and ends at most reach addresses before it.
func (c *Comparison) add(d Difference, reach uint64) {
	if n := len(c.Differences); n > c.fresh {
		if last := &c.Differences[n-1]; last.Presence == d.Presence && d.First-last.Last <= reach {
			last.Last = d.Last
			last.Bytes += d.Bytes
			return
		}
	}
	c.Differences = append(c.Differences, d)
}

// Section is something whose differences are counted by themselves: a region,
// or what lies in none.
type Section struct {
	Name  string
	Spans []memory.Span
	Page  uint64 // bytes programmed at once; 0 where not known
	From  uint64 // the address from which pages count
}

// Total counts the differences in one section.
type Total struct {
	Section      string
	Differ       uint64
	OnlyFirst    uint64
	OnlySecond   uint64
	PagesTouched uint64
	Pages        uint64 // 0 where the size of pages is not known
}

// Totals counts the differences of each section that has any.
func Totals(a, b *memory.Image, hole *byte, sections []Section) []Total {
	var totals []Total
	for _, s := range sections {
		part := Compare(a, b, hole, s.Spans...)
		if part.Same() {
			continue
		}
		t := Total{Section: s.Name, Differ: part.Differ, OnlyFirst: part.OnlyFirst, OnlySecond: part.OnlySecond}
		if s.Page > 0 {
			pageOf := func(address uint64) uint64 { return (address - s.From) / s.Page }
			t.Pages = pageOf(s.Spans[0].Last) - pageOf(s.Spans[0].First) + 1
			next := uint64(0) // the first page not yet counted
			for _, d := range part.Differences {
				if first, last := max(pageOf(d.First), next), pageOf(d.Last); first <= last {
					t.PagesTouched += last - first + 1
					next = last + 1
				}
			}
		}
		totals = append(totals, t)
	}
	return totals
}
