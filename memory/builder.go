package memory

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"mexalt/source"
)

// Batch is bytes in the order of their file, cut into pieces. Bytes that
// follow one another in address, on lines that follow one another, all but
// the last as long as the first, make one piece.
type Batch struct {
	Data   []byte
	Chunks []Chunk

	past Buffer // bytes before Data, of a file of unknown size
}

// Reserve makes room for so many bytes and pieces more.
func (b *Batch) Reserve(data, pieces int) {
	b.Data = slices.Grow(b.Data, data)
	b.Chunks = slices.Grow(b.Chunks, pieces)
}

// Add appends the bytes of one record, up to 255. data must not be empty and
// must not run past the last 64-bit address.
func (b *Batch) Add(first uint64, data []byte, line int) {
	p := Chunk{First: first, Position: uint32(line), More: uint32(len(data) - 1), Ref: uint32(b.Len()), Each: uint8(len(data))}
	b.Data = append(b.Data, data...)
	if n := len(b.Chunks); n == 0 || !b.Chunks[n-1].extends(&p) {
		b.Chunks = append(b.Chunks, p)
	}
}

// AddAt appends bytes that stand at an offset of their file. data must not be
// empty, nor run past the last 64-bit address.
func (b *Batch) AddAt(first uint64, data []byte, offset uint64) {
	p := Chunk{First: first, Position: uint32(offset), More: uint32(len(data) - 1), Ref: uint32(b.Len()), Each: 1}
	b.makeRoom(len(data))
	b.Data = append(b.Data, data...)
	if n := len(b.Chunks); n == 0 || !b.Chunks[n-1].extends(&p) {
		b.Chunks = append(b.Chunks, p)
	}
}

// Len returns how many bytes it holds.
func (b *Batch) Len() int { return b.past.size + len(b.Data) }

// makeRoom makes room for n bytes; a long piece is not copied for that.
func (b *Batch) makeRoom(n int) {
	if len(b.Data) >= bufferChunk/2 && len(b.Data)+n > cap(b.Data) {
		b.past.push(b.Data)
		b.Data = make([]byte, 0, max(bufferChunk, n))
	}
}

// Append appends another batch, lines lines further on in the file.
func (b *Batch) Append(more *Batch, lines int) { b.AppendAt(more, lines, 0) }

// AppendAt appends another batch, lines lines further on in the file and by bytes further up
// in address, none of which may pass the last 64-bit address.
func (b *Batch) AppendAt(more *Batch, lines int, by uint64) {
	b.makeRoom(len(more.Data))
	offset := uint32(b.Len())
	b.Data = append(b.Data, more.Data...)
	pieces := more.Chunks
	for i := range pieces {
		pieces[i].Ref += offset
		pieces[i].Position += uint32(lines)
		pieces[i].First += by
	}
	if n := len(b.Chunks); n > 0 && len(pieces) > 0 && b.Chunks[n-1].extends(&pieces[0]) {
		pieces = pieces[1:]
	}
	b.Chunks = append(b.Chunks, pieces...)
}

// Image makes an image of the batch, whose bytes and pieces it keeps; the batch
// must not be used further. Where the batch gave an address more than one byte
// it returns these clashes, the first byte given being kept.
func (b *Batch) Image(in *source.Input) (*Image, *Clashes) {
	b.join()
	pieces := b.Chunks
	data := b.Data
	runs, ascending := ascendingRuns(pieces)
	if !ascending {
		sortByFirst(pieces)
		// Gathering the bytes jumps about in the buffer; a loop that does
		// little more than that waits least for memory.
		data = make([]byte, 0, len(b.Data))
		for i := range pieces {
			p := &pieces[i]
			if i > 0 && p.First <= pieces[i-1].Last() {
				return b.overlapping(in)
			}
			if p.More == 0 {
				data = append(data, b.Data[p.Ref])
			} else {
				data = append(data, b.Data[p.Ref:uint64(p.Ref)+uint64(p.More)+1]...)
			}
		}
	}
	// The bytes now stand in the order of their addresses, so that the runs are
	// slices of the buffer. The pieces become the provenance.
	m := &Image{runs: make([]Run, 0, runs), provenance: provenance{pieces[:0], []*byteSource{{input: in}}}}
	from, to := 0, 0
	for i := range pieces {
		p := pieces[i]
		p.Ref = 0
		// In disorder few pieces carry on the one before, which shows at once.
		if n := len(m.ranges); n == 0 || p.Position-m.ranges[n-1].Position > m.ranges[n-1].More+1 || !m.ranges[n-1].extends(&p) {
			m.ranges = append(m.ranges, p)
		}
		to += int(p.More) + 1
		if i+1 == len(pieces) || pieces[i+1].First != p.Last()+1 {
			m.runs = append(m.runs, Run{p.Last() - uint64(to-from) + 1, data[from:to:to]})
			from = to
		}
	}
	return m, &Clashes{}
}

