package likeness

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"math"
	"slices"
)

// Print is what of a picture is compared.
type Print struct {
	Parts   []Part `json:"parts"`   // from top to bottom; the largest of them where there are too many
	Colours []byte `json:"colours"` // 64 of them: four steps each of red, green and blue; the share of each, 255 for all
	Width   int    `json:"width"`   // dp
	Height  int    `json:"height"`
	More    bool   `json:"more,omitempty"` // it can be scrolled: what others show below may be there, too. Of does not know it
}

// Part is one thing on the screen: a word, an icon, a frame, a line. Lengths are in quarters of a dp.
type Part struct {
	X, Y, W, H int
	Shape      []byte // shapeW × shapeH: where it has edges
}

// Fit leaves out what is no part that Of can have made: prints come from elsewhere, too.
func (p *Print) Fit() {
	const most = 1 << 20
	p.Parts = slices.DeleteFunc(p.Parts, func(x Part) bool {
		return len(x.Shape) != shapeW*shapeH || x.W <= 0 || x.H <= 0 || x.W > most || x.H > most || x.X < 0 || x.Y < 0 || x.X > most || x.Y > most
	})
	p.Parts = p.Parts[:min(len(p.Parts), maxParts)]
	if len(p.Colours) != 64 {
		p.Colours = make([]byte, 64)
	}
}

const (
	perDP     = 1.5      // pixels of the picture that is looked at, for a dp
	maxPixels = 32 << 20 // of a picture
	maxParts  = 160
	shapeW    = 12
	shapeH    = 6
	edge      = 40  // levels of luminance, of 255, that two pixels differ by at an edge
	statusDP  = 24  // the height of Android's status bar
	barDP     = 48  // and of its bar with the three buttons
	lineDP    = 3.0 // what is thinner is a line, or a piece of a frame
	smallDP   = 5.0 // what is smaller is dirt
)

// ErrNoPicture says that a file is no picture that can be compared.
var ErrNoPicture = errors.New("it is no picture that can be compared")

// Decode reads a PNG of at most 32 million pixels.
func Decode(raw []byte) (image.Image, error) {
	c, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	if c.Width <= 0 || c.Height <= 0 || c.Width*c.Height > maxPixels {
		return nil, fmt.Errorf("%w: it has %d × %d pixels, more than %d million", ErrNoPicture, c.Width, c.Height, maxPixels>>20)
	}
	img, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	return img, nil
}

// Of makes the print of a picture of a screen with so many pixels for a dp: its density divided by 160. Within is what of the picture is the app's, in pixels, where that is
// known: what lies around it, such as a page that is dimmed behind a dialog, is left out. Empty: all of it.
func Of(img image.Image, scale float64, within image.Rectangle) Print {
	if scale <= 0 {
		scale = 1
	}
	c := shrink(img, scale/perDP)
	p := Print{Width: int(float64(c.w) / perDP), Height: int(float64(c.h) / perDP), Colours: make([]byte, 64)}
	top := min(int(statusDP*perDP), c.h/8)
	seen := image.Rect(0, top, c.w, c.h)
	if !within.Empty() {
		by := perDP / scale
		seen = seen.Intersect(image.Rect(int(float64(within.Min.X)*by), int(float64(within.Min.Y)*by), int(float64(within.Max.X)*by)+1, int(float64(within.Max.Y)*by)+1))
	}
	p.Parts = withoutBar(c.components(top), p.Width, p.Height)
	p.Parts = slices.DeleteFunc(p.Parts, func(x Part) bool {
		return !image.Pt(int(float64(2*x.X+x.W)/8*perDP), int(float64(2*x.Y+x.H)/8*perDP)).In(seen)
	})
	if len(p.Parts) > maxParts {
		slices.SortStableFunc(p.Parts, func(a, b Part) int { return cmp.Compare(b.W*b.H, a.W*a.H) })
		p.Parts = p.Parts[:maxParts]
	}
	slices.SortStableFunc(p.Parts, func(a, b Part) int { return cmp.Or(cmp.Compare(a.Y, b.Y), cmp.Compare(a.X, b.X)) })
	counts := [64]int{}
	for y := seen.Min.Y; y < seen.Max.Y; y++ {
		for i := y*c.w + seen.Min.X; i < y*c.w+seen.Max.X; i++ {
			counts[int(c.r[i])>>6<<4|int(c.g[i])>>6<<2|int(c.b[i])>>6]++
		}
	}
	if all := seen.Dx() * seen.Dy(); all > 0 {
		for i, n := range counts {
			p.Colours[i] = byte(math.Round(255 * float64(n) / float64(all)))
		}
	}
	return p
}

