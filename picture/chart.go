package picture

import (
	"fmt"
	"io"
	"math"
)

// Chart is small charts of one kind, each of how much of a whole is used, column by
// column.
type Chart struct {
	Columns []string
	Lines   []ChartLine
}

// ChartLine is one of them.
type ChartLine struct {
	Name   string
	Whole  float64 // 0 is the largest value
	Values []float64
}

// Inline writes the charts as SVG for a page: shapes have classes, the style of the
// page has the colours.
func (c *Chart) Inline(w io.Writer) error {
	const across, wide, high, gap, head = 3, 272.0, 96.0, 36.0, 22.0
	rows := (len(c.Lines) + across - 1) / across
	tall := float64(rows)*(high+head+gap+16) + 8
	p := &inline{w: w}
	pen, err := newPen()
	if err != nil {
		return err
	}
	p.pen = pen
	p.printf(
		"<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 %d %s\" role=\"img\" "+
			"aria-label=\"how full each region is, release by release; the table has the numbers\" font-size=\"12\">\n",
		pageWidth,
		number(tall),
	)
	for i, line := range c.Lines {
		x := margin + float64(i%across)*(wide+gap)
		top := float64(i/across)*(high+head+gap+16) + head
		whole := line.Whole
		for _, v := range line.Values {
			whole = math.Max(whole, v)
		}
		whole = math.Max(whole, 1)
		p.label(x, top-7, 13, "heavy", p.fitted(line.Name, wide-60, heavy, 13))
		last := line.Values[len(line.Values)-1]
		percent := fmt.Sprintf("%.1f %%", 100*last/whole)
		p.label(x+wide-p.width(plain, 12)(percent), top-7, 12, "small", percent)
		p.rect(x, top, wide, high, "frame", "")
		each := wide / float64(len(line.Values))
		for k, v := range line.Values {
			h := v / whole * high
			p.printf("<rect x=\"%s\" y=\"%s\" width=\"%s\" height=\"%s\" class=\"p0\"><title>%s</title></rect>\n",
				number(x+float64(k)*each+each*0.15), number(top+high-h), number(each*0.7), number(h),
				escaped(fmt.Sprintf("%s, %s: %.0f bytes", line.Name, c.Columns[k], v)))
		}
		for k, name := range c.Columns {
			if k > 0 && k < len(c.Columns)-1 {
				continue
			}
			text := p.fitted(name, wide/2-8, plain, 11)
			at := x
			if k > 0 {
				at = x + wide - p.width(plain, 11)(text)
			}
			p.label(at, top+high+14, 11, "small", text)
		}
	}
	p.printf("</svg>")
	return p.err
}
