package w3c

// Actions (section 17): what input sources are asked to do, tick by tick, read and checked. On a screen they are strokes (strokes.go); in a page, events of a browser.

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// Source is an input source (section 17.1).
type Source struct {
	ID      string
	Kind    string // key, pointer, wheel, none
	Pointer string // mouse, pen or touch
}

// Action is what a source does in a tick.
type Action struct {
	*Source
	Kind      string // pause, keyDown, keyUp, pointerDown, pointerUp, pointerMove, pointerCancel or scroll
	Took      time.Duration
	HasTook   bool // one was given
	Key       string
	Button    int
	X, Y      float64 // of a move or scroll
	DX, DY    float64 // by how much is scrolled
	Origin    string  // viewport, pointer, or an element's reference
	OnElement bool    // the origin is an element
	Pen       Pen
}

// Pen is how a pen or finger lies on the surface (the standard's pointer properties; nil: as it does without).
type Pen struct{ Width, Height, Pressure, TangentialPressure, TiltX, TiltY, Twist *float64 }

// Tick is what is done at once.
type Tick []Action

// Takes is how long a tick lasts: as its longest action.
func (t Tick) Takes() (d time.Duration) {
	for _, a := range t {
		d = max(d, a.Took)
	}
	return d
}

// MoveTakes is how long a move of the tick lasts.
func (t Tick) MoveTakes(a Action) time.Duration {
	if a.HasTook {
		return a.Took
	}
	return t.Takes()
}

// Sources are the input sources of a session.
type Sources struct{ all map[string]*Source }

const (
	maxTicks   = 10_000
	maxSources = 20
	maxTook    = 10 * time.Minute
)

// Read reads a Perform Actions request and turns it, from one list a source, into one a tick ("extract an action sequence").
func (in *Sources) Read(body map[string]any) ([]Tick, *Error) {
	list, ok := body["actions"].([]any)
	if !ok {
		return nil, Fail(InvalidArgument, `the request has no list "actions"`)
	}
	if len(list) > maxSources {
		return nil, Fail(InvalidArgument, "there are %d input sources, more than the %d that a session may have", len(list), maxSources)
	}
	var ticks []Tick
	for _, one := range list {
		src, items, err := in.source(one)
		if err != nil {
			return nil, err
		}
		for i, item := range items {
			a, err := readAction(src, item)
			if err != nil {
				return nil, err
			}
			for len(ticks) <= i {
				ticks = append(ticks, nil)
			}
			ticks[i] = append(ticks[i], a)
		}
	}
	took := time.Duration(0)
	for _, t := range ticks {
		if took += t.Takes(); took > maxTook {
			return nil, Fail(InvalidArgument, "the actions take longer than %s", maxTook)
		}
	}
	return ticks, nil
}

// source reads which source it is, and what it is to do.
func (in *Sources) source(one any) (*Source, []any, *Error) {
	m, ok := one.(map[string]any)
	if !ok {
		return nil, nil, Fail(InvalidArgument, "each of actions must be an object")
	}
	kind, _ := m["type"].(string)
	id, hasID := m["id"].(string)
	items, hasItems := m["actions"].([]any)
	switch {
	case !slices.Contains([]string{"key", "pointer", "wheel", "none"}, kind):
		return nil, nil, Fail(InvalidArgument, "an input source's type must be key, pointer, wheel or none, not %v", m["type"])
	case !hasID:
		return nil, nil, Fail(InvalidArgument, "an input source needs an id")
	case !hasItems:
		return nil, nil, Fail(InvalidArgument, "the input source %q has no list of actions", id)
	case len(items) > maxTicks:
		return nil, nil, Fail(InvalidArgument, "the input source %q has %d actions, more than the %d that are taken", id, len(items), maxTicks)
	}
	pointer := ""
	if kind == "pointer" {
		pointer = "mouse"
		if v, given := m["parameters"]; given {
			p, ok := v.(map[string]any)
			if !ok {
				return nil, nil, Fail(InvalidArgument, "a pointer's parameters must be an object, not %v", v)
			}
			if t, given := p["pointerType"]; given {
				if t != "touch" && t != "pen" && t != "mouse" {
					return nil, nil, Fail(InvalidArgument, "a pointerType must be mouse, pen or touch, not %v", t)
				}
				pointer = t.(string)
			}
		}
	}
	src := in.all[id]
	switch {
	case src == nil && len(in.all) >= maxSources:
		return nil, nil, Fail(InvalidArgument, "the session has %d input sources already; release the actions first", len(in.all))
	case src == nil:
		src = &Source{ID: id, Kind: kind, Pointer: pointer}
		if in.all == nil {
			in.all = map[string]*Source{}
		}
		in.all[id] = src
	case src.Kind != kind:
		return nil, nil, Fail(InvalidArgument, "the input source %q is of type %s, not %s", id, src.Kind, kind)
	case src.Pointer != pointer:
		return nil, nil, Fail(InvalidArgument, "the input source %q is a %s, not a %s", id, src.Pointer, pointer)
	}
	return src, items, nil
}

