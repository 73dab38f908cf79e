package chip

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

const cellsMap = `name = "Cells"
identity = "AB CD"
[[memory]]
name = "flash"
kind = "flash"
first = 0x100000
size = 0x40000
page = 64
granule = 8
sectors = [{ count = 2, size = 0x8000 }, { count = 3, size = 0x10000 }]
[[memory]]
name = "plain"
kind = "flash"
first = 0x200000
size = 0x1000
[[memory]]
name = "eeprom"
kind = "eeprom"
first = 0x300000
size = 256
erased = 0
page = 4
[[memory]]
name = "once"
kind = "otp"
first = 0x400000
size = 64
granule = 4
[[memory]]
name = "ram"
kind = "ram"
first = 0x500000
size = 64
[[memory]]
name = "fuses"
kind = "config"
first = 0x600000
size = 4
[[region]]
name = "a"
role = "application"
first = 0x100000
size = 0x8000
[[region]]
name = "b"
role = "data"
first = 0x108000
size = 0x8000
[[region]]
name = "own"
role = "reserved"
first = 0x110000
size = 0x10000
[[config]]
name = "word"
at = 0x600000
width = 1
default = 0x3F
complement-at = 0x600002
[[config.field]]
name = "reading"
bits = "0..1"
values = [{ value = 3, meaning = "open" }, { value = 2, meaning = "locked", effect = "locked" }, { value = 1, meaning = "closed", hazard = "for good", effect = "closed" }, { value = 0, meaning = "stopped", hazard = "for want of a crystal", effect = "stopped" }]
[[config.field]]
name = "rest"
bits = "2..5"
values = [{ value = 15, meaning = "as delivered" }, { value = 0, meaning = "none" }]
`

func cellsOf(t *testing.T) *Chip {
	var problems source.Problems
	m := device.Load("cells", []byte(cellsMap), &problems)
	require.NoError(t, problems.Err())
	return New(m, 3)
}

// TestCellsAgainstAModel programs, erases, tries and undoes at random, and holds the whole
// part against a map of bytes.
func TestCellsAgainstAModel(t *testing.T) {
	c := cellsOf(t)
	require.Len(t, c.Banks, 5, "RAM is not programmed")
	for i, want := range []struct {
		granule, page uint64
		replaces      bool
		once          bool
	}{{8, 64, false, false}, {1, 256, false, false}, {1, 4, true, false}, {4, 4, false, true}, {1, 1, true, false}} {
		b := c.Banks[i]
		assert.Equal(t, want.granule, b.GranuleSize, b.Name)
		assert.Equal(t, want.page, b.PageSize, b.Name)
		assert.Equal(t, want.replaces, b.Replaces, b.Name)
		assert.Equal(t, want.once, b.Once, b.Name)
	}
	r := rand.New(rand.NewPCG(11, 12))
	model := map[uint64]byte{}
	read := func(b *Bank, a uint64) byte {
		if x, ok := model[a]; ok {
			return x
		}
		return b.Erased
	}
	for a, x := range map[uint64]byte{0x600000: 0x3F, 0x600002: 0xC0} {
		model[a] = x
	}
	banks := []*Bank{c.BankAt(0x100000), c.BankAt(0x200000), c.BankAt(0x3000FF)}
	var before map[uint64]byte
	for round := range 3000 {
		b := banks[r.IntN(3)]
		at := b.Span.First + r.Uint64N(b.Span.Size())
		switch what := r.IntN(10); {
		case what < 6:
			g := b.PageOf(at)
			n := 1 + r.Uint64N(g.Last-at+1)
			data := make([]byte, n)
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			require.True(t, c.ProgramAt(b, at, data))
			for i, x := range data {
				a := at + uint64(i)
				if !b.Replaces {
					if old := read(b, a); b.Erased == 0xFF {
						x &= old
					} else {
						x |= old
					}
				}
				model[a] = x
			}
		case what < 7:
			s := b.SectorOf(at)
			c.Erase(b, s)
			for a := s.First; ; a++ {
				delete(model, a)
				if a == s.Last {
					break
				}
			}
		case what < 8 && before == nil && round > 500:
			for _, one := range banks { // nothing grows while something is tried
				for _, s := range []memory.Span{one.Span} {
					one.Reserve(c, s)
				}
			}
			before = map[uint64]byte{}
			for a, x := range model {
				before[a] = x
			}
			c.Try()
		case what < 9 && before != nil:
			c.Undo()
			model, before = before, nil
		}
		if round%50 != 0 {
			continue
		}
		for _, b := range banks {
			got := c.Peek(b, b.Span)
			want := make([]byte, b.Span.Size())
			for i := range want {
				want[i] = read(b, b.Span.First+uint64(i))
			}
			require.True(t, bytes.Equal(want, got), "%s, round %d", b.Name, round)
			require.True(t, b.Equals(b.Span, want))
			require.Equal(t, want[3:40], c.Read(memory.Span{First: b.Span.First + 3, Last: b.Span.First + 39}))
			i := r.IntN(len(want))
			want[i] ^= 1
			require.False(t, b.Equals(b.Span, want), "%s at %d", b.Name, i)
			last := -1
			b.Each(b.Span, func(s *Stretch, from, to int) {
				require.Zero(t, from)
				require.Equal(t, len(s.Data), to)
				require.Greater(t, int(s.First-b.Span.First), last)
				last = int(s.Last() - b.Span.First)
				require.Same(t, s, b.StretchAt(s.Last()))
			})
		}
	}
}

