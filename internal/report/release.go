package report

import (
	"fmt"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/source"
)

// Released is what came of a run of a release file.
type Released struct {
	*release.Result
	Dry     bool // nothing was written
	Wording source.Wording
}

// Text prints what was done, product by product.
func (r *Released) Text(p *render.Printer) {
	for i, product := range r.Products {
		if i > 0 {
			p.Printf("\n")
		}
		releasedProduct(p, r.File, product, r.Dry, r.Wording)
	}
	if r.Manifest != "" {
		p.Line("  %-7s %s", "proof", r.Manifest)
	}
}

func releasedProduct(p *render.Printer, f *release.File, r *release.Product, dry bool, w source.Wording) {
	title := f.Title
	if r.Variant != "" {
		title += ", " + r.Variant
	}
	if r.Map != nil {
		title += " for " + r.Map.Name
	}
	p.Line("%s", p.Title(title))
	row := func(name, format string, args ...any) {
		p.Hanging(fmt.Sprintf("  %-7s ", name), format, args...)
	}
	for _, in := range r.Inputs {
		where := "contains nothing"
		if all, ok := in.Image.Span(); ok {
			where = memory.FormatBytes(in.Image.Bytes()) + " at " + all.Range()
		}
		row("input", "%s: %s, %s, %s", in.Name, in.File, in.Format.Name, where)
	}
	for _, s := range r.Steps {
		name := fmt.Sprintf("%s:%d", f.Name, s.Line)
		if len(s.Changes)+len(s.Notes) == 0 {
			row("step", "%s (%s)", s.Do, name)
		}
		for _, did := range s.Changes {
			row("step", "%s: %s (%s)", s.Do, did, name)
		}
		for _, note := range s.Notes {
			row("note", "%s: %s (%s)", s.Do, note, name)
		}
	}
	for _, note := range r.Notes {
		row("note", "%s", note)
	}
	if r.Checked != nil {
		verdict := p.Good(Verdict(r.Checked))
		if len(r.Checked.Counting()) > 0 {
			verdict = p.Bad(Verdict(r.Checked))
		}
		if r.Map == nil {
			row("check", "%s in what readers say of the inputs; no device map to check against", verdict)
		} else {
			row("check", "%s", verdict)
		}
		c := &Checked{Best: r.Checked, Wording: func(string) source.Wording { return w }}
		for i := range r.Checked.Findings {
			c.finding(p, &r.Checked.Findings[i])
		}
	}
	if r.Checked != nil && len(r.Checked.Counting()) > 0 {
		return
	}
	for _, o := range r.Outputs {
		switch {
		case dry:
			row("would", "write %s: %s", o.File, o.What)
		case o.Same:
			row("same", "%s: %s, SHA-256 %.6x...", o.File, o.What, o.SHA256)
		default:
			replaced := ""
			if o.Replaced {
				replaced = ", replaced"
			}
			row("wrote", "%s: %s, SHA-256 %.6x...%s", o.File, o.What, o.SHA256, replaced)
		}
	}
}

// ReleaseModel is a run of a release file for programs.
type ReleaseModel struct {
	Schema   string         `json:"schema"`
	Name     string         `json:"name"`
	File     string         `json:"file"`
	DryRun   bool           `json:"dryRun"` // whether nothing was written
	Products []ProductModel `json:"products"`
	Manifest string         `json:"manifest,omitempty"`
}

// ProductModel is a product of the release.
type ProductModel struct {
	Variant  string         `json:"variant,omitempty"`
	Device   string         `json:"device,omitempty"`
	Inputs   []ImageModel   `json:"inputs"`
	Steps    []StepModel    `json:"steps"`
	Notes    []string       `json:"notes"`
	Verdict  string         `json:"verdict,omitempty"`
	Findings []findingModel `json:"findings"`
	Outputs  []OutputModel  `json:"outputs"`
}

// StepModel is a step and its result.
type StepModel struct {
	Line    int      `json:"line"`
	Do      string   `json:"do"`
	Changes []string `json:"did"`
	Notes   []string `json:"notes"`
}

// OutputModel is an output of a product.
type OutputModel struct {
	File   string `json:"file"`
	What   string `json:"what"`
	State  string `json:"state"` // written, replaced, as-was (unchanged); would-write in a dry run
	Size   uint64 `json:"size,omitempty"`
	SHA256 string `json:"sha256,omitempty"`
}

// Model makes the model for programs.
func (r *Released) Model() any {
	out := ReleaseModel{
		Schema:   SchemaName("release"),
		Name:     r.File.Title,
		File:     r.File.Name,
		DryRun:   r.Dry,
		Products: []ProductModel{},
		Manifest: r.Manifest,
	}
	for _, p := range r.Products {
		one := ProductModel{
			Variant:  p.Variant,
			Inputs:   []ImageModel{},
			Steps:    []StepModel{},
			Notes:    append([]string{}, p.Notes...),
			Findings: []findingModel{},
			Outputs:  []OutputModel{},
		}
		if p.Map != nil {
			one.Device = p.Map.Name
		}
		for _, in := range p.Inputs {
			one.Inputs = append(one.Inputs, imageModel(in.File, in.Format, in.Image))
		}
		for _, s := range p.Steps {
			one.Steps = append(one.Steps, StepModel{s.Line, s.Do, append([]string{}, s.Changes...), append([]string{}, s.Notes...)})
		}
		if p.Checked != nil {
			c := &Checked{Best: p.Checked, Wording: func(string) source.Wording { return r.Wording }}
			one.Verdict, one.Findings = Verdict(p.Checked), c.findings()
		}
		for _, o := range p.Outputs {
			made := OutputModel{File: o.File, What: o.What, State: "written", Size: o.Size, SHA256: fmt.Sprintf("%x", o.SHA256)}
			switch {
			case r.Dry:
				made.State, made.SHA256 = "would-write", ""
			case o.Same:
				made.State = "as-was"
			case o.Replaced:
				made.State = "replaced"
			}
			one.Outputs = append(one.Outputs, made)
		}
		out.Products = append(out.Products, one)
	}
	return out
}

// Units is what came of making units.
type Units struct {
	Title string
	*release.Units
	Dry bool
}

// Text prints how many were made.
func (u *Units) Text(p *render.Printer) {
	made := "made"
	if u.Dry {
		made = "would be made"
	}
	before := ""
	if u.Before > 0 {
		before = fmt.Sprintf(", %s were made before", memory.FormatCount(uint64(u.Before)))
	}
	proof := "the log is " + u.Log
	if u.Manifest != "" {
		proof = "the proof is " + u.Manifest
	}
	p.Line("%s: %s %s%s; %s", u.Title, memory.FormatNumber(u.Made, "unit"), made, before, proof)
}

// UnitsModel is a run of units for programs.
type UnitsModel struct {
	Schema string `json:"schema"`
	Name   string `json:"name"`
	DryRun bool   `json:"dryRun"`
	Made   int    `json:"made"`   // units made in this run
	Before int    `json:"before"` // units made in earlier runs
	Log    string `json:"log"`
	// Manifest is the manifest of the units, where all of the table are made.
	Manifest string `json:"manifest,omitempty"`
}

// Model makes the model for programs.
func (u *Units) Model() any {
	return UnitsModel{SchemaName("units"), u.Title, u.Dry, u.Made, u.Before, u.Log, u.Manifest}
}
