package release

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/demo"
	"mexalt/internal/golden"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/release/proof"
	"mexalt/source"
)

func TestExpand(t *testing.T) {
	n := &names{values: map[string]string{"version": "2.4.1", "n": "7"}, used: map[string]bool{}}
	for text, want := range map[string]string{
		"plain": "plain", "{version}": "2.4.1", "v{version}-{n}.hex": "v2.4.1-7.hex", "{{version}}": "{version}", "a}}b": "a}b", "": "",
	} {
		got, err := n.expand(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for text, want := range map[string]string{
		"{versoin}": "{versoin} is not a variable of [set]; did you mean version?", "{": "a brace is not closed",
		"}":     "a closing brace without an opening one",
		"{a b}": "{a b} is not a name", "{md5:x}": `{md5:x}: "md5" is not valid; choose one of crc, size, sha256, file`,
	} {
		_, err := n.expand(text)
		assert.ErrorContains(t, err, want)
	}
	// A backslash of a value is one, and none of an escape of the text.
	n.values["src"] = `sub\new.hex`
	text := key.Text(new(string), "text", "TEXT", "").Escaped()
	got, err := n.expandFor(text, `{src}\n`)
	require.NoError(t, err)
	assert.Equal(t, `sub\\new.hex\n`, got)
	got, err = n.expandFor(key.Text(new(string), "file", "FILE", ""), "{src}")
	require.NoError(t, err)
	assert.Equal(t, "sub/new.hex", fileName(got))
	assert.Equal(t, `\\?\C:\x`, fileName(`\\?\C:\x`))
	_, err = n.expand("{crc:x}")
	assert.ErrorIs(t, err, errLater)
	n.made = func(kind, name string) (string, error) { return kind + "/" + name, nil }
	got, err = n.expand("{crc:x}{size:part.a}")
	require.NoError(t, err)
	assert.Equal(t, "crc/xsize/part.a", got)
}

func TestHoldsWord(t *testing.T) {
	for text, want := range map[string]bool{
		"TG-1 gauge 2.4.1": true, "2.4.1": true, "v=2.4.1;": true, "12.4.1": false, "2.4.10": false, "2.4.1.0": false, "2.4.1-rc1": true,
		"": false, "2.4.10 2.4.1": true, "v2.4.1": false, "{2.4.1}": true, "~2.4.1@": true, "V2.4.1": false, "2.4.1z": false,
		"@2.4.1_": false, "2.4.1\x80": true,
	} {
		assert.Equal(t, want, holdsWord(text, "2.4.1"), text)
	}
	assert.False(t, holdsWord("text", ""))
}

// folder is a folder with the demo's files in which release files are run.
func folder(t testing.TB) string {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.Files()))
	return dir
}

