package diagnosis

import (
	"iter"
	"math"
)

// act is a damage with its parameters.
type act struct {
	row *row
	// at returns what is found at a place, at an address, where the damage acted there; ok is
	// false where it cannot have. It reads what was foretold before.
	at func(i int, a uint64) (b byte, ok bool)
	// parameters is how many bits it takes to say them.
	parameters float64
	words      func(s *foretold, d domain) string
	advice     func() (operation, key, value string)
	whole      bool // it acts everywhere or not at all
	stretches  bool // it acts everywhere, or in one whole stretch
	part       bool // it acts in a range alone
	varied     bool // it needs several values among what it explains
	fewest     int  // bytes that it must explain
	distance   uint64
	erased     byte // what a fill writes, and what a change makes of an erased byte
}

// domain is where a damage acted: places from, up to. A second range goes with the first.
type domain struct {
	from, to   int
	all        bool
	bits       float64 // it takes to say it
	also       [2]int  // the second range, of damages that have two
	slackFrom  int     // the bytes from here on are equal either way
	slackTo    int
	reachesEnd bool
}

// fitted is a damage where it fits best.
type fitted struct {
	*act
	domain
	score, cost float64
	explains    int // bytes that are as found then, and were not
	spoils      int // bytes that were, and are not
}

// leastScore is how many bits a damage must save to be told: of what is truly random, a
// saving of k bits has a chance of 2 to the power of -k.
const leastScore = 24

// sampled are places that differ, spread over all.
func (s *foretold) sampled(most int) (list []int) {
	bytes, _ := s.differing()
	if bytes == 0 {
		return nil
	}
	step, left := max(bytes/most, 1), 0 // until the next one
	s.eachDiffering(func(i int) {
		if left == 0 {
			list, left = append(list, i), step
		}
		left--
	})
	return list
}

// likely reports whether enough of sampled places are as a damage says; those that a range
// explains follow one another.
func (a *act) likely(s *foretold, places []int, addresses []uint64) bool {
	const soon = 64 // places after which one that acts everywhere would have shown
	const inRow = 4 // more right than wrong, in some row of places
	hits, row, longest := 0, 0, 0
	for k, i := range places {
		b, ok := a.at(i, addresses[k])
		switch {
		case ok && b == s.found[i]:
			hits++
			row++
			longest = max(longest, row)
		case ok:
			row = max(row-1, 0)
		}
		if k == soon && a.whole && hits == 0 {
			return false
		}
	}
	least := 0.02
	if a.whole {
		least = 0.12
	}
	return float64(hits) >= math.Max(least*float64(len(places)), 1) && longest >= min(inRow, len(places))
}

// places goes through places with their addresses.
func (p *pair) places(from, to int) iter.Seq2[int, uint64] {
	return func(yield func(i int, addr uint64) bool) {
		for k := max(p.stretchIndex(from), 0); k < len(p.stretches) && p.stretches[k].at < to; k++ {
			st := &p.stretches[k]
			for i := max(from, st.at); i < min(to, st.at+st.size); i++ {
				if !yield(i, st.first+uint64(i-st.at)) {
					return
				}
			}
		}
	}
}

// weigh says what a damage does to a place: the weights of places for a range.
func (s *foretold) weigh(a *act, i int, addr uint64) int8 {
	b, ok := a.at(i, addr)
	switch {
	case !ok:
		return outside
	case b == s.now[i]:
		return 0
	case b == s.found[i]:
		return right
	case s.now[i] == s.found[i]:
		return wrong
	}
	return neither
}

// The weights of places for a range: a byte that becomes right, that becomes wrong, that is
// wrong either way, and where the damage cannot act. 0 is a byte that stays right.
const (
	right   = 8
	wrong   = -16
	neither = 1
	outside = 2
)

// tally counts bytes that a damage would change, that it would change rightly, and wrongly.
type tally struct{ would, hits, spoils int }

func (t *tally) add(weight int8) {
	switch weight {
	case right:
		t.hits++
		t.would++
	case wrong:
		t.spoils++
		t.would++
	case neither:
		t.would++
	}
}

// fit finds where a damage acted: everywhere, or in one range, whichever says more; nil is
// that it explains nothing.
func (s *foretold) fit(a *act, before float64) *fitted {
	if a.varied && !s.several(a, domain{to: len(s.now)}) {
		return nil
	}
	var all tally
	least := a.row.least
	noRange := a.whole || a.stretches
	hopeless := false // too many bytes change for it to have acted everywhere
	// The range of the largest sum.
	sum, from, top, l, r := 0, 0, 0, 0, 0
	for i, addr := range s.places(s.from, s.to) {
		weight := s.weigh(a, i, addr)
		all.add(weight)
		if noRange {
			// No more bytes than differ can become right.
			if hopeless = least*float64(all.would) > float64(s.odd); hopeless {
				break
			}
			continue
		}
		w := int(weight)
		switch weight {
		case neither: // it counts a little, so that a range does not begin far before its bytes
			w = -2
		case outside:
			w = 0
		}
		if sum <= 0 {
			sum, from = 0, i
		}
		if sum += w; sum > top {
			top, l, r = sum, from, i+1
		}
	}
	if all.hits == 0 && !hopeless {
		return nil
	}
	var best *fitted
	take := func(d domain, t tally) {
		share := least
		if !d.all {
			share = math.Max(share, 0.85)
		}
		if t.hits < a.fewest || float64(t.hits) < share*float64(t.would) || a.varied && !s.several(a, d) {
			return
		}
		f := &fitted{act: a, domain: d, explains: t.hits, spoils: t.spoils}
		f.cost = 6 + a.parameters + d.bits
		f.score = before - s.costWith(f) - f.cost
		if best == nil || f.score > best.score {
			best = f
		}
	}
	if !a.part && !s.local {
		take(domain{from: 0, to: len(s.now), all: true, bits: 1}, all)
	}
	switch {
	case a.whole || a.stretches && len(s.stretches) == 1:
		return best
	case a.stretches:
		if d, t := s.bestStretch(a); t.hits > 0 {
			take(d, t)
		}
		return best
	}
	for ; l < r; l++ {
		if w := s.weigh(a, l, s.address(l)); w != 0 && w != outside {
			break
		}
	}
	take(s.ranged(a, l, r), s.counted(a, l, r))
	return best
}

