package motorola

import (
	"encoding/binary"
	"fmt"
	"io"

	"mexalt/codec/record"
	"mexalt/memory"
)

// WriteOptions set how a file is written. The zero value writes 16 data bytes
// a record, LF, and the narrowest type of data records.
type WriteOptions struct {
	Width       int  // data bytes in a record, 1 to 250 to 252 by type; 0 is 16
	CRLF        bool // lines end in CR LF
	Kind        int  // 1, 2 or 3 pins the type of data records; 0 is the narrowest
	AddressUnit int  // bytes that a record's address counts as one; 0 is 1
}

// kind returns the type of data record to use: the narrowest that reaches the
// image's last address and its start address.
func (o WriteOptions) kind(m *memory.Image) int {
	if o.Kind != 0 {
		return o.Kind
	}
	need := uint64(0)
	if s, ok := m.Span(); ok {
		need = s.Last
	}
	if m.Start.Kind != memory.NoStart {
		need = max(need, m.Start.Address())
	}
	need /= o.unit()
	for kind := 1; kind < 3; kind++ {
		if need <= lastAddress(kind) {
			return kind
		}
	}
	return 3
}

func (o WriteOptions) unit() uint64 { return uint64(max(o.AddressUnit, 1)) }

func (o WriteOptions) width() int {
	if o.Width == 0 {
		return defaultWidth
	}
	return o.Width
}

// Check tells what keeps an image from being written with these options.
func (o WriteOptions) Check(m *memory.Image) error {
	kind, unit := o.kind(m), o.unit()
	if most := mostCount - addressBytes[kind] - 1; o.Width < 0 || o.Width > most {
		return fmt.Errorf("width %d is no number of data bytes in an S%d record; 1 to %d", o.Width, kind, most)
	}
	if unit > 1 && o.width()%int(unit) != 0 {
		return fmt.Errorf("width %d is no multiple of the address unit, %d bytes", o.width(), unit)
	}
	last := lastAddress(kind)
	for _, r := range m.Runs() {
		if unit > 1 && (r.First%unit != 0 || (r.Last()+1)%unit != 0) {
			return fmt.Errorf("the run %s does not begin and end on whole address units of %d bytes", r.Span(), unit)
		}
		if r.Last()/unit > last {
			return fmt.Errorf("the image's run %s lies above %s, the last address that S%d records reach", r.Span(), memory.FormatAddress(last*unit), kind)
		}
	}
	if start := m.Start.Address(); start/unit > last || start%unit != 0 {
		return fmt.Errorf("the start address %s cannot be held by S%d records, which hold up to %s", memory.FormatAddress(start), kind, memory.FormatAddress(last))
	}
	if len(m.Header) > mostHeader {
		return fmt.Errorf("the header has %d bytes; a header record holds up to %d", len(m.Header), mostHeader)
	}
	return nil
}

// Write writes an image: header if it has one, data records, a count record
// where the number fits one, and the end record with the start address, or 0.
func Write(w io.Writer, m *memory.Image, o WriteOptions) error {
	if err := o.Check(m); err != nil {
		return err
	}
	out := record.Writer{W: w, LineEnd: record.LineEnd(o.CRLF), Complement: 0xFF}
	write := func(kind int, address uint32, data []byte) {
		var field [5]byte
		wide := addressBytes[kind]
		binary.BigEndian.PutUint32(field[1:], address)
		head := field[4-wide:]
		head[0] = byte(wide + len(data) + 1)
		out.Record(marks[kind], head, data)
	}
	kind, unit, width := o.kind(m), o.unit(), uint64(o.width())
	if m.Header != nil {
		write(0, 0, m.Header)
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
	write(endKind(kind), uint32(m.Start.Address()/unit), nil)
	return out.Flush()
}

var marks = [...]string{"S0", "S1", "S2", "S3", "S4", "S5", "S6", "S7", "S8", "S9"}
