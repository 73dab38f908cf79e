package raw

import (
	"bytes"
	"io"
	"math"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
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
		"from the first byte": {image(0x4000, "abc"), Writer{}, "abc"},
		"holes filled":        {two, Writer{Holes: &fill}, "ab..c"},
		"a span":              {two, Writer{Holes: &fill, Span: &memory.Span{First: 0xFE, Last: 0x106}}, "..ab..c.."},
		"part of a run":       {two, Writer{Span: &memory.Span{First: 0x101, Last: 0x101}}, "b"},
		"at the end of all":   {image(math.MaxUint64-1, "yz"), Writer{Holes: &fill, Span: &last}, "..yz"},
		"empty":               {&memory.Image{}, Writer{}, ""},
		"a span of holes":     {&memory.Image{}, Writer{Holes: &fill, Span: &memory.Span{First: 1, Last: 3}}, "..."},
		"more than a block": {&memory.Image{}, Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 99_999}},
			strings.Repeat(".", 100_000)},
		"named, however far off": {image(1<<40, "a"), Writer{Holes: &fill, Span: &memory.Span{First: 1<<40 - 1, Last: 1 << 40}}, ".a"},
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			require.NoError(t, c.o.Write(&b, c.m))
			assert.Equal(t, c.want, b.String())
		})
	}
	assert.EqualError(t, (&Writer{}).Write(&bytes.Buffer{}, two),
		"error: a raw file cannot have holes, and the image has a hole: 0x0102..0x0103 (2 bytes) (fill them first; holes FF writes "+
			"them as FF)")
	assert.ErrorContains(t,
		(&Writer{Place: func(s memory.Span) string { return "a place of " + memory.FormatBytes(s.Size()) }}).Write(&bytes.Buffer{}, two),
		"and the part has a hole: a place of 2 bytes (")
	far, _ := memory.Merge([]*memory.Image{image(0, "a"), image(0x1000_0000, "b")}, memory.First)
	assert.ErrorContains(t, (&Writer{Holes: &fill}).Write(&bytes.Buffer{}, far), "would have 2 bytes of data and 256.0 MiB")
	assert.ErrorContains(t, (&Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: math.MaxUint64}}).Write(&bytes.Buffer{}, far),
		"more raw bytes than one file may")
}

// TestHowManyHoles writes holes up to the bounds, and asks beyond them.
func TestHowManyHoles(t *testing.T) {
	fill := byte('.')
	apart := func(data string, hole uint64) *memory.Image {
		m, _ := memory.Merge([]*memory.Image{image(0, data), image(uint64(len(data))+hole, "z")}, memory.First)
		return m
	}
	large := strings.Repeat("0123456789abcdef", 1<<20)
	for _, c := range []struct {
		m    *memory.Image
		w    Writer
		asks bool
	}{
		{apart("a", 16<<20), Writer{Holes: &fill}, false},
		{apart("a", 16<<20+1), Writer{Holes: &fill}, true},
		{apart("a", 16<<20+1), Writer{Holes: &fill, Huge: true}, false},
		{apart(large, 16<<20+1), Writer{Holes: &fill}, false}, // as much as the data
		{apart(large, 16<<20+2), Writer{Holes: &fill}, true},
		{image(0, "a"), Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 256<<20 + 64}}, false},
		{image(0, "a"), Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 256<<20 + 65}}, true},
		{image(0, "a"), Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: format.Most - 1}, Huge: true}, false},
	} {
		_, err := c.w.Check(c.m)
		assert.Equal(t, c.asks, err != nil, "%v", c.m.Holes(memory.Span{First: 0, Last: format.Most}))
	}
	_, err := (&Writer{Huge: true, Span: &memory.Span{First: 0, Last: format.Most}}).Check(image(0, "a"))
	assert.ErrorContains(t, err, "more raw bytes than one file may")

	var many []*memory.Image
	for i := range 11 {
		if i == 3 {
			_, err := (&Writer{}).Check(merged(many))
			assert.ErrorContains(t, err, "the image has 2 holes: 0x0001..0x000F (15 bytes), 0x0011..0x001F (15 bytes) (fill")
		}
		if i == 10 {
			_, err := (&Writer{}).Check(merged(many))
			assert.ErrorContains(t, err, "and 1 more (fill")
		}
		if i == 9 {
			_, err := (&Writer{}).Check(merged(many))
			assert.ErrorContains(t, err, "0x0071..0x007F (15 bytes) (fill")
		}
		many = append(many, image(uint64(i)*16, "x"))
	}
	_, err = (&Writer{}).Check(merged(many))
	assert.ErrorContains(t, err, "the image has 10 holes: 0x0001..0x000F (15 bytes), ")
	assert.ErrorContains(t, err, "0x0071..0x007F (15 bytes), and 2 more (fill")

	m := image(0, "a").WithHeader([]byte("HDR")).WithStart(memory.Start{Kind: memory.LinearStart, Value: 4})
	notes, err := (&Writer{}).Check(m)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{
			`the header "HDR" is left out: a raw file contains only data`,
			"the start address 0x0004 is lost: a raw file contains only data",
		},
		notes,
	)
	notes, err = (&Writer{}).Check(image(0, "a"))
	require.NoError(t, err)
	assert.Empty(t, notes)

	text := codectest.Writes(t, &Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 200_000}}, apart(large[:100_000], 66_000))
	assert.Len(t, text, 200_001)
	codectest.Reads(t, Format.Reader, text)
	var pieces countingWriter
	require.NoError(t, (&Writer{Holes: &fill, Span: &memory.Span{First: 0, Last: 1<<20 - 1}}).Write(&pieces, &memory.Image{}))
	assert.Equal(t, 16, pieces.n, "holes are written in blocks of 64 KiB")
}

type countingWriter struct{ n int }

func (c *countingWriter) Write(b []byte) (int, error) { c.n++; return len(b), nil }

func merged(list []*memory.Image) *memory.Image {
	m, _ := memory.Merge(list, memory.First)
	return m
}

// filling takes so many bytes, and is full.
type filling struct{ room int }

func (f *filling) Write(b []byte) (int, error) {
	n := min(f.room, len(b))
	if f.room -= n; n < len(b) {
		return n, io.ErrShortWrite
	}
	return n, nil
}

// TestFullDisks writes to what is full after each byte: in holes, in runs, and behind them.
func TestFullDisks(t *testing.T) {
	var b memory.Batch
	b.Add(0x12, []byte("ab"), 1)
	b.Add(0x18, []byte("cde"), 1)
	m, _ := b.Image(&source.Input{Name: "f"})
	hole := byte(0xFF)
	w := &Writer{Holes: &hole, Span: &memory.Span{First: 0x10, Last: 0x1F}}
	var whole bytes.Buffer
	require.NoError(t, w.Write(&whole, m))
	require.Equal(t, "\xFF\xFFab\xFF\xFF\xFF\xFFcde\xFF\xFF\xFF\xFF\xFF", whole.String())
	for room := range whole.Len() {
		assert.ErrorIs(t, w.Write(&filling{room}, m), io.ErrShortWrite, "%d", room)
	}
	assert.NoError(t, w.Write(&filling{whole.Len()}, m))
}
