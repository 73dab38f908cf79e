// Package record holds what the record formats share: text of lines, each a
// mark and hex digits that end in a checksum.
//
// A file is read twice over, so to speak. Plain records, which are nearly all,
// are decoded a block at a time, on several cores, by [Grammar.Plain], which
// stops at whatever it does not find plain. Each line at which it stopped goes
// through [Grammar.Line], which knows the whole format and says exactly what
// is wrong and where. Both give the same image.
package record

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"
	"sync"
	"unicode"
	"unicode/utf8"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// Class is how far something in a file departs from its standard.
type Class uint8

const (
	// Damage is always an error.
	Damage Class = iota
	// Deviation is an error, or a warning where the reader is lenient.
	Deviation
)

// Line is one line of a file.
type Line struct {
	Number     int    // from 1
	Text       []byte // without its line end
	Terminated bool   // whether it had a line end
}

// Reader is the state that the readers of all record formats share.
type Reader struct {
	format.ReadOptions
	Input    *source.Input
	Problems *source.Problems
	Batch    memory.Batch
	Stats    format.Records

	// Ended is set once the end record was read; what follows it is a
	// deviation, reported once.
	Ended    bool
	afterEnd bool
	lastLine Line
	reserved bool   // room was made in the batch
	Word     string // what keys call the format
	torn     torn
}

// torn is a record that ends too early, and may go on in the lines behind it.
type torn struct {
	text    []byte          // of the record, so far; nil is none
	first   int             // the line in which it begins
	problem *source.Problem // that it is too short
}

// BytesPerAddress returns how many bytes an address counts as one.
func (r *Reader) BytesPerAddress() uint64 { return uint64(max(r.Unit, 1)) }

// Report adds a problem at byte index at of a line; at -1 concerns the whole
// line. It returns the problem.
func (r *Reader) Report(class Class, line Line, at int, what, expected, advice string) *source.Problem {
	p := r.problem(line, at, what, expected, advice)
	if class == Deviation {
		r.lenient(p, "allows it")
	}
	r.Problems.Add(p)
	return p
}

// Deviates adds a deviation, of which does says what reading leniently does
// with it. It returns the problem.
func (r *Reader) Deviates(line Line, at int, what, expected, advice, does string) *source.Problem {
	p := r.problem(line, at, what, expected, advice)
	r.lenient(p, does)
	r.Problems.Add(p)
	return p
}

// Warn adds a warning, and returns it.
func (r *Reader) Warn(line Line, at int, what, expected, advice string) *source.Problem {
	p := r.problem(line, at, what, expected, advice)
	p.Severity = source.Warning
	r.Problems.Add(p)
	return p
}

// Short reports a record that ends before its length says. Where the lines behind it
// turn out to be the rest of it, [Reader.Continues] says that instead.
func (r *Reader) Short(line Line, text []byte, at int, what, expected, advice string) {
	p := r.Report(Damage, line, at, what, expected, advice)
	r.torn = torn{bytes.Clone(text), line.Number, p}
}

// Continues reports whether a line is the rest of the record before it, which an
// editor or a mail program broke in two. whole tells whether a text is a sound
// record; longest is how many characters one may have.
func (r *Reader) Continues(line Line, text []byte, longest int, whole func([]byte) bool) bool {
	t := &r.torn
	if t.text == nil || !allDigits(text) || len(t.text)+len(text) > longest {
		t.text = nil
		return false
	}
	t.text = append(t.text, text...)
	if !whole(t.text) {
		return false
	}
	and, pieces := "and", "two"
	if line.Number > t.first+1 {
		and, pieces = "to", "pieces"
	}
	p := t.problem
	p.What, p.Expected = fmt.Sprintf("lines %d %s %d are one record broken into %s", t.first, and, line.Number, pieces),
		"one record on one line"
	p.Advice = source.Advise("an editor or a mail program wrapped it; join the lines, or get the file again")
	p.Column = 0
	t.text = nil
	return true
}

func allDigits(text []byte) bool {
	return !slices.ContainsFunc(text, func(c byte) bool { return !IsDigit(c) })
}

func (r *Reader) lenient(p *source.Problem, does string) {
	if r.Lenient {
		p.Severity = source.Warning
		return
	}
	p.Advice.AnyOf = []source.Setting{{Key: "lenient", Does: does}}
}

