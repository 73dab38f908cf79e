// Package pages makes one file of a result that can be handed on: the page of a check, of
// a comparison, of a product of a release, of growth over releases, and the card for the
// bench. What a page says comes from the models of package report; package page lays it
// out.
package pages

import (
	"fmt"
	"html/template"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/internal/pages/page"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/survey"
)

// Check is what a page tells of an image: the check, and what is known beside it.
type Check struct {
	*report.Checked
	Product string // what it is an image of
	Sub     string
	Parts   []Part
	// Accepted are the acceptances, RULE or RULE:NAME, and where each was given.
	Accepted []Acceptance
	Steps    []release.StepResult
	StepsIn  string // the release file
	Sets     map[string]string
	Files    []File
	// Named names files that were read; nil leaves their names as they are.
	Named func(string) string
}

// Part is a part of the image.
type Part struct {
	Name, File string
	Format     *format.Format
	Image      *memory.Image
	Program    *format.Program // nil where it is none
	Version    string
}

// Acceptance is what lets a finding pass, and where that was said.
type Acceptance struct{ Text, Where string }

// File is a file with its digest.
type File struct {
	Role, Name, What string
	Size             uint64
	SHA256           string
}

// Write writes the page.
func (c *Check) Write(to io.Writer) error {
	r := c.Best
	p := &page.Page{
		Title:   c.Product + ": " + report.Verdict(r),
		Heading: c.Product,
		Sub:     c.Sub,
		Verdict: report.Verdict(r),
		Bad:     len(r.Counting()) > 0,
	}
	file := r.Map.File
	if c.Named != nil {
		file = filepath.Base(file) // from wherever the release is run
	}
	p.Facts = append(p.Facts, page.Fact{Name: "device", Text: fmt.Sprintf("%s (%s)", r.Map.Name, file)})
	if all, ok := r.Whole.Span(); ok {
		p.Facts = append(
			p.Facts,
			page.Fact{
				Name: "image",
				Text: fmt.Sprintf("%s in %s, %s", memory.FormatBytes(r.Whole.Bytes()),
					memory.FormatNumber(uint64(len(r.Whole.Runs())), "run"), all.Range()),
			},
			page.Fact{Name: "contents", Text: fmt.Sprintf("SHA-256 %x", r.Whole.Digest()), Digest: true},
		)
	}
	p.Facts = append(p.Facts, page.Fact{Name: "to program", Text: report.Work(check.WorkOf(r.Map, r.Whole))})
	for _, name := range sortedNames(c.Sets) {
		p.Facts = append(p.Facts, page.Fact{Name: name, Text: c.Sets[name]})
	}
	l := &checkLayout{Check: c, drawn: report.Picture(r), numbers: c.findingNumbers()}
	if c.Steps != nil {
		l.drawn.Parts = c.inputs()
	}
	for _, section := range checkSections {
		if s := section(l); s.Title != "" {
			p.Sections = append(p.Sections, s)
		}
	}
	p.Data = l.data
	return p.Write(to)
}

// checkLayout is a page of a check while it is laid out.
type checkLayout struct {
	*Check
	drawn   *picture.Picture
	numbers []int // of the findings
	data    any   // for the script
}

// checkSections are the sections of the page, from the top downwards; one without a title
// has nothing to say.
var checkSections = []func(*checkLayout) page.Section{
	(*checkLayout).mapSection,
	(*checkLayout).findingsSection,
	(*checkLayout).partsSection,
	(*checkLayout).regionsSection,
	(*checkLayout).zoomSection,
	(*checkLayout).configSection,
	(*checkLayout).checksumSection,
	(*checkLayout).stepsSection,
	(*checkLayout).originsSection,
	(*checkLayout).filesSection,
}

func (c *checkLayout) originsSection() (s page.Section) {
	s, c.data = originsSection(c.Best.Whole, c.Named)
	return s
}

// inputs are the parts as they went in, and what the steps made beside them.
func (c *Check) inputs() (parts []memory.Part) {
	var held []memory.Span
	for i := range c.Parts {
		if image := c.Parts[i].Image; image != nil && !image.Empty() {
			parts = append(parts, memory.Part{Name: c.Parts[i].Name, Image: image})
			for _, run := range image.Runs() {
				held = append(held, run.Span())
			}
		}
	}
	if rest := c.Best.Whole.Drop(memory.Union(held)...); !rest.Empty() {
		parts = append(parts, memory.Part{Name: "filled, stored", Image: rest})
	}
	return parts
}