func write(t testing.TB, dir, name, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

func read(t testing.TB, dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(b)
}

// run runs a release file of a text.
func run(t testing.TB, dir, text string, o Options) (*Result, *source.Files, error) {
	write(t, dir, "x.release.toml", text)
	files := &source.Files{Digest: true}
	f, err := Load(files, filepath.Join(dir, "x.release.toml"))
	if err != nil {
		return nil, files, err
	}
	r, err := f.Run(context.Background(), files, o)
	return r, files, err
}

// made runs a release file in a folder and returns its manifest's name.
func made(t *testing.T, dir, name string, o Options) string {
	t.Helper()
	o.Tool = "test"
	files := &source.Files{Digest: true}
	f, err := Load(files, filepath.Join(dir, name))
	require.NoError(t, err)
	r, err := f.Run(context.Background(), files, o)
	require.NoError(t, err)
	return r.Manifest
}

const small = `name = "gauge"
device = "brindle-b8-32"
[set]
version = "2.4.1"
[[input]]
name = "boot"
file = "bootloader.hex"
[[input]]
name = "app"
file = "gauge-app.s19"
version-at = "0x34"
[[step]]
do = "fill"
in = ["application"]
with = "FF"
[[step]]
do = "seal"
[[output]]
name = "whole"
file = "{version}.hex"
[[input]]
name = "calibration"
file = "calibration.bin"
at = "calibration.first"
`

func TestMistakes(t *testing.T) {
	dir := folder(t)
	for _, c := range []struct{ old, new, want string }{
		{`name = "gauge"`, ``, "x.release.toml: error: the release has no name"},
		{`device = "brindle-b8-32"`, `device = "brindle"`, `x.release.toml:2:1: error: no such device map: brindle`},
		{`version = "2.4.1"`, "version = \"2.4.1\"\nmore = 1",
			"x.release.toml:5:1: error: variable more is never used (use {more} somewhere, or remove it from [set])"},
		{`version = "2.4.1"`, "version = \"{a}\"\na = \"{version}\"", "circle"},
		{`version = "2.4.1"`, "version = 2.5", "x.release.toml:4:1: error: version is 2.5; expected a number, or an expression in quotes"},
		{`name = "app"`, `name = "boot"`, "x.release.toml:9:1: error: two inputs are called boot"},
		{`name = "app"`, "name = \"app\"\nregion = \"bot\"",
			"x.release.toml:10:1: error: Brindle B8-32 has no region \"bot\"; known: application, bootloader"},
		{`name = "app"`, "name = \"app\"\nat = 0\nshift = 1", "x.release.toml:11:1: error: the input has a place already"},
		{`name = "app"`, "name = \"app\"\nregion = \"bootloader\"",
			"gauge-app.s19:2: error: app does not fit region bootloader: 24,310 bytes outside, first at 0x0000"},
		{`name = "app"`, "name = \"app\"\nsha256 = \"" + strings.Repeat("00", 32) + `"`, "x.release.toml:10:1: error: "},
		{`name = "app"`, "name = \"app\"\nfrom = \"hex\"", "error: "},
		{`name = "app"`, "name = \"app\"\nversion = \"2.4.2\"",
			`gauge-app.s19:3: error: app contains "TG-1 gauge 2.4.1" at 0x0034; expected`},
		{`version-at = "0x34"`, `version-at = "0x7000"`, "x.release.toml:11:1: error: app contains nothing at 0x7000"},
		{`file = "bootloader.hex"`, `file = "bootlader.hex"`, "did you mean"},
		{`do = "fill"`, `do = "flil"`, "x.release.toml:13:1: error: unknown operation flil (did you mean fill?)"},
		{`do = "fill"`, `do = "split"`, "x.release.toml:13:1: error: unknown operation split"},
		{`with = "FF"`, `with = "F"`, "x.release.toml:15:1: error: \"F\", character 2: 1 hex digit leaves half a byte"},
		{`with = "FF"`, `wth = "FF"`, "x.release.toml:15:1: error: unknown key wth (did you mean with?)"},
		{`with = "FF"`, "with = \"FF\"\nerased = true", "x.release.toml:1"},
		{`in = ["application"]`, `in = ["aplication"]`,
			`x.release.toml:14:7: error: "aplication": unknown name aplication (did you mean application?)`},
		{`in = ["application"]`, `in = [["application"], {}, 2024-01-01]`, "x.release.toml:14:"},
		{`do = "seal"`, `do = "merge"`, "x.release.toml:17:1: error: merge lays the inputs together, and can be the first step only"},
		{`do = "seal"`, "do = \"patch\"\nat = \"image.last\"\nvalues = [{ text = \"abc\" }]", "the image contains no bytes"},
		{`do = "seal"`, "do = \"patch\"\nat = 0\nvalues = [{ size = 4 }]",
			"x.release.toml:19:13: error: size: must follow the value it applies to"},
		{`file = "{version}.hex"`, `file = "../x.hex"`, `x.release.toml:20:1: error: "../x.hex" leaves the folder of the outputs`},
		{`file = "{version}.hex"`, `file = "/tmp/x.hex"`, `x.release.toml:20:1: error: "/tmp/x.hex" leaves the folder of the outputs`},
		{`file = "{version}.hex"`, `file = "x"`, "x.release.toml:20:1: error: the name x promises no format that is written"},
		{`file = "{version}.hex"`, `file = "x.elf"`, "x.release.toml:20:1: error: the name x.elf promises no format that is written"},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\nholes = \"FF\"", "x.release.toml:21:1: error: has no effect on Intel HEX"},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\nin = \"eeprom\"",
			"x.release.toml:5:3: error: no output contains anything of the input boot"},
		{`file = "{version}.hex"`, `file = "{sha256:more}.hex"`,
			"x.release.toml:20:1: error: file: {sha256:more}: no output before this one is called more"},
		{`file = "{version}.hex"`, `file = "{crc:x}.hex"`,
			"x.release.toml:20:1: error: file: {crc:x}: Brindle B8-32 declares no checksum x; "},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\n[[output]]\nname = \"whole\"\nfile = \"y.hex\"",
			"x.release.toml:22:1: error: two outputs are called whole"},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\n[check]\naccept = [\"nothing\"]", "error: unknown rule \"nothing\""},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\n[[variant]]\nname = \"a\"\nset = { x = 1 }",
			"x.release.toml:23:9: error: x is not a variable of [set]"},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\n[[variant]]\nname = \"a\"\n[[variant]]\nname = \"a\"",
			"x.release.toml:24:1: error: two variants are called a"},
		{`file = "{version}.hex"`, "file = \"{version}.hex\"\n[[variant]]\nname = \"a\"\n[[variant]]\nname = \"b\"", "the outputs"},
	} {
		require.Contains(t, small, c.old)
		_, _, err := run(t, dir, strings.Replace(small, c.old, c.new, 1), Options{})
		require.Error(t, err, c.new)
		text := err.Error()
		var problems *source.Problems
		if errors.As(err, &problems) {
			text = ""
			for _, p := range problems.Sorted() {
				text += strings.ReplaceAll(p.Error(), dir+"/", "") + "\n"
			}
		}
		assert.Contains(t, text, c.want, c.new)
	}
	_, err := os.Stat(filepath.Join(dir, "2.4.1.hex"))
	assert.ErrorIs(t, err, fs.ErrNotExist, "nothing was written of any of them")
	left, err := filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestWhatIsNoReleaseFile is given files of other kinds, and names that are nearly right.