// withoutBar leaves out what the system has at the bottom: a flat line in the middle, or three buttons of about one size.
func withoutBar(parts []Part, widthDP, heightDP int) []Part {
	from := (heightDP - barDP) * 4
	parts = slices.DeleteFunc(parts, func(p Part) bool {
		off := p.X + p.W/2 - widthDP*2
		return p.Y >= from && p.H <= 6*4 && p.W >= 60*4 && p.W <= 200*4 && max(off, -off) <= 8*4
	})
	var bar []int
	for i, p := range parts {
		if p.Y >= from {
			bar = append(bar, i)
		}
	}
	small := func(i int) bool { return parts[i].W <= 32*4 && parts[i].H <= 32*4 }
	if len(bar) != 3 || !small(bar[0]) || !small(bar[1]) || !small(bar[2]) {
		return parts
	}
	out := make([]Part, 0, len(parts))
	for i, p := range parts {
		if !slices.Contains(bar, i) {
			out = append(out, p)
		}
	}
	return out
}

// canvas is a picture at perDP pixels for a dp.
type canvas struct {
	w, h       int
	r, g, b, l []byte // l: luminance, as ITU-R BT.601 weighs the colours
}

// shrink makes one canvas pixel of by × by pixels of the picture, and averages them.
func shrink(img image.Image, by float64) *canvas {
	pix, stride, wide, high := Pixels(img)
	c := &canvas{w: max(int(float64(wide)/by), 1), h: max(int(float64(high)/by), 1)}
	n := c.w * c.h
	c.r, c.g, c.b, c.l = make([]byte, n), make([]byte, n), make([]byte, n), make([]byte, n)
	from, to := make([]int, c.w), make([]int, c.w)
	for x := range c.w {
		from[x], to[x] = span(x, by, wide)
	}
	for y := range c.h {
		y0, y1 := span(y, by, high)
		for x := range c.w {
			var r, g, b uint32
			for v := y0; v < y1; v++ {
				row := pix[v*stride+4*from[x] : v*stride+4*to[x]]
				for i := 0; i < len(row); i += 4 {
					r, g, b = r+uint32(row[i]), g+uint32(row[i+1]), b+uint32(row[i+2])
				}
			}
			k := uint32((y1 - y0) * (to[x] - from[x]))
			r, g, b = r/k, g/k, b/k
			i := y*c.w + x
			c.r[i], c.g[i], c.b[i], c.l[i] = byte(r), byte(g), byte(b), byte((299*r+587*g+114*b)/1000)
		}
	}
	return c
}

// span is the pixels that one of the smaller picture stands for: at least one.
func span(i int, by float64, most int) (from, to int) {
	from = min(int(float64(i)*by), most-1)
	return from, max(min(int(float64(i+1)*by), most), from+1)
}

// Pixels gives a picture's pixels, four bytes each: red, green, blue and one that is not looked at.
func Pixels(img image.Image) (pix []byte, stride, w, h int) {
	box := img.Bounds()
	switch m := img.(type) {
	case *image.RGBA:
		return m.Pix[m.PixOffset(box.Min.X, box.Min.Y):], m.Stride, box.Dx(), box.Dy()
	case *image.NRGBA:
		return m.Pix[m.PixOffset(box.Min.X, box.Min.Y):], m.Stride, box.Dx(), box.Dy()
	}
	m := image.NewRGBA(image.Rect(0, 0, box.Dx(), box.Dy()))
	draw.Draw(m, m.Bounds(), img, box.Min, draw.Src)
	return m.Pix, m.Stride, box.Dx(), box.Dy()
}

