package report

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"maps"
	"slices"

	"mexalt/check"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
)

// Viewed is bytes of an image that are shown.
type Viewed struct {
	render.View
	Name  string
	Image *memory.Image
	Where []memory.Span
	Finds *Finds // what was looked for; nil is nothing
}

// Text prints the rows.
func (v *Viewed) Text(p *render.Printer) {
	if v.Finds != nil {
		v.Finds.text(p, v)
		return
	}
	v.View.Print(p, v.Image, v.Where)
}

// ViewModel is the shown bytes.
type ViewModel struct {
	Schema string     `json:"schema"`
	File   string     `json:"file"`
	Bytes  uint64     `json:"bytes"`           // of the image
	Start  string     `json:"start,omitempty"` // the start address
	Found  *FindModel `json:"found,omitempty"`
	// Damage are the damaged lines, if the file is damaged; the others are shown.
	Damage []DamagedLine `json:"damage,omitempty"`
	Rows   []ViewRow     `json:"rows"`
}

// DamagedLine is a damaged line, whose bytes are missing.
type DamagedLine struct {
	Line int    `json:"line"`
	What string `json:"what"`
}

// ViewRow is a row of bytes without holes.
type ViewRow struct {
	First   string   `json:"first"`
	Data    string   `json:"data"` // hex digits
	Region  string   `json:"region,omitempty"`
	Symbols string   `json:"symbols,omitempty"`
	Origin  []string `json:"origin,omitempty"`
}

// FindModel is the searched text or bytes, and the places where they are.
type FindModel struct {
	Data   string `json:"data"` // hex digits
	Places []Span `json:"places"`
	More   bool   `json:"more,omitempty"` // whether there are more places
}

// Model makes the model for programs.
func (v *Viewed) Model() any {
	out := v.head()
	out.Rows = slices.AppendSeq(out.Rows, v.rows)
	return out
}

func (v *Viewed) head() ViewModel {
	out := ViewModel{Schema: SchemaName("view"), File: v.Name, Bytes: v.Image.Bytes(), Rows: []ViewRow{}}
	if s := v.Image.Start(); s.Kind != memory.NoStart {
		out.Start = memory.PlainAddress(s.Address())
	}
	if v.Finds != nil {
		out.Found = &FindModel{Data: fmt.Sprintf("%X", v.Finds.Data), Places: []Span{}, More: v.Finds.More}
		for _, s := range v.Finds.Places {
			out.Found.Places = append(out.Found.Places, spanOf(s))
		}
	}
	for _, line := range slices.Sorted(maps.Keys(v.Damage)) {
		out.Damage = append(out.Damage, DamagedLine{line, v.Damage[line]})
	}
	return out
}

// rows goes through the rows as they are printed, but none of two runs.
func (v *Viewed) rows(yield func(ViewRow) bool) {
	where := v.Where
	if v.Finds != nil {
		where = v.Finds.Places
	}
	for _, s := range memory.Union(where) {
		for run := range v.Image.In(s) {
			for at, data := run.First, run.Data; len(data) > 0; {
				columns := uint64(v.Columns)
				n := min(columns-at%columns, uint64(len(data)))
				label, within := v.LabelAt(at)
				n = min(n, within.Last-at+1)
				if within.Last-at == ^uint64(0) {
					n = min(columns-at%columns, uint64(len(data)))
				}
				row := ViewRow{First: memory.PlainAddress(at), Data: fmt.Sprintf("%X", data[:n]), Region: label}
				span := memory.Span{First: at, Last: at + n - 1}
				if v.Symbols != nil {
					row.Symbols = v.Symbols(span)
				}
				if v.Origin {
					row.Origin = v.Origins(v.Image, span)
				}
				if !yield(row) {
					return
				}
				at, data = at+n, data[n:]
			}
		}
	}
}

// WriteJSON prints the model row by row.
func (v *Viewed) WriteJSON(to io.Writer) error {
	w := bufio.NewWriter(to)
	head, err := json.MarshalIndent(v.head(), "", "  ")
	if err != nil {
		return err
	}
	const empty = "[]\n}"
	w.Write(head[:len(head)-len(empty)])
	w.WriteString("[")
	first := true
	for row := range v.rows {
		text, err := json.Marshal(row)
		if err != nil {
			return err
		}
		if !first {
			w.WriteString(",")
		}
		first = false
		w.WriteString("\n    ")
		w.Write(text)
	}
	if !first {
		w.WriteString("\n  ")
	}
	w.WriteString("]\n}\n")
	return w.Flush()
}

// Finds is what was looked for in an image.
type Finds struct {
	What   string // as it was asked for
	Data   []byte
	Places []memory.Span
	More   bool // there are more places
}

