package release

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/release/proof"
	"mexalt/source"
)

// TestRunsOfUnits makes units by releases that read, check and write all that a release can, twice
// with something changed between, and confirms them. It holds what comes of each, and what is
// said, against what did before.
func TestRunsOfUnits(t *testing.T) {
	t.Parallel()
	type change func(b bench)
	set := func(name, text string) change { return func(b bench) { write(t, b.dir, name, text) } }
	without := func(name string) change {
		return func(b bench) { require.NoError(t, os.RemoveAll(filepath.Join(b.dir, name))) }
	}
	folderAt := func(name string) change {
		return func(b bench) { require.NoError(t, os.MkdirAll(filepath.Join(b.dir, name), 0o777)) }
	}
	release := func(from, to string) change {
		return func(b bench) {
			was := read(t, b.dir, "u.release.toml")
			require.Contains(t, was, from)
			write(t, b.dir, "u.release.toml", strings.Replace(was, from, to, 1))
		}
	}
	device := release("name = \"u\"\n", "name = \"u\"\ndevice = \"odd\"\n")
	accepted := release("[[variant]]", "[check]\naccept = [\"partial-page\", \"missing-part\"]\n[[variant]]")
	output := func(text string) change { return release("[[variant]]", "[[output]]\n"+text+"\n[[variant]]") }
	value := func(text string) change { return release("{ number", text+", { number") }
	secret := release("[set]", "secret = [\"colour\"]\n[set]")
	keys := t.TempDir()
	write(t, keys, "key.pem", testKey)
	signer, err := proof.LoadSigner(&source.Files{}, filepath.Join(keys, "key.pem"), "")
	require.NoError(t, err)
	const two = "serial\n1\n2\n"
	var said strings.Builder
	for _, c := range []struct {
		name    string
		before  []change
		table   string
		o       Options
		between change
	}{
		{name: "plain"},
		{name: "an input changed", between: set("in.bin", strings.Repeat("Firmware", 8))},
		{name: "an input away", between: without("in.bin")},
		{name: "a device", before: []change{device, accepted},
			between: set("odd.device.toml",
				"name = \"Odd 2\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"4K\"\npage = 64\n")},
		{name: "a device away", before: []change{device, accepted}, between: without("odd.device.toml")},
		{name: "a device that is none", before: []change{release("name = \"u\"\n", "name = \"u\"\ndevice = \"none\"\n")}},
		{name: "a board", before: []change{release("name = \"u\"\n", "name = \"u\"\nboard = \"gauge\"\n"), accepted},
			between: func(b bench) {
				write(t, b.dir, "gauge.board.toml", read(t, b.dir, "gauge.board.toml")+"# later\n")
			}},
		{name: "findings",
			before: []change{device, release("0x100\"\n[[step]]", "0xFF0\"\n[[step]]"), release("at = \"0x100\"", "at = \"image.first\"")}},
		{name: "findings of one",
			before: []change{device, accepted, release("at = \"0x100\"\n[[step]]", "shift = \"{place}\"\n[[step]]"),
				release("file = \"in.bin\"", "file = \"in.hex\""),
				release("at = \"0x100\"\n", "at = \"image.first\"\n"), release("serial = 0", "serial = 0\nplace = 0"),
				set("in.hex", ":100100004669726D776172654669726D7761726575\n:00000001FF\n")},
			table: "serial,place\n1,0\n2,0xE000\n3,0x10\n"},
		{name: "a template", before: []change{output("file = \"u-{serial}.inc\"\nto = \"text\"\ntemplate = \"t.tmpl\"")},
			between: set("t.tmpl", "{{.Bytes}} of {{.Name}}!")},
		{name: "a template away", before: []change{output("file = \"u-{serial}.inc\"\nto = \"text\"\ntemplate = \"t.tmpl\"")},
			between: without("t.tmpl")},
		{name: "a value of a file", before: []change{value("{ file = \"logo-{colour}.bin\" }")}, between: set("logo-red.bin", "RED!")},
		{name: "a value of a file away", before: []change{value("{ file = \"logo-{colour}.bin\" }")}, between: without("logo-red.bin")},
		{name: "a value of a file for one", before: []change{value("{ file = \"logo-{colour}.bin\" }")},
			table: "serial,colour\n1,red\n2,blue\n"},
		{name: "a text", before: []change{output("file = \"u-{serial}.txt\"\ntext = \"{serial} {file:whole} {sha256:whole}\\n\""),
			release("file = \"u-{serial}.bin\"", "name = \"whole\"\nfile = \"u-{serial}.bin\"")}},
		{name: "two that must be unique", before: []change{release("[\"serial\"]", "[\"colour\", \"serial\"]")},
			table: "serial,colour\n1,red\n1,\n2, \n0x2,red\n3,blue\n"},
		{name: "unique and secret",
			before: []change{release("[\"serial\"]", "[\"colour\", \"serial\"]"), secret, release("colour = \"red\"", "colour = \"\"")},
			table:  "serial,colour\n1,crimson\n2,crimson\n3,blue\n"},
		{name: "secrets",
			before: []change{secret, value("{ text = \"{shade}\", size = 8 }"), release("colour = \"red\"", "colour = \"\""),
				release("secret = [\"colour\"]", "secret = [\"shade\", \"colour\"]"), release("serial = 0", "serial = 0\nshade = \"\"")},
			table:   "serial,colour,shade\n1,crimson,rose\n2,skyblue,azure\n",
			between: set("units.csv", "serial,colour,shade\n1,scarlet,rose\n2,skyblue,azure\n")},
		{name: "a secret that does not fit",
			before: []change{secret, release("colour = \"red\"", "colour = \"\"\nshade = \"\""),
				release("secret = [\"colour\"]", "secret = [\"shade\", \"colour\"]"), value("{ text = \"{shade}\", size = 8 }")},
			table: "serial,colour,shade\n1,rouge,azure\n2,crimson-and-more,azure\n3,rouge,crimson-and-azure\n"},
		{name: "variants by a column", table: "serial,variant\n1,one\n2,two\n",
			before: []change{release("u-{serial}", "{variant}-{serial}")}, between: set("units.csv", "serial,variant\n1,two\n2,two\n")},
		{name: "no variant", o: Options{Variants: []string{}}},
		{name: "a variant that is none", o: Options{Variants: []string{"three"}}},
		{name: "a release with a mistake", before: []change{release("size = 4", "sise = 4")}},
		{name: "no table", table: "-"},
		{name: "rows", o: Options{Rows: Rows{2, 2}}},
		{name: "rows beyond", o: Options{Rows: Rows{2, 9}}},
		{name: "a folder in the place of the log", before: []change{folderAt("u.units.jsonl")}},
		{name: "a folder in the place of the manifest", before: []change{folderAt("u.units.manifest.json")}},
		{name: "a folder in the place of the stamp", before: []change{folderAt("u.stamp")},
			o: Options{Stamp: "DIR/u.stamp", Depfile: "DIR/u.d"}},
		{name: "a folder in the place of the signature", before: []change{folderAt("u.units.manifest.json.dsse")},
			o: Options{Sign: []*proof.Signer{signer}}},
		{name: "a folder in the place of what is to be signed", before: []change{folderAt("to.sign")}, o: Options{ToSign: "DIR/to.sign"}},
		{name: "a folder in the place of the rule", before: []change{folderAt("u.d")},
			o: Options{Stamp: "DIR/u.stamp", Depfile: "DIR/u.d"}},
		{name: "a stamp that is an output", o: Options{Stamp: "DIR/u-2.bin"}},
		{name: "a stamp that is to be signed", o: Options{Stamp: "DIR/sign", ToSign: "DIR/sign"}},
		{name: "no folder", o: Options{Folder: "DIR/out"}},
		{name: "a folder", before: []change{folderAt("out")}, o: Options{Folder: "DIR/out"}},
		{name: "the folder is a file", before: []change{set("out", "")}, o: Options{Folder: "DIR/out"}},
		{name: "another output of the same name", before: []change{release("u-{serial}", "{colour}")},
			table: "serial,colour\n1,red\n2,blue\n3,red\n4,Blue\n"},
		{name: "an output that is an input", before: []change{release("u-{serial}", "{colour}")}, table: "serial,colour\n1,red\n2,in\n"},
		{name: "an output's name", before: []change{release("u-{serial}", "{colour}")},
			table: "serial,colour\n1,../red\n2,con\n3,a:b\n4,\n"},
		{name: "a format by a column", before: []change{release("u-{serial}.bin", "u-{serial}.{colour}")},
			table: "serial,colour\n1,hex\n2,zip\n3,srec\n"},
		{name: "a number too large", table: "serial\n4294967295\n4294967296\n"},
		{name: "a column too many", table: "serial,color\n1,red\n"},
		{name: "made before, and gone", between: without("u-2.bin")},
		{name: "made before, and changed", between: set("u-2.bin", "x")},
		{name: "made before, and the log cut", table: "serial\n1\n", between: func(b bench) {
			log := read(t, b.dir, "u.units.jsonl")
			write(t, b.dir, "u.units.jsonl", log[:len(log)-9])
		}},
		{name: "made before, one more", between: set("units.csv", two+"3\n")},
		{name: "made before, in another order", between: set("units.csv", "serial\n2\n1\n")},
	} {
		b := newBench(t, "u-{serial}.bin")
		for _, name := range []string{"gauge.board.toml"} {
			text, err := os.ReadFile("../demo/data/" + name)
			require.NoError(t, err)
			write(t, b.dir, name, string(text))
		}
		write(t, b.dir, "odd.device.toml",
			"name = \"Odd\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"4K\"\npage = 64\n")
		write(t, b.dir, "t.tmpl", "{{.Bytes}} of {{.Name}}")
		write(t, b.dir, "logo-red.bin", "red!")
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, "units.csv"), nil, 0o600))
		for _, change := range c.before {
			change(b)
		}
		switch c.table {
		case "":
			write(t, b.dir, "units.csv", two)
		case "-":
			require.NoError(t, os.Remove(filepath.Join(b.dir, "units.csv")))
		default:
			write(t, b.dir, "units.csv", c.table)
		}
		o := c.o
		o.Tool, o.salt = "test", "00112233445566778899aabbccddeeff"
		if o.Variants == nil {
			o.Variants = []string{"one"}
		}
		for _, name := range []*string{&o.Stamp, &o.ToSign, &o.Folder, &o.Depfile} {
			*name = strings.Replace(*name, "DIR", b.dir, 1)
		}
		fmt.Fprintln(&said, c.name)
		for round := range 2 {
			for _, dry := range []bool{true, false} {
				o.Dry = dry
				fmt.Fprintf(&said, " round %d, dry %t: %s\n", round, dry, b.made(o))
			}
			fmt.Fprint(&said, b.listing("."), b.listing("out"))
			if round == 0 && c.between != nil {
				c.between(b)
			} else {
				break
			}
		}
		if c.between != nil {
			o.Again = true
			fmt.Fprintf(&said, " again: %s\n%s", b.made(o), b.listing("."))
		}
		if manifests, _ := filepath.Glob(filepath.Join(b.dir, "*.units.manifest.json")); len(manifests) > 0 &&
			(c.before == nil || c.name == "secrets") {
			fmt.Fprintln(&said, " confirmed:", b.without(b.confirmUnits(filepath.Base(manifests[0]), "", proof.Confirming{})))
			write(t, b.dir, "units.csv", strings.Replace(read(t, b.dir, "units.csv"), "azure", "green", 1))
			fmt.Fprintln(&said, " another table:", b.without(b.confirmUnits(filepath.Base(manifests[0]), "row=2", proof.Confirming{})))
		}
	}
	golden.File(t, "testdata/unitruns.txt", said.String())
}

