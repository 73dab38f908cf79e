package memory

import (
	"testing"
	"time"

	"mexalt/source"
)

// BenchmarkWords splits into lanes, joins lanes and swaps; x-memmove is the speed
// against copying as many bytes, each at its best.
func BenchmarkWords(b *testing.B) {
	const size = 32 << 20
	data, to := make([]byte, size), make([]byte, size)
	for i := range data {
		data[i] = byte(i * 7 >> 3)
	}
	m, _ := FromBytes(0, data, &source.Input{Name: "f"})
	step := operationInput("step")
	var halves, quarters []*Image
	for _, p := range m.SplitLanes(2, 1, step) {
		halves = append(halves, p.Image)
	}
	for _, p := range m.SplitLanes(4, 2, step) {
		quarters = append(quarters, p.Image)
	}
	for name, f := range map[string]func(){
		"split 2":       func() { m.SplitLanes(2, 1, step) },
		"split 4":       func() { m.SplitLanes(4, 1, step) },
		"split 3":       func() { m.SplitLanes(3, 1, step) },
		"split 4 words": func() { m.SplitLanes(4, 2, step) },
		"join 2":        func() { JoinLanes(halves, 1, step) },
		"join 4 words":  func() { JoinLanes(quarters, 2, step) },
		"swap 2":        func() { m.Swap(2, step) },
		"swap 4":        func() { m.Swap(4, step) },
		"swap 8":        func() { m.Swap(8, step) },
	} {
		b.Run(name, func(b *testing.B) {
			best := func(d *time.Duration, f func()) {
				begin := time.Now()
				f()
				if took := time.Since(begin); *d == 0 || took < *d {
					*d = took
				}
			}
			var ours, theirs time.Duration
			for b.Loop() {
				best(&ours, f)
				best(&theirs, func() { copy(to, data) })
			}
			b.ReportMetric(float64(theirs)/float64(ours), "x-memmove")
		})
	}
}
