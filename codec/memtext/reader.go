package memtext

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/memory"
	"mexalt/source"
)

// reader reads one file.
type reader struct {
	perByte int // digits of a byte: 2, or 8

	in       *source.Input
	o        format.ReadOptions
	problems *source.Problems

	text  []byte // whole lines, as many as are at hand
	at    int    // what is looked at
	line  int
	begin int // where the line begins

	count       int // of problems before
	gaveUp      bool
	other       bool // there was more than words: an address or a comment
	commentLine int  // where a comment began that is not closed yet; 0 is none

	width     int // bytes in a word; 0 until known
	order     memory.Order
	said      memory.Order // the order that the first line says
	check     *uint32
	checkLine int
	checked   bool // whether the first line promises a check

	batch memory.Batch
	next  uint64 // the address of the next word's first byte
	over  bool   // the next word would be past the last address
	row   []byte // the bytes of the words of a line
	first uint64 // the address of the row
}

// mostProblems is how many problems are told of one file; a file of another kind
// has one for each word.
const mostProblems = 10_000

// Read reads a text to its end.
func (t *Reader) Read(from io.Reader, in *source.Input, o format.ReadOptions, problems *source.Problems) (*format.Content, error) {
	r := &reader{perByte: t.PerByte}
	in.Counting = source.Lines
	r.in, r.o, r.problems, r.line = in, o, problems, 1
	r.width, r.order = o.Unit, t.Order
	r.row = make([]byte, 0, mostRow)
	record.BuildPairs()
	before := problems.Errors()
	if err := r.windows(from); err != nil {
		return nil, err
	}
	content := &format.Content{Image: &memory.Image{}}
	if problems.Errors() > before {
		return content, nil
	}
	image, clashes := r.batch.Image(in)
	for _, c := range clashes.List {
		early, late := c.Earlier()
		p := late.Problem(fmt.Sprintf("gives %s other values than %s", c.Span, early))
		if c.Differ == 0 {
			p.What = fmt.Sprintf("gives %s a second time, with the same values as %s", c.Span, early)
			if r.o.Lenient {
				p.Severity = source.Warning
			} else {
				p.Advice.AnyOf = []source.Setting{{Key: "lenient", Does: "allows it"}}
			}
		}
		problems.Add(p)
	}
	r.proven(image)
	if r.width == 0 {
		problems.Add(&source.Problem{
			File:     in.Name,
			Severity: source.Warning,
			What:     "the text has no word",
			Expected: "words of digits",
			Advice:   source.Advise("truncated, or the command that wrote it failed"),
		})
	}
	if problems.Errors() == before {
		content.Image = image
	}
	if r.check == nil {
		content.Unproven = "no checksums of its own"
	}
	if r.width > 0 {
		content.WrittenAs = []source.Setting{{Key: "word", Value: strconv.Itoa(r.width)}, {Key: "order", Value: r.bytesOrder().String()}}
		content.Facts = []format.Fact{{Name: "words", Text: wordsText(uint64(r.width), r.bytesOrder())}}
	}
	return content, nil
}

func (r *reader) bytesOrder() memory.Order {
	switch {
	case r.order != "":
		return r.order
	case r.said != "":
		return r.said
	}
	return memory.Little
}

// proven holds the image against the CRC that the text gives, if any.
func (r *reader) proven(image *memory.Image) {
	switch {
	case r.check == nil && r.checked:
		r.problems.Add(&source.Problem{
			File:   r.in.Name,
			Line:   r.line,
			What:   "the CRC-32 that the first line promises is missing",
			Advice: source.Advise("the file may be truncated; get it again"),
		})
	case r.check != nil && *r.check != sum(image):
		p := &source.Problem{
			File:     r.in.Name,
			Line:     r.checkLine,
			What:     fmt.Sprintf("the text says CRC-32 0x%08X", *r.check),
			Expected: fmt.Sprintf("0x%08X, for the words as they are read", sum(image)),
			Advice:   source.Advise("a digit was changed; get the file again"),
		}
		r.problems.Add(p)
	}
}

// problem adds an error at a place of the text.
func (r *reader) problem(at int, format string, args ...any) *source.Problem {
	line := r.text[r.begin:]
	if end := bytes.IndexByte(line, '\n'); end >= 0 {
		line = line[:end]
	}
	line = bytes.TrimRight(line, "\r")
	p := &source.Problem{File: r.in.Name, Line: r.line, What: fmt.Sprintf(format, args...)}
	const longest = 400
	if len(line) <= longest && at >= r.begin && at-r.begin <= len(line) {
		p.Text, p.Column = string(line), utf8.RuneCount(line[:at-r.begin])+1
	}
	r.problems.Add(p)
	return p
}

