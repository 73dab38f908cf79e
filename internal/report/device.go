package report

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/source"
)

// Devices are maps that are listed, by the names that they are asked for with.
type Devices struct {
	Names []string
	Maps  []*device.Map
}

// Text prints the maps: their names, devices and memories.
func (d *Devices) Text(p *render.Printer) {
	var rows [][]string
	for i, m := range d.Maps {
		var memories []string
		for _, mem := range m.Memories {
			memories = append(memories, mem.Name+" "+memory.FormatSize(mem.Span.Size()))
		}
		rows = append(rows, []string{d.Names[i], m.Name, strings.Join(memories, ", ")})
	}
	p.Table([]string{"map", "device", "memories"}, rows)
}

// Against is in what two maps differ.
type Against struct {
	Here, There *device.Map
	Differences []device.Difference
}

// CompareMaps compares two maps.
func CompareMaps(here, there *device.Map) *Against {
	return &Against{here, there, here.Against(there)}
}

// Text prints the differences side by side.
func (a *Against) Text(p *render.Printer) {
	if len(a.Differences) == 0 {
		p.Line("%s: %s and %s", p.Good("equal"), a.Here.File, a.There.File)
		return
	}
	p.Line("%s: %s (%s) and %s (%s): %s", p.Bad("different"), a.Here.Name, a.Here.File, a.There.Name, a.There.File,
		memory.FormatNumber(len(a.Differences), "difference"))
	var rows [][]string
	for _, d := range a.Differences {
		rows = append(rows, []string{d.What, d.Name, cmp.Or(d.Here, "-"), cmp.Or(d.There, "-")})
	}
	p.Table([]string{"what", "of", a.Here.Name, a.There.Name}, rows)
	if a.Here.ByIdentityOnly(a.There) {
		p.Line("%s", identityOnly)
	}
}

// identityOnly is said of maps that differ in nothing else.
const identityOnly = "only the identity differs: an image for one fits the other, and only the device says which it is"

// AgainstModel is the differences between two device maps.
type AgainstModel struct {
	Schema       string            `json:"schema"`
	Here         string            `json:"here"` // the maps' files
	There        string            `json:"there"`
	Equal        bool              `json:"equal"`
	IdentityOnly bool              `json:"identityOnly"` // nothing else differs
	Differences  []DifferenceModel `json:"differences"`
}

// DifferenceModel is a difference between two maps.
type DifferenceModel struct {
	What  string `json:"what"` // memory, region, word, field, value, checksum, start, identity
	Name  string `json:"name"`
	Here  string `json:"here,omitempty"`
	There string `json:"there,omitempty"`
}

// Model makes the model for programs.
func (a *Against) Model() any {
	out := AgainstModel{
		Schema:       SchemaName("against"),
		Here:         a.Here.File,
		There:        a.There.File,
		Equal:        len(a.Differences) == 0,
		IdentityOnly: a.Here.ByIdentityOnly(a.There),
		Differences:  []DifferenceModel{},
	}
	for _, d := range a.Differences {
		out.Differences = append(out.Differences, DifferenceModel(d))
	}
	return out
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
				explained(p, &m.Config[i], v, d.Verdicts)
			}
		}
		said := (&Words{Map: m, Values: d.Words}).consequences(p)
		if said && len(d.Verdicts) > 0 {
			p.Printf("\n")
		}
		verdicts(p, d.Verdicts)
		if d.Composed {
			if said || len(d.Verdicts) > 0 {
				p.Printf("\n")
			}
			toType(p, m, d.Words, d.Changed)
		}
		return
	}
	identity := ""
	for i, d := range m.Identities {
		if i == 0 {
			identity = ", identity " + d.String()
		} else {
			identity += ", or " + d.String()
		}
	}
	if m.IdentityReadAt != nil {
		identity += ", which a debugger reads at " + memory.FormatAddress(*m.IdentityReadAt)
	}
	p.Line("%s (%s)%s", p.Title(m.Name), m.File, identity)
	p.Printf("\n")
	memories(p, m)
	p.Printf("\n")
	regions(p, m)
	p.Picture(blank(m))
	for i := range m.Config {
		word(p, &m.Config[i])
	}
	for i := range m.Groups {
		g := &m.Groups[i]
		p.Line("\n%s of %s", p.Title(g.Name), strings.Join(g.Fields, ", "))
		p.Table([]string{"values"}, [][]string{{valuesText(g.Values, 0)}})
	}
	starts(p, m)
	loader(p, m)
	ports(p, m)
	for i := range m.Checksums {
		p.Line("\n%s: %s", p.Title(m.Checksums[i].Name), declaredText(m, &m.Checksums[i]))
	}
	if l := m.Link; l.Baud > 0 {
		packets := ""
		if l.Packet > 0 {
			packets = fmt.Sprintf(", packets of %s with %d around", memory.FormatSize(l.Packet), l.Overhead)
		}
		p.Line("\n%s: %s bits a second, %d for a byte%s", p.Title("link"), memory.FormatCount(l.Baud), l.Bits, packets)
	}
}

