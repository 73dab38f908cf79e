package report

import (
	"bytes"
	"fmt"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/diagnosis"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/survey"
)

// Compared is the comparison of two images.
type Compared struct {
	*survey.Comparison
	Expected, Found memory.Part
	Map             *device.Map          // nil without one
	Hole            *byte                // what a hole counts as; nil is nothing
	Diagnosis       *diagnosis.Diagnosis // what happened, so that they differ
	Totals          []survey.Total       // by region; nil without a map
	Sums            []SumState           // of the checksums that the map declares, where they tell more
	Release         string               // which release the second is, and no damaged first; "" is not known
	Cost            *Costs               // nil where it was not asked for
	Wording         source.Wording
}

// Compare compares two images. hole is what a hole counts as; nil is nothing. Others are what
// the second may be too, or may have been programmed over.
func Compare(expected, found memory.Part, m *device.Map, hole *byte, where []memory.Span, others ...memory.Part) *Compared {
	c := &Compared{Expected: expected, Found: found, Map: m, Hole: hole}
	c.Comparison = survey.Compare(expected.Image, found.Image, hole, where...)
	erased := byte(0xFF)
	if len(c.Differences) > 0 {
		erased = m.ErasedAt(c.Differences[0].First)
	}
	if hole != nil {
		erased = *hole
	}
	o := diagnosis.Options{Erased: erased, In: where, Holes: hole != nil}
	for _, other := range others {
		o.Others = append(o.Others, diagnosis.Other{Name: other.Name, Image: other.Image})
	}
	if m != nil {
		o.Places = places(m)
	}
	c.Diagnosis = diagnosis.Of(expected.Image, found.Image, o)
	if m != nil {
		c.Sums = sumStates(m, expected, found)
		c.Totals = survey.Totals(expected.Image, found.Image, hole, sections(m, where))
	}
	return c
}

// places are where the devices of a map differ from one another: reserved regions and data.
func places(m *device.Map) (list []diagnosis.Place) {
	for i := range m.Regions {
		if r := &m.Regions[i]; r.Role == device.Reserved || r.Role == device.Data {
			list = append(list, diagnosis.Place{Name: fmt.Sprintf("%s (%s)", r.Name, r.Role), Span: r.Span})
		}
	}
	return list
}

// SumState is what a declared checksum tells of an image that was found.
type SumState struct {
	Name string
	Says string
	Good bool
}

// sumStates says of declared checksums whether what was found is as something built it, or was
// changed afterwards. Of those that are the same in both nothing is said.
func sumStates(m *device.Map, expected, found memory.Part) (list []SumState) {
	was := map[string]check.Sum{}
	for _, s := range check.Sums(m, expected.Image) {
		was[s.Name] = s
	}
	for _, s := range check.Sums(m, found.Image) {
		before, ok := was[s.Name]
		if !ok || bytes.Equal(before.Stored, s.Stored) && bytes.Equal(before.Computed, s.Computed) {
			continue
		}
		state := SumState{Name: s.Name}
		switch {
		case bytes.Equal(s.Stored, s.Computed):
			state.Good = true
			built := "they were built so, and not damaged"
			if len(s.Stored) < 4 { // short ones are right by chance, too
				built = "they were more likely built so than damaged"
			}
			state.Says = fmt.Sprintf("that of %s is right for its bytes: %s", found.Name, built)
		case bytes.Equal(s.Stored, before.Stored):
			state.Says = fmt.Sprintf("%s still has that of %s: what it covers was changed afterwards", found.Name, expected.Name)
		default:
			state.Says = fmt.Sprintf("that of %s is neither right for its bytes nor that of %s", found.Name, expected.Name)
		}
		list = append(list, state)
	}
	return list
}

// sections returns the regions of a map, and what lies in none.
func sections(m *device.Map, where []memory.Span) []survey.Section {
	var list []survey.Section
	var all []memory.Span
	for _, r := range m.Regions {
		all = append(all, r.Span)
		here := memory.Intersect([]memory.Span{r.Span}, where)
		if len(here) == 0 {
			continue
		}
		s := survey.Section{Name: r.Name, Spans: here}
		if mem := m.MemoryAt(r.Span.First); mem != nil {
			s.Page, s.From = mem.Page, mem.Span.First
		}
		list = append(list, s)
	}
	if outside := memory.Without(where, all); len(outside) > 0 {
		list = append(list, survey.Section{Name: "in no region", Spans: outside})
	}
	return list
}

func DifferWord(n uint64) string {
	if n == 1 {
		return "differs"
	}
	return "differ"
}

