package cli

import (
	"path/filepath"
	"strings"

	"mexalt/check"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/output"
	"mexalt/release/proof"
)

var mapCommand = &command{
	name: "map", usage: "-device MAP [-o PICTURE] FILE...",
	short: "draw an image in the device's memories",
	long: `
Draws the device's memories and what each file fills, on the terminal or with -o
as a picture (.svg, .png). The scale is true except that very small regions are
drawn wider. Findings and clashes are marked.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		told := f.reports()
		f.add(key.Text(&told.to, "o", "FILE", "write the picture to FILE: .svg, .png, or .txt as a terminal shows it"))
		r.define(f)
		return func(s *session, args []string) error {
			kind := strings.ToLower(filepath.Ext(told.to))
			if known := kind == ".svg" || kind == ".png" || kind == ".txt"; told.to != "" && !known && !told.json {
				return usagef("-o %s: a picture is .svg, .png or .txt", told.to)
			}
			if !r.named() {
				return s.nameDevice(args)
			}
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			r.placed = true
			inputs, err := s.readAll(&r, args, s.names(dev), nil)
			if err != nil {
				return err
			}
			drawn := report.Map{Result: check.Run(dev, checkParts(inputs), check.Options{})}
			if told.json || kind != ".svg" && kind != ".png" {
				return s.show(drawn)
			}
			p := report.Picture(drawn.Result)
			draw := p.SVG
			if kind == ".png" {
				draw = p.PNG
			}
			if _, err := output.Write(s.files, []output.File{{Name: told.to, Write: draw}}); err != nil {
				return err
			}
			s.reportDone("wrote %s: %s, %s", told.to, dev.Name, memory.FormatNumber(len(p.Marks), "mark"))
			return nil
		}
	},
}

// checkParts returns inputs as the parts of a check.
func checkParts(inputs []*input) []check.Part {
	var parts []check.Part
	for _, in := range inputs {
		parts = append(parts, checkPart(in))
	}
	return parts
}

// checkPart returns an input as a part of a check.
func checkPart(in *input) check.Part {
	p := check.Part{Name: in.operand, Image: in.image(), Problems: in.problems, Err: in.err}
	if in.File == nil {
		return p
	}
	p.Name = in.Name
	if p.Image != nil {
		p.Begins = proof.BeginsBeside(in.Name, p.Image)
	}
	if in.Program != nil {
		p.Programs = []check.Program{{File: in.Name, Machine: in.Program.Machine, Order: in.Program.Order}}
	}
	return p
}
