package memory

import (
	"sort"

	"mexalt/source"
)

// Origin says where a byte came from: the line of a record file, the offset
// in a raw file, or an operation.
type Origin struct {
	Input    *source.Input
	Position uint64
}

// String names the place: "boot.hex:12", "table.bin+0x40", "fill".
func (o Origin) String() string {
	if o.Input == nil {
		return "nowhere"
	}
	return o.Input.Place(o.Position)
}

// stretch gives the origin of size bytes from first on, as a rule: the byte
// at first+i stands at position pos + (phase+i)/each of the input. Records of
// each bytes on lines that follow one another thus take one stretch, however
// many they are. With each 0 all bytes stand at pos.
type stretch struct {
	first, size uint64
	in          *source.Input
	pos         uint64
	each, phase uint32
}

func (s *stretch) at(address uint64) Origin {
	pos := s.pos
	if s.each > 0 {
		pos += (uint64(s.phase) + address - s.first) / uint64(s.each)
	}
	return Origin{s.in, pos}
}

// cut returns the part of the stretch that lies in the span, which must meet it.
func (s *stretch) cut(to Span) stretch {
	part := *s
	both, _ := Span{s.first, s.first + s.size - 1}.Meet(to)
	part.first, part.size = both.First, both.Size()
	if s.each > 0 {
		skip := uint64(s.phase) + both.First - s.first
		part.pos += skip / uint64(s.each)
		part.phase = uint32(skip % uint64(s.each))
	}
	return part
}

// joinTrail appends next to a trail, as part of the trail's last stretch where
// the rule of that one holds for next too.
func joinTrail(trail []stretch, next stretch) []stretch {
	if n := len(trail); n > 0 {
		last := &trail[n-1]
		if last.in == next.in && last.first+last.size == next.first {
			switch each := uint64(last.each); {
			case each == 0:
				if next.each == 0 && last.pos == next.pos {
					last.size += next.size
					return trail
				}
			case next.each == last.each || next.phase == 0 && next.each > 0 && next.size <= min(each, uint64(next.each)):
				end := uint64(last.phase) + last.size
				if last.pos+end/each == next.pos && end%each == uint64(next.phase) {
					last.size += next.size
					return trail
				}
			}
		}
	}
	return append(trail, next)
}

// Origin returns where the byte at address came from; ok is false where the
// image holds none there.
func (m *Image) Origin(address uint64) (o Origin, ok bool) {
	i := m.trailFrom(address)
	if i == len(m.trail) || m.trail[i].first > address {
		return Origin{}, false
	}
	return m.trail[i].at(address), true
}

// trailFrom returns the index of the first stretch that ends at or above
// address.
func (m *Image) trailFrom(address uint64) int {
	return sort.Search(len(m.trail), func(i int) bool {
		return m.trail[i].first+m.trail[i].size-1 >= address
	})
}

// Inputs returns the inputs that gave bytes to the image, in the order of
// their first addresses.
func (m *Image) Inputs() []*source.Input {
	var inputs []*source.Input
	seen := map[*source.Input]bool{}
	for i := range m.trail {
		if in := m.trail[i].in; !seen[in] {
			seen[in] = true
			inputs = append(inputs, in)
		}
	}
	return inputs
}
