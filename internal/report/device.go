package report

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
)

// Devices are maps that are listed, by the names that they are asked for with.
type Devices struct {
	Names []string
	Maps  []*device.Map
}

// Text prints the maps: their names, parts and memories.
func (d *Devices) Text(p *render.Printer) {
	var rows [][]string
	for i, m := range d.Maps {
		var memories []string
		for _, mem := range m.Memories {
			memories = append(memories, mem.Name+" "+memory.FormatSize(mem.Span.Size()))
		}
		rows = append(rows, []string{d.Names[i], m.Name, strings.Join(memories, ", ")})
	}
	p.Table([]string{"map", "part", "memories"}, rows)
}

// Device is a map, or what configuration words mean and are composed of.
type Device struct {
	*device.Map
	// Words are the words that are explained, with their values; none shows the
	// whole map.
	Words    map[string]uint64
	Changed  map[string]bool // the words of which fields were composed
	Composed bool
	Verdicts []device.Verdict
}

// Text prints the map at a glance, or the words.
func (d *Device) Text(p *render.Printer) {
	m := d.Map
	if d.Words != nil {
		for i := range m.Config {
			if v, ok := d.Words[m.Config[i].Name]; ok {
				explained(p, &m.Config[i], v)
			}
		}
		verdicts(p, d.Verdicts)
		if d.Composed {
			toType(p, m, d.Words, d.Changed)
		}
		return
	}
	identity := ""
	if len(m.Identity) > 0 {
		identity = fmt.Sprintf(", identity % X", m.Identity)
	}
	p.Line("%s (%s)%s", p.Title(m.Name), m.File, identity)
	p.Printf("\n")
	memories(p, m)
	p.Printf("\n")
	regions(p, m)
	blank(m).Text(p)
	for i := range m.Config {
		word(p, &m.Config[i])
	}
	for _, c := range m.Checksums {
		p.Line("\n%s: %s over %s, stored at %s, %s-endian", p.Title(c.Name), c.Kind, c.In, memory.FormatAddress(c.At), c.Order)
	}
}

func memories(p *render.Printer, m *device.Map) {
	number := func(n uint64) string {
		if n == 0 {
			return ""
		}
		return memory.FormatCount(n)
	}
	var rows [][]string
	for i := range m.Memories {
		mem := &m.Memories[i]
		erased := ""
		if mem.Programmable() {
			erased = fmt.Sprintf("%02X", mem.Erased)
		}
		var notes []string
		if mem.PartFirst != mem.Span.First {
			notes = append(notes, memory.FormatAddress(mem.PartFirst)+" in the part")
		}
		if mem.Word > 1 {
			notes = append(notes, fmt.Sprintf("where addresses count %d bytes", mem.Word))
		}
		for i, a := range mem.Aliases {
			if i == 4 {
				notes = append(notes, "...")
				break
			}
			notes = append(notes, "seen at "+memory.FormatAddress(a.First)+" too")
		}
		var sectors []string
		for _, s := range mem.Sectors {
			sectors = append(sectors, fmt.Sprintf("%d x %s", s.Count, memory.FormatSize(s.Size)))
		}
		rows = append(rows, []string{mem.Name, string(mem.Kind), mem.Span.String(), number(mem.Page), number(mem.Granule), strings.Join(sectors, " + "), erased, strings.Join(notes, ", ")})
	}
	p.Table([]string{"memory", "kind", "span", "page", "granule", "sectors", "erased", "notes"}, rows, 4, 5)
}

func regions(p *render.Printer, m *device.Map) {
	var rows [][]string
	for _, r := range m.Regions {
		required := ""
		if r.Required {
			required = "required"
		}
		rows = append(rows, []string{r.Name, string(r.Role), r.Span.String(), r.Memory, required})
	}
	if len(rows) > 0 {
		p.Table([]string{"region", "role", "span", "memory", "needed"}, rows)
	}
}

func word(p *render.Printer, w *device.Word) {
	p.Line("\n%s at %s, %s, as delivered %s", p.Title(w.Name), memory.FormatAddress(w.At), render.Count(w.Width, "byte"), w.Format(w.Default))
	var rows [][]string
	for j := range w.Fields {
		f := &w.Fields[j]
		var values []string
		for _, v := range f.Values {
			text := fmt.Sprintf("%d %s", v.Value, v.Meaning)
			if f.Bits > 4 {
				text = fmt.Sprintf("0x%0*X %s", (f.Bits+3)/4, v.Value, v.Meaning)
			}
			if v.Hazard != "" {
				text += " (hazard)"
			}
			values = append(values, text)
		}
		rows = append(rows, []string{f.BitsText(), f.Name, strings.Join(values, "; ")})
	}
	p.Table([]string{"bits", "field", "values"}, rows)
}

