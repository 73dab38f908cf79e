package chip

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// portsMap is a device with one word of all that can shut it, at the width that is filled in.
const portsMap = `name = "P"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = "1K"
sectors = [{ count = 4, size = 256 }]
[[memory]]
name = "fuses"
kind = "config"
first = 0x1000
size = 8
[[config]]
name = "w"
at = "fuses.first"
width = %d
[[config.field]]
name = "clock"
bits = "0..1"
values = [
  { value = 0, meaning = "8 MHz", gives = { clock = "8 MHz" } },
  { value = 1, meaning = "crystal", needs = { clock = "crystal", frequency = "4 MHz..16 MHz" }, gives = { clock = "board" } },
  { value = 2, meaning = "signal", hazard = "stops", effect = "stopped", needs = { clock = "signal" }, gives = { clock = "board" } },
  { value = 3, meaning = "32 kHz", gives = { clock = "32 kHz" } },
]
[[config.field]]
name = "reset"
bits = 2
values = [{ value = 0, meaning = "resets" }, { value = 1, meaning = "plain", hazard = "no serial port", effect = "closed", needs = { free = "rst" } }]
[[config.field]]
name = "lock"
bits = "3..4"
values = [{ value = 0, meaning = "open" }, { value = 1, meaning = "locked", effect = "locked" }, { value = 2, meaning = "closed", hazard = "for good", effect = "closed" }]
[[config.field]]
name = "brown_out"
bits = "5..6"
values = [{ value = 0, meaning = "off" }, { value = 1, meaning = "2.7 V", needs = { supply = ">= 2.9 V" } }, { value = 2, meaning = "4.0 V", needs = { supply = ">= 4.4 V" } }]
[[config.field]]
name = "debug"
bits = 7
values = [{ value = 0, meaning = "on" }, { value = 1, meaning = "off" }]
[[port]]
name = "serial"
needs = { clock = true, reset = "resets" }
can = ["identify", "read", "program", "erase-all", "words"]
when = [{ lock = "closed", can = [] }, { lock = "locked", can = ["identify", "erase-all"] }]
[[port]]
name = "debug"
needs = { wired = true, debug = "on" }
can = ["identify", "read", "program", "words"]
when = [{ lock = "closed", can = "none" }, { lock = "locked", can = ["identify"] }]
`

// told is a board as the decoder of this test sees it.
type told struct {
	clock         string // "" is not said
	mhz           int
	low           int    // mV of the supply; 0 is not said
	reset         string // "" is not said
	serial, debug bool   // wired
}

func (d told) board() *device.Board {
	b := &device.Board{Name: fmt.Sprint(d), Clock: device.ClockSource(d.clock), Frequency: device.Quantity(d.mhz) * 1_000_000,
		Ports: []device.BoardPort{{Name: "serial", Wired: d.serial}, {Name: "debug", Wired: d.debug}}, Pins: map[string]string{}}
	if d.low > 0 {
		b.Supply = &device.Range{Low: device.Quantity(d.low), High: device.Quantity(d.low + 300)}
	}
	if d.reset != "" {
		b.Pins["rst"] = d.reset
	}
	return b
}

func boards() (list []told) {
	for _, clock := range []told{{}, {clock: "none"}, {clock: "crystal", mhz: 8}, {clock: "crystal", mhz: 20}, {clock: "signal", mhz: 8}} {
		for _, low := range []int{0, 2700, 2900, 4400} {
			for _, reset := range []string{"", "free", "button"} {
				for wired := range 4 {
					list = append(list, told{clock.clock, clock.mhz, low, reset, wired&1 != 0, wired&2 != 0})
				}
			}
		}
	}
	return list
}

// decoded is what a value does on a board, told without the package that is tested.
type decoded struct {
	unfit, hazards, undefined int
	serial, debug             string // the first letters of what they can do: i, r, p, e, w
	last                      bool   // no way in remains, and there was one
}

