//go:build linux

package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// onTerminal runs the program with a terminal of so many columns as its
// standard streams, and returns its status and what the terminal shows.
func (f folder) onTerminal(columns uint16, environment []string, args ...string) (int, string) {
	f.t.Helper()
	ours, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		f.t.Skip("no terminals here: ", err)
	}
	defer ours.Close()
	control := int(ours.Fd())
	require.NoError(f.t, unix.IoctlSetPointerInt(control, unix.TIOCSPTLCK, 0))
	number, err := unix.IoctlGetInt(control, unix.TIOCGPTN)
	require.NoError(f.t, err)
	require.NoError(f.t, unix.IoctlSetWinsize(control, unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: columns}))
	theirs, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(f.t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = f.dir, append(os.Environ(), environment...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = theirs, theirs, theirs
	require.NoError(f.t, cmd.Start())
	theirs.Close()
	shown := make(chan []byte)
	go func() {
		text, _ := io.ReadAll(ours) // ends with an error once the program has
		shown <- text
	}()
	cmd.Wait()
	return cmd.ProcessState.ExitCode(), strings.ReplaceAll(string(<-shown), "\r\n", "\n")
}

var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

// TestTerminal shows in colour what a pipe gets plainly, in the same words.
func TestTerminal(t *testing.T) {
	f := demoFolder(t)
	plain := f.run("", "inspect", "bootloader.hex")
	require.Zero(t, plain.status)
	assert.NotContains(t, plain.out, "\x1b")
	status, shown := f.onTerminal(120, []string{"TERM=xterm", "NO_COLOR="}, "inspect", "bootloader.hex")
	assert.Zero(t, status)
	assert.Regexp(t, colours, shown)
	assert.Equal(t, plain.out, colours.ReplaceAllString(shown, ""))
	for _, environment := range [][]string{{"TERM=dumb", "NO_COLOR="}, {"TERM=xterm", "NO_COLOR=1"}} {
		_, shown = f.onTerminal(120, environment, "inspect", "bootloader.hex")
		assert.Equal(t, plain.out, shown, "%v", environment)
	}
}

// TestTerminalMarksThePlace shows the damaged line, within the width there is.
func TestTerminalMarksThePlace(t *testing.T) {
	f := demoFolder(t)
	for _, columns := range []uint16{60, 120} {
		status, shown := f.onTerminal(columns, []string{"TERM=xterm"}, "convert", "bootloader-damaged.hex", "-o", "x.bin")
		assert.Equal(t, 3, status)
		shown = colours.ReplaceAllString(shown, "")
		assert.Contains(t, shown, "bootloader-damaged.hex:")
		assert.Contains(t, shown, "^", "the place is marked")
		for line := range strings.Lines(shown) {
			assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), int(columns), line)
		}
	}
	assert.NotContains(t, f.names(), "x.bin")
}

// TestTerminalIsSparedRawBytes refuses bytes that would garble it, and does not
// wait for input that nobody will type.
func TestTerminalIsSparedRawBytes(t *testing.T) {
	f := demoFolder(t)
	status, shown := f.onTerminal(100, []string{"TERM=dumb"}, "convert", "bootloader.hex", "-to", "raw")
	assert.Equal(t, 2, status)
	assert.Contains(t, shown, "raw binary is not written to a terminal; name a file with -o, or pipe it on")
	status, shown = f.onTerminal(100, []string{"TERM=dumb"}, "convert", "bootloader.hex", "-to", "srec")
	assert.Zero(t, status)
	assert.Contains(t, shown, "\nS1", "records are text")
	status, shown = f.onTerminal(100, []string{"TERM=dumb"}, "inspect")
	assert.Equal(t, 2, status)
	assert.NotEmpty(t, shown)
}
