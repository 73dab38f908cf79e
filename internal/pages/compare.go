package pages

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/internal/pages/page"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/survey"
)

// bounds of what a page of a comparison shows one by one; the rest is summed up.
const (
	mostListed = 500 // stretches in the table
	mostShown  = 100 // of which it shows the rows
	mostBeside = 6   // rows of each
	slices64   = 64  // equal slices of the image that are summed up
)

// comparison is a comparison that becomes a page.
type comparison struct{ *report.Compared }

// WriteComparison writes a comparison as a page.
func WriteComparison(compared *report.Compared, to io.Writer) error {
	c := comparison{compared}

	a, b := c.Expected.Name, c.Found.Name
	p := &page.Page{Heading: a + " and " + b, Sub: "expected and found, byte by byte", Bad: !c.Same(), Verdict: "equal"}
	if !c.Same() {
		p.Verdict = "different"
		if c.Differ > 0 {
			p.Verdict = fmt.Sprintf("%s %s", memory.FormatBytes(c.Differ), report.DifferWord(c.Differ))
		}
	}
	p.Title = p.Heading + ": " + p.Verdict
	fact := func(name, format string, args ...any) {
		p.Facts = append(p.Facts, page.Fact{Name: name, Text: fmt.Sprintf(format, args...)})
	}
	if c.Map != nil {
		fact("device", "%s (%s)", c.Map.Name, c.Map.File)
	}
	fact("equal", "%s", memory.FormatBytes(c.Equal))
	fact("differ", "%s", memory.FormatBytes(c.Differ))
	fact("expected only", "%s", memory.FormatBytes(c.OnlyFirst))
	fact("found only", "%s", memory.FormatBytes(c.OnlySecond))
	if x, y, ok := c.Starts(); ok {
		fact("starts", "%s expected, %s found", memory.FormatAddress(x), memory.FormatAddress(y))
	}
	for _, side := range []struct {
		name string
		part memory.Part
	}{{"expected", c.Expected}, {"found", c.Found}} {
		p.Facts = append(
			p.Facts,
			page.Fact{
				Name:   side.name,
				Text:   fmt.Sprintf("%s, contents SHA-256 %x", side.part.Name, side.part.Image.Digest()),
				Digest: true,
			},
		)
	}
	p.Sections = append(p.Sections, c.causesSection()...)
	p.Sections = append(p.Sections, c.stripSection())
	if !c.Same() {
		p.Sections = append(p.Sections, c.differencesSection(), c.totalsSection(), c.besideSection())
	}
	if c.Cost != nil {
		p.Sections = append(p.Sections, c.costSections()...)
	}
	search, data := originsSection(c.Found.Image, nil)
	search.Title = "Where is this byte of " + b + " from?"
	p.Sections, p.Data = append(p.Sections, search), data
	kept := p.Sections[:0]
	for _, s := range p.Sections {
		if s.Title != "" {
			kept = append(kept, s)
		}
	}
	p.Sections = kept
	return p.Write(to)
}

func (c comparison) causesSection() []page.Section {
	list := c.Statements()
	if len(list) == 0 || len(list) == 1 && list[0].Name == "" {
		return nil
	}
	s := page.Section{ID: "cause", Title: "Cause"}
	for _, one := range list {
		text := one.Says
		if one.Name != "" && one.Name != "cause" {
			text = one.Name + ": " + text
		}
		s.Intro = append(s.Intro, text)
	}
	return []page.Section{s}
}

// pageAt is the size of pages where an address lies.
func (c comparison) pageAt(address uint64) (size, from uint64) {
	const usual = 256
	if c.Map != nil {
		if mem := c.Map.MemoryAt(address); mem != nil {
			if mem.Page > 0 {
				return mem.Page, mem.Span.First
			}
			return usual, mem.Span.First
		}
	}
	return usual, 0
}

// stripSection draws the whole of both images with the pages that differ.
func (c comparison) stripSection() page.Section {
	s := page.Section{
		ID:    "strip",
		Title: "The whole image",
		Intro: []string{"Bytes that are the same in both, and by page those that are not."},
	}
	var odd [3][]memory.Span
	for _, d := range c.Differences {
		size, from := c.pageAt(d.First)
		first := from + (d.First-from)/size*size
		last := from + (d.Last-from)/size*size + size - 1
		if d.Last < from || last < d.Last {
			first, last = d.First, d.Last
		}
		odd[d.Presence] = append(odd[d.Presence], memory.Span{First: first, Last: last})
	}
	all, _ := memory.Merge([]*memory.Image{c.Expected.Image, c.Found.Image}, memory.First)
	differing := memory.Union(odd[survey.InBoth])
	missing := memory.Without(memory.Union(odd[survey.OnlyFirst]), differing)
	more := memory.Without(memory.Without(memory.Union(odd[survey.OnlySecond]), differing), missing)
	drawn := &picture.Picture{}
	for _, part := range []struct {
		name  string
		image *memory.Image
	}{
		{"the same in both", all.Drop(slices.Concat(differing, missing, more)...)},
		{"pages in which bytes differ", all.Cut(differing...)},
		{"pages of which " + c.Expected.Name + " alone has bytes", all.Cut(missing...)},
		{"pages of which " + c.Found.Name + " alone has bytes", all.Cut(more...)},
	} {
		drawn.Parts = append(drawn.Parts, memory.Part{Name: part.name, Image: part.image})
	}
	drawn.Memories = c.stripMemories(all)
	for i, d := range c.Differences[:min(len(c.Differences), mostShown)] {
		drawn.Marks = append(drawn.Marks, picture.Mark{Span: d.Span, Text: fmt.Sprint(i + 1)})
	}
	in := &picture.Inline{Picture: drawn, Anchor: "difference"}
	for i := range drawn.Memories {
		s.Drawings = append(s.Drawings, drawing(in, i))
	}
	for _, f := range partFacts(drawn) {
		if !strings.HasSuffix(f.Text, ", 0 bytes") {
			s.Facts = append(s.Facts, f)
		}
	}
	return s
}

