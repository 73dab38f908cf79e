package dfu

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

func read(t testing.TB, data []byte) (*format.Content, *source.Problems) {
	t.Helper()
	var problems source.Problems
	c, err := Read(bytes.NewReader(data), &source.Input{Name: "f.dfu"}, format.ReadOptions{Size: int64(len(data))}, &problems)
	require.NoError(t, err)
	return c, &problems
}

// write writes bytes with the keys set as a command line would.
func write(t testing.TB, data string, settings ...source.Setting) []byte {
	t.Helper()
	w := Format.Writer(format.WriteOptions{})
	require.NoError(t, key.Set(w.Keys(), settings))
	m, _ := memory.FromBytes(0x4000, []byte(data), &source.Input{Name: "f"})
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, m))
	return b.Bytes()
}

// TestSuffixIsAsTheStandardSays holds it against DFU 1.1, table B.1. The CRC of
// "123456789" and the suffix before it was computed bit by bit.
func TestSuffixIsAsTheStandardSays(t *testing.T) {
	file := write(t, "123456789", source.Setting{Key: "vendor", Value: "0x1234"}, source.Setting{Key: "product", Value: "0x5678"},
		source.Setting{Key: "version-number", Value: "0x0241"})
	want := []byte("123456789\x41\x02\x78\x56\x34\x12\x00\x01UFD\x10")
	crc := uint32(0xFFFFFFFF) // CRC-32/JAMCRC: poly 0x04C11DB7 reflected, no final XOR
	for _, b := range want {
		crc ^= uint32(b)
		for range 8 {
			crc = crc>>1 ^ 0xEDB88320&-(crc&1)
		}
	}
	want = append(want, byte(crc), byte(crc>>8), byte(crc>>16), byte(crc>>24))
	assert.Equal(t, want, file)
	assert.True(t, Ends(file))

	c, problems := read(t, file)
	require.Zero(t, problems.Count())
	assert.Equal(t, []format.Fact{{Name: "vendor", Text: "0x1234"}, {Name: "product", Text: "0x5678"}, {Name: "version", Text: "0x0241"}},
		c.Facts)
	require.Len(t, c.Image.Runs(), 1)
	assert.Equal(t, memory.Run{First: 0, Data: []byte("123456789")}, c.Image.Runs()[0])
	c, _ = read(t, write(t, "x"))
	assert.Equal(t, "any", c.Facts[0].Text)
	c, problems = read(t, write(t, ""))
	assert.Zero(t, problems.Count())
	assert.True(t, c.Image.Empty())
}

func TestEveryChangedBitIsReported(t *testing.T) {
	file := write(t, strings.Repeat("harbour tide gauge", 20), source.Setting{Key: "vendor", Value: "1"})
	for i := range len(file) * 8 {
		changed := slices.Clone(file)
		changed[i/8] ^= 1 << (i % 8)
		c, problems := read(t, changed)
		require.Error(t, problems.Err(), "bit %d of byte %d", i%8, i/8)
		require.True(t, c.Image.Empty())
		require.False(t, Ends(changed))
	}
	for n := range file {
		_, problems := read(t, file[:n])
		require.Error(t, problems.Err(), "cut to %d bytes", n)
	}
}

func TestWhatIsWrongWithASuffix(t *testing.T) {
	sealed := func(change func(b []byte)) []byte {
		b := write(t, "some bytes of firmware")
		change(b)
		c := crc(b[:len(b)-4])
		return append(b[:len(b)-4], byte(c), byte(c>>8), byte(c>>16), byte(c>>24))
	}
	_, problems := read(t, sealed(func(b []byte) { b[len(b)-5] = 15 }))
	assert.ErrorContains(t, problems.Err(), "the DFU suffix says that it is of 15 bytes; expected 16")
	_, problems = read(t, sealed(func(b []byte) { b[len(b)-5] = 200 }))
	assert.ErrorContains(t, problems.Err(), "the DFU suffix says that it is of 200 bytes")
	c, problems := read(t, sealed(func(b []byte) { b[len(b)-10] = 0x1A }))
	require.NoError(t, problems.Err())
	assert.Equal(t, "f.dfu: warning: the DFU suffix is of version 0x011A; expected 0x0100", problems.Sorted()[0].Error())
	assert.Equal(t, uint64(22), c.Image.Bytes())
	_, problems = read(t, []byte("plain bytes, no suffix at all"))
	assert.ErrorContains(t, problems.Err(), "the file does not end in a DFU suffix")
}

func FuzzRead(f *testing.F) {
	f.Add(write(f, "abc"))
	f.Add([]byte("UFD\x10\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		c, problems := read(t, data)
		if problems.Errors() == 0 && c.Image.Bytes()+suffixSize > uint64(len(data)) {
			t.Fatal("more bytes than the file")
		}
	})
}

// TestReadAndWrittenAnyHow holds it to what all formats promise.
func TestReadAndWrittenAnyHow(t *testing.T) {
	m, _ := memory.FromBytes(0x4000, []byte("123456789"), &source.Input{Name: "f"})
	hole, _ := memory.FromBytes(0x4100, []byte("x"), &source.Input{Name: "f"})
	two, _ := memory.Merge([]*memory.Image{m, hole}, memory.First)
	file := codectest.Writes(t, Format.Writer(format.WriteOptions{}), m)
	read := codectest.Reads(t, Format.Reader, file)
	o, _ := read.Origin(3)
	assert.Equal(t, "f+0x3", o.String())
	err := Format.Writer(format.WriteOptions{}).Write(&bytes.Buffer{}, two)
	assert.ErrorContains(t, err, "a hole")
	for value, ok := range map[string]bool{"0": true, "0xFFFF": true, "0x10000": false} {
		assert.Equal(t, ok, key.Set(Format.Writer(format.WriteOptions{}).Keys(), []source.Setting{{Key: "vendor", Value: value}}) == nil,
			value)
	}
}

func TestEditedFiles(t *testing.T) {
	codectest.Edited(t, "testdata/edited.txt", 300, Format.Reader, map[string]string{
		"plain": string(write(t, "123456789")),
		"named": string(write(t, "\x00\x01\x02", source.Setting{Key: "vendor", Value: "0x1234"},
			source.Setting{Key: "product", Value: "0x5678"})),
	})
}
