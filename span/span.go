// Package span reads the little language in which addresses, spans, bytes and
// inputs are written, on the command line and in Mexalt's files: numbers,
// expressions of them with names, FIRST..LAST and FIRST,SIZE; and the keys,
// whose values are written in it, of all that can be set.
//
// Every error names the text, points at the place in it, and says what could
// stand there.
package span

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"mexalt/memory"
	"mexalt/source"
)

// Names are what names in a text stand for. The zero value is none.
type Names struct {
	spans map[string]memory.Span
	// Symbols finds what symbol.NAME stands for; nil is nothing.
	Symbols Symbols
	// WithoutAdvice is whether errors leave out which name may have been meant, which takes
	// as long as there are names.
	WithoutAdvice bool
	// Words are the memories that count words, those that are meant first before others.
	Words []Words

	lost map[string]string
}

// Words is a memory that counts words: its first word in the device's own numbering, and
// where that is in images.
type Words struct {
	First uint64
	In    memory.Span // in images
	Unit  uint64      // bytes in each
}

// Word returns the addresses in images of a word, by its number in the device; ok is false
// where no memory has it.
func (n Names) Word(number uint64) (s memory.Span, ok bool) {
	for _, w := range n.Words {
		if number >= w.First && number-w.First < w.In.Size()/w.Unit {
			first := w.In.First + (number-w.First)*w.Unit
			return memory.Span{First: first, Last: first + w.Unit - 1}, true
		}
	}
	return s, false
}

// WordText is an address as the device counts it, if it counts words: word 0x0300; "" if
// not, or within a word.
func (n Names) WordText(address uint64) string {
	for _, w := range n.Words {
		if w.In.Contains(address) && (address-w.In.First)%w.Unit == 0 {
			return "word " + memory.FormatAddress(w.First+(address-w.In.First)/w.Unit)
		}
	}
	return ""
}

// MaybeWords returns a note about a number that makes sense as an address of words alone: a
// memory or a region begins at that word, and none at that byte. "" is none. Only numbers
// are looked at.
func (n Names) MaybeWords(text string) string {
	text, _, _ = strings.Cut(text, "..")
	text, _, _ = strings.Cut(text, ",")
	number, err := Number(strings.TrimSpace(text))
	at, ok := n.Word(number)
	if err != nil || !ok || at.First == number {
		return ""
	}
	begins := ""
	for _, name := range n.Known() {
		s, _ := n.Span(name)
		if s.First == number {
			return ""
		}
		if s.First == at.First && name != "image" && (begins == "" || s.Size() < n.spans[begins].Size()) {
			begins = name
		}
	}
	if begins == "" {
		return ""
	}
	return fmt.Sprintf("%s counts bytes; word %s is %s, where %s begins: write \"word %s\" if that is meant",
		strings.TrimSpace(text), memory.FormatAddress(number), memory.FormatAddress(at.First), begins, strings.TrimSpace(text))
}

// Lose says why a name means nothing any more.
func (n *Names) Lose(name, why string) {
	delete(n.spans, name)
	if n.lost == nil {
		n.lost = map[string]string{}
	}
	n.lost[name] = why
}

// Symbols finds the symbols of programs.
type Symbols interface {
	// Symbol returns where a symbol lies and how many bytes it has, 0 for a mere
	// label. The error says what could be meant.
	Symbol(name string) (first, size uint64, err error)
}

// InputSymbols are symbols of several inputs, each with a name.
type InputSymbols interface {
	// SymbolOf finds what part.INPUT.symbol.NAME stands for, as Symbols finds symbol.NAME.
	SymbolOf(input, name string) (first, size uint64, err error)
}

// NamesOf returns names for the spans of memories and regions, or image.
func NamesOf(spans map[string]memory.Span) Names { return Names{spans: maps.Clone(spans)} }

// Set adds a name.
func (n *Names) Set(name string, s memory.Span) {
	if n.spans == nil {
		n.spans = map[string]memory.Span{}
	}
	n.spans[name] = s
}

// Span returns what a name stands for.
func (n Names) Span(name string) (s memory.Span, ok bool) {
	s, ok = n.spans[name]
	return s, ok
}

