//go:build linux

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

func buildEmpty(b *testing.B) string {
	b.Helper()
	dir := b.TempDir()
	source, empty := filepath.Join(dir, "main.go"), filepath.Join(dir, "empty")
	if err := os.WriteFile(source, []byte("package main\n\nfunc main() {}\n"), 0o644); err != nil {
		b.Fatal(err)
	}
	build := exec.Command("go", "build", "-o", empty, source)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatal(string(out))
	}
	return empty
}

// BenchmarkVersion measures the whole process of mexalt version; times-empty is
// how many times as long it takes as an empty Go program, each at its best.
func BenchmarkVersion(b *testing.B) {
	empty := buildEmpty(b)
	best := func(d *time.Duration, name string, args ...string) {
		begin := time.Now()
		if err := exec.Command(name, args...).Run(); err != nil {
			b.Fatal(err)
		}
		if took := time.Since(begin); *d == 0 || took < *d {
			*d = took
		}
	}
	var ours, theirs time.Duration
	for b.Loop() {
		best(&ours, program, "version")
		best(&theirs, empty)
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
