package report

import (
	"fmt"
	"strings"

	"mexalt/check"
	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/source"
)

// Checked is what came of checking an image, against one map or several.
type Checked struct {
	Best *check.Result   // of the map that fits best
	All  []*check.Result // of each map
	Baud uint64          // bits a second of a link whose time is told; 0 is none
	// Before is an earlier release that it is held against; nil is none.
	Before *Before
	// Record is the record format whose sending is timed.
	Record *format.Format
	// Wording words the advice for findings of one part, or of all for "".
	Wording func(part string) source.Wording
}

func (c *Checked) Advice(f *check.Finding) string { return f.Advice.In(c.Wording(f.Input)) }

// text says what a finding found, expected and advises.
func (c *Checked) text(f *check.Finding) string {
	switch {
	case f.Accepted:
		return f.What
	case f.Rule == "partial-page": // which nearly every file has
		return f.What + " (mexalt help partial-page)"
	}
	return source.Message(f.What, f.Expected, c.Advice(f))
}

// at names the place of a finding.
func at(r *check.Result, f *check.Finding) string {
	switch {
	case f.Place.Text != "":
		return f.Place.Text
	case f.Input != "":
		return f.Input
	case len(r.Parts) == 1:
		return r.Parts[0].Name
	}
	return r.Map.Name
}

// Text prints the report.
func (c *Checked) Text(p *render.Printer) {
	if len(c.All) > 1 {
		c.fit(p)
	}
	r := c.Best
	for i := range r.Findings {
		c.finding(p, &r.Findings[i])
	}
	if len(r.Findings) > 0 {
		p.Printf("\n")
	}
	c.regions(p)
	if len(r.Map.Config) > 0 && r.Region == "" {
		from := "the map's defaults"
		if r.FromImage {
			from = "the configuration words in the image"
		}
		p.Line("region sizes from %s", from)
	}
	c.work(p)
	var names []string
	for _, part := range r.Parts {
		names = append(names, part.Name)
	}
	verdict := p.Good(Verdict(r))
	if len(r.Counting()) > 0 {
		verdict = p.Bad(Verdict(r))
	}
	p.Line("%s: %s with %s (%s)", verdict, Together(names), r.Map.Name, r.Map.File)
}

// Together names the inputs that make one image: all of a few, and the first ones of many.
func Together(names []string) string {
	const most, shown = 6, 3
	if len(names) > most {
		names = append(names[:shown:shown], fmt.Sprintf("%s more", memory.FormatCount(uint64(len(names)-shown))))
	}
	return strings.Join(names, " + ")
}

// finding prints one finding on a line.
func (c *Checked) finding(p *render.Printer, f *check.Finding) {
	severity := p.Severity(f.Severity)
	if f.Accepted {
		severity = p.Faint("accepted " + f.Severity.String())
	}
	where := ""
	if f.Where != nil {
		where = c.Best.Map.SpanText(*f.Where) + ": "
	}
	p.Line("%s: %s: %s%s [%s]", p.Title(at(c.Best, f)), severity, where, c.text(f), f.Rule)
}

// fit says which of several maps fits.
func (c *Checked) fit(p *render.Printer) {
	for _, r := range c.All {
		n := r.Counting()
		if len(n) == 0 {
			p.Line("%s: %s", r.Map.Name, p.Good("fits"))
			continue
		}
		p.Line("%s: does not fit, %s; the first: %s: %s", r.Map.Name, countFindings(n), n[0].Rule, n[0].What)
	}
	for i, r := range c.All {
		for _, o := range c.All[i+1:] {
			if len(r.Counting()) == 0 && len(o.Counting()) == 0 && r.Map.ByIdentityOnly(o.Map) {
				p.Line("%s (%s) and %s (%s): %s", r.Map.Name, device.IdentitiesText(r.Map), o.Map.Name, device.IdentitiesText(o.Map),
					identityOnly)
			}
		}
	}
	if len(c.Best.Counting()) > 0 {
		p.Line("none fits; %s comes nearest:", c.Best.Map.Name)
	}
	p.Printf("\n")
}

