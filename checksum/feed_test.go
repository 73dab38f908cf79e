package checksum

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
)

// TestEveryNameIsUnderstood asks for each algorithm by each of its names, in small letters
// too.
func TestEveryNameIsUnderstood(t *testing.T) {
	aliases := 0
	for _, k := range Kinds() {
		for _, name := range append([]string{k.Name}, k.Aliases...) {
			for _, text := range []string{name, strings.ToLower(name)} {
				got, err := KindOf(text)
				require.NoError(t, err, text)
				assert.Equal(t, k.Name, got.Name, text)
			}
		}
		aliases += len(k.Aliases)
	}
	assert.NotZero(t, aliases)
}

// TestHolesOfAllSpans feeds spans with holes: without a byte for them each is told, in order,
// and with one it stands for each byte that is missing, before, between and behind.
func TestHolesOfAllSpans(t *testing.T) {
	m := image(t, 0x10, "abcd")
	m, ok := m.Write(in, 0x18, []byte("efgh"))
	require.True(t, ok)
	spans := []memory.Span{{First: 0x0E, Last: 0x1B}, {First: 0x10, Last: 0x13}, {First: 0x1A, Last: 0x1D}}
	_, err := (&Feed{Spans: spans}).Bytes(m)
	var holes *HolesError
	require.True(t, errors.As(err, &holes))
	assert.Equal(t, []memory.Span{{First: 0x0E, Last: 0x0F}, {First: 0x14, Last: 0x17}, {First: 0x1C, Last: 0x1D}}, holes.Holes)
	hole := byte('.')
	pieces, err := (&Feed{Spans: spans, Hole: &hole}).Bytes(m)
	require.NoError(t, err)
	assert.Equal(t, "..abcd....efghabcdgh..", string(flat(pieces)))
	pieces, err = (&Feed{Spans: []memory.Span{{First: 0x12, Last: 0x12 + 3<<20}}, Hole: &hole}).Bytes(m)
	require.NoError(t, err)
	assert.Equal(t, "cd....efgh"+strings.Repeat(".", 3<<20+1-10), string(flat(pieces)))
}

// TestRunsAreTried searches the runs of one image of a few, and of no other.
func TestRunsAreTried(t *testing.T) {
	m := image(t, 0x10, "abcd")
	many := m
	for i := range 6 {
		next, ok := many.Write(in, 0x100+uint64(i)*0x10, []byte("x"))
		require.True(t, ok)
		if i == 0 {
			m = next
		}
		many = next
	}
	for _, c := range []struct {
		images []*memory.Image
		want   int
	}{{[]*memory.Image{m}, 2}, {[]*memory.Image{m, m}, 0}, {[]*memory.Image{many}, 0}, {[]*memory.Image{image(t, 0, "a")}, 0}} {
		s := &Search{Images: c.images}
		s.addRuns()
		assert.Len(t, s.Spans, c.want)
	}
}
