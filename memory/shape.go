package memory

import (
	"fmt"
	"math"
	"slices"

	"mexalt/source"
)

// Cut returns the part of the image that lies in the spans, which may overlap
// and stand in any order. A start address goes with the byte that it is of.
func (m *Image) Cut(keep ...Span) *Image {
	out := &Image{Start: m.Start, Header: m.Header, inputs: m.inputs}
	for _, s := range Union(keep) {
		for r := range m.In(s) {
			out.runs = append(out.runs, Run{r.First, slices.Clip(r.Data)})
		}
		for i := m.trailFrom(s.First); i < len(m.trail) && m.trail[i].First <= s.Last; i++ {
			out.trail = joinTrail(out.trail, m.trail[i].cut(s))
		}
	}
	if m.Start.Kind != NoStart && m.holds(m.Start.Address()) && !out.holds(m.Start.Address()) {
		out.Start = Start{}
	}
	return out
}

// Drop returns the image without what lies in the spans.
func (m *Image) Drop(spans ...Span) *Image { return m.Cut(Complement(spans)...) }

// Union sorts spans and joins those that overlap or touch.
func Union(spans []Span) []Span {
	sorted := slices.Clone(spans)
	slices.SortFunc(sorted, func(a, b Span) int {
		switch {
		case a.First < b.First:
			return -1
		case a.First > b.First:
			return 1
		}
		return 0
	})
	var out []Span
	for _, s := range sorted {
		if n := len(out); n > 0 && (out[n-1].Last == math.MaxUint64 || s.First <= out[n-1].Last+1) {
			out[n-1].Last = max(out[n-1].Last, s.Last)
			continue
		}
		out = append(out, s)
	}
	return out
}

// Complement returns the addresses that lie in none of the spans.
func Complement(spans []Span) []Span {
	var out []Span
	next := uint64(0)
	for _, s := range Union(spans) {
		if s.First > next {
			out = append(out, Span{next, s.First - 1})
		}
		if s.Last == math.MaxUint64 {
			return out
		}
		next = s.Last + 1
	}
	return append(out, Span{next, math.MaxUint64})
}

// Move returns the image with every address changed by delta bytes, up, or
// down where down is true. ok is false where an address would leave 64 bits.
// A linear start address moves along when it lies inside the image; all else
// about the image stays.
func (m *Image) Move(delta uint64, down bool) (moved *Image, ok bool) {
	all, some := m.Span()
	if !some {
		return m, true
	}
	if down && all.First < delta || !down && all.Last > math.MaxUint64-delta {
		return nil, false
	}
	if down {
		delta = -delta
	}
	out := &Image{Start: m.Start, Header: m.Header, runs: slices.Clone(m.runs), trail: slices.Clone(m.trail), inputs: m.inputs}
	if m.Start.Kind == LinearStart && m.holds(m.Start.Value) {
		out.Start.Value += delta
	}
	for i := range out.runs {
		out.runs[i].First += delta
	}
	for i := range out.trail {
		out.trail[i].First += delta
	}
	return out, true
}

// MostFilled is how many bytes one fill may add, 4 GiB.
const MostFilled = most

// Fill returns the image with the holes of the spans filled with a pattern.
// The pattern is anchored to the address: the byte at address a is
// pattern[a mod len(pattern)], so that two fills meet without a seam. The
// pattern must not be empty. filled are the holes that were filled. Holes of
// more than [MostFilled] bytes together are an error.
func (m *Image) Fill(in *source.Input, pattern []byte, spans ...Span) (out *Image, filled []Span, err error) {
	for _, s := range Union(spans) {
		filled = append(filled, m.Holes(s)...)
	}
	total := uint64(0)
	for _, hole := range filled {
		if hole.Size() > MostFilled-total {
			return nil, nil, fmt.Errorf("the holes to fill hold more than %s; name a smaller span", FormatSize(MostFilled))
		}
		total += hole.Size()
	}
	fill := &Image{inputs: []*source.Input{in}}
	for _, hole := range filled {
		data := make([]byte, hole.Size())
		phase := int(hole.First % uint64(len(pattern)))
		n := copy(data, pattern[phase:])
		for n < len(data) {
			n += copy(data[n:], pattern)
		}
		fill.runs = append(fill.runs, Run{hole.First, data})
		fill.trail = append(fill.trail, Piece{First: hole.First, More: uint32(hole.Last - hole.First)})
	}
	out, _ = Merge([]*Image{m, fill}, First)
	return out, filled, nil
}

