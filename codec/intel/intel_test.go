package intel

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

func read(text string, o format.ReadOptions) (*memory.Image, []string) {
	var problems source.Problems
	result, err := Read(strings.NewReader(text), &source.Input{Name: "f", Counting: source.Lines}, o, &problems)
	if err != nil {
		panic(err)
	}
	var list []string
	for _, p := range problems.Sorted() {
		list = append(list, p.Error())
	}
	if problems.Errors() > 0 {
		return nil, list
	}
	return result.Image, list
}

// record text with the right checksum
func rec(kind byte, address uint16, data ...byte) string {
	b := append([]byte{byte(len(data)), byte(address >> 8), byte(address), kind}, data...)
	sum := byte(0)
	for _, c := range b {
		sum += c
	}
	return fmt.Sprintf(":%X\n", append(b, -sum))
}

const end = ":00000001FF\n"

func image(t *testing.T, parts map[uint64]string) *memory.Image {
	t.Helper()
	var images []*memory.Image
	for first, data := range parts {
		m, ok := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
		require.True(t, ok)
		images = append(images, m)
	}
	m, _ := memory.Merge(images, memory.First)
	return m
}

// TestEachFieldCounts reads records of which each field has all of its bytes, at their
// addresses by the standard: as they are, which are decoded many at once, and with a blank
// behind them, which are looked at one by one.
func TestEachFieldCounts(t *testing.T) {
	for text, want := range map[string]uint64{
		rec(4, 0, 0x12, 0x34) + rec(0, 0x56FF, 'a') + end: 0x1234_56FF,
		rec(4, 0, 0x80, 0x01) + rec(0, 0x0001, 'a') + end: 0x8001_0001,
		rec(2, 0, 0xF1, 0x23) + rec(0, 0x4567, 'a') + end: 0xF1230 + 0x4567,
		rec(2, 0, 0x12, 0x00) + rec(0, 0xFFFF, 'a') + end: 0x12000 + 0xFFFF,
		rec(0, 0xABCD, 'a') + end:                         0xABCD,
	} {
		for _, text := range []string{text, strings.ReplaceAll(text, "\n", " \n")} {
			m, problems := read(text, format.ReadOptions{})
			require.Empty(t, problems, text)
			assert.True(t, image(t, map[uint64]string{want: "a"}).Equal(m), "%s: %v", text, m.Runs())
		}
	}
}

func TestReadsWhatTheStandardAllows(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want map[uint64]string
	}{
		"the standard's layout": {":10010000214601360121470136007EFE09D2190140\n" + end,
			map[uint64]string{0x100: "\x21\x46\x01\x36\x01\x21\x47\x01\x36\x00\x7E\xFE\x09\xD2\x19\x01"}},
		"lower case":               {":03000000abcdef96\n:00000001ff\n", map[uint64]string{0: "\xAB\xCD\xEF"}},
		"CR LF":                    {strings.ReplaceAll(rec(0, 0, 'a')+rec(0, 1, 'b')+end, "\n", "\r\n"), map[uint64]string{0: "ab"}},
		"CR":                       {strings.ReplaceAll(rec(0, 0, 'a')+rec(0, 1, 'b')+end, "\n", "\r"), map[uint64]string{0: "ab"}},
		"no final line end":        {rec(0, 0, 'a') + strings.TrimSpace(end), map[uint64]string{0: "a"}},
		"blank lines":              {"\n\n" + rec(0, 0, 'a') + "\n  \n" + end + "\n", map[uint64]string{0: "a"}},
		"out of order":             {rec(0, 2, 'c') + rec(0, 0, 'a', 'b') + end, map[uint64]string{0: "abc"}},
		"white space at line ends": {strings.Replace(rec(0, 0, 'a'), "\n", " \t\n", 1) + end, map[uint64]string{0: "a"}},
		"Ctrl-Z at the end":        {rec(0, 0, 'a') + end + "\x1A\n\x1A", map[uint64]string{0: "a"}},
		"no data bytes":            {rec(0, 5) + rec(0, 0, 'a') + end, map[uint64]string{0: "a"}},
		"longest record":           {rec(0, 0, []byte(strings.Repeat("x", 255))...) + end, map[uint64]string{0: strings.Repeat("x", 255)}},
		"linear base":              {rec(4, 0, 0x06, 0x00) + rec(0, 0x4000, 'a') + end, map[uint64]string{0x0600_4000: "a"}},
		"segment base":             {rec(2, 0, 0x10, 0x01) + rec(0, 0x0002, 'a') + end, map[uint64]string{0x1_0012: "a"}},
		"both bases mixed": {rec(4, 0, 0x00, 0x02) + rec(0, 0, 'a') + rec(2, 0, 0x10, 0x00) + rec(0, 0, 'b') + rec(4, 0,
			0, 3) + rec(0, 0, 'c') + end, map[uint64]string{0x2_0000: "a", 0x1_0000: "b", 0x3_0000: "c"}},
		"base repeated": {rec(4, 0, 0, 1) + rec(0, 0, 'a') + rec(4, 0, 0, 1) + rec(0, 1, 'b') + end,
			map[uint64]string{0x1_0000: "ab"}},
		"wraps in its segment": {rec(2, 0, 0x10, 0x00) + rec(0, 0xFFFF, 'a', 'b') + end, map[uint64]string{0x1_FFFF: "a", 0x1_0000: "b"}},
		"carries on linearly":  {rec(4, 0, 0, 1) + rec(0, 0xFFFF, 'a', 'b') + end, map[uint64]string{0x1_FFFF: "ab"}},
		"segment above 1 MiB":  {rec(2, 0, 0xFF, 0xFF) + rec(0, 0xFFFF, 'a') + end, map[uint64]string{0x10_FFEF: "a"}},
	} {
		t.Run(name, func(t *testing.T) {
			m, problems := read(c.text, format.ReadOptions{})
			require.Empty(t, problems)
			assert.True(t, image(t, c.want).Equal(m), "%v", m.Runs())
		})
	}
}

