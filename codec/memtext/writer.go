package memtext

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"io"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/key"
	"mexalt/memory"
)

// Writer writes memory text. The zero value writes bytes in hex, 16 a line.
type Writer struct {
	PerByte   int          // digits of a byte: 2, or 8; 0 is 2
	Unit      int          // bytes in a word, where Word is 0; 0 is 1
	Word      uint64       // bytes in a word, 1 to 64
	Order     memory.Order // little or big; "" is little
	RowLength uint64       // bytes in a line, 1 to 255; 0 is 16
	CRLF      bool
	Comments  bool  // the first and last line say what the words are, and their CRC-32
	Holes     *byte // what holes within a word are written as; nil makes them an error
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	return []*key.Key{
		format.WordKey(&w.Word, mostWord),
		format.OrderKey(&w.Order),
		format.RowLengthKey(&w.RowLength),
		format.CRLFKey(&w.CRLF),
		format.KeyOfHoles(&w.Holes),
		key.Switch(&w.Comments, "comments", "memory text: comments say the words' size, order and CRC-32 (true)"),
	}
}

func (w *Writer) word() uint64 {
	switch {
	case w.Word != 0:
		return w.Word
	case w.Unit != 0:
		return uint64(w.Unit)
	}
	return 1
}

// row returns how many bytes a line has.
func (w *Writer) row() uint64 { return format.RowLength(w.RowLength, w.word()) }

// Check tells what keeps an image from being written, and what is left out.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	if m.Header() != nil {
		notes = append(notes, fmt.Sprintf("the header %q is left out; memory text has none", m.Header()))
	}
	if m.Start().Kind != memory.NoStart {
		notes = append(notes,
			fmt.Sprintf("the start address %s is left out; memory text has none", memory.FormatAddress(m.Start().Address())))
	}
	word := w.word()
	if w.Word != 0 && w.Unit != 0 && w.Word != uint64(w.Unit) {
		return notes, fmt.Errorf("words of %d bytes and addresses that count %d; they count words", w.Word, w.Unit)
	}
	if w.row()%word != 0 {
		return notes, fmt.Errorf("%d bytes in a line are not whole words of %d bytes", w.row(), word)
	}
	_, err = format.WholeWords(m, word, w.Holes)
	return notes, err
}

// Write writes an image.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	const together = 64 << 10
	t := &texter{
		w:     w,
		to:    to,
		word:  w.word(),
		row:   w.row(),
		end:   record.LineEnd(w.CRLF),
		order: cmp.Or(w.Order, memory.Little),
		buf:   make([]byte, 0, together+8<<10),
	}
	if w.Comments {
		t.buf = append(fmt.Appendf(t.buf, headText, t.word, t.order), t.end...)
	}
	m, err := format.WholeWords(m, t.word, w.Holes)
	if err != nil {
		return err
	}
	h := crc32.NewIEEE()
	for _, r := range m.Runs() {
		if w.Comments {
			addRun(h, r)
		}
		if err := t.run(r); err != nil {
			return err
		}
	}
	if w.Comments {
		t.buf = append(fmt.Appendf(t.buf, checkText, h.Sum32()), t.end...)
	}
	return t.flush()
}

// texter makes the text of runs.
type texter struct {
	w     *Writer
	to    io.Writer
	word  uint64
	row   uint64
	order memory.Order
	end   string
	buf   []byte
}

func (t *texter) flush() error {
	_, err := t.to.Write(t.buf)
	t.buf = t.buf[:0]
	return err
}

// run writes a run: its address, then its words, in lines that begin on
// multiples of their length where the run does.
func (t *texter) run(r memory.Run) error {
	t.buf = fmt.Appendf(t.buf, "@%08X%s", r.First/t.word, t.end)
	data, first := r.Data, r.First
	for len(data) > 0 {
		n := min(t.row-first%t.row, uint64(len(data)))
		t.words(data[:n])
		data, first = data[n:], first+n
		const together = 64 << 10
		if len(t.buf) >= together {
			if err := t.flush(); err != nil {
				return err
			}
		}
	}
	return nil
}

// words appends a line of words.
func (t *texter) words(line []byte) {
	const upper = "0123456789ABCDEF"
	word := int(t.word)
	out, n := t.buf[:cap(t.buf)], len(t.buf)
	turn := t.order == memory.Little
	for at := 0; at < len(line); at += word {
		if at > 0 {
			out[n] = ' '
			n++
		}
		for i := range word {
			b := line[at+i]
			if turn {
				b = line[at+word-1-i]
			}
			if t.w.PerByte != 8 {
				out[n], out[n+1] = upper[b>>4], upper[b&15]
				n += 2
				continue
			}
			for bit := 7; bit >= 0; bit-- {
				out[n] = '0' + b>>bit&1
				n++
			}
		}
	}
	t.buf = append(out[:n], t.end...)
}

var _ format.Writer = (*Writer)(nil)
