package raw

import (
	"bytes"
	"math"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

func TestRead(t *testing.T) {
	text := strings.Repeat("0123456789", 20_000)
	for _, size := range []int64{-1, 0, int64(len(text)), 5} {
		m, err := Read(iotest.HalfReader(strings.NewReader(text)), &source.Input{Name: "f", Counting: source.Offsets}, size)
		require.NoError(t, err)
		got := make([]byte, len(text))
		require.True(t, m.ReadAt(got, 0))
		assert.Equal(t, text, string(got))
		o, _ := m.Origin(0x1234)
		assert.Equal(t, "f+0x1234", o.String())
	}
	m, err := Read(strings.NewReader(""), &source.Input{Name: "f"}, 0)
	assert.NoError(t, err)
	assert.True(t, m.Empty())
	_, err = Read(strings.NewReader(""), &source.Input{Name: "f"}, format.Most+1)
	assert.ErrorIs(t, err, source.ErrTooLarge)
}

func image(first uint64, data string) *memory.Image {
	m, ok := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
	if !ok {
		panic("past 64 bits")
	}
	return m
}

func TestWrite(t *testing.T) {
	two, _ := memory.Merge([]*memory.Image{image(0x100, "ab"), image(0x104, "c")}, memory.First)
	fill := byte('.')
	last := memory.Span{First: math.MaxUint64 - 3, Last: math.MaxUint64}
	for name, c := range map[string]struct {
		m    *memory.Image
		o    Writer
		want string
	}{
		"from the first byte":    {image(0x4000, "abc"), Writer{}, "abc"},
		"holes filled":           {two, Writer{Holes: &fill}, "ab..c"},
		"a span":                 {two, Writer{Holes: &fill, Span: &memory.Span{First: 0xFE, Last: 0x106}}, "..ab..c.."},
		"part of a run":          {two, Writer{Span: &memory.Span{First: 0x101, Last: 0x101}}, "b"},
		"at the end of all":      {image(math.MaxUint64-1, "yz"), Writer{Holes: &fill, Span: &last}, "..yz"},
		"empty":                  {&memory.Image{}, Writer{}, ""},
		"a span of holes":        {&memory.Image{}, Writer{Holes: &fill, Span: &memory.Span{First: 1, Last: 3}}, "..."},
		"more than a block":      {&memory.Image{}, Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 99_999}}, strings.Repeat(".", 100_000)},
		"named, however far off": {image(1<<40, "a"), Writer{Holes: &fill, Span: &memory.Span{First: 1<<40 - 1, Last: 1 << 40}}, ".a"},
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			require.NoError(t, c.o.Write(&b, c.m))
			assert.Equal(t, c.want, b.String())
		})
	}
	assert.EqualError(t, (&Writer{}).Write(&bytes.Buffer{}, two),
		"error: raw bytes have no addresses and the image has a hole: 0x0102..0x0103 (2 bytes) (fill them first; holes FF writes them as FF)")
	far, _ := memory.Merge([]*memory.Image{image(0, "a"), image(0x1000_0000, "b")}, memory.First)
	assert.ErrorContains(t, (&Writer{Holes: &fill}).Write(&bytes.Buffer{}, far), "would hold 2 bytes of data and 256.0 MiB")
	assert.ErrorContains(t, (&Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: math.MaxUint64}}).Write(&bytes.Buffer{}, far), "more raw bytes than one file may hold")
}
