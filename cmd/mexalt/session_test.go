package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// TestSessions runs the sessions in testdata/sessions, each in a fresh folder
// with the demo's files: lines that begin with "$ " go through the shell, and
// below each stands what comes back, both streams, and its status. Lines that
// begin with # say why. What ends with status 2 or more leaves nothing behind.
func TestSessions(t *testing.T) {
	t.Parallel()
	sessions, err := filepath.Glob("testdata/sessions/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, sessions)
	for _, name := range sessions {
		t.Run(filepath.Base(name), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			f := demoFolder(t)
			var got strings.Builder
			for line := range strings.SplitSeq(strings.TrimSuffix(string(text), "\n"), "\n") {
				if strings.HasPrefix(line, "# ") {
					got.WriteString(line + "\n")
				}
				command, ok := strings.CutPrefix(line, "$ ")
				if !ok {
					continue
				}
				before := f.names()
				out, status := f.shell(command)
				fmt.Fprintf(&got, "$ %s\n%s", command, out)
				if status != 0 {
					fmt.Fprintf(&got, "(exit status %d)\n", status)
				}
				if status >= 2 && !strings.Contains(command, "-format") { // a report is always written
					assert.Equal(t, before, f.names(), "nothing is left behind: %s", command)
				}
			}
			if *golden.Update {
				require.NoError(t, os.WriteFile(name, []byte(got.String()), 0o644))
				return
			}
			want, found := strings.Split(string(text), "\n"), strings.Split(got.String(), "\n")
			for i := range min(len(want), len(found)) {
				require.Equal(t, want[i], found[i], "line %d", i+1)
			}
			assert.Len(t, found, len(want))
		})
	}
}

// shell runs a line through the shell, as a user would.
func (f folder) shell(line string) (out string, status int) {
	f.t.Helper()
	cmd := exec.Command("sh", "-c", line)
	cmd.Dir = f.dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "MEXALT_DEVICES=", "LC_ALL=C")
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	err := cmd.Run()
	if cmd.ProcessState == nil {
		f.t.Fatal(err)
	}
	text := b.String()
	assert.NotContains(f.t, text, "goroutine ", "the program panicked")
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text, cmd.ProcessState.ExitCode()
}