func TestWhatIsNoReleaseFile(t *testing.T) {
	dir := folder(t)
	write(t, dir, "m.json", "{\n \"schema\": \"mexalt.manifest/3\"\n}\n")
	write(t, dir, "empty.toml", "")
	write(t, dir, "typed.toml", "name = 1\n")
	for name, want := range map[string]string{
		"tg1":              "tg1: no such file; did you mean " + filepath.Join(dir, "tg1.release.toml") + "?",
		"tg2.release.toml": "tg2.release.toml: no such file",
		"bootloader.hex":   "bootloader.hex: error: this is Intel HEX; expected a release file, NAME.release.toml",
		"station.elf":      "station.elf: error: this is an ELF file; expected a release file, NAME.release.toml",
		"m.json": "m.json: error: this is a manifest; expected a release file, NAME.release.toml (a manifest is " +
			"confirmed, not run)",
		"typed.toml": "typed.toml:1:1: error: name is 1; expected a text in quotes",
		"":           "cannot read " + dir + ": it is a folder",
	} {
		_, err := Load(&source.Files{Digest: true}, filepath.Join(dir, name))
		assert.ErrorContains(t, err, want, name)
	}
	f, err := Load(&source.Files{Digest: true}, filepath.Join(dir, "tg1.release.toml"))
	require.NoError(t, err)
	assert.Equal(t, []string{"harbour", "north"}, f.VariantNames())
	assert.Equal(t, []string{"application", "version"}, f.VariableNames())
	texts, places := f.Accepts()
	assert.Len(t, places, len(texts))
	assert.Equal(t, "data/x.hex", f.Relative(filepath.Join(dir, "data", "x.hex")))
}

