package rehearsal

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// parts is a part with a memory of each kind: flash, flash that is written once and
// reads 00 when erased, EEPROM, one-time memory.
const parts = `name = "Parts"
identity = "50 41"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = 256
page = 16
granule = 2
sectors = [{ count = 2, size = 32 }, { count = 3, size = 64 }]
[[memory]]
name = "once"
kind = "flash"
first = 0x1100
size = 128
page = 32
granule = 8
write-once = true
erased = 0x00
sectors = [{ count = 4, size = 32 }]
[[memory]]
name = "eeprom"
kind = "eeprom"
first = 0x1180
size = 32
granule = 1
[[memory]]
name = "serial"
kind = "otp"
first = 0x11A0
size = 16
granule = 8
`

// mapOf loads a map from its text.
func mapOf(t testing.TB, text string) *device.Map {
	var problems source.Problems
	m := device.Load("test", []byte(text), &problems)
	require.NoError(t, problems.Err())
	return m
}

// bitModel is the model that a chip is held against: each bit for itself, as simple as it
// can be.
type bitModel struct {
	m     *device.Map
	cells [][8]cell       // from firstCell on
	once  map[uint64]bool // by the first address of a granule
}

const firstCell = 0x1000

func (b *bitModel) at(address uint64) *[8]cell { return &b.cells[address-firstCell] }

type cell struct {
	one   bool
	loose bool // undefined
}

func newBits(m *device.Map) *bitModel {
	b := &bitModel{m, make([][8]cell, 0x200), map[uint64]bool{}}
	for i := range m.Memories {
		b.erase(m.Memories[i].Span)
	}
	return b
}

func (b *bitModel) erase(s memory.Span) {
	for at := s.First; at <= s.Last; at++ {
		for bit := range 8 {
			b.at(at)[bit] = cell{one: b.m.ErasedAt(at)>>bit&1 == 1}
		}
		delete(b.once, b.granule(at))
	}
}

func (b *bitModel) granule(at uint64) uint64 {
	mem := b.m.MemoryAt(at)
	return at - (at-mem.Span.First)%mem.Granule
}

func (b *bitModel) program(at uint64, data []byte) bool {
	mem := b.m.MemoryAt(at)
	limited := mem.WriteOnce || mem.Kind == device.OTP
	same := true
	for i, x := range data {
		for bit := range 8 {
			same = same && b.at(at + uint64(i))[bit].one == (x>>bit&1 == 1)
		}
	}
	for i := range data {
		if limited && b.once[b.granule(at+uint64(i))] {
			return mem.Kind == device.OTP && same
		}
	}
	for i, x := range data {
		b.once[b.granule(at+uint64(i))] = true
		for bit := range 8 {
			one, erased := x>>bit&1 == 1, mem.Erased>>bit&1 == 1
			c := &b.at(at + uint64(i))[bit]
			if mem.Kind == device.EEPROM || one != erased {
				*c = cell{one: one}
			}
		}
	}
	return true
}

// agrees holds the chip against the model. Loose bits may be anything, and are taken
// over as they are.
func (b *bitModel) agrees(t *testing.T, c *Chip, what string) {
	for _, bank := range c.banks {
		held := c.peek(bank, bank.Span)
		for i, x := range held {
			at := bank.Span.First + uint64(i)
			for bit := range 8 {
				cell := &b.at(at)[bit]
				one := x>>bit&1 == 1
				if cell.loose {
					cell.one = one
				}
				if cell.one != one {
					require.Failf(t, "differs", "%s: bit %d of %s", what, bit, memory.FormatAddress(at))
				}
			}
		}
	}
}

// TestTheChipIsItsBits does random acts on a chip and on a model of single bits.
func TestTheChipIsItsBits(t *testing.T) {
	m := mapOf(t, parts)
	sequences := 10_000
	if testing.Short() {
		sequences = 500
	}
	for n := range sequences {
		r := rand.New(rand.NewPCG(uint64(n), 1))
		c := NewChip(m, uint64(n))
		b := newBits(m)
		for act := range 12 {
			what := b.act(t, r, c)
			b.agrees(t, c, fmt.Sprintf("sequence %d, act %d, %s", n, act, what))
			if t.Failed() {
				return
			}
		}
	}
}

