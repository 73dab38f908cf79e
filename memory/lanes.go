package memory

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"
	"slices"

	"mexalt/source"
)

// SplitLanes splits the image into n lanes, as parts beside each other on a
// wide bus hold it: of every n words of width bytes, counted from address 0,
// each lane has one. A lane's addresses count its own bytes. The start address
// is left out, since no lane alone can hold it. The block of each part begins
// with the first group of words that the image touches, so that lanes written
// from there on fit beside each other.
func (m *Image) SplitLanes(n, width uint64, step *source.Input) []Part {
	parts := make([]Part, n)
	all, _ := m.Span()
	block := Span{First: all.First / width / n * width, Last: all.Last/width/n*width + (width - 1)}
	for l := range parts {
		out := &Image{header: m.header}
		for _, r := range m.runs {
			out.runs = append(out.runs, laneOf(r, n, width, uint64(l))...)
		}
		out.runs = touching(out.runs)
		out.provenance = derived(out.runs, step, rule{kind: lane, word: width, lanes: n, lane: uint64(l)}, m.provenance)
		parts[l] = Part{Name: fmt.Sprintf("lane%d", l), Image: out, Block: block,
			Place: func(s Span) string { return placeOfLane(s, n, width, uint64(l)) }}
	}
	return parts
}

// placeOfLane names a span of a lane by the first and the last of its bytes in the image.
func placeOfLane(s Span, n, width, lane uint64) string {
	at := func(a uint64) string { return FormatAddress((a/width*n+lane)*width + a%width) }
	if s.Size() == 1 {
		return fmt.Sprintf("%s of the image (1 byte)", at(s.First))
	}
	return fmt.Sprintf("%s..%s of the image (%s of this lane)", at(s.First), at(s.Last), FormatBytes(s.Size()))
}

// laneOf returns what a lane has of a run: no run, or one.
func laneOf(r Run, n, width, lane uint64) []Run {
	last := r.Last()
	word := r.First / width // the first of the lane's words in the run
	if behind := (word%n + n - lane) % n; behind != 0 {
		ahead := n - behind
		if word > math.MaxUint64-ahead || word+ahead > last/width {
			return nil
		}
		word += ahead
	}
	words := (last/width-word)/n + 1
	first := word/n*width + max(word*width, r.First)%width
	end := word/n*width + words*width - 1 // in the lane, of the last word
	if lastWord := word + (words-1)*n; lastWord == last/width {
		end -= width - 1 - last%width
	}
	data := make([]byte, end-first+1)
	from := max(word*width, r.First) - r.First // in the run
	if head := first % width; head > 0 {       // a word of which the beginning is missing
		had := min(width-head, uint64(len(data)))
		copy(data, r.Data[from:from+had])
		if next := from + (width - head) + (n-1)*width; next < uint64(len(r.Data)) {
			gather(data[had:], r.Data[next:], int(width), int(n))
		}
	} else {
		gather(data, r.Data[from:], int(width), int(n))
	}
	return []Run{{first, data}}
}

// touching joins runs that touch, which are sorted by address.
func touching(runs []Run) []Run {
	var out []Run
	for i := 0; i < len(runs); {
		j, size := i+1, len(runs[i].Data)
		for j < len(runs) && runs[j].First == runs[j-1].Last()+1 {
			size += len(runs[j].Data)
			j++
		}
		joined := runs[i]
		if j > i+1 {
			joined.Data = make([]byte, 0, size)
			for _, r := range runs[i:j] {
				joined.Data = append(joined.Data, r.Data...)
			}
		}
		out = append(out, joined)
		i = j
	}
	return out
}

// JoinLanes puts together what [Image.SplitLanes] took apart: lanes in their
// order, words of width bytes. An image that would run past the last 64-bit
// address is an error.
func JoinLanes(lanes []*Image, width uint64, step *source.Input) (*Image, error) {
	n := uint64(len(lanes))
	total := uint64(0)
	from := make([]provenance, len(lanes))
	for l, m := range lanes {
		if all, ok := m.Span(); ok {
			if hi, last := bits.Mul64(all.Last/width, n*width); hi != 0 || last > math.MaxUint64-(n*width-1) {
				return nil, &source.Problem{
					File: m.inputNames(),
					What: fmt.Sprintf("put together from %d lanes, the image would run past the last 64-bit address", n),
				}
			}
		}
		total += m.Bytes()
		from[l] = m.provenance
	}
	j := joiner{lanes: lanes, width: width, buffer: make([]byte, 0, total)}
	j.join()
	out := &Image{runs: j.runs}
	out.provenance = derived(out.runs, step, rule{kind: joined, word: width, lanes: n}, from...)
	return out, nil
}

