package release

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

const secretText = `name = "lock"
secret = ["key", "pin"]
[set]
key = ""
pin = ""
colour = "red"
[[input]]
name = "in"
file = "in.bin"
at = 0
[[step]]
do = "patch"
at = 16
values = [{ bytes = "{key}", size = 16 }, { text = "{pin}", size = 8 }, { number = "{pin}", size = 4 }]
[[output]]
file = "lock.hex"
[[output]]
file = "lock.txt"
text = "{pin} {colour}"
`

// TestWhereSecretsMayStand refuses each place in which a secret would be seen.
func TestWhereSecretsMayStand(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in.bin", strings.Repeat("firmware", 8))
	given := Options{Secrets: map[string]string{"key": "00112233445566778899AABBCCDDEEFF", "pin": "123456"}, Dry: true}
	_, _, err := run(t, dir, secretText, given)
	require.NoError(t, err)
	const shows = "shows pin, which is secret; expected a secret in the values of steps, or in an output's text"
	for change, want := range map[string]string{
		"secret = [\"key\", \"pin\"]>secret = [\"key\", \"pin\", \"pim\"]": "pim is not a variable of [set] (did you mean pin?)",
		"pin = \"\">pin = \"1234\"": "pin is secret, and its value is in the release file; " +
			"expected pin = \"\"",
		"colour = \"red\">colour = \"red {pin}\"":                                                                                         "x.release.toml:6:1: error: " + shows,
		"name = \"lock\">name = \"lock\"\ndevice = \"{pin}\"":                                                                             "x.release.toml:2:1: error: " + shows,
		"name = \"lock\">name = \"lock\"\nboard = \"{pin}\"":                                                                              "x.release.toml:2:1: error: " + shows,
		"file = \"in.bin\">file = \"{pin}.bin\"":                                                                                          shows,
		"name = \"in\">name = \"in\"\nregion = \"{pin}\"":                                                                                 shows,
		"file = \"lock.hex\">file = \"{pin}.hex\"":                                                                                        shows,
		"file = \"lock.hex\">file = \"lock.hex\"\nheader = \"{key}\"":                                                                     "shows key, which is secret",
		"[[output]]\nfile = \"lock.hex\">[[step]]\ndo = \"patch\"\nat = 0\nfile = \"{pin}\"\n[[output]]\nfile = \"lock.hex\"":             shows,
		"[[output]]\nfile = \"lock.hex\">[[variant]]\nname = \"a\"\nset = { pin = \"1234\" }\n[[output]]\nfile = \"{variant}.hex\"":       "pin is secret, and its value is in the release file; expected no value of it",
		"[[output]]\nfile = \"lock.hex\">[[variant]]\nname = \"a\"\nset = { colour = \"{pin}\" }\n[[output]]\nfile = \"{variant}.hex\"":   shows,
		"[[output]]\nfile = \"lock.hex\">[[variant]]\nname = \"a\"\ninput = { in = \"{pin}.bin\" }\n[[output]]\nfile = \"{variant}.hex\"": shows,
		"[[output]]\nfile = \"lock.hex\">[[variant]]\nname = \"a\"\ndevice = \"{pin}\"\n[[output]]\nfile = \"{variant}.hex\"":             shows,
		"[[output]]\nfile = \"lock.hex\">[[variant]]\nname = \"a\"\nboard = \"{pin}\"\n[[output]]\nfile = \"{variant}.hex\"":              shows,
	} {
		from, to, _ := strings.Cut(change, ">")
		require.Equal(t, 1, strings.Count(secretText, from), from)
		_, _, err := run(t, dir, strings.Replace(secretText, from, to, 1), given)
		assert.ErrorContains(t, err, want, change)
	}
	for name, c := range map[string]struct {
		o    Options
		want string
	}{
		"on the command line": {Options{Set: map[string]string{"pin": "123456"}},
			"pin is secret, and others see what is on a command line; give a file with its value"},
		"of another name": {Options{Secrets: map[string]string{"pim": "123456"}}, "has no secret pim; did you mean pin?"},
		"none": {Options{Secrets: map[string]string{"key": "00112233"}},
			"pin is secret, and has no value; expected a file with its value, or a column of the table of units"},
		"too short": {Options{Secrets: map[string]string{"key": "00112233", "pin": "123"}},
			"pin is secret, and too short for that; expected 4 characters or more"},
	} {
		c.o.Dry = true
		_, _, err := run(t, dir, secretText, c.o)
		assert.ErrorContains(t, err, c.want, name)
	}
	_, _, err = run(t, dir, small, Options{Secrets: map[string]string{"pin": "123456"}})
	assert.ErrorContains(t, err, "has no secrets")
	f := &File{table: fileTable{Secret: []string{"pin"}}}
	for values, want := range map[string]bool{"{pin}": true, "a {pin} b": true, "{colour}": false, "pin": false} {
		assert.Equal(t, want, f.usesSecret(map[string]any{"values": []any{map[string]any{"text": values}}}), values)
	}
}

