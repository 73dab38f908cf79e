package cli

import (
	"errors"
	"fmt"
	"io"
	"math/bits"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/device/derive"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/source"
	"mexalt/span"
	"mexalt/target"
)

var deviceCommand = &command{
	name: "device", usage: "[flags] MAP",
	short: "show a map; explain or compose configuration values; derive a map",
	long: `
Shows a device at a glance: its memories, regions and configuration words.

-explain WORD=VALUE explains what each field of a configuration word means at a
value, and what cannot be undone. -compose FIELD=MEANING, or FIELD=VALUE, prints the
values to enter: the values given with -explain (otherwise the defaults) with these
fields changed. A unique part of a meaning is enough. Both are repeatable. Values
that check would reject end with status 1.

-derive makes a map from existing descriptions of the device: the MEMORY block of a
linker script, or the linker's map file, and the regions that symbols name; the flash
nodes and partitions of a device tree, in source form or as a binary; a memory map or a
register description in XML; an ELF file. Several add up. Missing values are marked "to do". If two descriptions
contradict each other, both lines are shown, and the status is 1. With -update, an
existing map gets the new and changed values and keeps everything else, including
comments.

-board BOARD judges values for the board that the device is on, and shows it with the
map. With -new, it writes a commented board file for MAP to start from, to BOARD.

-against MAP lists the differences between two maps: memories, regions, and
configuration bits that mean something else, the trap between two variants of a
device.

-whole writes the map as one file, without comments, including the map that it is
based on.

-new writes a commented map to start from, to the file that -o names or to standard
output. -list lists the maps that come with mexalt. -schema prints a JSON Schema of
maps, for editors.`,
	setup: func(f *flags) func(*session, []string) error {
		d := &deviceRun{}
		f.add(key.List(&d.explain, "explain", "WORD=VALUE", "explain the configuration word WORD at VALUE"),
			key.List(&d.compose, "compose", "FIELD=MEANING", "compose words, with FIELD set to MEANING"),
			key.Text(&d.against, "against", "MAP", "list the differences from MAP"),
			key.List(&d.derive, "derive", "FILE", "derive a map from FILE; repeatable"),
			key.Text(&d.update, "update", "MAP", "with -derive: update the existing MAP"),
			key.Switch(&d.whole, "whole", "write the map as one file, including the map it is based on"),
			key.Switch(&d.fresh, "new", "write a commented map to start from"),
			key.Switch(&d.list, "list", "list the maps that come with mexalt"),
			key.Switch(&d.schema, "schema", "print a JSON Schema of device maps"))
		d.reporting = f.reportsTo()
		f.add((&d.r).boardKey())
		f.reads(&d.r)
		return d.run
	},
}

type deviceRun struct {
	explain, compose    []string
	derive              []string
	update, against     string
	fresh, list, schema bool
	whole               bool
	reporting           *reporting
	r                   reading // whose device is that of the settings; "" is none
}

func (d *deviceRun) run(s *session, args []string) error {
	switch {
	case d.list:
		return d.printList(s)
	case len(d.derive) > 0 && len(args) > 0:
		return usagef("%s, and -derive names what a map is derived from", named(args))
	case len(d.derive) > 0:
		return d.derived(s)
	case d.update != "":
		return source.Keyf("update", "has no effect without -derive")
	case d.fresh && d.r.board != "" && s.boardNamed:
		return d.freshBoard(s, args)
	case d.fresh && len(args) > 0:
		return usagef("-new takes no map, and %s is named; -o names the file to write", args[0])
	case d.fresh:
		if err := d.write(s, device.Template); err != nil || d.reporting.to == "" || d.reporting.to == "-" {
			return err
		}
		s.note(fmt.Sprintf("fill in the %d values marked \"to do\" from the data sheet: name, memories with pages and sectors, "+
			"regions, start", strings.Count(device.Template, "to do")-1))
		return nil
	case d.schema:
		return d.write(s, device.Schema())
	case len(args) == 0 && d.r.named():
	case len(args) == 1:
		d.r.device, s.deviceNamed = args[0], true
		if !s.boardNamed {
			d.r.board = ""
		}
	default:
		return usagef("name a map: a file, or one of %s", strings.Join(device.Shipped(), ", "))
	}
	m, err := s.loadDevice(&d.r, nil)
	if err != nil {
		return err
	}
	if d.whole {
		return d.write(s, m.Text())
	}
	switch {
	case d.against != "":
		return d.compared(s, m)
	case len(d.explain)+len(d.compose) == 0:
		return s.show(&report.Device{Map: m})
	}
	return d.words(s, m)
}

