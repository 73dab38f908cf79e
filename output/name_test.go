package output

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/source"
)

// TestNamesOfEverySystem goes through names that one system or another does not take for a
// file's.
func TestNamesOfEverySystem(t *testing.T) {
	for name, want := range map[string]string{
		"aux.bin": "a device", "nul.hex": "a device", "Con": "a device", "COM1": "a device", "com0.tar.hex": "a device",
		"LPT².s19":   "a device",
		"a/prn .txt": "a device", "CONIN$": "a device", "conout$.x": "a device",
		"boot.hex:s.hex": "a stream", "x.": "a dot or a blank", "x ": "a dot or a blank",
		"NUL": "", "nul": "", "com10.hex": "", "com": "", "lpt.hex": "", "aux1.hex": "", "auxiliary.hex": "", "console": "", "x.aux": "",
		"aux/x.hex": "",
		"..":        "", "/dev/stdout": "", "1": "",
	} {
		if want == "" {
			assert.Empty(t, NameFault(name), name)
		} else {
			assert.Contains(t, NameFault(name), want, name)
		}
	}
	dir := tempDir(t)
	for _, other := range []string{"Out.hex", "oUT.HEX", "out.hex"} {
		err := Check(&source.Files{}, []File{text(filepath.Join(dir, "out.hex"), "x"), text(filepath.Join(dir, other), "y")})
		assert.ErrorContains(t, err, "are one file", other)
	}
	assert.ErrorContains(t, Check(&source.Files{}, []File{text(filepath.Join(dir, "aux.hex"), "x")}), "choose another name")
	assert.NoError(t, Check(&source.Files{}, []File{text(filepath.Join(dir, "out.hex"), "x"), text(filepath.Join(dir, "out2.hex"), "y")}))
}
