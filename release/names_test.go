package release

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/release/proof"
	"mexalt/source"
)

// moving are two parts with a step between them and a patch that names where one is.
const moving = `name = "m"
[[input]]
name = "one"
file = "one.bin"
at = "0x100"
[[input]]
name = "two"
file = "two.bin"
at = "0x200"
STEP
[[step]]
do = "patch"
at = "image.first"
values = [{ number = "part.two.first", size = 4 }]
[[output]]
file = "m.hex"
`

// TestPartsAreWhereTheirBytesAre moves, cuts and mixes parts before a pointer to one is
// patched in: it points at the part's bytes, or the release is refused.
func TestPartsAreWhereTheirBytesAre(t *testing.T) {
	for name, c := range map[string]struct {
		step string
		want string // the pointer, or why there is none
	}{
		"as placed":        {"", "0x200"},
		"moved up":         {"[[step]]\ndo = \"place\"\nshift = 0x1000", "0x1200"},
		"moved down":       {"[[step]]\ndo = \"place\"\nshift = \"-0x80\"", "0x180"},
		"moved twice":      {"[[step]]\ndo = \"place\"\nshift = 0x1000\n[[step]]\ndo = \"place\"\nshift = 0x10", "0x1210"},
		"its end cut off":  {"[[step]]\ndo = \"cut\"\ndrop = [\"0x208..0x2FF\"]", "0x200"},
		"its begin cut":    {"[[step]]\ndo = \"cut\"\ndrop = [\"0x200..0x207\"]", "0x208"},
		"all of it cut":    {"[[step]]\ndo = \"cut\"\ndrop = [\"part.two\"]", "nothing of it is left since"},
		"kept by a part":   {"[[step]]\ndo = \"convert\"\nin = [\"part.one\"]", "nothing of it is left since"},
		"swapped in whole": {"[[step]]\ndo = \"convert\"\nswap = 4", "0x200"},
		"swapped in part":  {"[[step]]\ndo = \"convert\"\nswap = 8", "are mixed with others in words of 8 bytes since"},
		"lanes":            {"[[step]]\ndo = \"merge\"\nlanes = true", "its bytes are interleaved with those of the other lanes since"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			write(t, dir, "one.bin", "0123456789abcdef")
			write(t, dir, "two.bin", "ABCDEFGHIJKLMNOP")
			text := strings.Replace(moving, "STEP", c.step, 1)
			if strings.Contains(name, "in part") {
				text = strings.Replace(text, `"0x200"`, `"0x112"`, 1)
				write(t, dir, "one.bin", "0123456789abcdefgh")
				write(t, dir, "two.bin", "ABCDEF")
			}
			r, _, err := run(t, dir, text, Options{})
			if !strings.HasPrefix(c.want, "0x") {
				require.Error(t, err)
				assert.Contains(t, allText(err), c.want)
				assert.Contains(t, allText(err), "x.release.toml:10")
				return
			}
			require.NoError(t, err)
			pointer := make([]byte, 4)
			m := r.Products[0].Image
			all, _ := m.Span()
			require.True(t, m.ReadAt(pointer, all.First))
			at := uint64(pointer[0]) | uint64(pointer[1])<<8
			assert.Equal(t, c.want, fmt.Sprintf("0x%X", at))
			o, ok := m.Origin(at)
			require.True(t, ok)
			assert.Contains(t, o.String(), "two.bin", "its bytes are there")

			// The manifest tells of it too: what is explained there is the part.
			manifest, err := proof.Load(&source.Files{}, r.Manifest)
			require.NoError(t, err)
			assert.NotContains(t, fmt.Sprint(manifest.Products[0].Inputs), "0x0")
		})
	}
}

func confirmed(t *testing.T, manifest string) bool {
	c, err := proof.Confirm(&source.Files{}, manifest, proof.Confirming{Tool: "test"}, Again(context.Background(), Options{}))
	require.NoError(t, err)
	return c.Confirmed()
}

