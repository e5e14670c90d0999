package paint

import (
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

var white, black = color.RGBA{255, 255, 255, 255}, color.RGBA{0, 0, 0, 255}

func canvas() *Canvas {
	c := NewCanvas(100, 100, NewFonts(160, 1), white)
	c.SetColor(black)
	c.SetLineWidth(6)
	return c
}

// dark is how many pixels' worth of black there is.
func dark(c *Canvas) (sum float64) {
	for _, v := range c.Picture().Pix {
		sum += float64(255-v) / 255 / 3
	}
	return sum
}

func TestShapesHaveTheirAreas(t *testing.T) {
	line := 60*6 + math.Pi*9
	for name, s := range map[string]struct {
		draw func(c *Canvas)
		area float64
	}{
		"a box":                      {func(c *Canvas) { c.Box(10, 10, 40, 20, 0, black) }, 800},
		"a box between pixels":       {func(c *Canvas) { c.Box(10.5, 10.25, 40, 20, 0, black) }, 800},
		"a round box":                {func(c *Canvas) { c.Box(10, 10, 40, 20, 4, black) }, 800 - 16*(4-math.Pi)},
		"a disc":                     {func(c *Canvas) { c.DrawCircle(50, 50, 20); c.Fill() }, math.Pi * 400},
		"a ring":                     {func(c *Canvas) { c.DrawCircle(50, 50, 20); c.Stroke() }, math.Pi * (23*23 - 17*17)},
		"a line with round ends":     {func(c *Canvas) { c.DrawLine(20, 50, 80, 50); c.Stroke() }, line},
		"a slanting line":            {func(c *Canvas) { c.DrawLine(20, 20, 56, 68); c.Stroke() }, line},
		"a frame":                    {func(c *Canvas) { c.DrawRectangle(20, 20, 40, 40); c.Stroke() }, 46*46 - 34*34 - 9*(4-math.Pi)},
		"a curve that is straight":   {func(c *Canvas) { c.MoveTo(20, 50); c.CubicTo(40, 50, 60, 50, 80, 50); c.Stroke() }, line},
		"a point":                    {func(c *Canvas) { c.DrawLine(50, 50, 50, 50); c.Stroke() }, math.Pi * 9},
		"a half of what is in sight": {func(c *Canvas) { c.Box(-20, 10, 40, 20, 0, black) }, 400},
		"nothing in sight":           {func(c *Canvas) { c.Box(200, 200, 40, 20, 4, black); c.DrawCircle(-99, 5, 20); c.Stroke() }, 0},
		"nothing at all":             {func(c *Canvas) { c.Fill(); c.Stroke(); c.ClosePath() }, 0},
		"what is half there":         {func(c *Canvas) { c.Box(10, 10, 40, 20, 0, Fade(black, 0.5)) }, 400},
	} {
		c := canvas()
		s.draw(c)
		assert.InDelta(t, s.area, dark(c), 5, name)
	}
}

func TestAStrokeIsNowhereDarkerThanItsColour(t *testing.T) {
	c := canvas()
	c.SetColor(Fade(black, 0.5))
	c.MoveTo(20, 20)
	c.LineTo(80, 30)
	c.CubicTo(20, 40, 20, 60, 80, 80)
	c.Stroke()
	for _, v := range c.Picture().Pix {
		assert.GreaterOrEqual(t, v, uint8(127))
	}
}
