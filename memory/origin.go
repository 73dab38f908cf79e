package memory

import (
	"slices"
	"sort"
	"strings"

	"mexalt/source"
)

// Origin says where a byte came from: the line of a record file, the offset
// in a raw file, or an operation; and the operations on the way.
type Origin struct {
	Input    *source.Input
	Position uint64
	// Steps are the operations that moved or changed the byte since, in order.
	Steps []*source.Input
	// Over is what the operation that made the byte wrote over; nil is nothing.
	Over *Origin
}

// Place names the place alone: "boot.hex:12", "table.bin+0x40", "fill".
func (o Origin) Place() string {
	if o.Input == nil {
		return "nowhere"
	}
	return o.Input.Place(o.Position)
}

// String names the place and the operations since: "boot.hex:12, swap, place".
func (o Origin) String() string {
	text := o.Place()
	for _, s := range o.Steps {
		text += ", " + s.Name
	}
	return text
}

// Problem returns what is wrong at the origin: with line where it has one.
func (o Origin) Problem(what string) *source.Problem {
	if o.Input != nil && o.Input.Counting == source.Lines {
		return &source.Problem{File: o.Input.Name, Line: int(o.Position), What: what}
	}
	return &source.Problem{File: o.Place(), What: what}
}

// Chunk is a stretch of bytes and where they came from, as a rule: the byte at
// First+i stands at position Position + (phase+i)/Each of its input. Records of
// Each bytes on lines that follow one another thus take one piece, however many
// they are. With Each 0 all bytes stand at Position.
//
// Files and fills are of up to 4 GiB, so that 32 bits count their lines and
// bytes, and records of up to 255 bytes. A file in disorder may have a piece
// for each record, so that a piece is as small as can be.
type Chunk struct {
	First    uint64 // address of the first byte
	Position uint32 // of the first byte: line, or offset
	More     uint32 // number of bytes less one
	Ref      uint32 // in a [Batch], where in its data the bytes stand; in an image, the number of the source
	Each     uint8  // bytes on each line, all but the last line full
	phase    uint8  // how many bytes of its line stand before the first byte
}

// mostInPiece is how many bytes a piece holds at the most.
const mostInPiece = 1 << 32

// Last returns the address of the piece's last byte.
func (p *Chunk) Last() uint64 { return p.First + uint64(p.More) }

func (p *Chunk) position(address uint64) uint64 {
	if p.Each == 0 {
		return uint64(p.Position)
	}
	return uint64(p.Position) + (uint64(p.phase)+address-p.First)/uint64(p.Each)
}

