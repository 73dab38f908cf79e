package intel

import (
	"fmt"
	"io"

	"mexalt/codec/record"
	"mexalt/memory"
)

// WriteOptions set how a file is written. The zero value writes 16 data bytes
// a record and LF.
type WriteOptions struct {
	Width       int  // data bytes in a record, 1 to 255; 0 is 16
	CRLF        bool // lines end in CR LF
	Segmented   bool // type 02 base records; the image must lie below 1 MiB
	AddressUnit int  // bytes that a record's address counts as one; 0 is 1
}

// Check tells what keeps an image from being written with these options.
func (o WriteOptions) Check(m *memory.Image) error {
	if o.Width < 0 || o.Width > mostDataBytes {
		return fmt.Errorf("width %d is no number of data bytes in a record; 1 to %d", o.Width, mostDataBytes)
	}
	unit := uint64(max(o.AddressUnit, 1))
	if unit > 1 && o.width()%int(unit) != 0 {
		return fmt.Errorf("width %d is no multiple of the address unit, %d bytes", o.width(), unit)
	}
	for _, r := range m.Runs() {
		if unit > 1 && (r.First%unit != 0 || (r.Last()+1)%unit != 0) {
			return fmt.Errorf("the run %s does not begin and end on whole address units of %d bytes", r.Span(), unit)
		}
		if last := r.Last() / unit; last > lastLinear {
			return fmt.Errorf("the image's run %s lies above %s, the last address that Intel HEX reaches", r.Span(), memory.FormatAddress(lastLinear*unit))
		} else if o.Segmented && last > lastSegmented {
			return fmt.Errorf("the image's run %s lies above %s, the last address that segmented Intel HEX reaches", r.Span(), memory.FormatAddress(lastSegmented*unit))
		}
	}
	if !HoldsStart(m.Start) {
		return fmt.Errorf("the start address %s has more than the 32 bits that Intel HEX holds", memory.FormatAddress(m.Start.Value))
	}
	return nil
}

func (o WriteOptions) width() int {
	if o.Width == 0 {
		return defaultWidth
	}
	return o.Width
}

// Write writes an image. Records start on multiples of the width where a run
// does not begin between them, and none crosses 64 KiB.
func Write(w io.Writer, m *memory.Image, o WriteOptions) error {
	if err := o.Check(m); err != nil {
		return err
	}
	out := record.Writer{W: w, LineEnd: record.LineEnd(o.CRLF)}
	write := func(address uint16, kind byte, data []byte) {
		out.Record(":", []byte{byte(len(data)), byte(address >> 8), byte(address), kind}, data)
	}
	unit, width := uint64(max(o.AddressUnit, 1)), uint64(o.width())
	base := uint64(0)
	for _, r := range m.Runs() {
		// Divisions are slow, so they are done once for the part of a run that
		// has one base.
		for first, data := r.First, r.Data; len(data) > 0 && !out.Failed(); {
			address := first / unit
			if upper := address &^ (segment - 1); upper != base {
				base = upper
				if o.Segmented {
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
	if s := m.Start; s.Kind != memory.NoStart {
		kind := byte(typeStartLinear)
		if s.Kind == memory.SegmentedStart {
			kind = typeStartSegment
		}
		write(0, kind, []byte{byte(s.Value >> 24), byte(s.Value >> 16), byte(s.Value >> 8), byte(s.Value)})
	}
	write(0, typeEnd, nil)
	return out.Flush()
}
