package report

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
)

// Matched is which release a file is of.
type Matched struct {
	File string
	*proof.Matched
	// Units are the units whose output the file is.
	Units []proof.UnitOutput
	// Unread are manifests and logs that could not be read.
	Unread []error
}

// Found reports whether the file is an output, or holds all of a release.
func (x *Matched) Found() bool { return len(x.Units) > 0 || x.Exact() }

// Text prints which release it is, or what it is nearest to.
func (x *Matched) Text(p *render.Printer) {
	const fewUnits = 4
	for i := range x.Units[:min(len(x.Units), fewUnits)] {
		u := &x.Units[i]
		what := u.File
		if what == "" {
			what = "every byte of it"
		}
		p.Line("%s: %s: unit %d (%s) of %s, %s", p.Title(x.File), p.Good("a unit"), u.Row, u.SetsText(), u.In, what)
	}
	if more := len(x.Units) - fewUnits; more > 0 {
		p.Line("  and %s with the same bytes", memory.FormatNumber(more, "unit"))
	}
	of := fmt.Sprintf("%s of %s", memory.FormatNumber(x.Products, "product"), memory.FormatNumber(x.Manifests, "manifest"))
	switch {
	case len(x.Units) > 0 && !x.Exact():
		if len(x.Candidates) > 0 {
			x.near(p, &x.Candidates[0], false)
		}
		return
	case len(x.Candidates) == 0:
		p.Line("%s: %s: nothing in common with %s", p.Title(x.File), p.Bad("unknown"), of)
		return
	case x.Exact():
		for i := range x.Candidates {
			x.exact(p, &x.Candidates[i])
		}
		if len(x.Candidates) > 1 {
			p.Line("  the bytes that it contains are the same in all of them")
		}
		return
	}
	best := &x.Candidates[0]
	switch {
	case best.Input == "" && best.Little():
		p.Line("%s: %s: little in common with %s", p.Title(x.File), p.Bad("unknown"), of)
		x.near(p, best, false)
		return
	case best.Input != "":
		p.Line("%s: %s: an input of %s: %s", p.Title(x.File), p.Doubt("no release"), best.Name(), best.Input)
	case best.Part():
		p.Line("%s: %s: what it contains is as in %s", p.Title(x.File), p.Doubt("a part of a release"), best.Name())
	default:
		p.Line("%s: %s: not one of %s", p.Title(x.File), p.Bad("no release"), of)
	}
	if t := x.Torn; t != nil {
		p.Line("  %s: %s below %s, %s from there on", p.Bad("torn"), t.Below.Name(), memory.FormatAddress(t.At), t.From.Name())
		for _, s := range t.Between {
			p.Line("  the block %s is of neither", s.Range())
		}
	}
	for i := range x.Candidates {
		x.near(p, &x.Candidates[i], i == 0)
	}
	if x.More > 0 {
		p.Line("and %s with less in common", memory.FormatNumber(x.More, "product"))
	}
}

func (x *Matched) exact(p *render.Printer, c *proof.Candidate) {
	what := "every byte as released"
	switch {
	case c.Output == "" && len(c.Missing) > 0:
		what = "what it contains is as released"
	case c.Output != "":
		what = "its output " + c.Output
	}
	p.Line("%s: %s: %s (%s), %s", p.Title(x.File), p.Good("released"), c.Name(), c.Manifest, what)
	x.details(p, c)
}

// details are what is said of any candidate.
func (x *Matched) details(p *render.Printer, c *proof.Candidate) {
	if c.First != nil && c.Output == "" {
		p.Line("  placed at %s, where most of its bytes are alike", memory.FormatAddress(*c.First))
	}
	if c.Output == "" {
		for _, s := range c.Missing {
			p.Line("  nothing of %s", s.Range())
		}
		for _, s := range c.Partial {
			p.Line("  not all of %s", s.Range())
		}
	}
	if c.Newer != "" {
		p.Line("  %s is newer (%s)", c.Newer, c.NewerIn)
	}
}

func (x *Matched) near(p *render.Printer, c *proof.Candidate, first bool) {
	differ := ""
	if c.Differ > 0 {
		differ = fmt.Sprintf(", %s in blocks that differ", memory.FormatBytes(c.Differ))
	}
	p.Line("%s (%s): %s as released%s", p.Title(c.Name()), c.Manifest, memory.FormatBytes(c.Equal), differ)
	if !first {
		return
	}
	x.details(p, c)
	const few = 12
	for i, d := range c.Differences {
		if i == few {
			p.Line("  and %s more", memory.FormatNumber(len(c.Differences)-few, "stretch"))
			break
		}
		p.Line("  %s", differenceText(&d))
	}
	const fewOther = 4
	for i, s := range c.Other {
		if i == fewOther {
			p.Line("  and %s more that the release does not have", memory.FormatNumber(len(c.Other)-fewOther, "stretch"))
			break
		}
		p.Line("  %s: not in the release, and not erased", s.Range())
	}
}

