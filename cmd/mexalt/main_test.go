package main

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/demo"
	"mexalt/internal/golden"
)

// program is what the tests drive: the built program, or the one that MEXALT_PROGRAM names.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "mexalt-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "mexalt")
	if given := os.Getenv("MEXALT_PROGRAM"); given != "" {
		// Perhaps with what runs it, such as an emulator of another system.
		if err := os.WriteFile(program, []byte("#!/bin/sh\nexec "+given+" \"$@\"\n"), 0o755); err != nil {
			panic(err)
		}
	} else {
		// As the archives' program is, so that what both need is compiled once.
		build := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", program, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(string(out))
		}
	}
	status := golden.Waiting(m)
	os.RemoveAll(dir)
	if madeReleases != "" {
		os.RemoveAll(madeReleases)
	}
	os.Exit(status)
}

// result is what a run of the program gave.
type result struct {
	status   int
	out, err string
}

// folder is a temporary folder in which the program runs.
type folder struct {
	t   *testing.T
	dir string
}

// demoFolder returns a folder with the demo's files.
func demoFolder(t *testing.T) folder {
	t.Helper()
	f := emptyFolder(t)
	require.NoError(t, os.CopyFS(f.dir, demo.Files()))
	return f
}

// madeReleases is a folder with the demo's files and releases, which tests copy.
var (
	madeReleases string
	makeReleases sync.Once
)

// releasedFolder returns a folder with the demo's files, and what its releases make.
func releasedFolder(t *testing.T) folder {
	t.Helper()
	makeReleases.Do(func() {
		dir, err := os.MkdirTemp("", "mexalt-released-")
		require.NoError(t, err)
		made := folder{t, dir}
		require.NoError(t, os.CopyFS(dir, demo.Files()))
		made.ok("release tg1.release.toml -quiet")
		made.ok("release tg4.release.toml -quiet -set version=3.0.0 -set station=station-3.0.0.elf")
		made.ok("release tg4.release.toml -quiet")
		madeReleases = dir
	})
	f := emptyFolder(t)
	require.NoError(t, os.CopyFS(f.dir, os.DirFS(madeReleases)))
	return f
}

func emptyFolder(t *testing.T) folder { return folder{t, t.TempDir()} }

// run runs the program with standard input from text.
func (f folder) run(stdin string, args ...string) (r result) {
	f.t.Helper()
	for range 3 {
		// What says nothing at all and fails was broken off by the layer that runs programs of
		// another system: the program tells of whatever it ends with status 1 for.
		if r = f.runOnce(stdin, args...); r.status != 1 || r.out+r.err != "" || programSystem() == "linux" {
			break
		}
		f.t.Logf("broken off: %s", strings.Join(args, " "))
	}
	return r
}

func (f folder) runOnce(stdin string, args ...string) result {
	f.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdin = f.dir, strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "MEXALT_DEVICES=")
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		f.t.Fatal(err)
	}
	r := result{cmd.ProcessState.ExitCode(), out.String(), f.quiet(errOut.String())}
	assert.NotContains(f.t, r.err, "goroutine ", "the program panicked")
	return r
}

// line runs a command line without quotes in it.
func (f folder) line(line string) result {
	f.t.Helper()
	return f.run("", strings.Fields(line)...)
}

// ok runs a command line that must end with status 0 and returns its output.
func (f folder) ok(line string) string {
	f.t.Helper()
	r := f.line(line)
	require.Equal(f.t, 0, r.status, "%s: %s", line, r.err)
	return r.out
}

func (f folder) path(name string) string { return filepath.Join(f.dir, name) }

func (f folder) read(name string) string {
	f.t.Helper()
	b, err := os.ReadFile(f.path(name))
	require.NoError(f.t, err)
	return string(b)
}

func (f folder) write(name, text string) {
	f.t.Helper()
	require.NoError(f.t, os.WriteFile(f.path(name), []byte(text), 0o644))
}

