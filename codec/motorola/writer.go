package motorola

import (
	"encoding/binary"
	"fmt"
	"io"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/span"
)

// kindKey is the key that pins the type of data records; words like s37 set it.
const kindKey = "data-records"

// Writer writes S-records. The zero value writes 16 data bytes a record, LF, and
// the narrowest type of data records.
type Writer struct {
	RecordLength uint64 // data bytes in a record, 1 to 250 to 252 by type; 0 is 16
	CRLF         bool   // lines end in CR LF
	Kind         uint64 // 1, 2 or 3 pins the type of data records; 0 is the narrowest
	Unit         int    // bytes that a record's address counts as one; 0 is 1
	Header       *string
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	return []*key.Key{
		format.RowLengthKey(&w.RecordLength), format.CRLFKey(&w.CRLF),
		key.New("header", "TEXT", "S-record: the header's text (as read)", func(text string) error {
			b, err := span.Text(text)
			if err == nil && len(b) > mostHeader {
				err = fmt.Errorf("%d bytes; a header record has at most %d", len(b), mostHeader)
			}
			header := string(b)
			w.Header = &header
			return err
		}).Escaped(),
		key.OneOf(&w.Kind, []uint64{1, 2, 3}, kindKey, "N", "S-record: data records S1, S2 or S3 (the narrowest)"),
	}
}

// kind returns the type of data record to use: the narrowest that reaches the
// image's last address and its start address.
func (w *Writer) kind(m *memory.Image) int {
	if w.Kind != 0 {
		return int(w.Kind)
	}
	need := uint64(0)
	if s, ok := m.Span(); ok {
		need = s.Last
	}
	if m.Start().Kind != memory.NoStart {
		need = max(need, m.Start().Address())
	}
	need /= w.unit()
	for kind := 1; kind < 3; kind++ {
		if need <= lastAddress(kind) {
			return kind
		}
	}
	return 3
}

func (w *Writer) unit() uint64 { return uint64(max(w.Unit, 1)) }

func (w *Writer) length() uint64 {
	if w.RecordLength == 0 {
		return defaultLength
	}
	return w.RecordLength
}

// header returns the header to write; nil is none.
func (w *Writer) header(m *memory.Image) []byte {
	if w.Header != nil {
		return []byte(*w.Header)
	}
	return m.Header()
}

// Check tells what keeps an image from being written, and what becomes of a
// start address that S-records cannot hold as it is.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	switch s := m.Start(); {
	case s.Kind == memory.SegmentedStart:
		notes = append(notes,
			fmt.Sprintf("the start address CS:IP %04X:%04X is written as %s; S-records have linear ones only", s.Value>>16,
				s.Value&0xFFFF, memory.FormatAddress(s.Address())))
	case s.Kind == memory.LinearStart && s.Value == 0:
		notes = append(notes, "start address 0 is written; S-record readers take it as \"no start address\"")
	}
	kind, unit := w.kind(m), w.unit()
	if most := uint64(mostCount - addressBytes[kind] - 1); w.RecordLength > most {
		return notes, fmt.Errorf("%d data bytes are more than an S%d record can have, %d", w.RecordLength, kind, most)
	}
	if err := record.CheckUnits(m, unit, w.length()); err != nil {
		return notes, err
	}
	last := lastAddress(kind)
	for _, r := range m.Runs() {
		if r.Last()/unit > last {
			return notes,
				fmt.Errorf("the image's run %s is above %s, the last address that S%d records reach", r.Span(),
					memory.FormatAddress(last*unit), kind)
		}
	}
	if start := m.Start().Address(); start/unit > last || start%unit != 0 {
		return notes, fmt.Errorf("the start address %s does not fit S%d records, whose last is %s", memory.FormatAddress(start), kind,
			memory.FormatAddress(last*unit))
	}
	if n := len(w.header(m)); n > mostHeader {
		return notes, fmt.Errorf("the header has %d bytes; a header record has at most %d", n, mostHeader)
	}
	return notes, nil
}

// Write writes an image: header if it has one, data records, a count record
// where the number fits one, and the end record with the start address, or 0.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	out := record.Writer{W: to, LineEnd: record.LineEnd(w.CRLF), Complement: 0xFF}
	write := func(kind int, address uint32, data []byte) {
		var field [5]byte
		wide := addressBytes[kind]
		binary.BigEndian.PutUint32(field[1:], address)
		head := field[4-wide:]
		head[0] = byte(wide + len(data) + 1)
		out.Record(marks[kind], head, data)
	}
	kind, unit, width := w.kind(m), w.unit(), w.length()
	if header := w.header(m); header != nil {
		write(0, 0, header)
	}
	count := uint64(0)
	for _, r := range m.Runs() {
		// Divisions are slow, so they are done once for a run.
		address, step, data := r.First/unit, width/unit, r.Data
		if ragged := r.First % width; ragged > 0 {
			n := min(width-ragged, uint64(len(data)))
			write(kind, uint32(address), data[:n])
			address, data = address+n/unit, data[n:]
			count++
		}
		for uint64(len(data)) >= width && !out.Failed() {
			write(kind, uint32(address), data[:width])
			address, data = address+step, data[width:]
			count++
		}
		if out.Failed() {
			break
		}
		if len(data) > 0 {
			write(kind, uint32(address), data)
			count++
		}
	}
	if count <= mostInS5 {
		write(5, uint32(count), nil)
	} else if count <= mostInS6 {
		write(6, uint32(count), nil)
	}
	write(endKind(kind), uint32(m.Start().Address()/unit), nil)
	return out.Flush()
}

var marks = [...]string{"S0", "S1", "S2", "S3", "S4", "S5", "S6", "S7", "S8", "S9"}