func TestWhatIsTheSameKeepsItsTime(t *testing.T) {
	dir := folder(t)
	r, _, err := run(t, dir, small, Options{})
	require.NoError(t, err)
	assert.False(t, r.Products[0].Outputs[0].Same)
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "2.4.1.hex"), old, old))
	r, _, err = run(t, dir, small, Options{})
	require.NoError(t, err)
	assert.True(t, r.Products[0].Outputs[0].Same)
	info, err := os.Stat(filepath.Join(dir, "2.4.1.hex"))
	require.NoError(t, err)
	assert.WithinDuration(t, old, info.ModTime(), time.Second)
	write(t, dir, "2.4.1.hex", "other")
	r, _, err = run(t, dir, small, Options{})
	require.NoError(t, err)
	assert.True(t, r.Products[0].Outputs[0].Replaced)
	assert.Greater(t, len(read(t, dir, "2.4.1.hex")), 1000)
}

func TestVariantsReadWhatTheyShareOnce(t *testing.T) {
	dir := folder(t)
	text := strings.Replace(small, "{version}.hex", "{variant}-{version}.hex", 1)
	for i := range 20 {
		text += fmt.Sprintf("[[variant]]\nname = \"v%d\"\n", i)
	}
	r, files, err := run(t, dir, text, Options{})
	require.NoError(t, err)
	assert.Len(t, r.Products, 20)
	count := map[string]int{}
	for _, f := range files.Recorded() {
		count[filepath.Base(f.Name)]++
	}
	assert.Equal(t, map[string]int{"x.release.toml": 1, "brindle-b8-32.device.toml": 1, "bootloader.hex": 1, "gauge-app.s19": 1,
		"calibration.bin": 1}, count)
	assert.Equal(t, read(t, dir, "v0-2.4.1.hex"), read(t, dir, "v19-2.4.1.hex"))
}

func TestLinksDoNotLeadOutOfTheFolder(t *testing.T) {
	dir, outside := folder(t), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "away")))
	_, _, err := run(t, dir, strings.Replace(small, "{version}.hex", "away/x.hex", 1), Options{})
	assert.ErrorContains(t, err, "away/x.hex leaves the folder of the outputs: a link leads to ")
	require.NoError(t, os.Symlink(filepath.Join(outside, "y.hex"), filepath.Join(dir, "2.4.1.hex")))
	write(t, outside, "y.hex", "mine")
	_, _, err = run(t, dir, small, Options{})
	assert.ErrorContains(t, err, "leaves the folder of the outputs")
	assert.Equal(t, "mine", read(t, outside, "y.hex"))
	_, _, err = run(t, dir, small, Options{Folder: outside})
	require.NoError(t, err, "the folder that is named for the outputs is theirs")
}

