package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// swapMap is a part whose loader moves a new firmware to where it runs.
const swapMap = `name = "Swapper"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = "8K"
page = 256
granule = 4
sectors = [{ count = 8, size = "1K" }]
erase-time = { typical = "20 ms" }
program-time = { typical = "1 ms" }
[[region]]
name = "loader"
role = "bootloader"
first = 0
size = "1K"
[[region]]
name = "runs"
role = "application"
first = "1K"
size = "2K"
[[region]]
name = "arrives"
role = "application"
first = "3K"
size = "2K"
[[region]]
name = "log"
role = "data"
first = "5K"
size = "1K"
[[checksum]]
name = "crc"
kind = "CRC-32/ISO-HDLC"
in = "arrives.first..arrives.last-4"
at = "arrives.last-3"
guards = "arrives"
[[start]]
kind = "instruction"
at = "loader.first"
[loader]
retry = "until-new"
checks = [{ region = "runs", pin = "UPDATE" }]
[loader.swap]
from = "arrives"
to = "runs"
pending = { at = "log.first", bytes = "0F F0 0F F0" }
done = { at = "log.last - 3", bytes = "00 00 00 00" }
marks = "log.first+4..log.last"
`

// TestALoaderThatSwaps rehearses an update for a loader that moves it: the plan that
// erases its log first is told of what it goes on with, and the one that makes its mark
// void first is safe under what is taken for granted.
func TestALoaderThatSwaps(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("part.device.toml", swapMap)
	f.write("loader.bin", strings.Repeat("loader", 20))
	f.write("old.bin", strings.Repeat("tide gauge 1", 100))
	f.write("new.bin", strings.Repeat("tide gauge 2", 110))
	f.write("mark.bin", "\x0F\xF0\x0F\xF0")
	f.write("done.bin", strings.Repeat("\x00", 1020))
	f.ok("merge loader.bin@0 old.bin@1K mark.bin@5K done.bin@5124 -o old.hex")
	f.ok("merge new.bin@3K mark.bin@5K -o merged.hex")
	f.ok("fill merged.hex -device part -in arrives -with FF -o filled.hex")
	f.ok("seal filled.hex -device part -o new.hex")
	out := strings.Join(strings.Fields(f.ok("device part")), " ")
	assert.Contains(
		t,
		out,
		"bootloader: it starts runs only with the pin UPDATE as in the field; an update that was cut it tries again: until-new; it "+
			"moves arrives to runs where 0F F0 0F F0 is at 0x1400, unless 00 00 00 00 is at 0x17FC; the marks of that are at "+
			"0x1404..0x17FF",
	)
	f.write("at-once.plan.toml", "by = \"bootloader\"\n[[act]]\ndo = \"erase\"\n[[act]]\ndo = \"program\"\n")
	f.write(
		"void.plan.toml",
		"by = \"bootloader\"\n[[act]]\ndo = \"void\"\nin = \"log.first,4\"\n[[act]]\ndo = \"erase\"\n[[act]]\ndo = \"program\"\nskip "+
			"= \"log\"\n[[act]]\ndo = \"program\"\nin = \"log.first,4\"\n",
	)
	const sweep = "rehearse new.hex -from old.hex -device part -accept uncovered -sweep -expect safe -plan "
	r := f.line(sweep + "at-once.plan.toml")
	assert.Equal(t, 1, r.status, r.err)
	assert.Contains(t, r.out, "the bootloader continues a swap")
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "),
		"makes void what says that a swap is wanted before all else; writes what says that a swap is wanted last, by an act of its own")
	r = f.line(sweep + "void.plan.toml")
	assert.Zero(t, r.status, r.out+r.err)
	said := strings.Join(strings.Fields(r.out), " ")
	assert.Contains(
		t,
		said,
		"safe: it survives any number of power cuts, each followed by the complete plan again unless the new runs, if a torn bit "+
			"reads the same each time; the pin UPDATE is assumed to be as in the field; a",
	)
}
