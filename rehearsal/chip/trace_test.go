package chip

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// stateOf is all that a chip holds, and what it draws next.
func stateOf(c *Chip) string {
	var b strings.Builder
	for _, bank := range c.Banks {
		fmt.Fprintf(&b, "%s:", bank.Name)
		for _, t := range bank.Stretches {
			for at := 0; at < len(t.Data); at += BlockSize {
				data := t.Data[at:min(at+BlockSize, len(t.Data))]
				var written []byte
				if t.written != nil {
					written = t.written[at : at+len(data)]
				}
				if !bytes.Equal(data, bank.Blank[:len(data)]) || bytes.IndexByte(written, 1) >= 0 {
					fmt.Fprintf(&b, " %X %X %X", t.First+uint64(at), crc32.ChecksumIEEE(data), crc32.ChecksumIEEE(written))
				}
			}
		}
		for _, u := range bank.undefined {
			fmt.Fprintf(&b, " %s %X %X", u.Span, crc32.ChecksumIEEE(u.mask), crc32.ChecksumIEEE(u.was))
		}
		b.WriteString("\n")
	}
	fmt.Fprintln(&b, c.fresh, c.State.Key, c.State.Values, c.State.Stopped, c.State.Protects, c.LockedBy(), c.Silent(), c.Answers(),
		c.Words())
	return b.String()
}

// laidOut is where a chip holds bytes.
func laidOut(c *Chip) string {
	var b strings.Builder
	for _, bank := range c.Banks {
		for _, t := range bank.Stretches {
			fmt.Fprintf(&b, " %X+%X", t.First, len(t.Data))
		}
	}
	return b.String()
}

// TestWhatChipsWentThrough takes chips of the shipped maps through acts by chance, whole and cut
// off, with faults and without, and holds all that each of them leaves against what it was. After
// an undo, and in what was kept in a file, all is as before.
func TestWhatChipsWentThrough(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	for _, name := range []string{"brindle-b8-32", "brindle-m32-512", "brindle-d32-256", "brindle-w16-64"} {
		m, err := device.Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		for seed := range uint64(16) {
			r := rand.New(rand.NewPCG(seed, 5))
			c := New(m, seed)
			if seed%4 == 3 {
				c.SetFaults(faultsOf(t, r, c))
			}
			fmt.Fprintf(&out, "%s %d:", name, seed)
			for range 40 {
				what := chanceAct(t, r, c)
				fmt.Fprintf(&out, " %s %04x", what, crc32.ChecksumIEEE([]byte(stateOf(c)+laidOut(c)))&0xFFFF)
			}
			out.WriteString("\n")
		}
	}
	golden.File(t, "testdata/trace.txt", out.String())
}

// faultsOf are one to three faults of kinds by chance.
func faultsOf(t *testing.T, r *rand.Rand, c *Chip) (f Faults) {
	b := c.Banks[r.IntN(len(c.Banks))]
	list := Examples(b.Span.First+r.Uint64N(min(b.Span.Size(), 9000)), b, 3)
	for range 1 + r.IntN(3) {
		text := list[r.IntN(len(list))].Fault
		if strings.HasPrefix(text, "cut") {
			continue
		}
		require.NoError(t, f.Add(text, c.Map), text)
	}
	return f
}

