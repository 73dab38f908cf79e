package device

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sound is a map without a mistake. Each line is one that a mistake may take the
// place of.
const sound = `name = "S"
identity = "4D 32"
identity-at = "flash.first + 0x40"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = "8K"
page = 256
granule = 8
write-once = true
sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]
aliases = [0x8000]
erase-time = { typical = "20 ms", most = "0.1 s" }
[[memory]]
name = "ram"
kind = "ram"
first = 0x4000
size = "1K"
[[memory]]
name = "fuses"
kind = "config"
first = 0
image-first = 0x6000
size = 16
[[region]]
name = "app"
role = "application"
first = "flash.first"
last = "boot.first - 1"
[[region]]
name = "boot"
role = "bootloader"
last = "flash.last"
size = "1K"
[[region]]
name = "head"
role = "data"
first = "app.first"
size = 64
inside = "app"
[[region]]
name = "kept"
role = "reserved"
first = "fuses.first + 12"
last = "fuses.last"
[start]
kind = "vectors"
at = "flash.first"
stack = "ram"
stack-align = 8
target = "app"
[[checksum]]
name = "sum"
kind = "CRC-32/ISO-HDLC"
in = "app.first..app.last-4"
at = "app.last - 3"
guards = "app"
[[config]]
name = "clock"
at = "fuses.first"
width = 1
default = 1
[[config.field]]
name = "source"
bits = "0..1"
values = [{ value = 1, meaning = "inner" }, { value = 2, meaning = "outer", hazard = "stops", hazard-unless = { size = "1K" } }]
[[config]]
name = "area"
at = "fuses.first + 1"
width = 1
complement-at = "fuses.first + 2"
default = 0
[[config.field]]
name = "size"
bits = 0
values = [{ value = 0, meaning = "1K", sets = { boot = "1K" } }, { value = 1, meaning = "2K", sets = { boot = "2K" }, requires = { source = "outer" } }]
[[config.field]]
name = "high"
bits = 7
[[group]]
name = "both"
fields = ["size", "high"]
values = [{ value = 0, meaning = "none" }]
[link]
baud = 115200
packet = 64
around = 6
`

// TestAnUnknownKeyHidesNothing makes two mistakes in one table, of which one is a key
// that no table has: both are told.
func TestAnUnknownKeyHidesNothing(t *testing.T) {
	_, problems := load(
		strings.Replace(
			strings.Replace(twoSlots, `role = "bootloader"`, "rolle = \"bootloader\"\nrole = \"reserved\"", 1),
			`guards = "two"`,
			`guards = "one"`,
			1,
		),
	)
	require.Len(t, problems, 3)
	assert.Contains(t, problems[0], "error: unknown key rolle (did you mean role?)")
	assert.Contains(t, problems[1], "error: region boot is reserved, and required")
	assert.Contains(t, problems[2], "error: guards of b is in one, and the rest of it in two")
}

// TestTwinsInheritStarts gives a slot a start: its twin has one too, with a target of its
// own, unless the map gives it one.
func TestTwinsInheritStarts(t *testing.T) {
	const vectors = "[[start]]\nkind = \"vectors\"\nat = \"one.first + 16\"\nstack = \"ram\"\ntarget = \"one\"\n"
	m, problems := load(twoSlots + vectors)
	require.Empty(t, problems)
	require.Len(t, m.Starts, 3)
	assert.Equal(t, [2]any{m.Region("two").Span.First + 16, "two"}, [2]any{m.Starts[2].At, m.Starts[2].Target})
	writtenAndRead(t, m)
	m, problems = load(twoSlots + vectors + strings.ReplaceAll(vectors, "one.first", "two.first"))
	require.Empty(t, problems)
	require.Len(t, m.Starts, 3)
	assert.Equal(t, "one", m.Starts[2].Target, "as the map says")
}

