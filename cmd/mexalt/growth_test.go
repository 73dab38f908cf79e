//go:build linux

package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// growing is one row of BenchmarkGrowth: a command whose work is made twice as
// large four times.
type growing struct {
	name  string
	first int // the smallest size; what it counts is up to lines
	// lines writes the files for a size, and returns the command lines that
	// prepare, and last the one that is measured.
	lines func(f growthFolder, n int) []string
	ends  int // the exit status of the measured one
}

// growthFolder is the folder in which a row's files are.
type growthFolder struct {
	b     *testing.B
	meter string // see growthMeter
	dir   string
}

// growthMeter runs a command and writes what it used into a file. A process begins with its
// parent's peak of memory: this one has hardly any.
const growthMeter = `import ("fmt"; "os"; "os/exec"; "syscall")

func main() {
	cmd := exec.Command(os.Args[2], os.Args[3:]...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	cmd.Run()
	used := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	os.WriteFile(os.Args[1], fmt.Append(nil, used.Utime.Nano()+used.Stime.Nano(), " ", used.Maxrss), 0o600)
	os.Exit(cmd.ProcessState.ExitCode())
}
`

func (f growthFolder) path(name string) string { return filepath.Join(f.dir, name) }

func (f growthFolder) write(name string, data []byte) {
	f.b.Helper()
	require.NoError(f.b, os.MkdirAll(filepath.Dir(f.path(name)), 0o755))
	require.NoError(f.b, os.WriteFile(f.path(name), data, 0o644))
}

// bytes writes n random bytes, always the same, with n/7 times each of the
// numbers changed inverted.
func (f growthFolder) bytes(name string, n int, changed ...int) {
	file, err := os.Create(f.path(name))
	require.NoError(f.b, err)
	random, piece := rand.NewChaCha8([32]byte{7}), make([]byte, 1<<14)
	for at := 0; at < n; at += len(piece) {
		piece = piece[:min(len(piece), n-at)]
		random.Read(piece)
		for _, c := range changed {
			if place := n / 7 * c; place >= at && place < at+len(piece) {
				piece[place-at] ^= 0xFF
			}
		}
		_, err = file.Write(piece)
		require.NoError(f.b, err)
	}
	require.NoError(f.b, file.Close())
}

// run runs the program in the folder; it returns CPU time in milliseconds, of
// all cores, and the peak of memory in MiB.
func (f growthFolder) run(line string, ends int) (cpu, peak float64) {
	f.b.Helper()
	told := f.meter + ".used"
	cmd := exec.Command(f.meter, append([]string{told, program}, strings.Fields(line)...)...)
	cmd.Dir = f.dir
	out, _ := cmd.CombinedOutput()
	require.Equal(f.b, ends, cmd.ProcessState.ExitCode(), "%.200s: %.700s", line, out)
	used, err := os.ReadFile(told)
	require.NoError(f.b, err)
	_, err = fmt.Sscan(string(used), &cpu, &peak) // nanoseconds, KiB
	require.NoError(f.b, err)
	return cpu / 1e6, peak / 1024
}

// exponent fits a power of the size to costs at sizes that double, by least
// squares of the logarithms. What the smallest run costs whatever its size is
// taken off first.
func exponent(costs []float64, base float64) float64 {
	var sx, sy, sxx, sxy float64
	for i, c := range costs {
		x, y := float64(i), math.Log2(max(c-base, base/4))
		sx, sy, sxx, sxy = sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	n := float64(len(costs))
	return (n*sxy - sx*sy) / (n*sxx - sx*sx)
}

// growthMap is a device map with one flash of 256 MiB and what else text says.
func growthMap(more string) []byte {
	return []byte("name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"256M\"\n" +
		"page = 256\nsectors = [{ count = 65536, size = \"4K\" }]\n" + more)
}

// regions are n regions of size bytes one after the other.
func regions(n, size int) string {
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "[[region]]\nname = \"r%d\"\nrole = \"data\"\nfirst = %d\nsize = %d\n", i, i*size, size)
	}
	return text.String()
}

