package rehearsal

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestAChipProgrammedByHand erases, programs and reads a chip step by step, and has it judged.
func TestAChipProgrammedByHand(t *testing.T) {
	m := open(t, "brindle-m32-512")
	image := station(t, m, 1, 0xA5, 100<<10)
	c := chip.New(m, 1)
	hand := NewManual(c)
	var took []time.Duration
	hand.Each = func(d time.Duration) { took = append(took, d) }
	span := func(first, size uint64) memory.Span {
		s, ok := memory.SpanOf(first, size)
		require.True(t, ok)
		return s
	}
	// Sectors of 8, 96 and 256 KiB: whole ones, each a step, with its own time.
	for _, s := range []memory.Span{span(0x0600_0000, 0x1000), span(0x0600_1000, 0x1000), span(0x0600_0000, 0x2001),
		span(0x0607_0000, 0x10000), span(0x0000_0000, 0x2000), span(0x0607_FFFF, 2)} {
		require.NotNil(t, hand.Erase(s), s)
	}
	assert.Zero(t, hand.Steps)
	require.Nil(t, hand.Erase(span(0x0600_C000, 0x4000+0x18000+0x18000)))
	assert.Equal(t, []time.Duration{90 * time.Millisecond, 90 * time.Millisecond, 620 * time.Millisecond, 620 * time.Millisecond}, took)
	// Pages of 512 bytes, granules of 8: what is left out is as erased.
	took = nil
	piece := func(at uint64, data string) *memory.Image {
		one, ok := memory.FromBytes(at, []byte(data), &source.Input{Name: "x"})
		require.True(t, ok)
		return one
	}
	require.Nil(t, hand.Program(piece(0x0600_01FD, "abcdef")))
	assert.Equal(t, []time.Duration{700 * time.Microsecond, 700 * time.Microsecond}, took)
	assert.Equal(t, 6, hand.Steps)
	got, failed := hand.Read(span(0x0600_01F8, 16))
	require.Nil(t, failed)
	assert.Equal(t, "\xFF\xFF\xFF\xFF\xFFabcdef\xFF\xFF\xFF\xFF\xFF", string(got))
	// Bits only leave what is erased.
	require.Nil(t, hand.Program(piece(0x0600_01FD, "\x0F")))
	got, _ = hand.Read(span(0x0600_01FD, 1))
	assert.Equal(t, []byte{'a' & 0x0F}, got)
	require.NotNil(t, hand.Program(piece(0x2800_0000, "a")))
	_, failed = hand.Read(span(0x0607_FFFF, 2))
	require.NotNil(t, failed)
	assert.Equal(t, "refused: 0x0607_FFFF..0x0608_0000 is in no memory", failed.What)

	left := hand.Judge(image)
	assert.False(t, left.Good())
	assert.Equal(t, StartsNew, left.Expected)
	assert.True(t, left.Verdict.Outcome.Bad())
	require.Nil(t, hand.Erase(span(0x0600_0000, 512<<10)))
	require.Nil(t, hand.Program(image))
	left = hand.Judge(image)
	assert.True(t, left.Good(), left.Verdict.Why())
	assert.True(t, left.Compared.Same())
	assert.Equal(t, StartsNew, left.Verdict.Outcome)
	// One bit, and its guard fails.
	first, _ := image.Extent(memory.Span{First: 0x0600_9000, Last: 0x0607_FFFF})
	at := first.First + 0x100
	held, _ := hand.Read(span(at, 1))
	require.Nil(t, hand.Program(piece(at, string([]byte{held[0] & (held[0] - 1)}))))
	left = hand.Judge(image)
	assert.False(t, left.Good())
	assert.EqualValues(t, 1, left.Compared.Differ)
	assert.NotEmpty(t, left.Causes)
	assert.Equal(t, at, left.Compared.Differences[0].First)
}

