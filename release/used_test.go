package release

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestAVariableIsUsedWhereverItStands writes releases in which one place names a variable, and
// every other place does not: it is used, and without that place it is never used.
func TestAVariableIsUsedWhereverItStands(t *testing.T) {
	dir := folder(t)
	for _, c := range []struct{ top, set, variant, input, step, output string }{
		{top: `device = "{x}"`},
		{top: "device = \"brindle-b8-32\"\nboard = \"{x}\""},
		{set: `other = "{x}"`, output: `file = "{other}.hex"`},
		{variant: `device = "{x}"`},
		{variant: `board = "{x}"`},
		{variant: `set.version = "{x}"`, set: `version = "1"`, output: `file = "{version}.hex"`},
		{variant: `input.all = "{x}"`},
		{input: `at = "{x}"`},
		{input: "at = 0\nskip = [\"{x}\"]"},
		{step: `values = [{ number = "{x}", size = 1 }]`},
		{step: `text = "{x}"`},
		{output: `file = "{x}.hex"`},
		{output: "file = \"o.hex\"\nheader = \"{x}\""},
	} {
		for _, named := range []bool{true, false} {
			or := func(text, other string) string {
				if text == "" {
					return other
				}
				return text
			}
			text := or(c.top, "# no device") + "\n[set]\nx = \"1\"\n" + c.set + "\n" + "[[variant]]\nname = \"v\"\n" + c.variant + "\n" +
				"[[input]]\nname = \"all\"\nfile = \"calibration.bin\"\n" + or(c.input, "at = 0") + "\n" +
				"[[step]]\ndo = \"patch\"\nat = 0\n" + or(c.step, "text = \"a\"") + "\n[[output]]\n" +
				or(c.output, `file = "{variant}.hex"`) + "\n"
			if !named {
				text = "name = \"{{x}}\"\n" + strings.ReplaceAll(text, "{x}", "1")
			} else {
				text = "name = \"r\"\n" + text
			}
			write(t, dir, "r.release.toml", text)
			f, err := Load(&source.Files{}, filepath.Join(dir, "r.release.toml"))
			require.NoError(t, err, text)
			said := ""
			for _, p := range f.problems.Sorted() {
				said += p.Error() + "\n"
			}
			assert.Equal(t, named, !strings.Contains(said, "variable x is never used"), "%s\n%s", text, said)
		}
	}
}
