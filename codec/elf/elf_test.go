package elf

import (
	"bytes"
	"compress/zlib"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// made is a program's file as a test describes it.
type made struct {
	wide     bool
	big      bool
	kind     elf.Type
	machine  elf.Machine
	entry    uint64
	sections []madeSection
	symbols  []elf.Sym64 // Name is the number of the name in names
	names    []string
	nothing  bool // no section table
	change   func(h *elf.Header64, programs []elf.Prog64, sections []elf.Section64)
}

type madeSection struct {
	name  string
	kind  elf.SectionType
	flags elf.SectionFlag
	run   uint64
	load  uint64
	data  string
	size  uint64 // of what has no contents
}

const held = elf.SHF_ALLOC

// bytes lays the file out: header, program headers, contents, names, section
// headers. Each section that loads has a segment of its own.
func (m *made) bytes() []byte {
	order := binary.ByteOrder(binary.LittleEndian)
	data := elf.ELFDATA2LSB
	if m.big {
		order, data = binary.BigEndian, elf.ELFDATA2MSB
	}
	h := elf.Header64{
		Type:      uint16(m.kind),
		Machine:   uint16(m.machine),
		Version:   1,
		Entry:     m.entry,
		Ehsize:    52,
		Phentsize: 32,
		Shentsize: 40,
		Phoff:     52,
	}
	class := elf.ELFCLASS32
	if m.wide {
		class, h.Ehsize, h.Phentsize, h.Shentsize, h.Phoff = elf.ELFCLASS64, 64, 56, 64, 64
	}
	if m.kind == 0 {
		h.Type = uint16(elf.ET_EXEC)
	}
	copy(h.Ident[:], elf.ELFMAG)
	h.Ident[4], h.Ident[5], h.Ident[6] = byte(class), byte(data), 1
	loads := 0
	for _, s := range m.sections {
		if s.flags&held != 0 && s.kind != elf.SHT_NOBITS {
			loads++
		}
	}
	body := bytes.NewBuffer(make([]byte, int(h.Phoff)+loads*int(h.Phentsize)))
	names := bytes.NewBufferString("\x00")
	name := func(s string) uint32 {
		at := names.Len()
		names.WriteString(s + "\x00")
		return uint32(at)
	}
	var programs []elf.Prog64
	sections := []elf.Section64{{}}
	for _, s := range m.sections {
		t := elf.Section64{
			Name:  name(s.name),
			Type:  uint32(s.kind),
			Flags: uint64(s.flags),
			Addr:  s.run,
			Off:   uint64(body.Len()),
			Size:  uint64(len(s.data)),
		}
		if s.kind == elf.SHT_NOBITS {
			t.Size = s.size
		} else if s.flags&held != 0 {
			programs = append(programs,
				elf.Prog64{Type: uint32(elf.PT_LOAD), Off: t.Off, Vaddr: s.run, Paddr: s.load, Filesz: t.Size, Memsz: t.Size})
		}
		body.WriteString(s.data)
		sections = append(sections, t)
	}
	if m.symbols != nil {
		texts := "\x00"
		table := elf.Section64{
			Name:    name(".symtab"),
			Type:    uint32(elf.SHT_SYMTAB),
			Off:     uint64(body.Len()),
			Link:    uint32(len(sections) + 1),
			Entsize: 16,
		}
		if m.wide {
			table.Entsize = 24
		}
		for _, y := range m.symbols {
			if text := m.names[y.Name]; text != "" {
				y.Name = uint32(len(texts))
				texts += text + "\x00"
			}
			if m.wide {
				binary.Write(body, order, y)
			} else {
				binary.Write(body, order,
					elf.Sym32{Name: y.Name, Value: uint32(y.Value), Size: uint32(y.Size), Info: y.Info, Shndx: y.Shndx})
			}
		}
		table.Size = uint64(body.Len()) - table.Off
		sections = append(sections, table,
			elf.Section64{Name: name(".strtab"), Type: uint32(elf.SHT_STRTAB), Off: uint64(body.Len()), Size: uint64(len(texts))})
		body.WriteString(texts)
	}
	own := elf.Section64{Name: name(".shstrtab"), Type: uint32(elf.SHT_STRTAB), Off: uint64(body.Len())}
	own.Size = uint64(names.Len())
	body.Write(names.Bytes())
	sections = append(sections, own)
	h.Phnum, h.Shnum, h.Shstrndx, h.Shoff = uint16(len(programs)), uint16(len(sections)), uint16(len(sections)-1), uint64(body.Len())
	if m.nothing {
		h.Shnum, h.Shstrndx, h.Shoff = 0, 0, 0
	}
	if m.change != nil {
		m.change(&h, programs, sections)
	}
	for _, s := range sections {
		if m.wide {
			binary.Write(body, order, s)
		} else {
			binary.Write(body, order,
				elf.Section32{Name: s.Name, Type: s.Type, Flags: uint32(s.Flags), Addr: uint32(s.Addr), Off: uint32(s.Off),
					Size: uint32(s.Size), Link: s.Link, Info: s.Info, Entsize: uint32(s.Entsize)})
		}
	}
	var head bytes.Buffer
	if m.wide {
		binary.Write(&head, order, h)
	} else {
		binary.Write(&head, order,
			elf.Header32{Ident: h.Ident, Type: h.Type, Machine: h.Machine, Version: h.Version, Entry: uint32(h.Entry),
				Phoff: uint32(h.Phoff), Shoff: uint32(h.Shoff), Ehsize: h.Ehsize, Phentsize: h.Phentsize, Phnum: h.Phnum,
				Shentsize: h.Shentsize, Shnum: h.Shnum, Shstrndx: h.Shstrndx})
	}
	for _, p := range programs {
		if m.wide {
			binary.Write(&head, order, p)
		} else {
			binary.Write(&head, order,
				elf.Prog32{Type: p.Type, Off: uint32(p.Off), Vaddr: uint32(p.Vaddr), Paddr: uint32(p.Paddr), Filesz: uint32(p.Filesz),
					Memsz: uint32(p.Memsz)})
		}
	}
	out := body.Bytes()
	copy(out, head.Bytes())
	return out
}

func read(t *testing.T, data []byte, o format.ReadOptions, own ...Reader) (*format.Content, *source.Problems) {
	t.Helper()
	var problems source.Problems
	o.Size = int64(len(data))
	own = append(own, Reader{})
	c, err := own[0].Read(bytes.NewReader(data), &source.Input{Name: "app.elf"}, o, &problems)
	require.NoError(t, err)
	return c, &problems
}

// firmware is a small program: code, constants, initial data that loads behind
// them, zeroed memory, debugging text.
func firmware() *made {
	return &made{machine: elf.EM_RISCV, entry: 0x0600_0101, sections: []madeSection{
		{".text", elf.SHT_PROGBITS, held | elf.SHF_EXECINSTR, 0x0600_0000, 0x0600_0000, "vectors and code", 0},
		{
			".note.gnu.build-id",
			elf.SHT_NOTE,
			held,
			0x0600_0020,
			0x0600_0020,
			"\x04\x00\x00\x00\x03\x00\x00\x00\x03\x00\x00\x00GNU\x00\xAB\xCD\xEF",
			0,
		},
		{".data", elf.SHT_PROGBITS, held | elf.SHF_WRITE, 0x2800_0000, 0x0600_0040, "DATA", 0},
		{".bss", elf.SHT_NOBITS, held | elf.SHF_WRITE, 0x2800_0004, 0, "", 64},
		{".comment", elf.SHT_PROGBITS, 0, 0, 0, "a compiler", 0},
	}}
}

func TestReadsEveryClassAndOrder(t *testing.T) {
	for _, wide := range []bool{false, true} {
		for _, big := range []bool{false, true} {
			m := firmware()
			m.wide, m.big = wide, big
			if big {
				m.sections[1].data = "\x00\x00\x00\x04\x00\x00\x00\x03\x00\x00\x00\x03GNU\x00\xAB\xCD\xEF"
			}
			c, problems := read(t, m.bytes(), format.ReadOptions{})
			require.NoError(t, problems.Err())
			assert.Zero(t, problems.Count())
			runs := c.Image.Runs()
			require.Len(t, runs, 3)
			assert.Equal(t, memory.Run{First: 0x0600_0000, Data: []byte("vectors and code")}, runs[0])
			assert.Equal(t, memory.Run{First: 0x0600_0040, Data: []byte("DATA")}, runs[2])
			assert.Equal(t, memory.Start{Kind: memory.LinearStart, Value: 0x0600_0101}, c.Image.Start(), "an odd entry keeps its bit")
			p := c.Program
			assert.Equal(t, "RISCV", p.Machine)
			assert.Equal(t, memory.OrderOf(big), p.Order)
			assert.Equal(t, map[bool]int{false: 32, true: 64}[wide], p.Bits)
			assert.Equal(t, []byte{0xAB, 0xCD, 0xEF}, p.BuildID)
			require.Len(t, p.Sections, 4)
			assert.Equal(t, format.Section{Name: ".data", Size: 4, Load: 0x0600_0040, Run: 0x2800_0000, Loads: true}, p.Sections[2])
			assert.Equal(t, format.Section{Name: ".bss", Size: 64, Run: 0x2800_0004}, p.Sections[3])
			o, _ := c.Image.Origin(0x0600_0042)
			assert.Equal(t, "app.elf .data+0x2", o.String())
			assert.Equal(t, "app.elf", o.Input.Name)

			c, problems = read(t, m.bytes(), format.ReadOptions{}, Reader{Virtual: true})
			require.NoError(t, problems.Err())
			assert.True(t, c.Image.Holds(0x2800_0003), "run addresses are asked for")
			assert.False(t, c.Image.Holds(0x0600_0040))
		}
	}
}

func TestWhatIsRefusedAndWarnedOf(t *testing.T) {
	second := func(first uint64, data string) func(m *made) {
		return func(m *made) {
			m.sections = append(m.sections, madeSection{".more", elf.SHT_PROGBITS, held, first, first, data, 0})
		}
	}
	changed := func(change func(h *elf.Header64, p []elf.Prog64, s []elf.Section64)) func(m *made) {
		return func(m *made) { m.change = change }
	}
	for name, c := range map[string]struct {
		make    func(m *made)
		lenient bool
		want    string // of the first problem; "" is none
		whole   bool
	}{
		"sound":     {func(m *made) {}, false, "", true},
		"an object": {func(m *made) { m.kind = elf.ET_REL }, false, "error: the file is a relocatable object", false},
		"a library": {func(m *made) { m.kind = elf.ET_DYN }, false,
			"error: the file is a shared library or a position-independent program; expected an executable with fixed addresses", false},
		"a core": {func(m *made) { m.kind = elf.ET_CORE }, false, "error: the file is a memory dump of a crashed program",
			false},
		"an unknown type": {func(m *made) { m.kind = 0xFE00 }, false, "error: the file is of type 0xFE00", false},
		"overlap": {second(0x0600_000C, "codE"), false,
			"error: sections .text and .more both load at 0x0600_000C..0x0600_000F (4 bytes), with other bytes", false},
		"overlap, the same": {second(0x0600_000C, "code"), false,
			"with the same bytes (look at their addresses in the linker script; lenient allows it)", false},
		"overlap, the same, ok": {second(0x0600_000C, "code"), true, "warning: sections .text and .more", true},
		"data in RAM": {func(m *made) { m.sections[2].load = 0x2800_0000 }, false,
			"warning: section .data loads at 0x2800_0000, its run address, which looks like RAM", true},
		"below zeroed memory": {func(m *made) {
			m.sections[2] = madeSection{"tables", elf.SHT_PROGBITS, held | elf.SHF_WRITE, 0x2800_0000, 0x2800_0000, "DATA", 0}
		}, false, "warning: section tables loads at 0x2800_0000", true},
		"EEPROM of its own": {func(m *made) {
			m.sections = append(m.sections,
				madeSection{".eeprom", elf.SHT_PROGBITS, held | elf.SHF_WRITE, 0x0081_0000, 0x0081_0000, "saved", 0})
		}, false, "", true},
		"compressed": {func(m *made) { m.sections[0].flags |= elf.SHF_COMPRESSED }, false, "error: section .text is compressed", false},
		"section beyond the file": {changed(func(_ *elf.Header64, _ []elf.Prog64, s []elf.Section64) { s[1].Size = math.MaxUint32 }), false,
			"error: section .text, 4,294,967,295 bytes at offset 0x", false},
		"segment beyond the file": {changed(func(_ *elf.Header64, p []elf.Prog64, _ []elf.Section64) { p[0].Filesz = math.MaxUint32 }),
			false,
			"error: load segment 0, 4,294,967,295 bytes at offset 0x", false},
		"more in the file than in memory": {changed(func(_ *elf.Header64, p []elf.Prog64, _ []elf.Section64) { p[0].Memsz = 3 }), false,
			"error: load segment 0 has 16 bytes in the file, more than its 3 bytes in memory", false},
		"in no segment": {changed(func(_ *elf.Header64, p []elf.Prog64, _ []elf.Section64) { p[0].Type = uint32(elf.PT_NOTE) }), false,
			"warning: section .text is in no load segment and is left out", true},
		"nothing loads": {changed(func(h *elf.Header64, p []elf.Prog64, _ []elf.Section64) { h.Phnum = 0 }), false,
			"warning: section .text is in no load segment", true},
		"past the end": {func(m *made) { m.wide, m.sections[2].load = true, math.MaxUint64-1 }, false,
			"error: .data, 4 bytes at 0xFFFF_FFFF_FFFF_FFFE, runs past the last 64-bit address", false},
		"headers beyond the file": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Phoff = math.MaxUint32 - 8 }),
			false,
			"error: the program header table of 3 entries at offset 0xFFFFFFF7 reaches beyond the file's end", false},
		"sections beyond the file": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Shoff += 1 << 20 }), false,
			"error: the section header table of 7 entries at offset", false},
		"entries of another size": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Phentsize = 8 }), false,
			"error: an entry of the program header table has 8 bytes; expected 32", false},
		"section entries of another size": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Shentsize = 44 }), false,
			"error: an entry of the section header table has 44 bytes; expected 40", false},
		"no sections, of another size": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) {
			h.Shnum, h.Shentsize = 0,
				44
		}), false, "", true},
		"no section table": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Shoff, h.Shnum = 0, 0 }), false, "",
			true},
		"names in no section": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Shstrndx = 99 }), false,
			"error: the sections' names are said to be in section 99; the last is 6", false},
		"a name beyond the names": {changed(func(_ *elf.Header64, _ []elf.Prog64, s []elf.Section64) { s[1].Name = 1 << 30 }), false,
			"error: section 1 has a name beyond the table of names", false},
		"class": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Ident[4] = 3 }), false,
			"error: class 3 in the header", false},
		"order": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Ident[5] = 0 }), false,
			"error: byte order 0 in the header", false},
		"version": {changed(func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Version = 2 }), false,
			"error: version 2 in the header", false},
	} {
		t.Run(name, func(t *testing.T) {
			m := firmware()
			c.make(m)
			content, problems := read(t, m.bytes(), format.ReadOptions{Lenient: c.lenient})
			assert.Equal(t, c.whole, problems.Errors() == 0)
			if !c.whole {
				assert.Equal(t, 1, problems.Errors(), "told once")
			}
			if c.want == "" {
				assert.Zero(t, problems.Count())
				return
			}
			require.NotZero(t, problems.Count())
			assert.Contains(t, problems.Sorted()[0].Error(), c.want)
			if !c.whole {
				assert.True(t, content.Image.Empty(), "a damaged file yields no image")
			}
		})
	}
}

