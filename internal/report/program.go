package report

import (
	"fmt"
	"strings"

	"github.com/ianlancetaylor/demangle"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// SymbolsIn returns what names the symbols that begin in a row of bytes, those
// within it with their addresses.
func SymbolsIn(p *format.Program) func(memory.Span) string {
	return func(row memory.Span) string {
		var names []string
		for _, s := range p.In(row) {
			name := SymbolText(s.Name)
			if s.First > row.First {
				name += " at " + memory.FormatAddress(s.First)
			}
			names = append(names, name)
		}
		return strings.Join(names, ", ")
	}
}

// SymbolText is a symbol's name as its source has it: C++ and Rust write theirs in code, with
// types. What no compiler writes is as it is.
func SymbolText(name string) string {
	const most = 10 // names of at most 2 to this many bytes come of it
	if strings.HasPrefix(name, "_Z") || strings.HasPrefix(name, "_R") {
		name = demangle.Filter(name, demangle.NoParams, demangle.NoEnclosingParams, demangle.MaxLength(most))
	}
	return source.Visible(name)
}

// programText prints what is known of a program.
func programText(p *format.Program, row func(name, format string, args ...any)) {
	order := p.Order.String() + "-endian"
	entry, build := "none", ""
	if p.Entry != 0 {
		entry = memory.FormatAddress(p.Entry)
	}
	if p.BuildID != nil {
		build = fmt.Sprintf(", build id %x", p.BuildID)
	}
	row("program", "%s, %d bits, %s, entry %s%s", p.Machine, p.Bits, order, entry, build)
	if p.UnreadLines != "" {
		row("lines", "none: the debug format is %s; expected DWARF 2 to 5 in .debug sections (compile with -gdwarf-4)", p.UnreadLines)
	}
	wide := 0
	for _, s := range p.Sections {
		wide = min(max(wide, len(source.Visible(s.Name))), 24)
	}
	const most = 40
	for i, s := range p.Sections {
		title := ""
		if i == 0 {
			title = "sections"
		}
		if i == most {
			row(title, "and %d more sections", len(p.Sections)-most)
			break
		}
		run, ok := memory.SpanOf(s.Run, s.Size)
		where := "past the last 64-bit address"
		if ok {
			where = run.Range()
		}
		text := ""
		switch load := p.Placed(s.Load); {
		case !s.Loads:
			text = fmt.Sprintf("%s, %s, not loaded", where, memory.FormatBytes(s.Size))
		case load == s.Run:
			text = fmt.Sprintf("%s, %s", where, memory.FormatBytes(s.Size))
		default:
			loaded, _ := memory.SpanOf(load, s.Size)
			text = fmt.Sprintf("%s, %s, runs at %s", loaded.Range(), memory.FormatBytes(s.Size), where)
		}
		row(title, "%-*s %s", wide, source.Visible(s.Name), text)
	}
}

// Program is what the file of a linked program contains besides bytes.
type Program struct {
	Machine string `json:"machine"`
	Bits    int    `json:"bits"`
	Order   string `json:"order"` // little, big
	Entry   string `json:"entry,omitempty"`
	BuildID string `json:"buildId,omitempty"`

	UnreadLines string    `json:"unreadLines,omitempty"` // the file's debug format, if its line numbers cannot be read
	Sections    []Section `json:"sections"`
}

// Section is a section of a program.
type Section struct {
	Name  string `json:"name"`
	Size  uint64 `json:"size"`
	Run   string `json:"run"`
	Load  string `json:"load,omitempty"` // absent if the section does not load
	Loads bool   `json:"loads"`
}

func programOf(p *format.Program) *Program {
	if p == nil {
		return nil
	}
	out := &Program{Machine: p.Machine, Bits: p.Bits, Order: p.Order.String(), UnreadLines: p.UnreadLines, Sections: []Section{}}
	if p.Entry != 0 {
		out.Entry = memory.PlainAddress(p.Entry)
	}
	if p.BuildID != nil {
		out.BuildID = fmt.Sprintf("%x", p.BuildID)
	}
	for _, s := range p.Sections {
		section := Section{Name: s.Name, Size: s.Size, Run: memory.PlainAddress(s.Run), Loads: s.Loads}
		if s.Loads {
			section.Load = memory.PlainAddress(p.Placed(s.Load))
		}
		out.Sections = append(out.Sections, section)
	}
	return out
}
