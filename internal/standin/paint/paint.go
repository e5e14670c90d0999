// Package paint draws text and shapes for the screens of simulated phones.
//
// A Canvas has the size of a screen in pixels and takes all lengths in
// density-independent pixels (dp). In: lengths, colours, text. Out: an image.
package paint

import (
	"image"
	"image/color"
	"image/draw"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomedium"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// Weight is how heavy a text is drawn.
type Weight int

const (
	Regular Weight = iota
	Medium
	Bold
)

var parse = sync.OnceValue(func() [3]*opentype.Font {
	var out [3]*opentype.Font
	for i, ttf := range [][]byte{goregular.TTF, gomedium.TTF, gobold.TTF} {
		f, err := opentype.Parse(ttf)
		if err != nil {
			panic(err) // the fonts are part of the program
		}
		out[i] = f
	}
	return out
})

// Fonts holds the faces of one density. It is not safe for use by several goroutines.
type Fonts struct {
	scale float64 // pixels a dp
	text  float64 // by which texts are larger
	faces map[faceKey]font.Face
}

type faceKey struct {
	w    Weight
	size float64
}

// NewFonts makes the fonts for a screen of so many dots per inch, with texts larger than usual by a factor.
func NewFonts(dpi int, text float64) *Fonts {
	return &Fonts{scale: float64(dpi) / 160, text: text, faces: map[faceKey]font.Face{}}
}

// Face gives the face for a size in dp, where texts have their usual size.
func (f *Fonts) Face(w Weight, size float64) font.Face {
	k := faceKey{w, size}
	if face := f.faces[k]; face != nil {
		return face
	}
	face, err := opentype.NewFace(parse()[w], &opentype.FaceOptions{Size: size * f.scale * f.text, DPI: 72, Hinting: font.HintingNone})
	if err != nil {
		panic(err) // only for sizes that make no sense
	}
	f.faces[k] = face
	return face
}

// Width is how wide the text is, in pixels.
func (f *Fonts) Width(w Weight, size float64, s string) float64 {
	return float64(font.MeasureString(f.Face(w, size), s)) / 64
}

// Wrap breaks the text into lines of at most width pixels.
func (f *Fonts) Wrap(w Weight, size float64, s string, width float64) []string {
	var out []string
	for _, para := range strings.Split(s, "\n") {
		line := ""
		for _, word := range strings.Fields(para) {
			next := strings.TrimSpace(line + " " + word)
			if line != "" && f.Width(w, size, next) > width {
				out, next = append(out, line), word
			}
			line = next
		}
		out = append(out, line)
	}
	return out
}

// Canvas is a screen being drawn. Coordinates are pixels.
type Canvas struct {
	Fonts *Fonts

	img    *image.RGBA
	ink    color.Color
	thick  float64
	path   path
	raster raster
}

// NewCanvas starts a picture of w × h pixels in one colour.
func NewCanvas(w, h int, fonts *Fonts, background color.Color) *Canvas {
	c := &Canvas{Fonts: fonts, img: image.NewRGBA(image.Rect(0, 0, w, h)), thick: 1}
	draw.Draw(c.img, c.img.Bounds(), image.NewUniform(background), image.Point{}, draw.Src)
	return c
}

// DP turns dp into pixels.
func (c *Canvas) DP(v float64) float64 { return v * c.Fonts.scale }

// Box fills a rectangle; radius in dp.
func (c *Canvas) Box(x, y, w, h, radius float64, fill color.Color) {
	c.SetColor(fill)
	if radius == 0 {
		c.DrawRectangle(x, y, w, h)
	} else {
		c.DrawRoundedRectangle(x, y, w, h, min(c.DP(radius), w/2, h/2))
	}
	c.Fill()
}

// Frame outlines a rectangle; radius and thick in dp.
func (c *Canvas) Frame(x, y, w, h, radius, thick float64, stroke color.Color) {
	c.SetColor(stroke)
	c.SetLineWidth(c.DP(thick))
	c.DrawRoundedRectangle(x, y, w, h, c.DP(radius))
	c.Stroke()
}

// Text writes one line; y is the middle of its height; anchor 0 is left, 0.5 centred, 1 right.
func (c *Canvas) Text(s string, x, y, anchor float64, w Weight, size float64, ink color.Color) {
	face := c.Fonts.Face(w, size)
	d := font.Drawer{Dst: c.Picture(), Src: image.NewUniform(ink), Face: face}
	width := float64(d.MeasureString(s)) / 64
	d.Dot = fixed.Point26_6{X: fixed.Int26_6((x - width*anchor) * 64), Y: fixed.Int26_6((y + c.DP(size)*0.35) * 64)}
	d.DrawString(s)
}

// Picture is what has been drawn.
func (c *Canvas) Picture() *image.RGBA { return c.img }

// Hex reads a colour written as rrggbb.
func Hex(rgb uint32) color.RGBA {
	return color.RGBA{uint8(rgb >> 16), uint8(rgb >> 8), uint8(rgb), 255}
}

// Fade gives the colour with an alpha of 0 to 1.
func Fade(c color.RGBA, alpha float64) color.NRGBA {
	return color.NRGBA{c.R, c.G, c.B, uint8(alpha * 255)}
}
