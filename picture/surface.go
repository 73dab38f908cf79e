package picture

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"mexalt/source"
)

// surface is what a picture is drawn on; y runs downwards from the top.
type surface interface {
	fill(outline []dot, c color.Color)
	stroke(line []dot, thick float64, c color.Color)
	text(x, y float64, f weight, size float64, c color.Color, text string)
}

type dot struct{ x, y float64 }

// weight is plain or heavy.
type weight uint8

const (
	plain weight = iota
	heavy
)

// fonts are parsed when a picture is drawn, and not before.
type fonts struct {
	parsed [2]*opentype.Font
	faces  map[string]font.Face
}

func loadFonts() (*fonts, error) {
	f := &fonts{faces: map[string]font.Face{}}
	for i, ttf := range [][]byte{liberationsansregular.TTF, liberationsansbold.TTF} {
		var err error
		if f.parsed[i], err = opentype.Parse(ttf); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// face returns a font of so many pixels.
func (f *fonts) face(w weight, size float64) font.Face {
	key := fmt.Sprint(w, size)
	if f.faces[key] == nil {
		const pointsPerInch = 72
		face, err := opentype.NewFace(f.parsed[w], &opentype.FaceOptions{Size: size, DPI: pointsPerInch, Hinting: font.HintingNone})
		if err != nil {
			panic(err) // the font and the sizes are ours
		}
		f.faces[key] = &knownFace{face, map[rune]fixed.Int26_6{}, map[[2]rune]fixed.Int26_6{}, map[glyphAt]glyph{}}
	}
	return f.faces[key]
}

// knownFace is a font that looks up once how wide a character is, how much closer two stand
// together, and what one looks like: texts have far more characters than they have different
// ones.
type knownFace struct {
	font.Face
	advances map[rune]fixed.Int26_6
	kerns    map[[2]rune]fixed.Int26_6
	glyphs   map[glyphAt]glyph
}

// glyphAt is a character at a place within a pixel.
type glyphAt struct {
	r    rune
	x, y fixed.Int26_6
}

// glyph is what [font.Face.Glyph] returns, of a character in the pixel at 0, 0.
type glyph struct {
	bounds  image.Rectangle
	mask    *image.Alpha
	at      image.Point
	advance fixed.Int26_6
}

func (f *knownFace) Glyph(dot fixed.Point26_6, r rune) (image.Rectangle, image.Image, image.Point, fixed.Int26_6, bool) {
	pixel := image.Pt(dot.X.Floor(), dot.Y.Floor())
	at := glyphAt{r, dot.X - fixed.I(pixel.X), dot.Y - fixed.I(pixel.Y)}
	g, known := f.glyphs[at]
	if !known {
		bounds, mask, from, advance, ok := f.Face.Glyph(dot, r)
		alpha, is := mask.(*image.Alpha)
		const most = 1 << 14
		if !ok || !is || len(f.glyphs) == most {
			return bounds, mask, from, advance, ok
		}
		own := *alpha // the font uses it again
		own.Pix = slices.Clone(alpha.Pix)
		g = glyph{bounds.Sub(pixel), &own, from, advance}
		f.glyphs[at] = g
	}
	return g.bounds.Add(pixel), g.mask, g.at, g.advance, true
}

func (f *knownFace) GlyphAdvance(r rune) (advance fixed.Int26_6, ok bool) {
	advance, known := f.advances[r]
	if !known {
		if advance, ok = f.Face.GlyphAdvance(r); !ok {
			return 0, false
		}
		f.advances[r] = advance
	}
	return advance, true
}

func (f *knownFace) Kern(a, b rune) fixed.Int26_6 {
	pair := [2]rune{a, b}
	kern, known := f.kerns[pair]
	if !known {
		kern = f.Face.Kern(a, b)
		f.kerns[pair] = kern
	}
	return kern
}

// fixedUnit is the unit of the font package's numbers, 1/64.
const fixedUnit = 64

func (f *fonts) width(w weight, size float64, text string) float64 {
	return float64(font.MeasureString(f.face(w, size), text)) / fixedUnit
}

// svg draws SVG 1.1 (W3C): the few elements that a picture needs, as text.
type svg struct {
	w   io.Writer
	err error
}

func newSVG(w io.Writer, wide, high float64) *svg {
	s := &svg{w: w}
	s.printf(
		"%s<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%s\" height=\"%s\" viewBox=\"0 0 %s %s\">\n",
		xml.Header,
		number(wide),
		number(high),
		number(wide),
		number(high),
	)
	return s
}

// end ends the picture and returns the first error met.
func (s *svg) end() error {
	s.printf("</svg>\n")
	return s.err
}

func (s *svg) printf(format string, args ...any) {
	if s.err == nil {
		_, s.err = fmt.Fprintf(s.w, format, args...)
	}
}

// number prints a coordinate with two digits behind the point, as far as they
// are needed.
func number(v float64) string {
	text := fmt.Sprintf("%.2f", v)
	return strings.TrimRight(strings.TrimRight(text, "0"), ".")
}

func points(line []dot) string {
	var list []string
	for _, p := range line {
		list = append(list, number(p.x)+","+number(p.y))
	}
	return strings.Join(list, " ")
}

func hexColour(c color.Color) string {
	r, g, b, _ := c.RGBA()
	return fmt.Sprintf("#%02X%02X%02X", r>>8, g>>8, b>>8)
}

func (s *svg) fill(outline []dot, c color.Color) {
	s.printf("<polygon points=\"%s\" fill=\"%s\"/>\n", points(outline), hexColour(c))
}

func (s *svg) stroke(line []dot, thick float64, c color.Color) {
	s.printf("<polyline points=\"%s\" fill=\"none\" stroke=\"%s\" stroke-width=\"%s\"/>\n", points(line), hexColour(c), number(thick))
}

func (s *svg) text(x, y float64, f weight, size float64, c color.Color, text string) {
	bold := ""
	if f == heavy {
		bold = " font-weight=\"bold\""
	}
	s.printf("<text x=\"%s\" y=\"%s\" font-family=\"'Liberation Sans',sans-serif\" font-size=\"%s\"%s fill=\"%s\">", number(x), number(y),
		number(size), bold, hexColour(c))
	if s.err == nil {
		s.err = xml.EscapeText(s.w, []byte(source.VisibleLines(text)))
	}
	s.printf("</text>\n")
}

// raster draws pixels, scale of them a point.
type raster struct {
	image *image.RGBA
	fonts *fonts
	scale float64
}

func newRaster(f *fonts, wide, high, scale float64) *raster {
	return &raster{image.NewRGBA(image.Rect(0, 0, int(wide*scale), int(high*scale))), f, scale}
}

// polygon fills a closed outline, given in points. Only its own rectangle is
// gone through.
func (r *raster) polygon(outline []dot, c color.Color) {
	left, top, right, bottom := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range outline {
		left, right = math.Min(left, p.x*r.scale), math.Max(right, p.x*r.scale)
		top, bottom = math.Min(top, p.y*r.scale), math.Max(bottom, p.y*r.scale)
	}
	box := image.Rect(int(math.Floor(left)), int(math.Floor(top)), int(math.Ceil(right)),
		int(math.Ceil(bottom))).Intersect(r.image.Bounds())
	if box.Empty() {
		return
	}
	if whole := func(x float64) bool { return x == math.Trunc(x) }; len(outline) == 4 && whole(left) && whole(top) && whole(right) &&
		whole(bottom) &&
		upright(outline) {
		draw.Draw(r.image, box, image.NewUniform(c), image.Point{}, draw.Over) // the same pixels, much faster
		return
	}
	v := vector.NewRasterizer(box.Dx(), box.Dy())
	v.DrawOp = draw.Over
	for i, p := range outline {
		x, y := float32(p.x*r.scale-float64(box.Min.X)), float32(p.y*r.scale-float64(box.Min.Y))
		if i == 0 {
			v.MoveTo(x, y)
		} else {
			v.LineTo(x, y)
		}
	}
	v.ClosePath()
	v.Draw(r.image, box, image.NewUniform(c), image.Point{})
}

// upright reports whether four points are a rectangle's, with upright sides.
func upright(p []dot) bool {
	return p[0].x == p[3].x && p[1].x == p[2].x && p[0].y == p[1].y && p[2].y == p[3].y ||
		p[0].x == p[1].x && p[2].x == p[3].x && p[0].y == p[3].y && p[1].y == p[2].y
}

func (r *raster) fill(outline []dot, c color.Color) { r.polygon(outline, c) }

// stroke draws each part of a line as a rectangle that reaches half its
// thickness over both ends, so that corners close.
func (r *raster) stroke(line []dot, thick float64, c color.Color) {
	half := thick / 2
	for i := 1; i < len(line); i++ {
		a, b := line[i-1], line[i]
		length := math.Hypot(b.x-a.x, b.y-a.y)
		if length == 0 {
			continue
		}
		dx, dy := (b.x-a.x)/length*half, (b.y-a.y)/length*half
		r.polygon(
			[]dot{{a.x - dx - dy, a.y - dy + dx}, {b.x + dx - dy, b.y + dy + dx}, {b.x + dx + dy, b.y + dy - dx},
				{a.x - dx + dy, a.y - dy - dx}},
			c,
		)
	}
}

func (r *raster) text(x, y float64, f weight, size float64, c color.Color, text string) {
	d := font.Drawer{
		Dst: r.image, Src: image.NewUniform(c), Face: r.fonts.face(f, size*r.scale),
		Dot: fixed.Point26_6{X: fixed.Int26_6(x * r.scale * fixedUnit), Y: fixed.Int26_6(y * r.scale * fixedUnit)},
	}
	d.DrawString(text)
}

// encode writes the pixels with a palette, which takes a third of the room and a fifth of
// the time. A picture has few colours: those beyond 256, which are rare shades at the edges
// of letters, become the nearest of the others.
func (r *raster) encode(w io.Writer) error {
	flat := image.NewPaletted(r.image.Rect, nil)
	high := r.image.Rect.Dy()
	bands := [2]band{{to: high / 2}, {from: high / 2, to: high}} // one for each of two cores
	each := func(do func(b *band)) {
		var done sync.WaitGroup
		for i := range bands {
			done.Go(func() { do(&bands[i]) })
		}
		done.Wait()
	}
	each(func(b *band) {
		b.numbers = map[uint32]int{}
		r.flatten(flat, b, func(colour uint32, pixels int) uint8 {
			n := b.number(colour)
			b.found[n].pixels += pixels
			return uint8(n)
		})
	})
	pixels := map[uint32]int{}
	for _, f := range slices.Concat(bands[0].found, bands[1].found) {
		pixels[f.colour] += f.pixels
	}
	order := slices.SortedFunc(maps.Keys(pixels), func(a, b uint32) int {
		return cmp.Or(cmp.Compare(pixels[b], pixels[a]), cmp.Compare(a, b))
	})
	const most = 256
	index := map[uint32]uint8{}
	for i, colour := range order {
		one := color.RGBA{uint8(colour >> 24), uint8(colour >> 16), uint8(colour >> 8), uint8(colour)}
		if i < most {
			flat.Palette = append(flat.Palette, one)
			index[colour] = uint8(i)
		} else {
			index[colour] = uint8(flat.Palette.Index(one))
		}
	}
	each(func(b *band) {
		var is []uint8 // by number
		for _, f := range b.found {
			is = append(is, index[f.colour])
		}
		if len(is) > most { // the numbers were too large
			r.flatten(flat, b, func(colour uint32, _ int) uint8 { return is[b.number(colour)] })
			return
		}
		own := flat.Pix[b.from*flat.Stride : b.to*flat.Stride]
		for i, n := range own {
			own[i] = is[n]
		}
	})
	return png.Encode(w, flat)
}

// band is rows of a picture, and the colours in them.
type band struct {
	from, to int // the rows
	numbering
}

// flatten makes the pixels of a band the numbers that numberOf gives their colours. It is asked
// once for neighbours of one colour, with how many pixels those are.
func (r *raster) flatten(flat *image.Paletted, b *band, numberOf func(colour uint32, pixels int) uint8) {
	width := 4 * r.image.Rect.Dx()
	row := func(y int) []byte { return r.image.Pix[y*r.image.Stride:][:width] }
	for y, end := b.from, 0; y < b.to; y = end {
		for end = y + 1; end < b.to && bytes.Equal(row(end), row(y)); { // as most are
			end++
		}
		for from := 0; from < width; {
			colour, to := alike(row(y), from)
			number, same := numberOf(colour, (end-y)*(to-from)/4), flat.Pix[y*flat.Stride:][from/4:to/4]
			for i := range same {
				same[i] = number
			}
			from = to
		}
		for again := y + 1; again < end; again++ {
			copy(flat.Pix[again*flat.Stride:][:flat.Stride], flat.Pix[y*flat.Stride:])
		}
	}
}

// alike returns the colour of the pixel at a byte of a row, and where those of that colour end.
func alike(row []byte, from int) (colour uint32, end int) {
	colour, end = binary.BigEndian.Uint32(row[from:]), from+4
	const many = 256
	for end+many <= len(row) && bytes.Equal(row[end:end+many], row[end-4:end+many-4]) {
		end += many
	}
	two := uint64(colour)<<32 | uint64(colour)
	for end+8 <= len(row) && binary.BigEndian.Uint64(row[end:]) == two {
		end += 8
	}
	for end+4 <= len(row) && binary.BigEndian.Uint32(row[end:]) == colour {
		end += 4
	}
	return colour, end
}

// numbering numbers the colours of a picture, each by red, green, blue and alpha, the first
// the highest.
type numbering struct {
	numbers map[uint32]int
	found   []found
	recent  [256]struct{ colour, next uint32 } // by a hash; next is the number and 1
}

// found is a colour that a picture has, and in how many pixels.
type found struct {
	colour uint32
	pixels int
}

func (n *numbering) number(colour uint32) int {
	const golden = 0x9E3779B1 // spreads numbers that are close to each other: 2^32 by the golden ratio
	slot := &n.recent[colour*golden>>24]
	if slot.colour == colour && slot.next > 0 {
		return int(slot.next - 1)
	}
	number, known := n.numbers[colour]
	if !known {
		number = len(n.found)
		n.numbers[colour], n.found = number, append(n.found, found{colour: colour})
	}
	slot.colour, slot.next = colour, uint32(number+1)
	return number
}