// windowSize is how much text is read at a time: as much as a processor has at hand.
const windowSize = 256 << 10

// windows reads the text some whole lines at a time. Those of nothing but words are read on
// other cores, as many as there may be, and then joined in their order.
func (r *reader) windows(from io.Reader) error {
	buffer, held := make([]byte, windowSize), 0
	r.count = r.problems.Count()
	var ahead, free []*window
	for {
		n, err := from.Read(buffer[held:])
		held += n
		last := err == io.EOF
		if err != nil && !last {
			return err
		}
		whole := held
		if !last {
			if held < len(buffer) {
				continue
			}
			if whole = bytes.LastIndexByte(buffer[:held], '\n') + 1; whole == 0 {
				buffer = append(buffer, make([]byte, len(buffer))...)
				continue
			}
		}
		// What a word is must be known, from the first window.
		if most := r.o.Cores; most > 1 && r.width > 0 && !last {
			w := &window{}
			if n := len(free) - 1; n >= 0 {
				w, free = free[n], free[:n]
			}
			w.read(r, buffer[:whole])
			ahead = append(ahead, w)
			if len(ahead) > most {
				ahead[0].join(r)
				free, ahead = append(free, ahead[0]), ahead[1:]
			}
		} else {
			for _, w := range ahead {
				w.join(r)
			}
			ahead = nil
			r.lines(buffer[:whole])
		}
		held = copy(buffer, buffer[whole:held])
		if last {
			break
		}
	}
	r.flush()
	if r.commentLine > 0 {
		r.problems.Add(&source.Problem{File: r.in.Name, Line: r.commentLine, What: "a comment is not closed", Expected: "*/"})
	}
	return nil
}

// lines reads whole lines.
func (r *reader) lines(text []byte) {
	r.text, r.at, r.begin = text, 0, 0
	r.all()
}

// window is lines that are read before it is known where they begin, as if that were at
// address 0, on line 1.
type window struct {
	text []byte
	done chan struct{}
	as   reader // what came of it
}

// read begins to read lines, in the room of those that the window had before.
func (w *window) read(r *reader, text []byte) {
	w.text, w.done = append(w.text[:0], text...), make(chan struct{})
	was := &w.as
	w.as = reader{perByte: r.perByte, in: r.in, problems: &source.Problems{}, line: 1, width: r.width, order: r.order, said: r.said,
		row: was.row[:0], batch: memory.Batch{Data: was.batch.Data[:0], Chunks: was.batch.Chunks[:0]}}
	w.as.row = slices.Grow(w.as.row, mostRow)
	w.as.batch.Reserve(len(text)/(r.perByte+1)+mostRow, 16)
	go func() {
		defer close(w.done)
		w.as.lines(w.text)
		w.as.flush()
	}()
}

// join joins lines that were read ahead. Those that are more than words are read again, now
// that all is known that came before them.
func (w *window) join(r *reader) {
	<-w.done
	size := uint64(w.as.batch.Len())
	if w.as.other || w.as.problems.Count() > 0 || r.gaveUp || r.over || r.commentLine > 0 ||
		r.width != w.as.width || r.bytesOrder() != w.as.bytesOrder() || r.next > math.MaxUint64-size {
		r.lines(w.text)
		return
	}
	r.batch.AppendAt(&w.as.batch, r.line-1, r.next)
	r.next += size
	r.line += w.as.line - 1
}

func (r *reader) all() {
	if r.commentLine > 0 {
		r.within()
	}
	for r.at < len(r.text) {
		if r.gaveUp {
			return
		}
		if r.problems.Count()-r.count > mostProblems {
			r.problem(r.at, "and more; it may not be memory text")
			r.gaveUp = true
			return
		}
		switch c := r.text[r.at]; {
		case c == '\n':
			r.flush()
			r.at++
			r.line++
			r.begin = r.at
		case isSpace(c):
			r.at++
		case c == '/':
			r.comment()
		case c == '@':
			r.address()
		default:
			r.word()
		}
	}
}

// flush puts the row into the batch.
func (r *reader) flush() {
	if len(r.row) > 0 {
		r.batch.Add(r.first, r.row, r.line)
		r.row = r.row[:0]
	}
}