// TestLargeTables reads files whose counts stand in the first section's header, as they are
// too many for the file's own, and sections without names.
func TestLargeTables(t *testing.T) {
	for _, wide := range []bool{false, true} {
		plain := firmware()
		plain.wide = wide
		whole, _ := read(t, plain.bytes(), format.ReadOptions{})
		m := firmware()
		m.wide = wide
		m.change = func(h *elf.Header64, p []elf.Prog64, s []elf.Section64) {
			s[0].Size, s[0].Link, s[0].Info = uint64(len(s)), uint32(h.Shstrndx), uint32(len(p))
			h.Shnum, h.Shstrndx, h.Phnum = 0, uint16(elf.SHN_XINDEX), 0xFFFF
		}
		c, problems := read(t, m.bytes(), format.ReadOptions{})
		require.Zero(t, problems.Count())
		assert.True(t, whole.Image.Equal(c.Image))
		assert.Equal(t, whole.Program.Sections, c.Program.Sections)
		m.change = func(h *elf.Header64, _ []elf.Prog64, s []elf.Section64) { h.Shnum, s[0].Size = 0, 1<<32 }
		if _, problems = read(t, m.bytes(), format.ReadOptions{}); wide {
			assert.ErrorContains(t, problems.Err(), "the section header table would have 4,294,967,296 entries")
			assert.Equal(t, 1, problems.Errors())
		}
		m.change = func(h *elf.Header64, _ []elf.Prog64, s []elf.Section64) { h.Shnum = 0 }
		c, problems = read(t, m.bytes(), format.ReadOptions{}) // none at all: the segments
		require.NoError(t, problems.Err())
		assert.Equal(t, whole.Image.Bytes(), c.Image.Bytes())
		m.change = func(h *elf.Header64, _ []elf.Prog64, _ []elf.Section64) { h.Shstrndx = 0 }
		c, problems = read(t, m.bytes(), format.ReadOptions{})
		require.Zero(t, problems.Count())
		o, _ := c.Image.Origin(0x0600_0000)
		assert.Equal(t, "app.elf section 1+0x0", o.String(), "no section has a name")
		m.change = func(h *elf.Header64, _ []elf.Prog64, s []elf.Section64) { s[h.Shstrndx].Type = uint32(elf.SHT_NOBITS) }
		_, problems = read(t, m.bytes(), format.ReadOptions{})
		assert.ErrorContains(t, problems.Err(), "section 1 has a name beyond the table of names")
		m.change = func(h *elf.Header64, _ []elf.Prog64, s []elf.Section64) { s[h.Shstrndx].Size = 1 << 30 }
		_, problems = read(t, m.bytes(), format.ReadOptions{})
		assert.EqualError(t, problems.Err(), "app.elf: error: the section with the sections' names reaches beyond the file's end")

		m = firmware()
		m.wide, m.nothing = wide, true
		c, problems = read(t, m.bytes(), format.ReadOptions{}, Reader{Virtual: true})
		require.Zero(t, problems.Count())
		assert.True(t, c.Image.Holds(0x2800_0003), "segments too are put where they run")
		assert.False(t, c.Image.Holds(0x0600_0040))
	}
	for at, want := range map[uint32]string{0: "", 1: "ab", 2: "b", 3: "", 4: "!", 5: "!", 99: "!"} {
		name, ok := nameIn("\x00ab\x00", at)
		if want == "!" {
			assert.False(t, ok, at)
			continue
		}
		assert.True(t, ok, at)
		assert.Equal(t, want, name)
	}
	_, ok := nameIn("", 0)
	assert.True(t, ok)
	_, ok = nameIn("abc", 0)
	assert.False(t, ok, "nothing ends it")
	assert.Equal(t, strings.Repeat("x", mostName-1), first(nameIn(strings.Repeat("x", mostName-1)+"\x00", 0)))
	assert.Equal(t, "", first(nameIn(strings.Repeat("x", mostName)+"\x00", 0)))
}

