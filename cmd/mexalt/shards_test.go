package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
)

const shardedRelease = `name = "sharded"
unique = ["serial"]
[set]
serial = 0
[[input]]
name = "in"
file = "in.bin"
at = 0
[[step]]
do = "patch"
at = 16
values = [{ number = "{serial}", size = 4 }]
[[output]]
file = "{serial}.bin"
`

// shardedFolder is a folder with a release for units and a table of so many rows.
func shardedFolder(t *testing.T, rows int) folder {
	f := emptyFolder(t)
	f.write("in.bin", strings.Repeat("firmware", 64))
	f.write("g.release.toml", shardedRelease)
	table := "serial\n"
	for i := range rows {
		table += fmt.Sprintf("%d\n", 1000+i)
	}
	f.write("units.csv", table)
	return f
}

// units are the files of all units, by their names.
func (f folder) units() map[string]string {
	list := map[string]string{}
	for _, name := range f.names() {
		if filepath.Ext(name) == ".bin" && name != "in.bin" {
			list[name] = f.read(name)
		}
	}
	return list
}

// onLinux skips what would run the program of another system by tools of this one, or kill it: the
// layer that runs it suffers from that.
func onLinux(t *testing.T) {
	t.Helper()
	if programSystem() != "linux" {
		t.Skip("the program is of another system")
	}
}

// shards are the rows of a table in parts of the same size.
func shards(rows, parts int) (list []string) {
	for i := range parts {
		list = append(list, fmt.Sprintf("%d..%d", i*rows/parts+1, (i+1)*rows/parts))
	}
	return list
}

// TestShardsMakeTheSameUnits makes the units of a table in eight parts side by side, started by
// three tools for that: the files are those of one run, and all parts are confirmed as one batch.
// With stamps, a tool runs a part again where something is newer, and only once.
func TestShardsMakeTheSameUnits(t *testing.T) {
	t.Parallel()
	const parts = 8
	rows := 100
	if text := os.Getenv("MEXALT_ROWS"); text != "" {
		var err error
		rows, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	one := shardedFolder(t, rows)
	one.ok("release g.release.toml -units units.csv")
	want := one.units()
	require.Len(t, want, rows)
	const command = " release g.release.toml -units units.csv -rows %s -stamp %[1]s.stamp -depfile %[1]s.d -quiet && echo x >>runs"
	makefile, ninja := "all:", "rule units\n  command = "+program+strings.ReplaceAll(command, "%[1]s", "$rows")+
		"\n  depfile = $rows.d\n  deps = gcc\n"
	ninja = strings.Replace(ninja, "%s", "$rows", 1)
	for _, part := range shards(rows, parts) {
		makefile += " " + part + ".stamp"
		ninja += "build " + part + ".stamp: units g.release.toml\n  rows = " + part + "\n"
	}
	for _, part := range shards(rows, parts) {
		makefile += "\n" + part + ".stamp: g.release.toml; " + program + fmt.Sprintf(command, part) + "\n-include " + part + ".d\n"
	}
	for _, c := range []struct {
		tool  string
		args  []string
		again bool // it decides by times
	}{
		{"make", []string{"-j8", "-s", "all"}, true},
		{"ninja", []string{"--quiet"}, true},
		{"parallel", append([]string{"--will-cite", "-j8",
			program + strings.ReplaceAll(strings.Replace(command, "%s", "{}", 1), "%[1]s", "{}"), ":::"}, shards(rows, parts)...), false},
	} {
		t.Run(c.tool, func(t *testing.T) {
			need(t, c.tool)
			onLinux(t)
			f := shardedFolder(t, rows)
			f.write("Makefile", makefile)
			f.write("build.ninja", ninja)
			runs := func() int {
				cmd := exec.Command(c.tool, c.args...)
				cmd.Dir = f.dir
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, string(out))
				return strings.Count(f.read("runs"), "x")
			}
			assert.Equal(t, parts, runs())
			assert.Equal(t, want, f.units())
			manifests, err := filepath.Glob(f.path("*.units.manifest.json"))
			require.NoError(t, err)
			require.Len(t, manifests, parts)
			assert.Contains(t, f.ok("confirm "+strings.Join(manifests, " ")),
				"units.csv: each of its "+memory.FormatCount(uint64(rows))+" rows is in one of 8 manifests")
			if !c.again {
				return
			}
			assert.Equal(t, parts, runs(), "nothing has changed")
			later := time.Now().Add(-time.Second)
			require.NoError(t, os.Chtimes(f.path("units.csv"), later, later))
			before := runs()
			now := time.Now()
			require.NoError(t, os.Chtimes(f.path("units.csv"), now, now))
			assert.Equal(t, before+parts, runs(), "the table is newer")
			assert.Equal(t, before+parts, runs(), "and only once")
		})
	}

	// What does not fit together is said.
	f := shardedFolder(t, 100)
	for _, part := range []string{"1..40", "41..60", "51..80", "91..100"} {
		f.ok("release g.release.toml -units units.csv -rows " + part + " -o .")
		for name := range f.units() {
			require.NoError(t, os.Remove(f.path(name))) // made again by the next
		}
	}
	for parts, what := range map[string]string{
		"1-40 41-60":             "no manifest has rows 61 to 100",
		"41-60 1-40 91-100":      "no manifest has rows 61 to 90",
		"1-40 41-60 51-80":       "g-51-80.units.manifest.json also has rows 51 to 60, which another manifest has",
		"51-80 41-60 1-40 41-60": "1050.bin is in g-41-60.units.manifest.json and in g-51-80.units.manifest.json",
		"41-60":                  "",
	} {
		line := "confirm -outputs-only"
		for part := range strings.FieldsSeq(parts) {
			line += " g-" + part + ".units.manifest.json"
		}
		r := f.line(line)
		assert.Equal(t, 1, r.status, line)
		assert.Contains(t, r.out, what)
	}
	f.write("in.bin", strings.Repeat("Firmware", 64))
	f.ok("release g.release.toml -units units.csv -rows 41..100")
	assert.Contains(t, f.line("confirm -outputs-only g-1-40.units.manifest.json g-41-100.units.manifest.json").out,
		"g-1-40.units.manifest.json and g-41-100.units.manifest.json are of different batches: in.bin")
	for line, what := range map[string]string{
		"release g.release.toml -units units.csv -rows 90..101":        "-rows: 90..101, and units.csv has 100 rows",
		"release g.release.toml -units units.csv -rows 0..5":           `"0..5" is not rows of a table`,
		"release g.release.toml -rows 1..5":                            "-rows: has no effect without -units",
		"release g.release.toml -units units.csv -stamp 1000.bin":      "1000.bin is an output; a stamp is a file of its own",
		"release g.release.toml -set serial=5 -stamp g.manifest.json":  "g.manifest.json is an output",
		"release g.release.toml -units units.csv -stamp g.units.jsonl": "g.units.jsonl is an output",
		"release g.release.toml -set serial=5 -stamp ./5.bin":          "./5.bin is an output",
		"confirm g-1-40.units.manifest.json g.release.toml":            "2 files are named",
		"confirm g-1-40.units.manifest.json -unit 1041":                "no unit has the value 1041",
		"release g.release.toml -units units.csv -rows 1..5 -bom":      "-provenance and -bom have no effect with -units",
	} {
		r := f.line(line)
		assert.GreaterOrEqual(t, r.status, 2, line)
		assert.Contains(t, r.err, what, line)
	}
}

