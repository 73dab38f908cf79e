package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestVeryManyWords orders more words than are tried in all orders: that which shuts the
// port is the last, and where two do, there is no order.
func TestVeryManyWords(t *testing.T) {
	const words = 14
	var b strings.Builder
	b.WriteString("name = \"M\"\n[[memory]]\nname = \"fuses\"\nkind = \"config\"\nfirst = 0\nsize = 64\n")
	for i := range words {
		fmt.Fprintf(&b, "[[config]]\nname = \"w%d\"\nat = %d\nwidth = 1\n[[config.field]]\nname = \"f%d\"\nbits = 0\nvalues = [{ "+
			"value = 0, meaning = \"open\" }, { value = 1, meaning = \"shut\" }]\n", i, i, i)
	}
	b.WriteString("[[port]]\nname = \"p\"\nneeds = { f3 = \"open\" }\ncan = [\"words\"]\n")
	load := func(text string) *Map {
		var problems source.Problems
		m := Load("m.device.toml", []byte(text), &problems)
		require.NoError(t, problems.Err())
		return m
	}
	m := load(b.String())
	now, wanted := map[string]uint64{}, map[string]uint64{}
	for i := range words {
		now[fmt.Sprintf("w%d", i)], wanted[fmt.Sprintf("w%d", i)] = 0, 1
	}
	r := m.Rewrite(now, wanted)
	require.Len(t, r.Words, words)
	assert.Equal(t, "w0", r.Words[0].Word.Name)
	assert.Equal(t, "w3", r.Words[words-1].Word.Name)
	assert.Equal(t, words, r.NoReturn)
	r = load(strings.Replace(b.String(), "f3 = \"open\"", "f3 = \"open\", f5 = \"open\"", 1)).Rewrite(now, wanted)
	assert.Empty(t, r.Words)
	assert.Contains(t, r.Fault, "after w3, p: f3 (shut). after w5, p: f5 (shut)")
}

// TestQuantities reads quantities and prints them as they are read.
func TestQuantities(t *testing.T) {
	for text, want := range map[string]Quantity{
		"8 MHz": 8_000_000, "32.768 kHz": 32_768, "14.745600MHz": 14_745_600, "1 Hz": 1, "2_400 MHz": 2_400_000_000,
	} {
		got, err := Frequency.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		again, err := Frequency.Parse(Frequency.Format(got))
		require.NoError(t, err)
		assert.Equal(t, got, again)
	}
	for _, text := range []string{"", "8", "MHz", "8 V", "-8 MHz", "8 mhz", "0.5 Hz", "1e9 Hz", "8  MHz", "1.2.3 MHz",
		"999999999999.9 GHz MHz", "8 MHz..9", "0.0001 kHz"} {
		_, err := Frequency.Parse(text)
		assert.Error(t, err, text)
	}
	_, err := Frequency.Parse("999999999999_999999999999 GHz")
	assert.ErrorContains(t, err, "more than 64 bits")
	for text, want := range map[string]string{
		"4 MHz..16 MHz": "4 MHz..16 MHz", ">= 2 MHz": ">= 2 MHz", "<=0.5 MHz": "<= 500 kHz", "8MHz": "8 MHz", "1000 kHz..1 MHz": "1 MHz",
	} {
		r, err := Frequency.ParseRange(text)
		require.NoError(t, err)
		assert.Equal(t, want, Frequency.FormatRange(r), text)
	}
	for _, text := range []string{"16 MHz..4 MHz", "4..16 MHz", "> 4 MHz", "4 MHz..", "..4 MHz"} {
		_, err := Frequency.ParseRange(text)
		assert.Error(t, err, text)
	}
	assert.Equal(t, "3.3 V", Voltage.Format(3300))
	assert.Equal(t, "900 mV", Voltage.Format(900))
	assert.Equal(t, "0 mV", Voltage.Format(0))
	inside := Range{2, 5}
	assert.True(t, inside.Covers(Range{2, 5}))
	assert.False(t, inside.Covers(Range{1, 5}))
	assert.False(t, inside.Covers(Range{2, 6}))
}

// TestDivisors divides the clock by more than 64 bits together: it stands still, and nothing fails.
func TestDivisors(t *testing.T) {
	const text = `name = "D"
[[memory]]
name = "fuses"
kind = "config"
first = 0
size = 1
[[config]]
name = "w"
at = 0
width = 1
[[config.field]]
name = "clock"
bits = 0
values = [{ value = 0, meaning = "in", gives = { clock = "16 MHz" } }]
[[config.field]]
name = "a"
bits = 1
values = [{ value = 0, meaning = "much", gives = { divide = 0x1_0000_0000 } }, { value = 1, meaning = "by 8", gives = { divide = 8 } }]
[[config.field]]
name = "b"
bits = 2
values = [{ value = 0, meaning = "much", gives = { divide = 0x1_0000_0000 } }, { value = 1, meaning = "by 2", gives = { divide = 2 } }]
`
	var problems source.Problems
	m := Load("d.device.toml", []byte(text), &problems)
	require.NoError(t, problems.Err())
	_, ok := m.Clock(map[string]uint64{"w": 0})
	assert.False(t, ok)
	hz, ok := m.Clock(map[string]uint64{"w": 6})
	assert.True(t, ok)
	assert.Equal(t, Quantity(1_000_000), hz)
}
