package device

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// soundBoard is a board of the Brindle B8-32 that says all.
const soundBoard = `name = "Board"
device = "brindle-b8-32"
[clock]
kind = "crystal"
frequency = "8 MHz"
[supply]
voltage = "3.0 V..3.6 V"
[pins]
reset = "button"
[[port]]
name = "serial"
wired = true
baud = 19_200
[[port]]
name = "high-voltage"
wired = false
`

// TestBoards opens boards that differ from a sound one in a line, and tells what is wrong with
// each, or what it says and what follows for the words of the device.
func TestBoards(t *testing.T) {
	folder := t.TempDir()
	var b strings.Builder
	for _, change := range [][2]string{
		{"", ""},
		{`kind = "crystal"`, `kind = "signal"`},
		{"kind = \"crystal\"\nfrequency = \"8 MHz\"", `kind = "none"`},
		{`kind = "crystal"`, `kind = "none"`},
		{`kind = "crystal"`, `kind = "quartz"`},
		{`frequency = "8 MHz"`, ``},
		{`frequency = "8 MHz"`, `frequency = "0 Hz"`},
		{`frequency = "8 MHz"`, `frequency = "3.9 MHz"`},
		{`frequency = "8 MHz"`, `frequency = "16 MHz"`},
		{"[clock]\nkind = \"crystal\"\nfrequency = \"8 MHz\"\n", ""},
		{`voltage = "3.0 V..3.6 V"`, `voltage = "2.7 V"`},
		{`voltage = "3.0 V..3.6 V"`, `voltage = "2.699 V..5 V"`},
		{`voltage = "3.0 V..3.6 V"`, `voltage = ""`},
		{"[supply]\nvoltage = \"3.0 V..3.6 V\"\n", ""},
		{`reset = "button"`, `reset = "free"`},
		{`reset = "button"`, ``},
		{`reset = "button"`, `reset = ""`},
		{`reset = "button"`, `rest = "button"`},
		{`wired = true`, `wired = false`},
		{`wired = false`, `wired = true`},
		{`wired = true`, ``},
		{`name = "serial"`, `name = ""`},
		{`name = "serial"`, `name = "high-voltage"`},
		{`baud = 19_200`, `baud = 0`},
		{`baud = 19_200`, ``},
		{`name = "Board"`, ``},
		{`device = "brindle-b8-32"`, ``},
		{`device = "brindle-b8-32"`, `device = "brindle-m32-512"`},
		{`device = "brindle-b8-32"`, `device = "nothing"`},
		{`[clock]`, `[clok]`},
	} {
		text := strings.Replace(soundBoard, change[0], change[1], 1)
		require.True(t, change[0] == "" || text != soundBoard)
		file := filepath.Join(folder, "b.board.toml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
		fmt.Fprintf(&b, "=== %q -> %q\n", change[0], change[1])
		m, err := OpenBoard(&source.Files{}, "b", []string{folder})
		if err != nil {
			fmt.Fprintln(&b, strings.ReplaceAll(err.Error(), folder+string(filepath.Separator), ""))
			continue
		}
		fmt.Fprintf(&b, "%s\nlink %d\n", m.Board.Text(), m.Link.Baud)
		for _, w := range m.Warnings {
			fmt.Fprintln(&b, w.What)
		}
		for _, clock := range []uint64{0x80, 0x82, 0x83, 0x00} {
			for _, boot := range []uint64{0x01, 0x11, 0x21} {
				words, _ := memory.FromBytes(m.Word("clock_word").At, []byte{byte(clock), byte(boot)}, &source.Input{Name: "w"})
				resolved, _ := m.For(words)
				require.Equal(t, m.Board, resolved.Board, "regions of other sizes, on the same board")
				for _, lock := range []uint64{0x03, 0x01} {
					if lock == 0x01 && boot != 0x11 {
						continue
					}
					values := map[string]uint64{"clock_word": clock, "boot_word": boot, "lock_word": lock}
					given := map[string]Given{}
					for name, v := range values {
						given[name] = m.Word(name).Whole(v)
					}
					hz, known := m.Clock(values)
					fmt.Fprintf(&b, "%02X %02X %02X: %d %t %s", clock, boot, lock, hz, known, waysText(m.WaysIn(values)))
					for _, v := range m.Judge(given) {
						fmt.Fprintf(&b, " | %s %s %s", v.Kind, v.Name, v.What)
					}
					b.WriteString("\n")
				}
			}
		}
	}
	golden.File(t, "testdata/boards.txt", b.String())
}

// TestABoardToStartFrom fills in the template of each shipped map: nothing is to do any more.
func TestABoardToStartFrom(t *testing.T) {
	for _, name := range Shipped() {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		text := BoardTemplate(m, name)
		folder := t.TempDir()
		open := func(text string) (*Map, error) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "x"+BoardExtension), []byte(text), 0o666))
			return OpenBoard(&source.Files{}, "x", []string{folder})
		}
		_, err = open(text)
		require.Error(t, err, "what is to do is not taken for done")
		filled := strings.NewReplacer(`name = ""`, `name = "X"`, `kind = ""`, `kind = "none"`, `voltage = ""`, `voltage = "3 V"`,
			`reset = ""`, `reset = "free"`, "# wired =  ", "wired = true ").Replace(text)
		on, err := open(filled)
		require.NoError(t, err, filled)
		assert.Equal(t, m.File, on.File)
		assert.Len(t, on.Board.Ports, len(m.Ports))
		assert.Empty(t, on.Warnings)
	}
}

// TestEditedBoards opens boards that differ in a few places.
func TestEditedBoards(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "b.board.toml")
	golden.Edited(t, "testdata/edited-boards.txt", 300, map[string]string{"board": soundBoard}, func(_, text string) string {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
		m, err := OpenBoard(&source.Files{}, file, []string{folder})
		if err != nil {
			return strings.ReplaceAll(err.Error(), folder+string(filepath.Separator), "")
		}
		return m.Board.Text() + waysText(m.WaysIn(map[string]uint64{"clock_word": 0x82, "boot_word": 0x11, "lock_word": 3}))
	})
}
