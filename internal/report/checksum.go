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

// Checksums prints computed values, one on a line; with an expected value,
// whether it is that, and what would have given it.
func Checksums(p *render.Printer, results []operation.ChecksumResult, w source.Wording) {
	for i := range results {
		r := &results[i]
		switch {
		case r.Expected == nil:
			p.Printf("%s\n", r.Text())
		case r.AsExpected():
			p.Printf("%s: %s\n", p.Good("as expected"), r.Text())
		default:
			p.Printf("%s: %s; %s expected\n", p.Bad("different"), r.Text(), r.Expected)
			for _, h := range r.Hints {
				p.Printf("  %s %s would have given it\n", p.Doubt("hint:"), w.Setting(h))
			}
		}
	}
}

type checksumModel struct {
	Schema  string          `json:"schema"`
	Results []checksumValue `json:"results"`
}

type checksumValue struct {
	Kind     string   `json:"kind"`
	Value    string   `json:"value"`
	Spans    []Span   `json:"spans"`
	Stored   *Span    `json:"stored,omitempty"`
	Order    string   `json:"order,omitempty"`
	Expected string   `json:"expected,omitempty"`
	Hints    []string `json:"hints,omitempty"`
}

// ChecksumsModel makes the model of computed values for programs.
func ChecksumsModel(results []operation.ChecksumResult, w source.Wording) any {
	out := checksumModel{Schema: "mexalt.checksum/1", Results: []checksumValue{}}
	for i := range results {
		r := &results[i]
		v := checksumValue{Kind: r.Kind.Name, Value: r.Value.String()}
		for _, s := range r.Spans {
			v.Spans = append(v.Spans, spanOf(s))
		}
		if r.Stored != nil {
			s := spanOf(*r.Stored)
			v.Stored, v.Order = &s, r.Order.String()
		}
		if r.Expected != nil {
			v.Expected = r.Expected.String()
		}
		for _, h := range r.Hints {
			v.Hints = append(v.Hints, w.Setting(h))
		}
		out.Results = append(out.Results, v)
	}
	return out
}

// Identified prints what a search for an algorithm gave.
func Identified(p *render.Printer, answers []checksum.Answer, given bool, settings func([]source.Setting) string) {
	const most = 20
	for i := range answers {
		a := &answers[i]
		for _, n := range a.Notes {
			p.Printf("%s: %s\n", p.Title("note"), n)
		}
		var values []string
		for _, v := range a.Values {
			values = append(values, v.String())
		}
		value := strings.Join(values, ", ")
		if len(a.Hits) == 0 {
			p.Printf("no known algorithm gives %s: %s ways tried\n", value, memory.FormatCount(uint64(a.Tried)))
		} else {
			p.Printf("%s for %s: %s ways tried; by chance alone, %s would be expected\n", render.Count(len(a.Hits), "hit"), value, memory.FormatCount(uint64(a.Tried)), chanceText(a.Hits[0].Chance))
		}
		for j, h := range a.Hits {
			if j == most {
				p.Printf("  and %d more; another image with its value narrows it\n", len(a.Hits)-most)
				break
			}
			reversed := ""
			if h.Order == checksum.Little && given {
				reversed = "  (the value's bytes reversed)"
			}
			p.Printf("  %s%s\n", settings(a.Settings[j]), reversed)
		}
		for j, r := range a.Recovered {
			p.Printf("a CRC that is in no catalogue gives all of them:\n  %s\n", settings(a.RecoveredSettings(j)))
			for _, open := range r.Open {
				p.Printf("  left open: %s\n", open)
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
	Results []hitModel `json:"results"`
}

type hitModel struct {
	Kind   string   `json:"kind"`
	Value  string   `json:"value"`
	Order  string   `json:"order"`
	Flags  string   `json:"flags"`
	Chance float64  `json:"chance"`
	Open   []string `json:"open,omitempty"`
}

// IdentifiedModel makes the model of a search for programs.
func IdentifiedModel(answers []checksum.Answer, settings func([]source.Setting) string) any {
	out := identifyModel{Schema: "mexalt.identify/1", Notes: []string{}, Results: []hitModel{}}
	for i := range answers {
		a := &answers[i]
		for _, n := range a.Notes {
			if !slices.Contains(out.Notes, n) {
				out.Notes = append(out.Notes, n)
			}
		}
		for j, h := range a.Hits {
			out.Results = append(out.Results, hitModel{Kind: h.Kind.Name, Value: a.Values[0].String(), Order: h.Order.String(), Flags: settings(a.Settings[j]), Chance: h.Chance})
		}
		for j, r := range a.Recovered {
			out.Results = append(out.Results, hitModel{Kind: r.CRC.String(), Value: a.Values[0].String(), Order: r.Order.String(), Flags: settings(a.RecoveredSettings(j)), Open: r.Open})
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
	out := kindsModel{Schema: "mexalt.kinds/1", Results: []kindModel{}}
	for _, k := range list {
		m := kindModel{Kind: k.Name, Group: k.Group, Bits: k.Bits, Aliases: append([]string{}, k.Aliases...)}
		if k.CRC != nil {
			m.Parameters, m.Residue = k.CRC.String(), crcNumber(k, k.CRC.Residue())
		}
		out.Results = append(out.Results, m)
	}
	return out
}