func differenceText(d *proof.Difference) string {
	text := d.Range()
	if d.Region != "" {
		text += " in " + d.Region
	}
	text += ": differs"
	if d.As != "" {
		text = strings.TrimSuffix(text, "differs") + "as in " + d.As
	}
	if len(d.From) > 0 {
		text += "; released from " + strings.Join(d.From, ", ")
	}
	if len(d.Is) > 0 {
		text += "; " + strings.Join(d.Is, ", ")
	}
	return text
}

// MatchModel is which release a file is of.
type MatchModel struct {
	Schema     string           `json:"schema"`
	File       string           `json:"file"`
	Found      bool             `json:"found"`
	Manifests  int              `json:"manifests"`
	Products   int              `json:"products"`
	Units      []MatchedUnit    `json:"units"`
	Candidates []MatchCandidate `json:"candidates"`
	More       int              `json:"more"`
	Torn       *MatchTorn       `json:"torn,omitempty"`
	Unread     []string         `json:"unread"`
}

// MatchedUnit is a unit whose output the file is.
type MatchedUnit struct {
	Log  string            `json:"log"` // or the manifest of units
	Unit int               `json:"unit"`
	Sets map[string]string `json:"sets"`
	File string            `json:"file"`
}

// MatchCandidate is a product that the file may be of.
type MatchCandidate struct {
	Manifest    string            `json:"manifest"`
	Release     string            `json:"release"`
	Version     string            `json:"version,omitempty"`
	Variant     string            `json:"variant,omitempty"`
	Whole       bool              `json:"whole"`
	Output      string            `json:"output,omitempty"`
	Input       string            `json:"input,omitempty"`
	Newer       string            `json:"newer,omitempty"`
	First       string            `json:"first,omitempty"`
	Equal       uint64            `json:"equal"`
	Differ      uint64            `json:"differ"`
	Missing     []Span            `json:"missing"`
	Partial     []Span            `json:"partial"`
	Other       []Span            `json:"other"`
	Differences []MatchDifference `json:"differences"`
}

// MatchDifference is a stretch of blocks that are not as released.
type MatchDifference struct {
	Span   Span     `json:"span"`
	Region string   `json:"region,omitempty"`
	From   []string `json:"from"`
	Is     []string `json:"is"`
	As     string   `json:"as,omitempty"`
}

// MatchTorn is an image of two releases.
type MatchTorn struct {
	Below   string `json:"below"`
	From    string `json:"from"`
	At      string `json:"at"`
	Between []Span `json:"between"`
}

// Model makes the model for programs.
func (x *Matched) Model() any {
	out := MatchModel{Schema: SchemaName("match"), File: x.File, Found: x.Found(), Manifests: x.Manifests, Products: x.Products,
		Units: []MatchedUnit{}, Candidates: []MatchCandidate{}, More: x.More, Unread: []string{}}
	for _, err := range x.Unread {
		out.Unread = append(out.Unread, err.Error())
	}
	for i := range x.Units {
		u := &x.Units[i]
		out.Units = append(out.Units, MatchedUnit{u.In, u.Row, u.Sets, u.File})
	}
	spans := func(list []memory.Span) []Span {
		out := []Span{}
		for _, s := range list {
			out = append(out, spanOf(s))
		}
		return out
	}
	for i := range x.Candidates {
		c := &x.Candidates[i]
		one := MatchCandidate{
			Manifest:    c.Manifest,
			Release:     c.Release,
			Version:     c.Version,
			Variant:     c.Variant,
			Whole:       c.Whole(),
			Output:      c.Output,
			Input:       c.Input,
			Newer:       c.Newer,
			Equal:       c.Equal,
			Differ:      c.Differ,
			Missing:     spans(c.Missing),
			Partial:     spans(c.Partial),
			Other:       spans(c.Other),
			Differences: []MatchDifference{},
		}
		if c.First != nil {
			one.First = memory.PlainAddress(*c.First)
		}
		for _, d := range c.Differences {
			one.Differences = append(one.Differences,
				MatchDifference{spanOf(d.Span), d.Region, slices.Concat([]string{}, d.From), slices.Concat([]string{}, d.Is), d.As})
		}
		out.Candidates = append(out.Candidates, one)
	}
	if t := x.Torn; t != nil {
		out.Torn = &MatchTorn{t.Below.Name(), t.From.Name(), memory.PlainAddress(t.At), spans(t.Between)}
	}
	return out
}