// TestSecretsAreHidden takes secrets out of texts, in each form that texts of this program give
// them.
func TestSecretsAreHidden(t *testing.T) {
	f := &File{table: fileTable{Secret: []string{"key", "pin", "word", "none"}}}
	values := map[string]string{"key": "DEADBEEF00112233445566778899AABBCCDDEEFF", "pin": "123456", "word": "a\"b\tc", "none": "",
		"open": "open"}
	h := f.newHider(values)
	for _, form := range []string{
		"DEADBEEF00112233445566778899AABBCCDDEEFF", "deadbeef00112233445566778899aabbccddeeff",
		"DE AD BE EF 00 11 22 33 44 55 66 77 88 99 AA BB CC DD EE FF",
		"de ad be ef 00 11 22 33 44 55 66 77 88 99 aa bb cc dd ee ff", "DE AD BE EF 00 11 22 33 44 55 66 77 88 99 AA BB",
		"123456", "1E240", "1e240", "0x1E240", "40 E2 01 00", "00 01 E2 40", "40E20100", "0001E240", "01 E2 40",
		"00 00 00 00 00 01 E2 40", "31 32 33 34 35 36",
		"a\"b\tc", `a\"b\tc`, "61 22 62 09 63",
	} {
		assert.Equal(t, "it is (secret).", h.text("it is "+form+"."), form)
	}
	for _, text := range []string{"open", "12345", "DE AD", "E2 41", "", "none"} {
		assert.Equal(t, text, h.text(text))
	}
	assert.Nil(t, f.newHider(map[string]string{"open": "value"}))
	assert.Equal(t, "abc", f.newHider(map[string]string{"key": "abc"}).text("abc"), "too short to be told from others")
	var none *hider
	assert.Equal(t, "123456", none.text("123456"))

	problems := &source.Problems{}
	problems.Add(&source.Problem{
		File: "f", What: "what 123456", Expected: "expected 123456",
		Advice: source.Advice{Text: "advice 123456", AnyOf: []source.Setting{{Key: "set", Value: "123456"}}},
	})
	p := &Product{
		problems: problems, Notes: []string{"note 123456"},
		Steps:   []StepResult{{Changes: []string{"change 123456"}, Notes: []string{"step 123456"}}},
		Checked: &check.Result{Findings: []check.Finding{{What: "finds 123456", Expected: "123456", Place: check.Place{Text: "123456"}}}},
	}
	none.product(p)
	assert.Equal(t, 10, strings.Count(allSaid(p), "123456"))
	h.product(p)
	assert.NotContains(t, allSaid(p), "123456")
	assert.Equal(t, 10, strings.Count(allSaid(p), hidden))

	// A digest stands in the place of each, with the batch's salt.
	shown := f.shown(values, "salt")
	assert.Equal(t, "open", shown["open"])
	assert.Regexp(t, `^secret:[0-9a-f]{32}$`, shown["pin"])
	assert.NotEqual(t, shown["pin"], shown["key"])
	assert.Equal(t, shown, f.shown(values, "salt"))
	assert.NotEqual(t, shown["pin"], f.shown(values, "other")["pin"])
	assert.Equal(t, "123456", values["pin"], "what is given stays")
	assert.Equal(t, values, (&File{}).shown(values, "salt"))
	assert.Empty(t, (&File{}).newSalt("none"))
	assert.Regexp(t, `^[0-9a-f]{32}$`, f.newSalt("none"))
	assert.NotEqual(t, f.newSalt("none"), f.newSalt("none"))
}

