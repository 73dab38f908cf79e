package memory

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// rejoin merges parts, which must not clash.
func rejoin(t *testing.T, parts []Part, more ...*Image) *Image {
	t.Helper()
	images := more
	for _, p := range parts {
		require.False(t, p.Image.Empty(), p.Name)
		images = append(images, p.Image)
	}
	m, clashes := Merge(images, First)
	require.Zero(t, clashes.Count)
	return m
}

func TestSplitLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for n := range 500 {
		corner := corners[n%len(corners)]
		m, model := randomImage(r, "m", corner)
		model.check(t, rejoin(t, m.SplitRuns()))
		model.check(t, rejoin(t, m.SplitSize(1+r.Uint64N(40))))

		one, two := Span{corner + 3, corner + 20}, Span{corner + 21, corner + 33}
		parts, rest := m.Split([]NamedSpan{{one, "one"}, {two, "two"}})
		model.check(t, rejoin(t, parts, rest))
		require.Zero(t, rest.Count(one)+rest.Count(two))

		if corner < math.MaxUint64/8 {
			lanes, width := 1+r.Uint64N(4), uint64(1)<<r.IntN(3)
			var images []*Image
			for lane, p := range m.SplitLanes(lanes, width, operationInput("split")) {
				images = append(images, p.Image)
				for _, run := range p.Image.Runs() {
					for i, b := range run.Data {
						a := run.First + uint64(i)
						from := a/width*width*lanes + uint64(lane)*width + a%width
						require.Equal(t, model[from].value, b, "lane %d of %d, width %d, address %X", lane, lanes, width, a)
						o, _ := p.Image.Origin(a)
						require.Equal(t, model[from].from+", split", o.String())
					}
				}
			}
			joined, err := JoinLanes(images, width, operationInput("merge"))
			require.NoError(t, err)
			require.True(t, m.Equal(joined))
			for a, want := range model {
				o, ok := joined.Origin(a)
				require.True(t, ok)
				require.Equal(t, want.from+", split, merge", o.String())
			}
		}
	}
}

func TestSplitAtTheEndOfAll(t *testing.T) {
	in := &source.Input{Name: "f"}
	m, _ := FromBytes(math.MaxUint64-4, []byte{1, 2, 3, 4, 5}, in)
	parts := m.SplitSize(4)
	require.Len(t, parts, 2)
	assert.Equal(t, Span{math.MaxUint64 - 3, math.MaxUint64}, parts[1].Image.Runs()[0].Span())
	_, err := JoinLanes([]*Image{m, m}, 1, operationInput("merge"))
	assert.ErrorContains(t, err, "past the last 64-bit address")
}

func TestSplitKeepsTheStartWhereItIs(t *testing.T) {
	m, _ := FromBytes(0, make([]byte, 32), &source.Input{Name: "f"})
	m = m.WithStart(Start{LinearStart, 0x11})
	parts := m.SplitSize(16)
	assert.Equal(t, Start{}, parts[0].Image.Start())
	assert.Equal(t, Start{LinearStart, 0x11}, parts[1].Image.Start())
}

func TestUsedPagesAndSwap(t *testing.T) {
	in := &source.Input{Name: "f"}
	a, _ := FromBytes(0x1F, []byte{1, 2}, in)
	b, _ := FromBytes(0x40, []byte{3}, in)
	c, _ := FromBytes(math.MaxUint64, []byte{4}, in)
	m, _ := Merge([]*Image{a, b, c}, First)
	assert.Equal(t, []Span{{0x10, 0x2F}, {0x40, 0x4F}, {math.MaxUint64 - 15, math.MaxUint64}}, m.UsedPages(16, 0))

	assert.Equal(t, []Span{{0x1F, 0x20}, {0x40, 0x40}, {math.MaxUint64, math.MaxUint64}}, m.UsedPages(1, 0))

	w, _ := FromBytes(0x10, []byte{1, 2, 3, 4, 5, 6, 7, 8}, in)
	for size, want := range map[uint64][]byte{2: {2, 1, 4, 3, 6, 5, 8, 7}, 4: {4, 3, 2, 1, 8, 7, 6, 5}, 8: {8, 7, 6, 5, 4, 3, 2, 1}} {
		swapped, err := w.Swap(size, operationInput("swap"))
		require.NoError(t, err)
		assert.Equal(t, want, swapped.Runs()[0].Data)
		back, err := swapped.Swap(size, operationInput("swap"))
		require.NoError(t, err)
		assert.True(t, w.Equal(back))
	}
	_, err := m.Swap(2, operationInput("swap"))
	assert.ErrorContains(t, err, "does not begin and end with whole words of 2 bytes")
}

