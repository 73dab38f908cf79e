package picture

import (
	"cmp"
	"fmt"
	"io"
	"math"
	"slices"
)

// TimeLine is what happens at each moment of some works, one bar for each.
type TimeLine struct {
	Title string
	Lines []TimeBar
	// Kinds are what a stretch may be, in the order in which the legend tells of them: where there
	// is no room for all, the last is seen.
	Kinds []TimeKind
}

// TimeKind is a kind of stretch.
type TimeKind struct {
	Letter string
	Text   string
	Colour uint32 // 0xRRGGBB
	Hatch  bool
}

// TimeBar is one bar; its stretches follow one another.
type TimeBar struct {
	Title, Verdict string
	Bad            bool
	End            string // what stands at its right end
	Total          float64
	Stretches      []TimeStretch
	Notes          []string // below the bar; the n-th of them is marked n+1
	Marks          []float64
}

// TimeStretch is from a place of the bar to another.
type TimeStretch struct {
	From, To float64
	Kind     int
}

// SVG writes the time lines as SVG.
func (t *TimeLine) SVG(w io.Writer) error {
	p, err := newPen()
	if err != nil {
		return err
	}
	out := newSVG(w, pageWidth, t.lay(p, false, 0))
	p.surface = out
	t.lay(p, true, t.lay(p, false, 0))
	return out.end()
}

// PNG writes the time lines as PNG, two pixels a point.
func (t *TimeLine) PNG(w io.Writer) error {
	p, err := newPen()
	if err != nil {
		return err
	}
	high := t.lay(p, false, 0)
	raster := newRaster(p.fonts, pageWidth, high, 2)
	p.surface = raster
	t.lay(p, true, high)
	return raster.encode(w)
}

// lay goes through the picture from top to bottom and returns its height. It draws,
// unless it only measures.
func (t *TimeLine) lay(p *pen, drawing bool, high float64) float64 {
	y := float64(margin)
	if drawing {
		p.fill(0, high, pageWidth, high, paper)
	}
	for _, line := range p.wrap(t.Title, inner, heavy, 15) {
		if drawing {
			p.text(margin, y+12, heavy, 15, ink, line)
		}
		y += 20
	}
	y += 10
	for i := range t.Lines {
		y = t.bar(p, &t.Lines[i], y, drawing)
	}
	for _, k := range t.Kinds {
		if drawing {
			t.cell(p, margin, y, 22, 14, k)
			p.fill(margin+5, y+13, p.width(heavy, 10)(k.Letter)+4, 12, rgb(k.Colour))
			p.text(margin+7, y+11, heavy, 10, contrast(rgb(k.Colour)), k.Letter)
			p.text(margin+32, y+11, plain, 11, ink, k.Text)
		}
		y += 21
	}
	return y + margin/2
}

func (t *TimeLine) cell(p *pen, x, top, w, h float64, k TimeKind) {
	p.fill(x, top+h, w, h, rgb(k.Colour))
	if k.Hatch {
		p.hatch(x, top, w, h, 6, 1, paper)
	}
}

// place is where a moment stands on the bar.
func (b *TimeBar) place(v float64) float64 { return margin + v/math.Max(b.Total, 1e-9)*inner }

// stretches draws the bar itself: the longest first, so that short ones are seen, and of these
// the kinds in their order, so that the last is seen wherever it is.
func (t *TimeLine) stretches(p *pen, b *TimeBar, y, high float64) {
	const least = 2.5
	for _, s := range b.Stretches {
		x, w := b.place(s.From), b.place(s.To)-b.place(s.From)
		if w < least {
			continue
		}
		k := t.Kinds[s.Kind]
		t.cell(p, x, y, w, high, k)
		if w > 16 {
			letter := p.width(heavy, 12)(k.Letter)
			p.fill(x+w/2-letter/2-2, y+high/2+7, letter+4, 14, rgb(k.Colour))
			p.text(x+w/2-letter/2, y+high/2+4, heavy, 12, contrast(rgb(k.Colour)), k.Letter)
		}
	}
	byKind := slices.SortedStableFunc(slices.Values(b.Stretches), func(a, b TimeStretch) int { return cmp.Compare(a.Kind, b.Kind) })
	for _, s := range byKind {
		if b.place(s.To)-b.place(s.From) < least {
			t.cell(p, math.Min(b.place(s.From), margin+inner-least), y, least, high, t.Kinds[s.Kind])
		}
	}
	p.box(margin, y, inner, high, 1, ink)
}

func (t *TimeLine) bar(p *pen, b *TimeBar, y float64, drawing bool) float64 {
	const high = 40
	if drawing {
		p.text(margin, y+12, heavy, 12, ink, b.Title)
	}
	y += 18
	verdict := ink
	if b.Bad {
		verdict = alarm
	}
	for _, line := range p.wrap(b.Verdict, inner, plain, 11) {
		if drawing {
			p.text(margin, y+10, plain, 11, verdict, line)
		}
		y += 15
	}
	var numbers []string
	for i := range b.Marks {
		numbers = append(numbers, fmt.Sprint(i+1))
	}
	const markWide = 22
	var centres []float64
	for _, m := range b.Marks {
		centres = append(centres, m/math.Max(b.Total, 1e-9)*inner+markWide/2-5)
	}
	marks, rowsOfMarks := rows(numbers, centres, "", func(string) float64 { return markWide }, inner+markWide, 2, math.MaxInt)
	y += 8 + 14*float64(rowsOfMarks)
	if drawing {
		t.stretches(p, b, y, high)
		for i, m := range marks {
			x, tip := b.place(b.Marks[i]), y-1-14*float64(m.row)
			if m.row > 0 {
				p.line(x, tip, x, y, 0.6, alarm)
			}
			p.triangle(x, tip)
			p.text(x+6, tip-2, heavy, 10, alarm, m.text)
		}
		p.text(margin, y+high+12, plain, 10, soft, "0")
		p.text(margin+inner-p.width(plain, 10)(b.End), y+high+12, plain, 10, soft, b.End)
	}
	y += high + 22
	for i, n := range b.Notes {
		for j, line := range p.wrap(n, inner-20, plain, 11) {
			if drawing {
				if j == 0 && i < len(b.Marks) {
					p.text(margin, y+10, heavy, 11, alarm, fmt.Sprint(i+1))
				}
				p.text(margin+18, y+10, plain, 11, ink, line)
			}
			y += 15
		}
	}
	return y + 16
}
