package picture

import "math"

// sizes are the sizes of what is drawn of a memory: those of a file, or of a page.
type sizes struct {
	wide                        float64 // of the memory itself
	head                        float64 // of the title's line
	label, labelFont, labelGap  float64 // of a row of names
	lead                        float64 // between the names and what stands below them
	bar                         float64 // of the memory itself
	below, belowFont, belowGap  float64 // of a row of addresses
	foot                        float64
	flagWide, flagHigh, numbers float64 // of a triangle, of a row of them, and of the font behind it
	flagRoom, flagGap           float64 // beyond the memory's end, and before a triangle's tip
	// name is what a region is called.
	name func(Segment) string
}

// layout is where all that is drawn of a memory stands: across from its left edge, down from
// its top.
type layout struct {
	scale
	labels, below         []placed
	unnamed               int // regions without a label
	numbers               []string
	points                []float64 // of the marks
	flags                 []placed
	numbered, ticks       []int   // marks with their numbers, and without
	under, marks          float64 // how high ticks stand, and all marks
	top, bottom, tall     float64 // of the memory, and of all
	labelHigh, labelStart float64
}

// lay lays a memory out, with marks that point to places in it.
func (d *pen) lay(m *Memory, z sizes, marks func(*scale) (numbers []string, points []float64)) layout {
	l := layout{scale: newScale(m, z.wide, 26, 8), labelHigh: z.label}
	var labelRows, belowRows, flagRows int
	l.labels, labelRows, l.unnamed = l.scale.labels(z.name, d.width(plain, z.labelFont), z.wide, z.labelGap, mostLabelRows)
	l.below, belowRows = l.firsts(m.Span.Last, d.width(plain, z.belowFont), z.wide, z.belowGap, mostLabelRows/2)
	l.numbers, l.points = marks(&l.scale)
	wide := func(i int) float64 { return z.flagWide + d.width(heavy, z.numbers)(l.numbers[i]) }
	l.flags, flagRows, l.numbered, l.ticks = flagged(l.points, wide, z.wide+z.flagRoom, z.flagGap)
	l.marks = z.flagHigh * float64(flagRows)
	if len(l.ticks) > 0 {
		l.under = tickHigh + 1
		l.marks += l.under
	}
	l.top = z.head + float64(labelRows)*z.label + z.lead + l.marks
	l.bottom = l.top + z.bar
	l.tall = l.bottom + float64(belowRows)*z.below + z.foot
	l.labelStart = l.top - l.marks - z.lead
	return l
}

// base is where the text of a label stands.
func (l *layout) base(p placed, off float64) float64 {
	return l.labelStart - off - float64(p.row)*l.labelHigh
}

// hatchedParts returns where marks hatch the memory, at least so wide.
func (l *layout) hatchedParts(p *Picture, m *Memory, least float64) (list []stretch) {
	for _, mark := range p.Marks {
		if both, ok := mark.Meet(m.Span); mark.Hatched && ok {
			from, to := l.at(both.First), l.behind(both.Last)
			list = append(list, stretch{from, from + math.Max(to-from, least)})
		}
	}
	return list
}
