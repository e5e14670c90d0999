package w3c

// Actions (section 17): what fingers and keys are asked to do, tick by tick, turned into strokes of
// fingers and presses of keys with their times.

import (
	"fmt"
	"math"
	"slices"
	"time"

	"tessellant/internal/core/uitree"
)

// Contact is where a finger is at a moment.
type Contact struct {
	X, Y int
	At   time.Duration // since the actions began
}

// Stroke is the way of one finger, from where it touches to where it lifts. Between two contacts it moves in a straight line.
type Stroke []Contact

// Act is one thing to be done: strokes whose times overlap, or a key.
type Act struct {
	At      time.Duration
	Strokes []Stroke
	Key     string // a character or a code point of the keys' area; "": strokes
}

// Ends is when the act is over.
func (a Act) Ends() time.Duration {
	end := a.At
	for _, s := range a.Strokes {
		end = max(end, s[len(s)-1].At)
	}
	return end
}

// Input is what a session remembers of its input sources between two calls (section 17.1).
type Input struct {
	sources map[string]*source
}

type source struct {
	kind    string // key, pointer, none
	x, y    int
	down    bool
	stroke  Stroke
	pressed []string // keys
}

const (
	maxTicks   = 10_000
	maxSources = 20
	maxTook    = 10 * time.Minute
)

// Rects gives where an element is, for moves that begin at one.
type Rects func(element string) (uitree.Rect, *Error)

type step struct {
	source   *source
	kind     string // of the item: pause, keyDown, …
	took     time.Duration
	hasTook  bool
	key      string
	x, y     int
	origin   string // viewport, pointer, or an element's reference
	isMarked bool   // the origin is an element
}

// Perform says what a Perform Actions request asks for, on a screen of this size. What it leaves pressed is
// remembered, and the act of a finger that stays down comes with the call that lifts it.
func (in *Input) Perform(body map[string]any, screen uitree.Rect, rects Rects) (acts []Act, took time.Duration, err *Error) {
	ticks, err := in.read(body)
	if err != nil {
		return nil, 0, err
	}
	var strokes []Stroke
	for _, tick := range ticks {
		length := time.Duration(0)
		for _, s := range tick {
			length = max(length, s.took)
		}
		if took+length > maxTook {
			return nil, 0, Fail(InvalidArgument, "the actions take longer than %s", maxTook)
		}
		for _, s := range tick {
			src := s.source
			switch s.kind {
			case "pointerMove":
				x, y, err := s.target(src, rects)
				if err != nil {
					return nil, 0, err
				}
				if x < screen.Left || y < screen.Top || x >= screen.Right || y >= screen.Bottom {
					return nil, 0, Fail(MoveTargetOutOfBounds, "%d,%d does not lie on the screen, which is %d wide and %d high", x, y, screen.Right, screen.Bottom)
				}
				d := s.took
				if !s.hasTook {
					d = length
				}
				if src.down {
					if last := src.stroke[len(src.stroke)-1]; last.At < took { // it stayed there until now
						src.stroke = append(src.stroke, Contact{last.X, last.Y, took})
					}
					src.stroke = append(src.stroke, Contact{x, y, took + d})
				}
				src.x, src.y = x, y
			case "pointerDown":
				if !src.down {
					src.down, src.stroke = true, Stroke{{src.x, src.y, took}}
				}
			case "pointerUp":
				if src.down {
					strokes = append(strokes, append(src.stroke, Contact{src.x, src.y, took}))
					src.down, src.stroke = false, nil
				}
			case "pointerCancel":
				src.down, src.stroke = false, nil
			case "keyDown":
				if !slices.Contains(src.pressed, s.key) {
					src.pressed = append(src.pressed, s.key)
				}
				acts = append(acts, Act{At: took, Key: s.key})
			case "keyUp":
				src.pressed = slices.DeleteFunc(src.pressed, func(k string) bool { return k == s.key })
			}
		}
		took += length
	}
	for _, src := range in.sources { // one that stays down goes on with the next call, whose clock begins at zero
		for i := range src.stroke {
			src.stroke[i].At -= took
		}
	}
	acts = append(acts, together(strokes)...)
	slices.SortStableFunc(acts, func(a, b Act) int { return int(a.At - b.At) })
	return acts, took, nil
}

// Release lets go of all that is pressed (section 17.6): the strokes that end with it.
func (in *Input) Release() []Act {
	var strokes []Stroke
	for _, src := range in.sources {
		if src.down {
			strokes = append(strokes, append(src.stroke, Contact{src.x, src.y, 0}))
		}
	}
	in.sources = nil
	return together(strokes)
}

// together makes acts of strokes: those whose times overlap are one.
func together(strokes []Stroke) (out []Act) {
	slices.SortStableFunc(strokes, func(a, b Stroke) int { return int(a[0].At - b[0].At) })
	for _, s := range strokes {
		if n := len(out); n > 0 && s[0].At < out[n-1].Ends() {
			out[n-1].Strokes = append(out[n-1].Strokes, s)
			continue
		}
		out = append(out, Act{At: s[0].At, Strokes: []Stroke{s}})
	}
	return out
}

func (s *step) target(src *source, rects Rects) (x, y int, err *Error) {
	switch {
	case s.isMarked:
		r, err := rects(s.origin)
		if err != nil {
			return 0, 0, err
		}
		x, y = r.Center()
	case s.origin == "pointer":
		x, y = src.x, src.y
	}
	return x + s.x, y + s.y, nil
}

