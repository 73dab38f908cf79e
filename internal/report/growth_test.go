package report

import (
	"bytes"
	"html"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/survey"
)

// manifest is that of a release with a region, a part and, where there are any,
// symbols.
func manifest(version string, used, part uint64) *proof.Manifest {
	return &proof.Manifest{Name: "TG", Products: []proof.Product{{
		Set:     map[string]string{"version": version},
		Regions: []proof.Region{{Name: "application", Span: proof.Span{First: "0x0000", Last: "0x03FF"}, Used: used}},
		Inputs:  []proof.Input{{Name: "app", Bytes: part}},
	}}}
}

func TestGrowth(t *testing.T) {
	g := &Growth{}
	g.Add("a.manifest.json", manifest("1.0", 100, 90))
	second := manifest("1.1", 300, 290)
	second.Products[0].Inputs = append(second.Products[0].Inputs, proof.Input{Name: "table", Bytes: 10})
	g.Add("b.manifest.json", second)
	third := manifest("1.1", 512, 290)
	third.Products[0].Variant = ""
	g.Add("folder/c.manifest.json", third)
	assert.Equal(t, []string{"1.0", "1.1", "c"}, g.Releases, "two of one version are told apart")
	var text strings.Builder
	g.Text(render.Plain(&text))
	for _, want := range []string{
		"application  100  300  512  +412 (+412.0 %)  50.0 %",
		"app     90  290  290  +200 (+222.2 %)",
		"table    -   10    -        as before",
	} {
		assert.Contains(t, text.String(), want)
	}
	model := g.Model().(GrowthModel)
	assert.Equal(t, []GrowingModel{{"application", 1024, []uint64{100, 300, 512}}}, model.Regions)
	assert.Equal(t, []GrowingModel{{"app", 0, []uint64{90, 290, 290}}, {"table", 0, []uint64{0, 10, 0}}}, model.Parts)
	assert.Empty(t, model.Symbols)
	var page bytes.Buffer
	require.NoError(t, g.Page(&page))
	drawingsAreXML(t, page.String())
	assert.Contains(t, page.String(), "application, 1.1: 300 bytes")
	assert.Contains(t, page.String(), "Growth over 3 releases")
}

func TestGrown(t *testing.T) {
	for _, c := range []struct {
		now, before uint64
		want        string
	}{{5, 5, "as before"}, {0, 0, "as before"}, {150, 100, "+50 (+50.0 %)"}, {100, 150, "−50 (−33.3 %)"}, {2000, 0, "+2,000, new"}, {0, 1000, "−1,000 (−100.0 %)"}} {
		assert.Equal(t, c.want, grown(c.now, c.before))
	}
}

// TestCostsNameTheirCauses words why places are written.
func TestCostsNameTheirCauses(t *testing.T) {
	span := func(first, last uint64) memory.Span { return memory.Span{First: first, Last: last} }
	c := &Costs{Cost: &rehearsal.Cost{}, Programs: true, Guards: []Guard{{"crc", span(0xFFC, 0xFFF)}}, Symbols: []survey.SymbolChange{
		{Name: "tide", Fate: survey.Grown, Before: span(0x100, 0x10F), After: span(0x100, 0x117)},
		{Name: "old_way", Fate: survey.Gone, Before: span(0x120, 0x12F)},
		{Name: "fresh", Fate: survey.Fresh, After: span(0x140, 0x143)},
		{Name: "small", Fate: survey.Shrunk, Before: span(0x150, 0x157), After: span(0x150, 0x153)},
		{Name: "table", Fate: survey.Changed, Before: span(0x300, 0x30F), After: span(0x300, 0x30F), Bytes: 3},
		{Name: "later", Fate: survey.Moved, Before: span(0x200, 0x20F), After: span(0x208, 0x217)},
	}}
	for _, p := range []struct {
		place rehearsal.Place
		want  string
	}{
		{rehearsal.Place{Span: span(0x100, 0x1FF), Changed: span(0x110, 0x150)}, "old_way is gone (-16), tide has grown by 8, fresh is new (+4), and 1 more"},
		{rehearsal.Place{Span: span(0x200, 0x3FF), Changed: span(0x208, 0x30F)}, "1 moved, 1 changed in place"},
		{rehearsal.Place{Span: span(0xC00, 0xFFF), Changed: span(0xFFC, 0xFFD)}, "nothing but crc is there"},
		{rehearsal.Place{Span: span(0xC00, 0xFFF), Changed: span(0xC00, 0xFFF)}, "crc"},
		{rehearsal.Place{Span: span(0x500, 0x5FF), Changed: span(0x500, 0x5FF)}, ""},
	} {
		assert.Equal(t, p.want, c.why(&p.place))
	}
	assert.Equal(t, "functions and variables: 1 grown, 1 shrunk, 1 new, 1 gone, 1 changed, 1 moved", c.counts())
	assert.Equal(t, "nothing has to be written", c.text())
}

// TestAPageTellsOfTheRelease puts together what a page of a release has.
func TestAPageTellsOfTheRelease(t *testing.T) {
	image := bytesAt(t, 0x7000, bytes.Repeat([]byte{1, 2}, 0x480), "sub/part.bin")
	c := checkedAgainst(t, "part.bin", image, "brindle-b8-32")
	c.Before = &Before{Name: "old.manifest.json", Title: "TG, of old", Product: &manifest("1.0", 100, 90).Products[0]}
	p := &CheckPage{Checked: c, Product: "TG-1", Sub: "for the harbour", Steps: []release.StepResult{{Line: 7, Do: "fill", Changes: []string{"filled 3 bytes"}, Notes: []string{"with FF"}}}, StepsIn: "tg1.release.toml",
		Parts:    []PagePart{{Name: "app", File: "part.bin", Image: image, Version: "2.4.1"}, {Name: "lost", File: "lost.hex"}},
		Sets:     map[string]string{"version": "2.4.1", "serial": "7"},
		Files:    []PageFile{{"output", "tg1.hex", "Intel HEX", 1234, "abcd"}},
		Accepted: []Acceptance{{"partial-page", "tg1.release.toml:12"}},
		Named:    func(name string) string { return strings.TrimPrefix(name, "sub/") }}
	var out bytes.Buffer
	require.NoError(t, p.Page(&out))
	page := html.UnescapeString(out.String())
	for _, want := range []string{"TG-1", "for the harbour", "tg1.release.toml:7", "filled 3 bytes; with FF", "2.4.1", "1,234", "abcd", "could not be read", "TG, of old", "since old.manifest.json", "part.bin+0x"} {
		assert.Contains(t, page, want)
	}
	assert.NotContains(t, page, "sub/part.bin", "files are named from the release's folder")
	for _, section := range []string{"map", "findings", "parts", "regions", "near", "configuration", "checksums", "steps", "origins", "files"} {
		assert.Contains(t, page, `<section id="`+section+`"`)
	}
	assert.Contains(t, page, "+1,948 (+1948.0 %)", "the application, of 100 bytes before")
}
