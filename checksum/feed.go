package checksum

import (
	"fmt"
	"slices"

	"mexalt/memory"
	"mexalt/source"
)

// Slot says what the place of the stored value counts as where it lies inside
// the span that the value is computed over.
type Slot uint8

const (
	// SlotUnsaid makes such a place an error.
	SlotUnsaid Slot = iota
	// SlotSkip leaves the place out.
	SlotSkip
	// SlotZero takes it as zeros.
	SlotZero
	// SlotErased takes it as erased bytes.
	SlotErased
)

// SlotWords are the words for the rules, in their order.
var SlotWords = []string{"", "skip", "zero", "erased"}

// Feed says which bytes of an image an algorithm is fed, and how.
type Feed struct {
	Spans  []memory.Span // in this order
	Skip   []memory.Span // left out wherever they lie in the spans
	Hole   *byte         // what holes count as; nil makes them an error
	Word   int           // 2, 4 or 8: the bytes of each word are fed in reverse order
	Place  *memory.Span  // where the value is stored; nil is nowhere
	Slot   Slot          // what that place counts as inside the spans
	Erased byte          // what an erased byte reads as
}

// HolesError says that a span to be fed has holes.
type HolesError struct {
	Holes []memory.Span
}

func (e *HolesError) Error() string {
	const most = 8
	text := "there are no bytes at "
	for i, h := range e.Holes[:min(len(e.Holes), most)] {
		if i > 0 {
			text += ", "
		}
		text += h.String()
	}
	if more := len(e.Holes) - most; more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return text
}

// SlotError says that the value's own place lies inside a span to be fed.
type SlotError struct {
	Place, Span memory.Span
}

func (e *SlotError) Error() string { return e.Problem().Message(nil) }

// Problem returns the error with what to do.
func (e *SlotError) Problem() *source.Problem {
	return &source.Problem{
		What: fmt.Sprintf("storing the checksum at %s would change its value: the span %s covers that place", e.Place.Range(),
			e.Span.Range()),
		Advice: source.Advice{
			Text:  "end the span before it, or choose how to count its bytes",
			AnyOf: []source.Setting{{Key: "slot", Value: "skip"}, {Key: "slot", Value: "zero"}, {Key: "slot", Value: "erased"}},
		},
	}
}

// Size returns how many bytes are fed, whether the image holds them or not.
func (f *Feed) Size() uint64 {
	n := uint64(0)
	for _, s := range f.Parts() {
		n += s.Size()
	}
	return n
}

// Parts returns the spans without what is left out.
func (f *Feed) Parts() []memory.Span {
	out := f.Skip
	if f.Place != nil && f.Slot == SlotSkip {
		out = append(append([]memory.Span{}, out...), *f.Place)
	}
	if len(out) == 0 {
		return f.Spans
	}
	var parts []memory.Span
	for _, s := range f.Spans {
		parts = append(parts, memory.Without([]memory.Span{s}, out)...)
	}
	return parts
}

// Bytes returns what an algorithm is fed, in pieces; they belong to the image
// where they need no change.
func (f *Feed) Bytes(m *memory.Image) ([][]byte, error) {
	if f.Word > 1 {
		data, _, err := f.into(nil, m)
		if err != nil {
			return nil, err
		}
		return [][]byte{data}, nil
	}
	return f.chunks(m)
}

// into returns what an algorithm is fed in one piece; copied says that this needed a copy,
// which stands in the buffer or in one that took its place.
func (f *Feed) into(buffer []byte, m *memory.Image) (data []byte, copied bool, err error) {
	pieces, err := f.chunks(m)
	if err != nil {
		return nil, false, err
	}
	if f.Word <= 1 && len(pieces) == 1 {
		return pieces[0], false, nil
	}
	total := 0
	for _, p := range pieces {
		total += len(p)
	}
	data = slices.Grow(buffer[:0], total)
	for _, p := range pieces {
		data = append(data, p...)
	}
	if f.Word > 1 {
		if len(data)%f.Word != 0 {
			return nil, false, fmt.Errorf("the span has %d bytes, not a multiple of the word size %d", len(data), f.Word)
		}
		memory.SwapWords(data, data, f.Word)
	}
	return data, true, nil
}