// With returns the names and one more.
func (n Names) With(name string, s memory.Span) Names {
	n.spans = maps.Clone(n.spans)
	n.Set(name, s)
	return n
}

// And returns the names and more, which win.
func (n Names) And(more Names) Names {
	all := Names{spans: maps.Clone(n.spans), Symbols: n.Symbols, lost: n.lost, Words: n.Words}
	if len(more.Words) > 0 {
		all.Words = more.Words
	}
	for name, s := range more.spans {
		all.Set(name, s)
	}
	if more.Symbols != nil {
		all.Symbols = more.Symbols
	}
	return all
}

// Known returns the names of spans, sorted.
func (n Names) Known() []string { return slices.Sorted(maps.Keys(n.spans)) }

// Error is an error in a text of the little language.
type Error struct {
	Text     string
	At       int // byte index in Text
	What     string
	Expected string
}

// Error returns the error on one line.
func (e *Error) Error() string {
	s := fmt.Sprintf("%q, character %d: %s", e.Text, utf8.RuneCountInString(e.Text[:e.At])+1, e.What)
	if e.Expected != "" {
		s += "; expected " + e.Expected
	}
	return s
}

// Number reads a number: 0x1F, 31, 0b11111, _ between digits, suffix K, M, G,
// KiB, MiB or GiB for powers of 1024.
func Number(text string) (uint64, error) {
	p := parser{text: text}
	p.next()
	n := p.number()
	p.end("")
	return n, p.err()
}

// Address reads an expression: numbers, NAME.first, NAME.last, NAME.size, and
// these joined by + - * / % << >> & | and parentheses. The value is one of 64
// bits without sign; what leaves these is an error.
func Address(text string, names Names) (uint64, error) {
	p := parser{text: text, names: names}
	p.next()
	a := p.expression(0)
	p.end("an operator")
	return a, p.err()
}

// NamesIn returns the names that an expression or a span uses, each once.
func NamesIn(text string) []string {
	p := parser{text: text}
	var names []string
	dot := false
	for p.next(); p.kind != endToken; p.next() {
		if p.kind == nameToken && !dot && !p.word() && !slices.Contains(names, p.token) {
			names = append(names, p.token)
		}
		dot = p.kind == '.'
	}
	return names
}

// Span reads a span: FIRST..LAST, both included; FIRST,SIZE; one address alone,
// which is a span of one byte; or a name.
func Span(text string, names Names) (memory.Span, error) {
	p := parser{text: text, names: names, unit: 1}
	p.next()
	if name := p.token; p.kind == nameToken && p.peek() == endToken && p.symbolWord() == "" {
		s, sized := p.named(name)
		if p.first == nil && !sized {
			p.fail(p.at, name+" is a label without a size", name+".first, its address,")
		}
		return s, p.err()
	}
	first := p.expression(0)
	unit := p.unit
	switch p.kind {
	case rangeToken:
		p.next()
		at := p.at
		p.unit = 1
		last := p.expression(0) + (p.unit - 1)
		p.end("an operator")
		if last < first {
			p.fail(at, fmt.Sprintf("the first address %s is above the last %s", memory.FormatAddress(first), memory.FormatAddress(last)),
				"FIRST..LAST, both included")
		}
		return memory.Span{First: first, Last: last}, p.err()
	case ',':
		p.next()
		at := p.at
		size := p.expression(0)
		p.end("an operator")
		s, ok := memory.SpanOf(first, size)
		if size == 0 {
			p.fail(at, "a span of 0 bytes is empty", "a size of 1 or more")
		} else if !ok {
			p.fail(at, fmt.Sprintf("%s bytes from %s run past the last 64-bit address", memory.FormatCount(size),
				memory.FormatAddress(first)), "")
		}
		return s, p.err()
	}
	p.end("..LAST or ,SIZE")
	sign, name := "-", "minus sign"
	if p.first != nil && !p.below {
		sign, name = ":", "colon"
	}
	before, after, one := strings.Cut(text, sign)
	if p.first != nil && one && !strings.Contains(after, sign) && (p.below || numbered(before) && numbered(after)) {
		p.first.What, p.first.Expected = "two addresses with a "+name+" between them",
			fmt.Sprintf("%s..%s for a span", strings.TrimSpace(before), strings.TrimSpace(after))
	}
	return memory.Span{First: first, Last: first + (unit - 1)}, p.err()
}

