package page

import (
	"html"
	"html/template"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEachTextIsEscaped puts a hostile text in each place of a page: nothing of it is an
// element, a quote or a script, and what hides in it is shown.
func TestEachTextIsEscaped(t *testing.T) {
	const hostile = "\"><script>alert(1)</script>'&\u202e\x1b[31m</style>"
	p := &Page{
		Title:   hostile,
		Heading: hostile,
		Sub:     hostile,
		Verdict: hostile,
		Facts:   []Fact{{Name: hostile, Text: hostile}},
		Data:    map[string]string{"name": hostile},
		Sections: []Section{{ID: hostile, Title: hostile, Intro: []string{hostile}, Drawings: []template.HTML{"<svg></svg>"}, Search: true,
			Table: &Table{
				Caption: hostile,
				Header:  []Column{{Text: hostile}, {Text: "n", Numbers: true}},
				Rows:    [][]Cell{{{Text: hostile, Link: "#" + hostile}, {Text: hostile, Mark: hostile, Bar: &Bar{Percent: 12.345}}}},
				More:    hostile,
			},
			Findings: []Finding{
				{
					Number:   1,
					Severity: hostile,
					Rule:     hostile,
					Where:    hostile,
					Region:   hostile,
					Place:    hostile,
					What:     hostile,
					Expected: hostile,
					Advice:   hostile,
					Accepted: hostile,
				},
			},
			Zooms: []Zoom{
				{
					ID:    hostile,
					Title: hostile,
					Text:  hostile,
					Open: []Row{{Address: hostile, Cells: []Byte{{Text: hostile, Mark: hostile}}, Text: hostile, Origin: hostile,
						Origin2: hostile}},
				},
			},
			Rows: []Rows{
				{Title: hostile, Rows: []Row{{Address: "0x0", Second: []Byte{{Text: hostile}}}}},
			}, Facts: []Fact{{Name: "x", Text: hostile, Digest: true}}}},
	}
	var b strings.Builder
	require.NoError(t, p.Write(&b))
	out := b.String()
	assert.Equal(t, 2, strings.Count(out, "<script"), "the data's, and the page's own")
	assert.Equal(t, 1, strings.Count(out, "</style>"))
	assert.NotContains(t, out, "\u202e")
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, out, "<figure tabindex=\"0\"><svg></svg></figure>")
	assert.Contains(t, out, "width:12.3%")
	assert.GreaterOrEqual(t, strings.Count(html.UnescapeString(out), `"><script>alert(1)</script>'&\u202E\x1B[31m</style>`), 24)
	assert.Equal(t, hostile, p.Title, "the page itself is as it was")
}
