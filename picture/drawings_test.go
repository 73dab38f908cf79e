package picture

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// chancePicture is a picture of one to three memories with regions, parts and marks by chance.
func chancePicture(t *testing.T, r *rand.Rand) *Picture {
	t.Helper()
	p := &Picture{Title: "Drawn <by> chance"}
	for k := range 1 + r.IntN(3) {
		base := uint64(k) << 24
		size := uint64(256) << r.IntN(14)
		m := Memory{Title: fmt.Sprintf("memory %d", k) + strings.Repeat(", of a long name", r.IntN(3)*r.IntN(9)),
			Span: memory.Span{First: base, Last: base + size - 1}}
		for at := base; at <= m.Span.Last; {
			n := min(1+r.Uint64N(size/uint64(1+r.IntN(9))), m.Span.Last-at+1)
			s := Segment{Span: memory.Span{First: at, Last: at + n - 1}, Reserved: r.IntN(5) == 0}
			if r.IntN(4) > 0 && len(m.Segments) < 12 {
				s.Name = strings.Repeat("region_", 1+r.IntN(3)) + fmt.Sprint(len(m.Segments))
				if r.IntN(3) > 0 {
					s.Detail = fmt.Sprintf("%d of %d bytes", n/2, n)
				}
			}
			if at += n; len(m.Segments) > 24 {
				s.Last, at = m.Span.Last, m.Span.Last+1
			}
			m.Segments = append(m.Segments, s)
		}
		p.Memories = append(p.Memories, m)
	}
	for i := range r.IntN(5) {
		var batch memory.Batch
		for k := range 1 + r.IntN(5) {
			m := &p.Memories[r.IntN(len(p.Memories))]
			at := m.Span.First + r.Uint64N(m.Span.Size())
			batch.Add(at, make([]byte, min(1+r.Uint64N(m.Span.Size()/3), m.Span.Last-at+1)), k+1)
		}
		image, _ := batch.Image(&source.Input{Name: "f"})
		p.Parts = append(p.Parts, memory.Part{Name: fmt.Sprintf("part & %d.hex", i), Image: image})
	}
	for range r.IntN(7) {
		m := &p.Memories[r.IntN(len(p.Memories))]
		at := m.Span.First + r.Uint64N(m.Span.Size())
		p.Marks = append(p.Marks,
			Mark{Span: memory.Span{First: at, Last: min(at+r.Uint64N(m.Span.Size()), m.Span.Last)}, Hatched: r.IntN(2) == 0,
				Text: strings.Repeat("something was found here; ", 1+r.IntN(4))})
	}
	return p
}

// TestOutlinesAreFilled fills outlines that are no upright rectangles, or reach out of the picture.
func TestOutlinesAreFilled(t *testing.T) {
	for name, c := range map[string]struct {
		outline []dot
		in, out []image.Point
	}{
		"a triangle": {[]dot{{0, 0}, {10, 0}, {0, 10}}, []image.Point{{1, 1}, {7, 1}, {1, 7}, {4, 4}},
			[]image.Point{{9, 9}, {6, 6}, {12, 1}}},
		"a rectangle": {[]dot{{2, 3}, {8, 3}, {8, 6}, {2, 6}}, []image.Point{{2, 3}, {7, 5}, {4, 4}},
			[]image.Point{{1, 3}, {8, 3}, {2, 2}, {2, 6}}},
		"one turned the other way": {[]dot{{2, 3}, {2, 6}, {8, 6}, {8, 3}}, []image.Point{{2, 3}, {7, 5}, {4, 4}},
			[]image.Point{{1, 3}, {8, 3}, {2, 2}, {2, 6}}},
		"a bow": {[]dot{{0, 0}, {10, 10}, {10, 0}, {0, 10}}, []image.Point{{1, 5}, {8, 5}, {0, 2}, {9, 8}},
			[]image.Point{{5, 1}, {5, 8}, {4, 0}}},
		"partly outside": {[]dot{{-5, -5}, {4, -5}, {4, 4}, {-5, 4}}, []image.Point{{0, 0}, {3, 3}}, []image.Point{{4, 4}, {5, 0}}},
		"outside":        {[]dot{{30, 30}, {40, 30}, {40, 40}}, nil, []image.Point{{19, 19}, {0, 0}}},
	} {
		r := newRaster(nil, 20, 20, 1)
		r.polygon(c.outline, color.Black)
		for _, p := range c.in {
			assert.Greater(t, r.image.RGBAAt(p.X, p.Y).A, uint8(200), "%s %v", name, p)
		}
		for _, p := range c.out {
			assert.Zero(t, r.image.RGBAAt(p.X, p.Y).A, "%s %v", name, p)
		}
	}
}

