package chip

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

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
	for _, bank := range c.Banks {
		held := c.Peek(bank, bank.Span)
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
	m := mapOf(t, "parts")
	sequences := 10_000 / golden.Every(8)
	if testing.Short() {
		sequences = 200
	}
	for n := range sequences {
		r := rand.New(rand.NewPCG(uint64(n), 1))
		c := New(m, uint64(n))
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
	bank := c.Banks[r.IntN(len(c.Banks))]
	at := bank.Span.First + r.Uint64N(bank.Span.Size())
	page := bank.PageOf(at)
	first := page.First + r.Uint64N(page.Size()/bank.GranuleSize)*bank.GranuleSize
	data := make([]byte, bank.GranuleSize*(1+r.Uint64N((page.Last-first+1)/bank.GranuleSize)))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	switch n := r.IntN(10); {
	case n < 2 && bank.HasSectors():
		s := bank.SectorOf(at)
		c.Erase(bank, s)
		b.erase(s)
		return "erase " + s.Range()
	case n == 2 && bank.HasSectors():
		s := bank.SectorOf(at)
		c.CutErase(bank, s, r.IntN(6))
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
		for _, bank := range c.Banks {
			bank.Reserve(c, bank.Span)
		}
		c.Try()
		c.Erase(bank, bank.Span)
		c.ProgramAt(bank, first, data)
		if bank.HasSectors() {
			c.CutErase(bank, bank.SectorOf(at), 3)
		}
		c.DrawUndefined()
		c.Undo()
		return "undo"
	case n == 6:
		*c = *kept(t, c)
		return "kept in a file"
	case n == 7:
		c.EraseAll()
		for _, bank := range c.Banks {
			if bank.Kind != device.OTP {
				b.erase(bank.Span)
			}
		}
		return "erase all"
	}
	assert.Equal(t, b.program(first, data), c.ProgramAt(bank, first, data))
	return fmt.Sprintf("program %d bytes at 0x%X", len(data), first)
}

// cutProgram programs while the power fails: each bit is old or new.
func (b *bitModel) cutProgram(t *testing.T, r *rand.Rand, c *Chip, bank *Bank, at uint64, data []byte) {
	before := c.Peek(bank, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	whole := c.Clone()
	refused := !whole.ProgramAt(whole.bankOf(bank.Name), at, data)
	after := whole.Peek(whole.bankOf(bank.Name), memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	c.CutProgram(bank, at, data, r.IntN(8))
	now := c.Peek(bank, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	for i := range now {
		either := before[i] ^ now[i]
		if bank.Replaces {
			either &= bank.Erased ^ now[i] // or erased on the way
		}
		assert.Zero(t, either&(after[i]^now[i]), "each bit is old or new")
		if refused {
			assert.Equal(t, before[i], now[i])
		}
		for bit := range 8 {
			cell := &b.at(at + uint64(i))[bit]
			if bank.Replaces || !refused && data[i]>>bit&1 != bank.Erased>>bit&1 {
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

// failing takes nothing.
type failing struct{}

func (failing) Write([]byte) (int, error) { return 0, io.ErrShortWrite }

// kept returns the chip as it is after it was written to a file and read again.
func kept(t *testing.T, c *Chip) *Chip {
	var text, again bytes.Buffer
	require.NoError(t, c.Save(&text))
	out, err := Load("test.chip", text.Bytes(), c.Map, c.seed)
	require.NoError(t, err)
	for _, b := range c.Banks { // undefined bits are drawn anew
		if len(b.undefined) > 0 {
			return out
		}
	}
	require.NoError(t, out.Save(&again))
	require.Equal(t, text.String(), again.String())
	require.ErrorIs(t, out.Save(failing{}), io.ErrShortWrite)
	return out
}

// mapOf loads a map of the test data.
func mapOf(t testing.TB, name string) *device.Map {
	text, err := os.ReadFile("testdata/" + name + device.Extension)
	require.NoError(t, err)
	var problems source.Problems
	m := device.Load(name, text, &problems)
	require.NoError(t, problems.Err())
	return m
}

// random is an image of so many bytes.
func random(t testing.TB, at uint64, n int) *memory.Image {
	r := rand.New(rand.NewPCG(at, 0))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	image, ok := memory.FromBytes(at, b, &source.Input{Name: "test"})
	require.True(t, ok)
	return image
}

// TestFaultsAreRead goes through the forms of faults, and what is none.
func TestFaultsAreRead(t *testing.T) {
	m := mapOf(t, "small")
	var f Faults
	for _, text := range []string{"stuck 0x21.7", "stuck slot_a.first+1.0=1", "page-dead 0x240", "no-erase slot_b.last", "noise 1e-5",
		"address-line 9=1", "drop 0x300", "double 0x301", "identity 01 02", "cut 7 draw 2"} {
		require.NoError(t, f.Add(text, m), text)
	}
	assert.Equal(
		t,
		Faults{
			Stuck:    []StuckBit{{0x21, 7, false}, {0x201, 0, true}},
			Dead:     []uint64{0x240},
			NoErase:  []uint64{0x9FF},
			Noise:    1e-5,
			Line:     &StuckLine{9, true},
			Drop:     []uint64{0x300},
			Double:   []uint64{0x301},
			Identity: []byte{1, 2},
			Cut:      &Cut{7, Within, 2},
		},
		f,
	)
	for text, cut := range map[string]Cut{"cut 3": {3, Within, OwnDraw}, "cut 3 before": {3, Before, OwnDraw},
		"cut 12 after": {12, After, OwnDraw}} {
		f = Faults{}
		require.NoError(t, f.Add(text, m))
		assert.Equal(t, cut, *f.Cut)
		assert.Equal(t, text, f.Cut.String(), "a cut is given as it is told")
	}
	for text, want := range map[string]string{
		"":                 "unknown fault",
		"stuck":            "no bit of it",
		"stuck 0x21":       "no bit of it",
		"stuck 0x21.8":     "0 to 7",
		"stuck 0x21.1=2":   "neither =0 nor =1",
		"stuck nowhere.1":  "unknown",
		"page-dead":        "page-dead ADDRESS",
		"page-dead 0x7000": "is in no memory that can be programmed",
		"noise":            "a probability above 0",
		"noise 0":          "a probability above 0",
		"noise NaN":        "a probability above 0",
		"noise 1.5":        "up to 1",
		"address-line 64":  "0 to 63",
		"address-line -1":  "0 to 63",
		"identity":         "no bytes",
		"identity XY":      "XY",
		"cut":              "no number of an act",
		"cut 0":            "from 1",
		"cut 3 draw":       "before, after, or draw D (cut",
		"cut 3 draw x":     "a number",
		"melted 0x0":       "unknown fault \"melted\"",
	} {
		assert.ErrorContains(t, new(Faults).Add(text, m), want, text)
	}
}

// TestUndefinedBitsReadDifferently cuts an erase short and reads twice.
func TestUndefinedBitsReadDifferently(t *testing.T) {
	m := mapOf(t, "small")
	c := New(m, 3)
	c.Program(random(t, 512, 512))
	before := c.Peek(c.Banks[0], memory.Span{First: 512, Last: 1023})
	c.CutErase(c.Banks[0], memory.Span{First: 512, Last: 1023}, 0)
	assert.Equal(t, before, c.Peek(c.Banks[0], memory.Span{First: 512, Last: 1023}), "the first draw reads as before")
	kinds := map[string]bool{}
	for range 64 {
		c.DrawUndefined()
		now := c.Peek(c.Banks[0], memory.Span{First: 512, Last: 1023})
		switch {
		case bytes.Equal(now, before):
			kinds["old"] = true
		case bytes.Count(now, []byte{0xFF}) == len(now):
			kinds["erased"] = true
		default:
			kinds["neither"] = true
		}
	}
	assert.Len(t, kinds, 3)
	c.Erase(c.Banks[0], memory.Span{First: 512, Last: 1023})
	c.DrawUndefined()
	assert.Equal(t, bytes.Repeat([]byte{0xFF}, 512), c.Peek(c.Banks[0], memory.Span{First: 512, Last: 1023}), "an erase makes them sound")
}

// TestChipsThatAreNone reads files that are no chip's.
func TestChipsThatAreNone(t *testing.T) {
	m := mapOf(t, "small")
	for text, want := range map[string]string{
		``:  "not a chip file:",
		`[`: "not a chip file:",
		`{"schema": "mexalt.chip/2", "device": "Small"}`:                                                                                    `"mexalt.chip/2"`,
		`{"schema": "mexalt.chip/1", "device": "Other"}`:                                                                                    "the chip is a Other; expected a Small",
		`{"schema": "mexalt.chip/1", "device": "Small", "more": 1}`:                                                                         `unknown key "more"`,
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "ram"}]}`:                                                     "no memory ram",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "rows": ["0x0BFF AABB"]}]}`:                          "not a row of it",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "rows": ["0x0 A"]}]}`:                                "not a row of it",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "rows": ["0xFFFFFFFFFFFFFFFF AABB"]}]}`:              "not a row of it",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "written": ["0..0x10000"]}]}`:                        "not a span of it",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "undefined": [{"span": "0..0xC00"}]}]}`:              "not a span of it",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "words", "written": ["0x9000..0x9001"]}]}`:                    "written once",
		`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "undefined": [{"span": "0", "mask": ["0x1 FF"]}]}]}`: "not a row of it",
	} {
		_, err := Load("x.chip", []byte(text), m, 1)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want)
		}
	}
	_, err := Load("x.chip", []byte("{\n\"schema\": \"mexalt.chip/1\",\n\"device\" 1}"), m, 1)
	assert.ErrorContains(t, err, "x.chip:3: error: not a chip file")
}

// TestWordsAreTakenBack tries a word of configuration, and takes it back.
func TestWordsAreTakenBack(t *testing.T) {
	m := mapOf(t, "small")
	c := New(m, 1)
	w := &m.Config[0]
	was := c.Peek(c.BankAt(w.At), w.Span())
	c.Try()
	c.setWord(w, ^w.Default)
	assert.NotEqual(t, was, c.Peek(c.BankAt(w.At), w.Span()))
	c.Undo()
	assert.Equal(t, was, c.Peek(c.BankAt(w.At), w.Span()))
}

func FuzzChip(f *testing.F) {
	m := mapOf(f, "small")
	c := New(m, 1)
	c.Program(random(f, 0, 700))
	c.Program(random(f, 0x8000, 20))
	c.CutErase(c.Banks[0], memory.Span{First: 512, Last: 1023}, 3)
	var text bytes.Buffer
	require.NoError(f, c.Save(&text))
	f.Add(text.Bytes())
	f.Add([]byte(`{"schema": "mexalt.chip/1", "device": "Small", "memories": [{"name": "flash", "rows": ["0x0 AA"], "written": ["0..7"]}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Load("fuzz.chip", text, m, 1)
		if err != nil {
			return
		}
		var once, twice bytes.Buffer
		require.NoError(t, c.Save(&once))
		again, err := Load("fuzz.chip", once.Bytes(), m, 1)
		require.NoError(t, err)
		require.NoError(t, again.Save(&twice))
		require.Equal(t, once.String(), twice.String())
	})
}