// TestAReleaseDoesNotDependOnTheFolder runs the same release from several folders, of
// which some have a map of the shipped name, or settings, of their own.
func TestAReleaseDoesNotDependOnTheFolder(t *testing.T) {
	dir := folder(t)
	write(t, dir, "x.release.toml", small)
	shipped := read(t, filepath.Join("..", "device", "maps"), "brindle-b8-32.device.toml")
	other := strings.Replace(shipped, "CRC-32/ISO-HDLC", "CRC-32/BZIP2", 1)
	require.NotEqual(t, shipped, other)
	want := ""
	for _, name := range []string{"beside", "none", "map", "settings"} {
		away := t.TempDir()
		switch name {
		case "beside":
			away = dir
		case "map":
			write(t, away, "brindle-b8-32.device.toml", other)
		case "settings":
			write(t, away, ".mexalt.toml", "device = \"other\"\n")
			write(t, away, "other.device.toml", other)
		}
		t.Chdir(away)
		manifest := made(t, dir, "x.release.toml", Options{})
		hex := read(t, dir, "2.4.1.hex")
		if want == "" {
			want = hex
		}
		assert.Equal(t, want, hex, name)
		assert.True(t, confirmed(t, manifest), name)
		assert.Contains(t, read(t, "", manifest), `"file": "brindle-b8-32.device.toml",`+"\n   "+`"role": "shipped device map"`, name)
	}

	// Beside the release file, one of that name is meant.
	write(t, dir, "brindle-b8-32.device.toml", other)
	manifest := made(t, dir, "x.release.toml", Options{})
	assert.NotEqual(t, want, read(t, dir, "2.4.1.hex"))
	assert.NotContains(t, read(t, "", manifest), "shipped device map")
	assert.True(t, confirmed(t, manifest))
}

// TestRegionsThatChangeLater fills and seals regions, and then sets the boot size that
// they depend on.
func TestRegionsThatChangeLater(t *testing.T) {
	dir := folder(t)
	for name, c := range map[string]struct{ first, then, want string }{
		"fill": {"do = \"fill\"\nin = [\"application\"]\nwith = \"FF\"", "do = \"config\"\nwords = { boot_size = \"1 KiB\" }",
			"application"},
		"fill, by all": {"do = \"fill\"\nwith = \"FF\"", "do = \"config\"\nwords = { boot_size = \"1 KiB\" }", "application"},
		"seal":         {"do = \"seal\"", "do = \"config\"\nwords = { boot_size = \"1 KiB\" }", "application"},
		"the same":     {"do = \"fill\"\nin = [\"application\"]\nwith = \"FF\"", "do = \"config\"\nwords = { boot_size = \"2 KiB\" }", ""},
		"the other":    {"do = \"config\"\nwords = { boot_size = \"1 KiB\" }", "do = \"fill\"\nin = [\"application\"]\nwith = \"FF\"", ""},
	} {
		text := strings.Replace(small, "do = \"fill\"\nin = [\"application\"]\nwith = \"FF\"\n[[step]]\ndo = \"seal\"",
			c.first+"\n[[step]]\n"+c.then, 1) +
			"[check]\naccept = [\"boot-section\", \"checksum-absent\", \"checksum-wrong\", \"config-partial\"]\n"
		_, _, err := run(t, dir, text, Options{Dry: true})
		if c.want == "" {
			if err != nil {
				assert.NotContains(t, allText(err), "has used it", name)
			}
			continue
		}
		require.Error(t, err, name)
		assert.Regexp(
			t,
			`x\.release\.toml:1\d:3: error: this step makes region `+c.want+
				` 0x0000\.\.0x7BFF, and line 12 has used it as 0x0000\.\.0x77FF`,
			allText(err),
			name,
		)
	}
	// An input's place uses its region too, as a number does not.
	for at, used := range map[string]bool{"bootloader.first": true, "bootloader.first + 16": true, "0x7810": false} {
		_, _, err := run(t, dir, `name = "x"
device = "brindle-b8-32"
[[input]]
name = "boot"
file = "calibration.bin"
at = "`+at+`"
[[step]]
do = "config"
words = { boot_size = "1 KiB" }
[[output]]
file = "x.hex"
[check]
accept = ["boot-section", "checksum-absent", "checksum-wrong", "config-partial", "start-erased", "start-missing", "region-erased", "missing-part"]
`, Options{Dry: true})
		said := ""
		if err != nil {
			said = allText(err)
		}
		assert.Equal(t, used,
			strings.Contains(said, "this step makes region bootloader 0x7C00..0x7FFF, and line 6 has used it as 0x7800..0x7FFF"),
			"%s: %s", at, said)
	}
}

// TestTextsOfSteps gives steps texts and files with backslashes, as they are meant; and an
// input without addresses a place by a step, where it is the only one.
func TestTextsOfSteps(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "a.bin", "0123456789abcdef")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "values"), 0o777))
	write(t, dir, "values/v.bin", "VV")
	_, _, err := run(t, dir, `name = "x"
[[input]]
name = "a"
file = "a.bin"
[[step]]
do = "place"
at = 0x40
[[step]]
do = "patch"
at = 0x40
values = [{ text = "a\\\\b" }, { file = "values\\v.bin" }]
[[output]]
file = "x.s19"
header = "c\\\\d"
[[output]]
file = "x.bin"
`, Options{Tool: "test"})
	require.NoError(t, err)
	assert.Equal(t, "a\\bVV56789abcdef", read(t, dir, "x.bin"))
	assert.Contains(t, read(t, dir, "x.s19"), fmt.Sprintf("%X", "c\\d"))
	_, _, err = run(t, dir, `name = "x"
[[input]]
name = "a"
file = "a.bin"
[[input]]
name = "b"
file = "values/v.bin"
[[step]]
do = "place"
at = 0x40
[[output]]
file = "x.s19"
`, Options{Tool: "test"})
	require.Error(t, err)
	assert.Contains(t, allText(err), "a.bin contains raw bytes, which have no addresses, and no place is given")
}

