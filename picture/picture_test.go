package picture

import (
	"bytes"
	"fmt"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// TestScale holds the scale to its promises: addresses in order, nothing
// smaller than the least, all of the line used.
func TestScale(t *testing.T) {
	m := &Memory{Span: memory.Span{First: 0, Last: 1<<22 - 1}}
	bounds := []uint64{0, 64, 128, 1 << 20, 1<<20 + 16, 1 << 22}
	for i := range bounds[1:] {
		name := "r"
		if i == 2 {
			name = ""
		}
		m.Segments = append(m.Segments, Segment{Span: memory.Span{First: bounds[i], Last: bounds[i+1] - 1}, Name: name})
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
	list, count := rows(texts, []float64{2, 4, 6, 30, 79}, "", func(s string) float64 { return float64(len(s)) }, 80, 1, 3)
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
	p := &Picture{Title: "many <runs> & more", Parts: []memory.Part{{Name: "f & g", Image: image}}, Memories: []Memory{{
		Title: "m", Span: memory.Span{First: 0, Last: 1<<17 - 1},
		Segments: []Segment{{Span: memory.Span{First: 0, Last: 1<<17 - 1}, Name: "all"}}}},
		Marks: []Mark{{Span: memory.Span{First: 5, Last: 9}, Text: strings.Repeat("a long text ", 40)}}}
	var b bytes.Buffer
	require.NoError(t, p.SVG(&b))
	assert.Less(t, b.Len(), 20_000, "runs closer than can be seen are drawn as one")
	assert.Contains(t, b.String(), "many &lt;runs&gt; &amp; more")
	b.Reset()
	require.NoError(t, p.PNG(&b))
	_, err := png.Decode(&b)
	assert.NoError(t, err)
	rows := p.Text(20)
	assert.Contains(t, rows,
		Row{Runs: []Run{{Text: "["}, {strings.Repeat("a", 45), OfPart, 0}, {Text: strings.Repeat("·", 13)}, {Text: "]"}}})
}

// TestTextOfManyRegions lays out memories of more and more regions as text: all are named up to
// so many rows, then only those that are wide enough, and how many are not is said.
func TestTextOfManyRegions(t *testing.T) {
	for _, n := range []int{3, 40, 200, 5000} {
		m := Memory{Title: "flash", Span: memory.Span{Last: uint64(n)*4096 - 1}}
		for i := range n {
			first := uint64(i) * 4096
			m.Segments = append(m.Segments, Segment{Span: memory.Span{First: first, Last: first + 4095}, Name: fmt.Sprintf("region%d", i)})
		}
		var text strings.Builder
		for _, row := range (&Picture{Title: "T", Memories: []Memory{m}}).Text(100) {
			for _, run := range row.Runs {
				text.WriteString(run.Text)
			}
			text.WriteString("\n")
		}
		all := text.String()
		assert.Less(t, strings.Count(all, "\n"), 2*mostTextRows+8, "%d", n)
		named := strings.Count(all, "region")
		if n <= 40 {
			assert.Equal(t, n, named)
			assert.NotContains(t, all, "not named here")
		} else {
			assert.Contains(t, all, fmt.Sprintf("%d not named here", n-named))
		}
		assert.Contains(t, all, memory.FormatAddress(m.Span.Last))
	}
}

func TestPartsHaveLettersOfTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for i := range 62 {
		seen[PartLetter(i)] = true
	}
	assert.Len(t, seen, 62)
	assert.Equal(t, PartLetter(0), PartLetter(62), "far from each other")
}
