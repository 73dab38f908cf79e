package derive

import (
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
)

// linker reads a linker script: its MEMORY block, and the regions that its symbols
// name.
func (r *reader) linker(text []byte) error {
	s := &script{reader: r, symbols: map[string]value{}, memories: map[string]memory.Span{}, absent: map[string]uint64{}}
	s.run(text)
	s.symbolRegions()
	return nil
}

type value struct {
	n    uint64
	line int
	file string
}

// script is a linker script as it is read.
type script struct {
	*reader
	symbols  map[string]value
	order    []string
	memories map[string]memory.Span
	absent   map[string]uint64 // where memories of 0 bytes would begin

	tokens []token
	at     int
	nested int // expressions in each other
}

func (s *script) peek() token { return s.tokens[min(s.at, len(s.tokens)-1)] }

func (s *script) next() token {
	t := s.peek()
	s.at++
	return t
}

func (s *script) take(text string) bool {
	if t := s.peek(); t.kind != 'q' && t.text == text {
		s.at++
		return true
	}
	return false
}

// run reads the statements of a script, and of those that it includes.
func (s *script) run(text []byte) {
	before, at := s.tokens, s.at
	s.tokens, s.at = scan(text, ".$"), 0
	defer func() { s.tokens, s.at = before, at }()
	for s.peek().kind != 0 {
		t := s.next()
		switch {
		case t.kind == 'w' && strings.EqualFold(t.text, "INCLUDE"):
			s.followed(s.next(), s.run)
		case t.kind == 'w' && t.text == "MEMORY" && s.take("{"):
			s.memoryBlock()
		case t.kind == 'w' && (t.text == "PROVIDE" || t.text == "PROVIDE_HIDDEN" || t.text == "HIDDEN") && s.take("("):
			if name := s.next(); s.take("=") {
				s.assign(name)
			}
		case t.kind == 'w' && s.take("="):
			s.assign(t)
		}
	}
}

// inBlock reads a piece of the MEMORY block in a file of its own.
func (s *script) inBlock(name token) {
	s.followed(name, func(text []byte) {
		before, at := s.tokens, s.at
		s.tokens, s.at = scan(text, ".$"), 0
		s.memoryBlock()
		s.tokens, s.at = before, at
	})
}

func (s *script) followed(name token, read func(text []byte)) { s.within(name.text, name.line, read) }

// assign notes the value of a symbol that does not depend on where code lies.
func (s *script) assign(name token) {
	n, ok := s.expression(0)
	if !ok || name.text == "." {
		return
	}
	if _, known := s.symbols[name.text]; !known {
		s.order = append(s.order, name.text)
	}
	s.symbols[name.text] = value{n, name.line, s.file}
}

// memoryBlock reads NAME (ATTRIBUTES) : ORIGIN = X, LENGTH = Y, over and over.
func (s *script) memoryBlock() {
	for s.peek().kind != 0 && !s.take("}") {
		name := s.next()
		if name.kind == 'w' && strings.EqualFold(name.text, "INCLUDE") {
			s.inBlock(s.next())
			continue
		}
		if name.kind != 'w' {
			continue
		}
		attributes := ""
		if s.take("(") {
			for s.peek().kind != 0 && !s.take(")") {
				attributes += s.next().text
			}
		}
		if !s.take(":") {
			continue
		}
		first, ok1 := s.setting("origin", "org", "o")
		s.take(",")
		size, ok2 := s.setting("length", "len", "l")
		where, ok3 := memory.SpanOf(first, size)
		switch {
		case !ok1 || !ok2:
			s.warn(name.line, "the place of memory %s is not known: it depends on what the script does not say", name.text)
			continue
		case size == 0: // a bank that this variant does not have
			s.absent[name.text] = first
			continue
		case !ok3:
			s.warn(name.line, "memory %s, %d bytes from %s, makes no span", name.text, size, memory.FormatAddress(first))
			continue
		}
		s.memories[name.text] = where
		s.segment(Memory{Name: nameOf(name.text), Kind: kindOfAttributes(name.text, attributes), Span: where,
			Where: Where{s.file, name.line}})
	}
}

// setting reads NAME = EXPRESSION.
func (s *script) setting(names ...string) (uint64, bool) {
	if t := s.peek(); !slices.Contains(names, strings.ToLower(t.text)) {
		return 0, false
	}
	s.next()
	if !s.take("=") {
		return 0, false
	}
	return s.expression(0)
}

// kindOfAttributes guesses a memory's kind by its name and by what may be put there.
func kindOfAttributes(name, attributes string) device.Kind {
	if k := kindOf(name); k != "" {
		return k
	}
	wanted, _, _ := strings.Cut(strings.ToLower(attributes), "!")
	switch {
	case strings.Contains(wanted, "w"):
		return device.RAM
	case strings.ContainsAny(wanted, "rx"):
		return device.Flash
	}
	return ""
}

// strength is how strongly an operator binds, as in C; 0 is none.
func strength(op string) int {
	switch op {
	case "?":
		return 1
	case "||":
		return 2
	case "&&":
		return 3
	case "|":
		return 4
	case "&":
		return 5
	case "==", "!=":
		return 6
	case "<", ">", "<=", ">=":
		return 7
	case "<<", ">>":
		return 8
	case "+", "-":
		return 9
	case "*", "/", "%":
		return 10
	}
	return 0
}

