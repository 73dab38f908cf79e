// Package codec knows the image formats: it tells them apart by their
// contents, reads any of them into a [memory.Image], and writes one as any of
// them.
package codec

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/codec/record"
	"mexalt/memory"
	"mexalt/source"
)

// Format is an image format.
type Format uint8

const (
	// Unknown is no format.
	Unknown Format = iota
	// Hex is Intel HEX.
	Hex
	// Srec is Motorola S-record.
	Srec
	// Raw is raw binary.
	Raw
)

// String returns the format's name.
func (f Format) String() string {
	return [...]string{"unknown", "Intel HEX", "S-record", "raw"}[f]
}

// Word returns the word for the format in flags and JSON.
func (f Format) Word() string { return [...]string{"unknown", "hex", "srec", "raw"}[f] }

// FormatOfWord returns the format that a flag's word names, or Unknown.
func FormatOfWord(word string) Format {
	for f := Hex; f <= Raw; f++ {
		if f.Word() == word {
			return f
		}
	}
	return Unknown
}

// extensions are the endings of file names that promise a format.
var extensions = map[string]Format{
	".hex": Hex, ".ihex": Hex, ".ihx": Hex, ".h86": Hex, ".mcs": Hex, ".eep": Hex,
	".srec": Srec, ".s19": Srec, ".s28": Srec, ".s37": Srec, ".mot": Srec, ".sre": Srec, ".sx": Srec,
	".bin": Raw, ".raw": Raw, ".img": Raw, ".rom": Raw,
}

// FormatOfName returns the format that a file name promises, or Unknown.
func FormatOfName(name string) Format { return extensions[strings.ToLower(filepath.Ext(name))] }

// ReadOptions set how files are read. The zero value tells the format by the
// contents and reads strictly.
type ReadOptions struct {
	From        Format // the format to read as; Unknown tells it by the contents
	Lenient     bool   // deviations from the standards pass as warnings
	AddressUnit int    // record formats: bytes that an address counts as one; 0 is 1
	Cores       int    // how many processor cores may share the work; 0 is 1
}

// File is what was read from one file.
type File struct {
	Name   string
	Format Format
	Image  *memory.Image
	// Statistics are a record file's; nil for raw bytes.
	Statistics *record.Statistics
}

// sniffed is how much of a file is looked at to tell its format.
const sniffed = 64 << 10

// Read reads one file to its end. size is the file's size, or below 0 where
// that is not known. Problems are added to the list; where that then holds an
// error, the file must not be used. The error returned is one of r's, or
// [raw.ErrTooLarge].
func Read(r io.Reader, name string, size int64, o ReadOptions, problems *source.Problems) (*File, error) {
	if size > raw.Most {
		return nil, raw.ErrTooLarge
	}
	head := make([]byte, sniffed)
	n, err := io.ReadFull(r, head)
	head = head[:n]
	if err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	format := o.From
	if format == Unknown {
		if container := Container(head); container != "" {
			problems.Add(&source.Problem{
				File: name, What: "the file is " + container, Expected: "Intel HEX, S-record or raw bytes expected",
				Advice: "have it unpacked or the linker write a record format; -from raw takes its bytes as they are",
			})
			return &File{Name: name}, nil
		}
		format = Detect(head)
		if promised := FormatOfName(name); promised != Unknown && promised != format {
			if p := mismatch(name, promised, format, head); p != nil {
				problems.Add(p)
				return &File{Name: name, Format: format}, nil
			}
			format = promised
		}
	}
	f := &File{Name: name, Format: format}
	whole := io.MultiReader(bytes.NewReader(head), r)
	in := &source.Input{Name: name, Counting: source.Lines}
	limited := &limitedReader{r: whole, left: raw.Most}
	records := record.ReadOptions{Lenient: o.Lenient, AddressUnit: o.AddressUnit, Cores: o.Cores, Size: size}
	var result *record.Result
	switch format {
	case Raw:
		in.Counting = source.Offsets
		f.Image, err = raw.Read(whole, in, size)
		return f, err
	case Hex:
		result, err = intel.Read(limited, in, records, problems)
	case Srec:
		result, err = motorola.Read(limited, in, records, problems)
	}
	if err != nil {
		return f, err
	}
	f.Image, f.Statistics = result.Image, &result.Statistics
	return f, nil
}