// freshBoard writes a board of a device to start from.
func (d *deviceRun) freshBoard(s *session, args []string) error {
	to := d.r.board
	switch {
	case len(args) > 1 || len(args) == 0 && d.r.device == "":
		return usagef("name the map of the device: mexalt device MAP -board FILE -new")
	case d.reporting.to != "":
		return source.Keyf("o", "-board names the file that -new writes")
	case len(args) == 1:
		d.r.device = args[0]
	}
	if !strings.HasSuffix(to, device.BoardExtension) {
		to += device.BoardExtension
	}
	m, err := s.loadDevice(&reading{device: d.r.device}, nil)
	if err != nil {
		return err
	}
	name := d.r.device
	if strings.HasSuffix(name, ".toml") {
		if from, err := filepath.Rel(filepath.Dir(to), name); err == nil && !filepath.IsAbs(name) {
			name = filepath.ToSlash(from)
		}
	}
	d.reporting.to = to
	text := device.BoardTemplate(m, name)
	if err := d.write(s, text); err != nil {
		return err
	}
	s.note("fill in what is marked \"to do\" from the board's circuit: clock, supply, pins, ports")
	return nil
}

// compared shows in what the map differs from that of -against.
func (d *deviceRun) compared(s *session, m *device.Map) error {
	other, err := s.loadDevice(&reading{device: d.against}, nil)
	if err != nil {
		return err
	}
	shown := report.CompareMaps(m, other)
	if err := s.show(shown); err != nil {
		return err
	}
	if len(shown.Differences) > 0 {
		return errFindings
	}
	return nil
}

// words shows configuration words with the values of -explain and -compose.
func (d *deviceRun) words(s *session, m *device.Map) error {
	values, err := d.explained(m)
	if err != nil {
		return err
	}
	changed, err := d.composed(m, values)
	if err != nil {
		return err
	}
	given := map[string]device.Given{}
	for i := range m.Config {
		w := &m.Config[i]
		if v, ok := values[w.Name]; ok {
			given[w.Name] = w.Whole(v)
		}
	}
	shown := &report.Device{Map: m, Words: values, Changed: changed, Composed: len(d.compose) > 0, Verdicts: m.Judge(given)}
	if err := s.show(shown); err != nil {
		return err
	}
	if len(shown.Verdicts) > 0 {
		return errFindings
	}
	return nil
}

// composed puts the meanings of -compose into the values, and returns which words it changed.
func (d *deviceRun) composed(m *device.Map, values map[string]uint64) (changed map[string]bool, err error) {
	changed = map[string]bool{}
	given := map[string]string{}
	for _, c := range d.compose {
		field, meaning, ok := strings.Cut(c, "=")
		if !ok {
			return nil, source.Keyf("compose", "%s: FIELD=MEANING", c)
		}
		if before, twice := given[strings.ToLower(field)]; twice {
			return nil, source.Keyf("compose", "%s is given twice, %q and %q", field, before, meaning)
		}
		given[strings.ToLower(field)] = meaning
		words, err := m.Compose(values, field, meaning)
		if err != nil {
			return nil, source.Keyf("compose", "%s: %w", c, err)
		}
		for _, w := range words {
			changed[w.Name] = true
		}
	}
	return changed, nil
}