// cut returns the part of the piece that lies in the span, which must meet it.
func (p *Chunk) cut(to Span) Chunk {
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

// extends adds next, of the same input, to p where p's rule holds for it too.
func (p *Chunk) extends(next *Chunk) bool {
	// In disorder most do not fit, and each line holds a byte or more.
	if next.Position < p.Position || next.Position-p.Position > p.More+1 ||
		p.Last()+1 != next.First || uint64(p.More)+uint64(next.More)+2 > mostInPiece {
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

// provenance tells of a whole image where its bytes came from: pieces, sorted, each
// of one source.
type provenance struct {
	ranges  []Chunk
	sources []*byteSource
}

// source is what bytes come from: an input, or an operation that had them from
// other images and changed their places.
type byteSource struct {
	input *source.Input
	over  *provenance // of an operation's input: what it wrote over; nil is nothing

	step *source.Input // the operation, where input is nil
	from []provenance  // what it had the bytes from
	rule rule          // and from where there
}

// rule says where in the images that an operation worked on a byte stood.
type rule struct {
	kind  ruleKind
	delta uint64 // moved: what was added to the address, modulo 2^64
	word  uint64 // swapped, joined, lane: bytes in a word
	lanes uint64 // joined, lane: how many there are
	lane  uint64 // lane: which this is
}

type ruleKind uint8

const (
	moved   ruleKind = iota // one image, at other addresses
	swapped                 // one image, the bytes within words in reverse order
	joined                  // several images, as the lanes of a wide bus
	lane                    // one image, of which this is one lane
)

// back returns which of the images the byte at an address came from, and where
// it stood there.
func (r *rule) back(address uint64) (which int, at uint64) {
	switch r.kind {
	case swapped:
		return 0, address - address%r.word + r.word - 1 - address%r.word
	case joined:
		word := address / r.word
		return int(word % r.lanes), word/r.lanes*r.word + address%r.word
	case lane:
		return 0, (address/r.word*r.lanes+r.lane)*r.word + address%r.word
	}
	return 0, address - r.delta
}

// origin returns where the byte at address came from.
func (t *provenance) origin(address uint64) (o Origin, ok bool) {
	var steps []*source.Input
	for {
		i := t.at(address)
		if i == len(t.ranges) || t.ranges[i].First > address {
			return Origin{}, false
		}
		s := t.sources[t.ranges[i].Ref]
		if s.input != nil {
			slices.Reverse(steps)
			o = Origin{Input: s.input, Position: t.ranges[i].position(address), Steps: steps}
			if s.over != nil {
				if over, ok := s.over.origin(address); ok {
					o.Over = &over
				}
			}
			return o, true
		}
		steps = append(steps, s.step)
		var which int
		which, address = s.rule.back(address)
		t = &s.from[which]
	}
}

// at returns the index of the first piece that ends at or above address.
func (t *provenance) at(address uint64) int {
	return sort.Search(len(t.ranges), func(i int) bool { return t.ranges[i].Last() >= address })
}

// within returns the part of the provenance that tells of a span; nil is that it tells
// nothing. It does not keep the rest, nor an image that has it.
func (t *provenance) within(s Span) *provenance {
	out := &provenance{}
	refs := map[uint32]uint32{}
	for i := t.at(s.First); i < len(t.ranges) && t.ranges[i].First <= s.Last; i++ {
		part := t.ranges[i].cut(s)
		ref, ok := refs[part.Ref]
		if !ok {
			ref = uint32(len(out.sources))
			refs[part.Ref] = ref
			out.sources = append(out.sources, t.sources[part.Ref])
		}
		part.Ref = ref
		out.ranges = append(out.ranges, part)
	}
	if len(out.ranges) == 0 {
		return nil
	}
	return out
}

// join appends a piece of the provenance's own sources, as part of the last piece
// where the rule of that one holds for it too.
func (t *provenance) join(next Chunk) {
	if n := len(t.ranges); n > 0 && t.ranges[n-1].Ref == next.Ref && t.ranges[n-1].extends(&next) {
		return
	}
	t.ranges = append(t.ranges, next)
}

// derived returns the provenance of an image whose bytes an operation had from others
// by a rule.
func derived(runs []Run, step *source.Input, r rule, from ...provenance) provenance {
	t := provenance{make([]Chunk, 0, len(runs)), []*byteSource{{step: step, rule: r, from: from}}}
	for _, run := range runs {
		for first, left := run.First, uint64(len(run.Data)); left > 0; {
			n := min(left, mostInPiece)
			t.ranges = append(t.ranges, Chunk{First: first, More: uint32(n - 1)})
			first, left = first+n, left-n
		}
	}
	return t
}

// Origin returns where the byte at address came from; ok is false where the
// image holds none there.
func (m *Image) Origin(address uint64) (o Origin, ok bool) { return m.origin(address) }

// FromFiles returns how many bytes of a span came from files, or stand where such a byte
// was written over; those that operations alone made do not count.
func (m *Image) FromFiles(s Span) uint64 { return m.provenance.fromFiles(s) }

func (t *provenance) fromFiles(s Span) (n uint64) {
	for i := t.at(s.First); i < len(t.ranges) && t.ranges[i].First <= s.Last; i++ {
		from := t.sources[t.ranges[i].Ref]
		part, _ := Span{t.ranges[i].First, t.ranges[i].Last()}.Meet(s)
		switch {
		case from.input != nil && from.input.Counting != source.Operation:
			n += part.Size()
		case from.input != nil && from.over != nil:
			n += from.over.fromFiles(part)
		case from.input != nil:
		case from.rule.kind == moved:
			first := part.First - from.rule.delta
			n += from.from[0].fromFiles(Span{first, first + (part.Last - part.First)})
		default:
			for a := part.First; ; a++ {
				which, at := from.rule.back(a)
				n += from.from[which].fromFiles(Span{at, at})
				if a == part.Last {
					break
				}
			}
		}
	}
	return n
}

// inputNames names the inputs of an image, or the first few.
func (t *provenance) inputNames() string {
	const few = 3
	var names []string
	var walk func(t *provenance)
	walk = func(t *provenance) {
		for _, s := range t.sources {
			if len(names) > few {
				return
			}
			if s.input != nil && !slices.Contains(names, s.input.Name) {
				names = append(names, s.input.Name)
			}
			for i := range s.from {
				walk(&s.from[i])
			}
		}
	}
	walk(t)
	if len(names) > few {
		names = append(names[:few], "...")
	}
	return strings.Join(names, "+")
}
