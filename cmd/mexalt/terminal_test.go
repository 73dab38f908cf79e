//go:build linux

package main

import (
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"mexalt/internal/golden"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onTerminal runs the program with a terminal of so many columns as its
// standard streams, and returns its status and what the terminal shows.
func (f folder) onTerminal(columns uint16, environment []string, args ...string) (int, string) {
	f.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = f.dir, append(os.Environ(), environment...)
	ours, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: columns})
	if err != nil {
		f.t.Skip("no terminals here: ", err)
	}
	defer ours.Close()
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
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
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
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
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
	t.Parallel()
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

// TestTerminalsOfAnyWidth looks at what each command shows: no line is wider than
// the terminal, but digests, rows of bytes and commands to be copied.
func TestTerminalsOfAnyWidth(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
	f := demoFolder(t)
	f.ok("merge bootloader.hex gauge-app.s19 calibration.bin@calibration.first -device brindle-b8-32 -o merged.hex")
	f.ok("fill merged.hex -device brindle-b8-32 -in application -with FF -o filled.hex")
	f.ok("seal filled.hex -device brindle-b8-32 -o whole.hex")
	unbroken := regexp.MustCompile(`^\s*(0x[0-9A-F_]+ +([0-9A-F-]{2}|  )|[0-9a-f]{64}$|mexalt |\$ mexalt |https?:)`)
	lines := []string{
		"inspect whole.hex gauge-app.s19 calibration.bin -device brindle-b8-32",
		"inspect station.elf bootloader-damaged.hex",
		"view whole.hex -device brindle-b8-32 -in 0x77E0..0x781F -origin",
		"view bootloader-damaged.hex",
		"map whole.hex -device brindle-b8-32",
		"map bootloader.hex gauge-app-2.s19 -device brindle-b8-32",
		"compare gauge-app.s19 gauge-app-2.s19 -device brindle-b8-32",
		"merge bootloader.hex gauge-app-2.s19 -o none.hex",
		"split whole.hex -by regions -device brindle-b8-32 -dry-run -o {name}-of-a-long-name-for-a-terminal.hex",
		"seal merged.hex -device brindle-b8-32 -dry-run -o sealed.hex",
		"checksum whole.hex",
		"checksum -list",
		"identify whole.hex -device brindle-b8-32 -at 0x77FC",
		"check whole.hex -device brindle-b8-32",
		"check gauge-app-2.s19 -device brindle-b8-32 -region application",
		"check whole.hex -device brindle-b8-32 -device brindle-m32-512",
		"device -list",
		"device brindle-m32-512",
		"device brindle-b8-32",
		"device brindle-b8-32 -explain clock_word=0x82",
		"release tg1.release.toml -dry-run",
		"release tg1.release.toml",
		"confirm tg1.manifest.json",
		"explain tg1-harbour-2.4.1.hex -at 0x77F8..0x7803",
		"rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32",
		"rehearse tg1-harbour-2.4.1.hex -from tg1-north-2.4.1.hex -device brindle-b8-32 -sweep",
		"compare station-3.0.0.elf station.elf -device brindle-m32-512 -cost",
		"compare tg1.manifest.json tg1.manifest.json",
		"check whole.hex -device brindle-b8-32 -against tg1.manifest.json",
		"version -v",
		"help", "help check", "help formats", "help rules", "help maps", "help releases", "help rehearsal", "help rehearse", "help pages",
		"inspekt whole.hex", "convert whole.hex -to nothing", "view -find", "device no-such-map",
	}
	for k, columns := range []uint16{60, 100} {
		for i := k; i < len(lines); i += golden.Every(2) {
			line := lines[i]
			_, shown := f.onTerminal(columns, []string{"TERM=dumb", "LC_ALL=C.UTF-8"}, strings.Fields(line)...)
			assert.NotEmpty(t, shown, line)
			for row := range strings.Lines(shown) {
				row = strings.TrimRight(row, "\n")
				code := strings.HasPrefix(line, "help ") && strings.HasPrefix(row, "    ")
				if len([]rune(row)) > int(columns) && !code && !unbroken.MatchString(row) {
					t.Errorf("mexalt %s: %d columns on a terminal of %d: %s", line, len([]rune(row)), columns, row)
				}
			}
		}
	}
}

// TestCommandsToCopy runs the commands that a narrow terminal shows as advice: each is a
// line of its own, and the line runs.
func TestCommandsToCopy(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
	f := demoFolder(t)
	f.ok("merge bootloader.hex gauge-app.s19 -o merged.hex")
	require.NoError(t, os.Rename(f.path("merged.hex"), f.path("merged (1).hex")))
	for line, command := range map[string]string{
		"check|merged (1).hex|-device|brindle-b8-32": `mexalt seal "merged (1).hex" -only application_crc -device brindle-b8-32 -o "merged (1)-seal.hex"`,
		"view|bootloader-damaged.hex":                "mexalt convert bootloader-damaged.hex -lenient -o bootloader-damaged-saved.hex",
	} {
		_, shown := f.onTerminal(72, []string{"TERM=dumb"}, strings.Split(line, "|")...)
		require.Contains(t, shown, "\n    "+command+"\n")
		assert.NotContains(t, shown, "help\n", "a command that shows help is not broken either")
		run := exec.Command("sh", "-c", strings.Replace(command, "mexalt", program, 1))
		run.Dir = f.dir
		wrote, _ := run.CombinedOutput()
		assert.Contains(t, string(wrote), "wrote", command)
	}
}

