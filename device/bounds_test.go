package device

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source"
)

// TestNumbersUpToTheirBounds gives keys the least and the most that they take, and one beyond.
func TestNumbersUpToTheirBounds(t *testing.T) {
	const flash = "name = 'P'\n[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = '64K'\ngranule = 8\n"
	const sum = "[[checksum]]\nname = 's'\nkind = 'CRC-32/ISO-HDLC'\nin = '0..0xFF'\nat = 0x100\n"
	for text, c := range map[string]struct {
		key         string
		least, most uint64
	}{
		flash + "endurance = %d\n":                               {"endurance", 1, 1 << 40},
		flash + "erased = %d\n":                                  {"erased", 0, 0xFF},
		flash + "[link]\nbaud = %d\n":                            {"baud", 1, 1 << 40},
		flash + "[link]\nbaud = 9600\nbits = %d\n":               {"bits", 8, 64},
		flash + "[link]\nbaud = 9600\npacket = %d\n":             {"packet", 1, 1 << 20},
		flash + "[link]\nbaud = 9600\npacket = 8\naround = %d\n": {"around", 0, 1 << 20},
		flash + sum + "size = 4\nholes = %d\n":                   {"holes", 0, 0xFF},
		flash + sum + "size = %d\n":                              {"size", 4, 64},
		flash + "unit = %d\n":                                    {"unit", 1, 8},
		flash + "[[region]]\nname = 'r'\nrole = 'data'\nlast = 0x1FFF\nsize = 8\nunit = %d\n": {"unit", 1, 8},
	} {
		for n, right := range map[uint64]bool{c.least: true, c.most: true, c.most + 1: false, c.least - 1: c.least == 0} {
			if c.least == 0 && n+1 == 0 {
				continue
			}
			_, problems := load(fmt.Sprintf(text, n))
			assert.Equal(t, right, len(problems) == 0, "%s = %d in\n%s%s", c.key, n, text, strings.Join(problems, "\n"))
		}
	}
}

// TestVariantsHaveAllThatTheirBaseHas makes a variant that changes one element of each list and
// adds another.
func TestVariantsHaveAllThatTheirBaseHas(t *testing.T) {
	dir := t.TempDir()
	const memories = "[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = 4096\n"
	port := func(name, can string) string { return "[[port]]\nname = '" + name + "'\ncan = ['" + can + "']\n" }
	sum := func(name string, at int) string {
		return fmt.Sprintf("[[checksum]]\nname = '%s'\nkind = 'SUM-32'\nin = '0..0xFF'\nat = %d\n", name, at)
	}
	for name, text := range map[string]string{
		"big": "name = 'Big'\n" + memories + port("one", "read") + port("two", "read") + sum("s", 0x100) + sum("t", 0x104),
		"small": "name = 'Small'\nbase = 'big'\n[[memory]]\nname = 'ram'\nkind = 'ram'\nfirst = 0x8000\nsize = 16\n" +
			"" + port("two", "program") +
			port("three", "read") + sum("t", 0x108) + sum("u", 0x10C),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".device.toml"), []byte(text), 0o644))
	}
	m, err := Open(&source.Files{}, "small", []string{dir})
	require.NoError(t, err)
	ports, sums, mems := map[string]Ability{}, map[string]uint64{}, []string{}
	for _, p := range m.Ports {
		ports[p.Name] = p.Can[0]
	}
	for _, s := range m.Checksums {
		sums[s.Name] = s.At
	}
	for _, mem := range m.Memories {
		mems = append(mems, mem.Name)
	}
	assert.Equal(t, map[string]Ability{"one": "read", "two": "program", "three": "read"}, ports)
	assert.Equal(t, map[string]uint64{"s": 0x100, "t": 0x108, "u": 0x10C}, sums)
	assert.Equal(t, []string{"flash", "ram"}, mems)
}