func first(name string, _ bool) string { return name }

// TestWithoutSections takes the segments, and tells where the file's own header
// would be programmed.
func TestWithoutSections(t *testing.T) {
	m := firmware()
	m.nothing = true
	c, problems := read(t, m.bytes(), format.ReadOptions{})
	require.Zero(t, problems.Count())
	assert.Len(t, c.Image.Runs(), 3)
	o, _ := c.Image.Origin(0x0600_0041)
	assert.Equal(t, "app.elf segment 2+0x1", o.String())
	m.change = func(_ *elf.Header64, p []elf.Prog64, _ []elf.Section64) {
		p[0].Paddr, p[0].Vaddr, p[0].Off, p[0].Filesz, p[0].Memsz = 0x0600_0000-p[0].Off, 0x0600_0000-p[0].Off, 0, p[0].Off+16, p[0].Off+48
	}
	c, problems = read(t, m.bytes(), format.ReadOptions{})
	assert.Contains(t, problems.Sorted()[0].Error(), "warning: the file's own header is in load segment 0")
	zeroed := c.Program.Sections[1]
	assert.Equal(t, "segment 0, zeroed", zeroed.Name)
	assert.Equal(t, []uint64{0x0600_0010, 32}, []uint64{zeroed.Run, zeroed.Size})
	m.nothing = false
	c, problems = read(t, m.bytes(), format.ReadOptions{})
	require.Zero(t, problems.Count(), "sections tell the header from the program")
	assert.Equal(t, uint64(0x0600_0000), c.Image.Runs()[0].First)
}

