package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestView(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("a.hex", ":10000000303132333435363738394142434445464E\n"+
		":10001000FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF0\n"+
		":10002000FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFE0\n"+
		":10003000FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFD0\n"+
		":0400420001020304B0\n"+
		":0400000500000042B5\n"+
		":00000001FF\n")
	assert.Equal(t, `0x0000  30 31 32 33 34 35 36 37  38 39 41 42 43 44 45 46  0123456789ABCDEF
0x0010  FF FF FF FF FF FF FF FF  FF FF FF FF FF FF FF FF  ················
        2 rows like the one above, to 0x003F
     → start address 0x0042
0x0040  -- -- 01 02 03 04 -- --  -- -- -- -- -- -- -- --    ····
`, f.ok("view a.hex -in 0..0x4F"))
	assert.Equal(t, `0x0000  30 31 32 33  0123  a.hex:1
0x0004  34 35 36 37  4567  a.hex:1
`, f.ok("view a.hex -columns 4 -origin -in 0..7"))
	assert.Equal(t, `0x0030                           FF FF FF FF FF FF FF FF          ········
     → start address 0x0042
0x0040  -- -- 01 02                                         ··
`, f.ok("view a.hex -in 0x38..0x3F -in 0x42..0x43 -in 0x40..0x41 -columns 16"))

	f.write(
		"m.device.toml",
		"name='M'\n[[memory]]\nname='ram'\nkind='ram'\nfirst=0\nsize=256\n[[region]]\nname='one'\nrole='data'\nfirst=0\nsize=8\n"+
			"[[region]]\nname='two'\nrole='data'\nfirst=0x60\nsize=8\n",
	)
	assert.Equal(t, `────── one 0x0000..0x0007 (8 bytes)
0x0000  30 31 32 33 34 35 36 37                           01234567
────── in no region
0x0000                           38 39 41 42 43 44 45 46          89ABCDEF
`, f.ok("view a.hex -device m -in 0..15"))
	assert.Equal(t, "        hole 0x0050..0x0053 (4 bytes)\n", f.ok("view a.hex -in 0x50,4"))
	assert.Equal(t, 2, f.line("view a.hex -columns 0").status)

	f.write("empty.hex", ":00000001FF\n")
	assert.Contains(t, f.line("view empty.hex").err, "contains no bytes")
	f.write("last.s37", "S306FFFFFFFF619C\nS70500000000FA\n")
	assert.Contains(t, f.ok("view last.s37"), "0xFFFF_FFF0")
}

func TestCompare(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("convert gauge-app.s19 -o app.hex")
	assert.Equal(t, "equal: gauge-app.s19 and app.hex, 24,310 bytes\n", f.ok("compare gauge-app.s19 app.hex"))

	// A read-back: the whole flash, with one page that was not programmed.
	f.ok("convert gauge-app.s19 -in 0..0x7FFF -to raw -holes FF -o readback.bin")
	assert.Equal(t, "equal: gauge-app.s19 and readback.bin, 32,768 bytes\n", f.ok("compare gauge-app.s19 readback.bin -holes FF"))
	r := f.line("compare gauge-app.s19 readback.bin")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "8,458 only in readback.bin")
	assert.Contains(t, r.out, "-holes FF takes it as equal")
	assert.Equal(t, 0, f.line("compare gauge-app.s19 readback.bin -in 0..0x5EF5").status)
	assert.Equal(t, 0, f.line("compare gauge-app.s19 readback.bin -skip 0x5EF6..0x7FFF").status)

	back := []byte(f.read("readback.bin"))
	for i := range back[0x1000:0x1080] {
		back[0x1000+i] = 0xFF
	}
	require.NoError(t, os.WriteFile(f.path("page.bin"), back, 0o644))
	r = f.line("compare gauge-app.s19 page.bin -holes FF -device brindle-b8-32")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "  cause: 0x1000..0x107F erased, not programmed; explains all 128 differing bytes\n")
	assert.Regexp(t, `application +\d+ +0 +0  2 of 480`, r.out)
	r = f.line("compare gauge-app.s19 page.bin -holes FF -device brindle-b8-32 -json")
	assert.Equal(t, 1, r.status)
	var out struct {
		Schema      string
		Equal       bool
		Differences []struct{ Kind, Region string }
		Causes      []struct {
			Kind             string
			Explains, Spoils int
			Where            []struct{ First string }
		}
		Examined, Explained int
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &out))
	assert.Equal(t, "mexalt.compare/2", out.Schema)
	require.Len(t, out.Causes, 1)
	assert.Equal(t, []any{"filled", 128, 0, "0x1000", 128, 128},
		[]any{out.Causes[0].Kind, out.Causes[0].Explains, out.Causes[0].Spoils, out.Causes[0].Where[0].First, out.Examined, out.Explained})
	assert.False(t, out.Equal)
	assert.Equal(t, "differ", out.Differences[0].Kind)
	assert.Equal(t, "application", out.Differences[0].Region)
	assert.Equal(t, 0, f.line("compare gauge-app.s19 page.bin -holes FF -skip 0x1000,128").status)
	assert.Equal(t, 2, f.line("compare gauge-app.s19").status)
}

