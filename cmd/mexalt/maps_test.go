package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// smaller is a variant of the B8-32 with half the flash, whose clock word means
// something else at one value.
const smaller = `name = "Brindle B8-16"
base = "brindle-b8-32"
identity = "B8 16 01"
[[memory]]
name = "flash"
size = "16K"
sectors = [{ count = 128, size = 128 }]
[[config]]
name = "clock_word"
[[config.field]]
name = "clock_source"
bits = "0..1"
values = [
  { value = 0, meaning = "internal 8 MHz" },
  { value = 1, meaning = "internal 128 kHz" },
  { value = 2, meaning = "ceramic resonator" },
  { value = 3, meaning = "external signal", hazard = "without a signal the part stops and cannot be reached again" },
]
`

// TestMapsAgainstEachOther finds what means something else in two maps.
func TestMapsAgainstEachOther(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("brindle-b8-16.device.toml", smaller)
	assert.Contains(t, f.ok("device brindle-b8-32 -against brindle-b8-32"), "equal: ")
	r := f.line("device brindle-b8-32 -against brindle-b8-16")
	assert.Equal(t, 1, r.status)
	for _, want := range []string{
		`identity +B8 32 01 +B8 16 01`,
		`memory +flash +flash 0x0000\.\.0x7FFF \(32 KiB\) +flash 0x0000\.\.0x3FFF \(16 KiB\)`,
		`memory +flash sectors +128 x 256 bytes +128 x 128 bytes`,
		`region +bootloader +bootloader 0x7800\.\.0x7FFF \(2 KiB\) +bootloader 0x3800\.\.0x3FFF \(2 KiB\)`,
		`start +1 +instruction at 0x7800 +instruction at 0x3800`,
		`value +0x0050_0000 bits 0\.\.1 = 2 +external crystal \(hazard\), needs a crystal of 4 MHz\.\.16 MHz +ceramic resonator`,
	} {
		assert.Regexp(t, want, r.out)
	}
	assert.NotContains(t, r.out, "eeprom")
	assert.NotContains(t, r.out, "startup_delay")
	assert.Equal(t, 2, f.line("device brindle-b8-32 -against nothing").status)
}

// TestTheNearestMap says which map an image comes nearest to, and patterns name
// several.
func TestTheNearestMap(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("brindle-b8-16.device.toml", smaller)
	f.ok("release tg1.release.toml -quiet")
	r := f.line("check tg1-harbour-2.4.1.hex -device brindle-b8-16")
	assert.Equal(t, 1, r.status)
	assert.NotContains(t, r.err, "note: the image", "no invented device for one of a user's own")
	f.ok("device brindle-b8-32 -whole -o larger.device.toml")
	r = f.line("check tg1-harbour-2.4.1.hex -device brindle-b8-16")
	assert.Contains(t, r.err, "note: the image fits Brindle B8-32 (-device larger)")
	assert.Contains(t, f.line("check tg1-harbour-2.4.1.hex").err, "maps found: brindle-b8-16, larger (")
	assert.Contains(t, f.line("check tg1-harbour-2.4.1.hex -device brindle-m32-512").err,
		"note: the image fits Brindle B8-32 (-device brindle-b8-32)")
	f.ok("patch tg1-harbour-2.4.1.hex -at 0x100 -bytes 00 -o changed.hex")
	r = f.line("check changed.hex -device brindle-b8-16")
	assert.Contains(t, r.err,
		"note: the image comes nearer to Brindle B8-32 (-device larger), but for 0x77FC..0x77FF: application_crc: stored 0x788BB39D")
	r = f.line("check tg1-harbour-2.4.1.hex -device brindle-b8-*")
	assert.Zero(t, r.status, r.err)
	assert.Contains(t, r.out, "fits")
	r = f.line("check tg1-harbour-2.4.1.hex -device brindle-?8-* -json")
	assert.Equal(t, 2, strings.Count(r.out, `"fits": `))
	r = f.line("check tg1-harbour-2.4.1.hex -device tern-*")
	assert.Equal(t, 2, r.status)
	assert.Contains(t, r.err, "no device map matches tern-*")
}