func (d told) decode(v uint64) (x decoded) {
	runs, wires := true, d.serial || d.debug
	need := func(said, has, outside, text bool) {
		switch {
		case said && !has:
			x.unfit++
			runs = false
		case !said && outside:
			runs = false
			if text {
				x.hazards++
			}
		}
	}
	switch v & 3 {
	case 1:
		need(d.clock != "", d.clock == "crystal" && d.mhz == 8, true, true)
	case 2:
		need(d.clock != "", d.clock == "signal", true, true)
	}
	switch v >> 5 & 3 {
	case 1:
		need(d.low > 0, d.low >= 2900, false, false)
	case 2:
		need(d.low > 0, d.low >= 4400, false, false)
	case 3:
		x.undefined++
	}
	plain, lock := v>>2&1 != 0, v>>3&3
	switch {
	case plain && d.reset == "button":
		x.unfit++
	case plain && (d.reset == "" || !wires):
		x.hazards++
	}
	switch {
	case lock == 3:
		x.undefined++
	case lock == 2 && !wires:
		x.hazards++
	}
	can := func(there bool, open, locked string) string {
		switch {
		case !there || lock == 2:
			return ""
		case lock == 1:
			return locked
		}
		return open
	}
	x.serial = can((d.serial || !wires) && runs && !plain, "irpew", "ie")
	x.debug = can(d.debug && v>>7&1 == 0, "irpw", "i")
	x.last = wires && x.unfit == 0 && !strings.ContainsAny(x.serial+x.debug, "pew")
	return x
}

func portsOf(t *testing.T, width int) *device.Map {
	t.Helper()
	var problems source.Problems
	m := device.Load("p.device.toml", fmt.Appendf(nil, portsMap, width), &problems)
	require.NoError(t, problems.Err())
	return m
}

// TestEveryValueOnEveryBoard judges all values of words on boards, and asks the chip for
// every act, against the decoder above.
func TestEveryValueOnEveryBoard(t *testing.T) {
	t.Parallel()
	abilities := []device.Ability{device.CanIdentify, device.CanRead, device.CanProgram, device.CanEraseAll, device.CanWords}
	for _, width := range []int{1, 2} {
		m := portsOf(t, width)
		step := 1
		if width == 2 && golden.Every(2) > 1 {
			step = 1021
		}
		list := boards()
		if width == 2 {
			list = list[:min(len(list), 240)]
		}
		for n, d := range list {
			if width == 2 && n%12 != 7 || width == 1 && n%golden.Every(3) != 0 { // 20 of them
				continue
			}
			on := m.On(d.board())
			c := New(on, 1)
			for v := 0; v < 1<<(8*width); v += step {
				want := d.decode(uint64(v))
				if width == 2 && v>>8 != 0 {
					want.undefined++
				}
				w := &on.Config[0]
				var is decoded
				for _, verdict := range on.Judge(map[string]device.Given{"w": w.Whole(uint64(v))}) {
					switch verdict.Kind {
					case device.Unfit:
						is.unfit++
					case device.Hazard:
						is.hazards++
					case device.Undefined:
						is.undefined++
					case device.LastPort:
						is.last = true
					}
				}
				letters := func(way device.WayIn) (text string) {
					for _, a := range way.Can {
						text += string(a[0])
					}
					return text
				}
				ways := on.WaysIn(map[string]uint64{"w": uint64(v)})
				is.serial, is.debug = letters(ways[0]), letters(ways[1])
				require.Equal(t, want, is, "%+v: 0x%X", d, v)
				if width == 1 && n%4 != v%4 || width == 2 && v%7 != 0 {
					continue
				}
				c.setWord(w, uint64(v))
				c.Reset()
				for _, a := range abilities {
					require.Equal(t, strings.Contains(want.serial+want.debug, string(a[0])), c.Refuses(a) == nil, "%+v: 0x%X: %s", d, v, a)
				}
				require.Equal(t, want.serial+want.debug == "", c.Silent())
				_, unread := c.ReadBack()
				require.Equal(t, !strings.Contains(want.serial+want.debug, "r"), unread != nil)
			}
		}
	}
}