// ascendingRuns reports whether the addresses of pieces ascend, and how many runs those make that do.
func ascendingRuns(pieces []Chunk) (runs int, all bool) {
	for i := range pieces {
		if i > 0 {
			last := pieces[i-1].Last()
			if pieces[i].First <= last {
				return runs, false
			}
			if pieces[i].First == last+1 {
				continue
			}
		}
		runs++
	}
	return runs, true
}

// join makes the batch's bytes one piece.
func (b *Batch) join() {
	b.past.last, b.Data = b.Data, nil
	b.Data = b.past.Bytes()
}

// overlapping makes an image of pieces, sorted by their first addresses, of
// which some overlap: each is woven as a layer of its own.
func (b *Batch) overlapping(in *source.Input) (*Image, *Clashes) {
	srcs := []*byteSource{{input: in}}
	layerRuns := make([]layerRun, len(b.Chunks))
	byFile := make([]uint32, len(b.Chunks)) // numbers of the pieces in the order of the file
	for i := range byFile {
		byFile[i] = uint32(i)
	}
	slices.SortFunc(byFile, func(i, j uint32) int { return cmp.Compare(b.Chunks[i].Ref, b.Chunks[j].Ref) })
	for layer, i := range byFile {
		p := &b.Chunks[i]
		layerRuns[i] = layerRun{Run{p.First, b.Data[p.Ref : uint64(p.Ref)+uint64(p.More)+1]}, uint32(layer)}
	}
	for i := range b.Chunks {
		b.Chunks[i].Ref = 0
	}
	return weave(layerRuns, First, func(layer uint32, at uint64) provenance {
		i := byFile[layer]
		return provenance{b.Chunks[i : i+1 : i+1], srcs}
	})
}

// sortByFirst sorts pieces by their first addresses, and leaves those with
// equal ones in their order. It deals them out by the top bits that differ,
// and then each of the heaps so made by the bits below: all but the first deal
// happen in what the processor has at hand, so that a million records in random
// order cost little more than in order.
func sortByFirst(items []Chunk) {
	all, any := uint64(math.MaxUint64), uint64(0)
	for i := range items {
		k := items[i].First
		all &= k
		any |= k
	}
	if differ := all ^ any; differ != 0 {
		radixSort(items, make([]Chunk, len(items)), bits.Len64(differ), bits.TrailingZeros64(differ), false)
	}
}

// mostDigit is how many bits are dealt out by at once.
const mostDigit = 10

// radixSort sorts items, whose first addresses differ only below bit top, and not
// below bit lowest. The result is in other, which is as long, where toOther
// asks for that, else in items.
func radixSort(items, other []Chunk, top, lowest int, toOther bool) {
	const few = 16
	if len(items) <= few || top <= lowest {
		if top > lowest {
			for i := 1; i < len(items); i++ {
				for j := i; j > 0 && items[j].First < items[j-1].First; j-- {
					items[j], items[j-1] = items[j-1], items[j]
				}
			}
		}
		if toOther {
			copy(other, items)
		}
		return
	}
	digit := min(top-lowest, mostDigit)
	shift, mask := top-digit, uint64(1)<<digit-1
	var heaps [1 << mostDigit]uint32 // where the next item of each goes; in the end, where each ends
	for i := range items {
		heaps[items[i].First>>shift&mask%(1<<mostDigit)]++
	}
	sum := uint32(0)
	for h := range heaps[:mask+1] {
		count := heaps[h]
		heaps[h] = sum
		sum += count
	}
	for i := range items {
		h := &heaps[items[i].First>>shift&mask%(1<<mostDigit)]
		other[*h] = items[i]
		*h++
	}
	if shift <= lowest {
		if !toOther {
			copy(items, other)
		}
		return
	}
	from := uint32(0)
	for _, to := range heaps[:mask+1] {
		if to > from {
			radixSort(other[from:to], items[from:to], shift, lowest, !toOther)
		}
		from = to
	}
}