// TestShardsKilled kills runs of four parts of a table at any moment, again and again: the next
// runs finish each part, no unit is lost, made twice or torn, and nothing is left behind.
func TestShardsKilled(t *testing.T) {
	t.Parallel()
	onLinux(t)
	const rows, parts = 40, 4
	want := func() map[string]string {
		one := shardedFolder(t, rows)
		one.ok("release g.release.toml -units units.csv")
		return one.units()
	}()
	r := rand.New(rand.NewPCG(7, 8))
	var killed atomic.Int64
	f := shardedFolder(t, rows)
	runs := 60 / golden.Every(6)
	for range runs {
		all := shards(rows, parts)
		var wait sync.WaitGroup
		for _, part := range all {
			after := time.Duration(r.IntN(40_000)) * time.Microsecond
			cmd := exec.Command(program, "release", "g.release.toml", "-units", "units.csv", "-rows", part)
			cmd.Dir = f.dir
			require.NoError(t, cmd.Start())
			wait.Go(func() {
				time.Sleep(after)
				cmd.Process.Signal(syscall.SIGKILL)
				if cmd.Wait() != nil {
					killed.Add(1)
				}
			})
		}
		wait.Wait()
		var manifests []string
		for _, part := range all {
			f.ok("release g.release.toml -units units.csv -rows " + part)
			first, last, _ := strings.Cut(part, "..")
			manifests = append(manifests, "g-"+first+"-"+last+".units.manifest.json")
			made := map[string]int{}
			for line := range strings.Lines(f.read("g-" + first + "-" + last + ".units.jsonl")) {
				if _, file, ok := strings.Cut(line, `"file":"`); ok {
					name, _, _ := strings.Cut(file, `"`)
					made[name]++
				}
			}
			assert.Len(t, made, rows/parts)
			for name, n := range made {
				assert.Equal(t, 1, n, "%s was made twice", name)
			}
		}
		assert.Equal(t, want, f.units())
		f.ok("confirm " + strings.Join(manifests, " "))
		for _, name := range f.names() {
			assert.False(t, strings.HasPrefix(name, "."), "nothing unfinished is left: %s", name)
			if name != "in.bin" && name != "g.release.toml" && name != "units.csv" {
				require.NoError(t, os.Remove(f.path(name)))
			}
		}
	}
	t.Logf("%d of %d were killed", killed.Load(), runs*parts)
	assert.Greater(t, int(killed.Load()), runs)
}
