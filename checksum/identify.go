package checksum

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"math"
	"slices"
	"sync"

	"mexalt/memory"
	"mexalt/source"
)

// Pair is an image and the value that the other side computes for it.
type Pair struct {
	Image *memory.Image
	Value Value
	Place *memory.Span // where the image holds the value; nil where that is not known
}

// Query is a search for the way in which values were computed.
type Query struct {
	Pairs []Pair
	// Spans are those over which the values may have been computed, by the
	// names that they go by; for each pair its own.
	Spans    []NamedSpans
	Pages    []uint64 // sizes of pages to which a span may have been filled up
	Erased   byte     // what an erased byte reads as
	Cores    int
	Progress *source.Progress // told how many ways are tried; nil is nobody
}

// NamedSpans is one span for each pair, and the text that names it for the
// first.
type NamedSpans struct {
	Text  string
	Spans []memory.Span
}

// Hit is a way of computing that gives all the values.
type Hit struct {
	Kind  *Kind
	Order memory.Order // of the value's bytes: Big where it was given as it is
	// Settings are those that reproduce it: kind, in, slot, holes, swap.
	Settings []source.Setting
	// Chance is how many hits among all that was tried for values of this
	// length would be expected if none of them were the right one.
	Chance float64

	oddity int // how far it is from the usual
	tried  int // of how many its chance is
}

// variant is one way of feeding the images.
type variant struct {
	settings []source.Setting
	feeds    []Feed // for each pair
	rarity   int
}