// blank draws the memories that have regions, each region in its place.
func blank(m *device.Map) *render.Picture {
	p := &render.Picture{}
	for i := range m.Memories {
		mem := &m.Memories[i]
		segments := pictureSegments(m, mem, func(*device.Region) string { return "" })
		if len(m.RegionsIn(mem.Span)) > 0 {
			p.Memories = append(p.Memories, render.PictureMemory{Span: mem.Span, Title: mem.Name, Segments: segments})
		}
	}
	return p
}

// explained says what a configuration word means at a value, field by field.
func explained(p *render.Printer, w *device.Word, v uint64) {
	p.Line("%s = %s", p.Title(w.Name), w.Format(v))
	var rows [][]string
	for i := range w.Fields {
		f := &w.Fields[i]
		is := f.Of(v)
		meaning, standard := "not defined", ""
		if len(f.Values) == 0 {
			meaning = "a number"
		}
		if fv := f.Value(is); fv != nil {
			meaning = fv.Meaning
			if fv.Hazard != "" {
				meaning += " (hazard)"
			}
		}
		if is == f.Of(w.Default) {
			standard = "yes"
		}
		rows = append(rows, []string{f.BitsText(), f.Name, fmt.Sprintf("%0*b", f.Bits, is), meaning, standard})
	}
	p.Table([]string{"bits", "field", "value", "meaning", "delivered"}, rows)
	p.Printf("\n")
}

// verdicts says what is wrong with configuration values.
func verdicts(p *render.Printer, list []device.Verdict) {
	for _, v := range list {
		if v.Kind == device.Hazard {
			p.Line("%s: %s", p.Bad("hazard"), v.What)
			continue
		}
		p.Line("%s: %s; %s", p.Bad("error"), v.What, v.Expected)
	}
}

// toType says which values are to be typed for words.
func toType(p *render.Printer, m *device.Map, values map[string]uint64, changed map[string]bool) {
	p.Line("%s", p.Title("to type:"))
	for i := range m.Config {
		if w := &m.Config[i]; changed[w.Name] {
			p.Line("  %s = %s at %s (bytes % X)", w.Name, w.Format(values[w.Name]), memory.FormatAddress(w.At), w.Bytes(values[w.Name]))
		}
	}
}

// DevicesModel lists device maps for programs.
type DevicesModel struct {
	Schema  string        `json:"schema"`
	Devices []ListedModel `json:"devices"`
}

// ListedModel is a map of a [DevicesModel].
type ListedModel struct {
	Map      string        `json:"map"` // what -device takes
	Part     string        `json:"part"`
	Memories []MemoryModel `json:"memories"`
}

// Model makes the model of the list for programs.
func (d *Devices) Model() any {
	out := DevicesModel{Schema: "mexalt.devices/1", Devices: []ListedModel{}}
	for i, m := range d.Maps {
		out.Devices = append(out.Devices, ListedModel{d.Names[i], m.Name, memoriesModel(m)})
	}
	return out
}

// DeviceModel is a device map for programs.
type DeviceModel struct {
	Schema    string          `json:"schema"`
	Part      string          `json:"part"`
	File      string          `json:"file"`
	Identity  string          `json:"identity,omitempty"` // hex digits
	Memories  []MemoryModel   `json:"memories"`
	Regions   []RegionModel   `json:"regions"`
	Words     []WordModel     `json:"words"` // all, or those that are explained
	Checksums []DeclaredModel `json:"checksums"`
	// Verdicts are what is wrong with the values that were asked about.
	Verdicts []VerdictModel `json:"verdicts"`
}

// MemoryModel is a memory of a map.
type MemoryModel struct {
	Name    string         `json:"name"`
	Kind    string         `json:"kind"`
	Span    Span           `json:"span"`
	Page    uint64         `json:"page,omitempty"`
	Granule uint64         `json:"granule,omitempty"`
	Erased  string         `json:"erased,omitempty"`
	Sectors []SectorsModel `json:"sectors,omitempty"`
	Aliases []Span         `json:"aliases,omitempty"`
	// PartFirst is the first address in the part's own numbering, where it is
	// another, and Word how many bytes an address counts there.
	PartFirst string `json:"partFirst,omitempty"`
	Word      uint64 `json:"word,omitempty"`
}

// SectorsModel is a number of sectors of one size.
type SectorsModel struct {
	First string `json:"first"`
	Size  uint64 `json:"size"`
	Count uint64 `json:"count"`
}

