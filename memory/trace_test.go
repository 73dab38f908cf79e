package memory

import (
	"fmt"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/source"
)

// allOf is all that an image says of itself and of its bytes.
func allOf(m *Image) string {
	var b strings.Builder
	for _, r := range m.Runs() {
		fmt.Fprintf(&b, " %X+%X:%08x", r.First, len(r.Data), crc32.ChecksumIEEE(r.Data))
		for i := uint64(0); i < uint64(len(r.Data)); i += 1 + uint64(len(r.Data))/7 {
			o, ok := m.Origin(r.First + i)
			fmt.Fprintf(&b, " %v %s %s", ok, o, o.Place())
		}
	}
	fmt.Fprintf(&b, " %d %v %s %q %d", m.Bytes(), m.Empty(), m.Start(), m.Header(), m.FromFiles(Span{0, math.MaxUint64}))
	return b.String()
}

// TestWhatImagesWentThrough takes images, at the first address, at the last and between, through
// changes by chance, and holds what each makes, and what images answer then, against what it was.
func TestWhatImagesWentThrough(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	for seed := range uint64(48) {
		r := rand.New(rand.NewPCG(seed, 19))
		base := []uint64{0, 0x1_0000, math.MaxUint64 - 4095, 0xFFFF_F000}[seed%4]
		address := func() uint64 { return base + uint64(r.IntN(4096)) }
		span := func() Span {
			a := address()
			n := uint64(1 + r.IntN(300))
			if s, ok := SpanOf(a, n); ok {
				return s
			}
			return Span{a, math.MaxUint64}
		}
		inputs := 0
		input := func() *source.Input {
			inputs++
			return &source.Input{Name: fmt.Sprintf("f%d", inputs),
				Counting: []source.Counting{source.Lines, source.Offsets, source.Operation}[r.IntN(3)]}
		}
		batch := func() *Image {
			var b Batch
			for i := range 1 + r.IntN(12) {
				data := make([]byte, 1+r.IntN(90))
				for k := range data {
					data[k] = byte(r.Uint32())
				}
				if a := address(); a <= math.MaxUint64-uint64(len(data))+1 {
					b.Add(a, data, i+1)
				}
			}
			m, clashes := b.Image(input())
			if clashes != nil {
				fmt.Fprintf(&out, " %d clashes,", clashes.Count)
			}
			if r.IntN(3) == 0 {
				m = m.WithHeader([]byte{byte('A' + r.IntN(3))})
			}
			if r.IntN(2) == 0 {
				m = m.WithStart(Start{Kind: []StartKind{LinearStart, SegmentedStart}[r.IntN(2)], Value: address() & math.MaxUint32})
			}
			return m
		}
		fmt.Fprintf(&out, "%d:", seed)
		m := batch()
		for range 24 {
			var what string
			switch r.IntN(13) {
			case 0:
				m, what = m.Drop(span(), span()), "drop"
			case 1:
				if cut := m.Cut(span(), span(), span()); !cut.Empty() {
					m = cut
				}
				what = "cut"
			case 2, 3:
				data := make([]byte, 1+r.IntN(200))
				for k := range data {
					data[k] = byte(r.Uint32())
				}
				written, ok := m.Write(input(), address(), data)
				if what = fmt.Sprint("write ", ok); ok {
					m = written
				}
			case 4:
				merged, clashes := Merge([]*Image{m, batch(), batch()}, []Policy{First, Last}[r.IntN(2)])
				what = "merge"
				if clashes != nil {
					what += fmt.Sprint(clashes.Count, clashes.Differing, len(clashes.List))
					for i := range clashes.List {
						early, late := clashes.List[i].Earlier()
						what += fmt.Sprintf(" %s %s %s %s", clashes.List[i].Span, clashes.List[i].Comparison(), early, late)
					}
				}
				if merged != nil {
					m = merged
				}
			case 5:
				by := uint64(r.IntN(600))
				moved, ok := m.Move(by, r.IntN(2) == 0, input())
				if what = fmt.Sprint("move ", ok); ok {
					m = moved
				}
			case 6:
				filled, list, err := m.Fill(input(), []byte{1, 2, 3}[:1+r.IntN(3)], span(), span())
				if what = fmt.Sprint("fill ", list, err); err == nil {
					m = filled
				}
			case 7:
				width := uint64(1) << r.IntN(3)
				n := uint64(2 + r.IntN(3))
				lanes := m.SplitLanes(n, width, input())
				what = fmt.Sprintf("lanes %d", len(lanes))
				var list []*Image
				for _, l := range lanes {
					what += allOf(l.Image)
					list = append(list, l.Image)
				}
				joined, err := JoinLanes(list, width, input())
				if what += fmt.Sprint(err); err == nil {
					what += allOf(joined)
				}
			case 8:
				size := []uint64{2, 4, 8}[r.IntN(3)]
				swapped, err := m.Swap(size, input())
				if what = fmt.Sprint("swap ", err); err == nil {
					m = swapped
				}
			case 9:
				for _, p := range m.SplitSize(uint64(1 + r.IntN(500))) {
					what += p.Name + allOf(p.Image) + fmt.Sprint(p.Block)
				}
				for _, p := range m.SplitRuns() {
					what += p.Name + allOf(p.Image) + fmt.Sprint(p.Block)
				}
			case 10:
				parts, rest := m.Split([]NamedSpan{{Name: "a", Span: span()}, {Name: "b", Span: span()}, {Name: "c", Span: span()}})
				for _, p := range parts {
					what += p.Name + allOf(p.Image) + fmt.Sprint(p.Block)
				}
				if what += " rest"; rest != nil {
					what += allOf(rest)
				}
			case 11:
				what = fmt.Sprint("pages ", m.UsedPages(uint64(1)<<r.IntN(9), base&^0xFFF))
			default:
				what = "asked"
			}
			s := span()
			held, ok := m.Extent(s)
			at := address()
			data := make([]byte, 1+r.IntN(30))
			read := m.ReadAt(data, at)
			all, _ := m.Span()
			asked := fmt.Sprint(m.Holes(s), m.Count(s), held, ok, m.Holds(at), read, data, all, m.FromFiles(s))
			for run := range m.In(s) {
				asked += fmt.Sprint(run.Span(), crc32.ChecksumIEEE(run.Data))
			}
			again := View(m.Runs(), input())
			require.True(t, again.Equal(m.WithStart(Start{}).WithHeader(nil)) || m.Start() != (Start{}) || m.Header() != nil)
			word, _, _ := strings.Cut(what, " ")
			if len(word) > 8 {
				word = "split"
			}
			fmt.Fprintf(&out, " %s %04x", word, crc32.ChecksumIEEE([]byte(what+asked+allOf(m)))&0xFFFF)
		}
		out.WriteString("\n")
	}
	golden.File(t, "testdata/trace.txt", out.String())
}
