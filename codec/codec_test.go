package codec

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/elf"
	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

const (
	hexText  = ":03000000616263D7\n:03000300646566" + "CB\n:00000001FF\n"
	srecText = "S00600004844521B\nS1060000616263D3\nS9030000FC\n"
)

const record = ":03000000616263D7\n"

func records(n int) string { return strings.Repeat(record, n) }
func notes(n int) string   { return strings.Repeat("a line of notes\n", n) }

func TestDetect(t *testing.T) {
	for text, want := range map[string]*format.Format{
		hexText:                         intel.Format,
		srecText:                        motorola.Format,
		"\xEF\xBB\xBF" + hexText:        intel.Format,
		"; a comment\n" + hexText:       intel.Format,
		"  " + srecText:                 motorola.Format,
		"\r\n\r\n" + hexText:            intel.Format,
		":00000001FF":                   intel.Format,
		";00000001FF":                   intel.Format, // damaged, not raw
		"00000001FF":                    intel.Format,
		"s9030000FC":                    motorola.Format,
		"X9030000FC":                    motorola.Format,
		"":                              raw.Format,
		"plain text\n":                  raw.Format,
		"CAL1\x00\x01\x02\x03":          raw.Format,
		"\x7FELF\x02\x01\x01":           elf.Format,
		strings.Repeat("\xFF", 1000):    raw.Format,
		"SOME NOTES\nS: nothing\n":      raw.Format,
		"deadbeef text with words here": raw.Format,
		"0123456789abcdef":              raw.Format,
		"S123 is one line of many\n" + strings.Repeat("a line of notes\n", 20): raw.Format,
		strings.Repeat("; notes\n", 5) + hexText:                               intel.Format,
		// A tenth of the lines of a text are enough, of the first thousand; half of what is none.
		notes(9) + record:                           intel.Format,
		notes(10) + record:                          raw.Format,
		notes(900) + records(100) + notes(50):       intel.Format,
		notes(901) + records(99) + records(900):     raw.Format,
		notes(1000) + records(900):                  raw.Format,
		"\x00\x01\n" + records(1):                   intel.Format,
		"\x00\x01\n\x02\n" + records(1):             raw.Format,
		"00000001F\n" + strings.Repeat("X903\n", 2): raw.Format, // not all are nearly records
	} {
		assert.Equal(t, want, Detect([]byte(text)), "%q", text)
	}
}

func TestReadHoldsNameAgainstContents(t *testing.T) {
	read := func(name, text string, o ReadOptions) (*File, *source.Problems) {
		var problems source.Problems
		f, err := Read(strings.NewReader(text), name, int64(len(text)), o, &problems)
		require.NoError(t, err)
		return f, &problems
	}
	for _, c := range []struct{ name, text, want string }{
		{"a.bin", hexText,
			"a.bin: error: the name suggests raw, but the contents are Intel HEX records; expected a name that matches the contents " +
				"(rename the file, or choose; from raw, or from hex)"},
		{"a.HEX", srecText, "a.HEX: error: the name suggests Intel HEX, but the contents are S-record records; "},
		{"a.s19", "\x00\x01\x02", "a.s19: error: the name suggests S-record, but the contents are no records but raw bytes; "},
		{"a.hex", "\xFF\xFE:\x000\x001\x00", "a.hex: error: the file contains text in UTF-16; "},
		{"a.hex", "<html>404</html>",
			`a.hex: error: the name suggests Intel HEX, but the contents are text in none of the formats, beginning "<html>404</html>"; `},
	} {
		_, problems := read(c.name, c.text, ReadOptions{})
		require.Equal(t, 1, problems.Errors())
		assert.True(t, strings.HasPrefix(problems.Sorted()[0].Error(), c.want), problems.Sorted()[0].Error())
	}
	f, problems := read("a.bin", hexText, ReadOptions{From: Choice{Format: intel.Format}})
	require.NoError(t, problems.Err())
	assert.Equal(t, uint64(6), f.Image.Bytes())
	f, problems = read("a.bin", hexText, ReadOptions{From: Choice{Format: raw.Format}})
	require.NoError(t, problems.Err())
	assert.Equal(t, uint64(len(hexText)), f.Image.Bytes())
	f, problems = read("firmware", srecText, ReadOptions{})
	require.NoError(t, problems.Err())
	assert.Equal(t, motorola.Format, f.Format)
	assert.Equal(t, []byte("HDR"), f.Image.Header())
	_, problems = read("empty.hex", "", ReadOptions{})
	assert.ErrorContains(t, problems.Err(), "it is empty")
	f, problems = read("empty.bin", "", ReadOptions{})
	require.NoError(t, problems.Err())
	assert.True(t, f.Image.Empty())
}

// write writes an image in a format.
func write(t testing.TB, m *memory.Image, f *format.Format, unit int, settings ...source.Setting) string {
	t.Helper()
	w, err := Choice{Format: f, Unit: unit}.Writer(format.WriteOptions{}, settings)
	require.NoError(t, err)
	var text bytes.Buffer
	require.NoError(t, w.Write(&text, m))
	return text.String()
}

