package record

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/memory"
)

// TestChunksCarryOn joins lines whose data carry one another on, and no others.
func TestChunksCarryOn(t *testing.T) {
	type line struct {
		address uint64
		n, line int
	}
	chunk := func(first uint64, position, size, ref, each int) memory.Chunk {
		return memory.Chunk{First: first, Position: uint32(position), More: uint32(size - 1), Ref: uint32(ref), Each: uint8(each)}
	}
	for name, c := range map[string]struct {
		lines []line
		ended int // after how many lines End is called too
		want  []memory.Chunk
	}{
		"nothing":   {},
		"two lines": {lines: []line{{0, 4, 0}, {4, 4, 1}}, want: []memory.Chunk{chunk(0, 0, 8, 0, 4)}},
		"a short last": {lines: []line{{8, 4, 3}, {12, 2, 4}, {14, 4, 5}},
			want: []memory.Chunk{chunk(8, 3, 6, 0, 4), chunk(14, 5, 4, 6, 4)}},
		"a longer one":       {lines: []line{{0, 2, 0}, {2, 3, 1}}, want: []memory.Chunk{chunk(0, 0, 2, 0, 2), chunk(2, 1, 3, 2, 3)}},
		"a gap in addresses": {lines: []line{{0, 4, 0}, {5, 4, 1}}, want: []memory.Chunk{chunk(0, 0, 4, 0, 4), chunk(5, 1, 4, 4, 4)}},
		"a gap in lines":     {lines: []line{{0, 4, 0}, {4, 4, 2}}, want: []memory.Chunk{chunk(0, 0, 4, 0, 4), chunk(4, 2, 4, 4, 4)}},
		"an end between": {lines: []line{{0, 4, 0}, {4, 4, 1}}, ended: 1,
			want: []memory.Chunk{chunk(0, 0, 4, 0, 4), chunk(4, 1, 4, 4, 4)}},
		"an end after the short": {lines: []line{{0, 1, 7}}, ended: 1, want: []memory.Chunk{chunk(0, 7, 1, 0, 1)}},
	} {
		var b Block
		s := b.NewChunks()
		ref := 0
		for i, l := range c.lines {
			s.Add(l.address, l.n, l.line, ref)
			ref += l.n
			if i+1 == c.ended {
				s.End()
			}
		}
		s.End()
		s.End() // which adds nothing
		assert.Equal(t, c.want, b.Chunks, name)
	}
}

func TestNextLine(t *testing.T) {
	for text, want := range map[string][2]int{"ab\ncd": {3, 1}, "ab\r\ncd": {4, 1}, "ab\rcd": {3, 1}, "abcd": {2, 0}, "ab\r\r": {3, 1},
		"ab\n\n": {3, 1}} {
		next, ok := NextLine([]byte(text), 2)
		assert.Equal(t, want, [2]int{next, map[bool]int{true: 1}[ok]}, "%q", text)
	}
}
