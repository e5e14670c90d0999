package w3c

// Actions on a screen: strokes of fingers and presses of keys, with their times.

import (
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

// Input is what a session remembers of its fingers between two calls.
type Input struct {
	Sources
	fingers map[*Source]*finger
}

type finger struct {
	x, y   int
	down   bool
	stroke Stroke
}

// Rects gives where an element is, for moves that begin at one.
type Rects func(element string) (uitree.Rect, *Error)

// Perform says what a Perform Actions request asks for, on a screen of this size. What it leaves pressed is
// remembered, and the act of a finger that stays down comes with the call that lifts it.
func (in *Input) Perform(body map[string]any, screen uitree.Rect, rects Rects) (acts []Act, took time.Duration, err *Error) {
	ticks, err := in.Read(body)
	if err != nil {
		return nil, 0, err
	}
	for id, s := range in.all {
		if s.Kind == "wheel" {
			delete(in.all, id)
			return nil, 0, Fail(UnsupportedOperation, "a phone has no wheel; move a finger instead")
		}
	}
	for _, tick := range ticks {
		for _, a := range tick {
			if a.Button != 0 {
				return nil, 0, Fail(UnsupportedOperation, "a finger has no button %d; button 0 touches", a.Button)
			}
		}
	}
	if in.fingers == nil {
		in.fingers = map[*Source]*finger{}
	}
	var strokes []Stroke
	for _, tick := range ticks {
		for _, a := range tick {
			f := in.fingers[a.Source]
			if f == nil {
				f = &finger{}
				in.fingers[a.Source] = f
			}
			switch a.Kind {
			case "pointerMove":
				x, y, err := f.target(a, rects)
				if err != nil {
					return nil, 0, err
				}
				if x < screen.Left || y < screen.Top || x >= screen.Right || y >= screen.Bottom {
					return nil, 0, Fail(MoveTargetOutOfBounds, "%d,%d does not lie on the screen, which is %d wide and %d high", x, y, screen.Right, screen.Bottom)
				}
				if f.down {
					if last := f.stroke[len(f.stroke)-1]; last.At < took { // it stayed there until now
						f.stroke = append(f.stroke, Contact{last.X, last.Y, took})
					}
					f.stroke = append(f.stroke, Contact{x, y, took + tick.MoveTakes(a)})
				}
				f.x, f.y = x, y
			case "pointerDown":
				if !f.down {
					f.down, f.stroke = true, Stroke{{f.x, f.y, took}}
				}
			case "pointerUp":
				if f.down {
					strokes = append(strokes, append(f.stroke, Contact{f.x, f.y, took}))
					f.down, f.stroke = false, nil
				}
			case "pointerCancel":
				f.down, f.stroke = false, nil
			case "keyDown":
				acts = append(acts, Act{At: took, Key: a.Key})
			}
		}
		took += tick.Takes()
	}
	for _, f := range in.fingers { // one that stays down goes on with the next call, whose clock begins at zero
		for i := range f.stroke {
			f.stroke[i].At -= took
		}
	}
	acts = append(acts, together(strokes)...)
	slices.SortStableFunc(acts, func(a, b Act) int { return int(a.At - b.At) })
	return acts, took, nil
}

// Release lets go of all that is pressed (section 17.6): the strokes that end with it.
func (in *Input) Release() []Act {
	var strokes []Stroke
	for _, f := range in.fingers {
		if f.down {
			strokes = append(strokes, append(f.stroke, Contact{f.x, f.y, 0}))
		}
	}
	*in = Input{}
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

func (f *finger) target(a Action, rects Rects) (x, y int, err *Error) {
	switch {
	case a.OnElement:
		r, err := rects(a.Origin)
		if err != nil {
			return 0, 0, err
		}
		x, y = r.Center()
	case a.Origin == "pointer":
		x, y = f.x, f.y
	}
	return x + int(math.Round(a.X)), y + int(math.Round(a.Y)), nil
}