// sums are n checksums of 196 bytes each, stored after what they cover.
func sums(n int) string {
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "[[checksum]]\nname = \"s%d\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"%d..%d\"\nat = %d\n", i, i*200, i*200+195,
			i*200+196)
	}
	return text.String()
}

// runs writes Intel HEX with n runs of 16 bytes, one in every 512.
func (f growthFolder) runs(name string, n int, change byte) {
	var bin bytes.Buffer
	for i := range n {
		row := bytes.Repeat([]byte{byte(i), byte(i >> 8), byte(i >> 16), change}, 4)
		bin.Write(row)
	}
	var text strings.Builder
	upper := -1
	record := func(kind byte, at uint16, data []byte) {
		line := append([]byte{byte(len(data)), byte(at >> 8), byte(at), kind}, data...)
		sum := byte(0)
		for _, b := range line {
			sum -= b
		}
		fmt.Fprintf(&text, ":%X%02X\n", line, sum)
	}
	for i := range n {
		at := i * 512
		if at>>16 != upper {
			upper = at >> 16
			record(4, 0, []byte{byte(upper >> 8), byte(upper)})
		}
		record(0, uint16(at), bin.Bytes()[16*i:16*i+16])
	}
	record(1, 0, nil)
	f.write(name, []byte(text.String()))
}

// recipe is a release file of one input, with what else text says.
func recipe(more string) []byte {
	return []byte("name = \"grows\"\ndevice = \"p\"\n[[input]]\nname = \"all\"\nfile = \"a.bin\"\nat = 0\n" + more)
}

