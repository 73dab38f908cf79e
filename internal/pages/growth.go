package pages

import (
	"cmp"
	"fmt"
	"html/template"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/internal/pages/page"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/release/proof"
)

// Growth is how regions, parts and symbols have changed over several releases, by
// their manifests.
type Growth struct {
	Releases  []string // their names, in the order in which they were given
	files     []string
	kinds     [3]series
	images    series   // regions likewise, with what fills and other steps added
	uncounted []string // manifests that do not tell what parts use of a region
}

// series are sizes by name; 0 at a release is that it is not there.
type series struct {
	names []string
	sizes map[string][]uint64
	limit map[string]uint64 // the size of a region
}

var growthKinds = [3]string{"region", "part", "symbol"}

const (
	regionSeries = iota
	partSeries
	symbolSeries
)

func (s *series) add(name string, at int, size uint64) {
	if s.sizes == nil {
		s.sizes, s.limit = map[string][]uint64{}, map[string]uint64{}
	}
	if _, ok := s.sizes[name]; !ok {
		s.names = append(s.names, name)
	}
	list := s.sizes[name]
	for len(list) <= at {
		list = append(list, 0)
	}
	list[at] = size
	s.sizes[name] = list
}

// Add adds a release. Names of several products are told apart by their variants.
func (g *Growth) Add(file string, m *proof.Manifest) {
	at := len(g.Releases)
	version := ""
	if len(m.Products) > 0 {
		version = m.Products[0].Set["version"]
	}
	name := strings.TrimSuffix(filepath.Base(file), proof.Extension)
	if version != "" && !slices.Contains(g.Releases, version) {
		name = version
	}
	g.Releases, g.files = append(g.Releases, name), append(g.files, file)
	for i := range m.Products {
		p := &m.Products[i]
		prefix := ""
		if p.Variant != "" {
			prefix = p.Variant + ": "
		}
		for _, r := range p.Regions {
			g.images.add(prefix+r.Name, at, r.Used)
			if s, ok := r.Where(); ok {
				g.images.limit[prefix+r.Name] = s.Size()
			}
			if r.Parts == nil {
				if !slices.Contains(g.uncounted, file) {
					g.uncounted = append(g.uncounted, file)
				}
				continue
			}
			g.kinds[regionSeries].add(prefix+r.Name, at, *r.Parts)
		}
		for _, in := range p.Inputs {
			g.kinds[partSeries].add(prefix+in.Name, at, in.Bytes)
		}
		for name, size := range p.Origins.Sizes() {
			g.kinds[symbolSeries].add(prefix+name, at, size)
		}
	}
}

// finish gives each list as many sizes as there are releases, and sorts symbols: those
// that have grown most come first. Regions are counted alike in all releases: by what the
// parts use, if all manifests tell it.
func (g *Growth) finish() {
	if len(g.uncounted) > 0 {
		g.kinds[regionSeries] = g.images
	}
	g.kinds[regionSeries].limit = g.images.limit
	for k := range g.kinds {
		s := &g.kinds[k]
		for name, list := range s.sizes {
			for len(list) < len(g.Releases) {
				list = append(list, 0)
			}
			s.sizes[name] = list
		}
	}
	s := &g.kinds[symbolSeries]
	slices.SortFunc(s.names, func(a, b string) int {
		grew := func(name string) int64 {
			list := s.sizes[name]
			return int64(list[len(list)-1]) - int64(list[0])
		}
		return cmp.Or(cmp.Compare(grew(b), grew(a)), strings.Compare(a, b))
	})
}

// shown returns the names that are told one by one, and how many there are beside
// them: symbols whose size has not changed are not.
func (s *series) shown(kind, most int) (names []string, same, more int) {
	for _, name := range s.names {
		list := s.sizes[name]
		changed := slices.ContainsFunc(list, func(n uint64) bool { return n != list[0] })
		switch {
		case kind == symbolSeries && !changed:
			same++
		case len(names) == most:
			more++
		default:
			names = append(names, name)
		}
	}
	return names, same, more
}

func (s *series) row(name string) []string {
	list := s.sizes[name]
	row := []string{name}
	for _, n := range list {
		text := memory.FormatCount(n)
		if n == 0 {
			text = "-"
		}
		row = append(row, text)
	}
	row = append(row, report.Grown(list[len(list)-1], list[0]))
	if limit := s.limit[name]; limit > 0 {
		row = append(row, report.Percent(list[len(list)-1], limit))
	}
	return row
}

func (g *Growth) header(kind int) []string {
	header := append([]string{growthKinds[kind]}, g.Releases...)
	header = append(header, "since "+g.Releases[0])
	if kind == regionSeries {
		header = append(header, "filled")
	}
	return header
}

