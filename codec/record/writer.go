package record

import (
	"encoding/binary"
	"fmt"
	"io"

	"mexalt/memory"
)

// CheckUnits tells what keeps an image from being written in records of length
// data bytes whose addresses count units of so many bytes.
func CheckUnits(m *memory.Image, unit, length uint64) error {
	if unit < 2 {
		return nil
	}
	if length%unit != 0 {
		return fmt.Errorf("%d data bytes in a record are not whole address units of %d bytes", length, unit)
	}
	for _, r := range m.Runs() {
		if r.First%unit != 0 || (r.Last()+1)%unit != 0 {
			return fmt.Errorf("the run %s does not begin and end on whole address units of %d bytes", r.Span(), unit)
		}
	}
	return nil
}

// Writer gathers records and hands them on a large piece at a time.
type Writer struct {
	// W is where the records go.
	W io.Writer
	// LineEnd ends each line: LF or CR LF.
	LineEnd string
	// Complement is what the checksum makes of the sum of a record's bytes,
	// itself included.
	Complement byte

	buf  []byte
	used int
	err  error
}

// LineEnd returns LF, or CR LF.
func LineEnd(crlf bool) string {
	if crlf {
		return "\r\n"
	}
	return "\n"
}

// Record writes one record: its mark of one or two characters, the bytes
// before the data, the data and the checksum, together up to 300 bytes. Errors
// are kept for [Writer.Flush].
func (w *Writer) Record(mark string, head, data []byte) {
	const piece, longest = 64 << 10, 2*300 + 4
	if w.buf == nil {
		w.buf = make([]byte, piece)
	}
	if w.used > piece-longest {
		w.Flush()
	}
	b := w.buf[w.used:]
	n := len(mark)
	b[0], b[n-1] = mark[0], mark[n-1]
	sum := byte(0)
	for _, c := range head {
		sum += c
		binary.LittleEndian.PutUint16(b[n:], texts[c])
		n += 2
	}
	sum += PutData(b[n:], data)
	n += 2 * len(data)
	binary.LittleEndian.PutUint16(b[n:], texts[w.Complement-sum])
	n += 2
	for i := range len(w.LineEnd) {
		b[n] = w.LineEnd[i]
		n++
	}
	w.used += n
}

// Flush hands on what is gathered and returns the first error met.
func (w *Writer) Flush() error {
	if w.err == nil && w.used > 0 {
		_, w.err = w.W.Write(w.buf[:w.used])
	}
	w.used = 0
	return w.err
}

// Failed reports whether writing failed, so that there is no use in going on.
func (w *Writer) Failed() bool { return w.err != nil }
