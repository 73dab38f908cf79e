package main

import (
	"bufio"
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

const killedRelease = `name = "killed"
[set]
n = 0
[[input]]
name = "boot"
file = "bootloader.hex"
[[step]]
do = "patch"
at = "image.first"
values = [{ number = "{n}", size = 4 }]
[[output]]
file = "a.bin"
[[output]]
file = "b.bin"
[[output]]
file = "c.bin"
[[output]]
file = "d.bin"
`

// TestReleaseKilled kills a release 300 times, at any moment. All its outputs are
// then old, or all new; where it was killed between two renames, which no file
// system does at once, a journal is there, and the next run finishes.
func TestReleaseKilled(t *testing.T) {
	t.Parallel()
	runs := 300 / golden.Every(10)
	if programSystem() != "linux" {
		runs = 30 // the layer that runs programs of another system suffers from those that are killed
	}
	f := emptyFolder(t)
	f.write("bootloader.hex", demoFolder(t).read("bootloader.hex"))
	f.write("k.release.toml", killedRelease)
	f.ok("release k.release.toml")
	state := func() string {
		var all []string
		for _, name := range []string{"a.bin", "b.bin", "c.bin", "d.bin"} {
			text := f.read(name)
			require.Len(t, text, 1408, "%s is torn", name)
			all = append(all, fmt.Sprintf("%x", text[:4]))
		}
		if all[0] == all[1] && all[1] == all[2] && all[2] == all[3] {
			return all[0]
		}
		return strings.Join(all, " ")
	}
	old := state()
	r := rand.New(rand.NewPCG(5, 6))
	killed, mixed := 0, 0
	for n := 1; n <= runs; n++ {
		cmd := exec.Command(program, "release", "k.release.toml", "-set", fmt.Sprintf("n=%d", n))
		cmd.Dir = f.dir
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(r.IntN(12_000)) * time.Microsecond)
		cmd.Process.Signal(syscall.SIGKILL)
		if cmd.Wait() != nil {
			killed++
		}
		want := fmt.Sprintf("%02x%02x0000", n&0xFF, n>>8)
		switch now := state(); now {
		case old, want:
		default:
			mixed++
			require.NotEmpty(t, f.read(".k.journal"), "%s: some new, some old, and no journal", now)
		}
		f.ok(fmt.Sprintf("release k.release.toml -set n=%d", n))
		require.Equal(t, want, state())
		require.Equal(t, []string{"a.bin", "b.bin", "bootloader.hex", "c.bin", "d.bin", "k.manifest.json", "k.release.toml"}, f.names(),
			"nothing is left behind")
		old = want
	}
	t.Logf("%d of %d were killed, %d of these between two renames", killed, runs, mixed)
	assert.Greater(t, killed, runs/10)
}

// TestTwoRunsAtOnce starts a run while another makes many units: it is refused, and harms
// nothing.
func TestTwoRunsAtOnce(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	table := "serial\n"
	rows := 400 // so that the second run begins before the first ends
	if programSystem() != "linux" {
		rows = 3000
	}
	for i := range rows {
		table += fmt.Sprintf("%d\n", 20_000+i)
	}
	f.write("many.csv", table)
	first := exec.Command(program, "release", "tg1-line.release.toml", "-units", "many.csv")
	first.Dir = f.dir
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool {
		_, err := os.Stat(f.path(".tg1-line.journal"))
		return err == nil
	}, 20*time.Second, 2*time.Millisecond)
	r := f.line("release tg1-line.release.toml -units units.csv")
	require.NoError(t, first.Wait())
	assert.Equal(t, 4, r.status, r.err)
	assert.Contains(t, r.err, "another run is writing these outputs; wait for it to end")
	names := f.names()
	assert.NotContains(t, names, "unit-10427.hex")
	assert.Contains(t, names, fmt.Sprintf("unit-%d.hex", 20_000+rows-1))
	for _, name := range names {
		assert.False(t, strings.HasPrefix(name, "."), "nothing unfinished is left: %s", name)
	}
	f.ok("release tg1-line.release.toml -units units.csv")
}

