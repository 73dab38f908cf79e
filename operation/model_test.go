package operation

import (
	"fmt"
	"hash/crc32"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// TestChecksumsProveAndStore holds values against ones that are given, or that the image
// holds, in either order and other sizes; and stores them where they may stand.
func TestChecksumsProveAndStore(t *testing.T) {
	e := &Environment{Cores: 1}
	in := image(t, map[uint64]string{0: "123456789", 0x10: "\x26\x39\xF4\xCB\xCB\xF4\x39\x26\x00\x00\x4B\x37",
		0x20: "\xFF\xFF\xFF\xFF\x05"})
	for _, c := range []struct {
		keys     string
		expected bool   // as it should be
		err      string // "" is none
	}{
		{"in=0..8", true, ""},
		{"in=0..8 expect=0xCBF43926", true, ""},
		{"in=0..8 expect=CBF43926", true, ""},
		{"in=0..8 expect=0xCBF43927", false, ""},
		{"in=0..8 expect=0x3926", false, ""},
		{"in=0..8 expect=0x1CBF43926", false, "has more than the 32 bits of CRC-32"},
		{"in=0..8 kind=CRC-16/MODBUS expect=0x4B37", true, ""},
		{"in=0..8 kind=CRC-16/MODBUS expect=0x004B37", true, ""},
		{"in=0..8 expect-at=0x10", true, ""},
		{"in=0..8 expect-at=0x10 order=big", false, ""},
		{"in=0..8 expect-at=0x14 order=big", true, ""},
		{"in=0..8 expect-at=0x14", false, ""},
		{"in=0..8 kind=CRC-16/MODBUS expect-at=0x18 size=4 order=big", true, ""},
		{"in=0..8 kind=CRC-16/MODBUS expect-at=0x1A order=big", true, ""},
		{"in=0..8 expect-at=0x1A", false, "the image does not contain the bytes 0x001A..0x001D"},
		{"in=0..9 expect=0xCBF43926", false, "there are no bytes at 0x0009"},
		{"in=0..8 holes=FF expect=0xCBF43926 expect-at=0x10", false, "give one"},
		{"in=0..8 store=0x30 expect=1", false, "not both in one run"},
		{"in=0..8 kind=SUM-8 kind=SUM-16 store=0x30", false, "2 kinds are given"},
		{"in=0..8 kind=SUM-8 kind=SUM-16 expect=1", false, "2 kinds are given"},
		{"in=0..8 size=4", false, "has no effect without `store`"},
		{"in=0..8 slot=skip", false, "has no effect where the value has no place"},
		{"in=0..8 order=big", false, "has no effect without `store`"},
		{"in=0..8 replace", false, "have no effect where nothing is stored"},
		{"in=0..8 grow expect=1", false, "have no effect where nothing is stored"},
		{"in=0..8 expect=xyz", false, "expect"},
		{"in=0..8 kind=nothing", false, "unknown algorithm"},
		{"in=0..8 store=0x20", true, ""},
		{"in=0..8 store=0x21", false, "0x0024 already contains 05"},
		{"in=0..8 store=0x21 replace", true, ""},
		{"in=0..8 store=0x30", false, "grow"},
		{"in=0..8 store=0x30 grow", true, ""},
		{"in=0..8 store=0x10", true, ""}, // the same bytes
		{"in=0..8 store=0x30 grow length-at=0x34", true, ""},
		{"in=0..8 store=0x30 grow length-at=0x33", false, "would overlap at 0x0033"},
		{"in=0..8 store=0xFFFFFFFFFFFFFFFE grow", false, "run past the last 64-bit address"},
		{"in=0..8 length-at=0x20 order=big", true, ""},
	} {
		o, err := apply(e, "checksum", keys(strings.Fields(c.keys)...), in)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, c.keys)
			continue
		}
		if assert.NoError(t, err, c.keys) {
			r := &o.Checksums[0]
			assert.Equal(t, c.expected, r.AsExpected(), c.keys)
			assert.Equal(t, strings.Contains(c.keys, "expect"), r.Expected != nil, c.keys)
			assert.Equal(t, strings.Contains(c.keys, " store="), r.Stored != nil, c.keys)
		}
	}
	o, err := apply(e, "checksum", keys("in=0..8", "expect=0x26F4F4CB"), in)
	require.NoError(t, err)
	assert.Empty(t, o.Checksums[0].Hints)
	o, err = apply(e, "checksum", keys("in=0..8", "expect-at=0x14"), in)
	require.NoError(t, err)
	assert.NotEmpty(t, o.Checksums[0].Hints, "the other order")
	o, err = apply(e, "checksum", keys("in=0..8", "length-at=0x20", "order=big"), in)
	require.NoError(t, err)
	assert.Contains(t, held(o.Image()), "20:\x00\x00\x00\x09\x05")
}

