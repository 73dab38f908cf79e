package memtext

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/internal/golden"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

func image(t testing.TB, parts map[uint64]string) *memory.Image {
	t.Helper()
	var list []*memory.Image
	for first, data := range parts {
		m, ok := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
		require.True(t, ok)
		list = append(list, m)
	}
	m, _ := memory.Merge(list, memory.First)
	return m
}

func write(t testing.TB, w *Writer, m *memory.Image) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, m))
	return b.String()
}

func read(t testing.TB, f *format.Format, text string, o format.ReadOptions) (*format.Content, *source.Problems) {
	t.Helper()
	return readIn(t, f, text, o, "")
}

// readIn reads in an order of bytes that is given.
func readIn(t testing.TB, f *format.Format, text string, o format.ReadOptions, order memory.Order) (*format.Content, *source.Problems) {
	t.Helper()
	r := f.Reader()
	if order != "" {
		require.NoError(t, key.Set(r.Keys(), []source.Setting{{Key: "order", Value: string(order)}}))
	}
	var problems source.Problems
	c, err := r.Read(strings.NewReader(text), &source.Input{Name: "f.mem"}, o, &problems)
	require.NoError(t, err)
	return c, &problems
}

func TestWritten(t *testing.T) {
	m := image(t, map[uint64]string{0x100: "\x01\x02\x03\x04\x05\x06\x07\x08", 0x200: "\xAA\xBB\xCC\xDD"})
	fill := byte(0xFF)
	for want, w := range map[string]*Writer{
		"@00000100\n01 02 03 04 05 06 07 08\n@00000200\nAA BB CC DD\n": {},
		"@00000040\n04030201 08070605\n@00000080\nDDCCBBAA\n":          {Word: 4},
		"@00000040\r\n01020304 05060708\r\n@00000080\r\nAABBCCDD\r\n": {Unit: 4, Order: "big",
			CRLF: true},
		"@00000080\n0201 0403\n0605 0807\n@00000100\nBBAA DDCC\n":                                                {Word: 2, RowLength: 4},
		"@00000020\n0807060504030201\n@00000040\nFFFFFFFFDDCCBBAA\n":                                             {Word: 8, Holes: &fill},
		"@00000080\n0000000100000010 0000001100000100\n":                                                         nil,
		"// 2-byte words, big-endian; a CRC-32 stands in the last line\n@00000000\n4142\n// CRC-32 0xF3CE5A2E\n": nil,
	} {
		if w != nil {
			assert.Equal(t, want, write(t, w, m))
		}
	}
	assert.Equal(t, "@00000000\n0100000101000010\n",
		write(t, &Writer{PerByte: 8, Word: 2, Order: "big"}, image(t, map[uint64]string{0: "AB"})))
	// The CRC is that of 00000000 00000000 00000000 00000002 41 42.
	assert.Equal(
		t,
		"// 2-byte words, big-endian; a CRC-32 stands in the last line\n@00000000\n4142\n"+fmt.Sprintf(
			"// CRC-32 0x%08X\n",
			bitwise("\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02AB"),
		),
		write(t, &Writer{Word: 2, Order: "big", Comments: true}, image(t, map[uint64]string{0: "AB"})),
	)

	_, err := (&Writer{Word: 8}).Check(m)
	assert.ErrorContains(t, err,
		"the image has a hole within words of 8 bytes: 0x0204..0x0207 (4 bytes) (fill it first; holes FF writes it as FF)")
	_, err = (&Writer{Word: 4, RowLength: 6}).Check(m)
	assert.ErrorContains(t, err, "6 bytes in a line are not whole words of 4 bytes")
	_, err = (&Writer{Word: 4, Unit: 2}).Check(m)
	assert.ErrorContains(t, err, "words of 4 bytes and addresses that count 2")
}

func bitwise(data string) uint32 {
	crc := uint32(0xFFFFFFFF)
	for i := range len(data) {
		crc ^= uint32(data[i])
		for range 8 {
			crc = crc>>1 ^ 0xEDB88320&-(crc&1)
		}
	}
	return ^crc
}

