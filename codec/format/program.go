package format

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sort"
	"strings"
	"sync"

	"mexalt/memory"
	"mexalt/source"
)

// Program is what a linked program's file tells beside the bytes that load.
type Program struct {
	Machine string // as the standard calls it, such as "ARM"
	Bits    int    // of an address: 32, 64
	Order   memory.Order
	Entry   uint64 // 0 is none
	BuildID []byte // nil is none
	// UnreadLines is the format of line numbers that the file has and that is not read,
	// as its section is called in short: "stabs". "" is none.
	UnreadLines string
	Sections    []Section

	Table *SymbolTable

	moved uint64 // what was added to all addresses since, modulo 2^64
}

// SymbolTable is a program's symbols, read where somebody first asks for one.
type SymbolTable struct {
	read    func() ([]Symbol, error)
	once    sync.Once
	symbols []Symbol            // sorted by address
	named   map[string][]uint32 // the numbers of the symbols of each name
	failed  error
}

// NewSymbolTable returns a table that a function reads.
func NewSymbolTable(read func() ([]Symbol, error)) *SymbolTable { return &SymbolTable{read: read} }

// Section is a stretch of a program's memory.
type Section struct {
	Name  string
	Size  uint64
	Load  uint64 // the address at which its bytes are programmed; of one that does not load, 0
	Run   uint64 // the address at which the program uses it
	Loads bool   // whether the file has bytes of it to be programmed
}

// Symbol is a name in a program.
type Symbol struct {
	Name   string
	First  uint64 // where it loads; of one that does not load, its value
	Size   uint64 // bytes; 0 of a label
	Loads  bool   // whether it lies in a section that loads
	Data   bool   // whether it names a variable or a function, and not a mere label
	Global bool   // whether other files of the program could use it
}

// load reads the symbols once.
func (t *SymbolTable) load() error {
	t.once.Do(func() {
		t.symbols, t.failed = t.read()
		slices.SortStableFunc(t.symbols, func(a, b Symbol) int {
			return cmp.Or(cmp.Compare(a.First, b.First), cmp.Compare(b.Size, a.Size))
		})
		t.named = make(map[string][]uint32, len(t.symbols))
		for i, s := range t.symbols {
			t.named[s.Name] = append(t.named[s.Name], uint32(i))
		}
	})
	return t.failed
}

// Moved returns the program of an image that was moved by delta, modulo 2^64.
func (p *Program) Moved(delta uint64) *Program {
	q := *p
	q.moved += delta
	return &q
}

// Placed returns where a byte is that loads at an address.
func (p *Program) Placed(load uint64) uint64 { return load + p.moved }

func (p *Program) placed(s Symbol) Symbol {
	if s.Loads {
		s.First += p.moved
	}
	return s
}

// Find returns the symbols of a name: the global one where there is one, else
// all that files of the program have for their own.
func (p *Program) Find(name string) ([]Symbol, error) {
	if err := p.Table.load(); err != nil {
		return nil, err
	}
	var found []Symbol
	for _, i := range p.Table.named[name] {
		s := p.Table.symbols[i]
		if s.Global {
			return []Symbol{p.placed(s)}, nil
		}
		found = append(found, p.placed(s))
	}
	return found, nil
}

// At returns the symbol in which a byte of the image lies: the innermost that
// has it, else the last label before it; ok is false where there is none.
func (p *Program) At(address uint64) (s Symbol, ok bool) {
	if p.Table.load() != nil {
		return s, false
	}
	address -= p.moved
	const back = 64 // symbols that are looked at; more lie in each other in no program
	after := sort.Search(len(p.Table.symbols), func(i int) bool { return p.Table.symbols[i].First > address })
	label, between := -1, false // whether something else ended between the label and the address
	for i := after - 1; i >= 0 && i >= after-back; i-- {
		c := &p.Table.symbols[i]
		switch {
		case !c.Loads:
		case c.Size > 0 && address-c.First < c.Size:
			return p.placed(*c), true
		case c.Size > 0:
			between = true
		case label < 0 && !between:
			label = i
		}
	}
	if label < 0 || !p.oneSection(p.Table.symbols[label].First, address) {
		return s, false
	}
	return p.placed(p.Table.symbols[label]), true
}

// oneSection reports whether two addresses lie in one section that loads.
func (p *Program) oneSection(a, b uint64) bool {
	return slices.ContainsFunc(p.Sections, func(s Section) bool { return s.Loads && a-s.Load < s.Size && b-s.Load < s.Size })
}

// In returns the symbols that begin in a span of the image, of those at one
// address the variables and functions rather than labels.
func (p *Program) In(s memory.Span) []Symbol {
	if p.Table.load() != nil {
		return nil
	}
	var found []Symbol
	first := s.First - p.moved
	from := sort.Search(len(p.Table.symbols), func(i int) bool { return p.Table.symbols[i].First >= first })
	for _, symbol := range p.Table.symbols[from:] {
		if symbol.First-first >= s.Size() {
			break
		}
		c := p.placed(symbol)
		if n := len(found); !c.Loads || n > 0 && found[n-1].First == c.First && found[n-1].Data && !c.Data {
			continue
		}
		found = append(found, c)
	}
	return found
}

