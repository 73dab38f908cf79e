package device

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"mexalt/source"
)

// Ability is what a programmer can do through a port.
type Ability string

// The abilities.
const (
	CanIdentify Ability = "identify"
	CanRead     Ability = "read"
	CanProgram  Ability = "program" // and erase sectors
	CanEraseAll Ability = "erase-all"
	CanWords    Ability = "words"
)

var abilities = []string{string(CanIdentify), string(CanRead), string(CanProgram), string(CanEraseAll), string(CanWords)}

// Port is a way into the device for a programmer.
type Port struct {
	Name  string
	Clock bool              // it needs a running clock
	Wired bool              // it is there only where a board says that it is wired
	Needs map[string]string // fields and what they must mean
	Can   []Ability
	When  []PortWhen // otherwise; the first that applies counts
}

// PortWhen is what a port can do where fields have meanings.
type PortWhen struct {
	If  map[string]string
	Can []Ability
}

// WayIn is a port as it is where the configuration words have their values: what it can do
// then, and, where that is not all, why.
type WayIn struct {
	Port string // "" is the one that is assumed where the map gives none
	Can  []Ability
	Why  string
}

// Changes reports whether anything of the device can be changed through it.
func (w *WayIn) Changes() bool {
	return w.Does(CanProgram) || w.Does(CanEraseAll) || w.Does(CanWords)
}

// Does reports whether it can do something.
func (w *WayIn) Does(a Ability) bool { return slices.Contains(w.Can, a) }

// String says what it can do, and why not more.
func (w WayIn) String() string {
	text := cmp.Or(w.Port, "programming port") + ": "
	switch {
	case w.Why == "":
		return text + w.CanText()
	case len(w.Can) == 0:
		return text + w.Why
	}
	return text + w.CanText() + ", because of " + w.Why
}

// CanText lists what it can do.
func (w *WayIn) CanText() string {
	if len(w.Can) == 0 {
		return nothing
	}
	var list []string
	for _, a := range w.Can {
		list = append(list, string(a))
	}
	return strings.Join(list, ", ")
}

// AnyDoes reports whether any of some ways in can do something.
func AnyDoes(list []WayIn, a Ability) bool {
	return slices.ContainsFunc(list, func(w WayIn) bool { return w.Does(a) })
}

// AnyChanges reports whether anything of the device can be changed through any of some
// ways in.
func AnyChanges(list []WayIn) bool {
	return slices.ContainsFunc(list, func(w WayIn) bool { return w.Changes() })
}

// WaysIn returns the ports of the device on its board, as they are after a reset where the
// words have the values. A map without ports has one, which works unless an effect closes
// it, or stops the device.
func (m *Map) WaysIn(values map[string]uint64) (list []WayIn) {
	var locked, closed, stopped string
	for _, a := range m.Acting(values) {
		by := fmt.Sprintf("%s (%s)", a.Field, a.Meaning)
		switch a.Effect {
		case Locked:
			locked = by
		case Closed:
			closed = by
		case Stopped:
			stopped = by
		}
	}
	if len(m.Ports) == 0 {
		w := WayIn{Can: []Ability{CanIdentify, CanRead, CanProgram, CanEraseAll, CanWords}, Why: cmp.Or(closed, stopped)}
		if w.Why != "" {
			w.Can = nil
		} else if locked != "" {
			w.Can, w.Why = []Ability{CanIdentify, CanEraseAll}, locked
		}
		return []WayIn{w}
	}
	for i := range m.Ports {
		list = append(list, m.wayIn(&m.Ports[i], values, stopped))
	}
	return list
}

// wayIn returns one port; stopped is why the device does not run.
func (m *Map) wayIn(p *Port, values map[string]uint64, stopped string) WayIn {
	w := WayIn{Port: p.Name, Can: p.Can}
	switch wired := m.Board.wires(); {
	case wired && m.Board.port(p.Name) == nil:
		w.Why = "the board does not say that it is wired"
	case wired && !m.Board.port(p.Name).Wired:
		w.Why = "the board does not wire it"
	case !wired && p.Wired:
		w.Why = "no board says that it is wired"
	case p.Clock && stopped != "":
		w.Why = "the device does not run: " + stopped
	default:
		for _, field := range slices.Sorted(maps.Keys(p.Needs)) {
			if is := m.means(field, values); !strings.EqualFold(is, p.Needs[field]) {
				w.Why = fmt.Sprintf("%s (%s)", field, is)
				break
			}
		}
	}
	if w.Why != "" {
		w.Can = nil
		return w
	}
	for _, when := range p.When {
		var why []string
		for _, field := range slices.Sorted(maps.Keys(when.If)) {
			if is := m.means(field, values); strings.EqualFold(is, when.If[field]) {
				why = append(why, fmt.Sprintf("%s (%s)", field, is))
			}
		}
		if len(why) == len(when.If) {
			w.Can, w.Why = when.Can, strings.Join(why, " and ")
			return w
		}
	}
	return w
}

// means returns what a field means where the words have the values; a value without a
// meaning is its number.
func (m *Map) means(field string, values map[string]uint64) string {
	w, f := m.Field(field)
	if f == nil {
		return ""
	}
	v := values[w.Name]
	if is := f.Value(f.Of(v)); is != nil {
		return is.Meaning
	}
	return fmt.Sprint(f.Of(v))
}

