package report

import (
	"fmt"
	"strings"
	"sync"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/survey"
)

// Inspected is what is known of one file.
type Inspected struct {
	*codec.File
	Problems *source.Problems
	Size     int64
	SHA256   []byte // of the file
	Contents [32]byte
	Map      *device.Map // as it is for the image; nil without one

	versions []survey.Text
	repeats  []survey.Repeat
}

// Inspect looks into a file that was read, recorded in read. m is the map as it
// is for the file's image, nil without one.
func Inspect(f *codec.File, problems *source.Problems, read *source.Read, m *device.Map) *Inspected {
	one := &Inspected{File: f, Problems: problems, Size: read.Size, Map: m}
	// The digests take long, and the file's is being made already.
	var wait sync.WaitGroup
	if one.Whole() {
		wait.Go(func() { one.Contents = f.Image.Digest() })
		one.versions = survey.Versions(f.Image, mostVersions)
		one.repeats = survey.Repeats(f.Image, leastRepeat)
	}
	one.SHA256 = read.SHA256()
	wait.Wait()
	return one
}

// Whole reports whether the file holds an image.
func (one *Inspected) Whole() bool { return one.Problems.Errors() == 0 }

// kind says what a text is that holds no image.
func (one *Inspected) kind() string {
	if one.File.Text == "text" {
		return "text"
	}
	return "text, " + one.File.Text
}

const (
	mostRuns     = 12 // runs listed; the rest is counted
	mostVersions = 4
	leastRepeat  = 64 // bytes of a repeating pattern that are worth telling
	mostRepeats  = 4
)

// Text prints what is known of the file; its problems go to another printer.
func (one *Inspected) Text(p, problems *render.Printer, w source.Wording) {
	row := func(name, format string, args ...any) {
		p.Hanging(fmt.Sprintf("  %-9s ", name), format, args...)
	}
	digest := fmt.Sprintf("%x", one.SHA256)
	if !one.Whole() {
		switch {
		case one.Format == nil && one.File.Text != "":
			p.Line("%s: %s, %s: %s", p.Title(one.Name), one.kind(), p.Bad("not an image"),
				memory.FormatNumber(one.Problems.Count(), "problem"))
		case one.Format == nil:
			p.Line("%s: %s: %s", p.Title(one.Name), p.Bad("not an image that can be read"),
				memory.FormatNumber(one.Problems.Count(), "problem"))
		case one.refused() != "":
			p.Line("%s: %s, %s", p.Title(one.Name), one.Format.Name, p.Bad(one.refused()+", which is not an image"))
		default:
			p.Line("%s: %s, %s: %s", p.Title(one.Name), one.Format.Name, p.Bad("damaged"),
				memory.FormatNumber(one.Problems.Count(), "problem"))
		}
		problems.Problems(one.Problems, w, problems.Terminal)
		row("file", "%s, SHA-256 %s", memory.FormatSize(uint64(one.Size)), digest)
		return
	}
	m := one.Image
	all, ok := m.Span()
	state := render.Styled(one.Unproven)
	switch {
	case one.Problems.Doubtful():
		state = p.Bad("data is probably missing")
	case state == "":
		state = p.Good("intact")
	}
	if !ok {
		p.Line("%s: %s, %s, contains no bytes", p.Title(one.Name), one.Format.Name, state)
	} else {
		p.Line("%s: %s, %s, %s at %s", p.Title(one.Name), one.Format.Name, state, memory.FormatBytes(m.Bytes()), all.Range())
	}
	problems.Problems(one.Problems, w, problems.Terminal)
	one.imageText(row)
	row("file", "%s, SHA-256 %s", memory.FormatSize(uint64(one.Size)), digest)
	row("contents", "SHA-256 %s", fmt.Sprintf("%x", one.Contents))
}

// refused says what a file is that is whole and no image, such as a relocatable object; "" is
// that it is not known as such.
func (one *Inspected) refused() string {
	if one.Problems.Count() != 1 {
		return ""
	}
	what, ok := strings.CutPrefix(one.Problems.Sorted()[0].What, "the file is ")
	if !ok {
		return ""
	}
	return what
}

