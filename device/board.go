package device

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// BoardExtension ends the name of every board's file.
const BoardExtension = ".board.toml"

// Board is what a device is soldered to.
type Board struct {
	Name      string
	File      string
	Clock     ClockSource // "" is not said
	Frequency Quantity    // of the clock source, in Hz
	Supply    *Range      // in mV; nil is not said
	Pins      map[string]string
	Ports     []BoardPort
}

// ClockSource is what a board has to make a clock.
type ClockSource string

// The clock sources.
const (
	NoClock ClockSource = "none"
	Crystal ClockSource = "crystal"
	Signal  ClockSource = "signal"
)

// FreePin is what a board says of a pin that it uses for nothing.
const FreePin = "free"

// BoardPort says of a port of the map whether a programmer can be connected to it.
type BoardPort struct {
	Name  string
	Wired bool
	Baud  uint64 // bits a second over it; 0 is not said
}

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

// clockText says what clock source the board has.
func (b *Board) clockText() string {
	switch b.Clock {
	case Crystal:
		return "a crystal of " + Frequency.Format(b.Frequency)
	case Signal:
		return "a clock signal of " + Frequency.Format(b.Frequency)
	case NoClock:
		return "no clock source"
	}
	return ""
}

// Facts are what the board says, as a line of short texts.
func (b *Board) Facts() (list []string) {
	if text := b.clockText(); text != "" {
		list = append(list, text)
	}
	if b.Supply != nil {
		list = append(list, "supply "+Voltage.FormatRange(*b.Supply))
	}
	for _, pin := range slices.Sorted(maps.Keys(b.Pins)) {
		list = append(list, fmt.Sprintf("pin %s: %s", pin, b.Pins[pin]))
	}
	for _, p := range b.Ports {
		text := "port " + p.Name
		if !p.Wired {
			text += " not wired"
		}
		list = append(list, text)
	}
	return list
}

// Text is all that the board says, in one line; nil says nothing.
func (b *Board) Text() string {
	if b == nil {
		return ""
	}
	return fmt.Sprintf("board %q: %s; %v", b.Name, strings.Join(b.Facts(), ", "), b.Ports)
}

// port returns what the board says of a port; nil is nothing.
func (b *Board) port(name string) *BoardPort {
	i := slices.IndexFunc(b.Ports, func(p BoardPort) bool { return p.Name == name })
	if i < 0 {
		return nil
	}
	return &b.Ports[i]
}

// wires reports whether the board wires any port.
func (b *Board) wires() bool {
	return b != nil && slices.ContainsFunc(b.Ports, func(p BoardPort) bool { return p.Wired })
}

// On returns the map of the device on a board.
func (m *Map) On(b *Board) *Map {
	on := *m
	on.sizes = &sizes{known: map[string]*Map{}}
	on.setBoard(b)
	return &on
}

// setBoard puts the map on a board, whose first port with a speed is the link.
func (m *Map) setBoard(b *Board) {
	if m.Board = b; b == nil {
		return
	}
	i := slices.IndexFunc(b.Ports, func(p BoardPort) bool { return p.Wired && p.Baud > 0 })
	if i >= 0 {
		m.Link.Baud, m.Link.Bits = b.Ports[i].Baud, max(m.Link.Bits, 10)
	}
}

