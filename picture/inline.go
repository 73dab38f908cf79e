package picture

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

// Write writes the memory of a number, laid out for a wide page and for a narrow one; the
// page's style shows one of them, by the classes wide and narrow.
func (p *Inline) Write(w io.Writer, number int) error {
	pen, err := newPen()
	if err != nil {
		return err
	}
	for _, class := range []string{"wide", "narrow"} {
		d := &inline{Inline: p, pen: pen, m: &p.Memories[number], w: w, class: class, sizes: pageSizes, margin: margin}
		if class == "narrow" {
			d.sizes.wide, d.margin = narrowWidth-2*narrowMargin, narrowMargin
		}
		d.draw()
		if d.err != nil {
			return d.err
		}
	}
	return nil
}

type inline struct {
	*Inline
	*pen
	m      *Memory
	w      io.Writer
	class  string
	sizes  sizes
	margin float64 // at each side
	err    error
}

// Sizes of what is drawn for a narrow page, which has some 350 points beside its margins.
const (
	narrowWidth  = 380
	narrowMargin = 14
)

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
	return fmt.Sprintf(" data-first=\"0x%X\" data-last=\"0x%X\" data-name=\"%s\"><title>%s</title></rect", s.First, s.Last, escaped(name),
		escaped(text))
}

// bar is a rectangle that can be pointed at.
func (d *inline) bar(x, y, w, h float64, class, more string, s memory.Span, name, text string) {
	d.printf("<rect x=\"%s\" y=\"%s\" width=\"%s\" height=\"%s\"%s%s%s>\n", number(x), number(y), number(w), number(h), classed(class),
		more, spoken(s, name, text))
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

// pageSizes are those of a memory on a page.
var pageSizes = sizes{
	head: 26, label: 17, labelFont: 13, labelGap: 12, lead: 6, bar: 46, below: 14, belowFont: 11, belowGap: 8, foot: 10,
	flagWide: 18, flagHigh: 17, numbers: 13, flagRoom: 18, flagGap: 6, wide: inner,
}

func (d *inline) draw() {
	z, m := &d.sizes, d.m
	z.name = func(seg Segment) string {
		return d.fitted(seg.Name, math.Min(260, z.wide/2), plain, z.labelFont)
	}
	narrow := d.width(plain, z.belowFont)
	// Where there is no room for the scale beside the title, it has a line of its own.
	title := []string{d.fitted(m.Title, z.wide, heavy, z.labelFont)}
	apart := z.wide < inner
	if apart {
		const share = 0.78 // the browser's font may be a wider one
		title = d.wrap(m.Title, share*z.wide, heavy, z.labelFont)
		z.head += z.label * float64(len(title))
	}
	l := d.pen.lay(m, *z, d.numbered)
	const mostTicks = 2000 // more are no wider than what they stand for
	l.ticks = l.ticks[:min(len(l.ticks), mostTicks)]
	d.printf(
		"<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"%s\" viewBox=\"0 0 %s %s\" role=\"group\" aria-label=\"%s\" font-size=\"%d\">\n",
		d.class,
		number(z.wide+2*d.margin),
		number(l.tall),
		escaped(m.Title),
		int(z.labelFont),
	)
	note := l.note("")
	if l.unnamed > 0 {
		note += fmt.Sprintf("; %d are named below", l.unnamed)
	}
	y := 15.0
	if !apart {
		title[0] = d.fitted(m.Title, z.wide-narrow(note)-20, heavy, z.labelFont)
		d.label(d.margin+z.wide-narrow(note), y, z.belowFont, "small", note)
	}
	for _, line := range title {
		d.label(d.margin, y, z.labelFont, "heavy", line)
		y += z.label
	}
	if apart {
		d.label(d.margin, y, z.belowFont, "small", d.fitted(note, z.wide, plain, z.belowFont))
	}
	for j := range m.Segments {
		d.region(&l, j)
	}
	letters := d.parts(&l)
	d.rect(d.margin, l.top, z.wide, z.bar, "frame", "")
	d.names(&l)
	for _, h := range l.hatchedParts(d.Picture, m, 3) {
		d.hatched(d.margin+h.from, l.top, h.to-h.from, z.bar, 5, "clash")
	}
	d.printf("%s", letters)
	d.marks(&l)
	d.printf("</svg>\n")
}

// region draws a region, or what lies between two.
func (d *inline) region(l *layout, j int) {
	seg, high := &d.m.Segments[j], d.sizes.bar
	x, w := d.margin+l.starts[j], l.starts[j+1]-l.starts[j]
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
	d.bar(x, l.top, w, high, class, focus, seg.Span, what, said)
	if link != "" {
		d.printf("</a>\n")
	}
	if seg.Reserved {
		d.hatched(x, l.top, w, high, 7, "hatch")
	}
}

// parts draws what the parts use, and returns their letters, which stand over all that is filled.
func (d *inline) parts(l *layout) string {
	top, high := l.top, d.sizes.bar
	var letters strings.Builder
	for k, part := range d.Parts {
		used := l.used(part.Image, d.m.Span, 0.4)
		const mostStretches = 2000 // more are no wider than what they stand for
		for i, u := range used {
			if i == mostStretches {
				break
			}
			w := math.Max(u.to-u.from, leastStretch)
			d.rect(d.margin+u.from, top+9, w, high-18, fmt.Sprintf("p%d", k%len(partColours)), " pointer-events=\"none\"")
			if w > 16 {
				fmt.Fprintf(&letters,
					"<text x=\"%s\" y=\"%s\" class=\"letter\" text-anchor=\"middle\" pointer-events=\"none\">%s</text>\n",
					number(d.margin+u.from+w/2), number(top+high/2+5), PartLetter(k))
			}
		}
	}
	return letters.String()
}

// names draws the names of regions and the addresses below.
func (d *inline) names(l *layout) {
	z := &d.sizes
	for _, p := range l.labels {
		x := d.margin + p.at
		d.printf("<line x1=\"%s\" y1=\"%s\" x2=\"%s\" y2=\"%s\" class=\"lead\"/>\n", number(x), number(l.base(p, 2)+3), number(x),
			number(l.top))
	}
	for _, p := range l.labels {
		d.label(d.margin+p.x, l.base(p, 2), z.labelFont, "", p.text)
	}
	for _, a := range l.below {
		d.label(d.margin+a.x, l.bottom+14+float64(a.row)*z.below, z.belowFont, "small", a.text)
	}
}

// marks draws the marks: with their numbers, or as ticks.
func (d *inline) marks(l *layout) {
	top := l.top
	anchor := cmp.Or(d.Anchor, "finding")
	link := func(number, shape string) {
		d.printf("<a href=\"#%s-%s\" aria-label=\"%s %s\"><title>%s %s</title>%s</a>\n", anchor, number, anchor, number, anchor, number,
			shape)
	}
	for _, i := range l.ticks {
		link(l.numbers[i],
			fmt.Sprintf("<rect x=\"%s\" y=\"%s\" width=\"2\" height=\"%d\" class=\"mark\"/>", number(d.margin+l.points[i]-1),
				number(top-tickHigh), tickHigh))
	}
	for k, f := range l.flags {
		i := l.numbered[k]
		x, tip := d.margin+l.points[i], top-l.under-d.sizes.flagHigh*float64(f.row)
		if tip < top {
			d.printf("<line x1=\"%s\" y1=\"%s\" x2=\"%s\" y2=\"%s\" class=\"clash\" stroke-width=\"1\"/>\n", number(x), number(tip),
				number(x), number(top))
		}
		link(l.numbers[i],
			fmt.Sprintf("<path d=\"M%s %s l-6 -11 h12 z\" class=\"mark\"/><text x=\"%s\" y=\"%s\" class=\"mark-number\">%s</text>",
				number(x), number(tip), number(x+8), number(tip-2), l.numbers[i]))
	}
}

// hatched draws slanting lines over a rectangle.
func (d *inline) hatched(x, top, w, h, step float64, class string) {
	d.printf("<path d=\"")
	for at := step / 2; at < w+h; at += step {
		d.printf("M%s %sL%s %s", number(x+math.Max(0, at-h)), number(top+math.Min(h, at)), number(x+math.Min(at, w)),
			number(top+math.Max(0, at-w)))
	}
	d.printf("\" class=\"%s\" fill=\"none\" pointer-events=\"none\"/>\n", class)
}