func (c *Checked) regions(p *render.Printer) {
	r := c.Best
	var rows [][]string
	header := []string{"region", "span", "bytes used", "bytes free", "used"}
	for _, u := range r.Uses() {
		if u.Region == nil {
			if r.Region == "" {
				rows = append(rows, []string{"in no region", "", memory.FormatCount(u.Used), "", "", "", ""}[:len(header)])
			}
			continue
		}
		if r.Region != "" && u.Region.Name != r.Region {
			continue
		}
		size := u.Region.Span.Size()
		row := []string{
			strings.Repeat("  ", u.Depth) + u.Region.Name,
			r.Map.SpanText(u.Region.Span),
			memory.FormatCount(u.Used + u.Over),
			Signed(u.Free()),
			Percent(u.Used+u.Over, size),
		}
		if c.Before != nil {
			row = append(row, c.Before.Change(&u))
		}
		if p.Wide() {
			row = append(row, render.Bar(u.Used+u.Over, size))
		}
		rows = append(rows, row)
	}
	if c.Before != nil {
		header = append(header, "since "+c.Before.Name)
	}
	if p.Wide() {
		header = append(header, "filled")
	}
	if len(rows) > 0 {
		right := []int{3, 4, 5}
		if c.Before != nil {
			right = append(right, 6)
		}
		p.Table(header, rows, right...)
		p.Printf("\n")
	}
}

// Work says what programming takes, in words.
func Work(w check.Work) string {
	text := memory.FormatSize(w.Bytes)
	switch {
	case w.Bytes == 0:
		return "nothing"
	case w.Pages > 0 && w.Sectors > 0:
		return fmt.Sprintf("%s in %s; %s to erase", text, memory.FormatNumber(w.Pages, "page"), memory.FormatNumber(w.Sectors, "sector"))
	case w.Pages > 0:
		return fmt.Sprintf("%s in %s; the map gives no sectors", text, memory.FormatNumber(w.Pages, "page"))
	case w.Sectors > 0:
		return fmt.Sprintf("%s; %s to erase; the map gives no pages", text, memory.FormatNumber(w.Sectors, "sector"))
	}
	return text + "; the map gives no pages or sectors there"
}

// work says what programming the image takes.
func (c *Checked) work(p *render.Printer) {
	w := check.WorkOf(c.Best.Map, c.Best.Whole)
	text := "to program: " + Work(w)
	if c.Baud > 0 && w.Bytes > 0 {
		text += fmt.Sprintf("; at %s bit/s %s as raw bytes", memory.FormatCount(c.Baud), timeText(c.seconds(w.Bytes)))
		if f, n, ok := c.records(); ok {
			text += fmt.Sprintf(", %s as %s", timeText(c.seconds(n)), f.Name)
		}
	}
	p.Line("%s", text)
}

// records returns how many bytes the image takes as records.
func (c *Checked) records() (f *format.Format, bytes uint64, ok bool) {
	f = c.Record
	if f == nil {
		f = intel.Format
	}
	n := &counter{}
	err := f.Writer(format.WriteOptions{}).Write(n, c.Best.Whole)
	return f, n.n, err == nil && !c.Best.Whole.Empty()
}

func (c *Checked) workModel() workModel {
	w := check.WorkOf(c.Best.Map, c.Best.Whole)
	out := workModel{Bytes: w.Bytes, Pages: w.Pages, Sectors: w.Sectors, Baud: c.Baud}
	if c.Baud > 0 {
		out.RawSeconds = c.seconds(w.Bytes)
		if f, n, ok := c.records(); ok {
			out.RecordFormat, out.Seconds = f.Word, c.seconds(n)
		}
	}
	return out
}

type counter struct{ n uint64 }

func (w *counter) Write(b []byte) (int, error) { w.n += uint64(len(b)); return len(b), nil }