// Write returns the image with data at an address, over what was there. ok is
// false where the data would pass the last 64-bit address.
func (m *Image) Write(in *source.Input, address uint64, data []byte) (out *Image, ok bool) {
	patch, ok := FromBytes(address, data, in)
	if !ok {
		return nil, false
	}
	out, _ = Merge([]*Image{m, patch}, Last)
	return out, true
}

// Equal reports whether two images hold the same bytes at the same addresses,
// whatever their start addresses, headers and origins.
func (m *Image) Equal(other *Image) bool {
	return slices.EqualFunc(m.runs, other.runs, func(a, b Run) bool {
		return a.First == b.First && string(a.Data) == string(b.Data)
	})
}

// Without returns the addresses of the spans that lie in none of the others.
func Without(spans, others []Span) []Span {
	var out []Span
	gaps := Complement(others)
	for _, s := range Union(spans) {
		for _, g := range gaps {
			if both, ok := s.Meet(g); ok {
				out = append(out, both)
			}
		}
	}
	return out
}

// UsedPages returns the pages of size bytes, which begin at multiples of their
// size, in which the image holds a byte, joined where they touch.
func (m *Image) UsedPages(size uint64) []Span {
	var pages []Span
	for _, r := range m.runs {
		p := Span{r.First - r.First%size, r.Last() - r.Last()%size + size - 1}
		if p.Last < p.First {
			p.Last = math.MaxUint64
		}
		pages = append(pages, p)
	}
	return Union(pages)
}

// Swap returns the image with the bytes in each word of size bytes in reverse
// order. Words begin at multiples of their size; a run that does not begin and
// end with a whole word is an error.
func (m *Image) Swap(size uint64) (*Image, error) {
	out := &Image{Start: m.Start, Header: m.Header, trail: m.trail, inputs: m.inputs}
	for _, r := range m.runs {
		if r.First%size != 0 || uint64(len(r.Data))%size != 0 {
			from, _ := m.Origin(r.First)
			return nil, fmt.Errorf("%s: the run %s does not begin and end with whole words of %d bytes, so their bytes cannot be swapped", from, r.Span(), size)
		}
		data := make([]byte, len(r.Data))
		for i := range data {
			word := i - i%int(size)
			data[word+int(size)-1-i%int(size)] = r.Data[i]
		}
		out.runs = append(out.runs, Run{r.First, data})
	}
	return out, nil
}

// Patch is bytes to be written into an image.
type Patch struct {
	At     uint64
	Bytes  []byte
	Expect []byte // the old bytes must be these; nil is any
	Grow   bool   // bytes may be written where the image holds none
}

// Apply writes the patch. It returns the new image and the bytes that were at
// its place, those that were not there as 0 and told by missing.
func (p Patch) Apply(m *Image, in *source.Input) (out *Image, old []byte, missing uint64, err error) {
	where, ok := SpanOf(p.At, uint64(len(p.Bytes)))
	if !ok {
		return nil, nil, 0, fmt.Errorf("%d bytes at %s run past the last 64-bit address", len(p.Bytes), FormatAddress(p.At))
	}
	old = make([]byte, len(p.Bytes))
	m.ReadAt(old, p.At)
	if holes := m.Holes(where); len(holes) > 0 && !p.Grow {
		return nil, nil, 0, fmt.Errorf("the image holds no bytes at %s; -grow lets the patch make it larger", holes[0])
	}
	missing = where.Size() - m.Count(where)
	if p.Expect != nil {
		expected, ok := SpanOf(p.At, uint64(len(p.Expect)))
		found := make([]byte, len(p.Expect))
		if !ok || !m.ReadAt(found, p.At) {
			return nil, nil, 0, fmt.Errorf("bytes % X are expected at %s, but the image does not hold all of them", p.Expect, expected)
		}
		if string(found) != string(p.Expect) {
			from, _ := m.Origin(p.At)
			return nil, nil, 0, fmt.Errorf("bytes at %s are % X, from %s; % X expected, so nothing is patched", expected, found, from, p.Expect)
		}
	}
	out, _ = m.Write(in, p.At, p.Bytes)
	return out, old, missing, nil
}
