package codec

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestEditedImages reads files of every format, and texts that are none, which differ from
// good ones in a few places, under several names; and holds what was told and read against
// what came of them before.
func TestEditedImages(t *testing.T) {
	data := make([]byte, 90)
	for i := range data {
		data[i] = byte(i * 7)
	}
	low, _ := memory.FromBytes(0x40, data[:50], &source.Input{Name: "low"})
	high, _ := memory.FromBytes(0x1_0010, data[50:], &source.Input{Name: "high"})
	image, _ := memory.Merge([]*memory.Image{low, high}, memory.First)
	image = image.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x44})
	inputs := map[string]string{
		"json":   "{\n  \"name\": \"gauge\",\n  \"list\": [1, 2, 3]\n}\n",
		"csv":    "serial,name,key\n1,a,FF\n2,b,FE\n",
		"toml":   "name = \"board\"\n[start]\nat = 0x10\n",
		"script": "#!/bin/sh\nset -e\nmake all\n",
		"c":      "#include <stdio.h>\nint main(void) { return 0; }\n",
		"zip":    "PK\x03\x04\x00\x00rest of it",
		"short":  ":0\x00",
		"marks":  "S1",
		"utf-16": "\xFF\xFE:\x000\x000\x00\n\x00",
	}
	for _, f := range Formats {
		if f.Reader == nil || f.Writer == nil {
			continue
		}
		settings := settingsFor(f)
		of := image
		if f.Unplaced {
			of = low
		}
		var b strings.Builder
		w, err := Choice{Format: f}.Writer(format.WriteOptions{}, settings)
		require.NoError(t, err)
		require.NoError(t, w.Write(&b, of))
		inputs[f.Word] = b.String()
	}
	golden.Edited(t, "testdata/edited.txt", 60, inputs, func(kind, text string) string {
		var b strings.Builder
		head := []byte(text)
		fmt.Fprintln(&b, Detect(head).Name, Container(head), TextKind("x", head), TextKind("x.toml", head))
		for _, name := range []string{"x", "x.hex", "x.bin", source.StandardInput} {
			for _, o := range []ReadOptions{{}, {Lenient: true, Cores: 2}} {
				var problems source.Problems
				f, err := Read(strings.NewReader(text), name, int64(len(text)), o, &problems)
				fmt.Fprintln(&b, name, err)
				if f != nil && f.Format != nil {
					fmt.Fprint(&b, f.Format.Name, " ", f.Text)
					if f.Image != nil && problems.Err() == nil {
						all, _ := f.Image.Span()
						o, _ := f.Image.Origin(all.Last)
						fmt.Fprintf(&b, "%x %v %q %s", f.Image.Digest(), f.Image.Start(), f.Image.Header(), o)
					}
				}
				for _, p := range problems.Sorted() {
					fmt.Fprintf(&b, "%v %s %q %d\n", p, p.Doubt, p.Text, p.Column)
				}
			}
		}
		return b.String()
	})
}