// TestUnitsGoOn cuts the log at every byte, as a kill does, and runs again.
func TestUnitsGoOn(t *testing.T) {
	const units = 6
	dir := unitsFolder(t, units)
	runUnits := func() (*Units, error) {
		files := &source.Files{Digest: true}
		f, err := Load(files, filepath.Join(dir, "tg1.release.toml"))
		require.NoError(t, err)
		return f.RunUnits(context.Background(), files, filepath.Join(dir, "units.csv"), Options{})
	}
	u, err := runUnits()
	require.NoError(t, err)
	assert.Equal(t, units, u.Made)
	log := read(t, dir, "tg1.units.jsonl")
	want := map[string]string{}
	for i := range units {
		name := fmt.Sprintf("unit-%d.hex", 20_000+i)
		want[name] = read(t, dir, name)
	}
	for cut := 0; cut <= len(log); cut += 23 * golden.Every(4) {
		write(t, dir, "tg1.units.jsonl", log[:cut])
		// What was not begun by the log is not there.
		for name := range want {
			if serial := strings.TrimSuffix(strings.TrimPrefix(name, "unit-"),
				".hex"); !strings.Contains(log[:strings.LastIndex(log[:cut], "\n")+1], serial) {
				os.Remove(filepath.Join(dir, name))
			}
		}
		u, err := runUnits()
		require.NoError(t, err, "cut at %d", cut)
		assert.Equal(t, units, u.Made+u.Before)
		assert.Equal(t, strings.Count(log[:strings.LastIndex(log[:cut], "\n")+1], "outputs"), u.Before)
		for name, text := range want {
			require.Equal(t, text, read(t, dir, name))
		}
	}
	// An output that is not as large as the log says is made again.
	write(t, dir, "unit-20003.hex", "")
	u, err = runUnits()
	require.NoError(t, err)
	assert.Equal(t, 1, u.Made)
	assert.Equal(t, want["unit-20003.hex"], read(t, dir, "unit-20003.hex"))
	write(t, dir, "tg1.units.jsonl", "not a log\n")
	_, err = runUnits()
	assert.ErrorContains(t, err, "tg1.units.jsonl:1: error: is not a line of a log of units")
}

func TestMakeNames(t *testing.T) {
	for name, want := range map[string]string{
		"a.hex": "a.hex", "a b": `a\ b`, "a#b": `a\#b`, "$HOME": "$$HOME", `a\b`: `a\b`, `a\ b`: `a\\\ b`, "100%": "100%",
	} {
		assert.Equal(t, want, makeName(name))
	}
	_, err := depfile(&source.Files{}, []string{"a\nb"})
	assert.ErrorContains(t, err, "line break")
}

// TestWatch changes files as editors, copies and version control do.
func TestWatch(t *testing.T) {
	dir := folder(t)
	write(t, dir, "x.release.toml", small)
	ctx, stop := context.WithCancel(context.Background())
	runs := make(chan *Watched, 100)
	ended := make(chan error)
	go func() {
		ended <- Watch(ctx, filepath.Join(dir, "x.release.toml"), "", Options{}, func(w *Watched) { runs <- w })
	}()
	next := func(what string) *Watched {
		t.Helper()
		select {
		case w := <-runs:
			return w
		case <-time.After(20 * time.Second):
			t.Fatal("no run: " + what)
			return nil
		}
	}
	path := func(name string) string { return filepath.Join(dir, name) }
	first := next("the first")
	require.NoError(t, first.Err)
	assert.Contains(t, first.Text(), "application 24,310, 6,410 free; ")
	assert.Contains(t, first.Text(), "application_crc 788BB39D; "+path("2.4.1.hex"))

	app := read(t, dir, "gauge-app.s19")
	lines := strings.SplitAfter(app, "\n")
	shorter := strings.Join(slices.Delete(slices.Clone(lines), len(lines)-4, len(lines)-3), "")
	// As an editor does: a new file in the place of the old one. The count record
	// no longer holds, and the last good output stays.
	write(t, dir, "new", shorter)
	require.NoError(t, os.Rename(path("new"), path("gauge-app.s19")))
	w := next("replaced")
	assert.ErrorContains(t, w.Err, "count")
	assert.Equal(t, []string{path("gauge-app.s19")}, w.Changed)
	assert.FileExists(t, path("2.4.1.hex"))
	// Written slowly: it is waited for, and read once.
	f, err := os.Create(path("gauge-app.s19"))
	require.NoError(t, err)
	for part := range slices.Chunk([]byte(app), len(app)/8) {
		f.Write(part)
		time.Sleep(5 * time.Millisecond)
	}
	require.NoError(t, f.Close())
	for w = next("written slowly"); w.Err != nil; w = next("written slowly") {
		// On a slow machine a pause may be longer than what is taken for quiet.
	}
	assert.Contains(t, w.Text(), "all outputs as they were")
	// A folder that vanishes, and comes back.
	require.NoError(t, os.Rename(dir, dir+"-away"))
	for w = next("vanished"); w.Missing == nil; w = next("vanished") {
	}
	require.NoError(t, os.Rename(dir+"-away", dir))
	write(t, dir, "x.release.toml", strings.Replace(small, `with = "FF"`, `with = "00"`, 1))
	for w = next("came back"); w.Result == nil || w.Err != nil || strings.Contains(w.Text(), "all outputs"); w = next("came back") {
	}
	assert.Contains(t, w.Text(), "application_crc ")
	assert.NotContains(t, w.Text(), "788BB39D")
	stop()
	assert.NoError(t, <-ended)
}

