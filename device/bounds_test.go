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
		"small": "name = 'Small'\nbase = 'big'\n[[memory]]\nname = 'ram'\nkind = 'ram'\nfirst = 0x8000\nsize = 16\n" + port("two", "program") +
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