// TestCellsThatAreWrittenOnce takes each granule once, and the same again in one-time memory.
func TestCellsThatAreWrittenOnce(t *testing.T) {
	c := cellsOf(t)
	once := c.BankAt(0x400000)
	assert.True(t, c.ProgramAt(once, 0x400002, []byte{1}))
	assert.True(t, c.ProgramAt(once, 0x400002, []byte{1}), "the same again changes nothing")
	assert.False(t, c.ProgramAt(once, 0x400002, []byte{0}))
	assert.False(t, c.ProgramAt(once, 0x400001, []byte{0}), "another byte of the granule")
	assert.True(t, c.ProgramAt(once, 0x400004, []byte{7, 7, 7, 7}))
	assert.Equal(t, []byte{0xFF, 0xFF, 1, 0xFF, 7, 7, 7, 7, 0xFF}, c.Peek(once, memory.Span{First: 0x400000, Last: 0x400008}))
	image, _ := memory.FromBytes(0x400020, []byte{5}, &source.Input{Name: "f"})
	c.Program(image)
	for at, ok := range map[uint64]bool{0x40001F: true, 0x400021: false, 0x400023: false, 0x400024: true} {
		assert.Equal(t, ok, c.Clone().ProgramAt(once, at, []byte{9}), "%X", at)
	}
}

// TestWhatAPartGivesAway reads parts back that are open, locked, closed and stopped.
func TestWhatAPartGivesAway(t *testing.T) {
	with := func(word byte) *Chip {
		c := cellsOf(t)
		image, _ := memory.FromBytes(0x100010, []byte("firmware"), &source.Input{Name: "f"})
		c.Program(image)
		b := c.BankAt(0x600000)
		require.True(t, c.ProgramAt(b, 0x600000, []byte{word}))
		require.True(t, c.ProgramAt(b, 0x600002, []byte{^word}))
		c.Reset()
		return c
	}
	c := with(0x3F)
	image, p := c.ReadBack()
	require.Nil(t, p)
	assert.Equal(t, uint64(0x40000+4), image.Bytes(), "memories that hold anything, whole")
	got := make([]byte, 10)
	image.ReadAt(got, 0x10000F)
	assert.Equal(t, "\xFFfirmware\xFF", string(got))
	assert.Equal(t, map[string]uint64{"word": 0x3F}, c.Words())
	assert.Equal(t, []byte{0xAB, 0xCD}, c.Answers())
	c.Faults.Identity = []byte{1}
	assert.Equal(t, []byte{1}, c.Answers())
	assert.Nil(t, New(&device.Map{}, 1).Answers())

	c = with(0x02)
	_, p = c.ReadBack()
	require.NotNil(t, p)
	assert.Equal(t, "reading is refused: the device is locked by reading (locked)", p.What)
	assert.False(t, c.Silent())
	c.EraseAll()
	assert.Empty(t, c.LockedBy())
	assert.Equal(t, uint64(0x03), c.Words()["word"], "only what locks it is as delivered")
	assert.Equal(
		t,
		[]byte{0x03, 0xFC},
		[]byte{
			c.Peek(c.BankAt(0x600000), memory.Span{First: 0x600000, Last: 0x600000})[0],
			c.Peek(c.BankAt(0x600000), memory.Span{First: 0x600002, Last: 0x600002})[0],
		},
	)
	assert.Equal(t, byte(0xFF), c.Peek(c.Banks[0], memory.Span{First: 0x100010, Last: 0x100010})[0])

	c = with(0x01)
	_, p = c.ReadBack()
	require.NotNil(t, p)
	assert.Equal(t, "the device does not answer: reading (closed)", p.What)
	c = with(0x00)
	assert.Equal(t, "the device does not answer: reading (stopped)", c.Refuses(device.CanIdentify).What)
	assert.True(t, c.Silent())

	// A complement that does not fit: as delivered.
	c = cellsOf(t)
	require.True(t, c.ProgramAt(c.BankAt(0x600000), 0x600000, []byte{0x01}))
	c.Reset()
	assert.Equal(t, uint64(0x3F), c.Words()["word"])
}