// TestWarnings lists what is read, and is odd all the same.
func TestWarnings(t *testing.T) {
	line := func(address uint16) string { return rec(0, address, []byte("0123456789abcdef")...) }
	for name, c := range map[string]struct{ text, want string }{
		"wraps at 4 GiB": {rec(4, 0, 0xFF, 0xFF) + rec(0, 0xFFFF, 'a', 'b') + end,
			"f:2:4: warning: the record runs past 0xFFFF_FFFF and wraps to 0: 2 bytes from 0xFFFFFFFF (it may be linked for the " +
				"wrong address)"},
		"a lost line": {line(0) + line(0x10) + line(0x30) + line(0x40) + end,
			"f:3: warning: just 1 record of 16 bytes left out between lines 2 and 3, at 0x0020..0x002F (16 bytes) (a line may be " +
				"lost; get the file again, or compare it with another copy)"},
		"two lost lines": {line(0) + line(0x10) + line(0x40) + line(0x50) + end,
			"f:3: warning: just 2 records of 16 bytes left out between lines 2 and 3, at 0x0020..0x003F (32 bytes) (a line may be " +
				"lost; get the file again, or compare it with another copy)"},
		"a base too late": {line(0xFFE0) + line(0xFFF0) + line(0) + rec(4, 0, 0, 1) + line(0x10) + line(0x20) + end,
			"f:3: warning: the record at 0x0000 would continue its neighbours on the other side of the base record on line 4 (two " +
				"lines may be swapped; get the file again)"},
		"a base too early": {line(0xFFD0) + line(0xFFE0) + rec(4, 0, 0, 1) + line(0xFFF0) + line(0) + line(0x10) + end,
			"f:4: warning: the record at 0x0001_FFF0 would continue its neighbours on the other side of the base record on line 3 " +
				"(two lines may be swapped; get the file again)"},
		"gaps at that unit": {"",
			"f: warning: with 2 bytes an address the records leave gaps as long as they are; expected records that continue one " +
				"another (from hex:1 reads them so)"},
		"a section elsewhere": {line(0) + line(0x10) + line(0x100) + line(0x110) + end, ""},
		"a base in its place": {line(0xFFE0) + line(0xFFF0) + rec(4, 0, 0, 1) + line(0) + line(0x10) + end, ""},
	} {
		t.Run(name, func(t *testing.T) {
			o := format.ReadOptions{}
			if c.text == "" {
				o.Unit = 2
				for i := range uint16(6) {
					c.text += line(16 * i)
				}
				c.text += end
			}
			m, problems := read(c.text, o)
			require.NotNil(t, m)
			assert.Equal(t, c.want, strings.Join(problems, "\n"))
		})
	}
}

