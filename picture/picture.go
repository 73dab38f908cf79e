// Package picture draws images against device maps: each memory as a bar with its regions
// in their places, what each input fills, and marks; as rows of text, SVG, PNG, or SVG in the
// style of a page. It also draws what happens over time, and charts over releases. Nothing
// is left out for want of room without a word: labels go to rows, numbers become ticks.
package picture

import (
	"cmp"
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"sort"
	"strings"

	"mexalt/memory"
)

// Picture is an image against a device map: memories as bars, their regions in
// their places, what each part fills, and marks.
type Picture struct {
	Title    string
	Memories []Memory
	Parts    []memory.Part
	Marks    []Mark
}

// Memory is one memory; its segments cover it, in order.
type Memory struct {
	Title    string
	Span     memory.Span
	Segments []Segment
}

// Segment is a region, or what lies between two.
type Segment struct {
	memory.Span
	Name     string // "" is no region
	Detail   string // "" leaves its line out
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
	segments []Segment
	starts   []float64 // where each segment begins; one more for the end
	border   float64   // what a region's border takes at each of its ends
	bytes    float64   // that a column shows, where segments are in proportion
	wider    []string  // regions that are drawn wider than in proportion
}

// note says what the scale is; unit is what the line is measured in, "" leaves
// that out.
func (s *scale) note(unit string) string {
	var words []string
	switch {
	case unit == "":
		words = append(words, "to scale")
	case s.bytes > 0.75:
		words = append(words, fmt.Sprintf("%s a %s", roughly(s.bytes), unit))
	default:
		words = append(words, fmt.Sprintf("%.0f %ss a byte", 1/s.bytes, unit))
	}
	const few, crowd = 3, 12
	if n := len(s.wider); n > crowd {
		return fmt.Sprintf("%s; drawn wider: %d of %d", words[0], n, len(s.segments))
	} else if n > 0 {
		names := s.wider[:min(n, few)]
		text := "; drawn wider: " + strings.Join(names, ", ")
		if n > few {
			text += fmt.Sprintf(" and %d more", n-few)
		}
		return words[0] + text
	}
	return words[0]
}

// roughly is a size in two or three digits.
func roughly(bytes float64) string {
	units := []string{"bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"}
	unit := 0
	for ; bytes >= 1000 && unit < len(units)-1; unit++ {
		bytes /= 1024
	}
	switch {
	case unit == 0 && math.Round(bytes) == 1:
		return "1 byte"
	case unit == 0 || bytes >= 10:
		return fmt.Sprintf("%.0f %s", bytes, units[unit])
	}
	return fmt.Sprintf("%.1f %s", bytes, units[unit])
}

