package check

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/memory"
)

// TestPlacesForRawFiles asks where raw bytes may be meant: by the file's name, else the
// tightest regions that can be programmed and are not reserved.
func TestPlacesForRawFiles(t *testing.T) {
	m := testMap(t, "[[region]]\nname = 'scratch'\nrole = 'data'\nfirst = 0x4000\nsize = 0x100\n[[region]]\nname = 'late'\nrole = "+
		"'data'\nfirst = 0x1D00\nsize = 0x100\n")
	for _, c := range []struct {
		file string
		size uint64
		want []string
	}{
		{"x/BOOT.bin", 0x400, []string{"boot"}}, {"boot.bin", 0x401, []string{"app"}}, {"f.bin", 1, []string{"options", "serial", "late"}},
		{"f.bin", 2, []string{"options", "serial", "late"}}, {"f.bin", 3, []string{"serial", "late", "boot"}},
		{"f.bin", 0x100, []string{"late", "boot", "app"}},
		{"f.bin", 0x801, nil}, {"log.bin", 0x10, []string{"serial", "late", "boot"}},
		{"scratch.bin", 0x80, []string{"late", "boot", "app"}},
	} {
		assert.Equal(t, c.want, Places(m, c.file, c.size), "%s, %d bytes", c.file, c.size)
	}
	assert.Nil(t, Places(nil, "f.bin", 1))
}

// TestStartRecords checks images whose start address is in them, seen elsewhere, or nowhere.
func TestStartRecords(t *testing.T) {
	m := testMap(t, "")
	for at, want := range map[uint64]int{0x1000: 0, 0x103F: 0, 0x9000: 0, 0x903F: 0, 0x1040: 1, 0x9040: 1} {
		p := part("f", memory.Span{First: 0x1000, Last: 0x103F})
		p.Image = p.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: at})
		n := 0
		for _, f := range Run(m, []Part{p}, Options{}).Findings {
			if f.Rule == "start-record" {
				n++
				assert.Equal(t, &memory.Span{First: at, Last: at}, f.Where)
			}
		}
		assert.Equal(t, want, n, "0x%X", at)
	}
	p := part("f", memory.Span{First: 0x1000, Last: 0x103F})
	for _, f := range Run(m, []Part{p}, Options{}).Findings {
		assert.NotEqual(t, "start-record", f.Rule)
	}
}

// TestManyNamesAreListed names the first twelve, and counts the rest.
func TestManyNamesAreListed(t *testing.T) {
	name := func(i int) string { return fmt.Sprint(i) }
	assert.Equal(t, "", listed(0, name))
	assert.Equal(t, "0", listed(1, name))
	assert.Equal(t, "0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11", listed(12, name))
	assert.Equal(t, "0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, and 1 more", listed(13, name))
}
