package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

const configured = memories + `
[[memory]]
name = "fuses"
kind = "config"
first = 0
image-first = 0x5000
size = 4
[[region]]
name = "app"
role = "application"
first = "flash.first"
last = "boot.first - 1"
[[region]]
name = "boot"
role = "bootloader"
last = "flash.last"
size = 256
[[config]]
name = "word"
at = "fuses.first"
width = 2
order = "big"
default = 0x8000
[[config.field]]
name = "size"
bits = "0..1"
values = [{ value = 0, meaning = "256", sets = { boot = 256, start = "boot" } }, { value = 2, meaning = "1K", sets = { boot = "1K", start = "app" } }]
[[config.field]]
name = "free"
bits = 15
`

func TestConfiguration(t *testing.T) {
	m, problems := load(configured)
	require.Empty(t, problems)
	w, f := m.Field("SIZE")
	require.NotNil(t, f)
	assert.Equal(t, uint64(0x5000), w.At, "where images have it")
	assert.Equal(t, "0..1", f.BitsText())
	assert.Equal(t, uint64(0x8003), w.Defined())
	assert.Equal(t, []byte{0x80, 0x02}, w.Bytes(0x8002))

	resolved, fromImage := m.For(nil)
	assert.False(t, fromImage)
	assert.Equal(t, memory.Span{First: 0x1F00, Last: 0x1FFF}, resolved.Region("boot").Span)
	assert.Equal(t, "boot", resolved.Enters)
	image, _ := memory.FromBytes(0x5000, []byte{0x80, 0x02}, &source.Input{Name: "f"})
	resolved, fromImage = m.For(image)
	assert.True(t, fromImage)
	assert.Equal(t, memory.Span{First: 0x1C00, Last: 0x1FFF}, resolved.Region("boot").Span)
	assert.Equal(t, memory.Span{First: 0x1000, Last: 0x1BFF}, resolved.Region("app").Span)
	assert.Equal(t, "app", resolved.Enters)
	assert.Equal(t, memory.Span{First: 0x1F00, Last: 0x1FFF}, m.With(f, 0, image).Region("boot").Span)
}

func TestConfigurationProblems(t *testing.T) {
	const word = memories + "[[config]]\nname = 'w'\nat = 0x1000\nwidth = 1\n"
	for name, c := range map[string]struct{ text, want string }{
		"no place": {memories + "[[config]]\nname = 'w'\nwidth = 1\n", "m.toml:7:3: error: configuration word w has no at"},
		"width": {memories + "[[config]]\nname = 'w'\nat = 0x1000\nwidth = 9\n",
			"m.toml:10:1: error: width is 9; expected 1 to 8"},
		"in no memory": {memories + "[[config]]\nname = 'w'\nat = 0x3000\nwidth = 1\n",
			"m.toml:9:1: error: configuration word w is in no memory"},
		"default": {word + "default = 256\n", "m.toml:11:1: error: the default 0x100 has more than 1 bytes"},
		"no bits": {word + "[[config.field]]\nname = 'f'\n", "m.toml:11:3: error: field f has no bits"},
		"bits outside": {word + "[[config.field]]\nname = 'f'\nbits = 8\n",
			"m.toml:13:1: error: bit 8 is outside the word w of 8 bits"},
		"bits overlap": {word + "[[config.field]]\nname = 'f'\nbits = '0..3'\n[[config.field]]\nname = 'g'\nbits = 3\n",
			"m.toml:16:1: error: field g overlaps field f"},
		"value too large": {word + "[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 2, meaning = 'x' }]\n",
			"m.toml:14:13: error: the value 2 has more than the field's 1 bits"},
		"value twice": {word +
			"[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 1, meaning = 'x' },\n { value = 1, meaning = 'y' }]\n",
			"m.toml:15:4: error: the value 1 is given twice"},
		"sets no region": {word +
			"[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 1, meaning = 'x', sets = { boot = 2 } }]\n",
			"unknown region boot"},
		"requires nothing": {word +
			"[[config.field]]\nname = 'f'\nbits = 0\nvalues = [{ value = 0, meaning = 'x', requires = { g = 'y' } }]\n",
			"unknown field g (did you mean f?)"},
		"start kind": {memories + "[start]\nkind = 'vector'\nat = 0\n",
			"m.toml:8:1: error: kind \"vector\" is not known (did you mean vectors?)"},
		"start names": {memories + "[start]\nkind = 'vectors'\nat = 0x1000\nstack = 'rm'\n",
			"m.toml:10:1: error: unknown memory or region rm"},
		"alias": {memories + "aliases = [0x1800]\n", "the alias at 0x1800 overlaps the memory itself"},
		"word":  {memories + "unit = 3\n", "the memory's 4 KiB is not a multiple of its 3-byte"},
	} {
		_, problems := load(c.text)
		require.Len(t, problems, 1, "%s: %q", name, problems)
		assert.Contains(t, problems[0], c.want, name)
	}
}

// TestAddressesOfWords prints an address as the device counts it too, where that is another way.
func TestAddressesOfWords(t *testing.T) {
	for name, want := range map[string]string{
		"brindle-w16-64":  "0x0100 (word 0x0080)",
		"brindle-b8-32":   "0x0100",
		"brindle-m32-512": "0x0600_0100",
	} {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		first := m.Memories[0].Span.First + 0x100
		assert.Equal(t, want, m.AddressText(first), name)
		for i := range m.Memories {
			mem := &m.Memories[i]
			text := m.AddressText(mem.Span.First)
			assert.Equal(t, mem.Unit > 1, strings.Contains(text, "word"), "%s %s %s", name, mem.Name, text)
		}
	}
}