// TestMovedLinesAreNamed has a base record too late in each of many places: the first are named.
func TestMovedLinesAreNamed(t *testing.T) {
	line := func(address uint16) string { return rec(0, address, make([]byte, 16)...) }
	for n, want := range map[int]int{0: 0, 1: 1, 19: 19, 20: 20, 21: 20, 40: 20} {
		text := rec(4, 0, 0, 0) + line(0)
		for k := range n {
			text += line(0xFFF0) + line(0x4000) + rec(4, 0, 0, byte(k+1)) + line(0x4010) + line(0x4020)
		}
		_, list := read(text+end, format.ReadOptions{})
		require.Len(t, list, want, n)
		for k, warning := range list {
			assert.Contains(t, warning,
				fmt.Sprintf("f:%d: warning: the record at %s would continue its neighbours on the other side of the base record "+
					"on line %d ", 4+5*k, memory.FormatAddress(uint64(k)<<16+0x4000), 5+5*k))
		}
	}
}

func TestStartAddresses(t *testing.T) {
	for text, want := range map[string]memory.Start{
		rec(5, 0, 0x06, 0, 0x41, 0x01): {Kind: memory.LinearStart, Value: 0x0600_4101},
		rec(3, 0, 0xF0, 0, 0x12, 0x34): {Kind: memory.SegmentedStart, Value: 0xF000_1234},
		rec(5, 0, 0, 0, 0, 0):          {Kind: memory.LinearStart},
		"":                             {},
	} {
		m, problems := read(rec(0, 0, 'a')+text+end, format.ReadOptions{})
		require.Empty(t, problems)
		assert.Equal(t, want, m.Start())
		var b bytes.Buffer
		require.NoError(t, (&Writer{}).Write(&b, m))
		assert.Equal(t, rec(0, 0, 'a')+text+end, b.String(), "written as it was read")
	}
	assert.Equal(t, uint64(0xF1234), memory.Start{Kind: memory.SegmentedStart, Value: 0xF000_1234}.Address())
}

