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
)

// TestWhatTheDeviceItselfChecks updates a device that starts its only program itself: where it
// checks it, no torn program is started; where it does not, most cuts of the power start one.
func TestWhatTheDeviceItselfChecks(t *testing.T) {
	const text = `name = "Lone"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = 512
page = 32
granule = 4
sectors = [{ count = 8, size = 64 }]
[[region]]
name = "program"
role = "application"
first = 0
size = 512
[[start]]
kind = "instruction"
at = "program.first"
[[checksum]]
name = "sum"
kind = "CRC-32/ISO-HDLC"
in = "program.first..program.last-4"
at = "program.last-3"
guards = "program"
`
	p := planOf(t, acts("programmer", `"erase"`, `"program"`, `"reset"`))
	type counts = [Nothing + 1]int
	outcomes := map[string]counts{}
	for _, by := range []string{"", "checked-by = \"loader\"\n", "checked-by = \"hardware\"\n"} {
		m := mapOf(t, text+by)
		image := func(v byte) *memory.Image {
			data := bytes.Repeat([]byte{v, v ^ 0x55, 0x0F}, 171)[:508]
			return sealed(t, m, joined(t, &source.Input{Name: "test"}, 0, append(data, 0, 0, 0, 0)))
		}
		part := chip.New(m, 1)
		part.Program(image(0x11))
		s, err := SweepOf(context.Background(), part, p, image(0x22), SweepOptions{})
		require.NoError(t, err)
		outcomes[by] = s.Counts
		if by == "checked-by = \"hardware\"\n" {
			assert.Equal(t, "any number of power cuts", s.Ladder.Rung.String())
			assert.InDelta(t, 1.0/(1<<32), s.Ladder.Chance, 1e-12)
			assert.Contains(t, s.Ladder.Why, "sum may be valid with its old value")
		} else {
			assert.Equal(t, "only if the power never fails", s.Ladder.Rung.String())
			assert.Contains(t, s.Ladder.Why, "which nothing checks")
		}
		assert.Equal(t, by == "checked-by = \"hardware\"\n", s.Counts[Neither] == 0, "%s: %v", by, s.Counts)
		total := 0
		for _, n := range s.Counts {
			total += n
		}
		assert.Equal(t, s.Moments, total)

		// An image whose sum is wrong is started by none but a device that does not look.
		part = chip.New(m, 1)
		wrong, ok := image(0x11).Write(&source.Input{Name: "damage"}, 5, []byte{0xEE})
		require.True(t, ok)
		part.Program(wrong)
		verdict := NewManual(part).Judge(wrong).Verdict
		if by == "checked-by = \"hardware\"\n" {
			assert.Equal(t, Nothing, verdict.Outcome)
			assert.Equal(t, GuardFails, verdict.Cause)
		} else {
			assert.NotEqual(t, Nothing, verdict.Outcome)
		}
	}
	assert.Equal(t, outcomes[""], outcomes["checked-by = \"loader\"\n"], "there is no loader")
}