// components finds what hangs together below the row top: edges, and what lies within a little of them, sideways more than up and down.
func (c *canvas) components(top int) []Part {
	n := c.w * c.h
	edges := make([]bool, n)
	differ := func(a, b byte) bool { return int(a)-int(b) >= edge || int(b)-int(a) >= edge }
	for y := top; y < c.h-1; y++ {
		for x := 0; x < c.w-1; x++ {
			i := y*c.w + x
			edges[i] = differ(c.l[i], c.l[i+1]) || differ(c.l[i], c.l[i+c.w])
		}
	}
	const reachX, reachY = 4, 1 // pixels: letters of a word are nearer to each other, words are not
	parent := make([]int32, n)
	for i := range parent {
		parent[i] = -1
	}
	var find func(int32) int32
	find = func(i int32) int32 {
		for parent[i] != i {
			parent[i] = parent[parent[i]]
			i = parent[i]
		}
		return i
	}
	for y := top; y < c.h; y++ {
		for x := range c.w {
			i := int32(y*c.w + x)
			if !edges[i] {
				continue
			}
			parent[i] = i
			for dy := -reachY; dy <= 0; dy++ {
				for dx := -reachX; dx <= reachX; dx++ {
					u, v := x+dx, y+dy
					if u < 0 || u >= c.w || v < top || dy == 0 && dx >= 0 {
						continue
					}
					if j := int32(v*c.w + u); edges[j] {
						if a, b := find(i), find(j); a != b {
							parent[max(a, b)] = min(a, b)
						}
					}
				}
			}
		}
	}
	boxes := map[int32]*image.Rectangle{}
	var roots []int32
	for i := int32(0); i < int32(n); i++ {
		if parent[i] < 0 {
			continue
		}
		r := find(i)
		x, y := int(i)%c.w, int(i)/c.w
		b := boxes[r]
		if b == nil {
			b = &image.Rectangle{Min: image.Pt(x, y), Max: image.Pt(x+1, y+1)}
			boxes[r] = b
			roots = append(roots, r)
			continue
		}
		*b = b.Union(image.Rect(x, y, x+1, y+1))
	}
	if len(roots) > 20_000 {
		return nil // noise, such as a photograph of sand: colours alone are compared
	}
	var out []Part
	for _, r := range roots {
		b := *boxes[r]
		if float64(min(b.Dx(), b.Dy())) < lineDP*perDP || float64(max(b.Dx(), b.Dy())) < smallDP*perDP {
			continue
		}
		quarter := func(px int) int { return int(math.Round(float64(px) * 4 / perDP)) }
		out = append(out, Part{X: quarter(b.Min.X), Y: quarter(b.Min.Y), W: quarter(b.Dx()), H: quarter(b.Dy()), Shape: c.shape(b)})
	}
	return out
}

// shape is how much ink lies where in a box: how far from the colour that is the most common one there.
func (c *canvas) shape(b image.Rectangle) []byte {
	levels := [32]int{}
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			levels[c.l[y*c.w+x]>>3]++
		}
	}
	ground := 0
	for i, n := range levels {
		if n > levels[ground] {
			ground = i
		}
	}
	out := make([]byte, shapeW*shapeH)
	most := 0.0
	cells := make([]float64, shapeW*shapeH)
	for v := range shapeH {
		y0, y1 := float64(b.Min.Y)+float64(v*b.Dy())/shapeH, float64(b.Min.Y)+float64((v+1)*b.Dy())/shapeH
		for u := range shapeW {
			x0, x1 := float64(b.Min.X)+float64(u*b.Dx())/shapeW, float64(b.Min.X)+float64((u+1)*b.Dx())/shapeW
			cells[v*shapeW+u] = c.ink(x0, y0, x1, y1, ground*8+4)
			most = max(most, cells[v*shapeW+u])
		}
	}
	for i, x := range cells {
		out[i] = byte(255 * x / max(most, 1))
	}
	return out
}

// ink is the mean ink of a rectangle whose sides lie between pixels.
func (c *canvas) ink(x0, y0, x1, y1 float64, ground int) float64 {
	sum, all := 0.0, 0.0
	for y := int(y0); y < c.h && float64(y) < y1; y++ {
		wy := min(y1, float64(y+1)) - max(y0, float64(y))
		for x := int(x0); x < c.w && float64(x) < x1; x++ {
			w := wy * (min(x1, float64(x+1)) - max(x0, float64(x)))
			d := int(c.l[y*c.w+x]) - ground
			sum += w * float64(max(d, -d))
			all += w
		}
	}
	if all == 0 {
		return 0
	}
	return sum / all
}