// read validates the request and turns it, from one list a source, into one a tick ("extract an action sequence").
func (in *Input) read(body map[string]any) ([][]step, *Error) {
	list, ok := body["actions"].([]any)
	if !ok {
		return nil, Fail(InvalidArgument, `the request has no list "actions"`)
	}
	if len(list) > maxSources {
		return nil, Fail(InvalidArgument, "there are %d input sources, more than the %d that a session may have", len(list), maxSources)
	}
	if in.sources == nil {
		in.sources = map[string]*source{}
	}
	var ticks [][]step
	for _, one := range list {
		m, ok := one.(map[string]any)
		if !ok {
			return nil, Fail(InvalidArgument, "each of actions must be an object")
		}
		kind, _ := m["type"].(string)
		id, hasID := m["id"].(string)
		items, hasItems := m["actions"].([]any)
		switch {
		case kind == "wheel":
			return nil, Fail(UnsupportedOperation, "a phone has no wheel; move a finger instead")
		case kind != "key" && kind != "pointer" && kind != "none":
			return nil, Fail(InvalidArgument, "an input source's type must be key, pointer, wheel or none, not %v", m["type"])
		case !hasID || id == "":
			return nil, Fail(InvalidArgument, "an input source needs an id")
		case !hasItems:
			return nil, Fail(InvalidArgument, "the input source %q has no list of actions", id)
		case len(items) > maxTicks:
			return nil, Fail(InvalidArgument, "the input source %q has %d actions, more than the %d that are taken", id, len(items), maxTicks)
		}
		if v, given := m["parameters"]; given && kind == "pointer" {
			p, ok := v.(map[string]any)
			if !ok {
				return nil, Fail(InvalidArgument, "a pointer's parameters must be an object, not %v", v)
			}
			if t, given := p["pointerType"]; given && t != "touch" && t != "pen" && t != "mouse" {
				return nil, Fail(InvalidArgument, "a pointerType must be mouse, pen or touch, not %v", t)
			}
		}
		src := in.sources[id]
		if src == nil {
			if len(in.sources) >= maxSources {
				return nil, Fail(InvalidArgument, "the session has %d input sources already; release the actions first", len(in.sources))
			}
			src = &source{kind: kind}
			in.sources[id] = src
		}
		if src.kind != kind {
			return nil, Fail(InvalidArgument, "the input source %q is of type %s, not %s", id, src.kind, kind)
		}
		for i, item := range items {
			s, err := readStep(src, item)
			if err != nil {
				return nil, err
			}
			for len(ticks) <= i {
				ticks = append(ticks, nil)
			}
			ticks[i] = append(ticks[i], s)
		}
	}
	return ticks, nil
}

func readStep(src *source, item any) (step, *Error) {
	m, ok := item.(map[string]any)
	if !ok {
		return step{}, Fail(InvalidArgument, "each action must be an object")
	}
	s := step{source: src}
	s.kind, _ = m["type"].(string)
	allowed := map[string][]string{"none": {"pause"}, "key": {"pause", "keyDown", "keyUp"}, "pointer": {"pause", "pointerDown", "pointerUp", "pointerMove", "pointerCancel"}}[src.kind]
	if !slices.Contains(allowed, s.kind) {
		return s, Fail(InvalidArgument, "an input source of type %s can't do %v", src.kind, m["type"])
	}
	if d, given := m["duration"]; given && (s.kind == "pause" || s.kind == "pointerMove") {
		n, ok := whole(d)
		if !ok || n < 0 {
			return s, Fail(InvalidArgument, "a duration must be a whole number of milliseconds, not %v", d)
		}
		if n > maxTook.Milliseconds() {
			return s, Fail(InvalidArgument, "a duration of %d ms is longer than %s", n, maxTook)
		}
		s.took, s.hasTook = time.Duration(n)*time.Millisecond, true
	}
	switch s.kind {
	case "keyDown", "keyUp":
		v, _ := m["value"].(string)
		if len([]rune(v)) != 1 {
			return s, Fail(InvalidArgument, "a key's value must be one character, not %q", v)
		}
		s.key = v
	case "pointerDown", "pointerUp":
		b, ok := whole(m["button"])
		if !ok || b < 0 {
			return s, Fail(InvalidArgument, "a button must be a whole number from 0, not %v", m["button"])
		}
		if b != 0 {
			return s, Fail(UnsupportedOperation, "a finger has no button %d; button 0 touches", b)
		}
	case "pointerMove":
		return s, s.readMove(m)
	}
	return s, nil
}

func (s *step) readMove(m map[string]any) *Error {
	for name, to := range map[string]*int{"x": &s.x, "y": &s.y} {
		f, ok := m[name].(float64)
		if !ok || math.Abs(f) > 1e6 {
			return Fail(InvalidArgument, "%s must be a number of pixels, not %v", name, m[name])
		}
		*to = int(math.Round(f))
	}
	switch origin := m["origin"].(type) {
	case nil:
		s.origin = "viewport"
	case string:
		if origin != "viewport" && origin != "pointer" {
			return Fail(InvalidArgument, "an origin must be viewport, pointer or an element, not %q", origin)
		}
		s.origin = origin
	case map[string]any:
		id, ok := origin[ElementKey].(string)
		if !ok {
			return Fail(InvalidArgument, "an origin must be viewport, pointer or an element")
		}
		s.origin, s.isMarked = id, true
	default:
		return Fail(InvalidArgument, "an origin must be viewport, pointer or an element, not %s", fmt.Sprint(origin))
	}
	return nil
}
