package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rulesOf are the blocks of a kind in a page of the docs.
func rulesOf(t *testing.T, page, kind string) (list []string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(root, "docs", page))
	require.NoError(t, err)
	for _, part := range strings.Split(string(text), "```"+kind+"\n")[1:] {
		block, _, _ := strings.Cut(part, "```")
		list = append(list, block)
	}
	return list
}

// TestRulesOfTheDocs runs the rules for build tools just as the docs give them: the outputs are
// there, and nothing is run again until something is newer, and then once.
func TestRulesOfTheDocs(t *testing.T) {
	t.Parallel()
	onLinux(t)
	makes, ninjas := rulesOf(t, "engines.md", "make"), rulesOf(t, "engines.md", "ninja")
	require.Len(t, makes, 2)
	require.Len(t, ninjas, 1)
	for _, c := range []struct{ tool, file, rules, input, stamp string }{
		{"make", "Makefile", makes[0], "gauge-app.s19", "tg1.stamp"},
		{"make", "Makefile", makes[1], "units.csv", "1..2.stamp"},
		{"ninja", "build.ninja", ninjas[0], "gauge-app.s19", "tg1.stamp"},
	} {
		t.Run(c.tool+" "+c.stamp, func(t *testing.T) {
			t.Parallel()
			need(t, c.tool)
			f := releasedFolder(t)
			f.write(c.file, c.rules)
			past := time.Now().Add(-time.Hour)
			for _, name := range f.names() {
				require.NoError(t, os.Chtimes(f.path(name), past, past))
			}
			run := func() time.Time {
				cmd := exec.Command(c.tool)
				cmd.Dir, cmd.Env = f.dir, append(os.Environ(), "PATH="+onPath(t)+":"+os.Getenv("PATH"))
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, string(out))
				info, err := os.Stat(f.path(c.stamp))
				require.NoError(t, err)
				return info.ModTime()
			}
			first := run()
			assert.Equal(t, first, run(), "nothing has changed")
			require.NoError(t, os.Chtimes(f.path(c.input), time.Now(), time.Now()))
			second := run()
			assert.True(t, second.After(first), "%s is newer, though with the same bytes", c.input)
			assert.Equal(t, second, run(), "and only once")
		})
	}
}

// onPath is a folder that has the program under its name.
func onPath(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(dir, "mexalt")))
	return dir
}

// TestAnEngineWithASandbox builds the demo's release and two of its units with an engine that
// runs actions in a sandbox without a network, by the rules in the docs: twice the same bytes,
// and after a change only what depends on it.
func TestAnEngineWithASandbox(t *testing.T) {
	onLinux(t)
	need(t, "bazel")
	f := demoFolder(t)
	data, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.path("mexalt"), data, 0o755))
	f.write("WORKSPACE", "")
	f.write("BUILD", rulesOf(t, "engines.md", "python")[0])
	root := t.TempDir()
	bazel := func(args ...string) string {
		cmd := exec.Command("bazel", append([]string{"--output_user_root=" + root, "--max_idle_secs=10",
			"--host_jvm_args=-XX:TieredStopAtLevel=1"}, args...)...)
		cmd.Dir = f.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	t.Cleanup(func() {
		bazel("shutdown")
		exec.Command("chmod", "-R", "u+w", root).Run() // what it keeps, nobody may write
	})
	build := func() (outputs map[string]string, actions int) {
		out := bazel("build", "--spawn_strategy=linux-sandbox", "--sandbox_default_allow_network=false", "--subcommands", ":all")
		outputs = map[string]string{}
		for _, name := range []string{"tg1-harbour-2.4.1.hex", "tg1-harbour.manifest.json", "line/unit-10427.hex", "line/unit-10428.hex",
			"line/tg1-line-1-2.units.manifest.json"} {
			outputs[name] = f.read("bazel-bin/" + name)
		}
		return outputs, strings.Count(out, "SUBCOMMAND: ")
	}
	first, actions := build()
	assert.Equal(t, 2, actions)
	bazel("clean")
	second, actions := build()
	assert.Equal(t, 2, actions)
	assert.Equal(t, first, second)
	_, actions = build()
	assert.Zero(t, actions, "nothing has changed")
	f.write("units.csv", strings.Replace(f.read("units.csv"), "10431", "10432", 1))
	_, actions = build()
	assert.Equal(t, 1, actions, "the units alone")
	f.write("calibration.bin", f.read("calibration-north.bin"))
	third, actions := build()
	assert.Equal(t, 2, actions)
	assert.NotEqual(t, first["line/unit-10427.hex"], third["line/unit-10427.hex"])

	plain := releasedFolder(t)
	plain.ok("release tg1-line.release.toml -units units.csv -rows 1..2")
	assert.Equal(t, plain.read("unit-10427.hex"), first["line/unit-10427.hex"], "the same as without an engine")
	assert.Contains(t, f.ok("confirm -outputs-only bazel-bin/line/tg1-line-1-2.units.manifest.json"), "confirmed, 2 outputs")
}