var portName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_-]*$`) })

// ports loads the ways in.
func (l *loader) ports(m *Map, list []portFile) {
	for i := range list {
		f := &list[i]
		path := fmt.Sprintf("port[%d]", i)
		if !l.keys(path, strings.TrimSpace("port "+f.Name), f) {
			continue
		}
		before := l.count
		switch {
		case !portName().MatchString(f.Name):
			l.problem(path+".name", fmt.Sprintf("%q cannot be a name", f.Name), "letters, digits, _ and -, with no digit first", "")
		case slices.ContainsFunc(m.Ports, func(p Port) bool { return p.Name == f.Name }):
			l.problem(path+".name", fmt.Sprintf("the port %s is given twice", f.Name), "", "")
		}
		// A variant may lack fields that a port of its base hangs on: none of them can shut it.
		lacking := func(field string) bool {
			o, variant := l.file.(*overlay)
			_, known := m.Field(field)
			return variant && !o.owns(path) && known == nil && !l.fields[strings.ToLower(field)]
		}
		p := Port{Name: f.Name, Needs: map[string]string{}, Can: l.abilities(path+".can", f.Can)}
		for _, key := range slices.Sorted(maps.Keys(f.Needs)) {
			at := path + ".needs." + key
			switch {
			case lacking(key) && key != "clock" && key != "wired":
			case key == "clock" || key == "wired":
				if f.Needs[key] != true {
					l.problem(at, fmt.Sprintf("%s is %v", key, f.Needs[key]), "true, or no such key", "")
				}
				p.Clock, p.Wired = p.Clock || key == "clock", p.Wired || key == "wired"
			default:
				p.Needs[key] = l.portField(m, at, key, f.Needs[key])
			}
		}
		for j, table := range f.When {
			if !slices.ContainsFunc(slices.Collect(maps.Keys(table)), func(key string) bool { return key != "can" && lacking(key) }) {
				p.When = append(p.When, l.portWhen(m, fmt.Sprintf("%s.when[%d]", path, j), table))
			}
		}
		if l.count == before {
			m.Ports = append(m.Ports, p)
		}
	}
}

// effects proves that what closes or locks the device does so at a port: else a board's
// ports would be ways in that are none.
func (l *loader) effects(m *Map) {
	if len(m.Ports) == 0 || l.count > 0 || l.again {
		return
	}
	all := &Board{Name: "all"}
	for _, p := range m.Ports {
		all.Ports = append(all.Ports, BoardPort{Name: p.Name, Wired: true})
	}
	on := m.On(all)
	delivered := map[string]uint64{}
	for i := range m.Config {
		delivered[m.Config[i].Name] = m.Config[i].Default
	}
	can := func(values map[string]uint64) (n int) {
		for _, w := range on.WaysIn(values) {
			n += len(w.Can)
		}
		return n
	}
	prove := func(path, name string, list []FieldValue) {
		for i := range list {
			v := &list[i]
			values := maps.Clone(delivered)
			if v.Effect != Closed && v.Effect != Locked {
				continue
			}
			if _, err := m.Compose(values, name, v.Meaning); err != nil || maps.Equal(values, delivered) || can(values) < can(delivered) {
				continue
			}
			l.problem(fmt.Sprintf("%s.values[%d].effect", path, i),
				fmt.Sprintf("%s (%s) is %s, and no port can do less then", name, v.Meaning, v.Effect),
				fmt.Sprintf("a [[port]] that needs %s, or has it in when", name), "")
		}
	}
	for i := range m.Config {
		for j := range m.Config[i].Fields {
			f := &m.Config[i].Fields[j]
			prove(fmt.Sprintf("config[%d].field[%d]", i, j), f.Name, f.Values)
		}
	}
	for i := range m.Groups {
		prove(fmt.Sprintf("group[%d]", i), m.Groups[i].Name, m.Groups[i].Values)
	}
}

// portWhen loads what a port can do where fields have meanings.
func (l *loader) portWhen(m *Map, path string, table map[string]any) PortWhen {
	w := PortWhen{If: map[string]string{}}
	for _, key := range slices.Sorted(maps.Keys(table)) {
		if key != "can" {
			w.If[key] = l.portField(m, path+"."+key, key, table[key])
		}
	}
	switch can := table["can"].(type) {
	case []any:
		for i, one := range can {
			text, _ := one.(string)
			w.Can = l.ability(fmt.Sprintf("%s.can[%d]", path, i), text, w.Can)
		}
	case string:
		if can != nothing {
			w.Can = l.ability(path+".can", can, nil)
		}
	default:
		l.problem(path, "when has no can", "can = [\"identify\"], or can = [] if nothing", "")
	}
	if len(w.If) == 0 {
		l.problem(path, "when names no field", "FIELD = \"MEANING\"", "")
	}
	return w
}

// portField loads a field and its meaning.
func (l *loader) portField(m *Map, path, field string, value any) string {
	meaning, ok := value.(string)
	if !ok {
		l.problem(path, fmt.Sprintf("%s is %v", field, value), "a meaning of the field, in quotes", "")
		return ""
	}
	if !l.fieldMeans(m, path, field, meaning, false) {
		return ""
	}
	_, f := m.Field(field)
	v, _ := f.Named(meaning)
	if is := f.Value(v); is != nil {
		return is.Meaning
	}
	return fmt.Sprint(v)
}

// abilities loads what a port can do.
func (l *loader) abilities(path string, list []string) (can []Ability) {
	for _, text := range list {
		can = l.ability(path, text, can)
	}
	return can
}

// ability adds one to what a port can do.
func (l *loader) ability(path, text string, can []Ability) []Ability {
	switch {
	case !slices.Contains(abilities, text):
		l.problem(path, fmt.Sprintf("%q is nothing that a port can do", text), "", source.DidYouMean(text, abilities))
	case slices.Contains(can, Ability(text)):
		l.problem(path, text+" is given twice", "", "")
	default:
		can = append(can, Ability(text))
	}
	return can
}
