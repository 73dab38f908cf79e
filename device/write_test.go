package device

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// writtenAndRead holds a map against what is read of it when it was written.
func writtenAndRead(t *testing.T, m *Map) {
	t.Helper()
	text := m.Text()
	again, problems := load(text)
	require.Empty(t, problems, text)
	assert.Equal(t, text, again.Text())
	again.File = m.File
	for _, one := range []*Map{m, again} { // how the file gave them
		one.file.Base, one.file.Drop = "", nil
	}
	assert.Empty(t, m.Against(again))
	assert.Equal(t, m.Config, again.Config)
	assert.Equal(t, m.Groups, again.Groups)
	assert.Equal(t, m.Link, again.Link)
	assert.Equal(t, m.Identities, again.Identities)
	assert.Equal(t, m.Checksums, again.Checksums)
}

func TestMapsAreWrittenAsTheyAreRead(t *testing.T) {
	for _, name := range Shipped() {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		writtenAndRead(t, m)
	}
	const wide = memories +
		"[[config]]\nname = 'w'\nat = 'flash.first'\nwidth = 8\ndefault = '0x8000_0000_0000_0001'\n[[config.field]]\nname = " +
		"'top'\nbits = 63\n" +
		"values = [{ value = '0b1', meaning = 'a \"quoted\" one', requires = { low = 'x' } }]\n[[config.field]]\nname = 'low'\nbits = " +
		"0\nvalues = [{ value = 1, meaning = 'x' }]\n"
	for _, text := range []string{sound, configured, wide} {
		m, problems := load(text)
		require.Empty(t, problems)
		writtenAndRead(t, m)
	}
	m, problems := load("name = 'V'\nbase = 'brindle-b8-32'\ndrop = 'gauge_log'\n[[memory]]\nname = 'eeprom'\nsize = 512\n")
	require.Empty(t, problems)
	assert.Nil(t, m.Region("gauge_log"))
	assert.NotContains(t, m.Text(), "base")
	assert.Contains(t, m.Text(), "clock_word")
	writtenAndRead(t, m)
}