// mostStrips is how many stretches are drawn by themselves, where there is no map.
const mostStrips = 12

// stripMemories are the memories that hold anything, or the stretches of both images.
func (c comparison) stripMemories(all *memory.Image) (list []picture.Memory) {
	var rest []memory.Span
	if c.Map != nil {
		for i := range c.Map.Memories {
			mem := &c.Map.Memories[i]
			rest = append(rest, mem.Span)
			if all.Count(mem.Span) > 0 {
				list = append(
					list,
					picture.Memory{
						Title:    fmt.Sprintf("%s (%s) %s", mem.Name, mem.Kind, c.Map.SpanText(mem.Span)),
						Span:     mem.Span,
						Segments: plainSegments(c, mem.Span),
					},
				)
			}
		}
	}
	var spans []memory.Span
	for _, r := range all.Drop(rest...).Runs() {
		const near = 64 << 10
		if k := len(spans) - 1; k >= 0 && r.First-spans[k].Last < near {
			spans[k].Last = r.Last()
			continue
		}
		spans = append(spans, r.Span())
	}
	for i, s := range spans {
		if i == mostStrips-1 && len(spans) > mostStrips {
			s.Last = spans[len(spans)-1].Last
		}
		list = append(list, picture.Memory{Title: s.String(), Span: s, Segments: []picture.Segment{{Span: s, Name: "image"}}})
		if s.Last == spans[len(spans)-1].Last {
			break
		}
	}
	return list
}

func plainSegments(c comparison, s memory.Span) []picture.Segment {
	return report.PictureSegments(c.Map, c.Map.MemoryAt(s.First), func(*device.Region) string { return "" })
}

var presences = [...]string{"differ", "expected only", "found only"}

func (c comparison) differencesSection() page.Section {
	s := page.Section{ID: "differences", Title: "Differences"}
	t := &page.Table{
		Caption: "Each stretch that is not the same",
		Header: []page.Column{
			{Text: "span"},
			{Text: "bytes", Numbers: true},
			{Text: "what"},
			{Text: "differ", Numbers: true},
			{Text: "expected"},
			{Text: "found"},
			{Text: "region"},
		},
	}
	for i, d := range c.Differences[:min(len(c.Differences), mostListed)] {
		cell := page.Cell{Text: d.Range(), Code: true}
		if i < mostShown {
			cell.Link = fmt.Sprintf("#difference-%d", i+1)
		}
		region := ""
		if c.Map != nil {
			region = report.RegionsOf(c.Map, d.Span)
		}
		t.Rows = append(
			t.Rows,
			[]page.Cell{
				cell,
				{Text: memory.FormatCount(d.Size())},
				{Text: presences[d.Presence]},
				{Text: memory.FormatCount(d.Bytes)},
				{Text: report.ExcerptOf(c.Expected.Image, d.Span), Code: true},
				{Text: report.ExcerptOf(c.Found.Image, d.Span), Code: true},
				{Text: region},
			},
		)
	}
	if more := len(c.Differences) - mostListed; more > 0 {
		bytes := uint64(0)
		for _, d := range c.Differences[mostListed:] {
			bytes += d.Bytes
		}
		t.More = fmt.Sprintf("And %s more stretches, with %s, which are summed up below.", memory.FormatCount(uint64(more)),
			memory.FormatBytes(bytes))
	}
	s.Table = t
	return s
}