// TestCompareTotalsAgreeWithTheSum counts by region what is counted as a whole,
// where holes count as erased and lie close to what differs.
func TestCompareTotalsAgreeWithTheSum(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("m.device.toml", "name='M'\n[[memory]]\nname='m'\nkind='flash'\nfirst=0x40\nsize=256\npage=64\n"+
		"[[region]]\nname='a'\nrole='data'\nfirst=0x40\nsize=128\n[[region]]\nname='b'\nrole='data'\nfirst=0xC0\nsize=128\n")
	found := []byte(strings.Repeat("\xFF", 256))
	found[10], found[13], found[70], found[129] = 1, 2, 3, 4
	require.NoError(t, os.WriteFile(f.path("found.bin"), found, 0o644))
	f.write("one.bin", "\xFF")
	r := f.line("compare one.bin@0x40 found.bin@0x40 -device m -holes FF")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "4 only in found.bin, 252 equal")
	assert.Regexp(t, `(?m)^a +0 +0 +3  2 of 2$`, r.out)
	assert.Regexp(t, `(?m)^b +0 +0 +1  1 of 2$`, r.out)
}

func TestContainersAreNotTakenForRawBytes(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("app.zip", "PK\x03\x04\x02\x01\x01\x00")
	r := f.line("convert app.zip -o app.hex")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.err, "app.zip: error: the file is a zip archive")
	assert.Equal(t, []string{"app.zip"}, f.names())
	assert.Contains(t, f.line("inspect app.zip").out, "app.zip: not an image that can be read: 1 problem")
	assert.Equal(t, 0, f.line("convert app.zip -from raw").status)
	f.write("app.bin", "\x7FELF\x02\x01\x01\x00")
	assert.Contains(
		t,
		f.line("convert app.bin -o app.hex").err,
		"app.bin: error: the name suggests raw, but the contents are ELF; expected a name that matches the contents (rename the file, "+
			"or choose; -from raw, or -from elf)\n",
	)
}

// TestStandardInputAndOutput reads and writes through pipes and redirections.
func TestStandardInputAndOutput(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	app := f.read("gauge-app.s19")
	for _, args := range [][]string{{"convert"}, {"convert", "-"}, {"convert", "-@+0", "-to", "srec"}} {
		r := f.run(app, args...)
		assert.Equal(t, 0, r.status, r.err)
		assert.Contains(t, r.out, "S9030000FC")
	}
	r := f.run("", "convert")
	assert.Equal(t, 3, r.status, "a command that failed before left nothing")
	assert.Equal(t, "standard input: error: the input is empty; expected an image (the command that wrote it may have failed)\n", r.err)
	r = f.run(":0", "inspect")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.err, "standard input:1:3: error: the record breaks off after 1 digits")
	assert.Contains(t, f.run(app, "inspect", "-json").out, `"name": "standard input"`)
}

func TestFilesOver4GiBAreRefused(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	big, err := os.Create(f.path("big.bin"))
	require.NoError(t, err)
	require.NoError(t, big.Truncate(4<<30+1)) // holes in the file, not on the disk
	require.NoError(t, big.Close())
	r := f.line("convert big.bin")
	assert.Equal(t, 3, r.status)
	assert.Equal(t, "big.bin: error: larger than 4 GiB, the most that is read\n", r.err)
	assert.Empty(t, r.out)
}
