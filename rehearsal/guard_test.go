package rehearsal

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestSumsOfLargeRegions changes a chip of 4 MiB here and there, forward and back, and holds the
// checksums of regions that begin and end anywhere, which are known block by block, against those
// that are computed over all bytes at once.
func TestSumsOfLargeRegions(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 4))
	const size, sector, page = 4 << 20, 4 << 10, 256
	spans := []memory.Span{{First: 0, Last: 1<<20 - 1}, {First: 4096, Last: 4096 + 64*4096 - 1}, {First: 4095, Last: 2<<20 + 17},
		{First: 300_001, Last: 300_009},
		{First: 64 * 4096, Last: 3*64*4096 - 2}, {First: 2 << 20, Last: size - 17}, {First: 3 << 20, Last: 3<<20 + 64*4096}}
	var text strings.Builder
	fmt.Fprintf(&text, "name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = %d\npage = %d\nsectors = [{ "+
		"count = %d, size = %d }]\n"+
		"[[memory]]\nname = \"values\"\nkind = \"eeprom\"\nfirst = 0x10000000\nsize = 64\n", size, page, size/sector, sector)
	for i, s := range spans {
		kind := []string{"CRC-32/ISO-HDLC", "CRC-16/XMODEM", "CRC-64/XZ"}[i%3]
		fmt.Fprintf(&text, "[[checksum]]\nname = \"s%d\"\nkind = %q\nin = \"%d..%d\"\nat = %d\n", i, kind, s.First, s.Last, 0x10000000+8*i)
	}
	var problems source.Problems
	m := device.Load("p.device.toml", []byte(text.String()), &problems)
	require.NoError(t, problems.Err())
	c := chip.New(m, 1)
	b := c.Banks[0]
	data := func(n int) []byte {
		out := make([]byte, n)
		for i := range out {
			out[i] = byte(random.Uint32())
		}
		return out
	}
	first, ok := memory.FromBytes(1000, data(2<<20+5000), &source.Input{Name: "test"})
	require.True(t, ok)
	c.Program(first)
	j := &judge{}
	j.forget()
	tried := false
	for step := range 60 {
		at := random.Uint64N(size / sector)
		switch what := random.IntN(6); {
		case what == 0:
			c.Erase(b, b.SectorOf(at*sector))
		case what == 1 && !tried:
			c.Try()
			tried = true
		case what == 2 && tried:
			c.Undo()
			tried = false
		case what == 3:
			c.CutErase(b, b.SectorOf(at*sector), step%3)
		default:
			c.ProgramAt(b, at*sector+page*random.Uint64N(sector/page), data(page))
		}
		image := c.Image()
		for i := range m.Checksums {
			s, err := m.Checksums[i].Spec(m, image)
			require.NoError(t, err)
			value, _, err := s.Compute(image, 1)
			require.NoError(t, err)
			assert.Equal(t, value, s.Kind.Join(j.parts(c, s)), "%d: %s", step, s.Feed.Spans)
		}
	}
}

// TestWhereAGuardLies holds guards whose value lies before and within what they cover, with each
// way in which it counts there: what is stored is right, and with a byte that is changed it is not.
// What a guard covers may reach into a memory that nobody programs.
func TestWhereAGuardLies(t *testing.T) {
	in := &source.Input{Name: "test"}
	for _, kind := range []string{"CRC-32/ISO-HDLC", "CRC-16/XMODEM", "SUM-32"} {
		for slot, at := range map[string]uint64{"": 0, "skip": 0x104, "zero": 0x1FC, "erased": 0x100} {
			text := fmt.Sprintf("name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = 4096\npage = 4\n"+
				"sectors = [{ count = 4, size = 1024 }]\n[[memory]]\nname = \"rom\"\nkind = \"rom\"\nfirst = 0x8000\nsize = 16\n"+
				"[[checksum]]\nname = \"s\"\nkind = %q\nin = [%s\"0x100..0x1FF\"]\nat = %d\nsize = 4\n",
				kind, map[bool]string{true: "\"0x8000..0x800F\", "}[slot == "" || slot == "zero"], at)
			if slot != "" {
				text += fmt.Sprintf("slot = %q\n", slot)
			}
			if kind == "CRC-16/XMODEM" {
				text += "swap = 2\n"
			}
			var problems source.Problems
			m := device.Load("p.device.toml", []byte(text), &problems)
			require.NoError(t, problems.Err(), text)
			data := make([]byte, 0x100)
			for i := range data {
				data[i] = byte(i*i + 1)
			}
			image, ok := memory.FromBytes(0x100, data, in)
			require.True(t, ok)
			spec, err := m.Checksums[0].Spec(m, image)
			require.NoError(t, err)
			spec.Feed.Hole = &m.Memories[0].Erased
			_, stored, err := spec.Compute(image, 1)
			require.NoError(t, err)
			image, _ = image.Write(in, at, stored)
			for changed, right := range map[uint64]bool{0x400: true, 0x110: false, 0x1FB: false, at: false} {
				was := [1]byte{0xFF}
				image.ReadAt(was[:], changed)
				other, _ := image.Write(in, changed, []byte{was[0] ^ 1})
				c := chip.New(m, 1)
				c.Program(other)
				j := &judge{}
				j.forget()
				assert.Equal(t, right, j.holds(c, m, &m.Checksums[0]), "%s\nchanged at %X", text, changed)
			}
		}
	}
}