// token returns the text from a place to white space, a comment or an address.
func (r *reader) token(from int) []byte {
	end := from
	for end < len(r.text) && !isSpace(r.text[end]) && r.text[end] != '/' && r.text[end] != '@' {
		end++
	}
	return r.text[from:end]
}

func (r *reader) comment() {
	r.other = true
	rest := r.text[r.at:]
	switch {
	case bytes.HasPrefix(rest, []byte("//")):
		end := bytes.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest)
		}
		r.described(bytes.TrimRight(rest[:end], "\r"))
		r.at += end
	case bytes.HasPrefix(rest, []byte("/*")):
		r.flush()
		r.commentLine = r.line
		r.at += 2
		r.within()
	default:
		r.problem(r.at, "'/' is not a digit; a comment begins with // or /*")
		r.at++
	}
}

// within goes on to the end of a comment of several lines, or of the text at
// hand.
func (r *reader) within() {
	rest := r.text[r.at:]
	end := bytes.Index(rest, []byte("*/"))
	if end >= 0 {
		rest = rest[:end+2]
		r.commentLine = 0
	}
	if n := bytes.Count(rest, []byte("\n")); n > 0 {
		r.line += n
		r.begin = r.at + bytes.LastIndexByte(rest, '\n') + 1
	}
	r.at += len(rest)
}

// described takes what a comment of ours says.
func (r *reader) described(comment []byte) {
	if value, ok := parseCheck(comment); ok {
		r.check, r.checkLine = &value, r.line
		return
	}
	width, order, ok := parseHead(comment)
	if !ok || r.checked {
		return
	}
	r.said, r.checked = order, true
	switch {
	case r.width != 0 && r.width != width || r.order != "" && r.order != r.said:
		r.problem(r.at, "the text says that its words are of %s; %s is asked for", wordsText(uint64(width), r.said),
			wordsText(uint64(max(r.width, width)), r.bytesOrder()))
		r.gaveUp = true
	case width == 0 || width > mostWord:
		r.problem(r.at, "the text gives %d-byte words; expected 1 to %d bytes", width, mostWord)
	default:
		r.width = width
	}
}

func (r *reader) address() {
	r.other = true
	r.flush()
	begin := r.at
	digits := r.token(r.at + 1)
	r.at += 1 + len(digits)
	text := strings.ReplaceAll(string(digits), "_", "")
	n, err := strconv.ParseUint(text, 16, 64)
	switch {
	case text == "" || slices.ContainsFunc([]byte(text), func(c byte) bool { return !record.IsDigit(c) }):
		r.problem(begin, "@%s is not an address; expected hex digits after @", cut(digits))
	case err != nil || r.width > 0 && n > math.MaxUint64/uint64(r.width):
		r.problem(begin, "@%s is past the last 64-bit address", cut(digits))
	case r.width == 0:
		// The width shows with the first word.
		r.next, r.over = n, false
	default:
		r.next, r.over = n*uint64(r.width), false
	}
}

// cut returns a text as a message quotes it.
func cut(text []byte) string {
	const most = 40
	if len(text) > most {
		return string(text[:most]) + "..."
	}
	return string(text)
}

func (r *reader) word() {
	begin := r.at
	if r.perByte == 2 && r.width > 0 && r.plain() {
		return
	}
	token := r.token(r.at)
	r.at += len(token)
	digits := 0
	for i, c := range token {
		switch {
		case c == '_' && i > 0:
		case c|0x20 == 'x' || c|0x20 == 'z' || c == '?':
			r.problem(begin+i, "%q is an unknown or open value, which no byte has", c)
			return
		case r.perByte == 2 && !record.IsDigit(c), r.perByte == 8 && c != '0' && c != '1':
			bad, _ := utf8.DecodeRune(token[i:])
			r.problem(begin+i, "%q is not a digit of a word", bad)
			return
		default:
			digits++
		}
	}
	if r.width == 0 {
		if digits == 0 || digits%r.perByte != 0 || digits/r.perByte > mostWord {
			r.problem(begin, "the first word has %s, not a whole number of bytes up to %d", memory.FormatNumber(digits, "digit"), mostWord)
			r.width = 1
			return
		}
		r.width = digits / r.perByte
		if r.next > math.MaxUint64/uint64(r.width) {
			r.problem(begin, "the address before it is past the last 64-bit address")
			return
		}
		r.next *= uint64(r.width)
	}
	switch want := r.width * r.perByte; {
	case digits > want || digits == 0:
		r.problem(begin, "the word %s has %s; expected %d digits", cut(token), memory.FormatNumber(digits, "digit"), want)
		return
	case digits < want:
		p := &source.Problem{
			File:     r.in.Name,
			Line:     r.line,
			Column:   begin - r.begin + 1,
			What:     fmt.Sprintf("the word %s has %s", cut(token), memory.FormatNumber(digits, "digit")),
			Expected: fmt.Sprintf("%d", want),
		}
		if r.o.Lenient {
			p.Severity, p.Advice, p.Doubt = source.Warning, source.Advise("zeros are put before it"), source.ShortWord
		} else {
			p.Advice.AnyOf = []source.Setting{{Key: "lenient", Does: "puts zeros before it"}}
		}
		r.problems.Add(p)
	}
	var value [mostWord]byte
	whole := value[:r.width] // the highest byte first
	bit := r.width * 8
	perDigit := 8 / r.perByte
	for i := len(token) - 1; i >= 0; i-- {
		if token[i] == '_' {
			continue
		}
		bit -= perDigit
		digit := byte(record.Pair('0', token[i]))
		whole[bit/8] |= digit << (8 - perDigit - bit%8)
	}
	r.take(begin, whole)
}