// chanceAct does something to a chip and says what.
func chanceAct(t *testing.T, r *rand.Rand, c *Chip) string {
	b := c.Banks[r.IntN(len(c.Banks))]
	if r.IntN(3) > 0 {
		b = c.Banks[0]
	}
	// Near the borders of blocks, and of the memory.
	at := b.Span.First + r.Uint64N(min(b.Span.Size(), 3*BlockSize))
	switch r.IntN(4) {
	case 0:
		at = b.Span.First + min(b.Span.Size()-1, BlockSize-uint64(r.IntN(40)))
	case 1:
		at = b.Span.Last - min(b.Span.Size()-1, uint64(r.IntN(100)))
	}
	n := min(uint64(1+r.IntN(70)), b.Span.Last-at+1)
	at = b.GranuleOf(at).First
	n = (n + b.GranuleSize - 1) / b.GranuleSize * b.GranuleSize
	n = min(n, b.Span.Last-at+1)
	data := make([]byte, n)
	for i := range data {
		if data[i] = byte(r.Uint32()); r.IntN(9) == 0 {
			data[i] = b.Erased
		}
	}
	span := memory.Span{First: at, Last: at + n - 1}
	switch act := r.IntN(16); act {
	case 0, 1, 2:
		ok := c.ProgramAt(b, at, data)
		return fmt.Sprintf("program%v", ok)
	case 3:
		c.Erase(b, b.SectorOf(at))
		return "erase"
	case 4, 5:
		c.CutProgram(b, at, data, r.IntN(9))
		return "cut-program"
	case 6, 7:
		c.CutErase(b, b.PageOf(at), r.IntN(6))
		return "cut-erase"
	case 8:
		c.Reset()
		return "reset"
	case 9:
		c.DrawUndefined()
		return "draw"
	case 10:
		sector, page := b.SectorOf(at), b.PageOf(at)
		b.Reserve(c, memory.Span{First: min(sector.First, page.First), Last: max(sector.Last, page.Last, span.Last)}) // which must not grow
		before := stateOf(c)
		c.Try()
		for range 1 + r.IntN(4) {
			undoneAct(r, c, b, at, data)
		}
		c.Undo()
		require.Equal(t, before, stateOf(c))
		return "undo"
	case 11:
		c.SeedAt(uint64(r.IntN(100)))
		return fmt.Sprintf("seed %04x", crc32.ChecksumIEEE(c.Read(span))&0xFFFF)
	case 12:
		image, p := c.ReadBack()
		if p != nil {
			return "no read-back: " + p.Message(nil)
		}
		whole := c.Image()
		return fmt.Sprintf("read-back %d %d %v", image.Bytes(), whole.Bytes(),
			slices.EqualFunc(whole.Runs(), image.Cut(spansOf(whole)...).Runs(),
				func(a, b memory.Run) bool { return bytes.Equal(a.Data, b.Data) }))
	case 13:
		peek := c.Peek(b, span)
		equal := b.Equals(span, peek)
		peek[len(peek)-1] ^= 1
		other := b.Equals(span, peek)
		if s := b.StretchAt(at); s != nil && (s.First > at || s.Last() < at) {
			t.Fatal("not the stretch of the address")
		}
		_, next := b.Next(at, span.Last)
		return fmt.Sprintf("peek %v %v %d", equal, other, next)
	case 14:
		d := c.Clone()
		before := stateOf(c)
		d.Program(c.With(image(t, at, data)))
		d.EraseAll()
		require.Equal(t, before, stateOf(c))
		return "clone"
	}
	var text bytes.Buffer
	require.NoError(t, c.Save(&text))
	d, err := Load("test.chip", text.Bytes(), c.Map, c.seed)
	require.NoError(t, err)
	var again bytes.Buffer
	if !slices.ContainsFunc(c.Banks, func(b *Bank) bool { return b.Torn() }) && len(c.Faults.Stuck) == 0 {
		require.NoError(t, d.Save(&again))
		require.Equal(t, text.String(), again.String())
	}
	return fmt.Sprintf("kept %04x", crc32.ChecksumIEEE(text.Bytes())&0xFFFF)
}

// undoneAct is an act that is undone.
func undoneAct(r *rand.Rand, c *Chip, b *Bank, at uint64, data []byte) {
	switch r.IntN(5) {
	case 0:
		c.ProgramAt(b, at, data)
	case 1:
		c.Erase(b, b.SectorOf(at))
	case 2:
		c.CutProgram(b, at, data, r.IntN(9))
	case 3:
		c.CutErase(b, b.PageOf(at), r.IntN(6))
	default:
		c.DrawUndefined()
	}
}

func image(t *testing.T, at uint64, data []byte) *memory.Image {
	t.Helper()
	m, ok := memory.FromBytes(at, data, &source.Input{Name: "f"})
	require.True(t, ok)
	return m
}

func spansOf(m *memory.Image) (list []memory.Span) {
	for _, run := range m.Runs() {
		list = append(list, run.Span())
	}
	return list
}
