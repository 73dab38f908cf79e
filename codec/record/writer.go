package record

import "io"

// Writer gathers records and hands them on a large piece at a time.
type Writer struct {
	// W is where the records go.
	W io.Writer
	// LineEnd ends each line: LF or CR LF.
	LineEnd string
	// Complement is what the checksum makes of the sum of a record's bytes,
	// itself included.
	Complement byte

	buf []byte
	err error
}

// LineEnd returns LF, or CR LF.
func LineEnd(crlf bool) string {
	if crlf {
		return "\r\n"
	}
	return "\n"
}

// Record writes one record: its mark, the bytes before the data, the data and
// the checksum. Errors are kept for [Writer.Flush].
func (w *Writer) Record(mark string, head, data []byte) {
	const piece, longest = 1 << 16, 2 * 300
	if w.buf == nil {
		w.buf = make([]byte, 0, piece+longest)
	}
	b := append(w.buf, mark...)
	b, sum := AppendData(b, head)
	b, more := AppendData(b, data)
	b = AppendByte(b, w.Complement-sum-more)
	w.buf = append(b, w.LineEnd...)
	if len(w.buf) >= piece {
		w.Flush()
	}
}

// Flush hands on what is gathered and returns the first error met.
func (w *Writer) Flush() error {
	if w.err == nil && len(w.buf) > 0 {
		_, w.err = w.W.Write(w.buf)
	}
	w.buf = w.buf[:0]
	return w.err
}

// Failed reports whether writing failed, so that there is no use in going on.
func (w *Writer) Failed() bool { return w.err != nil }
