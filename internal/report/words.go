package report

import (
	"fmt"
	"slices"
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
	ignored  []device.Verdict // words whose complement does not fit: the device takes them as delivered
	From     *Words           // what the device has before; nil is not known
	// Rewriting is how the device gets from the words that it has to those of the image; nil
	// where nothing is known of these.
	Rewriting *device.Rewriting
}

// WordsOf reads the words out of an image. Old are those that the device has before; nil
// is not known.
func WordsOf(file string, image *memory.Image, m *device.Map, old *Words) *Words {
	x := &Words{File: file, Map: m, Values: map[string]uint64{}, From: old}
	given := map[string]device.Given{}
	for i := range m.Config {
		w := &m.Config[i]
		g := w.GivenIn(image)
		v, whole := w.In(image)
		switch {
		case whole:
			x.Values[w.Name], given[w.Name] = v, g
		case g.Known != 0: // told by what judges it
			given[w.Name] = g
		case old != nil:
			one := w.Whole(old.value(w))
			one.Content = true
			given[w.Name] = one
		}
		if what := complementFault(w, image); what != "" {
			x.ignored = append(x.ignored, device.Verdict{Kind: device.Conflict, Word: w, Name: w.Name, What: what,
				Expected: "both, so that the device does not ignore the word"})
		}
	}
	x.Verdicts = append(x.ignored, m.Judge(given)...)
	if old != nil {
		words := map[string]uint64{}
		for name := range x.Values {
			words[name] = x.value(m.Word(name))
		}
		x.Rewriting = m.Rewrite(old.all(), words)
	}
	return x
}

// complementFault says what is wrong with the complement of a word that an image has; "" is
// nothing, or that the device wants none.
func complementFault(w *device.Word, image *memory.Image) string {
	s, wants := w.Complement()
	v, whole := w.In(image)
	if !wants || !whole {
		return ""
	}
	there := make([]byte, w.Width)
	switch has := image.ReadAt(there, s.First); {
	case !has:
		return fmt.Sprintf("the complement of %s is not in the image", w.Name)
	case string(there) != string(w.Bytes(^v)):
		return fmt.Sprintf("the complement of %s is % X, and the word wants % X", w.Name, there, w.Bytes(^v))
	}
	return ""
}

// Bad reports whether check would reject the words, or they cannot be written.
func (x *Words) Bad() bool {
	return len(x.Verdicts) > 0 || x.Rewriting != nil && x.Rewriting.Fault != ""
}

// value returns a word as the device has it with the image.
func (x *Words) value(w *device.Word) uint64 {
	if slices.ContainsFunc(x.ignored, func(v device.Verdict) bool { return v.Word == w }) {
		return w.Default
	}
	if v, ok := x.Values[w.Name]; ok {
		return v
	}
	if x.From != nil {
		return x.From.value(w)
	}
	return w.Default
}

// all returns all words as the device has them with the image.
func (x *Words) all() map[string]uint64 {
	if x.Rewriting != nil {
		return x.Rewriting.After
	}
	values := map[string]uint64{}
	for i := range x.Map.Config {
		w := &x.Map.Config[i]
		values[w.Name] = x.value(w)
	}
	return values
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
	return x.changes(func(w *device.Word) (uint64, bool) { return x.From.value(w), true })
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
	for i := range x.Map.Config {
		delivered[x.Map.Config[i].Name] = x.Map.Config[i].Default
	}
	was, is := x.Map.Configured(delivered), x.Map.Configured(x.all())
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
		has := "the device keeps what it has"
		if x.From != nil {
			has = "the device keeps those of " + x.From.File
		} else if len(x.Values)+len(x.Verdicts) > 0 {
			has += "; taken as delivered below"
		}
		p.Line("  not in it: %s; %s", strings.Join(absent, ", "), has)
	}
	if b := x.Map.Board; b != nil {
		p.Line("  board %s: %s", b.Name, strings.Join(b.Facts(), ", "))
	}
	if len(x.Values)+len(x.Verdicts) == 0 && x.From == nil && x.Rewriting == nil {
		return // nothing follows
	}
	p.Printf("\n")
	for i := range x.Map.Config {
		if v, ok := x.Values[x.Map.Config[i].Name]; ok {
			explained(p, &x.Map.Config[i], v, x.Verdicts)
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
	if x.From != nil {
		list := x.fromOther()
		changes("not as in "+x.From.File, x.From.File, list)
		if len(list) == 0 && len(x.Values) > 0 {
			p.Line("%s has the same words", x.From.File)
		}
	}
	said := x.consequences(p)
	if x.Rewriting != nil {
		if said {
			p.Printf("\n")
		}
		if len(x.Values) > 0 {
			rewriting(p, x.Rewriting)
		} else {
			p.Line("nothing to write: the image contains no configuration word")
		}
		said = true
	}
	if said && len(x.Verdicts) > 0 {
		p.Printf("\n")
	}
	verdicts(p, x.Verdicts)
}

// WordsModel is what the configuration words in an image mean.
type WordsModel struct {
	Schema  string             `json:"schema"`
	File    string             `json:"file"`
	Device  string             `json:"device"`
	Words   []WordModel        `json:"words"`
	Absent  []string           `json:"absent"`
	Changed []FieldChangeModel `json:"changed"` // fields that are not as delivered
	Board   string             `json:"board,omitempty"`
	Differ  []FieldChangeModel `json:"differ,omitempty"` // fields that are not as the device has them before
	FollowsModel
	Verdicts []string    `json:"verdicts"`        // hazards and errors
	From     string      `json:"from,omitempty"`  // what the device has before
	Order    *OrderModel `json:"order,omitempty"` // in which the words are written from there
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
	out := WordsModel{
		Schema:       SchemaName("words"),
		File:         x.File,
		Device:       x.Map.Name,
		Words:        []WordModel{},
		Absent:       append([]string{}, x.absent()...),
		Changed:      []FieldChangeModel{},
		FollowsModel: *x.follows(),
		Verdicts:     []string{},
	}
	for i := range x.Map.Config {
		w := &x.Map.Config[i]
		if v, ok := x.Values[w.Name]; ok {
			out.Words = append(out.Words, wordModel(w, v, true))
		}
	}
	for _, c := range x.sinceDelivery() {
		out.Changed = append(out.Changed, FieldChangeModel(c))
	}
	if x.Map.Board != nil {
		out.Board = x.Map.Board.Name
	}
	if r := x.Rewriting; r != nil {
		out.Order = &OrderModel{Takes: r.Takes, Words: []WrittenModel{}, NoReturn: r.NoReturn, Fault: r.Fault}
		if r.Erase != nil {
			out.Order.EraseFirst = r.Erase.By
		}
		for _, w := range r.Words {
			out.Order.Words = append(out.Order.Words, WrittenModel{w.Word.Name, w.Word.Format(w.Value), w.By})
		}
	}
	if x.From != nil {
		out.From = x.From.File
		for _, c := range x.fromOther() {
			out.Differ = append(out.Differ, FieldChangeModel(c))
		}
	}
	for _, v := range x.Verdicts {
		out.Verdicts = append(out.Verdicts, v.What)
	}
	return out
}