// TestPixelsAreKept encodes pixels by chance, in stretches of many lengths and rows that
// repeat, and reads them again: all are what they were, but for shades beyond 256, of which
// the rarest become the nearest of the others.
func TestPixelsAreKept(t *testing.T) {
	for _, shades := range []int{1, 2, 255, 256, 257, 300} {
		random := rand.New(rand.NewPCG(uint64(shades), 29))
		palette := make([]color.RGBA, shades)
		for i := range palette {
			palette[i] = color.RGBA{uint8(i), uint8(i >> 8), uint8(random.Uint32()), 0xFF}
		}
		const wide, high = 1203, 120
		r, count := newRaster(nil, wide, high, 1), map[color.RGBA]int{}
		for y, next := 0, 0; y < high; {
			for x := 0; x < wide; next++ {
				shade := palette[next%shades]
				if next >= shades { // all are there; the first ones most often
					shade = palette[min(random.IntN(shades), random.IntN(shades))]
				}
				for end := min(wide, x+1+random.IntN(1+1<<random.IntN(10))); x < end; x++ {
					r.image.SetRGBA(x, y, shade)
				}
			}
			row := r.image.Pix[y*r.image.Stride:][:r.image.Stride]
			y++
			for again := random.IntN(3); again > 0 && y < high; again, y = again-1, y+1 {
				copy(r.image.Pix[y*r.image.Stride:], row)
			}
		}
		for i := range wide * high {
			count[r.image.RGBAAt(i%wide, i/wide)]++
		}
		often := slices.Sorted(maps.Values(count))
		least := often[max(0, len(often)-256)] // times of the rarest that is kept
		var b bytes.Buffer
		require.NoError(t, r.encode(&b))
		drawn, err := png.Decode(&b)
		require.NoError(t, err)
		kept := drawn.(*image.Paletted).Palette
		require.Len(t, kept, min(shades, 256))
		for i := range wide * high {
			is := r.image.RGBAAt(i%wide, i/wide)
			want := kept.Convert(is)
			if count[is] > least || shades <= 256 {
				want = is
			}
			if got := drawn.At(i%wide, i/wide); want != got {
				require.Equal(t, want, got, "%d shades, pixel %d of row %d", shades, i%wide, i/wide)
			}
		}
	}
}

