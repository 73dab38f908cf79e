// Package device holds device maps: the memories of a part and the regions
// that its firmware is divided into.
//
// A map is a TOML file, NAME.device.toml. Loading it is strict, and finds all
// that is wrong with it at once, each with line and column.
package device

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"sort"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// Map describes one part.
type Map struct {
	Name       string
	File       string  // where it was loaded from
	Identity   []byte  // with which the part says what it is; may be empty
	IdentityAt *uint64 // where an image carries the identity that it is for; nil is nowhere
	Memories   []Memory
	Regions    []Region
	Start      Start
	Config     []Word
	Checksums  []Checksum
	// Enters is the region that start-up goes to, where configuration says so;
	// "" is not said.
	Enters string

	file mapFile
}

// Memory is an address range of the part.
type Memory struct {
	Name    string
	Kind    Kind
	Span    memory.Span
	Erased  byte          // what an erased byte reads as
	Page    uint64        // bytes programmed at once; 0 where not said
	Granule uint64        // the least that can be written, in bytes; 0 where not said
	Sectors []Sectors     // erased at once, in the order of their addresses
	Aliases []memory.Span // other addresses at which the memory is seen
	// PartFirst is the first address in the part's own numbering, where that
	// is another than in images.
	PartFirst uint64
	Word      uint64 // bytes that the part's own addresses count as one; by default 1

	placed bool // it has a span
}

// Sectors are sectors of one size in a row.
type Sectors struct {
	First, Size, Count uint64
}

// SectorAt returns the sector that holds an address; ok is false where the map
// gives none.
func (m *Memory) SectorAt(address uint64) (memory.Span, bool) {
	for _, s := range m.Sectors {
		if address >= s.First && (address-s.First)/s.Size < s.Count {
			first := s.First + (address-s.First)/s.Size*s.Size
			return memory.Span{First: first, Last: first + s.Size - 1}, true
		}
	}
	return memory.Span{}, false
}

// CountSectors returns in how many of the memory's sectors an image holds
// bytes.
func (m *Memory) CountSectors(image *memory.Image) uint64 {
	n := uint64(0)
	for _, s := range m.Sectors {
		all := memory.Span{First: s.First, Last: s.First + s.Size*s.Count - 1}
		for _, used := range image.Cut(all).UsedPages(s.Size, s.First) {
			n += used.Size() / s.Size
		}
	}
	return n
}

// Programmable reports whether a programmer can write the memory.
func (m *Memory) Programmable() bool { return m.Kind != RAM && m.Kind != ROM }

// Start says how the part starts.
type Start struct {
	Kind       StartKind
	At         uint64 // where the vectors, or the first instruction, stand
	Stack      string // vectors: memory or region in which the initial stack must lie; "" is not said
	StackAlign uint64 // vectors: what the initial stack must be a multiple of; 0 is 1
	Target     string // vectors: region in which the reset target must lie; "" is any
	OddTarget  bool   // vectors: bit 0 of the target chooses the instruction set, and must be set
}

// StartKind is a way of starting.
type StartKind string

const (
	// StartUnsaid is not known.
	StartUnsaid StartKind = ""
	// StartVectors are an initial stack pointer and a reset target, as
	// little-endian words of 32 bits.
	StartVectors StartKind = "vectors"
	// StartInstruction is a first instruction.
	StartInstruction StartKind = "instruction"
)

var startKinds = []string{string(StartVectors), string(StartInstruction)}

// Checksum is a value that a loader checks.
type Checksum struct {
	Name   string
	Kind   string // as package checksum names it
	In     memory.Span
	At     uint64
	Order  string // little or big
	Slot   string // skip, zero or erased; "" is unsaid
	Region string // the region in which it lies
}

// Kind is what a memory is made of.
type Kind string

// The kinds of memory.
const (
	Flash  Kind = "flash"
	EEPROM Kind = "eeprom"
	RAM    Kind = "ram"
	ROM    Kind = "rom"
	OTP    Kind = "otp"
	Config Kind = "config"
)

var kinds = []string{string(Flash), string(EEPROM), string(RAM), string(ROM), string(OTP), string(Config)}

// Region is a named piece of a memory.
type Region struct {
	Name     string
	Role     Role
	Span     memory.Span
	Memory   string // the memory in which it lies
	Required bool   // an image for the whole part must hold something here

	path string // where the file gives it
}

// Role is what a region is for.
type Role string

// The roles of regions.
const (
	Bootloader  Role = "bootloader"
	Application Role = "application"
	Data        Role = "data"
	Reserved    Role = "reserved"
)

