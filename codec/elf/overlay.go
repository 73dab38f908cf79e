package elf

import (
	"cmp"
	"debug/dwarf"
	"slices"
	"sort"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// Overlays run at the same addresses, so that an address alone does not tell from which
// source line a byte was compiled. The function that it lies in does: its name and address
// lead to the unit that it was compiled in and to the line where it is declared, and these
// to the sequence of lines that is its own.

// overlaid is a stretch of one source line, where several sections run.
type overlaid struct {
	line
	sequence uint32
	table    uint32 // of its unit: an offset among the line tables
}

// function is a function as the unit says it that it was compiled in.
type function struct {
	name string
	run  uint64
}

// declared is where a function was compiled and declared.
type declared struct {
	table uint32
	line  uint32
	twice bool // by several units, or in several places: none is believed
}

// overlaps returns the addresses at which more than one section runs.
func (d *details) overlaps() (list []memory.Span) {
	var runs []memory.Span
	for i := range d.program.Sections {
		if s := &d.program.Sections[i]; s.Loads {
			if span, ok := memory.SpanOf(s.Run, s.Size); ok {
				runs = append(runs, span)
			}
		}
	}
	slices.SortFunc(runs, func(a, b memory.Span) int { return cmp.Compare(a.First, b.First) })
	var last memory.Span
	for i, s := range runs {
		if i > 0 {
			if both, ok := last.Meet(s); ok {
				list = append(list, both)
			}
		}
		if i == 0 || s.Last > last.Last {
			last = s
		}
	}
	return memory.Union(list)
}

// overlaidLine returns the source line of a position in a section where others run too,
// by the function that it lies in; nil is that it cannot be told.
func (d *details) overlaidLine(s *format.Section, at *source.Detail) *line {
	if at.Symbol == "" {
		return nil
	}
	begin, here := s.Run+at.Begins, s.Run+at.Position
	is, ok := d.functions[function{at.Symbol, begin}]
	if !ok || is.twice {
		return nil
	}
	// The sequence in whose lines the function begins, at its declaration or right behind.
	var sequence, nearest uint32
	alike := false
	for l := range d.overlaidAt(begin) {
		switch {
		case l.table != is.table || l.line.line < is.line:
		case sequence == 0 || l.line.line < nearest:
			sequence, nearest, alike = l.sequence, l.line.line, false
		case l.line.line == nearest && l.sequence != sequence:
			alike = true
		}
	}
	if alike {
		return nil
	}
	for l := range d.overlaidAt(here) {
		if l.sequence == sequence {
			return &l.line
		}
	}
	return nil
}

// overlaidAt yields the lines in which a run address lies.
func (d *details) overlaidAt(run uint64) func(yield func(*overlaid) bool) {
	return func(yield func(*overlaid) bool) {
		// A line has some instructions, so that few begin before the address and reach it.
		const longest, most = 4096, 1 << 14
		after := sort.Search(len(d.overlaid), func(i int) bool { return d.overlaid[i].first > run })
		for i := after - 1; i >= max(0, after-most); i-- {
			l := &d.overlaid[i]
			if run-l.first > longest || l.last >= run && !yield(l) {
				return
			}
		}
	}
}

// mostEntries is how many entries of debugging information are read.
const mostEntries = 16 << 20

// declarations reads where functions were compiled and declared (DWARF 5, 3.3.1).
func (d *details) declarations() map[function]declared {
	section := d.file.debugSection
	data, err := dwarf.New(section(".debug_abbrev"), nil, nil, section(".debug_info"), section(".debug_line"), nil, nil,
		section(".debug_str"))
	if err != nil {
		return nil
	}
	for _, name := range []string{".debug_addr", ".debug_str_offsets", ".debug_line_str"} {
		if more := section(name); more != nil && data.AddSection(name, more) != nil {
			return nil
		}
	}
	all := map[function]declared{}
	var table uint32
	said := map[dwarf.Offset]*dwarf.Entry{} // functions of the unit that others refer to
	entries := data.Reader()
	for range mostEntries {
		e, err := entries.Next()
		if err != nil || e == nil {
			break
		}
		switch e.Tag {
		case dwarf.TagCompileUnit:
			offset, ok := e.Val(dwarf.AttrStmtList).(int64)
			if !ok {
				entries.SkipChildren()
			}
			table = uint32(offset)
			clear(said)
		case dwarf.TagSubprogram:
			said[e.Offset] = e
			run, ok := e.Val(dwarf.AttrLowpc).(uint64)
			if !ok {
				continue
			}
			names, line := nameOf(e, said)
			for _, name := range names {
				f := function{name, run}
				_, twice := all[f]
				all[f] = declared{table, line, twice}
			}
		}
	}
	return all
}

// nameOf returns what a function is called, by its source and by the linker, and the line
// where it is declared: what its entry does not say, those say that it refers to.
func nameOf(e *dwarf.Entry, said map[dwarf.Offset]*dwarf.Entry) (names []string, line uint32) {
	const deep = 4
	for range deep {
		for _, attribute := range []dwarf.Attr{dwarf.AttrName, dwarf.AttrLinkageName} {
			if name, ok := e.Val(attribute).(string); ok && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		if n, ok := e.Val(dwarf.AttrDeclLine).(int64); ok && line == 0 {
			line = uint32(n)
		}
		to, ok := e.Val(dwarf.AttrAbstractOrigin).(dwarf.Offset)
		if !ok {
			to, ok = e.Val(dwarf.AttrSpecification).(dwarf.Offset)
		}
		if e = said[to]; !ok || e == nil {
			break
		}
	}
	return names, line
}
