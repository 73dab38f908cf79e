package memory

import (
	"fmt"
	"math"
	"math/bits"
	"strings"

	"mexalt/source"
)

// Part is one of the images that an image is split into.
type Part struct {
	Name  string
	Image *Image
}

// NamedSpan is a span and what it is called.
type NamedSpan struct {
	Span
	Name string
}

// only returns the part of the image in a span. The start address stays with
// the part that holds it.
func (m *Image) only(s Span) *Image {
	part := m.Cut(s)
	if !s.Contains(m.Start.Address()) {
		part.Start = Start{}
	}
	return part
}

// Split splits the image by named spans, and leaves out those in which it
// holds nothing. rest is what lies in none of them.
func (m *Image) Split(spans []NamedSpan) (parts []Part, rest *Image) {
	var all []Span
	for _, s := range spans {
		all = append(all, s.Span)
		if part := m.only(s.Span); !part.Empty() {
			parts = append(parts, Part{s.Name, part})
		}
	}
	rest = m.Drop(all...)
	for _, s := range all {
		if s.Contains(m.Start.Address()) {
			rest.Start = Start{}
		}
	}
	return parts, rest
}

// SplitRuns splits the image into its runs.
func (m *Image) SplitRuns() []Part {
	var spans []NamedSpan
	for i, r := range m.runs {
		spans = append(spans, NamedSpan{r.Span(), fmt.Sprintf("run%d", i)})
	}
	parts, _ := m.Split(spans)
	return parts
}

// SplitSize splits the image into blocks of size addresses, which begin at
// multiples of the size. Blocks in which it holds nothing are left out.
func (m *Image) SplitSize(size uint64) []Part {
	var parts []Part
	next := uint64(0) // the first address not yet in a part
	for _, r := range m.runs {
		for at := max(r.First, next); at <= r.Last(); {
			block := Span{at - at%size, at - at%size + size - 1}
			if block.Last < block.First {
				block.Last = math.MaxUint64
			}
			parts = append(parts, Part{fmt.Sprintf("part%d", len(parts)), m.only(block)})
			if block.Last == math.MaxUint64 {
				return parts
			}
			at, next = block.Last+1, block.Last+1
		}
	}
	return parts
}

// SplitLanes splits the image into n lanes, as parts beside each other on a
// wide bus hold it: of every n words of width bytes, counted from address 0,
// each lane has one. A lane's addresses count its own bytes. The start address
// is left out, since no lane alone can hold it.
func (m *Image) SplitLanes(n, width uint64) []Part {
	parts := make([]Part, n)
	for lane := range parts {
		var runs []*Image
		for _, r := range m.runs {
			var data []byte
			first, some := uint64(0), false
			for a := r.First; ; {
				// Whole words of the lane at a time.
				word := a / width
				end := min(word*width+(width-1), r.Last())
				if word%n == uint64(lane) {
					if !some {
						first, some = word/n*width+a%width, true
					}
					data = append(data, r.Data[a-r.First:end-r.First+1]...)
				}
				if end == r.Last() {
					break
				}
				a = end + 1
			}
			if some {
				in := &source.Input{Name: fmt.Sprintf("lane %d of %s", lane, m.inputNames()), Counting: source.Operation}
				image, _ := FromBytes(first, data, in)
				runs = append(runs, image)
			}
		}
		out, _ := Merge(runs, First)
		out.Header = m.Header
		parts[lane] = Part{fmt.Sprintf("lane%d", lane), out}
	}
	return parts
}

// inputNames names the inputs of an image, or the first few.
func (m *Image) inputNames() string {
	const most = 3
	var names []string
	for _, in := range m.inputs[:min(len(m.inputs), most)] {
		names = append(names, in.Name)
	}
	if len(m.inputs) > most {
		names = append(names, "...")
	}
	return strings.Join(names, "+")
}

// JoinLanes puts together what [Image.SplitLanes] took apart: lanes in their
// order, words of width bytes.
func JoinLanes(lanes []*Image, width uint64) (*Image, error) {
	n := uint64(len(lanes))
	var spreads []*Image
	for lane, m := range lanes {
		in := &source.Input{Name: fmt.Sprintf("lane %d, %s", lane, m.inputNames()), Counting: source.Operation}
		spread := &Image{inputs: []*source.Input{in}}
		for _, r := range m.runs {
			if hi, last := bits.Mul64(r.Last()/width, n*width); hi != 0 || last > math.MaxUint64-(n*width-1) {
				return nil, fmt.Errorf("%s: put together from %d lanes, the image would run past the last 64-bit address", m.inputNames(), n)
			}
			for i := 0; i < len(r.Data); {
				a := r.First + uint64(i)
				size := int(min(width-a%width, uint64(len(r.Data)-i)))
				to := a/width*width*n + uint64(lane)*width + a%width
				spread.runs = append(spread.runs, Run{to, r.Data[i : i+size]})
				spread.trail = append(spread.trail, Piece{First: to, More: uint32(size - 1)})
				i += size
			}
		}
		spreads = append(spreads, spread)
	}
	if n == 1 {
		return lanes[0], nil
	}
	joined, _ := Merge(spreads, First) // lanes never clash
	return joined, nil
}