// loader says how the bootloader behaves, as far as the map tells.
func loader(p *render.Printer, m *device.Map) {
	l := &m.Loader
	var says []string
	for _, c := range l.Checks {
		says = append(says, fmt.Sprintf("it starts %s only where % X is at %s", c.Region, c.Bytes, memory.FormatAddress(c.At)))
	}
	for _, pin := range l.Pins {
		says = append(says, fmt.Sprintf("it starts %s only with the pin %s as in the field", pin.Region, pin.Pin))
	}
	if l.CanWrite != nil {
		says = append(says, cmp.Or(strings.Join(l.CanWrite, ", "), "no configuration word")+" can be written by it")
	}
	if l.Retry != device.RetryAlways {
		says = append(says, "an update that was cut it tries again: "+string(l.Retry))
	}
	if slices.ContainsFunc(m.Memories, func(mem device.Memory) bool { return mem.Corrects }) {
		what := "stops it"
		if l.ReadFault == device.FaultFails {
			what = "makes a guard fail"
		}
		says = append(says, "a granule that cannot be mended "+what)
	}
	if s := l.Swap; s != nil {
		says = append(says,
			fmt.Sprintf("it moves %s to %s where %s; the marks of that are at %s%s", s.From, s.To, swapWanted(s), s.Marks.Range(),
				map[bool]string{true: ", each programmed again before it acts on it"}[s.Firm]))
	}
	if len(says) > 0 {
		p.Line("\n%s: %s", p.Title("bootloader"), strings.Join(says, "; "))
	}
}

// starts says how the part starts.
func starts(p *render.Printer, m *device.Map) {
	for i := range m.Starts {
		s := &m.Starts[i]
		text := fmt.Sprintf("with the instruction at %s", memory.FormatAddress(s.At))
		if s.Kind == device.StartVectors {
			text = fmt.Sprintf("by vectors of %d bits at %s", 8*s.Width, memory.FormatAddress(s.At))
			if s.Stack != "" {
				text += ", stack in " + s.Stack
			}
			if s.Target != "" {
				text += ", target in " + s.Target
			}
		}
		p.Line("\n%s %s", p.Title("starts"), text)
	}
}

// swapWanted says when a loader swaps two slots.
func swapWanted(s *device.Swap) string {
	text := fmt.Sprintf("% X is at %s", s.Pending.Bytes, memory.FormatAddress(s.Pending.At))
	if s.Done != nil {
		text += fmt.Sprintf(", unless % X is at %s", s.Done.Bytes, memory.FormatAddress(s.Done.At))
	}
	return text
}

// startedBy says who starts a region only where a checksum holds.
func startedBy(m *device.Map, c *device.Checksum) string {
	switch {
	case c.Hardware:
		return "the device starts " + c.Guards + " only if it is valid"
	case slices.ContainsFunc(m.Regions, func(r device.Region) bool { return r.Role == device.Bootloader }):
		return "the bootloader starts " + c.Guards + " only if it is valid"
	}
	return "the map names nothing that looks at it before " + c.Guards + " starts"
}

