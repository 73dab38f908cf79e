package render

import (
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/width"

	"mexalt/source"
)

// Table prints rows under a header, without lines around. Columns whose number is
// in right are aligned to the right; columns in which no row has anything are left
// out. On a terminal the widest columns give way until the table fits; where words
// would have to be broken for that, each row is a list.
func (p *Printer) Table(header []string, rows [][]string, right ...int) {
	header, rows, right = filled(header, rows, right)
	t := table{right: right, widths: make([]int, len(header)), least: make([]int, len(header))}
	for _, row := range append([][]string{header}, rows...) {
		for i, cell := range row {
			row[i] = source.Visible(cell)
			t.widths[i] = max(t.widths[i], columnsOf(row[i]))
			for _, piece := range pieces(row[i], true) {
				t.least[i] = min(max(t.least[i], columnsOf(strings.TrimRight(piece, " "))), longWord)
			}
		}
	}
	if p.Terminal && !t.fit(p.Width) {
		p.listed(header, rows)
		return
	}
	var b strings.Builder
	t.row(&b, header)
	for i, w := range t.widths {
		if i == len(t.widths)-1 {
			b.WriteString(strings.Repeat("─", w))
		} else {
			b.WriteString(strings.Repeat("─", w+1) + " ")
		}
	}
	b.WriteByte('\n')
	for _, row := range rows {
		t.row(&b, row)
	}
	p.Printf("%s", Styled(b.String()))
}

// longWord is how long a word is that may be broken in a table, such as the name
// of a file.
const longWord = 24

// table lays rows out.
type table struct {
	widths []int
	least  []int // widths in which nothing is broken but between words, and long words
	right  []int
}

// fit makes the widest columns narrower, but breaks no word, until a row is no
// wider than a terminal. It reports whether one is then.
func (t *table) fit(wide int) bool {
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

// row writes one row, on as many lines as its cells need.
func (t *table) row(b *strings.Builder, cells []string) {
	lines := make([][]string, len(cells))
	count := 1
	for i, cell := range cells {
		lines[i] = broken(cell, t.widths[i])
		count = max(count, len(lines[i]))
	}
	for n := range count {
		var line strings.Builder
		for i := range cells {
			text := ""
			if n < len(lines[i]) {
				text = lines[i][n]
			}
			room := strings.Repeat(" ", max(t.widths[i]-columnsOf(text), 0))
			if slices.Contains(t.right, i+1) {
				line.WriteString(room + text)
			} else {
				line.WriteString(text + room)
			}
			line.WriteString("  ")
		}
		b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
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
	for _, piece := range pieces(text, true) {
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

// pieces takes a text apart where a line may end: behind a blank, but not between
// a number and its unit; with spans, also behind the two dots of a span.
func pieces(text string, spans bool) (list []string) {
	from, word := 0, 0 // where the piece begins, and the word
	for i := 1; i < len(text); i++ {
		begins := text[i-1] == ' ' && text[i] != ' '
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
func positions(text string) func(yield func(end, columns int) bool) {
	return func(yield func(int, int) bool) {
		columns := 0
		for at, r := range text {
			columns += columnsOfRune(r)
			if !yield(at+len(string(r)), columns) {
				return
			}
		}
	}
}

// columnsOf is how many columns of a terminal a text takes; colours take none.
func columnsOf(text string) int {
	columns, escaped := 0, false
	for _, r := range text {
		switch {
		case r == '\x1b':
			escaped = true
		case escaped:
			escaped = !unicode.IsLetter(r)
		default:
			columns += columnsOfRune(r)
		}
	}
	return columns
}

func columnsOfRune(r rune) int {
	if r < 0x300 {
		return 1
	}
	if unicode.In(r, unicode.Mn, unicode.Me, unicode.Cf) {
		return 0
	}
	switch width.LookupRune(r).Kind() {
	case width.EastAsianWide, width.EastAsianFullwidth:
		return 2
	}
	return 1
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
