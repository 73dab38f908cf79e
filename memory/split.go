package memory

import (
	"fmt"
	"math"
)

// Part is one of the images that an image is split into.
type Part struct {
	Name  string
	Image *Image
	// Block is what the part is of: a region, a memory, a block, and for a run
	// its own span.
	Block Span
	// Place names a span of the part by the addresses of the image that it is of, where
	// the part's own are others; nil is that they are the same.
	Place func(Span) string
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
	if !s.Contains(m.start.Address()) {
		part.start = Start{}
	}
	return part
}

// Split splits the image by named spans, and leaves out those in which it
// holds nothing. rest is what lies in none of them.
func (m *Image) Split(spans []NamedSpan) (parts []Part, rest *Image) {
	var all []Span
	taken := false // the start address went with a part
	for _, s := range spans {
		all = append(all, s.Span)
		if part := m.only(s.Span); !part.Empty() {
			parts = append(parts, Part{Name: s.Name, Image: part, Block: s.Span})
		}
		taken = taken || s.Contains(m.start.Address())
	}
	rest = m.Drop(all...)
	if taken {
		rest.start = Start{}
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
			parts = append(parts, Part{Name: fmt.Sprintf("part%d", len(parts)), Image: m.only(block), Block: block})
			if block.Last == math.MaxUint64 {
				return parts
			}
			at, next = block.Last+1, block.Last+1
		}
	}
	return parts
}