var kinds = map[string][]string{"none": {"pause"}, "key": {"pause", "keyDown", "keyUp"}, "pointer": {"pause", "pointerDown", "pointerUp", "pointerMove", "pointerCancel"}, "wheel": {"pause", "scroll"}}

func readAction(src *Source, item any) (Action, *Error) {
	m, ok := item.(map[string]any)
	if !ok {
		return Action{}, Fail(InvalidArgument, "each action must be an object")
	}
	a := Action{Source: src}
	a.Kind, _ = m["type"].(string)
	if !slices.Contains(kinds[src.Kind], a.Kind) {
		return a, Fail(InvalidArgument, "an input source of type %s can't do %v", src.Kind, m["type"])
	}
	if d, given := m["duration"]; given && slices.Contains([]string{"pause", "pointerMove", "scroll"}, a.Kind) {
		n, ok := whole(d)
		if !ok || n < 0 {
			return a, Fail(InvalidArgument, "a duration must be a whole number of milliseconds, not %v", d)
		}
		if n > maxTook.Milliseconds() {
			return a, Fail(InvalidArgument, "a duration of %d ms is longer than %s", n, maxTook)
		}
		a.Took, a.HasTook = time.Duration(n)*time.Millisecond, true
	}
	switch a.Kind {
	case "keyDown", "keyUp":
		v, _ := m["value"].(string)
		if len([]rune(v)) != 1 {
			return a, Fail(InvalidArgument, "a key's value must be one character, not %q", v)
		}
		a.Key = v
	case "pointerDown", "pointerUp":
		b, ok := whole(m["button"])
		if !ok || b < 0 || b > maxButton {
			return a, Fail(InvalidArgument, "a button must be a whole number from 0 to %d, not %v", maxButton, m["button"])
		}
		a.Button = int(b)
	case "scroll":
		for name, to := range map[string]*float64{"deltaX": &a.DX, "deltaY": &a.DY} {
			n, ok := whole(m[name])
			if !ok || math.Abs(float64(n)) > maxAway {
				return a, Fail(InvalidArgument, "%s must be a whole number of pixels, not %v", name, m[name])
			}
			*to = float64(n)
		}
	}
	if a.Kind == "pointerMove" || a.Kind == "scroll" {
		if err := a.readPlace(m); err != nil {
			return a, err
		}
	}
	if a.Kind == "pointerMove" || a.Kind == "pointerDown" {
		return a, a.Pen.read(m)
	}
	return a, nil
}

const (
	maxButton = 255
	maxAway   = 1e6 // pixels
)

// readPlace reads where a move or a scroll goes.
func (a *Action) readPlace(m map[string]any) *Error {
	for name, to := range map[string]*float64{"x": &a.X, "y": &a.Y} {
		f, ok := m[name].(float64)
		if !ok || !(math.Abs(f) <= maxAway) {
			return Fail(InvalidArgument, "%s must be a number of pixels, not %v", name, m[name])
		}
		*to = f
	}
	switch origin := m["origin"].(type) {
	case nil:
		a.Origin = "viewport"
	case string:
		if origin != "viewport" && (origin != "pointer" || a.Kind == "scroll") {
			return Fail(InvalidArgument, "an origin must be viewport, pointer (of a move) or an element, not %q", origin)
		}
		a.Origin = origin
	case map[string]any:
		id, ok := origin[ElementKey].(string)
		if !ok {
			return Fail(InvalidArgument, "an origin must be viewport, pointer or an element")
		}
		a.Origin, a.OnElement = id, true
	default:
		return Fail(InvalidArgument, "an origin must be viewport, pointer or an element, not %s", fmt.Sprint(origin))
	}
	return nil
}

// read reads the properties of a pointer ("process a pointer action").
func (p *Pen) read(m map[string]any) *Error {
	for _, x := range []struct {
		name     string
		to       **float64
		from, up float64
		whole    bool
	}{{"width", &p.Width, 0, maxAway, true}, {"height", &p.Height, 0, maxAway, true}, {"pressure", &p.Pressure, 0, 1, false}, {"tangentialPressure", &p.TangentialPressure, -1, 1, false},
		{"tiltX", &p.TiltX, -90, 90, true}, {"tiltY", &p.TiltY, -90, 90, true}, {"twist", &p.Twist, 0, 359, true}} {
		v, given := m[x.name]
		if !given {
			continue
		}
		f, ok := v.(float64)
		if !ok || !(f >= x.from && f <= x.up) || x.whole && f != math.Trunc(f) {
			return Fail(InvalidArgument, "%s must be a number from %v to %v, not %v", x.name, x.from, x.up, v)
		}
		*x.to = &f
	}
	return nil
}
