// Package diagnosis tells what happened to an image: why what was found is not what was
// expected. It has a table of damages, each a transformation of an image with parameters.
// A damage is fitted to the two images and applied to the expected one; it is told only
// where what comes out is what was found, and by how much.
package diagnosis

import (
	"math"
	"sort"

	"mexalt/memory"
)

// MostExamined is how many addresses a diagnosis goes through; of images that have more
// together none is made.
const MostExamined = 64 << 20

// pair is both images, laid out over all addresses that either has. What an image does not
// hold counts as erased.
type pair struct {
	stretches       []stretch
	expected, found []byte
	inExpected      present // whether the expected image has it
	inFound         present
	erased          byte
	log             float64 // of the number of addresses, to base 2
	others          []Other
}

// stretch is addresses that follow one another.
type stretch struct {
	first    uint64
	at, size int // in the pair
}

func newPair(expected, found *memory.Image, o Options) *pair {
	var spans []memory.Span
	for _, m := range []*memory.Image{expected, found} {
		for _, r := range m.Runs() {
			spans = append(spans, r.Span())
		}
	}
	if len(o.In) > 0 {
		spans = memory.Intersect(spans, o.In)
	}
	all := memory.Union(spans)
	n := memory.SizeOf(all)
	if n > MostExamined {
		return nil
	}
	p := &pair{erased: o.Erased, others: o.Others, log: math.Log2(float64(n)) + 1e-9}
	at := 0
	for _, s := range all {
		p.stretches = append(p.stretches, stretch{s.First, at, int(s.Size())})
		at += int(s.Size())
	}
	p.expected, p.inExpected = laid(expected, all, p.erased)
	p.found, p.inFound = laid(found, all, p.erased)
	return p
}

// laid lays what an image has in spans in a row, and tells which bytes it has. What an image
// has in one piece anyway is not copied: it must not be changed.
func laid(m *memory.Image, spans []memory.Span, erased byte) (data []byte, in present) {
	if len(spans) == 1 {
		for r := range m.In(spans[0]) {
			if r.Span() == spans[0] {
				return r.Data, nil
			}
			break
		}
	}
	n := memory.SizeOf(spans)
	data, in = make([]byte, n), make(present, (n+63)/64)
	for i := range data {
		data[i] = erased
	}
	at := 0
	for _, s := range spans {
		for r := range m.In(s) {
			k := at + int(r.First-s.First)
			copy(data[k:], r.Data)
			in.add(k, len(r.Data))
		}
		at += int(s.Size())
	}
	return data, in
}

// present says of places in a row whether there is a byte; nil is of all.
type present []uint64

func (p present) has(i int) bool { return p == nil || p[i>>6]>>(i&63)&1 != 0 }

// add notes that there are n bytes from a place on.
func (p present) add(at, n int) {
	for end := at + n; at < end; {
		if at&63 == 0 && end-at >= 64 {
			p[at>>6] = ^uint64(0)
			at += 64
			continue
		}
		p[at>>6] |= 1 << (at & 63)
		at++
	}
}

// stretchOf returns the stretch that a place lies in.
func (p *pair) stretchOf(i int) *stretch { return &p.stretches[p.stretchIndex(i)] }

func (p *pair) stretchIndex(i int) int {
	return sort.Search(len(p.stretches), func(k int) bool { return p.stretches[k].at > i }) - 1
}

// address returns the address of a place.
func (p *pair) address(i int) uint64 {
	s := p.stretchOf(i)
	return s.first + uint64(i-s.at)
}

// place returns where an address lies; below 0 is nowhere.
func (p *pair) place(a uint64) int {
	s := &p.stretches[0]
	if a-s.first >= uint64(s.size) { // most images are one stretch
		k := sort.Search(len(p.stretches), func(k int) bool { return p.stretches[k].first > a }) - 1
		if k < 0 {
			return -1
		}
		if s = &p.stretches[k]; a-s.first >= uint64(s.size) {
			return -1
		}
	}
	return s.at + int(a-s.first)
}

// foretold is what the found image should be, by the damages told so far.
type foretold struct {
	*pair
	now []byte // it may be the image's own: never written to

	fitting []*fitted // what fits, once it was tried
	tried   bool
	// Where differences are, and what may belong to them; and whether that is a small part
	// of all, so that no damage can have acted everywhere.
	from, to int
	local    bool
	odd      int // places that differ
}

// reach returns where a range can lie that explains differences: not far from these; and
// whether they touch only a small part of the bytes that are not erased.
func (s *foretold) reach() (from, to int, local bool) {
	const margin, share = 4096, 8 // a damage everywhere touches more than an eighth
	from, to = len(s.now), 0
	s.eachDiffering(func(i int) { from, to = min(from, i), i+1 })
	inside := s.unerased(from, to)
	all := s.unerased(0, from) + inside + s.unerased(to, len(s.now))
	if inside >= all/share {
		return 0, len(s.now), false
	}
	return max(from-margin, 0), min(to+margin, len(s.now)), true
}

// unerased counts places of a range that are not erased on both sides.
func (s *foretold) unerased(from, to int) (n int) {
	if from >= to {
		return 0
	}
	found := s.found[from:to]
	for i, b := range s.now[from:to] {
		if b != s.erased || found[i] != s.erased {
			n++
		}
	}
	return n
}

func (p *pair) begin() *foretold { return &foretold{pair: p, now: p.expected} }

func clone[T any](list []T) []T { return append(make([]T, 0, len(list)), list...) }

// differing returns how many bytes are not as foretold, and in how many runs.
func (s *foretold) differing() (bytes, runs int) {
	before := -2
	s.eachDiffering(func(i int) {
		bytes++
		if i != before+1 {
			runs++
		}
		before = i
	})
	return bytes, runs
}

// eachDiffering goes through the places that are not as foretold; most blocks are equal.
func (s *foretold) eachDiffering(do func(i int)) {
	s.eachBlock(func(at, end int, equal bool) {
		if equal {
			return
		}
		for i := at; i < end; i++ {
			if s.now[i] != s.found[i] {
				do(i)
			}
		}
	})
}

// eachBlock goes through blocks of places, and says whether all of one are as foretold.
func (s *foretold) eachBlock(do func(at, end int, equal bool)) {
	const block = 4 << 10
	for at := 0; at < len(s.now); at += block {
		end := min(at+block, len(s.now))
		do(at, end, string(s.now[at:end]) == string(s.found[at:end]))
	}
}

// common returns how many places both images have, and how many of these are not as foretold.
func (s *foretold) common() (both, differ int) {
	has := func(i int) bool { return s.inFound.has(i) && s.inExpected.has(i) }
	if s.inFound == nil && s.inExpected == nil {
		both = len(s.now)
	} else {
		for i := range s.now {
			if has(i) {
				both++
			}
		}
	}
	s.eachDiffering(func(i int) {
		if has(i) {
			differ++
		}
	})
	return both, differ
}

// restCost is how many bits it takes to tell differences one by one.
func (p *pair) restCost(bytes, runs int) float64 {
	if bytes == 0 {
		return 0
	}
	return 8*float64(bytes) + float64(runs)*(p.log-math.Log2(float64(runs))+2)
}
