package remoteend

// The commands that touch: clicks, keys and actions.

import (
	"strings"
	"time"
	"unicode/utf8"

	"tessellant/internal/core/uitree"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// keyOf is the phone's key of a code point (section 17.4.2, the table of normalised keys).
var keyOf = map[rune]phone.Key{
	'\uE003': phone.Delete, '\uE004': "tab", '\uE005': phone.Delete, '\uE006': phone.Enter, '\uE007': phone.Enter, '\uE00C': "escape", '\uE010': phone.End, '\uE011': phone.Home,
	'\uE012': "left", '\uE013': "up", '\uE014': "right", '\uE015': "down", '\n': phone.Enter, '\t': "tab",
}

const (
	nullKey   = '\uE000' // lets go of all modifiers
	maxDelete = 2000     // characters that clearing deletes
)

// pieces splits a text into runs to be typed and keys to be pressed.
func pieces(text string) (out []any, err *w3c.Error) {
	run := ""
	flush := func() {
		if run != "" {
			out = append(out, run)
		}
		run = ""
	}
	for _, r := range text {
		switch {
		case r == nullKey:
		case r == '\uE00D': // space
			run += " "
		case r >= '\uE01A' && r <= '\uE023': // digits of the number pad
			run += string('0' + r - '\uE01A')
		case keyOf[r] != "" && r != '\uE011': // Home here would leave the app
			flush()
			out = append(out, keyOf[r])
		case r >= '\uE000' && r <= '\uF8FF':
			return nil, w3c.Fail(w3c.UnsupportedOperation, "a phone has no key for the code point U+%04X", r)
		default:
			run += string(r)
		}
	}
	flush()
	return out, nil
}

func (c *onNative) press(doing string, keys ...phone.Key) *w3c.Error {
	defer c.touched()
	return asError(doing, c.phone.Press(c.ctx, keys...))
}

// point is where a finger touches an element: the middle of what lies on the screen (section 12.1, "in-view center point").
func (c *onNative) point(e *uitree.Element) (x, y int, err *w3c.Error) {
	area, err := c.area()
	if err != nil {
		return 0, 0, err
	}
	part := visible(e, area)
	if part.Empty() {
		return 0, 0, w3c.Fail(w3c.ElementNotInteractable, "%s is not on the screen", w3c.Describe(e))
	}
	x, y = part.Center()
	return x, y, nil
}

func (c *onNative) click(e *uitree.Element) *w3c.Error {
	x, y, err := c.point(e)
	if err != nil {
		return err
	}
	defer c.touched()
	return asError("tap "+w3c.Describe(e), c.phone.Tap(c.ctx, x, y))
}

// focus puts the cursor behind a field's text.
func (c *onNative) focus(e *uitree.Element) *w3c.Error {
	if !e.Focused {
		if err := c.click(e); err != nil {
			return err
		}
	}
	if e.Value != "" {
		return c.press("go to the field's end", phone.End)
	}
	return nil
}

func (c *onNative) clear(e *uitree.Element) *w3c.Error {
	if e.Kind != "field" || !e.Enabled {
		return w3c.Fail(w3c.InvalidElementState, "%s can't be cleared: it is no field that can be edited", w3c.Describe(e))
	}
	n := utf8.RuneCountInString(e.Value)
	if n > maxDelete {
		return w3c.Fail(w3c.InvalidElementState, "the field holds %d characters; %d can be deleted", n, maxDelete)
	}
	if err := c.focus(e); err != nil || n == 0 {
		return err
	}
	keys := make([]phone.Key, n)
	for i := range keys {
		keys[i] = phone.Delete
	}
	return c.press("clear the field", keys...)
}

func (c *onNative) sendKeys(e *uitree.Element) *w3c.Error {
	text, ok := c.body["text"].(string)
	if !ok {
		return w3c.Fail(w3c.InvalidArgument, "the text to send must be a string")
	}
	c.args["text"] = short(text)
	parts, err := pieces(text)
	if err != nil {
		return err
	}
	if e.Kind != "field" || !e.Enabled {
		return w3c.Fail(w3c.ElementNotInteractable, "%s takes no keys: it is no field that can be edited", w3c.Describe(e))
	}
	if err := c.focus(e); err != nil {
		return err
	}
	return c.keys(parts)
}

// keys types and presses.
func (c *onNative) keys(parts []any) *w3c.Error {
	defer c.touched()
	for _, p := range parts {
		var err error
		switch p := p.(type) {
		case string:
			err = c.phone.Type(c.ctx, p)
		case phone.Key:
			err = c.phone.Press(c.ctx, p)
		}
		if err != nil {
			return asError("send keys", err)
		}
	}
	return nil
}

const (
	longPress = 400 * time.Millisecond // a finger that rests at least so long does not tap: Android's own limit
	straight  = 3                      // pixels that a way may lie beside the straight line
)

func (c *onNative) actions() *w3c.Error {
	area, err := c.area()
	if err != nil {
		return err
	}
	acts, took, err := c.input.Perform(c.body, area, func(ref string) (uitree.Rect, *w3c.Error) {
		e, err := c.element(ref)
		if err != nil {
			return uitree.Rect{}, err
		}
		return visible(e, area), nil
	})
	if err != nil {
		return err
	}
	return c.perform(acts, took)
}

// perform does acts at their times, and returns when took has passed.
func (c *onNative) perform(acts []w3c.Act, took time.Duration) *w3c.Error {
	defer c.touched()
	begin, spent := time.Now(), time.Duration(0) // spent: in acts, beyond what they last
	for _, a := range acts {
		if err := phone.Pause(c.ctx, max(0, a.At-time.Since(begin)+spent)); err != nil {
			return asError("perform actions", err)
		}
		start := time.Now()
		if err := c.act(a); err != nil {
			return err
		}
		spent += max(0, time.Since(start)-(a.Ends()-a.At))
	}
	return asError("perform actions", phone.Pause(c.ctx, max(0, took-time.Since(begin)+spent)))
}

func (c *onNative) act(a w3c.Act) *w3c.Error {
	if a.Key != "" {
		parts, err := pieces(a.Key)
		if err != nil {
			return err
		}
		return c.keys(parts)
	}
	if len(a.Strokes) == 1 {
		if done, err := c.simple(a.Strokes[0]); done {
			return asError("touch the screen", err)
		}
	}
	if c.phone.Fingers == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "this device takes taps and straight moves of one finger alone")
	}
	var strokes []phone.Stroke
	for _, s := range a.Strokes {
		var to phone.Stroke
		for _, x := range s {
			to = append(to, phone.Contact{X: x.X, Y: x.Y, At: x.At - a.At})
		}
		strokes = append(strokes, to)
	}
	return asError("touch the screen", c.phone.Fingers.Touch(c.ctx, strokes))
}