var growingRows = []growing{
	{name: "hex to raw", first: 4 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -o a.hex", "convert a.hex -o b.bin"}
	}},
	{name: "uf2 in", first: 4 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -o a.uf2", "convert a.uf2 -o b.bin"}
	}},
	{name: "memory text in", first: 4 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -o a.mem", "convert a.mem -o b.bin"}
	}},
	{name: "inspect of hex", first: 4 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -o a.hex", "inspect a.hex"}
	}},
	{name: "c output", first: 2 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -o a.c"}
	}},
	{name: "csv output", first: 2 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -to csv -o a.csv"}
	}},
	{name: "words output", first: 2 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{"convert a.bin -to words -word 4 -o a.txt"}
	}},
	{name: "output by a template", first: 1 << 16, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		f.write("t.tmpl", []byte("{{range .Runs}}{{range .Rows}}{{address .First}} {{.Hex}}\n{{end}}{{end}}"))
		return []string{"convert a.bin -to text -template t.tmpl -o a.txt"}
	}},
	{name: "uf2 of several families", first: 1 << 20, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		line := "convert a.bin -to uf2 -family 1 -o a.uf2"
		for i := range 8 {
			line += fmt.Sprintf(" -part %d=%d..%d", i+2, n/8*i, n/8*i+n/16-1)
		}
		return []string{line}
	}},
	{name: "uf2 of many parts", first: 250, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n*512)
		line := "convert a.bin -to uf2 -family 1 -o a.uf2"
		for i := range n {
			line += fmt.Sprintf(" -part %d=%d..%d", i%16+2, 512*i, 512*i+255)
		}
		return []string{line}
	}},
	{name: "seal of many sums", first: 60, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", 1<<20)
		f.write("p.device.toml", growthMap(sums(n)))
		return []string{"seal a.bin@0 -device p.device.toml -o b.bin"}
	}},
	{name: "release that seals many sums", first: 60, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", 1<<20)
		f.write("p.device.toml", growthMap(sums(n)))
		f.write("g.release.toml", recipe("[[step]]\ndo = \"seal\"\n[[output]]\nfile = \"o.hex\"\n"))
		return []string{"release g.release.toml"}
	}},
	{name: "compare, few bytes differ", first: 8 << 20, ends: 1, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		f.bytes("b.bin", n, 1, 2, 3, 4, 5)
		return []string{"compare a.bin b.bin"}
	}},
	{name: "identify", first: 1 << 16, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n)
		return []string{fmt.Sprintf("checksum a.bin -kind crc-32/iso-hdlc -in 0..%d -store %d -replace -o b.bin", n-5, n-4),
			fmt.Sprintf("identify b.bin -at %d", n-4)}
	}},
	{name: "steps of a release", first: 250, lines: stepLines},
	{name: "confirm of many steps", first: 250, lines: func(f growthFolder, n int) []string {
		return append(stepLines(f, n), "confirm g.manifest.json")
	}},
	{name: "explain one byte", first: 2000, lines: func(f growthFolder, n int) []string {
		f.runs("a.hex", n, 1)
		f.write("p.device.toml", growthMap(""))
		f.write("g.release.toml", bytes.ReplaceAll(recipe("[[output]]\nfile = \"o.hex\"\n"), []byte("a.bin\"\nat = 0"), []byte("a.hex\"")))
		return []string{"release g.release.toml", "explain o.hex -at 512"}
	}},
	{name: "release of variants", first: 20,
		lines: func(f growthFolder, n int) []string { return append(variantLines(f, n), "release g.release.toml") }},
	{name: "confirm of variants", first: 10, lines: func(f growthFolder, n int) []string {
		return append(variantLines(f, n), "release g.release.toml", "confirm g.manifest.json")
	}},
	{name: "map of inputs", first: 150, lines: func(f growthFolder, n int) []string {
		f.write("p.device.toml", growthMap(""))
		return []string{"map -device p.device.toml -o m.svg" + inputs(f, n)}
	}},
	{name: "check of inputs", first: 600, lines: func(f growthFolder, n int) []string {
		f.write("p.device.toml", growthMap(regions(n, 4096)))
		return []string{"check -accept partial-page -device p.device.toml" + inputs(f, n)}
	}},
	{name: "check of regions", first: 600, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", 4096)
		f.write("p.device.toml", growthMap(regions(n, 4096)))
		return []string{"check -device p.device.toml a.bin@0"}
	}},
	{name: "merge of inputs", first: 600, lines: func(f growthFolder, n int) []string {
		return []string{"merge -o o.hex" + inputs(f, n)}
	}},
	{name: "split by regions", first: 600, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", n*4096)
		f.write("p.device.toml", growthMap(regions(n, 4096)))
		return []string{"split a.bin@0 -by regions -device p.device.toml -o {name}.part.bin"}
	}},
	{name: "rehearse factory, runs", first: 1000, lines: func(f growthFolder, n int) []string {
		f.runs("a.hex", n, 1)
		f.write("p.device.toml", growthChip())
		return []string{"rehearse a.hex -device p.device.toml -accept partial-page"}
	}},
	{name: "compare -cost, runs", first: 1000, ends: 1, lines: func(f growthFolder, n int) []string {
		f.runs("a.hex", n, 1)
		f.runs("b.hex", n, 2)
		f.write("p.device.toml", growthChip())
		return []string{"compare -cost a.hex b.hex -device p.device.toml"}
	}},
	{name: "load a map of regions", first: 1000, lines: func(f growthFolder, n int) []string {
		f.write("p.device.toml", growthMap(regions(n, 4096)))
		return []string{"device p.device.toml"}
	}},
	{name: "derive from a device tree", first: 2000, ends: 0, lines: func(f growthFolder, n int) []string {
		var text strings.Builder
		text.WriteString("/dts-v1/;\n/ { #address-cells = <1>; #size-cells = <1>;\nflash0: flash@0 { compatible = \"soc-nv-flash\"; " +
			"reg = <0x0 0x40000000>; erase-block-size = <4096>; write-block-size = <4>;\npartitions { compatible = " +
			"\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n")
		for i := range n {
			fmt.Fprintf(&text, "p%d: partition@%x { label = \"p%d\"; reg = <0x%x 0x1000>; };\n", i, i*4096, i, i*4096)
		}
		text.WriteString("}; }; };\n")
		f.write("a.dts", []byte(text.String()))
		return []string{"device -derive a.dts -o d.device.toml"}
	}},
	{name: "derive from XML", first: 2000, lines: func(f growthFolder, n int) []string {
		var text strings.Builder
		text.WriteString("<?xml version=\"1.0\"?>\n<memory-map>\n")
		for i := range n {
			fmt.Fprintf(&text,
				"<memory type=\"flash\" start=\"0x%x\" length=\"0x1000\"><property name=\"blocksize\">0x1000</property></memory>\n",
				2*i*4096)
		}
		text.WriteString("</memory-map>\n")
		f.write("a.xml", []byte(text.String()))
		return []string{"device -derive a.xml -o d.device.toml"}
	}},
	{name: "symbols of an ELF", first: 4000, lines: func(f growthFolder, n int) []string {
		f.write("a.elf", elfOf(n))
		f.write("p.device.toml", growthMap(""))
		f.write("g.release.toml", bytes.ReplaceAll(recipe("[[output]]\nfile = \"o.hex\"\n"), []byte("a.bin\"\nat = 0"), []byte("a.elf\"")))
		return []string{"release g.release.toml"}
	}},
	{name: "units", first: 250, lines: func(f growthFolder, n int) []string {
		f.bytes("a.bin", 32<<10)
		f.write("p.device.toml", growthMap(""))
		var text strings.Builder
		text.WriteString("serial\n")
		for i := range n {
			fmt.Fprintf(&text, "S%06d\n", i)
		}
		f.write("u.csv", []byte(text.String()))
		f.write("g.release.toml",
			recipe("[set]\nserial = \"0\"\n[[step]]\ndo = \"patch\"\nat = 16\ntext = \"{serial}\"\n[[output]]\nfile = \"{serial}.bin\"\n"))
		return []string{"release g.release.toml -units u.csv"}
	}},
}

