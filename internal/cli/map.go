package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"mexalt/check"
	"mexalt/internal/render"
	"mexalt/memory"
)

var mapCommand = &command{
	name: "map", usage: "-device MAP [-o PICTURE] FILE...",
	short: "picture of an image against a device map",
	long: `
Draws the memories of a device, true to their addresses but with small regions
still to be seen, and what each file fills: on a terminal, or with -o as a
picture, x.svg or x.png. What a check finds is marked, and so are addresses to
which two files give bytes.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var to string
		r.define(fs)
		fs.StringVar(&to, "o", "", "write the picture to `FILE`, .svg or .png")
		return func(s *session, args []string) error {
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			kind := strings.ToLower(filepath.Ext(to))
			if to != "" && kind != ".svg" && kind != ".png" {
				return usagef("-o %s: a picture is .svg or .png", to)
			}
			if r.device == "" {
				return usagef("which device? -device MAP")
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			files, err := s.readAll(&r, args, names(dev))
			if err != nil {
				return err
			}
			parts := make([]memory.Part, len(files))
			images := make([]*memory.Image, len(files))
			for i, f := range files {
				parts[i], images[i] = memory.Part{Name: f.Name, Image: f.Image}, f.Image
			}
			p := pictureOf(check.Run(dev, parts, check.Options{}), parts)
			_, clashes := memory.Merge(images, memory.First)
			for _, c := range clashes {
				p.Marks = append(p.Marks, render.Mark{Span: c.Span, Hatched: true, Text: fmt.Sprintf("clash at %s: %s and %s both give bytes", c.Span, c.Kept, c.Other)})
			}
			if to == "" {
				p.Text(s.out, terminalWidth(s.out))
				return nil
			}
			draw := p.SVG
			if kind == ".png" {
				draw = p.PNG
			}
			if err := s.replace([]output{{to, func(w io.Writer) error { return draw(w) }}}); err != nil {
				return err
			}
			s.note("wrote %s: %s, %s", to, dev.Name, render.Count(len(p.Marks), "mark"))
			return nil
		}
	},
}

// terminalWidth returns how many columns there are to write on; 80 where that
// cannot be told.
func terminalWidth(w any) int {
	const usual, most = 80, 160
	if out, ok := w.(*stream); ok {
		if f, ok := out.to.(*os.File); ok {
			if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns > 0 {
				return min(columns, most)
			}
		}
	}
	return usual
}

// pictureOf draws what a check found.
func pictureOf(r *check.Result, parts []memory.Part) *render.Picture {
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
	}
	p := &render.Picture{Title: r.Map.Name + ": " + strings.Join(names, " + "), Parts: parts}
	for _, mem := range r.Map.Memories {
		used := r.Whole.Count(mem.Span)
		if used == 0 && !mem.Programmable() {
			continue
		}
		m := render.PictureMemory{Span: mem.Span, Title: fmt.Sprintf("%s (%s) %s: %s bytes used, %.1f %%", mem.Name, mem.Kind, mem.Span, memory.FormatCount(used), 100*float64(used)/float64(mem.Span.Size()))}
		next := mem.Span.First
		for _, region := range r.Map.Regions {
			if region.Memory != mem.Name {
				continue
			}
			if region.Span.First > next {
				m.Segments = append(m.Segments, render.PictureSegment{Span: memory.Span{First: next, Last: region.Span.First - 1}})
			}
			n, size := r.Whole.Count(region.Span), region.Span.Size()
			m.Segments = append(m.Segments, render.PictureSegment{Span: region.Span, Name: region.Name, Reserved: region.Role == "reserved",
				Detail: fmt.Sprintf("%s used, %s free", memory.FormatCount(n), memory.FormatCount(size-n))})
			next = region.Span.Last + 1
		}
		if next-1 != mem.Span.Last {
			m.Segments = append(m.Segments, render.PictureSegment{Span: memory.Span{First: next, Last: mem.Span.Last}})
		}
		p.Memories = append(p.Memories, m)
	}
	for _, f := range r.Findings {
		if f.Severity != check.Note {
			p.Marks = append(p.Marks, render.Mark{Span: f.Where, Text: fmt.Sprintf("%s %s at %s: %s", f.Severity, f.Rule, f.Where, f.What)})
		}
	}
	return p
}
