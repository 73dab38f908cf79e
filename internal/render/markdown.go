package render

import (
	"regexp"
	"strings"
	"sync"
)

// Markdown prints a page of the documentation: headings, paragraphs, lists, tables
// and blocks of code, without the signs that only a page needs.
func (p *Printer) Markdown(text string) {
	plain := func(line string) string {
		parts := strings.Split(withoutLinks(line), "`")
		for i := 0; i < len(parts); i += 2 { // all others are code
			parts[i] = emphasis().ReplaceAllString(strings.ReplaceAll(parts[i], "**", ""), "$1")
		}
		return strings.Join(parts, "")
	}
	code := false
	var rows [][]string // of a table
	var prose []string
	end := func() { // of a table, or of prose; never are there both
		if len(rows) > 0 {
			p.tableWithin(p.proseWidth(), rows[0], rows[1:])
		}
		if len(prose) > 0 {
			p.Prose(strings.Join(prose, "\n"))
		}
		rows, prose = nil, nil
	}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		heading := strings.TrimLeft(line, "#")
		if !code && strings.HasPrefix(line, "|") {
			if len(prose) > 0 {
				end()
			}
			var cells []string
			for cell := range strings.SplitSeq(strings.Trim(line, "|"), "|") {
				cells = append(cells, plain(strings.TrimSpace(cell)))
			}
			if strings.Trim(strings.Join(cells, ""), "-") != "" {
				rows = append(rows, cells)
			}
			continue
		}
		if len(rows) > 0 || code || heading != line || strings.HasPrefix(line, "```") {
			end()
		}
		switch {
		case strings.HasPrefix(line, "```"):
			code = !code
		case code:
			p.Printf("    %s\n", line)
		case heading != line && strings.HasPrefix(heading, " "):
			p.Printf("%s\n", p.Title(strings.TrimSpace(heading)))
		case strings.HasPrefix(line, "!["):
		default:
			if item, is := strings.CutPrefix(line, "* "); is {
				line = "- " + item
			}
			prose = append(prose, plain(line))
		}
	}
	end()
}

// emphasis is a word between asterisks.
var emphasis = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\*([^*\s][^*]*)\*`) })

// withoutLinks leaves of each link the text.
func withoutLinks(line string) string {
	before, rest, begins := strings.Cut(line, "[")
	text, behind, ends := strings.Cut(rest, "](")
	_, after, closed := strings.Cut(behind, ")")
	switch {
	case !begins:
		return line
	case !ends || !closed || strings.ContainsAny(text, "[]"):
		return before + "[" + withoutLinks(rest)
	}
	return strings.TrimSuffix(before, "!") + text + withoutLinks(after)
}