// totalsSection sums all differences up: by region where there is a map, and by equal
// slices of the image.
func (c comparison) totalsSection() page.Section {
	s := page.Section{ID: "sums", Title: "Summed up"}
	if c.Map != nil {
		t := &page.Table{
			Caption: "By region",
			Header: []page.Column{
				{Text: "region"},
				{Text: "differ", Numbers: true},
				{Text: "expected only", Numbers: true},
				{Text: "found only", Numbers: true},
				{Text: "pages", Numbers: true},
			},
		}
		for _, total := range c.Totals {
			pages := ""
			if total.Pages > 0 {
				pages = fmt.Sprintf("%s of %s", memory.FormatCount(total.PagesTouched), memory.FormatCount(total.Pages))
			}
			t.Rows = append(
				t.Rows,
				[]page.Cell{
					{Text: total.Section},
					{Text: memory.FormatCount(total.Differ)},
					{Text: memory.FormatCount(total.OnlyFirst)},
					{Text: memory.FormatCount(total.OnlySecond)},
					{Text: pages},
				},
			)
		}
		s.Table = t
		return s
	}
	if len(c.Differences) <= mostListed {
		return page.Section{}
	}
	first, last := c.Differences[0].First, c.Differences[len(c.Differences)-1].Last
	wide := (last-first)/slices64 + 1
	var bytes, stretches [slices64]uint64
	for _, d := range c.Differences {
		k := (d.First - first) / wide
		bytes[k] += d.Bytes
		stretches[k]++
	}
	t := &page.Table{
		Caption: fmt.Sprintf("By slices of %s", memory.FormatSize(wide)),
		Header:  []page.Column{{Text: "from"}, {Text: "stretches", Numbers: true}, {Text: "bytes", Numbers: true}},
	}
	for k := range bytes {
		if stretches[k] > 0 {
			t.Rows = append(
				t.Rows,
				[]page.Cell{
					{Text: memory.FormatAddress(first + uint64(k)*wide), Code: true},
					{Text: memory.FormatCount(stretches[k])},
					{Text: memory.FormatCount(bytes[k])},
				},
			)
		}
	}
	s.Table = t
	return s
}

// besideSection shows rows of both side by side.
func (c comparison) besideSection() page.Section {
	s := page.Section{ID: "rows", Title: "Side by side"}
	for i, d := range c.Differences[:min(len(c.Differences), mostShown)] {
		z := page.Zoom{ID: fmt.Sprintf("difference-%d", i+1), Title: d.Span.String(), Text: presences[d.Presence]}
		begin := d.First / rowWide * rowWide
		var rows []page.Row
		for at, n := begin, 0; at <= d.Last && at >= begin; at, n = at+rowWide, n+1 {
			if n == mostBeside {
				z.Text += fmt.Sprintf("; the first %d rows", mostBeside)
				break
			}
			rows = append(rows, c.beside(at))
		}
		z.Open = rows
		s.Zooms = append(s.Zooms, z)
	}
	if more := len(c.Differences) - mostShown; more > 0 {
		s.Intro = []string{
			fmt.Sprintf("The first %d stretches; %s more are in the table and the sums.", mostShown, memory.FormatCount(uint64(more))),
		}
	}
	return s
}

// beside is a row of both images.
func (c comparison) beside(at uint64) page.Row {
	r, found := row(c.Expected.Image, at, nil, nil), row(c.Found.Image, at, nil, nil)
	for i := range r.Cells {
		// A hole may count as a byte.
		if x, y := c.counted(r.Cells[i].Text), c.counted(found.Cells[i].Text); x != y {
			r.Cells[i].Mark, found.Cells[i].Mark = "odd", "odd"
		}
	}
	r.Second, r.Origin2 = found.Cells, found.Origin
	return r
}

// counted is a byte of a row as the comparison counts it.
func (c comparison) counted(cell string) string {
	if cell == noByte && c.Hole != nil {
		return fmt.Sprintf("%02X", *c.Hole)
	}
	return cell
}

func (c comparison) costSections() []page.Section {
	region := c.RegionOf()
	s := page.Section{ID: "cost", Title: "What the update costs", Intro: []string{c.Cost.Text() + "."}}
	if len(c.Cost.Places) > 0 {
		t := &page.Table{
			Caption: "What is written, the most costly first",
			Header: []page.Column{
				{Text: "written"},
				{Text: "bytes change", Numbers: true},
				{Text: "sectors", Numbers: true},
				{Text: "takes", Numbers: true},
				{Text: "of all", Numbers: true},
				{Text: "region"},
				{Text: "because"},
			},
		}
		t.Rows = cells(c.Cost.Rows(region, mostListed))
		if more := len(c.Cost.Places) - mostListed; more > 0 {
			t.More = fmt.Sprintf("And %s more.", memory.FormatCount(uint64(more)))
		}
		s.Table = t
	}
	list := []page.Section{s}
	if c.Cost.Programs {
		moved := page.Section{ID: "symbols", Title: "Functions and variables", Intro: []string{c.Cost.Counts() + "."}}
		if len(c.Cost.Symbols) > 0 {
			moved.Table = &page.Table{
				Caption: "What became of each",
				Header:  []page.Column{{Text: "symbol"}, {Text: "fate"}, {Text: "by", Numbers: true}, {Text: "before"}, {Text: "after"}},
				Rows:    cells(c.Cost.SymbolRows(mostListed)),
			}
			if more := len(c.Cost.Symbols) - mostListed; more > 0 {
				moved.Table.More = fmt.Sprintf("And %s more.", memory.FormatCount(uint64(more)))
			}
		}
		list = append(list, moved)
	}
	return list
}

// cells makes the cells of rows of texts.
func cells(rows [][]string) (out [][]page.Cell) {
	for _, r := range rows {
		var list []page.Cell
		for _, text := range r {
			list = append(list, page.Cell{Text: text})
		}
		out = append(out, list)
	}
	return out
}
