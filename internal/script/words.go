package script

// What the words of a script do to a phone, with all the waiting built in.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
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
	Settings phone.Settings // nil: it has none that can be changed
	// Permissions answers for the system's dialogs; nil: it has none.
	Permissions phone.Permissions
	App         phone.App
	Facts       devices.Facts
	Data        *testpkg.Package // for data files
	Notes       Notes
	Calls       func(line, element string) // is told of each call before it is done: the script's line, and the locator it has

	hasty    bool            // the script does not wait for the screen to come to rest
	restless *phone.Restless // how the last look ended, where the screen moved all the time
	latest   *uitree.Screen  // the newest that could be read
	latestAt time.Time
	trusted  time.Duration // how long the newest is taken for what is there now; 0: something was done since
	turned   bool          // the screen lies the other way than it does by nature
	set      bool          // a setting was changed
}

// Restore puts back what the script has changed of the device's settings.
func (h *Hands) Restore(ctx context.Context) error {
	h.hasty, h.trusted, h.latest, h.restless = false, 0, nil, nil
	if !h.set {
		return nil
	}
	h.set, h.turned = false, false
	return h.Settings.Restore(ctx)
}

const (
	patience    = 10 * time.Second
	maxPatience = 10 * time.Minute
	pause       = 100 * time.Millisecond // between two looks at a quick phone
	maxClear    = 500                    // characters that clear deletes
	maxNote     = 64 << 10               // bytes of a line in the timeline
)

// Do does one call.
func (h *Hands) Do(ctx context.Context, c Call) (any, error) {
	text := func(name string) string { s, _ := c.Args[name].(string); return s }
	if h.Calls != nil {
		h.Calls(c.Line, text("locator")+text("target")+text("on"))
	}
	seconds := func(name string, otherwise time.Duration) time.Duration {
		if s, ok := c.Args[name].(float64); ok {
			return max(min(time.Duration(s*float64(time.Second)), maxPatience), 0)
		}
		return otherwise
	}
	within := seconds("within", patience)
	if !onlyLooks[c.Word] {
		defer h.touched()
	}
	switch c.Word {
	case "launch":
		app := h.App
		if given, ok := c.Args["args"]; ok {
			args, ok := given.(map[string]any)
			if !ok {
				return nil, errors.New("launch: args must be a dict, such as {\"shore\": \"gull-ledge\"}")
			}
			app.Args = map[string]string{}
			for n, v := range args {
				app.Args[n] = fmt.Sprint(v)
			}
		}
		return nil, h.Phone.Launch(ctx, app)
	case "background":
		if err := h.Phone.Press(ctx, phone.Home); err != nil {
			return nil, err
		}
		if err := phone.Pause(ctx, seconds("seconds", time.Second)); err != nil {
			return nil, err
		}
		return nil, h.Phone.Launch(ctx, h.App)
	case "press":
		key := phone.Key(text("key"))
		if !slices.Contains(phone.Keys, key) {
			return nil, fmt.Errorf("press: there is no key %q; the keys are %s", key, keyList())
		}
		return nil, h.Phone.Press(ctx, key)
	case "rotate", "dark":
		return nil, h.change(ctx, c)
	case "settle":
		on, given := c.Args["on"].(bool)
		h.hasty = given && !on
		return nil, nil
	case "allow", "deny":
		if h.Permissions == nil {
			return nil, fmt.Errorf("%s: this device knows no permissions", c.Word)
		}
		err := phone.Decide(ctx, h.Permissions, h.App.ID, text("permission"), c.Word == "allow", within)
		var refused *phone.Refused
		if errors.As(err, &refused) {
			return nil, &Failure{Expected: fmt.Sprintf("to %s within %s", refused.Doing, within), Actual: refused.Why + "; " + refused.Remedy, Line: c.Line}
		}
		return nil, err
	case "ask_permissions":
		if h.Permissions == nil {
			return nil, fmt.Errorf("%s: this device knows no permissions", c.Word)
		}
		return nil, h.Permissions.AsNew(ctx, h.App.ID)
	case "wait_until":
		return nil, &Failure{Expected: text("expected"), Actual: text("actual"), Line: c.Line}
	case "data.text":
		return h.Data.Text(text("file"))
	case "data.json":
		return h.Data.JSON(text("file"))
	case "data.rows":
		rows, err := h.Data.Rows(text("file"))
		out := make([]any, len(rows))
		for i := range rows {
			out[i] = rows[i]
		}
		return out, err
	case "scroll_to":
		e, err := h.scrollTo(ctx, c)
		return wire(e), err
	case "long_press":
		return nil, h.touch(ctx, "long_press", c.Args["target"], within, c.Line, func(x, y int) error {
			return h.Phone.Swipe(ctx, x, y, x, y, seconds("seconds", time.Second))
		})
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
		return nil, h.touch(ctx, "tap", c.Args["target"], within, c.Line, func(x, y int) error { return h.Phone.Tap(ctx, x, y) })
	case "type":
		return nil, h.enter(ctx, c.Args["target"], text("text"), within, c.Line)
	case "clear":
		return nil, h.clear(ctx, c.Args["target"], within, c.Line)
	case "swipe":
		return nil, h.swipe(ctx, text("direction"), text("on"), within, c.Line)
	}
	return nil, fmt.Errorf("a phone has no %s", c.Word)
}

