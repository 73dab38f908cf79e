package operation

import (
	"math"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParseInput(t *testing.T) {
	names := span.NamesOf(map[string]memory.Span{"app": {First: 0x4000, Last: 0x7FFF}, "boot": {First: 0, Last: 0xFFF}})
	exists := func(name string) bool { return name == "odd@0x10" || name == "a" }
	for text, want := range map[string]struct {
		file string
		p    Placing
	}{
		"a":           {"a", Placing{}},
		"odd@0x10":    {"odd@0x10", Placing{}},
		"odd@0x10@0":  {"odd@0x10", Placing{FirstAt, 0}},
		"a@0x4000":    {"a", Placing{FirstAt, 0x4000}},
		"a@app.first": {"a", Placing{FirstAt, 0x4000}},
		"a@+1K":       {"a", Placing{Up, 1024}},
		"a@-4":        {"a", Placing{Down, 4}},
		"-":           {"-", Placing{}},
		"-@4":         {"-", Placing{FirstAt, 4}},
		"@4":          {"@4", Placing{}},
	} {
		file, p, err := ParseInput(text, names, exists)
		assert.NoError(t, err, text)
		assert.Equal(t, want.file, file, text)
		assert.Equal(t, want.p, p, text)
	}
	_, _, err := ParseInput("a@zero", names, exists)
	assert.EqualError(t, err, `"a@zero", character 3: unknown name zero; known: app, boot`)
}

func TestPlacing(t *testing.T) {
	m, _ := memory.FromBytes(0x100, []byte{1, 2}, &source.Input{Name: "f"})
	for _, c := range []struct {
		p     Placing
		first uint64
		err   string
	}{
		{Placing{}, 0x100, ""},
		{Placing{FirstAt, 0x20}, 0x20, ""},
		{Placing{FirstAt, 0x200}, 0x200, ""},
		{Placing{Up, 0x10}, 0x110, ""},
		{Placing{Down, 0x100}, 0, ""},
		{Placing{Down, 0x101}, 0, "cannot be moved down"},
		{Placing{FirstAt, math.MaxUint64}, 0, "past the last 64-bit address"},
	} {
		moved, err := c.p.Apply(m, &source.Input{Name: "place", Counting: source.Operation})
		if c.err != "" {
			assert.ErrorContains(t, err, c.err)
			continue
		}
		assert.NoError(t, err)
		assert.Equal(t, c.first, moved.Runs()[0].First)
	}
}
