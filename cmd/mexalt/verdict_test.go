package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTextIsNeverFirmware hands texts to the commands that take images: none says yes.
func TestTextIsNeverFirmware(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("Makefile", "all: app.hex\n\tcp app.hex out \n")
	f.write("x.toml", "name = \"x\"\n")
	for _, line := range []string{"check Makefile -device brindle-b8-32", "merge gauge-app.s19 Makefile -o x.hex",
		"convert Makefile -o x.hex", "map Makefile -device brindle-b8-32", "rehearse Makefile -device brindle-b8-32",
		"checksum Makefile -kind SUM-8"} {
		r := f.line(line)
		assert.Equal(t, 3, r.status, line)
		assert.Contains(t, r.err+r.out, "Makefile: error: the file is a makefile; expected an image", line)
	}
	assert.NotContains(t, f.names(), "x.hex")
	f.ok("check Makefile@application.first -device brindle-b8-32 -region application")
	f.ok("convert Makefile -from raw -o x.hex")
	r := f.line("inspect Makefile x.toml units.csv calibration.bin")
	assert.Equal(t, 3, r.status)
	for _, want := range []string{"Makefile: text, a makefile", "x.toml: text, TOML", "units.csv: text, CSV", "calibration.bin: raw"} {
		assert.Contains(t, r.out, want)
	}

	// A release of it is none; nor of raw bytes that nobody has placed.
	const recipe = "name = \"r\"\ndevice = \"brindle-b8-32\"\n[[input]]\nname = \"boot\"\nfile = \"bootloader.hex\"\n[[input]]\nname " +
		"= \"a\"\nfile = \"FILE\"\n[check]\naccept = [\"missing-part\", \"checksum-absent\", \"outside-region\"]\n[[output]]\nfile = " +
		"\"out.hex\"\n"
	for file, want := range map[string]string{"Makefile": "Makefile: error: the file is a makefile",
		"calibration.bin": "raw bytes, which have no addresses, and no place is given; expected at = \"calibration.first\"\n"} {
		f.write("r.release.toml", strings.Replace(recipe, "FILE", file, 1))
		r := f.line("release r.release.toml")
		assert.Equal(t, 3, r.status)
		assert.Contains(t, r.err+r.out, want)
	}
	assert.NotContains(t, f.names(), "out.hex")
	assert.NotContains(t, f.names(), "r.manifest.json")

	// Raw bytes say where they go, wherever bytes come together or are judged.
	for line, want := range map[string]string{
		"merge bootloader.hex calibration.bin -o x.hex": "calibration.bin@ADDRESS",
		"merge bootloader.hex calibration.bin -device brindle-b8-32 -o x.hex": "calibration.bin@ADDRESS (where it fits: " +
			"calibration.bin@calibration.first)",
		"check calibration.bin -device brindle-b8-32": "calibration.bin@ADDRESS (where it fits: calibration.bin@calibration.first)",
		"map calibration.bin -device brindle-b8-32":   "calibration.bin@ADDRESS (where it fits: calibration.bin@calibration.first)",
	} {
		r := f.line(line)
		assert.Equal(t, 3, r.status, line)
		assert.Contains(t, r.err+r.out, "calibration.bin: error: raw bytes have no addresses, and no place is given; expected "+want, line)
	}
	f.ok("merge bootloader.hex calibration.bin@calibration.first -device brindle-b8-32 -o x.hex")
	f.ok("convert calibration.bin -o x.hex")
}

