package device

import (
	"encoding/binary"
	"hash/crc32"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// TestChecksumsAsLoadersTakeThem computes declared checksums over what the image
// says, and what else a loader may do, against a plain way of doing it.
func TestChecksumsAsLoadersTakeThem(t *testing.T) {
	data := make([]byte, 0x200)
	for i := range data {
		data[i] = byte(i*11 + i>>4)
	}
	binary.LittleEndian.PutUint32(data[0x04:], 0x80)        // a length
	binary.BigEndian.PutUint16(data[0x08:], 0x1100)         // the address behind the end
	binary.LittleEndian.PutUint32(data[0x0C:], 0x0000_11F0) // a place
	image, _ := memory.FromBytes(0x1000, data, &source.Input{Name: "f"})
	sum := func(parts ...[]byte) uint32 {
		h := crc32.NewIEEE()
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum32()
	}
	swapped := make([]byte, 0x40)
	for i := range swapped {
		swapped[i] = data[0x20+i^3]
	}
	erased := func(from, to int) []byte { return []byte(strings.Repeat("\xFF", to-from)) }
	for name, c := range map[string]struct {
		text  string
		place uint64
		want  uint32
	}{
		"length":       {"in = '0x1020..0x11EF'\nlength-at = { at = 0x1004 }\nat = 0x1010", 0x1010, sum(data[0x20:0xA0])},
		"length, less": {"in = '0x1020..0x11EF'\nlength-at = { at = 0x1004, offset = -16 }\nat = 0x1010", 0x1010, sum(data[0x20:0x90])},
		"end": {"in = '0x1020..0x11EF'\nend-at = { at = 0x1008, width = 2, order = 'big', offset = -1 }\nat = 0x1010", 0x1010,
			sum(data[0x20:0x100])},
		"behind the end": {"in = '0x1020..0x11EF'\nlength-at = { at = 0x1004 }\nat = 'fed.last + 1'", 0x10A0, sum(data[0x20:0xA0])},
		"place":          {"in = '0x1020..0x10FF'\nplace-at = { at = 0x100C }", 0x11F0, sum(data[0x20:0x100])},
		"several spans":  {"in = ['0x1100..0x11EF', '0x1020..0x10FF']\nat = 0x1010", 0x1010, sum(data[0x100:0x1F0], data[0x20:0x100])},
		"skip": {"in = '0x1020..0x11EF'\nskip = ['0x1040..0x105F', '0x1100']\nat = 0x1010", 0x1010,
			sum(data[0x20:0x40], data[0x60:0x100], data[0x101:0x1F0])},
		"swap":            {"in = '0x1020..0x105F'\nswap = 4\nat = 0x1010", 0x1010, sum(swapped)},
		"holes as erased": {"in = '0x11F0..0x120F'\nat = 0x1010", 0x1010, sum(data[0x1F0:], erased(0x200, 0x210))},
		"holes as 00":     {"in = '0x11F0..0x120F'\nholes = 0\nat = 0x1010", 0x1010, sum(data[0x1F0:], make([]byte, 0x10))},
		"its own place":   {"in = '0x1000..0x103F'\nslot = 'skip'\nat = 0x1010", 0x1010, sum(data[:0x10], data[0x14:0x40])},
	} {
		m, problems := load(memories + "[[checksum]]\nname = 'sum'\nkind = 'CRC-32/ISO-HDLC'\n" + c.text + "\n")
		require.Empty(t, problems, name)
		spec, err := m.Checksums[0].Spec(m, image)
		require.NoError(t, err, name)
		assert.Equal(t, c.place, spec.Place.First, name)
		_, stored, err := spec.Compute(image, 1)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, binary.LittleEndian.Uint32(stored), name)
	}
	m, problems := load(memories + "[[checksum]]\nkind = 'CRC-16/MODBUS'\nin = '0x1020..0x105F'\nat = 0x1010\nsize = 4\norder = 'big'\n")
	require.Empty(t, problems)
	spec, err := m.Checksums[0].Spec(m, image)
	require.NoError(t, err)
	value, stored, err := spec.Compute(image, 1)
	require.NoError(t, err)
	assert.Equal(t, append([]byte{0, 0}, value...), stored, "in four bytes, the higher ones 0")
}

