package elf

import (
	"bytes"
	"cmp"
	"compress/zlib"
	"debug/dwarf"
	"debug/elf"
	"encoding/binary"
	"errors"
	"io"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// details says of a byte which symbol it lies in and which source line it was
// compiled from. The tables are read when somebody first asks.
type details struct {
	file    *file
	program *format.Program
	once    sync.Once
	lines   []line // sorted by address
	files   []string
	// Functions that the linker left out have their lines at address 0: where
	// several are there, none of them can be believed.
	zero   []line
	atZero int

	shared    []memory.Span // run addresses of more than one section: overlays
	overlaid  []overlaid    // lines there, sorted by address
	sequences uint32        // of line information, so far
	functions map[function]declared
}

// line is a stretch of one source line.
type line struct {
	first, last uint64 // run addresses
	file        uint32 // its number among the files
	line        uint32
}

// of returns what says more of the positions of a section, by its number in the
// program.
func (d *details) of(section uint64) func(position uint64) string {
	return func(position uint64) string {
		at := d.at(&d.program.Sections[section], position)
		return at.Text(position)
	}
}

// at returns what is known of a position of a section.
func (d *details) at(s *format.Section, position uint64) source.Detail {
	out := source.Detail{Position: position}
	if y, ok := d.program.At(s.Load + position); ok {
		out.Symbol, out.Begins, out.Size = y.Name, y.First-s.Load, y.Size
	}
	d.once.Do(d.load)
	l := d.lineAt(s.Run + position)
	if len(d.shared) > 0 && memory.Intersect(d.shared, []memory.Span{{First: s.Run + position, Last: s.Run + position}}) != nil {
		l = d.overlaidLine(s, &out)
	}
	if l != nil {
		out.File, out.Line = d.files[l.file], int(l.line)
	}
	return out
}

// lineAt returns the source line of a run address; nil is none.
func (d *details) lineAt(run uint64) *line {
	after := sort.Search(len(d.lines), func(i int) bool { return d.lines[i].first > run })
	if after > 0 && d.lines[after-1].last >= run {
		return &d.lines[after-1]
	}
	return nil
}

// all returns what returns all that is known of a section: an entry wherever a
// symbol or a line begins or ends.
func (d *details) all(section uint64) func() []source.Detail {
	return func() []source.Detail {
		s := &d.program.Sections[section]
		borders := map[uint64]bool{0: true}
		border := func(position uint64) {
			if position < s.Size {
				borders[position] = true
			}
		}
		if where, ok := memory.SpanOf(s.Load, s.Size); ok {
			for _, y := range d.program.In(where) {
				border(y.First - s.Load)
				border(y.First - s.Load + y.Size)
			}
		}
		d.once.Do(d.load)
		from := sort.Search(len(d.lines), func(i int) bool { return d.lines[i].last >= s.Run })
		for i := from; i < len(d.lines) && d.lines[i].first <= s.Run+(s.Size-1); i++ {
			border(d.lines[i].first - s.Run)
			border(d.lines[i].last + 1 - s.Run)
		}
		from = sort.Search(len(d.overlaid), func(i int) bool { return d.overlaid[i].first >= s.Run })
		for i := from; i < len(d.overlaid) && d.overlaid[i].first <= s.Run+(s.Size-1); i++ {
			border(d.overlaid[i].first - s.Run)
			border(d.overlaid[i].last + 1 - s.Run)
		}
		var list []source.Detail
		for _, position := range slices.Sorted(maps.Keys(borders)) {
			next := d.at(s, position)
			if n := len(list); n > 0 && same(list[n-1], next) {
				continue
			}
			list = append(list, next)
		}
		return list
	}
}

// same reports whether two say the same, but for their positions.
func same(a, b source.Detail) bool {
	a.Position = b.Position
	return a == b
}

// debugSection returns the bytes of a section that does not load, unpacked.
func (f *file) debugSection(name string) []byte {
	for n := range f.sections {
		s := &f.sections[n]
		if s.name != name {
			continue
		}
		data, _ := f.contents(&s.Section64)
		if elf.SectionFlag(s.Flags)&elf.SHF_COMPRESSED == 0 {
			return data
		}
		return f.unpack(data)
	}
	return nil
}

// unpack returns what a compressed section holds (gABI, Section Compression);
// nil where that is more than a file may make of it.
func (f *file) unpack(data []byte) []byte {
	var kind, head uint32
	var size uint64
	switch {
	case f.wide && len(data) >= 24:
		kind, size, head = f.order.Uint32(data), f.order.Uint64(data[8:]), 24
	case !f.wide && len(data) >= 12:
		kind, size, head = f.order.Uint32(data), uint64(f.order.Uint32(data[4:])), 12
	}
	const mostFactor, floor = 64, 1 << 20
	if elf.CompressionType(kind) != elf.COMPRESS_ZLIB || size > mostFactor*uint64(len(data))+floor {
		return nil
	}
	r, err := zlib.NewReader(bytes.NewReader(data[head:]))
	if err != nil {
		return nil
	}
	out, err := io.ReadAll(io.LimitReader(r, int64(size)))
	if err != nil {
		return nil
	}
	return out
}

// mostLines is how many rows of line information are read: 16 million.
const mostLines = 16 << 20

// load reads the line information, as far as it is sound.
func (d *details) load() {
	table := d.file.debugSection(".debug_line")
	numbers := map[string]uint32{}
	data, err := lineData(table, d.file)
	if err != nil {
		return
	}
	d.shared = d.overlaps()
	units := data.Reader()
	for {
		unit, err := units.Next()
		if err != nil || unit == nil || !d.unit(data, unit, numbers) {
			break
		}
	}
	if d.atZero == 1 {
		d.lines = append(d.lines, d.zero...)
	}
	d.zero = nil
	slices.SortStableFunc(d.lines, func(a, b line) int { return cmp.Compare(a.first, b.first) })
	if len(d.overlaid) > 0 {
		slices.SortStableFunc(d.overlaid, func(a, b overlaid) int { return cmp.Compare(a.first, b.first) })
		d.functions = d.declarations()
	}
}

// unit reads the lines of one unit; it reports whether more may be read.
func (d *details) unit(data *dwarf.Data, unit *dwarf.Entry, numbers map[string]uint32) bool {
	rows, err := data.LineReader(unit)
	if err != nil || rows == nil {
		return true // the next one may be sound
	}
	var row, before dwarf.LineEntry
	within, atZero := false, false
	for rows.Next(&row) == nil {
		if !within {
			d.sequences++
			if atZero = row.Address == 0; atZero {
				d.atZero++
			}
		}
		if within && row.Address > before.Address && before.File != nil {
			name := path.Base(strings.ReplaceAll(before.File.Name, `\`, "/"))
			n, ok := numbers[name]
			if !ok {
				n = uint32(len(d.files))
				numbers[name] = n
				d.files = append(d.files, name)
			}
			if len(d.lines)+len(d.zero)+len(d.overlaid) == mostLines {
				return false
			}
			one := line{before.Address, row.Address - 1, n, uint32(before.Line)}
			if len(d.shared) > 0 && memory.Intersect(d.shared, []memory.Span{{First: one.first, Last: one.last}}) != nil {
				table, _ := unit.Val(dwarf.AttrStmtList).(int64)
				d.overlaid = append(d.overlaid, overlaid{one, d.sequences, uint32(table)})
				before, within = row, !row.EndSequence
				continue
			}
			into := &d.lines
			if atZero {
				into = &d.zero
			}
			*into = append(*into, one)
		}
		before, within = row, !row.EndSequence
	}
	return true
}

// lineData makes the line tables readable for package debug/dwarf without the
// rest of the debugging information, which is large, and by which a hostile
// file could have the same table read again and again: each table becomes a
// unit of its own, with nothing but that table (DWARF 5, 7.5 and 6.2.4).
func lineData(table []byte, f *file) (*dwarf.Data, error) {
	if len(table) == 0 {
		return nil, errors.New("no line information")
	}
	// One kind of unit, without children: its attribute is the table's offset.
	abbreviations := []byte{1, byte(dwarf.TagCompileUnit), 0, byte(dwarf.AttrStmtList), formOffset, 0, 0, 0}
	address := byte(4)
	if f.wide {
		address = 8
	}
	var units []byte
	order := f.order.(binary.AppendByteOrder)
	for at := uint64(0); at+4 <= uint64(len(table)); {
		length := uint64(f.order.Uint32(table[at:]))
		next := at + 4 + length
		if length >= 0xFFFF_FFF0 || next > uint64(len(table)) || at > 0xFFFF_FFFF {
			break // of 64 bits, which no program for a device needs, or damaged
		}
		units = order.AppendUint32(units, 2+4+1+1+4) // length of what follows
		units = order.AppendUint16(units, 4)         // version
		units = order.AppendUint32(units, 0)         // where the kinds are
		units = append(units, address, 1)            // the kind
		units = order.AppendUint32(units, uint32(at))
		at = next
	}
	data, err := dwarf.New(abbreviations, nil, nil, units, table, nil, nil, f.debugSection(".debug_str"))
	if err != nil {
		return nil, err
	}
	return data, data.AddSection(".debug_line_str", f.debugSection(".debug_line_str"))
}

// formOffset is DW_FORM_sec_offset (DWARF 5, 7.5.6).
const formOffset = 0x17