// onlyLooks are the words that do nothing to the device.
var onlyLooks = map[string]bool{"find": true, "all": true, "sees": true, "wait_for": true, "wait_gone": true, "wait_until": true, "read": true, "scroll_to": true, "check": true,
	"log": true, "step": true, "data.text": true, "data.json": true, "data.rows": true, "settle": true}

// touched says that something was done on the device: what was seen may not be so any more.
func (h *Hands) touched() { h.trusted = 0 }

// maxTrust is how long a tree is taken for true at most.
const maxTrust = 500 * time.Millisecond

// hastyLook is how long a look may take when the script does not wait for the screen to come to rest; it is then looked at as it was last.
const hastyLook = 4 * time.Second

// tree reads the screen, unless the one at hand is so fresh that reading it took longer than has passed since, and nothing was done on the device. One that does not come to rest is nil, unless the script does not wait for that: then it is the newest that could be read.
func (h *Hands) tree(ctx context.Context) (*uitree.Screen, error) {
	if h.latest != nil && time.Since(h.latestAt) < h.trusted {
		return h.latest, nil
	}
	start := time.Now()
	look, cancel := ctx, func() {}
	if h.hasty && h.latest != nil {
		look, cancel = context.WithTimeout(ctx, hastyLook)
	}
	defer cancel()
	s, err := h.Phone.Tree(look)
	h.restless = nil
	var refused *phone.Refused
	switch {
	case err == nil:
		h.latest, h.latestAt = s, time.Now()
		h.trusted = min(h.latestAt.Sub(start), maxTrust)
		return s, nil
	case h.hasty && h.latest != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return h.latest, nil
	case errors.As(err, &h.restless):
		if h.restless.Last != nil {
			h.latest, h.latestAt = h.restless.Last, h.restless.Seen
		}
		if h.hasty {
			return h.latest, nil
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
		h.touched() // look anew
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
		h.touched()
		if err := phone.Pause(ctx, pause); err != nil {
			return err
		}
	}
}

// aim gives the element that a target means, and its middle: of a locator, or of an element that was found before.
func (h *Hands) aim(ctx context.Context, word string, target any, within time.Duration, line string) (e *uitree.Element, x, y int, err error) {
	switch target := target.(type) {
	case map[string]any:
		fx, ok1 := target["x"].(float64)
		fy, ok2 := target["y"].(float64)
		if !ok1 || !ok2 {
			return nil, 0, 0, fmt.Errorf("%s: got a dict, want a locator or an element", word)
		}
		e := &uitree.Element{Kind: asText(target["kind"]), Text: asText(target["text"]), Value: asText(target["value"])}
		return e, int(fx), int(fy), nil
	case string:
		lacks := func(e *uitree.Element) string {
			switch {
			case e.Bounds.Empty():
				return "nothing of it can be seen"
			case !e.Enabled:
				return "it is disabled"
			}
			return ""
		}
		e, err := h.await(ctx, target, within, line, lacks, "")
		if old := h.onLatest(target, lacks, line); err != nil && old != nil {
			e, err = old, nil
		}
		if err != nil {
			return nil, 0, 0, err
		}
		x, y := e.Bounds.Center()
		return e, x, y, nil
	}
	return nil, 0, 0, fmt.Errorf("%s: want a locator or an element", word)
}

// onLatest finds an element to be touched on the newest screen that could be read, when the one now does not come to rest; and says how old that is.
func (h *Hands) onLatest(locator string, lacks func(*uitree.Element) string, line string) *uitree.Element {
	if h.restless == nil || h.latest == nil {
		return nil
	}
	es, err := h.latest.Find(locator)
	if err != nil {
		return nil
	}
	for _, e := range es {
		if lacks(e) == "" {
			h.Notes.Log(fmt.Sprintf("the screen has not come to rest for %d s: %s is touched where it was %d s ago", int(h.restless.For.Seconds()), locator, int(time.Since(h.latestAt).Seconds())), line)
			return e
		}
	}
	return nil
}

func (h *Hands) touch(ctx context.Context, word string, target any, within time.Duration, line string, at func(x, y int) error) error {
	_, x, y, err := h.aim(ctx, word, target, within, line)
	if err != nil {
		return err
	}
	return at(x, y)
}

func (h *Hands) enter(ctx context.Context, target any, text string, within time.Duration, line string) error {
	if err := h.touch(ctx, "type", target, within, line, func(x, y int) error { return h.Phone.Tap(ctx, x, y) }); err != nil {
		return err
	}
	return h.Phone.Type(ctx, text)
}

func (h *Hands) clear(ctx context.Context, target any, within time.Duration, line string) error {
	e, x, y, err := h.aim(ctx, "clear", target, within, line)
	if err != nil {
		return err
	}
	n := len([]rune(e.Value))
	if n > maxClear {
		return fmt.Errorf("clear: the field holds %d characters; %d can be deleted", n, maxClear)
	}
	if err := h.Phone.Tap(ctx, x, y); err != nil || n == 0 {
		return err
	}
	keys := []phone.Key{phone.End}
	for range n {
		keys = append(keys, phone.Delete)
	}
	return h.Phone.Press(ctx, keys...)
}

// change changes a setting of the device, until Restore.
func (h *Hands) change(ctx context.Context, c Call) error {
	if h.Settings == nil {
		return fmt.Errorf("%s: this device has no settings that can be changed", c.Word)
	}
	h.set = true
	if c.Word == "dark" {
		on, given := c.Args["on"].(bool)
		return h.Settings.Dark(ctx, on || !given)
	}
	to := asText(c.Args["to"])
	if to != "portrait" && to != "landscape" {
		return fmt.Errorf("rotate: %q is no way to hold a device; portrait and landscape are", to)
	}
	if err := h.Settings.Rotate(ctx, to == "landscape"); err != nil {
		return err
	}
	h.turned = (to == "landscape") != (h.Facts.Width > h.Facts.Height)
	return nil
}

func keyList() string {
	var out []string
	for _, k := range phone.Keys {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
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
			h.touched()
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
	defer h.touched()
	area := uitree.Rect{Right: h.Facts.Width, Bottom: h.Facts.Height}
	if h.turned {
		area = uitree.Rect{Right: h.Facts.Height, Bottom: h.Facts.Width}
	}
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