// TestWhatCannotBeComputed is told, and no value with it.
func TestWhatCannotBeComputed(t *testing.T) {
	kind, err := checksum.KindOf("CRC-32/ISO-HDLC")
	require.NoError(t, err)
	image, _ := memory.FromBytes(0x100, []byte("tide"), &source.Input{Name: "f"})
	s := &Spec{Kind: kind, Feed: checksum.Feed{Spans: []memory.Span{{First: 0x100, Last: 0x104}}},
		Place: &memory.Span{First: 0x200, Last: 0x203}}
	value, stored, err := s.Compute(image, 1)
	require.Error(t, err)
	assert.Nil(t, value)
	assert.Nil(t, stored)
	s.Feed.Spans[0].Last--
	value, stored, err = s.Compute(image, 1)
	require.NoError(t, err)
	assert.Len(t, stored, 4)
	assert.NotNil(t, value)
}

// TestWhatIsNotPlacedHoldsNothing gives a region that cannot be placed what its part begins with.
func TestWhatIsNotPlacedHoldsNothing(t *testing.T) {
	m, problems := load("name = 'P'\n[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = 4096\n" +
		"[[region]]\nname = 'q'\nrole = 'data'\nfirst = 'nowhere.first'\nsize = 16\nholds = [{ at = 0, text = 'TG-1' }]\n" +
		"[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0\nsize = 16\nholds = [{ at = 0, text = 'TG-1' }]\n")
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "nowhere")
	require.NotNil(t, m.Region("r"))
	assert.Len(t, m.Region("r").Holds, 1)
	assert.Nil(t, m.Region("q"))
}