// TestWhatReadersDoubtIsAnError loses a line, and with it the count of records, and
// judges what is left in every way: nobody calls it whole.
func TestWhatReadersDoubtIsAnError(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	lines := strings.SplitAfter(f.read("gauge-app.s19"), "\n")
	var kept []string
	for i, l := range lines {
		if i != 40 && !strings.HasPrefix(l, "S5") && !strings.HasPrefix(l, "S6") {
			kept = append(kept, l)
		}
	}
	f.write("gauge-app.s19", strings.Join(kept, ""))
	r := f.line("inspect gauge-app.s19")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "gauge-app.s19: S-record, data is probably missing")
	assert.NotContains(t, r.out, "whole")
	assert.Contains(t, f.line("inspect gauge-app.s19 -json").out, `"whole": false`)
	for _, line := range []string{"check gauge-app.s19 -device brindle-b8-32 -region application", "release tg1.release.toml"} {
		r = f.line(line)
		assert.Equal(t, 1, r.status, line)
		assert.Contains(t, r.err+r.out, "error: just 1 record of 32 bytes left out between lines 40 and 41", line)
		assert.Contains(t, r.err+r.out, "[lost-line]", line)
	}
	assert.NotContains(t, f.names(), "tg1.manifest.json")
	f.ok("check gauge-app.s19 -device brindle-b8-32 -region application -accept lost-line")
	r = f.line("rehearse gauge-app.s19 -device brindle-b8-32")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "[lost-line]")

	// Accepted, the manifest and the page tell of it.
	text := f.read("tg1.release.toml")
	f.write("tg1.release.toml", text+"\n[check]\naccept = [\"lost-line\"]\n")
	f.ok("release tg1.release.toml")
	assert.Regexp(t, `(?s)"rule": "lost-line".{0,600}"accepted": true`, f.read("tg1.manifest.json"))
	assert.Contains(t, f.read("tg1-harbour-2.4.1.html"), "lost-line")

	// Cut short, and read leniently.
	boot := f.read("bootloader.hex")
	f.write("bootloader.hex", boot[:strings.Index(boot, ":00000001FF")])
	f.write("lenient.release.toml",
		"name = \"r\"\n[[input]]\nname = \"boot\"\nfile = \"bootloader.hex\"\nlenient = true\n[[output]]\nfile = \"out.hex\"\n")
	r = f.line("release lenient.release.toml")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "[missing-end]", "without a device too")
	assert.NotContains(t, f.names(), "out.hex")
	f.write("lenient.release.toml", f.read("lenient.release.toml")+"[check]\naccept = [\"missing-end\"]\n")
	f.ok("release lenient.release.toml")
}

// TestWhatCanBeSaved writes the sound records of a damaged file, with a hole for each
// that is lost.
func TestWhatCanBeSaved(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	for _, line := range []string{"view bootloader-damaged.hex", "inspect bootloader-damaged.hex"} {
		r := f.line(line)
		assert.Equal(t, 3, r.status)
		assert.Contains(t, r.err+r.out, "mexalt convert bootloader-damaged.hex -lenient -o bootloader-damaged-saved.hex", line)
	}
	assert.Equal(t, 3, f.line("convert bootloader-damaged.hex -o saved.hex").status)
	r := f.line("convert bootloader-damaged.hex -lenient -o saved.hex")
	assert.Equal(t, 1, r.status)
	for _, want := range []string{"again)\nbootloader-damaged.hex:12: warning: left out because it is damaged: character U+2013",
		":41: warning: left out", ":73: warning: left out", "note: hole 0x78B0..0x78BF (16 bytes)",
		"note: hole 0x7A80..0x7A8F (16 bytes)"} {
		assert.Contains(t, r.err, want)
	}
	r = f.line("compare bootloader.hex saved.hex -json")
	assert.Contains(t, r.out, `"differ": 0`)
	assert.Contains(t, r.out, `"onlyFound": 0`)
	f.write("clash.hex", ":0100000061"+"9E\n:0100000062"+"9D\n:00000001FF\n")
	assert.Equal(t, 3, f.line("convert clash.hex -lenient -o clash-saved.hex").status, "nobody knows which of the two")
}

