package script

// What the words of a script do to a phone, with all the waiting built in.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// Notes takes down what a script says by the way.
type Notes interface {
	Step(ctx context.Context, name, line string) error // keeps a screenshot
	Check(about, expected, actual, line string, held bool)
	Log(text, line string)
}

// Hands does a script's calls on a phone.
type Hands struct {
	Phone    phone.Phone
	Keyboard phone.Keyboard // nil: unknown
	App      phone.App
	Facts    devices.Facts
	Notes    Notes
	Calls    func(line, element string) // is told of each call before it is done: the script's line, and the locator it has
}

const (
	patience    = 10 * time.Second
	maxPatience = 10 * time.Minute
	pause       = 100 * time.Millisecond // between two looks at a quick phone
	maxClear    = 500                    // characters that clear deletes
)

// Do does one call.
func (h *Hands) Do(ctx context.Context, c Call) (any, error) {
	text := func(name string) string { s, _ := c.Args[name].(string); return s }
	if h.Calls != nil {
		h.Calls(c.Line, text("locator")+text("target")+text("on"))
	}
	within := patience
	if s, ok := c.Args["within"].(float64); ok {
		within = min(time.Duration(s*float64(time.Second)), maxPatience)
	}
	switch c.Word {
	case "launch":
		return nil, h.Phone.Launch(ctx, h.App)
	case "stop":
		return nil, h.Phone.Stop(ctx, h.App.ID)
	case "back":
		return nil, h.Phone.Press(ctx, phone.Back)
	case "hide_keyboard":
		return nil, h.hideKeyboard(ctx)
	case "log":
		h.Notes.Log(text("text"), c.Line)
		return nil, nil
	case "step":
		return nil, h.Notes.Step(ctx, text("name"), c.Line)
	case "check":
		held, _ := c.Args["held"].(bool)
		h.Notes.Check(text("about"), text("expected"), text("actual"), c.Line, held)
		if !held {
			return nil, &Failure{About: text("about"), Expected: text("expected"), Actual: text("actual"), Line: c.Line}
		}
		return nil, nil
	case "all", "sees":
		es, _, err := h.look(ctx, text("locator"))
		if err != nil {
			return nil, err
		}
		if c.Word == "sees" {
			return len(es) > 0, nil
		}
		out := make([]any, len(es))
		for i, e := range es {
			out[i] = wire(e)
		}
		return out, nil
	case "find":
		e, err := h.find(ctx, text("locator"), "", within, c.Line)
		return wire(e), err
	case "wait_for":
		e, err := h.find(ctx, text("locator"), text("text"), within, c.Line)
		return wire(e), err
	case "wait_gone":
		return nil, h.waitGone(ctx, text("locator"), within, c.Line)
	case "read":
		e, err := h.find(ctx, text("locator"), "", within, c.Line)
		if err != nil {
			return nil, err
		}
		return reading(e), nil
	case "tap":
		_, err := h.tap(ctx, c.Args["target"], within, c.Line)
		return nil, err
	case "type":
		return nil, h.enter(ctx, c.Args["target"], text("text"), within, c.Line)
	case "clear":
		return nil, h.clear(ctx, c.Args["target"], within, c.Line)
	case "swipe":
		return nil, h.swipe(ctx, text("direction"), text("on"), within, c.Line)
	}
	return nil, fmt.Errorf("a phone has no %s", c.Word)
}

// look finds what a locator means on the screen as it is now. A screen that can't be read
// because it moves counts as one without the element.
func (h *Hands) look(ctx context.Context, locator string) ([]*uitree.Element, *uitree.Screen, error) {
	if err := uitree.CheckLocator(locator); err != nil {
		return nil, nil, err
	}
	s, err := h.Phone.Tree(ctx)
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	es, err := s.Find(locator)
	return es, s, err
}

// find waits until an element is there and, when text is given, has it.
func (h *Hands) find(ctx context.Context, locator, text string, within time.Duration, line string) (*uitree.Element, error) {
	return h.await(ctx, locator, within, line, func(e *uitree.Element) string {
		if text != "" && !strings.Contains(reading(e), text) {
			return fmt.Sprintf("its text is %q", reading(e))
		}
		return ""
	}, text)
}

// await looks again and again until an element is there that lacks nothing.
func (h *Hands) await(ctx context.Context, locator string, within time.Duration, line string, lacks func(*uitree.Element) string, text string) (*uitree.Element, error) {
	start := time.Now()
	for {
		es, s, err := h.look(ctx, locator)
		if err != nil {
			return nil, err
		}
		lack := ""
		for _, e := range es {
			if lack = lacks(e); lack == "" {
				return e, nil
			}
		}
		if time.Since(start) >= within {
			expected := fmt.Sprintf("%s within %s", locator, within)
			if text != "" {
				expected = fmt.Sprintf("%s with the text %q within %s", locator, text, within)
			}
			if lack != "" {
				return nil, &Failure{Expected: expected, Actual: locator + ", but " + lack, Line: line}
			}
			return nil, &Failure{Expected: expected, Actual: onScreen(s), Line: line}
		}
		if err := sleep(ctx, pause); err != nil {
			return nil, err
		}
	}
}

