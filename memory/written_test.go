package memory

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/source"
)

// writeKeepingAll is [Image.Write], but that what is written over is kept whole.
func writeKeepingAll(m *Image, in *source.Input, address uint64, data []byte) *Image {
	patch, _ := FromBytes(address, data, in)
	patch.sources[0].over = &m.provenance
	out, _ := Merge([]*Image{m, patch}, Last)
	return out
}

// TestWrittenOver writes over images again and again, moves them and swaps their bytes: all
// origins are as if all that was written over had been kept, and what is kept is little.
func TestWrittenOver(t *testing.T) {
	tell := func(m *Image, address uint64) (text string) {
		o, ok := m.Origin(address)
		if !ok {
			return "none"
		}
		for at := &o; at != nil; at = at.Over {
			text += at.String() + "; "
		}
		return text
	}
	for seed := range uint64(60 / golden.Every(5)) {
		random := rand.New(rand.NewPCG(seed, 1))
		file := &source.Input{Name: "file", Counting: source.Offsets}
		m, _ := FromBytes(64, make([]byte, 256), file)
		whole := m
		for step := range 40 {
			in := &source.Input{Name: fmt.Sprint("step", step), Counting: source.Operation}
			switch random.IntN(6) {
			case 0:
				delta := uint64(random.IntN(64)) &^ 3
				m, _ = m.Move(delta, false, in)
				whole, _ = whole.Move(delta, false, in)
			case 1:
				swapped, err := m.Swap(4, in)
				if err == nil {
					m = swapped
					whole, err = whole.Swap(4, in)
					require.NoError(t, err)
				}
			default:
				at, data := uint64(random.IntN(400)), make([]byte, 1+random.IntN(24))
				for i := range data {
					data[i] = byte(random.Uint32())
				}
				m, _ = m.Write(in, at, data)
				whole = writeKeepingAll(whole, in, at, data)
			}
		}
		require.True(t, whole.Equal(m), "seed %d", seed)
		for address := range uint64(4096) {
			require.Equal(t, tell(whole, address), tell(m, address), "seed %d, 0x%X", seed, address)
		}
	}
	// A draft, written to many times, is what writes one after the other make, and leaves what
	// it began as.
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 2))
		low, _ := FromBytes(64, make([]byte, 200), &source.Input{Name: "low", Counting: source.Offsets})
		high, _ := FromBytes(300, make([]byte, 50), &source.Input{Name: "high", Counting: source.Offsets})
		begun, _ := Merge([]*Image{low, high}, First)
		d, m, origins := NewDraft(begun), begun, begun.Origins()
		for step := range 30 {
			in := &source.Input{Name: fmt.Sprint("step", step), Counting: source.Operation}
			at, data := uint64(random.IntN(400)), make([]byte, 1+random.IntN(8))
			for i := range data {
				data[i] = byte(random.Uint32())
			}
			if step%3 == 0 && step > 0 { // within a run that was written to
				at = 70 + uint64(random.IntN(180))
			}
			m, _ = m.Write(in, at, data)
			require.True(t, d.Write(in, at, data))
			require.True(t, m.Equal(d.Image()), "seed %d, step %d", seed, step)
		}
		for address := range uint64(420) {
			require.Equal(t, tell(m, address), tell(d.Image(), address), "seed %d, 0x%X", seed, address)
		}
		require.Equal(t, make([]byte, 200), begun.Runs()[0].Data)
		require.Equal(t, make([]byte, 50), begun.Runs()[1].Data)
		require.Equal(t, origins, begun.Origins())
		require.False(t, d.Write(&source.Input{Name: "end"}, math.MaxUint64, []byte{1, 2}))
	}
	// Of a thousand writes to the same few bytes each keeps those alone.
	file := &source.Input{Name: "file", Counting: source.Offsets}
	m, _ := FromBytes(0, make([]byte, 1<<20), file)
	for i := range 1000 {
		m, _ = m.Write(&source.Input{Name: "w", Counting: source.Operation}, uint64(i*512), []byte{1, 2})
	}
	pieces := 0
	for _, table := range m.Origins().Tables {
		pieces += len(table.Ranges)
	}
	require.LessOrEqual(t, pieces, 4000)
}
