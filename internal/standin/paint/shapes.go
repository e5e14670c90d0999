package paint

// Shapes: paths of lines and curves, filled or stroked with round ends and corners.

import (
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"

	"golang.org/x/image/vector"
)

type point struct{ x, y float64 }

// path is what was drawn since the last Fill or Stroke: lines, curves taken apart into them.
type path struct {
	lines  [][]point
	closed []bool
}

func (p *path) last() []point {
	if len(p.lines) == 0 {
		return nil
	}
	return p.lines[len(p.lines)-1]
}

// SetColor takes the colour for what follows.
func (c *Canvas) SetColor(ink color.Color) { c.ink = ink }

// SetLineWidth takes the width of strokes, in pixels.
func (c *Canvas) SetLineWidth(w float64) { c.thick = w }

// MoveTo begins a line.
func (c *Canvas) MoveTo(x, y float64) {
	c.path.lines, c.path.closed = append(c.path.lines, []point{{x, y}}), append(c.path.closed, false)
}

// LineTo goes on in a straight line; without a beginning it begins one.
func (c *Canvas) LineTo(x, y float64) {
	n := len(c.path.lines)
	if n == 0 || c.path.closed[n-1] {
		c.MoveTo(x, y)
		return
	}
	c.path.lines[n-1] = append(c.path.lines[n-1], point{x, y})
}

// curveSteps is into how many lines a curve is taken apart.
const curveSteps = 48

// CubicTo goes on in a cubic Bézier curve.
func (c *Canvas) CubicTo(x1, y1, x2, y2, x3, y3 float64) {
	from := c.path.last()
	if len(from) == 0 {
		c.MoveTo(x1, y1)
		from = c.path.last()
	}
	p := from[len(from)-1]
	for i := 1; i <= curveSteps; i++ {
		t := float64(i) / curveSteps
		u := 1 - t
		a, b, d, e := u*u*u, 3*u*u*t, 3*u*t*t, t*t*t
		c.LineTo(a*p.x+b*x1+d*x2+e*x3, a*p.y+b*y1+d*y2+e*y3)
	}
}

// ClosePath goes back to the line's beginning.
func (c *Canvas) ClosePath() {
	if n := len(c.path.closed); n > 0 {
		c.path.closed[n-1] = true
	}
}

// DrawLine adds a line of its own.
func (c *Canvas) DrawLine(x1, y1, x2, y2 float64) {
	c.MoveTo(x1, y1)
	c.LineTo(x2, y2)
}

// DrawArc goes on along a part of a circle, from one angle to another, in radians.
func (c *Canvas) DrawArc(x, y, r, from, to float64) {
	n := max(4, int(math.Ceil(math.Abs(to-from)*math.Sqrt(max(r, 1))*2)))
	for i := 0; i <= n; i++ {
		sin, cos := math.Sincos(from + (to-from)*float64(i)/float64(n))
		c.LineTo(x+r*cos, y+r*sin)
	}
}

// DrawCircle adds a circle.
func (c *Canvas) DrawCircle(x, y, r float64) {
	c.MoveTo(x+r, y)
	c.DrawArc(x, y, r, 0, 2*math.Pi)
	c.ClosePath()
}

// DrawRectangle adds a rectangle.
func (c *Canvas) DrawRectangle(x, y, w, h float64) {
	c.MoveTo(x, y)
	c.LineTo(x+w, y)
	c.LineTo(x+w, y+h)
	c.LineTo(x, y+h)
	c.ClosePath()
}

// DrawRoundedRectangle adds a rectangle with round corners.
func (c *Canvas) DrawRoundedRectangle(x, y, w, h, r float64) {
	c.MoveTo(x+r, y)
	for i, at := range [4]point{{x + w - r, y + r}, {x + w - r, y + h - r}, {x + r, y + h - r}, {x + r, y + r}} {
		from := float64(i-1) * math.Pi / 2
		c.DrawArc(at.x, at.y, r, from, from+math.Pi/2)
	}
	c.ClosePath()
}

// Fill fills what was drawn, and forgets it.
func (c *Canvas) Fill() {
	c.paint(c.path.lines)
	c.path = path{}
}

// Stroke draws along what was drawn, and forgets it.
func (c *Canvas) Stroke() {
	var out [][]point
	for i, line := range c.path.lines {
		out = append(out, outline(line, c.path.closed[i], c.thick/2)...)
	}
	c.paint(out)
	c.path = path{}
}

// sharp is the turn, in radians, from which on a line has a corner there. Between corners a stroke is one shape: shapes that touch
// would be darker where they do.
const sharp = 0.4

