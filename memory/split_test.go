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

// together merges parts, which must not clash.
func together(t *testing.T, parts []Part, more ...*Image) *Image {
	t.Helper()
	images := more
	for _, p := range parts {
		require.False(t, p.Image.Empty(), p.Name)
		images = append(images, p.Image)
	}
	m, clashes := Merge(images, First)
	require.Empty(t, clashes)
	return m
}

func TestSplitLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for n := range 500 {
		corner := corners[n%len(corners)]
		m, model := randomImage(r, "m", corner)
		model.check(t, together(t, m.SplitRuns()))
		model.check(t, together(t, m.SplitSize(1+r.Uint64N(40))))

		one, two := Span{corner + 3, corner + 20}, Span{corner + 21, corner + 33}
		parts, rest := m.Split([]NamedSpan{{one, "one"}, {two, "two"}})
		model.check(t, together(t, parts, rest))
		require.Zero(t, rest.Count(one)+rest.Count(two))

		if corner < math.MaxUint64/8 {
			lanes, width := 1+r.Uint64N(4), uint64(1)<<r.IntN(3)
			var images []*Image
			for lane, p := range m.SplitLanes(lanes, width) {
				images = append(images, p.Image)
				for _, run := range p.Image.Runs() {
					for i, b := range run.Data {
						a := run.First + uint64(i)
						from := a/width*width*lanes + uint64(lane)*width + a%width
						require.Equal(t, model[from].value, b, "lane %d of %d, width %d, address %X", lane, lanes, width, a)
					}
				}
			}
			joined, err := JoinLanes(images, width)
			require.NoError(t, err)
			require.True(t, m.Equal(joined))
		}
	}
}

func TestSplitAtTheEndOfAll(t *testing.T) {
	in := &source.Input{Name: "f"}
	m, _ := FromBytes(math.MaxUint64-4, []byte{1, 2, 3, 4, 5}, in)
	parts := m.SplitSize(4)
	require.Len(t, parts, 2)
	assert.Equal(t, Span{math.MaxUint64 - 3, math.MaxUint64}, parts[1].Image.Runs()[0].Span())
	_, err := JoinLanes([]*Image{m, m}, 1)
	assert.ErrorContains(t, err, "past the last 64-bit address")
}

func TestSplitKeepsTheStartWhereItIs(t *testing.T) {
	m, _ := FromBytes(0, make([]byte, 32), &source.Input{Name: "f"})
	m.Start = Start{LinearStart, 0x11}
	parts := m.SplitSize(16)
	assert.Equal(t, Start{}, parts[0].Image.Start)
	assert.Equal(t, Start{LinearStart, 0x11}, parts[1].Image.Start)
}

func TestUsedPagesAndSwap(t *testing.T) {
	in := &source.Input{Name: "f"}
	a, _ := FromBytes(0x1F, []byte{1, 2}, in)
	b, _ := FromBytes(0x40, []byte{3}, in)
	c, _ := FromBytes(math.MaxUint64, []byte{4}, in)
	m, _ := Merge([]*Image{a, b, c}, First)
	assert.Equal(t, []Span{{0x10, 0x2F}, {0x40, 0x4F}, {math.MaxUint64 - 15, math.MaxUint64}}, m.UsedPages(16))

	w, _ := FromBytes(0x10, []byte{1, 2, 3, 4, 5, 6, 7, 8}, in)
	for size, want := range map[uint64][]byte{2: {2, 1, 4, 3, 6, 5, 8, 7}, 4: {4, 3, 2, 1, 8, 7, 6, 5}, 8: {8, 7, 6, 5, 4, 3, 2, 1}} {
		swapped, err := w.Swap(size)
		require.NoError(t, err)
		assert.Equal(t, want, swapped.Runs()[0].Data)
		back, err := swapped.Swap(size)
		require.NoError(t, err)
		assert.True(t, w.Equal(back))
	}
	_, err := m.Swap(2)
	assert.ErrorContains(t, err, "does not begin and end with whole words of 2 bytes")
}

func TestPatch(t *testing.T) {
	in := &source.Input{Name: "f", Counting: source.Offsets}
	patch := &source.Input{Name: "patch", Counting: source.Operation}
	m, _ := FromBytes(0x10, []byte{1, 2, 3, 4}, in)
	for want, p := range map[string]Patch{
		"holds no bytes at 0x0014 (1 byte); -grow":                       {At: 0x13, Bytes: []byte{9, 9}},
		"bytes at 0x0010..0x0011 (2 bytes) are 01 02, from f+0x0; 01 03": {At: 0x10, Bytes: []byte{9}, Expect: []byte{1, 3}},
		"bytes 04 05 are expected at 0x0013..0x0014 (2 bytes), but":      {At: 0x13, Bytes: []byte{9}, Expect: []byte{4, 5}},
		"2 bytes at 0xFFFF_FFFF_FFFF_FFFF run past the last 64-bit ad":   {At: math.MaxUint64, Bytes: []byte{9, 9}, Grow: true},
	} {
		_, _, _, err := p.Apply(m, patch)
		assert.ErrorContains(t, err, want)
	}
	out, old, missing, err := Patch{At: 0x12, Bytes: []byte{7, 8, 9}, Grow: true, Expect: []byte{3}}.Apply(m, patch)
	require.NoError(t, err)
	assert.Equal(t, []byte{3, 4, 0}, old)
	assert.Equal(t, uint64(1), missing)
	assert.Equal(t, []Run{{0x10, []byte{1, 2, 7, 8, 9}}}, out.Runs())
	for a, want := range map[uint64]string{0x11: "f+0x1", 0x12: "patch", 0x14: "patch"} {
		o, _ := out.Origin(a)
		assert.Equal(t, want, o.String(), fmt.Sprintf("%X", a))
	}
	assert.Equal(t, []byte{1, 2, 3, 4}, m.Runs()[0].Data, "the old image stays as it was")
}
