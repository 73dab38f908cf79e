package device

import (
	"fmt"
	"slices"

	"mexalt/checksum"
	"mexalt/memory"
)

// Spec is how a declared checksum is computed over one image.
type Spec struct {
	Kind  *checksum.Kind
	Feed  checksum.Feed
	Place *memory.Span // where the value is stored
	Order memory.Order
}

// Spec returns how the checksum is computed over an image, which may say itself
// how far it goes and where the value is stored. Where it says what cannot be, or
// nothing, that is an error.
func (d *Checksum) Spec(m *Map, image *memory.Image) (*Spec, error) {
	in := d.In
	switch {
	case d.Length != nil:
		n, err := d.Length.read(image, "the length")
		if err != nil {
			return nil, err
		}
		s, ok := memory.SpanOf(in[0].First, n)
		if !ok || !in[0].Covers(s) {
			return nil, fmt.Errorf("the length at %s says %s, which %s does not have", memory.FormatAddress(d.Length.At),
				memory.FormatBytes(n), in[0])
		}
		in = []memory.Span{s}
	case d.End != nil:
		last, err := d.End.read(image, "the end")
		if err != nil {
			return nil, err
		}
		if !in[0].Contains(last) {
			return nil, fmt.Errorf("the end at %s says %s, which is outside %s", memory.FormatAddress(d.End.At),
				memory.FormatAddress(last), in[0])
		}
		in = []memory.Span{{First: in[0].First, Last: last}}
	}
	at := d.At
	if d.behind != nil {
		at = in[0].Last + *d.behind
	}
	if d.Place != nil {
		var err error
		if at, err = d.Place.read(image, "the place"); err != nil {
			return nil, err
		}
	}
	place, ok := memory.SpanOf(at, d.Size)
	if mem := m.MemoryAt(at); !ok || mem == nil || !mem.Span.Covers(place) {
		return nil, fmt.Errorf("the value's place %s is not in one memory", memory.FormatAddress(at))
	}
	erased := m.ErasedAt(at)
	s := &Spec{
		Kind:  d.Kind,
		Place: &place,
		Order: memory.Order(d.Order),
		Feed:  checksum.Feed{Spans: in, Skip: d.Skip, Hole: d.Hole, Word: d.Swap, Erased: erased},
	}
	if s.Feed.Hole == nil {
		s.Feed.Hole = &erased
	}
	if covers(in, d.Skip, place) {
		if d.Slot == "" {
			return nil, fmt.Errorf("the value's place %s is inside the span %s that it is computed over", place.Range(), in[0])
		}
		s.Feed.Place, s.Feed.Slot = &place, checksum.Slot(slices.Index(checksum.SlotWords, d.Slot))
	}
	if len(s.Feed.Parts()) == 0 {
		return nil, fmt.Errorf("it is computed over nothing: all of %s is left out", memory.FormatSpans(in))
	}
	return s, nil
}

// Behind returns how far behind the last address fed the value is stored, where it
// moves with that; 0 is that it does not.
func (d *Checksum) Behind() uint64 {
	if d.behind == nil {
		return 0
	}
	return *d.behind
}

// RankIn returns the rank of the region that is guarded, as an image has it; 0 where
// the map names none, or the image does not hold it.
func (d *Checksum) RankIn(image *memory.Image) uint64 {
	if d.Rank == nil {
		return 0
	}
	n, err := d.Rank.read(image, "the rank")
	if err != nil {
		return 0
	}
	return n
}

// read returns the number as the image holds it, with the offset.
func (f *FieldAt) read(image *memory.Image, what string) (uint64, error) {
	b := make([]byte, f.Width)
	if !image.ReadAt(b, f.At) {
		return 0, fmt.Errorf("%s is at %s, and the image does not contain it", what, f.Span().Range())
	}
	n := f.Order.Number(b)
	sum := n + uint64(f.Offset)
	if f.Offset < 0 && sum > n || f.Offset > 0 && sum < n {
		return 0, fmt.Errorf("%s at %s is 0x%X, which with %+d is not an address", what, f.Span().Range(), n, f.Offset)
	}
	return sum, nil
}

// Compute returns the value, and its bytes as they are stored.
func (s *Spec) Compute(m *memory.Image, cores int) (checksum.Value, []byte, error) {
	value, err := s.Feed.Sum(s.Kind, m, cores)
	if err != nil {
		return nil, nil, err
	}
	stored, err := value.Stored(s.Order, int(s.Place.Size()))
	return value, stored, err
}

// Vectors reads the initial stack and the reset target of vectors; ok is false
// where the image does not hold them.
func (s *Start) Vectors(m *memory.Image) (stack, target uint64, ok bool) {
	b := make([]byte, 2*s.Width)
	if !m.ReadAt(b, s.At) {
		return 0, 0, false
	}
	stack, target = s.VectorsOf(b)
	return stack, target, true
}

// VectorsOf returns the initial stack and the reset target that stand in a table.
func (s *Start) VectorsOf(b []byte) (stack, target uint64) {
	if s.Width == 2 {
		return s.Order.Number(b[:2]), s.Order.Number(b[2:4])
	}
	return s.Order.Number(b[:4]), s.Order.Number(b[4:8])
}

// StartAddresses returns the addresses at which the map says that an image
// starts, so far as it does: of vectors, the target with and without the bit
// that chooses the instruction set.
func (m *Map) StartAddresses(image *memory.Image) (list []uint64) {
	if r := m.Region(m.Enters); r != nil {
		return []uint64{r.Span.First}
	}
	for i := range m.Starts {
		s := &m.Starts[i]
		if s.Kind == StartInstruction {
			list = append(list, s.At)
		} else if _, target, ok := s.Vectors(image); ok {
			list = append(list, target, target&^1)
		}
	}
	return list
}