// TestEmptyResultsAreNone asks for spans in which nothing lies, and for blocks that begin
// or end where the image does not.
func TestEmptyResultsAreNone(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	assert.Equal(t, strings.Repeat("\xFF", 16), f.ok("convert calibration.bin -in 0x9000,16 -to raw -holes FF"))
	for _, line := range []string{"cut calibration.bin -keep 0x9000,16 -o no.hex", "convert calibration.bin -in 0x9000,16 -o no.hex",
		"cut calibration.bin -drop 0..0xFFFF -o no.bin", "convert calibration.bin -in 0x9000,16 -to raw -o no.bin"} {
		r := f.line(line)
		assert.Equal(t, 3, r.status, line)
	}
	assert.NotContains(t, f.names(), "no.hex")
	assert.NotContains(t, f.names(), "no.bin")
	f.write("empty.bin", "")
	assert.Zero(t, f.line("convert empty.bin -o empty.hex").status, "what was empty on purpose may stay so")

	f.ok("convert calibration.bin@0x100 -o at.hex")
	for _, line := range []string{"cut at.hex -keep 0xF0..0x10F -to raw", "convert at.hex -in 0xF0..0x10F -to raw"} {
		assert.Equal(t, 2, f.line(line+" -o block.bin").status, line+": it begins where the span begins, or not at all")
		f.ok(line + " -holes EE -o block.bin")
		assert.Equal(t, strings.Repeat("\xEE", 16)+f.read("calibration.bin")[:16], f.read("block.bin"), line)
	}
	f.ok("split at.hex -by size 0x80 -holes EE -o part-{first}.bin")
	assert.Equal(t, f.read("calibration.bin")[:0x80], f.read("part-0x100.bin"))
	f.ok("patch at.hex -at 0x1E0 -bytes 01 -grow -o x.hex")
	f.ok("cut x.hex -drop 0x180..0x1DF -o holed.hex")
	f.ok("split holed.hex -by size 0x80 -holes EE -o piece-{first}.bin")
	assert.Equal(t, strings.Repeat("\xEE", 0x60)+"\x01"+f.read("calibration.bin")[0xE1:0x100], f.read("piece-0x180.bin")[:0x80],
		"the file begins at the address in its name")
}

// TestFullDisksAreTold writes every kind of output where there is no room.
func TestFullDisksAreTold(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "the device that is always full is of the system below")
	if _, err := os.Stat("/dev/full"); err != nil {
		t.Skip("no /dev/full here")
	}
	f := demoFolder(t)
	before := f.names()
	for _, line := range []string{
		"convert gauge-app.s19 -to s37 -o /dev/full", "convert gauge-app.s19 -to hex -o /dev/full",
		"convert gauge-app.s19 -to raw -holes FF -o /dev/full",
		"convert gauge-app.s19 -to uf2 -family 1 -holes FF -o /dev/full", "convert gauge-app.s19 -to dfu -holes FF -o /dev/full",
		"convert gauge-app.s19 -to memh -o /dev/full", "convert gauge-app.s19 -to c -o /dev/full",
		"check gauge-app.s19 -device brindle-b8-32 -format json -o /dev/full",
		"check gauge-app.s19 -device brindle-b8-32 -format sarif -o /dev/full",
		"check gauge-app.s19 -device brindle-b8-32 -format junit -o /dev/full",
		"check gauge-app.s19 -device brindle-b8-32 -format html -o /dev/full",
		"compare gauge-app.s19 gauge-app-2.s19 -format html -o /dev/full",
	} {
		r := f.line(line)
		assert.Equal(t, 4, r.status, "%s: %s", line, r.err)
		assert.Contains(t, r.err, "no space left on device", line)
	}
	for _, line := range []string{"convert gauge-app.s19", "inspect gauge-app.s19 -json",
		"check bootloader.hex -device brindle-b8-32 -region bootloader -format sarif", "view gauge-app.s19", "help rules"} {
		cmd := exec.Command("sh", "-c", program+" "+line+" >/dev/full")
		var told bytes.Buffer
		cmd.Dir, cmd.Stderr = f.dir, &told
		cmd.Run()
		assert.Equal(t, 4, cmd.ProcessState.ExitCode(), "%s: %s", line, &told)
		assert.Contains(t, told.String(), "no space left on device", line)
	}
	assert.Equal(t, before, f.names())
}

