package release

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

const unitsText = `name = "u"
unique = ["serial"]
[set]
serial = 0
colour = "red"
[[input]]
name = "in"
file = "in.bin"
at = "0x100"
[[step]]
do = "patch"
at = "0x100"
values = [{ number = "{serial}", size = 4 }, { text = "{colour}", size = 8 }]
[[output]]
file = "FILE"
[[variant]]
name = "one"
[[variant]]
name = "two"
`

// bench is a folder in which units are made.
type bench struct {
	t   *testing.T
	dir string
}

func newBench(t *testing.T, file string) bench {
	b := bench{t, t.TempDir()}
	write(t, b.dir, "u.release.toml", strings.Replace(unitsText, "FILE", file, 1))
	write(t, b.dir, "in.bin", strings.Repeat("firmware", 8))
	return b
}

// run makes the units of a table.
func (b bench) run(table string, o Options) (*Units, error) {
	b.t.Helper()
	write(b.t, b.dir, "units.csv", table)
	files := &source.Files{Digest: true, Regular: true}
	f, err := Load(files, filepath.Join(b.dir, "u.release.toml"))
	require.NoError(b.t, err)
	if o.Variants == nil {
		o.Variants = []string{"one"}
	}
	return f.RunUnits(context.Background(), files, filepath.Join(b.dir, "units.csv"), o)
}

// names returns the outputs that are there.
func (b bench) names() (list []string) {
	all, err := filepath.Glob(filepath.Join(b.dir, "*"))
	require.NoError(b.t, err)
	for _, name := range all {
		if ending := filepath.Ext(name); ending == ".hex" || ending == ".bin" && filepath.Base(name) != "in.bin" || ending == ".jsonl" {
			list = append(list, filepath.Base(name))
		}
	}
	return list
}

// TestUnitsOfOtherFirmwareAreStale changes what units are made from, one thing at a
// time: a run that would make something else says so, and what it is, and makes nothing
// until it is told to make them again.
func TestUnitsOfOtherFirmwareAreStale(t *testing.T) {
	const table = "serial\n1\n2\n"
	for name, c := range map[string]struct {
		change  func(b bench)
		options Options
		what    string // "" is that they are the same
	}{
		"nothing":  {func(bench) {}, Options{}, ""},
		"time":     {func(b bench) { write(t, b.dir, "in.bin", strings.Repeat("firmware", 8)) }, Options{}, ""},
		"firmware": {func(b bench) { write(t, b.dir, "in.bin", strings.Repeat("Firmware", 8)) }, Options{}, "an input is another now"},
		"recipe": {func(b bench) { write(t, b.dir, "u.release.toml", read(t, b.dir, "u.release.toml")+"# \n") }, Options{},
			"the release file is another now"},
		"set":     {func(bench) {}, Options{Set: map[string]string{"colour": "blue"}}, "is another now"},
		"variant": {func(bench) {}, Options{Variants: []string{"two"}}, "the variant is another now"},
		"tool":    {func(bench) {}, Options{Tool: "mexalt 9"}, "the version of Mexalt is another now"},
		"output":  {func(b bench) { write(t, b.dir, "u-1.bin", strings.Repeat("x", 64)) }, Options{}, "u-1.bin was changed since"},
		"no log line": {func(b bench) { write(t, b.dir, "u.units.jsonl", logWithoutFrom(t, b)) }, Options{},
			"the version of Mexalt, which did not say from what it made them"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "u-{serial}.bin")
			u, err := b.run(table, Options{})
			require.NoError(t, err)
			require.Equal(t, 2, u.Made)
			before := read(t, b.dir, "u-2.bin")
			c.change(b)
			for _, dry := range []bool{true, false} {
				o := c.options
				o.Dry = dry
				u, err := b.run(table, o)
				if c.what == "" {
					require.NoError(t, err)
					assert.Equal(t, [2]int{0, 2}, [2]int{u.Made, u.Before})
					continue
				}
				var stale *StaleError
				require.ErrorAs(t, err, &stale)
				assert.Contains(t, stale.Units[0], "units.csv:2: the unit with serial 1 was made before: ")
				assert.Contains(t, stale.Units[0], c.what)
				assert.Equal(t, before, read(t, b.dir, "u-2.bin"), "nothing was made")
			}
			if c.what == "" {
				return
			}
			o := c.options
			o.Again = true
			u, err = b.run(table, o)
			require.NoError(t, err)
			assert.Equal(t, 2, u.Made)
			if name == "firmware" {
				assert.Contains(t, read(t, b.dir, "u-2.bin"), "mwareFirmware")
			}
			o.Again = false
			u, err = b.run(table, o)
			require.NoError(t, err)
			assert.Equal(t, 2, u.Before)
		})
	}
}

// logWithoutFrom is the log as an earlier version wrote it.
func logWithoutFrom(t *testing.T, b bench) string {
	return regexp.MustCompile(`,"from":\{[^}]*\}`).ReplaceAllString(read(t, b.dir, "u.units.jsonl"), "")
}

