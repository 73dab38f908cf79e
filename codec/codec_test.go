package codec

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

const (
	hexText  = ":03000000616263D7\n:03000300646566" + "CB\n:00000001FF\n"
	srecText = "S00600004844521B\nS1060000616263D3\nS9030000FC\n"
)

func TestDetect(t *testing.T) {
	for text, want := range map[string]Format{
		hexText:                         Hex,
		srecText:                        Srec,
		"\xEF\xBB\xBF" + hexText:        Hex,
		"; a comment\n" + hexText:       Hex,
		"  " + srecText:                 Srec,
		"\r\n\r\n" + hexText:            Hex,
		":00000001FF":                   Hex,
		";00000001FF":                   Hex, // damaged, not raw
		"00000001FF":                    Hex,
		"s9030000FC":                    Srec,
		"X9030000FC":                    Srec,
		"":                              Raw,
		"plain text\n":                  Raw,
		"CAL1\x00\x01\x02\x03":          Raw,
		"\x7FELF\x02\x01\x01":           Raw,
		strings.Repeat("\xFF", 1000):    Raw,
		"SOME NOTES\nS: nothing\n":      Raw,
		"deadbeef text with words here": Raw,
		"0123456789abcdef":              Raw,
		"S123 is one line of many\n" + strings.Repeat("a line of notes\n", 20): Raw,
		strings.Repeat("; notes\n", 5) + hexText:                               Hex,
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
		{"a.bin", hexText, "a.bin: the name promises raw, the file holds Intel HEX records; name and contents should agree (rename it, or say which with -from raw or -from hex)"},
		{"a.HEX", srecText, "a.HEX: the name promises Intel HEX, the file holds S-record records; "},
		{"a.s19", "\x00\x01\x02", "a.s19: the name promises S-record, the file holds no records but raw bytes; "},
		{"a.hex", "\xFF\xFE:\x000\x001\x00", "a.hex: the name promises Intel HEX, the file holds text in UTF-16 "},
		{"a.hex", "<html>404</html>", `a.hex: the name promises Intel HEX, the file holds text that is neither Intel HEX nor S-record, beginning "<html>404</html>"; `},
	} {
		_, problems := read(c.name, c.text, ReadOptions{})
		require.Equal(t, 1, problems.Errors())
		assert.True(t, strings.HasPrefix(problems.List()[0].Error(), c.want), problems.List()[0].Error())
	}
	f, problems := read("a.bin", hexText, ReadOptions{From: Hex})
	require.NoError(t, problems.Err())
	assert.Equal(t, uint64(6), f.Image.Bytes())
	f, problems = read("a.bin", hexText, ReadOptions{From: Raw})
	require.NoError(t, problems.Err())
	assert.Equal(t, uint64(len(hexText)), f.Image.Bytes())
	f, problems = read("firmware", srecText, ReadOptions{})
	require.NoError(t, problems.Err())
	assert.Equal(t, Srec, f.Format)
	assert.Equal(t, []byte("HDR"), f.Image.Header)
	_, problems = read("empty.hex", "", ReadOptions{})
	assert.ErrorContains(t, problems.Err(), "it is empty")
	f, problems = read("empty.bin", "", ReadOptions{})
	require.NoError(t, problems.Err())
	assert.True(t, f.Image.Empty())
}

func TestCheckTellsWhatIsLeftOut(t *testing.T) {
	m, _ := memory.FromBytes(0, []byte("abc"), &source.Input{Name: "f"})
	m.Header = []byte("HDR")
	m.Start = memory.Start{Kind: memory.SegmentedStart, Value: 0x1000_0002}
	for format, want := range map[Format][]string{
		Hex:  {`the header "HDR" is left out; Intel HEX has no header record`},
		Srec: {"the start address CS:IP 1000:0002 is written as 0x0001_0002; S-records hold linear ones only"},
		Raw:  {`the header "HDR" is left out; raw bytes hold data alone`, "the start address 0x0001_0002 is left out; raw bytes hold data alone"},
	} {
		notes, err := WriteOptions{Format: format}.Check(m)
		require.NoError(t, err)
		assert.Equal(t, want, notes)
	}
	m.Start = memory.Start{Kind: memory.LinearStart}
	notes, err := WriteOptions{Format: Srec}.Check(m)
	require.NoError(t, err)
	assert.Contains(t, notes[0], "take that for none")
}

// TestFormatsKeepTheImage writes an image in each format and reads it again.
func TestFormatsKeepTheImage(t *testing.T) {
	a, _ := memory.FromBytes(0x0800_0000, []byte("abc"), &source.Input{Name: "a"})
	b, _ := memory.FromBytes(0x0800_1000, bytes.Repeat([]byte("x"), 100_000), &source.Input{Name: "b"})
	m, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
	m.Start = memory.Start{Kind: memory.LinearStart, Value: 0x0800_0001}
	for _, format := range []Format{Hex, Srec} {
		for _, width := range []int{0, 1, 7, 32, 250} {
			for _, crlf := range []bool{false, true} {
				var text bytes.Buffer
				require.NoError(t, Write(&text, m, WriteOptions{Format: format, Width: width, CRLF: crlf}))
				var problems source.Problems
				f, err := Read(&text, "f", -1, ReadOptions{Cores: 2}, &problems)
				require.NoError(t, err)
				require.NoError(t, problems.Err())
				assert.True(t, m.Equal(f.Image))
				assert.Equal(t, m.Start, f.Image.Start)
				assert.Equal(t, format, f.Format)
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
	for _, format := range []Format{Hex, Srec} {
		for _, unit := range []int{2, 4} {
			var text bytes.Buffer
			require.NoError(t, Write(&text, m, WriteOptions{Format: format, AddressUnit: unit}))
			for _, lines := range []string{text.String(), strings.ReplaceAll(text.String(), "\n", " \n")} {
				var problems source.Problems
				f, err := Read(strings.NewReader(lines), "f", -1, ReadOptions{AddressUnit: unit}, &problems)
				require.NoError(t, err)
				require.NoError(t, problems.Err())
				assert.True(t, m.Equal(f.Image), "%s, %d", format, unit)
			}
		}
	}
}