// act does one random act on both.
func (b *bitModel) act(t *testing.T, r *rand.Rand, c *Chip) string {
	bank := c.banks[r.IntN(len(c.banks))]
	at := bank.Span.First + r.Uint64N(bank.Span.Size())
	page := bank.page(at)
	first := page.First + r.Uint64N(page.Size()/bank.granule)*bank.granule
	data := make([]byte, bank.granule*(1+r.Uint64N((page.Last-first+1)/bank.granule)))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	switch n := r.IntN(10); {
	case n < 2 && bank.erases():
		s := bank.sector(at)
		c.erase(bank, s)
		b.erase(s)
		return "erase " + s.Range()
	case n == 2 && bank.erases():
		s := bank.sector(at)
		c.cutErase(bank, s, r.IntN(6))
		for at := s.First; at <= s.Last; at++ {
			for bit := range 8 {
				b.at(at)[bit].loose = true
			}
			b.once[b.granule(at)] = true
		}
		return "erase cut short " + s.Range()
	case n == 3:
		b.cutProgram(t, r, c, bank, first, data)
		return "program cut short"
	case n == 4:
		c.Reset()
		return "reset"
	case n == 5:
		// What is tried and undone changes nothing.
		for _, bank := range c.banks {
			bank.reach(c, bank.Span)
		}
		c.try()
		c.erase(bank, bank.Span)
		c.program(bank, first, data)
		if bank.erases() {
			c.cutErase(bank, bank.sector(at), 3)
		}
		c.redraw()
		c.undo()
		return "undo"
	case n == 6:
		*c = *kept(t, c)
		return "kept in a file"
	case n == 7:
		c.eraseAll()
		for _, bank := range c.banks {
			if bank.Kind != device.OTP {
				b.erase(bank.Span)
			}
		}
		return "erase all"
	}
	assert.Equal(t, b.program(first, data), c.program(bank, first, data))
	return fmt.Sprintf("program %d bytes at 0x%X", len(data), first)
}

// cutProgram programs while the power fails: each bit is old or new.
func (b *bitModel) cutProgram(t *testing.T, r *rand.Rand, c *Chip, bank *bank, at uint64, data []byte) {
	before := c.peek(bank, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	whole := c.clone()
	refused := !whole.program(whole.bankOf(bank.Name), at, data)
	after := whole.peek(whole.bankOf(bank.Name), memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	c.cutProgram(bank, at, data, r.IntN(8))
	now := c.peek(bank, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	for i := range now {
		either := before[i] ^ now[i]
		if bank.replaces {
			either &= bank.Erased ^ now[i] // or erased on the way
		}
		assert.Zero(t, either&(after[i]^now[i]), "each bit is old or new")
		if refused {
			assert.Equal(t, before[i], now[i])
		}
		for bit := range 8 {
			cell := &b.at(at + uint64(i))[bit]
			if bank.replaces || !refused && data[i]>>bit&1 != bank.Erased>>bit&1 {
				cell.loose = false
			}
			if !cell.loose {
				cell.one = now[i]>>bit&1 == 1
			}
		}
		if !refused {
			b.once[b.granule(at+uint64(i))] = true
		}
	}
}

// kept returns the chip as it is after it was written to a file and read again.
func kept(t *testing.T, c *Chip) *Chip {
	var text, again bytes.Buffer
	require.NoError(t, c.Save(&text))
	out, err := LoadChip("test.chip", text.Bytes(), c.Map, c.seed)
	require.NoError(t, err)
	for _, b := range c.banks { // undefined bits are drawn anew
		if len(b.undefined) > 0 {
			return out
		}
	}
	require.NoError(t, out.Save(&again))
	require.Equal(t, text.String(), again.String())
	return out
}