// declaredText says how a declared checksum is computed and where it stands.
func declaredText(m *device.Map, c *device.Checksum) string {
	text := c.Kind.Name + " over " + memory.FormatSpans(c.In)
	if len(c.Skip) > 0 {
		text += " without " + memory.FormatSpans(c.Skip)
	}
	if c.Swap > 0 {
		text += fmt.Sprintf(", words of %d bytes in reverse order", c.Swap)
	}
	switch {
	case c.Length != nil:
		text += ", as many bytes as " + c.Length.Span().Range() + " says"
	case c.End != nil:
		text += ", up to where " + c.End.Span().Range() + " says"
	}
	switch {
	case c.Place != nil:
		text += ", stored where " + c.Place.Span().Range() + " says"
	case c.Behind() > 0:
		text += fmt.Sprintf(", stored %d after the last", c.Behind())
	default:
		text += ", stored at " + memory.FormatAddress(c.At)
	}
	text += fmt.Sprintf(", %s-endian", c.Order)
	if c.Guards != "" {
		text += "; " + startedBy(m, c)
		if c.Rank != nil {
			text += ", the highest number at " + c.Rank.Span().Range() + " first"
		}
	}
	return text
}

func memories(p *render.Printer, m *device.Map) {
	number := func(n uint64) string {
		if n == 0 {
			return ""
		}
		return memory.FormatCount(n)
	}
	var rows, times [][]string
	var said []string
	for i := range m.Memories {
		mem := &m.Memories[i]
		erased := ""
		if mem.Programmable() {
			erased = fmt.Sprintf("%02X", mem.Erased)
		}
		var notes []string
		if mem.PartFirst != mem.Span.First || mem.Unit > 1 {
			note := memory.FormatAddress(mem.PartFirst) + " in the device"
			if mem.Unit > 1 {
				note += fmt.Sprintf(", which counts words of %d bytes", mem.Unit)
			}
			notes = append(notes, note)
		}
		if mem.WriteOnce {
			notes = append(notes, "a granule is written once")
		}
		if mem.Corrects {
			notes = append(notes, "error correction in each granule")
		}
		if mem.Bears > 0 {
			notes = append(notes, fmt.Sprintf("a sector bears %s erases", memory.FormatCount(mem.Bears)))
		}
		for i, a := range mem.Aliases {
			if i == 4 {
				notes = append(notes, "...")
				break
			}
			notes = append(notes, "seen at "+memory.FormatAddress(a.First)+" too")
		}
		time := func(act string, t device.Times) {
			if t != (device.Times{}) {
				times = append(times, []string{mem.Name, act, device.FormatTime(t.Typical), device.FormatTime(t.Most)})
			}
		}
		time("erase", mem.Erase)
		var sectors []string
		for _, s := range mem.Sectors {
			sectors = append(sectors, fmt.Sprintf("%d x %s", s.Count, memory.FormatSize(s.Size)))
			time("erase "+memory.FormatSize(s.Size), s.Erase)
		}
		time("program", mem.Program)
		if len(notes) > 0 {
			said = append(said, mem.Name+": "+strings.Join(notes, ", "))
		}
		rows = append(
			rows,
			[]string{
				mem.Name,
				string(mem.Kind),
				mem.Span.String(),
				number(mem.Page),
				number(mem.Granule),
				strings.Join(sectors, " + "),
				erased,
			},
		)
	}
	p.Table([]string{"memory", "kind", "span", "page", "granule", "sectors", "erased"}, rows, 4, 5)
	for _, note := range said {
		p.Line("%s", note)
	}
	if len(times) > 0 {
		p.Printf("\n")
		p.Table([]string{"memory", "act", "typical", "at most"}, times, 3, 4)
	}
}

func regions(p *render.Printer, m *device.Map) {
	var rows [][]string
	var add func(list []device.Region, indent string)
	add = func(list []device.Region, indent string) {
		for _, r := range list {
			required := ""
			if r.Required {
				required = "required"
			}
			inPart := ""
			if mem := m.MemoryAt(r.Span.First); mem.Unit > 1 || mem.PartFirst != mem.Span.First {
				inPart = memory.FormatAddress(mem.InPart(r.Span.First)) + ".." + memory.FormatAddress(mem.InPart(r.Span.Last))
			}
			rows = append(rows, []string{indent + r.Name, string(r.Role), r.Span.String(), inPart, r.Memory, required})
			add(r.Inner, indent+"  ")
		}
	}
	add(m.Regions, "")
	if len(rows) > 0 {
		p.Table([]string{"region", "role", "span", "in the device", "memory", "needed"}, rows)
	}
}

