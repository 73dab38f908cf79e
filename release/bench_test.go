package release

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mexalt/demo"
	"mexalt/source"
)

const unitRelease = `name = "TG-1 factory"
device = "brindle-b8-32"
unique = ["serial"]
[set]
serial = 0
[[input]]
name = "bootloader"
file = "bootloader.hex"
[[input]]
name = "gauge"
file = "gauge-app.s19"
[[input]]
name = "calibration"
file = "calibration.bin"
at = "calibration.first"
[[step]]
do = "patch"
at = "part.calibration.first + 4"
values = [{ number = "{serial}", size = 4 }]
[[step]]
do = "fill"
in = ["application"]
with = "FF"
[[step]]
do = "seal"
[[output]]
file = "unit-{serial}.hex"
`

// unitsFolder returns a folder with a release file and a table of units.
func unitsFolder(tb testing.TB, units int) string {
	folder := tb.TempDir()
	if err := os.CopyFS(folder, demo.Files()); err != nil {
		tb.Fatal(err)
	}
	var table strings.Builder
	table.WriteString("serial\n")
	for i := range units {
		fmt.Fprintln(&table, 20_000+i)
	}
	for name, text := range map[string]string{"tg1.release.toml": unitRelease, "units.csv": table.String()} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o666); err != nil {
			tb.Fatal(err)
		}
	}
	return folder
}

// BenchmarkUnits makes units of 32 KiB; ms/unit times 10,000 is to be under a
// minute.
func BenchmarkUnits(b *testing.B) {
	const units = 500
	for b.Loop() {
		b.StopTimer()
		folder := unitsFolder(b, units)
		b.StartTimer()
		files := &source.Files{Digest: true}
		f, err := Load(files, filepath.Join(folder, "tg1.release.toml"))
		if err != nil {
			b.Fatal(err)
		}
		if u, err := f.RunUnits(context.Background(), files, filepath.Join(folder, "units.csv"), Options{}); err != nil || u.Made != units {
			b.Fatal(u, err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N)/units, "ms/unit")
}
