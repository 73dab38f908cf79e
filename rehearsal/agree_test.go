package rehearsal

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestChecksAndRehearsalsAgreeWhereAPartStarts makes maps and images by chance: what a
// rehearsal says starts nothing is never without a finding of a check, and the other way
// round.
func TestChecksAndRehearsalsAgreeWhereAPartStarts(t *testing.T) {
	r := rand.New(rand.NewPCG(23, 9))
	said := []string{"start-missing", "start-erased", "start-stack", "start-target"}
	missing := []string{"missing-part", "region-erased"}
	starts, fails := 0, map[string]int{}
	for round := range 4000 / golden.Every(4) {
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		text := "name = \"R\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0x1000\nsize = \"4K\"\npage = 64\nsectors = [{ " +
			"count = 4, size = \"1K\" }]\naliases = [0]\n" +
			"[[memory]]\nname = \"ram\"\nkind = \"ram\"\nfirst = 0x4000\nsize = 256\n" +
			"[[region]]\nname = \"one\"\nrole = \"" + pick(
			"bootloader",
			"application",
		) + "\"\nfirst = 0x1000\nsize = \"1K\"\n" + pick("", "required = true\n") + "holds = \"unknown\"\n" +
			"[[region]]\nname = \"two\"\nrole = \"application\"\nfirst = 0x1400\nsize = \"2K\"\n" + pick(
			"",
			"required = true\n",
		)
		if r.IntN(3) > 0 {
			text += "[[start]]\nkind = \"vectors\"\nat = " + pick("0x1000", "0x1400", "0x1C00") + "\n" +
				pick("", "stack = \"ram\"\n", "stack = \"ram\"\nstack-align = 8\n") +
				pick("", "target = \"one\"\n", "target = \"two\"\n") + pick(
				"",
				"odd-target = true\n",
			) + pick("", "order = \"big\"\n")
		} else {
			text += "[[start]]\nkind = \"instruction\"\nat = " + pick("0x1000", "0x1400", "0x1C10") + "\n"
		}
		var problems source.Problems
		m := device.Load("m", []byte(text), &problems)
		require.NoError(t, problems.Err(), text)

		var b memory.Batch
		for _, s := range []uint64{0x1000, 0x1400, 0x1C00} {
			if r.IntN(4) == 0 {
				continue
			}
			order := binary.ByteOrder(binary.LittleEndian)
			if r.IntN(4) == 0 {
				order = binary.BigEndian
			}
			data := make([]byte, 16+r.IntN(100))
			for i := range data {
				data[i] = byte(r.IntN(256))
			}
			order.PutUint32(data, []uint32{0x4100, 0x4101, 0x40FC, 0x40F8, 0x4000, 0xFFFF_FFFF, 0x9000}[r.IntN(7)])
			order.PutUint32(data[4:],
				[]uint32{0x1009, 0x1008, 0x1409, 0x140C, 0x1C09, 0x0009, 0x0409, 0x13FE, 0x3000, 0xFFFF_FFFF}[r.IntN(10)])
			for range r.IntN(3) {
				data[8+r.IntN(8)] = 0xFF
			}
			if r.IntN(6) == 0 {
				for i := range data {
					data[i] = 0xFF
				}
			}
			b.Add(s, data, 1)
		}
		image, _ := b.Image(&source.Input{Name: "f"})
		result := check.Run(m, []check.Part{{Name: "f", Image: image}}, check.Options{})
		_, verdict, ok := entered(result.Map, image)
		found := slices.ContainsFunc(result.Counting(), func(f check.Finding) bool { return slices.Contains(said, f.Rule) })
		absent := slices.ContainsFunc(result.Counting(), func(f check.Finding) bool { return slices.Contains(missing, f.Rule) })
		switch {
		case ok:
			starts++
			assert.False(t, found, "round %d: a rehearsal starts it, a check does not\n%s%v", round, text, result.Counting())
		default:
			fails[fmt.Sprint(verdict.Reason.Cause)]++
			assert.True(t, found || absent, "round %d: a check finds nothing, and a rehearsal says %v\n%s", round, verdict, text)
		}
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, starts, 50, "%v", fails)
	for cause, n := range fails {
		assert.Greater(t, n, 50, cause)
	}
	assert.Len(t, fails, 2)
}
