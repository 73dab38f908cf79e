package pages

import (
	"io"

	"mexalt/internal/pages/page"
	"mexalt/internal/report"
	"mexalt/memory"
)

// WriteFolder writes what the files of a folder are as a page.
func WriteFolder(x *report.Folder, to io.Writer) error {
	p := &page.Page{Heading: "What the files are", Sub: x.Count(), Bad: len(x.Contradictions) > 0, Verdict: "no contradiction"}
	if p.Bad {
		p.Verdict = memory.FormatNumber(len(x.Contradictions), "contradiction")
		s := page.Section{ID: "contradictions", Title: "What contradicts"}
		for i := range x.Contradictions {
			s.Intro = append(s.Intro, x.Contradictory(&x.Contradictions[i]))
		}
		p.Sections = append(p.Sections, s)
	}
	p.Title = p.Heading + ": " + p.Verdict
	table := &page.Table{}
	for _, name := range report.Columns {
		table.Header = append(table.Header, page.Column{Text: name})
	}
	for i, row := range x.Rows() {
		var cells []page.Cell
		for k, text := range row {
			c := page.Cell{Text: text}
			if x.Files[i].Bad != "" && k == len(row)-1 {
				c.Mark = "bad"
			}
			cells = append(cells, c)
		}
		table.Rows = append(table.Rows, cells)
	}
	table.DropEmpty()
	p.Sections = append(p.Sections, page.Section{ID: "files", Title: "Files", Table: table})
	return p.Write(to)
}