// Text prints the comparison.
func (c *Compared) Text(p *render.Printer) {
	a, b := c.Expected.Name, c.Found.Name
	if c.Same() {
		p.Line("%s: %s and %s, %s", p.Good("equal"), a, b, memory.FormatBytes(c.Equal))
	} else {
		var counts []string
		count := func(n uint64, what string) {
			if n > 0 {
				counts = append(counts, memory.FormatCount(n)+what)
			}
		}
		if c.Differ > 0 {
			counts = append(counts, memory.FormatBytes(c.Differ)+" "+DifferWord(c.Differ))
		}
		count(c.OnlyFirst, " only in "+a)
		count(c.OnlySecond, " only in "+b)
		count(c.Equal, " equal")
		p.Line("%s: %s and %s: %s", p.Bad("different"), a, b, strings.Join(counts, ", "))
	}
	for _, f := range c.Statements() {
		if f.Name == "" {
			p.Line("  %s", f.Says)
		} else {
			p.Line("  %s %s", p.Doubt(f.Name+":"), f.Says)
		}
	}
	if x, y, ok := c.Starts(); ok {
		p.Line("  start addresses differ: %s in %s, %s in %s", memory.FormatAddress(x), a, memory.FormatAddress(y), b)
	}
	if !c.Same() {
		c.tables(p)
	}
	if c.Cost != nil {
		c.Cost.tables(p, c.RegionOf())
	}
}

// Statement is something that is said of the difference, by its name: release, cause, place, or
// that of a checksum; "" is of what is not explained.
type Statement struct{ Name, Says string }

// Statements are all that is said of the difference as a whole.
func (c *Compared) Statements() (list []Statement) {
	if c.Release != "" {
		list = append(list, Statement{"release", c.Release})
	}
	for i := range c.Diagnosis.Causes {
		cause := &c.Diagnosis.Causes[i]
		name := "cause"
		if cause.Kind == "place" {
			name = "place"
		}
		list = append(list, Statement{name, c.CauseText(cause)})
	}
	if c.Diagnosis.Rest != "" && (c.Release == "" || len(c.Diagnosis.Causes) > 0) {
		list = append(list, Statement{"", c.Unexplained()})
	}
	for _, s := range c.Sums {
		list = append(list, Statement{s.Name, s.Says})
	}
	return list
}

// RegionOf returns what names the regions of a span.
func (c *Compared) RegionOf() func(memory.Span) string {
	return func(s memory.Span) string {
		if c.Map == nil {
			return ""
		}
		return RegionsOf(c.Map, s)
	}
}

// Starts returns both start addresses, where they differ.
func (c *Compared) Starts() (expected, found uint64, differ bool) {
	x, y := c.Expected.Image.Start(), c.Found.Image.Start()
	return x.Address(), y.Address(), x != y && x.Kind != memory.NoStart && y.Kind != memory.NoStart
}

func (c *Compared) CauseText(cause *diagnosis.Cause) string {
	text := cause.Says()
	if counts := c.Diagnosis.Counts(cause); counts != "" {
		text += "; " + counts
	}
	return source.Message(text, "", cause.Advice.In(c.Wording))
}

// Unexplained says which differences no cause explains.
func (c *Compared) Unexplained() string {
	if len(c.Diagnosis.Causes) == 0 {
		return "no damage explains it: " + c.Diagnosis.Rest
	}
	return "not explained: " + c.Diagnosis.Rest
}

func (c *Compared) tables(p *render.Printer) {
	const most = 20
	a, b := c.Expected.Name, c.Found.Name
	var rows [][]string
	for _, d := range c.Differences[:min(len(c.Differences), most)] {
		what := memory.FormatCount(d.Bytes) + " differ"
		switch d.Presence {
		case survey.OnlyFirst:
			what = "only in " + a
		case survey.OnlySecond:
			what = "only in " + b
		}
		row := []string{
			c.Map.RangeText(d.Span),
			memory.FormatCount(d.Size()),
			what,
			ExcerptOf(c.Expected.Image, d.Span),
			ExcerptOf(c.Found.Image, d.Span),
		}
		if c.Map != nil {
			row = append(row, RegionsOf(c.Map, d.Span))
		}
		rows = append(rows, row)
	}
	header := []string{"span", "bytes", "what", "expected", "found", "region"}
	if c.Map == nil {
		header = header[:5]
	}
	p.Printf("\n")
	p.Table(header, rows, 2)
	if more := len(c.Differences) - most; more > 0 {
		p.Line("and %d more", more)
	}
	if c.Map == nil {
		return
	}
	rows = nil
	for _, t := range c.Totals {
		pages := ""
		if t.Pages > 0 {
			pages = fmt.Sprintf("%d of %d", t.PagesTouched, t.Pages)
		}
		rows = append(rows,
			[]string{t.Section, memory.FormatCount(t.Differ), memory.FormatCount(t.OnlyFirst), memory.FormatCount(t.OnlySecond), pages})
	}
	p.Printf("\n")
	p.Table([]string{"region", "differ", "only in " + a, "only in " + b, "pages"}, rows, 2, 3, 4, 5)
}

// ExcerptOf shows the first few bytes of a span; places that the image does not
// hold as --.
func ExcerptOf(m *memory.Image, s memory.Span) string {
	const most = 8
	shown := s
	if s.Size() > most {
		shown.Last = s.First + most - 1
	}
	cells := make([]string, shown.Size())
	for i := range cells {
		cells[i] = "--"
	}
	for r := range m.In(shown) {
		for i, b := range r.Data {
			cells[r.First-shown.First+uint64(i)] = fmt.Sprintf("%02X", b)
		}
	}
	text := strings.Join(cells, " ")
	if strings.Trim(text, "- ") == "" {
		return "nothing"
	}
	if shown != s {
		text += " ..."
	}
	return text
}