// limitedReader fails with [raw.ErrTooLarge] beyond its limit.
type limitedReader struct {
	r    io.Reader
	left int64
}

func (l *limitedReader) Read(b []byte) (int, error) {
	n, err := l.r.Read(b)
	if l.left -= int64(n); l.left < 0 {
		return 0, raw.ErrTooLarge
	}
	return n, err
}

// containers are the first bytes of files that hold an image in some wrapping.
// Taken as raw bytes, their wrapping would be programmed too.
var containers = []struct{ magic, name string }{
	{"\x7FELF", "an ELF file"},
	{"UF2\n\x57\x51\x5D\x9E", "a UF2 file"},
	{"PK\x03\x04", "a zip archive"},
	{"\x1F\x8B\x08", "a gzip archive"},
	{"BZh", "a bzip2 archive"},
	{"\xFD7zXZ\x00", "an xz archive"},
	{"\x28\xB5\x2F\xFD", "a zstd archive"},
	{"!<arch>\n", "an object library"},
	{"%PDF-", "a PDF document"},
}

// Container tells what known wrapping a file begins with, or "".
func Container(head []byte) string {
	for _, c := range containers {
		if bytes.HasPrefix(head, []byte(c.magic)) {
			return c.name
		}
	}
	return ""
}

// Detect tells the format of a file by its first bytes: the record format of
// which most lines have the form, or raw. A short text of lines that are all
// but records is taken for damaged records, never for raw bytes.
func Detect(head []byte) Format {
	if n := len(head); (n == 2 || n == 3) && (head[0] == ':' || head[0] == 'S') && record.IsDigit(head[1]) && record.IsDigit(head[n-1]) {
		// Cut short so early that it is hardly a line.
		if head[0] == ':' {
			return Hex
		}
		return Srec
	}
	var hex, srec, nearHex, nearSrec, lines int
	for line := range bytes.FieldsFuncSeq(head, func(r rune) bool { return r == '\n' || r == '\r' }) {
		if lines++; lines > 1000 {
			break
		}
		line = bytes.TrimSpace(bytes.TrimPrefix(line, []byte("\xEF\xBB\xBF")))
		switch {
		case len(line) > 2 && line[0] == ':' && (record.IsDigit(line[1]) && record.IsDigit(line[2]) || mostlyDigits(line)):
			hex++
		case len(line) > 3 && line[0] == 'S' && line[1] >= '0' && line[1] <= '9' && (record.IsDigit(line[2]) && record.IsDigit(line[3]) || mostlyDigits(line)):
			srec++
		case intel.AlmostRecord(line):
			nearHex++
		case motorola.AlmostRecord(line):
			nearSrec++
		}
	}
	switch {
	case hex == 0 && srec == 0:
		if nearHex+nearSrec == 0 || !isText(head) || nearHex+nearSrec < lines {
			return Raw
		}
		if nearSrec > nearHex {
			return Srec
		}
		return Hex
	case !isText(head) && (hex+srec)*2 < lines, (hex+srec)*10 < lines:
		// A line may look like a record by chance.
		return Raw
	case srec > hex:
		return Srec
	}
	return Hex
}

// mostlyDigits reports whether at least four in five characters are hex digits.
func mostlyDigits(line []byte) bool {
	digits := 0
	for _, c := range line {
		if record.IsDigit(c) {
			digits++
		}
	}
	return digits >= 4 && digits*5 >= len(line)*4
}

// isText reports whether head looks like text. Damaged text may hold a few
// other bytes.
func isText(head []byte) bool {
	odd := 0
	for _, c := range head {
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != 0x1A || c >= 0x7F {
			odd++
		}
	}
	return odd*20 <= len(head)
}

