package check

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// TestStretches finds stretches of one value in images of random runs and stretches, which
// begin and end near blocks or not; and holds them against those that a byte after the other
// gives.
func TestStretches(t *testing.T) {
	total := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 3))
		within := memory.Span{First: 0x1000 + uint64(r.IntN(600)), Last: 0x9FFF}
		data := make([]byte, 6000+r.IntN(9000))
		for i := range data {
			data[i] = byte(r.IntN(256))
		}
		begin := 0x1000 + uint64(r.IntN(3))*256
		for range 6 {
			from := r.IntN(len(data))/512*512 + int((within.First-begin+1024)%512) + r.IntN(20) - 10
			for i := max(from, 0); i < min(from+512*(1+r.IntN(3))+r.IntN(24)-10, len(data)); i++ {
				data[i] = 0xFF
			}
		}
		m, _ := memory.FromBytes(begin, data, &source.Input{Name: "f"})
		if r.IntN(2) == 0 {
			m = m.Drop(memory.Span{First: 0x2000 + uint64(r.IntN(2000)), Last: 0x2900})
		}
		var want []memory.Span
		for run := range m.In(within) {
			for i := 0; i < len(run.Data); i++ {
				j := i
				for j < len(run.Data) && run.Data[j] == 0xFF {
					j++
				}
				if j == i {
					continue
				}
				first, end := run.First+uint64(i)-within.First, run.First+uint64(j)-within.First
				from, to := (first+511)/512*512, end/512*512
				if i > 0 && j < len(run.Data) && to > from && from-first < 8 && end-to < 8 {
					want = append(want, memory.Span{First: within.First + from, Last: within.First + to - 1})
				}
				i = j
			}
		}
		c := &checker{m: &device.Map{}, part: Part{Image: m}, rule: &Rule{ID: "x"}}
		c.stretches(within, 0xFF, "FF", source.Advice{})
		var got []memory.Span
		for _, f := range c.found {
			got = append(got, *f.Where)
		}
		require.Equal(t, fmt.Sprint(want), fmt.Sprint(got), "seed %d", seed)
		total += len(got)
	}
	require.Greater(t, total, 50)
}