// numbered reports whether a text begins as a number does.
func numbered(text string) bool {
	text = strings.TrimLeft(text, " ")
	return text != "" && text[0] >= '0' && text[0] <= '9'
}

// MaybeTooLong returns a note about a span that ends with a round address, as 0..32K does,
// where a size may be meant: it has one byte more than one would think. "" is none. Only
// numbers are looked at: whoever writes an expression knows what it comes to.
func MaybeTooLong(text string) string {
	before, after, ok := strings.Cut(text, "..")
	if !ok {
		return ""
	}
	before, after = strings.TrimSpace(before), strings.TrimSpace(after)
	first, err := Number(before)
	last, err2 := Number(after)
	const round = 0x100
	if err != nil || err2 != nil || last <= first || first%round != 0 || last%round != 0 {
		return ""
	}
	size := after
	if first != 0 {
		size = fmt.Sprintf("0x%X", last-first)
	}
	return fmt.Sprintf("%s is %s, both ends included; %s,%s is %s", text, memory.FormatBytes(last-first+1), before, size,
		memory.FormatBytes(last-first))
}

// evenHex writes a number in hex digits, two a byte.
func evenHex(n uint64) string {
	text := fmt.Sprintf("%X", n)
	return strings.Repeat("0", len(text)%2) + text
}

// Bytes reads bytes as hex digits: FF, DE AD BE EF, 0xDEADBEEF. Spaces and _
// are ignored.
func Bytes(text string) ([]byte, error) {
	var b []byte
	half, digits := byte(0), 0
	begin := 0
	if lead := len(text) - len(strings.TrimLeft(text, " ")); strings.HasPrefix(text[lead:], "0x") || strings.HasPrefix(text[lead:], "0X") {
		begin = lead + 2
	}
	for i, c := range text[begin:] {
		var d byte
		switch {
		case c == ' ' || c == '_':
			continue
		case c >= '0' && c <= '9':
			d = byte(c - '0')
		case c >= 'A' && c <= 'F':
			d = byte(c-'A') + 10
		case c >= 'a' && c <= 'f':
			d = byte(c-'a') + 10
		default:
			return nil, &Error{text, begin + i, fmt.Sprintf("%q is not a hex digit", c), "bytes as hex digits, such as FF or DE AD BE EF"}
		}
		if digits%2 == 1 {
			b = append(b, half<<4|d)
		}
		half = d
		digits++
	}
	if digits == 0 {
		return nil, &Error{text, len(text), "no bytes", "hex digits, such as FF or DE AD BE EF"}
	}
	if digits%2 == 1 {
		expected := "two digits a byte"
		if n, err := strconv.ParseUint(text, 10, 64); err == nil {
			expected += fmt.Sprintf("; bytes are hex, and the number %d is %s", n, evenHex(n))
		}
		verb := "leave"
		if digits == 1 {
			verb = "leaves"
		}
		return nil, &Error{text, len(text), fmt.Sprintf("%s %s half a byte", memory.FormatNumber(digits, "hex digit"), verb), expected}
	}
	return b, nil
}

// Text reads a text with backslash escapes: \n \r \t \0 \\ \" and \xHH for any
// byte. All else stands for itself.
func Text(text string) ([]byte, error) {
	var b []byte
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			b = append(b, text[i])
			continue
		}
		at := i
		if i++; i == len(text) {
			return nil, &Error{text, at, "a backslash ends the text", `\\ is a backslash`}
		}
		const letters, bytes = `nrt0\"`, "\n\r\t\x00\\\""
		if k := strings.IndexByte(letters, text[i]); k >= 0 {
			b = append(b, bytes[k])
			continue
		}
		v, err := uint64(0), error(nil)
		if text[i] != 'x' || i+2 >= len(text) {
			err = strconv.ErrSyntax
		} else {
			v, err = strconv.ParseUint(text[i+1:i+3], 16, 8)
		}
		if err != nil {
			return nil, &Error{
				text,
				at,
				fmt.Sprintf("%s is not an escape", strconv.Quote(text[at:min(len(text), at+2)])),
				`\n \r \t \0 \\ \" or \xHH`,
			}
		}
		b, i = append(b, byte(v)), i+2
	}
	return b, nil
}

