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
	"fmt"
	"io"
	"sync"
	"unicode"
	"unicode/utf8"

	"mexalt/memory"
	"mexalt/source"
)

// ReadOptions set how a file is read. The zero value reads strictly.
type ReadOptions struct {
	Lenient     bool  // deviations from the standard pass as warnings
	AddressUnit int   // bytes that a record's address counts as one; 0 is 1
	Cores       int   // how many processor cores may share the work; 0 is 1
	Size        int64 // of the file, in bytes; 0 or less where that is not known
}

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

// Statistics counts what a record file holds.
type Statistics struct {
	Lines   int
	Types   [10]int  // records of each type
	Widths  [256]int // data records of each number of data bytes
	InOrder bool     // data records stand in the order of their addresses
}

// Result is what a reader made of a file.
type Result struct {
	Image      *memory.Image
	Statistics Statistics
}

// Reader is the state that the readers of all record formats share.
type Reader struct {
	ReadOptions
	Input    *source.Input
	Problems *source.Problems
	Batch    memory.Batch
	Stats    Statistics

	// Ended is set once the end record was read; what follows it is a
	// deviation, reported once.
	Ended    bool
	afterEnd bool
	lastLine Line
	reserved bool // room was made in the batch
}

// Unit returns how many bytes an address counts as one.
func (r *Reader) Unit() uint64 { return uint64(max(r.AddressUnit, 1)) }

// Report adds a problem at byte index at of a line; at -1 concerns the whole
// line.
func (r *Reader) Report(class Class, line Line, at int, what, expected, advice string) {
	p := &source.Problem{File: r.Input.Name, Line: line.Number, What: what, Expected: expected, Advice: advice}
	if class == Deviation {
		if r.Lenient {
			p.Severity = source.Warning
		} else if advice == "" {
			p.Advice = "-lenient lets it pass"
		}
	}
	if at >= 0 {
		p.Column = utf8.RuneCount(line.Text[:min(at, len(line.Text))]) + 1
	}
	const mostShown = 600 // longer than any record
	p.Text = string(line.Text[:min(len(line.Text), mostShown)])
	r.Problems.Add(p)
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
		r.Report(Deviation, line, 0, "byte-order mark (U+FEFF) before the first record", "", "save the file without it, or -lenient lets it pass")
		at = 3
	}
	if r.Ended && !r.afterEnd {
		r.afterEnd = true
		r.Report(Deviation, line, 0, "something follows the end record", "nothing but white space may", "two files in one? Take them apart and merge them; -lenient reads on")
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
			what, advice := describe(char, digits[i])
			r.Report(Damage, line, at+i, what+" among the digits of a record", "hex digits 0-9 A-F only", advice)
		}
		i += size
	}
	if count > mostPerLine {
		r.Report(Damage, line, at, fmt.Sprintf("%d more characters in this line are no hex digits", count-mostPerLine), "", "the line is no record at all?")
	}
	return count > 0
}

// describe names a character that has no place in a record, and where it
// comes from if that shows.
func describe(char rune, first byte) (what, advice string) {
	const pasted = "looks like damage from copy and paste; take the file itself again"
	switch {
	case char == utf8.RuneError && first >= 0x80:
		return fmt.Sprintf("byte 0x%02X, which is no text,", first), "damaged in transfer, or not a text file"
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
	case char >= '\u2000' && char <= '\u200F' || char == '\u2028' || char == '\u2029' || char == '\u2060' || char == '\uFEFF' || char == '\u3000':
		return fmt.Sprintf("character U+%04X (an invisible space or mark)", char), pasted
	case char >= '\uFF01' && char <= '\uFF5E':
		return fmt.Sprintf("character U+%04X %c (a full-width letter or digit)", char, char), pasted
	case char == 'O' || char == 'o':
		return fmt.Sprintf("character '%c'", char), "a zero was meant?"
	case char == 'l' || char == 'I':
		return fmt.Sprintf("character '%c'", char), "a one was meant?"
	case char == ' ' || char == '\t':
		return fmt.Sprintf("white space (U+%04X)", char), ""
	case char < 0x7F && unicode.IsGraphic(char):
		return fmt.Sprintf("character '%c'", char), ""
	case char < 0x100 && !unicode.IsGraphic(char):
		return fmt.Sprintf("character U+%04X (a control character)", char), "damaged in transfer?"
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
		fmt.Sprintf("the record's other bytes make 0x%02X", expected), "a digit of this line is damaged; take the file again")
	return false
}