func newScale(m *Memory, wide, least, leastGap float64) scale {
	n := len(m.Segments)
	// Very many segments share what they have.
	const share = 0.7
	if n > 0 && least*float64(n) > wide*share {
		least, leastGap = wide*share/float64(n), math.Min(leastGap, wide*share/float64(n))
	}
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
	shown, room := 0.0, 0.0
	for i, w := range widths {
		s.starts[i+1] = s.starts[i] + w
		if !fixed[i] {
			shown, room = shown+float64(m.Segments[i].Size()), room+w
		} else if name := m.Segments[i].Name; name != "" {
			s.wider = append(s.wider, name)
		}
	}
	if room > 0 {
		s.bytes = shown / room
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
// where it fits. A last text, where there is one, stands at the end of the first
// row. Once more than most rows are needed, what follows is left out.
func rows(
	texts []string,
	centres []float64,
	last string,
	width func(string) float64,
	wide, gap float64,
	most int,
) (list []placed, count int) {
	var ends []float64
	end := wide // of the first row
	if last != "" {
		x := math.Max(wide-width(last), 0)
		end = x - gap
		list, ends = append(list, placed{last, x, 0, wide}), append(ends, 0)
	}
	for i, t := range texts {
		w := width(t)
		x := math.Min(math.Max(centres[i]-w/2, 0), math.Max(wide-w, 0))
		row := 0
		if over := x + w - end; over > 0 && over <= w && end-w >= 0 && (len(ends) == 0 || ends[0]+gap <= end-w) {
			x = end - w // it gives way to the last one
		}
		for row < len(ends) && (ends[row] > 0 && ends[row]+gap > x || row == 0 && x+w > end) {
			row++
		}
		if row == len(ends) {
			if row > most {
				break
			}
			ends = append(ends, 0)
		}
		ends[row] = x + w
		list = append(list, placed{t, x, row, centres[i]})
	}
	return list, len(ends)
}

// mostLabelRows is how many rows of names stand over a memory in a picture; with more,
// narrow regions are not named there.
const mostLabelRows = 6

// labels puts the names of segments on rows. Where these would be too many, only those
// are named in which their names fit; left is how many are not.
func (s *scale) labels(
	text func(Segment) string,
	width func(string) float64,
	wide, gap float64,
	most int,
) (list []placed, count, left int) {
	for _, all := range []bool{true, false} {
		var names []string
		var centres []float64
		left = 0
		for j, seg := range s.segments {
			if seg.Name == "" {
				continue
			}
			name := text(seg)
			if !all && width(name)+gap > s.starts[j+1]-s.starts[j] {
				left++
				continue
			}
			names, centres = append(names, name), append(centres, (s.starts[j]+s.starts[j+1])/2)
		}
		if list, count = rows(names, centres, "", width, wide, gap, most); count <= most {
			break
		}
	}
	return list, count, left
}

// firsts puts the first addresses of segments on rows, and the memory's last one at
// the end. Where these would be too many rows, only as many are there as stand beside
// each other.
func (s *scale) firsts(last uint64, width func(string) float64, wide, gap float64, most int) (list []placed, count int) {
	for _, all := range []bool{true, false} {
		var texts []string
		var places []float64
		end := -gap
		for j, seg := range s.segments {
			if seg.Name == "" && j > 0 {
				continue
			}
			a := memory.FormatAddress(seg.First)
			if !all && (s.starts[j] < end+gap || s.starts[j]+2*width(a)+gap > wide) {
				continue
			}
			end = s.starts[j] + width(a)
			texts, places = append(texts, a), append(places, s.starts[j]+width(a)/2)
		}
		if list, count = rows(texts, places, memory.FormatAddress(last), width, wide, gap, most); count <= most {
			break
		}
	}
	return list, count
}

// PartLetter names a part in the picture. Of more parts than there are letters and digits, those
// far from each other share one.
func PartLetter(i int) string {
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
	return string(letters[i%len(letters)])
}

// flags returns the marks in a memory by their numbers, and where each points to.
func (p *Picture) flags(s *scale, within memory.Span) (numbers []string, places []float64) {
	for i, m := range p.Marks {
		if within.Contains(m.First) {
			numbers, places = append(numbers, fmt.Sprint(i+1)), append(places, s.at(m.First))
		}
	}
	return numbers, places
}

// mostFlagRows is how many rows of numbers stand over a memory. Where there would be
// more, only as many marks have their numbers as stand beside each other.
const mostFlagRows = 4

// tickHigh is how high the tick of a mark is whose number has no room.
const tickHigh = 7

// flagged shares marks between those whose numbers stand over a memory, on rows, and
// ticks, which are too close to another. Each is named by its place in points, which
// are sorted or not.
func flagged(points []float64, width func(i int) float64, wide, gap float64) (list []placed, count int, shown, ticks []int) {
	texts, centres := make([]string, len(points)), make([]float64, len(points))
	for i, x := range points {
		texts[i], centres[i] = fmt.Sprint(i), x+width(i)/2-gap
		shown = append(shown, i)
	}
	at := func(text string) float64 {
		var i int
		fmt.Sscan(text, &i)
		return width(i)
	}
	if list, count = rows(texts, centres, "", at, wide, 1, mostFlagRows); count <= mostFlagRows {
		return list, count, shown, nil
	}
	order := slices.Clone(shown)
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(points[a], points[b]) })
	shown, list = nil, nil
	end := math.Inf(-1)
	for _, i := range order {
		if x := points[i] - gap; x >= end && x+width(i) <= wide {
			shown, list, end = append(shown, i), append(list, placed{x: x, at: points[i]}), x+width(i)+1
		} else {
			ticks = append(ticks, i)
		}
	}
	return list, 1, shown, ticks
}