func FuzzLoad(f *testing.F) {
	f.Add(small)
	f.Add(unitRelease)
	for _, name := range []string{"tg1.release.toml", "tg1-line.release.toml", "tg4.release.toml"} {
		text, err := fs.ReadFile(demo.Files(), name)
		require.NoError(f, err)
		f.Add(string(text))
	}
	dir := folder(f)
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "\x00") {
			return
		}
		write(t, dir, "f.release.toml", text)
		files := &source.Files{Digest: true}
		r, err := Load(files, filepath.Join(dir, "f.release.toml"))
		if err == nil {
			r.Run(context.Background(), files, Options{Dry: true})
		}
	})
}

func FuzzTable(f *testing.F) {
	f.Add("serial\n1\n2\n")
	f.Add("\xEF\xBB\xBFserial\r\n\"1\"\r\n")
	f.Add("serial,serial\n")
	dir := unitsFolder(f, 1)
	f.Fuzz(func(t *testing.T, text string) {
		write(t, dir, "units.csv", text)
		files := &source.Files{Digest: true}
		r, err := Load(files, filepath.Join(dir, "tg1.release.toml"))
		require.NoError(t, err)
		r.RunUnits(context.Background(), files, filepath.Join(dir, "units.csv"), Options{Dry: true})
	})
}

// TestStepsSayWhatTheyDid runs steps that leave no change behind, or prove a value: one that is
// another than the expected one is an error, and nothing is written.
func TestStepsSayWhatTheyDid(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in.bin", "123456789")
	run := func(steps string) (*Result, error) {
		write(t, dir, "x.release.toml", "name = \"x\"\n[[input]]\nname = \"in\"\nfile = \"in.bin\"\nat = 0\n"+steps+
			"[[output]]\nfile = \"o.hex\"\n")
		files := &source.Files{Digest: true, Regular: true}
		f, err := Load(files, filepath.Join(dir, "x.release.toml"))
		require.NoError(t, err)
		return f.Run(context.Background(), files, Options{Tool: "test"})
	}
	const at = "[[step]]\ndo = \"checksum\"\nin = \"0..8\"\n"
	for steps, want := range map[string][]string{
		at + "kind = [\"CRC-32/ISO-HDLC\", \"CRC-16/XMODEM\"]\n": {"CRC-32/ISO-HDLC 0xCBF43926 over 0x0000..0x0008 (9 bytes)",
			"CRC-16/XMODEM 0x31C3 over 0x0000..0x0008 (9 bytes)"},
		at + "store = 16\ngrow = true\n": {"CRC-32/ISO-HDLC 0xCBF43926 over 0x0000..0x0008 (9 bytes), stored " +
			"at 0x0010..0x0013, little-endian"},
		at + "expect = \"0xCBF43926\"\n":                        {"CRC-32/ISO-HDLC 0xCBF43926 over 0x0000..0x0008 (9 bytes), as expected"},
		"[[step]]\ndo = \"convert\"\nin = \"4..7\"\nswap = 4\n": {"kept 4 bytes in 0x0004..0x0007", "reversed the bytes in each word of 4"},
		"[[step]]\ndo = \"convert\"\n":                          {"nothing: neither a part is taken nor bytes are reversed"},
	} {
		r, err := run(steps)
		require.NoError(t, err, steps)
		require.Len(t, r.Products[0].Steps, 1)
		assert.Equal(t, want, r.Products[0].Steps[0].Changes)
		require.NoError(t, os.Remove(filepath.Join(dir, "o.hex")))
	}
	_, err := run(at + "expect = \"0xCBF43927\"\n")
	assert.ErrorContains(t, err,
		"x.release.toml:6:3: error: the value of CRC-32/ISO-HDLC over 0x0000..0x0008 (9 bytes) is 0xCBF43926; expected 0xCBF43927")
	assert.NoFileExists(t, filepath.Join(dir, "o.hex"))
}

