package script

// Looking: what a locator means on the screen, waiting for it, and saying what was there instead.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// hastyLook is how long a look may take when the script does not wait for the screen to come to rest; it is then looked at as it was last.
const hastyLook = 4 * time.Second

// tree reads the screen. One that does not come to rest is nil, unless the script does not wait for that: then it is the newest that
// could be read.
func (h *Hands) tree(ctx context.Context) (*uitree.Screen, error) {
	look, cancel := ctx, func() {}
	if h.hasty && h.eyes.Latest != nil {
		look, cancel = context.WithTimeout(ctx, hastyLook)
	}
	defer cancel()
	s, err := h.eyes.Tree(look, h.Phone)
	h.restless = nil
	var refused *phone.Refused
	switch {
	case err == nil:
		return s, nil
	case h.hasty && h.eyes.Latest != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return h.eyes.Latest, nil
	case errors.As(err, &h.restless):
		if h.restless.Last != nil {
			h.eyes.Latest, h.eyes.At = h.restless.Last, h.restless.Seen
		}
		if h.hasty {
			return h.eyes.Latest, nil
		}
		return nil, nil
	case errors.As(err, &refused):
		return nil, nil
	}
	return nil, err
}

// look finds what a locator means on the screen as it is now. A screen that can't be read
// because it moves counts as one without the element.
func (h *Hands) look(ctx context.Context, locator string) ([]*uitree.Element, *uitree.Screen, error) {
	if err := uitree.CheckLocator(locator); err != nil {
		return nil, nil, err
	}
	s, err := h.tree(ctx)
	if s == nil || err != nil {
		return nil, nil, err
	}
	es, err := s.Find(locator)
	return es, s, err
}

// leastLook is how long one look may take at least: a slow device needs seconds for its tree, and says after 12 s that its screen does not come to rest.
const leastLook = 14 * time.Second

// glance is a look that ends when the time is over, as a screen that could not be read.
func (h *Hands) glance(ctx context.Context, locator string, left time.Duration) ([]*uitree.Element, *uitree.Screen, error) {
	short, cancel := context.WithTimeout(ctx, max(left, leastLook))
	defer cancel()
	es, s, err := h.look(short, locator)
	if err != nil && short.Err() != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return nil, nil, nil
	}
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
		es, s, err := h.glance(ctx, locator, within-time.Since(start))
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
			return nil, &Failure{Expected: expected, Actual: h.onScreen(s), Line: line}
		}
		h.eyes.Touched() // look anew
		if err := phone.Pause(ctx, pause); err != nil {
			return nil, err
		}
	}
}

func (h *Hands) waitGone(ctx context.Context, locator string, within time.Duration, line string) error {
	for start := time.Now(); ; {
		es, s, err := h.glance(ctx, locator, within-time.Since(start))
		if err != nil {
			return err
		}
		if len(es) == 0 && s != nil {
			return nil
		}
		if time.Since(start) >= within {
			actual := "it still on the screen"
			if s == nil {
				actual = h.onScreen(nil)
			}
			return &Failure{Expected: fmt.Sprintf("%s to go away within %s", locator, within), Actual: actual, Line: line}
		}
		h.eyes.Touched()
		if err := phone.Pause(ctx, pause); err != nil {
			return err
		}
	}
}

// onLatest finds an element to be touched on the newest screen that could be read, when the one now does not come to rest; and says how old that is.
func (h *Hands) onLatest(locator string, lacks func(*uitree.Element) string, line string) *uitree.Element {
	if h.restless == nil || h.eyes.Latest == nil {
		return nil
	}
	es, err := h.eyes.Latest.Find(locator)
	if err != nil {
		return nil
	}
	for _, e := range es {
		if lacks(e) == "" {
			h.Notes.Log(fmt.Sprintf("the screen has not come to rest for %d s: %s is touched where it was %d s ago", int(h.restless.For.Seconds()), locator, int(time.Since(h.eyes.At).Seconds())), line)
			return e
		}
	}
	return nil
}

// scrollTo swipes until an element is on the screen, or the screen does not change any more.
func (h *Hands) scrollTo(ctx context.Context, c Call) (*uitree.Element, error) {
	locator, look := asText(c.Args["locator"]), asText(c.Args["look"])
	finger := map[string]string{"": "up", "down": "up", "up": "down", "right": "left", "left": "right"}[look]
	if finger == "" {
		return nil, fmt.Errorf("scroll_to: one can look down, up, left or right, not %q", look)
	}
	most := 20
	if n, ok := c.Args["most"].(float64); ok {
		most = int(n)
	}
	before := ""
	for swipes := 0; ; swipes++ {
		// The screen may still be on its way; an element that is coming needs no swipe.
		es, s, err := h.look(ctx, locator)
		for end := time.Now().Add(time.Second); err == nil && len(es) == 0 && (s == nil || swipes == 0) && time.Now().Before(end); {
			h.eyes.Touched()
			if err = phone.Pause(ctx, pause); err == nil {
				es, s, err = h.look(ctx, locator)
			}
		}
		if err != nil {
			return nil, err
		}
		for _, e := range es {
			if !e.Bounds.Empty() {
				return e, nil
			}
		}
		now := ""
		if s != nil {
			now = s.XML()
		}
		if swipes > 0 && now == before || swipes >= most {
			return nil, &Failure{Expected: fmt.Sprintf("%s after %d swipes", locator, swipes), Actual: h.onScreen(s), Line: c.Line}
		}
		before = now
		if err := h.swipe(ctx, finger, "", patience, c.Line); err != nil {
			return nil, err
		}
	}
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
func (h *Hands) onScreen(s *uitree.Screen) string {
	if s == nil && h.restless != nil {
		return fmt.Sprintf("a screen that has not come to rest for %d s and could not be read", int(h.restless.For.Seconds()))
	}
	if s == nil {
		return "a screen that could not be read"
	}
	var seen []string
	for _, e := range s.All() {
		name := ""
		if e.ID != "" {
			name = "#" + e.ID
		}
		if t := e.Text; t != "" {
			name = strings.TrimSpace(name + fmt.Sprintf(" %q", foreign.Name(t, 40)))
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