// TestRead takes what IEEE 1364-2005, 17.2.9 lets stand in such a file.
func TestRead(t *testing.T) {
	for text, want := range map[string]map[uint64]string{
		"01 ff Fe":                         {0: "\x01\xFF\xFE"},
		"@10 0a\n0b // 0c\n/* 0d\n0e */0f": {0x10: "\x0A\x0B\x0F"},
		"@0_0 0000_ffff":                   {0: "\xFF\xFF\x00\x00"},
		"@2 1234 @4\t5678\r\n":             {4: "\x34\x12", 8: "\x78\x56"},
		"@2\n12\n@0\n34 56":                {2: "\x12", 0: "\x34\x56"},
		"12//a\n34/**/56":                  {0: "\x12\x34\x56"},
		"12@5 34":                          {0: "\x12", 5: "\x34"},
		"":                                 {},
		"// nothing\n":                     {},
	} {
		c, problems := read(t, Hex, text, format.ReadOptions{})
		require.NoError(t, problems.Err(), text)
		assert.True(t, image(t, want).Equal(c.Image), "%q", text)
	}
	c, problems := read(t, Binary, "@a 0100_0001 01000010", format.ReadOptions{})
	require.Zero(t, problems.Count())
	assert.True(t, image(t, map[uint64]string{10: "AB"}).Equal(c.Image))
	o, _ := c.Image.Origin(11)
	assert.Equal(t, "f.mem:1", o.String())
	c, problems = readIn(t, Hex, "// 1\n\n00112233\n44556677\n", format.ReadOptions{}, "big")
	require.Zero(t, problems.Count())
	assert.Equal(t, "no checksums of its own", c.Unproven)
	assert.Equal(t, "\x00\x11\x22\x33\x44\x55\x66\x77", string(c.Image.Runs()[0].Data))
	assert.Equal(t, []format.Fact{{Name: "words", Text: "4 bytes, big-endian"}}, c.Facts)
	o, _ = c.Image.Origin(5)
	assert.Equal(t, "f.mem:4", o.String())
}

func TestWhatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		"12 3x":                               "f.mem:1:5: error: 'x' is an unknown or open value, which no byte has",
		"zz":                                  "f.mem:1:1: error: 'z' is an unknown or open value",
		"12 g4":                               "f.mem:1:4: error: 'g' is not a digit of a word",
		"12\n3é":                              "f.mem:2:2: error: 'é' is not a digit of a word",
		"123":                                 "f.mem:1:1: error: the first word has 3 digits, not a whole number of bytes up to 64",
		"12 345":                              "f.mem:1:4: error: the word 345 has 3 digits; expected 2",
		"1234 56":                             "f.mem:1:6: error: the word 56 has 2 digits; expected 4 (lenient puts zeros before it)",
		"12 _34":                              "f.mem:1:4: error: '_' is not a digit of a word",
		"@ 12":                                "f.mem:1:1: error: @ is not an address; expected hex digits after @",
		"@" + strings.Repeat("g", 40) + " 12": "f.mem:1:1: error: @" + strings.Repeat("g", 40) + " is not an address; expected",
		"@" + strings.Repeat("g", 41) + " 12": "f.mem:1:1: error: @" + strings.Repeat("g", 40) + "... is not an address; expected",
		"@1g 12":                              "f.mem:1:1: error: @1g is not an address",
		"@fffffffffffffffff 12":               "f.mem:1:1: error: @fffffffffffffffff is past the last 64-bit address",
		"@ffffffffffffffff 12 34":             "f.mem:1:22: error: the word runs past the last 64-bit address",
		"@8000000000000000 1234":              "f.mem:1:19: error: the address before it is past the last 64-bit address",
		"00 11 /* 22":                         "f.mem:1: error: a comment is not closed; expected */",
		"00 / 11":                             "f.mem:1:4: error: '/' is not a digit; a comment begins with // or /*",
		"@0 11\n@0 12":                        "f.mem:2: error: gives 0x0000 (1 byte) other values than f.mem:1",
		"@0 11\n@0 11": "f.mem:2: error: gives 0x0000 (1 byte) a second time, with the same values as f.mem:1 " +
			"(lenient allows it)",
		"// 4-byte words, big-endian; a CRC-32 stands in the last line\n11223344\n":                      "f.mem:3: error: the CRC-32 that the first line promises is missing",
		"// 99-byte words, big-endian; a CRC-32 stands in the last line\n11\n":                           "f.mem:1:1: error: the text gives 99-byte words; expected 1 to 64",
		"// 2-byte words, big-endian; a CRC-32 stands in the last line\n@0 4142\n// CRC-32 0x00000000\n": "f.mem:3: error: the text says CRC-32 0x00000000",
	} {
		c, problems := read(t, Hex, text, format.ReadOptions{})
		require.Error(t, problems.Err(), "%q", text)
		assert.Contains(t, problems.Sorted()[0].Error(), want, "%q", text)
		assert.True(t, c.Image.Empty())
	}
	_, problems := read(t, Hex, "// 2-byte words, big-endian; a CRC-32 stands in the last line\n", format.ReadOptions{Unit: 4})
	assert.ErrorContains(t, problems.Err(), "the text says that its words are of 2 bytes, big-endian; 4 bytes, big-endian is asked for")
	c, problems := read(t, Hex, "1234 56\n@0 1234", format.ReadOptions{Lenient: true})
	require.NoError(t, problems.Err())
	assert.Equal(t, 2, problems.Count())
	assert.Equal(t, "\x34\x12\x56\x00", string(c.Image.Runs()[0].Data))
	_, problems = read(t, Hex, strings.Repeat("g ", 50_000), format.ReadOptions{})
	assert.Less(t, problems.Count(), 20_000, "a file of another kind has an end to its problems")
}

func TestWrittenAndReadIsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		parts := map[uint64]string{}
		word := uint64(1 + r.IntN(9))
		for range 1 + r.IntN(4) {
			data := make([]byte, word*uint64(1+r.IntN(100)))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			parts[uint64(r.IntN(1<<14))*word] = string(data)
		}
		m := image(t, parts)
		w := &Writer{
			PerByte:  2,
			Word:     word,
			Order:    []memory.Order{"", "little", "big"}[r.IntN(3)],
			Comments: r.IntN(2) == 0,
			CRLF:     r.IntN(2) == 0,
		}
		f := Hex
		if r.IntN(3) == 0 {
			w.PerByte, f = 8, Binary
		}
		order := memory.Order("")
		if !w.Comments {
			order = w.Order
		}
		text := write(t, w, m)
		c, problems := readIn(t, f, text, format.ReadOptions{}, order)
		require.NoError(t, problems.Err(), text)
		require.Zero(t, problems.Count())
		require.True(t, m.Equal(c.Image), text)
	}
}

// TestOneDamagedCharacterIsReported changes, takes out, and puts in one
// character at each place of a file: that is reported, or the image is the
// same.
func TestOneDamagedCharacterIsReported(t *testing.T) {
	for _, w := range []*Writer{{Word: 4, Order: "big", Comments: true}, {Word: 2, Comments: true}, {Comments: true, RowLength: 5},
		{PerByte: 8, Comments: true, Word: 2, Order: "big"}} {
		m := image(t, map[uint64]string{0x40: "harbour tide gauge, ", 0x8000: "station\x00"})
		f := Hex
		if w.PerByte == 8 {
			f = Binary
		}
		text := write(t, w, m)
		try := func(damaged string) {
			c, problems := read(t, f, damaged, format.ReadOptions{})
			if problems.Count() == 0 {
				require.True(t, m.Equal(c.Image), "in silence:\n%s", damaged)
			}
		}
		for i := 0; i < len(text); i += golden.Every(11) {
			try(text[:i] + text[i+1:])
			for _, c := range []byte("0179AFfx@/*_ \n\r-!\x00\xFF") {
				try(text[:i] + string(c) + text[i+1:])
				try(text[:i] + string([]byte{c}) + text[i+1:])
				try(text[:i] + string([]byte{c}) + text[i:])
			}
		}
	}
}

// TestLongTexts reads texts of many windows, with comments and lines across their
// borders, in small pieces.
func TestLongTexts(t *testing.T) {
	data := strings.Repeat("harbour tide gauge station one. ", 30_000)
	m := image(t, map[uint64]string{0x100: data})
	text := write(t, &Writer{Word: 4, Comments: true}, m)
	long := strings.ReplaceAll(text, "\n", " ")
	long = text[:strings.Index(text, "\n")+1] + long[strings.Index(text, "\n")+1:strings.LastIndex(text, "//")] + "\n" +
		text[strings.LastIndex(text, "//"):]
	commented := strings.Replace(text, "\n@", "\n/* "+strings.Repeat("a comment of many lines\n", 40_000)+"*/@", 1)
	for _, text := range []string{text, long, commented} {
		var problems source.Problems
		c, err := Hex.Reader().Read(iotest.HalfReader(strings.NewReader(text)), &source.Input{Name: "f"}, format.ReadOptions{}, &problems)
		require.NoError(t, err)
		require.NoError(t, problems.Err())
		require.True(t, m.Equal(c.Image))
	}
	c, _ := read(t, Hex, commented, format.ReadOptions{})
	o, _ := c.Image.Origin(0x100)
	assert.Equal(t, "f.mem:40003", o.String())
	_, problems := read(t, Hex, commented[:500_000], format.ReadOptions{})
	assert.ErrorContains(t, problems.Err(), "f.mem:2: error: a comment is not closed")
	_, err := Hex.Reader().
		Read(iotest.TimeoutReader(strings.NewReader(text)), &source.Input{Name: "f"}, format.ReadOptions{}, &source.Problems{})
	assert.ErrorIs(t, err, iotest.ErrTimeout)
}