// legendOf reports whether any region is reserved, whether anything of a region is
// free, and whether anything lies in none, so that the legend has no entry that the picture lacks.
func (p *Picture) legendOf() (reserved, free, outside bool) {
	for _, m := range p.Memories {
		for _, s := range m.Segments {
			used := uint64(0)
			for _, part := range p.Parts {
				used += part.Image.Count(s.Span)
			}
			switch {
			case s.Name == "":
				outside = true
			case s.Reserved:
				reserved = true
			case used < s.Size():
				free = true
			}
		}
	}
	return reserved, free, outside
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

// tallest is how many rows of pixels nearly every program shows.
const tallest = 1<<15 - 1

// PNG writes the picture as PNG, two pixels a point, or one where the picture would be too
// tall for most programs to show.
func (p *Picture) PNG(w io.Writer) error {
	d, err := newDrawing(p)
	if err != nil {
		return err
	}
	scale := 2.0
	if scale*d.height() > tallest {
		scale = 1
	}
	raster := newRaster(d.fonts, pageWidth, d.height(), scale)
	d.surface = raster
	d.lay(true)
	return raster.encode(w)
}

// drawing lays the picture out on a surface, from the top downwards.
type drawing struct {
	p *Picture
	*pen
}

func newDrawing(p *Picture) (*drawing, error) {
	pen, err := newPen()
	return &drawing{p, pen}, err
}

// pen draws what pictures are made of.
type pen struct {
	fonts   *fonts
	surface surface
}

func newPen() (*pen, error) {
	f, err := loadFonts()
	return &pen{fonts: f}, err
}

func (d *pen) width(f weight, size float64) func(string) float64 {
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
		d.text(margin, y+14, heavy, 17, ink, d.fitted(d.p.Title, inner, heavy, 17))
	}
	y += 34
	for i := range d.p.Memories {
		y = d.memory(&d.p.Memories[i], y, drawing)
	}
	return d.legend(y, drawing) + margin
}

const inner = pageWidth - 2*margin

// fileSizes are those of a picture in a file of its own.
var fileSizes = sizes{
	head: titleHeight, label: labelHeight, labelFont: 11, labelGap: 10, lead: 4, bar: barHeight,
	below: 12, belowFont: 9, belowGap: 6, foot: 22,
	flagWide: 12, flagHigh: 15, numbers: 10, flagRoom: 6, flagGap: 6, wide: inner,
	name: func(seg Segment) string { return seg.Name + "  " + seg.Detail },
}

func (d *drawing) memory(m *Memory, y float64, drawing bool) float64 {
	l := d.pen.lay(m, fileSizes, func(s *scale) ([]string, []float64) { return d.p.flags(s, m.Span) })
	end := y + l.tall
	if !drawing {
		return end
	}
	d.text(margin, y+14, heavy, 12, ink, m.Title)
	note := l.note("")
	if l.unnamed > 0 {
		note += fmt.Sprintf("; %d not named here", l.unnamed)
	}
	d.text(margin+inner-d.width(plain, 10)(note), y+14, plain, 10, soft, note)
	d.bars(m, &l, y)
	d.names(&l, y)
	d.marks(m, &l, y)
	return end
}

// bars draws a memory with its regions and what the parts use of it.
func (d *drawing) bars(m *Memory, l *layout, y float64) {
	top, bottom := y+l.top, y+l.bottom
	for j, seg := range m.Segments {
		x, w := margin+l.starts[j], l.starts[j+1]-l.starts[j]
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
		for _, u := range l.used(part.Image, m.Span, 0.4) {
			w := math.Max(u.to-u.from, 0.8)
			d.fill(margin+u.from, bottom, w, barHeight, partColours[k%len(partColours)])
			if w > 12 {
				d.text(margin+u.from+w/2-3, top+barHeight/2+4, heavy, 11, contrast(partColours[k%len(partColours)]), PartLetter(k))
			}
		}
	}
	for j, seg := range m.Segments {
		if seg.Name != "" {
			d.box(margin+l.starts[j], top, l.starts[j+1]-l.starts[j], barHeight, 1.2, ink)
		}
	}
	d.box(margin, top, inner, barHeight, 0.8, outline)
}

