package device

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestOpened erases devices as wholes, at random values of their words: what locked them is as
// delivered, and not one other bit is changed.
func TestOpened(t *testing.T) {
	random, locks := rand.New(rand.NewPCG(4, 4)), 0
	for _, name := range []string{"brindle-b8-32", "brindle-d32-256", "brindle-m32-512", "brindle-w16-64"} {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		for range 400 {
			values, locked := map[string]uint64{}, map[string]uint64{} // the bits that lock, by word
			for i := range m.Config {
				w := &m.Config[i]
				values[w.Name] = random.Uint64() & w.mask()
				if random.IntN(3) == 0 {
					values[w.Name] = w.Default
				}
			}
			for _, a := range m.Acting(values) {
				if a.Effect != Locked {
					continue
				}
				fields := []string{a.Field}
				if g := m.Group(a.Field); g != nil {
					fields = g.Fields
				}
				for _, f := range fields {
					w, field := m.Field(f)
					locked[w.Name] |= field.Mask()
					locks++
				}
			}
			opened := m.Opened(values)
			require.Len(t, opened, len(values))
			for i := range m.Config {
				w := &m.Config[i]
				mask := locked[w.Name]
				assert.Equal(t, values[w.Name]&^mask, opened[w.Name]&^mask, "%s %s", name, w.Name)
				assert.Equal(t, w.Default&mask, opened[w.Name]&mask, "%s %s", name, w.Name)
			}
		}
	}
	assert.Positive(t, locks)
}

// TestWhatNeedsWhat says what values do that need something to run, on boards that have it, that
// do not, and of which it is not said.
func TestWhatNeedsWhat(t *testing.T) {
	volts := func(from, to Quantity) *Range { return &Range{from, to} }
	needs := map[string]*Needs{"crystal": {Clock: Crystal}, "supply": {Supply: volts(4000, 5500)}, "both": {Clock: Crystal, Supply: volts(4000, 5500)},
		"pin": {Pin: "reset"}, "nothing": nil}
	boards := map[string]*Board{"no board": nil, "a board of which nothing is said": {}, "enough": {Clock: Crystal, Supply: volts(4500, 5500)},
		"low": {Clock: Crystal, Supply: volts(3000, 3600)}, "no clock": {Clock: NoClock, Supply: volts(4500, 5500)}, "supply": {Supply: volts(4500, 5500)}}
	stops := map[string][]string{ // the boards on which a value stops the device, or may
		"crystal": {"no board", "a board of which nothing is said", "no clock", "supply"},
		"supply":  {"low"},
		"both":    {"no board", "a board of which nothing is said", "low", "no clock", "supply"},
	}
	for need, n := range needs {
		for name, board := range boards {
			for _, effect := range []Effect{"", Stopped} {
				m := &Map{Board: board, Config: []Word{{Name: "w", Width: 1, Fields: []Field{{Name: "f", Bits: 1,
					Values: []FieldValue{{Meaning: "x", Needs: n, Effect: effect}}}}}}}
				stopped := slices.Contains(stops[need], name)
				if effect == Stopped { // taken away by what the board is known to have
					stopped = stopped || n.running() == nil || need == "supply" && (board == nil || board.Supply == nil)
				}
				acting := m.Acting(map[string]uint64{"w": 0})
				assert.Equal(t, stopped, len(acting) == 1, "%s needed, %s, %q", need, name, effect)
			}
		}
	}
}

// TestWhatATextStandsFor takes meanings, parts of them and numbers; where a number may be meant
// in two ways, neither is taken.
func TestWhatATextStandsFor(t *testing.T) {
	sizes := &Field{Name: "size", Bits: 2, Values: []FieldValue{{Value: 0, Meaning: "6 KiB"}, {Value: 1, Meaning: "2 KiB"},
		{Value: 2, Meaning: "1 KiB"}, {Value: 3, Meaning: "768 bytes"}}}
	sources := &Field{Name: "source", Bits: 2, Values: []FieldValue{{Value: 0, Meaning: "internal 8 MHz"}, {Value: 1, Meaning: "internal 64 kHz"},
		{Value: 2, Meaning: "a crystal of 2 MHz"}}}
	twice := &Field{Name: "twice", Bits: 2, Values: []FieldValue{{Value: 0, Meaning: "1 2"}, {Value: 1, Meaning: "12"}, {Value: 2, Meaning: "x 3"},
		{Value: 3, Meaning: "3 x"}}}
	addresses := &Field{Name: "at", Bits: 2, Values: []FieldValue{{Value: 0, Meaning: "at 0x2"}, {Value: 2, Meaning: "at 0x800"}}}
	number := &Field{Name: "number", Bits: 4}
	for _, c := range []struct {
		field *Field
		text  string
		want  any
	}{
		{sizes, "1 KiB", uint64(2)}, {sizes, "1kib", uint64(2)}, {sizes, "0x1", uint64(1)}, {sizes, "0b10", uint64(2)}, {sizes, "0", uint64(0)},
		{sizes, "3", uint64(3)}, {sizes, "6", uint64(0)}, {sizes, "768", uint64(3)}, {sizes, "bytes", uint64(3)},
		{sizes, "2", `size: 2 is the value of "1 KiB", and stands in "2 KiB"; give the whole meaning, or 0x2`},
		{sizes, "1", `size: 1 is the value of "2 KiB", and stands in "1 KiB"; give the whole meaning, or 0x1`},
		{sizes, "8", "size means one of: 6 KiB; 2 KiB; 1 KiB; 768 bytes"}, {sizes, "4", "size means one of"}, {sizes, "KiB", "size means one of"},
		{sizes, "", "size means one of"}, {sizes, "76", "size means one of"},
		{sources, "Crystal", uint64(2)}, {sources, "internal", "source means one of"}, {sources, "2", uint64(2)}, {sources, "8", uint64(0)},
		{sources, "1", uint64(1)}, {sources, "3", "source means one of"}, {sources, "64 k", uint64(1)},
		{twice, "1 2", uint64(0)}, {twice, "12", uint64(1)}, {twice, "1  2", "twice means one of"},
		{twice, "3", `twice: 3 is the value of "3 x", and stands in "x 3"; give the whole meaning, or 0x3`},
		{addresses, "0x2", uint64(2)}, {addresses, "0x800", uint64(2)}, {addresses, "2", uint64(2)}, {addresses, "at 0x2", uint64(0)},
		{number, "9", uint64(9)}, {number, "16", `number is a number of 4 bits, "16" is not`}, {number, "", "number is a number"},
	} {
		v, err := c.field.meant(c.text)
		if want, ok := c.want.(string); ok {
			assert.ErrorContains(t, err, want, c.text)
		} else if assert.NoError(t, err, c.text) {
			assert.Equal(t, c.want, v, c.text)
		}
	}
}

// TestMostChecksums loads as many checksums as a map may have, and one more.
func TestMostChecksums(t *testing.T) {
	const flash = "name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"1M\"\n"
	for _, n := range []int{mostChecksums, mostChecksums + 1} {
		text := flash
		for i := range n {
			text += fmt.Sprintf("[[checksum]]\nname = \"c%d\"\nkind = \"crc-8\"\nin = \"%d..%d\"\nat = %d\n", i, 16*i, 16*i+3, 16*i+8)
		}
		problems := &source.Problems{}
		m := Load("m", []byte(text), problems)
		if n > mostChecksums {
			require.Equal(t, 1, problems.Errors())
			assert.Contains(t, problems.Sorted()[0].Error(), "1001 checksums; expected at most 1000")
			continue
		}
		require.NoError(t, problems.Err())
		assert.Len(t, m.Checksums, n)
	}
}