// expression reads an expression of operators that bind more strongly than least;
// ok is false where it depends on what is not known.
func (s *script) expression(least int) (n uint64, ok bool) {
	const deepest = 200
	if s.nested++; s.nested > deepest {
		s.nested--
		return 0, false
	}
	defer func() { s.nested-- }()
	n, ok = s.term()
	for {
		op := s.peek()
		binds := strength(op.text)
		if op.kind != 's' || binds <= least {
			return n, ok
		}
		s.next()
		if op.text == "?" {
			yes, ok1 := s.expression(0)
			s.take(":")
			no, ok2 := s.expression(0)
			if n != 0 {
				n, ok = yes, ok && ok1
			} else {
				n, ok = no, ok && ok2
			}
			continue
		}
		b, ok1 := s.expression(binds)
		var sound bool
		n, sound = apply(op.text, n, b)
		ok = ok && ok1 && sound
	}
}

func apply(op string, a, b uint64) (uint64, bool) {
	truth := map[bool]uint64{true: 1}
	switch op {
	case "+":
		return a + b, true
	case "-":
		return a - b, true
	case "*":
		return a * b, true
	case "/":
		if b == 0 {
			return 0, false
		}
		return a / b, true
	case "%":
		if b == 0 {
			return 0, false
		}
		return a % b, true
	case "<<":
		return a << min(b, 64), true
	case ">>":
		return a >> min(b, 64), true
	case "&":
		return a & b, true
	case "|":
		return a | b, true
	case "&&":
		return truth[a != 0 && b != 0], true
	case "||":
		return truth[a != 0 || b != 0], true
	case "==":
		return truth[a == b], true
	case "!=":
		return truth[a != b], true
	case "<":
		return truth[a < b], true
	case ">":
		return truth[a > b], true
	case "<=":
		return truth[a <= b], true
	}
	return truth[a >= b], true
}

func (s *script) term() (uint64, bool) {
	t := s.next()
	switch {
	case t.kind == 'n':
		return number(t.text)
	case t.text == "(" && t.kind == 's':
		n, ok := s.expression(0)
		s.take(")")
		return n, ok
	case t.text == "-" && t.kind == 's':
		n, ok := s.term()
		return -n, ok
	case t.text == "~" && t.kind == 's':
		n, ok := s.term()
		return ^n, ok
	case t.text == "+" && t.kind == 's':
		return s.term()
	case t.text == "!" && t.kind == 's':
		n, ok := s.term()
		return map[bool]uint64{true: 1}[n == 0], ok
	case t.kind != 'w':
		return 0, false
	case s.take("("):
		return s.function(t.text)
	}
	return s.symbol(t.text)
}

// symbol returns the value of a symbol: the script's, or else that of a program which
// was linked by it.
func (s *script) symbol(name string) (uint64, bool) {
	if v, ok := s.symbols[name]; ok {
		return v.n, true
	}
	n, ok := s.Draft.symbols[name]
	return n, ok
}

// function reads the rest of a function's call.
func (s *script) function(name string) (n uint64, ok bool) {
	switch name {
	case "DEFINED", "ORIGIN", "LENGTH":
		of := s.next().text
		s.take(")")
		if name == "DEFINED" {
			if _, known := s.symbol(of); known {
				return 1, true
			}
			return 0, true
		}
		if first, is := s.absent[of]; is {
			return map[string]uint64{"ORIGIN": first}[name], true
		}
		where, known := s.memories[of]
		if name == "ORIGIN" {
			return where.First, known
		}
		return where.Size(), known
	}
	var arguments []uint64
	sound := true
	for s.peek().kind != 0 && !s.take(")") {
		a, ok := s.expression(0)
		arguments, sound = append(arguments, a), sound && ok
		if !s.take(",") && s.peek().text != ")" {
			s.next()
		}
	}
	switch {
	case !sound:
	case len(arguments) == 1 && name == "ABSOLUTE":
		return arguments[0], true
	case len(arguments) == 2 && name == "MAX":
		return max(arguments[0], arguments[1]), true
	case len(arguments) == 2 && name == "MIN":
		return min(arguments[0], arguments[1]), true
	case len(arguments) == 2 && name == "ALIGN" && arguments[1] != 0:
		up := (arguments[1] - arguments[0]%arguments[1]) % arguments[1]
		return arguments[0] + up, arguments[0]+up >= up
	}
	return 0, false
}

// symbolRegions finds pairs of symbols that say where something begins and how long
// it is, or where it ends.
func (s *script) symbolRegions() {
	cut := func(name string, endings ...string) (string, bool) {
		lower := strings.ToLower(strings.Trim(name, "_"))
		for _, e := range endings {
			if base, ok := strings.CutSuffix(lower, e); ok && base != "" {
				return base, true
			}
		}
		return "", false
	}
	ends, sizes := map[string]value{}, map[string]value{}
	for _, name := range s.order {
		if base, ok := cut(name, "_end", "_last", "_limit"); ok {
			ends[base] = s.symbols[name]
		}
		if base, ok := cut(name, "_size", "_length", "_len"); ok {
			sizes[base] = s.symbols[name]
		}
	}
	for _, name := range s.order {
		base, ok := cut(name, "_start", "_begin", "_origin", "_base", "_first")
		if !ok {
			continue
		}
		first := s.symbols[name]
		var where memory.Span
		if size, known := sizes[base]; known {
			where, ok = memory.SpanOf(first.n, size.n)
		} else if end, known := ends[base]; known && end.n > first.n {
			where = memory.Span{First: first.n, Last: end.n - 1}
		} else {
			continue
		}
		in := slices.IndexFunc(s.Memories, func(m Memory) bool { return m.Span.Covers(where) })
		if !ok || in < 0 || s.Memories[in].Kind == device.RAM || s.Memories[in].Span == where {
			continue
		}
		if len(s.Regions) < mostFound {
			s.Regions = append(s.Regions, Region{Name: nameOf(base), Role: roleOf(base), Span: where, Where: Where{first.file, first.line}})
		}
	}
}
