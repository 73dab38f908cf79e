package checksum

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCatalogue(t *testing.T) {
	assert.GreaterOrEqual(t, len(entries()), 100)
	names := map[string]bool{}
	for _, e := range entries() {
		c := e.params
		assert.Equal(t, e.check, c.Bitwise([]byte("123456789")), "%s: %X", e.name, c.Bitwise([]byte("123456789")))
		_, err := ParseCRC(c.String())
		assert.NoError(t, err, e.name)
		for _, n := range append(e.aliases, e.name) {
			assert.False(t, names[n], "%s twice", n)
			names[n] = true
		}
	}
}

// TestFastCRCs holds the tables, the standard library's code and the sharing
// between cores against the definition, over random lengths and splits.
func TestFastCRCs(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 300)
	for i := range data {
		data[i] = byte(r.IntN(256))
	}
	check := func(c CRC) {
		n := r.IntN(len(data))
		cut := r.IntN(n + 1)
		want := c.Bitwise(data[:n])
		require.Equal(t, want, c.Sum(1, data[:cut], data[cut:n]), "%s over %d", c, n)
		update := c.updater()
		require.Equal(t, want, c.end(c.shift(update(c.begin(), data[:cut]), uint64(n-cut))^update(0, data[cut:n])),
			"combined: %s over %d", c, n)
	}
	for _, e := range entries() {
		for range 3 {
			check(e.params)
		}
	}
	for range 500 { // parameters in no catalogue
		c := CRC{Width: 3 + r.IntN(62), RefIn: r.IntN(2) == 0, RefOut: r.IntN(2) == 0}
		c.Poly, c.Init, c.XorOut = r.Uint64()&c.mask()|1, r.Uint64()&c.mask(), r.Uint64()&c.mask()
		check(c)
	}
	big := make([]byte, 3<<20+5)
	for i := range big {
		big[i] = byte(i * i >> 3)
	}
	for _, e := range entries() {
		require.Equal(t, e.params.Sum(1, big), e.params.Sum(3, big), e.name)
	}
}

func TestParseCRC(t *testing.T) {
	c, err := ParseCRC("width=16 poly=0x1021 init=0xFFFF")
	require.NoError(t, err)
	assert.Equal(t, uint64(0x29B1), c.Bitwise([]byte("123456789")))
	for text, want := range map[string]string{
		"width=16":                     "a CRC needs poly=",
		"poly=0x1021":                  "a CRC needs width=",
		"width=65 poly=1":              "3 to 64 bits",
		"width=8 poly=0x107":           "poly=0x107 has more than 8 bits",
		"width=8 poly=7 ref=true":      `ref=true" is not a parameter of a CRC`,
		"width=8 poly=7 refin=perhaps": `refin: "perhaps" is not a value for it`,
		"width=8 poly=x":               `poly: "x" is not a value for it`,
	} {
		_, err := ParseCRC(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestResidue(t *testing.T) {
	for name, want := range map[string]uint64{
		"CRC-32/ISO-HDLC": 0xDEBB20E3, "CRC-16/IBM-SDLC": 0xF0B8, "CRC-16/GENIBUS": 0x1D0F, "CRC-32/BZIP2": 0xC704DD7B,
		"CRC-32/ISCSI":      0xB798B438,
		"CRC-24/INTERLAKEN": 0x144E63, "CRC-64/XZ": 0x49958C9ABD7D353F, "CRC-64/WE": 0xFCACBEBD5931A992, "CRC-16/MODBUS": 0,
		"CRC-8/GSM-B": 0x53,
	} {
		k, err := KindOf(name)
		require.NoError(t, err)
		assert.Equal(t, want, k.CRC.Residue(), "%s: %X", name, k.CRC.Residue())
	}
}

// TestParts holds parts that were joined before against those that were not.
func TestParts(t *testing.T) {
	data := bytes.Repeat([]byte("some data, and more of it after."), 60)
	for _, name := range []string{"CRC-32/ISO-HDLC", "CRC-32/MPEG-2", "CRC-16/MODBUS", "CRC-16/KERMIT", "CRC-8/SMBUS", "CRC-5/USB",
		"CRC-64/XZ"} {
		k, err := KindOf(name)
		require.NoError(t, err, name)
		c := *k.CRC
		var parts []Part
		from := 0
		for _, to := range []int{3, 10, 17, 17 + 256, 17 + 512, 17 + 1024, 17 + 1279, len(data)} { // 256 and 512 have tables
			parts = append(parts, c.Alone(data[from:to]))
			from = to
		}
		assert.Equal(t, c.Alone(data), c.Follow(parts), name)
		assert.Equal(t, c.Bitwise(data), c.Join([]Part{c.Follow(parts[:4]), c.Follow(parts[4:])}), name)
	}
}
