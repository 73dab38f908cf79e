// Package device holds device maps: the memories of a device and the regions
// that its firmware is divided into.
//
// A map is a TOML file, NAME.device.toml. Loading it is strict, and finds all
// that is wrong with it at once, each with line and column.
package device

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"sort"
	"strings"
	"time"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Map describes one device.
type Map struct {
	Name       string
	File       string     // where it was loaded from
	Identities []Identity // with which the device says what it is, one for each revision; may be empty
	IdentityAt *uint64    // where an image carries the identity that it is for; nil is nowhere
	// IdentityReadAt is where the device itself has the identity for a debugger; nil is not said.
	IdentityReadAt *uint64
	Machine        string       // of programs for it, as an ELF file names it; "" is not said
	ByteOrder      memory.Order // of programs for it: little or big; "" is not said
	Memories       []Memory
	Regions        []Region // sorted; none lies in another, but in Inner
	Starts         []Start
	Config         []Word
	Groups         []Group
	Checksums      []Checksum
	Link           Link
	Loader         Loader
	Ports          []Port
	Wishes         []Wish
	Speeds         []Speed
	Board          *Board // that the device is on; nil is not known
	// Enters is the region that start-up goes to, where configuration says so;
	// "" is not said.
	Enters string
	// Warnings are what is most likely a mistake in the map, and lets it be used.
	Warnings []*source.Problem

	file   mapFile
	sizes  *sizes
	byName map[string]*Region
	fields map[string][2]int // word and field, by the name in lower case
}

// Identity is the bytes with which a device says what it is.
type Identity struct {
	Bytes []byte
	Mask  []byte // the bits that count; as long as the bytes
}

// Is reports whether bytes are the identity, but for bits that do not count.
func (d Identity) Is(b []byte) bool {
	if len(b) != len(d.Bytes) {
		return false
	}
	for i := range b {
		if (b[i]^d.Bytes[i])&d.Mask[i] != 0 {
			return false
		}
	}
	return true
}

// String prints the bytes as hex digits, those of which no bit counts as ??.
func (d Identity) String() string {
	var words []string
	for i, b := range d.Bytes {
		switch d.Mask[i] {
		case 0:
			words = append(words, "??")
		case 0xFF:
			words = append(words, fmt.Sprintf("%02X", b))
		default:
			words = append(words, fmt.Sprintf("%02X&%02X", b&d.Mask[i], d.Mask[i]))
		}
	}
	return strings.Join(words, " ")
}

// Times are how long an act takes, as a data sheet gives it; 0 is not said.
type Times struct{ Typical, Most time.Duration }

// Link is how bytes get to the device; a Baud of 0 is not said.
type Link struct {
	Baud     uint64 // bits a second
	Bits     uint64 // bits that a byte takes, with its frame
	Packet   uint64 // bytes of data in a packet; 0 is not said
	Overhead uint64 // bytes that a packet adds
}

// Memory is an address range of the device.
type Memory struct {
	Name    string
	Kind    Kind
	Span    memory.Span
	Erased  byte          // what an erased byte reads as
	Page    uint64        // bytes programmed at once; 0 where not said
	Granule uint64        // smallest number of bytes that can be written; 0 where not said
	Sectors []Sectors     // erased at once, in the order of their addresses
	Aliases []memory.Span // other addresses at which the memory is seen
	// PartFirst is the first address in the device's own numbering, where that
	// is another than in images.
	PartFirst uint64
	Unit      uint64 // bytes that the device's own addresses count as one; by default 1
	// WriteOnce is whether a granule can be written only once after each erase.
	WriteOnce bool
	// Corrects is whether each granule has error correction: one that an interrupted
	// write left may not be readable.
	Corrects bool
	// Bears is how many erases of a sector the data sheet promises; 0 is not said.
	Bears   uint64
	Erase   Times // of a sector
	Program Times // of a page or granule

	path    string // where the file gives it
	aliasAt []int  // which of the file's aliases each is
}

// InPart returns an address of images as the device's data sheet gives it.
func (m *Memory) InPart(address uint64) uint64 {
	return m.PartFirst + (address-m.Span.First)/m.Unit
}