// TestCutShort reads every beginning of a file: none is taken for whole.
func TestCutShort(t *testing.T) {
	whole := firmware().bytes()
	for n := range whole {
		c, problems := read(t, whole[:n], format.ReadOptions{})
		require.Error(t, problems.Err(), n)
		require.True(t, c.Image.Empty(), n)
	}
}

func TestSymbols(t *testing.T) {
	m := firmware()
	m.machine = elf.EM_ARM
	m.names = []string{"", "main", "table", "zeroed", "__end", "local", "$t", ".Lx", "limit", "outside"}
	info := func(bind elf.SymBind, kind elf.SymType) byte { return elf.ST_INFO(bind, kind) }
	m.symbols = []elf.Sym64{
		{},
		{Name: 1, Info: info(elf.STB_GLOBAL, elf.STT_FUNC), Shndx: 1, Value: 0x0600_0005, Size: 6},
		{Name: 2, Info: info(elf.STB_GLOBAL, elf.STT_OBJECT), Shndx: 3, Value: 0x2800_0001, Size: 2},
		{Name: 3, Info: info(elf.STB_GLOBAL, elf.STT_OBJECT), Shndx: 4, Value: 0x2800_0004, Size: 8},
		{Name: 4, Info: info(elf.STB_GLOBAL, elf.STT_NOTYPE), Shndx: 1, Value: 0x0600_000C},
		{Name: 5, Info: info(elf.STB_LOCAL, elf.STT_FUNC), Shndx: 1, Value: 0x0600_0000, Size: 2},
		{Name: 5, Info: info(elf.STB_LOCAL, elf.STT_FUNC), Shndx: 1, Value: 0x0600_0002, Size: 2},
		{Name: 6, Info: info(elf.STB_LOCAL, elf.STT_NOTYPE), Shndx: 1, Value: 0x0600_0004},
		{Name: 7, Info: info(elf.STB_LOCAL, elf.STT_NOTYPE), Shndx: 1, Value: 0x0600_0004},
		{Name: 8, Info: info(elf.STB_GLOBAL, elf.STT_NOTYPE), Shndx: uint16(elf.SHN_ABS), Value: 0x1234},
		{Name: 9, Info: info(elf.STB_GLOBAL, elf.STT_FUNC), Shndx: 1, Value: 0x0900_0000, Size: 4},
	}
	m.names = append(m.names, "$beyond")
	for at := range uint16(40) { // sections that are not there
		m.symbols = append(m.symbols,
			elf.Sym64{Name: 10, Info: info(elf.STB_LOCAL, elf.STT_OBJECT), Shndx: 6 + at, Value: 0x0700_0000, Size: 4})
	}
	for _, wide := range []bool{false, true} {
		m.wide = wide
		c, problems := read(t, m.bytes(), format.ReadOptions{})
		require.Zero(t, problems.Count())
		var all format.Programs
		_, _, err := all.Symbol("main")
		assert.EqualError(t, err, "no input has symbols; an ELF file has")
		all.Add("app.elf", c.Program)
		for name, want := range map[string][2]uint64{
			"main": {0x0600_0004, 6}, "table": {0x0600_0041, 2}, "zeroed": {0x2800_0004, 8}, "__end": {0x0600_000C, 0},
			"limit": {0x1234, 0}, "outside": {0x0900_0000, 4},
		} {
			first, size, err := all.Symbol(name)
			require.NoError(t, err)
			assert.Equal(t, want, [2]uint64{first, size}, name)
		}
		for name, want := range map[string]string{
			"local": "local is the name of several symbols: 0x0600_0000 in app.elf, 0x0600_0002 in app.elf",
			"tabel": "no symbol tabel; did you mean table?",
			"$t":    "no symbol $t among 7",
		} {
			_, _, err := all.Symbol(name)
			assert.EqualError(t, err, want)
		}
		place := func(address uint64) string { o, _ := c.Image.Origin(address); return o.String() }
		assert.Equal(t, "app.elf .text+0x4 (main)", place(0x0600_0004))
		assert.Equal(t, "app.elf .text+0x9 (main+0x5)", place(0x0600_0009))
		assert.Equal(t, "app.elf .text+0xA", place(0x0600_000A), "in no symbol")
		assert.Equal(t, "app.elf .text+0xF (__end+0x3)", place(0x0600_000F))
		assert.Equal(t, "app.elf .data+0x2 (table+0x1)", place(0x0600_0042))
		var names []string
		for _, s := range c.Program.In(memory.Span{First: 0x0600_0000, Last: 0x0600_0041}) {
			names = append(names, s.Name)
		}
		assert.Equal(t, []string{"local", "local", "main", "__end", "table"}, names)

		all = format.Programs{}
		all.Add("app.elf", c.Program.Moved(0x100))
		first, _, _ := all.Symbol("main")
		assert.Equal(t, uint64(0x0600_0104), first)
		first, _, _ = all.Symbol("zeroed")
		assert.Equal(t, uint64(0x2800_0004), first, "what does not load is not moved")
		assert.Equal(t, "app.elf .text+0x4 (main)", place(0x0600_0004))
	}
}