// TestStepsOnOneInput changes inputs before they are laid in: a table is swapped and placed, a sum
// stored in it, a hole filled; the others are as they were, and each byte says where it came from.
func TestStepsOnOneInput(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "app.bin", "application")
	write(t, dir, "table.bin", "badcfehg")
	write(t, dir, "m.device.toml",
		"name = \"M\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = 256\n[[region]]\nname = \"app\"\nrole = "+
			"\"application\"\nfirst = 0\nsize = 64\n[[region]]\nname = \"table\"\nrole = \"data\"\nfirst = 0x40\nsize = 16\n")
	const text = `name = "x"
device = "m"
[[input]]
name = "app"
file = "app.bin"
at = 0
[[input]]
name = "table"
file = "table.bin"
region = "table"
[[step]]
do = "place"
of = "table"
at = "table.first"
[[step]]
do = "convert"
of = "table"
swap = 2
[[step]]
do = "patch"
of = "app"
at = "part.app.first"
text = "A"
[[step]]
do = "checksum"
of = "table"
kind = "CRC-16/XMODEM"
store = "part.table.last + 1"
grow = true
[[step]]
do = "fill"
with = "00"
in = "image"
[[output]]
file = "o.bin"
`
	run := func(text string) (*Result, error) {
		write(t, dir, "x.release.toml", text)
		files := &source.Files{Digest: true, Regular: true}
		f, err := Load(files, filepath.Join(dir, "x.release.toml"))
		require.NoError(t, err)
		return f.Run(context.Background(), files, Options{Tool: "test"})
	}
	r, err := run(text)
	require.NoError(t, err)
	out := read(t, dir, "o.bin")
	assert.Equal(t, "Application"+strings.Repeat("\x00", 0x40-11)+"abcdefgh", out[:0x48])
	assert.Equal(t, "\xFF\xAB", out[0x48:0x4A], "CRC-16/XMODEM of abcdefgh, little-endian")
	p := r.Products[0]
	var did []string
	for _, s := range p.Steps {
		did = append(did, s.Do)
	}
	assert.Equal(t, []string{"place of table", "convert of table", "patch of app", "checksum of table", "fill"}, did)
	assert.Equal(t, uint64(10), p.Inputs[1].Image.Bytes())
	o, ok := p.Image.Origin(0x40)
	require.True(t, ok)
	assert.Contains(t, o.String(), "table.bin+0x1")
	again, err := proof.Confirm(&source.Files{}, r.Manifest, proof.Confirming{Tool: "test"}, Again(context.Background(), Options{}))
	require.NoError(t, err)
	assert.True(t, again.Confirmed())

	for from, c := range map[string][2]string{
		"of = \"app\"":   {`of = "ap"`, "x.release.toml:21:1: error: there is no input \"ap\""},
		"do = \"patch\"": {`do = "seal"`, "seal works on the whole image; expected one of place, cut, convert, patch, fill, checksum"},
		"do = \"place\"\nof = \"table\"\nat = \"table.first\"": {`do = "place"` + "\nof = \"table\"\nat = \"table.first + 12\"",
			"table does not fit region table"},
		"[[step]]\ndo = \"checksum\"": {"[[step]]\ndo = \"cut\"\ndrop = \"0..1\"\n[[step]]\ndo = \"checksum\"",
			"this step is on one input, and follows one on the whole image"},
		"region = \"table\"":   {"region = \"table\"\nat = 0x40", "the input table has a place already"},
		"of = \"table\"\nswap": {"of = 5\nswap", `there is no input ""`},
	} {
		require.Contains(t, text, from)
		_, err := run(strings.Replace(text, from, c[0], 1))
		require.Error(t, err, c[0])
		assert.Contains(t, err.Error(), c[1], c[0])
	}
}

