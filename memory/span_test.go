package memory

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFormatNumber(t *testing.T) {
	for want, got := range map[string]string{
		"1 hole": FormatNumber(1, "hole"), "0 holes": FormatNumber(0, "hole"), "1,234 entries": FormatNumber(uint64(1234), "entry"),
		"2 stretches": FormatNumber(2, "stretch"), "3 lines of text": FormatNumber(3, "line of text"),
		"1 line of text": FormatNumber(1, "line of text"),
	} {
		assert.Equal(t, want, got)
	}
}

func TestFormat(t *testing.T) {
	for address, want := range map[uint64]string{
		0: "0x0000", 0x7FFF: "0x7FFF", 0x1_0000: "0x0001_0000", 0x0600_4000: "0x0600_4000",
		0x1_0000_0000: "0x0001_0000_0000", math.MaxUint64: "0xFFFF_FFFF_FFFF_FFFF",
	} {
		assert.Equal(t, want, FormatAddress(address))
	}
	for size, want := range map[uint64]string{
		0: "0 bytes", 1: "1 byte", 1023: "1023 bytes", 1024: "1 KiB", 1540: "1.5 KiB (1,540 bytes)",
		16 << 10: "16 KiB", 1 << 20: "1 MiB", 1<<20 + 1: "1.0 MiB (1,048,577 bytes)", 4 << 30: "4 GiB",
		math.MaxUint64: "16.0 EiB (18,446,744,073,709,551,615 bytes)",
	} {
		assert.Equal(t, want, FormatSize(size))
	}
	assert.Equal(t, "0x4000..0x7FFF (16 KiB)", Span{0x4000, 0x7FFF}.String())
	assert.Equal(t, "0x4000 (1 byte)", Span{0x4000, 0x4000}.String())
}

func TestSpanEdges(t *testing.T) {
	all := Span{0, math.MaxUint64}
	assert.Equal(t, uint64(math.MaxUint64), all.Size())
	assert.Equal(t, uint64(1), Span{math.MaxUint64, math.MaxUint64}.Size())
	_, ok := SpanOf(math.MaxUint64, 2)
	assert.False(t, ok, "past the last address")
	_, ok = SpanOf(5, 0)
	assert.False(t, ok, "empty")
	s, ok := SpanOf(math.MaxUint64, 1)
	assert.True(t, ok)
	assert.Equal(t, Span{math.MaxUint64, math.MaxUint64}, s)
	_, ok = Span{0, 4}.Meet(Span{5, 9})
	assert.False(t, ok)
	assert.Equal(t, []Span{all}, Complement(nil))
	assert.Empty(t, Complement([]Span{all}))
	assert.Equal(t, []Span{{0, 9}, {12, 20}}, Union([]Span{{12, 15}, {5, 9}, {0, 6}, {16, 20}}))
	assert.Equal(t, []Span{{3, math.MaxUint64}}, Union([]Span{{3, math.MaxUint64}, {7, 9}}))
}
