package hands

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/core/uitree"
)

func screen() *uitree.Screen {
	r := func(l, t, rt, b int) uitree.Rect { return uitree.Rect{Left: l, Top: t, Right: rt, Bottom: b} }
	return &uitree.Screen{Elements: []*uitree.Element{{Kind: "group", Bounds: r(0, 0, 100, 200), Children: []*uitree.Element{
		{Kind: "group", ID: "row", Clickable: true, Bounds: r(0, 0, 100, 40), Children: []*uitree.Element{{Kind: "text", Text: "Gull Ledge", Bounds: r(10, 10, 50, 20)}}},
		{Kind: "field", ID: "name", Clickable: true, Bounds: r(0, 50, 100, 70)},
		{Kind: "field", ID: "code", Clickable: true, Password: true, Bounds: r(0, 80, 100, 100)},
		{Kind: "text", ID: "note", Bounds: r(0, 150, 100, 160)},
	}}}}
}

func TestWhatAFingerIsMeantFor(t *testing.T) {
	d := &Device{}
	assert.Empty(t, d.touched(d.now(), 20, 15), "nothing is known")
	d.Saw(screen(), time.Now())
	for want, p := range map[string][2]int{"#row": {20, 15}, "#name": {20, 60}, "#note": {20, 155}, "": {300, 15}} {
		assert.Equal(t, want, d.touched(d.now(), p[0], p[1]))
	}
	d.Acted()
	assert.Nil(t, d.now(), "what was done since may have changed it")
}

func TestWhereATextGoesAndWhetherItIsASecret(t *testing.T) {
	d := &Device{}
	s := screen()
	d.Saw(s, time.Now())
	d.touched(d.now(), 20, 90)
	d.Acted() // the keyboard comes; the screen was not read since
	css, secret := d.focused()
	assert.Equal(t, "#code", css)
	assert.True(t, secret)
	assert.Equal(t, "•••", Shown("ö12", secret))
	s.Elements[0].Children[1].Focused = true
	d.Saw(s, time.Now())
	css, secret = d.focused()
	assert.Equal(t, "#name", css, "what the screen says counts")
	assert.Equal(t, "ö12", Shown("ö12", secret))
	d.touched(d.now(), 20, 155)
	d.Acted()
	css, _ = d.focused()
	assert.Empty(t, css)
}
