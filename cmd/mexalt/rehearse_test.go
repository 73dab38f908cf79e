package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rehearsalMap makes of a machine's map one that a rehearsal needs: sectors, a start,
// and what the loader guards.
func (m *machine) rehearsalMap() string {
	start := "[start]\nkind = \"instruction\"\nat = \"loader.first\"\n"
	if m.name == "arm" {
		start = "[start]\nkind = \"vectors\"\nat = \"loader.first\"\n"
	}
	text := strings.Replace(m.deviceMap, "page = 256\n", "page = 256\nsectors = [{ count = 32, size = \"1K\" }]\nerase-time = { typical = \"20 ms\" }\nprogram-time = { typical = \"1 ms\" }\n", 1)
	return text + "guards = \"application\"\n" + start
}

// TestEmulatorsStartWhatARehearsalSays cuts the power of an update, which writes the
// loader too, at a dozen moments, reads the chip back and starts it in an emulator.
func TestEmulatorsStartWhatARehearsalSays(t *testing.T) {
	for _, m := range machines(t) {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			need(t, m.compiler[0])
			need(t, m.hex[0])
			f := emptyFolder(t)
			sources, err := filepath.Abs("testdata/firmware")
			require.NoError(t, err)
			m.compile(t, f, "loader.c", "loader.elf", m.loader...)
			m.compile(t, f, "application.c", "old.elf", m.app...)
			text, err := os.ReadFile(filepath.Join(sources, "application.c"))
			require.NoError(t, err)
			f.write("newer.c", strings.ReplaceAll(string(text), "gauge 2.4.1", "gauge 2.4.2"))
			m.gcc(t, f, append(append(m.program[:len(m.program):len(m.program)], "-I"+sources, "newer.c", "-o", "new.elf"), m.app...)...)
			f.write("part.device.toml", m.rehearsalMap())
			for _, name := range []string{"old", "new"} {
				f.ok(fmt.Sprintf("merge loader.elf %s.elf -start none -device part -o merged.hex", name))
				f.ok("fill merged.hex -device part -in loader -in application -with FF -o filled.hex")
				f.ok("seal filled.hex -device part -o " + name + ".hex")
			}
			erases, pages := 32, 128
			if m.name == "avr" {
				erases, pages = 16, 64
			}
			begin, end := 2+erases, 2+erases+pages // of programming, and of what comes behind it
			seen := map[string]int{}
			for _, cut := range []string{
				"1 before", "2 before", "2 after", fmt.Sprintf("%d before", begin), fmt.Sprintf("%d", begin), fmt.Sprintf("%d before", begin+pages/2), fmt.Sprintf("%d", begin+pages/2),
				fmt.Sprintf("%d draw 5", begin+pages/2+3), fmt.Sprintf("%d draw 2", end-1), fmt.Sprintf("%d before", end-1), fmt.Sprintf("%d before", end), fmt.Sprintf("%d after", end),
			} {
				outcome := f.momentOf(cut)
				seen[outcome]++
				switch outcome {
				case "old":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "application gauge 2.4.1, data whole", cut)
				case "new":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "application gauge 2.4.2, data whole", cut)
				case "bootloader":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "refused", cut)
				case "nothing":
					// Where erased flash is an instruction that does nothing, the machine runs on
					// through it, to what is not erased.
					if m.name != "avr" || cut == fmt.Sprintf("%d before", begin) {
						const enough = 3 * time.Second
						out := startsWithin(t, f, enough, m.hex, "moment.hex", "application", "refused")
						assert.NotContains(t, out, "application gauge", cut)
						assert.NotContains(t, out, "refused", cut)
					}
				}
			}
			for _, outcome := range []string{"old", "new", "bootloader", "nothing"} {
				assert.Positive(t, seen[outcome], outcome)
			}
		})
	}
}

// momentOf cuts the power of the update, reads back into moment.hex, and returns what
// the rehearsal says that the part starts.
func (f folder) momentOf(cut string) string {
	f.t.Helper()
	r := f.run("", "rehearse", "new.hex", "-from", "old.hex", "-device", "part", "-plan", "update", "-fault", "cut "+cut, "-read-back", "moment.hex", "-json")
	require.Contains(f.t, []int{0, 1}, r.status, r.err)
	var said struct {
		Run struct{ After struct{ Outcome, Why string } }
	}
	require.NoError(f.t, json.Unmarshal([]byte(r.out), &said))
	return said.Run.After.Outcome
}