func TestCheckTellsWhatIsLeftOut(t *testing.T) {
	m, _ := memory.FromBytes(0, []byte("abc"), &source.Input{Name: "f"})
	m = m.WithHeader([]byte("HDR")).WithStart(memory.Start{Kind: memory.SegmentedStart, Value: 0x1000_0002})
	for f, want := range map[*format.Format][]string{
		intel.Format:    {`the header "HDR" is left out; Intel HEX has no header record`},
		motorola.Format: {"the start address CS:IP 1000:0002 is written as 0x0001_0002; S-records have linear ones only"},
		raw.Format: {`the header "HDR" is left out: a raw file contains only data`,
			"the start address 0x0001_0002 is lost: a raw file contains only data"},
	} {
		notes, err := f.Writer(format.WriteOptions{}).Check(m)
		require.NoError(t, err)
		assert.Equal(t, want, notes)
	}
	notes, err := motorola.Format.Writer(format.WriteOptions{}).Check(m.WithStart(memory.Start{Kind: memory.LinearStart}))
	require.NoError(t, err)
	assert.Contains(t, notes[0], "take it as \"no")
}

// TestFormatsKeepTheImage writes an image in each format and reads it again.
func TestFormatsKeepTheImage(t *testing.T) {
	a, _ := memory.FromBytes(0x0600_0000, []byte("abc"), &source.Input{Name: "a"})
	b, _ := memory.FromBytes(0x0600_1000, bytes.Repeat([]byte("x"), 100_000), &source.Input{Name: "b"})
	m, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
	m = m.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x0600_0001})
	for _, f := range []*format.Format{intel.Format, motorola.Format} {
		for _, width := range []int{1, 7, 16, 32, 250} {
			for _, crlf := range []bool{false, true} {
				settings := []source.Setting{{Key: "record-length", Value: fmt.Sprint(width)}}
				if crlf {
					settings = append(settings, source.Setting{Key: "crlf"})
				}
				var problems source.Problems
				back, err := Read(strings.NewReader(write(t, m, f, 1, settings...)), "f", -1, ReadOptions{Cores: 2}, &problems)
				require.NoError(t, err)
				require.NoError(t, problems.Err())
				assert.True(t, m.Equal(back.Image))
				assert.Equal(t, m.Start(), back.Image.Start())
				assert.Equal(t, f, back.Format)
			}
		}
	}
}

// TestAddressUnits writes and reads words of several bytes an address, by the
// fast way and, with white space behind every record, by the thorough one.
func TestAddressUnits(t *testing.T) {
	a, _ := memory.FromBytes(0x1_FF00, bytes.Repeat([]byte("abcd"), 20_000), &source.Input{Name: "a"})
	b, _ := memory.FromBytes(0x10_0008, []byte("wxyz"), &source.Input{Name: "b"})
	m, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
	m = m.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x2_0000})
	for _, f := range []*format.Format{intel.Format, motorola.Format} {
		for _, unit := range []int{2, 4} {
			text := write(t, m, f, unit)
			for _, lines := range []string{text, strings.ReplaceAll(text, "\n", " \n")} {
				var problems source.Problems
				back, err := Read(strings.NewReader(lines), "f", -1, ReadOptions{From: Choice{Format: f, Unit: unit}}, &problems)
				require.NoError(t, err)
				require.NoError(t, problems.Err())
				assert.True(t, m.Equal(back.Image), "%s, %d", f.Name, unit)
				assert.Equal(t, m.Start(), back.Image.Start(), "start addresses count units too")
			}
		}
	}
}

