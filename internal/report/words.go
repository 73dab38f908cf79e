package report

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
)

// Words is what the configuration words in an image mean.
type Words struct {
	File     string
	Map      *device.Map
	Values   map[string]uint64 // of the words that the image contains
	Verdicts []device.Verdict
	Against  *Words // those of another image; nil is none
}

// WordsOf reads the words out of an image.
func WordsOf(file string, image *memory.Image, m *device.Map) *Words {
	x := &Words{File: file, Map: m, Values: map[string]uint64{}}
	given := map[string]device.Given{}
	for i := range m.Config {
		w := &m.Config[i]
		if v, ok := w.In(image); ok {
			x.Values[w.Name], given[w.Name] = v, w.Whole(v)
		}
	}
	x.Verdicts = m.Judge(given)
	return x
}

// absent names the words that the image does not contain.
func (x *Words) absent() (list []string) {
	for i := range x.Map.Config {
		if _, ok := x.Values[x.Map.Config[i].Name]; !ok {
			list = append(list, x.Map.Config[i].Name)
		}
	}
	return list
}

// FieldChange is a field that has another value.
type FieldChange struct{ Word, Field, Is, Was string }

// changes returns the fields that are not as delivered, or as in another image.
func (x *Words) changes(was func(w *device.Word) (uint64, bool)) (list []FieldChange) {
	for i := range x.Map.Config {
		w := &x.Map.Config[i]
		v, ok := x.Values[w.Name]
		before, there := was(w)
		if !ok || !there {
			continue
		}
		for j := range w.Fields {
			if f := &w.Fields[j]; f.Of(v) != f.Of(before) {
				list = append(list, FieldChange{w.Name, f.Name, meaningOf(f, v), meaningOf(f, before)})
			}
		}
	}
	return list
}

// sinceDelivery returns the fields that are not as the device is delivered.
func (x *Words) sinceDelivery() []FieldChange {
	return x.changes(func(w *device.Word) (uint64, bool) { return w.Default, true })
}

// fromOther returns the fields that are not as in the other image.
func (x *Words) fromOther() []FieldChange {
	return x.changes(func(w *device.Word) (uint64, bool) { v, ok := x.Against.Values[w.Name]; return v, ok })
}

// meaningOf is the meaning of a field's value, or its number.
func meaningOf(f *device.Field, word uint64) string {
	if v := f.Value(f.Of(word)); v != nil {
		return v.Meaning
	}
	return fmt.Sprintf("%d", f.Of(word))
}

// RegionChange is a region that the words put elsewhere than those of delivery do.
type RegionChange struct {
	Name          string
	Is, Delivered memory.Span
}

// regions returns the regions that follow from the words.
func (x *Words) regions() (list []RegionChange) {
	delivered := map[string]uint64{}
	values := map[string]uint64{}
	for i := range x.Map.Config {
		w := &x.Map.Config[i]
		delivered[w.Name], values[w.Name] = w.Default, w.Default
		if v, ok := x.Values[w.Name]; ok {
			values[w.Name] = v
		}
	}
	was, is := x.Map.Configured(delivered), x.Map.Configured(values)
	for i := range is.Regions {
		r := &is.Regions[i]
		if before := was.Region(r.Name); before != nil && before.Span != r.Span {
			list = append(list, RegionChange{r.Name, r.Span, before.Span})
		}
	}
	return list
}

// Text explains the words.
func (x *Words) Text(p *render.Printer) {
	p.Line("%s: %d of %s of %s", p.Title(x.File), len(x.Values), memory.FormatNumber(len(x.Map.Config), "configuration word"), x.Map.Name)
	if absent := x.absent(); len(absent) > 0 {
		p.Line("  not in it: %s; the device keeps what it has, as delivered or as last programmed", strings.Join(absent, ", "))
	}
	p.Printf("\n")
	for i := range x.Map.Config {
		if v, ok := x.Values[x.Map.Config[i].Name]; ok {
			explained(p, &x.Map.Config[i], v)
		}
	}
	changes := func(title, header string, list []FieldChange) {
		if len(list) == 0 {
			return
		}
		p.Line("%s", p.Title(title))
		var rows [][]string
		for _, c := range list {
			rows = append(rows, []string{c.Word, c.Field, c.Is, c.Was})
		}
		p.Table([]string{"word", "field", "here", header}, rows)
		p.Printf("\n")
	}
	changes("not as delivered", "delivered", x.sinceDelivery())
	if x.Against != nil {
		list := x.fromOther()
		changes("not as in "+x.Against.File, x.Against.File, list)
		if len(list) == 0 {
			p.Line("the words that both files have are the same")
		}
		for _, side := range [][2]*Words{{x, x.Against}, {x.Against, x}} {
			var only []string
			for i := range x.Map.Config {
				name := x.Map.Config[i].Name
				_, here := side[0].Values[name]
				if _, there := side[1].Values[name]; here && !there {
					only = append(only, name)
				}
			}
			if len(only) > 0 {
				p.Line("only in %s: %s", side[0].File, strings.Join(only, ", "))
			}
		}
	}
	for _, r := range x.regions() {
		p.Line("region %s is at %s with these words, and at %s as delivered", r.Name, r.Is, r.Delivered)
	}
	verdicts(p, x.Verdicts)
}

// WordsModel is what the configuration words in an image mean.
type WordsModel struct {
	Schema   string              `json:"schema"`
	File     string              `json:"file"`
	Device   string              `json:"device"`
	Words    []WordModel         `json:"words"`
	Absent   []string            `json:"absent"`
	Changed  []FieldChangeModel  `json:"changed"`           // fields that are not as delivered
	Differ   []FieldChangeModel  `json:"differ,omitempty"`  // fields that are not as in the other file
	Regions  []RegionChangeModel `json:"regions"`           // that are elsewhere than as delivered
	Verdicts []string            `json:"verdicts"`          // hazards and errors
	Against  string              `json:"against,omitempty"` // the other file
}

// FieldChangeModel is a field that has another value.
type FieldChangeModel struct {
	Word  string `json:"word"`
	Field string `json:"field"`
	Is    string `json:"is"`
	Was   string `json:"was"`
}

// RegionChangeModel is a region that the words put elsewhere.
type RegionChangeModel struct {
	Name      string `json:"name"`
	Is        Span   `json:"is"`
	Delivered Span   `json:"delivered"`
}

// Model makes the model for programs.
func (x *Words) Model() any {
	out := WordsModel{Schema: SchemaName("words"), File: x.File, Device: x.Map.Name, Words: []WordModel{}, Absent: append([]string{}, x.absent()...),
		Changed: []FieldChangeModel{}, Regions: []RegionChangeModel{}, Verdicts: []string{}}
	for i := range x.Map.Config {
		w := &x.Map.Config[i]
		if v, ok := x.Values[w.Name]; ok {
			out.Words = append(out.Words, wordModel(w, v, true))
		}
	}
	for _, c := range x.sinceDelivery() {
		out.Changed = append(out.Changed, FieldChangeModel(c))
	}
	if x.Against != nil {
		out.Against = x.Against.File
		for _, c := range x.fromOther() {
			out.Differ = append(out.Differ, FieldChangeModel(c))
		}
	}
	for _, r := range x.regions() {
		out.Regions = append(out.Regions, RegionChangeModel{r.Name, spanOf(r.Is), spanOf(r.Delivered)})
	}
	for _, v := range x.Verdicts {
		out.Verdicts = append(out.Verdicts, v.What)
	}
	return out
}
