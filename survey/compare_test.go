package survey

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// randomImage makes an image with holes around a corner, and its bytes.
func randomImage(r *rand.Rand, corner uint64) (*memory.Image, map[uint64]byte) {
	m, held := &memory.Image{}, map[uint64]byte{}
	for range 1 + r.IntN(6) {
		first, data := corner+r.Uint64N(60), make([]byte, 1+r.IntN(9))
		for i := range data {
			data[i] = byte(r.IntN(3))
			held[first+uint64(i)] = data[i]
		}
		m, _ = m.Write(&source.Input{Name: "f"}, first, data)
	}
	return m, held
}

// corners are addresses around which images are made.
var corners = []uint64{0, 0xFFF0, 0xFFFF_FFF0, 1 << 40}

func TestCompareAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for n := range 500 {
		a, am := randomImage(r, corners[n%len(corners)])
		b, bm := randomImage(r, corners[n%len(corners)])
		var hole *byte
		if n%3 == 0 {
			hole = new(byte)
			*hole = byte(n % 2)
		}
		var want Comparison
		for k, v := range am {
			w, ok := bm[k]
			switch {
			case ok && v == w, !ok && hole != nil && v == *hole:
				want.Equal++
			case ok:
				want.Differ++
			default:
				want.OnlyFirst++
			}
		}
		for k, v := range bm {
			if _, ok := am[k]; ok {
				continue
			}
			if hole != nil && v == *hole {
				want.Equal++
			} else {
				want.OnlySecond++
			}
		}
		got := Compare(a, b, hole)
		require.Equal(t, []uint64{want.Equal, want.Differ, want.OnlyFirst, want.OnlySecond},
			[]uint64{got.Equal, got.Differ, got.OnlyFirst, got.OnlySecond})
		counts := map[Presence]uint64{}
		presence := func(at uint64) Presence {
			v, first := am[at]
			w, second := bm[at]
			switch {
			case first && second && v != w:
				return InBoth
			case first && !second && (hole == nil || v != *hole):
				return OnlyFirst
			case !first && second && (hole == nil || w != *hole):
				return OnlySecond
			}
			return 0xFF // none
		}
		for i, d := range got.Differences {
			counts[d.Presence] += d.Bytes
			require.True(t, i == 0 || got.Differences[i-1].Last < d.First)
			require.Equal(t, d.Presence, presence(d.First))
			require.Equal(t, d.Presence, presence(d.Last))
			in := uint64(0)
			for at := range d.Size() {
				if presence(d.First+at) == d.Presence {
					in++
				}
			}
			require.Equal(t, in, d.Bytes)
		}
		require.Equal(t, map[Presence]uint64{InBoth: want.Differ, OnlyFirst: want.OnlyFirst, OnlySecond: want.OnlySecond},
			map[Presence]uint64{InBoth: counts[InBoth], OnlyFirst: counts[OnlyFirst], OnlySecond: counts[OnlySecond]})
		require.Equal(t, got.Same(), want.Differ+want.OnlyFirst+want.OnlySecond == 0)
		require.True(t, Compare(a, a, hole).Same())
	}
}

func TestCompareGathersStretches(t *testing.T) {
	in := &source.Input{Name: "f"}
	a, _ := memory.FromBytes(0x100, make([]byte, 64), in)
	found := make([]byte, 64)
	found[3], found[10], found[30] = 1, 1, 1
	b, _ := memory.FromBytes(0x100, found, in)
	assert.Equal(t, []Difference{
		{memory.Span{First: 0x103, Last: 0x10A}, InBoth, 2}, // close by each other
		{memory.Span{First: 0x11E, Last: 0x11E}, InBoth, 1},
	}, Compare(a, b, nil).Differences)
	assert.Equal(t, []Difference{{memory.Span{First: 0x11E, Last: 0x11E}, InBoth, 1}},
		Compare(a, b, nil, memory.Span{First: 0x110, Last: 0x200}).Differences)
}

func TestSpansApartStayApart(t *testing.T) {
	in := &source.Input{Name: "f"}
	a, _ := memory.FromBytes(0, make([]byte, 16), in)
	b, _ := memory.FromBytes(0, []byte{0, 0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0}, in)
	assert.Len(t, Compare(a, b, nil, memory.Span{First: 0, Last: 3}, memory.Span{First: 6, Last: 9}).Differences, 2)
}

func TestSurvey(t *testing.T) {
	in := &source.Input{Name: "f"}
	data := append([]byte("\x01gauge 2.4.1\x00no number here\x00Version twelve\x00192 \x00"), make([]byte, 100)...)
	for range 20 {
		data = append(data, 0xDE, 0xAD, 0xBE, 0xEF)
	}
	m, _ := memory.FromBytes(0x10, data, in)
	assert.Equal(t, []Text{{0x11, "gauge 2.4.1"}, {0x2C, "Version twelve"}}, Versions(m, 9))
	repeats := Repeats(m, 64)
	require.Len(t, repeats, 2)
	assert.Equal(t, []byte{0}, repeats[0].Pattern)
	assert.Equal(t, uint64(101), repeats[0].Size())
	assert.Equal(t, []byte{0xDE, 0xAD, 0xBE, 0xEF}, repeats[1].Pattern)
	assert.Equal(t, uint64(80), repeats[1].Size())
}

// TestTotals counts by section, and pages once however many differences they have.
func TestTotals(t *testing.T) {
	in := &source.Input{Name: "f"}
	data := bytes.Repeat([]byte{1}, 0x300)
	a, _ := memory.FromBytes(0x100, data, in)
	change := func(places ...int) *memory.Image {
		d := bytes.Clone(data)
		for _, p := range places {
			d[p-0x100] = 2
		}
		m, _ := memory.FromBytes(0x100, d[:0x2F0], in)
		return m
	}
	sections := []Section{
		{Name: "low", Spans: []memory.Span{{First: 0x110, Last: 0x1FF}}, Page: 0x40, From: 0x100},
		{Name: "high", Spans: []memory.Span{{First: 0x200, Last: 0x3FF}}},
		{Name: "same", Spans: []memory.Span{{First: 0x100, Last: 0x10F}}, Page: 0x40},
	}
	assert.Equal(t, []Total{{Section: "low", Differ: 5, PagesTouched: 3, Pages: 4}, {Section: "high", Differ: 1, OnlyFirst: 0x10}},
		Totals(a, change(0x110, 0x130, 0x13F, 0x140, 0x1FF, 0x200), nil, sections))
	assert.Equal(t, []Total{{Section: "low", Differ: 2, PagesTouched: 1, Pages: 4}, {Section: "high", OnlyFirst: 0x10}},
		Totals(a, change(0x180, 0x190), nil, sections))
	one := byte(1)
	assert.Empty(t, Totals(a, change(), &one, sections), "what is missing counts as the byte that is there")
	assert.Equal(t, []Total{{Section: "high", OnlySecond: 0x10}}, Totals(change(), a, nil, sections))
}