func word(p *render.Printer, w *device.Word) {
	complement := ""
	if s, ok := w.Complement(); ok {
		complement = ", its complement at " + memory.FormatAddress(s.First)
	}
	p.Line("\n%s at %s, %s, as delivered %s%s", p.Title(w.Name), memory.FormatAddress(w.At), memory.FormatNumber(w.Width, "byte"),
		w.Format(w.Default), complement)
	var rows [][]string
	for j := range w.Fields {
		f := &w.Fields[j]
		rows = append(rows, []string{f.BitsText(), f.Name, valuesText(f.Values, f.Bits)})
	}
	p.Table([]string{"bits", "field", "values"}, rows)
}

// valuesText lists values and what they mean.
func valuesText(list []device.FieldValue, bits int) string {
	var values []string
	for _, v := range list {
		text := fmt.Sprintf("%d %s", v.Value, v.Meaning)
		if bits > 4 {
			text = fmt.Sprintf("0x%0*X %s", (bits+3)/4, v.Value, v.Meaning)
		}
		if v.Hazard != "" {
			text += " (hazard)"
		}
		if len(v.Protects) > 0 {
			text += " (guards " + memory.FormatSpans(v.Protects) + ")"
		}
		if v.Effect != "" {
			text += " (" + string(v.Effect) + ")"
		}
		values = append(values, text)
	}
	return strings.Join(values, "; ")
}

// blank draws the memories that have regions, each region in its place.
func blank(m *device.Map) *picture.Picture {
	p := &picture.Picture{}
	for i := range m.Memories {
		mem := &m.Memories[i]
		segments := PictureSegments(m, mem, func(*device.Region) string { return "" })
		if len(m.RegionsIn(mem.Span)) > 0 {
			p.Memories = append(p.Memories,
				picture.Memory{Span: mem.Span, Title: strings.TrimSuffix(mem.Name+", "+m.WordsText(mem.Span), ", "), Segments: segments})
		}
	}
	return p
}

// explained says what a configuration word means at a value, field by field, and which of
// them were judged to be hazards, or not to be for the board.
func explained(p *render.Printer, w *device.Word, v uint64, list []device.Verdict) {
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
		}
		for _, v := range list {
			switch {
			case v.Name != f.Name:
			case v.Kind == device.Hazard:
				meaning += " (hazard)"
			case v.Kind == device.Unfit:
				meaning += " (not on this board)"
			}
		}
		if is == f.Of(w.Default) {
			standard = "yes"
		}
		rows = append(rows, []string{f.BitsText(), f.Name, bitsOf(is, f.Bits), meaning, standard})
	}
	p.Table([]string{"bits", "field", "value", "meaning", "delivered"}, rows)
	p.Printf("\n")
}

// verdicts says what is wrong with configuration values.
func verdicts(p *render.Printer, list []device.Verdict) {
	for _, v := range list {
		if v.Kind == device.Hazard {
			p.Line("%s: %s", p.Bad("hazard"), strings.Replace(v.What, " is a hazard: ", ": ", 1))
			continue
		}
		p.Line("%s: %s", p.Bad("error"), source.Message(v.What, v.Expected, ""))
	}
}

// toType says which values are to be typed for words.
func toType(p *render.Printer, m *device.Map, values map[string]uint64, changed map[string]bool) {
	p.Line("%s", p.Title("to type:"))
	for i := range m.Config {
		if w := &m.Config[i]; changed[w.Name] {
			p.Line("  %s = %s at %s (bytes % X)", w.Name, w.Format(values[w.Name]), m.AddressText(w.At), w.Bytes(values[w.Name]))
			if s, ok := w.Complement(); ok {
				p.Line("  its complement at %s (bytes % X)", m.AddressText(s.First), w.Bytes(^values[w.Name]))
			}
		}
	}
}

// DevicesModel is the list of device maps.
type DevicesModel struct {
	Schema  string        `json:"schema"`
	Devices []ListedModel `json:"devices"`
}

