package checksum

import (
	"bytes"
	"context"
	"math/bits"
	"slices"

	"mexalt/memory"
	"mexalt/source"

	"golang.org/x/sync/errgroup"
)

// cut is a part of data: from a first byte on, up to one before the end.
type cut struct {
	from, to int
	rarity   int
	length   *lengthField // the end is where this says; nil is a number of bytes before the end of all
}

// lengthField is a number in the data that says how long what is covered is.
type lengthField struct {
	at, width int
	order     memory.Order
	whole     bool // it counts from the beginning of all data, and not from the cut
}

// end returns where a cut ends in other data; ok is false where it does not fit there.
func (c *cut) end(size int, data []byte) (to int, ok bool) {
	if c.length == nil {
		to = len(data) - (size - c.to)
		return to, to > c.from
	}
	to = c.length.read(data)
	if !c.length.whole {
		to += c.from
	}
	return to, to > c.from && to <= len(data)
}

func (f *lengthField) read(data []byte) int {
	if f.at+f.width > len(data) {
		return 0
	}
	return int(wordOf(data[f.at:f.at+f.width], f.order == memory.Big))
}

const (
	mostHeader  = 512 // bytes of a header before what is covered
	mostTrailer = 128 // bytes after it
	shortHeader = 64
	leastOdd    = 5 // how unusual a cut is, at least
	// mostGoneThrough is how many bytes an algorithm goes through for parts whose length is in
	// the data, where it cannot do with going through all of it once.
	mostGoneThrough = 256 << 20
)

// headers are how long a header may be.
func headers(size int) (list []int) {
	for h := 0; h <= min(mostHeader, size-1); h += 4 {
		if h <= 128 || h%16 == 0 || h > mostHeader-16 || h >= 248 && h <= 260 {
			list = append(list, h)
		}
	}
	return list
}

// cuts are the parts of data that leave out a header, a trailer or both, and those of which
// a number in the header is the length. few are those that are tried of slow algorithms.
func cuts(data []byte) (all, few []cut) {
	size := len(data)
	usual := func(n int) int { // lengths that are powers of two are more usual
		if n&(n-1) == 0 {
			return 0
		}
		return 1
	}
	seen := map[[2]int]bool{{0, size}: true} // all of it is tried anyway
	add := func(c cut) {
		if key := [2]int{c.from, c.to}; c.to > c.from && !seen[key] {
			seen[key] = true
			all = append(all, c)
		}
	}
	starts := headers(size)
	for _, h := range starts {
		for e := 0; e <= mostTrailer && e < size-h; e++ {
			if e > 4 && e%4 != 0 {
				continue
			}
			c := cut{from: h, to: size - e, rarity: leastOdd + usual(h)}
			if e > 0 {
				c.rarity += 1 + usual(e)
			}
			add(c)
			if e == 0 && h <= shortHeader || (e == 0 || e >= 4 && usual(e) == 0) && usual(h) == 0 {
				few = append(few, c)
			}
		}
	}
	const plausible = 2 // what is covered is at least such a part of all
	for at := 0; at < min(mostHeader, size); at += 2 {
		for _, width := range []int{2, 4} {
			for _, order := range []memory.Order{memory.Little, memory.Big} {
				f := &lengthField{at, width, order, false}
				n := f.read(data)
				if n < size/plausible || n > size {
					continue
				}
				for _, h := range starts {
					if h != 0 && h < at+width || h > shortHeader && usual(h) > 0 && h != at+width {
						continue
					}
					rarity := leastOdd + 1 + usual(h)
					if at%width != 0 || at >= shortHeader {
						rarity++
					}
					add(cut{from: h, to: min(h+n, size+1), rarity: rarity, length: f})
					add(cut{from: h, to: n, rarity: rarity, length: &lengthField{at, width, order, true}})
				}
			}
		}
	}
	all = slices.DeleteFunc(all, func(c cut) bool { return c.to > size })
	slices.SortStableFunc(all, func(a, b cut) int { return a.rarity - b.rarity })
	left := mostGoneThrough
	for _, c := range all {
		if left -= c.to - c.from; c.length != nil && left >= 0 {
			few = append(few, c)
		}
	}
	return all, few
}