// counted says which bytes of regions are counted.
func (g *Growth) counted() string {
	if len(g.uncounted) == 0 {
		return "Bytes that came from the inputs; fills, checksums and patches in holes are not counted."
	}
	return "All bytes of the image, with fills: " + g.uncounted[0] + " does not say how many came from the inputs."
}

// Text prints the tables.
func (g *Growth) Text(p *render.Printer) {
	g.finish()
	for kind := range g.kinds {
		s := &g.kinds[kind]
		const most = 30
		names, same, more := s.shown(kind, most)
		if len(s.names) == 0 {
			continue
		}
		if kind > 0 {
			p.Printf("\n")
		}
		var rows [][]string
		for _, name := range names {
			row := s.row(name)
			for len(row) < len(g.header(kind)) {
				row = append(row, "")
			}
			rows = append(rows, row)
		}
		if len(rows) > 0 {
			right := []int{}
			for i := range len(g.header(kind)) - 1 {
				right = append(right, i+2)
			}
			p.Table(g.header(kind), rows, right...)
		}
		if kind == regionSeries {
			p.Line("%s", g.counted())
		}
		if same > 0 {
			p.Line("%s of the same size in all", memory.FormatNumber(same, "symbol"))
		}
		if more > 0 {
			p.Line("and %s more", memory.FormatCount(uint64(more)))
		}
	}
}

// Model makes the model for programs.
func (g *Growth) Model() any {
	g.finish()
	out := report.GrowthModel{Schema: report.SchemaName("growth"), Releases: []report.ReleaseName{}}
	for i := range g.Releases {
		out.Releases = append(out.Releases, report.ReleaseName{Name: g.Releases[i], File: g.files[i]})
	}
	for k, into := range []*[]report.GrowingModel{&out.Regions, &out.Parts, &out.Symbols} {
		*into = []report.GrowingModel{}
		for _, name := range g.kinds[k].names {
			*into = append(*into, report.GrowingModel{Name: name, Size: g.kinds[k].limit[name], Bytes: g.kinds[k].sizes[name]})
		}
	}
	return out
}

// Write writes the growth as a page, with a chart of the regions.
func (g *Growth) Write(to io.Writer) error {
	g.finish()
	p := &page.Page{
		Title:   "Growth",
		Heading: "Growth over " + memory.FormatNumber(len(g.Releases), "release"),
		Verdict: strings.Join([]string{g.Releases[0], g.Releases[len(g.Releases)-1]}, " to "),
		Sub:     strings.Join(g.files, ", "),
	}
	for kind := range g.kinds {
		s := &g.kinds[kind]
		if len(s.names) == 0 {
			continue
		}
		const most = 500
		names, same, more := s.shown(kind, most)
		title := strings.ToUpper(growthKinds[kind][:1]) + growthKinds[kind][1:] + "s"
		section := page.Section{ID: growthKinds[kind] + "s", Title: title}
		t := &page.Table{Caption: "Bytes in each release"}
		for i, h := range g.header(kind) {
			t.Header = append(t.Header, page.Column{Text: h, Numbers: i > 0})
		}
		for _, name := range names {
			row := s.row(name)
			for len(row) < len(t.Header) {
				row = append(row, "")
			}
			t.Rows = append(t.Rows, cells([][]string{row})...)
		}
		if same > 0 {
			section.Intro = append(section.Intro, memory.FormatNumber(same, "symbol")+" of the same size in all.")
		}
		if more > 0 {
			t.More = fmt.Sprintf("And %s more.", memory.FormatCount(uint64(more)))
		}
		if kind == regionSeries {
			section.Intro = append(section.Intro, g.counted())
			section.Drawings = []template.HTML{g.chart(s, names)}
		}
		if len(t.Rows) > 0 {
			section.Table = t
		}
		p.Sections = append(p.Sections, section)
	}
	return p.Write(to)
}

// chart draws how full each region is, release by release: a small one for each.
func (g *Growth) chart(s *series, names []string) template.HTML {
	c := &picture.Chart{Columns: g.Releases}
	const most = 24
	for _, name := range names[:min(len(names), most)] {
		line := picture.ChartLine{Name: name, Whole: float64(s.limit[name])}
		for _, n := range s.sizes[name] {
			line.Values = append(line.Values, float64(n))
		}
		c.Lines = append(c.Lines, line)
	}
	var b strings.Builder
	if err := c.Inline(&b); err != nil {
		return template.HTML("<p>" + template.HTMLEscapeString(err.Error()) + "</p>")
	}
	return template.HTML(b.String()) // all texts in it are escaped
}
