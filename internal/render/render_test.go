package render

import (
	"bytes"
	"errors"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

func TestProblemsMarkThePlace(t *testing.T) {
	var ps source.Problems
	ps.Add(&source.Problem{File: "f", Line: 1, Column: 4, What: "bad", Text: ":00\tx–"})
	ps.Add(&source.Problem{File: "f", Line: 2, Column: 101, What: "far", Text: strings.Repeat("a", 100) + "b"})
	for range 30 {
		ps.Add(&source.Problem{File: "g", What: "more"})
	}
	var b bytes.Buffer
	Plain(&b).Problems(&ps, nil, true)
	lines := strings.Split(b.String(), "\n")
	assert.Equal(t, []string{"f:1:4: error: bad", "    :00·x–", "       ^", "f:2:101: error: far"}, lines[:4])
	assert.Equal(
		t,
		strings.IndexByte(lines[4], 'b'),
		strings.IndexByte(lines[5], '^'),
		"the mark stands under the place, in the device that is shown",
	)
	assert.LessOrEqual(t, len(lines[4]), 80)
	assert.Equal(t, "and 12 more problems", lines[len(lines)-2])
	b.Reset()
	Plain(&b).Problems(&ps, nil, false)
	assert.Equal(t, 21, strings.Count(b.String(), "\n"), "one line each")
}

func TestTableAndBar(t *testing.T) {
	var b bytes.Buffer
	Plain(&b).Table([]string{"a", "n"}, [][]string{{"x", "1"}, {"yy", "22"}}, 2)
	assert.Equal(t, "a    n\n─── ──\nx    1\nyy  22\n", b.String())
	assert.Equal(t, strings.Repeat("█", 10)+strings.Repeat("░", 10), Bar(5, 10))
	assert.Equal(t, "█"+strings.Repeat("░", 19), Bar(1, 1<<40), "what is used at all shows")
	assert.Equal(t, strings.Repeat("░", 20), Bar(0, 10))
}

// TestScale holds the scale to its promises: addresses in order, nothing
// smaller than the least, all of the line used.
func TestScale(t *testing.T) {
	m := &PictureMemory{Span: memory.Span{First: 0, Last: 1<<22 - 1}}
	bounds := []uint64{0, 64, 128, 1 << 20, 1<<20 + 16, 1 << 22}
	for i := range bounds[1:] {
		name := "r"
		if i == 2 {
			name = ""
		}
		m.Segments = append(m.Segments, PictureSegment{Span: memory.Span{First: bounds[i], Last: bounds[i+1] - 1}, Name: name})
	}
	for _, wide := range []float64{80, 888} {
		s := newScale(m, wide, 6, 2)
		assert.InDelta(t, wide, s.starts[len(s.starts)-1], 1e-6)
		for i, seg := range m.Segments {
			least := 6.0
			if seg.Name == "" {
				least = 2
			}
			assert.GreaterOrEqual(t, s.starts[i+1]-s.starts[i], least-1e-9)
		}
		last := -1.0
		for a := uint64(0); a < 1<<22; a += 4093 {
			x := s.at(a)
			assert.Greater(t, x, last)
			assert.Greater(t, s.behind(a), x)
			last = x
		}
	}
}

func TestLabelsDoNotCoverEachOther(t *testing.T) {
	texts := []string{"a long name", "another long name", "short", "x", "the last one of all"}
	list, count := rows(texts, []float64{2, 4, 6, 30, 79}, "", func(s string) float64 { return float64(len(s)) }, 80, 1)
	assert.Greater(t, count, 1)
	for i, a := range list {
		assert.GreaterOrEqual(t, a.x, 0.0)
		assert.LessOrEqual(t, a.x+float64(len(a.text)), 80.0)
		for _, b := range list[:i] {
			if a.row == b.row {
				assert.True(t, a.x >= b.x+float64(len(b.text))+1 || b.x >= a.x+float64(len(a.text))+1, "%q and %q", a.text, b.text)
			}
		}
	}
}

func TestPicturesOfManyRuns(t *testing.T) {
	var batch memory.Batch
	for i := range 50_000 {
		batch.Add(uint64(2*i), []byte{1}, i+1)
	}
	image, _ := batch.Image(&source.Input{Name: "f"})
	p := &Picture{Title: "many <runs> & more", Parts: []memory.Part{{Name: "f & g", Image: image}}, Memories: []PictureMemory{{
		Title: "m", Span: memory.Span{First: 0, Last: 1<<17 - 1}, Segments: []PictureSegment{{Span: memory.Span{First: 0, Last: 1<<17 - 1}, Name: "all"}}}},
		Marks: []Mark{{Span: memory.Span{First: 5, Last: 9}, Text: strings.Repeat("a long text ", 40)}}}
	var b bytes.Buffer
	require.NoError(t, p.SVG(&b))
	assert.Less(t, b.Len(), 20_000, "runs closer than can be seen are drawn as one")
	assert.Contains(t, b.String(), "many &lt;runs&gt; &amp; more")
	b.Reset()
	require.NoError(t, p.PNG(&b))
	_, err := png.Decode(&b)
	assert.NoError(t, err)
	b.Reset()
	p.Text(&Printer{W: &b, Width: 20})
	assert.Contains(t, b.String(), "[aaaa")
}

func TestViewAtTheEdges(t *testing.T) {
	in := &source.Input{Name: "f", Counting: source.Offsets}
	m, _ := memory.FromBytes(1<<64-3, []byte("abc"), in)
	all, _ := m.Span()
	var b bytes.Buffer
	(&View{Columns: 16, Origin: true}).Print(Plain(&b), m, []memory.Span{all})
	assert.Equal(t, "0xFFFF_FFFF_FFFF_FFF0                                          61 62 63               abc  f+0x0\n", b.String())
	b.Reset()
	(&View{Columns: 3}).Print(Plain(&b), m, []memory.Span{all})
	assert.Equal(t, 2, strings.Count(b.String(), "\n"), "rows begin at multiples of their length")
}

func TestLinesBreakBetweenWordsOnATerminal(t *testing.T) {
	var b bytes.Buffer
	p := &Printer{W: &b, Terminal: true, Colour: true, Width: 20}
	p.Line("%s: %s", p.Bad("error"), "one two three four five averyveryverylongwordindeed six")
	assert.Equal(t, "\x1b[31;1merror\x1b[0;22m: one two three\n    four five\n    averyveryverylongwordindeed\n    six\n", b.String())
	b.Reset()
	Plain(&b).Line("%s", "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen")
	assert.Equal(t, 1, strings.Count(b.String(), "\n"))
}

func TestWhatComesFromOutsideIsMadeVisible(t *testing.T) {
	var b bytes.Buffer
	p := &Printer{W: &b, Colour: true}
	p.Printf("%s %s %v\n", "a\x1b[2Jb", p.Good("c\u202ed"), errors.New("e\u009bf"))
	p.Table([]string{"n"}, [][]string{{"g\rh"}})
	out := strings.ReplaceAll(strings.ReplaceAll(b.String(), "\x1b[32;1m", ""), "\x1b[0;22m", "")
	assert.NotContains(t, out, "\x1b")
	assert.NotContains(t, out, "\r")
	assert.Contains(t, out, `a\x1B[2Jb c\u202Ed e\x9Bf`)
	assert.Contains(t, out, `g\x0Dh`)
}
