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

// Piece is a stretch of bytes and where they came from, as a rule: the byte at
// First+i stands at position Position + (phase+i)/Each of its input. Records of
// Each bytes on lines that follow one another thus take one piece, however many
// they are. With Each 0 all bytes stand at Position.
//
// Files and fills are of up to 4 GiB, so that 32 bits count their lines and
// bytes, and records of up to 255 bytes. A file in disorder may have a piece
// for each record, so that a piece is as small as can be.
type Piece struct {
	First    uint64 // address of the first byte
	Position uint32 // of the first byte: line, or offset
	More     uint32 // number of bytes less one
	Ref      uint32 // in a [Batch], where in its data the bytes stand; in an image, the number of the input
	Each     uint8  // bytes on each line, all but the last line full
	phase    uint8  // how many bytes of its line stand before the first byte
}

// most is how many bytes a piece holds at the most.
const most = 1 << 32

// Last returns the address of the piece's last byte.
func (p *Piece) Last() uint64 { return p.First + uint64(p.More) }

func (p *Piece) position(address uint64) uint64 {
	if p.Each == 0 {
		return uint64(p.Position)
	}
	return uint64(p.Position) + (uint64(p.phase)+address-p.First)/uint64(p.Each)
}

// cut returns the part of the piece that lies in the span, which must meet it.
func (p *Piece) cut(to Span) Piece {
	part := *p
	both, _ := Span{p.First, p.Last()}.Meet(to)
	part.First, part.More = both.First, uint32(both.Last-both.First)
	if p.Each > 0 {
		skip := uint64(p.phase) + both.First - p.First
		part.Position += uint32(skip / uint64(p.Each))
		part.phase = uint8(skip % uint64(p.Each))
	}
	return part
}

// takes adds next, of the same input, to p where p's rule holds for it too.
func (p *Piece) takes(next *Piece) bool {
	// In disorder most do not fit, and each line holds a byte or more.
	if next.Position < p.Position || next.Position-p.Position > p.More+1 ||
		p.Last()+1 != next.First || uint64(p.More)+uint64(next.More)+2 > most {
		return false
	}
	if p.Each == 0 || next.Each == 0 {
		if p.Each != next.Each || p.Position != next.Position {
			return false
		}
	} else {
		// next is of the same rule, or lies on one line.
		oneLine := next.phase == 0 && next.More < uint32(min(p.Each, next.Each))
		if next.Each != p.Each && !oneLine {
			return false
		}
		lines, left := uint64(1), uint64(0) // of a whole line, which is most common where there are many pieces
		if p.phase != 0 || p.More+1 != uint32(p.Each) {
			end := uint64(p.phase) + uint64(p.More) + 1
			lines, left = end/uint64(p.Each), end%uint64(p.Each)
		}
		if uint64(p.Position)+lines != uint64(next.Position) || left != uint64(next.phase) {
			return false
		}
	}
	p.More += next.More + 1
	return true
}

// joinTrail appends next to a trail, as part of the trail's last piece where
// the rule of that one holds for next too.
func joinTrail(trail []Piece, next Piece) []Piece {
	if n := len(trail); n > 0 && trail[n-1].Ref == next.Ref && trail[n-1].takes(&next) {
		return trail
	}
	return append(trail, next)
}

// Origin returns where the byte at address came from; ok is false where the
// image holds none there.
func (m *Image) Origin(address uint64) (o Origin, ok bool) {
	i := m.trailFrom(address)
	if i == len(m.trail) || m.trail[i].First > address {
		return Origin{}, false
	}
	return Origin{m.inputs[m.trail[i].Ref], m.trail[i].position(address)}, true
}

// trailFrom returns the index of the first piece of the trail that ends at or
// above address.
func (m *Image) trailFrom(address uint64) int {
	return sort.Search(len(m.trail), func(i int) bool { return m.trail[i].Last() >= address })
}