// counted counts what a damage does in a range.
func (s *foretold) counted(a *act, from, to int) (t tally) {
	for i, addr := range s.places(from, to) {
		t.add(s.weigh(a, i, addr))
	}
	return t
}

// bestStretch is the stretch for which a damage says most.
func (s *foretold) bestStretch(a *act) (d domain, best tally) {
	most := 0
	for k := range s.stretches {
		st := &s.stretches[k]
		if st.at < s.from || st.at+st.size > s.to {
			continue // it has places that were not looked at
		}
		t := s.counted(a, st.at, st.at+st.size)
		if sum := right*t.hits + wrong*t.spoils; sum > most {
			most, best = sum, t
			d = domain{from: st.at, to: st.at + st.size, slackFrom: st.at, slackTo: st.at + st.size,
				bits: 2 + math.Log2(float64(len(s.stretches)))}
		}
	}
	return d, best
}

// ranged is the domain of a range, grown over what is equal either way to whole pages where
// both ends allow that.
func (s *foretold) ranged(a *act, l, r int) domain {
	d := domain{from: l, to: r, slackFrom: l, slackTo: r}
	first, last := s.stretchOf(l), s.stretchOf(r-1)
	for d.slackFrom > max(first.at, s.from) && s.weigh(a, d.slackFrom-1, first.first+uint64(d.slackFrom-1-first.at)) == 0 {
		d.slackFrom--
	}
	for end := min(last.at+last.size, s.to); d.slackTo < end && s.weigh(a, d.slackTo, last.first+uint64(d.slackTo-last.at)) == 0; {
		d.slackTo++
	}
	d.bits = 2 * s.log
	d.reachesEnd = d.slackTo == last.at+last.size
	if first == last && d.slackFrom == first.at && d.reachesEnd {
		d.from, d.to = first.at, d.slackTo
		d.bits = 2 + math.Log2(float64(len(s.stretches)))
		return d
	}
	if d.reachesEnd && last == &s.stretches[len(s.stretches)-1] {
		d.bits = s.log + 2
	}
	for page := uint64(4096); page >= 64; page /= 2 {
		from := s.address(l) &^ (page - 1)
		to := s.address(r-1) | (page - 1)
		i, j := s.place(from), s.place(to)
		if from >= first.first && i >= d.slackFrom && j >= 0 && j < d.slackTo {
			d.from, d.to = i, j+1
			d.bits = math.Min(d.bits, 2*math.Max(s.log-math.Log2(float64(page)), 0)+3)
			break
		}
	}
	return d
}

// several reports whether a damage explains bytes of at least six values.
func (s *foretold) several(a *act, d domain) bool {
	const least = 6
	seen, n := [256]bool{}, 0
	s.eachDiffering(func(i int) {
		if n >= least || i < d.from || i >= d.to {
			return
		}
		if b, ok := a.at(i, s.address(i)); ok && b == s.found[i] && !seen[b] {
			seen[b] = true
			n++
		}
	})
	return n >= least
}

// costWith is the cost of the rest once a damage is applied.
func (s *foretold) costWith(f *fitted) float64 {
	bytes, runs, before := 0, 0, -2
	reach := [2]int{s.from, s.to} // there is nothing that differs elsewhere
	for _, d := range [][2]int{{f.from, f.to}, f.also} {
		if d[1] > d[0] {
			reach[0], reach[1] = min(reach[0], d[0]), max(reach[1], d[1])
		}
	}
	for i, addr := range s.places(reach[0], reach[1]) {
		b := s.now[i]
		if i >= f.from && i < f.to || i >= f.also[0] && i < f.also[1] {
			if is, ok := f.at(i, addr); ok {
				b = is
			}
		}
		if b != s.found[i] {
			bytes++
			if i != before+1 {
				runs++
			}
			before = i
		}
	}
	return s.restCost(bytes, runs)
}

// with returns what is foretold once a damage is applied.
func (s *foretold) with(f *fitted) *foretold {
	next := &foretold{pair: s.pair, now: clone(s.now)}
	apply := func(from, to int) {
		for i, addr := range s.places(from, to) {
			if b, ok := f.at(i, addr); ok {
				next.now[i] = b
			}
		}
	}
	apply(f.from, f.to)
	apply(f.also[0], f.also[1])
	return next
}