func sortedNames(m map[string]string) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// numbers are the numbers of the findings that the picture marks, by mark.
func (c *Check) findingNumbers() (list []int) {
	for i := range c.Best.Findings {
		if f := &c.Best.Findings[i]; f.Severity != source.Note && f.Where != nil {
			list = append(list, i+1)
		}
	}
	return list
}

// drawing draws a memory of a picture, or says why not.
func drawing(p *picture.Inline, i int) template.HTML {
	var b strings.Builder
	if err := p.Write(&b, i); err != nil {
		return template.HTML("<p>" + template.HTMLEscapeString(err.Error()) + "</p>")
	}
	return template.HTML(b.String()) // all texts in it are escaped
}

func regionID(name string) string { return "region-" + name }

func (c *checkLayout) mapSection() page.Section {
	drawn, numbers := c.drawn, c.numbers
	s := page.Section{
		ID:    "map",
		Title: "Map",
		Intro: []string{
			"Memories are to scale; the caption lists small regions drawn wider. " +
				"Select a region to see it enlarged below. Numbered triangles are findings.",
		},
	}
	in := &picture.Inline{
		Picture: drawn,
		Link:    func(name string) string { return "#" + regionID(name) },
		Number:  func(mark int) int { return numbers[mark] },
	}
	for i := range drawn.Memories {
		s.Drawings = append(s.Drawings, drawing(in, i))
	}
	s.Facts = partFacts(drawn)
	return s
}

// partFacts are the letters of the parts.
func partFacts(p *picture.Picture) (facts []page.Fact) {
	for i, part := range p.Parts {
		facts = append(facts,
			page.Fact{Name: "input " + picture.PartLetter(i), Text: part.Name + ", " + memory.FormatBytes(part.Image.Bytes())})
	}
	return facts
}

const (
	mostFindings = 1000 // that a page tells of
	mostWithRows = 60   // of which it shows the bytes
)

func (c *checkLayout) findingsSection() page.Section {
	s := page.Section{ID: "findings", Title: "Findings"}
	r := c.Best
	if len(r.Findings) == 0 {
		s.Intro = []string{"Nothing was found."}
		return s
	}
	for i := range r.Findings[:min(len(r.Findings), mostFindings)] {
		f := &r.Findings[i]
		one := page.Finding{
			Number:   i + 1,
			Severity: f.Severity.String(),
			Rule:     f.Rule,
			Region:   f.Region,
			Place:    c.place(&f.Place),
			What:     f.What,
			Expected: f.Expected,
			Advice:   c.Advice(f),
		}
		if f.Where != nil {
			one.Where = f.Where.String()
			if i < mostWithRows {
				one.Rows = c.rowsAround(c.evidence(f), *f.Where)
			}
		}
		if f.Accepted {
			one.Accepted = c.acceptedBy(f)
		}
		s.Findings = append(s.Findings, one)
	}
	if more := len(r.Findings) - mostFindings; more > 0 {
		s.Intro = append(s.Intro,
			fmt.Sprintf("The first %s of %s, by severity and address; the JSON report has all of them.", memory.FormatCount(mostFindings),
				memory.FormatCount(uint64(len(r.Findings)))))
	}
	if len(r.Findings) > mostWithRows {
		s.Intro = append(s.Intro, fmt.Sprintf("Bytes are shown with the first %d.", mostWithRows))
	}
	return s
}

// place is a finding's place, with its file as the page names it.
func (c *Check) place(p *check.Place) string {
	if rest, ok := strings.CutPrefix(p.Text, p.File); ok && c.Named != nil && p.File != "" {
		return c.Named(p.File) + rest
	}
	return p.Text
}

func (c *Check) acceptedBy(f *check.Finding) string {
	for _, a := range c.Accepted {
		if rule, name, named := strings.Cut(a.Text, ":"); rule == f.Rule && (!named || strings.EqualFold(name, f.Name)) {
			return a.Where
		}
	}
	return "name"
}

// rowWide is how many bytes a row has.
const rowWide = 16

// noByte stands where an image has none.
const noByte = "--"

