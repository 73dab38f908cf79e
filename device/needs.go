package device

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mexalt/span"
)

// Needs is what a value needs of the board: all that is given.
type Needs struct {
	Clock     ClockSource // "" is none
	Frequency *Range      // in Hz
	Supply    *Range      // in mV
	Pin       string      // that is connected
	Free      string      // that is used for nothing else
}

// Gives is the clock that follows from a value.
type Gives struct {
	Clock  Quantity // in Hz; 0 is not said
	Board  bool     // it is the board's
	Divide uint64   // what the clock is divided by; 0 is not said
}

// external reports whether the value needs a clock of the board.
func (n *Needs) external() bool { return n != nil && (n.Clock != "" || n.Frequency != nil) }

// running returns what is needed for the device to run; nil is nothing.
func (n *Needs) running() *Needs {
	if n == nil || !n.external() && n.Supply == nil {
		return nil
	}
	return &Needs{Clock: n.Clock, Frequency: n.Frequency, Supply: n.Supply}
}

// String says what is needed.
func (n *Needs) String() string {
	var list []string
	switch n.Clock {
	case Crystal:
		list = append(list, "a crystal")
	case Signal:
		list = append(list, "a clock signal")
	}
	if n.Frequency != nil {
		if len(list) == 0 {
			list = append(list, "a clock")
		}
		list[0] += " of " + Frequency.FormatRange(*n.Frequency)
	}
	if n.Supply != nil {
		list = append(list, "a supply of "+Voltage.FormatRange(*n.Supply))
	}
	if n.Pin != "" {
		list = append(list, "pin "+n.Pin+" connected")
	}
	if n.Free != "" {
		list = append(list, "pin "+n.Free+" free")
	}
	return strings.Join(list, " and ")
}

// lacks returns what of the needs the board does not have, and what it does not say;
// a nil board says nothing.
func (b *Board) lacks(n *Needs) (lacks, unsaid []string) {
	if b == nil {
		return nil, []string{n.String()}
	}
	if n.external() {
		switch {
		case b.Clock == "":
			unsaid = append(unsaid, "clock")
		case b.Clock == NoClock:
			lacks = append(lacks, "no clock source")
		case n.Clock != "" && n.Clock != b.Clock, n.Frequency != nil && !n.Frequency.Covers(Range{b.Frequency, b.Frequency}):
			lacks = append(lacks, b.clockText())
		}
	}
	if n.Supply != nil {
		switch {
		case b.Supply == nil:
			unsaid = append(unsaid, "supply")
		case !n.Supply.Covers(*b.Supply):
			lacks = append(lacks, "a supply of "+Voltage.FormatRange(*b.Supply))
		}
	}
	for _, pin := range []struct {
		name string
		free bool
	}{{n.Pin, false}, {n.Free, true}} {
		use := b.Pins[pin.name]
		switch {
		case pin.name == "":
		case use == "":
			unsaid = append(unsaid, "pins."+pin.name)
		case (use == FreePin) != pin.free:
			lacks = append(lacks, fmt.Sprintf("pin %s as %s", pin.name, use))
		}
	}
	return lacks, unsaid
}

// Clock returns the frequency at which the device runs where its words have the values,
// in Hz; ok is false where the map and the board do not say.
func (m *Map) Clock(values map[string]uint64) (hz Quantity, ok bool) {
	var divisors []Quantity
	for _, v := range m.Meant(values) {
		switch g := v.Gives; {
		case g == nil:
		case g.Divide > 0:
			divisors = append(divisors, Quantity(g.Divide))
		case g.Board && m.Board != nil && m.Board.Frequency > 0:
			hz = m.Board.Frequency
		case !g.Board:
			hz = g.Clock
		}
	}
	for _, d := range divisors { // one after the other, as their product may have more than 64 bits
		hz /= d
	}
	return hz, hz > 0
}

// TooFast says that the supply of the board does not allow the clock; "" is that it does,
// or that nothing says so.
func (m *Map) TooFast(values map[string]uint64) string {
	hz, ok := m.Clock(values)
	if !ok || m.Board == nil || m.Board.Supply == nil || len(m.Speeds) == 0 {
		return ""
	}
	var lowest *Speed // that allows the clock
	for i := range m.Speeds {
		s := &m.Speeds[i]
		if !s.Clock.Covers(Range{hz, hz}) {
			continue
		}
		if s.Supply.Covers(*m.Board.Supply) {
			return ""
		}
		if lowest == nil || s.Supply.Low < lowest.Supply.Low {
			lowest = s
		}
	}
	board := fmt.Sprintf("board %s has %s", m.Board.Name, Voltage.FormatRange(*m.Board.Supply))
	if lowest == nil {
		return fmt.Sprintf("the device does not run at %s at any supply, and %s", Frequency.Format(hz), board)
	}
	return fmt.Sprintf("a clock of %s needs a supply of %s, and %s", Frequency.Format(hz), Voltage.FormatRange(lowest.Supply), board)
}

