package release

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/release/proof"
	"mexalt/source"
)

// recipe is a release of a small image, in which cases change or add something.
const recipe = `name = "r"
[set]
version = "1.0"
where = "0x120"
[[input]]
name = "a"
file = "a.bin"
at = "0x100"
[[input]]
name = "b"
file = "b.bin"
at = "0x200"
#STEPS
[[output]]
name = "whole"
file = "whole.hex"
[[output]]
file = "{version}.note"
text = "{where}"
#OUTPUTS
`

// TestRecipes runs releases that differ in steps, in outputs and in what is known, and holds all
// that comes of each against what did before.
func TestRecipes(t *testing.T) {
	t.Parallel()
	steps := func(text string) [2]string { return [2]string{"#STEPS", text} }
	outputs := func(text string) [2]string { return [2]string{"#OUTPUTS", text} }
	device := [2]string{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-b8-32\"\n"}
	board := [2]string{"name = \"r\"\n", "name = \"r\"\nboard = \"gauge\"\n"}
	const accepted = "[check]\naccept = [\"missing-part\", \"partial-page\", \"region-erased\", \"config-partial\", " +
		"\"checksum-absent\", \"start-missing\", \"checksum-wrong\"]\n"
	drawn := func(kind string, f *File, p *Product) func(io.Writer) error {
		return func(w io.Writer) error {
			_, err := fmt.Fprintf(w, "%s of %s, %d inputs, %d outputs", kind, filepath.Base(f.Name), len(p.Inputs), len(p.Outputs))
			return err
		}
	}
	var b strings.Builder
	for _, c := range []struct {
		name    string
		changes [][2]string
		o       Options
	}{
		{name: "plain"},
		{name: "a text",
			changes: [][2]string{outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{file:whole} {sha256:whole} {size:part.a} " +
				"{size:image} {size:0x100..0x10F}\"\n")}},
		{name: "a text of what is not", changes: [][2]string{outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{file:hole}\"\n")}},
		{name: "a text of a span that is none", changes: [][2]string{outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{size:part.c}\"\n")}},
		{name: "a checksum without a map",
			changes: [][2]string{outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{crc:application_crc}\"\n")}},
		{name: "a checksum that is not declared",
			changes: [][2]string{device, outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{crc:application_sum}\"\n")}},
		{name: "a checksum that is not stored",
			changes: [][2]string{device, outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{crc:application_crc}\"\n")}},
		{name: "a checksum",
			changes: [][2]string{device, steps("[[step]]\ndo = \"seal\"\n"),
				outputs("[[output]]\nfile = \"{crc:application_crc}.txt\"\ntext = \"{crc:application_crc}\"\n")}},
		{name: "a name that no system takes", changes: [][2]string{{"whole.hex", "con.hex"}}},
		{name: "out of the folder", changes: [][2]string{{"whole.hex", "../whole.hex"}}},
		{name: "in a folder below", changes: [][2]string{{"whole.hex", "out/whole.hex"}}},
		{name: "the end of no format", changes: [][2]string{{"whole.hex", "whole.zip"}}},
		{name: "a format", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.zip\"\nto = \"srec\""}}},
		{name: "a format that is none", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.zip\"\nto = \"zip\""}}},
		{name: "raw with holes", changes: [][2]string{{"whole.hex", "whole.bin"}}},
		{name: "raw, holes filled", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.bin\"\nholes = \"FF\""}}},
		{name: "raw of a span", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.bin\"\nin = \"0x104..0x10B\""}}},
		{name: "of an input", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.bin\"\nin = \"part.b\""}}},
		{name: "of two", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nin = [\"part.a\", \"0x200..0x203\"]"}}},
		{name: "of nothing", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nin = \"0x300..0x3FF\""}}},
		{name: "of a span that is none", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nin = \"part.c\""}}},
		{name: "a key of another format", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nheader = \"x\""}}},
		{name: "a key that is none", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nhedder = \"x\""}}},
		{name: "text and format", changes: [][2]string{outputs("[[output]]\nfile = \"x.txt\"\ntext = \"x\"\nto = \"c\"\n")}},
		{name: "a template", changes: [][2]string{outputs("[[output]]\nfile = \"x.inc\"\nto = \"text\"\ntemplate = \"t.tmpl\"\n")}},
		{name: "a template that is not there",
			changes: [][2]string{outputs("[[output]]\nfile = \"x.inc\"\nto = \"text\"\ntemplate = \"u.tmpl\"\n")}},
		{name: "two of one name", changes: [][2]string{outputs("[[output]]\nname = \"whole\"\nfile = \"x.hex\"\n")}},
		{name: "two of one file", changes: [][2]string{outputs("[[output]]\nfile = \"whole.hex\"\n")}},
		{name: "a picture without a map", changes: [][2]string{outputs("[[output]]\nfile = \"x.svg\"\n")}},
		{name: "moved", changes: [][2]string{steps("[[step]]\ndo = \"place\"\nat = \"0x1000\"\n")}},
		{name: "one moved", changes: [][2]string{steps("[[step]]\ndo = \"place\"\nof = \"b\"\nat = \"{where}\"\n")}},
		{name: "one moved onto another", changes: [][2]string{steps("[[step]]\ndo = \"place\"\nof = \"b\"\nat = \"0x108\"\n")}},
		{name: "of no input", changes: [][2]string{steps("[[step]]\ndo = \"place\"\nof = \"c\"\nat = \"0x1000\"\n")}},
		{name: "all cut away", changes: [][2]string{steps("[[step]]\ndo = \"cut\"\nkeep = \"0x300..0x3FF\"\n")}},
		{name: "one cut short",
			changes: [][2]string{steps("[[step]]\ndo = \"cut\"\ndrop = \"part.b\"\n"),
				outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{size:part.b}\"\n")}},
		{name: "filled and patched",
			changes: [][2]string{steps("[[step]]\ndo = \"fill\"\nin = \"0x100..0x2FF\"\nwith = \"00\"\n[[step]]\ndo = \"patch\"\nat = " +
				"\"{where}\"\nvalues = [{ text = \"{version}\", size = 8 }, { number = \"image.size\", size = 4 }, { number = " +
				"\"part.a.size\", size = 2 }]\n")}},
		{name: "numbers for hex digits",
			changes: [][2]string{{"where = ", "key = 0xAB_12\nwhere = "}, {"whole.hex", "{variant}.hex"}, {"{version}.note", "{variant}{version}.note"},
				steps("[[step]]\ndo = \"fill\"\nin = \"0x140..0x14F\"\nwith = 0x1234\n[[step]]\ndo = \"patch\"\nat = 0x140\nexpect = 0x1234\n" +
					"values = [{ bytes = 0x4142, size = 4, pad = 0x43 }, { bytes = \"{key}\" }, { number = 0x10, size = 1 }, { bytes = 0x05 }]\n" +
					"[[step]]\ndo = \"checksum\"\nkind = \"CRC-16/XMODEM\"\nin = \"0x140..0x143\"\nexpect = 0x4B_DD\n"),
				outputs("[[output]]\nfile = \"{variant}.bin\"\nin = [\"0x140..0x147\", \"0x14C..0x14F\"]\nholes = 0xEE\n" +
					"[[variant]]\nname = \"one\"\n[[variant]]\nname = \"two\"\nset = { key = 0x0708 }\n")}},
		{name: "values that nothing takes",
			changes: [][2]string{device, steps("[[step]]\ndo = \"place\"\nat = 1.5\n[[step]]\ndo = \"fill\"\nwith = 2024-01-01\n" +
				"[[step]]\ndo = \"config\"\nwords = { boot_size = 0.5, brown_out = 2024-01-01, lock = {} }\n")}},
		{name: "values of fields as numbers",
			changes: [][2]string{device, steps("[[step]]\ndo = \"config\"\nwords = { boot_size = 0x2, brown_out = 2 }\n"), outputs(accepted)}},
		{name: "a number that may be meant in two ways",
			changes: [][2]string{device, steps("[[step]]\ndo = \"config\"\nwords = { boot_size = 2 }\n"), outputs(accepted)}},
		{name: "decimal numbers for hex digits",
			changes: [][2]string{steps("[[step]]\ndo = \"fill\"\nwith = 10\n[[step]]\ndo = \"fill\"\nwith = 255\n[[step]]\ndo = \"fill\"\nwith = -1\n" +
				"[[step]]\ndo = \"patch\"\nat = 0\nvalues = [{ bytes = 1_000, size = 4, pad = 0b11 }]\n")}},
		{name: "a patch that does not fit", changes: [][2]string{steps("[[step]]\ndo = \"patch\"\nat = \"0x300\"\nbytes = \"01\"\n")}},
		{name: "a step that is none", changes: [][2]string{steps("[[step]]\ndo = \"path\"\n")}},
		{name: "a step without an operation", changes: [][2]string{steps("[[step]]\nat = \"1\"\n")}},
		{name: "a checksum step",
			changes: [][2]string{steps("[[step]]\ndo = \"checksum\"\nin = \"part.a\"\nstore = \"0x300\"\ngrow = true\n[[step]]\ndo = " +
				"\"convert\"\nswap = 2\n")}},
		{name: "merged by hand", changes: [][2]string{steps("[[step]]\ndo = \"merge\"\nclash = \"first\"\n")}},
		{name: "a clash", changes: [][2]string{{"at = \"0x200\"", "at = \"0x108\""}}},
		{name: "a clash, the last counts",
			changes: [][2]string{{"at = \"0x200\"", "at = \"0x108\""}, steps("[[step]]\ndo = \"merge\"\nclash = \"last\"\n")}},
		{name: "a place past all", changes: [][2]string{{"at = \"0x200\"", "at = \"0xFFFF_FFFF_FFFF_FFFF\""}}},
		{name: "a place that is none", changes: [][2]string{{"at = \"0x200\"", "at = \"boot\""}}},
		{name: "no place", changes: [][2]string{{"at = \"0x200\"\n", ""}}},
		{name: "an input that is not there", changes: [][2]string{{"b.bin", "c.bin"}}},
		{name: "two inputs of a name", changes: [][2]string{{"name = \"b\"", "name = \"a\""}}},
		{name: "a variable", o: Options{Set: map[string]string{"where": "0x104"}},
			changes: [][2]string{steps("[[step]]\ndo = \"patch\"\nat = \"{where}\"\nbytes = \"FF\"\n")}},
		{name: "a variable that is none", o: Options{Set: map[string]string{"wear": "0x104"}}},
		{name: "in a region", changes: [][2]string{device, {"at = \"0x200\"", "at = \"0x200\"\nregion = \"application\""}}},
		{name: "in another region", changes: [][2]string{device, {"at = \"0x200\"", "at = \"0x200\"\nregion = \"bootloader\""}}},
		{name: "in no region", changes: [][2]string{device, {"at = \"0x200\"", "at = \"0x200\"\nregion = \"boot\""}}},
		{name: "a version",
			changes: [][2]string{{"at = \"0x200\"", "at = \"0x200\"\nversion-at = \"0x200\""}, {"version = \"1.0\"", "version = \"2.0\""}}},
		{name: "another version", changes: [][2]string{{"at = \"0x200\"", "at = \"0x200\"\nversion-at = \"0x200\""}}},
		{name: "a map that is none", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle\"\n"}}},
		{name: "a map with a mistake", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"bad\"\n"}}},
		{name: "a board", changes: [][2]string{board}},
		{name: "a board that is none", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\nboard = \"bench\"\n"}}},
		{name: "a board of another device",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-w16-64\"\nboard = \"gauge\"\n"}}},
		{name: "a board with a mistake", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\nboard = \"bad\"\n"}}},
		{name: "variants",
			changes: [][2]string{{"whole.hex", "{variant}.hex"}, {"{version}.note", "{variant}-{version}.note"},
				outputs("[[variant]]\nname = \"one\"\ninput = { b = \"a.bin\" }\n[[variant]]\nname = \"two\"\nset = { version = " +
					"\"{variant}-2\" }\ndevice = \"brindle-b8-32\"\n[[variant]]\nname = \"three\"\nboard = \"gauge-north\"\n")}},
		{name: "one variant", o: Options{Variants: []string{"two"}},
			changes: [][2]string{{"whole.hex", "{variant}.hex"}, {"{version}.note", "{variant}-{version}.note"},
				outputs("[[variant]]\nname = \"one\"\n[[variant]]\nname = \"two\"\ndevice = \"brindle-m32-512\"\n")}},
		{name: "a variant that is none", o: Options{Variants: []string{"three"}},
			changes: [][2]string{{"whole.hex", "{variant}.hex"}, outputs("[[variant]]\nname = \"one\"\n")}},
		{name: "variants of one name",
			changes: [][2]string{{"whole.hex", "{variant}.hex"}, outputs("[[variant]]\nname = \"one\"\n[[variant]]\nname = \"one\"\n")}},
		{name: "a variant of one file", changes: [][2]string{outputs("[[variant]]\nname = \"one\"\n[[variant]]\nname = \"two\"\n")}},
		{name: "a variant's mistakes",
			changes: [][2]string{{"whole.hex", "{variant}.hex"},
				outputs("[[variant]]\nname = \"1 x\"\nset = { wear = \"1\" }\ninput = { c = \"a.bin\" }\ndevice = \"brindle\"\n")}},
		{name: "variables of variables",
			changes: [][2]string{{"where = \"0x120\"", "where = \"0x{{{version}}}\"\na = \"{b}\"\nb = \"{a}\""}}},
		{name: "findings",
			changes: [][2]string{device, {"at = \"0x200\"", "at = \"0x7000\""},
				outputs("[check]\naccept = [\"missing-part\", \"partial-page\"]\n")}},
		{name: "a rule that is none", changes: [][2]string{device, outputs("[check]\naccept = [\"mising-part\"]\n")}},
		{name: "unique, without units", changes: [][2]string{{"[set]", "unique = [\"version\"]\n[set]"}}},
		{name: "unique of no variable", changes: [][2]string{{"[set]", "unique = [\"serial\"]\n[set]"}}},
		{name: "all of the image, and a region",
			changes: [][2]string{device, steps("[[step]]\ndo = \"seal\"\n"),
				outputs("[[output]]\nfile = \"all.s37\"\nin = [\"image\"]\n[[output]]\nfile = \"app.hex\"\nin = [\"application\", " +
					"\"part.b\"]\n[[output]]\nfile = \"x.txt\"\ntext = \"{size:application} {size:bootloader} {size:part.b}\"\n" +
					accepted)}},
		{name: "words by their fields",
			changes: [][2]string{device,
				steps("[[step]]\ndo = \"config\"\nwords = { boot_size = \"1 KiB\", clock_source = \"crystal\" }\n"),
				outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{size:bootloader}\"\n")}},
		{name: "a word of no meaning",
			changes: [][2]string{device, steps("[[step]]\ndo = \"config\"\nwords = { boot_size = \"3 KiB\" }\n")}},
		{name: "filled by regions, then sealed",
			changes: [][2]string{device,
				steps("[[step]]\ndo = \"fill\"\nin = \"application\"\nwith = \"00 FF\"\n[[step]]\ndo = \"seal\"\nonly = " +
					"\"application_crc\"\n"), outputs("[[output]]\nfile = \"x.bin\"\nin = \"application\"\n" + accepted)}},
		{name: "lanes", changes: [][2]string{{"at = \"0x100\"\n", ""}, {"at = \"0x200\"\n", ""}, {"file = \"b.bin\"", "file = \"a.bin\""},
			steps("[[step]]\ndo = \"merge\"\nlanes = true\n[[step]]\ndo = \"cut\"\nkeep = \"0..39\"\n")}},
		{name: "lanes, and a part of them",
			changes: [][2]string{{"at = \"0x100\"\n", ""}, {"at = \"0x200\"\n", ""}, {"file = \"b.bin\"", "file = \"a.bin\""},
				steps("[[step]]\ndo = \"merge\"\nlanes = true\n[[step]]\ndo = \"patch\"\nat = \"part.a.first\"\nbytes = \"00\"\n")}},
		{name: "swapped in words",
			changes: [][2]string{steps("[[step]]\ndo = \"convert\"\nswap = 4\n[[step]]\ndo = \"patch\"\nat = " +
				"\"part.a.first\"\nbytes = \"00\"\n"), outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{size:part.a}\"\n")}},
		{name: "swapped in words that cut it",
			changes: [][2]string{{"at = \"0x200\"", "at = \"0x202\""},
				steps("[[step]]\ndo = \"fill\"\nin = \"0x200..0x217\"\nwith = \"FF\"\n[[step]]\ndo = \"convert\"\nswap = " +
					"4\n[[step]]\ndo = \"patch\"\nat = \"part.b.first\"\nbytes = \"00\"\n")}},
		{name: "of an input alone, then of all",
			changes: [][2]string{device, {"at = \"0x100\"\n", ""}, {"at = \"0x200\"", "region = \"application\""},
				steps("[[step]]\ndo = \"convert\"\nof = \"b\"\nswap = 2\n[[step]]\ndo = \"place\"\nof = \"b\"\nat = " +
					"\"0x7700\"\n[[step]]\ndo = \"place\"\nof = \"a\"\nat = \"application.first\"\n[[step]]\ndo = \"patch\"\nat = " +
					"\"part.b.last\"\nbytes = \"00\"\n"), outputs(accepted)}},
		{name: "of an input, out of its region",
			changes: [][2]string{device, {"at = \"0x200\"", "region = \"application\""},
				steps("[[step]]\ndo = \"place\"\nof = \"b\"\nat = \"0x7C00\"\n")}},
		{name: "cut to an input, and moved",
			changes: [][2]string{steps("[[step]]\ndo = \"cut\"\nkeep = [\"part.b\", \"part.a.first,4\"]\n[[step]]\ndo = \"place\"\nat " +
				"= 0x1000\n[[step]]\ndo = \"patch\"\nat = \"part.b.first\"\nbytes = \"00\"\n"),
				outputs("[[output]]\nfile = \"x.txt\"\ntext = \"{size:part.b}\"\n[[output]]\nfile = \"y.bin\"\nin = \"part.b\"\n")}},
		{name: "what was cut away is used",
			changes: [][2]string{steps("[[step]]\ndo = \"cut\"\nkeep = \"part.b\"\n[[step]]\ndo = \"patch\"\nat = " +
				"\"part.a.first\"\nbytes = \"00\"\n")}},
		{name: "all checksums of a station",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-m32-512\"\n"},
				{"at = \"0x100\"", "at = \"station.first\""}, {"at = \"0x200\"", "at = \"loader.first\""},
				steps("[[step]]\ndo = \"fill\"\nwith = \"FF\"\npages = true\n[[step]]\ndo = \"seal\"\n"),
				outputs("[[output]]\nfile = \"x.uf2\"\nfamily = 0x54470004\nin = \"station\"\nholes = \"FF\"\n[[output]]\nfile = " +
					"\"x.h\"\nto = \"c\"\nin = \"loader\"\n[check]\naccept = [\"start-erased\", \"start-missing\", \"start-stack\", " +
					"\"start-target\", \"missing-part\", \"region-erased\", \"partial-page\"]\n")}},
		{name: "a bill, provenance and a rule",
			o: Options{Bill: true, Provenance: true, Made: "2026-11-01T10:00:00Z", Depfile: "DIR/r.d", Stamp: "DIR/r.stamp"},
			changes: [][2]string{device, {"whole.hex", "{variant} $whole#.hex"}, {"{version}.note", "{variant}{version}.note"},
				steps("[[step]]\ndo = \"seal\"\n"),
				outputs(accepted + "[[variant]]\nname = \"one\"\n[[variant]]\nname = \"two\"\ninput = { b = \"a.bin\" }\n")}},
		{name: "into a folder", o: Options{Folder: "DIR/out", Bill: true}, changes: [][2]string{{"whole.hex", "whole-{version}.hex"}}},
		{name: "accepted, without a device", changes: [][2]string{outputs("[check]\naccept = [\"missing-part\"]\n")}},
		{name: "a variable that is a list", changes: [][2]string{{"version = \"1.0\"", "version = [\"1.0\"]"}}},
		{name: "a variable that is a number", changes: [][2]string{{"version = \"1.0\"", "version = 17"}}},
		{name: "a digest that is none", changes: [][2]string{{"file = \"a.bin\"", "file = \"a.bin\"\nsha256 = \"0011\""}}},
		{name: "another digest",
			changes: [][2]string{{"file = \"a.bin\"", "file = \"a.bin\"\nsha256 = \"" + strings.Repeat("00", 32) + "\""}}},
		{name: "the digest with other line ends",
			changes: [][2]string{{"file = \"a.bin\"\nat = \"0x100\"",
				"file = \"a.hex\"\nsha256 = \"" + fmt.Sprintf("%x", sha256.Sum256([]byte(":0100000041BE\r\n:00000001FF\r\n"))) + "\""}}},
		{name: "built for a clock",
			changes: [][2]string{device, {"file = \"b.bin\"", "file = \"b.bin\"\nbuilt-for = \"8 MHz\""}, outputs(accepted)}},
		{name: "built for no clock", changes: [][2]string{{"file = \"b.bin\"", "file = \"b.bin\"\nbuilt-for = \"8 furlongs\""}}},
		{name: "out of the folder, by a variable",
			changes: [][2]string{{"whole.hex", "{where}.hex"}, {"where = \"0x120\"", "where = \"../x\""}}},
		{name: "a name that no system takes, by a checksum",
			changes: [][2]string{device, steps("[[step]]\ndo = \"seal\"\n"),
				outputs(accepted +
					"[[output]]\nfile = \"../{crc:application_crc}.hex\"\n[[output]]\nfile = " +
					"\"a:{crc:application_crc}.hex\"\n[[output]]\nfile = \"x.{crc:application_crc}\"\n")}},
		{name: "of a span that runs backwards", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nin = \"0x10..0x8\""}}},
		{name: "a device by a variable",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-{part}\"\n"},
				{"where = \"0x120\"", "where = \"0x120\"\npart = \"b8-32\""}, outputs(accepted)}},
		{name: "a device by a variable that names none",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-{part}\"\n"},
				{"where = \"0x120\"", "where = \"0x120\"\npart = \"b8-33\""}}},
		{name: "a device by no variable", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-{part}\"\n"}}},
		{name: "a board by a variable",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\nboard = \"{part}\"\n"},
				{"where = \"0x120\"", "where = \"0x120\"\npart = \"gauge\""}, outputs(accepted)}},
		{name: "a region, without a device", changes: [][2]string{{"at = \"0x200\"", "at = \"0x200\"\nregion = \"application\""}}},
		{name: "a place in a region, without a device", changes: [][2]string{{"at = \"0x200\"", "at = \"application.first\""}}},
		{name: "words that are accepted",
			changes: [][2]string{device,
				steps("[[step]]\ndo = \"patch\"\nat = 0x50_0000\nbytes = \"82 06 FF\"\ngrow = true\n[[step]]\ndo = \"config\"\nwords " +
					"= { boot_size = \"1 KiB\" }\n"),
				outputs(strings.Replace(accepted, "[\"", "[\"config-hazard\", \"config-undefined\", \"boot-section\", \"", 1))}},
		{name: "a part that counts words",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-w16-64\"\n"},
				steps("[[step]]\ndo = \"fill\"\nin = \"application\"\nwith = \"FF\"\n[[step]]\ndo = \"seal\"\n"),
				outputs("[[output]]\nfile = \"x.bin\"\nin = \"word 0x80,4\"\n" + accepted)}},
		{name: "a place in words",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-w16-64\"\n"},
				{"at = \"0x200\"", "at = \"word 0x100\""}, {"at = \"0x100\"", "at = \"0x40\""}, outputs(accepted)}},
		{name: "a variant where there is none", o: Options{Variants: []string{"one"}}},
		{name: "moved up and down",
			changes: [][2]string{{"at = \"0x200\"", "shift = \"0x20\""}, {"at = \"0x100\"", "at = \"0x100\"\nshift = \"-0x20\""}}},
		{name: "moved by a shift", changes: [][2]string{{"file = \"a.bin\"\nat = \"0x100\"", "file = \"a.hex\"\nshift = \"0x20\""}}},
		{name: "moved below 0", changes: [][2]string{{"file = \"a.bin\"\nat = \"0x100\"", "file = \"a.hex\"\nshift = \"-0x20\""}}},
		{name: "a version of nothing",
			changes: [][2]string{{"version = \"1.0\"\n", ""}, {"{version}", "{where}"},
				{"at = \"0x200\"", "at = \"0x200\"\nversion-at = \"0x200\""}}},
		{name: "a version of its own",
			changes: [][2]string{{"at = \"0x200\"", "at = \"0x200\"\nversion-at = \"0x200\"\nversion = \"2.0\""}}},
		{name: "a version beyond it", changes: [][2]string{{"at = \"0x200\"", "at = \"0x200\"\nversion-at = \"0x300\""}}},
		{name: "sealed, without a device", changes: [][2]string{steps("[[step]]\ndo = \"seal\"\n")}},
		{name: "a step of an input that fails",
			changes: [][2]string{steps("[[step]]\ndo = \"patch\"\nof = \"b\"\nat = \"0x300\"\nbytes = \"01\"\n")}},
		{name: "a step of an input that is not there",
			changes: [][2]string{{"b.bin", "c.bin"}, steps("[[step]]\ndo = \"patch\"\nof = \"b\"\nat = \"0x200\"\nbytes = \"01\"\n")}},
		{name: "a map with a warning", changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"odd\"\n"}, outputs(accepted)}},
		{name: "a damaged input", changes: [][2]string{{"file = \"a.bin\"\nat = \"0x100\"", "file = \"bad.hex\""}}},
		{name: "a damaged input, read all the same",
			changes: [][2]string{{"file = \"a.bin\"\nat = \"0x100\"", "file = \"odd.hex\"\nlenient = true"}}},
		{name: "pictures and a page", o: Options{Picture: drawn},
			changes: [][2]string{device,
				outputs(accepted + "[[output]]\nfile = \"x.svg\"\n[[output]]\nfile = \"x.png\"\n[[output]]\nfile = \"X.HTML\"\n")}},
		{name: "pictures that nobody draws",
			changes: [][2]string{device, outputs(accepted + "[[output]]\nfile = \"x.svg\"\n[[output]]\nfile = \"x.html\"\n")}},
		{name: "read as no format", changes: [][2]string{{"file = \"b.bin\"", "file = \"b.bin\"\nfrom = \"zip\""}}},
		{name: "a fill that is huge", changes: [][2]string{steps("[[step]]\ndo = \"fill\"\nin = \"0..0x1FFF_FFFF\"\nwith = \"00\"\n")}},
		{name: "a value that no writer takes", changes: [][2]string{{"file = \"whole.hex\"", "file = \"whole.hex\"\nrecord-length = 300"}}},
		{name: "a program", changes: [][2]string{{"file = \"b.bin\"\nat = \"0x200\"", "file = \"station.elf\"\nshift = \"0x1000\""}}},
		{name: "a program, and its symbols",
			changes: [][2]string{{"file = \"b.bin\"\nat = \"0x200\"", "file = \"station.elf\""},
				steps("[[step]]\ndo = \"patch\"\nof = \"a\"\nat = \"0x100\"\nvalues = [{ number = \"symbol.tide_height.first\", " +
					"size = 4 }]\n")}},
		{name: "a file of text", changes: [][2]string{{"file = \"b.bin\"", "file = \"notes\""}}},
		{name: "a file of text without a place", changes: [][2]string{{"file = \"b.bin\"\nat = \"0x200\"", "file = \"notes\""}}},
		{name: "a file of text, moved", changes: [][2]string{{"file = \"b.bin\"\nat = \"0x200\"", "file = \"notes\"\nshift = \"0x200\""}}},
		{name: "a place that may be a word",
			changes: [][2]string{{"name = \"r\"\n", "name = \"r\"\ndevice = \"brindle-w16-64\"\n"}, {"at = \"0x200\"", "at = \"0x800\""},
				outputs(accepted)}},
		{name: "a name with a colon, by a checksum",
			changes: [][2]string{device, steps("[[step]]\ndo = \"seal\"\n"),
				outputs(accepted + "[[output]]\nfile = \"a:{crc:application_crc}.hex\"\n")}},
		{name: "a name without a format, by a checksum",
			changes: [][2]string{device, steps("[[step]]\ndo = \"seal\"\n"),
				outputs(accepted + "[[output]]\nfile = \"x.{crc:application_crc}\"\n")}},
		{name: "a variable of no variable", changes: [][2]string{{"version = \"1.0\"", "version = \"{verison}\""}}},
		{name: "a variable with a brace", changes: [][2]string{{"version = \"1.0\"", "version = \"{1.0\""}}},
		{name: "a variant's input of no variable",
			changes: [][2]string{{"whole.hex", "{variant}.hex"}, {"{version}.note", "{variant}.{version}.note"},
				outputs("[[variant]]\nname = \"one\"\ninput = { b = \"{c}.bin\" }\n")}},
		{name: "values that are lists", changes: [][2]string{device, steps("[[step]]\ndo = \"config\"\nwords = { boot_size = [1] }\n")}},
		{name: "a patch of nothing", changes: [][2]string{steps("[[step]]\ndo = \"patch\"\nat = \"0x100\"\n")}},
		{name: "a cut of nothing", changes: [][2]string{steps("[[step]]\ndo = \"cut\"\n")}},
		{name: "a step of an input after one that fails",
			changes: [][2]string{steps("[[step]]\ndo = \"patch\"\nof = \"b\"\nat = \"0x300\"\nbytes = \"01\"\n[[step]]\ndo = " +
				"\"patch\"\nof = \"a\"\nat = \"0x300\"\nbytes = \"01\"\n")}},
		{name: "a version at the end of all",
			changes: [][2]string{{"at = \"0x200\"",
				"at = \"0xFFFF_FFFF_FFFF_FFED\"\nversion-at = \"0xFFFF_FFFF_FFFF_FFED\"\nversion = \"2.0\""}}},
		{name: "a version up to the end of all",
			changes: [][2]string{{"at = \"0x200\"",
				"at = \"0xFFFF_FFFF_FFFF_FFFD\"\nversion-at = \"0xFFFF_FFFF_FFFF_FFFD\"\nversion = \"2.0\""},
				{"file = \"b.bin\"", "file = \"v.bin\""}, {"whole.hex", "whole.bin"},
				outputs("[[output]]\nfile = \"v.txt\"\nin = \"part.b\"\nto = \"words\"\n")}},
		{name: "nothing",
			changes: [][2]string{{"name = \"r\"\n", ""},
				{"[[output]]\nname = \"whole\"\nfile = \"whole.hex\"\n[[output]]\nfile = \"{version}.note\"\ntext = \"{where}\"\n", ""}}},
	} {
		dir := t.TempDir()
		for _, name := range []string{"gauge.board.toml", "gauge-north.board.toml"} {
			text, err := os.ReadFile("../demo/data/" + name)
			require.NoError(t, err)
			write(t, dir, name, string(text))
		}
		require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o777))
		write(t, dir, "a.bin", "firmware of a board, in 40 bytes of text")
		write(t, dir, "b.bin", "version 2.0\x00and more")
		write(t, dir, "a.hex", ":0100000041BE\n:00000001FF\n")
		write(t, dir, "bad.hex", ":0100000041BF\n:00000001FF\n")
		write(t, dir, "odd.hex", ":0100000041BE\n")
		write(t, dir, "odd.device.toml",
			"name = \"Odd\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"4K\"\npage = 64\nsectors = [{ count "+
				"= 3, size = \"1K\" }]\n")
		write(t, dir, "notes", "firmware\n")
		write(t, dir, "v.bin", "2.0")
		program, err := os.ReadFile("../demo/data/station.elf")
		require.NoError(t, err)
		write(t, dir, "station.elf", string(program))
		write(t, dir, "t.tmpl", "{{.Image}}")
		write(t, dir, "bad.device.toml", "name = \"x\"\n[[memory]]\nname = \"flash\"\n")
		write(t, dir, "bad.board.toml", "name = \"x\"\ndevice = \"brindle-b8-32\"\n[pins]\nrest = \"x\"\n")
		text := recipe
		for _, change := range c.changes {
			require.Equal(t, 1, strings.Count(text, change[0]), "%s: %s", c.name, change[0])
			text = strings.Replace(text, change[0], change[1], 1)
		}
		c.o.Tool = "test"
		for _, name := range []*string{&c.o.Depfile, &c.o.Stamp, &c.o.Folder} {
			*name = strings.Replace(*name, "DIR", dir, 1)
		}
		r, _, err := run(t, dir, text, c.o)
		fmt.Fprintf(&b, "%s\n%s", c.name, resultText(dir, r, err))
		if r == nil || err != nil {
			continue
		}
		for _, p := range r.Products {
			for _, o := range p.Outputs {
				made, err := os.ReadFile(o.File)
				require.NoError(t, err)
				assert.Equal(t, uint64(len(made)), o.Size)
				fmt.Fprintf(&b, "  %04x\n", crc32.ChecksumIEEE(made)&0xFFFF)
			}
		}
		for _, name := range slices.DeleteFunc([]string{r.Manifest, c.o.Depfile,
			strings.TrimSuffix(r.Manifest, ".manifest.json") + proof.BillExtension,
			strings.TrimSuffix(r.Manifest, ".manifest.json") + proof.ProvenanceExtension}, func(name string) bool { return name == "" }) {
			if made, err := os.ReadFile(name); err == nil {
				made = bytes.ReplaceAll(made, []byte(dir), nil)
				fmt.Fprintf(&b, "  %s %04x\n", filepath.Base(name), crc32.ChecksumIEEE(made)&0xFFFF)
			}
		}
		// Dry, it says the same, and writes nothing.
		before, err := os.ReadDir(dir)
		require.NoError(t, err)
		o := c.o
		o.Dry = true
		dry, _, err := run(t, dir, text, o)
		require.NoError(t, err)
		sums, err := dry.Products[0].Sums()
		require.NoError(t, err)
		for i, s := range sums {
			assert.Equal(t, r.Products[0].Outputs[i].SHA256, s.SHA256, c.name)
		}
		after, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, after, len(before), c.name)
	}
	golden.File(t, "testdata/recipes.txt", b.String())
}

