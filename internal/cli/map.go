package cli

import (
	"io"
	"path/filepath"
	"strings"

	"mexalt/check"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/span"
)

var mapCommand = &command{
	name: "map", usage: "-device MAP [-o PICTURE] FILE...",
	short: "picture of an image against a device map",
	long: `
Draws the memories of a device, true to their addresses but with small regions
still to be seen, and what each file fills: on a terminal, or with -o as a
picture, x.svg or x.png. What a check finds is marked, and so are addresses to
which two files give bytes.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		var to string
		f.add(span.TextKey(&to, "o", "FILE", "write the picture to FILE, .svg or .png"))
		r.define(f)
		return func(s *session, args []string) error {
			kind := strings.ToLower(filepath.Ext(to))
			if to != "" && kind != ".svg" && kind != ".png" {
				return usagef("-o %s: a picture is .svg or .png", to)
			}
			if r.device == "" {
				return usagef("which device? -device MAP")
			}
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			inputs, err := s.readAll(&r, args, s.names(dev), nil)
			if err != nil {
				return err
			}
			s.warnUnplaced(dev, inputs)
			p := report.Picture(check.Run(dev, checkParts(inputs), check.Options{}))
			if to == "" {
				p.Text(s.print)
				return nil
			}
			draw := p.SVG
			if kind == ".png" {
				draw = p.PNG
			}
			if _, err := s.writeText(to, func(w io.Writer) error { return draw(w) }); err != nil {
				return err
			}
			s.did("wrote %s: %s, %s", to, dev.Name, render.Count(len(p.Marks), "mark"))
			return nil
		}
	},
}

// checkParts returns inputs as the parts of a check.
func checkParts(inputs []*input) []check.Part {
	var parts []check.Part
	for _, in := range inputs {
		p := check.Part{Name: in.operand, Image: in.image(), Problems: in.problems, Err: in.err}
		if in.File != nil {
			p.Name = in.Name
		}
		parts = append(parts, p)
	}
	return parts
}
