package record

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// simple is a record format as small as can be: a mark, two bytes of address, data, a
// checksum that makes the sum 0; a mark alone is the end record.
type simple struct {
	Reader
	joins bool // what Plain found is taken
}

func (g *simple) Plain(block []byte, p *Block) {
	for {
		text, rest, terminated := cutLine(block)
		if !terminated || len(text) < 9 || text[0] != ':' || len(text)%2 == 0 {
			return
		}
		data := make([]byte, (len(text)-1)/2)
		if sum, ok := Data(data, text[1:], len(data)); !ok || sum != 0 {
			return
		}
		p.Add(uint64(data[0])<<8|uint64(data[1]), data[2:len(data)-1], p.Lines)
		p.Used, p.Lines = p.Used+len(block)-len(rest), p.Lines+1
		p.Types[1]++
		p.Widths[len(data)-3]++
		block = rest
	}
}

func (g *simple) Join(p *Block, lines int) bool {
	if g.joins && !g.Ended {
		g.Take(p, lines)
	}
	return g.joins && !g.Ended
}

func (g *simple) Line(line Line) {
	text, at := g.Begin(line)
	switch {
	case len(text) == 0:
		return
	case string(text) == ":":
		g.Ended = true
		return
	case text[0] != ':':
		if !g.Continues(line, text, 40, func(b []byte) bool { return len(b) == 14 || len(b) == 40 }) {
			g.Report(Damage, line, at, "no record mark", "", "")
		}
		return
	case len(text) < 9:
		g.Short(line, text[1:], at+len(text), "the record ends too early", "more digits", "")
		return
	}
	data, ok := g.Bytes(line, text[1:], at+1)
	if !ok {
		return
	}
	sum := byte(0)
	for _, b := range data[:len(data)-1] {
		sum -= b
	}
	if g.Checksum(line, at+len(text)-2, data[len(data)-1], sum) {
		g.Batch.Add(uint64(data[0])<<8|uint64(data[1]), data[2:len(data)-1], line.Number)
	}
}

// one is a record.
func one(address int, data ...byte) string {
	all := append([]byte{byte(address >> 8), byte(address)}, data...)
	sum := byte(0)
	for _, b := range all {
		sum -= b
	}
	return fmt.Sprintf(":%X", append(all, sum))
}

// read reads a text, and returns what it holds and each problem in a line.
func read(t *testing.T, text string, o format.ReadOptions, joins bool) (*format.Content, []string) {
	var problems source.Problems
	g := &simple{Reader: Reader{ReadOptions: o, Input: &source.Input{Name: "f"}, Problems: &problems, Word: "simple"}, joins: joins}
	lines, err := Scan(strings.NewReader(text), g, max(o.Cores, 1))
	require.NoError(t, err)
	g.Stats.Lines = lines
	content := g.Finish("a mark")
	var list []string
	for _, p := range problems.Sorted() {
		list = append(list,
			fmt.Sprintf("%d:%d %s %s|%s|%s%s", p.Line, p.Column, p.Severity, p.What, p.Expected, p.Advice.Text,
				map[bool]string{true: "|" + p.Doubt}[p.Doubt != ""]))
	}
	return content, list
}