var roles = []string{string(Bootloader), string(Application), string(Data), string(Reserved)}

// Names returns the spans of all memories and regions.
func (m *Map) Names() span.Names {
	names := span.Names{}
	for _, mem := range m.Memories {
		names.Set(mem.Name, mem.Span)
	}
	for _, r := range m.Regions {
		names.Set(r.Name, r.Span)
	}
	return names
}

// ErrNoRegions says that a map has no region at all.
var ErrNoRegions = errors.New("the map has no [[region]]; add one")

// Find returns the region of a name, or says which there are.
func (m *Map) Find(name string) (*Region, error) {
	if r := m.Region(name); r != nil {
		return r, nil
	}
	if len(m.Regions) == 0 {
		return nil, ErrNoRegions
	}
	return nil, fmt.Errorf("%s has no region %q; %s", m.Name, name, source.DidYouMean(name, m.RegionNames()))
}

// Region returns the region of a name, or nil.
func (m *Map) Region(name string) *Region {
	i := slices.IndexFunc(m.Regions, func(r Region) bool { return r.Name == name })
	if i < 0 {
		return nil
	}
	return &m.Regions[i]
}

// RegionNames returns the names of all regions.
func (m *Map) RegionNames() []string {
	var names []string
	for _, r := range m.Regions {
		names = append(names, r.Name)
	}
	return names
}

// RegionAt returns the region that holds the address, or nil.
func (m *Map) RegionAt(address uint64) *Region {
	i := sort.Search(len(m.Regions), func(i int) bool { return m.Regions[i].Span.Last >= address })
	if i == len(m.Regions) || m.Regions[i].Span.First > address {
		return nil
	}
	return &m.Regions[i]
}

// RegionsIn returns the regions that have addresses in a span.
func (m *Map) RegionsIn(s memory.Span) []Region {
	first := sort.Search(len(m.Regions), func(i int) bool { return m.Regions[i].Span.Last >= s.First })
	last := first
	for last < len(m.Regions) && m.Regions[last].Span.First <= s.Last {
		last++
	}
	return m.Regions[first:last]
}

// MemoryAt returns the memory that holds the address, or nil.
func (m *Map) MemoryAt(address uint64) *Memory {
	i := sort.Search(len(m.Memories), func(i int) bool { return m.Memories[i].Span.Last >= address })
	if i == len(m.Memories) || m.Memories[i].Span.First > address {
		return nil
	}
	return &m.Memories[i]
}

// ErasedAt returns what an erased byte reads as at an address: FF unless a
// memory says otherwise. The map may be nil.
func (m *Map) ErasedAt(address uint64) byte {
	if m != nil {
		if mem := m.MemoryAt(address); mem != nil {
			return mem.Erased
		}
	}
	return 0xFF
}

// The file as it is written.
type (
	mapFile struct {
		Name       string              `toml:"name"`
		Identity   string              `toml:"identity"`
		IdentityAt settings.Expression `toml:"identity-at"`
		Memories   []memoryFile        `toml:"memory"`
		Regions    []regionFile        `toml:"region"`
		Start      *startFile          `toml:"start"`
		Config     []wordFile          `toml:"config"`
		Checksums  []checksumFile      `toml:"checksum"`
	}
	startFile struct {
		Kind       string              `toml:"kind"`
		At         settings.Expression `toml:"at"`
		Stack      string              `toml:"stack"`
		StackAlign uint64              `toml:"stack-align"`
		Target     string              `toml:"target"`
		OddTarget  bool                `toml:"odd-target"`
	}
	checksumFile struct {
		Name  string              `toml:"name"`
		Kind  string              `toml:"kind"`
		In    string              `toml:"in"`
		At    settings.Expression `toml:"at"`
		Order string              `toml:"order"`
		Slot  string              `toml:"slot"`
	}
	memoryFile struct {
		Name    string                `toml:"name"`
		Kind    string                `toml:"kind"`
		First   settings.Expression   `toml:"first"`
		Size    settings.Expression   `toml:"size"`
		Erased  settings.Expression   `toml:"erased"`
		Page    settings.Expression   `toml:"page"`
		Granule settings.Expression   `toml:"granule"`
		Sectors []sectorsFile         `toml:"sectors"`
		Image   settings.Expression   `toml:"image-first"`
		Aliases []settings.Expression `toml:"aliases"`
		Word    settings.Expression   `toml:"word"`
	}
	sectorsFile struct {
		Count settings.Expression `toml:"count"`
		Size  settings.Expression `toml:"size"`
	}
	regionFile struct {
		Name     string              `toml:"name"`
		Role     string              `toml:"role"`
		First    settings.Expression `toml:"first"`
		Size     settings.Expression `toml:"size"`
		Last     settings.Expression `toml:"last"`
		Required bool                `toml:"required"`
	}
)

