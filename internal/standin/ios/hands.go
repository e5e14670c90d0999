package ios

// Fingers and keys: what they do to the app in front, or to the system's question before it.

import (
	"time"

	"tessellant/internal/standin/app"
)

// Stroke is a finger that touches, moves and lifts, in points.
func (p *Phone) Stroke(x0, y0, x, y int, took time.Duration) {
	p.take(40, 80)
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.traits.Scale
	x0, y0, x, y = x0*s, y0*s, x*s, y*s
	if p.alert != nil {
		for i := range 2 {
			if _, b := p.alertBox(i); x0 >= b.X1 && x0 < b.X2 && y0 >= b.Y1 && y0 < b.Y2 {
				p.answer(i == 1)
				return
			}
		}
		return
	}
	in := p.apps[p.front]
	if in == nil || in.proc == nil {
		return
	}
	near := 12 * s
	still := max(x-x0, x0-x) < near && max(y-y0, y0-y) < near
	if up, _ := in.proc.app.Keyboard(); up && still {
		_, h := p.pixels()
		if y0 >= h-p.device().NavBarH-in.proc.app.KeyboardHeight() {
			return
		}
	}
	switch {
	case still && took >= 500*time.Millisecond:
		p.act(func(a *app.App) error { return a.LongTap(x0, y0) })
	case still:
		p.act(func(a *app.App) error { return a.Tap(x0, y0) })
	default:
		p.act(func(a *app.App) error { a.Swipe(x0, y0, x, y); return nil })
	}
}

// answer answers the system's question, under mu.
func (p *Phone) answer(allow bool) {
	q := p.alert
	p.alert = nil
	if in := p.apps[q.id]; in != nil {
		in.allowed[q.permission] = allow
		p.changed()
		p.act(func(*app.App) error { q.then(allow); return nil })
	}
}

// Enter types a text where the focus is.
func (p *Phone) Enter(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.act(func(a *app.App) error { return a.Type(text) })
}

// Key presses a key by its name: HOME, BACK (the arrow in the app's bar, or what hides the keyboard), ENTER, DEL.
func (p *Phone) Key(name string) {
	p.take(40, 80)
	p.mu.Lock()
	defer p.mu.Unlock()
	switch name {
	case "HOME":
		p.front, p.alert = "", nil
		p.changed()
	case "BACK":
		if p.alert == nil {
			p.act(func(a *app.App) error { _, err := a.Back(); return err })
		}
	case "ENTER":
		p.act(func(a *app.App) error { a.HideKeyboard(); return nil })
	case "DEL":
		p.act(func(a *app.App) error { return a.Backspace() })
	}
}

// Keys says whether the keyboard is shown.
func (p *Phone) Keys() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if in := p.apps[p.front]; in != nil && in.proc != nil {
		up, _ := in.proc.app.Keyboard()
		return up
	}
	return false
}
