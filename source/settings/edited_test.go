package settings

import (
	"fmt"
	"strings"
	"testing"

	"mexalt/internal/golden"
	"mexalt/source"
)

// TestEditedFiles decodes files that differ from a good one in a few places, and holds what
// was read, and what is wrong where, against what came of them before.
func TestEditedFiles(t *testing.T) {
	const text = `# a board
name = "gauge \u0041 \"one\""
count = 0x1_0
[one]
size = 'app.first + 2'
flags = [true, false, true]
sets = { version = "2.4.1", "odd key" = '''a
b''' }
[[inner]]
size = 32
flags = []
[[inner]]
sets.x = "y"
size = 0b101
`
	golden.Edited(t, "testdata/edited.txt", 300, map[string]string{
		"board": text, "quotes": strings.Replace(text, `"2.4.1"`, "“2.4.1”", 1), "returns": strings.ReplaceAll(text, "\n", "\r\n"),
	}, func(_, text string) string {
		var b strings.Builder
		var problems source.Problems
		var f file
		where := Decode("f.toml", []byte(text), &f, &problems)
		fmt.Fprintf(&b, "%q %d %+v %+v\n", f.Name, f.Count, f.Inner, f.One)
		for _, path := range []string{"name", "inner[1].sets.x", "one.flags[1]", "inner[0]", "one"} {
			fmt.Fprintln(&b, where.Has(path), where.Line(path), where.Item(path, 1), where.Meant(path))
		}
		fmt.Fprintln(&b, where.Unknown())
		for _, p := range problems.Sorted() {
			fmt.Fprintf(&b, "%v %q\n", p, p.Text)
		}
		return b.String()
	})
}