// allSaid is all that a product says of itself.
func allSaid(p *Product) string {
	q := p.problems.Sorted()[0]
	return fmt.Sprint(q.What, q.Expected, q.Advice.Text, q.Advice.AnyOf, p.Notes, p.Steps[0].Changes, p.Steps[0].Notes,
		p.Checked.Findings[0].What, p.Checked.Findings[0].Expected, p.Checked.Findings[0].Place.Text)
}

// TestFilesOfSecrets reads a secret from a file that its owner alone can read.
func TestFilesOfSecrets(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "pin")
	for text, want := range map[string]string{"123456": "123456", "123456\n": "123456", "123456\r\n": "123456", "12\n\n": "12\n",
		" 12 \n": " 12 "} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		got, err := ReadSecret(name)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	if runtime.GOOS != "windows" {
		for mode, ok := range map[os.FileMode]bool{0o600: true, 0o400: true, 0o700: true, 0o640: false, 0o604: false, 0o601: false,
			0o610: false, 0o602: false} {
			require.NoError(t, os.Chmod(name, mode))
			_, err := ReadSecret(name)
			if ok {
				assert.NoError(t, err, mode)
			} else {
				assert.ErrorContains(t, err,
					fmt.Sprintf("the file of a secret has the mode %04o, so that others can read it; expected 0600 (chmod 600)", mode))
			}
		}
	}
	_, err := ReadSecret(filepath.Join(dir, "none"))
	assert.ErrorContains(t, err, "no such file")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "long"), make([]byte, mostSecret+1), 0o600))
	_, err = ReadSecret(filepath.Join(dir, "long"))
	assert.Error(t, err)
}

// TestTablesOfSecrets makes units with secrets of their own: the table is read where its owner alone
// can read it, and its secrets are in the outputs and nowhere else.
func TestTablesOfSecrets(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("no such modes")
	}
	dir := t.TempDir()
	write(t, dir, "in.bin", strings.Repeat("firmware", 8))
	write(t, dir, "r.release.toml",
		"name = \"r\"\nunique = [\"serial\"]\nsecret = [\"pin\"]\n[set]\nserial = 0\npin = \"\"\n[[input]]\nname = \"all\"\nfile = "+
			"\"in.bin\"\nat = 0\n"+
			"[[step]]\ndo = \"patch\"\nat = 4\ntext = \"{pin}\"\n[[output]]\nfile = \"u-{serial}.bin\"\n")
	table := filepath.Join(dir, "units.csv")
	write(t, dir, "units.csv", "serial,pin\n1,481516\n2,234242\n")
	for _, mode := range []os.FileMode{0o644, 0o640, 0o604, 0o600} {
		require.NoError(t, os.Chmod(table, mode))
		files := &source.Files{Digest: true, Regular: true}
		f, err := Load(files, filepath.Join(dir, "r.release.toml"))
		require.NoError(t, err)
		units, err := f.RunUnits(context.Background(), files, table, Options{})
		if mode != 0o600 {
			assert.ErrorContains(t, err,
				fmt.Sprintf("a table with secrets has the mode %04o, so that others can read it; expected 0600 (chmod 600)", mode))
			assert.NoFileExists(t, filepath.Join(dir, "u-1.bin"))
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, 2, units.Made)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		text := read(t, dir, e.Name())
		assert.Equal(t, strings.HasPrefix(e.Name(), "u-1") || e.Name() == "units.csv", strings.Contains(text, "481516"), e.Name())
		assert.Equal(t, strings.HasPrefix(e.Name(), "u-2") || e.Name() == "units.csv", strings.Contains(text, "234242"), e.Name())
	}
	assert.Len(t, entries, 7)
}

