package proof

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNamesOnAnotherDrive names files that cannot be named from the manifest's folder.
func TestNamesOnAnotherDrive(t *testing.T) {
	for name, want := range map[string]string{
		`D:\fw\app.hex`: "D:/fw/app.hex", `C:\fw\sub\app.hex`: "sub/app.hex", `C:\app.hex`: "../app.hex",
		`\\server\share\app.hex`: "//server/share/app.hex",
	} {
		got := RelativeName(`C:\fw`, name)
		assert.Equal(t, want, got)
		assert.NotContains(t, got, `\`)
	}
	c := &confirmer{folder: `C:\fw`}
	assert.Equal(t, "D:/fw/app.hex", c.path("D:/fw/app.hex"))
	assert.Equal(t, `C:\fw\sub\app.hex`, c.path("sub/app.hex"))
}