// TestProblems lists what is wrong with a text, and for deviations what stands
// in the image when they are let pass.
func TestProblems(t *testing.T) {
	a := rec(0, 0, 'a')
	for name, c := range map[string]struct {
		text    string
		want    []string
		lenient string // the bytes from 0 on where -lenient allows it; "" is never
	}{
		"no end record": {a,
			[]string{"f:1:14: error: the file has no end record; it has 1 byte, the last at 0x0000; expected :00000001FF at the end"}, "a"},
		"text after the end": {a + end + "x\n",
			[]string{"f:3:1: error: data after the end record", "f:3:1: error: the line does not begin with a record mark"}, "a"},
		"records after the end": {a + end + rec(0, 1, 'b') + end,
			[]string{"f:3:1: error: data after the end record; expected nothing but white space"}, "ab"},
		"byte-order mark": {"\xEF\xBB\xBF" + a + end, []string{"f:1:1: error: byte-order mark (U+FEFF)"}, "a"},
		"comment": {"; boot\n" + a + end,
			[]string{"f:1:1: error: the line does not begin with a record mark; expected ':'"}, "a"},
		"comment of digits whose sum is 0": {"X030000000000FD\n" + a + end,
			[]string{"f:1:1: error: the line does not begin with a record mark; expected ':'"}, "a"},
		"space before the mark": {"  " + a + end, []string{"f:1:1: error: white space before the record mark"}, "a"},
		"address in a base": {rec(4, 7, 0, 0) + a + end, []string{"f:1:4: error: extended linear address record with address 0x0007"},
			"a"},
		"address in a start": {a + rec(5, 7, 0, 0, 0, 0) + end,
			[]string{"f:2:4: error: start linear address record with address 0x0007"}, "a"},
		"past FFFF, no base": {a + rec(0, 0xFFFF, 'b', 'c') + end,
			[]string{"f:2:4: error: the record runs past 0xFFFF before any base record: 2 bytes from 0xFFFF; expected a type 04 " +
				"record first"}, "a"},
		"twice the same": {a + a + end,
			[]string{"f:2: error: bytes at 0x0000 (1 byte) are given twice, with the same values; expected"}, "a"},
		"two start addresses": {a + rec(5, 0, 0, 0, 0, 1) + rec(5, 0, 0, 0, 0, 2) + end,
			[]string{"f:3:2: error: another start address; expected"}, "a"},

		"no digit": {":01000000g19E\n" + end,
			[]string{"f:1:10: error: character 'g' among the digits of a record; expected hex digits 0-9 A-F only"}, ""},
		"letter O": {":O100000061" + "9E\n" + end,
			[]string{"f:1:2: error: character 'O' among the digits of a record; expected hex digits 0-9 A-F only (use"}, ""},
		"typographic quote": {":01000000“19E\n" + end,
			[]string{"f:1:10: error: character U+201C “ (a typographic quote) among the digits of a record; expected hex digits 0-9 " +
				"A-F only (looks like copy-and-paste damage; get the original file)"}, ""},
		"dash":           {":01000000–19E\n" + end, []string{"f:1:10: error: character U+2013 (a dash or hyphen)"}, ""},
		"no-break space": {":01000000\u00A061\n" + end, []string{"f:1:10: error: character U+00A0 (a no-break space)"}, ""},
		"NUL":            {":01000000\x0061\n" + end, []string{"f:1:10: error: character U+0000 (NUL)"}, ""},
		"no text":        {":01000000\xFE61\n" + end, []string{"f:1:10: error: byte 0xFE, which is not text,"}, ""},
		"shorter": {":020000006163\n" + end,
			[]string{"f:1:14: error: the record is shorter than its length says: 12 digits; expected 14 digits for 2 data bytes"}, ""},
		"longer": {":0100000061629E\n" + end,
			[]string{"f:1:14: error: the record is longer than its length says: 14 digits; expected 12 digits for 1 data bytes"}, ""},
		"broken in two": {":0200\n00006163" + "3A\n" + end,
			[]string{"f:1: error: lines 1 and 2 are one record broken into two; expected one record on one line"}, ""},
		"broken, but other": {":0200\n00006163" + "3C\n" + end,
			[]string{"f:1:6: error: the record is shorter than its length says", "f:2:1: error: the record mark is damaged or missing"},
			""},
		"breaks off": {a + ":0100",
			[]string{"f:2:6: error: the record is shorter than its length says: 4 digits; expected 12 digits for 1 data bytes (the " +
				"file is truncated here; get it again)", "f:2:6: error: the file has no end record"}, ""},
		"mark alone": {a + ":\n" + end, []string{"f:2:2: error: the record breaks off after 0 digits; expected 10 or more"}, ""},
		"wrong checksum": {":01000000619F\n" + end,
			[]string{"f:1:12: error: checksum is 0x9F; expected 0x9E, computed from the record"}, ""},
		"unknown type": {rec(6, 0) + a + end, []string{"f:1:8: error: record type 0x06 is not known; expected 00 to 05"}, ""},
		"base too long": {rec(4, 0, 0, 0, 0) + a + end,
			[]string{"f:1:2: error: extended linear address record with 3 data bytes; expected 2"}, ""},
		"start too short": {rec(3, 0, 0, 0) + a + end,
			[]string{"f:1:2: error: start segment address record with 2 data bytes; expected 4"}, ""},
		"end with data": {a + rec(1, 0, 0),
			[]string{"f:2:2: error: end of file record with 1 data bytes; expected 0", "f:2:14: error: the file has no"}, ""},
		"twice, different": {a + rec(0, 0, 'b') + end,
			[]string{"f:2: error: bytes at 0x0000 (1 byte) are given twice and differ (1 of them); expected"}, ""},
		"mark damaged": {";" + a[1:] + end, []string{"f:1:1: error: the record mark is damaged or missing"}, ""},
		"mark missing": {a[1:] + end, []string{"f:1:1: error: the record mark is damaged or missing"}, ""},
		"several, in order": {":0100000061\n;\n:01000000619F\n" + end,
			[]string{"f:1:12: error: the record is shorter", "f:2:1: error: the line does not begin", "f:3:12: error: checksum is 0x9F"},
			""},
		"Ctrl-Z too early":   {a + "\x1A\n" + end, []string{"f:2:1: error: the line does not begin with a record mark"}, "a"},
		"empty":              {"", []string{"f:1: error: the file has no end record; it is empty"}, ""},
		"two files together": {rec(4, 0, 0, 1) + a + end + rec(0, 0, 'b') + end, []string{"f:4:1: error: data after the end record"}, "b"},
	} {
		t.Run(name, func(t *testing.T) {
			m, problems := read(c.text, format.ReadOptions{})
			require.Nil(t, m)
			require.Len(t, problems, len(c.want), "%q", problems)
			for i, want := range c.want {
				assert.True(t, strings.HasPrefix(problems[i], want), "found    %s\nexpected %s", problems[i], want)
			}
			m, problems = read(c.text, format.ReadOptions{Lenient: true})
			if c.lenient == "" {
				if name != "empty" {
					require.Nil(t, m, "damage is damage, leniently too: %q", problems)
				}
				return
			}
			require.NotNil(t, m, "%q", problems)
			for _, p := range problems {
				assert.Contains(t, p, "warning: ")
			}
			got := make([]byte, len(c.lenient))
			require.True(t, m.ReadAt(got, 0))
			assert.Equal(t, c.lenient, string(got))
		})
	}
}

