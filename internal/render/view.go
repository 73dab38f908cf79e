package render

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// View prints the bytes of an image in rows.
type View struct {
	Columns int // bytes in a row
	Labels  []Label
	Origin  bool // where each row came from
	// Symbols returns the names that begin in a row; nil is none.
	Symbols func(memory.Span) string
	// Words returns what an address is as the device counts it; nil is that it counts bytes.
	Words  func(address uint64) string
	Marked []memory.Span // stand in brackets; sorted
	// Damage says of lines of the file what is wrong with them. They are told where
	// their bytes are missing.
	Damage map[int]string
}

// Label is a name for a span of addresses, such as a region. Labels are sorted
// and do not overlap. No row lies in two of them.
type Label struct {
	memory.Span
	Name string
}

// Print prints what lies in the spans. Holes and rows that repeat the one
// before them take one line.
func (v *View) Print(to *Printer, m *memory.Image, spans []memory.Span) {
	p := v.viewer(to, m)
	for _, s := range memory.Union(spans) {
		p.span(s)
	}
	p.damage(0, 0)
}

// Rows prints the rows of a span that hold bytes, and no others.
func (v *View) Rows(to *Printer, m *memory.Image, s memory.Span) {
	p := v.viewer(to, m)
	p.quietHoles = true
	p.span(s)
}

func (v *View) viewer(to *Printer, m *memory.Image) *viewer {
	p := &viewer{View: v, Printer: to, m: m, omitted: slices.Sorted(maps.Keys(v.Damage))}
	if all, ok := m.Span(); ok {
		p.wide = len(memory.FormatAddress(all.Last))
	}
	return p
}

type viewer struct {
	*View
	*Printer
	m          *memory.Image
	wide       int  // characters of an address
	quietHoles bool // holes are not told

	omitted []int // damaged lines that were not told yet

	label    string // of the row before
	begun    bool
	previous []byte // the row before, where it is full
	repeated int
	folded   Styled // the row that repeats it, where only one does
	last     uint64 // the last address of the row before
}

func (p *viewer) span(s memory.Span) {
	next := s.First // the first address not yet printed
	for {
		var run memory.Run
		for run = range p.m.In(memory.Span{First: next, Last: s.Last}) {
			break
		}
		if len(run.Data) == 0 {
			p.hole(memory.Span{First: next, Last: s.Last})
			return
		}
		columns := uint64(p.Columns)
		row := memory.Span{First: max(run.First-run.First%columns, next)}
		row.Last = min(run.First-run.First%columns+columns-1, s.Last)
		if row.Last < row.First {
			row.Last = s.Last // the row would pass the last address of all
		}
		label, within := p.LabelAt(run.First)
		row, _ = row.Meet(within)
		if row.First > next {
			p.hole(memory.Span{First: next, Last: row.First - 1})
		}
		if len(p.Labels) > 0 && (label != p.label || !p.begun) {
			p.flush()
			p.label, p.begun = label, true
			title := "in no region"
			if label != "" {
				title = label + " " + within.String()
			}
			p.Printf("%s\n", p.Title(strings.Repeat("─", p.wide)+" "+title))
		}
		p.row(row)
		if row.Last == s.Last {
			p.flush()
			return
		}
		next = row.Last + 1
	}
}

// LabelAt returns the label at an address, and the span in which it holds.
func (p *View) LabelAt(address uint64) (name string, within memory.Span) {
	within = memory.Complement(nil)[0]
	for _, l := range p.Labels {
		switch {
		case l.Contains(address):
			return l.Name, l.Span
		case l.Last < address:
			within.First = l.Last + 1
		case l.First > address:
			within.Last = min(within.Last, l.First-1)
		}
	}
	return "", within
}

func (p *viewer) row(s memory.Span) {
	data := make([]byte, 0, p.Columns)
	columns := uint64(p.Columns)
	base := s.First - s.First%columns
	cells := make([]string, p.Columns)
	text := []rune(strings.Repeat(" ", p.Columns))
	for i := range cells {
		cells[i] = "  "
		if a := base + uint64(i); s.Contains(a) {
			cells[i] = "--"
		}
	}
	for r := range p.m.In(s) {
		data = append(data, r.Data...)
		for i, b := range r.Data {
			c := r.First - base + uint64(i)
			cells[c] = fmt.Sprintf("%02X", b)
			text[c] = '·'
			if b >= 0x20 && b <= 0x7E {
				text[c] = rune(b)
			}
		}
	}
	symbols := ""
	if p.Symbols != nil {
		symbols = p.Symbols(s)
	}
	line := p.line(s, base, cells, text)
	start := p.m.Start().Kind != memory.NoStart && s.Contains(p.m.Start().Address())
	if len(data) == p.Columns && bytes.Equal(data, p.previous) && !start && symbols == "" {
		p.repeated++
		p.folded, p.last = line, s.Last
		return
	}
	p.flush()
	if symbols != "" {
		p.Printf("%s\n", p.Title(strings.Repeat(" ", p.wide)+"  "+symbols))
	}
	if start {
		p.Printf("%s\n", p.Good(fmt.Sprintf("%*s start address %s", p.wide, "→", memory.FormatAddress(p.m.Start().Address()))))
	}
	p.Printf("%s\n", line)
	p.previous, p.last = nil, s.Last
	if len(data) == p.Columns {
		p.previous = data
	}
}