// twoSlots is another, of a device with two slots, each with a header, guarded by rank.
const twoSlots = `name = "S"
identity = ["4D 32", "4D 33"]
identity-at = "flash.first + 0x40"
machine = "AVR"
byte-order = "little"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = "8K"
page = 256
granule = 8
ecc = true
endurance = 10_000
sectors = [{ count = 8, size = "1K" }]
[[memory]]
name = "ram"
kind = "ram"
first = 0x4000
size = "1K"
aliases = [0x5000]
[[region]]
name = "boot"
role = "bootloader"
first = "flash.first"
size = "1K"
required = true
holds = [{ at = "boot.first + 4", text = "boot 1" }, { at = "boot.first", bytes = "01 02" }]
[[region]]
name = "one"
role = "application"
first = "boot.last + 1"
size = "2K"
[[region]]
name = "two"
like = "one"
first = "one.last + 1"
[[start]]
kind = "instruction"
at = "boot.first"
[[checksum]]
name = "a"
kind = "CRC-32/ISO-HDLC"
in = "one.first + 16..one.last"
at = "one.first"
length-at = { at = "one.first + 4" }
rank-at = { at = "one.first + 8" }
guards = "one"
[[checksum]]
name = "b"
kind = "CRC-32/ISO-HDLC"
in = "two.first + 16..two.last"
skip = ["two.first + 32..two.first + 35"]
at = "two.first"
length-at = { at = "two.first + 4" }
rank-at = { at = "two.first + 8" }
guards = "two"
[loader]
retry = "until-new"
read-fault = "fails"
can-write = "flash"
checks = [{ region = "one", at = "one.first + 12", text = "OK" }]
[loader.swap]
from = "two"
to = "one"
pending = { at = 0x2400, bytes = "0F F0 0F F0" }
done = { at = 0x27F8, text = "done" }
marks = "0x2408..0x27FF"
firm = true
`

// mistake is a line of a map and what stands in its place; what is told of it, behind
// line and column; and whether an editor with the schema tells it too.
type mistake struct {
	line, instead string
	want          string
	editor        bool
}

