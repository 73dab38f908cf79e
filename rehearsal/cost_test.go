package rehearsal

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// TestCostOf adds up by hand what updates of the small device cost: sectors of 512 bytes
// in 20 to 40 ms, pages of 64 bytes in 2 to 5 ms.
func TestCostOf(t *testing.T) {
	m := mapOf(t, strings.Replace(small, "[[config]]", "[link]\nbaud = 6400\n[[config]]", 1))
	old := joined(t, &source.Input{Name: "old"}, 0, bytes.Repeat([]byte{1}, 3072), 0x8000, bytes.Repeat([]byte{2}, 32))
	change := func(image *memory.Image, at uint64, data ...byte) *memory.Image {
		out, ok := image.Write(&source.Input{Name: "change"}, at, data)
		require.True(t, ok)
		return out
	}
	cost := func(new *memory.Image) *Cost {
		c, err := CostOf(m, old, new, 0)
		require.NoError(t, err)
		return c
	}
	assert.Zero(t, cost(old).Changed)
	without, err := CostOf(mapOf(t, small), old, change(old, 700, 9), 6400)
	require.NoError(t, err)
	assert.Equal(t, cost(change(old, 700, 9)), without, "a link that is given is as one that the map has")
	assert.Empty(t, cost(old).Places)

	c := cost(change(old, 700, 9))
	assert.Equal(t, []uint64{1, 1, 512, 8, 512}, []uint64{c.Changed, c.Sectors, c.Erased, c.Pages, c.Written}, "a byte costs its sector")
	link := 8 * 100 * time.Millisecond // a page is 640 bits
	assert.Equal(t, link, c.Link)
	assert.Equal(t, 20*time.Millisecond+8*2*time.Millisecond+link, c.Typical)
	assert.Equal(t, 40*time.Millisecond+8*5*time.Millisecond+link, c.Most)

	c = cost(change(change(change(old, 1023, 9), 1024, 9), 2600, 9))
	require.Len(t, c.Places, 2, "sectors behind one another are one place")
	assert.Equal(t, memory.Span{First: 512, Last: 1535}, c.Places[0].Span, "the most costly is first")
	assert.Equal(t, uint64(2), c.Places[0].Bytes)
	assert.Equal(t, memory.Span{First: 2560, Last: 3071}, c.Places[1].Span)
	assert.Equal(t, uint64(3), c.Sectors)
	assert.Equal(t, c.Typical, c.Places[0].Typical+c.Places[1].Typical)

	c = cost(change(old, 0x8005, 7))
	assert.Equal(t, []uint64{1, 0, 1, 4}, []uint64{c.Changed, c.Sectors, c.Pages, c.Written}, "EEPROM is not erased before")
	assert.Equal(t, []string{"programming tables"}, c.MissingTimes)

	c = cost(joined(t, &source.Input{Name: "part"}, 1536, []byte{1, 1, 3}))
	assert.Equal(t, []uint64{1, 1, 1}, []uint64{c.Changed, c.Sectors, c.Pages}, "what the new image does not hold stays")
	assert.True(t, time.Duration(0) < c.Typical)
}
