package picture

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// shapes holds a picture against XML's grammar, and returns its elements by name.
func shapes(t *testing.T, text string) map[string]int {
	count := map[string]int{}
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return count
		}
		require.NoError(t, err)
		if e, ok := token.(xml.StartElement); ok {
			count[e.Name.Local]++
		}
	}
}

func line(marks int) *TimeLine {
	b := TimeBar{
		Title:     "a <plan> & more",
		Verdict:   strings.Repeat("not safe, because it is very long indeed; ", 12),
		Bad:       true,
		End:       "58.4 s",
		Total:     100,
		Stretches: []TimeStretch{{0, 0.001, 0}, {0.001, 40, 1}, {40, 40.01, 0}, {40.01, 100, 1}},
	}
	for i := range marks {
		b.Marks, b.Notes = append(b.Marks, float64(i)), append(b.Notes, fmt.Sprintf("note %d", i+1))
	}
	return &TimeLine{
		Title: "Power cuts",
		Lines: []TimeBar{b, {Title: "nothing", Total: 0}},
		Kinds: []TimeKind{{"o", "old", 0x0072B2, false}, {"?", "neither", 0xD55E00, true}},
	}
}

func TestTimeLinesAreXML(t *testing.T) {
	for _, marks := range []int{0, 1, 30} {
		var b bytes.Buffer
		require.NoError(t, line(marks).SVG(&b))
		n := shapes(t, b.String())
		assert.Equal(t, 1, n["svg"])
		for i := range marks {
			assert.Contains(t, b.String(), fmt.Sprintf(">note %d<", i+1))
		}
		var again bytes.Buffer
		require.NoError(t, line(marks).SVG(&again))
		assert.Equal(t, b.String(), again.String())
	}
}

func TestTimeLinesAsPixels(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, line(3).PNG(&b))
	image, err := png.Decode(&b)
	require.NoError(t, err)
	assert.Equal(t, 2*pageWidth, image.Bounds().Dx())
	// The longest stretch has its colour in the middle of the bar.
	seen := map[string]bool{}
	for y := range image.Bounds().Dy() {
		r, g, b, _ := image.At(2*(margin+inner/4), y).RGBA()
		seen[fmt.Sprintf("%02X%02X%02X", r>>8, g>>8, b>>8)] = true
	}
	assert.True(t, seen["D55E00"])
}

// crowded is a memory with so many regions, some with long names.
func crowded(t *testing.T, regions int) *Picture {
	const each = 0x400
	m := Memory{Title: "flash", Span: memory.Span{First: 0, Last: uint64(regions*each - 1)}}
	for i := range regions {
		name := fmt.Sprintf("region_%d", i)
		if i%5 == 0 {
			name += strings.Repeat("_long", 12)
		}
		m.Segments = append(
			m.Segments,
			Segment{
				Span:     memory.Span{First: uint64(i * each), Last: uint64((i+1)*each - 1)},
				Name:     name,
				Detail:   "some used, some free",
				Reserved: i%4 == 3,
			},
		)
	}
	image, ok := memory.FromBytes(0x100, make([]byte, each), &source.Input{Name: "part.hex"})
	require.True(t, ok)
	p := &Picture{Title: "Many", Memories: []Memory{m}, Parts: []memory.Part{{Name: "part.hex", Image: image}}}
	for i := range regions {
		p.Marks = append(p.Marks,
			Mark{Span: memory.Span{First: uint64(i * each), Last: uint64(i*each + 3)}, Hatched: i%2 == 0, Text: "error"})
	}
	return p
}

// TestPicturesOfAnyNumberOfRegions draws from one region to very many: nothing leaves
// the picture.
func TestPicturesOfAnyNumberOfRegions(t *testing.T) {
	for _, regions := range []int{1, 7, 60, 300} {
		p := crowded(t, regions)
		var whole, page bytes.Buffer
		require.NoError(t, p.SVG(&whole))
		require.NoError(t, (&Inline{Picture: p, Link: func(name string) string { return "#" + name }}).Write(&page, 0))
		shapes(t, whole.String())
		n := shapes(t, page.String())
		assert.Equal(t, 2*2*regions, n["a"], "a link for each region and each mark, on wide pages and on narrow ones")
		assert.Equal(t, 2, n["svg"])
		for _, text := range []string{whole.String(), page.String()} {
			d, width := xml.NewDecoder(strings.NewReader(text)), 0.0
			for {
				token, err := d.Token()
				if err != nil {
					break
				}
				e, ok := token.(xml.StartElement)
				if !ok {
					continue
				}
				for _, a := range e.Attr {
					if a.Name.Local == "viewBox" {
						_, err := fmt.Sscan(strings.Fields(a.Value)[2], &width)
						require.NoError(t, err)
					}
					if a.Name.Local == "x" {
						var x float64
						_, err := fmt.Sscan(a.Value, &x)
						require.NoError(t, err)
						assert.GreaterOrEqual(t, x, 0.0)
						assert.LessOrEqual(t, x, width, "%d regions: %s", regions, e.Name.Local)
					}
				}
			}
		}
	}
}

// TestScalesAddUp holds that segments take just the whole line, however many they are,
// and each has its place.
func TestScalesAddUp(t *testing.T) {
	for _, regions := range []int{1, 2, 60, 1000} {
		p := crowded(t, regions)
		s := newScale(&p.Memories[0], inner, 26, 8)
		assert.InDelta(t, inner, s.starts[len(s.starts)-1], 0.001)
		for i := range p.Memories[0].Segments {
			assert.Less(t, s.starts[i], s.starts[i+1])
		}
	}
}

func TestChartsAreXML(t *testing.T) {
	c := &Chart{Columns: []string{"1.0", "1.1", "<2.0>"}}
	for i := range 7 {
		c.Lines = append(c.Lines,
			ChartLine{Name: fmt.Sprintf("region <%d>", i), Whole: float64(100 * i), Values: []float64{1, 50, float64(i * 90)}})
	}
	var b bytes.Buffer
	require.NoError(t, c.Inline(&b))
	n := shapes(t, b.String())
	assert.Equal(t, 7*(1+3), n["rect"], "a frame and a bar for each release")
	assert.Equal(t, 7*3, n["title"])
}
