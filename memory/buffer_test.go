package memory

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestBufferGivesBackWhatWasPut takes sizes around those at which it grows.
func TestBufferGivesBackWhatWasPut(t *testing.T) {
	all := make([]byte, 21<<20)
	rand.NewChaCha8([32]byte{1}).Read(all)
	for _, size := range []int{0, 1, 64 << 10, 64<<10 + 1, bufferChunk - 1, bufferChunk, bufferChunk + 1, 2 * bufferChunk,
		2*bufferChunk + 1, len(all)} {
		var b Buffer
		for left := all[:size]; len(left) > 0; {
			room := b.Room()
			require.NotEmpty(t, room)
			n := copy(room[:min(len(room), 100_003)], left)
			b.Took(n)
			left = left[n:]
		}
		require.Equal(t, size, b.Len())
		assert.True(t, bytes.Equal(all[:size], b.Bytes()), "%d bytes", size)
	}
}

// TestBatchesOfUnknownSize appends blocks to a batch for which no room was
// reserved, as from a pipe, with records in order and at random.
func TestBatchesOfUnknownSize(t *testing.T) {
	const blocks, records, each = 90, 4096, 32
	data := make([]byte, blocks*records*each)
	rand.NewChaCha8([32]byte{2}).Read(data)
	in := &source.Input{Name: "f", Counting: source.Lines}
	for _, shuffled := range []bool{false, true} {
		order := rand.New(rand.NewPCG(3, 4)).Perm(blocks)
		var all Batch
		for i := range blocks {
			at := i
			if shuffled {
				at = order[i]
			}
			var block Batch
			for j := range records {
				first := (at*records + j) * each
				block.Add(uint64(first), data[first:first+each], j)
			}
			all.Append(&block, i*records+1)
		}
		require.Equal(t, len(data), all.Len())
		m, clashes := all.Image(in)
		require.Zero(t, clashes.Count)
		require.Len(t, m.Runs(), 1)
		assert.True(t, bytes.Equal(data, m.Runs()[0].Data))
		block := 17
		if shuffled {
			block = order[17]
		}
		o, ok := m.Origin(uint64(block*records*each + 5*each))
		require.True(t, ok)
		assert.Equal(t, fmt.Sprintf("f:%d", 17*records+6), o.String())
	}
}