// Wanted reads what is looked for: bytes as [Bytes] reads them, or else a text
// as [Text] does; one in double quotes is a text always. what tells it back.
func Wanted(text string) (b []byte, what string, err error) {
	if n := len(text); n > 1 && text[0] == '"' && text[n-1] == '"' {
		text = text[1 : n-1]
	} else if b, err := Bytes(text); err == nil {
		return b, fmt.Sprintf("% X", b), nil
	}
	if b, err = Text(text); err == nil && len(b) == 0 {
		err = &Error{text, 0, "no bytes", "bytes as hex digits, or a text"}
	}
	return b, strconv.Quote(string(b)), err
}

// AddressAt reads the expression that stands in a text from a byte to the end; errors tell
// their places in the whole text.
func AddressAt(text string, from int, names Names) (uint64, error) {
	p := parser{text: text, names: names, pos: from}
	p.next()
	value := p.expression(0)
	p.end("an operator")
	return value, p.err()
}

// Tokens of one character are their own kind.
const (
	endToken    = -1
	noToken     = -2 // what is none
	numberToken = 'n'
	nameToken   = 'a'
	rangeToken  = ':'
	leftToken   = '<'
	rightToken  = '>'
)

// parser goes through a text once. After the first error it only runs out.
type parser struct {
	text  string
	names Names
	pos   int // behind the token

	kind  int
	token string
	at    int // where the token begins

	depth int // of parentheses
	// unit is how many bytes the address has that an expression is: more than 1 where it is
	// a word alone.
	unit  uint64
	below bool // the error is of a difference below 0
	first *Error
}

func (p *parser) err() error {
	if p.first == nil {
		return nil
	}
	return p.first
}

func (p *parser) fail(at int, what, expected string) {
	if p.first == nil {
		p.first = &Error{p.text, at, what, expected}
	}
	p.kind, p.pos = endToken, len(p.text)
}

func isNameByte(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}

// IsName reports whether text can stand as a name: letters, digits and _, not
// a digit first.
func IsName(text string) bool {
	for i := range len(text) {
		if !isNameByte(text[i]) {
			return false
		}
	}
	return text != "" && (text[0] < '0' || text[0] > '9')
}

// next reads the next token.
func (p *parser) next() {
	for p.pos < len(p.text) && p.text[p.pos] == ' ' {
		p.pos++
	}
	p.at = p.pos
	if p.pos >= len(p.text) {
		p.kind, p.token = endToken, ""
		return
	}
	c := p.text[p.pos]
	switch {
	case strings.HasPrefix(p.text[p.pos:], ".."):
		p.kind, p.pos = rangeToken, p.pos+2
	case isNameByte(c):
		p.kind = nameToken
		if c >= '0' && c <= '9' {
			p.kind = numberToken
		}
		for p.pos < len(p.text) && isNameByte(p.text[p.pos]) {
			p.pos++
		}
		if prefixed(p.text[p.at:]) {
			p.symbolName()
		}
	case strings.HasPrefix(p.text[p.pos:], "<<"):
		p.kind, p.pos = leftToken, p.pos+2
	case strings.HasPrefix(p.text[p.pos:], ">>"):
		p.kind, p.pos = rightToken, p.pos+2
	case strings.IndexByte("+-*/%&|(),.", c) >= 0:
		p.kind, p.pos = int(c), p.pos+1
	default:
		r, _ := utf8.DecodeRuneInString(p.text[p.pos:])
		p.fail(p.pos, fmt.Sprintf("unexpected %q", r), "a number, a name, an operator or a parenthesis")
		return
	}
	p.token = p.text[p.at:p.pos]
}

// symbolPrefix stands before the name of a symbol, partPrefix before that of an
// input of a release file, ChecksumPrefix before that of a declared checksum, which
// is its place.
const (
	symbolPrefix   = "symbol."
	partPrefix     = "part."
	ChecksumPrefix = "checksum."
)

