package hands

import (
	"image"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

func contact(id int, x float64) []hostlink.Contact { return []hostlink.Contact{{ID: id, X: x, Y: 0.5}} }

func TestWhatWaitsIsPutTogetherAndKeepsItsOrder(t *testing.T) {
	d := &Device{todo: make(chan struct{}, 1)}
	touch := func(fingers []hostlink.Contact) { assert.True(t, d.queue(doing{touch: true, fingers: fingers})) }
	touch(contact(1, 0.1)) // it touches
	for i := range 1000 {
		touch(contact(1, 0.2+float64(i)/2000)) // moves are one
	}
	touch(nil)
	touch(contact(1, 0.9))
	touch(contact(2, 0.9)) // another finger
	touch(nil)
	for range 100 {
		assert.True(t, d.queue(doing{text: "a"}))
	}
	assert.True(t, d.queue(doing{text: "b", secret: true}))
	for range 3 {
		assert.True(t, d.queue(doing{keys: []phone.Key{phone.Back}}))
	}
	assert.True(t, d.queue(doing{keys: []phone.Key{phone.Home}}))
	var got []any
	for x, ok := d.next(); ok; x, ok = d.next() {
		switch {
		case x.touch && len(x.fingers) > 0:
			got = append(got, x.fingers[0].X)
		case x.touch:
			got = append(got, "lift")
		case x.text != "":
			got = append(got, len(x.text))
		default:
			got = append(got, x.keys)
		}
	}
	assert.Equal(t, []any{0.1, 0.2 + 999.0/2000, "lift", 0.9, 0.9, "lift", 100, 1, []phone.Key{phone.Back, phone.Back, phone.Back}, []phone.Key{phone.Home}}, got)
	for i := range maxWaiting {
		assert.True(t, d.queue(doing{touch: true, fingers: contact(i, 0.1)}))
	}
	assert.False(t, d.queue(doing{touch: true}), "a finger that lifts is never left out in silence")
}

func TestWhatFingersDidInWords(t *testing.T) {
	size := image.Pt(1000, 2000)
	ms := func(n int) time.Time { return time.Unix(0, 0).Add(time.Duration(n) * time.Millisecond) }
	f := func(id, x, y int) phone.Finger { return phone.Finger{ID: id, X: x, Y: y} }
	type moment struct {
		at      int
		fingers []phone.Finger
	}
	for name, c := range map[string]struct {
		way  []moment
		want string
		args map[string]string
	}{
		"a tap":               {[]moment{{0, []phone.Finger{f(1, 10, 20)}}, {40, []phone.Finger{f(1, 15, 22)}}, {90, nil}}, "tap", map[string]string{"x": "10", "y": "20"}},
		"a finger that stays": {[]moment{{0, []phone.Finger{f(1, 10, 20)}}, {700, nil}}, "long press", map[string]string{"x": "10", "y": "20", "ms": "700"}},
		"a finger that moves": {[]moment{{0, []phone.Finger{f(1, 10, 20)}}, {100, []phone.Finger{f(1, 10, 600)}}, {250, nil}}, "swipe", map[string]string{"from": "10,20", "to": "10,600", "ms": "250"}},
		"there and back": {[]moment{{0, []phone.Finger{f(1, 10, 20)}}, {100, []phone.Finger{f(1, 10, 600)}}, {200, []phone.Finger{f(1, 10, 20)}}, {250, nil}}, "swipe",
			map[string]string{"from": "10,20", "to": "10,20", "ms": "250"}},
		"two fingers": {[]moment{{0, []phone.Finger{f(1, 10, 20), f(2, 90, 20)}}, {100, []phone.Finger{f(1, 40, 20), f(2, 60, 20)}}, {150, []phone.Finger{f(2, 60, 20)}}, {200, nil}}, "fingers",
			map[string]string{"fingers": "2", "finger 1": "10,20 to 40,20", "finger 2": "90,20 to 60,20"}},
	} {
		var g gesture
		for _, m := range c.way {
			g.follow(m.fingers, ms(m.at))
		}
		got := g.command(size)
		assert.Equal(t, c.want, got.Name, name)
		assert.Equal(t, c.args, got.Args, name)
		assert.Equal(t, time.Duration(c.way[len(c.way)-1].at)*time.Millisecond, got.Took, name)
	}
	var g gesture
	for i := range 5000 {
		g.follow([]phone.Finger{f(1, i%900, 20)}, ms(i))
	}
	assert.LessOrEqual(t, len(g.strokes[0]), maxPath, "a way has no more places than are remembered")
}
