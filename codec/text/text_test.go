package text

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
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

func image(t *testing.T, parts ...string) *memory.Image {
	t.Helper()
	var list []*memory.Image
	for i, data := range parts {
		m, _ := memory.FromBytes(uint64(i)<<16, []byte(data), &source.Input{Name: "f"})
		list = append(list, m)
	}
	m, _ := memory.Merge(list, memory.First)
	return m
}

// write writes by a template that a file holds, or a shipped one.
func write(t *testing.T, m *memory.Image, file string, settings ...source.Setting) (string, error) {
	t.Helper()
	w := Format.Writer(format.WriteOptions{Name: "out/tide-1.2.c", Open: func(name string) ([]byte, error) {
		if name != "file" {
			return nil, &source.SystemError{File: name, Doing: "read", Err: fs.ErrNotExist}
		}
		return []byte(file), nil
	}})
	require.NoError(t, key.Set(w.Keys(), settings))
	var b bytes.Buffer
	err := w.Write(&b, m)
	return b.String(), err
}

func set(key, value string) source.Setting { return source.Setting{Key: key, Value: value} }

func TestShippedTemplates(t *testing.T) {
	m := image(t, "0123456789abcdef++", "AB").WithStart(memory.Start{Kind: memory.LinearStart, Value: 4})
	text, err := write(t, m, "", set("template", "csv"))
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	assert.Equal(
		t,
		[][]string{
			{"address", "size", "bytes"},
			{"0x0000", "16", "30313233343536373839616263646566"},
			{"0x0010", "2", "2B2B"},
			{"0x00010000", "2", "4142"},
		},
		rows,
	)

	text, err = write(t, m, "", set("template", "words"), set("word", "2"), set("prefix", "w "), set("record-length", "4"),
		set("order", "big"), set("crlf", ""))
	require.NoError(t, err)
	assert.Equal(
		t,
		"w 0x0000 0x3031 0x3233\r\nw 0x0004 0x3435 0x3637\r\nw 0x0008 0x3839 0x6162\r\nw 0x000C 0x6364 0x6566\r\nw 0x0010 0x2B2B\r\nw "+
			"0x00010000 0x4142\r\n",
		text,
	)

	text, err = write(t, m, "", set("template", "c"), set("word", "2"))
	require.NoError(t, err)
	digest := m.Digest()
	assert.Equal(t, `/* tide_1: 20 bytes in 2 runs
 * SHA-256 of the contents `+hexText(digest[:])+` */
#include <stdint.h>

static const uint16_t tide_1_0[9] = { /* 0x0000..0x0011 */
	0x3130, 0x3332, 0x3534, 0x3736, 0x3938, 0x6261, 0x6463, 0x6665,
	0x2B2B,
};

static const uint16_t tide_1_1[1] = { /* 0x00010000..0x00010001 */
	0x4241,
};

const struct {
	uint32_t first; /* address of the first byte */
	uint32_t size;  /* bytes */
	const uint16_t *data;
} tide_1[] = {
	{ 0x0000ul, 18ul, tide_1_0 },
	{ 0x00010000ul, 2ul, tide_1_1 },
};
const unsigned tide_1_runs = 2;
`, text)
	text, err = write(t, &memory.Image{}, "", set("template", "c"), set("name", "none"))
	require.NoError(t, err)
	assert.Contains(t, text, "} none[] = {\n\t{ 0, 0, 0 },\n};")
}

func hexText(b []byte) string {
	const digits = "0123456789abcdef"
	var s strings.Builder
	for _, c := range b {
		s.WriteByte(digits[c>>4])
		s.WriteByte(digits[c&15])
	}
	return s.String()
}