// prefixed reports whether a text begins with one of them.
func prefixed(text string) bool {
	return strings.HasPrefix(text, symbolPrefix) || strings.HasPrefix(text, partPrefix) || strings.HasPrefix(text, ChecksumPrefix)
}

// symbolName goes on to the end of a symbol's name, in which compilers put dots
// and dollars too.
func (p *parser) symbolName() {
	end := p.pos + 1
	for end < len(p.text) &&
		(isNameByte(p.text[end]) || p.text[end] == '$' || p.text[end] == '.' && !strings.HasPrefix(p.text[end:], "..")) {
		end++
	}
	if _, word := cutWord(p.text[p.at:end]); word == "" || strings.Count(p.text[p.at:end], ".") > 1 {
		p.pos = end
	}
}

// cutWord cuts .first, .last or .size off a name.
func cutWord(name string) (rest, word string) {
	for _, w := range []string{"first", "last", "size"} {
		if rest, ok := strings.CutSuffix(name, "."+w); ok {
			return rest, w
		}
	}
	return name, ""
}

// symbolWord returns which of first, last and size is asked of the symbol that
// the token names.
func (p *parser) symbolWord() string {
	if !prefixed(p.token) {
		return ""
	}
	_, word := cutWord(p.token)
	return word
}

// named returns what a name stands for, and whether that has a size.
func (p *parser) named(name string) (s memory.Span, sized bool) {
	symbol, ok := strings.CutPrefix(name, symbolPrefix)
	part, of, one := strings.Cut(name, "."+symbolPrefix) // part.INPUT.symbol.NAME
	input, isPart := strings.CutPrefix(part, partPrefix)
	if one = one && isPart && !ok; one {
		symbol, ok = of, true
	}
	switch {
	case !ok:
		if s, ok = p.names.Span(name); !ok {
			p.unknownName(name, p.at)
		}
		return s, true
	case symbol == "":
		p.fail(p.at, "a symbol's name is missing", symbolPrefix+"NAME")
		return s, false
	case p.names.Symbols == nil:
		p.fail(p.at, "there are no symbols here", "an ELF input")
		return s, false
	}
	var first, size uint64
	var err error
	if several, known := p.names.Symbols.(InputSymbols); one && known {
		first, size, err = several.SymbolOf(input, symbol)
	} else if one {
		err = fmt.Errorf("symbols of one input are known in a release file alone; %s%s is one of all", symbolPrefix, symbol)
	} else {
		first, size, err = p.names.Symbols.Symbol(symbol)
	}
	if err != nil {
		p.fail(p.at, err.Error(), "")
		return s, false
	}
	s, ok = memory.SpanOf(first, max(size, 1))
	if !ok {
		p.fail(p.at, symbol+" runs past the last 64-bit address", "")
	}
	return s, size > 0
}

// peek returns the kind of the token after this one.
func (p *parser) peek() int {
	q := *p
	if q.next(); q.first != p.first {
		return noToken
	}
	return q.kind
}

// end expects the end of the text; could is what else could stand there.
func (p *parser) end(could string) {
	if p.kind != endToken {
		p.fail(p.at, fmt.Sprintf("%q is too much", p.text[p.at:]), strings.TrimPrefix(could+" or nothing", " or "))
	}
}

// binding is how strongly an operator binds, as in Go; 0 is none.
func binding(op int) int {
	switch op {
	case '+', '-', '|':
		return 1
	case '*', '/', '%', '&', leftToken, rightToken:
		return 2
	}
	return 0
}

// expression reads an expression of operators that bind more strongly than
// least.
func (p *parser) expression(least int) uint64 {
	a := p.term()
	for binding(p.kind) > least {
		op, at := p.kind, p.at
		p.next()
		a = p.apply(op, at, a, p.expression(binding(op)))
		p.unit = 1
	}
	return a
}