// row returns the row of bytes that begins at an address.
func row(m *memory.Image, first uint64, marked *memory.Span, named func(string) string) page.Row {
	out := page.Row{Address: memory.FormatAddress(first)}
	for i := range uint64(rowWide) {
		at := first + i
		if at < first {
			break
		}
		var b [1]byte
		cell := page.Byte{Text: noByte, Mark: "hole"}
		if m.ReadAt(b[:], at) {
			cell = page.Byte{Text: fmt.Sprintf("%02X", b[0])}
			char := "·"
			if b[0] >= ' ' && b[0] <= '~' {
				char = string(rune(b[0]))
			}
			out.Text += char
			if out.Origin == "" {
				o, _ := m.Origin(at)
				if named != nil && o.Input != nil && o.Input.Counting != source.Operation {
					in := *o.Input
					in.Name = named(in.Name)
					o.Input = &in
				}
				out.Origin = o.String()
			}
		} else {
			out.Text += " "
		}
		if marked != nil && marked.Contains(at) && cell.Mark == "" {
			cell.Mark = "odd"
		}
		out.Cells = append(out.Cells, cell)
	}
	return out
}

// rowsAround returns the rows at a span's first bytes, with one before and one behind.
func (c *Check) rowsAround(m *memory.Image, s memory.Span) (list []page.Row) {
	begin := s.First / rowWide * rowWide
	from := begin
	if begin >= rowWide {
		from -= rowWide
	}
	const most = 4
	for i := range uint64(most) {
		at := from + i*rowWide
		if at < from || at > s.Last && i > 1 && at > begin+rowWide {
			break
		}
		list = append(list, row(m, at, &s, c.Named))
	}
	return list
}

// evidence is the image whose bytes are shown with a finding: that of the input that it names,
// where this has bytes there, since where inputs clash the whole has another's.
func (c *Check) evidence(f *check.Finding) *memory.Image {
	for i := range c.Best.Parts {
		if p := &c.Best.Parts[i]; p.Name == f.Input && p.Image != nil && p.Image.Count(*f.Where) > 0 {
			return p.Image
		}
	}
	return c.Best.Whole
}

// borderRows are the rows before and behind a border.
func (c *Check) borderRows(at uint64) (list []page.Row) {
	m := c.Best.Whole
	begin := at / rowWide * rowWide
	if begin >= rowWide && at == begin {
		list = append(list, row(m, begin-rowWide, nil, c.Named))
	}
	first := row(m, begin, nil, c.Named)
	first.Border = at == begin
	list = append(list, first)
	if begin+rowWide > begin {
		list = append(list, row(m, begin+rowWide, nil, c.Named))
	}
	return list
}

func (c *checkLayout) partsSection() page.Section {
	s := page.Section{ID: "parts", Title: "Inputs"}
	t := &page.Table{
		Caption: "The inputs of the image",
		Header: []page.Column{
			{Text: "part"},
			{Text: "file"},
			{Text: "format"},
			{Text: "bytes", Numbers: true},
			{Text: "addresses"},
			{Text: "version"},
			{Text: "build id"},
			{Text: "contents, SHA-256"},
		},
	}
	change := c.Before != nil
	if change {
		t.Header = slices.Insert(t.Header, 4, page.Column{Text: "since " + c.Before.Name, Numbers: true})
	}
	for i := range c.Parts {
		part := &c.Parts[i]
		cells := []page.Cell{{Text: part.Name}, {Text: part.File}, {}, {}, {}, {}, {}, {}}
		if part.Format != nil {
			cells[2].Text = part.Format.Name
		}
		if part.Image == nil {
			cells[3] = page.Cell{Text: "could not be read", Mark: "bad"}
		} else {
			cells[3].Text = memory.FormatCount(part.Image.Bytes())
			if all, ok := part.Image.Span(); ok {
				cells[4] = page.Cell{Text: all.Range(), Code: true}
			}
			version := part.Version
			if version == "" {
				const most = 2
				var texts []string
				for _, v := range survey.Versions(part.Image, most) {
					texts = append(texts, v.Text)
				}
				version = strings.Join(texts, "; ")
			}
			cells[5].Text = version
			if part.Program != nil && part.Program.BuildID != nil {
				cells[6] = page.Cell{Text: fmt.Sprintf("%x", part.Program.BuildID), Code: true}
			}
			cells[7] = page.Cell{Text: fmt.Sprintf("%x", part.Image.Digest()), Code: true}
		}
		if change {
			cell := page.Cell{Text: "new"}
			if in := c.Before.Part(c.Best.Map, part.Name, part.File, part.Image); in != nil {
				cell.Text = report.Grown(part.Image.Bytes(), in.Bytes)
				if in.Bytes < part.Image.Bytes() {
					cell.Mark = "doubt"
				}
			}
			cells = slices.Insert(cells, 4, cell)
		}
		t.Rows = append(t.Rows, cells)
	}
	if len(t.Rows) > 0 {
		t.DropEmpty()
		s.Table = t
	}
	return s
}

