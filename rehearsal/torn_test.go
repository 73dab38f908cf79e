package rehearsal

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestWhatTornBytesMayRead makes units of several granules, which few values of bytes make alike
// often, and tells of each granule alone what it may read as, after each touch that is cut.
func TestWhatTornBytesMayRead(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 91))
	some := func(n int) []byte {
		out := make([]byte, n)
		for i := range out {
			out[i] = []byte{0x0F, 0x0F, 0xFF, 0x00, 0xF0}[r.IntN(5)]
		}
		return out
	}
	var told [2]int
	for n := range 1500 {
		granule := []int{1, 2, 4, 8}[r.IntN(4)]
		kind := []string{"flash", "eeprom"}[r.IntN(2)]
		text := fmt.Sprintf("name = \"T\"\n[[memory]]\nname = \"m\"\nkind = %q\nfirst = 0x600000\nsize = 64\ngranule = %d\n", kind, granule)
		if kind == "flash" {
			text += "sectors = [{ count = 1, size = 64 }]\n"
		}
		m := mapOf(t, text)
		b := chip.New(m, 1).Banks[0]
		first := 0x60_0000 + r.Uint64N(32)
		size := 1 + r.IntN(16)
		u := unit{Span: memory.Span{First: first, Last: first + uint64(size) - 1}}
		image, _ := memory.FromBytes(first, some(size), &source.Input{Name: "test"})
		c := chip.New(m, 1)
		c.Program(image)
		for i := range 1 + r.IntN(4) {
			one := touch{at: i + 1, any: b.Replaces || r.IntN(3) == 0}
			if !one.any || r.IntN(2) == 0 {
				one.data = some(size)
			}
			u.touches = append(u.touches, one)
		}
		end := chip.New(m, 1)
		goal, _ := memory.FromBytes(first, some(size), &source.Input{Name: "test"})
		end.Program(goal)
		u.compare(c.Banks[0], end.Banks[0])

		program := func(over, data []byte) []byte {
			if data == nil {
				return bytes.Repeat([]byte{0xFF}, len(over))
			}
			out := bytes.Clone(data)
			for i := range out {
				if kind == "flash" {
					out[i] &= over[i]
				}
			}
			return out
		}
		old, should := c.Peek(c.Banks[0], u.Span), end.Peek(end.Banks[0], u.Span)
		contents := [][]byte{old}
		for k, one := range u.touches {
			over := contents[k]
			if one.data != nil {
				over = program(over, one.data)
			} else {
				over = program(over, nil)
			}
			contents = append(contents, over)
		}
		of := func(what []byte, choices ...[]byte) bool { // each granule of it is one of these
			for i := 0; i < size; {
				j := i + 1
				for j < size && (first+uint64(j))/uint64(granule) == (first+uint64(i))/uint64(granule) {
					j++
				}
				is := false
				for _, c := range choices {
					is = is || bytes.Equal(c[i:j], what[i:j])
				}
				if !is {
					return false
				}
				i = j
			}
			return true
		}
		erased := bytes.Repeat([]byte{0xFF}, size)
		for at, one := range u.touches {
			cut := at + 1
			for k := range contents {
				became := program(contents[k], one.data)
				choices := [][]byte{contents[k], became}
				if one.any {
					choices = append(choices, erased)
				}
				about := fmt.Sprint(n, " ", kind, " ", granule, ": ", cut, " over ", k)
				assert.Equal(t, of(old, choices...), u.mayOld[k][cut], about)
				assert.Equal(t, of(should, choices...), u.mayNew[k][cut], about)
				still := one.data != nil && bytes.Equal(contents[k], became) && (!one.any || bytes.Equal(contents[k], erased))
				assert.Equal(t, still, u.still[k][cut], about)
				if u.mayOld[k][cut] {
					told[0]++
				} else {
					told[1]++
				}
			}
		}
		for k, is := range contents {
			assert.Equal(t, bytes.Equal(is, old), u.isOld[k])
			assert.Equal(t, bytes.Equal(is, should), u.isNew[k])
		}
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, min(told[0], told[1]), 1000)
}