// chunks returns what is fed, in the order of addresses.
func (f *Feed) chunks(m *memory.Image) (chunks [][]byte, err error) {
	parts := f.Parts()
	var slot []byte // what stands for the place of the value
	if f.Place != nil {
		for _, s := range parts {
			if _, ok := s.Meet(*f.Place); ok && f.Slot == SlotUnsaid {
				return nil, &SlotError{*f.Place, s}
			}
		}
		if f.Slot == SlotZero || f.Slot == SlotErased {
			slot = make([]byte, f.Place.Size())
			for i := range slot {
				if f.Slot == SlotErased {
					slot[i] = f.Erased
				}
			}
		}
	}
	var holes []memory.Span
	take := func(s memory.Span) error {
		if f.Hole == nil {
			holes = append(holes, m.Holes(s)...)
		} else if missing := s.Size() - m.Count(s); missing > memory.MostFilled {
			return fmt.Errorf("the holes in %s are more than %s", s, memory.FormatSize(memory.MostFilled))
		}
		if len(holes) > 0 {
			return nil
		}
		next, whole := s.First, false
		for r := range m.In(s) {
			chunks = appendHole(chunks, r.First-next, f.Hole)
			chunks = append(chunks, r.Data)
			next, whole = r.Last()+1, r.Last() == s.Last
		}
		if !whole {
			chunks = appendHole(chunks, s.Last-next+1, f.Hole)
		}
		return nil
	}
	for _, s := range parts {
		both, ok := memory.Span{}, false
		if slot != nil {
			both, ok = s.Meet(*f.Place)
		}
		if !ok {
			if err := take(s); err != nil {
				return nil, err
			}
			continue
		}
		if s.First < both.First {
			if err := take(memory.Span{First: s.First, Last: both.First - 1}); err != nil {
				return nil, err
			}
		}
		chunks = append(chunks, slot[:both.Size()])
		if s.Last > both.Last {
			if err := take(memory.Span{First: both.Last + 1, Last: s.Last}); err != nil {
				return nil, err
			}
		}
	}
	if len(holes) > 0 {
		return nil, &HolesError{holes}
	}
	return chunks, nil
}

// appendHole appends a hole's bytes, one block of them as often as needed.
func appendHole(pieces [][]byte, n uint64, hole *byte) [][]byte {
	if n == 0 || hole == nil {
		return pieces
	}
	const longest = 1 << 20
	block := make([]byte, min(n, longest))
	for i := range block {
		block[i] = *hole
	}
	for ; n > longest; n -= longest {
		pieces = append(pieces, block)
	}
	return append(pieces, block[:n])
}

// Sum computes a value of an image.
func (f *Feed) Sum(k *Kind, m *memory.Image, cores int) (Value, error) {
	pieces, err := f.Bytes(m)
	if err != nil {
		return nil, err
	}
	size := 0
	for _, p := range pieces {
		size += len(p)
	}
	if k.Word > 1 && size%k.Word != 0 {
		return nil, fmt.Errorf("the span has %d bytes, not a multiple of the word size %d, as %s takes them", size, k.Word, k.Name)
	}
	return k.Sum(cores, pieces...), nil
}

// Explain says what else would have given an expected value: the other byte
// order, or another rule for the value's place, for holes or for words. It
// returns the settings that do, each alone.
func (f *Feed) Explain(k *Kind, m *memory.Image, computed, expected Value, order memory.Order) []source.Setting {
	var settings []source.Setting
	reversed := slices.Clone(expected)
	slices.Reverse(reversed)
	if string(computed) == string(reversed) {
		settings = append(settings, source.Setting{Key: "order", Value: memory.OrderOf(order != memory.Big).String()})
	}
	try := func(key, value string, g Feed) {
		if v, err := g.Sum(k, m, 1); err == nil && string(v) == string(expected) {
			settings = append(settings, source.Setting{Key: key, Value: value})
		}
	}
	if f.Place != nil {
		for slot := SlotSkip; slot <= SlotErased; slot++ {
			g := *f
			if g.Slot = slot; slot != f.Slot {
				try("slot", SlotWords[slot], g)
			}
		}
	}
	for _, hole := range []byte{0xFF, 0x00} {
		g := *f
		if g.Hole = &hole; f.Hole != nil && *f.Hole != hole {
			try("holes", fmt.Sprintf("%02X", hole), g)
		}
	}
	for _, word := range []int{1, 2, 4, 8} {
		g := *f
		if g.Word = word; word != max(f.Word, 1) {
			try("swap", fmt.Sprint(word), g)
		}
	}
	return settings
}