func (r *Reader) problem(line Line, at int, what, expected, advice string) *source.Problem {
	p := &source.Problem{File: r.Input.Name, Line: line.Number, What: what, Expected: expected, Advice: source.Advise(advice)}
	if at >= 0 {
		p.Column = utf8.RuneCount(line.Text[:min(at, len(line.Text))]) + 1
	}
	const mostShown = 600 // longer than any record
	p.Text = string(line.Text[:min(len(line.Text), mostShown)])
	return p
}

// Begin looks at the outside of a line: it reports what stands before the
// record mark and after the end record, and returns the line's text from the
// mark on, without white space behind, and its index in the line. Text that
// is empty needs no further look.
func (r *Reader) Begin(line Line) (text []byte, at int) {
	r.lastLine = line
	text = bytes.TrimRight(line.Text, " \t")
	if r.Ended {
		text = bytes.TrimRight(text, " \t\x1a")
	}
	if len(text) == 0 {
		return nil, 0
	}
	if line.Number == 1 && bytes.HasPrefix(text, []byte("\xEF\xBB\xBF")) {
		r.Report(Deviation, line, 0, "byte-order mark (U+FEFF) before the first record", "", "save the file without it")
		at = 3
	}
	if r.Ended && !r.afterEnd {
		r.afterEnd = true
		q := r.Deviates(line, 0, "data after the end record", "nothing but white space",
			"the file may be two files joined; split it and merge the two with mexalt", "reads on")
		q.Doubt = source.AfterEnd
	}
	body := bytes.TrimLeft(text[at:], " \t")
	if len(body) == 0 {
		return nil, 0
	}
	if skipped := len(text) - at - len(body); skipped > 0 {
		r.Report(Deviation, line, at, "white space before the record mark", "", "")
		at += skipped
	}
	return body, at
}

// Bytes decodes the hex digits of a record, which begin at index at of the
// line, and reports all that are none. ok is false where there was one, or
// where a digit is left over.
func (r *Reader) Bytes(line Line, digits []byte, at int) (data []byte, ok bool) {
	if r.strayCharacters(line, digits, at) {
		return nil, false
	}
	data = make([]byte, len(digits)/2)
	for i := range data {
		data[i] = nibble[digits[2*i]]<<4 | nibble[digits[2*i+1]]
	}
	return data, true
}

// strayCharacters reports what is no hex digit.
func (r *Reader) strayCharacters(line Line, digits []byte, at int) (found bool) {
	const mostPerLine = 5
	count := 0
	for i := 0; i < len(digits); {
		if nibble[digits[i]] != noNibble {
			i++
			continue
		}
		char, size := utf8.DecodeRune(digits[i:])
		if count++; count <= mostPerLine {
			what, advice := describe(char, digits[i], size)
			r.Report(Damage, line, at+i, what+" among the digits of a record", "hex digits 0-9 A-F only", advice)
		}
		i += size
	}
	if count > mostPerLine {
		r.Report(Damage, line, at, fmt.Sprintf("%d more characters in this line are not hex digits", count-mostPerLine), "",
			"the line may not be a record at all")
	}
	return count > 0
}

// describe names a character that has no place in a record, and where it
// comes from if that shows.
func describe(char rune, first byte, size int) (what, advice string) {
	const pasted = "looks like copy-and-paste damage; get the original file"
	switch {
	case char == utf8.RuneError && size == 1:
		return fmt.Sprintf("byte 0x%02X, which is not text,", first), "damaged in transfer, or not a text file"
	case char == utf8.RuneError:
		return "character U+FFFD � (the replacement for text that could not be read)", "the file was converted as text; get the file itself"
	case char == 0:
		return "character U+0000 (NUL)", "damaged in transfer, or saved as UTF-16"
	case char == '\u00A0' || char == '\u202F' || char == '\u2007':
		return fmt.Sprintf("character U+%04X (a no-break space)", char), pasted
	case char >= '\u2018' && char <= '\u201F' || char == '«' || char == '»':
		return fmt.Sprintf("character U+%04X %c (a typographic quote)", char, char), pasted
	case char >= '\u2010' && char <= '\u2015' || char == '\u2212' || char == '\u00AD':
		return fmt.Sprintf("character U+%04X (a dash or hyphen)", char), pasted
	case char == '\u2026':
		return "character U+2026 … (an ellipsis)", pasted
	case char >= '\u2000' && char <= '\u200F', char == '\u2028', char == '\u2029', char == '\u2060', char == '\uFEFF', char == '\u3000':
		return fmt.Sprintf("character U+%04X (an invisible space or mark)", char), pasted
	case char >= '\uFF01' && char <= '\uFF5E':
		return fmt.Sprintf("character U+%04X %c (a full-width letter or digit)", char, char), pasted
	case char == 'O' || char == 'o':
		return fmt.Sprintf("character '%c'", char), "use the digit 0"
	case char == 'l' || char == 'I':
		return fmt.Sprintf("character '%c'", char), "use the digit 1"
	case char == ' ' || char == '\t':
		return fmt.Sprintf("white space (U+%04X)", char), ""
	case char < 0x7F && unicode.IsGraphic(char):
		return fmt.Sprintf("character '%c'", char), ""
	case char < 0x100 && !unicode.IsGraphic(char):
		return fmt.Sprintf("character U+%04X (a control character)", char), "damaged in transfer"
	case unicode.IsGraphic(char):
		return fmt.Sprintf("character U+%04X %c", char, char), ""
	}
	return fmt.Sprintf("character U+%04X", char), ""
}