// simple does a stroke that is a tap, a long press or a straight move; not done: it is none of them.
func (c *onNative) simple(s w3c.Stroke) (done bool, err error) {
	first, last := s[0], s[len(s)-1]
	took := last.At - first.At
	moved := first.X != last.X || first.Y != last.Y
	// Where the finger rests before it moves, or after, the app may take it for something else than a plain move.
	from, to := first.At, last.At
	for i := range s {
		if !near(first, last, s[i]) {
			return false, nil
		}
		if s[i].X == first.X && s[i].Y == first.Y {
			from = s[i].At
		}
	}
	for i := len(s) - 1; i >= 0 && s[i].X == last.X && s[i].Y == last.Y; i-- {
		to = s[i].At
	}
	switch {
	case !moved && took < longPress:
		return true, c.phone.Tap(c.ctx, first.X, first.Y)
	case !moved:
		return true, c.phone.Swipe(c.ctx, first.X, first.Y, last.X, last.Y, took)
	case from-first.At >= longPress || (last.At-to >= longPress && c.phone.Fingers != nil):
		return false, nil
	}
	return true, c.phone.Swipe(c.ctx, first.X, first.Y, last.X, last.Y, max(to-from, time.Millisecond))
}

// near says whether a contact lies on the straight way between two others.
func near(a, b, x w3c.Contact) bool {
	dx, dy := b.X-a.X, b.Y-a.Y
	if dx == 0 && dy == 0 {
		return abs(x.X-a.X) <= straight && abs(x.Y-a.Y) <= straight
	}
	t := float64((x.X-a.X)*dx+(x.Y-a.Y)*dy) / float64(dx*dx+dy*dy)
	px, py := float64(a.X)+t*float64(dx), float64(a.Y)+t*float64(dy)
	return t >= -0.01 && t <= 1.01 && abs(x.X-int(px)) <= straight && abs(x.Y-int(py)) <= straight
}

func abs(n int) int { return max(n, -n) }

// nameOf gives the text under a name in the body.
func (c *command) nameOf(field string) (string, *w3c.Error) {
	s, ok := c.body[field].(string)
	if !ok || strings.TrimSpace(s) == "" {
		return "", w3c.Fail(w3c.InvalidArgument, "%s must be a text that is not empty", field)
	}
	if len(s) > 500 {
		return "", w3c.Fail(w3c.InvalidArgument, "%s has %d bytes; 500 is the most", field, len(s))
	}
	return s, nil
}