// TestMapsThatAreNotSound loads small maps, each with one mistake or none, and holds what is
// told of them, with line and column.
func TestMapsThatAreNotSound(t *testing.T) {
	const head = "name = 'P'\n"
	const mem = "[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = '64K'\npage = 64\ngranule = 8\n"
	const flash = head + mem
	region := func(more string) string { return flash + "[[region]]\nname = 'r'\nrole = 'data'\n" + more }
	const word = "[[memory]]\nname = 'words'\nkind = 'config'\nfirst = 0x2_0000\nsize = 16\n[[config]]\nname = 'w'\n" +
		"at = 0x2_0000\nwidth = 2\n"
	const field = "[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 0, meaning = 'off' }, { value = 1, meaning = 'on' }]\n"
	sum := func(more string) string {
		return flash + "[[checksum]]\nname = 's'\nkind = 'CRC-32/ISO-HDLC'\nin = '0..0xFF'\n" + more
	}
	port := func(more string) string {
		return flash + word + field + "[[port]]\nname = 'p'\ncan = ['read']\n" + more
	}
	for _, c := range []struct {
		text string
		told []string
	}{
		{"identity = ''\n" + flash, []string{"1:1: \"\", character 1: no bytes; expected hex digits, such as FF or DE AD BE EF"}},
		{head + "[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0x8000_0000_0000_0000\nsize = 16\n",
			[]string{"5:9: 0x8000_0000_0000_0000 is too large for a number in TOML; expected \"0x8000_0000_0000_0000\", in quotes"}},
		{head + "[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = 4032\npage = 48\ngranule = 32\n",
			[]string{"7:1: pages of 48 bytes are not whole granules of 32"}},
		{flash + "aliases = ['nowhere']\n", []string{"9:12: \"nowhere\", character 1: unknown name nowhere; known: flash"}},
		{head + "[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = '0x8000_0000_0000_0000'\nsize = 16\nunit = 4\n",
			[]string{"5:1: word 0x8000_0000_0000_0000 is past the last 64-bit address of bytes"}},
		{flash + "sectors = [{ size = 'nowhere' }]\n", []string{"9:14: \"nowhere\", character 1: unknown name nowhere; known: flash"}},
		{flash + "[[start]]\nkind = 'vectors'\nat = 0\nwidth = 3\n", []string{"12:1: vectors of 3 bytes; expected 2 or 4"}},
		{flash + "[[start]]\nkind = 'vectors'\nat = 0\nwidth = 'nowhere'\n",
			[]string{"12:1: \"nowhere\", character 1: unknown name nowhere; known: flash"}},
		{flash + "[[start]]\nkind = 'instruction'\nat = 0\nwidth = 4\nodd-target = true\n",
			[]string{"12:1: width has no effect where a first instruction is started; expected kind = \"vectors\"",
				"13:1: odd-target has no effect where a first instruction is started; expected kind = \"vectors\""}},
		{region("first = 0\nsize = 16\nclock-at = { at = 0x20, width = 4 }\n"),
			[]string{"14:14: clock-at, 0x0020..0x0023 (4 bytes), is not in region r; expected an address in it"}},
		{region("first = 0\nsize = 16\nclock-at = { at = 4, width = 4 }\n"), nil},
		{region("first = 0x2000_0000_0000_0000\nsize = 16\nunit = 2\n"),
			[]string{"14:1: an address of region r is too large to count words"}},
		{region("last = 7\nsize = 9\n"), []string{"13:1: 9 bytes up to 0x0007 make no span; expected 1 byte or more, not below 0"}},
		{region("last = 7\nsize = 0\n"), []string{"13:1: 0 bytes up to 0x0007 make no span; expected 1 byte or more, not below 0"}},
		{region("last = 7\nsize = 8\n"), nil},
		{region("first = '0xFFFF_FFFF_FFFF_FFF8'\nsize = 9\n"),
			[]string{"13:1: invalid range: 9 bytes from 0xFFFF_FFFF_FFFF_FFF8; expected 1 byte or more, not past the last 64-bit address"}},
		{region("first = 0\nsize = 16\nholds = [{ text = 'a' }]\n"), []string{"14:10: holds has no at"}},
		{region("first = 0\nsize = 16\nholds = [{ at = 2, text = 'a' }]\n[[region]]\nname = 'twin'\nlike = 'r'\nfirst = 0x100\n"), nil},
		{sum("at = '0xFFFF_FFFF_FFFF_FFFE'\n"), []string{"13:1: 4 bytes at 0xFFFF_FFFF_FFFF_FFFE run past the last 64-bit address"}},
		{sum("at = 0x80\nslot = 'skip'\n"), nil},
		{sum("at = 0x100\nsize = 65\n"), []string{"14:1: size is 65; expected 1 to 64"}},
		{flash + word + field + "[[config.field]]\nname = 'g'\nbits = 'x..y'\n",
			[]string{"24:1: \"x..y\" are not bits; expected bits = 3, or bits = \"4..7\""}},
		{flash + word + field + "[[group]]\nname = 'both'\nfields = ['f', 'f']\n",
			[]string{"22:3: group both has no values; expected [[values]]"}},
		{flash + word + "[[config.field]]\nname = 'f'\nbits = 0\n" +
			"values = [{ value = 0, meaning = 'off', needs = {} }, { value = 1, meaning = 'on', gives = {} }]\n",
			[]string{"21:41: needs is empty; expected clock, frequency, supply, pin or free; or no such key",
				"21:84: gives has clock or divide, one of them"}},
		{flash + word + "[[config.field]]\nname = 'f'\nbits = 0\n" +
			"values = [{ value = 0, meaning = 'off', needs = { pin = '1x' } }, { value = 1, meaning = 'on', gives = { clock = '0 Hz' } }]\n",
			[]string{"21:51: \"1x\" cannot be a name; expected letters, digits and _, with no digit first",
				"21:106: a frequency of 0 Hz; expected 8 MHz, for example, or board"}},
		{flash + word + "[[config.field]]\nname = 'f'\nbits = 0\n" +
			"values = [{ value = 0, meaning = 'off', gives = { divide = 0 } }, { value = 1, meaning = 'on' }]\n",
			[]string{"21:51: divide is 0; expected 1 to 4294967296"}},
		{port("[[port]]\nname = 'p'\ncan = ['read']\n"), []string{"26:1: the port p is given twice"}},
		{port("[[port]]\nname = '2'\ncan = ['read']\n"),
			[]string{"26:1: \"2\" cannot be a name; expected letters, digits, _ and -, with no digit first"}},
		{port("[[port]]\nname = 'q'\n"), []string{"25:3: port q has no can"}},
		{port("needs = { clock = 3 }\n"), []string{"25:11: clock is 3; expected true, or no such key"}},
		{port("when = [{ f = 'on' }]\n"), []string{"25:9: when has no can; expected can = [\"identify\"], or can = [] if nothing"}},
		{port("when = [{ can = [] }]\n"), []string{"25:9: when names no field; expected FIELD = \"MEANING\""}},
		{port("when = [{ f = 1, can = [] }]\n"), []string{"25:11: f is 1; expected a meaning of the field, in quotes"}},
		{port("when = [{ f = 'on', can = 'identify' }]\n"), nil},
		{port("when = [{ f = 'on', can = ['identify', 'identify'] }]\n"), []string{"25:40: identify is given twice"}},
		{flash + word + field + "[[wish]]\nname = 'w'\n", []string{"22:3: wish w has no set"}},
		{flash + word + field + "[[wish]]\nname = 'w'\nset = { f = 'on' }\n[[wish]]\nname = 'W'\nset = { f = 'off' }\n",
			[]string{"26:1: the wish \"W\" is given twice"}},
		{flash + word + field + "[[wish]]\nname = 'w'\nset = { f = 'maybe' }\n",
			[]string{"24:9: f never means \"maybe\" (f means one of: off; on)"}},
		{flash + "[[config]]\nname = 'w'\nat = '0xFFFF_FFFF_FFFF_FFFF'\nwidth = 2\n",
			[]string{"11:1: configuration word w runs past the last 64-bit address"}},
		{region("first = 0\nsize = 16\n[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0x100\nsize = 16\n"),
			[]string{"15:1: the name r is given twice; expected another name than that of region 1"}},
	} {
		_, problems := load(c.text)
		for i := range problems {
			problems[i] = strings.Replace(strings.TrimPrefix(problems[i], "m.toml:"), ": error: ", ": ", 1)
		}
		assert.Equal(t, c.told, problems, c.text)
	}
}