// plain takes words of just as many hex digits as they should have, one space or
// the line's end behind each, as far as they follow one another and fit into the
// row. It reports whether there was one.
func (r *reader) plain() bool {
	const farFromEnd = math.MaxUint64 - 2*mostRow
	width, at, text := r.width, r.at, r.text
	if r.over || r.next > farFromEnd || len(r.row)+width > mostRow {
		return false
	}
	begun := len(r.row)
	row := r.row[:begun]
	if width == 1 {
		row, at = plainBytes(row, text, at)
	} else {
		row, at = r.plainWords(row, text, at)
	}
	taken := len(row) - begun
	if taken == 0 {
		return false
	}
	if begun == 0 {
		r.first = r.next
	}
	if r.batch.Len() == 0 {
		// As much as the text can hold, with a space behind each word.
		r.batch.Reserve(int(max(r.o.Size, 0))/(2*width+1)*width+width, 16)
	}
	r.row, r.at = row, at
	r.next += uint64(taken)
	return true
}

// plainBytes takes words of one byte.
func plainBytes(row, text []byte, at int) ([]byte, int) {
	room, rest, n := row[len(row):mostRow], text[at:], 0
	for len(rest) > 2 && n < len(room) {
		word := (*[3]byte)(rest)
		p := record.At(word[:])
		if p < record.Digits || word[2] != ' ' && word[2] != '\n' && word[2] != '\r' {
			break
		}
		room[n] = byte(p)
		n++
		rest = rest[2:]
		if word[2] != ' ' {
			break
		}
		rest = rest[1:]
	}
	return row[:len(row)+n], len(text) - len(rest)
}

// plainWords takes words of several bytes.
func (r *reader) plainWords(row, text []byte, at int) ([]byte, int) {
	width, turn := r.width, r.bytesOrder() == memory.Little
	for end := at + 2*width; end < len(text) && len(row)+width <= mostRow; end = at + 2*width {
		behind := text[end]
		if behind != ' ' && behind != '\n' && behind != '\r' {
			break
		}
		n := len(row)
		row = row[:n+width]
		digits, word, all := text[at:end], row[n:], uint16(record.Digits)
		for i := range word {
			from := 2 * i
			if turn {
				from = 2 * (width - 1 - i)
			}
			p := record.At(digits[from : from+2])
			word[i] = byte(p)
			all &= p
		}
		if all == 0 {
			return row[:n], at
		}
		if at = end; behind != ' ' {
			break
		}
		at++
	}
	return row, at
}

// mostRow is how many bytes of a line are put into the batch at once.
const mostRow = 255

// take takes a word, its highest byte first.
func (r *reader) take(begin int, whole []byte) {
	if r.over || r.next > math.MaxUint64-uint64(len(whole)-1) {
		r.problem(begin, "the word runs past the last 64-bit address")
		r.over = true
		return
	}
	if len(r.row)+len(whole) > mostRow {
		r.flush()
	}
	if len(r.row) == 0 {
		r.first = r.next
	}
	if r.bytesOrder() == memory.Little {
		for i := len(whole) - 1; i >= 0; i-- {
			r.row = append(r.row, whole[i])
		}
	} else {
		r.row = append(r.row, whole...)
	}
	r.next += uint64(len(whole))
	r.over = r.next == 0
}