func TestUnits(t *testing.T) {
	text := rec(4, 0, 0, 1) + rec(0, 0x10, 'a', 'b', 'c', 'd') + end
	m, problems := read(text, format.ReadOptions{Unit: 2})
	require.Empty(t, problems)
	assert.True(t, image(t, map[uint64]string{0x2_0020: "abcd"}).Equal(m))
	var b bytes.Buffer
	require.NoError(t, (&Writer{Unit: 2}).Write(&b, m))
	assert.Equal(t, text, b.String())

	// A segment holds twice 64 KiB bytes then, and wraps there.
	m, problems = read(rec(2, 0, 0, 0)+rec(0, 0xFFFF, 'a', 'b', 'c', 'd')+end, format.ReadOptions{Unit: 2})
	require.Empty(t, problems)
	assert.True(t, image(t, map[uint64]string{0x1_FFFE: "ab", 0: "cd"}).Equal(m))

	odd := image(t, map[uint64]string{1: "ab"})
	assert.ErrorContains(t, (&Writer{Unit: 2}).Write(&b, odd), "whole address units")
	assert.ErrorContains(t, (&Writer{Unit: 4, RecordLength: 6}).Write(&b, m), "not whole address units")
}

func TestWrite(t *testing.T) {
	long := strings.Repeat("\x11", 40)
	for name, c := range map[string]struct {
		parts map[uint64]string
		o     Writer
		want  string
	}{
		"records start on multiples": {map[uint64]string{0xFFFA: "abcdef"}, Writer{}, rec(0, 0xFFFA, []byte("abcdef")...) + end},
		"aligned after a ragged one": {map[uint64]string{0x0C: long[:24]}, Writer{},
			rec(0, 0x0C, []byte(long[:4])...) + rec(0, 0x10, []byte(long[:16])...) + rec(0, 0x20, []byte(long[:4])...) + end},
		"no record crosses 64 KiB": {map[uint64]string{0xFFF0: long[:32]}, Writer{RecordLength: 32},
			rec(0, 0xFFF0, []byte(long[:16])...) + rec(4, 0, 0, 1) + rec(0, 0, []byte(long[:16])...) + end},
		"base only where it changes": {map[uint64]string{0x0601_0000: "a", 0x0601_0003: "b", 0x0602_0000: "c"}, Writer{},
			rec(4, 0, 6, 1) + rec(0, 0, 'a') + rec(0, 3, 'b') + rec(4, 0, 6, 2) + rec(0, 0, 'c') + end},
		"segmented": {map[uint64]string{0x1_0000: "a", 0xF_FFFF: "b"}, Writer{Segmented: true},
			rec(2, 0, 0x10, 0) + rec(0, 0, 'a') + rec(2, 0, 0xF0, 0) + rec(0, 0xFFFF, 'b') + end},
		"CR LF":             {map[uint64]string{0: "a"}, Writer{CRLF: true}, strings.ReplaceAll(rec(0, 0, 'a')+end, "\n", "\r\n")},
		"one byte a record": {map[uint64]string{0: "ab"}, Writer{RecordLength: 1}, rec(0, 0, 'a') + rec(0, 1, 'b') + end},
		"the last address":  {map[uint64]string{0xFFFF_FFFF: "a"}, Writer{}, rec(4, 0, 0xFF, 0xFF) + rec(0, 0xFFFF, 'a') + end},
		"nothing":           {nil, Writer{}, end},
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			require.NoError(t, c.o.Write(&b, image(t, c.parts)))
			assert.Equal(t, c.want, b.String())
		})
	}
	for want, m := range map[string]*memory.Image{
		"is above 0xFFFF_FFFF": image(t, map[uint64]string{0xFFFF_FFFF: "ab"}),
		"up to 0xFFFF_FFFF":    (&memory.Image{}).WithStart(memory.Start{Kind: memory.LinearStart, Value: 1 << 32}),
	} {
		assert.ErrorContains(t, (&Writer{}).Write(&bytes.Buffer{}, m), want)
	}
	assert.ErrorContains(t, (&Writer{Segmented: true}).Write(&bytes.Buffer{}, image(t, map[uint64]string{0x10_0000: "a"})), "0x000F_FFFF")
	assert.ErrorContains(t, key.Set((&Writer{}).Keys(), []source.Setting{{Key: "record-length", Value: "256"}}), "out of range; 1 to 255")
}

