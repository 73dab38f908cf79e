package rehearsal

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestChanceIsCounted tears few bits, and holds the chance that a guard holds over them
// against all that they can read as: of CRCs, sums and XORs, of words in either order, in
// flash, of which bits go one way, and in cells that may read as anything.
func TestChanceIsCounted(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(24, 9))
	likely := 0
	rounds := 250 / golden.Every(4)
	for round := range rounds {
		kind := []string{"CRC-8/SMBUS", "CRC-16/MODBUS", "SUM-8", "SUM-8/TWOS", "SUM-16/LITTLE", "SUM-16/BIG/ONES", "SUM-16", "XOR-8",
			"XOR-16/BIG", "CRC-5/USB"}[round%10]
		in, at, more := "\"slot.first..slot.first+15\"", "slot.first+16", ""
		first, size := uint64(64), 16
		cells := r.IntN(3) == 0
		if cells {
			in, at = "[\"slot.first..slot.first+1\", \"tables.first..tables.first+7\"]", "tables.first+8"
			first, size = 0x8000, 8
		}
		if r.IntN(3) == 0 {
			more = "swap = 2\n"
		}
		if !cells && r.IntN(3) == 0 { // what is fed goes over the value's place, too
			in = "\"slot.first..slot.first+17\""
			if !strings.Contains(kind, "16") {
				in, more = "\"slot.first..slot.first+16\"", ""
			}
			more += fmt.Sprintf("slot = %q\n", []string{"skip", "zero", "erased"}[r.IntN(3)])
		}
		if r.IntN(3) == 0 {
			more += "order = \"big\"\n"
		}
		text := strings.Replace(strings.ReplaceAll(tiny, "LAST", "127"), "size = 16\ngranule = 4", "size = 16\ngranule = 1", 1)
		m := mapOf(t, text+fmt.Sprintf("[[checksum]]\nname = \"sum\"\nkind = %q\nin = %s\nat = %q\nguards = \"slot\"\n%s", kind, in, at,
			more))
		d := &m.Checksums[0]
		data := make([]byte, 24)
		for i := range data {
			data[i] = 0xFF
			if r.IntN(3) == 0 {
				data[i] &^= 1 << r.IntN(8)
			}
		}
		if cells {
			for i := range data {
				data[i] = byte(r.Uint32())
			}
		}
		image := func() *memory.Image {
			one, ok := memory.FromBytes(first, data[:size+int(d.Size)], &source.Input{Name: "x"})
			require.True(t, ok)
			return sealed(t, m, one)
		}
		part := chip.New(m, 1)
		loader, ok := memory.FromBytes(0, []byte("loader"), &source.Input{Name: "x"})
		require.True(t, ok)
		part.Program(loader)
		if cells {
			part.Program(image()) // something else stood there
			for i := range data {
				data[i] ^= byte(r.Uint32() >> r.IntN(8))
			}
		}
		l := mustLayout(t, planOf(t, acts("bootloader", `"program"`)), part, image())
		j := newJudge(part.Clone(), l.expected(part), l)
		c := newClimber(l, j.before, j.after, j)
		for i := range c.worlds {
			w := &c.worlds[i]
			if len(w.balances) == 0 {
				continue
			}
			require.NotNil(t, w.cases)
			now := part.Clone()
			for cut := 1; cut <= len(l.list); cut++ {
				s := &l.list[cut-1]
				var touched []int
				for k := range c.units {
					if c.units[k].Span.First >= s.span.First && c.units[k].Last <= s.span.Last {
						touched = append(touched, k)
					}
				}
				got, _ := c.chanceOf(w.balances[0], &w.cases.run[cut-1].values[0], cut, touched)
				want, bits := countedChance(t, c, now, s, w.by)
				if bits <= most {
					assert.InDelta(t, want, got, 1e-12, "%s, cut %d of %d, world %v, %d bits\n%s", kind, cut, len(l.list), w.isNew, bits,
						more)
					if want > 0 {
						likely++
					}
				}
				apply(now, s)
			}
		}
	}
	assert.Greater(t, likely, 50)
}

// most is how many torn bits are tried in all their readings.
const most = 9

// countedChance reads all that torn bits can be.
func countedChance(t *testing.T, c *climber, now *chip.Chip, s *step, g *guarded) (chance float64, bits int) {
	b := now.Banks[s.n]
	stood := now.Peek(b, s.span)
	done := now.Clone()
	apply(done, s)
	goal := done.Peek(done.Banks[s.n], s.span)
	type place struct {
		at  int
		bit byte
	}
	var torn []place
	for i := range stood {
		for bit := byte(1); bit != 0; bit <<= 1 {
			if b.Replaces || (stood[i]^goal[i])&bit != 0 {
				torn = append(torn, place{i, bit})
			}
		}
	}
	if bits = len(torn); bits > most || bits == 0 || string(stood) == string(goal) {
		return 0, most + 1
	}
	holds, known := 0, 0
	for set := range 1 << bits {
		read := []byte(string(stood))
		for k, p := range torn {
			if set>>k&1 == 1 {
				read[p.at] ^= p.bit
			}
		}
		one := now.Clone()
		image, ok := memory.FromBytes(s.span.First, read, &source.Input{Name: "read"})
		require.True(t, ok)
		one.Program(image)
		if c.judge.fails(one, c.before.Map, g) == "" {
			if holds++; string(read) == string(stood) || string(read) == string(goal) {
				known++
			}
		}
	}
	kind := g.by[0].Kind
	switch {
	case holds == known:
		return 0, bits
	case kind.Group == "sum":
		holds -= known
	}
	return math.Ldexp(float64(holds), -bits), bits
}

// TestIndependentChanges counts which changes of a value are independent of each other, up to
// the last of 64 bits, and what they cannot add up to.
func TestIndependentChanges(t *testing.T) {
	value := func(v uint64) *uint64 { return &v }
	for _, c := range []struct {
		shares []uint64
		lacks  *uint64
		done   uint64
		want   float64
	}{
		{[]uint64{1 << 63, 1 << 62, 3 << 62}, nil, 0, 0.25},
		{[]uint64{1 << 63, 1 << 62, 3 << 62}, value(1 << 63), 0, 0.25},
		{[]uint64{1 << 63, 1 << 62, 3 << 62}, value(1), 0, 0},
		{[]uint64{1, 2, 4}, value(7), 7, 0},
		{[]uint64{1, 2, 4}, value(0), 7, 0},
		{[]uint64{1, 2, 4}, value(5), 7, 0.125},
		{[]uint64{1, 1}, value(1), 1, 0.5},
		{[]uint64{1, 1}, value(0), 0, 0.5},
	} {
		got := independent(64, c.lacks, c.done, func(do func(uint64) bool) {
			for _, share := range c.shares {
				if !do(share) {
					return
				}
			}
		})
		assert.Equal(t, c.want, got, "%X", c.shares)
	}
}
