// Package dfu reads and writes raw bytes with the suffix of the USB Device
// Firmware Upgrade class (DFU 1.1, appendix B): for whose device they are, and
// a CRC.
package dfu

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"math"

	"mexalt/codec/format"
	"mexalt/codec/raw"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// Format is raw bytes with a DFU suffix in the table of formats.
var Format = &format.Format{
	Name:        "DFU",
	Word:        "dfu",
	Words:       []format.Word{{Word: "dfu"}},
	Extensions:  []format.Extension{{Ending: ".dfu", Word: "dfu"}},
	Binary:      true,
	Unplaced:    true,
	Reader:      format.ReadFunc(Read).Reader,
	SharesInput: true,
	Writer: func(o format.WriteOptions) format.Writer {
		return &Writer{Writer: raw.Writer{Span: o.Span, Huge: o.Huge}, Vendor: anyID, Product: anyID, Version: anyID}
	},
}

const (
	suffixSize = 16
	signature  = "UFD" // DFU, read as the device does, from the end
	version    = 0x0100
	anyID      = 0xFFFF
)

// suffix is what stands behind the bytes, little-endian.
type suffix struct {
	Device, Product, Vendor, DFU uint16
	Signature                    [3]byte
	Length                       byte
	CRC                          uint32
}

func suffixOf(data []byte) (s suffix, ok bool) {
	if len(data) < suffixSize {
		return s, false
	}
	binary.Decode(data[len(data)-suffixSize:], binary.LittleEndian, &s)
	return s, string(s.Signature[:]) == signature
}

// crc is CRC-32/JAMCRC.
func crc(data []byte) uint32 { return ^crc32.ChecksumIEEE(data) }

// Ends reports whether bytes end in a sound DFU suffix.
func Ends(data []byte) bool {
	s, ok := suffixOf(data)
	return ok && s.Length == suffixSize && s.CRC == crc(data[:len(data)-4])
}

// Read reads the bytes, at address 0, and checks the suffix, which is left out
// of the image.
func Read(r io.Reader, in *source.Input, o format.ReadOptions, problems *source.Problems) (*format.Content, error) {
	in.Counting = source.Offsets
	data, err := format.ReadAll(r, o.Size)
	if err != nil {
		return nil, err
	}
	content := &format.Content{Image: &memory.Image{}}
	s, ok := suffixOf(data)
	fail := func(what, expected string) (*format.Content, error) {
		problems.Add(
			&source.Problem{File: in.Name, What: what, Expected: expected,
				Advice: source.Advise("damaged or truncated; get the file again")},
		)
		return content, nil
	}
	switch {
	case !ok:
		return fail("the file does not end in a DFU suffix", fmt.Sprintf("%q, a length and a CRC in its last 8 bytes", signature))
	case s.Length < suffixSize || int(s.Length) > len(data):
		return fail(fmt.Sprintf("the DFU suffix says that it is of %d bytes", s.Length), fmt.Sprintf("%d", suffixSize))
	case s.CRC != crc(data[:len(data)-4]):
		return fail(fmt.Sprintf("the CRC of the DFU suffix is 0x%08X", s.CRC),
			fmt.Sprintf("0x%08X, for the bytes before it", crc(data[:len(data)-4])))
	}
	if s.DFU != version {
		problems.Add(&source.Problem{
			File:     in.Name,
			Severity: source.Warning,
			What:     fmt.Sprintf("the DFU suffix is of version 0x%04X", s.DFU),
			Expected: fmt.Sprintf("0x%04X", version),
		})
	}
	content.Image, _ = memory.FromBytes(0, data[:len(data)-int(s.Length)], in)
	content.Facts = []format.Fact{
		{Name: "vendor", Text: idText(s.Vendor)},
		{Name: "product", Text: idText(s.Product)},
		{Name: "version", Text: idText(s.Device)},
	}
	return content, nil
}

func idText(n uint16) string {
	if n == anyID {
		return "any"
	}
	return fmt.Sprintf("0x%04X", n)
}

// Writer writes bytes as [raw.Writer] does, and the suffix.
type Writer struct {
	raw.Writer
	// Vendor and Product are USB's numbers of the device, Version is its release in
	// binary-coded decimal; 0xFFFF is any.
	Vendor, Product, Version uint64
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	key := func(into *uint64, name, what string) *key.Key {
		return key.Number(into, 0, math.MaxUint16, name, "N", "DFU: the device's "+what+" (0xFFFF, any)")
	}
	return append(w.Writer.Keys(), key(&w.Vendor, "vendor", "vendor ID"), key(&w.Product, "product", "product ID"),
		key(&w.Version, "version-number", "release number, as 0x0241 for 2.41"))
}

// Write writes an image.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	h := crc32.NewIEEE()
	both := io.MultiWriter(to, h)
	if err := w.Writer.Write(both, m); err != nil {
		return err
	}
	s := suffix{Device: uint16(w.Version), Product: uint16(w.Product), Vendor: uint16(w.Vendor), DFU: version, Length: suffixSize}
	copy(s.Signature[:], signature)
	out, err := binary.Append(nil, binary.LittleEndian, &s)
	if err != nil {
		return err
	}
	if _, err := both.Write(out[:suffixSize-4]); err != nil {
		return err
	}
	_, err = to.Write(binary.LittleEndian.AppendUint32(nil, ^h.Sum32()))
	return err
}
