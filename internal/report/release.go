package report

import (
	"fmt"
	"io"

	"mexalt/check"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/source"
)

// Drawing draws pictures of products for a release.
func Drawing(kind string, r *check.Result) func(io.Writer) error {
	p := Picture(r)
	if kind == ".png" {
		return p.PNG
	}
	return p.SVG
}

// Released prints what came of a run of a release file; dry is whether nothing
// was written.
func Released(p *render.Printer, r *release.Result, dry bool, w source.Wording) {
	for i, product := range r.Products {
		if i > 0 {
			p.Printf("\n")
		}
		releasedProduct(p, r.File, product, dry, w)
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
	p.Printf("%s\n", p.Title(title))
	row := func(name, format string, args ...any) {
		p.Line("  %-7s "+format, append([]any{name}, args...)...)
	}
	for _, in := range r.Inputs {
		where := "holds nothing"
		if all, ok := in.Image.Span(); ok {
			where = memory.FormatBytes(in.Image.Bytes()) + " at " + all.Range()
		}
		row("input", "%s: %s, %s, %s", in.Name, in.File, in.Format.Name, where)
	}
	for _, s := range r.Steps {
		name := fmt.Sprintf("%s:%d", f.Name, s.Line)
		if len(s.Did)+len(s.Notes) == 0 {
			row("step", "%s (%s)", s.Do, name)
		}
		for _, did := range s.Did {
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
		row("check", "%s", verdict)
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
			row("as was", "%s: %s, SHA-256 %x", o.File, o.What, o.SHA256)
		default:
			replaced := ""
			if o.Replaced {
				replaced = ", replaced"
			}
			row("wrote", "%s: %s, SHA-256 %x%s", o.File, o.What, o.SHA256, replaced)
		}
	}
}