func TestTemplateOfOnesOwn(t *testing.T) {
	m := image(t, "tide\x00\x01").WithStart(memory.Start{Kind: memory.LinearStart, Value: 4})
	text, err := write(
		t,
		m,
		`{{.Name}} {{.Bytes}} {{address .First}} {{address .Last}} {{if .HasStart}}{{hex 6 .Start}}{{end}}{{range .Runs}} {{.Number}} {{.Size}} {{.Count}}{{range .Rows}} {{.Text}} {{.Size}} {{address .Last}}{{range .Words}} {{.}}{{end}}{{end}}{{end}}`,
		set("template", "file"),
		set("word", "2"),
	)
	require.NoError(t, err)
	assert.Equal(t, "tide_1 6 0x0000 0x0005 000004 0 6 3 tide.. 6 0x0005 26996 25956 256", text)
	for text, want := range map[string]string{
		"{{range .Runs}":          "file:1: bad character",
		"{{.Nothing}}":            `file:1:2: executing "file" at <.Nothing>: can't evaluate field Nothing`,
		"{{nothing 1}}":           `function "nothing" not defined`,
		`{{hex "a" 1}}`:           "expected integer; found",
		"{{range .Runs}}{{end}":   "file:1:",
		"{{template \"x\"}}":      `template "x" not defined`,
		"{{index .Runs 7}}":       "out of range",
		"{{(index .Runs 0).Data}": "file:1:",
	} {
		_, err := write(t, m, text, set("template", "file"))
		assert.ErrorContains(t, err, want)
	}
	_, err = write(t, m, "", set("template", "cvs"))
	assert.EqualError(t, err, "template: there is neither a file nor a shipped template cvs; did you mean csv?")
	_, err = write(t, m, "")
	assert.EqualError(t, err, "template: text is written by a template: a file, or one of c, csv, words")
	_, err = write(t, m, "", set("template", "words"), set("word", "4"))
	assert.ErrorContains(t, err, "the image has a hole within words of 4 bytes: 0x0006..0x0007 (2 bytes)")
	text, err = write(t, m, "", set("template", "words"), set("word", "4"), set("holes", "FF"))
	require.NoError(t, err)
	assert.Equal(t, "0x0000 0x65646974 0xFFFF0100\n", text)
	_, err = write(t, m, "", set("template", "words"), set("word", "3"))
	assert.ErrorContains(t, err, "3 is not valid; choose 1, 2, 4 or 8 bytes")
}