// names returns what the folder holds.
func (f folder) names() []string {
	f.t.Helper()
	var names []string
	entries, err := os.ReadDir(f.dir)
	require.NoError(f.t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// TestDemo runs the examples of its help: the second makes the same in another folder.
func TestDemo(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	address := regexp.MustCompile(`127\.0\.0\.1:\d+`) // the system chooses it
	out := address.ReplaceAllString(f.ok("demo"), "ADDRESS")
	assert.Contains(t, out, "factory.hex")
	assert.Equal(t, 5, strings.Count(out, "Refused: "))
	first := f.read("mexalt-demo/factory.hex")
	assert.NotEmpty(t, first)
	_, err := os.Stat(f.path("mexalt-demo/factory-2.hex"))
	assert.ErrorIs(t, err, fs.ErrNotExist, "nothing is written for what was refused")

	if golden.Every(2) == 1 {
		require.NoError(t, os.Rename(f.path("mexalt-demo"), f.path("elsewhere")))
		again := address.ReplaceAllString(f.ok("demo -o elsewhere"), "ADDRESS")
		assert.Equal(t, strings.ReplaceAll(strings.ReplaceAll(out, "mexalt-demo", "elsewhere"), ", replaced\n", "\n"),
			strings.ReplaceAll(again, ", replaced\n", "\n"), "a second run in the same folder is the same")
		assert.Equal(t, first, f.read("elsewhere/factory.hex"))
		require.NoError(t, os.Rename(f.path("elsewhere"), f.path("mexalt-demo")))
	}

	f.write("mexalt-demo/thesis.txt", "mine")
	r := f.line("demo")
	assert.Equal(t, 4, r.status)
	assert.Equal(t, "mexalt demo: error: mexalt-demo contains something else, thesis.txt; name another folder with -o\n", r.err)
	assert.Empty(t, r.out)
	assert.Equal(t, 2, f.line("demo x").status)
}

// TestChain does the demo's job through files, and through pipes.
func TestChain(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("merge bootloader.hex gauge-app.s19 calibration.bin@calibration.first -device brindle-b8-32 -o merged.hex")
	f.ok("fill merged.hex -in application -with FF -device brindle-b8-32 -o filled.hex")
	f.ok("checksum -device brindle-b8-32 -in application.first..application.last-4 filled.hex -store application.last-3 -o factory.hex")
	out := f.ok("check factory.hex -device brindle-b8-32")
	assert.Contains(t, out, "factory.hex with Brindle B8-32")

	for _, to := range []string{"hex", "srec"} { // the format between makes no difference
		merged := f.run(f.read("gauge-app.s19"), "merge", "bootloader.hex", "-", "calibration.bin@calibration.first", "-device",
			"brindle-b8-32", "-to", to)
		filled := f.run(merged.out, "fill", "-in", "application", "-device", "brindle-b8-32")
		stored := f.run(filled.out, "checksum", "-", "-in", "application.first..application.last-4", "-store", "application.last-3",
			"-device", "brindle-b8-32")
		piped := f.run(stored.out, "convert", "-to", "hex")
		assert.Equal(t, f.read("factory.hex"), piped.out, piped.err)
		assert.NotContains(t, piped.err, "error")
	}

	raw := f.ok("convert factory.hex@0 -to raw -holes FF -o whole.bin")
	assert.Empty(t, raw)
	whole := f.read("whole.bin")
	assert.Len(t, whole, 0x40_0200)
	assert.Equal(t, f.read("calibration.bin"), whole[0x40_0000:])
	assert.Equal(t, "\xFF\xFF", whole[0x77FA:0x77FC])
	value := strings.TrimSpace(f.ok("checksum factory.hex -in 0..0x77FB"))
	assert.Regexp(t, `^CRC-32/ISO-HDLC 0x[0-9A-F]{8} over 0x0000\.\.0x77FB`, value)
}

func TestDamagedFileLeavesTheOldOutput(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("out.hex", "precious")
	r := f.line("merge bootloader-damaged.hex gauge-app.s19 -o out.hex")
	assert.Equal(t, 3, r.status)
	assert.Equal(t, "precious", f.read("out.hex"))
	assert.Contains(t, r.err, "bootloader-damaged.hex:12:22: error: character U+2013 (a dash or hyphen)")
	assert.Contains(t, r.err, "again)\nbootloader-damaged.hex:73:26: error: the file has no end record")

	r = f.line("inspect bootloader-damaged.hex gauge-app.s19")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.out, "bootloader-damaged.hex: Intel HEX, damaged: 4 problems")
	assert.Contains(t, r.out, "gauge-app.s19: S-record, intact")
}

func TestClashRules(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("a.hex", ":020000006162"+"3B\n:00000001FF\n")
	f.write("b.hex", ":020000006163"+"3A\n:00000001FF\n")
	f.write("c.hex", ":0100010062"+"9C\n:00000001FF\n")
	assert.Equal(t, f.read("a.hex"), f.ok("merge a.hex c.hex -clash agree"))
	assert.Equal(t, 3, f.line("merge a.hex b.hex -clash agree").status)
	r := f.line("merge a.hex b.hex -clash first")
	assert.Equal(t, f.read("a.hex"), r.out)
	assert.Equal(t, "mexalt merge: note: a.hex:1 covers b.hex:1 over 0x0000..0x0001 (2 bytes); 1 of 2 bytes differ\n", r.err)
	r = f.line("merge a.hex b.hex -clash last")
	assert.Equal(t, f.read("b.hex"), r.out)
	assert.Contains(t, r.err, "b.hex:1 covers a.hex:1")
}

func TestStartOfAMergedImage(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	one, two := ":0400000500000001F6\n", ":0400000500000002F5\n"
	f.write("a.hex", ":0100000061"+"9E\n"+one+":00000001FF\n")
	f.write("b.hex", ":0100010062"+"9C\n"+two+":00000001FF\n")
	assert.Equal(t, 3, f.line("merge a.hex b.hex").status)
	assert.Contains(t, f.ok("merge a.hex b.hex -start b.hex"), two)
	assert.Contains(t, f.ok("merge a.hex b.hex -start a.hex"), one)
	assert.Contains(t, f.ok("merge a.hex b.hex -start 2"), two)
	assert.NotContains(t, f.ok("merge a.hex b.hex -start none"), ":04000005")
}

func TestOutputs(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "links of the system below are none for its programs")
	f := emptyFolder(t)
	hex := ":0100000061" + "9E\n:00000001FF\n"
	f.write("a.hex", hex)

	// A link stays a link, and what it points to is replaced whole.
	f.write("real.hex", "old")
	require.NoError(t, os.Chmod(f.path("real.hex"), 0o640))
	require.NoError(t, os.Symlink("real.hex", f.path("link.hex")))
	f.ok("convert a.hex -o link.hex")
	assert.Equal(t, hex, f.read("real.hex"))
	info, err := os.Lstat(f.path("link.hex"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeSymlink)
	info, err = os.Stat(f.path("real.hex"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm(), "permissions stay")

	// The input under another name is still the input.
	require.NoError(t, os.Symlink("a.hex", f.path("other.hex")))
	require.NoError(t, os.Link(f.path("a.hex"), f.path("hard.hex")))
	assert.Equal(t, 2, f.line("convert a.hex -o other.hex").status)
	assert.Equal(t, 2, f.line("convert a.hex -o hard.hex").status)
	assert.Equal(t, hex, f.read("a.hex"))

	// Devices are written through; a full one is told.
	f.ok("convert a.hex -o /dev/null")
	r := f.line("convert a.hex -o /dev/full -to hex")
	assert.Equal(t, 4, r.status)
	assert.Equal(t, "mexalt convert: error: cannot write /dev/full: no space left on device\n", r.err)

	// The format comes from -to, the name, the first input, in this order.
	assert.Equal(t, "a", f.ok("convert a.hex -to raw"))
	f.ok("convert a.hex -o a.s19")
	assert.Equal(t, "S10400006"+"19A\nS5030001FB\nS9030000FC\n", f.read("a.s19"))
	f.ok("convert a.s19 -o odd.name")
	assert.Equal(t, f.read("a.s19"), f.read("odd.name"))
	f.ok("convert a.s19 -to raw -o a.bin")
	assert.Equal(t, hex, f.ok("convert a.bin"), "raw becomes Intel HEX")
	f.write("odd.bin@0x10", "x")
	assert.Equal(t, f.ok("convert odd.bin@0x10 -from raw"), f.ok("convert odd.bin@0x10@0"), "a file whose whole name exists is that file")
	assert.Equal(t, hex, f.run(hex, "convert", "--", "-").out)
}

func TestInspect(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	out := f.ok("inspect gauge-app.s19 -device brindle-b8-32")
	assert.Regexp(t, `(?m)^gauge-app.s19: S-record, intact, 24,310 bytes at 0x0000\.\.0x5EF5$`, out)
	assert.Contains(t, out, `text      "TG-1 gauge 2.4.1" at 0x0034`)
	assert.Contains(t, out, "region    application 0x0000..0x77FF: 24,310 of 30,720 bytes used, 79.1 %")

	// The contents have the same digest in any format.
	digest := func(line string) string {
		_, d, _ := strings.Cut(f.ok(line), "contents  SHA-256 ")
		return d
	}
	f.ok("convert gauge-app.s19 -o app.hex")
	f.ok("convert gauge-app.s19 -o app.bin")
	require.Len(t, digest("inspect gauge-app.s19"), 65)
	assert.Equal(t, digest("inspect gauge-app.s19"), digest("inspect app.hex"))
	assert.Equal(t, digest("inspect gauge-app.s19"), digest("inspect app.bin"))

	json := f.ok("inspect -json bootloader.hex")
	assert.True(t, strings.HasPrefix(json, "{\n  \"schema\": \"mexalt.inspect/1\","))
	assert.Contains(t, json, `"start": "0x7800"`)
}

func TestCheckJSON(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	r := f.line("check gauge-app-2.s19 -device brindle-b8-32 -region application -json")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, `"rule": "region-overrun"`)
	assert.Contains(t, r.out, `"origin": "gauge-app-2.s19:962"`)
	r = f.line("checksum -json gauge-app.s19")
	assert.Equal(t, 0, r.status)
	assert.Contains(t, r.out, `"schema": "mexalt.checksum/1"`)
}

func TestHelp(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	overview := f.ok("help")
	assert.Equal(t, overview, f.ok("-h"))
	for _, c := range []string{"device", "map", "inspect", "view", "compare", "merge", "split", "place", "cut", "patch", "fill",
		"convert", "checksum", "seal", "identify", "check", "demo", "help", "version"} {
		assert.Contains(t, overview, "\n  "+c+" ")
		assert.Equal(t, f.ok("help "+c), f.ok(c+" -h"))
	}
	assert.Regexp(t, `^mexalt \S.* \(go\d\S*, \w+/\w+\)\n$`, f.ok("version"))
}