// TestVariants are maps that say how they differ from another.
func TestVariants(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("brindle-b8-16.device.toml", smaller)
	shown := f.ok("device brindle-b8-16")
	assert.Contains(t, shown, "Brindle B8-16 (brindle-b8-16.device.toml), identity B8 16 01")
	assert.Contains(t, shown, "0x0000..0x37FF (14 KiB)", "the application ends where the bootloader begins")
	assert.Contains(t, shown, "boot_size")
	assert.Contains(t, shown, "2 ceramic resonator")

	// Of three, each from the one before; what is not wanted is dropped.
	f.write(
		"tiny.device.toml",
		"name = \"Tiny\"\nbase = \"brindle-b8-16\"\ndrop = [\"gauge_log\", \"lock_word\"]\n[[region]]\nname = \"bootloader\"\nsize = "+
			"\"1K\"\n[[memory]]\nname = \"rom\"\nkind = \"rom\"\nfirst = 0x60_0000\nsize = \"4K\"\n",
	)
	shown = f.ok("device tiny")
	assert.NotContains(t, shown, "gauge_log")
	assert.NotContains(t, shown, "\nlock_word")
	assert.Contains(t, shown, "0x3C00..0x3FFF (1 KiB)")
	assert.Contains(t, shown, "0x0060_0000..0x0060_0FFF (4 KiB)")

	// What a base is based on is looked up beside it.
	require.NoError(t, os.MkdirAll(f.path("family/all"), 0o777))
	f.write(
		"family/mid.device.toml",
		"name = \"Mid\"\nbase = \"all/root.device.toml\"\n[[memory]]\nname = \"eeprom\"\nsize = 512\n[[region]]\nname = "+
			"\"gauge_log\"\nfirst = \"calibration.last + 1\"\n[[region]]\nname = \"calibration\"\nsize = 256\n",
	)
	f.write("family/all/root.device.toml", "name = \"Root\"\nbase = \"brindle-b8-32\"\n")
	f.write("leaf.device.toml", "name = \"Leaf\"\nbase = \"family/mid.device.toml\"\n")
	shown = f.ok("device leaf")
	assert.Contains(t, shown, "Leaf (leaf.device.toml)")
	assert.Contains(t, shown, "eeprom  eeprom  0x0040_0000..0x0040_01FF (512 bytes)")

	// A mistake is told in the file that makes it.
	f.write("a.device.toml", "name = \"A\"\nbase = \"brindle-b8-32\"\n[[memory]]\nname = \"flash\"\nsize = \"16K\"\n")
	r := f.line("device a")
	assert.Equal(t, 3, r.status)
	assert.Equal(t, "a.device.toml:3:3: error: the sectors add up to more than the memory's 16 KiB, as "+
		"brindle-b8-32.device.toml:18 has it\n", r.err)
	for text, want := range map[string]string{
		"base = \"nothing\"\n": "b.device.toml:2:1: error: no such device map: nothing",
		"base = \"b\"\n":       "b.device.toml:2:1: error: b is based on itself",
		"base = \"brindle-b8-32\"\ndrop = [\"nothing\"]\n": "b.device.toml:3:9: error: brindle-b8-32 has no nothing that " +
			"could be dropped",
		"drop = [\"x\"]\n[[memory]]\nname = \"x\"\n":                  "b.device.toml:2:1: error: drop has no effect without a base",
		"base = \"brindle-b8-32\"\n[[region]]\nname = \"new\"\n":      "b.device.toml:3:3: error: region new has no role",
		"base = \"brindle-b8-32\"\n[[memory]]\nsize = 3\n":            "b.device.toml:3:3: error: memory has no name",
		"base = \"brindle-b8-32\"\n[[memory]]\nname = 'flash'\nx=1\n": "b.device.toml:5:1: error: unknown key x",
	} {
		f.write("b.device.toml", "name = \"B\"\n"+text)
		r := f.line("device ./b.device.toml")
		assert.Equal(t, 3, r.status, text)
		assert.Contains(t, r.err, want, text)
	}
	require.Zero(t, f.line("check gauge-app.s19 -device brindle-b8-32 -region application").status)
	r = f.line("check gauge-app.s19 -device brindle-b8-16 -region application")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "[region-overrun]")
}
