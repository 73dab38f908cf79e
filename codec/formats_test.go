package codec

import (
	"bytes"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// settingsFor are what a format needs to be told, so that any image can be written.
func settingsFor(f *format.Format) (list []source.Setting) {
	for _, k := range f.Writer(format.WriteOptions{}).Keys() {
		if value, needed := map[string]string{"holes": "FF", "template": "c"}[k.Name]; needed {
			list = append(list, source.Setting{Key: k.Name, Value: value})
		}
	}
	return list
}

func writtenIn(t testing.TB, f *format.Format, m *memory.Image, o format.WriteOptions, settings ...source.Setting) []byte {
	t.Helper()
	o.Huge, o.Name = true, "x"
	w, err := Choice{Format: f}.Writer(o, append(settingsFor(f), settings...))
	require.NoError(t, err, f.Name)
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, m), f.Name)
	return b.Bytes()
}

// TestAllFormats holds every row of the table to what all promise: what was written is told
// apart by its contents, read in any pieces as the same image, with the same facts, written
// again as the same file; a file that says it is whole does not change in silence; and the
// docs have its words, endings and keys.
func TestAllFormats(t *testing.T) {
	docs := ""
	for _, name := range []string{"formats", "input", "output"} {
		text, err := os.ReadFile("../docs/" + name + ".md")
		require.NoError(t, err)
		docs += string(text)
	}
	r := rand.New(rand.NewPCG(7, 8))
	dense := func(first uint64, n int) *memory.Image {
		data := make([]byte, n)
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		m, _ := memory.FromBytes(first, data, &source.Input{Name: "f"})
		return m
	}
	both, _ := memory.Merge([]*memory.Image{dense(0x100, 700), dense(0x1_0400, 300)}, memory.First)
	for _, f := range Formats {
		t.Run(f.Word, func(t *testing.T) {
			for _, w := range f.Words {
				assert.True(t, strings.Contains(docs, "`"+w.Word+"`"), "the docs have no word %s", w.Word)
			}
			for _, e := range f.Extensions {
				assert.True(t, strings.Contains(docs, e.Ending+" ") ||
					strings.Contains(docs, e.Ending+"`"), "the docs have no ending %s", e.Ending)
			}
			if f.Reader != nil {
				for _, k := range f.Reader().Keys() {
					assert.True(t, strings.Contains(docs, "-"+k.Name), "the docs have no key %s", k.Name)
				}
				var problems source.Problems
				_, err := Read(strings.NewReader(""), "f"+ending(f), 0, ReadOptions{From: Choice{Format: f}}, &problems)
				require.NoError(t, err)
			}
			if f.Writer == nil {
				return
			}
			for _, k := range f.Writer(format.WriteOptions{}).Keys() {
				assert.True(t, strings.Contains(docs, "-"+k.Name), "the docs have no key %s", k.Name)
			}
			_, err := Choice{Format: f}.Writer(format.WriteOptions{}, []source.Setting{{Key: "nonsense"}})
			assert.ErrorContains(t, err, "nonsense: has no effect on ")
			for _, m := range []*memory.Image{dense(0x100, 1), dense(0x100, 1000), both} {
				allRead(t, f, m)
			}
		})
	}
}

func ending(f *format.Format) string {
	if len(f.Extensions) == 0 {
		return ""
	}
	return f.Extensions[0].Ending
}

func allRead(t *testing.T, f *format.Format, m *memory.Image) {
	text := writtenIn(t, f, m, format.WriteOptions{})
	assert.Equal(t, text, writtenIn(t, f, m, format.WriteOptions{}), "the same each time")
	if f.Reader == nil {
		return
	}
	if !f.Unplaced && f.Begins == nil && f.MayBe == nil {
		assert.Same(t, f, Detect(text[:min(len(text), sniffed)]), "its contents tell it")
	}
	read := func(text []byte) (*File, *source.Problems) {
		problems := &source.Problems{}
		file, err := Read(bytes.NewReader(text), "f"+ending(f), int64(len(text)), ReadOptions{From: Choice{Format: f}}, problems)
		require.NoError(t, err)
		return file, problems
	}
	file, problems := read(text)
	require.Zero(t, problems.Count(), problems)
	first := uint64(0)
	if all, ok := m.Span(); ok && f.Unplaced {
		first = all.First
	}
	for _, run := range m.Runs() {
		got := make([]byte, len(run.Data))
		require.True(t, file.Image.ReadAt(got, run.First-first), f.Name)
		require.Equal(t, run.Data, got)
	}
	again := writtenIn(t, f, file.Image, format.WriteOptions{WrittenAs: file.WrittenAs})
	assert.Equal(t, text, again, "written again as it was read")
	for _, fact := range file.Facts {
		assert.NotEmpty(t, fact.Name)
		assert.NotEmpty(t, fact.Text)
	}
	if file.Unproven != "" {
		return
	}
	for i := 0; i < len(text); i += 1 + len(text)/300 {
		for _, c := range []byte{text[i] ^ 1, '0', 'F'} {
			damaged := bytes.Clone(text)
			if damaged[i] = c; c == text[i] {
				continue
			}
			if other, problems := read(damaged); problems.Count() == 0 {
				require.True(t, file.Image.Equal(other.Image), "%s: byte %d, %q for %q, in silence", f.Name, i, c, text[i])
			}
		}
		if cut, problems := read(text[:i]); i > 0 && problems.Count() == 0 {
			require.True(t, file.Image.Equal(cut.Image), "%s cut at %d, in silence", f.Name, i)
		}
	}
}