// TestArithmetic computes in templates, up to the last number of 64 bits.
func TestArithmetic(t *testing.T) {
	m := image(t, "x")
	const last = "18446744073709551615"
	for text, want := range map[string]string{
		"add 0 0": "0", "add 2 3": "5", "add " + last + " 0": last, "add 18446744073709551614 1": last,
		"add " + last + " 1": "add " + last + " 1 is above 64 bits",
		"sub 5 3":            "2", "sub 3 3": "0", "sub 0 0": "0", "sub 3 4": "sub 3 4 is below 0", "sub 0 " + last: "is below 0",
		"mul 6 7": "42", "mul 0 " + last: "0", "mul 4294967296 4294967295": "18446744069414584320",
		"mul 4294967296 4294967296": "mul 4294967296 4294967296 is above 64 bits",
		"div 7 2":                   "3", "div 0 1": "0", "div 1 1": "1", "div 7 0": "div 7 by 0", "mod 7 2": "1", "mod 6 2": "0",
		"mod 6 1": "0", "mod 6 0": "mod 6 by 0",
		"add (mul .Bytes 16) (sub .Last .First)": "16",
	} {
		got, err := write(t, m, "{{"+text+"}}", set("template", "file"))
		if strings.Contains(want, " ") {
			assert.ErrorContains(t, err, want, text)
			continue
		}
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, one := range []source.Setting{set("pause", "wait"), set("pause-every", "4")} {
		_, err := write(t, m, "", set("template", "words"), one)
		assert.ErrorContains(t, err, "a pause needs a TEXT and how many rows are between")
	}
}

// TestFailedWritingIsTold keeps the reason of the system.
func TestFailedWritingIsTold(t *testing.T) {
	w := Format.Writer(format.WriteOptions{Name: "x"})
	require.NoError(t, key.Set(w.Keys(), []source.Setting{set("template", "csv")}))
	full := errors.New("no space left")
	assert.ErrorIs(t, w.Write(failingWriter{full}, image(t, strings.Repeat("x", 1<<20))), full)
}

type failingWriter struct{ err error }

func (f failingWriter) Write([]byte) (int, error) { return 0, f.err }

func TestNames(t *testing.T) {
	for file, want := range map[string]string{
		"a/b/tide-app.2.hex": "tide_app", "9k.bin": "_9k", "-": "image", "": "image", "é.c": "_", ".hidden": "_hidden",
		"standard input": "standard_input",
	} {
		if want == "_" {
			want = "image"
		}
		assert.Equal(t, want, identifier(file), file)
	}
}

// TestValuesOfTemplates shows all values, at their edges.
func TestValuesOfTemplates(t *testing.T) {
	at := func(first uint64, data string) *memory.Image {
		m, _ := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
		return m
	}
	m, _ := memory.Merge([]*memory.Image{at(0, "\x1F ~\x7F1234"), at(1<<32, "z")}, memory.First)
	text, err := write(
		t,
		m,
		"{{.Bits}} {{.AddressBits}} {{range .Runs}}{{.Number}}:{{.Count}} {{range .Rows}}[{{.Text}}|{{.Hex}}|{{.List \"0x\" \", "+
			"\"}}|{{.Words}}]{{end}}{{end}}",
		set("template", "file"),
		set("word", "2"),
		set("holes", "00"),
	)
	require.NoError(t, err)
	assert.Equal(t, "16 64 0:4 [. ~.1234|1F207E7F31323334|0x201F, 0x7F7E, 0x3231, 0x3433|[8223 32638 12849 13363]]1:1 "+
		"[z.|7A00|0x007A|[122]]", text)
	text, err = write(t, at(0xFFFF_FFFF, "a"), "{{.AddressBits}} {{.HasStart}}", set("template", "file"))
	require.NoError(t, err)
	assert.Equal(t, "32 false", text)
	for name, want := range map[string]string{"a.b.c": "a", "dir/tide-gauge.hex": "tide_gauge", "9lives": "_9lives", ".hex": "_hex",
		"": "image", "--": "image", "AZaz09_": "AZaz09_", "[@`{/:": "image", "x@y": "x_y"} {
		assert.Equal(t, want, identifier(name), name)
	}
	for _, s := range []source.Setting{set("name", "9a"), set("name", "a-b"), set("word", "9"), set("word", "0")} {
		assert.Error(t, key.Set(Format.Writer(format.WriteOptions{}).Keys(), []source.Setting{s}), s)
	}
	for word, ok := range map[string]bool{"1": true, "2": true, "3": false, "4": true, "8": true} {
		_, err := write(t, m, "x", set("template", "file"), set("word", word), set("holes", "00"))
		assert.Equal(t, ok, err == nil, word)
	}
	w := &Writer{Template: "c", Name: "x"}
	codectest.Writes(t, w, image(t, strings.Repeat("0123456789", 2_000)))
	w = &Writer{Template: "c", Name: "x", CRLF: true}
	assert.Equal(t, bytes.Count(codectest.Writes(t, w, m), []byte("\n")), bytes.Count(codectest.Writes(t, w, m), []byte("\r\n")))
	_, err = (&Writer{Template: "own"}).Check(m)
	assert.ErrorContains(t, err, "there is neither a file nor a shipped template own")
	unreadable := errors.New("the disk is gone")
	_, err = (&Writer{Template: "own", open: func(string) ([]byte, error) { return nil, unreadable }}).Check(m)
	assert.ErrorIs(t, err, unreadable)
	_, err = (&Writer{}).Check(m)
	assert.ErrorContains(t, err, "text is written by a template")
}

// TestPausesAreAfterRows puts a pause behind each so many rows, counted over all runs.
func TestPausesAreAfterRows(t *testing.T) {
	m := image(t, "abcdefgh", "ij")
	for _, rows := range []string{"words", "file"} {
		got, err := write(t, m, `{{range .Runs}}{{range .Rows}}{{$.Prefix}}{{address .At}} {{.List "0x" " "}}
{{if .Pause}}{{$.Pause}}
{{end}}{{end}}{{end -}}
`, set("template", rows), set("pause", "wait"), set("pause-every", "3"), set("record-length", "2"))
		require.NoError(t, err)
		var lines []string
		for _, line := range strings.Split(strings.TrimSpace(got), "\n") {
			lines = append(lines, line[max(0, len(line)-4):])
		}
		assert.Equal(t, []string{"0x62", "0x64", "0x66", "wait", "0x68", "0x6A"}, lines, rows)
	}
}

// TestAddressesCountWords writes addresses that count words: those that count bytes, divided.
func TestAddressesCountWords(t *testing.T) {
	m := image(t, "abcdefgh", "ijkl")
	addresses := func(more ...source.Setting) (list []uint64) {
		got, err := write(t, m, "{{range .Runs}}{{range .Rows}}{{address .At}}\n{{end}}{{end -}}\n",
			append(more, set("template", "file"), set("record-length", "4"))...)
		require.NoError(t, err)
		for _, text := range strings.Fields(got) {
			n, err := strconv.ParseUint(strings.ReplaceAll(strings.TrimPrefix(text, "0x"), "_", ""), 16, 64)
			require.NoError(t, err, got)
			list = append(list, n)
		}
		return list
	}
	bytes := addresses(set("word", "2"))
	require.Len(t, bytes, 3)
	assert.Equal(t, bytes, addresses(set("word", "2"), set("addresses", "bytes")))
	words := addresses(set("word", "2"), set("addresses", "words"))
	require.Len(t, words, 3)
	for i := range words {
		assert.Equal(t, bytes[i]/2, words[i])
	}
	assert.NotEqual(t, bytes[2], words[2])
}

// TestBlocksAreRows writes by the shipped templates, which take many rows at once, and by such
// as take each: the same comes of it.
func TestBlocksAreRows(t *testing.T) {
	long := strings.Repeat("0123456789abcdefghijklmnopqrstuvwxyz", 2000)
	m := image(t, long[:60000], long[8:50008], "AB")
	for name, rows := range map[string]string{
		"words": `{{range .Runs}}{{range .Rows}}{{$.Prefix}}{{address .At}} {{.List "0x" " "}}
{{if .Pause}}{{$.Pause}}
{{end}}{{end}}{{end -}}
`,
		"csv": `address,size,bytes
{{range .Runs}}{{range .Rows}}{{address .First}},{{.Size}},{{.Hex}}
{{end}}{{end -}}
`,
	} {
		for _, more := range [][]source.Setting{
			{},
			{set("word", "2"), set("order", "big"), set("addresses", "words")},
			{set("record-length", "10"), set("word", "2"), set("prefix", "w ")},
			{set("pause", "wait"), set("pause-every", "7"), set("record-length", "4")},
			{set("pause", "wait"), set("pause-every", "1024")},
		} {
			shipped, err := write(t, m, "", append([]source.Setting{set("template", name)}, more...)...)
			require.NoError(t, err)
			own, err := write(t, m, rows, append([]source.Setting{set("template", "file")}, more...)...)
			require.NoError(t, err)
			require.Equal(t, own, shipped, "%s %v", name, more)
		}
	}
	c, err := write(t, m, "", set("template", "c"), set("record-length", "3"))
	require.NoError(t, err)
	// Runs that end one byte behind the rows that are written at once, and rows that begin within.
	for _, size := range []int{1, 2, 16, 17, 512*16 - 1, 512 * 16, 512*16 + 1, 1024*16 + 1} {
		for _, name := range []string{"words", "csv", "c"} {
			text, err := write(t, image(t, long[:size]), "", set("template", name))
			require.NoError(t, err)
			between := map[string]string{"words": " 0x", "csv": "", "c": ", 0x"}[name]
			want := strings.ReplaceAll(fmt.Sprintf("% X", long[size-min(size, (size-1)%16+1):size]), " ", between)
			assert.Contains(t, text, want, "%s of %d", name, size)
		}
	}
	assert.Equal(t, 60000/3+16667+2, strings.Count(c, "\n\t0x"), "rows begin on multiples of their length")
}

// TestTextsOfBlocksAreKept prints the text of a block later than another's, twice, in capitals
// and in quotes; rows count where it is asked for, once.
func TestTextsOfBlocksAreKept(t *testing.T) {
	m := image(t, "abcdefgh"+strings.Repeat("-", 512*4), "xyz")
	template := `{{range .Runs}}{{$list := ""}}{{$table := ""}}{{range .Blocks}}{{$list = .List "<" "x" "," ">"}}{{$table = .Table ";"}}{{end -}}
{{$n := .Number}}{{if eq $n 1}}{{$table}}{{$list}}{{$list}} {{upper $list}} {{printf "%q|%8.3s" $list $list}} {{end -}}
{{range .Rows}}{{if eq .Size 3}}{{.Number}}{{end}}{{end}}{{end}}`
	text, err := write(t, m, template, set("template", "file"), set("record-length", "4"))
	require.NoError(t, err)
	// 514 rows of the first run three times, and that of the second twice before.
	assert.Equal(t, fmt.Sprintf("%s;3;78797A\n<x78,x79,x7A><x78,x79,x7A> <X78,X79,X7A> \"<x78,x79,x7A>\"|     <x7 %d",
		memory.PlainAddress(1<<16), 3*514+2), text)
}

// BenchmarkShipped writes 16 MiB by each shipped template.
func BenchmarkShipped(b *testing.B) {
	m, _ := memory.FromBytes(0, bytes.Repeat([]byte("0123456789abcdef"), 1<<20), &source.Input{Name: "f"})
	for _, name := range Shipped() {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(m.Bytes()))
			for b.Loop() {
				w := &Writer{Template: name, Name: "x"}
				if err := w.Write(io.Discard, m); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(m.Bytes()), "ns/byte")
		})
	}
}