// inputs writes n files of 16 bytes, one in each 4 KiB.
func inputs(f growthFolder, n int) string {
	var line strings.Builder
	for i := range n {
		name := "in" + strconv.Itoa(i) + ".bin"
		f.write(name, []byte("0123456789abcdef"))
		line.WriteString(" " + name + "@" + strconv.Itoa(i*4096))
	}
	return line.String()
}

// stepLines writes a release of n steps on 1 MiB, and runs it.
func stepLines(f growthFolder, n int) []string {
	f.bytes("a.bin", 1<<20)
	f.write("p.device.toml", growthMap(""))
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "[[step]]\ndo = \"patch\"\nat = %d\nnumber = %d\nsize = 4\n", i*200, i)
	}
	f.write("g.release.toml", recipe(text.String()+"[[output]]\nfile = \"o.hex\"\n"))
	return []string{"release g.release.toml"}
}

// variantLines writes a release of n variants of 1 MiB.
func variantLines(f growthFolder, n int) []string {
	f.bytes("a.bin", 1<<20)
	f.write("p.device.toml", growthMap(""))
	text := "[[step]]\ndo = \"patch\"\nat = 16\ntext = \"{variant}\"\n[[output]]\nfile = \"o-{variant}.bin\"\n"
	for i := range n {
		text += fmt.Sprintf("[[variant]]\nname = \"v%d\"\n", i)
	}
	f.write("g.release.toml", recipe(text))
	return nil
}

// growthChip is a map with what a rehearsal needs.
func growthChip() []byte {
	return growthMap("erase-time = { typical = \"34 ms\", most = \"60 ms\" }\nprogram-time = { typical = \"1.9 ms\", most = \"4 ms\" }\n")
}

