package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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
//
// A program of another system, which MEXALT_PROGRAM names, says the same, but for what
// testdata/differences has of that system: each with the reason.
func TestSessions(t *testing.T) {
	t.Parallel()
	names, err := filepath.Glob("testdata/sessions/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	others := differencesOf(t)
	t.Run("all", func(t *testing.T) {
		for _, name := range names {
			t.Run(filepath.Base(name), func(t *testing.T) {
				t.Parallel()
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				session := parseSession(string(text))
				got, wrong := playSession(t, session, others, filepath.Base(name))
				if wrong != nil && others != nil && !*golden.Update { // the layer may have broken a program off
					t.Logf("once more, because of %s", wrong.command.line)
					got, wrong = playSession(t, session, others, filepath.Base(name))
				}
				if wrong != nil {
					require.Equal(t, wrong.before, wrong.after, "nothing is left behind: %s", wrong.command.line)
					require.Equal(t, wrong.expected, wrong.command.out, "$ %s", wrong.command.line)
				}
				if !*golden.Update {
					return
				}
				if others != nil {
					others.found(filepath.Base(name), session, got)
					return
				}
				require.NoError(t, os.WriteFile(name, []byte(sessionText(got)), 0o644))
			})
		}
	})
	others.finish(t)
}

// wrong is what a command of a session did that it should not: files that are there
// afterwards, or another answer.
type wrong struct {
	command       command
	expected      string
	before, after []string
}

// playSession runs the commands of a session in a folder of their own, up to the first that is wrong.
func playSession(t *testing.T, session []command, others *differences, name string) (got []command, _ *wrong) {
	f := demoFolder(t)
	others.run(name)
	for _, c := range session {
		if c.line == "" {
			got = append(got, c)
			continue
		}
		before := f.names()
		out, status := f.shell(c.line)
		if status != 0 {
			out += fmt.Sprintf("(exit status %d)\n", status)
		}
		one := command{c.remarks, c.line, out}
		got = append(got, one)
		expected := out
		if !*golden.Update && out != c.out {
			expected = others.expected(name, c)
		}
		after := before
		if status >= 2 && !strings.Contains(c.line, "-format") { // a report is always written
			after = f.names()
		}
		if expected != out || !slices.Equal(before, after) {
			return got, &wrong{one, expected, before, after}
		}
	}
	return got, nil
}

// command is a command of a session: what is said before it, its line, what comes back.
// Without a line it is what is said at the end.
type command struct{ remarks, line, out string }

func parseSession(text string) (list []command) {
	var c command
	next := func() {
		if c != (command{}) {
			list = append(list, c)
		}
		c = command{}
	}
	for line := range strings.Lines(text) {
		switch {
		case strings.HasPrefix(line, "$ "):
			if c.line != "" {
				next()
			}
			c.line = strings.TrimSpace(line[2:])
		case strings.HasPrefix(line, "# "):
			if c.line != "" {
				next()
			}
			c.remarks += line
		default:
			c.out += line
		}
	}
	next()
	return list
}

func sessionText(list []command) string {
	var b strings.Builder
	for _, c := range list {
		b.WriteString(c.remarks)
		if c.line != "" {
			fmt.Fprintf(&b, "$ %s\n%s", c.line, c.out)
		}
	}
	return b.String()
}

// shell runs a line through the shell, as a user would.
func (f folder) shell(line string) (out string, status int) {
	f.t.Helper()
	cmd := exec.Command("sh", "-c", line)
	cmd.Dir = f.dir
	locale := "C"
	if programSystem() != "linux" {
		locale = "C.UTF-8" // by which arguments are handed on
	}
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "MEXALT_DEVICES=", "LC_ALL="+locale)
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	err := cmd.Run()
	if cmd.ProcessState == nil {
		f.t.Fatal(err)
	}
	text := f.quiet(b.String())
	assert.NotContains(f.t, text, "goroutine ", "the program panicked")
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text, cmd.ProcessState.ExitCode()
}