// Speed is the clock that a supply allows.
type Speed struct{ Supply, Clock Range }

// quantity reads a quantity, or a range of them.
func (l *loader) quantity(path string, d *Dimension, text string) *Range {
	if text == "" {
		return nil
	}
	r, err := d.ParseRange(text)
	if err != nil {
		l.problem(path, err.Error(), "", "")
		return nil
	}
	return &r
}

// pins returns the pins that values need or take, sorted.
func (m *Map) pins() []string {
	names := map[string]bool{}
	for v := range m.eachValue() {
		if v.Needs != nil {
			names[v.Needs.Pin], names[v.Needs.Free] = true, true
		}
	}
	delete(names, "")
	return slices.Sorted(maps.Keys(names))
}

// eachValue goes through the values of all fields and groups.
func (m *Map) eachValue() func(yield func(*FieldValue) bool) {
	return func(yield func(*FieldValue) bool) {
		all := func(list []FieldValue) bool {
			for i := range list {
				if !yield(&list[i]) {
					return false
				}
			}
			return true
		}
		for i := range m.Config {
			for j := range m.Config[i].Fields {
				if !all(m.Config[i].Fields[j].Values) {
					return
				}
			}
		}
		for i := range m.Groups {
			if !all(m.Groups[i].Values) {
				return
			}
		}
	}
}

// needs loads what a value needs of the board.
func (c *configLoader) needs(path string, f *needsFile) *Needs {
	if f == nil || !c.keys(path, "needs", f) {
		return nil
	}
	n := &Needs{
		Clock:     ClockSource(f.Clock),
		Frequency: c.quantity(path+".frequency", Frequency, f.Frequency),
		Supply:    c.quantity(path+".supply", Voltage, f.Supply),
		Pin:       f.Pin,
		Free:      f.Free,
	}
	for key, pin := range map[string]string{"pin": f.Pin, "free": f.Free} {
		if pin != "" && !span.IsName(pin) {
			c.problem(path+"."+key, fmt.Sprintf("%q cannot be a name", pin), "letters, digits and _, with no digit first", "")
		}
	}
	if *f == (needsFile{}) {
		c.problem(path, "needs is empty", "clock, frequency, supply, pin or free; or no such key", "")
		return nil
	}
	return n
}

// gives loads the clock that follows from a value.
func (c *configLoader) gives(path string, f *givesFile) *Gives {
	if f == nil {
		return nil
	}
	g := &Gives{Board: f.Clock == "board"}
	var ok bool
	if g.Divide, ok = c.within(path, "divide", f.Divide, 0, 1, 1<<32); !ok {
		return nil
	}
	switch {
	case (f.Clock == "") == (f.Divide == ""):
		c.problem(path, "gives has clock or divide, one of them", "", "")
		return nil
	case f.Clock != "" && !g.Board:
		hz, err := Frequency.Parse(f.Clock)
		if err == nil && hz == 0 {
			err = errors.New("a frequency of 0 Hz")
		}
		if err != nil {
			c.problem(path+".clock", err.Error(), "8 MHz, for example, or board", "")
			return nil
		}
		g.Clock = hz
	}
	return g
}

// speeds loads which clock each supply allows.
func (l *loader) speeds(m *Map, list []speedFile) {
	for i := range list {
		f := &list[i]
		path := fmt.Sprintf("speed[%d]", i)
		if !l.keys(path, "the speed", f) {
			continue
		}
		supply, clock := l.quantity(path+".supply", Voltage, f.Supply), l.quantity(path+".clock", Frequency, f.Clock)
		if supply != nil && clock != nil {
			m.Speeds = append(m.Speeds, Speed{*supply, *clock})
		}
	}
}

// clocks loads where the programs of regions have the clock that they were built for.
func (l *loader) clocks(m *Map, list []regionFile) {
	for i := range list {
		f := &list[i]
		if f.ClockAt == nil {
			continue
		}
		path := fmt.Sprintf("region[%d].clock-at", i)
		at, ok := l.fieldAt(m, path, f.ClockAt)
		r := m.Region(f.Name)
		if !ok || r == nil {
			continue
		}
		if !r.Span.Covers(at.Span()) && !l.again {
			l.problem(path+".at", fmt.Sprintf("clock-at, %s, is not in region %s", at.Span(), r.Name), "an address in it", "")
			continue
		}
		r.ClockAt = at
	}
}