// TestWhatStaysBesideAnImage keeps the regions that an image leaves alone.
func TestWhatStaysBesideAnImage(t *testing.T) {
	c := cellsOf(t)
	for at, text := range map[uint64]string{0x100000: "old application", 0x108000: "table", 0x10FFC8: "its end", 0x110000: "its own",
		0x109000: "\xFF\xFF"} {
		image, _ := memory.FromBytes(at, []byte(text), &source.Input{Name: "f"})
		c.Program(image)
	}
	image, _ := memory.FromBytes(0x100040, []byte("new"), &source.Input{Name: "f"})
	all := c.With(image)
	held := map[uint64]uint64{}
	for _, r := range all.Runs() {
		held[r.First] = uint64(len(r.Data))
	}
	assert.Equal(t, map[uint64]uint64{0x100040: 3, 0x108000: 64, 0x10FFC0: 64}, held,
		"pages that hold anything, but of the part's own and of what is replaced")
}

// TestWiresAndLinks sees faults of address lines, of cells and of the link.
func TestWiresAndLinks(t *testing.T) {
	c := cellsOf(t)
	flash := c.Banks[0]
	var f Faults
	require.NoError(t, f.Add("address-line 4=1", c.Map))
	c.SetFaults(f)
	require.True(t, c.ProgramAt(flash, 0x100000, []byte{1, 2}))
	assert.Equal(t, []byte{0xFF, 0xFF}, c.Peek(flash, memory.Span{First: 0x100000, Last: 0x100001}))
	assert.Equal(t, []byte{1, 2}, c.Peek(flash, memory.Span{First: 0x100010, Last: 0x100011}))
	assert.Equal(t, []byte{1, 2}, c.Read(memory.Span{First: 0x100000, Last: 0x100001}), "read by the same wires")

	c = cellsOf(t)
	f = Faults{}
	require.NoError(t, f.Add("stuck 0x100003.5", c.Map))
	require.NoError(t, f.Add("stuck 0x300001.0=1", c.Map))
	c.SetFaults(f)
	assert.Equal(t, byte(0xDF), c.Peek(flashOf(c), memory.Span{First: 0x100003, Last: 0x100003})[0])
	c.Erase(flashOf(c), flashOf(c).Span)
	assert.Equal(t, byte(0xDF), c.Read(memory.Span{First: 0x100003, Last: 0x100003})[0])
	assert.Equal(t, byte(0x01), c.Peek(c.BankAt(0x300001), memory.Span{First: 0x300001, Last: 0x300001})[0])

	c = cellsOf(t)
	f = Faults{}
	require.NoError(t, f.Add("noise 0.25", c.Map))
	c.SetFaults(f)
	flips := 0
	for _, x := range c.Read(memory.Span{First: 0x100000, Last: 0x100000 + 9999}) {
		for x = ^x; x != 0; x &= x - 1 {
			flips++
		}
	}
	assert.InDelta(t, 20_000, flips, 1000, "a quarter of the bits")
}

func flashOf(c *Chip) *Bank { return c.Banks[0] }

// TestATornByteIsOldOrNew holds each bit of a torn write between the two, at all draws, and
// each draw leans to its side.
func TestATornByteIsOldOrNew(t *testing.T) {
	c := cellsOf(t)
	flash, eeprom := c.Banks[0], c.Banks[2]
	var set [8]int
	for range 4000 {
		for draw := range 8 {
			x := c.torn(flash, 0xFF, 0x0F, draw)
			require.Equal(t, byte(0x0F), x&0x0F, "bits that do not change")
			for b := x & 0xF0; b != 0; b &= b - 1 {
				set[draw]++
			}
		}
		x := c.torn(eeprom, 0xFF, 0xF0, 3)
		require.Zero(t, x&0x0F, "erased as it is written")
		require.Equal(t, byte(0x0F), c.torn(eeprom, 0xFF, 0xF0, 0)&0x0F|0x0F)
	}
	for draw, want := range []int{8000, 14000, 2000, 8000, 8000, 14000, 2000, 8000} {
		assert.InDelta(t, want, set[draw], 400, "draw %d", draw)
	}
}

