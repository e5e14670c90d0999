package app

import (
	"image"
	"image/color"
	"math"

	"golang.org/x/image/draw"

	"tessellant/internal/standin/paint"
)

// palette is a set of colours.
type palette struct{ sea, seaDeep, onSea, foam, sheet, ink, faintInk, shingle, kelp color.RGBA }

// The app's own colours: sea and sand, by day and by night.
var (
	day = palette{sea: paint.Hex(0x0E5A6B), seaDeep: paint.Hex(0x0A4452), onSea: paint.Hex(0xFFFFFF), foam: paint.Hex(0xEEF4F4), sheet: paint.Hex(0xFFFFFF),
		ink: paint.Hex(0x1B2A2F), faintInk: paint.Hex(0x5B6E74), shingle: paint.Hex(0xC7D3D5), kelp: paint.Hex(0x8A6D1F)}
	night = palette{sea: paint.Hex(0x2F8296), seaDeep: paint.Hex(0x0B2830), onSea: paint.Hex(0xFFFFFF), foam: paint.Hex(0x10191C), sheet: paint.Hex(0x1C282C),
		ink: paint.Hex(0xE2ECEE), faintInk: paint.Hex(0x98ABB1), shingle: paint.Hex(0x3A4A50), kelp: paint.Hex(0xD9B553)}
)

// Dark reports whether the screen is drawn in the colours of the night.
func (a *App) Dark() bool { return a.Device.Dark || (a.screen != nil && a.screen.dark) }

func (a *App) palette() palette {
	if a.Dark() {
		return night
	}
	return day
}

// Draw draws the app's part of the screen: all but the status and navigation
// bars and the keyboard.
func (a *App) Draw(c *paint.Canvas) {
	p := a.palette()
	c.Box(0, 0, float64(a.Device.ScreenW), float64(a.Device.ScreenH), 0, p.foam)
	screen := a.nodes
	if a.beneath != nil {
		screen = a.beneath
	}
	for _, n := range screen {
		if !n.Visible.Empty() {
			a.drawNode(c, n)
		}
	}
	a.drawBar(c, screen) // over what has scrolled up under it; keyboard and navigation come over the rest
	if a.beneath != nil {
		c.Box(0, 0, float64(a.Device.ScreenW), float64(a.Device.ScreenH), 0, paint.Fade(p.ink, 0.5))
		for _, n := range a.nodes {
			a.drawNode(c, n)
		}
	}
}

func (a *App) drawBar(c *paint.Canvas, screen []*Node) {
	p := a.palette()
	w, sb, h := float64(a.Device.ScreenW), float64(a.Device.StatusBarH), c.DP(a.bar())
	if a.Device.IOS {
		a.drawBarIOS(c, screen, w, sb, h)
		return
	}
	c.Box(0, 0, w, sb, 0, p.seaDeep)
	c.Box(0, sb, w, h, 0, p.sea)
	mid := sb + h/2
	for _, n := range screen {
		switch n.Kind {
		case "up":
			x := h / 2
			c.SetColor(p.onSea)
			c.SetLineWidth(c.DP(2))
			c.DrawLine(x-c.DP(8), mid, x+c.DP(8), mid)
			c.DrawLine(x-c.DP(8), mid, x-c.DP(1), mid-c.DP(7))
			c.DrawLine(x-c.DP(8), mid, x-c.DP(1), mid+c.DP(7))
			c.Stroke()
		case "title":
			c.Text(n.Text, float64(n.Bounds.X1), mid, 0, paint.Medium, 20, p.onSea)
		}
	}
}