func (c *checkLayout) regionsSection() page.Section {
	s := page.Section{ID: "regions", Title: "Regions"}
	t := &page.Table{
		Caption: "Used and free bytes per region",
		Header: []page.Column{
			{Text: "region"},
			{Text: "role"},
			{Text: "addresses"},
			{Text: "size", Numbers: true},
			{Text: "used", Numbers: true},
			{Text: "free", Numbers: true},
			{Text: "filled"},
		},
	}
	change := c.Before != nil
	if change {
		t.Header = append(t.Header, page.Column{Text: "since " + c.Before.Name, Numbers: true})
		s.Intro = []string{fmt.Sprintf("Compared with %s, %s.", c.Before.Name, c.Before.Title)}
	}
	for _, u := range c.Best.Uses() {
		if u.Region == nil {
			t.Rows = append(t.Rows,
				c.padded([]page.Cell{{Text: "in no region", Mark: "doubt"}, {}, {}, {}, {Text: memory.FormatCount(u.Used)}, {}, {}}, nil))
			continue
		}
		size := u.Region.Span.Size()
		used := u.Used + u.Over
		share := 100 * float64(used) / float64(max(size, 1))
		free := page.Cell{Text: report.Signed(u.Free())}
		if u.Free() < 0 {
			free.Mark = "bad"
		}
		cells := []page.Cell{
			{Text: strings.Repeat("  ", u.Depth) + u.Region.Name, Link: "#" + regionID(u.Region.Name)},
			{Text: string(u.Region.Role)},
			{Text: u.Region.Span.Range(), Code: true},
			{Text: memory.FormatCount(size)},
			{Text: memory.FormatCount(used)},
			free,
			{Text: fmt.Sprintf("%.1f %%", share), Bar: &page.Bar{Percent: min(share, 100), Over: share > 100}},
		}
		t.Rows = append(t.Rows, c.padded(cells, &u))
	}
	s.Table = t
	return s
}

// padded adds the change since an earlier release, where there is one.
func (c *Check) padded(cells []page.Cell, u *check.Use) []page.Cell {
	if c.Before == nil {
		return cells
	}
	cell := page.Cell{}
	if u != nil {
		cell.Text = c.Before.Change(u)
		if before, ok := c.Before.Region(u.Region.Name); ok && u.Used+u.Over > before {
			cell.Mark = "doubt"
		}
	}
	return append(cells, cell)
}

// zoomSection shows each region by itself.
func (c *checkLayout) zoomSection() page.Section {
	drawn, numbers := c.drawn, c.numbers
	s := page.Section{ID: "near", Title: "Region by region"}
	r := c.Best
	uses := map[string]check.Use{}
	for _, u := range r.Uses() {
		if u.Region != nil {
			uses[u.Region.Name] = u
		}
	}
	for region := range r.Map.All() {
		u := uses[region.Name]
		text := fmt.Sprintf("%s, role %s: %s used, %s free", region.Span, region.Role, memory.FormatCount(u.Used+u.Over),
			report.Signed(u.Free()))
		if region.Inside != "" {
			text += ", a piece of " + region.Inside
		}
		zoom := page.Zoom{ID: regionID(region.Name), Title: region.Name, Text: text}
		m := picture.Memory{Title: region.Name + ", alone", Span: region.Span}
		next := region.Span.First
		for i := range region.Inner {
			inner := &region.Inner[i]
			if inner.Span.First > next {
				m.Segments = append(m.Segments, picture.Segment{Span: memory.Span{First: next, Last: inner.Span.First - 1}})
			}
			m.Segments = append(m.Segments, picture.Segment{Span: inner.Span, Name: inner.Name, Reserved: inner.Role == device.Reserved})
			next = inner.Span.Last + 1
		}
		switch {
		case len(m.Segments) == 0:
			m.Segments = []picture.Segment{{Span: region.Span, Name: region.Name, Reserved: region.Role == device.Reserved}}
		case next-1 != region.Span.Last:
			m.Segments = append(m.Segments, picture.Segment{Span: memory.Span{First: next, Last: region.Span.Last}})
		}
		marked := slices.ContainsFunc(drawn.Marks, func(mark picture.Mark) bool { _, met := mark.Meet(region.Span); return met })
		if len(region.Inner) == 0 && !marked && r.Whole.Count(region.Span) == 0 {
			s.Zooms = append(s.Zooms, zoom) // there is nothing to see
			continue
		}
		alone := &picture.Picture{Memories: []picture.Memory{m}, Parts: drawn.Parts, Marks: drawn.Marks}
		link := func(name string) string {
			if name == region.Name {
				return ""
			}
			return "#" + regionID(name)
		}
		zoom.Drawing = drawing(&picture.Inline{Picture: alone, Link: link, Number: func(mark int) int { return numbers[mark] }}, 0)
		if r.Whole.Count(region.Span) > 0 {
			zoom.Rows = append(zoom.Rows,
				page.Rows{Title: "Where it begins, " + memory.FormatAddress(region.Span.First), Rows: c.borderRows(region.Span.First)})
			if behind := region.Span.Last + 1; behind != 0 {
				zoom.Rows = append(zoom.Rows,
					page.Rows{Title: "Where it ends, " + memory.FormatAddress(region.Span.Last), Rows: c.borderRows(behind)})
			}
		}
		s.Zooms = append(s.Zooms, zoom)
	}
	if len(s.Zooms) == 0 {
		s.Title = ""
	}
	return s
}