// wordsMap are three words of which each can close a port, or open one.
const wordsMap = `
[[config]]
name = "x"
at = "fuses.first + 2"
width = 1
[[config.field]]
name = "wake"
bits = 0
values = [{ value = 0, meaning = "no" }, { value = 1, meaning = "yes" }]
[[config]]
name = "y"
at = "fuses.first + 3"
width = 1
[[config.field]]
name = "sleep"
bits = 0
values = [{ value = 0, meaning = "no" }, { value = 1, meaning = "yes" }]
[[port]]
name = "slow"
needs = { wake = "yes", sleep = "no" }
can = ["words"]
`

// TestEveryOrder finds the order in which words are written for all values of three words,
// carries it out on the chip, and tries all others where there is said to be none.
func TestEveryOrder(t *testing.T) {
	t.Parallel()
	var problems source.Problems
	m := device.Load("p.device.toml", []byte(fmt.Sprintf(portsMap, 1)+wordsMap), &problems)
	require.NoError(t, problems.Err())
	m = m.On(&device.Board{Name: "b", Clock: device.NoClock, Pins: map[string]string{"rst": "free"},
		Ports: []device.BoardPort{{Name: "serial", Wired: true}, {Name: "slow", Wired: true}}})
	var states []map[string]uint64
	for _, w := range []uint64{0x00, 0x01, 0x04, 0x08, 0x0C, 0x10, 0x83} {
		for xy := range uint64(4) {
			states = append(states, map[string]uint64{"w": w, "x": xy & 1, "y": xy >> 1})
		}
	}
	fresh := func(is map[string]uint64) *Chip {
		c := New(m, 1)
		for i := range m.Config {
			c.setWord(&m.Config[i], is[m.Config[i].Name])
		}
		c.put(0, []byte{1, 2, 3})
		c.Reset()
		return c
	}
	write := func(c *Chip, name string, v uint64) bool {
		if c.Refuses(device.CanWords) != nil {
			return false
		}
		c.setWord(m.Word(name), v)
		c.Reset()
		return true
	}
	// any reports whether any order of the words works, after an erase or without.
	var any func(is, want map[string]uint64, erased bool) bool
	any = func(is, want map[string]uint64, erased bool) bool {
		c := fresh(is)
		if !slices.ContainsFunc([]string{"w", "x", "y"}, func(n string) bool { return is[n] != want[n] }) {
			return true
		}
		for _, n := range []string{"w", "x", "y"} {
			if is[n] != want[n] {
				if one := fresh(is); write(one, n, want[n]) && any(one.Words(), want, true) {
					return true
				}
			}
		}
		if erased || c.Refuses(device.CanEraseAll) != nil {
			return false
		}
		c.EraseAll()
		c.Reset()
		return any(c.Words(), want, true)
	}
	found, none, erases, last := 0, 0, 0, 0
	for _, now := range states {
		for _, want := range states {
			r := m.Rewrite(now, want)
			if r.Fault != "" {
				none++
				require.False(t, any(now, want, false), "%v to %v: %s", now, want, r.Fault)
				continue
			}
			found++
			c := fresh(now)
			if r.Erase != nil {
				erases++
				require.Nil(t, c.Refuses(device.CanEraseAll))
				c.EraseAll()
				c.Reset()
				assert.Equal(t, []string{"flash"}, r.Takes)
				require.Equal(t, []byte{0xFF, 0xFF, 0xFF}, c.Peek(c.Banks[0], memory.Span{Last: 2}))
			}
			for i, one := range r.Words {
				require.True(t, write(c, one.Word.Name, one.Value), "%v to %v: %d", now, want, i)
				require.Equal(t, c.State.Ways, one.Left)
				require.Equal(t, r.NoReturn == i+1, !device.AnyChanges(c.State.Ways) && r.NoReturn > 0)
			}
			require.Equal(t, want, c.Words(), "%v to %v", now, want)
			require.Equal(t, want, r.After)
			require.Equal(t, r.NoReturn > 0, len(r.Words) > 0 && !device.AnyChanges(c.State.Ways))
			if r.NoReturn > 0 {
				last++
			}
		}
	}
	assert.Equal(t, [4]int{440, 344, 86, 176}, [4]int{found, none, erases, last})
}
