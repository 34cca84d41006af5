package picture

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"strings"

	"github.com/rivo/uniseg"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// Sizes of letters, in points of the picture: readable where it is shown as wide as a phone.
const (
	letter = 22.0
	title  = 28.0
)

// ground is what a picture is drawn on, and with.
type ground struct {
	paper, ink, faint, rule color.RGBA
	inks                    []color.RGBA
}

func rgb(hex uint32) color.RGBA {
	return color.RGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 255}
}

func rgbs(list ...uint32) []color.RGBA {
	out := make([]color.RGBA, len(list))
	for i, c := range list {
		out[i] = rgb(c)
	}
	return out
}

// Light and dark ground. Neighbouring inks differ in lightness as well as in hue.
var (
	light = ground{rgb(0xfdfaf3), rgb(0x231f1a), rgb(0x6b6455), rgb(0xd8cdb6), rgbs(0x2f6b3c, 0xc08a2d, 0x31506e, 0xb5694e, 0x7fa08a, 0x6a4a6f, 0xd9b86a, 0x4f8a94, 0x8c3a34, 0x9aa06a, 0x59605f, 0xc79aa6, 0xa89f8c)}
	dark  = ground{rgb(0x1d1b18), rgb(0xefe8d8), rgb(0xb3a992), rgb(0x4a453b), rgbs(0x7fbf8d, 0xe0b25c, 0x8fb3d6, 0xe0967a, 0xb6d3c0, 0xc3a0c9, 0xf0d79a, 0x8fcbd4, 0xd98078, 0xcdd39a, 0xa7b0af, 0xe8c3cc, 0xd2c9b5)}
)

// canvas is a picture that is being drawn.
type canvas struct {
	img *image.RGBA
	ground
	text, strong, big *faces
}

func newCanvas(w, h int, onDark bool) (*canvas, error) {
	c := &canvas{img: image.NewRGBA(image.Rect(0, 0, w, h)), ground: light}
	if onDark {
		c.ground = dark
	}
	var err error
	if c.text, err = newFaces(regularFiles, letter); err != nil {
		return nil, err
	}
	if c.strong, err = newFaces(boldFiles, letter); err != nil {
		return nil, err
	}
	if c.big, err = newFaces(boldFiles, title); err != nil {
		return nil, err
	}
	draw.Draw(c.img, c.img.Bounds(), image.NewUniform(c.paper), image.Point{}, draw.Src)
	return c, nil
}

// png writes the picture.
func (c *canvas) png() ([]byte, error) {
	var b bytes.Buffer
	enc := png.Encoder{CompressionLevel: png.BestSpeed}
	err := enc.Encode(&b, c.indexed())
	return b.Bytes(), err
}

// steps is how many colours there are from one of the inks to the paper.
const steps = 15

// indexed is the picture in at most 256 colours, which is written quickly and is small: the paper, and each ink on its way to it,
// as the edges of letters and shapes are.
func (c *canvas) indexed() *image.Paletted {
	palette := color.Palette{c.paper}
	for _, ink := range append([]color.RGBA{c.ink, c.faint, c.rule}, c.inks...) {
		for i := range steps {
			part := func(a, b uint8) uint8 { return uint8((int(a)*(steps-i) + int(b)*i + steps/2) / steps) }
			palette = append(palette, color.RGBA{part(ink.R, c.paper.R), part(ink.G, c.paper.G), part(ink.B, c.paper.B), 255})
		}
	}
	out := image.NewPaletted(c.img.Bounds(), palette)
	known := map[uint32]uint8{}
	last, at := uint32(0), uint8(0)
	for i := range out.Pix {
		p := c.img.Pix[4*i : 4*i+3 : 4*i+3]
		key := uint32(p[0])<<16 | uint32(p[1])<<8 | uint32(p[2])
		if key != last || i == 0 {
			var ok bool
			if at, ok = known[key]; !ok {
				at = uint8(palette.Index(color.RGBA{p[0], p[1], p[2], 255}))
				known[key] = at
			}
			last = key
		}
		out.Pix[i] = at
	}
	return out
}