// Load reads a map from the text of its file. Problems are added to the list;
// where that then holds an error, the map must not be used.
func Load(name string, text []byte, problems *source.Problems) *Map {
	var f mapFile
	before := problems.Errors()
	decoded := settings.Decode(name, text, &f, problems)
	if problems.Errors() > before {
		return &Map{Name: f.Name, File: name}
	}
	return build(name, f, decoded)
}

// build makes a map of what its file says.
func build(name string, f mapFile, decoded *settings.File) *Map {
	l := loader{file: decoded}
	m := &Map{Name: f.Name, File: name, file: f}
	if f.Name == "" {
		l.file.Problem("name", "the map has no name", "name = \"PART\" expected", "")
	}
	if f.Identity != "" {
		var err error
		if m.Identity, err = span.Bytes(f.Identity); err != nil {
			l.file.Problem("identity", err.Error(), "", "")
		}
	}
	if len(f.Memories) == 0 {
		l.file.Problem("memory", "the map has no memory", "[[memory]] expected", "")
	}
	for i, mf := range f.Memories {
		m.Memories = append(m.Memories, l.memory(fmt.Sprintf("memory[%d]", i), mf))
	}
	l.memoryOverlaps(m)
	l.regions(m, f.Regions)
	l.start(m, f.Start)
	l.config(m, f.Config)
	l.checksums(m, f.Checksums)
	if f.IdentityAt != "" {
		if at, ok := l.number("identity-at", f.IdentityAt, 0); ok {
			m.IdentityAt = &at
		}
	}
	return m
}

// memoryOverlaps finds memories that overlap, and sorts them.
func (l *loader) memoryOverlaps(m *Map) {
	path := map[string]string{}
	for i, mem := range m.Memories {
		path[mem.Name] = fmt.Sprintf("memory[%d].first", i)
	}
	// One that could not be placed is no memory yet.
	m.Memories = slices.DeleteFunc(m.Memories, func(mem Memory) bool { return !mem.placed })
	slices.SortStableFunc(m.Memories, func(a, b Memory) int { return cmp.Compare(a.Span.First, b.Span.First) })
	for i := 1; i < len(m.Memories); i++ {
		a, b := &m.Memories[i-1], &m.Memories[i]
		if both, ok := a.Span.Meet(b.Span); ok && a.Name != b.Name {
			l.file.Problem(path[b.Name], fmt.Sprintf("memory %s overlaps memory %s over %s", b.Name, a.Name, both), "", "")
		}
	}
}

type loader struct {
	file  *settings.File
	names span.Names // resolved so far
}

// name proves a name and that it is free.
func (l *loader) name(path, what, name string) {
	switch _, taken := l.names.Span(name); {
	case name == "":
		l.file.Problem(path, "the "+what+" has no name", "name = \"NAME\" expected", "")
	case !span.IsName(name):
		l.file.Problem(path+".name", fmt.Sprintf("%q cannot be a name", name), "letters, digits and _ expected, not a digit first", "")
	case name == "image":
		l.file.Problem(path+".name", "the name image stands for the image itself", "", "choose another")
	case taken:
		l.file.Problem(path+".name", fmt.Sprintf("the name %s is given twice", name), "", "")
	}
}

func (l *loader) word(path, key, word string, known []string) {
	if !slices.Contains(known, word) {
		what := fmt.Sprintf("%s %q is not known", key, word)
		if word == "" {
			what = key + " is missing"
		}
		l.file.Problem(path+"."+key, what, "", source.DidYouMean(word, known))
	}
}

// number evaluates an expression; def is its value where it is not there.
func (l *loader) number(path string, e settings.Expression, def uint64) (uint64, bool) {
	if e == "" {
		return def, true
	}
	n, err := span.Address(string(e), l.names)
	if err != nil {
		l.file.Problem(path, err.Error(), "", "")
		return 0, false
	}
	return n, true
}

