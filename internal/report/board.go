package report

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
)

// consequences says what follows from the words: regions, the clock, the ways in. It reports
// whether it said anything.
func (x *Words) consequences(p *render.Printer) (said bool) {
	for _, r := range x.regions() {
		p.Line("region %s is at %s with these words, and at %s as delivered", r.Name, r.Is, r.Delivered)
		said = true
	}
	if len(x.Values) == 0 {
		return said
	}
	values := x.all()
	if hz, ok := x.Map.Clock(values); ok {
		p.Line("clock %s", device.Frequency.Format(hz))
		said = true
	}
	ways := x.Map.WaysIn(values)
	if len(x.Map.Ports) == 0 && ways[0].Why == "" {
		return said
	}
	if said {
		p.Printf("\n")
	}
	waysIn(p, "ways in after programming it", ways)
	return true
}

// waysIn lists ports.
func waysIn(p *render.Printer, title string, list []device.WayIn) {
	p.Line("%s", p.Title(title))
	var rows [][]string
	for _, w := range list {
		name := w.Port
		if name == "" {
			name = "(assumed; the map has no port)"
		}
		rows = append(rows, []string{name, w.CanText(), w.Why})
	}
	p.Table([]string{"port", "can", "because"}, rows)
	if !device.AnyChanges(list) {
		p.Line("%s", p.Bad("no way in remains"))
	}
}

// rewriting tells in which order words are written.
func rewriting(p *render.Printer, r *device.Rewriting) {
	through := func(port string) string {
		if port == "" {
			return ""
		}
		return " through " + port
	}
	if r.Fault != "" {
		p.Line("%s: %s", p.Bad("no order"), r.Fault)
		return
	}
	if r.Erase == nil && len(r.Words) == 0 {
		p.Line("nothing to write: the device has these words")
		return
	}
	p.Line("%s", p.Title("order, with a reset after each"))
	n := 0
	if r.Erase != nil {
		n++
		p.Line("  %d. erase the whole device%s, which opens it, and also erases %s", n, through(r.Erase.By), strings.Join(r.Takes, ", "))
	}
	for i, w := range r.Words {
		n++
		p.Line("  %d. %s = %s%s", n, w.Word.Name, w.Word.Format(w.Value), through(w.By))
		if r.NoReturn == i+1 {
			p.Line("     %s: no way in remains after it", p.Bad("point of no return"))
		}
	}
	switch back := device.WaysBack(r.Last); {
	case r.NoReturn > 0:
	case back.Locked:
		p.Line("  the way back: erase the whole device through %s, which takes its contents with it", back.Port)
	case back.Port != "":
		p.Line("  the way back: write the words again through %s", back.Port)
	}
}

// ports tells the ports, the wishes and the speeds of a map, and the board.
func ports(p *render.Printer, m *device.Map) {
	if b := m.Board; b != nil {
		p.Line("\n%s %s (%s): %s", p.Title("board"), b.Name, b.File, strings.Join(b.Facts(), ", "))
	}
	if len(m.Ports) > 0 {
		p.Printf("\n")
		var rows [][]string
		for i := range m.Ports {
			port := &m.Ports[i]
			needs := device.Meanings(port.Needs)
			if port.Clock {
				needs = append(needs, "a running clock")
			}
			if port.Wired {
				needs = append(needs, "a board that wires it")
			}
			rows = append(rows, []string{port.Name, (&device.WayIn{Can: port.Can}).CanText(), strings.Join(needs, ", ")})
			for _, when := range port.When {
				rows = append(rows,
					[]string{"", (&device.WayIn{Can: when.Can}).CanText(), "where " + strings.Join(device.Meanings(when.If), ", ")})
			}
		}
		p.Table([]string{"port", "can", "needs"}, rows)
	}
	if len(m.Speeds) > 0 {
		var list []string
		for _, s := range m.Speeds {
			list = append(list, fmt.Sprintf("%s at %s", device.Frequency.FormatRange(s.Clock), device.Voltage.FormatRange(s.Supply)))
		}
		p.Line("\n%s: %s", p.Title("clock"), strings.Join(list, "; "))
	}
	if len(m.Wishes) > 0 {
		p.Printf("\n")
		var rows [][]string
		for _, w := range m.Wishes {
			rows = append(rows, []string{w.Name, strings.Join(device.Meanings(w.Set), ", ")})
		}
		p.Table([]string{"wish", "sets"}, rows)
	}
}

// BoardModel is what a board says.
type BoardModel struct {
	Name      string            `json:"name"`
	File      string            `json:"file"`
	Clock     string            `json:"clock,omitempty"`     // none, crystal, signal
	Frequency uint64            `json:"frequency,omitempty"` // in Hz
	Supply    *RangeModel       `json:"supply,omitempty"`    // in mV
	Pins      map[string]string `json:"pins,omitempty"`
	Ports     []BoardPortModel  `json:"ports"`
}

// RangeModel is from the lowest to the highest.
type RangeModel struct {
	From uint64 `json:"from"`
	To   uint64 `json:"to"` // 18446744073709551615 if there is none
}

