package hands

// What is touched, by its locator: from the screen as it was read last. What was done since may have changed it, and then it says nothing.

import (
	"context"
	"time"

	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
)

// readTakes is how long a finger waits for the screen to be read, where what it touches is to be known.
const readTakes = 5 * time.Second

// Saw notes the screen as it was read, from a moment on.
func (d *Device) Saw(s *uitree.Screen, since time.Time) {
	x := locators.New(s)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.seen, d.seenAt = x, since
}

// Acted notes that something was done that may have changed the screen.
func (d *Device) Acted() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.acted = time.Now()
}

// now is the screen as it is; nil: it is not known.
func (d *Device) now() *locators.Index {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.seen == nil || d.seenAt.Before(d.acted) {
		return nil
	}
	return d.seen
}

// look reads the screen where that is wanted and it is not known.
func (d *Device) look(ctx context.Context) *locators.Index {
	x := d.now()
	d.mu.Lock()
	record := d.record
	d.mu.Unlock()
	if x != nil || !record {
		return x
	}
	ctx, cancel := context.WithTimeout(ctx, readTakes)
	defer cancel()
	since := time.Now()
	s, err := d.Phone.Tree(ctx)
	if err != nil {
		return nil
	}
	d.Saw(s, since)
	return d.now()
}

// touched gives the locator of what is at a place, and remembers it where it is a field.
func (d *Device) touched(x *locators.Index, px, py int) string {
	if x == nil {
		return ""
	}
	e := at(x.Screen, px, py)
	if e == nil {
		return ""
	}
	css := x.Of(e)[0].CSS
	d.mu.Lock()
	defer d.mu.Unlock()
	d.focus, d.secret = "", false
	if e.Kind == "field" || e.Password {
		d.focus, d.secret = css, e.Password
	}
	return css
}

// focused gives the locator of the field into which is typed, and whether that is a secret.
func (d *Device) focused() (css string, secret bool) {
	if x := d.now(); x != nil {
		for _, e := range x.Screen.All() {
			if e.Focused && (e.Kind == "field" || e.Password) {
				return x.Of(e)[0].CSS, e.Password
			}
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.focus, d.secret
}

// at is what a finger at a place is meant for: the smallest element there that can be touched, or where none can, the smallest.
func at(s *uitree.Screen, px, py int) (best *uitree.Element) {
	area := func(e *uitree.Element) int {
		return (e.Bounds.Right - e.Bounds.Left) * (e.Bounds.Bottom - e.Bounds.Top)
	}
	better := func(a, b *uitree.Element) bool {
		if b == nil || a.Clickable != b.Clickable {
			return b == nil || a.Clickable
		}
		return area(a) <= area(b)
	}
	for _, e := range s.All() {
		b := e.Bounds
		if px >= b.Left && px < b.Right && py >= b.Top && py < b.Bottom && better(e, best) {
			best = e
		}
	}
	return best
}
