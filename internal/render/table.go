package render

import (
	"math"
	"slices"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"mexalt/source"
)

// Table prints rows under a header, without lines around. Columns whose number is
// in right are aligned to the right; columns in which no row has anything are left
// out. On a terminal the widest columns give way until the table fits; where words
// would have to be broken for that, each row is a list.
func (p *Printer) Table(header []string, rows [][]string, right ...int) {
	wide := math.MaxInt
	if p.Terminal {
		wide = p.Width
	}
	p.tableWithin(wide, header, rows, right...)
}

// tableWithin prints a table that has at most so many columns of text.
func (p *Printer) tableWithin(wide int, header []string, rows [][]string, right ...int) {
	header, rows, right = filled(header, rows, right)
	t := columns{widths: make([]int, len(header)), least: make([]int, len(header))}
	for _, row := range append([][]string{header}, rows...) {
		for i, cell := range row {
			row[i] = source.Visible(cell)
			t.widths[i] = max(t.widths[i], columnsOf(row[i]))
			for _, piece := range breakable(row[i], true) {
				t.least[i] = min(max(t.least[i], columnsOf(strings.TrimRight(piece, " "))), longWord)
			}
		}
	}
	if !t.fit(wide) {
		p.listed(header, rows)
		return
	}
	w := table.NewWriter()
	w.SetStyle(plainTable)
	var configs []table.ColumnConfig
	for i, wide := range t.widths {
		align := text.AlignLeft
		if slices.Contains(right, i+1) {
			align = text.AlignRight
		}
		configs = append(
			configs,
			table.ColumnConfig{
				Number:           i + 1,
				Align:            align,
				AlignHeader:      align,
				WidthMin:         wide,
				WidthMax:         wide,
				WidthMaxEnforcer: func(cell string, wide int) string { return strings.Join(broken(cell, wide), "\n") },
			},
		)
	}
	w.SetColumnConfigs(configs)
	row := func(cells []string) (out table.Row) {
		for _, c := range cells {
			out = append(out, c)
		}
		return out
	}
	w.AppendHeader(row(header))
	for _, cells := range rows {
		w.AppendRow(row(cells))
	}
	for line := range strings.Lines(w.Render()) {
		line = strings.TrimRight(line, " \n")
		for _, word := range []string{"FAILED", "POWER CUT"} { // at the end of a row, as what came of it
			if rest, ok := strings.CutSuffix(line, word); ok {
				line = rest + string(p.Bad(word))
			}
		}
		p.Printf("%s\n", Styled(line))
	}
}

// plainTable has nothing around its cells, and a line below its header.
var plainTable = table.Style{
	Box:     table.BoxStyle{MiddleHorizontal: "─", MiddleSeparator: "─ ", MiddleVertical: "  "},
	Options: table.Options{SeparateColumns: true, SeparateHeader: true},
}

// longWord is how long a word is that may be broken in a table, such as the name
// of a file.
const longWord = 24

// columns are the widths of a table's columns.
type columns struct {
	widths []int
	least  []int // widths in which nothing is broken but between words, and long words
}

// fit makes the widest columns narrower, but breaks no word, until a row is no
// wider than a terminal. It reports whether one is then.
func (t *columns) fit(wide int) bool {
	for {
		total, widest := 2*(len(t.widths)-1), -1
		for i, w := range t.widths {
			total += w
			if w > t.least[i] && (widest < 0 || w > t.widths[widest]) {
				widest = i
			}
		}
		if total <= wide {
			return true
		}
		if widest < 0 {
			return false
		}
		t.widths[widest]--
	}
}

// listed prints rows one below the other: the first cell, and the others behind
// their names.
func (p *Printer) listed(header []string, rows [][]string) {
	for _, row := range rows {
		var cells []string
		for i, cell := range row {
			if i > 0 && cell != "" {
				cells = append(cells, header[i]+" "+cell)
			}
		}
		p.Line("%s", Styled(row[0]))
		p.Hanging("  ", "%s", Styled(strings.Join(cells, "; ")))
	}
}

// broken breaks a text into lines of a width, between its pieces where it can.
func broken(text string, wide int) []string {
	const least = 2 // columns, so that each line takes some of the text, the widest letter too
	wide = max(wide, least)
	if columnsOf(text) <= wide {
		return []string{text}
	}
	var lines []string
	line := ""
	for _, piece := range breakable(text, true) {
		if line != "" && columnsOf(line)+columnsOf(strings.TrimRight(piece, " ")) > wide {
			lines, line = append(lines, strings.TrimRight(line, " ")), ""
		}
		line += piece
		for columnsOf(strings.TrimRight(line, " ")) > wide {
			cut := 0
			for at, columns := range positions(line) {
				if columns > wide {
					break
				}
				cut = at
			}
			lines, line = append(lines, line[:cut]), line[cut:]
		}
	}
	return append(lines, strings.TrimRight(line, " "))
}

// breakable takes a text apart where a line may end: behind a blank, but not between
// a number and its unit or within a command that shows help; with spans, also behind the
// two dots of a span.
func breakable(text string, spans bool) (list []string) {
	from, word := 0, 0 // where the piece begins, and the word
	for i := 1; i < len(text); i++ {
		begins := text[i-1] == ' ' && text[i] != ' '
		if begins && (strings.HasSuffix(text[:i], "mexalt ") || strings.HasSuffix(text[:i], "mexalt help ")) {
			continue
		}
		digits := strings.TrimLeft(text[word:i], "(")
		number := digits != "" && '0' <= digits[0] && digits[0] <= '9'
		dots := spans && i > 2 && text[i-2:i] == ".." && text[i] == '0'
		if begins && !(number && text[i-2] != ' ' && unicode.IsLetter(rune(text[i]))) || dots {
			list, from = append(list, text[from:i]), i
		}
		if begins {
			word = i
		}
	}
	return append(list, text[from:])
}

// positions goes through the ends of a text's characters, with the columns that it
// takes up to there.
func positions(cell string) func(yield func(end, columns int) bool) {
	return func(yield func(int, int) bool) {
		columns := 0
		for at, r := range cell {
			columns += text.RuneWidth(r)
			if !yield(at+len(string(r)), columns) {
				return
			}
		}
	}
}

// columnsOf is how many columns of a terminal a text takes; colours take none.
func columnsOf(cell string) int { return text.StringWidthWithoutEscSequences(cell) }

func init() {
	text.OverrideRuneWidthEastAsianWidth(false) // the same text is laid out alike everywhere
}

// filled leaves out the columns in which no row has anything. The rows are copies.
func filled(header []string, rows [][]string, right []int) ([]string, [][]string, []int) {
	out := make([][]string, len(rows))
	var heads []string
	var aligned []int
	for column, head := range header {
		if !slices.ContainsFunc(rows, func(row []string) bool { return column < len(row) && row[column] != "" }) {
			continue
		}
		heads = append(heads, head)
		if slices.Contains(right, column+1) {
			aligned = append(aligned, len(heads))
		}
		for i, row := range rows {
			cell := ""
			if column < len(row) {
				cell = row[column]
			}
			out[i] = append(out[i], cell)
		}
	}
	return heads, out, aligned
}
