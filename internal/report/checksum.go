package report

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

// Checksums are values that were computed.
type Checksums struct {
	Results []operation.ChecksumResult
	Outputs []Output // where a value was stored
	Wording source.Wording
}

// Text prints the values, one on a line; with an expected value, whether it is
// that, and what would have given it.
func (c *Checksums) Text(p *render.Printer) {
	for i := range c.Results {
		r := &c.Results[i]
		switch {
		case r.Expected == nil:
			p.Line("%s", r.Text())
		case r.AsExpected():
			p.Line("%s: %s", p.Good("as"), r.Text())
		default:
			p.Line("%s: %s; expected %s", p.Bad("different"), r.Text(), r.Expected)
			for _, h := range r.Hints {
				p.Line("  %s this value results with %s", p.Doubt("hint:"), c.Wording.Setting(h))
			}
		}
	}
}

type checksumModel struct {
	Schema  string          `json:"schema"`
	Results []checksumValue `json:"results"`
	Outputs []ImageModel    `json:"outputs,omitempty"`
}

type checksumValue struct {
	Name     string   `json:"name,omitempty"` // of a declared checksum
	Kind     string   `json:"kind"`
	Value    string   `json:"value"`
	Spans    []Span   `json:"spans"`
	Stored   *Span    `json:"stored,omitempty"`
	Order    string   `json:"order,omitempty"`
	Expected string   `json:"expected,omitempty"`
	Equal    *bool    `json:"asExpected,omitempty"`
	Hints    []string `json:"hints,omitempty"`
}

// Model makes the model of the values for programs.
func (c *Checksums) Model() any {
	return checksumModel{SchemaName("checksum"), checksumValues(c.Results, c.Wording), outputModels(c.Outputs)}
}

func checksumValues(results []operation.ChecksumResult, w source.Wording) []checksumValue {
	list := []checksumValue{}
	for i := range results {
		r := &results[i]
		v := checksumValue{Name: r.Name, Kind: r.Kind.Name, Value: r.Value.String(), Spans: []Span{}}
		for _, s := range r.Spans {
			v.Spans = append(v.Spans, spanOf(s))
		}
		if r.Stored != nil {
			s := spanOf(*r.Stored)
			v.Stored, v.Order = &s, r.Order.String()
		}
		if r.Expected != nil {
			equal := r.AsExpected()
			v.Expected, v.Equal = r.Expected.String(), &equal
		}
		for _, h := range r.Hints {
			v.Hints = append(v.Hints, w.Setting(h))
		}
		list = append(list, v)
	}
	return list
}

// Identified is what a search for an algorithm gave.
type Identified struct {
	Answers  []checksum.Answer
	Given    bool // the value was given, not stored in the image
	Settings func([]source.Setting) string
}

// Found reports whether anything gives the value.
func (r *Identified) Found() bool {
	return slices.ContainsFunc(r.Answers, func(a checksum.Answer) bool { return len(a.Recovered) > 0 || len(a.Hits) > 0 && !byChance(a) })
}

// byChance reports whether as many hits would be expected if none were the right one.
func byChance(a checksum.Answer) bool {
	return len(a.Hits) > 0 && len(a.Recovered) == 0 && a.Hits[0].Chance >= 1 && float64(len(a.Hits)) < 3*a.Expected()
}

// Text prints the answers.
func (r *Identified) Text(p *render.Printer) {
	const most = 20
	settings := r.Settings
	for i := range r.Answers {
		a := &r.Answers[i]
		for _, n := range a.Notes {
			p.Line("%s: %s", p.Title("note"), n)
		}
		var values []string
		for _, v := range a.Values {
			values = append(values, v.String())
		}
		value := strings.Join(values, ", ")
		if len(a.Hits) == 0 {
			p.Line("no known algorithm gives %s: %s combinations tried", value, memory.FormatCount(uint64(a.Tried)))
		} else {
			p.Line("%s for %s, out of %s combinations; expected by chance: %s", memory.FormatNumber(len(a.Hits), "hit"), value,
				memory.FormatCount(uint64(a.Tried)), chanceText(a.Expected()))
		}
		if byChance(*a) {
			p.Line("%s: no more hits than chance gives; another image with its value narrows them", p.Doubt("chance"))
		}
		shown := 0
		for j, h := range a.Hits {
			if a.Hits[0].Chance < 1 && h.Chance >= 1 {
				continue // there is a better one
			}
			if shown++; shown > most {
				p.Line("  and %d more; another image with its value narrows it", len(a.Hits)-most)
				break
			}
			reversed := ""
			if h.Order == memory.Little && r.Given {
				reversed = "  (the value's bytes reversed)"
			}
			chance := ""
			if h.Chance >= 0.01 {
				chance = fmt.Sprintf("  (by chance: %s)", chanceText(h.Chance))
			}
			p.Line("  %s%s%s", settings(a.Settings[j]), reversed, chance)
		}
		if shown < len(a.Hits) && shown <= most {
			p.Line("  and %d more, as many as chance gives; -json lists them", len(a.Hits)-shown)
		}
		for j, crc := range a.Recovered {
			p.Printf("a CRC that is in no catalogue gives all of them:\n  %s\n", settings(a.RecoveredSettings(j)))
			for _, open := range crc.Open {
				p.Line("  left open: %s", open)
			}
		}
	}
}