// ListedModel is a device map that is found by name.
type ListedModel struct {
	Map      string        `json:"map"` // what -device takes
	Device   string        `json:"device"`
	Memories []MemoryModel `json:"memories"`
}

// Model makes the model of the list for programs.
func (d *Devices) Model() any {
	out := DevicesModel{Schema: SchemaName("devices"), Devices: []ListedModel{}}
	for i, m := range d.Maps {
		out.Devices = append(out.Devices, ListedModel{d.Names[i], m.Name, memoriesModel(m)})
	}
	return out
}

// DeviceModel is a device map for programs.
type DeviceModel struct {
	Schema     string          `json:"schema"`
	Device     string          `json:"device"`
	File       string          `json:"file"`
	Identities []string        `json:"identities"`               // hex digits; ?? for digits that do not count
	IdentityAt string          `json:"identityReadAt,omitempty"` // where a debugger reads the identity
	Memories   []MemoryModel   `json:"memories"`
	Regions    []RegionModel   `json:"regions"`
	Starts     []StartModel    `json:"starts"`
	Words      []WordModel     `json:"words"` // all words, or the explained ones
	Groups     []GroupModel    `json:"groups"`
	Checksums  []DeclaredModel `json:"checksums"`
	Link       *LinkModel      `json:"link,omitempty"`
	Loader     *LoaderModel    `json:"loader,omitempty"` // how the bootloader behaves, if the map describes it
	Ports      []PortModel     `json:"ports,omitempty"`
	Wishes     []WishModel     `json:"wishes,omitempty"`
	Speeds     []SpeedModel    `json:"speeds,omitempty"` // the clock that each supply allows
	Board      *BoardModel     `json:"board,omitempty"`
	// What follows from the explained or composed values.
	Follows *FollowsModel `json:"follows,omitempty"`
	// Verdicts are the problems of the explained or composed values.
	Verdicts []VerdictModel `json:"verdicts"`
}

// LoaderModel is how a bootloader behaves.
type LoaderModel struct {
	Retry     string         `json:"retry"`
	ReadFault string         `json:"readFault"`
	CanWrite  []string       `json:"canWrite,omitempty"` // memories with words; "none" if it can write none
	Checks    []ContentModel `json:"checks,omitempty"`
	Pins      []PinModel     `json:"pins,omitempty"`
	Swap      *SwapModel     `json:"swap,omitempty"`
}

// PinModel is a pin whose level lets a region start.
type PinModel struct {
	Region string `json:"region"`
	Pin    string `json:"pin"`
}

// ContentModel is bytes at an address.
type ContentModel struct {
	Region string `json:"region,omitempty"` // the region that then starts
	At     string `json:"at"`
	Bytes  string `json:"bytes"` // hex digits
}

// SwapModel is how a bootloader moves new firmware to the slot where it runs.
type SwapModel struct {
	From    string        `json:"from"`
	To      string        `json:"to"`
	Pending ContentModel  `json:"pending"`
	Done    *ContentModel `json:"done,omitempty"`
	Marks   Span          `json:"marks"`
	Firm    bool          `json:"firm"`
}

func contentModel(region string, h device.Content) ContentModel {
	return ContentModel{region, memory.PlainAddress(h.At), fmt.Sprintf("%X", h.Bytes)}
}

// loaderModel returns nil where the map says nothing that is not as usual.
func loaderModel(m *device.Map) *LoaderModel {
	l := &m.Loader
	if l.Retry == device.RetryAlways && l.ReadFault == device.FaultStops && l.CanWrite == nil && len(l.Checks) == 0 && len(l.Pins) == 0 &&
		l.Swap == nil {
		return nil
	}
	out := &LoaderModel{Retry: string(l.Retry), ReadFault: string(l.ReadFault), CanWrite: l.CanWrite}
	if l.CanWrite != nil && len(l.CanWrite) == 0 {
		out.CanWrite = []string{"none"}
	}
	for _, c := range l.Checks {
		out.Checks = append(out.Checks, contentModel(c.Region, c.Content))
	}
	for _, pin := range l.Pins {
		out.Pins = append(out.Pins, PinModel{pin.Region, pin.Pin})
	}
	if s := l.Swap; s != nil {
		out.Swap = &SwapModel{From: s.From, To: s.To, Pending: contentModel("", s.Pending), Marks: spanOf(s.Marks), Firm: s.Firm}
		if s.Done != nil {
			done := contentModel("", *s.Done)
			out.Swap.Done = &done
		}
	}
	return out
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
	// PartFirst is the first address as the device counts, if images have another; Unit is the
	// number of bytes for each of its addresses.
	PartFirst string `json:"partFirst,omitempty"`
	Unit      uint64 `json:"unit,omitempty"`
	WriteOnce bool   `json:"writeOnce,omitempty"` // whether a granule can be written only once after each erase
	Corrects  bool   `json:"ecc,omitempty"`       // whether each granule has error correction
	Endurance uint64 `json:"endurance,omitempty"` // the number of erases that a sector survives
	// How long it takes to erase a sector, and to program a page or granule.
	EraseTime   *TimesModel `json:"eraseTime,omitempty"`
	ProgramTime *TimesModel `json:"programTime,omitempty"`
}

