package text

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// TestWrittenTexts writes images with runs at odd places and at both ends of 32 bits by each
// template, in words and rows of many lengths, and holds the texts against those of before.
func TestWrittenTexts(t *testing.T) {
	at := func(first uint64, n int) *memory.Image {
		data := make([]byte, n)
		for i := range data {
			data[i] = byte(i*37 + int(first))
		}
		m, _ := memory.FromBytes(first, data, &source.Input{Name: "f"})
		return m
	}
	odd, _ := memory.Merge([]*memory.Image{at(3, 18), at(0x100, 8), at(0xFFFF_FFF8, 8)}, memory.First)
	high, _ := memory.Merge([]*memory.Image{at(0x40, 16), at(1<<32, 9)}, memory.First)
	images := map[string]*memory.Image{"none": {}, "odd": odd.WithStart(memory.Start{Kind: memory.SegmentedStart, Value: 0x0010_0004}),
		"high": high}
	const own = "{{.Name}} {{.Prefix}} {{.Bytes}} {{hex 4 .First}} {{hex 4 .Last}} {{.HasStart}} {{.Start}} {{.SHA256}} {{.Word}} " +
		"{{.Row}} {{.Bits}} {{.AddressBits}}\n" +
		"{{range .Runs}}{{.Number}} {{.First}} {{.Last}} {{.Size}} {{.Count}}\n{{range .Rows}}{{.First}} {{.Last}} {{.Size}} {{.Hex}} " +
		"{{.Text}} {{.Words}} {{.List \"<\" \">\"}}\n{{end}}{{end}}"
	var b strings.Builder
	for _, name := range []string{"none", "odd", "high"} {
		for _, template := range []string{"file", "c", "csv", "words"} {
			for _, more := range []string{"", "word=2 holes=FF", "word=4 order=big row=12 holes=00", "word=8 row=8 holes=A5 crlf=true",
				"row=7 prefix=$ name=x_1", "word=2 row=7", "word=2"} {
				settings := []source.Setting{set("template", template)}
				for _, s := range strings.Fields(more) {
					k, v, _ := strings.Cut(s, "=")
					if k == "row" {
						k = "record-length"
					}
					settings = append(settings, set(k, v))
				}
				text, err := write(t, images[name], own, settings...)
				fmt.Fprintf(&b, "## %s %s %s: %v\n%s", name, template, more, err, strings.ReplaceAll(text, "\r\n", "~\n"))
			}
		}
	}
	golden.File(t, "testdata/written.txt", b.String())
	for _, s := range []source.Setting{set("record-length", "0"), set("record-length", "256"), set("name", "1x"), set("order", "middle"),
		set("holes", "FFF")} {
		assert.Error(t, key.Set(Format.Writer(format.WriteOptions{}).Keys(), []source.Setting{s}), s)
	}
}

// TestATemplateIsReadOnce keeps what was parsed, and wants what can be opened.
func TestATemplateIsReadOnce(t *testing.T) {
	opened := 0
	w := Format.Writer(format.WriteOptions{Open: func(string) ([]byte, error) { opened++; return []byte("a\r\n{{.Bytes}}"), nil }})
	assert.NoError(t, key.Set(w.Keys(), []source.Setting{set("template", "own"), set("crlf", "true")}))
	for range 3 {
		var b strings.Builder
		assert.NoError(t, w.Write(&b, &memory.Image{}))
		assert.Equal(t, "a\r\n0", b.String())
	}
	assert.Equal(t, 1, opened)
	alone := Format.Writer(format.WriteOptions{})
	assert.NoError(t, key.Set(alone.Keys(), []source.Setting{set("template", "own")}))
	_, err := alone.Check(&memory.Image{})
	assert.EqualError(t, err, "template: there is neither a file nor a shipped template own; known: c, csv, words")
	refused := &source.SystemError{File: "own", Doing: "read", Err: assert.AnError}
	broken := Format.Writer(format.WriteOptions{Open: func(string) ([]byte, error) { return nil, refused }})
	assert.NoError(t, key.Set(broken.Keys(), []source.Setting{set("template", "own")}))
	assert.Equal(t, refused, broken.Write(&strings.Builder{}, &memory.Image{}))
}