func (a *App) drawNode(c *paint.Canvas, n *Node) {
	if a.Device.IOS && a.drawIOS(c, n) {
		return
	}
	p := a.palette()
	x, y := float64(n.Bounds.X1), float64(n.Bounds.Y1)
	w, h := float64(n.Bounds.X2)-x, float64(n.Bounds.Y2)-y
	mid := y + h/2
	switch n.Kind {
	case "text":
		weight, size := textSize(n.w.size)
		col := color.Color(p.ink)
		if n.w.style == "faint" {
			col = p.faintInk
		}
		for i, line := range n.lines {
			c.Text(line, x, y+c.DP(size*1.35)*(float64(i)+0.5), 0, weight, size, col)
		}
	case "button":
		fill, col := p.sea, p.onSea
		if n.w.style == "plain" {
			fill, col = p.foam, p.sea
		}
		if !n.Enabled {
			fill, col = p.shingle, p.faintInk
		}
		c.Box(x, y, w, h, 24, fill)
		if n.w.style == "plain" {
			c.Frame(x, y, w, h, 24, 1.2, p.sea)
		}
		c.Text(n.w.text, x+w/2, mid, 0.5, paint.Medium, 15, col)
	case "field":
		line := p.faintInk
		thick := 1.0
		if n.Focused {
			line, thick = p.sea, 2
		}
		c.Box(x, y, w, h, 4, p.sheet)
		c.Frame(x, y, w, h, 4, thick, line)
		left := x + c.DP(12)
		if n.Text == "" && !n.Focused {
			c.Text(n.w.hint, left, mid, 0, paint.Regular, 16, p.faintInk)
			return
		}
		c.Text(n.w.hint, left, y+c.DP(13), 0, paint.Regular, 11, line)
		c.Text(n.Text, left, y+c.DP(36), 0, paint.Regular, 16, p.ink)
		if n.Focused {
			cx := left + c.Fonts.Width(paint.Regular, 16, n.Text) + c.DP(1.5)
			c.Box(cx, y+c.DP(26), c.DP(1.5), c.DP(20), 0, p.sea)
		}
	case "row":
		c.Box(x, y, w, h, 8, p.sheet)
		if n.w.detail == "" {
			c.Text(n.w.text, x+c.DP(14), mid, 0, paint.Regular, 16, p.ink)
		} else {
			c.Text(n.w.text, x+c.DP(14), mid-c.DP(11), 0, paint.Medium, 16, p.ink)
			c.Text(n.w.detail, x+c.DP(14), mid+c.DP(12), 0, paint.Regular, 13, p.faintInk)
		}
		if n.w.onTap != nil {
			c.SetColor(p.faintInk)
			c.SetLineWidth(c.DP(1.6))
			cx := x + w - c.DP(18)
			c.DrawLine(cx-c.DP(3), mid-c.DP(6), cx+c.DP(3), mid)
			c.DrawLine(cx+c.DP(3), mid, cx-c.DP(3), mid+c.DP(6))
			c.Stroke()
		}
	case "pair":
		c.Box(x, y, w, h, 8, p.sheet)
		c.Text(n.w.text, x+c.DP(12), y+c.DP(20), 0, paint.Regular, 12, p.faintInk)
		c.Text(n.w.detail, x+c.DP(12), y+c.DP(48), 0, paint.Medium, 19, p.ink)
	case "switch":
		c.Text(n.w.text, x, mid, 0, paint.Regular, 16, p.ink)
		track, knob := p.shingle, x+w-c.DP(38)
		if n.Checked {
			track, knob = p.sea, x+w-c.DP(14)
		}
		c.Box(x+w-c.DP(52), mid-c.DP(14), c.DP(52), c.DP(28), 14, track)
		c.SetColor(p.sheet)
		c.DrawCircle(knob, mid, c.DP(10))
		c.Fill()
	case "card":
		c.Box(x, y, w, h, 8, p.sheet)
	case "dialog":
		c.Box(x, y, w, h, 12, p.sheet)
	case "line":
		c.Box(x, y, w, h, 0, p.shingle)
	case "spinner":
		c.SetColor(p.sea)
		c.SetLineWidth(c.DP(4))
		c.DrawArc(x+w/2, mid, c.DP(18), -math.Pi/2, math.Pi*0.9)
		c.Stroke()
	case "web":
		c.Box(x, y, w, h, 0, p.sheet)
		if page := a.pages[n.ID+" "+n.w.text]; page != nil {
			if img := page.Picture(); img != nil {
				to := image.Rect(n.Visible.X1, n.Visible.Y1, n.Visible.X2, n.Visible.Y2)
				draw.ApproxBiLinear.Scale(c.Picture(), image.Rect(n.Bounds.X1, n.Bounds.Y1, n.Bounds.X2, n.Bounds.Y2).Intersect(to), img, img.Bounds(), draw.Src, nil)
			}
		}
	case "chart":
		drawChart(c, p, n.w.points, x, y, w, h)
	}
}

// drawChart draws the tide over a day: water below a smooth line.
func drawChart(c *paint.Canvas, p palette, points []float64, x, y, w, h float64) {
	c.Box(x, y, w, h, 8, p.sheet)
	if len(points) < 2 {
		return
	}
	low, high := points[0], points[0]
	for _, p := range points {
		low, high = math.Min(low, p), math.Max(high, p)
	}
	pad := c.DP(14)
	at := func(i int) (float64, float64) {
		px := x + pad + (w-2*pad)*float64(i)/float64(len(points)-1)
		return px, y + h - c.DP(26) - (h-c.DP(46))*(points[i]-low)/math.Max(high-low, 0.1)
	}
	base := y + h - c.DP(22)
	slope := func(i int) (float64, float64) { // a sixth of the way between the neighbours: Catmull and Rom's spline
		ax, ay := at(max(i-1, 0))
		bx, by := at(min(i+1, len(points)-1))
		return (bx - ax) / 6, (by - ay) / 6
	}
	path := func() {
		px, py := at(0)
		c.LineTo(px, py)
		for i := 1; i < len(points); i++ {
			qx, qy := at(i)
			pdx, pdy := slope(i - 1)
			qdx, qdy := slope(i)
			c.CubicTo(px+pdx, py+pdy, qx-qdx, qy-qdy, qx, qy)
			px, py = qx, qy
		}
	}
	c.SetColor(paint.Fade(p.sea, 0.18))
	c.MoveTo(x+pad, base)
	path()
	c.LineTo(x+w-pad, base)
	c.ClosePath()
	c.Fill()
	c.SetColor(p.sea)
	c.SetLineWidth(c.DP(2))
	px, py := at(0)
	c.MoveTo(px, py)
	path()
	c.Stroke()
	for i, t := range []string{"0", "6", "12", "18", "24 h"} {
		c.Text(t, x+pad+(w-2*pad)*float64(i)/4, y+h-c.DP(10), 0.5, paint.Regular, 10, p.faintInk)
	}
	c.SetColor(p.kelp)
	nx, ny := at(len(points) / 3)
	c.DrawCircle(nx, ny, c.DP(4))
	c.Fill()
}
