package intel

import (
	"fmt"
	"io"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/key"
	"mexalt/memory"
)

// Writer writes Intel HEX. The zero value writes 16 data bytes a record and LF.
type Writer struct {
	RecordLength uint64 // data bytes in a record, 1 to 255; 0 is 16
	CRLF         bool   // lines end in CR LF
	Segmented    bool   // type 02 base records; the image must lie below 1 MiB
	Unit         int    // bytes that a record's address counts as one; 0 is 1
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	return []*key.Key{
		format.RowLengthKey(&w.RecordLength), format.CRLFKey(&w.CRLF),
		key.Switch(&w.Segmented, "segmented", "Intel HEX: segment base records, type 02"),
	}
}

// Check tells what keeps an image from being written, and that a header is left
// out.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	if m.Header() != nil {
		notes = append(notes, fmt.Sprintf("the header %q is left out; Intel HEX has no header record", m.Header()))
	}
	unit := uint64(max(w.Unit, 1))
	if err := record.CheckUnits(m, unit, w.length()); err != nil {
		return notes, err
	}
	for _, r := range m.Runs() {
		if last := r.Last() / unit; last > lastLinear {
			return notes,
				fmt.Errorf("the image's run %s is above %s, the last address that Intel HEX reaches", r.Span(),
					memory.FormatAddress(lastLinear*unit))
		} else if w.Segmented && last > lastSegmented {
			return notes, fmt.Errorf("the image's run %s is above %s, the last address that segmented Intel HEX reaches", r.Span(),
				memory.FormatAddress(lastSegmented*unit))
		}
	}
	if s := m.Start(); s.Kind != memory.NoStart && (s.Address()/unit > lastLinear || s.Address()%unit != 0) {
		return notes, fmt.Errorf("the start address %s does not fit Intel HEX, which has whole units of %d bytes up to %s", s, unit,
			memory.FormatAddress(lastLinear*unit))
	}
	return notes, nil
}

func (w *Writer) length() uint64 {
	if w.RecordLength == 0 {
		return defaultLength
	}
	return w.RecordLength
}

// Write writes an image. Records start on multiples of the width where a run
// does not begin between them, and none crosses 64 KiB.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	out := record.Writer{W: to, LineEnd: record.LineEnd(w.CRLF)}
	write := func(address uint16, kind byte, data []byte) {
		out.Record(":", []byte{byte(len(data)), byte(address >> 8), byte(address), kind}, data)
	}
	unit, width := uint64(max(w.Unit, 1)), w.length()
	base := uint64(0)
	for _, r := range m.Runs() {
		// Divisions are slow, so they are done once for the part of a run that
		// has one base.
		for first, data := r.First, r.Data; len(data) > 0 && !out.Failed(); {
			address := first / unit
			if upper := address &^ (segment - 1); upper != base {
				base = upper
				if w.Segmented {
					write(0, typeSegmentAddress, []byte{byte(base >> 12), byte(base >> 4)})
				} else {
					write(0, typeLinearAddress, []byte{byte(base >> 24), byte(base >> 16)})
				}
			}
			part := data[:min(uint64(len(data)), segment*unit-first%(segment*unit))]
			first, data = first+uint64(len(part)), data[len(part):]
			step := width / unit
			if ragged := address * unit % width; ragged > 0 {
				n := min(width-ragged, uint64(len(part)))
				write(uint16(address), typeData, part[:n])
				address, part = address+n/unit, part[n:]
			}
			for uint64(len(part)) >= width {
				write(uint16(address), typeData, part[:width])
				address, part = address+step, part[width:]
			}
			if len(part) > 0 {
				write(uint16(address), typeData, part)
			}
		}
	}
	if s := m.Start(); s.Kind != memory.NoStart {
		kind, value := byte(typeStartLinear), s.Address()/unit
		if s.Kind == memory.SegmentedStart && unit == 1 {
			kind, value = typeStartSegment, s.Value
		}
		write(0, kind, []byte{byte(value >> 24), byte(value >> 16), byte(value >> 8), byte(value)})
	}
	write(0, typeEnd, nil)
	return out.Flush()
}