// joiner puts lanes together.
type joiner struct {
	lanes  []*Image
	width  uint64
	buffer []byte // of all runs, which are slices of it
	runs   []Run
}

// border is a word at which a lane's run begins, or behind which it ends.
type border struct {
	word  uint64
	lane  int
	begin bool
	run   int
}

// join sweeps over the words of the lanes. Between two borders the lanes that
// have words there are known; a word that a run has in part is looked at by
// itself.
func (j *joiner) join() {
	var borders []border
	var ragged []uint64 // words of which a lane has a part
	for l, m := range j.lanes {
		for i, r := range m.runs {
			first, last := r.First/j.width, r.Last()/j.width
			if r.First%j.width != 0 {
				ragged = append(ragged, first)
			}
			if r.Last()%j.width != j.width-1 {
				ragged = append(ragged, last)
			}
			borders = append(borders, border{first, l, true, i}, border{last + 1, l, false, i})
		}
	}
	// A word of which one lane has a part may have two runs of that lane in it,
	// so that it is a stretch of its own.
	for _, w := range ragged {
		borders = append(borders, border{w, -1, true, 0}, border{w + 1, -1, true, 0})
	}
	slices.SortFunc(borders, func(a, b border) int { return cmp.Compare(a.word, b.word) })
	slices.Sort(ragged)
	ragged = slices.Compact(ragged)
	present := make([]int, len(j.lanes)) // runs that are present in each lane
	current := make([]int, len(j.lanes)) // the latest of them
	for i := 0; i < len(borders); {
		word := borders[i].word
		for ; i < len(borders) && borders[i].word == word; i++ {
			switch b := borders[i]; {
			case b.lane < 0:
			case b.begin:
				present[b.lane]++
				current[b.lane] = max(current[b.lane], b.run)
			default:
				present[b.lane]--
			}
		}
		if i == len(borders) {
			return
		}
		last := borders[i].word - 1
		if len(ragged) > 0 && ragged[0] == word {
			ragged = ragged[1:]
			j.raggedWord(word)
			continue
		}
		var here []int
		for l, n := range present {
			if n > 0 {
				here = append(here, l)
			}
		}
		if len(here) > 0 {
			j.words(word, last, here, current)
		}
	}
}

// words takes whole words, which the lanes here all have.
func (j *joiner) words(first, last uint64, here, current []int) {
	n := uint64(len(j.lanes))
	data := make([][]byte, len(here))
	for k, l := range here {
		r := j.lanes[l].runs[current[l]]
		from := first*j.width - r.First
		data[k] = r.Data[from : from+(last-first+1)*j.width]
	}
	if len(here) == len(j.lanes) {
		size := (last - first + 1) * j.width * n
		begin := uint64(len(j.buffer))
		block := j.buffer[begin : begin+size]
		interleave(block, data, int(j.width))
		j.emit(first*j.width*n, block)
		return
	}
	for w := first; ; w++ {
		for k, l := range here {
			at := (w - first) * j.width
			j.copyTo((w*n+uint64(l))*j.width, data[k][at:at+j.width])
		}
		if w == last {
			return
		}
	}
}

// raggedWord takes one word of each lane, of which there may be parts only.
func (j *joiner) raggedWord(word uint64) {
	n := uint64(len(j.lanes))
	for l, m := range j.lanes {
		for r := range m.In(Span{word * j.width, word*j.width + (j.width - 1)}) {
			j.copyTo((word*n+uint64(l))*j.width+r.First%j.width, r.Data)
		}
	}
}

func (j *joiner) copyTo(address uint64, data []byte) {
	begin := len(j.buffer)
	block := j.buffer[begin : begin+len(data)]
	copy(block, data)
	j.emit(address, block)
}

// emit takes the next bytes, which stand at the buffer's end already.
func (j *joiner) emit(address uint64, block []byte) {
	begin := len(j.buffer)
	j.buffer = j.buffer[:begin+len(block)]
	if k := len(j.runs); k > 0 && j.runs[k-1].Last()+1 == address {
		r := &j.runs[k-1]
		r.Data = j.buffer[begin-len(r.Data) : begin+len(block) : begin+len(block)]
		return
	}
	j.runs = append(j.runs, Run{address, block[:len(block):len(block)]})
}
