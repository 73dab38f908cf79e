package memory

import (
	"math"
	"math/bits"

	"mexalt/source"
)

// Piece is a stretch of bytes as a reader met it. The bytes themselves stand
// in a buffer, pieces one behind the other.
type Piece struct {
	First    uint64 // address of the first byte
	Size     int    // number of bytes
	Position uint64 // line or offset of the first byte
	Each     uint32 // bytes on each line, all but the last line full
}

// Batch is bytes in the order of their file, cut into pieces. Bytes that
// follow one another in address, on lines that follow one another, all but
// the last as long as the first, make one piece.
type Batch struct {
	Data   []byte
	Pieces []Piece
}

// Add appends the bytes of one record. data must not be empty and must not
// run past the last 64-bit address.
func (b *Batch) Add(first uint64, data []byte, position uint64) {
	b.Data = append(b.Data, data...)
	b.join(Piece{first, len(data), position, uint32(len(data))})
}

func (b *Batch) join(p Piece) {
	if n := len(b.Pieces); n > 0 {
		if last := &b.Pieces[n-1]; last.takes(p) {
			last.Size += p.Size
			return
		}
	}
	b.Pieces = append(b.Pieces, p)
}

// takes reports whether next, which follows p in the file, carries on p's rule.
func (p *Piece) takes(next Piece) bool {
	if p.First+uint64(p.Size) != next.First {
		return false
	}
	lines := uint64(p.Size) / uint64(p.Each)
	return uint64(p.Size) == lines*uint64(p.Each) && p.Position+lines == next.Position &&
		(next.Each == p.Each || next.Size <= int(min(p.Each, next.Each)))
}

// Append appends another batch to this one.
func (b *Batch) Append(more *Batch) {
	b.Data = append(b.Data, more.Data...)
	for i, p := range more.Pieces {
		if i == 0 {
			b.join(p)
		} else {
			b.Pieces = append(b.Pieces, p)
		}
	}
}

// Image makes an image of the batch, whose bytes it keeps. It returns the
// addresses to which the batch gave more than one byte as clashes, the first
// byte given being kept.
func (b *Batch) Image(in *source.Input) (*Image, []Clash) {
	pieces, offsets := b.Pieces, b.offsets()
	ordered, disjoint := true, true
	for i := 1; i < len(pieces); i++ {
		if pieces[i].First <= pieces[i-1].last() {
			ordered = false
			break
		}
	}
	var order []int32
	if !ordered {
		order = sortedOrder(len(pieces), func(i int) uint64 { return pieces[i].First })
		for i := 1; i < len(order); i++ {
			if pieces[order[i]].First <= pieces[order[i-1]].last() {
				disjoint = false
				break
			}
		}
	}
	if !disjoint {
		layers := make([]layer, len(pieces))
		for i, p := range pieces {
			layers[i] = layer{runs: []Run{{p.First, b.Data[offsets[i] : offsets[i]+p.Size]}}, trail: []stretch{p.stretch(in)}}
		}
		return weave(layers, First)
	}
	m := &Image{}
	if ordered {
		// The buffer holds the bytes in the order of their addresses, so the
		// runs are slices of it.
		for i := 0; i < len(pieces); {
			first, from := pieces[i].First, offsets[i]
			for {
				m.trail = joinTrail(m.trail, pieces[i].stretch(in))
				i++
				if i == len(pieces) || pieces[i].First != pieces[i-1].last()+1 {
					break
				}
			}
			to := len(b.Data)
			if i < len(pieces) {
				to = offsets[i]
			}
			m.runs = append(m.runs, Run{first, b.Data[from:to:to]})
		}
		return m, nil
	}
	sorted := make([]byte, 0, len(b.Data))
	for i := 0; i < len(order); {
		first, from := pieces[order[i]].First, len(sorted)
		for {
			p := &pieces[order[i]]
			sorted = append(sorted, b.Data[offsets[order[i]]:][:p.Size]...)
			m.trail = joinTrail(m.trail, p.stretch(in))
			i++
			if i == len(order) || pieces[order[i]].First != p.last()+1 {
				break
			}
		}
		m.runs = append(m.runs, Run{first, sorted[from:len(sorted):len(sorted)]})
	}
	return m, nil
}

// offsets returns where in Data each piece begins.
func (b *Batch) offsets() []int {
	offsets, at := make([]int, len(b.Pieces)), 0
	for i, p := range b.Pieces {
		offsets[i] = at
		at += p.Size
	}
	return offsets
}

func (p *Piece) last() uint64 { return p.First + uint64(p.Size) - 1 }

func (p *Piece) stretch(in *source.Input) stretch {
	return stretch{first: p.First, size: uint64(p.Size), in: in, pos: p.Position, each: p.Each}
}

// sortedOrder returns the numbers 0 to n-1 in the order of their keys, equal
// keys in their own order. It sorts by digits of 11 bits, and only by those
// in which the keys differ, so that a million records in random order cost
// little more than in order.
func sortedOrder(n int, key func(int) uint64) []int32 {
	type entry struct {
		key   uint64
		index int32
	}
	entries, spare := make([]entry, n), make([]entry, n)
	all, any := uint64(math.MaxUint64), uint64(0)
	for i := range entries {
		k := key(i)
		entries[i] = entry{k, int32(i)}
		all &= k
		any |= k
	}
	const digit = 11
	for differ := all ^ any; differ != 0; {
		shift := bits.TrailingZeros64(differ)
		var starts [1 << digit]int
		for i := range entries {
			starts[entries[i].key>>shift&(1<<digit-1)]++
		}
		sum := 0
		for d, count := range starts {
			starts[d] = sum
			sum += count
		}
		for _, e := range entries {
			d := e.key >> shift & (1<<digit - 1)
			spare[starts[d]] = e
			starts[d]++
		}
		entries, spare = spare, entries
		differ = differ >> shift >> digit << digit << shift
	}
	order := make([]int32, n)
	for i := range entries {
		order[i] = entries[i].index
	}
	return order
}