// Finish reports a missing end record, and bytes given twice, and returns the
// image. It is called once, after the last line.
func (r *Reader) Finish(endRecord string) *Result {
	if !r.Ended {
		holds := "it is empty"
		if n := len(r.Batch.Data); n > 0 {
			holds = fmt.Sprintf("it holds %s, the last at %s", memory.FormatSize(uint64(n)), memory.FormatAddress(r.Batch.Pieces[len(r.Batch.Pieces)-1].Last()))
		} else if r.Stats.Lines > 0 {
			holds = "it holds no data"
		}
		line, column := r.lastLine, len(r.lastLine.Text)
		if line.Number != r.Stats.Lines || line.Number == 0 {
			line, column = Line{Number: max(r.Stats.Lines, 1)}, -1 // it was a plain one
		}
		r.Report(Deviation, line, column, "the file ends without an end record; "+holds, endRecord+" expected at the end", "cut short by a copy? Take it again, or -lenient lets it pass")
	}
	r.Stats.InOrder = true
	for i := 1; i < len(r.Batch.Pieces); i++ {
		if r.Batch.Pieces[i].First < r.Batch.Pieces[i-1].First {
			r.Stats.InOrder = false
			break
		}
	}
	image, clashes := r.Batch.Image(r.Input)
	for _, c := range clashes {
		early, late := c.Kept.Position, c.Other.Position
		if early > late {
			early, late = late, early
		}
		line := Line{Number: int(late)}
		if c.Differ > 0 {
			r.Report(Damage, line, -1, fmt.Sprintf("bytes at %s are given twice and differ (%s of them)", c.Span, memory.FormatCount(c.Differ)),
				fmt.Sprintf("line %d gives them first", early), "two files in one, or a line edited by hand?")
		} else {
			r.Report(Deviation, line, -1, fmt.Sprintf("bytes at %s are given twice, with the same values", c.Span),
				fmt.Sprintf("line %d gives them first", early), "")
		}
	}
	return &Result{Image: image, Statistics: r.Stats}
}

// Grammar is one record format.
type Grammar interface {
	// Plain decodes records from the start of a block, as long as they are
	// plain, into p, which is empty. It knows nothing of what stood before the
	// block, and may run beside others.
	Plain(block []byte, p *Plain)
	// Join adds what Plain found to what was read so far, lines lines into the
	// file. It reports false, and takes nothing, where what stood before the
	// block makes a difference; the first line must then go through Line.
	Join(p *Plain, lines int) bool
	// Line reads any one line.
	Line(line Line)
}

// Plain is what [Grammar.Plain] found.
type Plain struct {
	memory.Batch     // positions are line numbers in the block, from 0
	Used         int // bytes of the block
	Lines        int
	Types        [10]int
	Widths       [256]int
	Kind         byte   // S-record: type digit of the data records
	Relative     int    // Intel HEX: pieces before the first base record, addresses relative to the base before the block
	Based        bool   // Intel HEX: a base record was met
	Base         uint64 // Intel HEX: the base after the block, where Based
	Segmented    bool   // Intel HEX: the kind of that base
}

func (p *Plain) reset() {
	p.Data, p.Pieces = p.Data[:0], p.Pieces[:0]
	if p.Lines > 0 {
		*p = Plain{Batch: p.Batch}
	}
	p.Used = 0
}

// Take adds a block's batch and counts to the reader. With the first, room is
// made for the rest of the file, as far as it can be told.
func (r *Reader) Take(p *Plain, lines int) {
	const enough = 1 << 10 // text that tells how the rest will be
	if r.Size > 0 && !r.reserved && p.Used >= enough {
		r.reserved = true
		share := float64(r.Size) / float64(p.Used) * 1.02
		r.Batch.Reserve(int(float64(len(p.Data))*share), int(float64(max(len(p.Pieces)-1, 0))*share))
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
	plain Plain
	err   error
	done  chan struct{}
}

// jobs keeps jobs for the next file, so that their memory need not be made
// anew.
var jobs = sync.Pool{New: func() any { return new(job) }}

// Scan reads the lines of in through the grammar, on as many cores as given.
// It returns the number of lines, and the error of in where that fails.
func Scan(in io.Reader, g Grammar, cores int) (lines int, err error) {
	buildPairs()
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
	plain Plain
}

func (s *scanner) block(block []byte, p *Plain) {
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
// the end.
// A line longer than any block is given out in pieces; no record is that long.
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
	b.left = b.left[:0]
	for n < len(buf) && !b.end {
		m, err := b.in.Read(buf[n:])
		n += m
		if err == io.EOF {
			b.end = true
		} else if err != nil {
			return nil, err
		}
	}
	if b.end {
		return buf[:n], nil
	}
	cut := bytes.LastIndexByte(buf[:n], '\n') + 1
	if cut == 0 {
		// A CR at the very end may be the first half of CR LF.
		cut = bytes.LastIndexByte(buf[:n-1], '\r') + 1
	}
	if cut == 0 {
		cut = n
	}
	b.left = append(b.left, buf[cut:n]...)
	return buf[:cut], nil
}
