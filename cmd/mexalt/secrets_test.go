package main

import (
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const secretRelease = `name = "lock"
unique = ["serial"]
secret = ["key", "pin"]
[set]
serial = 0
key = ""
pin = ""
[[input]]
name = "in"
file = "in.bin"
at = 0
[[step]]
do = "patch"
at = 16
values = [{ bytes = "{key}", size = 16 }, { text = "{pin}", size = 8 }, { number = "{pin}", size = 4 }]
[[step]]
do = "patch"
at = 60
number = "{serial}"
size = 4
[[output]]
file = "{serial}.hex"
[[output]]
file = "{serial}.c"
`

// TestSecretsAreShownNowhere makes releases and units with a key and a number that are secret,
// and such that fail because of them; of all that is printed and written, only the outputs hold
// the values, in whatever form.
func TestSecretsAreShownNowhere(t *testing.T) {
	f := emptyFolder(t)
	key, pin := "0f1e2d3c4b5a69788796a5b4c3d2e1f0", "81726354"
	raw, err := hex.DecodeString(key)
	require.NoError(t, err)
	spaced := strings.ToUpper(strings.TrimSpace(strings.Join(pairs(key), " ")))
	forms := []string{key, strings.ToUpper(key), spaced, spaced[:20], pin, string(raw[:6]), "0x4DF1052", "4df1052", "52 10 DF 04",
		"38 31 37 32"}
	var printed strings.Builder
	run := func(line string, status int) string {
		t.Helper()
		r := f.line(line)
		assert.Equal(t, status, r.status, "%s: %s%s", line, r.out, r.err)
		printed.WriteString(line + "\n" + r.out + r.err)
		return r.out + r.err
	}
	private := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(f.path(name), []byte(text), 0o600))
	}
	require.NoError(t, os.Mkdir(f.path("secret"), 0o700))
	require.NoError(t, os.Mkdir(f.path("made"), 0o755))
	f.write("in.bin", strings.Repeat("firmware", 16))
	f.write("lock.release.toml", secretRelease)
	private("secret/key", key+"\n")
	private("secret/pin", pin+"\r\n")
	private("secret/units.csv", "serial,key,pin\n7,"+key+","+pin+"\n8,"+strings.Repeat("ab", 16)+",12345678\n")
	given := " -secret key=secret/key -secret pin=secret/pin"

	// One product.
	assert.Contains(t, run("release lock.release.toml -set serial=5"+given, 0), "done; what it was given is secret")
	manifest := f.read("lock.manifest.json")
	assert.Regexp(t, `"salt": "[0-9a-f]{32}"`, manifest)
	assert.Regexp(t, `"key": "secret:[0-9a-f]{32}"`, manifest)
	run("release lock.release.toml -set serial=5 -dry-run -json"+given, 0)
	run("release lock.release.toml -set serial=5"+given, 0)
	assert.Equal(t, manifest, f.read("lock.manifest.json"), "the salt stays")
	run("confirm lock.manifest.json"+given, 0)
	assert.Contains(t, run("confirm lock.manifest.json", 1), "key is secret, and has no value")
	private("secret/other", strings.Repeat("cd", 16))
	run("confirm lock.manifest.json -secret key=secret/other -secret pin=secret/pin", 1)
	run("confirm lock.manifest.json -outputs-only -json", 0)

	// Units: a run that is continued, a unit alone, one that is asked for by its file.
	run("release lock.release.toml -units secret/units.csv -o made", 0)
	run("release lock.release.toml -units secret/units.csv -o made", 0)
	run("confirm made/lock.units.manifest.json", 0)
	run("confirm made/lock.units.manifest.json -unit 7", 0)
	assert.Contains(t, run("explain made/7.hex -at 60", 0), "patch (lock.release.toml:16)")
	run("match made/8.hex", 0)
	f.write("in.bin", strings.Repeat("Firmware", 16))
	assert.Contains(t, run("release lock.release.toml -units secret/units.csv -o made", 1), "the unit with key secret:")
	f.write("in.bin", strings.Repeat("firmware", 16))
	unit := f.read("made/7.hex")
	private("secret/units.csv", strings.Replace(f.read("secret/units.csv"), pin, "81726355", 1))
	assert.Contains(t, run("confirm made/lock.units.manifest.json", 1), "row 1 of ../secret/units.csv is another now")
	assert.Contains(t, run("release lock.release.toml -units secret/units.csv -o made", 3),
		"7.hex exists, but the log does not list it for this unit")
	assert.Equal(t, unit, f.read("made/7.hex"))

	// What is wrong is said without the value.
	for _, c := range []struct{ from, to, what string }{
		{`{ bytes = "{key}", size = 16 }`, `{ bytes = "{key}", size = 8 }`, "16 bytes are longer than a size of 8"},
		{`{ bytes = "{key}", size = 16 }`, `{ number = "{key}", size = 4 }`, "(secret)"},
		{`number = "{pin}", size = 4`, `number = "{pin}", size = 2`, "(secret) does not fit into 2 bytes"},
		{`number = "{pin}", size = 4`, `number = 1, size = 4, order = "{key}"`, `"(secret)" is not valid`},
		{`size = 4 }]`, `size = 4 }]` + "\nexpect = \"{key}\"", "so nothing is patched"},
		{`file = "{serial}.hex"`, `file = "{key}.hex"`, "output[0].file: shows key, which is secret"},
		{`file = "in.bin"`, `file = "{pin}.bin"`, "shows pin, which is secret"},
		{"serial = 0", `serial = "{pin}"`, "shows pin, which is secret"},
		{`key = ""`, `key = "0011"`, "its value is in the release file"},
		{`secret = ["key", "pin"]`, `secret = ["key", "pim", "pin"]`, "pim is not a variable of [set]"},
	} {
		f.write("bad.release.toml", strings.Replace(secretRelease, c.from, c.to, 1))
		out := run("release bad.release.toml -set serial=5"+given, 3)
		assert.Contains(t, strings.Replace(out, "set.key: ", "", 1), strings.TrimPrefix(c.what, "output[0].file: "), c.to)
		if c.to[0] == '{' || strings.HasPrefix(c.to, "number") {
			f.write("bad.csv", "serial\n1\n")
			run("release bad.release.toml -units bad.csv"+given+" -json", 3)
			run("release bad.release.toml -units secret/units.csv", 3)
		}
	}
	run("release lock.release.toml -set serial=5 -set pin="+"99999999", 2)
	assert.Contains(t, run("release lock.release.toml -set serial=5 -secret serial=secret/pin", 2),
		"lock.release.toml has no secret serial; ")
	f.write("open.release.toml", "name = \"o\"\n[[input]]\nname = \"in\"\nfile = \"in.bin\"\nat = 0\n[[output]]\nfile = \"o.hex\"\n")
	assert.Contains(t, run("release open.release.toml -secret key=secret/key", 2), "-secret: open.release.toml has no secrets\n")
	private("secret/short", "abc")
	assert.Contains(t, run("release lock.release.toml -set serial=5 -secret key=secret/key -secret pin=secret/short", 3), "too short")

	// Nobody else may read what holds them.
	if programSystem() != "windows" {
		for _, name := range []string{"5.hex", "5.c", "made/7.hex", "made/8.c"} {
			info, err := os.Stat(f.path(name))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
		}
		require.NoError(t, os.Chmod(f.path("5.hex"), 0o644))
		run("release lock.release.toml -set serial=5"+given, 0)
		info, err := os.Stat(f.path("5.hex"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "the same bytes, but others could read them")
		require.NoError(t, os.Chmod(f.path("secret/pin"), 0o640))
		require.NoError(t, os.Chmod(f.path("secret/units.csv"), 0o604))
		assert.Contains(t, run("release lock.release.toml -set serial=5"+given, 3), "has the mode 0640, so that others can read it")
		assert.Contains(t, run("release lock.release.toml -units secret/units.csv -o made", 3),
			"has the mode 0604, so that others can read it")
	}

	everything := printed.String()
	require.NoError(t, filepath.WalkDir(f.dir, func(path string, d fs.DirEntry, err error) error {
		inside, _ := filepath.Rel(f.dir, path)
		if d.IsDir() || strings.HasPrefix(inside, "secret") || strings.HasSuffix(path, ".hex") || strings.HasSuffix(path, ".c") {
			return err
		}
		everything += inside + "\n" + f.read(filepath.ToSlash(inside))
		return nil
	}))
	assert.Greater(t, strings.Count(everything, "secret:"), 8)
	for _, form := range forms {
		assert.NotContains(t, everything, form)
	}
}

// pairs are the characters of a text, two by two.
func pairs(text string) (list []string) {
	for i := 0; i < len(text); i += 2 {
		list = append(list, text[i:i+2])
	}
	return list
}
