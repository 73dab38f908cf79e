package memory

import (
	"bytes"
	"fmt"
	"math"
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
	Span
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

	found [256]uint64 // what the second holds where both do and differ
	more  [256]uint64 // what the second alone holds
}

// Same reports whether no difference was found.
func (c *Comparison) Same() bool { return len(c.Differences) == 0 }

// closeBy is how many equal bytes may lie between two bytes that differ in one
// stretch.
const closeBy = 7

// Compare compares two images inside the spans, or as a whole where none is
// given. Where hole is not nil, a place that one image does not hold counts as
// holding that byte.
func Compare(a, b *Image, hole *byte, spans ...Span) *Comparison {
	if len(spans) == 0 {
		spans = Complement(nil)
	}
	c := &Comparison{}
	for _, s := range Union(spans) {
		c.compare(a, b, hole, s)
	}
	return c
}

func (c *Comparison) compare(a, b *Image, hole *byte, s Span) {
	var as, bs []Run
	for r := range a.In(s) {
		as = append(as, r)
	}
	for r := range b.In(s) {
		bs = append(bs, r)
	}
	// rest cuts n bytes off the front of a list of runs.
	rest := func(list []Run, n uint64) []Run {
		if n == uint64(len(list[0].Data)) {
			return list[1:]
		}
		list[0] = Run{list[0].First + n, list[0].Data[n:]}
		return list
	}
	for len(as) > 0 || len(bs) > 0 {
		switch {
		case len(bs) == 0 || len(as) > 0 && as[0].First < bs[0].First:
			n := uint64(len(as[0].Data))
			if len(bs) > 0 {
				n = min(n, bs[0].First-as[0].First)
			}
			c.OnlyFirst += c.lone(as[0].First, as[0].Data[:n], hole, OnlyFirst)
			as = rest(as, n)
		case len(as) == 0 || bs[0].First < as[0].First:
			n := uint64(len(bs[0].Data))
			if len(as) > 0 {
				n = min(n, as[0].First-bs[0].First)
			}
			c.OnlySecond += c.lone(bs[0].First, bs[0].Data[:n], hole, OnlySecond)
			bs = rest(bs, n)
		default:
			n := uint64(min(len(as[0].Data), len(bs[0].Data)))
			c.both(as[0].First, as[0].Data[:n], bs[0].Data[:n])
			as, bs = rest(as, n), rest(bs, n)
		}
	}
}

// lone takes bytes that one image alone holds and returns how many of them
// count as a difference.
func (c *Comparison) lone(first uint64, data []byte, hole *byte, p Presence) uint64 {
	if p == OnlySecond {
		for _, v := range data {
			c.more[v]++
		}
	}
	if hole == nil {
		c.add(Difference{Span{first, first + uint64(len(data)) - 1}, p, uint64(len(data))}, 1)
		return uint64(len(data))
	}
	n := uint64(0)
	for i, v := range data {
		if v != *hole {
			c.add(Difference{Span{first + uint64(i), first + uint64(i)}, p, 1}, closeBy+1)
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
					c.found[b[i]]++
					at := first + uint64(i)
					c.add(Difference{Span{at, at}, InBoth, 1}, closeBy+1)
				}
			}
		}
		c.Equal += uint64(n)
		first, a, b = first+uint64(n), a[n:], b[n:]
	}
}

// add adds a difference, to the last one where that is of the same kind and
// ends at most reach addresses before it.
func (c *Comparison) add(d Difference, reach uint64) {
	if n := len(c.Differences); n > 0 {
		if last := &c.Differences[n-1]; last.Presence == d.Presence && d.First-last.Last <= reach {
			last.Last = d.Last
			last.Bytes += d.Bytes
			return
		}
	}
	c.Differences = append(c.Differences, d)
}

// LikelyCauses says what the differences between an expected and a found image
// look like, where they show a pattern: not programmed, moved by a constant
// distance, bytes swapped within words, cut short. erased is what an erased
// byte reads as.
func LikelyCauses(expected, found *Image, c *Comparison, erased byte) []string {
	if c.Same() {
		return nil
	}
	var causes []string
	if c.Differ > 0 && c.found[erased] == c.Differ {
		causes = append(causes, fmt.Sprintf("every byte that differs was found as %02X: erased, but not programmed", erased))
	} else if c.Differ > 0 {
		if n := swappedWords(expected, found, c); n > 0 {
			causes = append(causes, fmt.Sprintf("the same bytes, in reverse order within words of %d (convert -swap %d)", n, n))
		} else if cause := shifted(expected, found); cause != "" {
			causes = append(causes, cause)
		}
	} else if c.OnlyFirst > 0 && c.Equal == 0 {
		if cause := shifted(expected, found); cause != "" {
			causes = append(causes, cause)
		}
	}
	if f, ok := found.Span(); ok && f.Last < math.MaxUint64 && c.OnlyFirst > 0 && c.Equal > 0 && c.Differ == 0 &&
		expected.Count(Span{f.Last, f.Last + 1}) == 2 {
		causes = append(causes, fmt.Sprintf("the second ends at %s, in the middle of what the first holds: cut short", FormatAddress(f.Last)))
	}
	if c.OnlySecond > 0 && c.more[erased] == c.OnlySecond {
		causes = append(causes, fmt.Sprintf("all that the second alone holds is %02X: erased space in a read-back (-holes %02X takes it as equal)", erased, erased))
	}
	return causes
}

// swappedWords returns the word size 2, 4 or 8 within which the found bytes
// stand in reverse order wherever both images hold bytes, or 0.
func swappedWords(expected, found *Image, c *Comparison) uint64 {
	const most = 1 << 16 // bytes looked at
	for _, n := range []uint64{2, 4, 8} {
		swapped, looked := true, 0
		for _, d := range c.Differences {
			for a := d.First; swapped && d.Presence == InBoth && looked < most; a++ {
				looked++
				mirror := a - a%n + n - 1 - a%n
				var e, f [1]byte
				if !expected.ReadAt(e[:], mirror) || !found.ReadAt(f[:], a) || e != f {
					swapped = false
				}
				if a == d.Last {
					break
				}
			}
		}
		if swapped {
			return n
		}
	}
	return 0
}

// shifted looks for the expected bytes at another place of the found image.
// It takes a few distinctive stretches of the one and looks where the other
// holds them; if all are moved by the same distance, that is it.
func shifted(expected, found *Image) string {
	const probe, probes = 24, 5
	var distance uint64
	down, matches := false, 0
	for _, r := range expected.Runs() {
		step := max(len(r.Data)/(probes+1), probe)
		for i := step / 2; i+probe <= len(r.Data) && matches < probes; i += step {
			needle := r.Data[i : i+probe]
			if bytes.Count(needle, needle[:1]) > probe/2 {
				continue // too plain to tell
			}
			address := r.First + uint64(i)
			at, ok := find(found, needle)
			if !ok || at == address {
				return ""
			}
			d, isDown := at-address, at < address
			if isDown {
				d = address - at
			}
			if matches > 0 && (d != distance || isDown != down) {
				return ""
			}
			distance, down = d, isDown
			matches++
		}
	}
	if matches == 0 {
		return ""
	}
	sign := "+"
	if down {
		sign = "-"
	}
	return fmt.Sprintf("the same bytes at another place: the second holds them %s0x%X from where the first does", sign, distance)
}

func find(m *Image, needle []byte) (uint64, bool) {
	for _, r := range m.Runs() {
		if i := bytes.Index(r.Data, needle); i >= 0 {
			return r.First + uint64(i), true
		}
	}
	return 0, false
}