// Sectors are sectors of one size in a row.
type Sectors struct {
	First, Size, Count uint64
	Erase              Times // of one; 0 is as the memory says
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

// Programmable returns the memories that a programmer can write.
func (m *Map) Programmable() (list []memory.Span) {
	for i := range m.Memories {
		if m.Memories[i].Programmable() {
			list = append(list, m.Memories[i].Span)
		}
	}
	return list
}

// Start says how the device, or what one region holds, starts.
type Start struct {
	Kind       StartKind
	At         uint64 // where the vectors, or the first instruction, stand
	Stack      string // vectors: memory or region in which the initial stack must lie; "" is not said
	StackAlign uint64 // vectors: what the initial stack must be a multiple of; 0 is 1
	Target     string // vectors: region in which the reset target must lie; "" is any
	OddTarget  bool   // vectors: bit 0 of the target chooses the instruction set, and must be set
	Width      int    // vectors: bytes in each
	Order      memory.Order
}

// StartKind is a way of starting.
type StartKind string

const (
	// StartVectors are an initial stack pointer and a reset target.
	StartVectors StartKind = "vectors"
	// StartInstruction is a first instruction.
	StartInstruction StartKind = "instruction"
)

// Checksum is a value that a loader checks.
type Checksum struct {
	Name   string
	Kind   *checksum.Kind
	In     []memory.Span // as far as the map says
	Skip   []memory.Span
	Hole   *byte  // what holes count as; nil is as erased
	Swap   int    // words whose bytes are fed in reverse order; 0 is none
	Size   uint64 // bytes of the stored value
	At     uint64 // where it is stored, unless the image says
	Order  memory.Order
	Slot   string // skip, zero or erased; "" is unsaid
	Region string // the region in which it is stored, or which it covers
	Guards string // the region that is started only where it holds; "" is not said
	// Hardware is whether the device itself checks it where it starts the guarded region
	// directly; else a bootloader that starts the region does.
	Hardware bool
	// Rank is where the guarded region says which of several is started: that with the
	// highest number; nil is 0.
	Rank *FieldAt

	// What the image says of itself; nil is what the map says.
	Length *FieldAt // how many bytes are fed
	End    *FieldAt // the last address fed
	Place  *FieldAt // where the value is stored
	behind *uint64  // the value is stored so far from the last address fed
}

// Span is where it stands.
func (h *Content) Span() memory.Span {
	s, _ := memory.SpanOf(h.At, uint64(len(h.Bytes)))
	return s
}

// FieldAt is a number that an image holds.
type FieldAt struct {
	At     uint64
	Width  int // bytes
	Order  memory.Order
	Offset int64 // added to it
}

// Span returns where the number stands.
func (f *FieldAt) Span() memory.Span {
	return memory.Span{First: f.At, Last: f.At + uint64(f.Width) - 1}
}

// In returns the number as an image has it; ok is false where it does not have all of it.
func (f *FieldAt) In(image *memory.Image) (n uint64, ok bool) {
	n, err := f.read(image, "")
	return n, err == nil
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

// Region is a named piece of a memory.
type Region struct {
	Name     string
	Role     Role
	Span     memory.Span
	Memory   string // the memory in which it lies
	Required bool   // an image for the whole device must hold something here
	// Inner are the pieces that it has, a header, say; sorted. They may have
	// pieces themselves.
	Inner   []Region
	Inside  string   // the region that it is a piece of; "" is none
	ClockAt *FieldAt // where its program has the frequency that it was built for, in Hz; nil is nowhere
	// Holds is by what its part is known; Unknown says that nothing tells.
	Holds   []Content
	Unknown bool

	path string // where the file gives it
}

// Content is bytes by which a region's part is known.
type Content struct {
	At    uint64
	Bytes []byte
	Text  string // as the map gives it, where it is a text
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

// Names returns the spans of all memories and regions.
func (m *Map) Names() span.Names {
	names := span.Names{}
	for _, mem := range m.Memories {
		names.Set(mem.Name, mem.Span)
	}
	for r := range m.All() {
		names.Set(r.Name, r.Span)
	}
	names.Words = m.words()
	return names
}

// WordsText is what a span is as the device counts it, in a memory that counts words: word
// 0x0300, or words 0x0300..0x037F; "" is that it counts bytes, or begins within a word. The map may be nil.
func (m *Map) WordsText(s memory.Span) string {
	if m == nil {
		return ""
	}
	mem := m.MemoryAt(s.First)
	if mem == nil || mem.Unit < 2 || (s.First-mem.Span.First)%mem.Unit != 0 {
		return ""
	}
	first, last := memory.FormatAddress(mem.InPart(s.First)), memory.FormatAddress(mem.InPart(min(s.Last, mem.Span.Last)))
	if first == last {
		return "word " + first
	}
	return "words " + first + ".." + last
}

// SpanText prints a span, as the device counts it too.
func (m *Map) SpanText(s memory.Span) string {
	if words := m.WordsText(s); words != "" {
		return s.String() + ", " + words
	}
	return s.String()
}

// RangeText prints a span without its size, as the device counts it too.
func (m *Map) RangeText(s memory.Span) string {
	if words := m.WordsText(s); words != "" {
		return s.Range() + ", " + words
	}
	return s.Range()
}

// AddressText prints an address, as the device counts it too.
func (m *Map) AddressText(address uint64) string {
	if words := m.WordsText(memory.Span{First: address, Last: address}); words != "" {
		return memory.FormatAddress(address) + " (" + words + ")"
	}
	return memory.FormatAddress(address)
}

// words returns the memories that count words: those that are programmed first.
func (m *Map) words() (list []span.Words) {
	for _, programmed := range []bool{true, false} {
		for i := range m.Memories {
			if mem := &m.Memories[i]; mem.Unit > 1 && mem.Programmable() == programmed {
				list = append(list, span.Words{First: mem.PartFirst, In: mem.Span, Unit: mem.Unit})
			}
		}
	}
	return list
}

// All goes through all regions, each before its pieces.
func (m *Map) All() iter.Seq[*Region] {
	return func(yield func(*Region) bool) { all(m.Regions, yield) }
}

func all(list []Region, yield func(*Region) bool) bool {
	for i := range list {
		if !yield(&list[i]) || !all(list[i].Inner, yield) {
			return false
		}
	}
	return true
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
	if m.byName != nil {
		return m.byName[name]
	}
	for r := range m.All() {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// RegionNames returns the names of all regions.
func (m *Map) RegionNames() []string {
	var names []string
	for r := range m.All() {
		names = append(names, r.Name)
	}
	return names
}

// RegionAt returns the region that holds the address, not a piece of one, or nil.
func (m *Map) RegionAt(address uint64) *Region {
	i := sort.Search(len(m.Regions), func(i int) bool { return m.Regions[i].Span.Last >= address })
	if i == len(m.Regions) || m.Regions[i].Span.First > address {
		return nil
	}
	return &m.Regions[i]
}

// InnermostAt returns the innermost region that holds the address, or nil.
func (m *Map) InnermostAt(address uint64) *Region {
	found := m.RegionAt(address)
	for found != nil {
		i := slices.IndexFunc(found.Inner, func(r Region) bool { return r.Span.Contains(address) })
		if i < 0 {
			break
		}
		found = &found.Inner[i]
	}
	return found
}

// Innermost goes through the regions in the order of their addresses, each as far as
// no piece of it lies there, and its pieces in its place.
func (m *Map) Innermost() iter.Seq2[memory.Span, *Region] {
	return func(yield func(memory.Span, *Region) bool) {
		for i := range m.Regions {
			if !m.Regions[i].innermost(yield) {
				return
			}
		}
	}
}

func (r *Region) innermost(yield func(memory.Span, *Region) bool) bool {
	next := r.Span.First
	for i := range r.Inner {
		inner := &r.Inner[i]
		if inner.Span.First > next && !yield(memory.Span{First: next, Last: inner.Span.First - 1}, r) || !inner.innermost(yield) {
			return false
		}
		if inner.Span.Last == r.Span.Last {
			return true
		}
		next = inner.Span.Last + 1
	}
	return yield(memory.Span{First: next, Last: r.Span.Last}, r)
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

// Unaliased returns the address at which a memory is programmed that the device sees at
// an address: itself, unless that is an alias.
func (m *Map) Unaliased(address uint64) uint64 {
	if m.MemoryAt(address) != nil {
		return address
	}
	for i := range m.Memories {
		for _, a := range m.Memories[i].Aliases {
			if a.Contains(address) {
				return m.Memories[i].Span.First + (address - a.First)
			}
		}
	}
	return address
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
