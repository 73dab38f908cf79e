package derive

import (
	"bytes"
	"cmp"
	"maps"
	"slices"

	"mexalt/codec/elf"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// program reads an ELF file: what it loads, and where it keeps its data, are parts
// of the memories; its sections are told of by their bytes alone.
func (r *reader) program(text []byte) error {
	var problems source.Problems
	content, err := (&elf.Reader{}).Read(bytes.NewReader(text), &source.Input{Name: r.file}, format.ReadOptions{}, &problems)
	if err != nil {
		return err
	}
	if problems.Errors() > 0 {
		return problems.Err()
	}
	p := content.Program
	if p == nil {
		return &source.Problem{File: r.file, What: "no program"}
	}
	r.loadedMemories(p)
	if p.Entry != 0 {
		r.Entries = append(r.Entries, Entry{p.Entry, Where{File: r.file}})
	}
	r.linkerSymbols(p)
	return nil
}

// loadedMemories adds what a program loads and where it keeps its data as memories, where
// no other description told of one.
func (r *reader) loadedMemories(p *format.Program) {
	var loads, runs []memory.Span
	for _, s := range p.Sections {
		if load, ok := memory.SpanOf(s.Load, s.Size); ok && s.Loads {
			loads = append(loads, load)
		}
		if run, ok := memory.SpanOf(s.Run, s.Size); ok && (!s.Loads || s.Run != s.Load) {
			runs = append(runs, run)
		}
	}
	for _, list := range []struct {
		spans []memory.Span
		name  string
		kind  device.Kind
	}{{loads, "flash", device.Flash}, {runs, "ram", device.RAM}} {
		for i, s := range near(list.spans) {
			name := list.name
			if i > 0 {
				name += string(rune('a' + min(i, 25)))
			}
			known := slices.ContainsFunc(r.Memories, func(m Memory) bool { _, meets := m.Span.Meet(s); return meets })
			if known || len(r.Memories) >= mostFound {
				continue
			}
			m := Memory{Name: name, Kind: list.kind, Span: s, Part: true, Where: Where{File: r.file}}
			m.Holds = sectionsIn(p, m)
			r.Memories = append(r.Memories, m)
		}
	}
}

// sectionsIn names the sections that a memory holds: in flash where they are loaded, in RAM
// where they are used.
func sectionsIn(p *format.Program, m Memory) (list []string) {
	for _, section := range p.Sections {
		first := section.Run
		if m.Kind == device.Flash {
			if first = section.Load; !section.Loads {
				continue
			}
		}
		if here, ok := memory.SpanOf(first, section.Size); ok && m.Span.Covers(here) && len(list) < mostHeld {
			list = append(list, section.Name+" "+here.String())
		}
	}
	return list
}

// linkerSymbols adds the symbols that a linker script defines: they are absolute, and have
// no size.
func (r *reader) linkerSymbols(p *format.Program) {
	r.symbols = maps.Clone(r.symbols)
	if r.symbols == nil {
		r.symbols = map[string]uint64{}
	}
	symbols, err := p.Symbols()
	if err != nil {
		return
	}
	for _, s := range symbols {
		if _, known := r.symbols[s.Name]; !known && s.Size == 0 {
			r.symbols[s.Name] = s.First
		}
	}
}

// mostHeld is how many sections are told of.
const mostHeld = 64

// near joins spans that lie within a mebibyte of each other: of one memory, most
// likely.
func near(spans []memory.Span) (list []memory.Span) {
	const close = 1 << 20
	slices.SortFunc(spans, func(a, b memory.Span) int { return cmp.Compare(a.First, b.First) })
	for _, s := range spans {
		if n := len(list); n > 0 && s.First-min(list[n-1].Last, s.First) <= close {
			list[n-1].Last = max(list[n-1].Last, s.Last)
			continue
		}
		list = append(list, s)
	}
	return list
}