// RegionModel is a region of a map.
type RegionModel struct {
	Name     string `json:"name"`
	Role     string `json:"role"`
	Span     Span   `json:"span"`
	Memory   string `json:"memory"`
	Required bool   `json:"required"`
}

// WordModel is a configuration word.
type WordModel struct {
	Name    string       `json:"name"`
	At      string       `json:"at"`
	Size    int          `json:"size"`
	Default string       `json:"default"`
	Value   string       `json:"value,omitempty"` // that is explained or composed
	Bytes   string       `json:"bytes,omitempty"` // of the value, as they lie in memory
	ToType  bool         `json:"toType,omitempty"`
	Fields  []FieldModel `json:"fields"`
}

// FieldModel is a field of a word.
type FieldModel struct {
	Name    string         `json:"name"`
	Bits    string         `json:"bits"`
	Value   *uint64        `json:"value,omitempty"` // at the word's value
	Meaning string         `json:"meaning,omitempty"`
	Default uint64         `json:"default"`
	Values  []MeaningModel `json:"values"`
}

// MeaningModel is a value of a field.
type MeaningModel struct {
	Value   uint64 `json:"value"`
	Meaning string `json:"meaning"`
	Hazard  string `json:"hazard,omitempty"`
}

// DeclaredModel is a checksum that a map declares.
type DeclaredModel struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	In    Span   `json:"in"`
	At    string `json:"at"`
	Order string `json:"order"`
}

// VerdictModel is what is wrong with a configuration value.
type VerdictModel struct {
	Hazard   bool   `json:"hazard"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
}

func memoriesModel(m *device.Map) []MemoryModel {
	list := []MemoryModel{}
	for i := range m.Memories {
		mem := &m.Memories[i]
		out := MemoryModel{Name: mem.Name, Kind: string(mem.Kind), Span: spanOf(mem.Span), Page: mem.Page, Granule: mem.Granule}
		if mem.Programmable() {
			out.Erased = fmt.Sprintf("0x%02X", mem.Erased)
		}
		for _, s := range mem.Sectors {
			out.Sectors = append(out.Sectors, SectorsModel{addressText(s.First), s.Size, s.Count})
		}
		for _, a := range mem.Aliases {
			out.Aliases = append(out.Aliases, spanOf(a))
		}
		if mem.PartFirst != mem.Span.First {
			out.PartFirst = addressText(mem.PartFirst)
		}
		if mem.Word > 1 {
			out.Word = mem.Word
		}
		list = append(list, out)
	}
	return list
}

// Model makes the model of the map, or of the words, for programs.
func (d *Device) Model() any {
	m := d.Map
	out := DeviceModel{Schema: "mexalt.device/1", Part: m.Name, File: m.File, Identity: fmt.Sprintf("%X", m.Identity), Memories: memoriesModel(m),
		Regions: []RegionModel{}, Words: []WordModel{}, Checksums: []DeclaredModel{}, Verdicts: []VerdictModel{}}
	for _, r := range m.Regions {
		out.Regions = append(out.Regions, RegionModel{r.Name, string(r.Role), spanOf(r.Span), r.Memory, r.Required})
	}
	for i := range m.Config {
		w := &m.Config[i]
		v, ok := d.Words[w.Name]
		if d.Words != nil && !ok {
			continue
		}
		one := WordModel{Name: w.Name, At: addressText(w.At), Size: w.Width, Default: w.Format(w.Default), Fields: []FieldModel{}}
		if ok {
			one.Value, one.Bytes, one.ToType = w.Format(v), fmt.Sprintf("%X", w.Bytes(v)), d.Composed && d.Changed[w.Name]
		}
		for j := range w.Fields {
			one.Fields = append(one.Fields, fieldModel(w, &w.Fields[j], v, ok))
		}
		out.Words = append(out.Words, one)
	}
	for _, c := range m.Checksums {
		out.Checksums = append(out.Checksums, DeclaredModel{c.Name, c.Kind, spanOf(c.In), addressText(c.At), c.Order})
	}
	for _, v := range d.Verdicts {
		out.Verdicts = append(out.Verdicts, VerdictModel{v.Kind == device.Hazard, v.What, v.Expected})
	}
	return out
}

func fieldModel(w *device.Word, f *device.Field, v uint64, given bool) FieldModel {
	out := FieldModel{Name: f.Name, Bits: f.BitsText(), Default: f.Of(w.Default), Values: []MeaningModel{}}
	for _, one := range f.Values {
		out.Values = append(out.Values, MeaningModel{one.Value, one.Meaning, one.Hazard})
	}
	if given {
		is := f.Of(v)
		out.Value = &is
		if one := f.Value(is); one != nil {
			out.Meaning = one.Meaning
		}
	}
	return out
}
