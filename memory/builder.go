package memory

import (
	"math"
	"math/bits"
	"slices"

	"mexalt/source"
)

// Piece is a stretch of bytes as a reader met it. Files of up to 4 GiB hold
// fewer bytes and lines than 32 bits count, and a file may have millions of
// pieces, so that their size matters.
type Piece struct {
	First  uint64 // address of the first byte
	Offset uint32 // where in the batch's data the bytes stand
	Line   uint32 // line of the first byte
	Size   uint32 // number of bytes
	Each   uint32 // bytes on each line, all but the last line full
}

// mostInPiece keeps the size of a piece in its 32 bits.
const mostInPiece = 1 << 31

// Batch is bytes in the order of their file, cut into pieces. Bytes that
// follow one another in address, on lines that follow one another, all but
// the last as long as the first, make one piece.
type Batch struct {
	Data   []byte
	Pieces []Piece
}

// Reserve makes room for so many bytes and pieces more.
func (b *Batch) Reserve(data, pieces int) {
	b.Data = slices.Grow(b.Data, data)
	b.Pieces = slices.Grow(b.Pieces, pieces)
}

// Add appends the bytes of one record. data must not be empty and must not
// run past the last 64-bit address.
func (b *Batch) Add(first uint64, data []byte, line int) {
	p := Piece{First: first, Offset: uint32(len(b.Data)), Line: uint32(line), Size: uint32(len(data)), Each: uint32(len(data))}
	b.Data = append(b.Data, data...)
	if n := len(b.Pieces); n == 0 || !b.Pieces[n-1].takes(p) {
		b.Pieces = append(b.Pieces, p)
	}
}

// takes adds next, which follows p in the file, to p where it carries on p's
// rule.
func (p *Piece) takes(next Piece) bool {
	if p.First+uint64(p.Size) != next.First || uint64(p.Size)+uint64(next.Size) > mostInPiece {
		return false
	}
	lines := p.Size / p.Each
	if p.Size != lines*p.Each || p.Line+lines != next.Line ||
		next.Each != p.Each && next.Size > min(p.Each, next.Each) {
		return false
	}
	p.Size += next.Size
	return true
}

// Append appends another batch, lines lines further on in the file.
func (b *Batch) Append(more *Batch, lines int) {
	offset := uint32(len(b.Data))
	b.Data = append(b.Data, more.Data...)
	pieces := more.Pieces
	for i := range pieces {
		pieces[i].Offset += offset
		pieces[i].Line += uint32(lines)
	}
	if n := len(b.Pieces); n > 0 && len(pieces) > 0 && b.Pieces[n-1].takes(pieces[0]) {
		pieces = pieces[1:]
	}
	b.Pieces = append(b.Pieces, pieces...)
}

// Image makes an image of the batch, whose bytes it keeps; the batch's pieces
// may be left in another order. It returns the addresses to which the batch
// gave more than one byte as clashes, the first byte given being kept.
func (b *Batch) Image(in *source.Input) (*Image, []Clash) {
	pieces := b.Pieces
	ordered, disjoint := true, true
	for i := 1; i < len(pieces); i++ {
		if pieces[i].First <= pieces[i-1].last() {
			ordered = false
			break
		}
	}
	if !ordered {
		sortByKey(pieces, func(p *Piece) uint64 { return p.First })
		for i := 1; i < len(pieces); i++ {
			if pieces[i].First <= pieces[i-1].last() {
				disjoint = false
				break
			}
		}
	}
	if !disjoint {
		sortByKey(pieces, func(p *Piece) uint64 { return uint64(p.Offset) }) // as in the file
		layers := make([]layer, len(pieces))
		for i, p := range pieces {
			layers[i] = layer{runs: []Run{{p.First, b.Data[p.Offset : p.Offset+p.Size]}}, trail: []stretch{p.stretch(in)}}
		}
		return weave(layers, First)
	}
	m := &Image{}
	if ordered {
		// The buffer holds the bytes in the order of their addresses, so the
		// runs are slices of it.
		for i := 0; i < len(pieces); {
			first, from := pieces[i].First, pieces[i].Offset
			for {
				m.trail = joinTrail(m.trail, pieces[i].stretch(in))
				i++
				if i == len(pieces) || pieces[i].First != pieces[i-1].last()+1 {
					break
				}
			}
			to := uint32(len(b.Data))
			if i < len(pieces) {
				to = pieces[i].Offset
			}
			m.runs = append(m.runs, Run{first, b.Data[from:to:to]})
		}
		return m, nil
	}
	// Gathering the bytes jumps about in the buffer; a loop that does no more
	// than that waits least for memory.
	sorted := make([]byte, 0, len(b.Data))
	for i := range pieces {
		if p := &pieces[i]; p.Size == 1 {
			sorted = append(sorted, b.Data[p.Offset])
		} else {
			sorted = append(sorted, b.Data[p.Offset:p.Offset+p.Size]...)
		}
	}
	m.trail = make([]stretch, 0, len(pieces))
	from, to := 0, 0
	for i := range pieces {
		p := &pieces[i]
		m.trail = joinTrail(m.trail, p.stretch(in))
		to += int(p.Size)
		if i+1 == len(pieces) || pieces[i+1].First != p.last()+1 {
			m.runs = append(m.runs, Run{p.last() - uint64(to-from) + 1, sorted[from:to:to]})
			from = to
		}
	}
	return m, nil
}

func (p *Piece) last() uint64 { return p.First + uint64(p.Size) - 1 }

func (p *Piece) stretch(in *source.Input) stretch {
	return stretch{first: p.First, size: uint64(p.Size), in: in, pos: uint64(p.Line), each: p.Each}
}

// sortByKey sorts items by their keys, and leaves items with equal keys in
// their order. It goes by digits of up to 11 bits, and only by those in which
// the keys differ, so that a million records in random order cost little more
// than in order.
func sortByKey[T any](items []T, key func(*T) uint64) {
	all, any := uint64(math.MaxUint64), uint64(0)
	for i := range items {
		k := key(&items[i])
		all &= k
		any |= k
	}
	differ := all ^ any
	if len(items) < 2 || differ == 0 {
		return
	}
	const mostDigit = 11
	from, width := bits.TrailingZeros64(differ), bits.Len64(differ)-bits.TrailingZeros64(differ)
	passes := (width + mostDigit - 1) / mostDigit
	digit := (width + passes - 1) / passes
	starts := make([]int, 1<<digit)
	source, target := items, make([]T, len(items))
	for shift := from; shift < from+width; shift += digit {
		clear(starts)
		for i := range source {
			starts[key(&source[i])>>shift&(1<<digit-1)]++
		}
		sum := 0
		for d, count := range starts {
			starts[d] = sum
			sum += count
		}
		for i := range source {
			d := key(&source[i]) >> shift & (1<<digit - 1)
			target[starts[d]] = source[i]
			starts[d]++
		}
		source, target = target, source
	}
	if &source[0] != &items[0] {
		copy(items, source)
	}
}