type compareModel struct {
	Schema      string            `json:"schema"`
	Equal       bool              `json:"equal"`
	Expected    string            `json:"expected"`
	Found       string            `json:"found"`
	EqualBytes  uint64            `json:"equalBytes"`
	Differ      uint64            `json:"differ"`
	OnlyFirst   uint64            `json:"onlyExpected"`
	OnlySecond  uint64            `json:"onlyFound"`
	Causes      []causeModel      `json:"causes"`                // damages that reproduce what was found
	Examined    int               `json:"examined"`              // bytes that differ where what is missing counts as erased
	Explained   int               `json:"explained"`             // of these
	Unexplained string            `json:"unexplained,omitempty"` // what the others are like
	Release     string            `json:"release,omitempty"`     // which release the found image is
	Checksums   []sumModel        `json:"checksums,omitempty"`   // declared ones that tell more
	Starts      *startsModel      `json:"starts,omitempty"`      // where they differ
	Differences []differenceModel `json:"differences"`
	Regions     []totalModel      `json:"regions,omitempty"`
	Cost        *costModel        `json:"cost,omitempty"`
}

// sumModel is what a declared checksum tells of the found image.
type sumModel struct {
	Name  string `json:"name"`
	Right bool   `json:"right"` // it is that of the found bytes
	Says  string `json:"says"`
}

// causeModel is a damage that reproduces a part of what was found.
type causeModel struct {
	Kind     string   `json:"kind"`
	Text     string   `json:"text"`
	Or       []string `json:"or,omitempty"` // others that leave the same bytes
	Where    []Span   `json:"where,omitempty"`
	Explains int      `json:"explains"` // bytes that are as found with it, and were not without
	Spoils   int      `json:"spoils"`   // bytes that it would have changed, and that are as expected
	Advice   string   `json:"advice,omitempty"`
}

type startsModel struct {
	Expected string `json:"expected"`
	Found    string `json:"found"`
}

type differenceModel struct {
	Kind     string `json:"kind"`
	Span     Span   `json:"span"`
	Bytes    uint64 `json:"bytes"`
	Expected string `json:"expected"`
	Found    string `json:"found"`
	Region   string `json:"region,omitempty"`
}

type totalModel struct {
	Section      string `json:"region"`
	Differ       uint64 `json:"differ"`
	OnlyFirst    uint64 `json:"onlyExpected"`
	OnlySecond   uint64 `json:"onlyFound"`
	PagesTouched uint64 `json:"pagesDiffering"`
	Pages        uint64 `json:"pages"`
}

// differenceOf makes the model of a difference.
func differenceOf(d survey.Difference, expected, found *memory.Image, m *device.Map) differenceModel {
	return differenceModel{
		[...]string{"differ", "only-expected", "only-found"}[d.Presence],
		spanOf(d.Span),
		d.Bytes,
		ExcerptOf(expected, d.Span),
		ExcerptOf(found, d.Span),
		RegionsOf(m, d.Span),
	}
}

// Model makes the model for programs.
func (c *Compared) Model() any {
	out := compareModel{
		Schema: SchemaName("compare"), Equal: c.Same(), Expected: c.Expected.Name, Found: c.Found.Name,
		EqualBytes: c.Equal, Differ: c.Differ, OnlyFirst: c.OnlyFirst, OnlySecond: c.OnlySecond,
		Causes: []causeModel{}, Differences: []differenceModel{},
		Examined: c.Diagnosis.Differ, Explained: c.Diagnosis.Explained, Unexplained: c.Diagnosis.Rest,
	}
	out.Release = c.Release
	for _, s := range c.Sums {
		out.Checksums = append(out.Checksums, sumModel{s.Name, s.Good, s.Says})
	}
	for i := range c.Diagnosis.Causes {
		cause := &c.Diagnosis.Causes[i]
		one := causeModel{
			Kind:     cause.Kind,
			Text:     cause.Text,
			Or:       cause.Or,
			Explains: cause.Explains,
			Spoils:   cause.Spoils,
			Advice:   cause.Advice.In(c.Wording),
		}
		for _, s := range cause.Where {
			one.Where = append(one.Where, spanOf(s))
		}
		out.Causes = append(out.Causes, one)
	}
	if x, y, ok := c.Starts(); ok {
		out.Starts = &startsModel{memory.PlainAddress(x), memory.PlainAddress(y)}
	}
	for _, d := range c.Differences {
		out.Differences = append(out.Differences, differenceOf(d, c.Expected.Image, c.Found.Image, c.Map))
	}
	if c.Cost != nil {
		out.Cost = c.Cost.model(c.RegionOf())
	}
	for _, t := range c.Totals {
		out.Regions = append(out.Regions, totalModel(t))
	}
	return out
}
