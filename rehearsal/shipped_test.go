package rehearsal

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// shippedImage has bytes in a part of each region, and words, by a seed: the same seed, the same bytes.
func shippedImage(m *device.Map, seed uint64, words bool) *memory.Image {
	var batch memory.Batch
	r := rand.New(rand.NewPCG(seed, 7))
	add := func(first uint64, n uint64, of func(i uint64) byte) {
		for n > 0 {
			some := min(n, 200)
			data := make([]byte, some)
			for i := range data {
				data[i] = of(first + uint64(i))
			}
			batch.Add(first, data, len(batch.Chunks)*3+1)
			first, n = first+some, n-some
		}
	}
	for i := range m.Regions {
		region := &m.Regions[i]
		mem := m.MemoryAt(region.Span.First)
		if mem == nil || mem.Kind != device.Flash && mem.Kind != device.EEPROM || region.Role == device.Reserved {
			continue
		}
		size := min(region.Span.Size(), 300+r.Uint64N(1500))
		begin := vectors(m, region)
		add(region.Span.First, size, func(at uint64) byte {
			if i := at - region.Span.First; i < uint64(len(begin)) {
				return begin[i]
			}
			return byte(r.Uint32())
		})
	}
	if words {
		for i := range m.Memories {
			mem := &m.Memories[i]
			if mem.Kind == device.Config {
				was := make([]byte, mem.Span.Size())
				for k := range was {
					was[k] = m.ErasedAt(mem.Span.First + uint64(k))
					if r.IntN(2) == 0 {
						was[k] &^= 1 << r.IntN(8)
					}
				}
				add(mem.Span.First, mem.Span.Size(), func(at uint64) byte { return was[at-mem.Span.First] })
			}
		}
	}
	image, _ := batch.Image(&source.Input{Name: "shipped"})
	return image
}

// vectors are the first bytes of a region with a program: a stack in the device's RAM, and a start in
// the region.
func vectors(m *device.Map, region *device.Region) (begin []byte) {
	if region.Role == device.Data {
		return nil
	}
	i := slices.IndexFunc(m.Memories, func(mem device.Memory) bool { return mem.Kind == device.RAM })
	begin = binary.LittleEndian.AppendUint32(nil, uint32(m.Memories[i].Span.Last+1))
	return binary.LittleEndian.AppendUint32(begin, uint32(region.Span.First+0x41))
}

// TestShippedPartsAreRehearsed carries plans out on the parts that are shipped, with words and
// without, with faults and cuts of the power, and holds all that is said against what was said
// before.
func TestShippedPartsAreRehearsed(t *testing.T) {
	t.Parallel()
	plans := map[string]string{
		"update": acts("bootloader", `"identify"`, `"erase"`, `"program"`, `"verify"`, `"words"`, `"reset"`, `"start"`),
		"words":  acts("bootloader", `"words"`, `"erase"`, `"program"`, `"reset"`, `"start"`),
		"bench": acts("programmer", `"identify"`, "\"erase\"\nwhat = \"chip\"", `"blank-check"`, `"program"`, `"verify"`, `"words"`,
			`"lock"`, `"reset"`, `"start"`),
		"over":   acts("programmer", `"program"`, `"verify"`, `"words"`, `"start"`),
		"locked": acts("programmer", `"words"`, `"lock"`, `"reset"`, `"erase"`, `"program"`, `"verify"`),
	}
	faults := []string{"", "no-erase AT", "stuck AT.3", "cut 1", "page-dead AT", "cut 3 draw 2", "drop AT", "cut 2 draw 3"}
	var b strings.Builder
	for _, name := range []string{"brindle-b8-32", "brindle-m32-512", "brindle-d32-256", "brindle-w16-64"} {
		m := open(t, name)
		for seed := range uint64(8) {
			old, image := shippedImage(m, seed, seed%3 > 0), shippedImage(m, seed+100*(seed%2)+1, seed%3 == 2)
			for _, plan := range []string{"update", "words", "bench", "over", "locked"} {
				part := func() *chip.Chip {
					c := chip.New(m, seed)
					c.Program(old)
					var f chip.Faults
					if fault := faults[seed%uint64(len(faults))]; fault != "" {
						require.NoError(t, f.Add(strings.Replace(fault, "AT", fmt.Sprintf("0x%X", m.Memories[0].Span.First+0x60), 1), m))
						c.SetFaults(f)
					}
					return c
				}
				say := func(what string, value any, err error) {
					text, failed := json.Marshal(value)
					require.NoError(t, failed)
					fmt.Fprintf(&b, " %s %d %04x %v;", what, len(text), crc32.ChecksumIEEE(text)&0xFFFF, err)
				}
				p := planOf(t, plans[plan])
				fmt.Fprintf(&b, "%s %d %s:", name, seed, plan)
				run, err := Rehearse(context.Background(), part(), p, image, Options{})
				if run != nil {
					run.Map = nil
					if run.Failed != nil {
						fmt.Fprintf(&b, " %s;", run.Failed.What)
					}
				}
				say("run", run, err)
				s, err := SweepOf(context.Background(), part(), p, image, SweepOptions{})
				say("sweep", s, err)
				if s != nil {
					fmt.Fprintf(&b, " %s %v;", s.Ladder.Rung, s.Counts)
				}
				if seed < 2 && (plan == "bench" || plan == "update") {
					list, err := SymptomsOf(context.Background(), part(), p, image, Options{})
					for _, one := range list {
						fmt.Fprintf(&b, " [%s: %s; %d causes]", one.Fault, one.What, len(one.Causes))
					}
					say("symptoms", list, err)
				}
				taken, err := TakenBy(part(), p, image)
				say("taken", taken, err)
				b.WriteString("\n")
			}
			cost, err := CostOf(m, old, image, 0)
			text, failed := json.Marshal(cost)
			require.NoError(t, failed)
			fmt.Fprintf(&b, "%s %d cost: %04x %v\n", name, seed, crc32.ChecksumIEEE(text)&0xFFFF, err)
		}
	}
	golden.File(t, "testdata/shipped.txt", b.String())
}