// Checksum reports a checksum that is not what the record's other bytes make.
func (r *Reader) Checksum(line Line, at int, found, expected byte) bool {
	if found == expected {
		return true
	}
	r.Report(Damage, line, at, fmt.Sprintf("checksum is 0x%02X", found),
		fmt.Sprintf("0x%02X, computed from the record", expected), "a digit of this line is damaged; get the file again")
	return false
}

// Finish reports a missing end record, bytes given twice and lines that seem to
// be lost, and returns the image. It is called once, after the last line.
func (r *Reader) Finish(endRecord string) *format.Content {
	if !r.Ended {
		holds := "it is empty"
		if n := r.Batch.Len(); n > 0 {
			holds = fmt.Sprintf("it has %s, the last at %s", memory.FormatSize(uint64(n)),
				memory.FormatAddress(r.Batch.Chunks[len(r.Batch.Chunks)-1].Last()))
		} else if r.Stats.Lines > 0 {
			holds = "it has no data"
		}
		line, column := r.lastLine, len(r.lastLine.Text)
		if line.Number != r.Stats.Lines || line.Number == 0 {
			line, column = Line{Number: max(r.Stats.Lines, 1)}, -1 // it was a plain one
		}
		q := r.Report(Deviation, line, column, "the file has no end record; "+holds, endRecord+" at the end",
			"the copy may be incomplete; get the file again")
		q.Doubt = source.MissingEnd
	}
	r.Stats.InOrder = true
	for i := 1; i < len(r.Batch.Chunks); i++ {
		if r.Batch.Chunks[i].First < r.Batch.Chunks[i-1].First {
			r.Stats.InOrder = false
			break
		}
	}
	r.checkGaps()
	r.checkUnit()
	image, clashes := r.Batch.Image(r.Input)
	for _, c := range clashes.List {
		early, late := c.Kept.Position, c.Other.Position
		if early > late {
			early, late = late, early
		}
		line := Line{Number: int(late)}
		if c.Differ > 0 {
			r.Stats.Differ = true
			r.Report(Damage, line, -1,
				fmt.Sprintf("bytes at %s are given twice and differ (%s of them)", c.Span, memory.FormatCount(c.Differ)),
				fmt.Sprintf("one line for each byte (the first is line %d)", early), "the file may be two files joined, or edited by hand")
		} else {
			r.Report(Deviation, line, -1, fmt.Sprintf("bytes at %s are given twice, with the same values", c.Span),
				fmt.Sprintf("one line for each byte (the first is line %d)", early), "")
		}
	}
	if more := clashes.Count - len(clashes.List); more > 0 {
		class := Deviation
		if clashes.Differing > 0 {
			class = Damage
		}
		r.Report(class, Line{Number: r.Stats.Lines}, -1,
			fmt.Sprintf("%s more stretches are given twice; in %s of all, bytes differ", memory.FormatCount(uint64(more)),
				memory.FormatCount(uint64(clashes.Differing))), "", "")
	}
	return &format.Content{Image: image, Records: &r.Stats}
}

// lines returns how many lines a piece spans, all of whose lines are full but
// perhaps the last.
func lines(p *memory.Chunk) uint64 { return (uint64(p.More) + uint64(p.Each)) / uint64(p.Each) }

