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

// boardFile is a board's file. See [mapFile] for the tags.
type (
	boardFile struct {
		Name   string            `toml:"name" doc:"the board" must:"yes"`
		Device string            `toml:"device" doc:"the device map: a file, or the name of a map" must:"yes"`
		Clock  *boardClockFile   `toml:"clock"  doc:"its clock source for the device"`
		Supply *boardSupplyFile  `toml:"supply" doc:"the supply of the device"`
		Pins   map[string]string `toml:"pins" doc:"what the board does with pins that the map's values need or take: free, or what it is, as button"`
		Ports  []boardPortFile   `toml:"port"   doc:"which ports of the map a programmer can be connected to"`
	}
	boardClockFile struct {
		Kind      string `toml:"kind" doc:"what makes the clock; none if the board has nothing" must:"yes" one:"crystal signal none"`
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
		baud, ok := l.numberOf(path, "baud", p.Baud, 0)
		if ok && p.Baud != "" && baud == 0 {
			l.problem(path+".baud", "a link of 0 bits a second", "1 or more", "")
		}
		b.Ports = append(b.Ports, BoardPort{p.Name, *p.Wired, baud})
	}
	if len(m.Ports) > 0 && !b.wires() && l.count == 0 {
		l.file.Warn("", "the board wires no port of "+m.Name+", so ways in are judged as without a board",
			"[[port]] with wired = true, one of "+strings.Join(names, ", "), "")
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
