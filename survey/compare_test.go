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
		require.Equal(
			t,
			[]uint64{want.Equal, want.Differ, want.OnlyFirst, want.OnlySecond},
			[]uint64{got.Equal, got.Differ, got.OnlyFirst, got.OnlySecond},
		)
		counts := map[Presence]uint64{}
		for _, d := range got.Differences {
			counts[d.Presence] += d.Bytes
			require.LessOrEqual(t, d.Bytes, d.Size())
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
	assert.Equal(
		t,
		[]Difference{{memory.Span{First: 0x11E, Last: 0x11E}, InBoth, 1}},
		Compare(a, b, nil, memory.Span{First: 0x110, Last: 0x200}).Differences,
	)
}

func TestSpansApartStayApart(t *testing.T) {
	in := &source.Input{Name: "f"}
	a, _ := memory.FromBytes(0, make([]byte, 16), in)
	b, _ := memory.FromBytes(0, []byte{0, 0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0}, in)
	assert.Len(t, Compare(a, b, nil, memory.Span{First: 0, Last: 3}, memory.Span{First: 6, Last: 9}).Differences, 2)
}

func TestLikelyCauses(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(9, 9))
	data := make([]byte, 4096)
	for i := range data {
		data[i] = byte(r.IntN(256))
	}
	expected, _ := memory.FromBytes(0x1000, data, in)
	change := func(f func(d []byte) []byte) *memory.Image {
		m, _ := memory.FromBytes(0x1000, f(append([]byte{}, data...)), in)
		return m
	}
	each := func(f func(i int, b byte) byte) *memory.Image {
		return change(func(d []byte) []byte {
			for i := range d {
				d[i] = f(i, d[i])
			}
			return d
		})
	}
	erased := byte(0xFF)
	for want, found := range map[string]*memory.Image{
		"erased, but not programmed": each(func(i int, b byte) byte {
			if i >= 512 && i < 1024 {
				return erased
			}
			return b
		}),
		"found as 00: filled with zeros": each(func(i int, b byte) byte {
			if i >= 512 && i < 1024 {
				return 0
			}
			return b
		}),
		"within words of 2":          each(func(i int, _ byte) byte { return data[i^1] }),
		"within words of 4":          each(func(i int, _ byte) byte { return data[i^3] }),
		"second they are +0x10 from": change(func(d []byte) []byte { return append(make([]byte, 16), d...) }),
		"second they are -0x10 from": change(func(d []byte) []byte { return d[16:] }),
		"at 0x1FEF, in the middle":   change(func(d []byte) []byte { return d[:4080] }),
		"only the second has are FF": change(func(d []byte) []byte { return append(d, erased, erased) }),
		"data bit 3 was found as 0":  each(func(_ int, b byte) byte { return b &^ 8 }),
		"data bit 7 was found as 1":  each(func(_ int, b byte) byte { return b | 0x80 }),
		"address line 4 reads as 0":  each(func(i int, _ byte) byte { return data[i&^16] }),
		"address line 9 reads as 1":  each(func(i int, _ byte) byte { return data[i|512] }),
		"inverted":                   each(func(_ int, b byte) byte { return ^b }),
		"bits only changed from 1 to 0: programmed without an erase": each(func(i int, b byte) byte {
			if i >= 1024 && i < 1100 {
				return b & data[i-512]
			}
			return b
		}),
		"pages of 128 bytes are swapped: the page at 0x1100 contains the data for 0x1300": change(func(d []byte) []byte {
			copy(d[0x100:0x180], data[0x300:0x380])
			copy(d[0x300:0x380], data[0x100:0x180])
			return d
		}),
		"page of 64 bytes is repeated: 0x1140": change(func(d []byte) []byte { copy(d[0x140:0x180], data[0x400:0x440]); return d }),
		"each 0A was made 0D 0A":               change(func(d []byte) []byte { return bytes.ReplaceAll(d, []byte("\n"), []byte("\r\n"))[:4096] }),
		"3 bytes were inserted at 0x1400": change(func(d []byte) []byte {
			return append(append(append([]byte{}, d[:0x400]...), 'x', 'y', 'z'), d[0x400:4093]...)
		}),
		"2 bytes were lost at 0x1400": change(func(d []byte) []byte { return append(append([]byte{}, d[:0x400]...), d[0x402:]...) }),
	} {
		causes := LikelyCauses(expected, found, Compare(expected, found, nil), erased)
		require.NotEmpty(t, causes, want)
		assert.Contains(t, causes[0].Text, want)
	}
	one := change(func(d []byte) []byte { d[7] ^= 4; return d })
	assert.Empty(t, LikelyCauses(expected, one, Compare(expected, one, nil), erased), "one bit tells nothing")
	transposed := change(func(d []byte) []byte { d[0x100], d[0x101] = d[0x101], d[0x100]; return d })
	assert.Empty(t, LikelyCauses(expected, transposed, Compare(expected, transposed, nil), erased), "equal bytes count against a cause")
	moved, _ := expected.Move(0x2000, false, in)
	assert.Contains(t, LikelyCauses(expected, moved, Compare(expected, moved, nil), erased)[0].Text, "+0x2000")
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