// TestImagesThatSayWhatCannotBe tells what an image says that its map cannot take.
func TestImagesThatSayWhatCannotBe(t *testing.T) {
	data := make([]byte, 0x100)
	binary.LittleEndian.PutUint32(data[0x00:], 0x1000)
	binary.LittleEndian.PutUint32(data[0x04:], 0x2000)
	binary.LittleEndian.PutUint32(data[0x08:], 0x0000_1030)
	image, _ := memory.FromBytes(0x1000, data, &source.Input{Name: "f"})
	const in = "[[checksum]]\nname = 'sum'\nkind = 'CRC-32/ISO-HDLC'\nin = '0x1020..0x10FF'\n"
	for text, want := range map[string]string{
		"length-at = { at = 0x1000 }\nat = 0x1010": "the length at 0x1000 says 4,096 bytes, which 0x1020..0x10FF (224 " +
			"bytes) does not have",
		"length-at = { at = 0x1000, offset = -4096 }\nat = 4112": "the length at 0x1000 says 0 bytes",
		"length-at = { at = 0x1000, offset = -4097 }\nat = 4112": "the length at 0x1000..0x1003 is 0x1000, which with -4097 is " +
			"not an address",
		"end-at = { at = 0x1004 }\nat = 0x1010":    "the end at 0x1004 says 0x2000, which is outside 0x1020..0x10FF",
		"place-at = { at = 0x1004 }":               "the value's place 0x2000 is not in one memory",
		"place-at = { at = 0x1008 }":               "the value's place 0x1030..0x1033 is inside the span",
		"length-at = { at = 0x1200 }\nat = 0x1010": "the length is at 0x1200..0x1203, and the image does not contain it",
	} {
		m, problems := load(memories + in + text + "\n")
		require.Empty(t, problems, text)
		_, err := m.Checksums[0].Spec(m, image)
		assert.ErrorContains(t, err, want, text)
	}
}

// TestChecksumsInACircle cannot be stored one after the other.
func TestChecksumsInACircle(t *testing.T) {
	sum := func(name, in, at string) string {
		return "[[checksum]]\nname = '" + name + "'\nkind = 'CRC-32/ISO-HDLC'\nin = '" + in + "'\nat = " + at + "\n"
	}
	_, problems := load(memories + sum("a", "0x1000..0x10FF", "0x1200") + sum("b", "0x1100..0x120F", "0x1080"))
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "m.toml:10:1: error: the checksums a and b each cover the place of another, so none can come first")
	m, problems := load(
		memories + sum("outer", "0x1000..0x11FF", "0x1200") + sum("inner", "0x1000..0x107F", "0x1080") + sum("most", "0x1000..0x12FF",
			"0x1300"),
	)
	require.Empty(t, problems)
	order, circle := InOrder(m, nil, []*Checksum{&m.Checksums[0], &m.Checksums[1], &m.Checksums[2]})
	assert.Nil(t, circle)
	assert.Equal(t, "inner outer most", order[0].Name+" "+order[1].Name+" "+order[2].Name)
	// Where an image says how far one goes, and it is stored behind that, it comes
	// before one that covers the place, though the map alone cannot know.
	m, problems = load(
		memories + sum("whole", "0x1000..0x11FF", "0x1200") + sum("body", "0x1010..0x11EF", "'fed.last + 1'") +
			"length-at = { at = 0x1000 }\n",
	)
	require.Empty(t, problems)
	image, _ := memory.FromBytes(0x1000, make([]byte, 0x200), &source.Input{Name: "f"})
	image, _ = image.Write(&source.Input{Name: "g"}, 0x1000, []byte{0x40, 0, 0, 0})
	order, circle = InOrder(m, image, []*Checksum{&m.Checksums[0], &m.Checksums[1]})
	assert.Nil(t, circle)
	assert.Equal(t, "body whole", order[0].Name+" "+order[1].Name)
	_, problems = load(memories + sum("a", "0x1000..0x10FF", "0x1200") + sum("a", "0x1000..0x10FF", "0x1300"))
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "m.toml:13:1: error: the name a is given twice")
	for text, want := range map[string]string{
		"in = '0x1020..0x10FF'\nlength-at = { at = 0x1000 }\nend-at = { at = 0x1004 }\nat = 0x1010\n": "length-at and end-at both say where the fed bytes end",
		"in = ['0x1020..0x10FF', '0x1100']\nlength-at = { at = 0x1000 }\nat = 0x1010\n":               "there are several spans",
		"in = '0x1020..0x10FF'\nplace-at = { at = 0x1000 }\nat = 0x1010\n":                            "at and place-at both say where the value is stored",
		"in = '0x1020..0x10FF'\nlength-at = { at = 0x1000 }\nat = '0x3000 - fed.last'\n":              "does not stay after what is fed",
	} {
		_, problems := load(memories + "[[checksum]]\nname = 'sum'\nkind = 'CRC-32/ISO-HDLC'\n" + text)
		require.Len(t, problems, 1, text)
		assert.Contains(t, problems[0], want)
	}
}