// TestWhatIsReadIsRecorded releases 50 variants of 1,000 inputs: none of them is
// forgotten, by what writes outputs, rules for make, watches, manifests and bills.
func TestWhatIsReadIsRecorded(t *testing.T) {
	dir := t.TempDir()
	const variants, inputs = 50, 20
	text := strings.Builder{}
	text.WriteString("name = \"many\"\n[set]\nover = \"-\"\n")
	for i := range inputs {
		fmt.Fprintf(&text, "in%d = \"-\"\n", i)
	}
	for i := range inputs {
		fmt.Fprintf(&text, "[[input]]\nname = \"i%d\"\nfile = \"{in%d}\"\nat = %d\n", i, i, i*16)
	}
	text.WriteString("[[output]]\nfile = \"{variant}.hex\"\n[[output]]\nfile = \"{over}\"\nto = \"raw\"\nholes = \"FF\"\n")
	for v := range variants {
		fmt.Fprintf(&text, "[[variant]]\nname = \"v%d\"\nset = { over = \"over%d.bin\"", v, v)
		for i := range inputs {
			name := fmt.Sprintf("f%d.bin", v*inputs+i)
			write(t, dir, name, fmt.Sprintf("bytes %4d", v*inputs+i))
			fmt.Fprintf(&text, ", in%d = %q", i, name)
		}
		text.WriteString(" }\n")
	}
	depfile := filepath.Join(dir, "many.d")
	r, files, err := run(t, dir, text.String(), Options{Depfile: depfile, Bill: true, Provenance: true, Tool: "test"})
	require.NoError(t, err)
	assert.Len(t, r.Products, variants)
	manifest, rule := read(t, "", r.Manifest), read(t, "", depfile)
	bill, provenance := read(t, dir, "x"+proof.BillExtension), read(t, dir, "x"+proof.ProvenanceExtension)
	var m struct {
		Read []struct{ File string }
	}
	require.NoError(t, json.Unmarshal([]byte(manifest), &m))
	inputsOf := map[string]int{}
	for _, one := range m.Read {
		inputsOf[one.File]++
	}
	recorded := map[string]bool{}
	for _, one := range files.Recorded() {
		recorded[filepath.Base(one.Name)] = true
	}
	for i := range variants * inputs {
		name := fmt.Sprintf("f%d.bin", i)
		require.Equal(t, 1, inputsOf[name], "the manifest has %s", name)
		require.Contains(t, rule, name+" ")
		require.True(t, recorded[name], name)
		require.Contains(t, bill, `"`+name+`"`)
		require.Contains(t, provenance, name+`"`)
	}

	// An output that is one of them is refused, whichever it is.
	for _, i := range []int{0, 99, 100, 101, 500, 999} {
		name := fmt.Sprintf("f%d.bin", i)
		was, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		_, _, err = run(t, dir, strings.Replace(text.String(), "over49.bin", name, 1), Options{})
		require.ErrorContains(t, err, name)
		is, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, was, is)
	}
}

// TestNamesOfFiles uses names that are built in before sets in a file name, and outputs
// that are called like what a release writes beside them.
func TestNamesOfFiles(t *testing.T) {
	dir := folder(t)
	r, _, err := run(t, dir, strings.Replace(small, "{version}.hex", "{name}-{variant}-{version}.hex", 1)+"[[variant]]\nname = \"a\"\n",
		Options{})
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(dir, "gauge-a-2.4.1.hex"))
	assert.NotEmpty(t, r.Manifest)
	for _, name := range []string{"x.manifest.json", ".x.journal", ".x.journal.lock", "x.units.jsonl"} {
		_, _, err := run(t, dir, strings.Replace(small, "file = \"{version}.hex\"", "file = \""+name+"\"\nto = \"hex\"", 1), Options{})
		assert.Error(t, err, name)
	}
}

func TestNamesOfFilesAreThoseFromTheReleaseFile(t *testing.T) {
	whole := filepath.Join(t.TempDir(), "a.hex")
	f := &File{folder: filepath.Join("some", "folder")}
	for name, want := range map[string]string{
		"-": "-", whole: whole, "a.hex": filepath.Join("some", "folder", "a.hex"), "../a.hex": filepath.Join("some", "a.hex"),
		"./-": filepath.Join("some", "folder", "-"),
	} {
		assert.Equal(t, want, f.path(name), name)
	}
}
