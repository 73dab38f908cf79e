package derive

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// allOf is all that comes of a description: what was found, the problems, the map, or the
// map that it brings another to.
func allOf(name, text string, onto string) string {
	var b strings.Builder
	d := &Draft{}
	err := d.Read(name, []byte(text), func(path string) ([]byte, error) {
		if path == "more.inc" {
			return []byte("EXTRA (rx) : ORIGIN = 0x9000, LENGTH = 1K\n"), nil
		}
		return nil, errors.New("no such file")
	})
	if err != nil {
		fmt.Fprintf(&b, "error: %s\n", err)
	}
	for _, m := range d.Memories {
		fmt.Fprintf(&b, "memory %s %s %s page %d erase %d write %d %q %s\n", m.Name, m.Kind, m.Span, m.Page, m.Erase, m.Write, m.Space,
			m.Where)
	}
	for _, r := range d.Regions {
		fmt.Fprintf(&b, "region %s %s %s %q %s\n", r.Name, r.Role, r.Span, r.Space, r.Where)
	}
	for _, p := range d.Problems.Sorted() {
		fmt.Fprintln(&b, p)
	}
	switch {
	case err != nil:
	case onto == "":
		b.WriteString(d.Text())
	default:
		updated, changes, err := d.Update("own.toml", []byte(onto))
		fmt.Fprintln(&b, updated, changes, err)
	}
	return b.String()
}

// descriptions are those of testdata/descriptions.txt, where each begins at a line "=== NAME",
func descriptions(t *testing.T) map[string]string {
	text, err := os.ReadFile("testdata/descriptions.txt")
	require.NoError(t, err)
	list := map[string]string{}
	for _, one := range strings.Split(string(text), "=== ")[1:] {
		name, body, _ := strings.Cut(one, "\n")
		list[strings.TrimSpace(name)] = body
	}
	return list
}

// TestOutcomes holds all that comes of each description against what came of it before, and
// of many that differ from them in a few places.
func TestOutcomes(t *testing.T) {
	list := descriptions(t)
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(list)) {
		fmt.Fprintf(&b, "=== %s\n%s", name, allOf(name, list[name], ""))
	}
	golden.File(t, "testdata/outcomes.txt", b.String())
	golden.Edited(t, "testdata/edited.txt", 120, list, func(name, text string) string { return allOf(name, text, "") })
}

// TestUpdatesOfEditedMaps bring maps that differ in a few places to what one description says.
func TestUpdatesOfEditedMaps(t *testing.T) {
	list := descriptions(t)
	own := map[string]string{}
	for name, text := range list {
		d := &Draft{}
		if d.Read(name, []byte(text), func(string) ([]byte, error) { return nil, errors.New("no such file") }) == nil {
			own[name] = d.Text()
		}
	}
	golden.Edited(t, "testdata/updated.txt", 120, own, func(name, text string) string { return allOf(name, list[name], text) })
}

// TestProgramsThatAreEdited derives maps of a program's file with other bytes in it.
func TestProgramsThatAreEdited(t *testing.T) {
	elf, err := os.ReadFile(filepath.Join("..", "..", "demo", "data", "station.elf"))
	require.NoError(t, err)
	golden.Edited(t, "testdata/programs.txt", 300, map[string]string{"station.elf": string(elf)}, func(name, text string) string {
		return allOf(name, text, "")
	})
}