// TestProblemsOfRecords goes through what can be wrong with the lines of a file: place,
// severity, what is told; and what reading leniently makes of it.
func TestProblemsOfRecords(t *testing.T) {
	sound := one(0x10, 1, 2, 3, 4)
	for _, c := range []struct {
		text    string
		want    string
		lenient string // severity, where it is another
	}{
		{sound + "\n:\n", "", ""},
		{sound + "\r\n:\r\n\x1a\n \t\n", "", ""},
		{sound + "\n", "1:0 error the file has no end record; it has 4 bytes, the last at 0x0013|a mark at the end|the copy may be " +
			"incomplete; get the file again|missing-end", "warning"},
		{"\n\n", "2:1 error the file has no end record; it has no data|a mark at the end|the copy may be incomplete; get the file " +
			"again|missing-end", "warning"},
		{"", "1:0 error the file has no end record; it is empty|a mark at the end|the copy may be incomplete; get the file " +
			"again|missing-end", "warning"},
		{":\n" + sound + "\n" + sound + "\n",
			"2:1 error data after the end record|nothing but white space|the file may be two files joined; split it and merge the two " +
				"with mexalt|after-end\n3:0 error bytes at 0x0010..0x0013 (4 bytes) are given twice, with the same values|one line " +
				"for each byte (the first is line 2)|", "warning"},
		{"\xEF\xBB\xBF" + sound + "\n:", "1:1 error byte-order mark (U+FEFF) before the first record||save the file without it", "warning"},
		{sound + "\n \t" + sound[:1] + "\n", "2:1 error white space before the record mark||", "warning"},
		{"  \n" + sound + "  \n:\n", "", ""},
		{"x" + sound + "\n:\n", "1:1 error no record mark||", ""},
		{sound[:len(sound)-1] + "5\n:\n",
			"1:14 error checksum is 0xE5|0xE6, computed from the record|a digit of this line is damaged; get the file again", ""},
		{":00100102O304E6\n:\n", "1:10 error character 'O' among the digits of a record|hex digits 0-9 A-F only|use the digit 0", ""},
		{":001l0102x304E6\n:\n",
			"1:5 error character 'l' among the digits of a record|hex digits 0-9 A-F only|use the digit 1\n1:10 error character 'x' " +
				"among the digits of a record|hex digits 0-9 A-F only|", ""},
		{":00é0é102\t304 E\n:\n",
			"1:4 error character U+00E9 é among the digits of a record|hex digits 0-9 A-F only|\n1:6 error character U+00E9 é among " +
				"the digits of a record|hex digits 0-9 A-F only|\n1:10 error white space (U+0009) among the digits of a record|hex " +
				"digits 0-9 A-F only|\n1:14 error white space (U+0020) among the digits of a record|hex digits 0-9 A-F only|", ""},
		{":!!!!!!!!\n:\n",
			"1:%d error character '!' among the digits of a record|hex digits 0-9 A-F only|\n1:2 error 3 more characters in this line " +
				"are not hex digits||the line may not be a record at all" +
				strings.Repeat("\n1:%d error character '!' among the digits of a record|hex digits 0-9 A-F only|", 4), ""},
		{":0010\n01020304\n:\n", "1:6 error the record ends too early|more digits|\n2:1 error no record mark||", ""},
		{":001001\n0203E9E9\n:\n",
			"1:0 error lines 1 and 2 are one record broken into two|one record on one line|an editor or a mail program wrapped it; " +
				"join the lines, or get the file again", ""},
		{":001001\n0203\nE9E9\n:\n",
			"1:0 error lines 1 to 3 are one record broken into pieces|one record on one line|an editor or a mail program wrapped it; " +
				"join the lines, or get the file again\n2:1 error no record mark||", ""},
		{":001001\n0203E9E9E9E9E9E9E9E9E9E9E9E9E9E9E9E9E9\n:\n",
			"1:8 error the record ends too early|more digits|\n2:1 error no record mark||", ""},
		{"00100102030405\n:\n", "1:1 error no record mark||", ""}, // digits behind no record that was cut
		{":001001\n" + strings.Repeat("0", 34) + "\n:\n",
			"1:0 error lines 1 and 2 are one record broken into two|one record on one line|an editor or a mail program wrapped it; " +
				"join the lines, or get the file again", ""},
		{":001001\nxx\n0203E9E9\n:\n",
			"1:8 error the record ends too early|more digits|\n2:1 error no record mark||\n3:1 error no record mark||", ""},
		{one(0x10, 1, 2) + "\n" + one(0x11, 3, 4) + "\n:\n",
			"2:0 error bytes at 0x0011 (1 byte) are given twice and differ (1 of them)|one line for each byte (the first is line " +
				"1)|the file may be two files joined, or edited by hand", ""},
		{one(0x11, 3, 4) + "\n" + one(0x10, 1, 2) + "\n:\n",
			"2:0 error bytes at 0x0011 (1 byte) are given twice and differ (1 of them)|one line for each byte (the first is line " +
				"1)|the file may be two files joined, or edited by hand", ""},
	} {
		want := c.want
		if strings.Contains(want, "%d") {
			want = fmt.Sprintf(want, 2, 3, 4, 5, 6)
		}
		for _, lenient := range []bool{false, true} {
			for _, joins := range []bool{false, true} {
				_, got := read(t, c.text, format.ReadOptions{Lenient: lenient}, joins)
				expected := want
				if lenient && c.lenient != "" {
					expected = strings.ReplaceAll(want, " error ", " "+c.lenient+" ")
				}
				if !strings.Contains(want, "no end record") || joins { // the end is told at the place of a line that was looked at
					assert.Equal(t, expected, strings.Join(got, "\n"), "%q, lenient %v, joined %v", c.text, lenient, joins)
				}
			}
		}
	}
	// What reading leniently does is told where it would help.
	var problems source.Problems
	r := &Reader{Input: &source.Input{Name: "f"}, Problems: &problems}
	line := Line{Number: 7, Text: []byte("é" + strings.Repeat("x", 700))}
	assert.Equal(t, []source.Setting{{Key: "lenient", Does: "allows it"}}, r.Report(Deviation, line, 2, "a", "b", "c").Advice.AnyOf)
	assert.Equal(t, []source.Setting{{Key: "lenient", Does: "reads on"}}, r.Deviates(line, 1000, "a", "b", "c", "reads on").Advice.AnyOf)
	assert.Empty(t, r.Report(Damage, line, 2, "a", "b", "c").Advice.AnyOf)
	assert.Equal(t, source.Warning, r.Warn(line, -1, "a", "b", "c").Severity)
	require.Len(t, problems.Sorted(), 4)
	var columns []int
	for _, p := range problems.Sorted() {
		columns = append(columns, p.Column)
		assert.Len(t, p.Text, 600)
	}
	assert.Equal(t, []int{0, 2, 2, 702}, columns, "characters are counted")
}

