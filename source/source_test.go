package source

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPlaces(t *testing.T) {
	assert.Equal(t, "boot.hex:12", (&Input{Name: "boot.hex"}).Place(12))
	assert.Equal(t, "table.bin+0x40", (&Input{Name: "table.bin", Counting: Offsets}).Place(0x40))
	assert.Equal(t, "fill", (&Input{Name: "fill", Counting: Operation}).Place(7))
}

func TestProblemsAreSortedAndCounted(t *testing.T) {
	var ps Problems
	assert.NoError(t, ps.Err())
	ps.Add(&Problem{File: "b", Line: 1, What: "w", Severity: Warning})
	assert.NoError(t, ps.Err(), "a warning spoils nothing")
	ps.Add(&Problem{File: "a", Line: 9, Column: 3, What: "x", Expected: "y", Advice: "z"})
	ps.Add(&Problem{File: "a", Line: 9, Column: 2, What: "v"})
	ps.Add(&Problem{File: "a", What: "whole file"})
	var lines []string
	for _, p := range ps.List() {
		lines = append(lines, p.Error())
	}
	assert.Equal(t, []string{"a: whole file", "a:9:2: v", "a:9:3: x; y (z)", "b:1: warning: w"}, lines)
	assert.Equal(t, "a: whole file (and 2 more errors)", ps.Error())
	var as *Problems
	assert.True(t, errors.As(ps.Err(), &as))

	for range MostKept {
		ps.Add(&Problem{File: "c"})
	}
	assert.Len(t, ps.List(), MostKept, "a hostile file does not fill memory with problems")
	assert.Equal(t, MostKept+4, ps.Count())
	assert.Equal(t, MostKept+3, ps.Errors())
}

func TestNearest(t *testing.T) {
	known := []string{"application", "bootloader", "data"}
	assert.Equal(t, "application", Nearest("Aplication", known))
	assert.Equal(t, "", Nearest("calibration table", known))
	assert.Equal(t, "bootloader?", DidYouMean("botloader", known))
	assert.Equal(t, "known: application, bootloader, data", DidYouMean("x", known))
	assert.Equal(t, "", DidYouMean("x", nil))
}