func (l *loader) memory(path string, f memoryFile) Memory {
	l.name(path, "memory", f.Name)
	l.word(path, "kind", f.Kind, kinds)
	mem := Memory{Name: f.Name, Kind: Kind(f.Kind)}
	if f.Size == "" || f.First == "" {
		l.file.Problem(path, fmt.Sprintf("memory %s needs first and size", f.Name), "", "")
		return mem
	}
	first, ok1 := l.number(path+".first", f.First, 0)
	size, ok2 := l.number(path+".size", f.Size, 0)
	if !ok1 || !ok2 {
		return mem
	}
	var ok bool
	mem.PartFirst = first
	if first, ok = l.number(path+".image-first", f.Image, first); !ok {
		return mem
	}
	if mem.Word, ok = l.number(path+".word", f.Word, 1); ok && (mem.Word == 0 || size%mem.Word != 0) {
		l.file.Problem(path+".word", fmt.Sprintf("words of %d bytes do not divide the memory's %s", mem.Word, memory.FormatSize(size)), "", "")
	}
	if mem.Span, ok = memory.SpanOf(first, size); !ok {
		l.file.Problem(path+".size", fmt.Sprintf("%d bytes from %s make no span", size, memory.FormatAddress(first)), "1 byte or more, not past the last 64-bit address", "")
		return mem
	}
	mem.placed = true
	if f.Name != "" {
		l.names.Set(f.Name, mem.Span)
	}
	erased, ok := l.number(path+".erased", f.Erased, 0xFF)
	if mem.Erased = byte(erased); ok && erased > 0xFF {
		l.file.Problem(path+".erased", fmt.Sprintf("the erased value 0x%X is no byte", erased), "0 to 0xFF expected", "")
	}
	mem.Page, ok = l.number(path+".page", f.Page, 0)
	if ok && f.Page != "" && (mem.Page == 0 || size%mem.Page != 0) {
		l.file.Problem(path+".page", fmt.Sprintf("pages of %d bytes do not divide the memory's %s", mem.Page, memory.FormatSize(size)), "", "")
	}
	mem.Granule, ok = l.number(path+".granule", f.Granule, 0)
	if ok && f.Granule != "" && (mem.Granule == 0 || size%mem.Granule != 0) {
		l.file.Problem(path+".granule", fmt.Sprintf("granules of %d bytes do not divide the memory's %s", mem.Granule, memory.FormatSize(size)), "", "")
	}
	l.sectors(path, f.Sectors, &mem)
	for i, a := range f.Aliases {
		if at, ok := l.number(fmt.Sprintf("%s.aliases[%d]", path, i), a, 0); ok {
			alias, ok := memory.SpanOf(at, size)
			if _, meets := alias.Meet(mem.Span); !ok || meets {
				l.file.Problem(fmt.Sprintf("%s.aliases[%d]", path, i), fmt.Sprintf("the alias at %s overlaps the memory itself, or runs past the last 64-bit address", memory.FormatAddress(at)), "", "")
				continue
			}
			mem.Aliases = append(mem.Aliases, alias)
		}
	}
	return mem
}

func (l *loader) sectors(path string, list []sectorsFile, mem *Memory) {
	const most = 1 << 16
	next, left := mem.Span.First, mem.Span.Size()
	for i, s := range list {
		at := fmt.Sprintf("%s.sectors[%d]", path, i)
		count, ok1 := l.number(at+".count", s.Count, 1)
		size, ok2 := l.number(at+".size", s.Size, 0)
		if !ok1 || !ok2 {
			return
		}
		if count == 0 || size == 0 || count > most {
			l.file.Problem(at, fmt.Sprintf("%d sectors of %d bytes", count, size), fmt.Sprintf("1 to %d sectors of 1 byte or more expected", most), "")
			return
		}
		if size > left/count {
			l.file.Problem(at, fmt.Sprintf("the sectors add up to more than the memory's %s", memory.FormatSize(mem.Span.Size())), "", "")
			return
		}
		mem.Sectors = append(mem.Sectors, Sectors{next, size, count})
		next, left = next+size*count, left-size*count
	}
	if len(list) > 0 && left > 0 {
		l.file.Problem(path+".sectors", fmt.Sprintf("the sectors leave %s of the memory over", memory.FormatSize(left)), "", "")
	}
}