func (h *Hands) waitGone(ctx context.Context, locator string, within time.Duration, line string) error {
	for start := time.Now(); ; {
		es, s, err := h.look(ctx, locator)
		if err != nil {
			return err
		}
		if len(es) == 0 && s != nil {
			return nil
		}
		if time.Since(start) >= within {
			return &Failure{Expected: fmt.Sprintf("%s to go away within %s", locator, within), Actual: "it still on the screen", Line: line}
		}
		if err := sleep(ctx, pause); err != nil {
			return err
		}
	}
}

// tap taps a target: a locator, or an element that was found before.
func (h *Hands) tap(ctx context.Context, target any, within time.Duration, line string) (*uitree.Element, error) {
	if m, ok := target.(map[string]any); ok {
		e := &uitree.Element{Kind: asText(m["kind"]), Text: asText(m["text"]), Value: asText(m["value"])}
		e.Focused, _ = m["focused"].(bool)
		x, _ := m["x"].(float64)
		y, _ := m["y"].(float64)
		return e, h.Phone.Tap(ctx, int(x), int(y))
	}
	e, err := h.await(ctx, asText(target), within, line, func(e *uitree.Element) string {
		switch {
		case e.Bounds.Empty():
			return "nothing of it can be seen"
		case !e.Enabled:
			return "it is disabled"
		}
		return ""
	}, "")
	if err != nil {
		return nil, err
	}
	x, y := e.Bounds.Center()
	return e, h.Phone.Tap(ctx, x, y)
}

func (h *Hands) enter(ctx context.Context, target any, text string, within time.Duration, line string) error {
	if _, err := h.tap(ctx, target, within, line); err != nil {
		return err
	}
	return h.Phone.Type(ctx, text)
}

func (h *Hands) clear(ctx context.Context, target any, within time.Duration, line string) error {
	e, err := h.tap(ctx, target, within, line)
	if err != nil {
		return err
	}
	n := len([]rune(e.Value))
	if n > maxClear {
		return fmt.Errorf("clear: the field holds %d characters; %d can be deleted", n, maxClear)
	}
	if n == 0 {
		return nil
	}
	keys := []phone.Key{phone.End}
	for range n {
		keys = append(keys, phone.Delete)
	}
	return h.Phone.Press(ctx, keys...)
}

func (h *Hands) hideKeyboard(ctx context.Context) error {
	if h.Keyboard == nil {
		return nil
	}
	up, err := h.Keyboard.KeyboardShown(ctx)
	if err != nil || !up {
		return err
	}
	return h.Phone.Press(ctx, phone.Back)
}

// swipe moves a finger over the middle half of the screen, or of an element.
func (h *Hands) swipe(ctx context.Context, direction, on string, within time.Duration, line string) error {
	area := uitree.Rect{Right: h.Facts.Width, Bottom: h.Facts.Height}
	if on != "" {
		e, err := h.find(ctx, on, "", within, line)
		if err != nil {
			return err
		}
		area = e.Bounds
	}
	x, y := area.Center()
	dx, dy := (area.Right-area.Left)/4, (area.Bottom-area.Top)/4
	switch direction {
	case "up":
		return h.Phone.Swipe(ctx, x, y+dy, x, y-dy, 300*time.Millisecond)
	case "down":
		return h.Phone.Swipe(ctx, x, y-dy, x, y+dy, 300*time.Millisecond)
	case "left":
		return h.Phone.Swipe(ctx, x+dx, y, x-dx, y, 300*time.Millisecond)
	case "right":
		return h.Phone.Swipe(ctx, x-dx, y, x+dx, y, 300*time.Millisecond)
	}
	return fmt.Errorf("swipe: the direction is %q; it can be up, down, left or right", direction)
}

// reading is what a person reads on an element; of a group, on all that lies in it.
func reading(e *uitree.Element) string {
	for _, s := range []string{e.Value, e.Text, e.Label} {
		if s != "" {
			return s
		}
	}
	var parts []string
	for _, c := range e.Children {
		if s := reading(c); s != "" {
			parts = append(parts, s)
		}
	}
	return strings.Join(parts, "\n")
}

// onScreen says in a line what there was instead.
func onScreen(s *uitree.Screen) string {
	if s == nil {
		return "a screen that moved all the time and could not be read"
	}
	var seen []string
	for _, e := range s.All() {
		name := ""
		if e.ID != "" {
			name = "#" + e.ID
		}
		if t := e.Text; t != "" {
			if len(t) > 40 {
				t = t[:40] + "…"
			}
			name = strings.TrimSpace(name + fmt.Sprintf(" %q", t))
		}
		if name != "" {
			seen = append(seen, name)
		}
	}
	if len(seen) == 0 {
		return "an empty screen"
	}
	more := ""
	if len(seen) > 12 {
		more = fmt.Sprintf(" and %d more", len(seen)-12)
		seen = seen[:12]
	}
	return "no such element among: " + strings.Join(seen, ", ") + more
}

func wire(e *uitree.Element) any {
	if e == nil {
		return nil
	}
	x, y := e.Bounds.Center()
	return map[string]any{"kind": e.Kind, "id": e.ID, "text": e.Text, "label": e.Label, "value": e.Value, "enabled": e.Enabled, "checked": e.Checked,
		"focused": e.Focused, "selected": e.Selected, "x": x, "y": y,
		"bounds": map[string]any{"left": e.Bounds.Left, "top": e.Bounds.Top, "right": e.Bounds.Right, "bottom": e.Bounds.Bottom}}
}

func asText(v any) string { s, _ := v.(string); return s }

func sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