func TestTold(t *testing.T) {
	for text, want := range map[string][2]bool{ // begins, could
		"@0 12":               {true, true},
		"// a\n@00 12":        {true, true},
		"/* a */ @00\n12":     {true, true},
		"12 34":               {false, true},
		"":                    {false, true},
		"// only a comment":   {false, true},
		"/* open @0 12":       {false, true},
		"@home is nothing":    {false, true},
		"plain text":          {false, false},
		"\x00\x01\x02\x03@00": {false, false},
	} {
		assert.Equal(t, want, [2]bool{begins([]byte(text)), mayBe([]byte(text))}, "%q", text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("@0 12 34 // x\n/* */ @ff 56", false, 0)
	f.Add("// 2-byte words, big-endian; a CRC-32 stands in the last line\n@0 4142\n// CRC-32 0x00000000\n", false, 2)
	f.Add("@0 01010101", true, 1)
	f.Fuzz(func(t *testing.T, text string, binary bool, unit int) {
		kind := Hex
		if binary {
			kind = Binary
		}
		o := format.ReadOptions{}
		if unit == 1 || unit == 2 || unit == 4 {
			o.Unit = unit
		}
		c, problems := read(t, kind, text, o)
		if c.Image.Bytes() > uint64(len(text)) {
			t.Fatal("more bytes than text")
		}
		if problems.Count() == 0 && !c.Image.Empty() {
			again, more := read(t, Hex, write(t, &Writer{Comments: true}, c.Image), format.ReadOptions{})
			if more.Count() > 0 || !again.Image.Equal(c.Image) {
				t.Fatal("written and read again it is another image")
			}
		}
	})
}

// TestDigitsOfWords damages each digit of words of several bytes, in text that has no
// checksum: none is taken for another.
func TestDigitsOfWords(t *testing.T) {
	for _, good := range []string{"@10\n01020304 05060708 0A0B0C0D\n11223344\n", "@0 0102 0304\n0506 0708 090A\n",
		"@4\n01 02 03 04\n05 06\n"} {
		if _, problems := read(t, Hex, good, format.ReadOptions{}); problems.Errors() > 0 {
			t.Fatalf("%q: %v", good, problems)
		}
		for i := range good {
			if !record.IsDigit(good[i]) {
				continue
			}
			for _, c := range "gG;é?" {
				_, problems := read(t, Hex, good[:i]+string(c)+good[i+1:], format.ReadOptions{})
				assert.Positive(t, problems.Errors(), "%q at %d of %q", c, i, good)
			}
		}
	}
}

// TestTextsAgainstAModel writes words with all that may stand between them, and holds the
// image, and the place of each byte, against what was written.
func TestTextsAgainstAModel(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for round := range 400 / golden.Every(3) {
		width, order := 1+r.IntN(9), memory.OrderOf(r.IntN(2) == 1)
		kind, perByte := Hex, 2
		if r.IntN(4) == 0 {
			kind, perByte = Binary, 8
		}
		var text strings.Builder
		model, lines := map[uint64]byte{}, map[uint64]int{}
		at, line := uint64(r.IntN(50)*width), 1
		if r.IntN(3) > 0 || perByte == 8 {
			fmt.Fprintf(&text, "@%X\n", at/uint64(width))
			line++
		} else {
			at = 0
		}
		for range 1 + r.IntN(700) {
			word := make([]byte, width)
			for i := range word {
				word[i] = byte(r.Uint32())
				if r.IntN(9) == 0 {
					word[i] = 0
				}
			}
			digits := ""
			for _, b := range word {
				if perByte == 8 {
					digits += fmt.Sprintf("%08b", b)
				} else if r.IntN(2) == 0 {
					digits += fmt.Sprintf("%02x", b)
				} else {
					digits += fmt.Sprintf("%02X", b)
				}
				if r.IntN(60) == 0 && len(digits) < width*perByte {
					digits += "_"
				}
			}
			text.WriteString(digits)
			for i, b := range word {
				a := at + uint64(i)
				if order == memory.Little {
					a = at + uint64(width-1-i)
				}
				model[a], lines[a] = b, line
			}
			at += uint64(width)
			switch r.IntN(30) {
			case 0:
				text.WriteString("  \t")
			case 1:
				text.WriteString("\r\n")
				line++
			case 2, 3, 4:
				text.WriteString("\n")
				line++
			case 5:
				text.WriteString(" // a comment @12\n")
				line++
			case 6:
				text.WriteString("/* two\nlines */ ")
				line++
			case 7:
				at += uint64(r.IntN(20) * width)
				fmt.Fprintf(&text, "\n@%x\n", at/uint64(width))
				line += 2
			default:
				text.WriteString(" ")
			}
		}
		c, problems := readIn(t, kind, text.String(), format.ReadOptions{Unit: width, Size: int64(text.Len())}, order)
		require.NoError(t, problems.Err(), "round %d: %s", round, text.String())
		require.Equal(t, uint64(len(model)), c.Image.Bytes(), "round %d", round)
		for a, b := range model {
			o, ok := c.Image.Origin(a)
			require.True(t, ok)
			require.Equal(t, uint64(lines[a]), o.Position, "round %d, at %X", round, a)
			got := []byte{0}
			c.Image.ReadAt(got, a)
			require.Equal(t, b, got[0], "round %d, at %X of %d %s", round, a, width, order)
		}
	}
}

// TestHowTextsBegin tells memory text by its beginning.
func TestHowTextsBegin(t *testing.T) {
	for text, want := range map[string][2]bool{ // what it shows, and what it may be
		"@0 01": {true, true}, "@0\n01": {true, true}, "@0 /": {true, true}, "@0 @1": {true, true}, "@0 g": {false, true},
		"@0": {false, true}, "@0 ": {false, true}, "@ 01": {false, true},
		"@_0 01": {false, true}, "@0_1 01": {true, true}, "01": {false, true}, "": {false, true}, "x1": {false, true}, "Z": {false, true},
		"g": {false, false}, "Y": {false, false}, "\x01\x02@0 01": {false, false},
		" \t// @0 01\n@0 01": {true, true}, "/* @0 */@0 01": {true, true}, "/* @0 01": {false, true}, "// x": {false, true},
		"/**/@0 01": {true, true}, "/*/@0 01": {false, true}, "//\n@0 01": {true, true}, "/x": {false, false},
		"@0 01\x00\x01\x02\x03": {false, false},
	} {
		assert.Equal(t, want, [2]bool{begins([]byte(text)), mayBe([]byte(text))}, "%q", text)
	}
	m := image(t, map[uint64]string{0: strings.Repeat("0123456789abcdef", 20_000)})
	for _, w := range []*Writer{{}, {PerByte: 8}, {Word: 4, Comments: true, CRLF: true}} {
		text := codectest.Writes(t, w, m)
		kind := Hex
		if w.PerByte == 8 {
			kind = Binary
		}
		codectest.Reads(t, kind.Reader, text[:min(len(text), 70_000)])
	}
	notes, err := (&Writer{}).Check(m.WithHeader([]byte("HDR")).WithStart(memory.Start{Kind: memory.LinearStart, Value: 4}))
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{`the header "HDR" is left out; memory text has none`, "the start address 0x0004 is left out; memory text has none"},
		notes,
	)
	notes, err = (&Writer{}).Check(m)
	require.NoError(t, err)
	assert.Empty(t, notes)
	for text, want := range map[string]string{
		"@0 " + strings.Repeat("0", 128) + " ": "", "@0 " + strings.Repeat("0", 130) + " ": "not a whole number of bytes up to 64",
		"@FFFFFFFFFFFFFFFF 01": "", "@FFFFFFFFFFFFFFFF 01 02": "past the last", "@10000000000000000 01": "@1000",
	} {
		_, problems := read(t, Hex, text, format.ReadOptions{})
		if want == "" {
			assert.NoError(t, problems.Err(), text)
			continue
		}
		assert.ErrorContains(t, problems.Err(), want, text)
	}
}

func TestEditedTexts(t *testing.T) {
	m := image(t, map[uint64]string{0x100: "\x01\x02\x03\x04\x05\x06\x07\x08", 0x200: "\xAA\xBB\xCC\xDD"})
	codectest.Edited(t, "testdata/edited.txt", 400, Hex.Reader, map[string]string{
		"bytes":  write(t, &Writer{Comments: true}, m),
		"words":  write(t, &Writer{Word: 4, Order: "big", Comments: true, RowLength: 8}, m),
		"others": "// a comment\n@10 0a\n0b // 0c\n/* 0d\n0e */0f\n@2_0 12_34 @30\t5678\r\n",
		"wide":   write(t, &Writer{Word: 2}, m) + "@300 ff",
	})
	codectest.Edited(t, "testdata/edited-binary.txt", 300, Binary.Reader, map[string]string{"bits": write(t, &Writer{PerByte: 8, Comments: true}, m)})
}