// apply computes a op b. at is where the operator stands.
func (p *parser) apply(op, at int, a, b uint64) uint64 {
	const last = "0xFFFF_FFFF_FFFF_FFFF"
	switch op {
	case '+':
		if a > math.MaxUint64-b {
			p.fail(at, "the sum is above the last 64-bit address, "+last, "")
		}
		return a + b
	case '-':
		if b > a && p.first == nil {
			p.fail(at, fmt.Sprintf("%s less %s is below 0", memory.FormatAddress(a), memory.FormatAddress(b)), "")
			p.below = true
		}
		return a - b
	case '*':
		hi, lo := bits.Mul64(a, b)
		if hi != 0 {
			p.fail(at, "the product is above the last 64-bit address, "+last, "")
		}
		return lo
	case '/', '%':
		if b == 0 {
			p.fail(at, "division by 0", "")
			return 0
		}
		if op == '/' {
			return a / b
		}
		return a % b
	case leftToken:
		if b >= 64 && a != 0 || b < 64 && a<<b>>b != a {
			p.fail(at, "shifted above the last 64-bit address, "+last, "")
			return 0
		}
		return a << min(b, 63)
	case rightToken:
		return a >> b
	case '&':
		return a & b
	}
	return a | b
}

// mostNested is how deep parentheses may stand in each other.
const mostNested = 100

func (p *parser) term() uint64 {
	switch p.kind {
	case numberToken:
		return p.number()
	case '(':
		if p.depth++; p.depth > mostNested {
			p.fail(p.at, fmt.Sprintf("more than %d parentheses in each other", mostNested), "")
			return 0
		}
		p.next()
		a := p.expression(0)
		if p.kind != ')' {
			p.fail(p.at, "a parenthesis is not closed", ")")
		}
		p.depth--
		p.next()
		return a
	case nameToken:
		if p.word() {
			return p.wordAddress()
		}
		name, at := p.token, p.at
		word := p.symbolWord()
		if word != "" {
			name = strings.TrimSuffix(name, "."+word)
		}
		s, sized := p.named(name)
		if p.first != nil {
			return 0
		}
		if word != "" {
			if word != "first" && !sized {
				p.fail(at, name+" is a label without a size", name+".first, its address,")
			}
			p.next()
			return wordOf(s, word)
		}
		if p.next(); p.kind != '.' {
			p.fail(at, fmt.Sprintf("%s is a span, an address is needed", name),
				fmt.Sprintf("%s.first, %s.last or %s.size", name, name, name))
			return 0
		}
		p.next()
		word, at = p.token, p.at
		p.next()
		if word != "first" && word != "last" && word != "size" {
			p.fail(at, fmt.Sprintf("%s has no %q", name, word), "first, last or size")
		}
		return wordOf(s, word)
	case endToken:
		p.fail(p.at, "the text ends too early", "a number or a name")
	default:
		p.fail(p.at, fmt.Sprintf("unexpected %q", p.token), "a number or a name")
	}
	return 0
}

// word reports whether the token is the word before an address of words.
func (p *parser) word() bool {
	kind := p.peek()
	return p.token == "word" && (kind == numberToken || kind == '(')
}

// wordAddress reads the address of a word, as the device counts them: word 0x300.
func (p *parser) wordAddress() uint64 {
	at := p.at
	p.next()
	number := p.term()
	s, ok := p.names.Word(number)
	switch {
	case p.first != nil:
	case len(p.names.Words) == 0:
		p.fail(at, "nothing here counts words", "an address in bytes; or a device map with a memory whose unit is more than 1")
	case !ok:
		p.fail(at, fmt.Sprintf("no memory has the word %s", memory.FormatAddress(number)), "")
	}
	p.unit = s.Size()
	return s.First
}

func wordOf(s memory.Span, word string) uint64 {
	switch word {
	case "last":
		return s.Last
	case "size":
		return s.Size()
	}
	return s.First
}

func (p *parser) unknownName(name string, at int) {
	if why := p.names.lost[name]; why != "" {
		p.fail(at, fmt.Sprintf("%s has no value: %s", name, why), "")
		return
	}
	if p.names.WithoutAdvice {
		p.fail(at, fmt.Sprintf("unknown name %s", name), "")
		return
	}
	what, expected := "unknown name "+name, ""
	if len(name) > 1 && strings.Trim(name, "0123456789ABCDEFabcdef") == "" {
		expected = "0x" + name + ", if it is a hex number"
	}
	switch known := p.names.Known(); {
	case name+"." == symbolPrefix:
		expected = symbolPrefix + "NAME of an ELF input"
	case len(known) == 0, len(known) == 1 && known[0] == "image":
		what += "; names of memories and regions come from a device map"
		expected = cmp.Or(expected, "a number, such as 0x4000")
	default:
		what += "; " + source.DidYouMean(name, known)
	}
	p.fail(at, what, expected)
}

