package device

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

const judgedAll = memories + `
[[config]]
name = "word"
at = 0x1000
width = 2
order = "big"
default = 0xFF01
[[config.field]]
name = "lock"
bits = "0..1"
values = [{ value = 0, meaning = "open" }, { value = 1, meaning = "read only" }, { value = 3, meaning = "shut", hazard = "for ever" }]
[[config.field]]
name = "guard"
bits = 4
values = [{ value = 0, meaning = "off" }, { value = 1, meaning = "on", requires = { lock = "read only" } }]
`

func TestJudge(t *testing.T) {
	m, problems := load(judgedAll)
	require.Empty(t, problems)
	w := m.Word("word")
	require.NotNil(t, w)
	assert.Nil(t, m.Word("wrd"))
	for value, want := range map[uint64][]string{
		0xFF01: nil,
		0xFF00: nil,
		0xFF11: nil,
		0xFF02: {"undefined: lock is 2, which is not defined"},
		0xFF03: {"hazard: lock = shut is a hazard: for ever"},
		0xFF10: {"conflict: guard (on) cannot be combined with lock (open)"},
		0xFF12: {"undefined: lock is 2, which is not defined", "conflict: guard (on) cannot be combined with lock (2)"},
		0xFE01: {"undefined: word is 0xFE01; it changes undefined bits 8"},
		0x0001: {"undefined: word is 0x0001; it changes undefined bits 8..15"},
		0x7E05: {"undefined: word is 0x7E05; it changes undefined bits 2, 8, 15"},
	} {
		var got []string
		for _, v := range m.Judge(map[string]Given{"word": w.Whole(value)}) {
			got = append(got, v.Kind.String()+": "+v.What)
			assert.Equal(t, w, v.Word)
			assert.NotEmpty(t, v.Expected)
			assert.NotEmpty(t, v.Advice)
		}
		assert.Equal(t, want, got, "0x%04X", value)
	}
	assert.Empty(t, m.Judge(nil), "what is not given is as delivered")
}

// TestJudgePart gives half of a word: the other half is judgedAll as delivered, and
// not blamed.
func TestJudgePart(t *testing.T) {
	m, problems := load(judgedAll)
	require.Empty(t, problems)
	for at, c := range map[uint64]struct {
		byte byte
		want []string
	}{
		0x1000: {0xFF, []string{"word is only partly given: bits 8..15 of 16"}},
		0x1001: {0x03, []string{"word is only partly given: bits 0..7 of 16", "lock = shut is a hazard: for ever"}},
	} {
		image, _ := memory.FromBytes(at, []byte{c.byte}, &source.Input{Name: "f"})
		var got []string
		for _, v := range m.Judge(map[string]Given{"word": m.Word("word").GivenIn(image)}) {
			got = append(got, v.What)
		}
		assert.Equal(t, c.want, got)
	}
}

func TestCompose(t *testing.T) {
	m, problems := load(judgedAll)
	require.Empty(t, problems)
	values := map[string]uint64{}
	for _, set := range [][2]string{{"lock", "Read only"}, {"guard", "1"}} {
		_, err := m.Compose(values, set[0], set[1])
		require.NoError(t, err)
	}
	assert.Equal(t, map[string]uint64{"word": 0xFF11}, values)
	for _, c := range [][3]string{
		{"lok", "open", "did you mean lock?"},
		{"lock", "opn", "lock means one of: open; read only; shut"},
		{"lock", "2", "lock means one of: open; read only; shut"},
	} {
		_, err := m.Compose(values, c[0], c[1])
		assert.ErrorContains(t, err, c[2])
	}
	assert.Equal(t, map[string]uint64{"word": 0xFF11}, values, "what is wrong changes nothing")
}

func TestStartAddresses(t *testing.T) {
	vectors, _ := memory.FromBytes(0x1000, []byte{0, 0, 0, 0x28, 0x0D, 0x12, 0, 0}, &source.Input{Name: "f"})
	short, _ := memory.FromBytes(0x1000, []byte{0, 0, 0, 0x28, 0x0D, 0x12, 0}, &source.Input{Name: "f"})
	m, problems := load(memories + "[start]\nkind = 'vectors'\nat = 0x1000\n")
	require.Empty(t, problems)
	assert.Equal(t, []uint64{0x120D, 0x120C}, m.StartAddresses(vectors))
	assert.Empty(t, m.StartAddresses(short), "half a vector names no address")
	stack, target, ok := m.Starts[0].Vectors(vectors)
	assert.True(t, ok)
	assert.Equal(t, []uint64{0x2800_0000, 0x120D}, []uint64{stack, target})
	m, problems = load(memories + "[start]\nkind = 'instruction'\nat = 0x1004\n")
	require.Empty(t, problems)
	assert.Equal(t, []uint64{0x1004}, m.StartAddresses(vectors))
	m, problems = load(memories)
	require.Empty(t, problems)
	assert.Empty(t, m.StartAddresses(vectors))
}

// TestDeclaredChecksums computes a declared checksum in each way of taking its
// own place.
func TestDeclaredChecksums(t *testing.T) {
	image, _ := memory.FromBytes(0x1000, []byte("123456789\xAA\xBB\xCC\xDD"), &source.Input{Name: "f"})
	for name, c := range map[string]struct {
		in, at, slot, order string
		want                []byte
	}{
		"beside it":      {"0x1000..0x1008", "0x1009", "", "big", []byte{0xCB, 0xF4, 0x39, 0x26}},
		"little":         {"0x1000..0x1008", "0x1009", "", "little", []byte{0x26, 0x39, 0xF4, 0xCB}},
		"inside, left":   {"0x1000..0x100C", "0x1009", "skip", "big", []byte{0xCB, 0xF4, 0x39, 0x26}},
		"inside, zero":   {"0x1000..0x100C", "0x1009", "zero", "big", nil},
		"inside, erased": {"0x1000..0x100C", "0x1009", "erased", "big", nil},
	} {
		slot := ""
		if c.slot != "" {
			slot = "slot = '" + c.slot + "'\n"
		}
		m, problems := load(
			fmt.Sprintf("%s[[checksum]]\nkind = 'CRC-32/ISO-HDLC'\nin = '%s'\nat = '%s'\norder = '%s'\n", memories, c.in, c.at,
				c.order) + slot,
		)
		require.Empty(t, problems, name)
		require.Len(t, m.Checksums, 1)
		spec, err := m.Checksums[0].Spec(m, image)
		require.NoError(t, err)
		_, stored, err := spec.Compute(image, 1)
		require.NoError(t, err)
		if c.want == nil {
			fill := map[string]byte{"zero": 0, "erased": 0xFF}[c.slot]
			filled, _ := image.Write(&source.Input{Name: "g"}, 0x1009, []byte{fill, fill, fill, fill})
			c.want = crc32Big(t, filled)
		}
		assert.Equal(t, c.want, stored, name)
	}
}

func crc32Big(t *testing.T, m *memory.Image) []byte {
	t.Helper()
	return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(m.Runs()[0].Data))
}
