package memory

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

func TestCompareAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for n := range 500 {
		a, am := randomImage(r, "a", corners[n%len(corners)])
		b, bm := randomImage(r, "b", corners[n%len(corners)])
		var hole *byte
		if n%3 == 0 {
			hole = new(byte)
			*hole = byte(n % 2)
		}
		var want Comparison
		for k, v := range am {
			w, ok := bm[k]
			switch {
			case ok && v.value == w.value, !ok && hole != nil && v.value == *hole:
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
			if hole != nil && v.value == *hole {
				want.Equal++
			} else {
				want.OnlySecond++
			}
		}
		got := Compare(a, b, hole)
		require.Equal(t, []uint64{want.Equal, want.Differ, want.OnlyFirst, want.OnlySecond}, []uint64{got.Equal, got.Differ, got.OnlyFirst, got.OnlySecond})
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
	a, _ := FromBytes(0x100, make([]byte, 64), in)
	found := make([]byte, 64)
	found[3], found[10], found[30] = 1, 1, 1
	b, _ := FromBytes(0x100, found, in)
	assert.Equal(t, []Difference{
		{Span{0x103, 0x10A}, InBoth, 2}, // close by each other
		{Span{0x11E, 0x11E}, InBoth, 1},
	}, Compare(a, b, nil).Differences)
	assert.Equal(t, []Difference{{Span{0x11E, 0x11E}, InBoth, 1}}, Compare(a, b, nil, Span{0x110, 0x200}).Differences)
}

func TestLikelyCauses(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(9, 9))
	data := make([]byte, 4096)
	for i := range data {
		data[i] = byte(r.IntN(256))
	}
	expected, _ := FromBytes(0x1000, data, in)
	change := func(f func(d []byte) []byte) *Image {
		m, _ := FromBytes(0x1000, f(append([]byte{}, data...)), in)
		return m
	}
	erased := byte(0xFF)
	for want, found := range map[string]*Image{
		"erased, but not programmed": change(func(d []byte) []byte {
			for i := range d[512:1024] {
				d[512+i] = erased
			}
			return d
		}),
		"within words of 2": change(func(d []byte) []byte {
			for i := 0; i < len(d); i += 2 {
				d[i], d[i+1] = d[i+1], d[i]
			}
			return d
		}),
		"within words of 4": change(func(d []byte) []byte {
			for i := 0; i < len(d); i += 4 {
				d[i], d[i+1], d[i+2], d[i+3] = d[i+3], d[i+2], d[i+1], d[i]
			}
			return d
		}),
		"holds them +0x10 from":         change(func(d []byte) []byte { return append(make([]byte, 16), d...) }),
		"holds them -0x10 from":         change(func(d []byte) []byte { return d[16:] }),
		"ends at 0x1FEF, in the middle": change(func(d []byte) []byte { return d[:4080] }),
		"alone holds is FF":             change(func(d []byte) []byte { return append(d, erased, erased) }),
	} {
		causes := LikelyCauses(expected, found, Compare(expected, found, nil), erased)
		require.Len(t, causes, 1, want)
		assert.Contains(t, causes[0], want)
	}
	one := change(func(d []byte) []byte { d[7] ^= 4; return d })
	assert.Empty(t, LikelyCauses(expected, one, Compare(expected, one, nil), erased), "one bit tells nothing")
	moved, _ := expected.Move(0x2000, false)
	assert.Contains(t, LikelyCauses(expected, moved, Compare(expected, moved, nil), erased)[0], "+0x2000")
}

func TestSurvey(t *testing.T) {
	in := &source.Input{Name: "f"}
	data := append([]byte("\x01gauge 2.4.1\x00no number here\x00Version twelve\x00192 \x00"), make([]byte, 100)...)
	for range 20 {
		data = append(data, 0xDE, 0xAD, 0xBE, 0xEF)
	}
	m, _ := FromBytes(0x10, data, in)
	assert.Equal(t, []Text{{0x11, "gauge 2.4.1"}, {0x2C, "Version twelve"}}, m.Versions(9))
	repeats := m.Repeats(64)
	require.Len(t, repeats, 2)
	assert.Equal(t, []byte{0}, repeats[0].Pattern)
	assert.Equal(t, uint64(101), repeats[0].Size())
	assert.Equal(t, []byte{0xDE, 0xAD, 0xBE, 0xEF}, repeats[1].Pattern)
	assert.Equal(t, uint64(80), repeats[1].Size())
}
