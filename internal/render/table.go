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
// out. On a terminal the widest columns give way until the table fits.
func (p *Printer) Table(header []string, rows [][]string, right ...int) {
	header, rows, right = filled(header, rows, right)
	t := table{right: right, widths: make([]int, len(header))}
	for _, row := range append([][]string{header}, rows...) {
		for i, cell := range row {
			row[i] = source.Visible(cell)
			t.widths[i] = max(t.widths[i], columnsOf(row[i]))
		}
	}
	if p.Terminal {
		t.fit(p.Width)
	}
	var b strings.Builder
	t.row(&b, header)
	for i, w := range t.widths {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(strings.Repeat("─", w+1))
	}
	b.WriteByte('\n')
	for _, row := range rows {
		t.row(&b, row)
	}
	p.Printf("%s", Styled(b.String()))
}

// table lays rows out.
type table struct {
	widths []int
	right  []int
}

// fit makes the widest columns narrower until a row is no wider than a terminal.
func (t *table) fit(wide int) {
	const least = 8
	for {
		total := len(t.widths) - 1
		widest := 0
		for i, w := range t.widths {
			total += w + 1
			if w > t.widths[widest] {
				widest = i
			}
		}
		if over := total - wide; over <= 0 || t.widths[widest] <= least {
			return
		}
		next := least // the width of the next widest, which gives way along with it
		for i, w := range t.widths {
			if i != widest && w < t.widths[widest] {
				next = max(next, w)
			}
		}
		t.widths[widest] = max(t.widths[widest]-(total-wide), min(next, t.widths[widest]-1), least)
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

// broken breaks a text into lines of a width, between words where it can.
func broken(text string, wide int) []string {
	if columnsOf(text) <= wide {
		return []string{text}
	}
	var lines []string
	line := ""
	for _, word := range strings.Split(text, " ") {
		switch {
		case line == "":
			line = word
		case columnsOf(line)+1+columnsOf(word) <= wide:
			line += " " + word
		default:
			lines, line = append(lines, line), word
		}
		for columnsOf(line) > wide {
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
	return append(lines, line)
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
