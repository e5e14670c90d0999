package webpage

// Actions in a page (section 17 of the standard): a mouse, a pen, fingers, a wheel and keys, as events of the browser.

import (
	"context"
	"errors"
	"slices"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// acting is what the input sources of a session have done in a page so far.
type acting struct {
	w3c.Sources
	spots   map[*w3c.Source]*spot
	pressed []held // in the order in which they were pressed
}

// spot is where a pointer is.
type spot struct {
	x, y    float64 // in the page's viewport
	buttons int     // that are pressed, a bit each (UI Events, MouseEvent.buttons)
	id      int     // of a finger
	pen     w3c.Pen

	clicked time.Time // what makes a double click of two
	button  int
	cx, cy  float64
	clicks  int
}

// held is a key or a button that is pressed.
type held struct {
	*w3c.Source
	key    string // "": a button
	button int
}

const (
	doubleClick = 500 * time.Millisecond
	moveEvery   = 20 * time.Millisecond // a move that lasts is so many
	maxHeld     = 200                   // keys and buttons at once
	touches     = 1                     // the bit of a finger that touches
	usual       = 0.5                   // the pressure of what can't tell (Pointer Events, pressure)
)

// Perform does what a Perform Actions request asks for. Of dialogs that open meanwhile, behaviour says what to do with them (see Unexpected).
func (x *Page) Perform(ctx context.Context, body map[string]any, behaviour string) *w3c.Error {
	if x.acting.spots == nil {
		x.acting.spots = map[*w3c.Source]*spot{}
	}
	ticks, werr := x.acting.Read(body)
	if werr != nil {
		return werr
	}
	for _, tick := range ticks {
		if werr := x.Unexpected(ctx, behaviour); werr != nil {
			return werr
		}
		if werr := x.tick(ctx, tick); werr != nil {
			return werr
		}
	}
	return x.settle(ctx)
}

// move is one that lasts.
type move struct {
	w3c.Action
	fromX, fromY, toX, toY float64
	takes                  time.Duration
}

// tick does what is to be done at once, and takes as long as the longest of it.
func (x *Page) tick(ctx context.Context, tick w3c.Tick) *w3c.Error {
	begun := time.Now()
	var moves []move
	for _, a := range tick {
		if a.Kind != "pointerMove" {
			if werr := x.act(ctx, a); werr != nil {
				return werr
			}
			continue
		}
		m, werr := x.beginMove(ctx, a)
		if werr != nil {
			return werr
		}
		m.takes = tick.MoveTakes(a)
		moves = append(moves, m)
	}
	for {
		past, going := time.Since(begun), false
		for _, m := range moves {
			part := 1.0
			if past < m.takes {
				part, going = float64(past)/float64(m.takes), true
			}
			s := x.spot(m.Source)
			if toX, toY := m.fromX+(m.toX-m.fromX)*part, m.fromY+(m.toY-m.fromY)*part; s.x != toX || s.y != toY || part == 1 {
				s.x, s.y = toX, toY
				if err := x.moved(ctx, m.Source); err != nil {
					return failed("perform actions", err)
				}
			}
		}
		moves = slices.DeleteFunc(moves, func(m move) bool { return past >= m.takes })
		wait := tick.Takes() - past
		if going {
			wait = min(wait, moveEvery)
		}
		if wait <= 0 && !going {
			return nil
		}
		if err := phone.Pause(ctx, wait); err != nil {
			return failed("perform actions", err)
		}
	}
}

// send tells the page of an event. One that opens a dialog is done.
func (x *Page) send(ctx context.Context, method string, q map[string]any) error {
	err := x.do(ctx, method, q, nil)
	if errors.Is(err, errDialog) {
		return nil
	}
	return err
}

// act does an action that is over at once.
func (x *Page) act(ctx context.Context, a w3c.Action) *w3c.Error {
	if _, _, d, _ := x.state(); d != nil && a.Kind != "pause" {
		return failed("perform actions", errDialog)
	}
	var err error
	switch a.Kind {
	case "keyDown":
		err = x.keyed(ctx, a, true)
	case "keyUp":
		err = x.keyed(ctx, a, false)
	case "pointerDown":
		err = x.touched(ctx, a, true)
	case "pointerUp":
		err = x.touched(ctx, a, false)
	case "pointerCancel":
		err = x.cancelled(ctx, a)
	case "scroll":
		return x.scrolled(ctx, a)
	}
	return failed("perform actions", err)
}

// modifiers are the bits of those that are held.
func (x *Page) modifiers() (bits int) {
	for _, h := range x.acting.pressed {
		if h.key != "" {
			bits |= keys[[]rune(h.key)[0]].bit
		}
	}
	return bits
}

func (x *Page) spot(of *w3c.Source) *spot {
	s := x.acting.spots[of]
	if s == nil {
		s = &spot{id: len(x.acting.spots)}
		x.acting.spots[of] = s
	}
	return s
}

// keyed presses a key, or lets it go.
func (x *Page) keyed(ctx context.Context, a w3c.Action, down bool) error {
	k, werr := keyOf([]rune(a.Key)[0])
	if werr != nil {
		return werr
	}
	is := func(h held) bool { return h.Source == a.Source && h.key == a.Key }
	if !down && !slices.ContainsFunc(x.acting.pressed, is) {
		return nil
	}
	x.acting.pressed = slices.DeleteFunc(x.acting.pressed, is)
	if down && len(x.acting.pressed) >= maxHeld {
		return w3c.Fail(w3c.InvalidArgument, "%d keys and buttons are held down already; let go of some, or release the actions", maxHeld)
	}
	if down {
		x.acting.pressed = append(x.acting.pressed, held{Source: a.Source, key: a.Key})
	}
	return x.send(ctx, "Input.dispatchKeyEvent", keyEvent(k, down, x.modifiers()))
}

// touched presses a button or lets it go, or lays a finger down or lifts it.
func (x *Page) touched(ctx context.Context, a w3c.Action, down bool) error {
	s := x.spot(a.Source)
	bit := buttonBit(a.Button)
	if a.Pointer == "touch" { // a finger has one
		bit = touches
	}
	if (s.buttons&bit != 0) == down {
		return nil
	}
	s.buttons ^= bit
	s.pen = a.Pen
	if down {
		x.acting.pressed = append(x.acting.pressed, held{Source: a.Source, button: a.Button})
		if s.clicks++; time.Since(s.clicked) > doubleClick || s.button != a.Button || s.cx != s.x || s.cy != s.y {
			s.clicks = 1
		}
		s.clicked, s.button, s.cx, s.cy = time.Now(), a.Button, s.x, s.y
	} else {
		x.acting.pressed = slices.DeleteFunc(x.acting.pressed, func(h held) bool { return h.Source == a.Source && h.key == "" && h.button == a.Button })
	}
	if a.Pointer == "touch" {
		return x.fingers(ctx, map[bool]string{true: "touchStart", false: "touchEnd"}[down])
	}
	return x.mouse(ctx, a.Source, map[bool]string{true: "mousePressed", false: "mouseReleased"}[down], a.Button)
}

// buttonBit is the bit of a button: of the middle and the right one in the other order (UI Events, MouseEvent.buttons).
func buttonBit(button int) int {
	switch button {
	case 1:
		return 4
	case 2:
		return 2
	}
	return 1 << min(button, 16)
}

var buttonNames = []string{"left", "middle", "right", "back", "forward"}

// mouse tells of a mouse or a pen.
func (x *Page) mouse(ctx context.Context, of *w3c.Source, kind string, button int) error {
	s := x.spot(of)
	q := map[string]any{"type": kind, "x": s.x, "y": s.y, "modifiers": x.modifiers(), "button": "none", "buttons": s.buttons, "pointerType": of.Pointer}
	if button >= 0 && button < len(buttonNames) {
		q["button"] = buttonNames[button]
	}
	if kind != "mouseMoved" {
		q["clickCount"] = s.clicks
	}
	if s.buttons != 0 {
		q["force"] = usual
	}
	lay(q, s.pen)
	return x.send(ctx, "Input.dispatchMouseEvent", q)
}

// lay says how a pen or a finger lies there.
func lay(q map[string]any, p w3c.Pen) {
	for name, v := range map[string]*float64{"force": p.Pressure, "tangentialPressure": p.TangentialPressure, "tiltX": p.TiltX, "tiltY": p.TiltY, "twist": p.Twist} {
		if v != nil {
			q[name] = *v
		}
	}
}

// fingers tells where all fingers are that touch.
func (x *Page) fingers(ctx context.Context, kind string) error {
	points := []map[string]any{}
	for src, s := range x.acting.spots {
		if src.Pointer == "touch" && s.buttons&touches != 0 {
			q := map[string]any{"x": s.x, "y": s.y, "id": s.id, "force": usual, "radiusX": 0.5, "radiusY": 0.5}
			lay(q, s.pen)
			for name, v := range map[string]*float64{"radiusX": s.pen.Width, "radiusY": s.pen.Height} {
				if v != nil {
					q[name] = *v / 2
				}
			}
			points = append(points, q)
		}
	}
	slices.SortFunc(points, func(a, b map[string]any) int { return a["id"].(int) - b["id"].(int) })
	if kind == "touchEnd" && len(points) > 0 { // one lifts, and others stay
		kind = "touchMove"
	}
	return x.send(ctx, "Input.dispatchTouchEvent", map[string]any{"type": kind, "touchPoints": points, "modifiers": x.modifiers()})
}

// moved tells that a pointer is somewhere else.
func (x *Page) moved(ctx context.Context, of *w3c.Source) error {
	s := x.spot(of)
	switch {
	case of.Pointer != "touch":
		button := -1
		for b := range buttonNames {
			if s.buttons&buttonBit(b) != 0 {
				button = b
				break
			}
		}
		return x.mouse(ctx, of, "mouseMoved", button)
	case s.buttons&touches != 0:
		return x.fingers(ctx, "touchMove")
	}
	return nil // a finger in the air
}

// cancelled takes a pointer away without a click.
func (x *Page) cancelled(ctx context.Context, a w3c.Action) error {
	s := x.spot(a.Source)
	if a.Pointer != "touch" {
		return w3c.Fail(w3c.UnsupportedOperation, "a %s is never cancelled", a.Pointer)
	}
	if s.buttons == 0 {
		return nil
	}
	for _, other := range x.acting.spots { // as the system does it: all fingers of the gesture
		other.buttons &^= touches
	}
	x.acting.pressed = slices.DeleteFunc(x.acting.pressed, func(h held) bool { return h.Pointer == "touch" })
	return x.send(ctx, "Input.dispatchTouchEvent", map[string]any{"type": "touchCancel", "touchPoints": []any{}})
}

// place is how large a frame is, and where the middle of an element of it is that one sees (section 12.1, "in-view center point").
const place = `function(of) {
	const out = {width: innerWidth, height: innerHeight, x: 0, y: 0};
	if (of) {
		const r = of.getClientRects()[0] ?? of.getBoundingClientRect(), l = Math.max(0, Math.min(r.left, r.right)), t = Math.max(0, Math.min(r.top, r.bottom));
		[out.x, out.y] = [Math.floor((l + Math.min(innerWidth, Math.max(r.left, r.right))) / 2), Math.floor((t + Math.min(innerHeight, Math.max(r.top, r.bottom))) / 2)];
	}
	return out;
}`

// target is where a move or a scroll goes, in the page's viewport.
func (x *Page) target(ctx context.Context, a w3c.Action) (toX, toY float64, werr *w3c.Error) {
	of := any(nil)
	if a.OnElement {
		e, werr := x.element(ctx, a.Origin)
		if werr != nil {
			return 0, 0, werr
		}
		of = e
	}
	var at struct{ Width, Height, X, Y float64 }
	err := x.value(ctx, "", &at, place, of)
	left, top := 0.0, 0.0
	if err == nil {
		left, top, err = x.offset(ctx)
	}
	if err != nil {
		return 0, 0, failed("look where it is", err)
	}
	toX, toY = at.X+a.X, at.Y+a.Y
	if a.Origin == "pointer" && !a.OnElement {
		s := x.spot(a.Source)
		toX, toY = s.x-left+a.X, s.y-top+a.Y
	}
	if toX < 0 || toY < 0 || toX > at.Width || toY > at.Height {
		return 0, 0, w3c.Fail(w3c.MoveTargetOutOfBounds, "%v,%v does not lie in the page's window, which is %v wide and %v high", toX, toY, at.Width, at.Height)
	}
	return toX + left, toY + top, nil
}

func (x *Page) beginMove(ctx context.Context, a w3c.Action) (m move, werr *w3c.Error) {
	m.Action = a
	if m.toX, m.toY, werr = x.target(ctx, a); werr != nil {
		return m, werr
	}
	s := x.spot(a.Source)
	m.fromX, m.fromY, s.pen = s.x, s.y, a.Pen
	return m, nil
}

// scrolled turns the wheel at a place.
func (x *Page) scrolled(ctx context.Context, a w3c.Action) *w3c.Error {
	atX, atY, werr := x.target(ctx, a)
	if werr != nil {
		return werr
	}
	return failed("perform actions", x.send(ctx, "Input.dispatchMouseEvent", map[string]any{"type": "mouseWheel", "x": atX, "y": atY, "deltaX": a.DX, "deltaY": a.DY, "modifiers": x.modifiers(), "pointerType": "mouse"}))
}

// Release lets go of all that is pressed, what came last first (section 17.6).
func (x *Page) Release(ctx context.Context) *w3c.Error {
	defer func() { x.acting = acting{} }()
	for _, h := range slices.Backward(slices.Clone(x.acting.pressed)) {
		var err error
		if a := (w3c.Action{Source: h.Source, Key: h.key, Button: h.button}); h.key != "" {
			err = x.keyed(ctx, a, false)
		} else {
			err = x.touched(ctx, a, false)
		}
		if err != nil && !errors.Is(err, errDialog) {
			return failed("release actions", err)
		}
	}
	return x.settle(ctx)
}
