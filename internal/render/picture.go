package render

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strings"

	"mexalt/memory"
)

// Picture is an image against a device map: memories as bars, their regions in
// their places, what each part fills, and marks.
type Picture struct {
	Title    string
	Memories []PictureMemory
	Parts    []memory.Part
	Marks    []Mark
}

// PictureMemory is one memory; its segments cover it, in order.
type PictureMemory struct {
	Title    string
	Span     memory.Span
	Segments []PictureSegment
}

// PictureSegment is a region, or what lies between two.
type PictureSegment struct {
	memory.Span
	Name     string // "" is no region
	Detail   string
	Reserved bool
}

// Mark is a place that something was found at.
type Mark struct {
	memory.Span
	Hatched bool // the whole span is marked, not its first address alone
	Text    string
}

// scale places addresses on a line: in proportion, but no segment smaller than
// least, so that 64 bytes beside 4 MiB can be seen.
type scale struct {
	segments []PictureSegment
	starts   []float64 // where each segment begins; one more for the end
	border   float64   // what a region's border takes at each of its ends
}

func newScale(m *PictureMemory, wide, least, leastGap float64) scale {
	n := len(m.Segments)
	widths, fixed := make([]float64, n), make([]bool, n)
	for {
		room, total := wide, 0.0
		for i, s := range m.Segments {
			if fixed[i] {
				room -= widths[i]
			} else {
				total += float64(s.Size())
			}
		}
		again := false
		for i, s := range m.Segments {
			if fixed[i] {
				continue
			}
			floor := least
			if s.Name == "" {
				floor = leastGap
			}
			if widths[i] = room * float64(s.Size()) / total; widths[i] < floor {
				widths[i], fixed[i], again = floor, true, true
			}
		}
		if !again {
			break
		}
	}
	s := scale{segments: m.Segments, starts: make([]float64, n+1)}
	for i, w := range widths {
		s.starts[i+1] = s.starts[i] + w
	}
	return s
}

// at returns the place of an address, which must lie in the memory.
func (s *scale) at(address uint64) float64 { return s.place(address, 0) }

// behind returns the place behind an address.
func (s *scale) behind(address uint64) float64 { return s.place(address, 1) }

func (s *scale) place(address uint64, more float64) float64 {
	for i, seg := range s.segments {
		if seg.Contains(address) {
			from, to := s.starts[i], s.starts[i+1]
			if seg.Name != "" {
				from, to = from+s.border, to-s.border
			}
			return from + (to-from)*(float64(address-seg.First)+more)/float64(seg.Size())
		}
	}
	return s.starts[len(s.starts)-1]
}

// stretch is what a part fills, as places on the line.
type stretch struct{ from, to float64 }

// used returns what a part fills in a memory, close ones joined.
func (s *scale) used(m *memory.Image, within memory.Span, close float64) []stretch {
	var out []stretch
	for i := range s.segments {
		both, ok := s.segments[i].Meet(within)
		if !ok {
			continue
		}
		for r := range m.In(both) {
			from, to := s.at(r.First), s.behind(r.Last())
			if n := len(out); n > 0 && from-out[n-1].to < close {
				out[n-1].to = to
			} else {
				out = append(out, stretch{from, to})
			}
		}
	}
	return out
}

// placed is a text on one of several rows, so that none covers another.
type placed struct {
	text string
	x    float64 // of its left end
	row  int
	at   float64 // what it belongs to
}

// rows puts texts on rows: each beside what it belongs to, on the first row
// where it fits.
func rows(texts []string, centres []float64, width func(string) float64, wide, gap float64) (list []placed, count int) {
	var ends []float64
	for i, t := range texts {
		w := width(t)
		x := math.Min(math.Max(centres[i]-w/2, 0), math.Max(wide-w, 0))
		row := 0
		for row < len(ends) && ends[row]+gap > x {
			row++
		}
		if row == len(ends) {
			ends = append(ends, 0)
		}
		ends[row] = x + w
		list = append(list, placed{t, x, row, centres[i]})
	}
	return list, len(ends)
}

// partLetter names a part in the picture.
func partLetter(i int) string {
	const letters = "abcdefghijklmnopqrstuvwxyz"
	return string(letters[i%len(letters)])
}

// flag is marks at one place, by their numbers.
type flag struct {
	x    float64
	text string
}

// flags returns the marks in a memory, those close to each other as one.
func (p *Picture) flags(s *scale, within memory.Span, close float64) (list []flag) {
	for i, m := range p.Marks {
		if !within.Contains(m.First) {
			continue
		}
		x := s.at(m.First)
		j := slices.IndexFunc(list, func(f flag) bool { return math.Abs(f.x-x) < close })
		if j < 0 {
			list = append(list, flag{x, fmt.Sprint(i + 1)})
		} else {
			list[j].text += "," + fmt.Sprint(i+1)
		}
	}
	return list
}