// Clock returns the frequency at which the device runs where its words have the values,
// in Hz; ok is false where the map and the board do not say.
func (m *Map) Clock(values map[string]uint64) (hz Quantity, ok bool) {
	divide := Quantity(1)
	for _, v := range m.Meant(values) {
		switch g := v.Gives; {
		case g == nil:
		case g.Divide > 0:
			divide *= Quantity(g.Divide)
		case g.Board && m.Board != nil && m.Board.Frequency > 0:
			hz = m.Board.Frequency
		case !g.Board:
			hz = g.Clock
		}
	}
	return hz / divide, hz > 0
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

// boardFile is a board's file. See [mapFile] for the tags.
type (
	boardFile struct {
		Name   string            `toml:"name"   doc:"the board"                                                                                   must:"yes"`
		Device string            `toml:"device" doc:"the device map: a file, or the name of a map"                                               must:"yes"`
		Clock  *boardClockFile   `toml:"clock"  doc:"its clock source for the device"`
		Supply *boardSupplyFile  `toml:"supply" doc:"the supply of the device"`
		Pins   map[string]string `toml:"pins"   doc:"what the board does with pins that the map's values need or take: free, or what it is, as button"`
		Ports  []boardPortFile   `toml:"port"   doc:"which ports of the map a programmer can be connected to"`
	}
	boardClockFile struct {
		Kind      string `toml:"kind"      doc:"what makes the clock; none if the board has nothing"     must:"yes" one:"crystal signal none"`
		Frequency string `toml:"frequency" doc:"its frequency, as 8 MHz"`
	}
	boardSupplyFile struct {
		Voltage string `toml:"voltage" doc:"from the lowest to the highest, as 3.0 V..3.6 V" must:"yes"`
	}
	boardPortFile struct {
		Name  string              `toml:"name"  doc:"a port of the map"                                     must:"yes"`
		Wired *bool               `toml:"wired" doc:"whether a programmer can be connected to it"           must:"yes"`
		Baud  settings.Expression `toml:"baud"  doc:"bits a second over it (the map's)"`
	}
)

// ErrNoBoard says that there is no board of a name.
var ErrNoBoard = errors.New("no such board")

// OpenBoard opens a board's file by its path, or by a bare name in folders, and the map
// that it names, and returns the map on the board.
func OpenBoard(files *source.Files, name string, folders []string) (*Map, error) {
	file, text, err := boardKind.find(files, name, folders)
	if err != nil {
		return nil, err
	}
	var f boardFile
	var problems source.Problems
	where := settings.Decode(file, text, &f, &problems)
	if problems.Errors() > where.Unknown() {
		return nil, problems.Err()
	}
	l := loader{file: where}
	if l.keys("", "the board", &f); f.Device == "" { // told
		return nil, problems.Err()
	}
	m, err := Open(files, f.Device, append([]string{filepath.Dir(file)}, folders...))
	if errors.Is(err, ErrNotFound) {
		where.Problem("device", err.Error(), "", "")
		return nil, problems.Err()
	}
	if err != nil {
		return nil, err
	}
	b := l.board(m, file, &f)
	if problems.Errors() > 0 {
		return nil, problems.Err()
	}
	on := m.On(b)
	for _, w := range problems.Sorted() {
		on.Warnings = append(slices.Clip(on.Warnings), w)
	}
	return on, nil
}

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

// board loads what a board's file says of a device.
func (l *loader) board(m *Map, file string, f *boardFile) *Board {
	b := &Board{Name: f.Name, File: file, Pins: f.Pins}
	if f.Clock != nil && l.keys("clock", "the clock", f.Clock) {
		l.boardClock(b, f.Clock)
	}
	if f.Supply != nil && l.keys("supply", "the supply", f.Supply) {
		b.Supply = l.quantity("supply.voltage", Voltage, f.Supply.Voltage)
	}
	known := m.pins()
	for _, pin := range slices.Sorted(maps.Keys(f.Pins)) {
		switch at := "pins." + pin; {
		case !slices.Contains(known, pin) && len(known) == 0:
			l.problem(at, fmt.Sprintf("no value of %s needs a pin", m.Name), "no such key", "")
		case !slices.Contains(known, pin):
			l.problem(at, fmt.Sprintf("no value of %s needs a pin %s", m.Name, pin), "", source.DidYouMean(pin, known))
		case f.Pins[pin] == "":
			l.problem(at, "what the board does with the pin is empty", "free, or what it is, as button", "")
		}
	}
	var names []string
	for _, p := range m.Ports {
		names = append(names, p.Name)
	}
	for i := range f.Ports {
		p := &f.Ports[i]
		path := fmt.Sprintf("port[%d]", i)
		if !l.keys(path, strings.TrimSpace("port "+p.Name), p) {
			continue
		}
		switch {
		case !slices.Contains(names, p.Name) && len(names) == 0:
			l.problem(path+".name", fmt.Sprintf("the map of %s has no port", m.Name), "[[port]] in the map", "")
			continue
		case !slices.Contains(names, p.Name):
			l.problem(path+".name", fmt.Sprintf("%s has no port %s", m.Name, p.Name), "", source.DidYouMean(p.Name, names))
			continue
		case b.port(p.Name) != nil:
			l.problem(path+".name", fmt.Sprintf("the port %s is given twice", p.Name), "", "")
			continue
		}
		baud, ok := l.number(path+".baud", p.Baud, 0)
		if ok && p.Baud != "" && baud == 0 {
			l.problem(path+".baud", "a link of 0 bits a second", "1 or more", "")
		}
		b.Ports = append(b.Ports, BoardPort{p.Name, *p.Wired, baud})
	}
	if len(m.Ports) > 0 && !b.wires() && l.count == 0 {
		l.file.Warn(
			"",
			"the board wires no port of "+m.Name+", so ways in are judged as without a board",
			"[[port]] with wired = true, one of "+strings.Join(names, ", "),
			"",
		)
	}
	return b
}

// boardClock loads the clock source of a board.
func (l *loader) boardClock(b *Board, f *boardClockFile) {
	b.Clock = ClockSource(f.Kind)
	switch {
	case b.Clock == NoClock && f.Frequency != "":
		l.problem("clock.frequency", "no clock source has no frequency", "kind = \"crystal\" or \"signal\", or no such key", "")
	case b.Clock != NoClock && f.Frequency == "":
		l.problem("clock", "the clock has no frequency", "frequency = \"8 MHz\"", "")
	case f.Frequency != "":
		hz, err := Frequency.Parse(f.Frequency)
		if err == nil && hz == 0 {
			err = errors.New("a frequency of 0 Hz")
		}
		if err != nil {
			l.problem("clock.frequency", err.Error(), "", "")
		}
		b.Frequency = hz
	}
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
	if g.Divide, ok = c.within(path+".divide", f.Divide, 0, 1, 1<<32); !ok {
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

// wishes loads everyday settings.
func (l *loader) wishes(m *Map, list []wishFile) {
	for i := range list {
		f := &list[i]
		path := fmt.Sprintf("wish[%d]", i)
		if !l.keys(path, strings.TrimSpace("wish "+f.Name), f) {
			continue
		}
		if len(f.Set) == 0 {
			l.problem(path+".set", "the wish sets nothing", "set = { FIELD = \"MEANING\" }", "")
			continue
		}
		if slices.ContainsFunc(m.Wishes, func(w Wish) bool { return strings.EqualFold(w.Name, f.Name) }) {
			l.problem(path+".name", fmt.Sprintf("the wish %q is given twice", f.Name), "", "")
			continue
		}
		if o, variant := l.file.(*overlay); variant && !o.owns(path) && !m.grants(f.Set) {
			continue // a wish of its base for what this one does not have
		}
		sound := true
		for _, field := range slices.Sorted(maps.Keys(f.Set)) {
			sound = l.fieldMeans(m, path+".set."+field, field, f.Set[field], true) && sound
		}
		if sound {
			m.Wishes = append(m.Wishes, Wish{f.Name, f.Set})
		}
	}
}

// grants reports whether fields, or groups, have the meanings of a wish.
func (m *Map) grants(set map[string]string) bool {
	for field, meaning := range set {
		if _, err := m.Compose(map[string]uint64{}, field, meaning); err != nil {
			return false
		}
	}
	return true
}

// fieldMeans proves that a field, or a group where these count, has a meaning.
func (l *loader) fieldMeans(m *Map, path, field, meaning string, groups bool) bool {
	if g := m.Group(field); groups && g != nil {
		if _, err := g.Named(m, meaning); err != nil {
			l.problem(path, fmt.Sprintf("%s never means %q", g.Name, meaning), "", err.Error())
			return false
		}
		return true
	}
	_, f := m.Field(field)
	if f == nil {
		if !l.misnamed && (!l.fields[strings.ToLower(field)] || m.Word(field) != nil) { // else it is wrong itself
			l.problem(path, "unknown field "+field, "", l.near(field, m.FieldNames))
		}
		return false
	}
	if _, err := f.Named(meaning); err != nil {
		l.problem(path, fmt.Sprintf("%s never means %q", f.Name, meaning), "", err.Error())
		return false
	}
	return true
}

// Wish is an everyday setting: fields and their meanings.
type Wish struct {
	Name string
	Set  map[string]string
}

// Wish returns the wish of a name, in any case, or the one whose name contains a text.
func (m *Map) Wish(name string) (*Wish, error) {
	var names []string
	var found *Wish
	several := false
	for i := range m.Wishes {
		w := &m.Wishes[i]
		if strings.EqualFold(w.Name, name) {
			return w, nil
		}
		names = append(names, w.Name)
		if strings.Contains(strings.ToLower(w.Name), strings.ToLower(name)) {
			several = found != nil
			found = w
		}
	}
	switch {
	case found != nil && !several && name != "":
		return found, nil
	case len(names) == 0:
		return nil, fmt.Errorf("%s has no [[wish]] in its map", m.Name)
	}
	return nil, fmt.Errorf("%s has no wish %q; known: %s", m.Name, name, strings.Join(names, "; "))
}

// BoardTemplate is a commented board file for a device to start from; name is how the file
// names its map. It does not load before what is to do is done, or left out.
func BoardTemplate(m *Map, name string) string {
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("# A board with a %s, by which its configuration words are judged. Fill in what", m.Name)
	line("# is to do from the board's circuit. Leave a table out if you do not know it: what")
	line("# hangs on it is then judged as without a board.")
	line("name = \"\"                       # to do")
	line("device = %s", tomlText(name))
	first := true
	for v := range m.eachValue() {
		if !v.Needs.external() {
			continue
		}
		if first {
			line("\n# The clock source of the device: crystal, signal, or none.")
		}
		first = false
		line("#   %s needs %s", v.Meaning, v.Needs)
	}
	if !first {
		line("[clock]\nkind = \"\"                       # to do\n# frequency = \"8 MHz\"")
	}
	line("\n# The supply of the device, from the lowest to the highest: 3.0 V..3.6 V.")
	line("[supply]\nvoltage = \"\"                    # to do")
	if pins := m.pins(); len(pins) > 0 {
		line("\n# What the board does with these pins: free, or what it is, as button.\n[pins]")
		for _, pin := range pins {
			line("%-31s # to do", pin+" = \"\"")
		}
	}
	for i := range m.Ports {
		if i == 0 {
			line("\n# Whether a programmer can be connected to these ports: wired = true, or false.")
		} else {
			line("")
		}
		line("[[port]]\nname = %s\n# wired =                        # to do\n# baud = 19_200", tomlText(m.Ports[i].Name))
	}
	return b.String()
}