// explained returns the values of -explain.
func (d *deviceRun) explained(m *device.Map) (map[string]uint64, error) {
	values := map[string]uint64{}
	for _, e := range d.explain {
		name, text, ok := strings.Cut(e, "=")
		w := m.Word(name)
		if !ok || w == nil {
			var names []string
			for _, w := range m.Config {
				names = append(names, w.Name)
			}
			if ok {
				return nil, source.Keyf("explain", "unknown word %s; the words of %s are %s", name, m.Name, strings.Join(names, ", "))
			}
			return nil, source.Keyf("explain", "%s: expected WORD=VALUE; the words of %s are %s", e, m.Name, strings.Join(names, ", "))
		}
		v, err := span.Number(text)
		if err != nil {
			return nil, &source.KeyError{Key: "explain", Err: err}
		}
		if bits.Len64(v) > 8*w.Width {
			return nil, source.Keyf("explain", "%s: 0x%X has more than the word's %d bits", e, v, 8*w.Width)
		}
		values[w.Name] = v
	}
	return values, nil
}

// description reads a description: a file, or the memory map of a debug server.
func (s *session) description(name string) ([]byte, error) {
	if source.Exists(name) || !target.IsAddress(name) {
		return s.files.ReadAll(name, "description", derive.MostBytes)
	}
	t, err := target.Open(s.ctx, name, target.Waits{})
	if err != nil {
		return nil, err
	}
	defer func() { s.note(t.Close()) }()
	text, ok, err := t.MapText()
	if err == nil && !ok {
		err = &source.Problem{File: name, What: "the server gives no memory map",
			Expected: "a server that does, or a description in a file"}
	}
	return text, err
}

// derived derives a map, and writes it, or brings another to it.
func (d *deviceRun) derived(s *session) error {
	draft := &derive.Draft{}
	texts := map[string][]byte{}
	var names []string // programs first: scripts may name their symbols
	for _, name := range d.derive {
		text, err := s.description(name)
		if err != nil {
			return err
		}
		if texts[name] = text; derive.IsProgram(text) {
			names = slices.Insert(names, 0, name)
		} else {
			names = append(names, name)
		}
	}
	for _, name := range names {
		include := func(path string) ([]byte, error) { return s.files.ReadAll(path, "description", derive.MostBytes) }
		if err := draft.Read(name, texts[name], include); err != nil {
			return err
		}
	}
	text := ""
	if d.update != "" {
		old, err := s.files.ReadAll(d.update, "device map", device.MostBytes)
		if err != nil {
			return err
		}
		var changes []derive.Change
		if text, changes, err = draft.Update(d.update, old); err != nil {
			return err
		}
		for _, c := range changes {
			s.messages.Problem(&source.Problem{File: d.update, Line: c.Line, Severity: source.Note, What: c.What}, s.wording)
		}
	} else {
		text = draft.Text()
	}
	if err := d.write(s, text); err != nil {
		return err
	}
	for _, p := range draft.Problems.Sorted() {
		s.messages.Problem(p, s.wording)
	}
	if len(draft.Problems.Sorted()) > 0 {
		return errFindings
	}
	return nil
}

// write writes a text to a file that is not there yet, or to standard output.
func (d *deviceRun) write(s *session, text string) error {
	if d.reporting.json {
		return usagef("-json has no effect on -new, -derive, -whole and -schema")
	}
	if to := d.reporting.to; to != "" && to != "-" && source.Exists(to) {
		return &source.SystemError{File: to, Doing: "write", Err: errors.New("the file exists; it is not overwritten")}
	}
	return s.showAs(func(to io.Writer, _ *render.Printer) error { _, err := io.WriteString(to, text); return err })
}

func (d *deviceRun) printList(s *session) error {
	var maps []*device.Map
	for _, name := range device.Shipped() {
		m, err := s.loadDevice(&reading{device: name}, nil)
		if err != nil {
			return err
		}
		maps = append(maps, m)
	}
	return s.show(&report.Devices{Names: device.Shipped(), Maps: maps})
}