// Text prints the picture as text, as wide as the printer is.
func (p *Picture) Text(to *Printer) {
	wide := float64(max(to.Width, 40))
	to.Printf("%s\n", to.Title(p.Title))
	for i := range p.Memories {
		p.memoryText(to, &p.Memories[i], wide)
	}
	to.Printf("\n")
	for k, part := range p.Parts {
		to.Printf("%s  %s, %s\n", partLetter(k), part.Name, memory.FormatBytes(part.Image.Bytes()))
	}
	to.Printf("·  free   /  reserved\n")
	for n, m := range p.Marks {
		to.Printf("%s %s\n", to.Bad(fmt.Sprintf("^%d", n+1)), m.Text)
	}
}

// memoryText prints one memory: names of regions, the bar, marks, addresses.
func (p *Picture) memoryText(to *Printer, m *PictureMemory, wide float64) {
	length := func(s string) float64 { return float64(len([]rune(s))) }
	to.Printf("\n%s\n", m.Title)
	s := newScale(m, wide, 4, 1)
	s.border = 1
	var names, firsts []string
	var centres, begins []float64
	for j, seg := range m.Segments {
		if seg.Name != "" {
			names = append(names, seg.Name)
			centres = append(centres, (s.starts[j]+s.starts[j+1])/2)
			a := memory.FormatAddress(seg.First)
			firsts = append(firsts, a)
			begins = append(begins, s.starts[j]+length(a)/2)
		}
	}
	labels, count := rows(names, centres, length, wide, 1)
	for row := count - 1; row >= 0; row-- {
		line := blank(wide)
		for _, l := range labels {
			if l.row > row {
				put(line, int(l.at), "│")
			}
		}
		for _, l := range labels {
			if l.row == row {
				put(line, int(l.x), l.text)
			}
		}
		to.Printf("%s\n", strings.TrimRight(string(line), " "))
	}
	to.Printf("%s\n", p.barText(m, &s, wide))
	if flags := p.flags(&s, m.Span, 4); len(flags) > 0 {
		line := blank(wide)
		for _, f := range flags {
			text := "^" + f.text
			put(line, min(int(f.x), len(line)-len(text)), text)
		}
		to.Printf("%s\n", to.Bad(strings.TrimRight(string(line), " ")))
	}
	addresses, count := rows(firsts, begins, length, wide, 1)
	for row := range count {
		line := blank(wide)
		for _, a := range addresses {
			if a.row == row {
				put(line, int(a.x), a.text)
			}
		}
		to.Printf("%s\n", to.Faint(strings.TrimRight(string(line), " ")))
	}
	for _, seg := range m.Segments {
		if seg.Name != "" {
			to.Printf("  %-*s %s\n", 16, seg.Name, seg.Detail)
		}
	}
}

// barText draws a memory as a bar: free space, what each part fills, the borders
// of regions.
func (p *Picture) barText(m *PictureMemory, s *scale, wide float64) string {
	bar := blank(wide)
	for j, seg := range m.Segments {
		fill := "·"
		if seg.Name == "" {
			fill = " "
		} else if seg.Reserved {
			fill = "/"
		}
		for x := int(math.Round(s.starts[j])); x < int(math.Round(s.starts[j+1])); x++ {
			put(bar, x, fill)
		}
	}
	for k, part := range p.Parts {
		for _, u := range s.used(part.Image, m.Span, 0) {
			from, to := int(math.Floor(u.from+0.01)), int(math.Ceil(u.to-0.01))
			for x := from; x < max(to, from+1); x++ {
				put(bar, x, partLetter(k))
			}
		}
	}
	for j, seg := range m.Segments {
		if seg.Name != "" {
			put(bar, int(math.Round(s.starts[j])), "[")
			put(bar, int(math.Round(s.starts[j+1]))-1, "]")
		}
	}
	return string(bar)
}

func blank(wide float64) []rune { return []rune(strings.Repeat(" ", int(wide))) }

func put(line []rune, x int, text string) {
	for i, r := range []rune(text) {
		if x+i >= 0 && x+i < len(line) {
			line[x+i] = r
		}
	}
}

// The colours of parts can be told apart by the colour-blind, and differ in
// brightness, so that they can be in print.
var partColours = []color.Color{
	rgb(0x0072B2), rgb(0xE69F00), rgb(0x009E73), rgb(0xCC79A7), rgb(0x56B4E9), rgb(0xF0E442), rgb(0x7F7F7F),
}

func rgb(v uint32) color.Color { return color.RGBA{byte(v >> 16), byte(v >> 8), byte(v), 0xFF} }

