package pages

import (
	"bytes"
	"html"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/release"
	"mexalt/release/proof"
)

// manifest is that of a release with a region, a part and, where there are any,
// symbols.
func manifest(version string, used, part uint64) *proof.Manifest {
	return &proof.Manifest{Header: proof.Header{Name: "TG"}, Products: []proof.Product{{
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
		"All bytes of the image, with fills: a.manifest.json does not say how many came from the inputs.",
	} {
		assert.Contains(t, text.String(), want)
	}
	counted := &Growth{}
	for i, parts := range []uint64{40, 56} {
		m := manifest([]string{"1.0", "1.1"}[i], 1024, 90)
		m.Products[0].Regions[0].Parts = &parts
		counted.Add("a.manifest.json", m)
	}
	text.Reset()
	counted.Text(render.Plain(&text))
	assert.Contains(t, text.String(), "application   40   56  +16 (+40.0 %)   5.5 %\n")
	assert.Contains(t, text.String(), "\nBytes that came from the inputs; fills")
	model := g.Model().(report.GrowthModel)
	assert.Equal(t, []report.GrowingModel{{Name: "application", Size: 1024, Bytes: []uint64{100, 300, 512}}}, model.Regions)
	assert.Equal(t, []report.GrowingModel{{Name: "app", Size: 0, Bytes: []uint64{90, 290, 290}},
		{Name: "table", Size: 0, Bytes: []uint64{0, 10, 0}}}, model.Parts)
	assert.Empty(t, model.Symbols)
	var page bytes.Buffer
	require.NoError(t, g.Write(&page))
	drawingsAreXML(t, page.String())
	assert.Contains(t, page.String(), "application, 1.1: 300 bytes")
	assert.Contains(t, page.String(), "Growth over 3 releases")
}

// TestAPageTellsOfTheRelease puts together what a page of a release has.
func TestAPageTellsOfTheRelease(t *testing.T) {
	image := bytesAt(t, 0x7000, bytes.Repeat([]byte{1, 2}, 0x480), "sub/part.bin")
	c := checkedAgainst(t, "part.bin", image, "brindle-b8-32")
	c.Before = &report.Before{Name: "old.manifest.json", Title: "TG, of old", Product: &manifest("1.0", 100, 90).Products[0]}
	p := &Check{
		Checked:  c,
		Product:  "TG-1",
		Sub:      "for the harbour",
		Steps:    []release.StepResult{{Line: 7, Do: "fill", Changes: []string{"filled 3 bytes"}, Notes: []string{"with FF"}}},
		StepsIn:  "tg1.release.toml",
		Parts:    []Part{{Name: "app", File: "part.bin", Image: image, Version: "2.4.1"}, {Name: "lost", File: "lost.hex"}},
		Sets:     map[string]string{"version": "2.4.1", "serial": "7"},
		Files:    []File{{"output", "tg1.hex", "Intel HEX", 1234, "abcd"}},
		Accepted: []Acceptance{{"partial-page", "tg1.release.toml:12"}},
		Named:    func(name string) string { return strings.TrimPrefix(name, "sub/") },
	}
	var out bytes.Buffer
	require.NoError(t, p.Write(&out))
	page := html.UnescapeString(out.String())
	for _, want := range []string{"TG-1", "for the harbour", "tg1.release.toml:7", "filled 3 bytes; with FF", "2.4.1", "1,234", "abcd",
		"could not be read", "TG, of old", "since old.manifest.json", "part.bin+0x"} {
		assert.Contains(t, page, want)
	}
	assert.NotContains(t, page, "sub/part.bin", "files are named from the release's folder")
	for _, section := range []string{"map", "findings", "parts", "regions", "near", "configuration", "checksums", "steps", "origins",
		"files"} {
		assert.Contains(t, page, `<section id="`+section+`"`)
	}
	assert.Contains(t, page, "+1,948 (+1948.0 %)", "the application, of 100 bytes before")
}