// checkGaps warns where between regular records, on lines that follow one
// another, just a few whole ones seem to be left out: so a lost line looks.
func (r *Reader) checkGaps() {
	const few = 4 // records lost
	told := 0
	for i := 1; i < len(r.Batch.Chunks); i++ {
		p, q := &r.Batch.Chunks[i-1], &r.Batch.Chunks[i]
		if p.Each == 0 || q.Each != p.Each || q.First <= p.Last()+1 || lines(p) < 2 || lines(q) < 2 ||
			(uint64(p.More)+1)%uint64(p.Each) != 0 {
			continue
		}
		last := uint64(p.Position) + lines(p) - 1
		gap := q.First - p.Last() - 1
		if uint64(q.Position) != last+1 || gap%uint64(p.Each) != 0 || gap/uint64(p.Each) > few {
			continue
		}
		const mostTold = 20
		if told++; told > mostTold {
			return
		}
		records := memory.FormatNumber(gap/uint64(p.Each), "record")
		hole := memory.Span{First: p.Last() + 1, Last: q.First - 1}
		what := fmt.Sprintf("just %s of %d bytes left out between lines %d and %d, at %s", records, p.Each, last, q.Position, hole)
		w := r.Warn(Line{Number: int(q.Position)}, -1, what, "", "a line may be lost; get the file again, or compare it with another copy")
		w.Doubt = source.LostLine
	}
}

// checkUnit warns where records overlap, or leave gaps as long as they are
// themselves, as they do where an address counts another number of bytes than
// was said.
func (r *Reader) checkUnit() {
	const least = 4 // pairs of records that show it
	var fits [4]int // advance of half, twice, four times, a quarter of the length
	pairs := 0
	for i := 1; i < len(r.Batch.Chunks); i++ {
		p, q := &r.Batch.Chunks[i-1], &r.Batch.Chunks[i]
		if p.Each == 0 || q.First <= p.First || uint64(q.Position) != uint64(p.Position)+lines(p) {
			continue
		}
		pairs += int(lines(p)) // the records of one piece fit as they are
		size := uint64(p.More) + 1
		switch q.First - p.First {
		case size / 2:
			fits[0]++
		case 2 * size:
			fits[1]++
		case 4 * size:
			fits[2]++
		case size / 4:
			fits[3]++
		}
	}
	unit := r.BytesPerAddress()
	say := func(better uint64, how string) {
		p := &source.Problem{File: r.Input.Name, Severity: source.Warning,
			What:     fmt.Sprintf("with %s an address the records %s", memory.FormatBytes(unit), how),
			Expected: "records that continue one another"}
		if r.fits(better) {
			p.Advice = source.Advice{
				AnyOf: []source.Setting{{Key: "from", Value: fmt.Sprintf("%s:%d", r.Word, better), Does: "reads them so"}},
			}
		}
		r.Problems.Add(p)
	}
	switch most := max(fits[0], fits[1], fits[2], fits[3]); {
	case most < least || most*10 < pairs*9:
	case most == fits[0] && unit < 4:
		say(2*unit, "overlap by half")
	case most == fits[1] && unit > 1:
		say(unit/2, "leave gaps as long as they are")
	case most == fits[2] && unit == 4:
		say(1, "leave gaps three times as long as they are")
	case most == fits[3] && unit == 1:
		say(4, "overlap by three quarters")
	}
}

// fits reports whether no two records would have the same address if an address counted so
// many bytes.
func (r *Reader) fits(bytesPerAddress uint64) bool {
	unit := r.BytesPerAddress()
	var spans []memory.Span
	for i := range r.Batch.Chunks {
		p := &r.Batch.Chunks[i]
		first := p.First / unit * bytesPerAddress
		size := uint64(p.More) + 1
		if p.Each > 0 && lines(p) > 1 {
			if bytesPerAddress < unit {
				return false // each record would begin within the one before it
			}
			before := (lines(p) - 1) * uint64(p.Each) // bytes of the records before the last
			size += before/unit*bytesPerAddress - before
		}
		s, ok := memory.SpanOf(first, size)
		if !ok {
			return false
		}
		spans = append(spans, s)
	}
	slices.SortFunc(spans, func(a, b memory.Span) int { return cmp.Compare(a.First, b.First) })
	for i := 1; i < len(spans); i++ {
		if spans[i].First <= spans[i-1].Last {
			return false
		}
	}
	return true
}

// Grammar is one record format.
type Grammar interface {
	// Plain decodes records from the start of a block, as long as they are
	// plain, into p, which is empty. It knows nothing of what stood before the
	// block, and may run beside others.
	Plain(block []byte, p *Block)
	// Join adds what Plain found to what was read so far, lines lines into the
	// file. It reports false, and takes nothing, where what stood before the
	// block makes a difference; the first line must then go through Line.
	Join(p *Block, lines int) bool
	// Line reads any one line.
	Line(line Line)
}