// Programs finds symbols in several programs.
type Programs struct{ list []placedProgram }

// placedProgram is a program of an image, and what was done to its bytes.
type placedProgram struct {
	*Program
	file  string
	input string // its name in a release file
	gone  string // why its symbols mean nothing any more; "" is not so
	word  uint64 // bytes in words that were reversed; 0 is none
	since string // where they were
}

// of yields the programs of an input; "" is of all.
func (ps *Programs) of(input string) iter.Seq[*placedProgram] {
	return func(yield func(*placedProgram) bool) {
		for i := range ps.list {
			if p := &ps.list[i]; (input == "" || p.input == input) && !yield(p) {
				return
			}
		}
	}
}

// Move says that the bytes of an input were moved by delta, modulo 2^64; "" is those of all.
func (ps *Programs) Move(input string, delta uint64) {
	for p := range ps.of(input) {
		p.Program = p.Moved(delta)
	}
}

// Gone says why symbols mean nothing any more.
func (ps *Programs) Gone(why string) {
	for p := range ps.of("") {
		p.gone = why
	}
}

// Swapped says that the bytes of an input, or of all, were reversed in words, and since where:
// symbols that do not begin and end with words mean nothing any more.
func (ps *Programs) Swapped(input string, word uint64, since string) {
	for p := range ps.of(input) {
		p.word, p.since = max(p.word, word), since
	}
}

// Add adds the program of a file.
func (ps *Programs) Add(file string, p *Program) { ps.AddInput("", file, p) }

// AddInput adds the program of a file that is an input of that name.
func (ps *Programs) AddInput(input, file string, p *Program) {
	ps.list = append(ps.list, placedProgram{Program: p, file: file, input: input})
}

// SymbolOf returns where a symbol of one input lies, as [Programs.Symbol] does one of all.
func (ps *Programs) SymbolOf(input, name string) (first, size uint64, err error) {
	i := slices.IndexFunc(ps.list, func(p placedProgram) bool { return p.input == input })
	if i < 0 {
		return 0, 0, fmt.Errorf("the input %s has no symbols; an ELF file has", input)
	}
	one := Programs{ps.list[i : i+1]}
	return one.Symbol(name)
}

// Symbol returns where the symbol of a name lies, and how many bytes it has.
// The error says what could be meant.
func (ps *Programs) Symbol(name string) (first, size uint64, err error) {
	if len(ps.list) == 0 {
		return 0, 0, fmt.Errorf("no input has symbols; an ELF file has")
	}
	var found []Symbol
	var places, known []string
	var of *placedProgram // the last that has it
	inputs := 0
	for p := range ps.of("") {
		if p.gone != "" {
			return 0, 0, fmt.Errorf("%s has no value: %s", name, p.gone)
		}
		if p.input != "" {
			inputs++
		}
		symbols, err := p.Find(name)
		if err != nil {
			return 0, 0, fmt.Errorf("the symbols of %s cannot be read: %w", p.file, err)
		}
		for _, s := range symbols {
			of, found = p, append(found, s)
			places = append(places, fmt.Sprintf("%s in %s", memory.FormatAddress(s.First), p.file))
		}
	}
	const few = 4
	switch {
	case len(found) == 1 && of.word > 1 && (found[0].First%of.word != 0 || found[0].Size%of.word != 0):
		return 0, 0, fmt.Errorf("%s has no value: its bytes are mixed with others in words of %d bytes since %s", name, of.word, of.since)
	case len(found) == 1:
		return found[0].First, found[0].Size, nil
	case len(found) > few:
		places = append(places[:few], fmt.Sprintf("and %d more", len(found)-few))
		fallthrough
	case len(found) > 1:
		text := fmt.Sprintf("%s is the name of several symbols: %s", name, strings.Join(places, ", "))
		if inputs > 1 {
			text += fmt.Sprintf("; part.INPUT.symbol.%s is that of one input", name)
		}
		return 0, 0, errors.New(text)
	}
	for _, p := range ps.list {
		for n := range p.Table.named {
			known = append(known, n)
		}
	}
	slices.Sort(known)
	if near := source.Nearest(name, known); near != "" {
		return 0, 0, fmt.Errorf("no symbol %s; did you mean %s?", name, near)
	}
	return 0, 0, fmt.Errorf("no symbol %s among %s", name, memory.FormatCount(uint64(len(known))))
}

// Symbols returns all symbols, where they were placed, by address.
func (p *Program) Symbols() ([]Symbol, error) {
	if err := p.Table.load(); err != nil {
		return nil, err
	}
	list := make([]Symbol, len(p.Table.symbols))
	for i, s := range p.Table.symbols {
		list[i] = p.placed(s)
	}
	return list, nil
}
