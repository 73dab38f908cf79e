// Package render prints for people: tables, problems with the line that they
// concern, colour.
package render

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"mexalt/source"
)

// Plain turns colour off, or on.
func Plain(plain bool) {
	if plain {
		text.DisableColors()
	} else {
		text.EnableColors()
	}
}

// The colours, by what they mean.
var (
	Bad   = text.Colors{text.FgRed, text.Bold}
	Doubt = text.Colors{text.FgYellow, text.Bold}
	Good  = text.Colors{text.FgGreen, text.Bold}
	Faint = text.Colors{text.Faint}
	Title = text.Colors{text.Bold}
)

// mostProblems is how many problems are printed; the rest is counted.
const mostProblems = 20

// Problems prints a list of problems, one on a line. With lines, each is
// followed by the line that it concerns, and the place in it marked.
func Problems(w io.Writer, problems *source.Problems, lines bool) {
	list := problems.List()
	for i, p := range list {
		if i == mostProblems {
			fmt.Fprintf(w, "and %d more problems\n", problems.Count()-mostProblems)
			return
		}
		colour := Bad
		if p.Severity == source.Warning {
			colour = Doubt
		}
		fmt.Fprintf(w, "%s: %s\n", colour.Sprint(p.Position()), p.Message())
		if lines && p.Text != "" {
			excerpt(w, p)
		}
	}
}

// excerpt prints a problem's line, or the part of it around the place.
func excerpt(w io.Writer, p *source.Problem) {
	const wide, before = 72, 48
	chars := []rune(strings.Map(func(r rune) rune {
		if r < 0x20 || r == utf8.RuneError {
			return '·'
		}
		return r
	}, p.Text))
	mark := p.Column - 1
	from := 0
	if mark > before && len(chars) > wide {
		from = min(mark-before, len(chars)-wide)
	}
	shown := chars[from:min(len(chars), from+wide)]
	fmt.Fprintf(w, "    %s\n", string(shown))
	if mark >= 0 {
		fmt.Fprintf(w, "    %s%s\n", strings.Repeat(" ", mark-from), Bad.Sprint("^"))
	}
}

// Table prints rows under a header, without lines around. Columns whose
// number is in right are aligned to the right.
func Table(w io.Writer, header []string, rows [][]string, right ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	t.SuppressTrailingSpaces()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true, SeparateColumns: true}
	style.Box.MiddleVertical = " "
	style.Box.MiddleSeparator = " "
	style.Box.PaddingLeft, style.Box.PaddingRight = "", " "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	var configs []table.ColumnConfig
	for _, n := range right {
		configs = append(configs, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(rowOf(header))
	for _, r := range rows {
		t.AppendRow(rowOf(r))
	}
	t.Render()
}

func rowOf(cells []string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = c
	}
	return row
}

// Count prints a number of things: "1 hole", "3 holes".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Bar draws how much of a whole is used; what is used at all shows.
func Bar(used, whole uint64) string {
	const wide = 20
	n := int(float64(used) / float64(whole) * wide)
	if used > 0 && n == 0 {
		n = 1
	}
	return strings.Repeat("█", n) + strings.Repeat("░", wide-n)
}