// TestTwinsHoldWhatTheirOriginalsHold puts what a region holds as far from the first address of
// its twin.
func TestTwinsHoldWhatTheirOriginalsHold(t *testing.T) {
	m, problems := load("name = 'P'\n[[memory]]\nname = 'flash'\nkind = 'flash'\nfirst = 0\nsize = '64K'\n" +
		"[[region]]\nname = 'r'\nrole = 'data'\nfirst = 0x40\nsize = 16\nholds = [{ at = 0x42, text = 'a' }, { at = 0x4C, text = 'bc' }]\n" +
		"[[region]]\nname = 'later'\nlike = 'r'\nfirst = 0x100\n[[region]]\nname = 'earlier'\nlike = 'r'\nfirst = 0x10\n")
	require.Empty(t, problems)
	for name, at := range map[string][2]uint64{"r": {0x42, 0x4C}, "later": {0x102, 0x10C}, "earlier": {0x12, 0x1C}} {
		holds := m.Region(name).Holds
		require.Len(t, holds, 2, name)
		assert.Equal(t, at, [2]uint64{holds[0].At, holds[1].At}, name)
	}
}

// TestWishesByName finds a wish by its name, or by a part of it that no other has.
func TestWishesByName(t *testing.T) {
	text := "name = 'P'\n[[memory]]\nname = 'words'\nkind = 'config'\nfirst = 0\nsize = 16\n[[config]]\nname = 'w'\nat = 0\nwidth = 2\n" +
		"[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 0, meaning = 'off' }, { value = 1, meaning = 'on' }]\n"
	none, _ := load(text)
	_, err := none.Wish("run fast")
	require.EqualError(t, err, "P has no [[wish]] in its map")
	for _, name := range []string{"run fast", "run slowly", "fast"} {
		text += "[[wish]]\nname = '" + name + "'\nset = { f = 'on' }\n"
	}
	m, problems := load(text)
	require.Empty(t, problems)
	for name, want := range map[string]string{"Run Fast": "run fast", "FAST": "fast", "slow": "run slowly", "run": "", "none": "", "": ""} {
		w, err := m.Wish(name)
		if want == "" {
			require.EqualError(t, err, fmt.Sprintf("P has no wish %q; known: run fast; run slowly; fast", name))
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, want, w.Name)
	}
}