// TestPagesThatAreDead takes nothing in them, loses and doubles bytes on the way, and leaves
// sectors that do not erase.
func TestPagesThatAreDead(t *testing.T) {
	at := func(c *Chip, first uint64, n int) []byte {
		return c.Peek(c.BankAt(first), memory.Span{First: first, Last: first + uint64(n) - 1})
	}
	with := func(faults ...string) *Chip {
		c := cellsOf(t)
		var f Faults
		for _, text := range faults {
			require.NoError(t, f.Add(text, c.Map))
		}
		c.SetFaults(f)
		return c
	}
	c := with("page-dead 0x100050")
	for _, a := range []uint64{0x100000, 0x100040, 0x10007F, 0x100080} {
		assert.True(t, c.ProgramAt(c.Banks[0], a, []byte{1}), "it says nothing")
	}
	assert.Equal(t, []byte{1, 0xFF, 0xFF, 1},
		[]byte{at(c, 0x100000, 1)[0], at(c, 0x100040, 1)[0], at(c, 0x10007F, 1)[0], at(c, 0x100080, 1)[0]})
	for fault, want := range map[string]string{
		"drop 0x100002": "abde\xFF", "drop 0x100000": "bcde\xFF", "drop 0x100004": "abcd\xFF", "drop 0x100005": "abcde",
		"drop 0x0FFFFF":   "",
		"double 0x100002": "abccd", "double 0x100000": "aabcd", "double 0x100004": "abcde", "double 0x100005": "abcde",
	} {
		if want == "" {
			assert.Error(t, new(Faults).Add(fault, c.Map))
			continue
		}
		c := with(fault)
		require.True(t, c.ProgramAt(c.Banks[0], 0x100000, []byte("abcde")))
		assert.Equal(t, want, string(at(c, 0x100000, 5)), fault)
	}
	c = with("no-erase 0x108010", "no-erase 0x100000")
	image, _ := memory.FromBytes(0x100000, bytes.Repeat([]byte{7}, 0x20000), &source.Input{Name: "f"})
	c.Program(image)
	c.Erase(c.Banks[0], c.Banks[0].Span)
	for a, want := range map[uint64]byte{0x100000: 7, 0x107FFF: 7, 0x108000: 7, 0x10FFFF: 7, 0x110000: 0xFF, 0x11FFFF: 0xFF} {
		assert.Equal(t, want, at(c, a, 1)[0], "%X", a)
	}
	for fault, well := range map[string]bool{"noise 1e-3": false, "address-line 3": false, "page-dead 0x100000": true,
		"drop 0x100000": true, "stuck 0x100000.1": true} {
		assert.Equal(t, well, with(fault).Faults.ReadsWell(), fault)
	}

	// A torn erase reads differently each time, and is gone once it is erased whole.
	c = cellsOf(t)
	c.Program(image)
	c.CutErase(c.Banks[0], memory.Span{First: 0x100000, Last: 0x107FFF}, 0)
	assert.True(t, c.Banks[0].Torn())
	first := at(c, 0x100000, 64)
	assert.Equal(t, bytes.Repeat([]byte{7}, 64), first, "as before, at draw 0")
	read, p := c.ReadBack()
	require.Nil(t, p)
	got := make([]byte, 0x8000)
	read.ReadAt(got, 0x100000)
	c.DrawUndefined()
	assert.NotEqual(t, got, at(c, 0x100000, 0x8000))
	c.Erase(c.Banks[0], memory.Span{First: 0x100000, Last: 0x107FFF})
	assert.False(t, c.Banks[0].Torn())
	assert.Equal(t, bytes.Repeat([]byte{0xFF}, 64), at(c, 0x100000, 64))
	c.CutErase(c.Banks[0], memory.Span{First: 0x100000, Last: 0x107FFF}, 1)
	assert.Equal(t, bytes.Repeat([]byte{0xFF}, 64), at(c, 0x100000, 64), "as erased, at draw 1")
	require.True(t, c.ProgramAt(c.Banks[0], 0x100000, []byte{0x0F}))
	for range 40 {
		c.DrawUndefined()
		require.Zero(t, at(c, 0x100000, 1)[0]&0xF0, "bits that were programmed are defined")
	}

	// A bit that is stuck is so among those that are undefined.
	c = cellsOf(t)
	c.Program(image)
	c.CutErase(c.Banks[0], memory.Span{First: 0x100000, Last: 0x107FFF}, 0)
	c.SetFaults(Faults{Stuck: []StuckBit{{0x100000, 0, true}, {0x100001, 0, false}}})
	for range 40 {
		c.DrawUndefined()
		require.Equal(t, []byte{1, 0}, []byte{at(c, 0x100000, 1)[0] & 1, at(c, 0x100001, 1)[0] & 1})
	}
}
