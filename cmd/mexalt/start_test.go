package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReleaseFilesToStartFrom writes release files for inputs of several kinds; each runs as it
// stands, and none is written over.
func TestReleaseFilesToStartFrom(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("release -new bootloader.hex gauge-app.s19 calibration.bin -device brindle-b8-32 -o gauge.release.toml")
	text := f.read("gauge.release.toml")
	for _, want := range []string{`version = "2.4.1"`, `region = "application"`, `version-at = "application.first + 0x34"`,
		`at = "calibration.first"`, `in = ["application"]`, `do = "seal"`} {
		assert.Contains(t, text, want)
	}
	f.ok("release gauge.release.toml")
	f.ok("confirm gauge.manifest.json")
	assert.Equal(t, 4, f.line("release -new bootloader.hex -device brindle-b8-32 -o gauge.release.toml").status)
	assert.Equal(t, text, f.read("gauge.release.toml"))

	f.ok("release -new station-loader.hex station.elf -device brindle-m32-512 -o station.release.toml")
	f.ok("release station.release.toml")

	// Without a map, and with starts that differ.
	f.ok("release -new bootloader.hex gauge-app.s19 station.elf -o plain.release.toml")
	assert.Contains(t, f.read("plain.release.toml"), "do = \"merge\"\nstart = \"bootloader\"")
	f.ok("release plain.release.toml")

	// Of a folder: what is damaged, in the way or without a place is a comment.
	out := f.ok("release -new -device brindle-b8-32")
	assert.Contains(t, out, "# bootloader-damaged.hex: left out: it is damaged")
	assert.Contains(t, out, "# gauge-app-2.s19: left out: it has bytes for the same addresses")
	f.write("folder.release.toml", out)
	r := f.line("release folder.release.toml -dry-run")
	assert.LessOrEqual(t, r.status, 3, r.err)
	for line, want := range map[string]string{
		"release -new nothing.hex -device brindle-b8-32":              "no such file",
		"release -new bootloader.hex -o x.toml":                       "does not end in .release.toml",
		"release -new bootloader.hex -json":                           "-json has no effect on -new",
		"release gauge.release.toml -device brindle-b8-32":            "-device: has no effect without -new",
		"release -new bootloader-damaged.hex -device brindle-b8-32":   "error",
		"release -new calibration.bin -o c.release.toml -device none": "no such device map",
	} {
		r := f.line(line)
		assert.NotZero(t, r.status, line)
		assert.Contains(t, r.err, want, line)
	}
	assert.Equal(t, 2, emptyFolder(t).line("release -new").status)
}

// TestWhatIsMistaken names the file or the word that was meant.
func TestWhatIsMistaken(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	f.ok("release tg1-line.release.toml -units units.csv -quiet")
	f.write("quotes.release.toml", "name = “gauge”\n[[input]]\nfile = ‘x’ # “ in a comment\n")
	f.write("mark.device.toml", "\xEF\xBB\xBFname = \"x\"\n[[memory]]\nname = \"m\"\nkind = \"flash\"\nfirst = 0\nsize = 16\n")
	f.ok("device mark")
	assert.Equal(t, 4, strings.Count(f.line("release quotes.release.toml").err, "(a typographic quote)"),
		"all of them, with their characters")
	for line, want := range map[string]string{
		"release tg1":                                               "no such file; did you mean tg1.release.toml?",
		"release tg1.manifest.json":                                 "this is a manifest; expected a release file",
		"release bootloader.hex":                                    "this is Intel HEX; expected a release file",
		"confirm bootloader.hex":                                    "this is Intel HEX; expected a manifest",
		"confirm tg1-line.units.jsonl":                              "this is a log of units",
		"fill bootloader.hex -with 255":                             "the number 255 is FF",
		"cut bootloader.hex -in 0..3":                               "did you mean -keep?",
		"cut bootloader.hex -keep flash":                            "names of memories and regions come from a device map",
		"checksum bootloader.hex -expect 0x123456789":               "has more than the 32 bits of CRC-32/ISO-HDLC",
		"identify bootloader.hex -at 0x9000":                        "the image contains no bytes at 0x9000",
		"device brindle-b8-32 -explain clock=0x82":                  "unknown word clock; the words of Brindle B8-32 are clock_word",
		"device brindle-m32":                                        "did you mean brindle-m32-512?",
		"release tg1-line.release.toml -units units.csv -o lineout": "cannot write to lineout: no such folder",
		"release tg1-line.release.toml -units station.elf":          "this is an ELF file; expected a table in CSV",
	} {
		r := f.line(line)
		assert.NotZero(t, r.status, line)
		assert.Contains(t, r.err, want, line)
	}
	assert.Contains(t, f.ok("device brindle-b8-32 -compose boot_size=768"), "boot_word = 0x03")
	assert.Equal(t, 1, f.line("device brindle-b8-32 -compose clock_source=crystal").status, "a part of a meaning is enough; it is a hazard")
	assert.Equal(t, "confirmed, 12 outputs: TG-1 gauge\n", f.ok("confirm tg1.manifest.json -quiet"))
	r := f.line("check gauge-app-2.s19 -device brindle-b8-32 -region application -format sarif -o a.sarif -format junit -o b.xml " +
		"-format text")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, f.read("a.sarif"), "region-overrun")
	assert.Contains(t, f.read("b.xml"), `<skipped message="it judges complete images, not one region">`)
	assert.Contains(t, r.out, "1 error")
	require.Equal(t, 2, f.line("check gauge-app-2.s19 -device brindle-b8-32 -format sarif -format junit").status)
	assert.NotContains(t, f.ok("check gauge-app.s19 -device brindle-b8-32 -region application"), "complete them",
		"a note that nearly every file gets is short")
}