// slotMistakes are those in twoSlots: most are what copying one slot's lines makes.
var slotMistakes = []mistake{
	{
		`identity = ["4D 32", "4D 33"]`,
		"identity = [\"4D 32\", \"4D 33\"]\nidentity-mask = \"FF 00\"",
		"2:22: error: the identity 4D ?? is the same as the one before it, 4D ??, in all bits that count",
		false,
	},
	{
		`identity = ["4D 32", "4D 33"]`,
		"identity = \"4D 32\"\nidentity-mask = \"00 00\"",
		"3:1: error: no bit counts, so any device has this identity",
		false,
	},
	{
		`identity-at = "flash.first + 0x40"`,
		`identity-at = "ram.first"`,
		"m.toml:3:1: error: the identity's place 0x4000..0x4001 is in ram, which is ram and keeps nothing without power",
		false,
	},
	{
		`identity-at = "flash.first + 0x40"`,
		`identity-at = "two.first + 3"`,
		"3:1: error: the identity's place 0x1C03..0x1C04 overlaps that of checksum b, at 0x1C03",
		false,
	},
	{`byte-order = "little"`, `byte-order = "middle"`, `5:1: error: byte-order "middle" is not known`, true},
	{`aliases = [0x5000]`, `page = 64`, "m.toml:21:1: error: page has no effect on RAM, which is not programmed", false},
	{`aliases = [0x5000]`, `erased = 0`, "m.toml:21:1: error: erased has no effect on RAM, which is not programmed", false},
	{
		`aliases = [0x5000]`,
		`erase-time = { typical = "1 s" }`,
		"m.toml:21:1: error: erase-time has no effect on RAM, which is not programmed",
		false,
	},
	{`role = "bootloader"`, `role = "reserved"`, "27:1: error: region boot is reserved, and required", false},
	{`size = "2K"`, `size = "2K + 512"`, "37:1: warning: region two begins at 0x1E00, inside the sector 0x1C00..0x1FFF", false},
	{`text = "boot 1"`, `bytes = "0"`, "error: ", false},
	{`text = "boot 1"`, `bytes = "01 02", text = "x"`, "28:10: error: contents are given as bytes or as a text", false},
	{`text = "boot 1"`, `text = ""`, "28:10: error: contents are given as bytes or as a text", false},
	{`{ at = "boot.first", bytes = "01 02" }`, `"unknown"`, "28:54: error: unknown cannot be combined with others", true},
	{
		`{ at = "boot.first", bytes = "01 02" }`,
		`{ at = "boot.last", bytes = "01 02" }`,
		"error: 2 bytes at 0x13FF are not in region boot",
		false,
	},
	{`like = "one"`, `like = "onne"`, "error: unknown region onne", false}, // and of what needs it, nothing
	{"at = \"two.first\"\nlength", "at = \"one.first\"\nlength", "at of b is in one, and the rest of it in two", false},
	{
		`length-at = { at = "two.first + 4" }`,
		`length-at = { at = "one.first + 4" }`,
		"length-at of b is in one, and the rest of it in two",
		false,
	},
	{`rank-at = { at = "two.first + 8" }`, `rank-at = { at = "one.first + 8" }`, "rank-at of b is in one, and the rest of it in two",
		false},
	{`in = "two.first + 16..two.last"`, `in = "one.first + 16..one.last"`, "in of b is in one, and the rest of it in two", false},
	{`guards = "two"`, `guards = "one"`, "guards of b is in one, and the rest of it in two", false},
	{`guards = "two"`, `guards = "boot"`, "error: b guards boot, and covers nothing of it", false},
	{
		"at = \"two.first\"\nlength",
		"at = \"two.first + 6\"\nlength",
		"error: the value of b overlaps what length-at of b reads, at 0x1C06..0x1C07",
		false,
	},
	{
		"at = \"two.first\"\nlength",
		"at = \"two.first + 11\"\nlength",
		"error: the value of b overlaps what rank-at of b reads, at 0x1C0B",
		false,
	},
	{
		"at = \"two.first\"\nlength",
		"at = \"two.last - 3\"\nlength",
		"error: the value of b is inside the span 0x1C10..0x23FF, as far as it can reach",
		false,
	},
	{
		`skip = ["two.first + 32..two.first + 35"]`,
		`skip = ["two.first..two.first + 15"]`,
		"error: 0x1C00..0x1C0F is outside what is fed, so that skipping it has no effect",
		false,
	},
	{
		`skip = ["two.first + 32..two.first + 35"]`,
		`skip = ["0x1C10..0x1FFF", "0x2000..0x27FF"]`,
		"error: b is computed over nothing: all of it is skipped",
		false,
	},
	{
		"at = \"two.first\"\nlength-at = { at = \"two.first + 4\" }",
		"at = \"two.first\"\nlength-at = { at = \"ram.first\" }",
		"error: length-at, 0x4000..0x4003 (4 bytes), is in ram, which is ram and keeps nothing without power",
		false,
	},
	{
		"guards = \"two\"\n",
		"guards = \"two\"\n[[checksum]]\nname = \"c\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"two.first + 16..two.last\"\nat = " +
			"\"two.first + 3\"\n",
		"error: the value of c overlaps that of b, at 0x1C03",
		false,
	},
	{`ecc = true`, ``, "error: read-fault has no effect without a memory with error correction", false},
	{`granule = 8`, ``, "12:1: error: ecc has no effect without a granule", false},
	{`endurance = 10_000`, `endurance = 0`, "14:1: error: endurance is 0", false},
	{`retry = "until-new"`, `retry = "never"`, `error: retry "never" is not known`, true},
	{`read-fault = "fails"`, `read-fault = "waits"`, `error: read-fault "waits" is not known`, true},
	{`can-write = "flash"`, `can-write = "flush"`, "error: unknown memory flush (did you mean flash?)", false},
	{`can-write = "flash"`, `can-write = ["flash", "ram"]`, "error: ram is ram, which is not written", false},
	{`region = "one", at`, `region = "onne", at`, "error: unknown region onne", false},
	{`text = "OK"`, `text = "OK", bytes = "00"`, "error: contents are given as bytes or as a text", false},
	{`at = "one.first + 12", text`, `at = "0x9000", text`, "error: 0x9000..0x9001 is in no memory", false},
	{`at = "one.first + 12", text = "OK"`, `pin = "UPDATE"`, "", false},
	{`at = "one.first + 12", text = "OK"`, `pin = "UPDATE", text = "OK"`, "error: a pin has no address", false},
	{`at = "one.first + 12", text = "OK"`, `pin = "UPDATE", at = "one.first"`, "error: a pin has no address", false},
	{`at = "one.first + 12", text = "OK"`, `pin = "UPDATE", bytes = "01"`, "error: a pin has no address", false},
	{`at = "one.first + 12", text = "OK"`, `text = "OK"`, "error: what is looked at has no place", false},
	{
		"[loader]\n",
		"[[checksum]]\nname = \"c\"\nkind = \"SUM-8\"\nin = \"boot.first..boot.last-1\"\nat = \"boot.last\"\nchecked-by = " +
			"\"hardware\"\n[loader]\n",
		"error: checked-by has no effect without a region that is guarded",
		false,
	},
	{"guards = \"two\"\n", "guards = \"two\"\nchecked-by = \"somebody\"\n", `error: checked-by "somebody" is not known`, true},
	{
		"guards = \"two\"\n",
		"guards = \"two\"\nchecked-by = \"hardware\"\n",
		"error: rank-at has no effect on what the device itself checks",
		false,
	},
	{`from = "two"`, `from = "tow"`, "error: unknown region tow", false},
	{`from = "two"`, ``, "error: the swap has no from", true},
	{`to = "one"`, `to = "two"`, "error: two is swapped with itself", false},
	{
		`pending = { at = 0x2400, bytes = "0F F0 0F F0" }`,
		`pending = { at = 0x2400 }`,
		"error: contents are given as bytes or as a text",
		false,
	},
	{`pending = { at = 0x2400, bytes`, `pending = { at = 0x2406, bytes`, "error: what says that a swap is wanted is among its marks",
		false},
	{`done = { at = 0x27F8`, `done = { at = 0x9000`, "error: 0x9000..0x9003 is in no memory", false},
	{
		`marks = "0x2408..0x27FF"`,
		`marks = "0x2FF8..0x3007"`,
		"error: the span 0x2FF8..0x3007 (16 bytes) runs past the end of memory flash",
		false,
	},
	{`marks = "0x2408..0x27FF"`, `marks = "ram"`, "error: 0x4000..0x43FF is in no memory that can be programmed", false},
	{`marks = "0x2408..0x27FF"`, `marks = "nowhere"`, "error: \"nowhere\"", false},
	{
		`at = "boot.first"` + "\n[[checksum",
		`at = "boot.last"` + "\n[[checksum",
		"error: the start at 0x13FF, 2 bytes, runs past the end of region boot at 0x13FF",
		false,
	},
}