// TestIdentitiesByMask are those of several revisions, but for bits that do not count.
func TestIdentitiesByMask(t *testing.T) {
	m, problems := load("identity = ['4D 32 01', '4D 33 00']\nidentity-mask = 'FF FF 0F'\n" + memories)
	require.Empty(t, problems)
	for text, want := range map[string]bool{"\x4D\x32\x01": true, "\x4D\x32\xF1": true, "\x4D\x33\x10": true, "\x4D\x33\x01": false,
		"\x4D\x34\x01": false, "\x4D\x32": false} {
		is := m.Identities[0].Is([]byte(text)) || m.Identities[1].Is([]byte(text))
		assert.Equal(t, want, is, "% X", text)
	}
	assert.Equal(t, "4D 32 01&0F", m.Identities[0].String())
}

// TestRegionsInRegions are pieces and twins.
func TestRegionsInRegions(t *testing.T) {
	const slots = `[[region]]
name = "b"
like = "a"
first = "a.last + 1"
[[region]]
name = "a"
role = "application"
first = "flash.first"
size = "1K"
required = true
[[region]]
name = "a_head"
role = "data"
inside = "a"
first = "a.first"
size = 64
required = true
[[region]]
name = "a_head_mark"
role = "reserved"
inside = "a_head"
first = "a_head.first"
size = 4
`
	m, problems := load(memories + slots)
	require.Empty(t, problems)
	require.Len(t, m.Regions, 2, "pieces are no regions of their own")
	assert.Equal(t, []string{"a", "a_head", "a_head_mark", "b", "b_head", "b_head_mark"}, m.RegionNames())
	assert.Equal(t, memory.Span{First: 0x1400, Last: 0x17FF}, m.Region("b").Span)
	assert.Equal(t, memory.Span{First: 0x1400, Last: 0x1403}, m.Region("b_head_mark").Span)
	assert.Equal(t, Reserved, m.Region("b_head_mark").Role)
	assert.Equal(t, Application, m.Region("b").Role)
	assert.False(t, m.Region("b_head").Required, "its slot is not")
	assert.Equal(t, "b", m.RegionAt(0x1400).Name)
	assert.Equal(t, "b_head_mark", m.InnermostAt(0x1403).Name)
	assert.Equal(t, "b_head", m.InnermostAt(0x1404).Name)
	assert.Equal(t, "b", m.InnermostAt(0x1440).Name)
	assert.Nil(t, m.InnermostAt(0x1800))
	var pieces []string
	for s, r := range m.Innermost() {
		pieces = append(pieces, r.Name+" "+s.Range())
	}
	assert.Equal(
		t,
		[]string{
			"a_head_mark 0x1000..0x1003",
			"a_head 0x1004..0x103F",
			"a 0x1040..0x13FF",
			"b_head_mark 0x1400..0x1403",
			"b_head 0x1404..0x143F",
			"b 0x1440..0x17FF",
		},
		pieces,
	)
	in, _ := m.Names().Span("b_head")
	assert.Equal(t, m.Region("b_head").Span, in)

	for text, want := range map[string]string{
		strings.Replace(slots, "like = \"a\"", "like = \"b\"", 1): "region b is like itself",
		strings.Replace(slots, "like = \"a\"", "like = \"c\"", 1): "unknown region c",
		strings.Replace(slots, "like = \"a\"\n", "like = \"a\"\nsize = 3\n",
			1): "region b is like a, and has neither first nor last",
		strings.Replace(slots, "inside = \"a\"", "inside = \"a_head_mark\"", 1):                 "is inside itself through others",
		slots + "[[region]]\nname = 'b_head'\nrole = 'data'\nfirst = 0x1900\nsize = 1\n":        "the name b_head, of the twin of a_head, is given already",
		slots + "[[region]]\nname = 'x'\nrole = 'data'\ninside = 'a'\nfirst = 0x103F\nsize = 1": "region x overlaps region a_head over 0x103F",
	} {
		_, problems := load(memories + text)
		require.NotEmpty(t, problems, text)
		assert.Contains(t, strings.Join(problems, "\n"), want)
	}
}
