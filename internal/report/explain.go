package report

import (
	"encoding/binary"
	"fmt"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
	"mexalt/source"
)

// Explained is where bytes of an output came from.
type Explained struct {
	Output string
	*proof.Explained
}

// Text prints where they came from.
func (x *Explained) Text(p *render.Printer) {
	e := x.Explained
	what := e.Product.Variant
	if what != "" {
		what = ", " + what
	}
	p.Line("%s, by %s%s", p.Title(x.Output), e.Manifest, what)
	switch {
	case e.Changed && e.Why != "":
		p.Line("  this is not the released file: %s (%s)", e.Why, source.LineEndAdvice)
	case e.Changed:
		p.Line("  this is not the released file; differences are listed as far as they are known")
	}
	row := func(name, format string, args ...any) {
		p.Line("  %-8s "+format, append([]any{name}, args...)...)
	}
	for i := range e.Rows {
		r := &e.Rows[i]
		where := ""
		if r.Words != "" {
			where = ", " + r.Words
		}
		if r.Region != "" {
			where += " in " + r.Region
		}
		p.Line("%s%s: %s", p.Title(r.Span.String()), where, valueText(r))
		from := r.From
		if r.To != "" {
			from += " to " + r.To
		}
		row("from", "%s", from)
		for _, over := range r.Over {
			row("over", "%s", over)
		}
		for _, s := range r.Steps {
			row("then", "%s", s)
		}
		if r.Is != "" {
			row("is", "%s", r.Is)
		}
		for _, c := range r.Covers {
			row("covered", "by %s", c)
		}
		for i, text := range r.Config {
			name := ""
			if i == 0 {
				name = "config"
			}
			row(name, "%s", text)
		}
		for _, s := range r.Within {
			row("differs", "%s", p.Bad("somewhere in "+s.String()))
		}
		const few = 8 // holes
		for i, d := range r.Differ {
			if i == few {
				row("differs", "%s more", memory.FormatCount(uint64(len(r.Differ)-few)))
				break
			}
			row("differs", "%s", p.Bad(fmt.Sprintf("%s is %02X; it should be %02X", memory.FormatAddress(d.Address), d.Found, d.Want)))
		}
	}
	const few = 8 // holes
	for i, s := range e.Nothing {
		if i == few {
			p.Line("%s more holes", memory.FormatCount(uint64(len(e.Nothing)-few)))
			break
		}
		p.Line("%s: nothing", p.Title(s.String()))
	}
	if e.More {
		p.Line("and more; name a smaller span")
	}
}

// valueText shows bytes as hex, and as a number or a text where they may be one.
func valueText(r *proof.Row) string {
	const shown = 16
	cut, begin := "", r.Data
	if len(r.Data) > shown {
		cut, begin = " ...", r.Data[:shown]
	}
	text := fmt.Sprintf("% X", begin) + cut
	switch n := r.Size(); {
	case n == 1:
		text += fmt.Sprintf(" (%d)", r.Data[0])
	case n == 8:
		text += fmt.Sprintf(" (0x%016X little-endian)", binary.LittleEndian.Uint64(r.Data))
	case n == 2:
		text += fmt.Sprintf(" (0x%04X little-endian)", binary.LittleEndian.Uint16(r.Data))
	case n == 4:
		text += fmt.Sprintf(" (0x%08X little-endian)", binary.LittleEndian.Uint32(r.Data))
	}
	const least, most = 4, 48
	printable := 0
	for printable < len(r.Data) && printable <= most && r.Data[printable] >= 0x20 && r.Data[printable] <= 0x7E {
		printable++
	}
	switch {
	case printable > most:
		text += fmt.Sprintf(" %q ...", r.Data[:most])
	case printable >= least:
		text += fmt.Sprintf(" %q", r.Data[:printable])
	}
	return text
}

// Explanation is the origin of bytes.
type Explanation struct {
	Schema   string         `json:"schema"`
	Output   string         `json:"output"`
	Manifest string         `json:"manifest"`
	Variant  string         `json:"variant,omitempty"`
	Changed  bool           `json:"changed"`
	Rows     []ExplainedRow `json:"rows"`
	More     bool           `json:"more"`
	Nothing  []Span         `json:"nothing,omitempty"` // asked about, and no byte is there
}

// ExplainedRow is a span of bytes with the same origin.
type ExplainedRow struct {
	Span    Span     `json:"span"`
	Data    string   `json:"data"` // as hex digits
	Region  string   `json:"region,omitempty"`
	Words   string   `json:"words,omitempty"` // the addresses as the device counts them, if it counts words
	From    string   `json:"from"`
	To      string   `json:"to,omitempty"`
	Over    []string `json:"over,omitempty"`
	Steps   []string `json:"steps"`
	Is      string   `json:"is,omitempty"`
	Covers  []string `json:"covers"`
	Config  []string `json:"config,omitempty"`
	Differs []Differ `json:"differs,omitempty"`
	Within  []Span   `json:"differsWithin,omitempty"`
}

// Differ is a byte that differs from the released one.
type Differ struct {
	Address string `json:"address"`
	Found   string `json:"found"`
	Want    string `json:"want"`
}

// Model makes the model for programs.
func (x *Explained) Model() any {
	e := x.Explained
	out := Explanation{
		Schema:   SchemaName("explain"),
		Output:   x.Output,
		Manifest: e.Manifest,
		Variant:  e.Product.Variant,
		Changed:  e.Changed,
		More:     e.More,
		Rows:     []ExplainedRow{},
	}
	for _, r := range e.Rows {
		row := ExplainedRow{
			Span:   spanOf(r.Span),
			Data:   fmt.Sprintf("%X", r.Data),
			Region: r.Region,
			Words:  r.Words,
			From:   r.From,
			To:     r.To,
			Over:   r.Over,
			Steps:  []string{},
			Is:     r.Is,
			Covers: []string{},
		}
		row.Steps = append(row.Steps, r.Steps...)
		row.Covers = append(row.Covers, r.Covers...)
		row.Config = r.Config
		for _, s := range r.Within {
			row.Within = append(row.Within, spanOf(s))
		}
		for _, d := range r.Differ {
			row.Differs = append(row.Differs,
				Differ{memory.PlainAddress(d.Address), fmt.Sprintf("0x%02X", d.Found), fmt.Sprintf("0x%02X", d.Want)})
		}
		out.Rows = append(out.Rows, row)
	}
	for _, s := range e.Nothing {
		out.Nothing = append(out.Nothing, spanOf(s))
	}
	return out
}