// BoardPortModel is what a board says of a port.
type BoardPortModel struct {
	Port  string `json:"port"`
	Wired bool   `json:"wired"`
	Baud  uint64 `json:"baud,omitempty"`
}

func boardModel(b *device.Board) *BoardModel {
	if b == nil {
		return nil
	}
	out := &BoardModel{
		Name: b.Name, File: b.File, Clock: string(b.Clock), Frequency: uint64(b.Frequency),
		Supply: rangeModel(b.Supply), Pins: b.Pins, Ports: []BoardPortModel{},
	}
	for _, p := range b.Ports {
		out.Ports = append(out.Ports, BoardPortModel{p.Name, p.Wired, p.Baud})
	}
	return out
}

func rangeModel(r *device.Range) *RangeModel {
	if r == nil {
		return nil
	}
	return &RangeModel{uint64(r.Low), uint64(r.High)}
}

// PortModel is a port of a map.
type PortModel struct {
	Name  string            `json:"name"`
	Clock bool              `json:"clock"` // it needs a running clock
	Wired bool              `json:"wired"` // it works only where a board says that it is wired
	Needs map[string]string `json:"needs,omitempty"`
	Can   []string          `json:"can"`
	When  []PortWhenModel   `json:"when,omitempty"` // what it can do otherwise; the first that applies counts
}

// PortWhenModel is what a port can do where fields have meanings.
type PortWhenModel struct {
	If  map[string]string `json:"if"`
	Can []string          `json:"can"`
}

func abilityTexts(list []device.Ability) []string {
	out := []string{}
	for _, a := range list {
		out = append(out, string(a))
	}
	return out
}

func portModels(m *device.Map) (list []PortModel) {
	for i := range m.Ports {
		p := &m.Ports[i]
		one := PortModel{Name: p.Name, Clock: p.Clock, Wired: p.Wired, Needs: p.Needs, Can: abilityTexts(p.Can)}
		for _, w := range p.When {
			one.When = append(one.When, PortWhenModel{w.If, abilityTexts(w.Can)})
		}
		list = append(list, one)
	}
	return list
}

// WishModel is an everyday setting.
type WishModel struct {
	Name string            `json:"name"`
	Set  map[string]string `json:"set"`
}

// SpeedModel is the clock that a supply allows: in mV, and in Hz.
type SpeedModel struct {
	Supply RangeModel `json:"supply"`
	Clock  RangeModel `json:"clock"`
}

// NeedsModel is what a value needs of the board.
type NeedsModel struct {
	Clock     string      `json:"clock,omitempty"`
	Frequency *RangeModel `json:"frequency,omitempty"` // in Hz
	Supply    *RangeModel `json:"supply,omitempty"`    // in mV
	Pin       string      `json:"pin,omitempty"`       // that is connected
	Free      string      `json:"free,omitempty"`      // that is used for nothing else
}

// GivesModel is the clock that follows from a value.
type GivesModel struct {
	Clock  uint64 `json:"clock,omitempty"` // in Hz
	Board  bool   `json:"board,omitempty"` // it is the board's
	Divide uint64 `json:"divide,omitempty"`
}

// FollowsModel is what follows from configuration words.
type FollowsModel struct {
	Regions []RegionChangeModel `json:"regions"`         // that are elsewhere than as delivered
	Clock   uint64              `json:"clock,omitempty"` // in Hz
	Ports   []WayInModel        `json:"ports"`           // after programming it
}

func (x *Words) follows() *FollowsModel {
	out := &FollowsModel{[]RegionChangeModel{}, 0, wayInModels(x.Map.WaysIn(x.all()))}
	for _, r := range x.regions() {
		out.Regions = append(out.Regions, RegionChangeModel{r.Name, spanOf(r.Is), spanOf(r.Delivered)})
	}
	if hz, ok := x.Map.Clock(x.all()); ok {
		out.Clock = uint64(hz)
	}
	return out
}

// WayInModel is a port, as it is where the configuration words have their values.
type WayInModel struct {
	Port    string   `json:"port"` // empty: the one that is assumed where the map has none
	Can     []string `json:"can"`
	Because string   `json:"because,omitempty"` // why it cannot do all
}

func wayInModels(list []device.WayIn) []WayInModel {
	out := []WayInModel{}
	for _, w := range list {
		out = append(out, WayInModel{w.Port, abilityTexts(w.Can), w.Why})
	}
	return out
}

// OrderModel is an order in which words are written, with a reset after each.
type OrderModel struct {
	EraseFirst string         `json:"eraseFirst,omitempty"` // the port through which the whole device is erased first
	Takes      []string       `json:"takes,omitempty"`      // the memories that this erases
	Words      []WrittenModel `json:"words"`
	NoReturn   int            `json:"noReturn,omitempty"` // the number of the word, from 1, after which no way in remains
	Fault      string         `json:"fault,omitempty"`    // why there is no order
}

// WrittenModel is a word that is written in its turn.
type WrittenModel struct {
	Word  string `json:"word"`
	Value string `json:"value"`
	Port  string `json:"port,omitempty"`
}