var (
	ink      = rgb(0x1A1A1A)
	soft     = rgb(0x6B6B6B)
	outline  = rgb(0x9A9A9A)
	paper    = rgb(0xFFFFFF)
	noRegion = rgb(0xEDEDED)
	alarm    = rgb(0xD55E00)
)

// Sizes in points.
const (
	pageWidth   = 960
	margin      = 36
	barHeight   = 34
	labelHeight = 14
	titleHeight = 22
)

// SVG writes the picture as SVG.
func (p *Picture) SVG(w io.Writer) error {
	d, err := newDrawing(p)
	if err != nil {
		return err
	}
	out := newSVG(w, pageWidth, d.height())
	d.surface = out
	d.lay(true)
	return out.end()
}

// PNG writes the picture as PNG, two pixels a point.
func (p *Picture) PNG(w io.Writer) error {
	d, err := newDrawing(p)
	if err != nil {
		return err
	}
	raster := newRaster(d.fonts, pageWidth, d.height(), 2)
	d.surface = raster
	d.lay(true)
	return raster.encode(w)
}

// drawing lays the picture out on a surface, from the top downwards.
type drawing struct {
	p       *Picture
	fonts   *fonts
	surface surface
}

func newDrawing(p *Picture) (*drawing, error) {
	f, err := loadFonts()
	return &drawing{p: p, fonts: f}, err
}

func (d *drawing) width(f weight, size float64) func(string) float64 {
	return func(s string) float64 { return d.fonts.width(f, size, s) }
}

// height returns the height of the whole page.
func (d *drawing) height() float64 { return d.lay(false) }

// lay goes through the picture from top to bottom and returns its height. It
// draws, unless it only measures.
func (d *drawing) lay(drawing bool) float64 {
	y := float64(margin)
	if drawing {
		d.fill(0, d.height(), pageWidth, d.height(), paper)
		d.text(margin, y+14, heavy, 17, ink, d.p.Title)
	}
	y += 34
	for i := range d.p.Memories {
		y = d.memory(&d.p.Memories[i], y, drawing)
	}
	return d.legend(y, drawing) + margin
}

const inner = pageWidth - 2*margin

func (d *drawing) memory(m *PictureMemory, y float64, drawing bool) float64 {
	s := newScale(m, inner, 26, 8)
	var names []string
	var centres []float64
	for j, seg := range m.Segments {
		if seg.Name != "" {
			names = append(names, seg.Name+"  "+seg.Detail)
			centres = append(centres, (s.starts[j]+s.starts[j+1])/2)
		}
	}
	labels, labelRows := rows(names, centres, d.width(plain, 11), inner, 10)
	var addresses []string
	var places []float64
	width := d.width(plain, 9)
	for j, seg := range m.Segments {
		if seg.Name != "" || j == 0 {
			a := memory.FormatAddress(seg.First)
			addresses = append(addresses, a)
			places = append(places, s.starts[j]+width(a)/2)
		}
	}
	last := memory.FormatAddress(m.Span.Last)
	addresses, places = append(addresses, last), append(places, inner-width(last)/2)
	below, addressRows := rows(addresses, places, width, inner, 6)
	flags := d.p.flags(&s, m.Span, 16)
	markHeight := 0.0
	if len(flags) > 0 {
		markHeight = 16
	}
	top := y + titleHeight + float64(labelRows)*labelHeight + 4 + markHeight
	bottom := top + barHeight
	end := bottom + float64(addressRows)*12 + 22
	if !drawing {
		return end
	}
	d.text(margin, y+14, heavy, 12, ink, m.Title)
	for j, seg := range m.Segments {
		x, w := margin+s.starts[j], s.starts[j+1]-s.starts[j]
		colour := paper
		if seg.Name == "" {
			colour = noRegion
		}
		d.fill(x, bottom, w, barHeight, colour)
		if seg.Reserved {
			d.hatch(x, top, w, barHeight, 6, 0.6, outline)
		}
	}
	for k, part := range d.p.Parts {
		for _, u := range s.used(part.Image, m.Span, 0.4) {
			w := math.Max(u.to-u.from, 0.8)
			d.fill(margin+u.from, bottom, w, barHeight, partColours[k%len(partColours)])
			if w > 12 {
				d.text(margin+u.from+w/2-3, top+barHeight/2+4, heavy, 11, contrast(partColours[k%len(partColours)]), partLetter(k))
			}
		}
	}
	for j, seg := range m.Segments {
		if seg.Name != "" {
			d.box(margin+s.starts[j], top, s.starts[j+1]-s.starts[j], barHeight, 1.2, ink)
		}
	}
	d.box(margin, top, inner, barHeight, 0.8, outline)
	base := func(l placed) float64 { return top - markHeight - 5 - float64(l.row)*labelHeight }
	for _, l := range labels {
		d.line(margin+l.at, base(l)+2, margin+l.at, top-markHeight, 0.5, outline)
	}
	for _, l := range labels { // over all lines
		d.fill(margin+l.x-1, base(l)+3, d.width(plain, 11)(l.text)+2, labelHeight-1, paper)
		d.text(margin+l.x, base(l), plain, 11, ink, l.text)
	}
	for _, a := range below {
		d.text(margin+a.x, bottom+11+float64(a.row)*12, plain, 9, soft, a.text)
	}
	for _, mark := range d.p.Marks {
		if both, ok := mark.Meet(m.Span); mark.Hatched && ok {
			from, to := margin+s.at(both.First), margin+s.behind(both.Last)
			d.hatch(from, top, math.Max(to-from, 2), barHeight, 5, 1.6, alarm)
		}
	}
	for _, f := range flags {
		d.triangle(margin+f.x, top)
		x := f.x + 6
		if w := d.width(heavy, 10)(f.text); x+w > inner {
			x = f.x - 8 - w
		}
		d.text(margin+x, top-3, heavy, 10, alarm, f.text)
	}
	return end
}

