//go:build !windows

package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/demo"
)

// TestReleaseIsHermetic runs the same release in other folders, time zones and
// languages, with other masks and numbers of cores.
func TestReleaseIsHermetic(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "another user may not use the layer")
	var first map[string]string
	var told string
	// Another user must be able to get at the program.
	shared, err := os.MkdirTemp("", "mexalt-hermetic-")
	require.NoError(t, err)
	defer os.RemoveAll(shared)
	require.NoError(t, os.Chmod(shared, 0o755))
	copied := filepath.Join(shared, "mexalt")
	binary, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(copied, binary, 0o755))
	for _, env := range [][]string{{"TZ=UTC", "LANG=C", "GOMAXPROCS=1"},
		{"TZ=Pacific/Auckland", "LANG=de_DE.UTF-8", "LC_ALL=tr_TR.UTF-8", "GOMAXPROCS=7"}} {
		f := folder{t, filepath.Join(shared, fmt.Sprint("run", len(first)))}
		require.NoError(t, os.Mkdir(f.dir, 0o777))
		require.NoError(t, os.CopyFS(f.dir, demo.Files()))
		cmd := exec.Command(
			"sh",
			"-c",
			"umask "+map[bool]string{true: "022", false: "077"}[first == nil]+`; exec "$0" release tg1.release.toml -depfile tg1.d`,
			copied,
		)
		if first != nil && os.Geteuid() == 0 {
			const nobody = 65534
			require.NoError(t, os.Chown(f.dir, nobody, nobody))
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		}
		cmd.Dir, cmd.Env = f.dir, append(os.Environ(), env...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		made := map[string]string{}
		for _, name := range f.names() {
			made[name] = f.read(name)
		}
		if first == nil {
			first, told = made, string(out)
			continue
		}
		assert.Equal(t, told, string(out))
		require.Equal(t, len(first), len(made))
		for name, text := range first {
			assert.True(t, text == made[name], name)
		}
	}
}

// TestOneRunAtATime holds the journal as another run does.
func TestOneRunAtATime(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "a lock of the system below is none for its programs; TestTwoRunsAtOnce has two of them")
	f := demoFolder(t)
	held, err := os.OpenFile(f.path(".tg1.journal.lock"), os.O_RDWR|os.O_CREATE, 0o666)
	require.NoError(t, err)
	defer held.Close()
	require.NoError(t, syscall.Flock(int(held.Fd()), syscall.LOCK_EX))
	r := f.line("release tg1.release.toml")
	assert.Equal(t, 4, r.status)
	assert.Contains(t, r.err, "another run is writing these outputs; wait for it to end")
}

// TestPipesDoNotHang puts a pipe that nobody writes to in the place of every kind of file.
func TestPipesDoNotHang(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "pipes of the system below are none for its programs")
	f := demoFolder(t)
	f.ok("release tg1.release.toml")
	require.NoError(t, syscall.Mkfifo(f.path("pipe"), 0o644))
	require.NoError(t, os.Remove(f.path("gauge-app-2.s19")))
	for _, name := range []string{"gauge-app-2.s19", "tg1-line.units.jsonl", "key.pem"} {
		require.NoError(t, syscall.Mkfifo(f.path(name), 0o644))
	}
	recipe := f.read("tg1-line.release.toml")
	f.write("input.release.toml", strings.Replace(recipe, "tg1-harbour-{version}.hex", "pipe", 1))
	f.write(
		"template.release.toml",
		strings.Replace(recipe, `file = "unit-{serial}.hex"`, "file = \"unit-{serial}.txt\"\nto = \"text\"\ntemplate = \"pipe\"", 1),
	)
	f.write("value.release.toml", strings.Replace(recipe, `{ text = "SN", size = 4 }`, `{ file = "pipe" }`, 1))
	for _, line := range []string{
		"release tg1-line.release.toml -units units.csv", "release tg1-line.release.toml -units units.csv -dry-run",
		"release input.release.toml -units units.csv",
		"release template.release.toml -units units.csv", "release value.release.toml -units units.csv",
		"release tg1.release.toml -sign key.pem", "confirm tg1.manifest.json -trusted key.pem",
		"release tg1.release.toml -set application=gauge-app-2.s19",
	} {
		cmd := exec.Command(program, strings.Fields(line)...)
		var told bytes.Buffer
		cmd.Dir, cmd.Stdout, cmd.Stderr = f.dir, &told, &told
		require.NoError(t, cmd.Start())
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
			assert.NotZero(t, cmd.ProcessState.ExitCode(), line)
			assert.NotContains(t, told.String(), "goroutine", line)
		case <-time.After(20 * time.Second):
			cmd.Process.Kill()
			t.Errorf("%s hangs", line)
		}
	}

	// A command that may read a pipe waits, and ends with the first signal.
	for _, line := range []string{"inspect pipe", "check pipe -device brindle-b8-32",
		"release tg1.release.toml -set application=pipe -watch"} {
		cmd := exec.Command(program, strings.Fields(line)...)
		cmd.Dir = f.dir
		require.NoError(t, cmd.Start())
		time.Sleep(200 * time.Millisecond)
		cmd.Process.Signal(syscall.SIGTERM)
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			cmd.Process.Kill()
			t.Errorf("%s does not end", line)
		}
	}
}