// TestLanesOfImagesThatDoNotFit joins lanes of which some are longer, begin
// elsewhere, in the middle of words, or have holes.
func TestLanesOfImagesThatDoNotFit(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	for n := range 400 {
		count, width := 1+r.IntN(4), uint64(1)<<r.IntN(3)
		var lanes []*Image
		want := model{}
		for l := range count {
			m, lane := randomImage(r, fmt.Sprint("lane", l), []uint64{0, 0x1000, 1 << 40}[n%3])
			lanes = append(lanes, m)
			for a, v := range lane {
				v.from += ", merge"
				want[(a/width*uint64(count)+uint64(l))*width+a%width] = v
			}
		}
		joined, err := JoinLanes(lanes, width, operationInput("merge"))
		require.NoError(t, err)
		want.check(t, joined)
	}
	// What would run past the last address is told with its inputs, each once.
	var list []*Image
	for i := range 6 {
		one, _ := FromBytes(1<<63+uint64(i)*32, []byte{1}, &source.Input{Name: fmt.Sprint("f", i/2)})
		list = append(list, one)
	}
	far, _ := Merge(list, First)
	_, err := JoinLanes([]*Image{far, far}, 1, operationInput("merge"))
	require.ErrorContains(t, err, "f0+f1+f2: error: put together from 2 lanes, the image would run past the last 64-bit address")
}

// TestOriginsAlongOperations looks up each byte's line after operations in a row.
func TestOriginsAlongOperations(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 16))
	for range 200 {
		a, am := randomImage(r, "a", 0x100)
		b, bm := randomImage(r, "b", 0x100)
		merged, _ := Merge([]*Image{a, b}, First)
		filled, _, err := merged.Fill(operationInput("fill"), []byte{0xFF}, Span{0x100, 0x14F})
		require.NoError(t, err)
		swapped, err := filled.Swap(8, operationInput("swap"))
		require.NoError(t, err)
		moved, ok := swapped.Move(0x1000, false, operationInput("place"))
		require.True(t, ok)
		patched, ok := moved.Write(operationInput("patch"), 0x1104, []byte{1, 2})
		require.True(t, ok)
		for address := uint64(0x1100); address < 0x1150; address++ {
			from := (address - 0x1000) ^ 7
			want := "fill"
			if v, ok := am[from]; ok {
				want = v.from
			} else if v, ok := bm[from]; ok {
				want = v.from
			}
			o, ok := patched.Origin(address)
			require.True(t, ok)
			if address == 0x1104 || address == 0x1105 {
				require.Equal(t, "patch", o.String())
				require.Equal(t, want+", swap, place", o.Over.String(), "what a patch covers is known")
				continue
			}
			require.Equal(t, want+", swap, place", o.String())
		}
	}
}

func TestClashesAreBounded(t *testing.T) {
	var one, two Batch
	const records = 2 * MostClashes
	for i := range uint64(records) {
		one.Add(2*i, []byte{1}, int(i)+1)
		two.Add(2*i, []byte{byte(i % 2)}, int(i)+1)
	}
	a, _ := one.Image(&source.Input{Name: "a"})
	b, _ := two.Image(&source.Input{Name: "b"})
	_, clashes := Merge([]*Image{a, b}, First)
	assert.Len(t, clashes.List, MostClashes)
	assert.Equal(t, records, clashes.Count)
	assert.Equal(t, records/2, clashes.Differing)
}

// TestSplitTakesTheStartAddress splits an image whose start address lies in one part, in two,
// or in none: it goes with those that have it, and with the rest only where none has.
func TestSplitTakesTheStartAddress(t *testing.T) {
	in := &source.Input{Name: "f", Counting: source.Offsets}
	for start, want := range map[uint64]string{0: "a", 0x1F: "a", 0x20: "b", 0x3F: "b", 0x40: "rest", 0x7F: "rest"} {
		m, _ := FromBytes(0, make([]byte, 0x80), in)
		m = m.WithStart(Start{LinearStart, start})
		parts, rest := m.Split([]NamedSpan{{Span{0, 0x1F}, "a"}, {Span{0x20, 0x3F}, "b"}})
		require.Len(t, parts, 2)
		with := map[bool]string{true: "rest"}[rest.Start().Kind != NoStart]
		for _, p := range parts {
			if p.Image.Start().Kind != NoStart {
				with += p.Name
				assert.Equal(t, start, p.Image.Start().Value)
			}
		}
		assert.Equal(t, want, with, "0x%X", start)
	}
}
