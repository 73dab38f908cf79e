package device

import (
	"fmt"
	"mexalt/internal/golden"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keysPage is what the documentation says of the keys.
func keysPage(list []Section) string {
	var b strings.Builder
	b.WriteString("## Keys\n")
	for _, s := range list {
		if s.Path != "" {
			fmt.Fprintf(&b, "\n`%s`\n", s.Path)
		}
		b.WriteString("\n| key | means |\n|---|---|\n")
		for _, k := range s.Keys {
			doc := k.Doc
			if len(k.One) > 0 {
				doc += ": " + strings.Join(k.One, ", ")
			}
			if k.Must {
				doc += "; needed"
			}
			fmt.Fprintf(&b, "| `%s` | %s |\n", k.Name, doc)
		}
	}
	return b.String() + "\n"
}

// TestDocsTellEveryKey holds the documentation against the tables of keys.
func TestDocsTellEveryKey(t *testing.T) {
	for _, c := range []struct {
		page, end string
		list      []Section
	}{{"device-maps.md", "\n## Configuration", Sections()}, {"boards.md", "\nFrequencies are", BoardSections()}} {
		file := filepath.Join("..", "docs", c.page)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		from := strings.Index(string(text), "## Keys\n")
		to := from + strings.Index(string(text[from:]), c.end) + 1
		require.Positive(t, from)
		if *golden.Update {
			require.NoError(t, os.WriteFile(file, []byte(string(text[:from])+keysPage(c.list)+string(text[to:])), 0o644))
			continue
		}
		assert.Equal(t, keysPage(c.list), string(text[from:to]), "go test ./device -update writes them")
	}
}