// TestDamagedSymbolsAreToldWhenAskedFor reads the image all the same.
func TestDamagedSymbolsAreToldWhenAskedFor(t *testing.T) {
	m := firmware()
	m.names = []string{"", "main"}
	m.symbols = []elf.Sym64{{}, {Name: 1, Info: elf.ST_INFO(elf.STB_GLOBAL, elf.STT_FUNC), Shndx: 1, Value: 0x0600_0000, Size: 4}}
	m.change = func(_ *elf.Header64, _ []elf.Prog64, s []elf.Section64) { s[len(s)-3].Entsize = 7 }
	c, problems := read(t, m.bytes(), format.ReadOptions{})
	require.Zero(t, problems.Count())
	var all format.Programs
	all.Add("app.elf", c.Program)
	_, _, err := all.Symbol("main")
	assert.EqualError(t, err, "the symbols of app.elf cannot be read: its symbol table is damaged")
	o, _ := c.Image.Origin(0x0600_0000)
	assert.Equal(t, "app.elf .text+0x0", o.String())
}

// TestThisProgramItself reads the test's own kind of program, a static one made
// by the Go compiler, and holds it against what package debug/elf sees and the
// line table against the compiler's own.
func TestThisProgramItself(t *testing.T) {
	folder := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(folder, "main.go"),
			[]byte("package main\n\n//go:noinline\nfunc level(x int) int {\n\treturn x * 7\n}\n\nfunc main() { println(level(3)) }\n"),
			0o666,
		),
	)
	build := exec.Command("go", "build", "-o", "prog", "main.go")
	build.Dir, build.Env = folder, append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH=arm64", "GOFLAGS=-mod=mod")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	data, err := os.ReadFile(filepath.Join(folder, "prog"))
	require.NoError(t, err)
	c, problems := read(t, data, format.ReadOptions{})
	require.NoError(t, problems.Err())

	f, err := elf.NewFile(bytes.NewReader(data))
	require.NoError(t, err)
	total := uint64(0)
	for _, s := range f.Sections {
		if s.Flags&elf.SHF_ALLOC != 0 && s.Type != elf.SHT_NOBITS {
			want, err := s.Data()
			require.NoError(t, err)
			got := make([]byte, len(want))
			require.True(t, c.Image.ReadAt(got, s.Addr), s.Name)
			assert.True(t, bytes.Equal(want, got), s.Name)
			total += s.Size
		}
	}
	assert.Equal(t, total, c.Image.Bytes())
	symbols, err := c.Program.Find("main.level")
	require.NoError(t, err)
	require.Len(t, symbols, 1)
	o, _ := c.Image.Origin(symbols[0].First)
	assert.Regexp(t, `^app\.elf \.text\+0x[0-9A-F]+ \(main\.level, main\.go:[45]\)$`, o.String())

	// All that is kept of the section says of each place what the file says.
	list := o.Input.Details()
	require.Greater(t, len(list), 1000)
	text := f.Section(".text")
	lines, at := 0, 0
	for position := uint64(0); position < text.Size; position += 20 {
		for at+1 < len(list) && list[at+1].Position <= position {
			at++
		}
		want := o.Input.Detail(position)
		require.Equal(t, want, list[at].Text(position), "at 0x%X", position)
		if list[at].File != "" {
			lines++
		}
	}
	assert.Greater(t, lines, int(text.Size/20/2), "most of it has lines")
	for i := range list[1:] {
		one, next := list[i], list[i+1]
		require.Less(t, one.Position, next.Position)
		one.Position = next.Position
		require.NotEqual(t, one, next, "what says the same is said once")
	}
}

