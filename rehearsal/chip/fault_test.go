package chip

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
)

// TestCutsAreRead reads moments at which the power fails, and what is none.
func TestCutsAreRead(t *testing.T) {
	for text, want := range map[string]Cut{
		"1": {Act: 1, Reading: OwnDraw}, "12 before": {Act: 12, When: Before, Reading: OwnDraw},
		"12 after": {Act: 12, When: After, Reading: OwnDraw},
		"3 draw 0": {Act: 3}, "3 draw 12": {Act: 3, Reading: 12}, "100 draw 65535": {Act: 100, Reading: 65535},
	} {
		got, err := parseCut(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, *got, text)
	}
	for _, text := range []string{"", "0", "x", "1 behind", "1 draw", "1 draw x", "1 draw 65536", "1 draw -1", "1 draw 1 2", "1 before 2",
		"99999999999999999999"} {
		_, err := parseCut(text)
		assert.Error(t, err, text)
	}
}

// TestAddressLines sees memories by lines that are stuck at 0 or at 1, where all of what is read
// stays in them.
func TestAddressLines(t *testing.T) {
	c := cellsOf(t)
	bank := c.BankAt(0x100000)
	for _, one := range []struct {
		fault           string
		first, size, at uint64
	}{
		{"address-line 4=1", 0x100000, 4, 0x100010}, {"address-line 4=1", 0x100010, 4, 0x100010},
		{"address-line 4=0", 0x100014, 4, 0x100004},
		{"address-line 4=0", 0x100004, 4, 0x100004}, {"address-line 63=1", 0x100004, 4, 0x100004},
		{"address-line 20=0", 0x100004, 4, 0x100004},
	} {
		var f Faults
		require.NoError(t, f.Add(one.fault, c.Map), one.fault)
		c.SetFaults(f)
		s, _ := memory.SpanOf(one.first, one.size)
		want, _ := memory.SpanOf(one.at, one.size)
		assert.Equal(t, want, c.wired(bank, s), "%s: %s", one.fault, s)
	}
	last := bank.Span.Last - 3
	var f Faults
	require.NoError(t, f.Add("address-line 1=1", c.Map))
	c.SetFaults(f)
	s, _ := memory.SpanOf(last-2, 6)
	assert.Equal(t, s, c.wired(bank, s), "what would leave the memory")
}
