package render

import (
	"fmt"
	"image/color"
	"io"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"git.sr.ht/~sbinet/gg"
	svg "github.com/ajstarks/svgo/float"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
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
		f.faces[key] = face
	}
	return f.faces[key]
}

func (f *fonts) width(w weight, size float64, text string) float64 {
	const unit = 64 // of the font package's numbers
	return float64(font.MeasureString(f.face(w, size), text)) / unit
}

// vector draws SVG.
type vector struct{ *svg.SVG }

func newVector(w io.Writer, wide, high float64) *vector {
	v := &vector{svg.New(w)}
	v.Startview(wide, high, 0, 0, wide, high)
	return v
}

func coordinates(line []dot) (xs, ys []float64) {
	for _, p := range line {
		xs, ys = append(xs, p.x), append(ys, p.y)
	}
	return xs, ys
}

func hex(c color.Color) string {
	r, g, b, _ := c.RGBA()
	return fmt.Sprintf("#%02X%02X%02X", r>>8, g>>8, b>>8)
}

func (v *vector) fill(outline []dot, c color.Color) {
	xs, ys := coordinates(outline)
	v.Polygon(xs, ys, "stroke:none;fill:"+hex(c))
}

func (v *vector) stroke(line []dot, thick float64, c color.Color) {
	xs, ys := coordinates(line)
	v.Polyline(xs, ys, fmt.Sprintf("fill:none;stroke:%s;stroke-width:%g", hex(c), thick))
}

func (v *vector) text(x, y float64, f weight, size float64, c color.Color, text string) {
	bold := ""
	if f == heavy {
		bold = ";font-weight:bold"
	}
	v.Text(x, y, text, fmt.Sprintf("stroke:none;font-family:'Liberation Sans',sans-serif;font-size:%gpx;fill:%s%s", size, hex(c), bold))
}

// raster draws pixels, scale of them a point.
type raster struct {
	*gg.Context
	fonts *fonts
	scale float64
}

func newRaster(f *fonts, wide, high, scale float64) *raster {
	return &raster{gg.NewContext(int(wide*scale), int(high*scale)), f, scale}
}

func (r *raster) path(line []dot, c color.Color) {
	r.SetColor(c)
	for i, p := range line {
		if i == 0 {
			r.MoveTo(p.x*r.scale, p.y*r.scale)
		} else {
			r.LineTo(p.x*r.scale, p.y*r.scale)
		}
	}
}

func (r *raster) fill(outline []dot, c color.Color) {
	r.path(outline, c)
	r.ClosePath()
	r.Fill()
}

func (r *raster) stroke(line []dot, thick float64, c color.Color) {
	r.path(line, c)
	r.SetLineWidth(thick * r.scale)
	r.Stroke()
}

func (r *raster) text(x, y float64, f weight, size float64, c color.Color, text string) {
	r.SetColor(c)
	r.SetFontFace(r.fonts.face(f, size*r.scale))
	r.DrawString(text, x*r.scale, y*r.scale)
}

// errorWriter keeps the first error, as package svg does not tell of any.
type errorWriter struct {
	w   io.Writer
	err error
}

func (e *errorWriter) Write(b []byte) (int, error) {
	if e.err == nil {
		_, e.err = e.w.Write(b)
	}
	return len(b), nil
}