// Identify searches the known algorithms, byte orders, and ways of feeding for
// those that give the values. The hits come the most usual first. tried is how
// many ways were tried for values of the length given. A context that ends leaves off.
func Identify(ctx context.Context, q Query) (hits []Hit, tried int) {
	if len(q.Pairs) == 0 {
		return nil, 0
	}
	size := len(q.Pairs[0].Value)
	var kinds []*Kind
	for _, k := range append(slices.Clone(Kinds()), variations()...) {
		if k.Size() == size {
			kinds = append(kinds, k)
		}
	}
	// Many ways come to the same bytes; the most usual is tried for all.
	seen := map[uint64]bool{}
	seed, room := maphash.MakeSeed(), &layout{}
	var todo []variant
	variants := q.variants()
	slices.SortStableFunc(variants, func(a, b variant) int { return cmp.Compare(a.rarity, b.rarity) })
	q.Progress.Begin("laying out the bytes", "ways", int64(len(variants)))
	for _, v := range variants {
		if ctx.Err() != nil {
			return nil, 0
		}
		q.Progress.Add(1)
		var h maphash.Hash
		h.SetSeed(seed)
		ok := q.lay(v, room, func(data []byte) {
			fmt.Fprintf(&h, "%d ", len(data))
			h.Write(data)
		})
		if ok && len(room.data[0]) > 0 && !seen[h.Sum64()] {
			seen[h.Sum64()] = true
			todo = append(todo, v)
		}
	}
	q.Progress.Begin(fmt.Sprintf("trying values of %d bytes", size), "ways", int64(len(todo)*len(kinds)))
	results := make([][]Hit, len(todo))
	var wait sync.WaitGroup
	next := make(chan int)
	for range max(q.Cores, 1) {
		wait.Go(func() {
			room := &layout{}
			for i := range next {
				q.lay(todo[i], room, func([]byte) {})
				results[i] = q.try(kinds, todo[i], room.data)
			}
		})
	}
	for i := range todo {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	wait.Wait()
	tried = len(todo) * len(kinds)
	for _, r := range results {
		for _, h := range r {
			h.Chance, h.tried = h.Kind.chance(tried, len(q.Pairs)), tried
			hits = append(hits, h)
		}
	}
	slices.SortStableFunc(hits, func(a, b Hit) int { return cmp.Compare(a.oddity, b.oddity) })
	return hits, tried
}

// layout is room in which the bytes of one way are laid out, for each pair.
type layout struct {
	data    [][]byte // of the image, or of a buffer
	buffers [][]byte
}

// lay lays out what a way feeds of each pair; ok is false where it cannot feed all.
func (q *Query) lay(v variant, room *layout, each func(data []byte)) (ok bool) {
	room.data = room.data[:0]
	for i := range v.feeds {
		if len(room.buffers) == i {
			room.buffers = append(room.buffers, nil)
		}
		data, copied, err := v.feeds[i].into(room.buffers[i], q.Pairs[i].Image)
		if err != nil {
			return false
		}
		if copied {
			room.buffers[i] = data
		}
		each(data)
		room.data = append(room.data, data)
	}
	return len(room.data) == len(q.Pairs)
}

// try computes all algorithms over data. CRCs that differ only in what the
// register holds at first and at the end are computed once: what a first value
// adds depends on the length alone.
func (q *Query) try(kinds []*Kind, v variant, data [][]byte) []Hit {
	plain := map[tableKey]uint64{} // the held register, begun at 0, over the first pair
	value := func(k *Kind, i int) Value {
		if k.CRC == nil || i > 0 {
			return k.Sum(1, data[i])
		}
		c := *k.CRC
		key := tableKey{c.Width, c.Poly, c.RefIn}
		held, ok := plain[key]
		if !ok {
			held = c.updater()(0, data[0])
			plain[key] = held
		}
		return number(c.end(held^c.shift(c.begin(), uint64(len(data[0])))), c.Width)
	}
	var hits []Hit
	for rank, k := range kinds {
		q.Progress.Add(1)
		if k.Word == 1 && v.feeds[0].Word > 1 {
			continue // the order of bytes makes no difference
		}
		if k.Word > 1 && slices.ContainsFunc(data, func(d []byte) bool { return len(d)%k.Word != 0 }) {
			continue
		}
		for _, o := range []memory.Order{memory.Big, memory.Little} {
			if o == memory.Little && (k.Size() == 1 || k.Group == "digest") {
				continue
			}
			all := true
			for i, p := range q.Pairs {
				stored, err := value(k, i).Stored(o, 0)
				if all = err == nil && bytes.Equal(stored, p.Value); !all {
					break
				}
			}
			if !all {
				continue
			}
			settings := append([]source.Setting{{Key: "kind", Value: k.Name}}, v.settings...)
			hits = append(hits, Hit{Kind: k, Order: o, Settings: settings, oddity: v.rarity*4 + k.oddity(rank)})
		}
	}
	return hits
}

func hexByte(b byte) string { return fmt.Sprintf("%02X", b) }

// oddity is how unusual an algorithm is, by its place among all.
func (k *Kind) oddity(rank int) int {
	odd := rank / 64
	if k.Group != "CRC" && k.Group != "digest" {
		odd++
	}
	if len(k.Aliases) == 0 {
		odd++
	}
	return odd
}

// chance is how many hits are expected among so many ways tried, for values of so many images,
// if none of them is the right one.
func (k *Kind) chance(tried, pairs int) float64 {
	orders := 2.0
	if size := k.Size(); size == 1 || size > mostNumber {
		orders = 1
	}
	return float64(tried) * orders * math.Pow(2, -float64(k.Bits*pairs))
}

// variants lists the ways of feeding: the spans, and these with their ends
// moved by the usual suspects, each with all that the place of the value, holes
// and words may count as.
func (q *Query) variants() []variant {
	var list []variant
	for _, s := range q.Spans {
		list = append(list, q.feeding(s.Text, s.Spans, 0)...)
		if spans, ok := q.each(s, before); ok {
			list = append(list, q.feeding(spans[0].Range(), spans, 1)...)
		}
		if spans, ok := q.each(s, after); ok {
			list = append(list, q.feeding(spans[0].Range(), spans, 2)...)
		}
		for _, upTo := range []bool{false, true} { // trailing erased bytes, of all, or of what stands before the value
			if trimmed, ok := q.each(s, func(p Pair, s memory.Span) (memory.Span, bool) {
				if upTo {
					var ok bool
					if s, ok = before(p, s); !ok {
						return s, false
					}
				}
				return q.trim(p.Image, s)
			}); ok {
				list = append(list, q.feeding(trimmed[0].Range(), trimmed, 2)...)
			}
		}
		for _, page := range q.Pages {
			if paged, ok := q.each(s, func(p Pair, s memory.Span) (memory.Span, bool) {
				first, last := s.First-s.First%page, s.Last-s.Last%page+(page-1)
				return memory.Span{First: first, Last: last}, last >= s.Last && (first != s.First || last != s.Last)
			}); ok {
				list = append(list, q.feeding(paged[0].Range(), paged, 3)...)
			}
		}
	}
	return list
}

// each changes a span for all pairs; ok is false where it does not apply to
// one of them.
func (q *Query) each(s NamedSpans, change func(Pair, memory.Span) (memory.Span, bool)) (spans []memory.Span, ok bool) {
	for i, p := range q.Pairs {
		changed, ok := change(p, s.Spans[i])
		if !ok {
			return nil, false
		}
		spans = append(spans, changed)
	}
	return spans, true
}

// trim cuts off erased bytes and holes at a span's end.
func (q *Query) trim(m *memory.Image, s memory.Span) (memory.Span, bool) {
	last, found := uint64(0), false
	for r := range m.In(s) {
		for i := len(r.Data) - 1; i >= 0; i-- {
			if r.Data[i] != q.Erased {
				last, found = r.First+uint64(i), true
				break
			}
		}
	}
	return memory.Span{First: s.First, Last: last}, found && last != s.Last
}

// plausibleHoles is how many bytes of holes someone may feed, however little data there is.
const plausibleHoles = 64 << 10

// feeding lists the ways of feeding spans. Spans that are holes for the most
// part, as between two memories, are fed by nobody.
func (q *Query) feeding(text string, spans []memory.Span, rarity int) []variant {
	var list []variant
	inside, holes := false, false
	for i, p := range q.Pairs {
		if held := p.Image.Count(spans[i]); spans[i].Size()-held > max(held, plausibleHoles) {
			return nil
		}
		if p.Place != nil {
			if _, ok := spans[i].Meet(*p.Place); ok {
				inside = true
			}
		}
		holes = holes || p.Image.Count(spans[i]) < spans[i].Size()
	}
	type rule struct {
		value  string // of the key that says it; "" is unsaid
		rarity int
		apply  func(*Feed)
	}
	unsaid := []rule{{apply: func(*Feed) {}}}
	slots, fillings := unsaid, unsaid
	if inside {
		slots = []rule{
			{"skip", 1, func(f *Feed) { f.Slot = SlotSkip }},
			{"zero", 1, func(f *Feed) { f.Slot = SlotZero }},
			{"erased", 1, func(f *Feed) { f.Slot = SlotErased }},
		}
	}
	if holes {
		erased, zero := q.Erased, byte(0)
		fillings = []rule{
			{hexByte(erased), 0, func(f *Feed) { f.Hole = &erased }},
			{"00", 1, func(f *Feed) { f.Hole = &zero }},
		}
	}
	for _, slot := range slots {
		for _, filling := range fillings {
			for _, word := range []int{1, 2, 4, 8} {
				v := variant{settings: []source.Setting{{Key: "in", Value: text}}, rarity: rarity + slot.rarity + filling.rarity}
				set := func(key, value string) { v.settings = append(v.settings, source.Setting{Key: key, Value: value}) }
				if slot.value != "" {
					set("slot", slot.value)
				}
				if filling.value != "" {
					set("holes", filling.value)
				}
				if word > 1 {
					set("swap", fmt.Sprint(word))
					v.rarity += 2
				}
				for i, p := range q.Pairs {
					f := Feed{Spans: []memory.Span{spans[i]}, Word: word, Place: p.Place, Erased: q.Erased}
					slot.apply(&f)
					filling.apply(&f)
					v.feeds = append(v.feeds, f)
				}
				list = append(list, v)
			}
		}
	}
	return list
}

// variations returns the catalogued polynomials with the inits and xorouts, 0
// or all ones, with which none is catalogued.
var variations = sync.OnceValue(func() []*Kind {
	known := map[CRC]bool{}
	type family struct {
		width   int
		poly    uint64
		in, out bool
	}
	var families []family
	seen := map[family]bool{}
	for _, e := range entries() {
		c := e.params
		known[c] = true
		f := family{c.Width, c.Poly, c.RefIn, c.RefOut}
		if !seen[f] {
			seen[f] = true
			families = append(families, f)
		}
	}
	var list []*Kind
	for _, f := range families {
		ones := CRC{Width: f.width}.mask()
		for _, init := range []uint64{0, ones} {
			for _, xorOut := range []uint64{0, ones} {
				c := CRC{Width: f.width, Poly: f.poly, RefIn: f.in, RefOut: f.out, Init: init, XorOut: xorOut}
				if !known[c] {
					list = append(list, c.kind(c.String()))
				}
			}
		}
	}
	return list
})