// mistakes are those in sound.
var mistakes = []mistake{
	{`identity = "4D 32"`, `identity = ""`, "2:1: error: \"\", character 1: no bytes; expected hex digits", false},
	{`identity-at = "flash.first + 0x40"`, `identity-at = "0xFFFF_FFFF_FFFF_FFFF"`,
		"3:1: error: the identity runs past the last 64-bit address", false},
	{"stack = \"ram\"\nstack-align = 8", "stack = \"rom\"\nstack-align = 8",
		"50:1: error: unknown memory or region rom (did you mean ram?)", false},
	{"stack-align = 8", "stack-align = 8\nwidth = 3", "52:1: error: vectors of 3 bytes; expected 2 or 4", false},
	{`name = "S"`, ``, "error: the map has no name", true},
	{`name = "S"`, `name = ""`, "1:1: error: name is empty; expected name = \"NAME\"", false},
	{`identity = "4D 32"`, `identity = "4D 3"`, `2:1: error: "4D 3", character 5: 3 hex digits leave half a byte`, false},
	{
		`identity-at = "flash.first + 0x40"`, `identity-read-at = "flash.last"`,
		"3:1: error: 0x2FFF is in flash, which can be changed, so nothing there says what the device is; expected an address outside, " +
			"or in a rom", false,
	},
	{`identity-at = "flash.first + 0x40"`, `identity-read-at = 0x3FFF`, "3:1: error: 0x4000 is in ram, which can be changed", false},
	{`identity-at = "flash.first + 0x40"`, `identity-read-at = "0xFFFF_FFFF_FFFF_FFFF"`,
		"3:1: error: the identity runs past the last 64-bit address", false},
	{
		"identity = \"4D 32\"\nidentity-at = \"flash.first + 0x40\"", "identity-read-at = 0x5000",
		"2:1: error: identity-read-at has no effect without an identity", false,
	},
	{`identity = "4D 32"`, ``, "2:1: error: identity-at has no effect without an identity", false},
	{`identity = "4D 32"`, `identity = []`, "2:1: error: identity is an empty list", true},
	{
		`identity = "4D 32"`,
		"identity = [\"4D 32\", \"4D 33\"]\nidentity-mask = \"FF\"",
		"3:1: error: the mask has 1 byte, the identity 2 bytes",
		false,
	},
	{`identity-at = "flash.first + 0x40"`, `identity-at = "flash.frist"`, `3:1: error: "flash.frist", character 7`, false},
	{`kind = "flash"`, `kind = "flsh"`, `6:1: error: kind "flsh" is not known (did you mean flash?)`, true},
	{`first = 0x1000`, ``, "4:3: error: memory flash has no first", true},
	{`size = "8K"`, ``, "4:3: error: memory flash has no size", true},
	{`size = "8K"`, `size = 0`, "invalid range: 0 bytes from 0x1000", false},
	{`size = "8K"`, `size = "8 K"`, `8:1: error: "8 K", character 3`, false},
	{`page = 256`, `page = 100`, "the memory's 8 KiB is not a multiple of its 100-byte", false},
	{`page = 256`, `pages = 256`, "9:1: error: unknown key pages (did you mean page?)", true},
	{`page = 256`, `page = 4096`, "12:12: error: pages of 4096 bytes are larger than sectors of 1024", false},
	{`granule = 8`, `granule = 512`, "10:1: error: granules of 512 bytes are larger than pages of 256", false},
	{`granule = 8`, ``, "10:1: error: write-once has no effect without a granule", false},
	{`write-once = true`, `erased = 256`, "11:1: error: the erased value 0x100 is not a byte", false},
	{
		`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`,
		`sectors = []`,
		"12:1: error: sectors is an empty list",
		true,
	},
	{
		`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`,
		`sectors = [{ count = 2, size = "1K" }]`,
		"12:1: error: the sectors leave 6 KiB of the memory over",
		false,
	},
	{
		`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`,
		`sectors = [{ count = 9, size = "1K" }]`,
		"12:12: error: the sectors add up to more than the memory's 8 KiB",
		false,
	},
	{
		`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`,
		`sectors = [{ count = 8 }]`,
		"12:12: error: the sector has no size",
		true,
	},
	{`aliases = [0x8000]`, `aliases = [0x2000]`, "13:12: error: the alias at 0x2000 overlaps the memory itself", false},
	{`aliases = [0x8000]`, `aliases = [0x3000]`, "13:12: error: the alias of flash overlaps memory ram over 0x4000..0x43FF", false},
	{
		`aliases = [0x8000]`,
		`aliases = [0x8000, 0x9000]`,
		"13:20: error: the alias of flash overlaps the alias of flash over 0x9000..0x9FFF",
		false,
	},
	{`aliases = [0x8000]`, `aliases = []`, "13:1: error: aliases is an empty list", true},
	{
		`erase-time = { typical = "20 ms", most = "0.1 s" }`,
		`erase-time = { typical = "20 min" }`,
		`14:16: error: "20 min" is not a time`,
		false,
	},
	{
		`erase-time = { typical = "20 ms", most = "0.1 s" }`,
		`erase-time = { typical = "20 ms", most = "0.01 s" }`,
		"14:1: error: the typical time, 20 ms, is longer than the most, 0.01 s",
		false,
	},
	{`first = 0x4000`, `first = 0x2FFF`, "18:1: error: memory ram overlaps memory flash over 0x2FFF", false},
	{`image-first = 0x6000`, `image-first = 0x43FF`, "23:1: error: memory fuses overlaps memory ram over 0x43FF", false},
	{`name = "ram"`, `name = "flash"`, "16:1: error: the name flash is given twice", false},
	{`role = "application"`, ``, "26:3: error: region app has no role", false},
	{`last = "boot.first - 1"`, `last = "flash.last"`, "31:3: error: region boot overlaps region app over 0x2C00..0x2FFF", false},
	{`last = "boot.first - 1"`, ``, "26:3: error: region app needs two of first, size and last", false},
	{`last = "boot.first - 1"`, `last = "bot.first - 1"`, `m.toml:30:1: error: "bot.first - 1", character 1: unknown name bot; known:`,
		false},
	{`last = "flash.last"`, `last = "boot.first + 3"`, "31:3: error: the address of region boot depends on itself", false},
	{`last = "flash.last"`, `last = 0x3FFF`, "m.toml:31:3: error: region boot begins at 0x3C00, which is in no memory", false},
	{`size = 64`, `size = "6K"`, "", false}, // still inside
	{`size = 64`, `size = "7K + 1"`, "m.toml:41:1: error: region head, 0x1000..0x2C00 (7.0 KiB, 7,169 bytes), is not inside app", false},
	{`inside = "app"`, `inside = "slot"`, "41:1: error: unknown region slot", false},
	{`inside = "app"`, ``, "36:3: error: region head overlaps region app over 0x1000..0x103F", false},
	{`kind = "vectors"`, `kind = "vector"`, `48:1: error: kind "vector" is not known (did you mean vectors?)`, true},
	{`at = "flash.first"`, `at = 0x7000`, "49:1: error: start at 0x7000 is in no memory", false},
	{
		`at = "flash.first"`,
		`at = "flash.last - 6"`,
		"49:1: error: start at 0x2FF9 runs past the end of memory flash at 0x2FFF, by 1 byte",
		false,
	},
	{`stack = "ram"`, `stack = "flash"`, "m.toml:50:1: error: flash is flash; expected a memory of kind ram, or a region of one", false},
	{`stack = "ram"`, `stack = "rom"`, "m.toml:50:1: error: unknown memory or region rom", false},
	{`stack-align = 8`, `stack-align = 12`, "51:1: error: stack-align is 12; expected a power of two", false},
	{`target = "app"`, `target = "ap"`, "52:1: error: unknown region ap (did you mean app?)", false},
	{`target = "app"`, `width = 3`, "52:1: error: vectors of 3 bytes; expected 2 or 4", false},
	{
		`kind = "CRC-32/ISO-HDLC"`,
		`kind = "CRC-32/BZIP9"`,
		`m.toml:55:1: error: unknown algorithm "CRC-32/BZIP9"; did you mean CRC-32/BZIP2?`,
		false,
	},
	{`kind = "CRC-32/ISO-HDLC"`, ``, "53:3: error: checksum sum has no kind", true},
	{
		`in = "app.first..app.last-4"`,
		`in = "app.first..0x3000"`,
		"56:1: error: the span 0x1000..0x3000 (8.0 KiB, 8,193 bytes) runs past the end of memory flash",
		false,
	},
	{`in = "app.first..app.last-4"`, `in = 0x7000`, "56:1: error: in is 0x7000; expected a text in quotes, or a list of them", true},
	{`in = "app.first..app.last-4"`, `in = "0x7000"`, "56:1: error: the span 0x7000 (1 byte) is in no memory", false},
	{`in = "app.first..app.last-4"`, `in = []`, "56:1: error: in is an empty list", true},
	{
		`in = "app.first..app.last-4"`,
		`in = "app"`,
		"error: the checksum's place 0x2BFC..0x2BFF is inside the span that it is computed over",
		false,
	},
	{
		`at = "app.last - 3"`,
		`at = "app.last - 1"`,
		"57:1: error: the checksum's place 0x2BFE..0x2C01 runs past the end of region app at 0x2BFF",
		false,
	},
	{`at = "app.last - 3"`, `at = 0x7000`, "57:1: error: the checksum's place 0x7000..0x7003 is in no memory", false},
	{`at = "app.last - 3"`, ``, "m.toml:53:3: error: checksum sum has no place; expected at = ADDRESS, or place-at", false},
	{
		`at = "app.last - 3"`,
		"at = \"app.last - 3\"\nslot = \"skip\"",
		"58:1: error: slot has no effect: the checksum's place 0x2BFC..0x2BFF is outside the span",
		false,
	},
	{`at = "app.last - 3"`, "at = \"app.last - 3\"\nsize = 2", "58:1: error: a CRC-32/ISO-HDLC of 4 bytes does not fit into 2", false},
	{
		`at = "app.last - 3"`,
		"at = \"app.last - 3\"\nlength-at = { at = 0x7000 }",
		"58:15: error: length-at, 0x7000..0x7003 (4 bytes), is in no memory",
		false,
	},
	{`at = "app.last - 3"`, "at = \"app.last - 3\"\nswap = 3", "58:1: error: words of 3 bytes; expected 2, 4 or 8", false},
	{`guards = "app"`, "swap = 8", "the span has 7164 bytes, not a multiple of the word size 8 bytes", false},
	{
		`guards = "app"`,
		`rank-at = { at = "app.first" }`,
		"58:1: error: rank-at has no effect without a region that is guarded; expected guards = \"REGION\"",
		false,
	},
	{`guards = "app"`, `guards = "ap"`, "58:1: error: unknown region ap", false},
	{`default = 1`, `default = 3`, "63:1: error: the default 0x03 sets source to 3, which it does not define", false},
	{`default = 1`, `default = 0x100`, "63:1: error: the default 0x100 has more than 1 bytes", false},
	{
		`at = "fuses.first + 1"`,
		`at = "fuses.first"`,
		"70:1: error: configuration word area overlaps configuration word clock over 0x6000",
		false,
	},
	{
		`complement-at = "fuses.first + 2"`,
		`complement-at = "fuses.first + 1"`,
		"72:1: error: the complement of area overlaps configuration word area over 0x6001",
		false,
	},
	{
		`at = "fuses.first + 1"`,
		`at = "fuses.first + 12"`,
		"m.toml:70:1: error: configuration word area is in region kept, which is reserved",
		false,
	},
	{
		`at = "fuses.first + 1"`,
		`at = "ram.first"`,
		"m.toml:70:1: error: configuration word area is in ram, which is ram; expected a memory that can be programmed",
		false,
	},
	{`at = "fuses.first + 1"`, `at = 0x7000`, "70:1: error: configuration word area is in no memory", false},
	{`bits = "0..1"`, `bits = "1..0"`, "66:1: error: bits 1..0: the lower one comes first, 0..1", false},
	{`bits = "0..1"`, `bits = "0..8"`, "66:1: error: bit 8 is outside the word clock of 8 bits", false},
	{`bits = "0..1"`, ``, "64:3: error: field source has no bits", true},
	{`bits = 7`, `bits = 0`, "80:1: error: field high overlaps field size", false},
	{`name = "high"`, `name = "size"`, "79:1: error: the name size is given twice", false},
	{`meaning = "outer"`, `meaning = "Inner"`, `67:58: error: two values of source mean "Inner"`, false},
	{`meaning = "outer", `, ``, "67:45: error: the value has no meaning", true},
	{`value = 2`, `value = 1`, "67:47: error: the value 1 is given twice", false},
	{`value = 2`, `value = 4`, "67:47: error: the value 4 has more than the field's 2 bits", false},
	{`hazard = "stops", `, `hazard = "", `, "67:77: error: hazard is empty", false},
	{
		`at = "flash.first"`,
		`at = "app.last - 3"`,
		"49:1: error: the start at 0x2BFC, 8 bytes, runs past the end of region app at 0x2BFF",
		false,
	},
	{`hazard = "stops", `, ``, "error: hazard-unless has no effect without a hazard", false},
	{`hazard-unless = { size = "1K" }`, `hazard-unless = { size = "4K" }`, `error: size never means "4K" (size means one of: 1K; 2K)`,
		false},
	{`requires = { source = "outer" }`, `requires = { sorce = "outer" }`, "error: unknown field sorce (did you mean source?)", false},
	{`requires = { source = "outer" }`, `requires = { source = "otter" }`, `error: source never means "otter"`, false},
	{`requires = { source = "outer" }`, `requires = { size = "1K" }`, "error: size says something of itself; expected another field",
		false},
	{`sets = { boot = "2K" }`, `sets = { boot = "2 K" }`, `error: "2 K", character 3`, false},
	{`sets = { boot = "2K" }`, `sets = { boot = 0 }`, "error: a size of 0 bytes; expected 1 or more", false},
	{`sets = { boot = "2K" }`, `sets = { boot = "9K" }`, "error: region boot does not fit with a size of 9K: ", false},
	{`sets = { boot = "2K" }`, `sets = { app = "2K" }`, "error: region app is given by both its ends, so its size cannot be set", false},
	{`sets = { boot = "2K" }`, `sets = { bot = "2K" }`, "error: unknown region bot (did you mean boot?)", false},
	{`sets = { boot = "2K" }`, `sets = { start = "bot" }`, "error: unknown region bot (did you mean boot?)", false},
	{`fields = ["size", "high"]`, `fields = ["size", "hgih"]`, "83:19: error: unknown field hgih (did you mean high?)", false},
	{`fields = ["size", "high"]`, `fields = []`, "83:1: error: fields is an empty list", true},
	{`baud = 115200`, `baud = 0`, "86:1: error: baud is 0; expected 1 to 1099511627776", false},
	{`packet = 64`, ``, "87:1: error: around has no effect without a packet", false},
	{`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`, `sectors = [{ count = 0, size = "1K" }]`,
		"0 sectors of 1024 bytes; expected 1 to", false},
	{`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`, `sectors = [{ count = 64, size = 128 }]`,
		"pages of 256 bytes are larger than sectors of 128", false},
	{`sectors = [{ count = 4, size = "1K" }, { size = "3K" }, { size = "1K" }]`,
		`sectors = [{ count = 16, size = 384 }, { count = 8, size = 256 }]`, "sectors of 384 bytes are not whole pages of 256", false},
}