// contrast returns black or white, whichever can be read on a colour.
func contrast(c color.Color) color.Color {
	r, g, b, _ := c.RGBA()
	if 299*r+587*g+114*b > 1000*0x8800 {
		return ink
	}
	return paper
}

func (d *drawing) legend(y float64, drawing bool) float64 {
	entry := func(colour color.Color, letter, text string, hatched bool) {
		if drawing {
			d.fill(margin, y+12, 18, 12, colour)
			if hatched {
				d.hatch(margin, y, 18, 12, 6, 0.6, outline)
			}
			d.box(margin, y, 18, 12, 0.8, outline)
			d.text(margin+6, y+10, heavy, 10, contrast(colour), letter)
			d.text(margin+26, y+10, plain, 11, ink, text)
		}
		y += 18
	}
	for k, part := range d.p.Parts {
		entry(partColours[k%len(partColours)], partLetter(k), fmt.Sprintf("%s, %s", part.Name, memory.FormatBytes(part.Image.Bytes())), false)
	}
	entry(paper, "", "free, in a region", false)
	entry(noRegion, "", "in no region", false)
	for _, m := range d.p.Memories {
		for _, s := range m.Segments {
			if s.Reserved {
				entry(paper, "", "reserved", true)
				goto marks
			}
		}
	}
marks:
	y += 6
	for n, m := range d.p.Marks {
		for i, text := range d.wrap(m.Text, inner-24) {
			if drawing {
				if i == 0 {
					d.triangle(margin+5, y+11)
					d.text(margin+12, y+10, heavy, 10, alarm, fmt.Sprint(n+1))
				}
				d.text(margin+26, y+10, plain, 10, ink, text)
			}
			y += 15
		}
	}
	return y
}

// wrap breaks a text into lines of a width.
func (d *drawing) wrap(text string, wide float64) []string {
	width := d.width(plain, 10)
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		if next := strings.TrimSpace(line + " " + word); line != "" && width(next) > wide {
			lines, line = append(lines, line), word
		} else {
			line = next
		}
	}
	return append(lines, line)
}

// fill fills a rectangle whose bottom is at y.
func (d *drawing) fill(x, y, w, h float64, c color.Color) {
	d.surface.fill(rectangle(x, y-h, w, h), c)
}

func rectangle(x, top, w, h float64) []dot {
	return []dot{{x, top}, {x + w, top}, {x + w, top + h}, {x, top + h}}
}

func (d *drawing) box(x, top, w, h, thick float64, c color.Color) {
	d.surface.stroke(append(rectangle(x, top, w, h), dot{x, top}), thick, c)
}

// hatch draws slanting lines over a rectangle.
func (d *drawing) hatch(x, top, w, h, step, thick float64, c color.Color) {
	for at := step / 2; at < w+h; at += step {
		d.line(x+math.Max(0, at-h), top+math.Min(h, at), x+math.Min(at, w), top+math.Max(0, at-w), thick, c)
	}
}

func (d *drawing) line(x1, y1, x2, y2, thick float64, c color.Color) {
	d.surface.stroke([]dot{{x1, y1}, {x2, y2}}, thick, c)
}

// triangle points down at x, y.
func (d *drawing) triangle(x, y float64) {
	d.surface.fill([]dot{{x, y}, {x - 5, y - 10}, {x + 5, y - 10}}, alarm)
}

func (d *drawing) text(x, y float64, f weight, size float64, c color.Color, text string) {
	d.surface.text(x, y, f, size, c, text)
}