func (c *checkLayout) configSection() page.Section {
	s := page.Section{}
	m := c.Best.Map
	if len(m.Config) == 0 {
		return s
	}
	s = page.Section{ID: "configuration", Title: "Configuration words"}
	given := map[string]device.Given{}
	t := &page.Table{
		Caption: "What each field means",
		Header:  []page.Column{{Text: "word"}, {Text: "value"}, {Text: "field"}, {Text: "bits"}, {Text: "means"}, {Text: "hazard"}},
	}
	values := map[string]uint64{}
	for i := range m.Config {
		w := &m.Config[i]
		given[w.Name] = w.GivenIn(c.Best.Whole)
		values[w.Name] = given[w.Name].Value
	}
	judged := m.Judge(given)
	for i := range m.Config {
		w := &m.Config[i]
		g := given[w.Name]
		from := "as delivered"
		if g.Known != 0 {
			from = "of the image"
		}
		for j := range w.Fields {
			f := &w.Fields[j]
			meaning, hazard := fmt.Sprint(f.Of(g.Value)), ""
			if v := f.Value(f.Of(g.Value)); v != nil {
				meaning = v.Meaning
			}
			for _, v := range judged {
				if v.Field == f && (v.Kind == device.Hazard || v.Kind == device.Unfit) {
					hazard = v.What
				}
			}
			cells := []page.Cell{
				{Text: w.Name},
				{Text: w.Format(g.Value) + ", " + from},
				{Text: f.Name},
				{Text: f.BitsText()},
				{Text: meaning},
				{Text: hazard},
			}
			if hazard != "" {
				cells[5].Mark = "bad"
			}
			if j > 0 {
				cells[1].Text = ""
			}
			t.Rows = append(t.Rows, cells)
		}
	}
	s.Table = t
	if b := m.Board; b != nil {
		s.Intro = append(s.Intro, fmt.Sprintf("Judged for board %s: %s.", b.Name, strings.Join(b.Facts(), ", ")))
		for _, w := range m.WaysIn(values) {
			s.Intro = append(s.Intro, "Way in afterwards, "+w.String()+".")
		}
	}
	for _, v := range judged {
		if v.Kind == device.LastPort {
			s.Intro = append(s.Intro, v.What+".")
		}
		if v.Kind == device.Hazard {
			name := ""
			if v.Field != nil {
				name = v.Field.Name
			}
			for _, a := range c.Accepted {
				if rule, one, named := strings.Cut(a.Text, ":"); rule == "config-hazard" && (!named || strings.EqualFold(one, name)) {
					s.Intro = append(s.Intro, fmt.Sprintf("The hazard of %s was accepted by %s: %s.", name, a.Where, v.What))
				}
			}
		}
	}
	return s
}