func (p *viewer) line(s memory.Span, base uint64, cells []string, text []rune) Styled {
	var b strings.Builder
	for i, c := range cells {
		mark := p.bracket(base + uint64(i))
		switch {
		case i == 0 || i%8 != 0:
		case mark == "]":
			mark = "] "
		default:
			mark = " " + mark
		}
		b.WriteString(mark + c)
	}
	if p.marked(base + uint64(p.Columns) - 1) {
		b.WriteByte(']')
	}
	address := fmt.Sprintf("%*s", p.wide, memory.FormatAddress(base))
	if p.Words != nil {
		address += fmt.Sprintf(" %-*s", p.wide+len("word "), p.Words(base))
	}
	line := fmt.Sprintf("%s %s  %s", address, b.String(), string(text))
	if p.Origin {
		return p.withOrigin(line, source.Visible(strings.Join(p.Origins(p.m, s), "; ")))
	}
	return Styled(strings.TrimRight(line, " "))
}

// withOrigin puts a row's origin beside it, or below it on a terminal that has no
// room for it.
func (p *viewer) withOrigin(line, origin string) Styled {
	const least = 24 // columns
	at := columnsOf(line) + 2
	if p.Terminal && at+columnsOf(origin) > p.Width && at+least > p.Width {
		at = p.wide + 2
		line = strings.TrimRight(line, " ") + "\n" + strings.Repeat(" ", p.wide)
	}
	if p.Terminal {
		origin = strings.Join(broken(origin, p.Width-at), "\n"+strings.Repeat(" ", at))
	}
	return Styled(line + "  " + origin)
}

// marked reports whether an address is marked.
func (p *viewer) marked(address uint64) bool {
	i := sort.Search(len(p.Marked), func(i int) bool { return p.Marked[i].Last >= address })
	return i < len(p.Marked) && p.Marked[i].Contains(address)
}

// bracket returns what stands before the byte at an address.
func (p *viewer) bracket(address uint64) string {
	here, before := p.marked(address), address%uint64(p.Columns) > 0 && p.marked(address-1)
	switch {
	case here && !before:
		return "["
	case before && !here:
		return "]"
	}
	return " "
}

// Origins names where the bytes of a row came from, each place once, in the
// order of the bytes: of bytes from many places, the first few.
func (p *View) Origins(m *memory.Image, s memory.Span) []string {
	const most = 3
	var names []string
	for r := range m.In(s) {
		for a := r.First; ; a++ {
			if o, ok := m.Origin(a); ok {
				name := o.String()
				if o.Input.Counting == source.Offsets {
					if n := len(names); n > 0 && carriesOn(m, a) {
						name = names[n-1]
					}
				}
				if n := len(names); n == 0 || names[n-1] != name {
					names = append(names, name)
				}
			}
			if a == r.Last() {
				break
			}
		}
	}
	if len(names) > most {
		names = append(names[:most], "...")
	}
	return names
}

// carriesOn reports whether the byte at an address stood right behind, or
// before, the one at the address before it, in the same raw file.
func carriesOn(m *memory.Image, address uint64) bool {
	before, ok := m.Origin(address - 1)
	here, _ := m.Origin(address)
	return ok && before.Input == here.Input && (before.Position+1 == here.Position || before.Position == here.Position+1)
}

// flush tells of the rows that repeated the one before.
func (p *viewer) flush() {
	if p.repeated == 1 {
		p.Printf("%s\n", p.folded)
	} else if p.repeated > 1 {
		p.Printf(
			"%s\n",
			p.Faint(
				fmt.Sprintf("%*s  %s like the one above, to %s", p.wide, "", memory.FormatNumber(p.repeated, "row"),
					memory.FormatAddress(p.last)),
			),
		)
	}
	p.repeated, p.previous = 0, nil
}

func (p *viewer) hole(s memory.Span) {
	p.flush()
	if p.quietHoles {
		return
	}
	if len(p.omitted) > 0 {
		p.damage(p.lineAt(s.First-1), p.lineAt(s.Last+1))
	}
	p.Printf("%s\n", p.Faint(fmt.Sprintf("%*s  hole %s", p.wide, "", s)))
}

// lineAt returns the line that gave the byte at an address; 0 is none.
func (p *viewer) lineAt(address uint64) int {
	if o, ok := p.m.Origin(address); ok && o.Input.Counting == source.Lines {
		return int(o.Position)
	}
	return 0
}

// damage tells of the damaged lines between two others; 0 is the file's end.
func (p *viewer) damage(after, before int) {
	p.omitted = slices.DeleteFunc(p.omitted, func(line int) bool {
		between := line > after && (before == 0 || line < before)
		if between {
			p.Line("%*s  %s", p.wide, "", p.Bad(fmt.Sprintf("line %d is damaged: %s", line, p.Damage[line])))
		}
		return between
	})
}