// TestNamesGoWithFormats writes no file that the same program refuses to read, and tells
// how long files are.
func TestNamesGoWithFormats(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	for _, line := range []string{"convert gauge-app.s19 -to s19 -o x.hex", "merge bootloader.hex -to hex -o x.bin",
		"convert calibration.bin -to hex -o x.uf2"} {
		r := f.line(line)
		assert.Equal(t, 2, r.status, line)
		assert.Contains(t, r.err, "name", line)
	}
	assert.NotContains(t, f.names(), "x.hex")
	for line, want := range map[string]string{
		"merge bootloader.hex calibration.bin@0x7F00 -to raw -holes FF -o x.bin": "raw, 2,304 bytes, ",
		"convert gauge-app.s19 -to uf2 -family 1 -holes FF -o x.uf2": "UF2, 48,640 bytes, with 24,310 bytes in 1 run " +
			"of the image",
		"convert calibration.bin -to memh -o x.mem": "memory text, 1,632 bytes, with 512 bytes in 1 run of the image",
	} {
		r := f.line(line)
		require.Zero(t, r.status, r.err)
		assert.Contains(t, r.err, want)
		info, err := os.Stat(f.path(line[strings.LastIndex(line, " ")+1:]))
		require.NoError(t, err)
		assert.Contains(t, strings.ReplaceAll(r.err, ",", ""), strings.Split(strings.ReplaceAll(want, ",", ""), " bytes")[0])
		assert.Contains(t, strings.ReplaceAll(want, ",", ""), " "+fmt.Sprint(info.Size())+" bytes")
	}
}

// TestWhatIsToldOfKeys holds flags and keys that had no effect, or another one than they
// seem to, against what is said of them.
func TestWhatIsToldOfKeys(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "files are closed to others as on the system below")
	f := demoFolder(t)
	f.ok("release tg1.release.toml")
	f.write("renamed.hex", f.read("tg1-harbour-2.4.1.hex"))
	assert.Contains(t, f.ok("explain renamed.hex -at 0x7800 -manifest tg1.manifest.json"), "bootloader.hex")
	for line, want := range map[string]string{
		"explain tg1-harbour-2.4.1.hex -at 0 -variant nowhere":                                    "nowhere",
		"device brindle-b8-32 -compose boot_size=\"1 KiB\" -compose boot_size=\"2 KiB\"":          "boot_size",
		"device -new brindle-b8-32 -o x.device.toml":                                              "brindle-b8-32",
		"release tg1-line.release.toml":                                                           "-units: missing; each unit has a serial of its own",
		"convert gauge-app.s19 -in calibration -device brindle-b8-32 -o x.hex":                    "nothing is left of the image",
		"release tg1.release.toml -variant nowhere":                                               "nowhere",
		"device brindle-b8-32 -new":                                                               "brindle-b8-32",
		"map gauge-app.s19 calibration.bin -device brindle-b8-32":                                 "calibration.bin@ADDRESS",
		"check gauge-app.s19 -device brindle-b8-32 -accept lost-line":                             "nothing was found for lost-line",
		"check gauge-app.s19 -device brindle-b8-32 -region application -accept region-holds:boot": "nothing was found for region-holds:boot",
	} {
		r := f.run("", words(line)...)
		assert.NotZero(t, r.status, line)
		assert.Contains(t, r.err+r.out, want, line)
	}
	assert.NotContains(t, f.names(), "x.hex")
	assert.NotContains(t, f.names(), "x.device.toml")

	// Settings of a folder that supply the device are told, and only if nobody else could
	// have written them.
	f.write(".mexalt.toml", "device = \"brindle-b8-32\"\n")
	r := f.line("check gauge-app.s19 -region application")
	assert.Zero(t, r.status, r.err)
	assert.Contains(t, r.err, ".mexalt.toml")
	assert.Contains(t, r.err, "brindle-b8-32")
	require.NoError(t, os.Chmod(f.path(".mexalt.toml"), 0o666))
	r = f.line("check gauge-app.s19 -region application")
	assert.NotZero(t, r.status)
	assert.Contains(t, r.err, ".mexalt.toml")
}

