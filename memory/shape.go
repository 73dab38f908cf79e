package memory

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"mexalt/source"
)

// Cut returns the part of the image that lies in the spans, which may overlap
// and stand in any order. A start address goes with the byte that it is of.
func (m *Image) Cut(keep ...Span) *Image {
	out := &Image{start: m.start, header: m.header, provenance: provenance{sources: m.sources}}
	for _, s := range Union(keep) {
		for r := range m.In(s) {
			out.runs = append(out.runs, Run{r.First, slices.Clip(r.Data)})
		}
		for i := m.at(s.First); i < len(m.ranges) && m.ranges[i].First <= s.Last; i++ {
			out.join(m.ranges[i].cut(s))
		}
	}
	if m.start.Kind != NoStart && m.Holds(m.start.Address()) && !out.Holds(m.start.Address()) {
		out.start = Start{}
	}
	return out
}

// Drop returns the image without what lies in the spans.
func (m *Image) Drop(spans ...Span) *Image { return m.Cut(Complement(spans)...) }

// Union sorts spans and joins those that overlap or touch.
func Union(spans []Span) []Span {
	sorted := slices.Clone(spans)
	slices.SortFunc(sorted, func(a, b Span) int { return cmp.Compare(a.First, b.First) })
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

// Intersect returns the addresses that lie in both lists of spans, sorted.
func Intersect(a, b []Span) []Span {
	a, b = Union(a), Union(b)
	var out []Span
	for len(a) > 0 && len(b) > 0 {
		if both, ok := a[0].Meet(b[0]); ok {
			out = append(out, both)
		}
		if a[0].Last < b[0].Last {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return out
}

// Without returns the addresses of the spans that lie in none of the others.
func Without(spans, others []Span) []Span { return Intersect(spans, Complement(others)) }

// Move returns the image with every address changed by delta bytes, up, or
// down where down is true. ok is false where an address would leave 64 bits.
// A linear start address moves along when it lies inside the image; all else
// about the image stays. step is the operation that moves it.
func (m *Image) Move(delta uint64, down bool, step *source.Input) (out *Image, ok bool) {
	all, some := m.Span()
	if !some || delta == 0 {
		return m, true
	}
	if down && all.First < delta || !down && all.Last > math.MaxUint64-delta {
		return nil, false
	}
	if down {
		delta = -delta
	}
	out = &Image{start: m.start, header: m.header, runs: slices.Clone(m.runs)}
	if m.start.Kind == LinearStart && m.Holds(m.start.Value) {
		out.start.Value += delta
	}
	for i := range out.runs {
		out.runs[i].First += delta
	}
	out.provenance = derived(out.runs, step, rule{kind: moved, delta: delta}, m.provenance)
	return out, true
}

// MostFilled is how many bytes one fill may add, 4 GiB.
const MostFilled = mostInPiece

// Fill returns the image with the holes of the spans filled with a pattern.
// The pattern is anchored to the address: the byte at address a is
// pattern[a mod len(pattern)], so that two fills meet without a seam. The
// pattern must not be empty. filled are the holes that were filled. Holes of
// more than [MostFilled] bytes together are an error.
func (m *Image) Fill(in *source.Input, pattern []byte, spans ...Span) (out *Image, filled []Span, err error) {
	for _, s := range Union(spans) {
		filled = append(filled, m.Holes(s)...)
	}
	if SizeOf(filled) > MostFilled {
		return nil, nil, fmt.Errorf("the holes to fill have more than %s", FormatSize(MostFilled))
	}
	fill := &Image{provenance: provenance{sources: []*byteSource{{input: in}}}}
	for _, hole := range filled {
		data := make([]byte, hole.Size())
		phase := int(hole.First % uint64(len(pattern)))
		// The first pattern's worth, turned to the hole's phase; the rest doubles it.
		n := copy(data, pattern[phase:])
		n += copy(data[n:], pattern[:phase])
		for n < len(data) {
			n += copy(data[n:], data[:n])
		}
		fill.runs = append(fill.runs, Run{hole.First, data})
		fill.ranges = append(fill.ranges, Chunk{First: hole.First, More: uint32(hole.Last - hole.First)})
	}
	out, _ = Merge([]*Image{m, fill}, First)
	return out, filled, nil
}

// FormatSpans prints spans, one behind the other.
func FormatSpans(spans []Span) string {
	var texts []string
	for _, s := range spans {
		texts = append(texts, s.String())
	}
	return strings.Join(texts, ", ")
}

// SizeOf returns how many addresses the spans have together; math.MaxUint64
// where that is more.
func SizeOf(spans []Span) uint64 {
	total := uint64(0)
	for _, s := range spans {
		if s.Size() > math.MaxUint64-total {
			return math.MaxUint64
		}
		total += s.Size()
	}
	return total
}

// Write returns the image with data at an address, over what was there. ok is
// false where the data would pass the last 64-bit address.
func (m *Image) Write(in *source.Input, address uint64, data []byte) (out *Image, ok bool) {
	d := NewDraft(m)
	ok = d.Write(in, address, data)
	return d.image, ok
}

// Draft is an image that is written to many times: what is around what is written is copied
// once, not with each write.
type Draft struct {
	image *Image
	mine  bool         // image is of nobody else, but for the bytes of runs
	own   map[int]bool // the runs of image whose bytes are of no other image
}

// NewDraft returns a draft that begins as an image, which it leaves as it is.
func NewDraft(m *Image) *Draft { return &Draft{image: m, own: map[int]bool{}} }

// Image returns the draft as it is now. It changes with the next write.
func (d *Draft) Image() *Image { return d.image }

// Write writes data at an address, over what was there. It returns false, and drops the
// image, where the data would pass the last 64-bit address.
func (d *Draft) Write(in *source.Input, address uint64, data []byte) bool {
	patch, ok := FromBytes(address, data, in)
	if !ok {
		d.image = nil
		return false
	}
	if !patch.Empty() {
		patch.sources[0].over = d.image.provenance.within(patch.runs[0].Span())
	}
	if !d.writeWithin(patch) {
		d.image, _ = Merge([]*Image{d.image, patch}, Last)
		d.mine = false
		clear(d.own)
	}
	return true
}

// writeWithin writes a patch that lies in one run, and leaves something of every piece that
// tells where bytes came from; it returns false where it does not.
func (d *Draft) writeWithin(patch *Image) bool {
	if patch.Empty() {
		return false
	}
	m := d.image
	run := patch.runs[0]
	to := run.Span()
	k := m.from(to.First)
	if k == len(m.runs) || !m.runs[k].Span().Covers(to) {
		return false
	}
	i := m.at(to.First)
	end := i // behind the last piece that it touches
	for ; end < len(m.ranges) && m.ranges[end].First <= to.Last; end++ {
		if to.Covers(Span{m.ranges[end].First, m.ranges[end].Last()}) {
			return false
		}
	}
	if !d.mine {
		const more = 2 // pieces that a write makes
		m = &Image{start: m.start, header: m.header, runs: slices.Clone(m.runs), provenance: provenance{
			append(make([]Chunk, 0, len(m.ranges)+more), m.ranges...), append(make([]*byteSource, 0, len(m.sources)+1), m.sources...)}}
		d.image, d.mine = m, true
	}
	if !d.own[k] {
		m.runs[k].Data, d.own[k] = bytes.Clone(m.runs[k].Data), true
	}
	copy(m.runs[k].Data[to.First-m.runs[k].First:], run.Data)
	var pieces [3]Chunk
	n := 0
	if first := m.ranges[i]; first.First < to.First {
		pieces[n] = first.cut(Span{first.First, to.First - 1})
		n++
	}
	pieces[n] = patch.ranges[0]
	pieces[n].Ref = uint32(len(m.sources))
	n++
	if last := m.ranges[end-1]; last.Last() > to.Last {
		pieces[n] = last.cut(Span{to.Last + 1, last.Last()})
		n++
	}
	m.ranges = slices.Replace(m.ranges, i, end, pieces[:n]...)
	m.sources = append(m.sources, patch.sources...)
	return true
}

// UsedPages returns the pages of size bytes, which begin at multiples of their
// size counted from an address at or below the image's first, in which the
// image holds a byte, joined where they touch.
func (m *Image) UsedPages(size, from uint64) []Span {
	var pages []Span
	for _, r := range m.runs {
		first, last := r.First-from, r.Last()-from
		p := Span{first - first%size + from, last - last%size + size - 1 + from}
		if p.Last < p.First {
			p.Last = math.MaxUint64
		}
		pages = append(pages, p)
	}
	return Union(pages)
}

// Swap returns the image with the bytes in each word of size bytes, 2, 4 or 8,
// in reverse order. Words begin at multiples of their size; a run that does
// not begin and end with a whole word is an error. step is the operation that
// swaps them.
func (m *Image) Swap(size uint64, step *source.Input) (*Image, error) {
	out := &Image{start: m.start, header: m.header}
	for _, r := range m.runs {
		if r.First%size != 0 || uint64(len(r.Data))%size != 0 {
			from, _ := m.Origin(r.First)
			return nil, from.Problem(
				fmt.Sprintf("the run %s does not begin and end with whole words of %d bytes, so their bytes cannot be swapped", r.Span(),
					size),
			)
		}
		data := make([]byte, len(r.Data))
		SwapWords(data, r.Data, int(size))
		out.runs = append(out.runs, Run{r.First, data})
	}
	out.provenance = derived(out.runs, step, rule{kind: swapped, word: size}, m.provenance)
	return out, nil
}