// model is an image as simple as can be.
type model map[uint64]byte

func (m model) image(t *testing.T, name string) memory.Part {
	out := &memory.Image{}
	for _, at := range slices.Sorted(maps.Keys(m)) {
		var ok bool
		out, ok = out.Write(&source.Input{Name: name}, at, []byte{m[at]})
		require.True(t, ok)
	}
	return memory.Part{Name: name, Image: out}
}

// TestOperationsDoWhatAModelDoes does random operations, one after the other, on images
// and on models of single bytes.
func TestOperationsDoWhatAModelDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(25, 2))
	random := func(most int) model {
		m := model{}
		for range 1 + r.IntN(4) {
			at := 0x100 + r.Uint64N(64)
			for range 1 + r.IntN(most) {
				m[at] = byte(r.Uint32())
				at++
			}
		}
		return m
	}
	e := &Environment{Cores: 1}
	span := func() (first, last uint64) {
		first = 0x0F8 + r.Uint64N(80)
		return first, first + r.Uint64N(24)
	}
	in := func(at, first, last uint64) bool { return first <= at && at <= last }
	steps := 0
	for range 400 {
		now := random(12)
		part := now.image(t, "f")
		for range 6 {
			var name string
			var set []string
			parts := []memory.Part{part}
			next := maps.Clone(now)
			first, last := span()
			given := fmt.Sprintf("0x%X..0x%X", first, last)
			nothing := false // is there to compute over
			switch name = []string{"merge", "place", "cut", "fill", "patch", "convert", "checksum"}[r.IntN(7)]; name {
			case "merge":
				other := random(8)
				rule := []string{"first", "last"}[r.IntN(2)]
				set = []string{"clash=" + rule}
				parts = append(parts, other.image(t, "g"))
				for at, b := range other {
					if _, there := next[at]; !there || rule == "last" {
						next[at] = b
					}
				}
			case "place":
				to := 0x100 + r.Uint64N(32)
				least := slices.Min(slices.Collect(maps.Keys(now)))
				set = []string{fmt.Sprintf("at=0x%X", to)}
				clear(next)
				for at, b := range now {
					next[at-least+to] = b
				}
			case "cut":
				keep := r.IntN(2) == 0
				set = []string{map[bool]string{true: "keep=", false: "drop="}[keep] + given}
				maps.DeleteFunc(next, func(at uint64, _ byte) bool { return in(at, first, last) != keep })
			case "fill":
				set = []string{"with=A5 5A", "in=" + given}
				for at := first; at <= last; at++ {
					if _, there := next[at]; !there {
						next[at] = []byte{0xA5, 0x5A}[at%2]
					}
				}
			case "patch":
				set = []string{fmt.Sprintf("at=0x%X", first), "number=0x1234", "size=2", "order=big", "bytes=77", "grow"}
				next[first], next[first+1], next[first+2] = 0x12, 0x34, 0x77
			case "convert":
				set = []string{"in=" + given}
				maps.DeleteFunc(next, func(at uint64, _ byte) bool { return !in(at, first, last) })
			case "checksum":
				set = []string{"in=" + given, "holes=FF", fmt.Sprintf("store=0x%X", last+1), "grow", "replace"}
				var fed []byte
				nothing = true
				for at := first; at <= last; at++ {
					b, there := now[at]
					if nothing = nothing && !there; !there {
						b = 0xFF
					}
					fed = append(fed, b)
				}
				sum := crc32.ChecksumIEEE(fed)
				for i := range uint64(4) {
					next[last+1+i] = byte(sum >> (8 * i))
				}
			}
			if len(next) == 0 {
				continue
			}
			o, err := apply(e, name, keys(set...), parts...)
			if nothing {
				require.ErrorContains(t, err, "there is nothing to compute over")
				continue
			}
			require.NoError(t, err, "%s %v of %v", name, set, now)
			steps++
			want := next.image(t, "want")
			require.True(t, want.Image.Equal(o.Image()), "%s %v of %s\nis   %s\nwant %s", name, set, held(part.Image), held(o.Image()),
				held(want.Image))
			now, part = next, memory.Part{Name: "f", Image: o.Image()}
		}
	}
	assert.Greater(t, steps, 1500)
}
