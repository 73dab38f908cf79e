package derive

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write testdata/outcomes.txt anew")

// TestOutcomes derives a map of each description in testdata/descriptions.txt, and holds all
// that comes of it against testdata/outcomes.txt: what was found, the problems, the map. A
// description begins at a line "=== NAME".
func TestOutcomes(t *testing.T) {
	text, err := os.ReadFile("testdata/descriptions.txt")
	require.NoError(t, err)
	var b strings.Builder
	for _, one := range strings.Split(string(text), "=== ")[1:] {
		name, body, _ := strings.Cut(one, "\n")
		fmt.Fprintf(&b, "=== %s\n", name)
		d := &Draft{}
		err := d.Read(strings.TrimSpace(name), []byte(body), func(path string) ([]byte, error) {
			if path == "more.inc" {
				return []byte("EXTRA (rx) : ORIGIN = 0x9000, LENGTH = 1K\n"), nil
			}
			return nil, errors.New("no such file")
		})
		if err != nil {
			fmt.Fprintf(&b, "error: %s\n", err)
		}
		for _, m := range d.Memories {
			fmt.Fprintf(&b, "memory %s %s %s page %d erase %d %q %s\n", m.Name, m.Kind, m.Span, m.Page, m.Erase, m.Space, m.Where)
		}
		for _, r := range d.Regions {
			fmt.Fprintf(&b, "region %s %s %s %q %s\n", r.Name, r.Role, r.Span, r.Space, r.Where)
		}
		for _, p := range d.Problems.Sorted() {
			fmt.Fprintln(&b, p)
		}
		if err == nil {
			b.WriteString(d.Text())
		}
	}
	const file = "testdata/outcomes.txt"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, strings.Split(string(want), "\n"), strings.Split(b.String(), "\n"))
}
