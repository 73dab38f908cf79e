package render

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Inline draws one memory of a picture as SVG for a page. What is drawn has classes
// and no colours, which the page's style gives. Regions and marks are links to where
// the page tells of them, region-NAME and finding-N; what can be pointed at says which
// addresses it shows.
type Inline struct {
	*Picture
	// Link returns where a region's name leads; "" is nowhere.
	Link func(name string) string
	// Number returns the number of a mark, by its place in the picture.
	Number func(mark int) int
	Anchor string // what the numbers of marks stand behind, where they lead; "" is finding
}

// Write writes the memory of a number.
func (p *Inline) Write(w io.Writer, number int) error {
	pen, err := newPen()
	if err != nil {
		return err
	}
	d := &inline{Inline: p, pen: pen, m: &p.Memories[number], w: w, number: number}
	d.draw()
	return d.err
}

type inline struct {
	*Inline
	*pen
	m      *PictureMemory
	w      io.Writer
	number int
	err    error
}

func (d *inline) printf(format string, args ...any) {
	if d.err == nil {
		_, d.err = fmt.Fprintf(d.w, format, args...)
	}
}

// escaped is a text as XML has it.
func escaped(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(source.VisibleLines(text)))
	return b.String()
}

func (d *inline) label(x, y, size float64, class, text string) {
	d.printf("<text x=\"%s\" y=\"%s\" font-size=\"%s\"%s>%s</text>\n", number(x), number(y), number(size), classed(class), escaped(text))
}

func classed(class string) string {
	if class == "" {
		return ""
	}
	return " class=\"" + class + "\""
}

func (d *inline) rect(x, y, w, h float64, class, more string) {
	d.printf("<rect x=\"%s\" y=\"%s\" width=\"%s\" height=\"%s\"%s%s/>\n", number(x), number(y), number(w), number(h), classed(class), more)
}

// spoken are the attributes of a shape that tells of a span.
func spoken(s memory.Span, name, text string) string {
	return fmt.Sprintf(
		" data-first=\"0x%X\" data-last=\"0x%X\" data-name=\"%s\"><title>%s</title></rect",
		s.First,
		s.Last,
		escaped(name),
		escaped(text),
	)
}

// bar is a rectangle that can be pointed at.
func (d *inline) bar(x, y, w, h float64, class, more string, s memory.Span, name, text string) {
	d.printf(
		"<rect x=\"%s\" y=\"%s\" width=\"%s\" height=\"%s\"%s%s%s>\n",
		number(x),
		number(y),
		number(w),
		number(h),
		classed(class),
		more,
		spoken(s, name, text),
	)
}

// leastStretch is how wide what is used is drawn at the least.
const leastStretch = 2

// numbered returns the marks in the memory by their numbers, and where each points to.
func (d *inline) numbered(s *scale) (numbers []string, points []float64) {
	for i, mark := range d.Marks {
		if !d.m.Span.Contains(mark.First) {
			continue
		}
		n := i + 1
		if d.Number != nil {
			n = d.Number(i)
		}
		numbers, points = append(numbers, fmt.Sprint(n)), append(points, s.at(mark.First))
	}
	return numbers, points
}