// TestPlainAndLineAgree reads files of many blocks with records of all kinds,
// on one core, on two, and with every record made unfit for the fast way.
func TestPlainAndLineAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 6 {
		var text, slow strings.Builder
		address, upper := uint64(0), []int{0, 0xF0, 0x7FF0, 0xFE00, 0, 0x12F0}[round]
		for text.Len() < 3<<20 {
			var line string
			switch k := r.IntN(400); {
			case k == 0 || address > 0xFE00:
				upper++
				address = 0
				if upper < 16 && r.IntN(2) == 0 {
					line = rec(2, 0, byte(upper<<4), 0)
				} else {
					line = rec(4, 0, byte(upper>>8), byte(upper))
				}
			case k == 1:
				line = "\n"
			case k == 2:
				address += r.Uint64N(0x100)
				fallthrough
			default:
				data := make([]byte, []int{16, 16, 16, 1 + r.IntN(255)}[r.IntN(4)])
				for i := range data {
					data[i] = byte(address) + byte(i)
				}
				line = rec(0, uint16(address), data...)
				address += uint64(len(data))
			}
			if round%2 == 1 {
				line = strings.Replace(line, "\n", "\r\n", 1)
			}
			text.WriteString(line)
			slow.WriteString(strings.TrimRight(line, "\r\n") + " \n")
		}
		text.WriteString(end)
		slow.WriteString(end)
		unit := []int{1, 1, 1, 1, 2, 4}[round]
		one, problems := read(text.String(), format.ReadOptions{Unit: unit})
		if unit == 1 {
			require.NotNil(t, one, "%v", problems)
		}
		two, again := read(text.String(), format.ReadOptions{Cores: 3, Unit: unit})
		require.Equal(t, problems, again)
		three, again := read(slow.String(), format.ReadOptions{Unit: unit})
		require.Equal(t, len(problems) > 0, len(again) > 0)
		if len(problems) > 0 {
			continue
		}
		require.True(t, one.Equal(two) && one.Equal(three))
		records := func(text string) *format.Records {
			content, err := Read(strings.NewReader(text), &source.Input{}, format.ReadOptions{Unit: unit}, &source.Problems{})
			require.NoError(t, err)
			return content.Records
		}
		require.Equal(t, records(slow.String()), records(text.String()))
		for _, run := range one.Runs() {
			a, _ := one.Origin(run.First)
			b, _ := two.Origin(run.First)
			c, _ := three.Origin(run.First)
			require.Equal(t, a.String(), b.String())
			require.Equal(t, a.String(), c.String())
		}
	}
}