// TestUnitsAreInterrupted ends runs of many units by signals: no panic, no unfinished
// file, and the next run makes the rest.
func TestUnitsAreInterrupted(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "signals of the system below are none for its programs")
	f := demoFolder(t)
	f.ok("release tg1.release.toml")
	table := strings.Builder{}
	table.WriteString("serial\n")
	const units = 400
	for i := range units {
		fmt.Fprintln(&table, 20_000+i)
	}
	f.write("units.csv", table.String())
	interrupted := 0
	for wait := 100 * time.Millisecond; wait < 20*time.Second; wait = wait * 3 / 2 {
		cmd := exec.Command(program, "release", "tg1-line.release.toml", "-units", "units.csv")
		var told bytes.Buffer
		cmd.Dir, cmd.Stderr = f.dir, &told
		require.NoError(t, cmd.Start())
		time.Sleep(wait)
		cmd.Process.Signal(syscall.SIGTERM)
		err := cmd.Wait()
		assert.NotContains(t, told.String(), "goroutine")
		for _, name := range f.names() {
			assert.False(t, strings.HasPrefix(name, "."), name)
		}
		if err == nil {
			break
		}
		assert.Equal(t, syscall.SIGTERM, cmd.ProcessState.Sys().(syscall.WaitStatus).Signal())
		interrupted++
	}
	assert.Positive(t, interrupted)
	r := f.line("release tg1-line.release.toml -units units.csv")
	assert.Zero(t, r.status, r.err)
	assert.Contains(t, r.err+r.out, fmt.Sprintf("%d were made before", units))
}

// TestSignalsInTheMiddleLeaveNothing interrupts runs while they write long files: each
// ends by the signal, without a word of a panic, and leaves nothing.
func TestSignalsInTheMiddleLeaveNothing(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "signals of the system below are none for its programs")
	f := emptyFolder(t)
	f.write("big.bin", strings.Repeat("0123456789abcdef", 1<<18))
	before := f.names()
	for _, to := range []string{"s37", "hex", "memh", "c", "uf2", "dfu"} {
		ended := false
		for wait := 2 * time.Millisecond; wait < 3*time.Second && !ended; wait *= 2 {
			cmd := exec.Command(program, "convert", "big.bin", "-to", to, "-o", "x.out")
			var told bytes.Buffer
			cmd.Dir, cmd.Stderr = f.dir, &told
			require.NoError(t, cmd.Start())
			time.Sleep(wait)
			cmd.Process.Signal(syscall.SIGTERM)
			err := cmd.Wait()
			assert.NotContains(t, told.String(), "goroutine", to)
			if ended = err == nil; ended {
				require.NoError(t, os.Remove(f.path("x.out")))
			} else {
				assert.Equal(t, syscall.SIGTERM, cmd.ProcessState.Sys().(syscall.WaitStatus).Signal(), "whoever started it sees the signal")
			}
			assert.Equal(t, before, f.names(), to)
		}
	}
}
