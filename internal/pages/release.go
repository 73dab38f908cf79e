package pages

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"
	"sync"

	"mexalt/internal/report"
	"mexalt/release"
	"mexalt/source"
)

// Drawing draws pictures and pages of products for a release.
func Drawing(kind string, f *release.File, p *release.Product) func(io.Writer) error {
	switch kind {
	case ".png":
		// It is asked for twice: for its digest, and as a file.
		drawn := sync.OnceValues(func() ([]byte, error) {
			var b bytes.Buffer
			err := report.Picture(p.Checked).PNG(&b)
			return b.Bytes(), err
		})
		return func(to io.Writer) error {
			b, err := drawn()
			if err == nil {
				_, err = to.Write(b)
			}
			return err
		}
	case ".svg":
		return report.Picture(p.Checked).SVG
	}
	return func(to io.Writer) error { return productPage(to, f, p) }
}

// productPage writes the page of a product, when all other outputs are known.
func productPage(to io.Writer, f *release.File, p *release.Product) error {
	c := &Check{
		Checked: &report.Checked{Best: p.Checked, Wording: func(string) source.Wording { return release.Wording }},
		Product: f.Title,
		Sub:     "for " + p.Map.Name,
		Steps:   p.Steps,
		StepsIn: filepath.Base(f.Name),
		Sets:    p.Sets(),
		Named:   f.Relative,
	}
	if p.Variant != "" {
		c.Product += ", " + p.Variant
	}
	for i := range p.Inputs {
		in := &p.Inputs[i]
		c.Parts = append(c.Parts,
			Part{Name: in.Name, File: f.Relative(in.File), Format: in.Format, Image: in.Image, Program: in.Program, Version: in.Version})
		file := File{Role: "input", Name: f.Relative(in.File), What: in.Format.Name}
		if in.Read != nil {
			file.SHA256 = fmt.Sprintf("%x", in.Read.SHA256())
		}
		c.Files = append(c.Files, file)
	}
	texts, places := f.Accepts()
	for i := range texts {
		c.Accepted = append(c.Accepted, Acceptance{texts[i], places[i]})
	}
	made, err := p.Sums()
	if err != nil {
		return err
	}
	for _, m := range made {
		c.Files = append(c.Files,
			File{Role: "output", Name: filepath.Base(m.File), What: m.What, Size: m.Size, SHA256: fmt.Sprintf("%x", m.SHA256)})
	}
	return c.Write(to)
}
