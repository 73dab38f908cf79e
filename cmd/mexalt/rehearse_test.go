package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// rehearsalMap makes of a machine's map one that a rehearsal needs: sectors, a start,
// and what the loader guards.
func (m *machine) rehearsalMap() string {
	start := "[start]\nkind = \"instruction\"\nat = \"loader.first\"\n"
	if m.name == "arm" {
		start = "[start]\nkind = \"vectors\"\nat = \"loader.first\"\n"
	}
	text := strings.Replace(
		m.deviceMap,
		"page = 256\n",
		"page = 256\nsectors = [{ count = 32, size = \"1K\" }]\nerase-time = { typical = \"20 ms\" }\nprogram-time = { typical = "+
			"\"1 ms\" }\n",
		1,
	)
	return text + "guards = \"application\"\n" + start
}

// TestEmulatorsStartWhatARehearsalSays cuts the power of an update, which writes the
// loader too, at a dozen moments, reads the chip back and starts it in an emulator.
func TestEmulatorsStartWhatARehearsalSays(t *testing.T) {
	t.Parallel()
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
				"1 before", "2 before", "2 after", fmt.Sprintf("%d before", begin), fmt.Sprintf("%d", begin),
				fmt.Sprintf("%d before", begin+pages/2), fmt.Sprintf("%d", begin+pages/2),
				fmt.Sprintf("%d draw 5", begin+pages/2+3), fmt.Sprintf("%d draw 2", end-1), fmt.Sprintf("%d before", end-1),
				fmt.Sprintf("%d before", end), fmt.Sprintf("%d after", end),
			} {
				outcome := f.momentOf("update", "cut "+cut)
				seen[outcome]++
				switch outcome {
				case "old":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "application gauge 2.4.1, data whole",
						cut)
				case "new":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "application gauge 2.4.2, data whole",
						cut)
				case "bootloader":
					assert.Contains(t, starts(t, f, m.hex, "moment.hex", "data whole", "refused"), "refused", cut)
				case "nothing":
					// Where erased flash is an instruction that does nothing, the machine runs on
					// through it, to what is not erased.
					if m.name != "avr" || cut == fmt.Sprintf("%d before", begin) {
						enough := 3 * time.Second / time.Duration(golden.Every(3))
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
func (f folder) momentOf(plan, cut string) string {
	f.t.Helper()
	r := f.run("", "rehearse", "new.hex", "-from", "old.hex", "-device", "part", "-plan", plan, "-fault", cut, "-accept", "uncovered",
		"-read-back", "moment.hex", "-json")
	require.Contains(f.t, []int{0, 1}, r.status, r.err)
	var said struct {
		Run struct{ After struct{ Outcome, Why string } }
	}
	require.NoError(f.t, json.Unmarshal([]byte(r.out), &said))
	return said.Run.After.Outcome
}

// swept is what the tests read of a sweep.
type swept struct {
	Rung int
	Cuts []string
	Why  string
}

// sweptOf cuts the power at every moment of an update.
func (f folder) sweptOf(plan string) swept {
	f.t.Helper()
	r := f.run("", "rehearse", "new.hex", "-from", "old.hex", "-device", "part", "-plan", plan, "-sweep", "-accept", "uncovered", "-json")
	require.Contains(f.t, []int{0, 1}, r.status, r.err)
	var said struct{ Sweep struct{ Ladder swept } }
	require.NoError(f.t, json.Unmarshal([]byte(r.out), &said), r.out)
	return said.Sweep.Ladder
}

// applicationOf compiles the application as another version, and for another place.
func (m *machine) applicationOf(t *testing.T, f folder, version, out string, more ...string) {
	t.Helper()
	sources, err := filepath.Abs("testdata/firmware")
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(sources, "application.c"))
	require.NoError(t, err)
	source := out + ".c"
	f.write(source, strings.ReplaceAll(string(text), "gauge 2.4.1", "gauge "+version))
	m.gcc(t, f, slices.Concat(m.program, []string{"-I" + sources, source, "-o", out}, more)...)
}

