package picture

import (
	"fmt"
	"math"
	"strings"

	"mexalt/memory"
)

// Row is a line of a picture as text. One that may be broken is text for reading; the
// others stand in columns.
type Row struct {
	Runs      []Run
	Breakable bool
}

// Run is what stands in a row in one colour.
type Run struct {
	Text string
	Tone Tone
	Part int // whose colour it has, where its tone is [OfPart]
}

// Tone is what a run is, from which its colour follows.
type Tone uint8

// The tones.
const (
	Plain   Tone = iota
	Heading      // the picture's title
	Marked       // a mark
	Beside       // what stands beside: addresses, the scale
	OfPart       // a part of the image
)

// leastWide is the least width that a picture is laid out for.
const leastWide = 60

// text collects the rows.
type text struct {
	*Picture
	wide float64
	rows []Row
}

func (t *text) row(runs ...Run)    { t.rows = append(t.rows, Row{Runs: runs}) }
func (t *text) line(runs ...Run)   { t.rows = append(t.rows, Row{runs, true}) }
func (t *text) plain(line string)  { t.row(Run{Text: line}) }
func runes(s string) float64       { return float64(len([]rune(s))) }
func (t *text) beside(line string) { t.row(Run{Text: line, Tone: Beside}) }

// Text lays the picture out as text, as many columns wide: at least 60.
func (p *Picture) Text(columns int) []Row {
	t := &text{Picture: p, wide: float64(max(columns, leastWide))}
	if p.Title != "" {
		t.line(Run{Text: p.Title, Tone: Heading})
	}
	for i := range p.Memories {
		t.memory(&p.Memories[i])
	}
	reserved, free, _ := p.legendOf()
	if len(p.Parts) == 0 {
		free = false // nothing is used that it could be told from
	}
	if len(p.Parts) > 0 || free || reserved {
		t.plain("")
	}
	for k, part := range p.Parts {
		t.line(Run{PartLetter(k), OfPart, k}, Run{Text: fmt.Sprintf("  %s, %s", part.Name, memory.FormatBytes(part.Image.Bytes()))})
	}
	if free {
		t.plain("·  free")
	}
	if reserved {
		t.plain("/  reserved")
	}
	for n, m := range p.Marks {
		t.line(Run{Text: fmt.Sprintf("^%d", n+1), Tone: Marked}, Run{Text: " " + m.Text})
	}
	return t.rows
}

// mostTextRows is how many rows of names stand over a memory as text, and of addresses or
// numbers below it. With more, narrow regions are not named there, and the numbers that
// have no room are in the list of marks alone.
const mostTextRows = 12

// memory lays one memory out: names of regions, the bar, marks, addresses.
func (t *text) memory(m *Memory) {
	t.plain("")
	t.line(Run{Text: m.Title})
	s := newScale(m, t.wide, 4, 1)
	s.border = 1
	labels, count, unnamed := s.labels(func(seg Segment) string { return seg.Name }, runes, t.wide, 1, mostTextRows)
	for row := count - 1; row >= 0; row-- {
		line := t.blank()
		for _, l := range labels {
			if l.row > row {
				put(line, int(l.at), "│")
			}
		}
		for _, l := range labels {
			if l.row == row {
				put(line, int(l.x), l.text)
			}
		}
		t.plain(strings.TrimRight(string(line), " "))
	}
	t.row(t.bar(m, &s)...)
	numbers, places := t.flags(&s, m.Span)
	for i := range numbers {
		numbers[i] = "^" + numbers[i]
		places[i] = math.Floor(places[i]) + runes(numbers[i])/2
	}
	flags, count := rows(numbers, places, "", runes, t.wide, 1, mostTextRows)
	for row := range min(count, mostTextRows) {
		t.row(Run{Text: t.label(flags, row), Tone: Marked})
	}
	addresses, count := s.firsts(m.Span.Last, runes, t.wide, 1, mostTextRows)
	for row := range count {
		t.beside(t.label(addresses, row))
	}
	note := s.note("column")
	if unnamed > 0 {
		note += fmt.Sprintf("; %d not named here", unnamed)
	}
	t.line(Run{Text: "  "}, Run{Text: note, Tone: Beside})
	for _, seg := range m.Segments {
		if seg.Name != "" && seg.Detail != "" {
			t.plain(fmt.Sprintf("  %-*s %s", 16, seg.Name, seg.Detail))
		}
	}
}

// label is one of several rows of texts.
func (t *text) label(list []placed, row int) string {
	line := t.blank()
	for _, l := range list {
		if l.row == row {
			put(line, int(l.x), l.text)
		}
	}
	return strings.TrimRight(string(line), " ")
}

// bar draws a memory as a bar: free space, what each part fills in its colour, the
// borders of regions.
func (t *text) bar(m *Memory, s *scale) (runs []Run) {
	bar := t.blank()
	for j, seg := range m.Segments {
		fill := "·"
		if seg.Name == "" {
			fill = " "
		} else if seg.Reserved {
			fill = "/"
		}
		for x := int(math.Round(s.starts[j])); x < int(math.Round(s.starts[j+1])); x++ {
			put(bar, x, fill)
		}
	}
	for k, part := range t.Parts {
		for _, u := range s.used(part.Image, m.Span, 0) {
			from, to := int(math.Floor(u.from+0.01)), int(math.Ceil(u.to-0.01))
			for x := from; x < max(to, from+1); x++ {
				put(bar, x, PartLetter(k))
			}
		}
	}
	for j, seg := range m.Segments {
		if seg.Name != "" {
			put(bar, int(math.Round(s.starts[j])), "[")
			put(bar, int(math.Round(s.starts[j+1]))-1, "]")
		}
	}
	rest := []rune(strings.TrimRight(string(bar), " "))
	for len(rest) > 0 {
		n := 1
		for n < len(rest) && rest[n] == rest[0] {
			n++
		}
		run := Run{Text: string(rest[:n])}
		for k := range t.Parts {
			if PartLetter(k) == string(rest[0]) {
				run.Tone, run.Part = OfPart, k
				break
			}
		}
		runs, rest = append(runs, run), rest[n:]
	}
	return runs
}

func (t *text) blank() []rune { return []rune(strings.Repeat(" ", int(t.wide))) }

func put(line []rune, x int, text string) {
	for i, r := range []rune(text) {
		if x+i >= 0 && x+i < len(line) {
			line[x+i] = r
		}
	}
}