func chanceText(chance float64) string {
	switch {
	case chance < 0.01:
		return "none"
	case chance < 10:
		return fmt.Sprintf("about %.1g", chance)
	}
	return fmt.Sprintf("about %.0f", chance)
}

type identifyModel struct {
	Schema  string     `json:"schema"`
	Notes   []string   `json:"notes"`
	Tried   int        `json:"tried"` // ways
	Results []hitModel `json:"results"`
}

type hitModel struct {
	Kind   string   `json:"kind"`
	Value  string   `json:"value"` // that was searched for; of -at, the bytes as they stand
	Order  string   `json:"order"` // in which the algorithm's value gives it
	Flags  string   `json:"flags"` // of checksum, which prove it
	Chance float64  `json:"chance"`
	Open   []string `json:"open,omitempty"`
}

// Model makes the model of the answers for programs.
func (r *Identified) Model() any {
	out, settings := identifyModel{Schema: SchemaName("identify"), Notes: []string{}, Results: []hitModel{}}, r.Settings
	for i := range r.Answers {
		a := &r.Answers[i]
		out.Tried += a.Tried
		for _, n := range a.Notes {
			if !slices.Contains(out.Notes, n) {
				out.Notes = append(out.Notes, n)
			}
		}
		for j, h := range a.Hits {
			out.Results = append(
				out.Results,
				hitModel{Kind: h.Kind.Name, Value: a.Values[0].String(), Order: h.Order.String(), Flags: settings(a.Settings[j]),
					Chance: h.Chance},
			)
		}
		for j, r := range a.Recovered {
			out.Results = append(
				out.Results,
				hitModel{
					Kind:  r.CRC.String(),
					Value: a.Values[0].String(),
					Order: r.Order.String(),
					Flags: settings(a.RecoveredSettings(j)),
					Open:  r.Open,
				},
			)
		}
	}
	return out
}

// Kinds are algorithms that are listed.
type Kinds []*checksum.Kind

// KindsWith returns the algorithms that have a text in one of their names.
func KindsWith(text string) Kinds {
	var list Kinds
	for _, k := range checksum.Kinds() {
		if strings.Contains(strings.ToLower(k.Name+" "+strings.Join(k.Aliases, " ")), strings.ToLower(text)) {
			list = append(list, k)
		}
	}
	return list
}

func crcNumber(k *checksum.Kind, v uint64) string {
	return fmt.Sprintf("0x%0*X", (k.Bits+3)/4, v)
}

// Text prints the list.
func (list Kinds) Text(p *render.Printer) {
	var rows [][]string
	for _, k := range list {
		row := []string{k.Name, fmt.Sprint(k.Bits)}
		if c := k.CRC; c != nil {
			reflected := strings.TrimSpace(map[bool]string{true: "in"}[c.RefIn] + map[bool]string{true: " out"}[c.RefOut])
			row = append(row, crcNumber(k, c.Poly), crcNumber(k, c.Init), reflected, crcNumber(k, c.XorOut), crcNumber(k, c.Residue()))
		} else {
			row = append(row, k.Group, "", "", "", "")
		}
		rows = append(rows, append(row, strings.Join(k.Aliases, " ")))
	}
	p.Table([]string{"kind", "bits", "poly", "init", "reflected", "xorout", "residue", "also known as"}, rows, 2)
}

type kindsModel struct {
	Schema  string      `json:"schema"`
	Results []kindModel `json:"results"`
}

type kindModel struct {
	Kind       string   `json:"kind"`
	Group      string   `json:"group"`
	Bits       int      `json:"bits"`
	Parameters string   `json:"parameters,omitempty"`
	Residue    string   `json:"residue,omitempty"`
	Aliases    []string `json:"aliases"`
}

// Model makes the model of the list for programs.
func (list Kinds) Model() any {
	out := kindsModel{Schema: SchemaName("kinds"), Results: []kindModel{}}
	for _, k := range list {
		m := kindModel{Kind: k.Name, Group: k.Group, Bits: k.Bits, Aliases: append([]string{}, k.Aliases...)}
		if k.CRC != nil {
			m.Parameters, m.Residue = k.CRC.String(), crcNumber(k, k.CRC.Residue())
		}
		out.Results = append(out.Results, m)
	}
	return out
}
