//go:build linux

package main

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// buildReference builds a Go program to measure against.
func buildReference(b *testing.B, text string) string {
	b.Helper()
	dir := b.TempDir()
	source, empty := filepath.Join(dir, "main.go"), filepath.Join(dir, "reference")
	if err := os.WriteFile(source, []byte("package main\n\n"+text), 0o644); err != nil {
		b.Fatal(err)
	}
	build := exec.Command("go", "build", "-o", empty, source)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatal(string(out))
	}
	return empty
}

// best runs a program, its output thrown away, and keeps the shortest time.
func best(b *testing.B, d *time.Duration, name string, args ...string) *os.ProcessState {
	b.Helper()
	cmd := exec.Command(name, args...)
	begin := time.Now()
	if err := cmd.Run(); err != nil {
		b.Fatal(err)
	}
	if took := time.Since(begin); *d == 0 || took < *d {
		*d = took
	}
	return cmd.ProcessState
}

// BenchmarkHexToRaw converts Intel HEX of 32 MiB to raw bytes; times-reference is
// how many times as long the whole process takes as one that reads as many
// digits, decodes them with package encoding/hex and writes the bytes.
func BenchmarkHexToRaw(b *testing.B) {
	reference := buildReference(b, `import ("encoding/hex"; "os")

func main() {
	text, _ := os.ReadFile(os.Args[1])
	out := make([]byte, len(text)/2)
	if _, err := hex.Decode(out, text); err != nil {
		panic(err)
	}
	os.Stdout.Write(out)
}
`)
	_, text := benchFile(b, 32<<20)
	digits := filepath.Join(b.TempDir(), "digits")
	info, err := os.Stat(text)
	if err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(digits, bytes.Repeat([]byte("0123456789ABCDEF"), int(info.Size())/16), 0o644); err != nil {
		b.Fatal(err)
	}
	var ours, theirs time.Duration
	for b.Loop() {
		best(b, &ours, program, "convert", text, "-to", "raw", "-quiet")
		best(b, &theirs, reference, digits)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-reference")
}

// benchFile makes a raw file, and Intel HEX of it.
func benchFile(b *testing.B, size int) (raw, hex string) {
	b.Helper()
	dir := b.TempDir()
	raw, hex = filepath.Join(dir, "a.bin"), filepath.Join(dir, "a.hex")
	// In pieces, as a process begins with its parent's peak of memory.
	file, err := os.Create(raw)
	if err != nil {
		b.Fatal(err)
	}
	random, piece := rand.NewChaCha8([32]byte{1}), make([]byte, 1<<20)
	for range size / len(piece) {
		random.Read(piece)
		file.Write(piece)
	}
	if err := file.Close(); err != nil {
		b.Fatal(err)
	}
	if out, err := exec.Command(program, "convert", raw, "-o", hex).CombinedOutput(); err != nil {
		b.Fatal(string(out))
	}
	return raw, hex
}

// BenchmarkInspect inspects a raw file of 64 MiB; times-reference is how many
// times as long the whole process takes as one that makes the two SHA-256 that
// it needs, side by side.
func BenchmarkInspect(b *testing.B) {
	reference := buildReference(b, `import ("crypto/sha256"; "os"; "sync")

func main() {
	data, _ := os.ReadFile(os.Args[1])
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() { sha256.Sum256(data) })
	}
	wait.Wait()
}
`)
	raw, _ := benchFile(b, 64<<20)
	var ours, theirs time.Duration
	for b.Loop() {
		best(b, &ours, program, "inspect", raw)
		best(b, &theirs, reference, raw)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-reference")
}

// BenchmarkPipeMemory converts an image of 64 MiB that comes through a pipe;
// times-image is the peak of resident memory against the image.
func BenchmarkPipeMemory(b *testing.B) {
	const size = 64 << 20
	raw, hex := benchFile(b, size)
	peak := map[string]int64{}
	for b.Loop() {
		for name, line := range map[string][]string{"raw": {raw, "-to", "raw", "-from", "raw"}, "hex": {hex, "-to", "hex"}} {
			cat := exec.Command("cat", line[0])
			in, err := cat.StdoutPipe()
			if err != nil {
				b.Fatal(err)
			}
			if err := cat.Start(); err != nil {
				b.Fatal(err)
			}
			cmd := exec.Command(program, append([]string{"convert", "-", "-quiet"}, line[1:]...)...)
			cmd.Stdin = in
			if err := cmd.Run(); err != nil {
				b.Fatal(err)
			}
			cat.Wait()
			peak[name] = max(peak[name], cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
		}
	}
	for name, p := range peak {
		b.ReportMetric(float64(p)/size, name+"-times-image")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkVersion measures the whole process of mexalt version; times-empty is
// how many times as long it takes as an empty Go program, each at its best.
func BenchmarkVersion(b *testing.B) {
	empty := buildReference(b, "func main() {}\n")
	var ours, theirs time.Duration
	for b.Loop() {
		best(b, &ours, program, "version")
		best(b, &theirs, empty)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-empty")
}

// BenchmarkConvertMemory converts an image of 64 MiB between all formats;
// times-image is the largest peak of resident memory against the image.
func BenchmarkConvertMemory(b *testing.B) {
	const size = 64 << 20
	dir := b.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(i * 7 >> 3)
	}
	if err := os.WriteFile(path("a.bin"), data, 0o644); err != nil {
		b.Fatal(err)
	}
	peak := int64(0)
	for b.Loop() {
		for _, line := range []string{"a.bin a.hex", "a.hex a.s37", "a.s37 b.hex", "b.hex b.bin"} {
			from, to, _ := strings.Cut(line, " ")
			cmd := exec.Command(program, "convert", path(from), "-o", path(to))
			if out, err := cmd.CombinedOutput(); err != nil {
				b.Fatal(string(out))
			}
			peak = max(peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
		}
	}
	b.ReportMetric(float64(peak)/size, "times-image")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkMergeInputs merges files of one small run each; the time for each
// file should not grow with their number.
func BenchmarkMergeInputs(b *testing.B) {
	for _, n := range []int{100, 1000, 10_000} {
		b.Run(strconv.Itoa(n), func(b *testing.B) {
			dir := b.TempDir()
			args := []string{"merge", "-to", "hex"}
			for i := range n {
				name := filepath.Join(dir, strconv.Itoa(i)+".bin")
				if err := os.WriteFile(name, []byte("0123456789abcdef"), 0o644); err != nil {
					b.Fatal(err)
				}
				args = append(args, name+"@"+strconv.Itoa(32*i))
			}
			for b.Loop() {
				if err := exec.Command(program, args...).Run(); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "us/input")
		})
	}
}

// BenchmarkRelease runs a release of 4 MiB with 8 steps and 6 outputs, which are
// new each time; times-plain is how many times as long the whole process takes as copying
// its outputs, syncing the copies, and the SHA-256 of all its files with the system's
// programs.
func BenchmarkRelease(b *testing.B) {
	dir := b.TempDir()
	_, hex := benchFile(b, 4<<20)
	text := `name = "bench"
device = "part"
[[input]]
name = "all"
file = "` + hex + `"
`
	for _, step := range []string{`do = "patch"` + "\nat = 0x100\ntext = \"one\"", `do = "patch"` + "\nat = 0x200\ntext = \"two\"",
		`do = "patch"` + "\nat = 0x300\nbytes = \"0123\"",
		`do = "convert"` + "\nswap = 2", `do = "convert"` + "\nswap = 2", `do = "fill"` + "\nin = \"flash\"\nwith = \"FF\"",
		`do = "checksum"` + "\nkind = \"crc-32/iso-hdlc\"\nin = \"0..0x3FFFFB\"\nstore = 0x3FFFFC\nreplace = true",
		`do = "patch"` + "\nat = 0x3FFFF0\nnumber = 7\nsize = 4"} {
		text += "[[step]]\n" + step + "\n"
	}
	outputs := []string{"o.hex", "o.s37", "o.bin", "o.uf2", "low.bin", "high.hex"}
	for i, name := range outputs {
		text += "[[output]]\nfile = \"" + name + "\"\n"
		if i >= 4 {
			text += "in = \"" + []string{"0..0x1FFFFF", "0x200000..0x3FFFFF"}[i-4] + "\"\n"
		}
	}
	for name, text := range map[string]string{"b.release.toml": text,
		"part.device.toml": "name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"4M\"\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	release := filepath.Join(dir, "b.release.toml")
	if out, err := exec.Command(program, "release", release).CombinedOutput(); err != nil {
		b.Fatal(string(out))
	}
	files := []string{hex}
	for _, name := range outputs {
		files = append(files, filepath.Join(dir, name))
	}
	copies := b.TempDir()
	var ours, theirs time.Duration
	plain := "cp " + strings.Join(files[1:], " ") + " " + copies + " && sync " + copies + "/* && sha256sum " + strings.Join(files, " ")
	for b.Loop() {
		os.RemoveAll(copies)
		os.Mkdir(copies, 0o777)
		best(b, &theirs, "sh", "-c", plain)
		for _, name := range outputs {
			os.Remove(filepath.Join(dir, name))
		}
		best(b, &ours, program, "release", release, "-quiet")
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-plain")
	b.ReportMetric(float64(ours.Milliseconds()), "best-ms")
}

// BenchmarkRead reads 1 MiB through the debug server of an emulator; times-dump is how many times
// as long it takes as a debugger that dumps it, each at its best.
func BenchmarkRead(b *testing.B) {
	dir := b.TempDir()
	_, hex := benchFile(b, 1<<20)
	at := emulated(b, dir, "qemu-system-arm", "-M", "mps2-an385", "-display", "none", "-monitor", "none", "-serial", "null", "-S",
		"-device", "loader,file="+hex, "-gdb", "tcp:127.0.0.1:{port}")
	var ours, theirs time.Duration
	for b.Loop() {
		best(b, &ours, program, "read", at, "-in", "0,1M", "-quiet", "-o", filepath.Join(dir, "ours.bin"))
		best(b, &theirs, "gdb-multiarch", "-q", "-nx", "-batch", "-ex", "target remote "+at,
			"-ex", "dump binary memory "+filepath.Join(dir, "theirs.bin")+" 0 0x100000", "-ex", "disconnect")
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-dump")
	b.ReportMetric(float64(ours.Milliseconds()), "best-ms")
}
