package derive

import (
	"regexp"
	"strconv"
	"strings"
	"sync"

	"mexalt/device"
	"mexalt/memory"
)

// The two layouts of linkers' map files that tell of memories: a table with this title, and
// lines for the regions in which a program is loaded and runs.
var (
	tableHead   = pattern(`(?m)^` + tableTitle + `\s*\n\s*Name\s+Origin\s+Length`)
	tableRow    = pattern(`^(\S+)\s+0x([0-9A-Fa-f]+)\s+0x([0-9A-Fa-f]+)(?:\s+([!A-Za-z]+))?\s*$`)
	symbolRow   = pattern(`^\s+0x([0-9A-Fa-f]+)\s+(?:PROVIDE\s*\(\s*)?([A-Za-z_][A-Za-z0-9_]*)\s*=`)
	regionTitle = pattern(`(?m)^\s*(Load|Execution) Region \S+ \(`)
	regionRow   = pattern(`^\s*(Load|Execution) Region (\S+) \((.*)\)`)
	baseOf      = pattern(`(?:^|, )(?:Exec base|Base): 0x([0-9A-Fa-f]+)`)
	maxOf       = pattern(`(?:^|, )Max: 0x([0-9A-Fa-f]+)`)
)

const tableTitle = "Memory Configuration"

// pattern compiles an expression when it is first asked for: most runs of the program never
// do.
func pattern(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

func isLinkerMap(_ string, _, text []byte) bool {
	return tableHead().Match(text) || regionTitle().Match(text)
}

// linkerMap reads a linker's map file: the memories that it tells of, and the regions that
// symbols name.
func (r *reader) linkerMap(text []byte) error {
	s := &script{reader: r, symbols: map[string]value{}}
	inTable, rows := false, 0
	n := 0
	for line := range strings.Lines(string(text)) {
		n++
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.TrimSpace(line) == tableTitle:
			inTable, rows = true, 0
		case inTable:
			if rows++; rows > 1 && strings.TrimSpace(line) == "" && len(r.Memories) > 0 {
				inTable = false
			}
			r.tableRow(line, n)
		default:
			s.mapSymbol(line, n)
			r.regionRow(line, n)
		}
	}
	s.symbolRegions()
	return nil
}

// hexNumber reads hex digits; what has more than 64 bits is none.
func hexNumber(digits string) (uint64, bool) {
	n, err := strconv.ParseUint(digits, 16, 64)
	return n, err == nil
}

// tableRow reads a row of the table of memories: name, origin, length, attributes.
func (r *reader) tableRow(line string, n int) {
	m := tableRow().FindStringSubmatch(line)
	if m == nil || m[1] == "*default*" || len(r.Memories) >= mostFound {
		return
	}
	first, ok1 := hexNumber(m[2])
	size, ok2 := hexNumber(m[3])
	where, ok3 := memory.SpanOf(first, size)
	if !ok1 || !ok2 || !ok3 || size == 0 {
		r.warn(n, "the place of %s is not known", m[1])
		return
	}
	kind := kindOf(m[1])
	if kind == "" {
		// w is written while the program runs, x is executed; what follows ! is not.
		are, _, _ := strings.Cut(strings.ToLower(m[4]), "!")
		switch {
		case strings.Contains(are, "w"):
			kind = device.RAM
		case strings.ContainsAny(are, "xr"):
			kind = device.Flash
		}
	}
	r.Memories = append(r.Memories, Memory{Name: nameOf(m[1]), Kind: kind, Span: where, Where: Where{r.file, n}})
}

// mapSymbol reads a symbol that the script sets: 0x00007800  loader_start = ...
func (s *script) mapSymbol(line string, n int) {
	m := symbolRow().FindStringSubmatch(line)
	if m == nil || len(s.order) >= mostFound {
		return
	}
	if v, ok := hexNumber(m[1]); ok {
		if _, twice := s.symbols[m[2]]; !twice {
			s.order = append(s.order, m[2])
		}
		s.symbols[m[2]] = value{v, n, s.file}
	}
}

// regionRow reads the line of a region in which a program runs: its base, and how large it
// may be, which is what the script says of the memory there.
func (r *reader) regionRow(line string, n int) {
	m := regionRow().FindStringSubmatch(line)
	if m == nil || m[1] != "Execution" || len(r.Memories) >= mostFound {
		return
	}
	base, most := baseOf().FindStringSubmatch(m[3]), maxOf().FindStringSubmatch(m[3])
	if base == nil || most == nil {
		r.warn(n, "the place of %s is not known", m[2])
		return
	}
	first, ok1 := hexNumber(base[1])
	size, ok2 := hexNumber(most[1])
	where, ok3 := memory.SpanOf(first, size)
	if !ok1 || !ok2 || !ok3 || size == 0 || size > 1<<31 { // the last is said of one without a limit
		r.warn(n, "how large %s may be is not known", m[2])
		return
	}
	kind := kindOf(m[2])
	if strings.HasPrefix(strings.ToUpper(m[2]), "RW") || strings.Contains(strings.ToUpper(m[2]), "_RAM") {
		kind = device.RAM
	}
	r.Memories = append(r.Memories, Memory{Name: nameOf(m[2]), Kind: kind, Span: where, Where: Where{r.file, n}})
}