// TestCharactersAreNamed names what has no place among digits.
func TestCharactersAreNamed(t *testing.T) {
	for text, want := range map[string]string{
		"\xFF": "byte 0xFF, which is not text,|damaged in transfer", "\x00": "U+0000 (NUL)|saved as UTF-16", "\u00A0": "no-break|paste",
		"\u202F": "no-break|paste", "\u2007": "no-break|paste",
		"\u2018": "U+2018 ‘ (a typographic quote)|paste", "\u201F": "typographic quote|", "«": "typographic quote|",
		"»": "typographic quote|", "\u2010": "dash|paste", "\u2015": "dash|", "\u2212": "dash|", "\u00AD": "dash|",
		"\u2026": "ellipsis|paste", "\u2000": "invisible|", "\u200F": "invisible|", "\u2028": "invisible|", "\u2029": "invisible|",
		"\u2060": "invisible|", "\uFEFF": "invisible|", "\u3000": "invisible|paste",
		"\uFF01": "full-width|", "\uFF5E": "full-width|paste", "o": "'o'|use the digit 0", "O": "'O'|use the digit 0",
		"l": "'l'|use the digit 1", "I": "'I'|use the digit 1", " ": "white space (U+0020)|", "\t": "white space (U+0009)|",
		"!": "character '!'|", "~": "character '~'|", "\x7F": "U+007F (a control character)|damaged in transfer",
		"\u0085": "control character|", "é": "U+00E9 é|", "水": "U+6C34 水|", "\uE000": "character U+E000|",
		"\uFFFD": "U+FFFD � (the replacement for text that could not be read)|converted",
	} {
		char := []rune(text)[0]
		_, size := utf8.DecodeRuneInString(text)
		what, advice := describe(char, text[0], size)
		name, means, _ := strings.Cut(want, "|")
		assert.Contains(t, what, name, "%q", text)
		assert.Contains(t, advice, means, "%q", text)
		if means == "" && name != "typographic quote" && name != "dash" && name != "invisible" && name != "full-width" &&
			name != "control character" {
			assert.Empty(t, advice, "%q", text)
		}
	}
}