// words takes a line apart at blanks outside of quotes.
func words(line string) (list []string) {
	for i, piece := range strings.Split(line, `"`) {
		switch {
		case i%2 == 1:
			list[len(list)-1] += piece
		case i > 0 && !strings.HasPrefix(piece, " "):
			list[len(list)-1] += piece
		default:
			list = append(list, strings.Fields(piece)...)
		}
	}
	return list
}

// TestNamesThatAreNoText puts characters that turn the writing round, and escapes, into
// names: pages and pictures show them as what they are.
func TestNamesThatAreNoText(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "names have no control characters")
	f := demoFolder(t)
	const odd = "a\u202Egpj.\x1b[31m\u2066.s19"
	f.write(odd, f.read("gauge-app.s19"))
	for i, args := range [][]string{
		{"check", odd, "-device", "brindle-b8-32", "-region", "application", "-format", "html", "-o", "x.html"},
		{"compare", odd, "gauge-app-2.s19", "-format", "html", "-o", "y.html"},
		{"map", odd, "-device", "brindle-b8-32", "-o", "x.svg"}, {"inspect", odd}, {"view", odd, "-origin"},
		{"compare", odd, "gauge-app-2.s19"},
	} {
		r := f.run("", args...)
		shown := r.out + r.err
		if name := args[len(args)-1]; i < 3 {
			shown += f.read(name)
		}
		for _, char := range []string{"\u202E", "\x1b", "\u2066"} {
			assert.NotContains(t, shown, char, args)
		}
		assert.Contains(t, shown, "gpj.", args)
	}
}

// TestAnEraseTakesDataWithIt programs a device that keeps data of its own as a factory does:
// what goes is named, with its size, and nothing is begun until it is accepted.
func TestAnEraseTakesDataWithIt(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("release tg1.release.toml -variant harbour")
	f.ok("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -chip unit.chip")
	kept := f.read("unit.chip")
	f.ok("cut tg1-harbour-2.4.1.hex -drop calibration -device brindle-b8-32 -o rest.hex")
	const line = "rehearse rest.hex -device brindle-b8-32 -chip unit.chip -plan factory"
	r := f.line(line)
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err, "error: erasing the whole chip also erases calibration, 511 bytes, and the image has no bytes for it")
	assert.Contains(t, r.err, "-accept erased-data:calibration lets it go")
	assert.Equal(t, kept, f.read("unit.chip"), "nothing was begun")
	r = f.line("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -chip unit.chip -plan factory -accept erased-data")
	assert.Equal(t, 2, r.status, "nothing of it is found")
	r = f.line(line + " -accept erased-data:calibration")
	assert.Zero(t, r.status, r.err)
	assert.Contains(t, r.err, "warning: erasing the whole chip also erases calibration")
	assert.NotEqual(t, kept, f.read("unit.chip"))

	// A card of a plan is a page or a text, and of a run in which all goes well.
	f.ok("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -card card.html")
	assert.Contains(t, f.read("card.html"), "Where something else is seen")
	f.ok("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -card card.txt")
	for _, want := range []string{"says that it is", "B8 32 01", "7'\n\nverify: 32 bytes differ from the image",
		"to try it: -fault 'page-dead", "application_crc  0x788BB39D at 0x77FC..0x77FF"} {
		assert.Contains(t, f.read("card.txt"), want)
	}
	assert.Equal(t, 2, f.line("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -card card.pdf").status)
	assert.Equal(t, 2, f.line("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -card card.txt -fault 'noise 1e-3'").status)
	r = f.line("rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -fault identity")
	assert.NotZero(t, r.status)
	r = f.run("", "rehearse", "tg1-harbour-2.4.1.hex", "-device", "brindle-b8-32", "-fault", "identity 00")
	assert.Equal(t, 1, r.status)
	assert.NotContains(t, r.out, "in all")
}