// TestLoadersDoWhatASweepCallsBad prepares the memory of two loaders as the first case that
// a sweep calls bad, and starts them: one that checks the first sector alone, and one that
// starts the higher of two ranks that no checksum covers.
func TestLoadersDoWhatASweepCallsBad(t *testing.T) {
	t.Parallel()
	for _, m := range machines(t) {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			need(t, m.compiler[0])
			need(t, m.hex[0])
			first, slot := 0x4000, 0x2000
			switch m.name {
			case "avr":
				first, slot = 0x1000, 0x1800
			case "riscv":
				first = 0x8000_4000
			}

			f := emptyFolder(t)
			f.write(
				"part.device.toml",
				strings.NewReplacer("application.first..application.last-4", "application.first..application.first+0x3FB",
					"application.last-3", "application.first+0x3FC").
					Replace(m.rehearsalMap()),
			)
			m.compile(t, f, "loader.c", "loader.elf", append(m.loader, "-DAPPLICATION_CRC=(APPLICATION_FIRST+0x3FC)")...)
			far := fmt.Sprintf("-Wl,--section-start=.far=0x%X", first+0x400)
			m.applicationOf(t, f, "2.4.1", "old.elf", append(m.app, "-DFAR", far)...)
			m.applicationOf(t, f, "2.4.2", "new.elf", append(m.app, "-DFAR", far)...)
			for _, name := range []string{"old", "new"} {
				f.ok(fmt.Sprintf("merge loader.elf %s.elf -start none -device part -o merged.hex", name))
				f.ok("fill merged.hex -device part -in loader -in application -with FF -o filled.hex")
				f.ok("seal filled.hex -device part -o " + name + ".hex")
			}
			f.write("up.plan.toml",
				"by = \"bootloader\"\n[[act]]\ndo = \"erase\"\nskip = \"loader\"\n[[act]]\ndo = \"program\"\nskip = \"loader\"\n")
			said := f.sweptOf("up.plan.toml")
			assert.Equal(t, 1, said.Rung)
			assert.Contains(t, said.Why,
				"application_crc may be valid with its new value, so that application runs: application is the new already")
			require.Len(t, said.Cuts, 1)
			assert.Equal(t, "neither", f.momentOf("up.plan.toml", said.Cuts[0]+" after")) // torn as it was to be
			assert.Contains(t, starts(t, f, m.hex, "moment.hex", "application", "refused"), "application gauge 2.4.2, data lost")
			assert.Contains(t, starts(t, f, m.hex, "new.hex", "application", "refused"), "application gauge 2.4.2, data whole")

			f = emptyFolder(t)
			text, _, _ := strings.Cut(m.rehearsalMap(), "[[region]]\nname = \"application\"")
			_, start, _ := strings.Cut(m.rehearsalMap(), "guards = \"application\"\n")
			for i, name := range []string{"slot_a", "slot_b"} {
				text += fmt.Sprintf("[[region]]\nname = %[1]q\nrole = \"application\"\nfirst = 0x%[2]X\nsize = 0x%[3]X\n"+
					"[[checksum]]\nname = \"crc_%[1]s\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"%[1]s.first..%[1]s.last-8\"\nat = "+
					"\"%[1]s.last-7\"\nguards = %[1]q\nrank-at = { at = \"%[1]s.last-3\" }\n", name, first+i*slot, slot)
			}
			f.write("part.device.toml", text+start)
			m.compile(t, f, "loader.c", "loader.elf", append(m.loader, fmt.Sprintf("-DSLOTS=0x%X", slot))...)
			inB := []string{fmt.Sprintf("-Wl,--section-start=.text=0x%X", first+slot)}
			if m.name != "avr" {
				inB = append(m.app[1:len(m.app):len(m.app)], fmt.Sprintf("-Wl,--defsym=FIRST=0x%X", first+slot))
			}
			m.applicationOf(t, f, "2.4.1", "a.elf", m.app...)
			m.applicationOf(t, f, "2.4.0", "older.elf", inB...)
			m.applicationOf(t, f, "2.4.2", "newer.elf", inB...)
			for rank, name := range map[int]string{1: "older", 3: "newer"} {
				f.ok(fmt.Sprintf("merge loader.elf a.elf %s.elf -start none -device part -o merged.hex", name))
				f.ok("fill merged.hex -device part -in loader -in slot_a -in slot_b -with FF -o filled.hex")
				f.ok("patch filled.hex -device part -at slot_a.last-3 -number 2 -size 4 -o one.hex")
				f.ok(fmt.Sprintf("patch one.hex -device part -at slot_b.last-3 -number %d -size 4 -o ranked.hex", rank))
				f.ok("seal ranked.hex -device part -o " + name + ".hex")
			}
			require.NoError(t, os.Rename(f.path("older.hex"), f.path("old.hex")))
			f.ok("cut newer.hex -keep slot_b -device part -o new.hex")
			f.write("down.plan.toml", "by = \"bootloader\"\n[[act]]\ndo = \"erase\"\norder = \"down\"\n[[act]]\ndo = \"program\"\n")
			assert.Contains(t, starts(t, f, m.hex, "old.hex", "application", "refused"), "application gauge 2.4.1, data whole")
			said = f.sweptOf("down.plan.toml")
			assert.Equal(t, 1, said.Rung)
			assert.Contains(t, said.Why, "crc_slot_b may be valid with its old value, so that slot_b runs:")
			require.Equal(t, []string{"cut 1"}, said.Cuts)
			f.momentOf("down.plan.toml",
				"cut 1 before") // the sector that is torn then may read as it stood
			f.ok("patch moment.hex -device part -at slot_b.last-3 -bytes FFFFFFFF -o torn.hex") // the rank as erased, all else as it stood
			assert.Contains(t, starts(t, f, m.hex, "torn.hex", "application", "refused"), "application gauge 2.4.0, data whole")
			assert.Contains(t, starts(t, f, m.hex, "newer.hex", "application", "refused"), "application gauge 2.4.2, data whole")
		})
	}
}