// Block is what [Grammar.Plain] found.
type Block struct {
	memory.Batch     // positions are line numbers in the block, from 0
	Used         int // bytes of the block
	Lines        int
	Types        [10]int
	Widths       [256]int
	State        any // what the grammar has to know of the block when it is joined
}

// Chunks joins the data of records that carry one another on into the pieces of a block.
type Chunks struct {
	block *Block
	chunk memory.Chunk
	next  uint64 // the address that carries the piece on
	line  int    // the line that does
	full  bool   // the piece's last line is as long as its first
}

// NewChunks begins the pieces of a block.
func (p *Block) NewChunks() Chunks { return Chunks{block: p} }

// Add adds the n bytes of a line, at an address; ref is where they are in the block's data.
func (s *Chunks) Add(address uint64, n, line, ref int) {
	if address == s.next && line == s.line && s.full && n <= int(s.chunk.Each) {
		s.chunk.More += uint32(n)
		s.full = n == int(s.chunk.Each)
	} else {
		s.End()
		s.chunk = memory.Chunk{First: address, Position: uint32(line), More: uint32(n - 1), Ref: uint32(ref), Each: uint8(n)}
		s.full = true
	}
	s.next, s.line = address+uint64(n), line+1
}

// End ends a piece: what follows does not carry it on.
func (s *Chunks) End() {
	if s.chunk.Each > 0 {
		s.block.Chunks = append(s.block.Chunks, s.chunk)
		s.chunk.Each = 0
	}
	s.full = false
}

// NextLine returns where the line after a record begins that ends at end; ok is false
// where the record does not end its line. One byte behind the line end must be there.
func NextLine(text []byte, end int) (next int, ok bool) {
	switch text[end] {
	case '\n':
		return end + 1, true
	case '\r':
		if text[end+1] == '\n' {
			return end + 2, true
		}
		return end + 1, true
	}
	return end, false
}

func (p *Block) reset() {
	p.Data, p.Chunks = p.Data[:0], p.Chunks[:0]
	if p.Lines > 0 {
		*p = Block{Batch: p.Batch}
	}
	p.Used = 0
}

// Take adds a block's batch and counts to the reader. With the first, room is
// made for the rest of the file, as far as it can be told.
func (r *Reader) Take(p *Block, lines int) {
	const enough = 1 << 10 // text that tells how the rest will be
	if r.Size > 0 && !r.reserved && p.Used >= enough {
		r.reserved = true
		share := float64(r.Size) / float64(p.Used) * 1.02
		r.Batch.Reserve(int(float64(len(p.Data))*share), int(float64(max(len(p.Chunks)-1, 0))*share))
	}
	r.Batch.Append(&p.Batch, lines+1)
	for t, n := range p.Types {
		r.Stats.Types[t] += n
	}
	for w, n := range p.Widths {
		if n > 0 {
			r.Stats.Widths[w] += n
		}
	}
}

// Blocks are large enough that what is done once for each does not count. The
// first is small, as most files are.
const (
	blockSize      = 256 << 10
	firstBlockSize = 16 << 10
)

// job is a block on its way through [Scan].
type job struct {
	block []byte
	plain Block
	err   error
	done  chan struct{}
}

// jobs keeps jobs for the next file, so that their memory need not be made
// anew.
var jobs = sync.Pool{New: func() any { return new(job) }}

// Scan reads the lines of in through the grammar, on as many cores as given.
// It returns the number of lines, and the error of in where that fails.
func Scan(in io.Reader, g Grammar, cores int) (lines int, err error) {
	BuildPairs()
	s := scanner{g: g}
	blocks := blockReader{in: in}
	j := jobs.Get().(*job)
	defer func() { jobs.Put(j) }()
	for {
		if j.block, err = blocks.next(j.block); err != nil || len(j.block) == 0 {
			return s.lines, err
		}
		if cores > 1 && !blocks.end {
			break // worth the trouble
		}
		j.plain.reset()
		g.Plain(j.block, &j.plain)
		s.block(j.block, &j.plain)
	}

	// A block goes to whichever core is free, and waits in the queue for its
	// turn to be joined.
	depth := cores + 2
	work, queue, free := make(chan *job, depth), make(chan *job, depth), make(chan *job, depth)
	for range depth {
		free <- jobs.Get().(*job)
	}
	for range cores {
		go func() {
			for j := range work {
				j.plain.reset()
				g.Plain(j.block, &j.plain)
				close(j.done)
			}
		}()
	}
	go func() {
		defer close(queue)
		defer close(work)
		for first := true; ; first = false {
			next := <-free
			next.done = make(chan struct{})
			if first {
				next.block, j.block = j.block, next.block
			} else {
				next.block, next.err = blocks.next(next.block)
			}
			if next.err != nil || len(next.block) == 0 {
				close(next.done)
				queue <- next
				return
			}
			work <- next
			queue <- next
		}
	}()
	for next := range queue {
		<-next.done
		if err = next.err; err != nil || len(next.block) == 0 {
			next.err = nil
			jobs.Put(next)
			break
		}
		s.block(next.block, &next.plain)
		free <- next
	}
	for len(free) > 0 {
		jobs.Put(<-free)
	}
	return s.lines, err
}