// rect fills a rectangle, whose sides may lie between points.
func (c *canvas) rect(x0, y0, x1, y1 float64, ink color.RGBA) {
	if x1 < x0 {
		x0, x1 = x1, x0
	}
	if y1 < y0 {
		y0, y1 = y1, y0
	}
	c.fill(ink, [2]float64{x0, y0}, [2]float64{x1, y0}, [2]float64{x1, y1}, [2]float64{x0, y1})
}

// fill fills a shape.
func (c *canvas) fill(ink color.RGBA, points ...[2]float64) {
	minX, minY, maxX, maxY := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range points {
		minX, maxX = math.Min(minX, p[0]), math.Max(maxX, p[0])
		minY, maxY = math.Min(minY, p[1]), math.Max(maxY, p[1])
	}
	box := image.Rect(int(math.Floor(minX)), int(math.Floor(minY)), int(math.Ceil(maxX)), int(math.Ceil(maxY))).Intersect(c.img.Bounds())
	if box.Empty() {
		return
	}
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for i, p := range points {
		x, y := float32(p[0]-float64(box.Min.X)), float32(p[1]-float64(box.Min.Y))
		if i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(c.img, box, image.NewUniform(ink), image.Point{})
}

// line draws a line of some thickness.
func (c *canvas) line(x0, y0, x1, y1, thick float64, ink color.RGBA) {
	dx, dy := x1-x0, y1-y0
	l := math.Hypot(dx, dy)
	if l == 0 {
		return
	}
	nx, ny := -dy/l*thick/2, dx/l*thick/2
	c.fill(ink, [2]float64{x0 + nx, y0 + ny}, [2]float64{x1 + nx, y1 + ny}, [2]float64{x1 - nx, y1 - ny}, [2]float64{x0 - nx, y0 - ny})
}

// dot draws a dot.
func (c *canvas) dot(x, y, r float64, ink color.RGBA) {
	var points [][2]float64
	for i := range 16 {
		a := float64(i) * math.Pi / 8
		points = append(points, [2]float64{x + r*math.Cos(a), y + r*math.Sin(a)})
	}
	c.fill(ink, points...)
}

// width is how wide a text is.
func (f *faces) width(s string) float64 {
	var w fixed.Int26_6
	for _, r := range s {
		w += f.advance(r)
	}
	return float64(w) / 64
}

// fit shortens a text to a width. It is cut between letters as people see them.
func (f *faces) fit(s string, most float64) string {
	if f.width(s) <= most {
		return s
	}
	var out strings.Builder
	wide := f.width("…")
	for g := uniseg.NewGraphemes(s); g.Next(); {
		if wide += f.width(g.Str()); wide > most {
			break
		}
		out.WriteString(g.Str())
	}
	return strings.TrimSpace(out.String()) + "…"
}

// wrap breaks a text into at most so many lines of a width.
func (f *faces) wrap(s string, most float64, lines int) []string {
	var out []string
	var current strings.Builder
	wide, space := 0.0, f.width(" ")
	for word := range strings.FieldsSeq(s) {
		w := f.width(word)
		switch {
		case current.Len() == 0:
		case wide+space+w <= most:
			current.WriteByte(' ')
			w += space
		default:
			out = append(out, current.String())
			current.Reset()
			wide = 0
		}
		current.WriteString(word)
		wide += w
	}
	out = append(out, current.String())
	if len(out) > lines {
		rest := strings.Join(out[lines-1:], " ")
		out = append(out[:lines-1], rest)
	}
	for i := range out {
		out[i] = f.fit(out[i], most)
	}
	return out
}

// Where a text stands to a point.
const (
	left = iota
	middle
	right
)

// write writes a text on a line.
func (c *canvas) write(f *faces, s string, x, y float64, side int, ink color.RGBA) {
	switch w := f.width(s); side {
	case middle:
		x -= w / 2
	case right:
		x -= w
	}
	src := image.NewUniform(ink)
	dot, base := fixed.Int26_6(math.Round(x)*64), int(math.Round(y))
	for _, r := range s {
		if g := f.glyph(r, dot&63); g.mask != nil {
			draw.DrawMask(c.img, g.box.Add(image.Pt(int(dot>>6), base)), src, image.Point{}, g.mask, image.Point{}, draw.Over)
		}
		dot += f.advance(r)
	}
}