// TimesModel is the typical and maximum time, in microseconds.
type TimesModel struct {
	Typical float64 `json:"typical,omitempty"`
	Most    float64 `json:"most,omitempty"`
}

func timesModel(t device.Times) *TimesModel {
	if t.Typical == 0 && t.Most == 0 {
		return nil
	}
	const micro = 1000.0 // nanoseconds
	return &TimesModel{float64(t.Typical) / micro, float64(t.Most) / micro}
}

// StartModel is a way of starting.
type StartModel struct {
	Kind       string `json:"kind"`
	At         string `json:"at"`
	Stack      string `json:"stack,omitempty"`
	StackAlign uint64 `json:"stackAlign,omitempty"`
	Target     string `json:"target,omitempty"`
	OddTarget  bool   `json:"oddTarget,omitempty"`
	Width      int    `json:"width,omitempty"` // of vectors, in bytes
	Order      string `json:"order,omitempty"`
}

// GroupModel is a setting whose bits are in several fields.
type GroupModel struct {
	Name   string         `json:"name"`
	Fields []string       `json:"fields"` // the field with the lowest bits first
	Values []MeaningModel `json:"values"`
}

// LinkModel is the link to the device.
type LinkModel struct {
	Baud     uint64 `json:"baud"` // bits a second
	Bits     uint64 `json:"bits"` // for a byte
	Packet   uint64 `json:"packet,omitempty"`
	Overhead uint64 `json:"around,omitempty"`
}

// SectorsModel is a number of sectors of one size.
type SectorsModel struct {
	First string `json:"first"`
	Size  uint64 `json:"size"`
	Count uint64 `json:"count"`
	// EraseTime is the time of one sector, if it differs from the memory's.
	EraseTime *TimesModel `json:"eraseTime,omitempty"`
}

// RegionModel is a region of a map.
type RegionModel struct {
	Name     string `json:"name"`
	Role     string `json:"role"`
	Span     Span   `json:"span"`
	Memory   string `json:"memory"`
	Required bool   `json:"required"`
	Inside   string `json:"inside,omitempty"` // the region that contains it
}

// WordModel is a configuration word.
type WordModel struct {
	Name    string `json:"name"`
	At      string `json:"at"`
	Size    int    `json:"size"`
	Default string `json:"default"`
	Value   string `json:"value,omitempty"` // the explained or composed value
	Bytes   string `json:"bytes,omitempty"` // the bytes of the value, as in memory
	ToType  bool   `json:"toType,omitempty"`
	// ComplementAt is the address at which the device needs its complement.
	ComplementAt string       `json:"complementAt,omitempty"`
	Fields       []FieldModel `json:"fields"`
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
	// HazardUnless are fields and meanings that together make it safe.
	HazardUnless map[string]string `json:"hazardUnless,omitempty"`
	Protects     []Span            `json:"protects,omitempty"` // spans that cannot be erased or programmed while it is set
	Effect       string            `json:"effect,omitempty"`   // what the device does after the next reset: locked, closed, stopped
	Needs        *NeedsModel       `json:"needs,omitempty"`    // what it needs of the board
	Gives        *GivesModel       `json:"gives,omitempty"`    // the clock that follows from it
}

