package wd

// Fingers and keys: Perform Actions (WebDriver, section 15.7) and Element Send Keys (section 12.5.3).

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"time"

	"tessellant/internal/core/labfile"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

type object = map[string]any

// tapTakes is how long a finger is down that only taps.
const tapTakes = 50 * time.Millisecond

// units turns pixels into the session's coordinates.
func (d *Device) units(px int) int {
	scale := d.opened().Scale
	if scale <= 0 {
		scale = 1
	}
	return int(float64(px)/scale + 0.5)
}

// Tap implements phone.Phone.
func (d *Device) Tap(ctx context.Context, x, y int) error {
	return d.touch(ctx, "tap", []phone.Stroke{{{X: x, Y: y}, {X: x, Y: y, At: tapTakes}}})
}

// Swipe implements phone.Phone.
func (d *Device) Swipe(ctx context.Context, x1, y1, x2, y2 int, took time.Duration) error {
	return d.touch(ctx, "swipe", []phone.Stroke{{{X: x1, Y: y1}, {X: x2, Y: y2, At: took}}})
}

// Touch implements phone.Fingers.
func (d *Device) Touch(ctx context.Context, strokes []phone.Stroke) error {
	return d.touch(ctx, "move fingers", strokes)
}

func (d *Device) touch(ctx context.Context, doing string, strokes []phone.Stroke) error {
	d.touched()
	_, err := d.command(ctx, doing, http.MethodPost, "/actions", object{"actions": d.pointers(strokes)})
	return err
}

// pointers are strokes as actions of the standard's: a source for each finger, with as many items as all others, since the items of one number
// begin together (section 15.3, "Ticks").
func (d *Device) pointers(strokes []phone.Stroke) []object {
	var moments []time.Duration
	for _, s := range strokes {
		for _, c := range s {
			moments = append(moments, c.At)
		}
	}
	slices.Sort(moments)
	moments = slices.Compact(moments)
	var out []object
	for i, s := range strokes {
		first, last := s[0], s[len(s)-1]
		move := func(c phone.Contact, took time.Duration) object {
			return object{"type": "pointerMove", "origin": "viewport", "duration": took.Milliseconds(), "x": d.units(c.X), "y": d.units(c.Y)}
		}
		pause := func(took time.Duration) object { return object{"type": "pause", "duration": took.Milliseconds()} }
		items := []object{move(first, 0)}
		for k, at := range moments {
			took := time.Duration(0)
			if k > 0 {
				took = at - moments[k-1]
			}
			switch { // two items for each moment: the way to it, and what the finger does there
			case k == 0:
			case at > first.At && at <= last.At && !still(s, moments[k-1], at):
				items = append(items, move(whereAt(s, at), took))
			default:
				items = append(items, pause(took))
			}
			switch {
			case at == first.At:
				items = append(items, object{"type": "pointerDown", "button": 0})
			case at == last.At:
				items = append(items, object{"type": "pointerUp", "button": 0})
			default:
				items = append(items, pause(0))
			}
		}
		if first.At == last.At {
			items = append(items, object{"type": "pointerUp", "button": 0})
		}
		out = append(out, object{"type": "pointer", "id": "finger" + string(rune('1'+i)), "parameters": object{"pointerType": "touch"}, "actions": items})
	}
	return out
}

// whereAt is where a finger is at a moment of its stroke.
func whereAt(s phone.Stroke, at time.Duration) phone.Contact {
	for i := 1; i < len(s); i++ {
		if a, b := s[i-1], s[i]; at <= b.At {
			if b.At == a.At {
				return b
			}
			part := float64(at-a.At) / float64(b.At-a.At)
			return phone.Contact{X: a.X + int(part*float64(b.X-a.X)), Y: a.Y + int(part*float64(b.Y-a.Y)), At: at}
		}
	}
	return s[len(s)-1]
}

// still says whether a finger does not move between two moments.
func still(s phone.Stroke, from, to time.Duration) bool {
	a, b := whereAt(s, from), whereAt(s, to)
	return a.X == b.X && a.Y == b.Y
}

const elementKey = "element-6066-11e4-a52e-4f735466cecf" // the standard's web element identifier, section 12

// active gives the element with the focus; "": none has it.
func (d *Device) active(ctx context.Context, doing string) (string, error) {
	d.renewing.RLock()
	v, err := d.Endpoint.Command(ctx, http.MethodGet, "/session/"+d.opened().ID+"/element/active", nil, commandTakes)
	d.renewing.RUnlock()
	var said *Answered
	if errors.As(err, &said) && said.Code == string(w3c.NoSuchElement) {
		return "", nil
	}
	if err != nil {
		return "", d.failed(doing, err)
	}
	m, _ := v.(object)
	id, _ := m[elementKey].(string)
	return id, nil
}

// Type implements phone.Phone.
func (d *Device) Type(ctx context.Context, text string) error {
	const doing = "type"
	if text == "" {
		return nil
	}
	d.touched()
	id, err := d.active(ctx, doing)
	if err != nil {
		return err
	}
	if id == "" {
		return &phone.Refused{Doing: doing, Why: "no field has the focus", Remedy: "tap the field first"}
	}
	_, err = d.command(ctx, doing, http.MethodPost, "/element/"+id+"/value", object{"text": text})
	return err
}

// codePoints are keys as the standard has them (section 15.4.2, "Keyboard actions": the area of private use).
var codePoints = map[phone.Key]string{phone.Enter: "\ue007", phone.Delete: "\ue003", phone.End: "\ue010", "tab": "\ue004", "escape": "\ue00c", "up": "\ue013", "down": "\ue015", "left": "\ue012", "right": "\ue014"}

// Press implements phone.Phone. Back is the standard's command; what the standard has no key for needs a command of the lab's own.
func (d *Device) Press(ctx context.Context, keys ...phone.Key) error {
	const doing = "press a key"
	d.touched()
	for i := 0; i < len(keys); {
		k := keys[i]
		if k == phone.Back {
			if _, err := d.command(ctx, doing, http.MethodPost, "/back", nil); err != nil {
				return err
			}
			i++
			continue
		}
		if codePoints[k] == "" {
			if _, err := d.own(ctx, "press "+string(k), "press", func(v *labfile.Values) { v.Key = string(k) }); err != nil {
				return err
			}
			i++
			continue
		}
		items := []object{}
		for ; i < len(keys) && codePoints[keys[i]] != ""; i++ {
			c := codePoints[keys[i]]
			items = append(items, object{"type": "keyDown", "value": c}, object{"type": "keyUp", "value": c})
		}
		if _, err := d.command(ctx, doing, http.MethodPost, "/actions", object{"actions": []object{{"type": "key", "id": "keys", "actions": items}}}); err != nil {
			return err
		}
	}
	return nil
}