// TestMakeAndNinja lets real build tools decide by the depfile: each input that is
// touched runs the release, nothing touched does not.
func TestMakeAndNinja(t *testing.T) {
	t.Parallel()
	const odd = "gauge app #1 $x.s19"
	for tool, build := range map[string]struct{ file, text string }{
		"make": {"Makefile", "out.hex: ; " + program + " release x.release.toml -depfile out.d >>log\n-include out.d\n"},
		"ninja": {"build.ninja", "rule release\n  command = " + program +
			" release x.release.toml -depfile out.d >>log\n  depfile = out.d\n  deps = gcc\n  restat = 1\n" +
			"build out.hex: release x.release.toml\n"},
	} {
		t.Run(tool, func(t *testing.T) {
			need(t, tool)
			f := demoFolder(t)
			require.NoError(t, os.Rename(f.path("gauge-app.s19"), f.path(odd)))
			require.NoError(t, os.WriteFile(f.path("x.release.toml"), []byte(`name = "x"
device = "part"
[[input]]
name = "app"
file = "`+odd+`"
[[output]]
file = "out.hex"
`), 0o644))
			f.write("part.device.toml", "name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"32K\"\n")
			f.write(build.file, build.text)
			runs := func() int {
				cmd := exec.Command(tool)
				cmd.Dir = f.dir
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, string(out))
				log, _ := os.ReadFile(f.path("log"))
				return bytes.Count(log, []byte("x for P"))
			}
			assert.Equal(t, 1, runs(), "nothing is made yet")
			assert.Equal(t, 1, runs(), "nothing has changed")
			want := 1
			for _, name := range []string{odd, "part.device.toml", "x.release.toml"} {
				// A release leaves an output alone that stays the same: it must change for
				// make to have done.
				future := time.Now().Add(2 * time.Second)
				require.NoError(t, os.Chtimes(f.path(name), future, future))
				want++
				assert.Equal(t, want, runs(), "%s is newer", name)
				past := time.Now().Add(-time.Hour)
				require.NoError(t, os.Chtimes(f.path(name), past, past))
				if tool == "ninja" {
					want = runs() // it may look once more at a file that is older
				}
				assert.Equal(t, want, runs())
			}
			require.NoError(t, os.Remove(f.path("out.hex")))
			assert.Equal(t, want+1, runs(), "the output is gone")
		})
	}
}

// TestUnitsStartOnTheirLoader makes units of a real program: each has a serial
// number of its own, and its loader takes it, since the CRC was computed anew.
func TestUnitsStartOnTheirLoader(t *testing.T) {
	t.Parallel()
	for _, m := range machines(t) {
		if m.name == "avr" {
			continue // the emulator takes long to start
		}
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			need(t, m.compiler[0])
			need(t, m.raw[0])
			f := emptyFolder(t)
			m.compile(t, f, "loader.c", "loader.elf", m.loader...)
			m.compile(t, f, "application.c", "application.elf", m.app...)
			f.write("part.device.toml", m.deviceMap)
			f.write("units.csv", "serial\n101\n102\n")
			f.write("u.release.toml", `name = "units"
device = "part"
unique = ["serial"]
[set]
serial = 0

[[input]]
name = "loader"
file = "loader.elf"
region = "loader"
[[input]]
name = "application"
file = "application.elf"
region = "application"
version-at = "symbol.version.first"
version = "2.4.1"
[[step]]
do = "merge"
start = "none"
[[step]]
do = "fill"
in = ["loader", "application"]
with = "FF"
[[step]]
do = "seal"
[[step]]
do = "patch"
at = "application.last - 63"
values = [{ text = "{serial}", size = 8 }]
[[step]]
do = "seal"
[[output]]
file = "unit-{serial}.bin"
`)
			f.ok("release u.release.toml -units units.csv")
			assert.NotEqual(t, f.read("unit-101.bin"), f.read("unit-102.bin"))
			for _, unit := range []string{"unit-101.bin", "unit-102.bin"} {
				assert.Contains(t, starts(t, f, m.raw, unit, "data whole", "refused"), "application gauge 2.4.1, data whole")
			}
			// Without the second seal the loader refuses, and so does the check.
			text := regexp.MustCompile(`(?s)\[\[step\]\]\ndo = "seal"\n\[\[output`).ReplaceAllString(f.read("u.release.toml"), "[[output")
			f.write("v.release.toml", strings.Replace(text, "unit-{serial}", "v-{serial}", 1))
			r := f.line("release v.release.toml -units units.csv")
			assert.Equal(t, 1, r.status)
			assert.Contains(t, r.err, "checksum-wrong")
		})
	}
}

// TestWatchOfUnits makes what is added to the table.
func TestWatchOfUnits(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("release tg1.release.toml -variant harbour")
	cmd := exec.Command(program, "release", "tg1-line.release.toml", "-units", "units.csv", "-watch")
	cmd.Dir = f.dir
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	assert.Equal(t, "done: units made 3, before 0", lines.Text())
	f.write("units.csv", f.read("units.csv")+"10500\n")
	require.True(t, lines.Scan())
	assert.Equal(t, "done: units.csv changed; units made 1, before 3", lines.Text())
	assert.FileExists(t, f.path("unit-10500.hex"))
	cmd.Process.Signal(os.Interrupt)
	assert.NoError(t, cmd.Wait())
}

// TestWatchEndsCleanly interrupts a watch.
func TestWatchEndsCleanly(t *testing.T) {
	notOn(t, "windows", "signals of the system below are none for its programs")
	f := demoFolder(t)
	cmd := exec.Command(program, "release", "tg4.release.toml", "-watch")
	cmd.Dir = f.dir
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	for range 500 {
		if _, err := os.Stat(f.path("tg4-3.1.0.hex")); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	time.Sleep(100 * time.Millisecond)
	cmd.Process.Signal(os.Interrupt)
	require.NoError(t, cmd.Wait(), out.String())
	assert.Contains(
		t,
		out.String(),
		"done: loader 6,370, 26,398 free; station 866, 490,654 free; tide_tables 16,136, 4,178,168 free; station_crc 8123A5B1; "+
			"tg4-3.1.0.hex, tg4-3.1.0-update.uf2\n",
	)
	left, err := filepath.Glob(f.path(".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
