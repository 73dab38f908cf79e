package rehearsal

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
	"mexalt/survey"
)

// TestWhatAnEraseTakes erases a whole chip for an image that has something of some regions.
func TestWhatAnEraseTakes(t *testing.T) {
	m := open(t, "brindle-b8-32")
	whole := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"program"`))
	part := planOf(t, acts("programmer", `"program"`))
	in := &source.Input{Name: "test"}
	stood := map[int]string{0: "application", 0x7800: "loader", 0x40_0000: "calibration\xFF\xFF", 0x40_0200: "log", 0x40_0210: "\xFF\xFF"}
	for _, c := range []struct {
		image map[int]string
		plan  *Plan
		want  []Taken
	}{
		{map[int]string{0: "a"}, whole, []Taken{{"bootloader", 6}, {"calibration", 11}, {"gauge_log", 3}}},
		{map[int]string{0: "a", 0x40_01FF: "c"}, whole, []Taken{{"bootloader", 6}, {"gauge_log", 3}}},
		{map[int]string{0x7FFF: "b", 0x40_0000: "c", 0x40_0200: "d"}, whole, []Taken{{"application", 11}}},
		{map[int]string{0: "a", 0x7800: "b", 0x40_0000: "c", 0x40_0200: "d"}, whole, nil},
		{map[int]string{0: "a"}, part, nil},
	} {
		device := chip.New(m, 1)
		for at, text := range stood {
			device.Program(joined(t, in, at, []byte(text)))
		}
		var parts []any
		for at, text := range c.image {
			parts = append(parts, at, []byte(text))
		}
		taken, err := TakenBy(device, c.plan, joined(t, in, parts...))
		require.NoError(t, err)
		assert.Equal(t, c.want, taken, "%v", c.image)
	}
}

// TestWhereDifferencesLie says of differences that lie in one sector or page what may be the
// matter there.
func TestWhereDifferencesLie(t *testing.T) {
	m := open(t, "brindle-m32-512")
	const first = 0x0600_2000 // of a sector of 8 KiB
	image := bytes.Repeat([]byte{0x0F, 0xF1, 0x00}, 0x2000/3+1)[:0x2000]
	for name, c := range map[string]struct {
		change func(found []byte)
		want   string
	}{
		"not erased": {func(b []byte) { b[0x10] &= 0x03; b[0x1F00] = 0 },
			"all is in the sector 0x0600_2000..0x0600_3FFF: it was not erased, or is protected"},
		"not erased, to the end": {func(b []byte) { b[0] = 0; b[0x1FFF] &= 0xEF },
			"all is in the sector 0x0600_2000..0x0600_3FFF: it was not erased, or is protected"},
		"not programmed": {func(b []byte) { b[0x10], b[0x1F01] = 0xFF, 0xFF }, ""},
		"one of both":    {func(b []byte) { b[0x10], b[0x1F01] = 0, 0xFF }, ""},
		"one page": {func(b []byte) { b[0x200], b[0x3FF] = 0xFF, 0xFF },
			"all differences are in page 0x0600_2200..0x0600_23FF: the page cannot be programmed, or its data was corrupted in transfer"},
		"two pages": {func(b []byte) { b[0x1FF], b[0x200] = 0xFF, 0xFF }, ""},
		"a bit":     {func(b []byte) { b[0x30] ^= 0x10 }, "found 1F, expected 0F: one bit is stuck or was misread"},
		"two bits":  {func(b []byte) { b[0x30] ^= 0x30 }, ""},
	} {
		found := bytes.Clone(image)
		c.change(found)
		in := &source.Input{Name: "test"}
		f := &Failure{Expects: joined(t, in, first, image), Found: joined(t, in, first, found)}
		f.Compared = survey.Compare(f.Expects, f.Found, nil)
		got := ""
		for _, cause := range (&verifying{}).placed(chip.New(m, 1), f) {
			got += cause.Text
		}
		assert.Equal(t, c.want, got, name)
	}
}

// TestAnEraseThatIsCutReachesAllMemories cuts the power while a whole chip is erased: each memory that
// is erased is torn, wherever it stands in the map.
func TestAnEraseThatIsCutReachesAllMemories(t *testing.T) {
	const text = `name = "Order"
[[memory]]
name = "ram"
kind = "ram"
first = 0x2000
size = 256
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = 512
sectors = [{ count = 2, size = 256 }]
[[memory]]
name = "once"
kind = "otp"
first = 0x3000
size = 64
[[memory]]
name = "tables"
kind = "eeprom"
first = 0x4000
size = 256
[[region]]
name = "program"
role = "application"
first = 0
size = 512
`
	m := mapOf(t, text)
	p := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"program"`))
	was := bytes.Repeat([]byte{0x5A, 0x00, 0xC3, 0x0F}, 64)
	for _, draw := range []string{"2", "3", "4", "5"} {
		part := chip.New(m, 1)
		in := &source.Input{Name: "test"}
		part.Program(joined(t, in, 0, was, 0x4000, was, 0x3000, was[:64]))
		var f chip.Faults
		require.NoError(t, f.Add("cut 1 draw "+draw, m))
		part.SetFaults(f)
		_, err := Rehearse(context.Background(), part, p, joined(t, in, 0, was), Options{})
		require.NoError(t, err)
		peek := func(first, size uint64) []byte {
			s, _ := memory.SpanOf(first, size)
			return part.Peek(part.BankAt(first), s)
		}
		assert.NotEqual(t, was, peek(0, 256), draw)
		assert.NotEqual(t, was, peek(0x4000, 256), draw)
		assert.Equal(t, was[:64], peek(0x3000, 64), "what is written once stays")
	}
}