// Cut searches parts of the spans that leave out a header of up to 512 bytes, up to 128 bytes
// at the end, or that have their length in their header.
func (q *Query) Cut(ctx context.Context) (hits []Hit, tried int) {
	const most = 3 // spans; more are pieces of the first
	var kinds []*Kind
	size := len(q.Pairs[0].Value)
	for _, k := range append(slices.Clone(Kinds()), variations()...) {
		if k.Size() == size {
			kinds = append(kinds, k)
		}
	}
	seen := map[memory.Span]bool{}
	for _, s := range q.Spans[:min(len(q.Spans), most)] {
		for _, change := range []func(Pair, memory.Span) (memory.Span, bool){
			func(_ Pair, s memory.Span) (memory.Span, bool) { return s, true }, before, after,
		} {
			spans, ok := q.each(s, change)
			if !ok || seen[spans[0]] || ctx.Err() != nil {
				continue
			}
			seen[spans[0]] = true
			more, n := q.cutSpans(ctx, kinds, spans)
			hits, tried = append(hits, more...), tried+n
		}
	}
	return hits, tried
}

// before is what a span has before the place of the value, after what it has after it.
func before(p Pair, s memory.Span) (memory.Span, bool) {
	if p.Place == nil || p.Place.First <= s.First || p.Place.First > s.Last {
		return s, false
	}
	return memory.Span{First: s.First, Last: p.Place.First - 1}, true
}

func after(p Pair, s memory.Span) (memory.Span, bool) {
	if p.Place == nil || p.Place.Last < s.First || p.Place.Last >= s.Last {
		return s, false
	}
	return memory.Span{First: p.Place.Last + 1, Last: s.Last}, true
}

// cutSpans searches the parts of one span of each image.
func (q *Query) cutSpans(ctx context.Context, kinds []*Kind, spans []memory.Span) (hits []Hit, tried int) {
	var data [][]byte
	holes := false
	for i, p := range q.Pairs {
		count, size := p.Image.Count(spans[i]), spans[i].Size()
		if size-count > max(count, plausibleHoles) {
			return nil, 0
		}
		holes = holes || count < size
		f := Feed{Spans: []memory.Span{spans[i]}, Hole: &q.Erased}
		pieces, err := f.Bytes(p.Image)
		if err != nil {
			return nil, 0
		}
		data = append(data, flat(pieces))
	}
	all, few := cuts(data[0])
	var bounds []int
	for _, c := range all {
		bounds = append(bounds, c.from, c.to)
	}
	slices.Sort(bounds)
	bounds = slices.Compact(bounds)
	q.Progress.Begin("trying parts of "+spans[0].Range(), "ways", int64(len(kinds)))
	// CRCs that differ only in their first register and at the end are one group: their
	// registers are computed once.
	groups := map[tableKey][]int{}
	var order []tableKey
	for i, k := range kinds {
		key := tableKey{poly: uint64(i)} // by itself
		if k.CRC != nil {
			key = tableKey{k.CRC.Width, k.CRC.Poly, k.CRC.RefIn}
		}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], i)
	}
	big, little := wordOf(q.Pairs[0].Value, true), wordOf(q.Pairs[0].Value, false)
	found := make([][]Hit, len(kinds))
	counts := make([]int, len(kinds))
	q.parallel(len(order), func(g int) {
		group := groups[order[g]]
		first := kinds[group[0]]
		values, list := cutValues(first, data[0], bounds), all
		if values == nil {
			list = few
		}
		defer q.Progress.Add(int64(len(group)))
		for j := range list {
			c := &list[j]
			if ctx.Err() != nil {
				return
			}
			if first.Word > 1 && (c.from%first.Word != 0 || (c.to-c.from)%first.Word != 0) {
				continue
			}
			var of func(k *Kind) uint64
			if values != nil {
				of = values(c)
			}
			for _, i := range group {
				counts[i]++
				k := kinds[i]
				var v Value
				if of != nil {
					n := of(k)
					if n != big && n != little { // most are not
						continue
					}
					v = number(n, k.Bits)
				} else {
					v = k.Sum(1, data[0][c.from:c.to])
				}
				for _, order := range q.matches(k, v) {
					if q.others(k, c, order, data) {
						found[i] = append(found[i], q.cutHit(k, i, c, order, spans[0], holes))
					}
				}
			}
		}
	})
	for i := range found {
		hits, tried = append(hits, found[i]...), tried+counts[i]
	}
	return hits, tried
}

