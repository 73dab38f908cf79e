package device

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestAnswers asks the shipped maps all that can be asked of a map, at the edges of all
// that they name, and holds the answers against testdata/answers.txt.
func TestAnswers(t *testing.T) {
	var b strings.Builder
	var all []*Map
	for _, name := range Shipped() {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		all = append(all, m)
	}
	extra, problems := load(judgedAll)
	require.Empty(t, problems)
	for _, m := range append(slices.Clone(all), extra) {
		answers(&b, m)
	}
	for _, one := range all {
		for _, other := range all {
			for _, d := range one.Against(other) {
				if one != other {
					fmt.Fprintf(&b, "%s/%s %s %q: %q, %q\n", one.Name, other.Name, d.What, d.Name, d.Here, d.There)
				}
			}
		}
	}
	const file = "testdata/answers.txt"
	if *golden.Update {
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, strings.Split(string(text), "\n"), strings.Split(b.String(), "\n"))
}

func answers(b *strings.Builder, m *Map) {
	fmt.Fprintf(b, "# %s %v\n", m.Name, m.RegionNames())
	name := func(r *Region) string {
		if r == nil {
			return "-"
		}
		return r.Name
	}
	edges := map[uint64]bool{}
	edge := func(s memory.Span) {
		for _, a := range []uint64{s.First - 1, s.First, s.Last, s.Last + 1} {
			edges[a] = true
		}
	}
	for i := range m.Memories {
		mem := &m.Memories[i]
		edge(mem.Span)
		for _, a := range mem.Aliases {
			edge(a)
		}
		for _, s := range mem.Sectors {
			edge(memory.Span{First: s.First, Last: s.First + s.Size - 1})
		}
	}
	for r := range m.All() {
		edge(r.Span)
	}
	for _, a := range slices.Sorted(maps.Keys(edges)) {
		fmt.Fprintf(b, "%X: region %s, innermost %s, erased %02X, unaliased %X", a, name(m.RegionAt(a)), name(m.InnermostAt(a)),
			m.ErasedAt(a), m.Unaliased(a))
		if mem := m.MemoryAt(a); mem != nil {
			s, ok := mem.SectorAt(a)
			fmt.Fprintf(b, ", memory %s, in part %X, sector %s %t", mem.Name, mem.InPart(a), s.Range(), ok)
		}
		fmt.Fprintln(b)
	}
	for s, r := range m.Innermost() {
		fmt.Fprintf(b, "innermost %s %s\n", s.Range(), r.Name)
	}
	for i := range m.Memories {
		mem := &m.Memories[i]
		image := &memory.Image{}
		for a := mem.Span.First; mem.Span.Contains(a) && a-mem.Span.First < 1<<20; a += max(mem.Span.Size()/7, 1) {
			image, _ = image.Write(&source.Input{Name: "f"}, a, []byte{1})
		}
		fmt.Fprintf(b, "memory %s: programmable %t, %d sectors of seven bytes\n", mem.Name, mem.Programmable(), mem.CountSectors(image))
	}
	fmt.Fprintf(b, "fields %v\n", m.FieldNames())
	for i := range m.Config {
		w := &m.Config[i]
		fmt.Fprintf(b, "word %s %s default %s % X, defined %s\n", w.Name, w.Span().Range(), w.Format(w.Default), w.Bytes(w.Default),
			w.Format(w.Defined()))
		image, _ := memory.FromBytes(w.At, w.Bytes(w.Default^w.Defined()), &source.Input{Name: "f"})
		read, ok := w.In(image)
		fmt.Fprintf(b, "read %s %t; given in part %+v\n", w.Format(read), ok, w.GivenIn(image.Drop(memory.Span{First: w.At, Last: w.At})))
		for j := range w.Fields {
			f := &w.Fields[j]
			fmt.Fprintf(b, "field %s %s mask %s sets %v\n", f.Name, f.BitsText(), w.Format(f.Mask()), f.RegionsSet())
			for v := uint64(0); v < min(uint64(1)<<f.Bits, 17); v++ {
				meaning := "undefined"
				if value := f.Value(v); value != nil {
					meaning = value.Meaning
				}
				values := map[string]uint64{}
				words, err := m.Compose(values, f.Name, fmt.Sprint(v))
				fmt.Fprintf(b, "%d %q: %v %v;", v, meaning, len(words), err)
				for _, word := range words {
					fmt.Fprintf(b, " %s=%s", word.Name, word.Format(values[word.Name]))
				}
				given := map[string]Given{}
				for k, x := range values {
					given[k] = m.Word(k).Whole(x)
				}
				for _, verdict := range m.Judge(given) {
					fmt.Fprintf(b, " [%s %s: %s; %s]", verdict.Kind, verdict.Name, verdict.What, verdict.Expected)
				}
				for _, act := range m.Acting(values) {
					fmt.Fprintf(b, " acts %s", act.Field)
				}
				with := m.With(f, v, &memory.Image{})
				for r := range m.All() {
					if moved := with.Region(r.Name); moved != nil && moved.Span != r.Span {
						fmt.Fprintf(b, " %s %s", r.Name, moved.Span.Range())
					}
				}
				fmt.Fprintln(b)
			}
		}
	}
	for i := range m.Groups {
		g := &m.Groups[i]
		for _, v := range g.Values {
			values := map[string]uint64{}
			words, err := m.Compose(values, g.Name, v.Meaning)
			fmt.Fprintf(b, "group %s %s: %d words %v %v\n", g.Name, v.Meaning, len(words), values, err)
		}
	}
	for _, wrong := range [][2]string{{"none", "1"}, {m.FieldNames()[0], "nonsense"}, {m.FieldNames()[0], "99999"}} {
		_, err := m.Compose(map[string]uint64{}, wrong[0], wrong[1])
		fmt.Fprintf(b, "%v: %v\n", wrong, err)
	}
}