// TestNotesAndRAM finds the build's identity among notes, and data that would be
// programmed into RAM.
func TestNotesAndRAM(t *testing.T) {
	note := func(kind uint32, owner, data string) string {
		b := binary.LittleEndian.AppendUint32(nil, uint32(len(owner)))
		b = binary.LittleEndian.AppendUint32(b, uint32(len(data)))
		b = binary.LittleEndian.AppendUint32(b, kind)
		pad := func(s string) string { return s + strings.Repeat("\x00", (4-len(s)%4)%4) }
		return string(b) + pad(owner) + pad(data)
	}
	id := note(3, "GNU\x00", "\xAB\xCD\xEF")
	for notes, want := range map[string]string{
		id: "\xAB\xCD\xEF", note(3, "other\x00", "xyz") + id: "\xAB\xCD\xEF", note(1, "GNU\x00", "12345") + id: "\xAB\xCD\xEF",
		note(3, "GNX\x00", "x"):      "",
		note(3, "GNU\x00", "x")[:12]: "", id[:len(id)-2]: "", id[:11]: "", id[:len(id)-1]: "\xAB\xCD\xEF", note(3, "", ""): "",
	} {
		m := firmware()
		m.sections = append(m.sections, madeSection{".note", elf.SHT_NOTE, 0, 0, 0, notes, 0})
		for i := range m.sections[:len(m.sections)-1] {
			if m.sections[i].kind == elf.SHT_NOTE {
				m.sections[i].kind = elf.SHT_PROGBITS
			}
		}
		c, problems := read(t, m.bytes(), format.ReadOptions{})
		require.NoError(t, problems.Err())
		assert.Equal(t, want, string(c.Program.BuildID), "%q", notes)
	}
	f := &file{zeroed: []uint64{0x100, 0x2100}}
	for _, c := range []struct {
		name  string
		flags elf.SectionFlag
		end   uint64
		want  bool
	}{
		{".data", elf.SHF_WRITE, 0x9000, true}, {".data.x", elf.SHF_WRITE, 0x9000, true}, {".database", elf.SHF_WRITE, 0x9000, false},
		{".data", 0, 0x9000, false},
		{"own", elf.SHF_WRITE, 0x2100, true}, {"own", elf.SHF_WRITE, 0x2001, true}, {"own", elf.SHF_WRITE, 0x2000, false},
		{"own", elf.SHF_WRITE, 0x2101, false}, {"own", elf.SHF_WRITE, 0x0, false}, {"own", elf.SHF_WRITE, 0x1, true},
	} {
		s := &section{name: c.name, Section64: elf.Section64{Flags: uint64(c.flags), Addr: c.end - min(c.end, 16), Size: min(c.end, 16)}}
		assert.Equal(t, c.want, f.ramLike(s), "%v", c)
	}
	assert.Equal(t, strings.Repeat("n", 100), short(strings.Repeat("n", 100)))
	assert.Equal(t, strings.Repeat("n", 100)+"...", short(strings.Repeat("n", 101)))
	inner, outer := elf.Section64{Off: 0x40, Size: 0x10, Addr: 0x1040}, elf.Section64{Off: 0x40, Size: 0x21, Addr: 0x1040}
	for names, want := range map[string]string{
		"": "", ".text .stab .stabstr": "stabs", ".debug .line": "DWARF 1", ".mdebug": "ECOFF", ".zdebug_line": "DWARF in .zdebug sections",
		".stab .debug_line": "", ".debug_line .stab": "", ".stab .line": "stabs", ".stable": "",
	} {
		f := &file{}
		for name := range strings.FieldsSeq(names) {
			f.sections = append(f.sections, section{name: name})
		}
		assert.Equal(t, want, f.unreadLines(), names)
	}
	f.loads = []elf.Prog64{
		{Off: 0x20, Filesz: 0x30, Vaddr: 0x9000},
		{Off: 0x40, Filesz: 0x20, Vaddr: 0x1040},
		{Off: 0x40, Filesz: 0x20, Vaddr: 0x1040},
	}
	assert.Same(t, &f.loads[1], f.segmentOf(&inner))
	assert.Nil(t, f.segmentOf(&outer))
	inner.Addr = 0
	assert.Same(t, &f.loads[0], f.segmentOf(&inner))
}