// TestLostLines warns of whole records that seem to be left out between regular ones, and
// of nothing else that looks nearly so.
func TestLostLines(t *testing.T) {
	rows := func(first, n int) (list []string) {
		for i := range n {
			list = append(list, one(first+4*i, byte(i), 1, 2, 3))
		}
		return list
	}
	lost := func(n, from, to int, hole string) string {
		noun := "1 record"
		if n > 1 {
			noun = fmt.Sprintf("%d records", n)
		}
		return fmt.Sprintf(
			"%d:0 warning just %s of 4 bytes left out between lines %d and %d, at %s||a line may be lost; get the file again, or "+
				"compare it with another copy|lost-line",
			to,
			noun,
			from,
			to,
			hole,
		)
	}
	for name, c := range map[string]struct {
		lines []string
		want  string
	}{
		"one":          {append(rows(0, 3), rows(16, 2)...), lost(1, 3, 4, "0x000C..0x000F (4 bytes)")},
		"four":         {append(rows(0, 2), rows(24, 2)...), lost(4, 2, 3, "0x0008..0x0017 (16 bytes)")},
		"behind a gap": {slices.Concat(rows(0, 2), rows(40, 2), rows(52, 2)), lost(1, 4, 5, "0x0030..0x0033 (4 bytes)")},
		"behind another width": {
			slices.Concat([]string{one(0, 1, 2)}, rows(8, 2), rows(20, 2)), lost(1, 3, 4, "0x0010..0x0013 (4 bytes)"),
		},
		"five":        {append(rows(0, 2), rows(28, 2)...), ""},
		"half":        {append(rows(0, 2), rows(10, 2)...), ""},
		"one before":  {append(rows(0, 1), rows(8, 2)...), ""},
		"one behind":  {append(rows(0, 2), rows(12, 1)...), ""},
		"backwards":   {append(rows(40, 2), rows(0, 2)...), ""},
		"a blank":     {append(append(rows(0, 2), ""), rows(12, 2)...), ""},
		"short last":  {append(append(rows(0, 2), one(8, 9)), rows(16, 2)...), ""},
		"other width": {append(rows(0, 2), one(12, 1, 2), one(14, 1, 2)), ""},
	} {
		for _, joins := range []bool{false, true} {
			content, got := read(t, strings.Join(append(c.lines, ":"), "\n")+"\n", format.ReadOptions{}, joins)
			assert.Equal(t, c.want, strings.Join(got, "\n"), name)
			assert.Equal(t, name != "backwards", content.Records.InOrder, name)
		}
	}
	var many []string
	for i := range 25 {
		many = append(many, rows(12*i, 2)...)
	}
	_, got := read(t, strings.Join(append(many, ":"), "\n"), format.ReadOptions{}, true)
	assert.Len(t, got, 20)
}

// TestUnitsThatDoNotFit warns where records overlap by half, or leave gaps as long as they
// are, and says the unit that takes them without.
func TestUnitsThatDoNotFit(t *testing.T) {
	file := func(advance, n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintln(&b, one(advance*i, make([]byte, 8)...))
		}
		return b.String() + ":\n"
	}
	for _, c := range []struct {
		advance, unit, n int
		want             string
	}{
		{8, 1, 6, ""},
		{4, 1, 5, "with 1 byte an address the records overlap by half simple:2"},
		{4, 1, 4, ""}, // too few to tell
		{4, 2, 5, "with 2 bytes an address the records overlap by half simple:4"},
		{4, 4, 5, ""},
		{2, 1, 5, "with 1 byte an address the records overlap by three quarters simple:4"},
		{16, 2, 5, "with 2 bytes an address the records leave gaps as long as they are simple:1"},
		{16, 1, 5, ""},
		{32, 4, 5, "with 4 bytes an address the records leave gaps three times as long as they are simple:1"},
		{32, 2, 5, ""},
	} {
		var problems source.Problems
		g := &simple{
			Reader: Reader{
				ReadOptions: format.ReadOptions{Unit: c.unit, Lenient: true},
				Input:       &source.Input{Name: "f"},
				Problems:    &problems,
				Word:        "simple",
			},
			joins: true,
		}
		_, err := Scan(strings.NewReader(file(c.advance, c.n)), g, 1)
		require.NoError(t, err)
		g.Finish("a mark")
		var got []string
		for _, p := range problems.Sorted() {
			if len(p.Advice.AnyOf) == 1 && p.Advice.AnyOf[0].Key == "from" {
				got = append(got, p.What+" "+p.Advice.AnyOf[0].Value)
			}
		}
		assert.Equal(t, c.want, strings.Join(got, "\n"), "advance %d, unit %d, %d records", c.advance, c.unit, c.n)
	}
	r := Reader{}
	assert.Equal(t, uint64(1), r.BytesPerAddress())

	// What is advised is tried: where two records would then have the same address, none is.
	of := func(unit int, chunks ...memory.Chunk) *Reader {
		return &Reader{ReadOptions: format.ReadOptions{Unit: unit}, Batch: memory.Batch{Chunks: chunks}}
	}
	record := func(first uint64, size uint32) memory.Chunk {
		return memory.Chunk{First: first, More: size - 1, Each: 8}
	}
	assert.True(t, of(2, record(0, 8), record(16, 8)).fits(1))
	assert.False(t, of(2, record(0, 8), record(14, 8)).fits(1))
	assert.False(t, of(2, record(16, 8), record(2, 8), record(0, 2)).fits(1), "in any order")
	assert.False(t, of(2, record(0, 16)).fits(1), "two records of one piece")
	assert.False(t, of(2, memory.Chunk{More: 1, Each: 1}).fits(1), "of one byte each")
	assert.True(t, of(1, record(0, 20), record(40, 8)).fits(2), "at 0, 16, 32 of 4, and 80")
	assert.True(t, of(1, record(0, 20), record(18, 8)).fits(2), "36 is free")
	assert.False(t, of(1, record(0, 20), record(17, 8)).fits(2), "35 is not")
	assert.False(t, of(1, record(math.MaxUint64/2, 8)).fits(2), "beyond the last address")
}