// scanner takes blocks in their order.
type scanner struct {
	g     Grammar
	lines int
	plain Block
}

func (s *scanner) block(block []byte, p *Block) {
	for len(block) > 0 {
		if p == nil {
			p = &s.plain
			p.reset()
			s.g.Plain(block, p)
		}
		if p.Used > 0 && s.g.Join(p, s.lines) {
			s.lines += p.Lines
			block = block[p.Used:]
		}
		p = nil
		if len(block) > 0 {
			text, rest, terminated := cutLine(block)
			s.lines++
			s.g.Line(Line{s.lines, text, terminated})
			block = rest
		}
	}
}

// cutLine cuts a block after its first line. LF, CR LF and CR end a line.
func cutLine(block []byte) (text, rest []byte, terminated bool) {
	i := bytes.IndexByte(block, '\n')
	head := block
	if i >= 0 {
		head = block[:i]
	}
	if j := bytes.IndexByte(head, '\r'); j >= 0 {
		if j+1 == i {
			return block[:j], block[i+1:], true
		}
		return block[:j], block[j+1:], true
	}
	if i < 0 {
		return block, nil, false
	}
	return head, block[i+1:], true
}

// blockReader cuts its input into blocks of whole lines.
type blockReader struct {
	in    io.Reader
	left  []byte // read, but not yet given out
	begun bool
	end   bool
}

// next returns the next block, in buf where that has room, and an empty one at
// the end. Of a line longer than a block, which no record is, only the
// beginning is given out.
func (b *blockReader) next(buf []byte) ([]byte, error) {
	if b.end && len(b.left) == 0 {
		return buf[:0], nil
	}
	size := blockSize
	if !b.begun {
		b.begun, size = true, firstBlockSize
	}
	if cap(buf) < size {
		buf = make([]byte, size)
	}
	buf = buf[:size]
	n := copy(buf, b.left)
	b.left = append(b.left[:0], b.left[n:]...)
	for n < len(buf) && !b.end {
		m, err := b.read(buf[n:])
		if n += m; err != nil {
			return nil, err
		}
	}
	if b.end && len(b.left) == 0 {
		return buf[:n], nil
	}
	cut := bytes.LastIndexByte(buf[:n], '\n') + 1
	if cut == 0 {
		// A CR at the very end may be the first half of CR LF.
		cut = bytes.LastIndexByte(buf[:n-1], '\r') + 1
	}
	if cut == 0 {
		b.left = slices.Insert(b.left, 0, buf[n-1])
		return b.skip(buf[:n-1])
	}
	b.left = slices.Insert(b.left, 0, buf[cut:n]...)
	return buf[:cut], nil
}

func (b *blockReader) read(into []byte) (int, error) {
	n, err := b.in.Read(into)
	if err == io.EOF {
		b.end, err = true, nil
	}
	return n, err
}

// skip reads on to the end of a line of which head is the beginning, and
// returns that with the line end.
func (b *blockReader) skip(head []byte) ([]byte, error) {
	more := make([]byte, blockSize+len(b.left))
	n := copy(more, b.left)
	b.left = b.left[:0]
	for {
		if i := bytes.IndexAny(more[:n], "\r\n"); i >= 0 {
			head = append(head, '\n')
			for more[i] == '\r' && i+1 == n && !b.end {
				// Whether CR or CR LF shows with the next byte.
				m, err := b.read(more[n : n+1])
				if err != nil {
					return nil, err
				}
				n += m
			}
			if more[i] == '\r' && i+1 < n && more[i+1] == '\n' {
				i++
			}
			b.left = append(b.left, more[i+1:n]...)
			return head, nil
		}
		if b.end {
			return head, nil
		}
		var err error
		if n, err = b.read(more[:blockSize-1]); err != nil {
			return nil, err
		}
	}
}