func (d *inline) draw() {
	z := sizes{
		head: 26, label: 17, labelFont: 13, labelGap: 12, lead: 6, bar: 46, below: 14, belowFont: 11, belowGap: 8, foot: 10,
		flagWide: 18, flagHigh: 17, numbers: 13, flagRoom: 18, flagGap: 6,
	}
	high, text, small := z.bar, z.labelFont, z.belowFont
	z.name = func(seg PictureSegment) string { return d.fitted(seg.Name, 260, plain, text) }
	m := d.m
	l := d.pen.lay(m, z, d.numbered)
	top, bottom, tall := l.top, l.bottom, l.tall
	narrow := d.width(plain, small)
	const mostTicks = 2000 // more are no wider than what they stand for
	ticks := l.ticks[:min(len(l.ticks), mostTicks)]
	d.printf(
		"<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 %d %s\" role=\"group\" aria-label=\"%s\" font-size=\"%d\">\n",
		pageWidth,
		number(tall),
		escaped(m.Title),
		int(text),
	)
	note := l.note("")
	if l.unnamed > 0 {
		note += fmt.Sprintf("; %d are named below", l.unnamed)
	}
	d.label(margin, 15, text, "heavy", d.fitted(m.Title, inner-narrow(note)-20, heavy, text))
	d.label(margin+inner-narrow(note), 15, small, "small", note)
	for j, seg := range m.Segments {
		x, w := margin+l.starts[j], l.starts[j+1]-l.starts[j]
		class, what := "region seg", seg.Name
		if seg.Name == "" {
			class, what = "none seg", "in no region"
		}
		said := what + ", " + seg.Span.String()
		if seg.Detail != "" {
			said += ", " + seg.Detail
		}
		link := ""
		if seg.Name != "" && d.Link != nil {
			link = d.Link(seg.Name)
		}
		if link != "" {
			d.printf("<a href=\"%s\" aria-label=\"%s\">", escaped(link), escaped(said))
		}
		focus := ""
		if link == "" {
			focus = " tabindex=\"0\" role=\"img\" aria-label=\"" + escaped(said) + "\""
		}
		d.bar(x, top, w, high, class, focus, seg.Span, what, said)
		if link != "" {
			d.printf("</a>\n")
		}
		if seg.Reserved {
			d.hatched(x, top, w, high, 7, "hatch")
		}
	}
	var letters strings.Builder // over all that is filled
	for k, part := range d.Parts {
		used := l.used(part.Image, m.Span, 0.4)
		const mostStretches = 2000 // more are no wider than what they stand for
		for i, u := range used {
			if i == mostStretches {
				break
			}
			w := math.Max(u.to-u.from, leastStretch)
			d.rect(margin+u.from, top+9, w, high-18, fmt.Sprintf("p%d", k%len(partColours)), " pointer-events=\"none\"")
			if w > 16 {
				fmt.Fprintf(
					&letters,
					"<text x=\"%s\" y=\"%s\" class=\"letter\" text-anchor=\"middle\" pointer-events=\"none\">%s</text>\n",
					number(margin+u.from+w/2),
					number(top+high/2+5),
					PartLetter(k),
				)
			}
		}
	}
	d.rect(margin, top, inner, high, "frame", "")
	for _, p := range l.labels {
		x := margin + p.at
		d.printf(
			"<line x1=\"%s\" y1=\"%s\" x2=\"%s\" y2=\"%s\" class=\"lead\"/>\n",
			number(x),
			number(l.base(p, 2)+3),
			number(x),
			number(top),
		)
	}
	for _, p := range l.labels {
		d.label(margin+p.x, l.base(p, 2), text, "", p.text)
	}
	for _, a := range l.below {
		d.label(margin+a.x, bottom+14+float64(a.row)*z.below, small, "small", a.text)
	}
	for _, h := range l.hatchedParts(d.Picture, m, 3) {
		d.hatched(margin+h.from, top, h.to-h.from, high, 5, "clash")
	}
	d.printf("%s", letters.String())
	anchor := cmp.Or(d.Anchor, "finding")
	link := func(number, shape string) {
		d.printf("<a href=\"#%s-%s\" aria-label=\"%s %s\"><title>%s %s</title>%s</a>\n", anchor, number, anchor, number, anchor, number, shape)
	}
	for _, i := range ticks {
		link(
			l.numbers[i],
			fmt.Sprintf(
				"<rect x=\"%s\" y=\"%s\" width=\"2\" height=\"%d\" class=\"mark\"/>",
				number(margin+l.points[i]-1),
				number(top-tickHigh),
				tickHigh,
			),
		)
	}
	for k, f := range l.flags {
		i := l.numbered[k]
		x, tip := margin+l.points[i], top-l.under-z.flagHigh*float64(f.row)
		if tip < top {
			d.printf(
				"<line x1=\"%s\" y1=\"%s\" x2=\"%s\" y2=\"%s\" class=\"clash\" stroke-width=\"1\"/>\n",
				number(x),
				number(tip),
				number(x),
				number(top),
			)
		}
		link(
			l.numbers[i],
			fmt.Sprintf(
				"<path d=\"M%s %s l-6 -11 h12 z\" class=\"mark\"/><text x=\"%s\" y=\"%s\" class=\"mark-number\">%s</text>",
				number(x),
				number(tip),
				number(x+8),
				number(tip-2),
				l.numbers[i],
			),
		)
	}
	d.printf("</svg>")
}

// hatched draws slanting lines over a rectangle.
func (d *inline) hatched(x, top, w, h, step float64, class string) {
	d.printf("<path d=\"")
	for at := step / 2; at < w+h; at += step {
		d.printf(
			"M%s %sL%s %s",
			number(x+math.Max(0, at-h)),
			number(top+math.Min(h, at)),
			number(x+math.Min(at, w)),
			number(top+math.Max(0, at-w)),
		)
	}
	d.printf("\" class=\"%s\" fill=\"none\" pointer-events=\"none\"/>\n", class)
}