// TestManyStretchesGivenTwice counts what is not listed.
func TestManyStretchesGivenTwice(t *testing.T) {
	for _, other := range []byte{0, 1} {
		var b strings.Builder
		for pass := range 2 {
			for i := range memory.MostClashes + 200 {
				fmt.Fprintln(&b, one(4*i, byte(i)^byte(pass)*other))
			}
		}
		var problems source.Problems
		g := &simple{
			Reader: Reader{ReadOptions: format.ReadOptions{Lenient: true}, Input: &source.Input{Name: "f"}, Problems: &problems},
			joins:  true,
		}
		_, err := Scan(strings.NewReader(b.String()+":\n"), g, 1)
		require.NoError(t, err)
		content := g.Finish("a mark")
		assert.Equal(t, memory.MostClashes+1, problems.Count())
		assert.Equal(t, int(other)*(memory.MostClashes+1), problems.Errors(), "where bytes differ, leniently too")
		assert.Equal(t, other == 1, content.Records.Differ)
	}
}

// TestLinesAndBlocks reads the same text whatever ends its lines, however it comes, and on
// however many cores; and all of it once.
func TestLinesAndBlocks(t *testing.T) {
	r := rand.New(rand.NewPCG(25, 1))
	var lines []string
	for i := range 40_000 { // some blocks
		lines = append(lines, one(i%0x4000*4, byte(i), byte(i>>8), 3, byte(i%7)))
	}
	lines = append(lines, "# "+strings.Repeat("x", 600_000), one(0x7FF0, 1)) // longer than a block
	for _, end := range []string{"\n", "\r\n", "\r"} {
		text := strings.Join(append(lines, ":"), end) + end
		var want *format.Content
		for _, cores := range []int{1, 2, 4} {
			for name, in := range map[string]io.Reader{"whole": strings.NewReader(text),
				"halves": iotest.HalfReader(strings.NewReader(text)), "data and end": iotest.DataErrReader(strings.NewReader(text))} {
				var problems source.Problems
				g := &simple{
					Reader: Reader{ReadOptions: format.ReadOptions{Size: int64(len(text))}, Input: &source.Input{Name: "f"},
						Problems: &problems},
					joins: true,
				}
				n, err := Scan(in, g, cores)
				require.NoError(t, err)
				require.Equal(t, len(lines)+1, n, "%q %s", end, name)
				got := g.Finish("a mark")
				require.Equal(t, 40_001, got.Records.Types[1])
				require.Equal(t, 40_000, got.Records.Widths[4])
				require.Equal(t, 1, got.Records.Widths[1])
				require.True(t, g.Ended)
				if want == nil {
					want = got
				}
				require.Equal(t, want.Image.Digest(), got.Image.Digest(), "%q %s, %d cores", end, name, cores)
			}
		}
	}
	// Short texts, with lines cut anywhere, one byte at a time.
	for range 300 {
		var b strings.Builder
		count := 0
		for range r.IntN(6) {
			b.WriteString([]string{one(4*count, 1, 2), "", ";x"}[r.IntN(3)] + []string{"\n", "\r\n", "\r"}[r.IntN(3)])
			count++
		}
		text := b.String()
		if r.IntN(2) == 0 {
			text += one(0x100, 7)
		}
		want := len(splitLines(text))
		g := &simple{Reader: Reader{Input: &source.Input{Name: "f"}, Problems: new(source.Problems)}, joins: r.IntN(2) == 0}
		n, err := Scan(iotest.OneByteReader(strings.NewReader(text)), g, 1+r.IntN(2))
		require.NoError(t, err)
		require.Equal(t, want, n, "%q", text)
	}
	for _, cores := range []int{1, 3} {
		broken := errors.New("broken")
		_, err := Scan(io.MultiReader(strings.NewReader(strings.Repeat(one(0, 1)+"\n", 90_000)), iotest.ErrReader(broken)),
			&simple{Reader: Reader{Input: &source.Input{Name: "f"}, Problems: new(source.Problems)}, joins: true}, cores)
		assert.ErrorIs(t, err, broken)
	}
}

