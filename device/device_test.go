package device

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

func load(text string) (*Map, []string) {
	var problems source.Problems
	m := Load("m.toml", []byte(text), &problems)
	var list []string
	for _, p := range problems.Sorted() {
		list = append(list, p.Error())
	}
	return m, list
}

func TestShippedMaps(t *testing.T) {
	require.NotEmpty(t, Shipped())
	for _, name := range Shipped() {
		_, text, err := Find(&source.Files{}, name, nil)
		require.NoError(t, err)
		_, problems := load(string(text))
		assert.Empty(t, problems, name)
	}
	_, text, err := Find(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	m, _ := load(string(text))
	assert.Equal(t, memory.Span{First: 0x7800, Last: 0x7FFF}, m.Region("bootloader").Span)
	assert.Equal(t, memory.Span{First: 0, Last: 0x77FF}, m.Region("application").Span)
	assert.Equal(t, "eeprom", m.RegionAt(0x0040_0000).Memory)
	assert.Nil(t, m.MemoryAt(0x8000))
}

func TestFind(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "mine.device.toml")
	require.NoError(t, os.WriteFile(file, []byte("name = 'x'"), 0o644))
	found, text, err := Find(&source.Files{}, "mine", []string{"nowhere", dir})
	require.NoError(t, err)
	assert.Equal(t, file, found)
	assert.Equal(t, "name = 'x'", string(text))
	found, _, err = Find(&source.Files{}, file, nil)
	require.NoError(t, err)
	assert.Equal(t, file, found)
	_, _, err = Find(&source.Files{}, "min", []string{dir})
	assert.EqualError(t, err, "no such device map: min; did you mean mine?")
	_, _, err = Find(&source.Files{}, filepath.Join(dir, "other.toml"), nil)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.ErrorContains(t, err, "known: mine.device.toml")
	_, _, err = Find(&source.Files{}, filepath.Join(dir, "none", "mine.device.toml"), nil)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.ErrorContains(t, err, "no folder "+filepath.Join(dir, "none"))
}

const memories = `name = "T"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = "4K"
`

func TestRegionsInTermsOfEachOther(t *testing.T) {
	m, problems := load(memories + `
[[region]]
name = "app"
role = "application"
first = "flash.first"
last = "boot.first - 1"
[[region]]
name = "boot"
role = "bootloader"
first = "flash.last - 255"
size = 256
`)
	require.Empty(t, problems)
	assert.Equal(t, memory.Span{First: 0x1000, Last: 0x1EFF}, m.Region("app").Span)
	assert.Equal(t, memory.Span{First: 0x1F00, Last: 0x1FFF}, m.Region("boot").Span)
	app, _ := m.Names().Span("app")
	assert.Equal(t, m.Region("app").Span, app)
}