// mismatch returns the problem of a file whose name promises another format
// than its contents show. Where the contents show nothing, since the file is
// empty or too short to tell, the name decides and there is none.
func mismatch(name string, promised, found Format, head []byte) *source.Problem {
	if len(bytes.TrimSpace(head)) == 0 {
		return nil
	}
	holds := found.String() + " records"
	if found == Raw {
		holds = "no records but raw bytes"
		switch {
		case bytes.HasPrefix(head, []byte("\xFF\xFE")) || bytes.HasPrefix(head, []byte("\xFE\xFF")):
			holds = "text in UTF-16 (an editor saved it so; save it as plain text)"
		case isText(head):
			holds = fmt.Sprintf("text that is neither Intel HEX nor S-record, beginning %q", firstLine(head))
		}
	}
	return &source.Problem{
		File:     name,
		What:     fmt.Sprintf("the name promises %s, the file holds %s", promised, holds),
		Expected: "name and contents should agree",
		Advice:   fmt.Sprintf("rename it, or say which with -from %s or -from %s", promised.Word(), found.Word()),
	}
}

func firstLine(head []byte) string {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	return string(bytes.TrimRight(line[:min(len(line), 40)], "\r"))
}

// WriteOptions set how an image is written.
type WriteOptions struct {
	Format      Format
	Width       int          // record formats: data bytes in a record; 0 is 16
	CRLF        bool         // record formats: lines end in CR LF
	AddressUnit int          // record formats: bytes that an address counts as one; 0 is 1
	Segmented   bool         // Intel HEX: type 02 base records
	Kind        int          // S-record: 1, 2 or 3 pins the type of data records
	Span        *memory.Span // raw: what to write; nil is the image's own span
	Holes       *byte        // raw: what holes are written as; nil makes them an error
}

func (o WriteOptions) intel() intel.WriteOptions {
	return intel.WriteOptions{Width: o.Width, CRLF: o.CRLF, Segmented: o.Segmented, AddressUnit: o.AddressUnit}
}

func (o WriteOptions) motorola() motorola.WriteOptions {
	return motorola.WriteOptions{Width: o.Width, CRLF: o.CRLF, Kind: o.Kind, AddressUnit: o.AddressUnit}
}

func (o WriteOptions) raw() raw.WriteOptions { return raw.WriteOptions{Span: o.Span, Holes: o.Holes} }

// Check tells what keeps an image from being written with these options, and
// what of it the format cannot hold, as notes.
func (o WriteOptions) Check(m *memory.Image) (notes []string, err error) {
	start := memory.FormatAddress(m.Start.Address())
	switch o.Format {
	case Hex:
		if m.Header != nil {
			notes = append(notes, fmt.Sprintf("the header %q is left out; Intel HEX has no header record", m.Header))
		}
		return notes, o.intel().Check(m)
	case Srec:
		switch {
		case m.Start.Kind == memory.SegmentedStart:
			notes = append(notes, fmt.Sprintf("the start address CS:IP %04X:%04X is written as %s; S-records hold linear ones only", m.Start.Value>>16, m.Start.Value&0xFFFF, start))
		case m.Start.Kind == memory.LinearStart && m.Start.Value == 0:
			notes = append(notes, "the start address 0 is written; readers of S-records take that for none")
		}
		return notes, o.motorola().Check(m)
	}
	if m.Header != nil {
		notes = append(notes, fmt.Sprintf("the header %q is left out; raw bytes hold data alone", m.Header))
	}
	if m.Start.Kind != memory.NoStart {
		notes = append(notes, fmt.Sprintf("the start address %s is left out; raw bytes hold data alone", start))
	}
	return notes, o.raw().Check(m)
}

// Write writes an image. What [WriteOptions.Check] finds is an error here too.
func Write(w io.Writer, m *memory.Image, o WriteOptions) error {
	switch o.Format {
	case Hex:
		return intel.Write(w, m, o.intel())
	case Srec:
		return motorola.Write(w, m, o.motorola())
	}
	return raw.Write(w, m, o.raw())
}