// TestSymbolsOfOneInput tells symbols of the same name in two programs apart.
func TestSymbolsOfOneInput(t *testing.T) {
	dir := folder(t)
	const text = `name = "x"
[[input]]
name = "old"
file = "station-3.0.0.elf"
[[input]]
name = "new"
file = "station.elf"
shift = "0x1000_0000"
[[input]]
name = "table"
file = "calibration.bin"
at = "0x2000_0000"
[[step]]
do = "merge"
start = "none"
[[step]]
do = "patch"
at = "part.table.first"
values = [{ number = "VALUE", size = 4 }]
[[output]]
file = "o.hex"
`
	value := func(expression string) (uint64, error) {
		r, _, err := run(t, dir, strings.Replace(text, "VALUE", expression, 1), Options{})
		if err != nil {
			return 0, err
		}
		var b [4]byte
		require.True(t, r.Products[0].Image.ReadAt(b[:], 0x2000_0000))
		return memory.Little.Number(b[:]), nil
	}
	old, err := value("part.old.symbol.tide_height.first")
	require.NoError(t, err)
	later, err := value("part.new.symbol.tide_height.first")
	require.NoError(t, err)
	assert.Less(t, old, uint64(0x1000_0000))
	assert.Greater(t, later, uint64(0x1000_0000))
	size, err := value("part.old.symbol.tide_height.size")
	require.NoError(t, err)
	assert.NotZero(t, size)
	for expression, what := range map[string]string{
		"symbol.tide_height.first":           "part.INPUT.symbol.tide_height is that of one input",
		"part.table.symbol.tide_height":      "the input table has no symbols; an ELF file has",
		"part.none.symbol.tide_height.first": "the input none has no symbols",
		"part.old.symbol.tide_hight.first":   "did you mean tide_height?",
	} {
		_, err := value(expression)
		require.Error(t, err, expression)
		assert.Contains(t, err.Error(), what)
	}
	// What is done to one program alone is followed for its symbols alone.
	alone := strings.Replace(text, "[[step]]",
		"[[step]]\ndo = \"place\"\nof = \"new\"\nshift = \"0x1000_0020\"\n[[step]]\ndo = \"convert\"\nof = \"old\"\nswap = 2\n[[step]]", 1)
	alone = strings.Replace(alone, "shift = \"0x1000_0000\"\n", "", 1)
	r, _, err := run(t, dir, strings.Replace(alone, "VALUE", "part.new.symbol.tide_height.first", 1), Options{})
	require.NoError(t, err)
	var b [4]byte
	require.True(t, r.Products[0].Image.ReadAt(b[:], 0x2000_0000))
	assert.Equal(t, later+0x20, memory.Little.Number(b[:]))
	assert.Equal(t, later, r.Products[0].Inputs[1].Program.Placed(later-0x1000_0000)-0x20, "its sections follow too")
	_, _, err = run(t, dir, strings.Replace(alone, "VALUE", "part.old.symbol.version.first", 1), Options{})
	require.ErrorContains(t, err, "its bytes are mixed with others in words of 2 bytes since x.release.toml:16")
}