// TestMistakesAreTold makes one mistake at a time in a map: the loader tells of it
// alone, in its place; a schema tells what a schema can; and no key is made up.
func TestMistakesAreTold(t *testing.T) {
	var schema any
	require.NoError(t, json.Unmarshal([]byte(Schema()), &schema))
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("map.json", schema))
	editor, err := compiler.Compile("map.json")
	require.NoError(t, err)
	fits := func(text string) error {
		var tree map[string]any
		require.NoError(t, toml.Unmarshal([]byte(text), &tree), text)
		plain, err := json.Marshal(tree)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(plain)))
		require.NoError(t, err)
		return editor.Validate(value)
	}
	page, err := os.ReadFile(filepath.Join("..", "docs", "device-maps.md"))
	require.NoError(t, err)
	for _, whole := range []string{sound, twoSlots} {
		_, problems := load(whole)
		require.Empty(t, problems)
		require.NoError(t, fits(whole))
	}
	for i, m := range slices.Concat(mistakes, slotMistakes) {
		whole := sound
		if i >= len(mistakes) {
			whole = twoSlots
		}
		before, behind, found := strings.Cut(whole, m.line)
		require.True(t, found, m.line)
		name := fmt.Sprintf("%s -> %s", m.line, m.instead)
		text := before + m.instead + behind
		if m.instead == "" && strings.HasSuffix(before, "\n") {
			text = before + strings.TrimPrefix(behind, "\n")
		}
		if key, _, is := strings.Cut(m.line, " = "); is && !strings.ContainsAny(key, "{ ") {
			assert.Contains(t, string(page), "| `"+key+"` | ", "the docs tell of it")
		}
		_, problems := load(text)
		if m.want == "" {
			assert.Empty(t, problems, name)
			continue
		}
		if assert.Len(t, problems, 1, "%s: %q", name, problems) {
			assert.Contains(t, problems[0], m.want, name)
		}
		assert.Equal(t, m.editor, fits(text) != nil, name)
	}
}
