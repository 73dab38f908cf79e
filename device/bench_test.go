package device

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"

	"mexalt/source"
)

// BenchmarkLoad loads large maps; times-decode is how many times as long it
// takes as a plain decode of the same TOML, each at its best.
func BenchmarkLoad(b *testing.B) {
	const memory = "name='x'\n[[memory]]\nname='m'\nkind='flash'\nfirst=0\nsize='1M'\n"
	list := func(n int, line func(i int) string) string {
		var text strings.Builder
		for i := range n {
			text.WriteString(line(i))
		}
		return text.String()
	}
	for name, text := range map[string]string{
		"regions": memory + list(4000, func(i int) string {
			return fmt.Sprintf("[[region]]\nname='r%d'\nrole='data'\nfirst=%d\nsize=4\n", i, 4*i)
		}),
		"chained": memory + "[[region]]\nname='r1000'\nrole='data'\nfirst=0\nsize=4\n" + list(1000, func(i int) string {
			return fmt.Sprintf("[[region]]\nname='r%d'\nrole='data'\nfirst='r%d.last+1'\nsize=4\n", i, i+1)
		}),
		"mistakes": memory + list(4000, func(i int) string {
			return fmt.Sprintf("[[region]]\nname='r%d'\nrole='data'\nfrst=1\nsiez=2\nlst=3\nfirst='q%d.last'\nsize='4 K'\n", i, i)
		}),
		"names": memory + list(4000, func(i int) string {
			return fmt.Sprintf("[[region]]\nname='r%d'\nrole='data'\nfirst=%d\nsize=4\n[[region]]\nname='s%d'\nrole='data'\n"+
				"first='q%d.last'\nsize=4\n", i, 8*i, i, i)
		}),
		"targets": memory + list(4000, func(i int) string {
			return fmt.Sprintf("[[region]]\nname='r%d'\nrole='data'\nfirst=%d\nsize=8\n[[start]]\nkind='vectors'\nat=%d\ntarget='q%d'\n",
				i, 8*i, 8*i, i)
		}),
		"aliases": strings.Replace(memory, "'1M'", "4", 1) + "aliases=[" +
			list(10_000, func(i int) string { return fmt.Sprintf("%d,", 4*i+4) }) + "]\n",
		"sectors": memory + list(1000, func(i int) string {
			return fmt.Sprintf("[[memory]]\nname='m%d'\nkind='flash'\nfirst=%d\nsize=65536\nsectors=[{count=65536,size=1}]\n", i,
				65536*(i+100))
		}),
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
				best(&ours, func() { Load("m", []byte(text), &source.Problems{}) })
				best(&theirs, func() {
					var tree map[string]any
					if err := toml.Unmarshal([]byte(text), &tree); err != nil {
						b.Fatal(err)
					}
				})
			}
			b.ReportMetric(float64(ours)/float64(theirs), "times-decode")
		})
	}
}