func meaningModel(v *device.FieldValue) MeaningModel {
	m := MeaningModel{Value: v.Value, Meaning: v.Meaning, Hazard: v.Hazard, HazardUnless: v.Unless, Effect: string(v.Effect)}
	for _, s := range v.Protects {
		m.Protects = append(m.Protects, spanOf(s))
	}
	if n := v.Needs; n != nil {
		m.Needs = &NeedsModel{string(n.Clock), rangeModel(n.Frequency), rangeModel(n.Supply), n.Pin, n.Free}
	}
	if g := v.Gives; g != nil {
		m.Gives = &GivesModel{uint64(g.Clock), g.Board, g.Divide}
	}
	return m
}

// DeclaredModel is a checksum that a map declares.
type DeclaredModel struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	In     []Span `json:"in"`
	Skip   []Span `json:"skip,omitempty"`
	Swap   int    `json:"swap,omitempty"`
	Slot   string `json:"slot,omitempty"`
	At     string `json:"at,omitempty"`     // where it is stored
	Behind uint64 `json:"behind,omitempty"` // or its distance from the last covered address
	Size   uint64 `json:"size"`
	Order  string `json:"order"`
	Guards string `json:"guards,omitempty"`    // the region that starts only if the checksum is valid
	By     string `json:"checkedBy,omitempty"` // who checks it: loader, hardware
	// What the image says of itself.
	LengthAt *FieldAtModel `json:"lengthAt,omitempty"`
	EndAt    *FieldAtModel `json:"endAt,omitempty"`
	PlaceAt  *FieldAtModel `json:"placeAt,omitempty"`
	RankAt   *FieldAtModel `json:"rankAt,omitempty"` // of several guarded regions, the one with the highest rank starts
}

// FieldAtModel is a number in the image.
type FieldAtModel struct {
	At     string `json:"at"`
	Width  int    `json:"width"`
	Order  string `json:"order"`
	Offset int64  `json:"offset,omitempty"`
}

func fieldAtModel(f *device.FieldAt) *FieldAtModel {
	if f == nil {
		return nil
	}
	return &FieldAtModel{memory.PlainAddress(f.At), f.Width, f.Order.String(), f.Offset}
}

func declaredModel(c *device.Checksum) DeclaredModel {
	m := DeclaredModel{
		Name:     c.Name,
		Kind:     c.Kind.Name,
		In:       []Span{},
		Swap:     c.Swap,
		Slot:     c.Slot,
		Behind:   c.Behind(),
		Size:     c.Size,
		Order:    c.Order.String(),
		Guards:   c.Guards,
		LengthAt: fieldAtModel(c.Length),
		EndAt:    fieldAtModel(c.End),
		PlaceAt:  fieldAtModel(c.Place),
		RankAt:   fieldAtModel(c.Rank),
	}
	if c.Hardware {
		m.By = "hardware"
	} else if c.Guards != "" {
		m.By = "loader"
	}
	if m.Behind == 0 && c.Place == nil {
		m.At = memory.PlainAddress(c.At)
	}
	for _, s := range c.In {
		m.In = append(m.In, spanOf(s))
	}
	for _, s := range c.Skip {
		m.Skip = append(m.Skip, spanOf(s))
	}
	return m
}

// VerdictModel is a problem of a configuration value.
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
			out.Sectors = append(out.Sectors, SectorsModel{memory.PlainAddress(s.First), s.Size, s.Count, timesModel(s.Erase)})
		}
		for _, a := range mem.Aliases {
			out.Aliases = append(out.Aliases, spanOf(a))
		}
		if mem.PartFirst != mem.Span.First {
			out.PartFirst = memory.PlainAddress(mem.PartFirst)
		}
		if mem.Unit > 1 {
			out.Unit = mem.Unit
		}
		out.Corrects, out.Endurance = mem.Corrects, mem.Bears
		out.WriteOnce, out.EraseTime, out.ProgramTime = mem.WriteOnce, timesModel(mem.Erase), timesModel(mem.Program)
		list = append(list, out)
	}
	return list
}