// regions resolves the regions, which may be given in terms of each other in
// any order: a region waits for those that it names.
func (l *loader) regions(m *Map, list []regionFile) {
	number := map[string]int{} // of each region, by its name
	for i, f := range list {
		path := fmt.Sprintf("region[%d]", i)
		l.name(path, "region", f.Name)
		l.word(path, "role", f.Role, roles)
		if j, twice := number[f.Name]; twice && f.Name != "" {
			l.file.Problem(path+".name", fmt.Sprintf("the name %s is given twice", f.Name), fmt.Sprintf("region %d has it too", j+1), "")
			continue
		}
		number[f.Name] = i
		if f.given() != 2 {
			l.file.Problem(path, fmt.Sprintf("region %s needs two of first, size and last", f.Name), "", "")
		}
	}
	waitsFor := make([]int, len(list)) // regions that are not resolved yet
	waiting := make([][]int, len(list))
	var ready []int
	for i, f := range list {
		for _, e := range f.expressions() {
			for _, name := range span.NamesIn(string(e)) {
				if j, ok := number[name]; ok {
					waitsFor[i]++
					waiting[j] = append(waiting[j], i)
				}
			}
		}
		if waitsFor[i] == 0 {
			ready = append(ready, i)
		}
	}
	resolved := make([]bool, len(list))
	for ; len(ready) > 0; ready = ready[1:] {
		i := ready[0]
		f := list[i]
		resolved[i] = true
		if f.given() == 2 {
			if s, ok := l.regionSpan(fmt.Sprintf("region[%d]", i), f); ok {
				l.names.Set(f.Name, s)
				m.Regions = append(m.Regions, Region{Name: f.Name, Role: Role(f.Role), Span: s, Required: f.Required, path: fmt.Sprintf("region[%d]", i)})
			}
		}
		for _, j := range waiting[i] {
			if waitsFor[j]--; waitsFor[j] == 0 {
				ready = append(ready, j)
			}
		}
	}
	for i, f := range list {
		if !resolved[i] {
			l.file.Problem(fmt.Sprintf("region[%d]", i), fmt.Sprintf("region %s is given in terms of itself, by way of others", f.Name), "", "give one of them by numbers")
		}
	}
	slices.SortStableFunc(m.Regions, func(a, b Region) int { return cmp.Compare(a.Span.First, b.Span.First) })
	for i := range m.Regions {
		l.place(m, &m.Regions[i])
		if i == 0 {
			continue
		}
		a, b := &m.Regions[i-1], &m.Regions[i]
		if both, ok := a.Span.Meet(b.Span); ok {
			l.file.Problem(b.path, fmt.Sprintf("region %s overlaps region %s over %s", b.Name, a.Name, both), "", "")
		}
	}
}

// expressions returns what a region is given by.
func (f *regionFile) expressions() []settings.Expression {
	return []settings.Expression{f.First, f.Size, f.Last}
}

// given returns how many of first, size and last a region has.
func (f *regionFile) given() int {
	n := 0
	for _, e := range f.expressions() {
		if e != "" {
			n++
		}
	}
	return n
}

func (l *loader) regionSpan(path string, f regionFile) (memory.Span, bool) {
	first, ok1 := l.number(path+".first", f.First, 0)
	size, ok2 := l.number(path+".size", f.Size, 0)
	last, ok3 := l.number(path+".last", f.Last, 0)
	if !ok1 || !ok2 || !ok3 {
		return memory.Span{}, false
	}
	if f.First == "" {
		if size == 0 || size-1 > last {
			l.file.Problem(path+".size", fmt.Sprintf("%d bytes up to %s make no span", size, memory.FormatAddress(last)), "1 byte or more, not below 0", "")
			return memory.Span{}, false
		}
		return memory.Span{First: last - size + 1, Last: last}, true
	}
	if f.Last != "" {
		if last < first {
			l.file.Problem(path+".last", fmt.Sprintf("region %s begins at %s and ends before that, at %s", f.Name, memory.FormatAddress(first), memory.FormatAddress(last)), "", "")
			return memory.Span{}, false
		}
		return memory.Span{First: first, Last: last}, true
	}
	s, ok := memory.SpanOf(first, size)
	if !ok {
		l.file.Problem(path+".size", fmt.Sprintf("%d bytes from %s make no span", size, memory.FormatAddress(first)), "1 byte or more, not past the last 64-bit address", "")
	}
	return s, ok
}

// place finds the memory in which a region lies.
func (l *loader) place(m *Map, r *Region) {
	mem := m.MemoryAt(r.Span.First)
	switch {
	case mem == nil:
		l.file.Problem(r.path+".first", fmt.Sprintf("region %s begins at %s, which lies in no memory", r.Name, memory.FormatAddress(r.Span.First)), "", "")
	case !mem.Span.Covers(r.Span):
		l.file.Problem(r.path, fmt.Sprintf("region %s, %s, runs past the end of memory %s at %s, by %s", r.Name, r.Span, mem.Name,
			memory.FormatAddress(mem.Span.Last), memory.FormatSize(r.Span.Last-mem.Span.Last)), "", "")
	default:
		r.Memory = mem.Name
	}
}