func (c *checkLayout) checksumSection() page.Section {
	m, image := c.Best.Map, c.Best.Whole
	if len(m.Checksums) == 0 {
		return page.Section{}
	}
	s := page.Section{ID: "checksums", Title: "Checksums"}
	t := &page.Table{
		Caption: "The checksums that the map declares",
		Header: []page.Column{
			{Text: "checksum"},
			{Text: "kind"},
			{Text: "over"},
			{Text: "stored at"},
			{Text: "order"},
			{Text: "guards"},
			{Text: "stored"},
			{Text: "computed"},
		},
	}
	for i := range m.Checksums {
		d := &m.Checksums[i]
		cells := []page.Cell{{Text: d.Name}, {Text: d.Kind.Name}, {}, {}, {Text: d.Order.String()}, {Text: d.Guards}, {}, {}}
		spec, err := d.Spec(m, image)
		if err != nil {
			cells[6] = page.Cell{Text: err.Error(), Mark: "doubt"}
			t.Rows = append(t.Rows, cells)
			continue
		}
		cells[2], cells[3] = page.Cell{
			Text: memory.FormatSpans(spec.Feed.Parts()),
			Code: true,
		}, page.Cell{
			Text: spec.Place.Range(),
			Code: true,
		}
		stored := make([]byte, spec.Place.Size())
		if !image.ReadAt(stored, spec.Place.First) {
			cells[6] = page.Cell{Text: "missing", Mark: "doubt"}
		} else {
			cells[6] = page.Cell{Text: fmt.Sprintf("% X", stored), Code: true}
		}
		if value, bytes, err := spec.Compute(image, 1); err != nil {
			cells[7] = page.Cell{Text: err.Error(), Mark: "doubt"}
		} else {
			cells[7] = page.Cell{Text: value.String(), Code: true, Mark: "good"}
			if string(bytes) != string(stored) {
				cells[7].Mark = "bad"
			}
		}
		t.Rows = append(t.Rows, cells)
	}
	s.Table = t
	return s
}

func (c *checkLayout) stepsSection() page.Section {
	if len(c.Steps) == 0 {
		return page.Section{}
	}
	s := page.Section{ID: "steps", Title: "Steps"}
	t := &page.Table{Caption: "Steps, in order", Header: []page.Column{{Text: "step"}, {Text: "line"}, {Text: "did"}}}
	for _, d := range c.Steps {
		t.Rows = append(
			t.Rows,
			[]page.Cell{
				{Text: d.Do},
				{Text: fmt.Sprintf("%s:%d", c.StepsIn, d.Line)},
				{Text: strings.Join(append(slices.Clone(d.Changes), d.Notes...), "; ")},
			},
		)
	}
	s.Table = t
	return s
}

// mostPieces is how many pieces of origins a page carries.
const mostPieces = 100_000

// originsSection is the search of origins, and what it is made in.
func originsSection(m *memory.Image, named func(string) string) (page.Section, any) {
	s := page.Section{ID: "origins", Title: "Where is this byte from?", Search: true}
	if named == nil {
		named = func(name string) string { return name }
	}
	proof := proof.OriginsOf(m, named)
	n := 0
	for _, t := range proof.Tables {
		n += len(t.Ranges)
	}
	if n > mostPieces {
		s.Search = false
		s.Intro = []string{
			fmt.Sprintf("The bytes come from %s places, more than a page carries; the rows of bytes name those that they show.",
				memory.FormatCount(uint64(n))),
		}
		return s, nil
	}
	return s, proof
}

func (c *checkLayout) filesSection() page.Section {
	if len(c.Files) == 0 {
		return page.Section{}
	}
	s := page.Section{ID: "files", Title: "Files"}
	t := &page.Table{
		Caption: "What was read and what was written",
		Header:  []page.Column{{Text: "file"}, {Text: "role"}, {Text: "what it is"}, {Text: "bytes", Numbers: true}, {Text: "SHA-256"}},
	}
	for _, f := range c.Files {
		size := ""
		if f.Size > 0 {
			size = memory.FormatCount(f.Size)
		}
		t.Rows = append(t.Rows, []page.Cell{{Text: f.Name}, {Text: f.Role}, {Text: f.What}, {Text: size}, {Text: f.SHA256, Code: true}})
	}
	s.Table = t
	return s
}

// WriteFailure writes what is printed in the place of a result as a page.
func WriteFailure(f report.Failure, to io.Writer) error {
	p := &page.Page{Title: "failed", Heading: "Failed", Verdict: "failed", Bad: true, Sub: "There is nothing to show."}
	s := page.Section{ID: "findings", Title: "Why"}
	for i, one := range f.Problems {
		place := one.File
		if one.Line > 0 {
			place = fmt.Sprintf("%s:%d:%d", one.File, one.Line, one.Column)
		}
		s.Findings = append(
			s.Findings,
			page.Finding{
				Number:   i + 1,
				Severity: one.Severity,
				Rule:     "failed",
				Place:    place,
				What:     one.What,
				Expected: one.Expected,
				Advice:   one.Advice,
			},
		)
	}
	p.Sections = []page.Section{s}
	return p.Write(to)
}