// imageText prints what the image covers and holds.
func (one *Inspected) imageText(row func(name, format string, args ...any)) {
	m := one.Image
	all, ok := m.Span()
	switch runs := m.Runs(); {
	case len(runs) == 1:
		row("covers", "%s, no holes%s", all, indent(RegionsOf(one.Map, all)))
	case len(runs) > 1:
		row("covers", "%s in %d runs, %s of holes between them", all, len(runs), memory.FormatSize(all.Size()-m.Bytes()))
		for _, r := range runs[:min(len(runs), mostRuns)] {
			row("", "%s%s", r.Span(), indent(RegionsOf(one.Map, r.Span())))
		}
		if more := len(runs) - mostRuns; more > 0 {
			row("", "and %d more runs", more)
		}
	}
	if s := m.Start(); s.Kind != memory.NoStart {
		row("start", "%s", s)
	}
	if m.Header() != nil {
		row("header", "%q", m.Header())
	}
	if one.Records != nil {
		row("records", "%s", recordsText(one.File))
	}
	for _, fact := range one.Facts {
		row(fact.Name, "%s", fact.Text)
	}
	if one.Program != nil {
		programText(one.Program, row)
	}
	for _, t := range one.versions {
		row("text", "%q at %s", t.Text, memory.FormatAddress(t.Address))
	}
	for i, same := range one.repeats {
		if i == mostRepeats {
			row("", "and more stretches that repeat")
			break
		}
		what := fmt.Sprintf("% X again and again", same.Pattern)
		if len(same.Pattern) == 1 {
			what = fmt.Sprintf("all %02X", same.Pattern)
			if same.Pattern[0] == one.Map.ErasedAt(same.First) {
				what += ", as if erased"
			}
		}
		row("repeats", "%s: %s", same.Span, what)
	}
	if one.Map != nil && ok {
		for _, u := range check.Uses(one.Map, m) {
			switch {
			case u.Used == 0:
			case u.Region == nil:
				row("region", "%s in no region", memory.FormatBytes(u.Used))
			default:
				size := u.Region.Span.Size()
				row("region", "%s %s: %s of %s used, %s", u.Region.Name, u.Region.Span.Range(), memory.FormatCount(u.Used),
					memory.FormatBytes(size), Percent(u.Used, size))
			}
		}
	}
}

func indent(text string) string {
	if text == "" {
		return ""
	}
	return "  " + text
}

// recordsText counts the records of a file.
func recordsText(f *codec.File) string {
	st := f.Records
	var kinds []string
	for t, n := range st.Types {
		if n == 0 {
			continue
		}
		kinds = append(kinds, memory.FormatCount(uint64(n))+" "+st.TypeNames[t])
	}
	text := strings.Join(kinds, ", ")
	var widest, total, common, different int
	for w, n := range st.Widths {
		if n > 0 {
			different++
			widest = w
			total += n
			if n > st.Widths[common] {
				common = w
			}
		}
	}
	switch {
	case different == 1:
		text += fmt.Sprintf("; all data records of %s", memory.FormatNumber(widest, "byte"))
	case different > 1:
		text += fmt.Sprintf("; data records of up to %s, %s of %s with %d", memory.FormatNumber(widest, "byte"),
			memory.FormatCount(uint64(st.Widths[common])), memory.FormatCount(uint64(total)), common)
	}
	if total > 1 && !st.InOrder {
		text += "; not in the order of addresses"
	}
	return text
}

// Inspection is the result of inspecting files.
type Inspection struct {
	Schema string          `json:"schema"`
	Files  []InspectedFile `json:"files"`
	// Problems are those of files that cannot be read.
	Problems []Problem `json:"problems,omitempty"`
}

// InspectedFile is one inspected file.
type InspectedFile struct {
	Name   string `json:"name"`
	Format string `json:"format"`         // the word of a format; text if it is text and not an image; unknown
	Text   string `json:"text,omitempty"` // the kind of text: TOML, C source
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	Whole  bool   `json:"whole"` // whether an image was read and nothing shows that data is missing
	// Unproven is what the file cannot prove, such as: no checksums of its own.
	Unproven string    `json:"unproven,omitempty"`
	Problems []Problem `json:"problems"`

	Bytes    uint64    `json:"bytes"`
	Contents string    `json:"contentsSha256,omitempty"`
	Span     *Span     `json:"span,omitempty"`
	Runs     []Span    `json:"runs,omitempty"`
	Start    string    `json:"start,omitempty"`
	Header   string    `json:"header,omitempty"`
	Versions []Text    `json:"versions,omitempty"`
	Repeats  []Repeat  `json:"repeats,omitempty"`
	Records  *Records  `json:"records,omitempty"`
	Regions  []UsedRow `json:"regions,omitempty"`
	Program  *Program  `json:"program,omitempty"`
	// Facts are other facts of the format, by name: family, blocks, vendor ...
	Facts map[string]string `json:"facts,omitempty"`
}