// elfOf is an ELF file of 64 KiB with n functions.
func elfOf(n int) []byte {
	const code = 1 << 16
	var names, symbols bytes.Buffer
	names.WriteByte(0)
	symbols.Write(make([]byte, 16))
	order := binary.LittleEndian
	for i := range n {
		entry := make([]byte, 16)
		order.PutUint32(entry, uint32(names.Len()))
		order.PutUint32(entry[4:], uint32(i*4%code))
		order.PutUint32(entry[8:], 4)
		entry[12], entry[14] = 0x12, 1
		symbols.Write(entry)
		fmt.Fprintf(&names, "function_%d\x00", i)
	}
	sectionNames := "\x00.text\x00.symtab\x00.strtab\x00.shstrtab\x00"
	at := []uint32{0, 84}
	at = append(at, at[1]+code)
	at = append(at, at[2]+uint32(symbols.Len()))
	at = append(at, at[3]+uint32(names.Len()))
	table := (at[4] + uint32(len(sectionNames)) + 3) &^ 3
	var file bytes.Buffer
	file.WriteString("\x7fELF\x01\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	put := func(values ...any) {
		for _, v := range values {
			binary.Write(&file, order, v)
		}
	}
	put(uint16(2), uint16(0xF3), uint32(1), uint32(0), uint32(52), table, uint32(0), uint16(52), uint16(32), uint16(1), uint16(40),
		uint16(5), uint16(4))
	put(uint32(1), uint32(84), uint32(0), uint32(0), uint32(code), uint32(code), uint32(5), uint32(4))
	text := make([]byte, code)
	rand.NewChaCha8([32]byte{9}).Read(text)
	file.Write(text)
	file.Write(symbols.Bytes())
	file.Write(names.Bytes())
	file.WriteString(sectionNames)
	file.Write(make([]byte, int(table)-file.Len()))
	section := func(name, kind, flags, address, offset, size, link, info, align, entry uint32) {
		put(name, kind, flags, address, offset, size, link, info, align, entry)
	}
	section(0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	section(1, 1, 6, 0, at[1], code, 0, 0, 4, 0)
	section(7, 2, 0, 0, at[2], uint32(symbols.Len()), 3, 1, 4, 16)
	section(15, 3, 0, 0, at[3], uint32(names.Len()), 0, 0, 1, 0)
	section(23, 3, 0, 0, at[4], uint32(len(sectionNames)), 0, 0, 1, 0)
	return file.Bytes()
}

// BenchmarkGrowth measures how the cost of commands grows with their work: each
// is run at five sizes, each twice the one before. time-exponent and
// memory-exponent are the powers that fit, 1 being linear; cpu-ms and peak-MiB
// are what the largest takes. Above 1.1, something is searched, copied or kept
// once too often. Run it with -benchtime 1x.
func BenchmarkGrowth(b *testing.B) {
	meter := buildReference(b, growthMeter)
	for _, row := range growingRows {
		b.Run(row.name, func(b *testing.B) {
			for b.Loop() {
				base := growthFolder{b: b, meter: meter, dir: b.TempDir()}
				baseTime, basePeak := base.run("version", 0)
				var times, peaks []float64
				for i := range 5 {
					f := growthFolder{b: b, meter: meter, dir: b.TempDir()}
					lines := row.lines(f, row.first<<i)
					last := len(lines) - 1
					for _, line := range lines[:last] {
						f.run(line, 0)
					}
					cpu, peak := f.run(lines[last], row.ends)
					times, peaks = append(times, cpu), append(peaks, peak)
					os.RemoveAll(f.dir)
				}
				b.Logf("%s: %.0f ms, %.0f MiB", row.name, times, peaks)
				b.ReportMetric(exponent(times, baseTime), "time-exponent")
				b.ReportMetric(exponent(peaks, basePeak), "memory-exponent")
				b.ReportMetric(times[4], "cpu-ms")
				b.ReportMetric(peaks[4], "peak-MiB")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