// TestATableIsProvenBeforeAnythingIsMade has rows that cannot be made, in the middle and
// by names that are only known when their bytes are: nothing is made, in a dry run and in
// another.
func TestATableIsProvenBeforeAnythingIsMade(t *testing.T) {
	many := func(row string) string { return "serial\n1\n2\n3\n" + row + "\n5\n6\n" }
	for name, c := range map[string]struct{ file, table, want string }{
		"a value that does not fit": {"u-{serial}.bin", many("0x1_0000_0000"), "0x1_0000_0000 does not fit into 4 bytes"},
		"a text that does not fit": {"u-{serial}.bin", "serial,colour\n1,red\n2,ultramarine\n",
			"text: 11 bytes are longer than a size of 8, by 3"},
		"one name by its size": {"u-{size:image}.bin", many("4"), "as the one in line 2"},
		"one name in other letters": {"u-{colour}.bin", "serial,colour\n1,red\n2,RED\n",
			"the unit would make u-RED.bin, as the one in line 2"},
		"one name by another way":     {"{colour}.bin", "serial,colour\n1,y\n2,./y\n", "units.csv:3: error: "},
		"one number in other digits":  {"u-{colour}.bin", "serial,colour\n16,a\n0x10,b\n", "error: serial 0x10 is given twice; expected"},
		"and with zeros before it":    {"u-{colour}.bin", "serial,colour\n16,a\n016,b\n", "serial 016 is given twice"},
		"no serial number":            {"{serial}.bin", many(`""`), "error: serial is empty; expected a value that no other unit has"},
		"a name that is no name":      {"{colour}.bin", "serial,colour\n1,red\n2,\n", "the unit would make .bin, a name without its stem"},
		"no folder":                   {"{colour}/u.bin", "serial,colour\n1,none\n", "no folder"},
		"no unit":                     {"u-{serial}.bin", "serial\n", "the table has no unit"},
		"a file that is there by now": {"in{colour}.bin", "serial,colour\n1,\n", "in.bin"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, c.file)
			told := ""
			for _, dry := range []bool{true, false} {
				_, err := b.run(c.table, Options{Dry: dry})
				require.Error(t, err)
				var problems interface{ Unwrap() error }
				text := err.Error()
				if errors.As(err, &problems) {
					text += "\n" + allText(problems.Unwrap())
				}
				assert.Contains(t, text+allText(err), c.want)
				if dry {
					told = text
				} else {
					assert.Equal(t, told, text, "a dry run says the same")
				}
				assert.Empty(t, b.names())
				assert.Equal(t, strings.Repeat("firmware", 8), read(t, b.dir, "in.bin"))
			}
		})
	}
}

// allText is the text of all problems in an error.
func allText(err error) string {
	var list *source.Problems
	if !errors.As(err, &list) {
		return fmt.Sprint(err)
	}
	var all []string
	for _, p := range list.Sorted() {
		all = append(all, p.Error())
	}
	return strings.Join(all, "\n")
}

// TestHostileLogsOfUnits has logs that name files elsewhere, or that are no files.
func TestHostileLogsOfUnits(t *testing.T) {
	outside := t.TempDir()
	write(t, outside, "mine", "mine")
	for _, name := range []string{"../mine", filepath.Join(outside, "mine"), "a/../../mine", ".."} {
		b := newBench(t, "u-{serial}.bin")
		write(
			t,
			b.dir,
			"u.units.jsonl",
			fmt.Sprintf(`{"unit":1,"sets":{"serial":"1"},"outputs":[{"file":%q,"size":4,"sha256":"00"}]}`+"\n", name),
		)
		for _, dry := range []bool{true, false} {
			_, err := b.run("serial\n1\n", Options{Dry: dry})
			assert.ErrorContains(t, err, "u.units.jsonl:1: error: names the output ")
			assert.ErrorContains(t, err, "outside its folder")
		}
		assert.Equal(t, []string{"u.units.jsonl"}, b.names())
	}
	b := newBench(t, "u-{serial}.bin")
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "u.units.jsonl"), 0o755))
	_, err := b.run("serial\n1\n", Options{})
	assert.ErrorContains(t, err, "it is not a regular file")
	assert.Equal(t, "mine", read(t, outside, "mine"))
}

// TestUnitsThatAreDry makes none of them, and leaves nothing, but says what is wrong.
func TestUnitsThatAreDry(t *testing.T) {
	t.Parallel()
	b := newBench(t, "u-{serial}.bin")
	listing := func() (list []string) {
		all, err := os.ReadDir(b.dir)
		require.NoError(t, err)
		for _, one := range all {
			list = append(list, one.Name())
		}
		return list
	}
	for range 2 {
		u, err := b.run("serial\n1\n2\n", Options{Dry: true})
		require.NoError(t, err)
		assert.Equal(t, []int{2, 0}, []int{u.Made, u.Before})
		assert.Equal(t, []string{"in.bin", "u.release.toml", "units.csv"}, listing())
	}
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "u-2.bin"), 0o777))
	_, err := b.run("serial\n1\n2\n", Options{Dry: true})
	assert.ErrorContains(t, err, "u-2.bin")
	assert.NotContains(t, listing(), "u-1.bin")
}