// splitLines cuts a text into lines, plainly.
func splitLines(text string) []string {
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	list := strings.Split(text, "\n")
	if list[len(list)-1] == "" {
		list = list[:len(list)-1]
	}
	return list
}

// TestVeryLongLines gives out the beginning of a line that is longer than a block, and all
// that follows it, wherever its end lies.
func TestVeryLongLines(t *testing.T) {
	for _, end := range []string{"\n", "\r\n", "\r"} {
		for extra := -3; extra <= 3; extra++ {
			for _, size := range []int{firstBlockSize, blockSize, firstBlockSize + blockSize, 2*blockSize - 1} {
				text := strings.Repeat("x", size+extra) + end + one(1, 2) + end
				for _, in := range []io.Reader{strings.NewReader(text), iotest.DataErrReader(strings.NewReader(text)),
					bytes.NewBufferString(text)} {
					g := &simple{Reader: Reader{Input: &source.Input{Name: "f"}, Problems: new(source.Problems)}, joins: true}
					n, err := Scan(in, g, 1)
					require.NoError(t, err)
					require.Equal(t, 2, n, "%q %d", end, size+extra)
					require.Equal(t, 1, g.Stats.Types[1])
					require.Len(t, g.Problems.Sorted(), 1)
				}
			}
		}
	}
	g := &simple{Reader: Reader{Input: &source.Input{Name: "f"}, Problems: new(source.Problems)}, joins: true}
	_, err := Scan(io.MultiReader(strings.NewReader(strings.Repeat("x", 500_000)), iotest.ErrReader(io.ErrUnexpectedEOF)), g, 1)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

// TestMostlyDigits tells text of digits from other text.
func TestMostlyDigits(t *testing.T) {
	for text, want := range map[string]bool{"": false, "abc": false, "abcd": true, "0123456789abcdefABCDEF": true, "abcdx": true,
		"abcdxy": false, "xxxx": false, "12345678xx": true, "1234567xxx": false, "g123": false} {
		assert.Equal(t, want, MostlyDigits([]byte(text)), text)
	}
}

// TestWriterAndUnits writes records of each length, more than are handed on at once, and
// tells what cannot be written in units.
func TestWriterAndUnits(t *testing.T) {
	r := rand.New(rand.NewPCG(25, 3))
	for _, end := range []string{LineEnd(false), LineEnd(true)} {
		var out, want strings.Builder
		w := Writer{W: &out, LineEnd: end, Complement: 0xFF}
		for range 2000 {
			head, data := make([]byte, 1+r.IntN(5)), make([]byte, r.IntN(256))
			for _, part := range [][]byte{head, data} {
				for i := range part {
					part[i] = byte(r.Uint32())
				}
			}
			mark := []string{":", "S1"}[r.IntN(2)]
			w.Record(mark, head, data)
			sum := byte(0xFF)
			for _, b := range append(bytes.Clone(head), data...) {
				sum -= b
			}
			fmt.Fprintf(&want, "%s%X%X%02X%s", mark, head, data, sum, end)
		}
		require.NoError(t, w.Flush())
		require.Equal(t, want.String(), out.String())
		assert.False(t, w.Failed())
	}
	broken := errors.New("broken")
	w := Writer{W: writerOf(func([]byte) (int, error) { return 0, broken }), LineEnd: "\n"}
	for range 400 {
		w.Record(":", []byte{1}, make([]byte, 255))
	}
	assert.True(t, w.Failed())
	assert.ErrorIs(t, w.Flush(), broken)
	for _, c := range []struct {
		first        uint64
		size         int
		unit, length uint64
		want         string
	}{
		{0x11, 3, 1, 7, ""}, {0x11, 3, 0, 7, ""}, {0x10, 4, 2, 16, ""}, {0x10, 4, 4, 16, ""},
		{0x10, 4, 2, 7, "7 data bytes in a record are not whole address units of 2 bytes"},
		{0x11, 4, 2, 16, "the run 0x0011..0x0014 (4 bytes) does not begin and end on whole address units of 2 bytes"},
		{0x10, 3, 2, 16, "does not begin and end"}, {0x12, 4, 4, 16, "of 4 bytes"},
	} {
		m, ok := memory.FromBytes(c.first, make([]byte, c.size), &source.Input{Name: "f"})
		require.True(t, ok)
		if err := CheckUnits(m, c.unit, c.length); c.want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.want)
		}
	}
}

type writerOf func([]byte) (int, error)

func (w writerOf) Write(b []byte) (int, error) { return w(b) }