// Text is a readable text.
type Text struct {
	Address string `json:"address"`
	Text    string `json:"text"`
}

// Repeat is a span in which a pattern repeats.
type Repeat struct {
	Span    Span   `json:"span"`
	Pattern string `json:"pattern"`
}

// Records are the numbers of records in a file.
type Records struct {
	Lines   int     `json:"lines"`
	Types   []Count `json:"types"`
	Widths  []Count `json:"widths"`
	InOrder bool    `json:"inOrder"`
}

// Count is the number of records of one type, or with one number of data bytes.
type Count struct {
	Value int `json:"value"`
	Count int `json:"count"`
}

// UsedRow is how much of a region is used.
type UsedRow struct {
	Name   string `json:"name"` // "" for bytes in no region
	Span   *Span  `json:"span,omitempty"`
	Used   uint64 `json:"used"`
	Free   *int64 `json:"free,omitempty"`
	Inside string `json:"inside,omitempty"` // the region that contains it
	// Bytes used in the earlier release, with -against.
	Before *uint64 `json:"before,omitempty"`
}

func usedRows(uses []check.Use) []UsedRow {
	var rows []UsedRow
	for _, u := range uses {
		row := UsedRow{Used: u.Used + u.Over}
		if u.Region != nil {
			s, free := spanOf(u.Region.Span), u.Free()
			row.Name, row.Span, row.Free, row.Inside = u.Region.Name, &s, &free, u.Region.Inside
		}
		rows = append(rows, row)
	}
	return rows
}

// Inspections is what is known of several files.
type Inspections struct {
	All      []*Inspected
	Missing  []*source.Problem // files that cannot be looked into
	Wording  source.Wording
	Problems *render.Printer // for problems of the files
}

// Text prints what is known of the files; their problems go to another printer.
func (r *Inspections) Text(p *render.Printer) {
	for i, one := range r.All {
		if i > 0 {
			p.Printf("\n")
		}
		one.Text(p, r.Problems, r.Wording)
	}
}

// Model makes the model of the files for programs.
func (r *Inspections) Model() any {
	w := r.Wording
	out := Inspection{Schema: SchemaName("inspect"), Files: []InspectedFile{}}
	for _, p := range r.Missing {
		out.Problems = append(out.Problems, ProblemOf(p, w))
	}
	for _, one := range r.All {
		f := InspectedFile{
			Name:     one.Name,
			Format:   "unknown",
			Size:     one.Size,
			SHA256:   fmt.Sprintf("%x", one.SHA256),
			Whole:    one.Whole(),
			Problems: problemsOf(one.Problems, w),
		}
		switch {
		case one.Format != nil:
			f.Format = one.Format.Word
		case one.File.Text != "":
			f.Format, f.Text = "text", one.File.Text
		}
		if st := one.Records; st != nil {
			f.Records = &Records{Lines: st.Lines, InOrder: st.InOrder, Types: countsOf(st.Types[:]), Widths: countsOf(st.Widths[:])}
		}
		if f.Whole {
			f.image(one)
		}
		f.Whole = f.Whole && !one.Problems.Doubtful()
		out.Files = append(out.Files, f)
	}
	return out
}

// image adds what is known of the file's image.
func (f *InspectedFile) image(one *Inspected) {
	m := one.Image
	f.Bytes, f.Contents = m.Bytes(), fmt.Sprintf("%x", one.Contents)
	if all, ok := m.Span(); ok {
		covered := spanOf(all)
		f.Span = &covered
	}
	for _, r := range m.Runs() {
		f.Runs = append(f.Runs, spanOf(r.Span()))
	}
	if m.Start().Kind != memory.NoStart {
		f.Start = memory.PlainAddress(m.Start().Address())
	}
	f.Header, f.Program, f.Unproven = string(m.Header()), programOf(one.Program), one.Unproven
	for _, fact := range one.Facts {
		if f.Facts == nil {
			f.Facts = map[string]string{}
		}
		f.Facts[fact.Name] = fact.Text
	}
	for _, t := range one.versions {
		f.Versions = append(f.Versions, Text{memory.PlainAddress(t.Address), t.Text})
	}
	for _, same := range one.repeats {
		f.Repeats = append(f.Repeats, Repeat{spanOf(same.Span), fmt.Sprintf("%X", same.Pattern)})
	}
	if one.Map != nil {
		f.Regions = usedRows(check.Uses(one.Map, m))
	}
}

func countsOf(counts []int) []Count {
	list := []Count{}
	for value, n := range counts {
		if n > 0 {
			list = append(list, Count{value, n})
		}
	}
	return list
}
