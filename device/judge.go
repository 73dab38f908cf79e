package device

import (
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Given is a word's value as far as it is given.
type Given struct {
	Value uint64 // bits that are not given are as delivered
	Known uint64 // the bits that are given
	// Held is whether the device holds it already: others are judged by it, and not it
	// itself.
	Content bool
}

// Whole returns a value of which all bits are given.
func (w *Word) Whole(v uint64) Given { return Given{Value: v, Known: w.mask()} }

func (w *Word) mask() uint64 { return 1<<(8*w.Width) - 1 } // of 8 bytes, 1<<64 is 0

// GivenIn returns what an image gives of the word.
func (w *Word) GivenIn(m *memory.Image) Given {
	g := Given{Value: w.Default}
	for i := range w.Width {
		var b [1]byte
		if !m.ReadAt(b[:], w.At+uint64(i)) {
			continue
		}
		shift := 8 * i
		if w.Order == memory.Big {
			shift = 8 * (w.Width - 1 - i)
		}
		g.Value = g.Value&^(0xFF<<shift) | uint64(b[0])<<shift
		g.Known |= 0xFF << shift
	}
	return g
}

// Verdict is what is wrong with a configuration word's value.
type Verdict struct {
	Kind     VerdictKind
	Word     *Word
	Field    *Field // nil where no field is concerned
	Name     string // of the field or the group, or else of the word: it is accepted by that
	What     string
	Expected string
	Advice   source.Advice
}

// VerdictKind is a kind of [Verdict].
type VerdictKind uint8

const (
	// Undefined is bits or a value that no field defines.
	Undefined VerdictKind = iota
	// Conflict is a value that does not go with another field's.
	Conflict
	// Hazard is a value that cannot be undone, or shuts the device.
	Hazard
	// Partial is a word of which only a part is given.
	Partial
	// Unfit is a value, or a clock, that the board does not support.
	Unfit
	// LastPort is words after which nothing of the device can be changed any more: the
	// verdict has the name of the last port by which it could.
	LastPort
)

func (k VerdictKind) String() string {
	return [...]string{"undefined", "conflict", "hazard", "partial", "board", "last-port"}[k]
}

// Judge tells what is wrong with configuration values, as far as they are
// given. What is not given may be anything: only bits that are given make a value no
// hazard, or meet what another requires.
func (m *Map) Judge(given map[string]Given) []Verdict {
	var list []Verdict
	for i := range m.Config {
		w := &m.Config[i]
		g := given[w.Name]
		if g.Known == 0 || g.Content {
			continue
		}
		if g.Known != w.mask() {
			list = append(
				list,
				Verdict{Partial, w, nil, w.Name, fmt.Sprintf("%s is only partly given: bits %s of %d", w.Name, bitList(g.Known), 8*w.Width),
					fmt.Sprintf("the whole word, %s", w.Span()), source.Advise("the rest was judged as delivered")},
			)
		}
		if odd := (g.Value ^ w.Default) &^ w.Defined() & g.Known; odd != 0 {
			list = append(
				list,
				Verdict{
					Undefined,
					w,
					nil,
					w.Name,
					fmt.Sprintf("%s is %s; it changes undefined bits %s", w.Name, w.Format(g.Value), bitList(odd)),
					fmt.Sprintf("the delivered values of these bits, as in %s", w.Format(w.Default)),
					source.Advise("see what the fields mean, and compose a value from them"),
				},
			)
		}
		for j := range w.Fields {
			list = append(list, m.judgeField(w, &w.Fields[j], g, given)...)
		}
	}
	for i := range m.Groups {
		list = append(list, m.judgeGroup(&m.Groups[i], given)...)
	}
	if m.Board != nil && !slices.ContainsFunc(list, func(v Verdict) bool { return v.Kind == Unfit }) {
		list = append(list, m.judgeTogether(given)...)
	}
	return list
}

// judgeTogether judges what follows from all words together on the board: the clock, and
// the ways in.
func (m *Map) judgeTogether(given map[string]Given) (list []Verdict) {
	values, before := map[string]uint64{}, map[string]uint64{}
	var own []*Word // that are given, and not what the device has
	for i := range m.Config {
		w := &m.Config[i]
		values[w.Name], before[w.Name] = w.Default, w.Default
		switch g := given[w.Name]; {
		case g.Known == 0:
		case g.Content:
			values[w.Name], before[w.Name] = g.Value, g.Value
		default:
			values[w.Name] = g.Value
			own = append(own, w)
		}
	}
	// blamed returns the given word without whose value it would not be so.
	blamed := func(is func(values map[string]uint64) bool) *Word {
		for _, w := range own {
			other := maps.Clone(values)
			if other[w.Name] = before[w.Name]; !is(other) {
				return w
			}
		}
		return own[0]
	}
	if len(own) == 0 {
		return nil
	}
	if what := m.TooFast(values); what != "" {
		w := blamed(func(v map[string]uint64) bool { return m.TooFast(v) != "" })
		list = append(
			list,
			Verdict{
				Unfit,
				w,
				nil,
				w.Name,
				what,
				"a clock that the supply allows",
				source.Advise("correct the board's file if its supply is another"),
			},
		)
	}
	was, is := m.WaysIn(before), m.WaysIn(values)
	if !m.Board.wires() || AnyChanges(is) || !AnyChanges(was) {
		return list
	}
	w := blamed(func(v map[string]uint64) bool { return !AnyChanges(m.WaysIn(v)) })
	name := ""
	var why []string
	for i := range was {
		if was[i].Changes() {
			name = was[i].Port
		}
		why = append(why, is[i].String())
	}
	return append(list, Verdict{LastPort, w, nil, name, "no way in remains after programming these words: " + strings.Join(why, "; "),
		"words that leave a way in", source.Advise("accept it by the name of the last port if you intend it")})
}

// judgeGroup judges a setting of several fields, which counts where any of their
// bits is given.
func (m *Map) judgeGroup(g *Group, given map[string]Given) []Verdict {
	var word *Word // the first that is given
	var field *Field
	for _, name := range g.Fields {
		w, f := m.Field(name)
		if o := given[w.Name]; word == nil && !o.Content && o.Known&f.Mask() != 0 {
			word, field = w, f
		}
	}
	if word == nil {
		return nil
	}
	v := judged{word, field, g.Name, 0, 0, g.Values}
	v.is = g.Of(m, func(w *Word) uint64 {
		if o := given[w.Name]; o.Known != 0 {
			return o.Value
		}
		return w.Default
	})
	v.open = g.Of(m, func(w *Word) uint64 { return ^given[w.Name].Known })
	return m.judgeValue(v, given)
}

// judgeField judges one field, which counts where any of its bits is given.
func (m *Map) judgeField(w *Word, f *Field, g Given, given map[string]Given) []Verdict {
	if g.Known&f.Mask() == 0 {
		return nil
	}
	return m.judgeValue(judged{w, f, f.Name, f.Of(g.Value), f.Of(^g.Known), f.Values}, given)
}

// judged is the value of a field or a group: open are the bits that are not given.
type judged struct {
	word     *Word
	field    *Field
	name     string
	is, open uint64
	values   []FieldValue
}

// judgeValue judges the value of a field or a group; of bits that are not given, each
// that it may be.
func (m *Map) judgeValue(j judged, given map[string]Given) (list []Verdict) {
	verdict := func(kind VerdictKind, what, expected, advice string) {
		list = append(list, Verdict{kind, j.word, j.field, j.name, what, expected, source.Advise(advice)})
	}
	defined := false
	for i := range j.values {
		v := &j.values[i]
		if (v.Value^j.is)&^j.open != 0 {
			continue
		}
		defined = true
		if !m.harmless(v, given) {
			m.judgeBoard(j, v, given, verdict)
		}
		if j.open != 0 {
			continue
		}
		for _, other := range slices.Sorted(maps.Keys(v.Requires)) {
			w, o := m.Field(other)
			if o == nil {
				continue
			}
			switch meaning, known := m.meaning(other, given); {
			case !known:
				verdict(Conflict, fmt.Sprintf("%s (%s) requires one value of %s, and %s is not given", j.name, v.Meaning, other, w.Name),
					fmt.Sprintf("%s: %s", other, v.Requires[other]), "give "+w.Name+" too")
			case !strings.EqualFold(meaning, v.Requires[other]):
				verdict(Conflict, fmt.Sprintf("%s (%s) cannot be combined with %s (%s)", j.name, v.Meaning, other, meaning),
					fmt.Sprintf("%s: %s", other, v.Requires[other]), "change one of the two")
			}
		}
	}
	if !defined && len(j.values) > 0 {
		var known []string
		for _, k := range j.values {
			known = append(known, fmt.Sprintf("%d (%s)", k.Value, k.Meaning))
		}
		verdict(Undefined, fmt.Sprintf("%s is %d, which is not defined", j.name, j.is), strings.Join(known, ", "),
			"compose a value from the meanings")
	}
	return list
}

// judgeBoard judges a value by what the board has: a hazard that the board takes away is
// none, and what the board does not support is no matter of being accepted.
func (m *Map) judgeBoard(j judged, v *FieldValue, given map[string]Given, verdict func(kind VerdictKind, what, expected, advice string)) {
	is := fmt.Sprintf("%s = %s", j.name, v.Meaning)
	if j.open != 0 {
		is = fmt.Sprintf("%s may be %s, because not all of its bits are given, which", j.name, v.Meaning)
	}
	hazard, expected, known := v.Hazard, "a value that can be undone"+m.unless(v, given), true
	if v.Needs != nil {
		if hazard == "" && v.Needs.external() {
			hazard = "without " + v.Needs.String() + " the device stops"
		}
		lacks, unsaid := m.Board.lacks(v.Needs)
		switch known = len(unsaid) == 0; {
		case len(lacks) > 0:
			verdict(Unfit, fmt.Sprintf("%s needs %s, and board %s has %s", is, v.Needs, m.Board.Name, strings.Join(lacks, " and ")),
				m.supported(j), "correct the board's file if it has what the value needs")
			return
		case known && v.Effect != Closed && v.Effect != Locked: // which is no matter of needs
			hazard = ""
		case !known && m.Board != nil && hazard != "":
			expected += ", or a board that says " + strings.Join(unsaid, " and ")
		}
	}
	if v.Effect == Closed && known && len(m.Ports) > 0 && m.Board.wires() {
		hazard = "" // the ways in that remain are judged by all words together
	}
	if hazard != "" {
		verdict(Hazard, fmt.Sprintf("%s is a hazard: %s", is, hazard), expected, "accept it by name if you intend it")
	}
}

// supported says which other values the board supports.
func (m *Map) supported(j judged) string {
	var list []string
	for i := range j.values {
		v := &j.values[i]
		if v.Needs == nil && v.Hazard == "" {
			list = append(list, v.Meaning)
		} else if v.Needs != nil {
			if lacks, unsaid := m.Board.lacks(v.Needs); len(lacks)+len(unsaid) == 0 {
				list = append(list, v.Meaning)
			}
		}
	}
	if len(list) == 0 {
		return "a board that has it"
	}
	return "a value that the board supports: " + strings.Join(list, "; ")
}

// unless says with what, all together, a value is no hazard, and what of that is not
// given.
func (m *Map) unless(v *FieldValue, given map[string]Given) string {
	var with, lacking []string
	for _, other := range slices.Sorted(maps.Keys(v.Unless)) {
		with = append(with, other+": "+v.Unless[other])
		if w, _ := m.Field(other); w != nil {
			if _, known := m.meaning(other, given); !known && !slices.Contains(lacking, w.Name) {
				lacking = append(lacking, w.Name)
			}
		}
	}
	if len(with) == 0 {
		return ""
	}
	text := ", or " + strings.Join(with, " and ")
	if len(with) > 1 {
		text += ", together"
	}
	if len(lacking) > 0 {
		text += "; not given: " + strings.Join(lacking, ", ")
	}
	return text
}

// harmless reports whether other fields, all that the value names, are given and take
// its hazard away.
func (m *Map) harmless(v *FieldValue, given map[string]Given) bool {
	for other, meaning := range v.Unless {
		if is, known := m.meaning(other, given); !known || !strings.EqualFold(is, meaning) {
			return false
		}
	}
	return len(v.Unless) > 0
}

// meaning returns what a field means as it is given; known is false where not all
// of its bits are. A value without a meaning is its number.
func (m *Map) meaning(field string, given map[string]Given) (text string, known bool) {
	w, f := m.Field(field)
	if f == nil {
		return "", false
	}
	g := given[w.Name]
	if g.Known&f.Mask() != f.Mask() {
		return "", false
	}
	if is := f.Value(f.Of(g.Value)); is != nil {
		return is.Meaning, true
	}
	return fmt.Sprint(f.Of(g.Value)), true
}

// bitList names the bits that are set: 0..3, 7.
func bitList(v uint64) string {
	var names []string
	for v != 0 {
		low := bits.TrailingZeros64(v)
		run := bits.TrailingZeros64(^(v >> low))
		name := fmt.Sprint(low)
		if run > 1 {
			name = fmt.Sprintf("%d..%d", low, low+run-1)
		}
		names = append(names, name)
		v &^= (1<<run - 1) << low
	}
	return strings.Join(names, ", ")
}

// Compose returns the values of words with one field, or group, set to a meaning or
// a number, in place of those in values or, where these have none, as delivered. It
// returns the words that this changes.
func (m *Map) Compose(values map[string]uint64, field, meaning string) ([]*Word, error) {
	if g := m.Group(field); g != nil {
		v, err := g.whole(m).meant(meaning)
		if err != nil {
			return nil, err
		}
		var words []*Word
		for _, name := range g.Fields {
			w, f := m.Field(name)
			compose(values, w, f, v&(1<<f.Bits-1))
			v >>= f.Bits
			if !slices.Contains(words, w) {
				words = append(words, w)
			}
		}
		return words, nil
	}
	w, f := m.Field(field)
	if f == nil {
		known := m.FieldNames()
		for _, g := range m.Groups {
			known = append(known, g.Name)
		}
		return nil, fmt.Errorf("%s has no field %q; %s", m.Name, field, source.DidYouMean(field, known))
	}
	v, err := f.meant(meaning)
	if err != nil {
		return nil, err
	}
	compose(values, w, f, v)
	return []*Word{w}, nil
}

// meant returns the value that a text stands for: a meaning, in any case and with or without
// its blanks; the one meaning that contains the text; or a number that is defined. A number
// that stands in the meaning of another value is refused: either may be meant.
func (f *Field) meant(text string) (uint64, error) {
	plain := func(meaning string) string { return strings.ToLower(strings.ReplaceAll(meaning, " ", "")) }
	n, err := span.Number(text)
	number := err == nil
	var alike, within []*FieldValue
	for i := range f.Values {
		v := &f.Values[i]
		switch {
		case strings.EqualFold(v.Meaning, text):
			return v.Value, nil
		case plain(v.Meaning) == plain(text):
			alike = append(alike, v)
		case number && slices.Contains(strings.Fields(v.Meaning), text),
			!number && text != "" && strings.Contains(strings.ToLower(v.Meaning), strings.ToLower(text)):
			within = append(within, v)
		}
	}
	if len(alike) == 1 {
		return alike[0].Value, nil
	}
	if is := f.Value(n); number && is != nil {
		if strings.HasPrefix(text, "0x") {
			return n, nil
		}
		for _, v := range within {
			if v != is {
				return 0, fmt.Errorf("%s: %s is the value of %q, and stands in %q; give the whole meaning, or 0x%X", f.Name, text, is.Meaning,
					v.Meaning, n)
			}
		}
	}
	if len(within) == 1 {
		return within[0].Value, nil
	}
	return f.Named(text)
}

func compose(values map[string]uint64, w *Word, f *Field, v uint64) {
	old, ok := values[w.Name]
	if !ok {
		old = w.Default
	}
	values[w.Name] = old&^f.Mask() | v<<f.Low
}