// TestByHandAsInARehearsal tears the same by hand as a rehearsal of the same acts does.
func TestByHandAsInARehearsal(t *testing.T) {
	m := open(t, "brindle-m32-512")
	sector := memory.Span{First: 0x0600_0000, Last: 0x0600_1FFF}
	page, _ := memory.FromBytes(sector.First, bytes.Repeat([]byte{0x33, 0xC4}, 256), &source.Input{Name: "page"})
	was, _ := memory.FromBytes(sector.First, bytes.Repeat([]byte{0x5A}, 0x2000), &source.Input{Name: "was"})
	p := planOf(t, "by = \"programmer\"\n[[act]]\ndo = \"erase\"\nin = \"0x0600_0000,0x2000\"\n[[act]]\ndo = \"program\"\nin = "+
		"\"0x0600_0000,512\"\n")
	for _, fault := range []string{"cut 1", "cut 1 draw 2", "cut 1 draw 3", "cut 2", "cut 2 draw 3", "cut 2 draw 4", "cut 2 draw 7"} {
		fresh := func() *chip.Chip {
			part := chip.New(m, 1)
			part.Program(was)
			var f chip.Faults
			require.NoError(t, f.Add(fault, m))
			part.SetFaults(f)
			return part
		}
		hand := NewManual(fresh())
		if hand.Erase(sector) == nil {
			require.NotNil(t, hand.Program(page), fault)
		}
		part := fresh()
		_, err := Rehearse(context.Background(), part, p, page, Options{})
		require.NoError(t, err)
		assert.Equal(t, part.Peek(part.BankAt(sector.First), sector), hand.Chip.Peek(hand.Chip.BankAt(sector.First), sector), fault)
	}
}

// TestPowerFailsByHand cuts the power before, in and after each of two steps.
func TestPowerFailsByHand(t *testing.T) {
	m := open(t, "brindle-m32-512")
	data := bytes.Repeat([]byte{0}, 512)
	for _, c := range []struct {
		fault        string
		erased, done bool // all of the sector, and of the page
		fails        int  // the step
	}{
		{"cut 1 before", false, false, 1}, {"cut 1 draw 0", false, false, 1}, {"cut 1 after", true, false, 1},
		{"cut 2 before", true, false, 2}, {"cut 2 after", true, true, 2}, {"cut 3", true, true, 0},
	} {
		part := chip.New(m, 1)
		was, _ := memory.FromBytes(0x0600_0000, bytes.Repeat([]byte{0x5A}, 0x2000), &source.Input{Name: "was"})
		part.Program(was)
		var f chip.Faults
		require.NoError(t, f.Add(c.fault, m))
		part.SetFaults(f)
		hand := NewManual(part)
		failed := hand.Erase(memory.Span{First: 0x0600_0000, Last: 0x0600_1FFF})
		assert.Equal(t, c.fails == 1, failed != nil, c.fault)
		if failed == nil {
			page, _ := memory.FromBytes(0x0600_0000, data, &source.Input{Name: "page"})
			failed = hand.Program(page)
			assert.Equal(t, c.fails == 2, failed != nil, c.fault)
		}
		assert.Equal(t, c.fails > 0, hand.PowerFailed, c.fault)
		if failed != nil {
			assert.Contains(t, failed.What, "the power failed", c.fault)
			assert.Equal(t, c.fails, failed.Step, c.fault)
		}
		b := part.BankAt(0x0600_0000)
		want := byte(0x5A)
		if c.erased {
			want = 0xFF
		}
		assert.Equal(t, bytes.Repeat([]byte{want}, 512), part.Peek(b, memory.Span{First: 0x0600_1000, Last: 0x0600_11FF}), c.fault)
		if c.done {
			want = 0
		}
		assert.Equal(t, bytes.Repeat([]byte{want}, 512), part.Peek(b, memory.Span{First: 0x0600_0000, Last: 0x0600_01FF}), c.fault)
		hand.PowerOn()
		assert.False(t, hand.PowerFailed)
	}
}

// TestTornBytesReadAnew reads a sector that lost power while it was erased: its bits read
// otherwise from one time to the next, those of the sectors beside it never.
func TestTornBytesReadAnew(t *testing.T) {
	m := open(t, "brindle-m32-512")
	c := chip.New(m, 1)
	hand := NewManual(c)
	data := bytes.Repeat([]byte{0x5A}, 0x4100)
	image, ok := memory.FromBytes(0x0600_0000, data, &source.Input{Name: "x"})
	require.True(t, ok)
	require.Nil(t, hand.Program(image))
	c.CutErase(c.BankAt(0x0600_2000), memory.Span{First: 0x0600_2000, Last: 0x0600_3FFF}, 2)
	readings := map[string]bool{}
	for range 8 {
		got, failed := hand.Read(memory.Span{First: 0x0600_0000, Last: 0x0600_40FF})
		require.Nil(t, failed)
		assert.Equal(t, data[:0x2000], got[:0x2000])
		assert.Equal(t, data[0x4000:], got[0x4000:])
		readings[string(got[0x2000:0x4000])] = true
	}
	assert.Greater(t, len(readings), 2)
}