func FuzzRead(f *testing.F) {
	for _, wide := range []bool{false, true} {
		m := firmware()
		m.wide = wide
		m.names = []string{"", "main"}
		m.symbols = []elf.Sym64{{}, {Name: 1, Info: elf.ST_INFO(elf.STB_GLOBAL, elf.STT_FUNC), Shndx: 1, Value: 0x0600_0000, Size: 4}}
		m.sections = append(
			m.sections,
			madeSection{
				".debug_line",
				elf.SHT_PROGBITS,
				0,
				0,
				0,
				"\x20\x00\x00\x00\x02\x00\x10\x00\x00\x00\x01\x01\xFB\x0E\x0D\x00\x01\x01\x01\x01\x00\x00\x00\x01\x00\x00\x01\x00a.c\x00\x00\x00\x00\x00",
				0,
			},
		)
		f.Add(m.bytes(), false)
	}
	f.Fuzz(func(t *testing.T, data []byte, virtual bool) {
		var problems source.Problems
		c, err := (&Reader{Virtual: virtual}).Read(bytes.NewReader(data), &source.Input{Name: "f"}, format.ReadOptions{}, &problems)
		if err != nil {
			t.Fatal(err)
		}
		if c.Image.Bytes() > uint64(len(data)) {
			t.Fatal("more bytes than the file")
		}
		for _, r := range c.Image.Runs() {
			o, ok := c.Image.Origin(r.First)
			if !ok || o.String() == "" {
				t.Fatal("a byte without an origin")
			}
		}
		if c.Program != nil {
			c.Program.Find("main")
			c.Program.In(memory.Span{First: 0, Last: math.MaxUint64})
		}
	})
}

