// Package elf reads linked programs in the Executable and Linkable Format, as
// the System V gABI (chapters 4 and 5) lays it down: of 32 and 64 bits, of both
// byte orders.
//
// The types and numbers are those of package debug/elf. The tables are read
// here, from the file as it lies in memory: a hostile file may name the same
// megabytes as the name of each of a million sections, and that package would
// copy them each time.
package elf

import (
	"bytes"
	"cmp"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// Format is ELF in the table of formats.
var Format = &format.Format{
	Name:        "ELF",
	Word:        "elf",
	Words:       []format.Word{{Word: "elf"}},
	Extensions:  []format.Extension{{Ending: ".elf", Word: "elf"}},
	Magic:       []string{elf.ELFMAG},
	Binary:      true,
	Reader:      func() format.Reader { return &Reader{} },
	SharesInput: true,
}

// mostSegments is how many load segments a program may have; more are in no
// program for a device.
const mostSegments = 1024

// mostName is how long the name of a section or a symbol may be, in bytes.
const mostName = 16 << 10

// file is an ELF file in memory.
type file struct {
	name     string // as messages name it
	data     []byte
	wide     bool // 64 bits
	order    binary.ByteOrder
	header   elf.Header64
	sections []section
	loads    []elf.Prog64 // load segments
	zeroed   []uint64     // where sections begin that are zeroed at start, sorted

	problems *source.Problems
}

// section is a section header, with the name that it refers to.
type section struct {
	elf.Section64
	name string
}

func (f *file) problem(severity source.Severity, what, expected, advice string) *source.Problem {
	p := &source.Problem{File: f.name, Severity: severity, What: what, Expected: expected, Advice: source.Advise(advice)}
	f.problems.Add(p)
	return p
}

// fail adds an error.
func (f *file) fail(format string, args ...any) {
	f.problem(source.Error, fmt.Sprintf(format, args...), "", "")
}

// Reader reads programs. The zero value puts their bytes where they load.
type Reader struct {
	Virtual bool // bytes are put where they run
}

// Keys returns the reader's keys.
func (e *Reader) Keys() []*key.Key {
	return []*key.Key{key.Switch(&e.Virtual, "virtual", "ELF: use run addresses instead of load addresses")}
}

// Read reads a program's file. What loads are the sections that are allocated
// and have contents, at the load addresses of the segments that hold them;
// without a section table, the segments.
func (e *Reader) Read(r io.Reader, in *source.Input, o format.ReadOptions, problems *source.Problems) (*format.Content, error) {
	data, err := format.ReadAll(r, o.Size)
	if err != nil {
		return nil, err
	}
	f := &file{name: in.Name, data: data, problems: problems}
	before := problems.Errors()
	if !f.readHeader() || !f.readSegments() || !f.readSections() {
		return &format.Content{Image: &memory.Image{}}, nil
	}
	image, program := f.image(e.Virtual, o.Lenient)
	if problems.Errors() > before {
		image = &memory.Image{}
	}
	if f.header.Entry != 0 {
		image = image.WithStart(memory.Start{Kind: memory.LinearStart, Value: f.header.Entry})
	}
	return &format.Content{Image: image, Program: program, Unproven: "an executable, no checksums of its own"}, nil
}

// at returns size bytes of the file from an offset.
func (f *file) at(offset, size uint64) (data []byte, ok bool) {
	if offset > uint64(len(f.data)) || size > uint64(len(f.data))-offset {
		return nil, false
	}
	return f.data[offset : offset+size : offset+size], true
}

// table returns a table of the file; its entries must be as large as least.
func (f *file) table(what string, offset, count, size, least uint64) (data []byte, ok bool) {
	if size != least {
		f.fail("an entry of the %s has %d bytes; expected %d", what, size, least)
		return nil, false
	}
	if data, ok = f.at(offset, count*size); !ok { // up to 2^32 entries of 64 bytes
		f.problem(source.Error,
			fmt.Sprintf("the %s of %s at offset 0x%X reaches beyond the file's end, %s", what, memory.FormatNumber(count, "entry"),
				offset, memory.FormatSize(uint64(len(f.data)))), "", "the file may be truncated; get it again")
	}
	return data, ok
}

// decode reads a structure; data holds it.
func decode[T any](f *file, data []byte) (v T) {
	binary.Decode(data, f.order, &v)
	return v
}

func (f *file) readHeader() bool {
	if len(f.data) < elf.EI_NIDENT || !bytes.HasPrefix(f.data, []byte(elf.ELFMAG)) {
		f.fail("the file is too short or has no ELF header")
		return false
	}
	switch class := elf.Class(f.data[elf.EI_CLASS]); class {
	case elf.ELFCLASS32:
	case elf.ELFCLASS64:
		f.wide = true
	default:
		f.fail("class %d in the header is neither 1 (32 bits) nor 2 (64 bits)", uint8(class))
		return false
	}
	switch order := elf.Data(f.data[elf.EI_DATA]); order {
	case elf.ELFDATA2LSB:
		f.order = binary.LittleEndian
	case elf.ELFDATA2MSB:
		f.order = binary.BigEndian
	default:
		f.fail("byte order %d in the header is neither 1 (little-endian) nor 2 (big-endian)", uint8(order))
		return false
	}
	size := uint64(binary.Size(elf.Header32{}))
	if f.wide {
		size = uint64(binary.Size(elf.Header64{}))
	}
	head, ok := f.at(0, size)
	if !ok {
		f.problem(source.Error,
			fmt.Sprintf("the file ends within the header, after %s of %d", memory.FormatBytes(uint64(len(f.data))), size), "",
			"the file may be truncated; get it again")
		return false
	}
	if f.wide {
		f.header = decode[elf.Header64](f, head)
	} else {
		h := decode[elf.Header32](f, head)
		f.header = elf.Header64{
			Ident:     h.Ident,
			Type:      h.Type,
			Machine:   h.Machine,
			Version:   h.Version,
			Entry:     uint64(h.Entry),
			Phoff:     uint64(h.Phoff),
			Shoff:     uint64(h.Shoff),
			Flags:     h.Flags,
			Ehsize:    h.Ehsize,
			Phentsize: h.Phentsize,
			Phnum:     h.Phnum,
			Shentsize: h.Shentsize,
			Shnum:     h.Shnum,
			Shstrndx:  h.Shstrndx,
		}
	}
	if f.header.Version != uint32(elf.EV_CURRENT) {
		f.fail("version %d in the header is not 1", f.header.Version)
		return false
	}
	return f.linked()
}

// linked tells of files that are no programs with fixed addresses.
func (f *file) linked() bool {
	refuse := func(what, why, advice string) bool {
		f.problem(source.Error, "the file is "+what, why, advice)
		return false
	}
	switch elf.Type(f.header.Type) {
	case elf.ET_EXEC:
		return true
	case elf.ET_REL:
		return refuse("a relocatable object", "an executable, with addresses", "link it, and take the linker's output")
	case elf.ET_DYN:
		return refuse("a shared library or a position-independent program", "an executable with fixed addresses",
			"link it as a static program with fixed addresses")
	case elf.ET_CORE:
		return refuse("a memory dump of a crashed program", "an executable", "")
	}
	return refuse(fmt.Sprintf("of type 0x%X", f.header.Type), "an executable, type 2", "")
}

// readSegments reads the load segments.
func (f *file) readSegments() bool {
	h := &f.header
	count := uint64(h.Phnum)
	if count == 0 {
		return true
	}
	const manyMore = 0xFFFF
	if count == manyMore {
		// The true number stands in the first section's header (gABI, Sections).
		if first, ok := f.sectionHeader(0); ok {
			count = uint64(first.Info)
		}
	}
	size := uint64(binary.Size(elf.Prog32{}))
	if f.wide {
		size = uint64(binary.Size(elf.Prog64{}))
	}
	data, ok := f.table("program header table", h.Phoff, count, uint64(h.Phentsize), size)
	if !ok {
		return false
	}
	for n := uint64(0); len(data) > 0; n, data = n+1, data[size:] {
		var p elf.Prog64
		if f.wide {
			p = decode[elf.Prog64](f, data)
		} else {
			q := decode[elf.Prog32](f, data)
			p = elf.Prog64{
				Type:   q.Type,
				Flags:  q.Flags,
				Off:    uint64(q.Off),
				Vaddr:  uint64(q.Vaddr),
				Paddr:  uint64(q.Paddr),
				Filesz: uint64(q.Filesz),
				Memsz:  uint64(q.Memsz),
				Align:  uint64(q.Align),
			}
		}
		if elf.ProgType(p.Type) != elf.PT_LOAD {
			continue
		}
		_, inside := f.at(p.Off, p.Filesz)
		switch {
		case len(f.loads) == mostSegments:
			f.fail("the file has more than %s load segments", memory.FormatCount(mostSegments))
			return false
		case !inside:
			f.problem(source.Error,
				fmt.Sprintf("load segment %d, %s at offset 0x%X, reaches beyond the file's end, %s", n, memory.FormatBytes(p.Filesz),
					p.Off, memory.FormatSize(uint64(len(f.data)))), "", "the file may be truncated; get it again")
			continue
		case p.Filesz > p.Memsz:
			f.fail("load segment %d has %s in the file, more than its %s in memory", n, memory.FormatBytes(p.Filesz),
				memory.FormatBytes(p.Memsz))
			continue
		}
		f.loads = append(f.loads, p)
	}
	return true
}

// sectionHeader reads the header of a section.
func (f *file) sectionHeader(n uint64) (s elf.Section64, ok bool) {
	size := uint64(binary.Size(elf.Section32{}))
	if f.wide {
		size = uint64(binary.Size(elf.Section64{}))
	}
	if f.header.Shoff == 0 || f.header.Shoff > uint64(len(f.data)) || uint64(f.header.Shentsize) != size {
		return s, false
	}
	data, ok := f.at(f.header.Shoff+n*size, size)
	if !ok {
		return s, false
	}
	if f.wide {
		return decode[elf.Section64](f, data), true
	}
	t := decode[elf.Section32](f, data)
	return elf.Section64{Name: t.Name, Type: t.Type, Flags: uint64(t.Flags), Addr: uint64(t.Addr), Off: uint64(t.Off), Size: uint64(t.Size),
		Link: t.Link, Info: t.Info, Addralign: uint64(t.Addralign), Entsize: uint64(t.Entsize)}, true
}

// readSections reads the section headers and their names.
func (f *file) readSections() bool {
	h := &f.header
	if h.Shoff == 0 {
		return true
	}
	count, names := uint64(h.Shnum), uint64(h.Shstrndx)
	first, ok := f.sectionHeader(0)
	if count == 0 && ok {
		count = first.Size // more than 65,279 (gABI, Sections)
	}
	if elf.SectionIndex(names) == elf.SHN_XINDEX && ok {
		names = uint64(first.Link)
	}
	if count == 0 {
		return true
	}
	size := uint64(binary.Size(elf.Section32{}))
	if f.wide {
		size = uint64(binary.Size(elf.Section64{}))
	}
	if count > math.MaxUint32 {
		f.fail("the section header table would have %s entries", memory.FormatCount(count))
		return false
	}
	if _, ok := f.table("section header table", h.Shoff, count, uint64(h.Shentsize), size); !ok {
		return false
	}
	f.sections = make([]section, count)
	for n := range f.sections {
		f.sections[n].Section64, _ = f.sectionHeader(uint64(n))
	}
	if names == 0 {
		return true
	}
	if names >= count {
		f.fail("the sections' names are said to be in section %d; the last is %d", names, count-1)
		return false
	}
	contents, ok := f.contents(&f.sections[names].Section64)
	table := string(contents) // names are slices of it: all may name one long text
	if !ok {
		f.fail("the section with the sections' names reaches beyond the file's end")
		return false
	}
	for n := range f.sections {
		s := &f.sections[n]
		if s.name, ok = nameIn(table, s.Name); !ok {
			f.fail("section %d has a name beyond the table of names, or one of more than %s", n, memory.FormatSize(mostName))
			return false
		}
		if elf.SectionType(s.Type) == elf.SHT_NOBITS && elf.SectionFlag(s.Flags)&elf.SHF_ALLOC != 0 && s.Size > 0 {
			f.zeroed = append(f.zeroed, s.Addr)
		}
	}
	slices.Sort(f.zeroed)
	return true
}

// contents returns the bytes of a section; ok is false where they reach beyond
// the file's end.
func (f *file) contents(s *elf.Section64) (data []byte, ok bool) {
	if elf.SectionType(s.Type) == elf.SHT_NOBITS {
		return nil, true
	}
	return f.at(s.Off, s.Size)
}

// nameIn returns the name at an offset of a table of names.
func nameIn(table string, at uint32) (name string, ok bool) {
	if uint64(at) > uint64(len(table)) || at > 0 && uint64(at) == uint64(len(table)) {
		return "", false
	}
	rest := table[at:]
	rest = rest[:min(len(rest), mostName)]
	end := strings.IndexByte(rest, 0)
	if end < 0 {
		return "", len(table) == 0
	}
	return rest[:end], true
}

// segmentOf returns the load segment that holds a section's bytes: one in which
// its run address is where the segment says, else any; nil is none.
func (f *file) segmentOf(s *elf.Section64) *elf.Prog64 {
	var any *elf.Prog64
	for i := range f.loads {
		p := &f.loads[i]
		// Both lie in the file, and do not overflow.
		if s.Off < p.Off || s.Off+s.Size > p.Off+p.Filesz {
			continue
		}
		if s.Addr-p.Vaddr == s.Off-p.Off {
			return p
		}
		if any == nil {
			any = p
		}
	}
	return any
}

// image makes the image of what loads, and the program's description.
func (f *file) image(virtual, lenient bool) (*memory.Image, *format.Program) {
	h := &f.header
	program := &format.Program{
		Machine: machine(elf.Machine(h.Machine)),
		Bits:    32,
		Order:   memory.OrderOf(f.order == binary.BigEndian),
		Entry:   h.Entry,
		Table:   format.NewSymbolTable(f.symbols(virtual)),
	}
	if f.wide {
		program.Bits = 64
	}
	l := &loaded{file: f, virtual: virtual, program: program, details: &details{file: f, program: program}}
	for n := range f.sections {
		l.section(n)
	}
	if len(f.sections) == 0 {
		f.segments(virtual, program, l.add)
	}
	program.BuildID = f.buildID()
	program.UnreadLines = f.unreadLines()
	merged := l.merge(lenient)
	if merged.Empty() && f.problems.Errors() == 0 {
		f.problem(source.Warning, "nothing in the file loads", "", "a program has load segments; take the linker's last output")
	}
	return merged, program
}

// loaded is what of a file loads, section by section.
type loaded struct {
	*file
	virtual bool // at the run addresses
	program *format.Program
	details *details
	parts   []*memory.Image
	names   []string
}

// add adds bytes that load, of a section or segment with a number in the program.
func (l *loaded) add(name string, first uint64, data []byte, number int) bool {
	m, ok := memory.FromBytes(
		first,
		data,
		&source.Input{
			Name:     l.name,
			Counting: source.Offsets,
			Section:  name,
			Detail:   l.details.of(uint64(number)),
			Details:  l.details.all(uint64(number)),
		},
	)
	if !ok {
		l.fail("%s, %s at %s, runs past the last 64-bit address", name, memory.FormatBytes(uint64(len(data))), memory.FormatAddress(first))
		return false
	}
	l.parts, l.names = append(l.parts, m), append(l.names, short(name))
	return true
}

// section adds a section, if it takes part in the program.
func (l *loaded) section(n int) {
	s := &l.sections[n]
	kind := elf.SectionType(s.Type)
	if elf.SectionFlag(s.Flags)&elf.SHF_ALLOC == 0 || s.Size == 0 || kind == elf.SHT_NULL {
		return
	}
	title := s.title(n)
	row := format.Section{Name: s.name, Size: s.Size, Run: s.Addr}
	if kind == elf.SHT_NOBITS {
		l.program.Sections = append(l.program.Sections, row)
		return
	}
	data, ok := l.at(s.Off, s.Size)
	if !ok {
		l.problem(source.Error,
			fmt.Sprintf("%s, %s at offset 0x%X, reaches beyond the file's end, %s", title, memory.FormatBytes(s.Size), s.Off,
				memory.FormatSize(uint64(len(l.data)))), "", "the file may be truncated; get it again")
		return
	}
	if elf.SectionFlag(s.Flags)&elf.SHF_COMPRESSED != 0 {
		l.fail("%s is compressed; what loads cannot be (gABI, Section Compression)", title)
		return
	}
	p := l.segmentOf(&s.Section64)
	if p == nil {
		q := l.problem(source.Warning, title+" is in no load segment and is left out", "",
			"it would not be programmed; check PHDRS in the linker script")
		q.Doubt = source.LeftOut
		l.program.Sections = append(l.program.Sections, row)
		return
	}
	if row.Load, row.Loads = p.Paddr+(s.Off-p.Off), true; row.Load < p.Paddr {
		l.fail("%s would load past the last 64-bit address", title)
		return
	}
	if kind != elf.SHT_NOTE && row.Load == row.Run && l.ramLike(s) {
		l.problem(source.Warning,
			fmt.Sprintf("%s loads at %s, its run address, which looks like RAM", title, memory.FormatAddress(row.Load)), "",
			"initial data belongs in flash, and the linker script puts it there with AT>")
	}
	if l.virtual {
		row.Load = row.Run
	}
	if l.add(cmp.Or(s.name, title), row.Load, data, len(l.program.Sections)) {
		l.program.Sections = append(l.program.Sections, row)
	}
}

// merge makes one image of all parts. Where two load at one address is an error; with the
// same bytes, and lenient, a warning.
func (l *loaded) merge(lenient bool) *memory.Image {
	merged, clashes := memory.Merge(l.parts, memory.First)
	for _, c := range clashes.List {
		severity, what := source.Error, "with other bytes"
		if c.Differ == 0 {
			what = "with the same bytes"
			if lenient {
				severity = source.Warning
			}
		}
		early, late := min(c.KeptInput, c.OtherInput), max(c.KeptInput, c.OtherInput)
		p := &source.Problem{
			File:     l.name,
			Severity: severity,
			What:     fmt.Sprintf("sections %s and %s both load at %s, %s", l.names[early], l.names[late], c.Span.String(), what),
			Advice:   source.Advise("look at their addresses in the linker script"),
		}
		if c.Differ == 0 && !lenient {
			p.Advice.AnyOf = []source.Setting{{Key: "lenient", Does: "allows it"}}
		}
		l.problems.Add(p)
	}
	return merged
}

// title names a section in a message.
func (s *section) title(n int) string {
	if s.name == "" {
		return fmt.Sprintf("section %d", n)
	}
	return "section " + short(s.name)
}

// short cuts a name that is too long for a message.
func short(name string) string {
	const most = 100
	if len(name) > most {
		return name[:most] + "..."
	}
	return name
}

// segments adds what the load segments hold, of a file without sections.
func (f *file) segments(virtual bool, program *format.Program, part func(string, uint64, []byte, int) bool) {
	for i := range f.loads {
		p := &f.loads[i]
		name := fmt.Sprintf("segment %d", i)
		load := p.Paddr
		if virtual {
			load = p.Vaddr
		}
		row := format.Section{Name: name, Size: p.Filesz, Load: load, Run: p.Vaddr, Loads: true}
		if data, _ := f.at(p.Off, p.Filesz); len(data) > 0 {
			if p.Off == 0 {
				f.problem(source.Warning,
					fmt.Sprintf("the file's own header is in load segment %d and loads at %s", i, memory.FormatAddress(load)),
					"a section table that separates it from the program", "link without the headers in the first segment")
			}
			if part(name, load, data, len(program.Sections)) {
				program.Sections = append(program.Sections, row)
			}
		}
		if zeroed := p.Memsz - p.Filesz; zeroed > 0 {
			program.Sections = append(program.Sections, format.Section{Name: name + ", zeroed", Size: zeroed, Run: p.Vaddr + p.Filesz})
		}
	}
}

// ramLike reports whether a section is in memory that the program writes to, by
// its name or since memory that is zeroed at start follows it.
func (f *file) ramLike(s *section) bool {
	if elf.SectionFlag(s.Flags)&elf.SHF_WRITE == 0 {
		return false
	}
	for _, name := range []string{".data", ".sdata", ".ramfunc"} {
		if s.name == name || strings.HasPrefix(s.name, name+".") {
			return true
		}
	}
	const near = 256
	end := s.Addr + s.Size
	i, _ := slices.BinarySearch(f.zeroed, end)
	return i < len(f.zeroed) && f.zeroed[i]-end < near
}

// buildID returns the GNU build id: the note of type 3 and owner GNU.
func (f *file) buildID() []byte {
	for n := range f.sections {
		s := &f.sections[n].Section64
		if elf.SectionType(s.Type) != elf.SHT_NOTE {
			continue
		}
		data, _ := f.contents(s)
		const head, kind, owner = 12, 3, "GNU\x00"
		for len(data) >= head {
			names, size := uint64(f.order.Uint32(data)), uint64(f.order.Uint32(data[4:]))
			body := (names+3)&^3 + head
			next := (body + size + 3) &^ 3
			if body+size > uint64(len(data)) {
				break
			}
			if f.order.Uint32(data[8:]) == kind && string(data[head:head+names]) == owner {
				return data[body : body+size]
			}
			data = data[min(next, uint64(len(data))):]
		}
	}
	return nil
}

// unreadLines names the debug format of a file that has no line numbers of DWARF and some of
// another format, as older compilers make by a plain -g.
func (f *file) unreadLines() string {
	other := ""
	for n := range f.sections {
		switch name := f.sections[n].name; {
		case name == ".debug_line":
			return ""
		case name == ".zdebug_line":
			other = "DWARF in .zdebug sections"
		case name == ".stab":
			other = "stabs"
		case name == ".mdebug":
			other = "ECOFF"
		case name == ".line" && other == "":
			other = "DWARF 1"
		}
	}
	return other
}

// machine names a machine as the gABI does, without the prefix of its numbers.
func machine(m elf.Machine) string {
	if name, ok := strings.CutPrefix(m.String(), "EM_"); ok {
		return name
	}
	return fmt.Sprintf("machine %d", uint16(m))
}
