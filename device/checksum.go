package device

import (
	"encoding/binary"
	"slices"

	"mexalt/checksum"
	"mexalt/memory"
)

// Spec is how a declared checksum is computed.
type Spec struct {
	Kind  *checksum.Kind
	Feed  checksum.Feed
	Place *memory.Span // where the value is stored
	Order checksum.Order
}

// Spec returns how the checksum is computed; a kind that is not known is an
// error. Holes count as erased.
func (d *Checksum) Spec(m *Map) (*Spec, error) {
	k, err := checksum.KindOf(d.Kind)
	if err != nil {
		return nil, err
	}
	place, _ := memory.SpanOf(d.At, uint64(k.Size()))
	erased := m.ErasedAt(d.At)
	s := &Spec{Kind: k, Place: &place, Order: checksum.OrderOf(d.Order), Feed: checksum.Feed{Spans: []memory.Span{d.In}, Hole: &erased, Erased: erased}}
	if _, inside := d.In.Meet(place); inside {
		s.Feed.Place, s.Feed.Slot = &place, checksum.Slot(slices.Index(checksum.SlotWords, d.Slot))
	}
	return s, nil
}

// Compute returns the value, and its bytes as they are stored.
func (s *Spec) Compute(m *memory.Image, cores int) (checksum.Value, []byte, error) {
	value, err := s.Feed.Sum(s.Kind, m, cores)
	if err != nil {
		return nil, nil, err
	}
	stored, err := value.Stored(s.Order, 0)
	return value, stored, err
}

// Vectors reads the initial stack and the reset target at an address, as
// little-endian words of 32 bits; ok is false where the image does not hold
// them.
func Vectors(m *memory.Image, at uint64) (stack, target uint64, ok bool) {
	var b [8]byte
	if !m.ReadAt(b[:], at) {
		return 0, 0, false
	}
	return uint64(binary.LittleEndian.Uint32(b[:])), uint64(binary.LittleEndian.Uint32(b[4:])), true
}

// StartAddresses returns the addresses at which the map says that an image
// starts, so far as it does: of vectors, the target with and without the bit
// that chooses the instruction set.
func (m *Map) StartAddresses(image *memory.Image) []uint64 {
	switch m.Start.Kind {
	case StartInstruction:
		if r := m.Region(m.Enters); r != nil {
			return []uint64{r.Span.First}
		}
		return []uint64{m.Start.At}
	case StartVectors:
		if _, target, ok := Vectors(image, m.Start.At); ok {
			return []uint64{target, target &^ 1}
		}
	}
	return nil
}