// TestHostileTables reads files whose tables would take for ever, or all memory,
// if each entry were taken at its word.
func TestHostileTables(t *testing.T) {
	// Very many sections, each with the same long name.
	var b bytes.Buffer
	count := 1_000_000 / golden.Every(5)
	name := strings.Repeat("n", mostName-2)
	h := elf.Header64{Type: uint16(elf.ET_EXEC), Version: 1, Ehsize: 64, Shentsize: 64, Shoff: 64 + uint64(len(name)) + 1, Shstrndx: 1}
	copy(h.Ident[:], "\x7FELF\x02\x01\x01")
	binary.Write(&b, binary.LittleEndian, h)
	b.WriteString(name + "\x00")
	one := make([]byte, 64)
	binary.Encode(one, binary.LittleEndian, elf.Section64{Size: uint64(count), Type: uint32(elf.SHT_NULL)})
	b.Write(one)
	binary.Encode(one, binary.LittleEndian, elf.Section64{Off: 64, Size: uint64(len(name)) + 1, Type: uint32(elf.SHT_STRTAB)})
	b.Write(one)
	binary.Encode(
		one,
		binary.LittleEndian,
		elf.Section64{
			Type:  uint32(elf.SHT_PROGBITS),
			Flags: uint64(held),
			Off:   math.MaxUint64 - 3,
			Size:  math.MaxUint64 - 9,
			Addr:  math.MaxUint64,
		},
	)
	for range count - 2 {
		b.Write(one)
	}
	c, problems := read(t, b.Bytes(), format.ReadOptions{})
	assert.True(t, c.Image.Empty())
	assert.Equal(t, count-2, problems.Errors(), "each section reaches beyond the file")
	assert.Contains(t, problems.Err().Error(),
		"18,446,744,073,709,551,606 bytes at offset 0xFFFFFFFFFFFFFFFC, reaches beyond the file's end")
}

func TestEditedFiles(t *testing.T) {
	files := map[string]string{}
	for _, wide := range []bool{false, true} {
		for _, big := range []bool{false, true} {
			m := firmware()
			m.wide, m.big = wide, big
			m.names = []string{"", "main", "table"}
			m.symbols = []elf.Sym64{
				{},
				{Name: 1, Info: 0x12, Shndx: 1, Value: 0x0600_0005, Size: 6},
				{Name: 2, Info: 0x11, Shndx: 3, Value: 0x2800_0001, Size: 2},
			}
			files[fmt.Sprint("wide ", wide, " big ", big)] = string(m.bytes())
		}
	}
	codectest.Edited(t, "testdata/edited.txt", 400, func() format.Reader { return &Reader{} }, files)
}

// TestCompressedSections unpacks what the gABI says of compressed sections, and nothing that is more
// than a file may make of it.
func TestCompressedSections(t *testing.T) {
	var packed bytes.Buffer
	w := zlib.NewWriter(&packed)
	_, err := w.Write(make([]byte, 3<<20))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for _, wide := range []bool{false, true} {
		for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
			f := &file{wide: wide, order: order}
			head := 12
			if wide {
				head = 24
			}
			of := func(kind uint32, size uint64, data []byte) []byte {
				h := make([]byte, head)
				order.PutUint32(h, kind)
				if wide {
					order.PutUint64(h[8:], size)
				} else {
					order.PutUint32(h[4:], uint32(size))
				}
				return append(h, data...)
			}
			most := uint64(64*(head+packed.Len()) + 1<<20)
			for size, want := range map[uint64]int{0: 0, 1: 1, 1000: 1000, most: int(most), most + 1: -1, 3 << 20: -1, 1<<32 - 1: -1} {
				got := f.unpack(of(1, size, packed.Bytes()))
				assert.Equal(t, want < 0, got == nil, size)
				assert.Len(t, got, max(want, 0))
			}
			assert.Nil(t, f.unpack(of(2, 100, packed.Bytes())), "another compression")
			assert.Nil(t, f.unpack(of(1, 100, []byte("no zlib"))))
			assert.Nil(t, f.unpack(of(1, 1<<20, packed.Bytes()[:packed.Len()/4])), "cut off")
			assert.Nil(t, f.unpack(of(1, 100, packed.Bytes())[:head-1]))
			assert.Nil(t, f.unpack(nil))
		}
	}
}