// TestOneChangedCharacter changes every character of a file to many others:
// each is reported, or makes the same image.
func TestOneChangedCharacter(t *testing.T) {
	good := rec(4, 0, 0x06, 0x00) + rec(0, 0, []byte("\x00\x20\x00\x20\x01\x01\x00\x08abcdefgh")...) + rec(0, 0x10, []byte("ijkl")...) +
		rec(0, 0x100, 0xAB) + rec(0, 0x110, 0xEE) + rec(5, 0, 8, 0, 1, 1) + end
	want, problems := read(good, format.ReadOptions{})
	require.Empty(t, problems)
	for i := range good {
		for _, c := range []byte("0123456789ABCDEFabcdefgS:;, \t\n\r\x00\x1A\x7F\xA0\xC2\xFF") {
			text := []byte(good)
			text[i] = c
			m, problems := read(string(text), format.ReadOptions{})
			if len(problems) == 0 {
				require.True(t, want.Equal(m) && want.Start() == m.Start(), "%q at %d gave another image in silence", c, i)
			}
			if c != good[i] && good[i] != '\n' && strings.IndexByte("gS:;,\x7F\xA0\xFF", c) >= 0 { // even where it counts as 0
				require.NotEmpty(t, problems, "%q at %d", c, i)
			}
			if c >= '0' && c <= '9' && c != good[i] {
				require.NotEmpty(t, problems, "%q at %d", c, i)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{
		rec(0, 0, 'a') + end, rec(4, 0, 8, 0) + rec(0, 0xFFFF, 1, 2) + rec(5, 0, 1, 2, 3, 4) + end,
		rec(2, 0, 0xFF, 0xFF) + rec(0, 0xFFF8, []byte("abcdefghij")...) + end,
		rec(0, 0, 'a') + rec(0, 0, 'b'), ":", "::\r\r\n:", "\xEF\xBB\xBF:00000001FF\x1A",
		rec(0, 4, 1, 2, 3) + rec(0, 0, []byte("abcd")...) + rec(3, 0, 1, 2, 3, 4) + end,
	} {
		f.Add([]byte(s), false)
		f.Add([]byte(s), true)
	}
	f.Fuzz(func(t *testing.T, text []byte, lenient bool) {
		m, _ := read(string(text), format.ReadOptions{Lenient: lenient})
		two, _ := read(string(text), format.ReadOptions{Lenient: lenient, Cores: 2})
		if (m == nil) != (two == nil) || m != nil && !m.Equal(two) {
			t.Fatal("two cores read it otherwise than one")
		}
		if m == nil {
			return
		}
		if m.Bytes() > uint64(len(text)) {
			t.Fatal("more bytes than text")
		}
		if _, err := (&Writer{}).Check(m); err != nil {
			return // leniently read past 4 GiB
		}
		var b bytes.Buffer
		if err := (&Writer{}).Write(&b, m); err != nil {
			t.Fatal(err)
		}
		again, problems := read(b.String(), format.ReadOptions{})
		if len(problems) > 0 || !again.Equal(m) || again.Start() != m.Start() {
			t.Fatalf("written and read again it differs: %q", problems)
		}
	})
}

func TestReadErrorsOfTheFile(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Open(dir)
	require.NoError(t, err)
	defer f.Close()
	_, err = Read(f, &source.Input{Name: filepath.Base(dir)}, format.ReadOptions{}, &source.Problems{})
	assert.Error(t, err, "a folder cannot be read")
}

func TestEditedFiles(t *testing.T) {
	codectest.Edited(t, "testdata/edited.txt", 400, Format.Reader, map[string]string{
		"linear": rec(4, 0, 0x06, 0x00) + rec(0, 0x10, 1, 2, 3, 4) + rec(0, 0x14, 5, 6) + rec(4, 0, 0x06, 0x01) + rec(0, 0, 7) +
			rec(5, 0, 8, 0, 0, 1) + end,
		"segments": rec(2, 0, 0x10, 0x00) + rec(0, 0xFFFE, 1, 2) + rec(0, 0x10, 3) + rec(3, 0, 0x10, 0, 0, 5) + end,
		"CR LF":    strings.ReplaceAll(rec(0, 0, 1, 2, 3)+rec(0, 2, 3, 9)+end, "\n", "\r\n"),
		"long": strings.Repeat(rec(0, 0x100, bytes.Repeat([]byte{0xA5}, 32)...), 2) + rec(
			0,
			0x120,
			bytes.Repeat([]byte{0xA5}, 32)...) + end + "\x1a",
		"comments": "; a comment\n" + rec(0, 0, 1) + "\n# another\n" + end + "behind\n",
		"lower":    strings.ToLower(rec(0, 0xABCD, 0xEF, 0xFE) + end),
	})
}