// TestMakesRules writes names as make reads them.
func TestMakesRules(t *testing.T) {
	for name, want := range map[string]string{
		"a.hex": "a.hex", "a b.hex": `a\ b.hex`, "a#b": `a\#b`, "a$b": "a$$b", `a\ b`: `a\\\ b`, `a\\#`: `a\\\\\#`, "a\tb": "a\\\tb",
		`a\b`: `a\b`, `\ `: `\\\ `,
	} {
		assert.Equal(t, want, makeName(name), name)
	}
	dir := t.TempDir()
	write(t, dir, "in b.bin", "bytes")
	files := &source.Files{Digest: true}
	for range 2 { // each once
		_, err := files.ReadAll(filepath.Join(dir, "in b.bin"), "input", 100)
		require.NoError(t, err)
	}
	in := makeName(filepath.Join(dir, "in b.bin"))
	for _, c := range []struct {
		o    Options
		want string
	}{
		{Options{Depfile: "d"}, "a.hex b\\ c.hex: \\\n  " + in + "\n\n" + in + ":\n"},
		{Options{Depfile: "d", Stamp: "s"}, "s: \\\n  " + in + "\n\n" + in + ":\n"},
	} {
		file, err := c.o.rule(files, []string{"a.hex", "b c.hex"})
		require.NoError(t, err)
		var b strings.Builder
		require.NoError(t, file.Write(&b))
		assert.Equal(t, c.want, b.String())
		assert.Equal(t, "d", file.Name)
	}
	for _, name := range []string{"a\nb", "a\rb"} {
		_, err := (&Options{}).rule(files, []string{name})
		assert.ErrorContains(t, err, "has a line break in its name, which make cannot have")
	}
	o := Options{Stamp: filepath.Join(dir, "x", "..", "stamp"), Tool: "tool 1"}
	assert.ErrorContains(t, o.stampIs(filepath.Join(dir, "stamp")), "is an output; a stamp is a file of its own")
	assert.NoError(t, o.stampIs(filepath.Join(dir, "other")))
	assert.NoError(t, (&Options{}).stampIs(""))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "x"), 0o755))
	require.NoError(t, o.stamped(files))
	assert.Equal(t, "tool 1\n", read(t, dir, "stamp"))
	require.NoError(t, (&Options{}).stamped(files))
}

// TestStartsOfReleases writes release files to start from, and runs each.
func TestStartsOfReleases(t *testing.T) {
	image := func(at uint64, text string, start uint64) *memory.Image {
		m, _ := memory.FromBytes(at, []byte(text), &source.Input{Name: "f"})
		if start > 0 {
			m = m.WithStart(memory.Start{Kind: memory.LinearStart, Value: start})
		}
		return m
	}
	taken := map[string]bool{}
	for _, c := range [][2]string{{"boot.hex", "boot"}, {"dir/Boot.S19", "boot_2"}, {"boot-.bin", "boot_3"},
		{"9042 app.hex", "input_9042_app"}, {"0.hex", "input_0"}, {"é.hex", "input_"}, {"__a__.x", "a"}, {"a.b.c", "a_b"}} {
		assert.Equal(t, c[1], nameOf(c[0], taken), c[0])
	}
	text := (&Start{Name: "TG 1!", Run: "run", Keys: "keys", Override: "over", Units: "units", Inputs: []StartInput{
		{File: "app.hex", Image: image(0x1000, "version 2.4.1-rc1\x00", 0x1000)}, {File: "old.txt", Why: "is no image"},
		{File: "app.bin", At: "0x4000", Image: image(0x4000, "version 3.0\x00 of it", 0x4000)},
	}}).Text()
	for _, want := range []string{
		"# TG 1!: what goes in, what is done to it, what comes out. Run it with: run\n# All keys: keys\n", "name = \"TG 1!\"\n\n[set]",
		"; over overrides one\nversion = \"2.4.1-rc1\"\n",
		"[[input]]\nname = \"app\"\nfile = \"app.hex\"\nversion-at = \"0x1000\" ", "\n# old.txt: is no image\n",
		"[[input]]\nname = \"app_2\"\nfile = \"app.bin\"\nat = \"0x4000\"\n",
		"[[step]]\ndo = \"merge\"\nstart = \"app\" ", "# Steps run in order: place", "file = \"tg-1--{version}.hex\"",
		"set = { version = \"2.4.1-rc1\" }", "# Units: units makes one set",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "device =")
	assert.NotContains(t, text, "region =")
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	text = (&Start{Name: "TG", Device: "brindle-b8-32", Map: m, Inputs: []StartInput{
		{File: "app.hex", Image: image(0x10, "version 2.4.1\x00", 0)}, {File: "boot.hex", Image: image(0x7900, "b", 0)},
		{File: "both.hex", Image: image(0x77FF, "bb", 0)},
	}}).Text()
	assert.Contains(t, text, "name = \"app\"\nfile = \"app.hex\"\nregion = \"application\"        # all its bytes must be in this region\n"+
		"version-at = \"application.first + 0x10\" ")
	assert.Contains(t, text, "file = \"boot.hex\"\nregion = \"bootloader\"         # all its bytes must be in this region\n")
	assert.Contains(t, text, "file = \"both.hex\"\n\n")
}