// TestTextIsNoImage holds texts of all kinds back, each by what it looks like, unless
// its name or the caller says that raw bytes are meant.
func TestTextIsNoImage(t *testing.T) {
	for _, c := range []struct{ name, text, kind string }{
		{"Makefile", "all: app.hex\n\tobj\n", "a makefile"},
		{"rules", "CC = cc\n\nall: app.o\n\t$(CC) -o app app.o\n", "a makefile"},
		{"download", "\n<!DOCTYPE html>\n<p>404</p>", "HTML"},
		{"download", "<html><body>404</body></html>", "HTML"},
		{"part", "<?xml version=\"1.0\"?>\n<device/>\n", "XML"},
		{"sheet", "<device schema=\"1\">\n</device>", "XML"},
		{"main", "/* boot */\n#include <stdint.h>\nint main(void) { return 0; }\n", "C source"},
		{"main.c", "int x;\n", "C source"},
		{"crt0", "\t.section .vectors\n\t.globl _start\n", "assembly source"},
		{"app", "Archive member included to satisfy reference by file (symbol)\n", "a linker's map"},
		{"app", "\nMemory Configuration\n\nName Origin\n", "a linker's map"},
		{"flash", "ENTRY(_start)\nMEMORY\n{\n rom (rx) : ORIGIN = 0, LENGTH = 1K\n}\n", "a linker script"},
		{"flash", "#!/bin/sh\nset -e\n", "a script"},
		{"units", "serial,colour\n1,red\n2,blue\n", "CSV"},
		{"units", "serial;colour\n1;red\n", "CSV"},
		{"data", "{\"a\": [1, 2]}\n", "JSON"},
		{"data", "[1, 2]\n", "JSON"},
		{"data", " \n {\"a\": 1}", "JSON"},
		{"data", "{a" + strings.Repeat(" ", sniffed) + "}", "text"},
		{"data", "[" + strings.Repeat("1,", sniffed/4) + "\n", "JSON"},
		{"data", "[" + strings.Repeat("1,", sniffed/4-1) + "\n", "text"},
		{"map", "name = \"T\"\n[[memory]]\nkind = \"flash\"\n", "TOML"},
		{"tg1.release.toml", "x\n", "TOML"},
		{"build.log", "12:00 done\n", "a log"},
		{"notes", "the loader is in the other folder\n", "text"},
		{"-", "error: no such file\n", "text"},
	} {
		for _, o := range []ReadOptions{{}, {Placed: true}, {From: Choice{Format: raw.Format}}} {
			var problems source.Problems
			f, err := Read(strings.NewReader(c.text), c.name, int64(len(c.text)), o, &problems)
			require.NoError(t, err)
			if o.Placed || o.From.Format != nil {
				require.NoError(t, problems.Err(), c.name)
				assert.Equal(t, uint64(len(c.text)), f.Image.Bytes(), c.name)
				continue
			}
			assert.Nil(t, f.Image)
			assert.Equal(t, c.kind, f.Text, c.text)
			require.Equal(t, 1, problems.Errors(), c.text)
			want := ": error: the file is " + c.kind
			if c.kind == "text" {
				want += " in none of the formats, beginning "
			}
			assert.Contains(t, problems.Sorted()[0].Error(), want)
		}
	}
	for _, name := range []string{"a.bin", "A.BIN", "a.rom", "a.img", "a.raw", "strings.dat"} {
		var problems source.Problems
		f, err := Read(strings.NewReader("TG-1 gauge\n"), name, 11, ReadOptions{}, &problems)
		require.NoError(t, err)
		require.NoError(t, problems.Err(), name)
		assert.Equal(t, raw.Format, f.Format, name)
	}
	for text, name := range map[string]string{"a\x00b": "noise", "a\x00": "main.c", "\n \n": "blank", ":00": "short.bin",
		"S90": "short.bin"} {
		var problems source.Problems
		f, err := Read(strings.NewReader(text), name, -1, ReadOptions{}, &problems)
		require.NoError(t, err)
		require.NoError(t, problems.Err(), "what is no text may be firmware")
		assert.Equal(t, raw.Format, f.Format, "%q", text)
		problems = source.Problems{}
		if name == "short.bin" {
			_, err = Read(strings.NewReader(text+"00000001FF"[len(text)-1:]), name, -1, ReadOptions{}, &problems)
			require.NoError(t, err)
			assert.ErrorContains(t, problems.Err(), "the name suggests", "%q", text)
		}
	}
}

// full takes so many bytes and no more, as a disk that is full.
type full struct{ left int }

var errFull = errors.New("no space left on device")

func (w *full) Write(b []byte) (int, error) {
	n := min(len(b), w.left)
	if w.left -= n; n < len(b) {
		return n, errFull
	}
	return n, nil
}

// TestWritersTellOfEveryByteThatIsNotWritten lets the writer of each format fail at each
// byte of a short file, and at many of a long one.
func TestWritersTellOfEveryByteThatIsNotWritten(t *testing.T) {
	short, _ := memory.FromBytes(0x100, []byte("some code, of more than one record"), &source.Input{Name: "a"})
	long, _ := memory.FromBytes(0x1_FF00, bytes.Repeat([]byte("0123456789abcdef"), 9_000), &source.Input{Name: "b"})
	far, _ := memory.FromBytes(0x4_0000, []byte("far"), &source.Input{Name: "c"})
	both, _ := memory.Merge([]*memory.Image{short, long, far}, memory.First)
	both = both.WithHeader([]byte("HDR")).WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x1_FF00})
	written := 0
	for _, f := range Formats {
		if f.Writer == nil {
			continue
		}
		written++
		for _, m := range []*memory.Image{short, both} {
			write := func(w io.Writer) error {
				var settings []source.Setting
				for _, k := range f.Writer(format.WriteOptions{}).Keys() {
					if value, wants := map[string]string{"holes": "FF", "template": "c"}[k.Name]; wants {
						settings = append(settings, source.Setting{Key: k.Name, Value: value})
					}
				}
				writer, err := Choice{Format: f}.Writer(format.WriteOptions{Huge: true, Name: "x"}, settings)
				require.NoError(t, err)
				return writer.Write(w, m)
			}
			var text bytes.Buffer
			require.NoError(t, write(&text), f.Name)
			for n := 0; n < text.Len(); n += 1 + golden.Every(4)*text.Len()/(60_000/(60+text.Len()/1000)) {
				require.ErrorIs(t, write(&full{n}), errFull, "%s at byte %d", f.Name, n)
			}
			require.ErrorIs(t, write(&full{text.Len() - 1}), errFull, f.Name)
			require.NoError(t, write(&full{text.Len()}), f.Name)
		}
	}
	assert.Greater(t, written, 6)
}