// seconds returns how long sending takes, with a start and a stop bit a byte.
func (c *Checked) seconds(bytes uint64) float64 {
	const bitsPerByte = 10
	return float64(bytes) * bitsPerByte / float64(c.Baud)
}

func timeText(t float64) string {
	if t < 120 {
		return fmt.Sprintf("%.1f s", t)
	}
	return fmt.Sprintf("%d min %02d s", int(t)/60, int(t)%60)
}

// Verdict says in few words what was looked for, and what was found.
func Verdict(r *check.Result) string {
	counting := r.Counting()
	accepted, notes := 0, 0
	for _, f := range r.Findings {
		switch {
		case f.Accepted:
			accepted++
		case f.Severity == source.Note:
			notes++
		}
	}
	words := "passed: " + memory.FormatNumber(len(r.Ran), "rule")
	if len(counting) > 0 {
		words = countFindings(counting)
	}
	if accepted > 0 {
		words += fmt.Sprintf(", %d accepted", accepted)
	}
	if notes > 0 {
		words += ", " + memory.FormatNumber(notes, "note")
	}
	return words
}

// countFindings counts them by severity: "2 errors, 1 note".
func countFindings(findings []check.Finding) string {
	var counts [source.Note + 1]int
	for _, f := range findings {
		counts[f.Severity]++
	}
	var words []string
	for severity, n := range counts {
		if n > 0 {
			words = append(words, memory.FormatNumber(n, source.Severity(severity).String()))
		}
	}
	return strings.Join(words, ", ")
}

type checkModel struct {
	Schema   string         `json:"schema"`
	Device   string         `json:"device"`
	Verdict  string         `json:"verdict"`
	Findings []findingModel `json:"findings"`
	// Rules that looked at something, and rules that had nothing to look at, each with why.
	Checked []string       `json:"checkedRules"`
	Skipped []skippedModel `json:"skippedRules"`
	Regions []UsedRow      `json:"regions"`
	// ConfiguredBy says what gave the regions their sizes: image or map.
	ConfiguredBy string     `json:"configuredBy"`
	Work         workModel  `json:"work"`
	Devices      []fitModel `json:"devices,omitempty"`
}

type skippedModel struct {
	Rule string `json:"rule"`
	Why  string `json:"why"`
}

type workModel struct {
	Bytes   uint64 `json:"bytes"`
	Pages   uint64 `json:"pages"`
	Sectors uint64 `json:"sectors"`
	// What sending takes, at the link's bits a second.
	Baud         uint64  `json:"baud,omitempty"`
	RawSeconds   float64 `json:"rawSeconds,omitempty"`
	RecordFormat string  `json:"recordFormat,omitempty"`
	Seconds      float64 `json:"recordSeconds,omitempty"`
}

type fitModel struct {
	Device  string `json:"device"`
	Fits    bool   `json:"fits"`
	Verdict string `json:"verdict"`
}

type findingModel struct {
	Severity string `json:"severity"`
	Rule     string `json:"rule"`
	Name     string `json:"name,omitempty"`
	Accepted bool   `json:"accepted"`
	Span     *Span  `json:"span,omitempty"`
	Region   string `json:"region,omitempty"`
	Input    string `json:"input,omitempty"`
	Origin   string `json:"origin,omitempty"`
	Line     int    `json:"line,omitempty"`
	Column   int    `json:"column,omitempty"`
	What     string `json:"what"`
	Expected string `json:"expected"`
	Advice   string `json:"advice"`
}

