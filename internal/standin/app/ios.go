package app

// How the app's bar and controls look on iOS, where they look otherwise.

import (
	"math"

	"tessellant/internal/standin/paint"
)

func (a *App) drawBarIOS(c *paint.Canvas, screen []*Node, w, sb, h float64) {
	p := a.palette()
	c.Box(0, 0, w, sb+h, 0, p.sheet)
	c.Box(0, sb+h-1, w, 1, 0, p.shingle)
	mid := sb + h/2
	for _, n := range screen {
		switch n.Kind {
		case "up":
			c.SetColor(p.sea)
			c.SetLineWidth(c.DP(2.2))
			c.MoveTo(c.DP(19), mid-c.DP(8))
			c.LineTo(c.DP(11), mid)
			c.LineTo(c.DP(19), mid+c.DP(8))
			c.Stroke()
			word := "Back"
			if a.Device.Language == "de" {
				word = "Zurück"
			}
			c.Text(word, c.DP(25), mid, 0, paint.Regular, 16, p.sea)
		case "title":
			c.Text(n.Text, w/2, mid, 0.5, paint.Bold, 17, p.ink)
		}
	}
}

// drawIOS draws a control that looks otherwise on iOS; false: it looks the same.
func (a *App) drawIOS(c *paint.Canvas, n *Node) bool {
	p := a.palette()
	x, y := float64(n.Bounds.X1), float64(n.Bounds.Y1)
	w, h := float64(n.Bounds.X2)-x, float64(n.Bounds.Y2)-y
	mid := y + h/2
	switch n.Kind {
	case "button":
		fill, ink := p.sea, p.onSea
		if n.w.style == "plain" {
			fill, ink = p.sheet, p.sea
		}
		if !n.Enabled {
			fill, ink = p.shingle, p.faintInk
		}
		c.Box(x, y, w, h, 12, fill)
		c.Text(n.w.text, x+w/2, mid, 0.5, paint.Medium, 17, ink)
	case "field":
		c.Box(x, y, w, h, 10, p.sheet)
		text, ink := n.Text, p.ink
		if text == "" {
			text, ink = n.w.hint, p.faintInk
		}
		c.Text(text, x+c.DP(14), mid, 0, paint.Regular, 17, ink)
		if n.Focused {
			c.Box(x+c.DP(14)+c.Fonts.Width(paint.Regular, 17, n.Text)+c.DP(1.5), mid-c.DP(10), c.DP(2), c.DP(20), 1, p.sea)
		}
	case "switch":
		c.Text(n.w.text, x, mid, 0, paint.Regular, 17, p.ink)
		track, knob := p.shingle, x+w-c.DP(35)
		if n.Checked {
			track, knob = p.sea, x+w-c.DP(15.5)
		}
		c.Box(x+w-c.DP(51), mid-c.DP(15.5), c.DP(51), c.DP(31), 15.5, track)
		c.SetColor(p.onSea)
		c.DrawCircle(knob, mid, c.DP(13.5))
		c.Fill()
	case "spinner": // spokes
		c.SetColor(p.faintInk)
		c.SetLineWidth(c.DP(2.6))
		for i := range 8 {
			sin, cos := math.Sincos(float64(i) * math.Pi / 4)
			c.DrawLine(x+w/2+cos*c.DP(7), mid+sin*c.DP(7), x+w/2+cos*c.DP(14), mid+sin*c.DP(14))
			c.Stroke()
		}
	default:
		return false
	}
	return true
}