// parallel does something n times, on all cores.
func (q *Query) parallel(n int, do func(i int)) {
	var group errgroup.Group
	group.SetLimit(max(q.Cores, 1))
	for i := range n {
		group.Go(func() error {
			do(i)
			return nil
		})
	}
	group.Wait()
}

// cutValues returns what computes the values of a part of data, for algorithms that differ from
// one in the register at first and at the end alone; nil where all of the part has to be gone
// through. The bounds of parts are sorted.
func cutValues(k *Kind, data []byte, bounds []int) func(c *cut) func(*Kind) uint64 {
	switch {
	case k.CRC != nil:
		shared := CRC{Width: k.CRC.Width, Poly: k.CRC.Poly, RefIn: k.CRC.RefIn}
		row := make([]uint64, len(bounds)) // the register, begun at 0, up to each
		update := shared.updater()
		held, at := uint64(0), 0
		for i, b := range bounds {
			held = update(held, data[at:b])
			row[i], at = held, b
		}
		factors := map[int]uint64{} // by the length of a part
		return func(c *cut) func(*Kind) uint64 {
			i, _ := slices.BinarySearch(bounds, c.from)
			j, _ := slices.BinarySearch(bounds, c.to)
			factor, ok := factors[c.to-c.from]
			if !ok {
				factor = shared.zeros(uint64(c.to - c.from))
				factors[c.to-c.from] = factor
			}
			alone := row[j] ^ shared.times(row[i], factor)
			return func(k *Kind) uint64 { return k.CRC.end(alone ^ shared.times(k.CRC.begin(), factor)) }
		}
	case k.total != nil:
		row := make([]uint64, len(bounds)) // what words add up to before each that they end at
		total, at := uint64(0), 0
		for i, b := range bounds {
			if b%max(k.Word, 1) == 0 {
				total = k.rest(total, k.rest(0, k.total(data[at:b])))
				at = b
			}
			row[i] = total
		}
		return func(c *cut) func(*Kind) uint64 {
			i, _ := slices.BinarySearch(bounds, c.from)
			j, _ := slices.BinarySearch(bounds, c.to)
			return func(k *Kind) uint64 { return k.value(k.rest(row[j], row[i])) }
		}
	}
	return nil
}

// matches returns the orders in which a value is the first image's.
func (q *Query) matches(k *Kind, v Value) (orders []memory.Order) {
	for _, o := range []memory.Order{memory.Big, memory.Little} {
		if o == memory.Little && (k.Size() == 1 || k.Group == "digest") {
			continue
		}
		if stored, err := v.Stored(o, 0); err == nil && bytes.Equal(stored, q.Pairs[0].Value) {
			orders = append(orders, o)
		}
	}
	return orders
}

// others reports whether the other images agree.
func (q *Query) others(k *Kind, c *cut, o memory.Order, data [][]byte) bool {
	for i, p := range q.Pairs[1:] {
		to, ok := c.end(len(data[0]), data[i+1])
		if !ok {
			return false
		}
		if stored, err := k.Sum(1, data[i+1][c.from:to]).Stored(o, 0); err != nil || !bytes.Equal(stored, p.Value) {
			return false
		}
	}
	return true
}

func (q *Query) cutHit(k *Kind, rank int, c *cut, o memory.Order, s memory.Span, holes bool) Hit {
	part := memory.Span{First: s.First + uint64(c.from), Last: s.First + uint64(c.to) - 1}
	settings := []source.Setting{{Key: "kind", Value: k.Name}, {Key: "in", Value: part.Range()}}
	if holes {
		settings = append(settings, source.Setting{Key: "holes", Value: hexByte(q.Erased)})
	}
	return Hit{Kind: k, Order: o, Settings: settings, oddity: k.oddity(rank) + 4*c.rarity + bits.Len(uint(c.from))/8}
}