// Model makes the model for programs.
func (c *Checked) Model() any {
	r := c.Best
	out := checkModel{Schema: SchemaName("check"), Device: r.Map.Name, Verdict: Verdict(r), Regions: usedRows(r.Uses()),
		Checked: r.Ran, Skipped: []skippedModel{}, ConfiguredBy: "map", Work: c.workModel()}
	for _, s := range r.Skipped {
		out.Skipped = append(out.Skipped, skippedModel(s))
	}
	if r.FromImage {
		out.ConfiguredBy = "image"
	}
	for i := range out.Regions {
		if row := &out.Regions[i]; c.Before != nil && row.Name != "" {
			if used, ok := c.Before.Region(row.Name); ok {
				row.Before = &used
			}
		}
	}
	out.Findings = c.findings()
	if len(c.All) > 1 {
		for _, one := range c.All {
			out.Devices = append(out.Devices, fitModel{one.Map.Name, len(one.Counting()) == 0, Verdict(one)})
		}
	}
	return out
}

// findings makes the models of the findings.
func (c *Checked) findings() []findingModel {
	list := []findingModel{}
	for i := range c.Best.Findings {
		f := &c.Best.Findings[i]
		m := findingModel{
			Severity: f.Severity.String(),
			Rule:     f.Rule,
			Name:     f.Name,
			Accepted: f.Accepted,
			Region:   f.Region,
			Input:    f.Input,
			Origin:   f.Place.Text,
			Line:     f.Place.Line,
			Column:   f.Place.Column,
			What:     f.What,
			Expected: f.Expected,
			Advice:   c.Advice(f),
		}
		if f.Where != nil {
			s := spanOf(*f.Where)
			m.Span = &s
		}
		list = append(list, m)
	}
	return list
}

// Picture draws what a check found.
func Picture(r *check.Result) *picture.Picture {
	var names []string
	p := &picture.Picture{}
	for _, part := range r.Parts {
		names = append(names, part.Name)
		if part.Image != nil {
			p.Parts = append(p.Parts, memory.Part{Name: part.Name, Image: part.Image})
		}
	}
	p.Title = r.Map.Name + ": " + Together(names)
	uses := map[string]check.Use{}
	for _, u := range r.Uses() {
		if u.Region != nil {
			uses[u.Region.Name] = u
		}
	}
	for i := range r.Map.Memories {
		mem := &r.Map.Memories[i]
		if used := r.Whole.Count(mem.Span); used > 0 || mem.Programmable() {
			p.Memories = append(p.Memories, pictureMemory(r, mem, used, uses))
		}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Severity == source.Note || f.Where == nil {
			continue
		}
		p.Marks = append(
			p.Marks,
			picture.Mark{
				Span:    *f.Where,
				Hatched: f.Rule == "clash" || f.Rule == "region-overrun",
				Text:    fmt.Sprintf("%s %s at %s: %s", f.Severity, f.Rule, r.Map.SpanText(*f.Where), f.What),
			},
		)
	}
	return p
}

func pictureMemory(r *check.Result, mem *device.Memory, used uint64, uses map[string]check.Use) picture.Memory {
	return picture.Memory{
		Span: mem.Span,
		Title: fmt.Sprintf("%s (%s) %s: %s used, %s", mem.Name, mem.Kind, r.Map.SpanText(mem.Span), memory.FormatBytes(used),
			Percent(used, mem.Span.Size())),
		Segments: PictureSegments(r.Map, mem, func(region *device.Region) string {
			u := uses[region.Name]
			return fmt.Sprintf("%s used, %s free", memory.FormatCount(u.Used+u.Over), Signed(u.Free()))
		}),
	}
}

// PictureSegments covers a memory with its regions and what lies between them.
func PictureSegments(m *device.Map, mem *device.Memory, detail func(*device.Region) string) (list []picture.Segment) {
	next := mem.Span.First
	for _, region := range m.RegionsIn(mem.Span) {
		if region.Span.First > next {
			list = append(list, picture.Segment{Span: memory.Span{First: next, Last: region.Span.First - 1}})
		}
		list = append(list,
			picture.Segment{Span: region.Span, Name: region.Name, Reserved: region.Role == device.Reserved, Detail: detail(&region)})
		next = region.Span.Last + 1
	}
	if next-1 != mem.Span.Last {
		list = append(list, picture.Segment{Span: memory.Span{First: next, Last: mem.Span.Last}})
	}
	return list
}
