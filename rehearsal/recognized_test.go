package rehearsal

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/diagnosis"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestEachFaultIsRecognized makes each fault at many places while an old image is replaced by
// a new one, reads the device back, and finds the damage that the table says: it, with
// another that leaves the same bytes, or none; hardly ever a foreign one.
func TestEachFaultIsRecognized(t *testing.T) {
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(71, 72))
	flash := m.Memories[0].Span
	program := func(step int) *memory.Image {
		data := make([]byte, 24<<10)
		for i := range data {
			data[i] = byte(r.Uint32())
			if i%step < 2 {
				data[i] = 0xE0
			}
		}
		image, _ := memory.FromBytes(flash.First, data, in)
		return image
	}
	old, image := program(5), program(4)
	plan := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"program"`))
	var lines []string
	kinds := chip.Examples(flash.First, chip.New(m, 1).Banks[0], 0)
	for k, kind := range kinds {
		word, _, _ := strings.Cut(kind.Fault, " ")
		if word == "identity" || word == "noise" {
			continue // nothing is read then, or single bits
		}
		require.True(t, kind.Leaves == "" || slices.Contains(diagnosis.Names(), kind.Leaves), kind.Leaves)
		named, none, foreign, made := 0, 0, 0, 0
		for n := range 50 / golden.Every(5) {
			part := chip.New(m, uint64(n+1))
			part.Program(old)
			at := flash.First + r.Uint64N(23<<10)
			text := chip.Examples(at, part.Banks[0], 20+7*n)[k].Fault
			if word == "address-line" {
				text = fmt.Sprintf("address-line %d", 6+n%8)
			}
			var f chip.Faults
			require.NoError(t, f.Add(text, m))
			part.SetFaults(f)
			_, err := Rehearse(context.Background(), part, plan, image, Options{})
			require.NoError(t, err, text)
			found, problem := part.ReadBack()
			require.Nil(t, problem)
			d := diagnosis.Of(image, found,
				diagnosis.Options{Erased: 0xFF, In: []memory.Span{flash}, Others: []diagnosis.Other{{Name: "old", Image: old}}})
			if d.Differ < 8 && kind.Leaves != "" {
				continue
			}
			made++
			is := func(c diagnosis.Cause) bool { return c.Kind == kind.Leaves }
			others := slices.DeleteFunc(slices.Clone(d.Causes), func(c diagnosis.Cause) bool { return c.Kind == "erased memory" })
			switch {
			case slices.ContainsFunc(others, is):
				named++
			case len(others) == 0:
				none++
			default:
				foreign++
				t.Logf("%s: %v %s", text, others, d.Rest)
			}
		}
		lines = append(lines, fmt.Sprintf("%s: %d of %d named, %d none, %d foreign", word, named, made, none, foreign))
		if kind.Leaves != "" {
			assert.GreaterOrEqual(t, named*100, made*95, word)
		}
		assert.LessOrEqual(t, foreign*20, made, word)
	}
	t.Log(strings.Join(lines, "\n"))
}

// TestWhereAFaultIsShown holds the page, of five, and the place in which faults are shown.
func TestWhereAFaultIsShown(t *testing.T) {
	c := chip.New(mapOf(t, strings.ReplaceAll(tiny, "LAST", "191")), 0)
	for _, one := range []struct {
		pages string // by page: as all bytes are; x has others from its middle on, l at its end
		page  int
		at    uint64
	}{
		{"55555", 2, 16}, {"5555", 2, 16}, {"5", 0, 16}, {"FFFFF", 2, 16},
		{"5x5x5", 1, 20}, {"5555x", 4, 20}, {"x5555", 0, 20}, {"xxxxx", 2, 20}, {"x55x5", 3, 20}, {"x5l5x", 2, 30},
	} {
		var pages []*step
		for i, as := range one.pages {
			data := bytes.Repeat([]byte{map[rune]byte{'5': 0x55, 'F': 0xFF, 'x': 0x55, 'l': 0x55}[as]}, 32)
			copy(data[3:], "\x01")
			switch as {
			case 'x':
				copy(data[16:], "\x02\x02\x02\x02\x02"+strings.Repeat("\xFF", 11))
			case 'l':
				copy(data[31:], "\x02")
			}
			pages = append(pages, &step{span: memory.Span{First: uint64(32 * i), Last: uint64(32*i + 31)}, data: data})
		}
		page, at := middleOf(c, pages)
		assert.Same(t, pages[one.page], page, one.pages)
		assert.Equal(t, uint64(32*one.page)+one.at, at, one.pages)
	}
}