// TestTheWordToBlame gives two words to a board: of what follows from both, the one is named
// without which it would not be so.
func TestTheWordToBlame(t *testing.T) {
	text := "name = 'P'\n[[memory]]\nname = 'words'\nkind = 'config'\nfirst = 0\nsize = 16\n"
	for i, name := range []string{"a", "b", "c"} {
		text += fmt.Sprintf("[[config]]\nname = '%s'\nat = %d\nwidth = 1\n[[config.field]]\nname = '%s_slow'\nbits = 1\n", name, i, name) +
			"values = [{ value = 0, meaning = 'no' }, { value = 1, meaning = 'yes' }]\n"
		if name == "b" {
			text += "[[config.field]]\nname = 'clock'\nbits = 0\nvalues = [{ value = 0, meaning = '8 MHz', gives = { clock = '8 MHz' } }, " +
				"{ value = 1, meaning = '16 MHz', gives = { clock = '16 MHz' } }]\n"
		}
	}
	text += "[[speed]]\nsupply = '>= 1.8 V'\nclock = '<= 8 MHz'\n[[speed]]\nsupply = '>= 4.2 V'\nclock = '<= 16 MHz'\n"
	m, problems := load(text)
	require.Empty(t, problems)
	m = m.On(&Board{Name: "low", Supply: &Range{Low: 3000, High: 3600}})
	byte0 := func(v uint64, content bool) Given { return Given{Value: v, Known: 3, Content: content} }
	blamed := func(given map[string]Given) (names []string) {
		for _, v := range m.Judge(given) {
			if v.Kind == Unfit && strings.Contains(v.What, "a clock of 16 MHz needs a supply of") {
				names = append(names, v.Word.Name)
			}
		}
		return names
	}
	assert.Equal(t, []string{"b"}, blamed(map[string]Given{"a": byte0(2, false), "b": byte0(1, false), "c": byte0(2, false)}))
	assert.Equal(t, []string{"b"}, blamed(map[string]Given{"b": byte0(1, false), "c": byte0(2, false)}))
	assert.Equal(t, []string{"a"}, blamed(map[string]Given{"a": byte0(2, false), "b": byte0(1, true)}), "it stands in the device already")
	assert.Empty(t, blamed(map[string]Given{"a": byte0(2, false), "b": byte0(0, false)}))
	assert.Empty(t, blamed(map[string]Given{"b": byte0(1, true)}), "nothing is given")
}

// TestRangesWithBlanksAroundThem reads each form of a range with blanks and without.
func TestRangesWithBlanksAroundThem(t *testing.T) {
	for text, want := range map[string]Range{">= 8 MHz": {8e6, 1<<64 - 1}, "<= 8 MHz": {0, 8e6}, "8 MHz": {8e6, 8e6},
		"4 MHz..8 MHz": {4e6, 8e6}} {
		for _, one := range []string{text, "  " + text, text + "\t", " " + text + " "} {
			r, err := Frequency.ParseRange(one)
			require.NoError(t, err, "%q", one)
			assert.Equal(t, want, r, "%q", one)
		}
	}
}