// mostFound is how many places are told.
const mostFound = 1000

// Find looks for bytes in spans of an image. They may lie over each other.
func Find(m *memory.Image, where []memory.Span, what string, data []byte) *Finds {
	f := &Finds{What: what, Data: data}
	for _, s := range memory.Union(where) {
		for run := range m.In(s) {
			for from := 0; ; {
				i := indexFrom(run.Data, data, from)
				if i < 0 {
					break
				}
				if len(f.Places) == mostFound {
					f.More = true
					return f
				}
				at := run.First + uint64(i)
				f.Places = append(f.Places, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
				from = i + 1
			}
		}
	}
	return f
}

// text prints the rows that hold what was found, under a line for each place.
func (f *Finds) text(p *render.Printer, v *Viewed) {
	if len(f.Places) == 0 {
		p.Line("%s does not contain %s", v.Name, f.What)
		return
	}
	count := memory.FormatNumber(len(f.Places), "time")
	if f.More {
		count = "more than " + count
	}
	p.Line("%s in %s, %s", f.What, p.Title(v.Name), count)
	view := v.View
	view.Marked = f.Places
	for _, s := range f.Places {
		where := ""
		if label, _ := v.LabelAt(s.First); label != "" {
			where = " in " + label
		}
		from := ""
		if names := v.Origins(v.Image, s); len(names) > 0 {
			from = ", from " + names[0]
		}
		p.Line("%s%s%s", p.Title(s.Range()), where, from)
		columns := uint64(v.Columns)
		rows := memory.Span{First: s.First - s.First%columns, Last: s.Last - s.Last%columns + columns - 1}
		if rows.Last < s.Last {
			rows.Last = ^uint64(0)
		}
		view.Labels, view.Symbols = nil, nil
		view.Rows(p, v.Image, rows)
	}
}

// Damage returns the lines of a damaged file at which it says what is wrong, so
// that the rows of its sound lines tell of them.
func Damage(problems *source.Problems) map[int]string {
	lines := map[int]string{}
	for _, p := range problems.Sorted() {
		if p.Line > 0 && p.Severity == source.Error && lines[p.Line] == "" {
			lines[p.Line] = source.Message(p.What, p.Expected, "")
		}
	}
	return lines
}

// DamagedLines goes through the damaged lines of a file in their order, with what is
// wrong with each.
func DamagedLines(problems *source.Problems) iter.Seq2[int, string] {
	lines := Damage(problems)
	return func(yield func(int, string) bool) {
		for _, line := range slices.Sorted(maps.Keys(lines)) {
			if !yield(line, lines[line]) {
				return
			}
		}
	}
}

// Map is a picture of what was checked against a map.
type Map struct{ *check.Result }

// Text draws it for a terminal.
func (m Map) Text(p *render.Printer) { p.Picture(Picture(m.Result)) }

// MapModel is the contents of a picture of the map.
type MapModel struct {
	Schema   string         `json:"schema"`
	Device   string         `json:"device"`
	Parts    []ImageModel   `json:"parts"`
	Memories []MemoryUse    `json:"memories"`
	Regions  []UsedRow      `json:"regions"`
	Marks    []findingModel `json:"marks"`
}

// MemoryUse is how much of a memory is used.
type MemoryUse struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	Span Span   `json:"span"`
	Used uint64 `json:"used"`
}

// Model makes the model for programs.
func (m Map) Model() any {
	r := m.Result
	out := MapModel{
		Schema:   SchemaName("map"),
		Device:   r.Map.Name,
		Parts:    []ImageModel{},
		Memories: []MemoryUse{},
		Regions:  usedRows(r.Uses()),
		Marks:    []findingModel{},
	}
	for _, p := range r.Parts {
		if p.Image != nil {
			out.Parts = append(out.Parts, imageModel(p.Name, nil, p.Image))
		}
	}
	for i := range r.Map.Memories {
		mem := &r.Map.Memories[i]
		out.Memories = append(out.Memories, MemoryUse{mem.Name, string(mem.Kind), spanOf(mem.Span), r.Whole.Count(mem.Span)})
	}
	c := &Checked{Best: r, Wording: func(string) source.Wording { return nil }}
	for _, f := range c.findings() {
		if f.Severity != source.Note.String() && f.Span != nil {
			out.Marks = append(out.Marks, f)
		}
	}
	return out
}

// indexFrom returns where bytes stand, from a place on; -1 is nowhere.
func indexFrom(data, wanted []byte, from int) int {
	i := bytes.Index(data[from:], wanted)
	if i < 0 {
		return -1
	}
	return from + i
}
