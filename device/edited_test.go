package device

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestEditedMaps loads maps that differ from the shipped ones in a few places, and holds
// what they say of memories, words and places against what they said before.
func TestEditedMaps(t *testing.T) {
	maps := map[string]string{}
	for _, name := range Shipped() {
		_, text, err := Find(&source.Files{}, name, nil)
		require.NoError(t, err)
		maps[name] = string(text)
	}
	first, err := Open(&source.Files{}, "brindle-m32-512", nil)
	require.NoError(t, err)
	golden.Edited(t, "testdata/edited.txt", 250, maps, func(name, text string) string {
		var b strings.Builder
		m, problems := load(text)
		fmt.Fprintln(&b, strings.Join(problems, "\n"))
		if m == nil || slices.ContainsFunc(problems, func(p string) bool { return strings.Contains(p, "error: ") }) {
			return b.String()
		}
		all, err := json.Marshal(m)
		fmt.Fprintf(&b, "%s %v\n%s\n", all, err, strings.Join(m.FieldNames(), " "))
		for _, mem := range m.Memories {
			for _, at := range []uint64{mem.Span.First, mem.Span.Last, mem.Span.First - 1, mem.Span.Last + 1, mem.Span.First + mem.Span.Size()/3} {
				fmt.Fprint(&b, at, m.RegionAt(at) != nil, m.InnermostAt(at) != nil, m.ErasedAt(at), m.Unaliased(at), "\n")
			}
		}
		for s, r := range m.Innermost() {
			fmt.Fprint(&b, s, r != nil, " ")
		}
		image := &memory.Image{}
		for _, w := range m.Config {
			if some, ok := memory.FromBytes(w.Span().First, []byte(strings.Repeat("\x5A", int(min(w.Span().Size(), 64)))), &source.Input{Name: "f"}); ok {
				image, _ = memory.Merge([]*memory.Image{image, some}, memory.First)
			}
		}
		values := map[string]uint64{}
		for _, w := range m.Config {
			values[w.Name] = 0x5A
		}
		configured, from := m.For(image)
		fmt.Fprintln(&b, from, configured.RegionNames(), m.StartAddresses(image))
		acting, _ := json.Marshal(m.Acting(values))
		b.Write(acting)
		var meanings []string
		for name, meant := range m.Meant(values) {
			meanings = append(meanings, name+" "+meant.Meaning)
		}
		slices.Sort(meanings)
		fmt.Fprintln(&b, meanings)
		differences, _ := json.Marshal(m.Against(first))
		b.Write(differences)
		return b.String()
	})
}
