package checksum

import (
	"context"
	"hash/crc32"
	"testing"
	"time"

	"mexalt/memory"
)

const benchSize = 4 << 20

func benchData() []byte {
	data := make([]byte, benchSize)
	for i := range data {
		data[i] = byte(i * 2654435761 >> 13)
	}
	return data
}

// BenchmarkAgainstStandard measures CRCs that package hash/crc32 knows too, turn
// by turn with it, each at its best.
func BenchmarkAgainstStandard(b *testing.B) {
	data := benchData()
	for name, table := range map[string]*crc32.Table{"CRC-32/ISO-HDLC": crc32.IEEETable,
		"CRC-32/ISCSI": crc32.MakeTable(crc32.Castagnoli)} {
		b.Run(name, func(b *testing.B) {
			k, _ := KindOf(name)
			b.SetBytes(benchSize)
			var ours, theirs time.Duration
			best := func(d *time.Duration, f func()) {
				begin := time.Now()
				f()
				if took := time.Since(begin); *d == 0 || took < *d {
					*d = took
				}
			}
			for b.Loop() {
				best(&ours, func() { k.Sum(1, data) })
				best(&theirs, func() { crc32.Checksum(data, table) })
			}
			b.ReportMetric(float64(theirs)/float64(ours), "x-reference")
		})
	}
}

// BenchmarkKinds measures every algorithm, each at its best; the slowest of
// each group is what counts.
func BenchmarkKinds(b *testing.B) {
	data := benchData()
	for _, group := range []string{"CRC", "sum", "XOR", "other", "digest"} {
		b.Run(group, func(b *testing.B) {
			slowest := map[string]time.Duration{}
			for b.Loop() {
				for _, k := range Kinds() {
					if k.Group != group {
						continue
					}
					begin := time.Now()
					k.Sum(1, data)
					if took := time.Since(begin); slowest[k.Name] == 0 || took < slowest[k.Name] {
						slowest[k.Name] = took
					}
				}
			}
			worst, name := time.Duration(0), ""
			for n, d := range slowest {
				if d > worst {
					worst, name = d, n
				}
			}
			b.ReportMetric(benchSize/worst.Seconds()/1e9, "slowest-GB/s")
			b.Log("slowest: " + name)
		})
	}
}

func BenchmarkIdentify1MiB(b *testing.B) {
	m, _ := memory.FromBytes(0, benchData()[:1<<20], in)
	place := memory.Span{First: 1<<20 - 4, Last: 1<<20 - 1}
	for b.Loop() {
		Identify(
			context.Background(),
			Query{Pairs: []Pair{{m, Value{1, 2, 3, 4}, &place}}, Spans: []NamedSpans{{"image", []memory.Span{{First: 0, Last: 1<<20 - 1}}}},
				Pages: []uint64{128, 256, 512, 1 << 10, 2 << 10, 4 << 10}, Erased: 0xFF, Cores: 2},
		)
	}
}