// number reads the number that the token is.
func (p *parser) number() uint64 {
	if p.kind != numberToken {
		switch {
		case p.kind == endToken:
			p.fail(p.at, "the text ends too early", "a number")
		default:
			p.fail(p.at, fmt.Sprintf("%q is not a number", p.token), "a number such as 0x1F, 31, 0b11111 or 16K")
		}
		return 0
	}
	n := numeral{digits: p.token, at: p.at, base: 10, what: "a decimal number"}
	n.cutBase()
	shift := n.cutUnit()
	value, ok := p.value(n)
	if !ok {
		return 0
	}
	if value > math.MaxUint64>>shift {
		p.fail(n.at, aboveAll, "")
		return 0
	}
	p.next()
	return value << shift
}

const aboveAll = "the number is above the last 64-bit one, 0xFFFF_FFFF_FFFF_FFFF"

// numeral is a number as it is written.
type numeral struct {
	digits string
	at     int // where they stand
	base   uint64
	what   string // what it is, by its base
}

// cutBase takes away the sign of the base.
func (n *numeral) cutBase() {
	if len(n.digits) < 2 || n.digits[0] != '0' {
		return
	}
	switch n.digits[1] {
	case 'x', 'X':
		n.base, n.what = 16, "a hex number"
	case 'b', 'B':
		n.base, n.what = 2, "a binary number"
	default:
		return
	}
	n.digits, n.at = n.digits[2:], n.at+2
}

// cutUnit takes away K, M, G, KiB, MiB or GiB, and returns by how many bits it shifts.
func (n *numeral) cutUnit() (shift int) {
	const units = "KMG"
	if short, ok := strings.CutSuffix(n.digits, "iB"); ok && len(short) > 0 && strings.IndexByte(units, short[len(short)-1]) >= 0 {
		n.digits = short
	}
	if last := len(n.digits) - 1; last >= 0 {
		if k := strings.IndexByte(units, n.digits[last]); k >= 0 {
			n.digits, shift = n.digits[:last], 10*(k+1)
		}
	}
	return shift
}

// digitOf returns the value of a digit up to base 16; more than any base is none.
func digitOf(c byte) uint64 {
	switch {
	case c >= '0' && c <= '9':
		return uint64(c - '0')
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return uint64(c|0x20-'a') + 10
	}
	return 99
}

// value reads the digits.
func (p *parser) value(n numeral) (value uint64, ok bool) {
	for i := range len(n.digits) {
		c := n.digits[i]
		if c == '_' {
			if i == 0 || i == len(n.digits)-1 || n.digits[i+1] == '_' {
				p.fail(n.at+i, "'_' is allowed between digits only", "")
				return 0, false
			}
			continue
		}
		d := digitOf(c)
		if d >= n.base {
			expected := "digits, and K, M, G, KiB, MiB or GiB after them"
			if n.base == 10 && d < 16 {
				expected = "decimal digits, or 0x in front of a hex number"
			}
			if unit := strings.ToUpper(n.digits[i:]); n.base == 10 && i > 0 && len(unit) == 2 && unit[1] == 'B' &&
				strings.IndexByte("KMG", unit[0]) >= 0 {
				p.fail(n.at+i, fmt.Sprintf("%s is 1000 bytes to some and 1024 to others", n.digits[i:]),
					fmt.Sprintf("%s%c or %[1]s%ciB, which count in 1024", n.digits[:i], unit[0], unit[0]))
				return 0, false
			}
			p.fail(n.at+i, fmt.Sprintf("%q is not a digit of %s", c, n.what), expected)
			return 0, false
		}
		hi, lo := bits.Mul64(value, n.base)
		if hi != 0 || lo > math.MaxUint64-d {
			p.fail(n.at, aboveAll, "")
			return 0, false
		}
		value, ok = lo+d, true
	}
	if !ok {
		p.fail(n.at, n.what+" without digits", "")
	}
	return value, ok
}
