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

// TestVariantsDropAndChange takes away one of several, changes another and adds one: the rest
// stays, in its order.
func TestVariantsDropAndChange(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	region := func(name, first string) string {
		return "[[region]]\nname = \"" + name + "\"\nrole = \"data\"\nfirst = " + first + "\nsize = 0x100\n"
	}
	write(
		"big.device.toml",
		"name = \"Big\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0x100\nsize = 0x400\nsectors = [{ count = 2, size = "+
			"0x100 }, { count = 1, size = 0x200 }]\nerased = 0xFF\n"+
			region("a", "0x100")+region(
			"b",
			"0x200",
		)+region("c", "0x300")+region("d", "0x400"),
	)
	write("small.device.toml", "name = \"Small\"\nbase = \"big\"\ndrop = [\"b\"]\n[[region]]\nname = \"c\"\nsize = 0x80\n"+
		region("e", "0x200"))
	m, err := Open(&source.Files{}, "small", []string{dir})
	require.NoError(t, err)
	assert.Equal(t, "Small", m.Name)
	spans := map[string]memory.Span{}
	for r := range m.All() {
		spans[r.Name] = r.Span
	}
	assert.Equal(t, map[string]memory.Span{
		"a": {First: 0x100, Last: 0x1FF}, "c": {First: 0x300, Last: 0x37F}, "d": {First: 0x400, Last: 0x4FF},
		"e": {First: 0x200, Last: 0x2FF},
	}, spans)

	flash := m.MemoryAt(0x100)
	for _, c := range []struct {
		at   []uint64
		want uint64
	}{{nil, 0}, {[]uint64{0xFF}, 0}, {[]uint64{0x100}, 1}, {[]uint64{0x1FF, 0x200}, 2}, {[]uint64{0x2FF, 0x300}, 2},
		{[]uint64{0x300, 0x4FF}, 1}, {[]uint64{0x4FF, 0x500}, 1}, {[]uint64{0x100, 0x200, 0x300}, 3}} {
		var b memory.Batch
		for _, at := range c.at {
			b.Add(at, []byte{1}, 1)
		}
		image, _ := b.Image(&source.Input{Name: "f", Counting: source.Lines})
		assert.Equal(t, c.want, flash.CountSectors(image), "%X", c.at)
	}
}

// TestVariantsChangeFields puts fields of a variant's word in the place of those of the same
// name, and the others after them; a mistake in one is found where it stands.
func TestVariantsChangeFields(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	field := func(name, bits string) string {
		return "[[config.field]]\nname = \"" + name + "\"\nbits = " + bits + "\n"
	}
	word := "[[config]]\nname = \"word\"\n"
	base := "name = \"Big\"\nidentity = \"01\"\n[[memory]]\nname = \"fuses\"\nkind = \"config\"\nfirst = 0x100\nsize = " +
		"2\n[loader]\nretry = \"skips\"\n"
	write("big.device.toml", base+word+"at = 0x100\nwidth = 1\ndefault = 0\n"+field("a", "0")+field("b", "1")+field("c", "2"))
	write("small.device.toml", "name = \"Small\"\nbase = \"big\"\n"+word+field("d", "5")+field("b", `"3..4"`))
	write("like.device.toml", "name = \"Like\"\nbase = \"big\"\nidentity = \"02\"\n")
	write("bad.device.toml", "name = \"Bad\"\nbase = \"big\"\n"+word+field("b", `"7..9"`))
	open := func(name string) (*Map, error) { return Open(&source.Files{}, name, []string{dir}) }
	m, err := open("small")
	require.NoError(t, err)
	var fields []string
	for i := range m.Config[0].Fields {
		f := &m.Config[0].Fields[i]
		fields = append(fields, f.Name+" "+f.BitsText())
	}
	assert.Equal(t, []string{"a 0", "b 3..4", "c 2", "d 5"}, fields)
	assert.Equal(t, Loader{Retry: RetrySkips, ReadFault: FaultStops}, m.Loader)
	_, err = open("bad")
	assert.ErrorContains(t, err, "bad.device.toml:7:")

	big, err := open("big")
	require.NoError(t, err)
	like, err := open("like")
	require.NoError(t, err)
	assert.True(t, big.ByIdentityOnly(like))
	assert.False(t, big.ByIdentityOnly(m))
	assert.False(t, big.ByIdentityOnly(big))
	assert.Equal(t, "02", IdentitiesText(like))
}
