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