// outline gives the shapes of a stroke of half the thickness r.
func outline(line []point, closed bool, r float64) (out [][]point) {
	line = distinct(line, closed)
	n := len(line)
	if n == 1 {
		return [][]point{round(line[0], 0, 2*math.Pi, r)}
	}
	if closed {
		if line = append(line, line[0]); n < 3 {
			closed = false
		}
	}
	turn := func(i int) float64 { // at the point i
		a, b, d := line[(i-1+len(line))%len(line)], line[i], line[(i+1)%len(line)]
		if i == 0 || i == len(line)-1 { // of a closed one
			a, b, d = line[len(line)-2], line[0], line[1]
		}
		return math.Abs(math.Remainder(math.Atan2(d.y-b.y, d.x-b.x)-math.Atan2(b.y-a.y, b.x-a.x), 2*math.Pi))
	}
	begin := 0
	for i := 1; i < len(line)-1; i++ {
		if turn(i) > sharp {
			out = append(out, ribbon(line[begin:i+1], r))
			begin = i
		}
	}
	if closed && begin == 0 && turn(0) <= sharp { // a ring: its inside turns the other way
		left, right := sides(append(line, line[1]), r)
		slices.Reverse(right)
		return [][]point{left[1:], right[:len(right)-1]}
	}
	return append(out, ribbon(line[begin:], r))
}

// distinct leaves out what stands twice in a row.
func distinct(line []point, closed bool) (out []point) {
	for _, p := range line {
		if len(out) == 0 || math.Hypot(p.x-out[len(out)-1].x, p.y-out[len(out)-1].y) > 1e-6 {
			out = append(out, p)
		}
	}
	if last := len(out) - 1; closed && last > 0 && math.Hypot(out[0].x-out[last].x, out[0].y-out[last].y) <= 1e-6 {
		out = out[:last]
	}
	return out
}

// sides gives the lines on both sides of a line without corners.
func sides(line []point, r float64) (left, right []point) {
	for i, p := range line {
		a, b := line[max(i-1, 0)], line[min(i+1, len(line)-1)]
		length := math.Hypot(b.x-a.x, b.y-a.y)
		nx, ny := r*(b.y-a.y)/length, r*(a.x-b.x)/length
		left, right = append(left, point{p.x + nx, p.y + ny}), append(right, point{p.x - nx, p.y - ny})
	}
	return left, right
}

// ribbon is a stroke along a line without corners, with round ends.
func ribbon(line []point, r float64) []point {
	left, right := sides(line, r)
	slices.Reverse(right)
	n := len(line)
	to := math.Atan2(line[n-1].y-line[n-2].y, line[n-1].x-line[n-2].x)
	from := math.Atan2(line[1].y-line[0].y, line[1].x-line[0].x)
	out := append(left, round(line[n-1], to-math.Pi/2, to+math.Pi/2, r)...)
	out = append(out, right...)
	return append(out, round(line[0], from+math.Pi/2, from+3*math.Pi/2, r)...)
}

// round is an arc as points.
func round(p point, from, to, r float64) (out []point) {
	n := max(4, int(2*math.Sqrt(r))+4)
	for i := 0; i <= n; i++ {
		sin, cos := math.Sincos(from + (to-from)*float64(i)/float64(n))
		out = append(out, point{p.x + r*cos, p.y + r*sin})
	}
	return out
}

// paint fills the inside of closed lines, by the non-zero rule.
func (c *Canvas) paint(lines [][]point) {
	low, high := point{math.Inf(1), math.Inf(1)}, point{math.Inf(-1), math.Inf(-1)}
	for _, line := range lines {
		for _, p := range line {
			low, high = point{min(low.x, p.x), min(low.y, p.y)}, point{max(high.x, p.x), max(high.y, p.y)}
		}
	}
	box := image.Rect(int(math.Floor(low.x)), int(math.Floor(low.y)), int(math.Ceil(high.x)), int(math.Ceil(high.y)))
	if box.Intersect(c.img.Bounds()).Empty() {
		return
	}
	ink := image.NewUniform(c.ink)
	if box = box.Intersect(c.img.Bounds()); len(lines) == 1 && whole(lines[0]) { // most are
		draw.Draw(c.img, box, ink, image.Point{}, draw.Over)
		return
	}
	c.raster.Reset(box.Dx(), box.Dy())
	at := func(p point) (float32, float32) {
		return float32(p.x - float64(box.Min.X)), float32(p.y - float64(box.Min.Y))
	}
	for _, line := range lines {
		c.raster.MoveTo(at(line[0]))
		for _, p := range line[1:] {
			c.raster.LineTo(at(p))
		}
		c.raster.ClosePath()
	}
	c.raster.DrawOp = draw.Over
	c.raster.Draw(c.img, box, ink, image.Point{})
}

// whole says whether a line is a rectangle of whole pixels.
func whole(line []point) bool {
	if len(line) != 4 || line[0].y != line[1].y || line[1].x != line[2].x || line[2].y != line[3].y || line[3].x != line[0].x {
		return false
	}
	for _, p := range line {
		if p.x != math.Trunc(p.x) || p.y != math.Trunc(p.y) {
			return false
		}
	}
	return true
}

// raster is kept from one shape to the next.
type raster = vector.Rasterizer