// without leaves out what is another each time.
func (b bench) without(text string) string {
	return strings.ReplaceAll(text, b.dir, "")
}

// made makes the units of the table that is there, and returns what came of it.
func (b bench) made(o Options) string {
	files := &source.Files{Digest: true, Regular: true}
	f, err := Load(files, filepath.Join(b.dir, "u.release.toml"))
	if err != nil {
		return b.without(allText(err))
	}
	u, err := f.RunUnits(context.Background(), files, filepath.Join(b.dir, "units.csv"), o)
	text := allText(err)
	if stale, ok := err.(*StaleError); ok {
		text += "\n" + strings.Join(stale.Units, "\n")
	}
	if u != nil {
		text += fmt.Sprintf("; %d made, %d before, log %s, manifest %s", u.Made, u.Before, u.Log, u.Manifest)
	}
	return b.without(text)
}

// givenFile is a file that a test of runs gives, and does not change.
var givenFile = regexp.MustCompile(`^(in\.(bin|hex)|logo-red\.bin|t\.tmpl|units\.csv|.*\.toml)$`)

// listing is what is in a folder: of each file the beginning of its digest, without what is
// another each time.
func (b bench) listing(folder string) string {
	var list strings.Builder
	all, err := os.ReadDir(filepath.Join(b.dir, folder))
	if err != nil {
		return ""
	}
	for _, one := range all {
		if one.IsDir() || givenFile.MatchString(one.Name()) {
			continue
		}
		text := read(b.t, filepath.Join(b.dir, folder), one.Name())
		if filepath.Ext(one.Name()) == ".jsonl" {
			lines := slices.Sorted(strings.Lines(text)) // units are made side by side
			for _, line := range lines {
				var entry map[string]any
				assert.NoError(b.t, json.Unmarshal([]byte(line), &entry), line)
			}
			text = strings.Join(lines, "")
		}
		if strings.Contains(text, `"salt"`) { // by which digests of secrets are others each time
			fmt.Fprintf(&list, "  %s, %d bytes\n", one.Name(), len(text))
			continue
		}
		sum := sha256.Sum256([]byte(b.without(text)))
		fmt.Fprintf(&list, "  %s %x\n", one.Name(), sum[:2])
	}
	return list.String()
}