// TestWhatIsUnique takes numbers for the same however they are written, and texts as they
// stand.
func TestWhatIsUnique(t *testing.T) {
	t.Parallel()
	for unique, same := range map[string]bool{"serial": true, "colour": false} {
		b := newBench(t, "u-{serial}-{colour}.bin")
		write(t, b.dir, "u.release.toml",
			strings.Replace(read(t, b.dir, "u.release.toml"), `unique = ["serial"]`, `unique = ["`+unique+`"]`, 1))
		table := "serial,colour\n16,a\n0x10,b\n"
		if !same {
			table = "serial,colour\n1,16\n2,0x10\n3,016\n"
		}
		_, err := b.run(table, Options{Tool: "test"})
		if same {
			assert.ErrorContains(t, err, "units.csv:3: error: ")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, []string{"u-1-16.bin", "u-2-0x10.bin", "u-3-016.bin", "u.units.jsonl"}, b.names())
	}
}

// TestSecretsOfUnitsAreSalted keeps digests of secrets with the batch's salt, another each time.
func TestSecretsOfUnitsAreSalted(t *testing.T) {
	t.Parallel()
	salts := map[string]bool{}
	for range 2 {
		b := newBench(t, "u-{serial}.bin")
		write(t, b.dir, "u.release.toml",
			strings.NewReplacer(`unique = ["serial"]`, "unique = [\"serial\"]\nsecret = [\"colour\"]", `colour = "red"`, `colour = ""`).
				Replace(read(t, b.dir, "u.release.toml")))
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, "units.csv"), nil, 0o600))
		u, err := b.run("serial,colour\n1,crimson\n2,blue\n", Options{Tool: "test"})
		require.NoError(t, err)
		assert.Equal(t, 2, u.Made)
		var m struct{ Salt string }
		text := read(t, b.dir, "u.units.manifest.json")
		require.NoError(t, json.Unmarshal([]byte(text), &m))
		assert.Len(t, m.Salt, 32)
		salts[m.Salt] = true
		for _, text := range []string{text, read(t, b.dir, "u.units.jsonl")} {
			assert.NotContains(t, text, "crimson")
			assert.NotContains(t, text, fmt.Sprintf("%x", sha256.Sum256([]byte("crimson"))))
		}
		// Those that were made before keep it.
		u, err = b.run("serial,colour\n1,crimson\n2,blue\n3,green\n", Options{Tool: "test"})
		require.NoError(t, err)
		assert.Equal(t, []int{1, 2}, []int{u.Made, u.Before})
		assert.Contains(t, read(t, b.dir, "u.units.manifest.json"), m.Salt)
	}
	assert.Len(t, salts, 2)
}

// TestWhatIsWrittenBesideUnits names a manifest after the rows and the table, and writes what is
// to be signed and what it was all made of.
func TestWhatIsWrittenBesideUnits(t *testing.T) {
	t.Parallel()
	b := newBench(t, "u-{serial}.bin")
	write(t, b.dir, "week 12.csv", "serial\n1\n2\n3\n")
	files := &source.Files{Digest: true, Regular: true}
	f, err := Load(files, filepath.Join(b.dir, "u.release.toml"))
	require.NoError(t, err)
	path := func(name string) string { return filepath.Join(b.dir, name) }
	o := Options{Tool: "test", Variants: []string{"two"}, ToSign: path("to.sign"), Depfile: path("u.d"), Stamp: path("u.stamp"),
		Rows: Rows{First: 2, Last: 3}}
	u, err := f.RunUnits(context.Background(), files, path("week 12.csv"), o)
	require.NoError(t, err)
	assert.Equal(t, 2, u.Made)
	manifest, err := filepath.Glob(path("*.manifest.json"))
	require.NoError(t, err)
	require.Len(t, manifest, 1)
	assert.Equal(t, "u-week 12-2-3.units.manifest.json", filepath.Base(manifest[0]))
	assert.Contains(t, read(t, b.dir, "to.sign"), "DSSEv1 ")
	assert.Contains(t, read(t, b.dir, "to.sign"), read(t, "", manifest[0]))
	assert.True(t, strings.HasPrefix(read(t, b.dir, "u.d"), path("u.stamp")+": "))
	for _, name := range []string{"in.bin", `week\ 12.csv`, "u.release.toml"} {
		assert.Contains(t, read(t, b.dir, "u.d"), name)
	}
	assert.FileExists(t, path("u.stamp"))
}
