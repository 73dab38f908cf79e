package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestGitShowsDifferences sets git up as the docs say, in both ways, and commits with the hook.
func TestGitShowsDifferences(t *testing.T) {
	t.Parallel()
	onLinux(t)
	need(t, "git")
	f := demoFolder(t)
	git := func(status int, args ...string) string {
		t.Helper()
		cmd := exec.Command("git", args...)
		cmd.Dir = f.dir
		cmd.Env = append(os.Environ(), "PATH="+onPath(t)+":"+os.Getenv("PATH"), "HOME="+f.dir, "GIT_CONFIG_NOSYSTEM=1", "MEXALT_DEVICES=")
		out, _ := cmd.CombinedOutput()
		require.Equal(t, status, cmd.ProcessState.ExitCode(), "git %s: %s", strings.Join(args, " "), out)
		return string(out)
	}
	ini := rulesOf(t, "git.md", "ini")
	require.Len(t, ini, 2)
	git(0, "init", "-q", ".")
	config := f.read(".git/config") + "[user]\n\tname = N\n\temail = n@example.com\n"
	f.write(".git/config", config)
	f.write(".gitattributes", rulesOf(t, "git.md", "text")[0])
	git(0, "add", "-A")
	git(0, "commit", "-qm", "first")
	f.ok("patch gauge-app.s19 -at 0x0034 -text 2.4.2 -o new.s19")
	require.NoError(t, os.Rename(f.path("new.s19"), f.path("gauge-app.s19")))

	f.write(".git/config", config+ini[0])
	diff := git(0, "diff")
	assert.Contains(t, diff, "-0x0030  5B E0 4C E0 54 47 2D 31  20 67 61 75 67 65 20 32  [·L·TG-1 gauge 2")
	assert.Contains(t, diff, "+0x0030  5B E0 4C E0 32 2E 34 2E  32 67 61 75 67 65 20 32  [·L·2.4.2gauge 2")

	f.write(".git/config", config+ini[1])
	diff = git(0, "diff")
	assert.Contains(t, diff, "5 bytes differ")
	assert.Contains(t, diff, "application")
	require.NoError(t, os.Rename(f.path("bootloader.hex"), f.path("loader.hex")))
	git(0, "add", "-A")
	diff = git(0, "diff", "--cached", "--no-renames")
	assert.Contains(t, diff, "deleted: bootloader.hex")
	assert.Contains(t, diff, "new: loader.hex")
	git(0, "reset", "-q", "--", "bootloader.hex", "loader.hex")

	// The hook checks what is in the index.
	f.write(".git/hooks/pre-commit", rulesOf(t, "git.md", "sh")[0])
	require.NoError(t, os.Chmod(f.path(".git/hooks/pre-commit"), 0o755))
	git(0, "commit", "-qm", "second")
	good := f.read("gauge-app.s19")
	f.ok("place gauge-app.s19 -shift 0x4000 -o moved.s19")
	f.write("gauge-app.s19", f.read("moved.s19"))
	require.NoError(t, os.Remove(f.path("moved.s19")))
	git(0, "add", "gauge-app.s19")
	f.write("gauge-app.s19", good)
	assert.Contains(t, git(1, "commit", "-qm", "third"), "outside")
	git(0, "add", "gauge-app.s19")
	git(0, "commit", "-q", "--allow-empty", "-m", "third")
}