func TestProblems(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"no TOML": {"name = \n", []string{"m.toml:1:8: error: "}},
		"unknown key": {memories + "pages = 3\nspeed = 1\n",
			[]string{"m.toml:7:1: error: unknown key pages (did you mean page?)",
				"m.toml:8:1: error: unknown key speed (known: name, kind, first, size, image-first, unit, erased, page, granule, " +
					"write-once, ecc, endurance, sectors, aliases, erase-time, program-time)"}},
		"types": {"name = 3\n[[memory]]\nname = true\nfirst = 1.5\n",
			[]string{"m.toml:1:1: error: name is 3; expected a text in quotes",
				"m.toml:3:1: error: name is true; expected a text in quotes",
				"m.toml:4:1: error: first is 1.5; expected a number, or an expression in quotes"}},
		"nothing": {"", []string{"m.toml: error: the map has no name and no memory"}},
		"kind": {"name = 'T'\n[[memory]]\nname = 'a'\nkind = 'flsh'\nfirst = 0\nsize = 1\n",
			[]string{"m.toml:4:1: error: kind \"flsh\" is not known (did you mean flash?)"}},
		"no size": {"name = 'T'\n[[memory]]\nname = 'a'\nkind = 'ram'\nfirst = 0\n", []string{"m.toml:2:3: error: memory a has no size"}},
		"past the end": {"name = 'T'\n[[memory]]\nname = 'a'\nkind = 'ram'\nfirst = '0xFFFF_FFFF_FFFF_FFFF'\nsize = 2\n",
			[]string{"invalid range: 2 bytes from 0xFFFF_FFFF_FFFF_FFFF"}},
		"overlap": {memories + "[[memory]]\nname = 'b'\nkind = 'ram'\nfirst = 0x1FFF\nsize = 2\n",
			[]string{"m.toml:10:1: error: memory b overlaps memory flash over 0x1FFF (1 byte)"}},
		"same name": {memories + "[[memory]]\nname = 'flash'\nkind = 'ram'\nfirst = 0\nsize = 2\n",
			[]string{"m.toml:8:1: error: the name flash is given twice"}},
		"bad names": {memories +
			"[[memory]]\nname = 'a-b'\nkind = 'ram'\nfirst = 0\nsize = 2\n[[region]]\nname='image'\nrole='data'\nfirst=0\nsize=1\n",
			[]string{"m.toml:8:1: error: \"a-b\" cannot be a name", "m.toml:13:1: error: the name image has a meaning of its own"}},
		"page": {memories + "page = 100\ngranule = 0\nerased = 256\n",
			[]string{"the memory's 4 KiB is not a multiple of its 100-byte", "m.toml:8:1: error: the",
				"m.toml:9:1: error: the erased value 0x100 is not a byte"}},
		"aliases": {memories + "aliases = [0x1800, 0x8000, 0x8800]\n",
			[]string{"m.toml:7:12: error: the alias at 0x1800 overlaps the memory itself",
				"m.toml:7:28: error: the alias of flash overlaps the alias of flash over 0x8800..0x8FFF"}},
		"sectors short": {memories + "sectors = [{ count = 2, size = '1K' }]\n",
			[]string{"m.toml:7:1: error: the sectors leave 2 KiB of the memory over"}},
		"sectors long": {memories + "sectors = [{ count = 2, size = '1K' },\n { size = '4K' }]\n",
			[]string{"m.toml:8:2: error: the sectors add up to more than the memory's 4 KiB"}},
		"no memory": {memories + "[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0\nsize = 1\n",
			[]string{"m.toml:10:1: error: region r begins at 0x0000, which is in no memory"}},
		"past memory": {memories + "[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0x1FFF\nsize = 3\n",
			[]string{"m.toml:7:3: error: region r, 0x1FFF..0x2001 (3 bytes), runs past the end of memory flash at 0x1FFF, by 2 bytes"}},
		"regions meet": {memories +
			"[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0x1000\nsize = 16\n[[region]]\nname = 's'\nrole = 'data'\nfirst = " +
			"0x100F\nsize = 1\n", []string{"m.toml:12:3: error: region s overlaps region r over 0x100F (1 byte)"}},
		"circle": {memories +
			"[[region]]\nname = 'r'\nrole = 'data'\nfirst = 's.first'\nsize = 1\n[[region]]\nname = 's'\nrole = 'data'\nfirst = " +
			"'r.first'\nsize = 1\n",
			[]string{"m.toml:7:3: error: the address of region r depends on itself",
				"m.toml:12:3: error: the address of region s depends on itself"}},
		"size and last": {memories + "[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0x1000\nsize = 1\nlast = 0x1000\n",
			[]string{"m.toml:7:3: error: region r needs two of first, size and last"}},
		"ends too early": {memories + "[[region]]\nname = 'r'\nrole = 'dta'\nfirst = 0x1001\nlast = 0x1000\n",
			[]string{"m.toml:9:1: error: role \"dta\" is not known (did you mean data?)",
				"m.toml:11:1: error: region r begins at 0x1001 and ends before that, at 0x1000"}},
		"identity": {"identity = 'B8 3'\n" + memories,
			[]string{"m.toml:1:1: error: \"B8 3\", character 5: 3 hex digits leave half a byte"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, problems := load(c.text)
			require.Len(t, problems, len(c.want), "%q", problems)
			for i, want := range c.want {
				assert.Contains(t, problems[i], want)
			}
		})
	}
}

// FuzzLoad reads anything as a map: problems, but never a panic.
func FuzzLoad(f *testing.F) {
	for _, name := range Shipped() {
		_, text, _ := Find(&source.Files{}, name, nil)
		f.Add(string(text))
	}
	for _, s := range []string{sound,
		"name = 'v'\nbase = 'brindle-b8-32'\ndrop = ['lock_word']\n[[memory]]\nname = 'flash'\npage = 64\n[[config]]\nname = " +
			"'clock_word'\n[[config.field]]\nname = 'clock_source'\nbits = '0..1'\n[start]\nkind = 'vectors'\n",
		"base = 'brindle-d32-256'\n[[region]]\nname = 'slot_a'\nsize = 3\n[[start]]\nat = 0\n[[checksum]]\nname = 'slot_a_crc'\nin = []\n", Template, configured, "a.b.c = 1", "[[memory]]\n[memory.x]", "memory = 3", "[[a]]\n[[a.b]]\nc = [1, [2]]", "config = [[]]", "[[config]]\nat=0\nwidth=8\n[[config.field]]\nbits='0..63'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, problems := load(text)
		if len(problems) == 0 {
			m.For(nil)
			m.Names()
			writtenAndRead(t, m)
		}
	})
}

// TestIdentified finds the map that a device's answer belongs to, masks included.
func TestIdentified(t *testing.T) {
	for answer, want := range map[string][]string{
		"\xB8\x32\x01": {"brindle-b8-32"}, "\x44\x32\x02\x56\xF2": {"brindle-d32-256"}, "\x44\x32\x02\x57\x02": nil, "\xB8\x32": nil,
		"": nil,
	} {
		assert.Equal(t, want, Identified([]byte(answer), Each(nil, nil)), "% X", answer)
	}
	assert.Nil(t, Identified([]byte("\xB8\x32\x01"), Each(nil, []string{"brindle-b8-32"})))
}