// TestDrawings holds drawings of pictures, time lines and charts by chance, in each form, against
// what they were when they were looked at.
func TestDrawings(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	say := func(what string, text []byte) {
		fmt.Fprintf(&out, " %s %d %04x", what, len(text), crc32.ChecksumIEEE(text)&0xFFFF)
	}
	for seed := range uint64(64) {
		r := rand.New(rand.NewPCG(seed, 13))
		p := chancePicture(t, r)
		if seed >= 60 { // so many marks that most are ticks
			for range 100 * (seed - 59) {
				m := &p.Memories[r.IntN(len(p.Memories))]
				at := m.Span.First + r.Uint64N(m.Span.Size())
				p.Marks = append(p.Marks, Mark{Span: memory.Span{First: at, Last: at}, Text: "one of many"})
			}
		}
		var b bytes.Buffer
		require.NoError(t, p.SVG(&b))
		require.Equal(t, 1, shapes(t, b.String())["svg"])
		fmt.Fprintf(&out, "%d: %d memories, %d parts, %d marks:", seed, len(p.Memories), len(p.Parts), len(p.Marks))
		say("svg", b.Bytes())
		if seed%4 == 0 { // its size alone: how letters are drawn is the font's
			b.Reset()
			require.NoError(t, p.PNG(&b))
			drawn, err := png.Decode(&b)
			require.NoError(t, err)
			fmt.Fprintf(&out, " png %v", drawn.Bounds().Size())
		}
		for number := range p.Memories {
			b.Reset()
			in := &Inline{Picture: p, Number: func(mark int) int { return mark*2 + 1 }}
			if seed%2 == 0 {
				in.Anchor = "place"
				in.Link = func(name string) string { return map[bool]string{true: "#" + name}[len(name)%2 == 0] }
			}
			require.NoError(t, in.Write(&b, number))
			say("inline", b.Bytes())
		}
		for _, columns := range []int{60, 80, 131} {
			b.Reset()
			for _, row := range p.Text(columns) {
				fmt.Fprintln(&b, row.Breakable, row.Runs)
			}
			say("text", b.Bytes())
		}
		line := &TimeLine{Title: "Time",
			Kinds: []TimeKind{{"o", "old", 0x0072B2, false}, {"?", "neither", 0xD55E00, true}, {"n", "new", 0x009E73, false}}}
		for i := range 1 + r.IntN(4) {
			bar := TimeBar{Title: fmt.Sprint("plan ", i), Verdict: strings.Repeat("safe, mostly; ", 1+r.IntN(12)), Bad: r.IntN(2) == 0,
				End: []string{"3.5 s", "12 min 3.25 s"}[r.IntN(2)], Total: float64(10 + r.IntN(200))}
			for at := 0.0; at < bar.Total; {
				to := min(at+float64(r.IntN(4000))/100+0.001, bar.Total)
				bar.Stretches = append(bar.Stretches, TimeStretch{at, to, r.IntN(3)})
				at = to
			}
			for k := range r.IntN(4) {
				bar.Marks, bar.Notes = append(bar.Marks, float64(r.IntN(int(bar.Total)))),
					append(bar.Notes, strings.Repeat("a note ", 1+k*9))
			}
			line.Lines = append(line.Lines, bar)
		}
		b.Reset()
		require.NoError(t, line.SVG(&b))
		say("time", b.Bytes())
		chart := &Chart{Columns: []string{"1.0", "1.1 <rc>", "2.0, and what was there", strings.Repeat("2.1 ", 1+r.IntN(60))}[:1+r.IntN(4)]}
		for i := range 1 + r.IntN(5) {
			one := ChartLine{Name: fmt.Sprint("region & ", i), Whole: float64(r.IntN(3) * 1000)}
			for range chart.Columns {
				one.Values = append(one.Values, float64(r.IntN(1000)))
			}
			chart.Lines = append(chart.Lines, one)
		}
		b.Reset()
		require.NoError(t, chart.Inline(&b))
		say("chart", b.Bytes())
		out.WriteString("\n")
	}
	golden.File(t, "testdata/drawings.txt", out.String())
}

// TestTallPicturesAreShown draws a picture that would be too tall for most programs at two
// pixels a point.
func TestTallPicturesAreShown(t *testing.T) {
	p := chancePicture(t, rand.New(rand.NewPCG(1, 13)))
	for len(p.Parts) < 890 {
		p.Parts = append(p.Parts, p.Parts[0])
	}
	var b bytes.Buffer
	require.NoError(t, p.PNG(&b))
	c, err := png.DecodeConfig(&b)
	require.NoError(t, err)
	assert.Equal(t, pageWidth, c.Width)
	assert.InDelta(t, 1<<14, c.Height, 500)
}
