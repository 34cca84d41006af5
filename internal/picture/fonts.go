// Package picture draws charts and tables as PNG, in Go, with fonts that ship inside: no browser, no network. The same figures give
// the same bytes.
package picture

import (
	"bytes"
	"compress/zlib"
	"embed"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"io"
	"slices"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// The fonts are Source Sans 3 under the SIL Open Font License, see fonts/OFL.txt: a file for each script and weight.
//
//go:embed fonts/*.woff
var files embed.FS

var (
	regularFiles = []string{"latin-400", "latin-ext-400", "greek-400", "cyrillic-400"}
	boldFiles    = []string{"latin-600", "latin-ext-600"}
)

// loaded are the fonts, read once.
var loaded = sync.OnceValues(func() (map[string]*sfnt.Font, error) {
	out := map[string]*sfnt.Font{}
	for _, name := range append(regularFiles, boldFiles...) {
		raw, err := files.ReadFile("fonts/source-sans-3-" + name + "-normal.woff")
		if err != nil {
			return nil, err
		}
		plain, err := unwrap(raw)
		if err != nil {
			return nil, fmt.Errorf("the font %s: %w", name, err)
		}
		if out[name], err = opentype.Parse(plain); err != nil {
			return nil, fmt.Errorf("the font %s: %w", name, err)
		}
	}
	return out, nil
})

// unwrap makes a font of TrueType or OpenType of one in WOFF 1.0 (W3C), whose tables are compressed one by one.
func unwrap(raw []byte) ([]byte, error) {
	be := binary.BigEndian
	if len(raw) < 44 || string(raw[:4]) != "wOFF" {
		return nil, errors.New("this is no WOFF")
	}
	n := int(be.Uint16(raw[12:]))
	head := make([]byte, 12+16*n)
	copy(head[0:4], raw[4:8])
	be.PutUint16(head[4:], uint16(n))
	search, selector := 1, 0
	for search*2 <= n {
		search, selector = search*2, selector+1
	}
	be.PutUint16(head[6:], uint16(search*16))
	be.PutUint16(head[8:], uint16(selector))
	be.PutUint16(head[10:], uint16(n*16-search*16))
	var body bytes.Buffer
	for i := range n {
		if 44+20*(i+1) > len(raw) {
			return nil, io.ErrUnexpectedEOF
		}
		e := raw[44+20*i:]
		at, packed, size := int(be.Uint32(e[4:])), int(be.Uint32(e[8:])), int(be.Uint32(e[12:]))
		if at+packed > len(raw) || size > 8<<20 {
			return nil, io.ErrUnexpectedEOF
		}
		table := raw[at : at+packed]
		if packed < size {
			r, err := zlib.NewReader(bytes.NewReader(table))
			if err != nil {
				return nil, err
			}
			if table, err = io.ReadAll(io.LimitReader(r, int64(size))); err != nil {
				return nil, err
			}
		}
		d := head[12+16*i:]
		copy(d[0:4], e[0:4])
		copy(d[4:8], e[16:20])
		be.PutUint32(d[8:], uint32(len(head)+body.Len()))
		be.PutUint32(d[12:], uint32(size))
		body.Write(table)
		for body.Len()%4 != 0 {
			body.WriteByte(0)
		}
	}
	return slices.Concat(head, body.Bytes()), nil
}

// faces are the fonts of one weight at one size; each character is drawn by the first that has it.
type faces struct {
	fonts    []*sfnt.Font
	faces    []font.Face
	buf      sfnt.Buffer
	advances map[rune]fixed.Int26_6
	glyphs   map[glyphAt]glyph
}

// glyphAt is a character with the quarter of a point that it begins at.
type glyphAt struct {
	r       rune
	quarter fixed.Int26_6
}

// glyph is a character as it is drawn: its shape, to where it stands.
type glyph struct {
	mask *image.Alpha
	box  image.Rectangle // from the point where the character begins
}

// advance is how far the next character stands from one.
func (f *faces) advance(r rune) fixed.Int26_6 {
	a, ok := f.advances[r]
	if !ok {
		a, _ = f.of(r).GlyphAdvance(r)
		f.advances[r] = a
	}
	return a
}

// glyph gives the shape of a character that begins within a point; it is drawn once.
func (f *faces) glyph(r rune, within fixed.Int26_6) glyph {
	key := glyphAt{r, within &^ 15}
	g, ok := f.glyphs[key]
	if ok {
		return g
	}
	box, mask, at, _, some := f.of(r).Glyph(fixed.Point26_6{X: key.quarter}, r)
	if some && !box.Empty() {
		own := image.NewAlpha(image.Rect(0, 0, box.Dx(), box.Dy()))
		draw.Draw(own, own.Bounds(), mask, at, draw.Src)
		g = glyph{own, box}
	}
	f.glyphs[key] = g
	return g
}

func newFaces(names []string, size float64) (*faces, error) {
	all, err := loaded()
	if err != nil {
		return nil, err
	}
	f := &faces{advances: map[rune]fixed.Int26_6{}, glyphs: map[glyphAt]glyph{}}
	for _, name := range names {
		face, err := opentype.NewFace(all[name], &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingNone})
		if err != nil {
			return nil, err
		}
		f.fonts, f.faces = append(f.fonts, all[name]), append(f.faces, face)
	}
	return f, nil
}

// of gives the face that has a character, the first where none has.
func (f *faces) of(r rune) font.Face {
	for i, one := range f.fonts {
		if g, err := one.GlyphIndex(&f.buf, r); err == nil && g != 0 {
			return f.faces[i]
		}
	}
	return f.faces[0]
}
