package script

// What the words of a script do to a phone, with all the waiting built in.

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/uitree"
	"tessellant/internal/guard"
	"tessellant/internal/phone"
	"tessellant/internal/webpage"
)

// Notes takes down what a script says by the way.
type Notes interface {
	// Step keeps a screenshot. Seen is the tree of the screen as it is now, nil where it is not known. Like: the picture is to be like its reference, or the error is a *Failure.
	Step(ctx context.Context, name, line string, seen *uitree.Screen, like bool) error
	Check(about, expected, actual, line string, held bool)
	Log(text, line string)
}

// Hands does a script's calls on a phone.
type Hands struct {
	Phone    phone.Phone
	Keyboard phone.Keyboard // nil: unknown
	Settings phone.Settings // nil: it has none that can be changed
	// Conditioner sets it as a test wants; nil: it can't be set.
	Conditioner phone.Conditioner
	// Permissions answers for the system's dialogs; nil: it has none.
	Permissions phone.Permissions
	// Gauge reads a gauge now; nil: they are not read.
	Gauge func(ctx context.Context, name string) (float64, error)
	App   phone.App
	Facts devices.Facts
	Data  *testpkg.Package // for data files
	Notes Notes
	// Web finds web views, of the apps that Reaches gives no error for; nil: they can't be spoken to. See is told of each command that is done in one.
	Web     phone.Webbed
	Reaches func(app string) error
	See     func(phone.Command)
	// Console is told what a page's console says; nil: nobody is.
	Console func(level, text string)
	Turns   Turns                      // are asked before each call; nil: it is always the script's turn
	Calls   func(line, element string) // is told of each call before it is done: the script's line, and the locator it has

	hasty    bool            // the script does not wait for the screen to come to rest
	restless *phone.Restless // how the last look ended, where the screen moved all the time
	eyes     phone.Looker
	pages    map[string]*webpage.Page
	turned   bool // the screen lies the other way than it does by nature
	set      bool // a setting was changed
}

// Turns say when a call may be done, in words of what it is; changed: people may have changed the screen since the one before.
type Turns interface {
	Enter(ctx context.Context, what string) (leave func(), changed bool, err error)
	// Await waits for a person, where one watches.
	Await(ctx context.Context, why, line string) error
}

// On gives hands that work on a phone.
func On(u *phone.Unit) *Hands {
	return &Hands{Phone: u, Keyboard: u.Keyboard, Settings: u.Settings, Conditioner: u.Conditioner, Permissions: u.Permissions, Web: u.Webbed}
}

// Guarded does calls as Do does; one that panics fails.
func (h *Hands) Guarded(log *slog.Logger) func(context.Context, Call) (any, error) {
	return func(ctx context.Context, c Call) (v any, err error) {
		err = guard.Do(log, guard.Script, func() error {
			v, err = h.Do(ctx, c)
			return err
		})
		return v, err
	}
}

// Restore puts back what the script has changed of the device's settings.
func (h *Hands) Restore(ctx context.Context) error {
	h.hasty, h.restless, h.eyes = false, nil, phone.Looker{}
	h.ClosePages()
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
	glanceLasts = 3 * time.Second        // a look is what a step shows, when nothing was done since
)

// truth is an argument that is True or False.
func (c Call) truth(name string, otherwise bool) (bool, error) {
	v, given := c.Args[name]
	if !given {
		return otherwise, nil
	}
	b, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("%s: %s must be True or False", c.Word, name)
	}
	return b, nil
}

// Do does one call.
func (h *Hands) Do(ctx context.Context, c Call) (any, error) {
	text := func(name string) string { s, _ := c.Args[name].(string); return s }
	if h.Turns != nil && c.Word != "pause" {
		leave, changed, err := h.Turns.Enter(ctx, strings.TrimSpace(c.Line+" "+c.Word+" "+text("locator")+text("target")+text("on")))
		if err != nil {
			return nil, err
		}
		defer leave()
		if changed {
			h.eyes.Touched()
		}
	}
	if h.Calls != nil {
		h.Calls(c.Line, text("locator")+text("target")+text("on"))
	}
	seconds := func(name string, otherwise time.Duration) time.Duration {
		if s, ok := c.Args[name].(float64); ok {
			return max(min(time.Duration(s*float64(time.Second)), maxPatience), 0)
		}
		return otherwise
	}
	for _, name := range []string{"within", "seconds"} {
		if v, given := c.Args[name]; given {
			if _, is := v.(float64); !is {
				return nil, fmt.Errorf("%s: %s must be a number of seconds, such as 2.5", c.Word, name)
			}
		}
	}
	within := seconds("within", patience)
	if !onlyLooks[c.Word] {
		defer h.eyes.Touched()
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
	case "conditions":
		return nil, h.condition(ctx, asText(c.Args["to"]))
	case "gauge":
		if h.Gauge == nil {
			return nil, errors.New("gauge: the gauges are not read in this run: leave gauges:off out of its recordings, and choose a device that lets them be read")
		}
		return h.Gauge(ctx, text("name"))
	case "network":
		return nil, h.condition(ctx, conditions.Network+":"+text("to"))
	case "settle":
		on, err := c.truth("on", true)
		h.hasty = err == nil && !on
		return nil, err
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
	case "web":
		return h.web(ctx, text("url"), within, c.Line)
	case "pause":
		if h.Turns == nil {
			h.Notes.Log("pause: "+text("text"), c.Line)
			return nil, nil
		}
		return nil, h.Turns.Await(ctx, text("text"), c.Line)
	case "step":
		like, err := c.truth("like_reference", false)
		if err != nil {
			return nil, err
		}
		return nil, h.Notes.Step(ctx, text("name"), c.Line, h.eyes.Untouched(glanceLasts), like)
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
	if what, is := strings.CutPrefix(c.Word, "page."); is {
		return h.onPage(ctx, what, c, within)
	}
	return nil, fmt.Errorf("a phone has no %s", c.Word)
}

// onlyLooks are the words that do nothing to the device.
var onlyLooks = map[string]bool{"find": true, "all": true, "sees": true, "wait_for": true, "wait_gone": true, "wait_until": true, "read": true, "scroll_to": true, "check": true,
	"log": true, "step": true, "data.text": true, "data.json": true, "data.rows": true, "settle": true, "gauge": true, "web": true}

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
		on, err := c.truth("on", true)
		if err != nil {
			return err
		}
		return h.Settings.Dark(ctx, on)
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

// condition sets the device, until Restore.
func (h *Hands) condition(ctx context.Context, to string) error {
	set, err := conditions.Parse(to)
	if err != nil {
		return fmt.Errorf("conditions: %w", err)
	}
	if h.Conditioner == nil || h.Settings == nil {
		return errors.New("conditions: this device can't be set")
	}
	h.set = true
	if err := h.Conditioner.Condition(ctx, h.App.ID, set, false); err != nil {
		return err
	}
	if o, ok := set[conditions.Orientation]; ok {
		h.turned = (o == "landscape") != (h.Facts.Width > h.Facts.Height)
	}
	return nil
}

func keyList() string {
	var out []string
	for _, k := range phone.Keys {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
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
	defer h.eyes.Touched()
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
