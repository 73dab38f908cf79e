package operation

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

var configKind = &Kind{
	Name: "config", Usage: "`words` FIELD=MEANING", Step: true,
	Short: "set fields of configuration words",
	Long: `
Writes the configuration words that contain the named fields. The words start from
their values in the image, or their delivered values, and get these fields changed.`,
	New: func() Operation { return &Config{} },
}

// Config set fields of configuration words.
type Config struct {
	Words []string // FIELD=MEANING
}

// Keys returns the operation's keys.
func (op *Config) Keys() []*key.Key {
	return []*key.Key{key.List(&op.Words, "words", "FIELD=MEANING", "set FIELD to MEANING; repeatable")}
}

// Check tells of what is missing.
func (op *Config) Check(withMap bool) error {
	switch {
	case !withMap:
		return source.Keyf("device", "missing; the device map defines the configuration words")
	case len(op.Words) == 0:
		return source.Keyf("words", "missing; FIELD=MEANING")
	}
	return nil
}

// Apply writes the configuration words.
func (op *Config) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, _ := e.begin(in.Image)
	values := map[string]uint64{}
	for i := range e.Map.Config {
		w := &e.Map.Config[i]
		if g := w.GivenIn(in.Image); g.Known != 0 {
			values[w.Name] = g.Value
		}
	}
	changed, given := map[string]bool{}, map[string]bool{}
	for _, text := range op.Words {
		field, meaning, ok := strings.Cut(text, "=")
		if !ok {
			return nil, source.Keyf("words", "%q is not FIELD=MEANING", text)
		}
		if given[strings.ToLower(field)] {
			return nil, source.Keyf("words", "%s is given twice", field)
		}
		given[strings.ToLower(field)] = true
		words, err := e.Map.Compose(values, field, meaning)
		if err != nil {
			return nil, &source.KeyError{Key: "words", Err: err}
		}
		for _, w := range words {
			changed[w.Name] = true
		}
	}
	draft := memory.NewDraft(in.Image)
	for i := range e.Map.Config {
		w := &e.Map.Config[i]
		if !changed[w.Name] {
			continue
		}
		if !draft.Write(e.input("config"), w.At, w.Bytes(values[w.Name])) {
			return nil, fmt.Errorf("%s is past the last 64-bit address", w.Name)
		}
		if s, ok := w.Complement(); ok {
			if !draft.Write(e.input("config"), s.First, w.Bytes(^values[w.Name])) {
				return nil, fmt.Errorf("the complement of %s is past the last 64-bit address", w.Name)
			}
		}
		o.changed("%s set to %s at %s%s", w.Name, w.Format(values[w.Name]), e.Map.AddressText(w.At), setIn(e.Map, w, values, given))
	}
	o.Parts = []memory.Part{{Name: in.Name, Image: draft.Image()}}
	return o, nil
}

// setIn says what the fields and groups of a word mean that were given, by their names in small
// letters.
func setIn(m *device.Map, w *device.Word, values map[string]uint64, given map[string]bool) string {
	var list []string
	for name, v := range m.Meant(values) {
		within := slices.ContainsFunc(w.Fields, func(f device.Field) bool { return f.Name == name })
		if g := m.Group(name); g != nil {
			within = slices.ContainsFunc(w.Fields, func(f device.Field) bool { return slices.Contains(g.Fields, f.Name) })
		}
		if within && given[strings.ToLower(name)] {
			list = append(list, name+" = "+v.Meaning)
		}
	}
	if list == nil {
		return ""
	}
	return ": " + strings.Join(list, ", ")
}