// TestTablesOfUnits refuses tables that are none, or do not say what units need.
func TestTablesOfUnits(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	for _, table := range []string{
		"", "\n", "serial", "serial\n", "serial\n1\n", "serial\n1\n1\n", "serial\n1\n\n2\n", "serial,colour\n1,red\n2\n", "serial\n\"1\n",
		"serial\n1\"2\n", "colour\nred\n",
		"serial,color\n1,red\n", "serial,serial\n1,1\n", "serial\n1\x002\n", "serial,variant\n1,two\n2,one\n",
		"serial,variant\n1,three\n", " serial \n 1 \n", "\xEF\xBB\xBFserial\n1\n",
		"serial;colour\n1;red\n", "serial,colour\n1,\n", "serial\n-1\n", "serial\n5000000000\n", "serial\nx\n", "serial\n10\n10 \n",
		"serial\n0x10\n16\n", "serial\n007\n7\n", "serial\r\n1\r\n2\r\n",
		"serial,colour\n1,redandlongerthaneight\n2,red\n",
	} {
		bench := newBench(t, "u-{serial}.bin")
		u, err := bench.run(table, Options{Tool: "test"})
		fmt.Fprintf(&b, "%q: %s\n", table, strings.ReplaceAll(fmt.Sprint(err), bench.dir+string(filepath.Separator), ""))
		if u != nil {
			fmt.Fprintf(&b, "  %d made, %d before, %v\n", u.Made, u.Before, bench.names())
		}
	}
	for _, c := range []struct {
		rows Rows
		o    Options
	}{{rows: Rows{1, 2}}, {rows: Rows{2, 2}}, {rows: Rows{2, 3}}, {rows: Rows{3, 9}}, {rows: Rows{4, 4}},
		{o: Options{Stamp: "u.units.jsonl"}}, {o: Options{Stamp: "u.units.manifest.json"}}, {o: Options{ToSign: "x", Stamp: "x"}},
		{o: Options{Dry: true}}} {
		bench := newBench(t, "u-{serial}.bin")
		c.o.Rows, c.o.Tool = c.rows, "test"
		for _, name := range []*string{&c.o.Stamp, &c.o.ToSign} {
			if *name != "" {
				*name = filepath.Join(bench.dir, *name)
			}
		}
		u, err := bench.run("serial\n1\n2\n3\n", c.o)
		fmt.Fprintf(&b, "%v %s: %s\n", c.rows, strings.TrimPrefix(c.o.Stamp, bench.dir),
			strings.ReplaceAll(fmt.Sprint(err), bench.dir+string(filepath.Separator), ""))
		if u != nil {
			fmt.Fprintf(&b, "  %d made, %d before, %v\n", u.Made, u.Before, bench.names())
		}
	}
	golden.File(t, "testdata/tables.txt", b.String())

	bench := newBench(t, "u-{serial}.bin")
	f, err := Load(&source.Files{}, filepath.Join(bench.dir, "u.release.toml"))
	require.NoError(t, err)
	assert.ErrorContains(t, f.NeedsUnits(nil), "missing; each unit has a serial of its own")
	assert.NoError(t, f.NeedsUnits(map[string]string{"serial": "1"}))
	_, err = f.RunUnits(context.Background(), &source.Files{}, "-", Options{})
	assert.ErrorContains(t, err, "the manifest names the table, and standard input has no name")
	assert.EqualError(t, &StaleError{Units: []string{"a"}}, "1 unit that was made before is not what this run would make; nothing was made")
	assert.ErrorContains(t, &StaleError{Units: []string{"a"}, More: 1}, "2 units that were made before are not")
}