// names draws the names of regions and the addresses below.
func (d *drawing) names(l *layout, y float64) {
	top, bottom := y+l.top, y+l.bottom
	base := func(p placed) float64 { return y + l.base(p, 1) }
	for _, p := range l.labels {
		d.line(margin+p.at, base(p)+2, margin+p.at, top, 0.5, outline)
	}
	for _, p := range l.labels { // over all lines
		d.fill(margin+p.x-1, base(p)+3, d.width(plain, fileSizes.labelFont)(p.text)+2, labelHeight-1, paper)
		d.text(margin+p.x, base(p), plain, fileSizes.labelFont, ink, p.text)
	}
	for _, a := range l.below {
		d.text(margin+a.x, bottom+11+float64(a.row)*fileSizes.below, plain, fileSizes.belowFont, soft, a.text)
	}
}

// marks draws what is marked, and the marks with their numbers, or as ticks.
func (d *drawing) marks(m *Memory, l *layout, y float64) {
	top := y + l.top
	for _, h := range l.hatchedParts(d.p, m, 2) {
		d.hatch(margin+h.from, top, h.to-h.from, barHeight, 5, 1.6, alarm)
	}
	for _, i := range l.ticks {
		d.line(margin+l.points[i], top-tickHigh, margin+l.points[i], top, 1.2, alarm)
	}
	for k, f := range l.flags {
		i, flagWide := l.numbered[k], fileSizes.flagWide
		x, tip := margin+l.points[i], top-l.under-fileSizes.flagHigh*float64(f.row)
		if tip < top {
			d.line(x, tip, x, top, 0.6, alarm)
		}
		d.triangle(x, tip)
		at := margin + f.x + flagWide
		if at < x+flagWide/2 { // at the right end: before the triangle
			at = x - flagWide/2 - d.width(heavy, fileSizes.numbers)(l.numbers[i])
		}
		d.text(at, tip-3, heavy, fileSizes.numbers, alarm, l.numbers[i])
	}
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
		entry(partColours[k%len(partColours)], PartLetter(k), fmt.Sprintf("%s, %s", part.Name, memory.FormatBytes(part.Image.Bytes())),
			false)
	}
	reserved, free, outside := d.p.legendOf()
	if free {
		entry(paper, "", "free, in a region", false)
	}
	if outside {
		entry(noRegion, "", "in no region", false)
	}
	if reserved {
		entry(paper, "", "reserved", true)
	}
	y += 6
	for n, m := range d.p.Marks {
		for i, text := range d.wrap(m.Text, inner-24, plain, 10) {
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
func (d *pen) wrap(text string, wide float64, f weight, size float64) []string {
	width := d.width(f, size)
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
func (d *pen) fill(x, y, w, h float64, c color.Color) {
	d.surface.fill(rectangle(x, y-h, w, h), c)
}

func rectangle(x, top, w, h float64) []dot {
	return []dot{{x, top}, {x + w, top}, {x + w, top + h}, {x, top + h}}
}

func (d *pen) box(x, top, w, h, thick float64, c color.Color) {
	d.surface.stroke(append(rectangle(x, top, w, h), dot{x, top}), thick, c)
}

// hatch draws slanting lines over a rectangle.
func (d *pen) hatch(x, top, w, h, step, thick float64, c color.Color) {
	for at := step / 2; at < w+h; at += step {
		d.line(x+math.Max(0, at-h), top+math.Min(h, at), x+math.Min(at, w), top+math.Max(0, at-w), thick, c)
	}
}

func (d *pen) line(x1, y1, x2, y2, thick float64, c color.Color) {
	d.surface.stroke([]dot{{x1, y1}, {x2, y2}}, thick, c)
}

// triangle points down at x, y.
func (d *pen) triangle(x, y float64) {
	d.surface.fill([]dot{{x, y}, {x - 5, y - 10}, {x + 5, y - 10}}, alarm)
}

func (d *pen) text(x, y float64, f weight, size float64, c color.Color, text string) {
	d.surface.text(x, y, f, size, c, text)
}

// fitted shortens a text that is too wide.
func (d *pen) fitted(text string, wide float64, f weight, size float64) string {
	width := d.width(f, size)
	if width(text) <= wide {
		return text
	}
	runes := []rune(text)
	// One character stays, however wide it is; the text may be very long.
	kept := 1 + sort.Search(len(runes)-1, func(n int) bool { return width(string(runes[:n+2])+"…") > wide })
	return string(runes[:kept]) + "…"
}
