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
	maps["variant"] = `name = "Smaller"
base = "brindle-m32-512"
drop = ["tide_tables"]
[[region]]
name = "station"
first = "loader.last + 1"
size = 0x10000
[[region]]
name = "more"
role = "data"
first = 0x0602_0000
last = 0x0602_FFFF
`
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
			for _, at := range []uint64{mem.Span.First, mem.Span.Last, mem.Span.First - 1, mem.Span.Last + 1,
				mem.Span.First + mem.Span.Size()/3} {
				fmt.Fprint(&b, at, m.RegionAt(at) != nil, m.InnermostAt(at) != nil, m.ErasedAt(at), m.Unaliased(at), "\n")
			}
		}
		for s, r := range m.Innermost() {
			fmt.Fprint(&b, s, r != nil, " ")
		}
		image := &memory.Image{}
		for _, w := range m.Config {
			if some, ok := memory.FromBytes(w.Span().First, []byte(strings.Repeat("\x5A", int(min(w.Span().Size(), 64)))),
				&source.Input{Name: "f"}); ok {
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
		asked(&b, m, image)
		return b.String()
	})
}

// asked asks a map for its parts by their names, and what it judges of values.
func asked(b *strings.Builder, m *Map, image *memory.Image) {
	for _, name := range append(m.RegionNames(), "none", "") {
		r, err := m.Find(name)
		w, given := m.Decided(image, name)
		fmt.Fprintln(b, r != nil && r == m.Region(name), err, w != nil, given)
	}
	for _, mem := range m.Memories {
		for _, s := range []memory.Span{mem.Span, {First: mem.Span.First + 1, Last: mem.Span.First + 1},
			{First: mem.Span.Last, Last: mem.Span.Last + 9}} {
			for _, r := range m.RegionsIn(s) {
				fmt.Fprint(b, r.Name, " ")
			}
		}
	}
	given := map[string]Given{}
	for i := range m.Config {
		w := &m.Config[i]
		s, ok := w.Complement()
		fmt.Fprintln(b, s, ok, w.Format(w.Default), w.Bytes(w.Default+1))
		for j := range w.Fields {
			f := &w.Fields[j]
			word, field := m.Field(strings.ToUpper(f.Name))
			fmt.Fprintln(b, word == w, field == f, f.BitsText(), f.RegionsSet())
			for _, v := range f.Values {
				given[w.Name] = w.Whole(v.Value << f.Low)
				verdicts, _ := json.Marshal(m.Judge(given))
				b.Write(verdicts)
				given[w.Name] = Given{Value: v.Value << f.Low, Known: f.Mask()}
				verdicts, _ = json.Marshal(m.Judge(given))
				b.Write(verdicts)
				words, err := m.Compose(map[string]uint64{}, f.Name, v.Meaning)
				fmt.Fprintln(b, len(words), err)
			}
		}
	}
	for _, d := range m.Checksums {
		spec, err := d.Spec(m, image)
		fmt.Fprintln(b, spec != nil, err, d.RankIn(image))
	}
	if m.Loader.Swap != nil {
		fmt.Fprintln(b, m.Loader.Swap.Log())
	}
}