// Model makes the model of the map, or of the words, for programs.
func (d *Device) Model() any {
	m := d.Map
	out := DeviceModel{
		Schema:     SchemaName("device"),
		Device:     m.Name,
		File:       m.File,
		Identities: []string{},
		Starts:     []StartModel{},
		Groups:     []GroupModel{},
		Memories:   memoriesModel(m),
		Regions:    []RegionModel{},
		Words:      []WordModel{},
		Checksums:  []DeclaredModel{},
		Verdicts:   []VerdictModel{},
	}
	for _, d := range m.Identities {
		out.Identities = append(out.Identities, d.String())
	}
	if at := d.Map.IdentityReadAt; at != nil {
		out.IdentityAt = memory.PlainAddress(*at)
	}
	for r := range m.All() {
		out.Regions = append(out.Regions, RegionModel{r.Name, string(r.Role), spanOf(r.Span), r.Memory, r.Required, r.Inside})
	}
	for i := range m.Starts {
		s := &m.Starts[i]
		one := StartModel{Kind: string(s.Kind), At: memory.PlainAddress(s.At), Stack: s.Stack, Target: s.Target, OddTarget: s.OddTarget}
		if s.Kind == device.StartVectors {
			one.StackAlign, one.Width, one.Order = s.StackAlign, s.Width, s.Order.String()
		}
		out.Starts = append(out.Starts, one)
	}
	out.Loader, out.Board = loaderModel(m), boardModel(m.Board)
	if d.Words == nil {
		out.Ports = portModels(m)
		for _, w := range m.Wishes {
			out.Wishes = append(out.Wishes, WishModel(w))
		}
		for i := range m.Speeds {
			s := &m.Speeds[i]
			out.Speeds = append(out.Speeds, SpeedModel{*rangeModel(&s.Supply), *rangeModel(&s.Clock)})
		}
	} else {
		out.Follows = (&Words{Map: m, Values: d.Words}).follows()
	}
	if d.Words == nil {
		for i := range m.Groups {
			g := &m.Groups[i]
			one := GroupModel{Name: g.Name, Fields: g.Fields, Values: []MeaningModel{}}
			for j := range g.Values {
				one.Values = append(one.Values, meaningModel(&g.Values[j]))
			}
			out.Groups = append(out.Groups, one)
		}
	}
	if l := m.Link; l.Baud > 0 {
		out.Link = &LinkModel{l.Baud, l.Bits, l.Packet, l.Overhead}
	}
	for i := range m.Config {
		w := &m.Config[i]
		v, ok := d.Words[w.Name]
		if d.Words != nil && !ok {
			continue
		}
		one := wordModel(w, v, ok)
		one.ToType = ok && d.Composed && d.Changed[w.Name]
		out.Words = append(out.Words, one)
	}
	for i := range m.Checksums {
		out.Checksums = append(out.Checksums, declaredModel(&m.Checksums[i]))
	}
	for _, v := range d.Verdicts {
		out.Verdicts = append(out.Verdicts, VerdictModel{v.Kind == device.Hazard, v.What, v.Expected})
	}
	return out
}

// wordModel is a word, with a value where one is given.
func wordModel(w *device.Word, v uint64, given bool) WordModel {
	one := WordModel{Name: w.Name, At: memory.PlainAddress(w.At), Size: w.Width, Default: w.Format(w.Default), Fields: []FieldModel{}}
	if given {
		one.Value, one.Bytes = w.Format(v), fmt.Sprintf("%X", w.Bytes(v))
	}
	if s, ok := w.Complement(); ok {
		one.ComplementAt = memory.PlainAddress(s.First)
	}
	for j := range w.Fields {
		one.Fields = append(one.Fields, fieldModel(w, &w.Fields[j], v, given))
	}
	return one
}

func fieldModel(w *device.Word, f *device.Field, v uint64, given bool) FieldModel {
	out := FieldModel{Name: f.Name, Bits: f.BitsText(), Default: f.Of(w.Default), Values: []MeaningModel{}}
	for i := range f.Values {
		out.Values = append(out.Values, meaningModel(&f.Values[i]))
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

// bitsOf writes the value of a field: of several bits as 0b10, with all of them.
func bitsOf(value uint64, bits int) string {
	if bits == 1 {
		return strconv.FormatUint(value, 10)
	}
	return fmt.Sprintf("0b%0*b", bits, value)
}