// TestNarrowTerminals shows rows on terminals that hardly have a column: each run ends,
// and takes no room out of proportion.
func TestNarrowTerminals(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
	f := demoFolder(t)
	for columns := range uint16(14) {
		for _, line := range []string{"view gauge-app.s19 -in 0..0x1F -origin",
			"check gauge-app.s19 -device brindle-b8-32 -region application", "inspect calibration.bin"} {
			status, shown := f.onTerminal(columns, []string{"TERM=dumb", "LC_ALL=C.UTF-8"}, strings.Fields(line)...)
			assert.Zero(t, status, "%d columns: %s", columns, line)
			assert.Less(t, len(shown), 100_000, "%d columns: %s", columns, line)
		}
	}
}

// TestTerminalsOfASCII show the signs of tables and maps as ASCII where the locale
// has no others; what a file or a pipe gets is UTF-8 whatever the locale.
func TestTerminalsOfASCII(t *testing.T) {
	notOn(t, "windows", "its console is another than the terminal below")
	f := demoFolder(t)
	for _, line := range []string{"check gauge-app-2.s19 -device brindle-b8-32 -region application",
		"map gauge-app.s19 -device brindle-b8-32", "compare gauge-app.s19 gauge-app-2.s19"} {
		args := strings.Fields(line)
		_, utf8 := f.onTerminal(100, []string{"TERM=dumb", "LC_ALL=", "LC_CTYPE=", "LANG=en.UTF-8"}, args...)
		assert.Regexp(t, `[^\x00-\x7F]`, utf8, line)
		for _, locale := range []string{"LANG=C", "LC_CTYPE=POSIX", "LC_ALL=en.ISO-8859-1"} {
			_, ascii := f.onTerminal(100, []string{"TERM=dumb", "LC_ALL=", "LC_CTYPE=", "LANG=en.UTF-8", locale}, args...)
			assert.NotRegexp(t, `[^\x00-\x7F]`, ascii, "%s, %s", line, locale)
			assert.Equal(t, strings.Count(utf8, "\n"), strings.Count(ascii, "\n"), line)
		}
	}
	t.Setenv("LC_ALL", "C")
	assert.Contains(t, f.run("", "check", "gauge-app.s19", "-device", "brindle-b8-32", "-region", "application").out, "────")
}

// TestTerminalColours are the same for the same words, and follow -color before
// the environment.
func TestTerminalColours(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
	f := demoFolder(t)
	const red, yellow, green = "\x1b[31;1m", "\x1b[33;1m", "\x1b[32;1m"
	colour := []string{"TERM=xterm", "NO_COLOR="}
	for line, want := range map[string]string{
		"merge bootloader.hex gauge-app-2.s19 -o none.hex":                red + "error",
		"convert bootloader-damaged.hex -o none.hex":                      red + "error",
		"inspect bootloader-damaged.hex":                                  red + "error",
		"check gauge-app-2.s19 -device brindle-b8-32 -region application": red + "error",
		"check gauge-app.s19 -device brindle-b8-32 -region application":   green + "passed: ",
		"check gauge-app.s19 -device brindle-b8-32":                       red + "error",
		"device brindle-b8-32 -explain clock_word=0x82":                   red + "hazard",
	} {
		_, shown := f.onTerminal(100, colour, strings.Fields(line)...)
		assert.Contains(t, shown, want, line)
		_, shown = f.onTerminal(100, colour, append(strings.Fields(line), "-color", "never")...)
		assert.NotContains(t, shown, "\x1b", line)
		_, shown = f.onTerminal(100, []string{"TERM=dumb", "NO_COLOR=1"}, append(strings.Fields(line), "-color", "always")...)
		assert.Contains(t, shown, want, line)
	}
	f.write("old.hex", ":0100000001FE\n")
	_, shown := f.onTerminal(100, colour, "convert", "old.hex", "-lenient", "-o", "new.hex")
	assert.Contains(t, shown, yellow+"warning")
	got := f.run("", "merge", "bootloader.hex", "gauge-app-2.s19", "-o", "none.hex", "-color", "always")
	assert.Contains(t, got.err, red+"error", "in a pipe too, where that is asked for")
}

// TestTerminalBar shows how far a work of more than half a second is, takes the
// bar away again, and shows none in a pipe.
func TestTerminalBar(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "its console is another than the terminal below")
	f := emptyFolder(t)
	big := make([]byte, 2<<20)
	for i := range big {
		big[i] = byte(i * i >> 8)
	}
	f.write("big.bin", string(big))
	f.write("half.bin", string(big[:len(big)/2]))
	const oneCore = "GOMAXPROCS=1" // takes as long with half of the work
	status, shown := f.onTerminal(80, []string{"TERM=xterm", oneCore}, "identify", "big.bin", "-value", "0x12345678")
	assert.Equal(t, 1, status)
	assert.Regexp(t, `\r(reading|trying|searching)[^\r]*█[^\r]*%[^\r]*(left|nearly done)`, shown)
	bars := regexp.MustCompile(`\r([^\r\n]*(?:left|nearly done|working on it for [^\r\n ]+ m?s)) *\r( *)\r`).FindStringSubmatch(shown)
	require.NotNil(t, bars, "the bar is not taken away: %q", shown)
	assert.GreaterOrEqual(t, len(bars[2]), utf8.RuneCountInString(bars[1]), "the bar is gone")
	_, shown = f.onTerminal(80, []string{"TERM=dumb", oneCore}, "identify", "half.bin", "-value", "0x12345678")
	assert.NotContains(t, shown, "\r")
	cmd := exec.Command(program, "identify", "half.bin", "-value", "0x12345678")
	cmd.Dir, cmd.Env = f.dir, append(os.Environ(), "TERM=xterm", oneCore)
	piped, _ := cmd.CombinedOutput()
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	assert.NotContains(t, string(piped), "\r")
	assert.NotContains(t, shown, "\x1b")
}
