package cloudlab

// The standard's commands on a phone: elements, their properties, keys, fingers.

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"image"
	"image/draw"
	"image/png"
	"strings"
	"time"

	"tessellant/internal/core/uitree"
	"tessellant/internal/core/w3c"
)

// screen is the tree, in the units of the session.
func (x *session) screen() (*uitree.Screen, *w3c.Error) {
	source, err := x.rig.Source()
	if err != nil {
		return nil, w3c.Fail(w3c.UnknownError, "%v", err)
	}
	var s *uitree.Screen
	if x.rig.Platform == "ios" {
		s, err = uitree.ParseIOS([]byte(source), 1)
	} else {
		s, err = uitree.ParseAndroid([]byte(source))
	}
	if err != nil {
		return nil, w3c.Fail(w3c.UnknownError, "%v", err)
	}
	return s, nil
}

// do is one command of the standard's.
func (x *session) do(ctx context.Context, call w3c.Call, body map[string]any) (any, *w3c.Error) {
	p := x.rig
	switch call.Name {
	case "Get Timeouts":
		return x.timeouts.JSON(), nil
	case "Set Timeouts":
		return nil, x.timeouts.Set(body)
	case "Get Page Source":
		s, err := p.Source()
		if err != nil {
			return nil, w3c.Fail(w3c.UnknownError, "%v", err)
		}
		return s, nil
	case "Take Screenshot":
		return base64.StdEncoding.EncodeToString(p.Picture()), nil
	case "Get Window Rect":
		w, h := p.Size()
		return map[string]any{"x": 0, "y": 0, "width": w, "height": h}, nil
	case "Back":
		p.Key("BACK")
		return nil, nil
	case "Find Element", "Find Elements", "Find Element From Element", "Find Elements From Element":
		return x.find(ctx, call, body)
	case "Get Active Element":
		s, err := x.screen()
		if err != nil {
			return nil, err
		}
		for _, e := range s.All() {
			if e.Focused {
				return x.reference(s, e), nil
			}
		}
		return nil, w3c.Fail(w3c.NoSuchElement, "nothing has the focus")
	case "Perform Actions":
		return nil, x.actions(ctx, body)
	case "Release Actions":
		return nil, x.play(ctx, x.input.Release())
	}
	if call.Element == "" {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "%s has no meaning on a native screen", call.Name)
	}
	return x.onElement(call, body)
}

func (x *session) find(ctx context.Context, call w3c.Call, body map[string]any) (any, *w3c.Error) {
	using, _ := body["using"].(string)
	value, _ := body["value"].(string)
	for deadline := time.Now().Add(x.timeouts.Implicit); ; {
		s, err := x.screen()
		if err != nil {
			return nil, err
		}
		var from *uitree.Element
		if call.Element != "" {
			if from, err = x.again(s, call.Element); err != nil {
				return nil, err
			}
		}
		es, err := w3c.Locate(s, from, using, value)
		if err != nil {
			return nil, err
		}
		one := !strings.HasPrefix(call.Name, "Find Elements")
		if len(es) > 0 && one {
			return x.reference(s, es[0]), nil
		}
		if len(es) > 0 || time.Now().After(deadline) || ctx.Err() != nil {
			if one {
				return nil, w3c.Fail(w3c.NoSuchElement, "nothing on the screen is %s %.200q", using, value)
			}
			out := []any{}
			for _, e := range es {
				out = append(out, x.reference(s, e))
			}
			return out, nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

func (x *session) reference(s *uitree.Screen, e *uitree.Element) map[string]any {
	at := w3c.Places(s)
	k := w3c.Remember(at, e)
	id := x.refOf[k]
	if id == "" {
		id = strings.ToLower(rand.Text()[:12])
		x.refOf[k] = id
	}
	x.refs[id] = known{k, k.Others(at)}
	return map[string]any{w3c.ElementKey: id}
}

// again finds the element of a reference.
func (x *session) again(s *uitree.Screen, ref string) (*uitree.Element, *w3c.Error) {
	k, ok := x.refs[ref]
	if !ok {
		return nil, w3c.Fail(w3c.NoSuchElement, "there is no element %.60q", ref)
	}
	if e := k.Again(s, k.others); e != nil {
		return e, nil
	}
	return nil, w3c.Fail(w3c.StaleElementReference, "the element %s is not on the screen any more", ref)
}

func (x *session) onElement(call w3c.Call, body map[string]any) (any, *w3c.Error) {
	s, err := x.screen()
	if err != nil {
		return nil, err
	}
	e, err := x.again(s, call.Element)
	if err != nil {
		return nil, err
	}
	b := e.Bounds
	switch call.Name {
	case "Get Element Text":
		return w3c.Text(e, true), nil
	case "Get Element Attribute":
		return w3c.Attribute(e, call.Param), nil
	case "Get Element Property":
		return w3c.Property(e, call.Param), nil
	case "Get Element Tag Name":
		return e.Kind, nil
	case "Get Element Rect":
		return map[string]any{"x": b.Left, "y": b.Top, "width": b.Right - b.Left, "height": b.Bottom - b.Top}, nil
	case "Is Element Enabled":
		return e.Enabled, nil
	case "Is Element Selected":
		return w3c.Selected(e), nil
	case "Is Element Displayed":
		return !b.Empty(), nil
	case "Get Computed Role":
		return w3c.Role(e), nil
	case "Get Computed Label":
		return w3c.Label(e), nil
	case "Element Click":
		cx, cy := b.Center()
		x.rig.Stroke(cx, cy, cx, cy, 0)
		return nil, nil
	case "Element Clear":
		return nil, x.clear(e)
	case "Element Send Keys":
		text, ok := body["text"].(string)
		if !ok {
			return nil, w3c.Fail(w3c.InvalidArgument, "the text must be a string")
		}
		return nil, x.sendKeys(e, text)
	case "Take Element Screenshot":
		return x.cutOut(e)
	}
	return nil, w3c.Fail(w3c.UnsupportedOperation, "%s has no meaning on a native screen", call.Name)
}

func (x *session) cutOut(e *uitree.Element) (any, *w3c.Error) {
	img, err := png.Decode(bytes.NewReader(x.rig.Picture()))
	if err != nil {
		return nil, w3c.Fail(w3c.UnableToCaptureScreen, "%v", err)
	}
	w, _ := x.rig.Size()
	f := float64(img.Bounds().Dx()) / float64(max(w, 1))
	r := image.Rect(int(float64(e.Bounds.Left)*f), int(float64(e.Bounds.Top)*f), int(float64(e.Bounds.Right)*f), int(float64(e.Bounds.Bottom)*f)).Intersect(img.Bounds())
	part := image.NewRGBA(image.Rect(0, 0, max(r.Dx(), 1), max(r.Dy(), 1)))
	draw.Draw(part, part.Bounds(), img, r.Min, draw.Src)
	var out bytes.Buffer
	if err := png.Encode(&out, part); err != nil {
		return nil, w3c.Fail(w3c.UnableToCaptureScreen, "%v", err)
	}
	return base64.StdEncoding.EncodeToString(out.Bytes()), nil
}

// keys are those that phones have, by the standard's code points (section 17.4.2).
var keys = map[rune]string{'\uE003': "DEL", '\uE006': "ENTER", '\uE007': "ENTER", '\n': "ENTER", '\uE004': "TAB", '\uE00C': "ESCAPE", '\uE010': "MOVE_END", '\uE012': "LEFT", '\uE013': "UP", '\uE014': "RIGHT", '\uE015': "DOWN"}

func (x *session) press(r rune) bool {
	if k := keys[r]; k != "" {
		x.rig.Key(k)
		return true
	}
	return r >= '\uE000' && r <= '\uF8FF'
}

func (x *session) sendKeys(e *uitree.Element, text string) *w3c.Error {
	if !e.Focused {
		cx, cy := e.Bounds.Center()
		x.rig.Stroke(cx, cy, cx, cy, 0)
	}
	run := ""
	for _, r := range text {
		if keys[r] == "" && (r < '\uE000' || r > '\uF8FF') {
			run += string(r)
			continue
		}
		if run != "" {
			x.rig.Enter(run)
			run = ""
		}
		x.press(r)
	}
	if run != "" {
		x.rig.Enter(run)
	}
	return nil
}

func (x *session) clear(e *uitree.Element) *w3c.Error {
	if e.Kind != "field" || !e.Enabled {
		return w3c.Fail(w3c.InvalidElementState, "%s can't be cleared", w3c.Describe(e))
	}
	if !e.Focused {
		cx, cy := e.Bounds.Center()
		x.rig.Stroke(cx, cy, cx, cy, 0)
	}
	for range []rune(e.Value) {
		x.rig.Key("DEL")
	}
	return nil
}

func (x *session) actions(ctx context.Context, body map[string]any) *w3c.Error {
	w, h := x.rig.Size()
	s, err := x.screen()
	if err != nil {
		return err
	}
	acts, _, err := x.input.Perform(body, uitree.Rect{Right: w, Bottom: h}, func(ref string) (uitree.Rect, *w3c.Error) {
		e, err := x.again(s, ref)
		if err != nil {
			return uitree.Rect{}, err
		}
		return e.Bounds, nil
	})
	if err != nil {
		return err
	}
	return x.play(ctx, acts)
}

// play does what actions ask for, each at its time.
func (x *session) play(ctx context.Context, acts []w3c.Act) *w3c.Error {
	at := time.Duration(0)
	for _, a := range acts {
		if d := a.Ends() - at; d > 0 {
			select {
			case <-time.After(d):
			case <-ctx.Done():
				return w3c.Fail(w3c.Timeout, "the client has left")
			}
			at = a.Ends()
		}
		if a.Key != "" {
			r := []rune(a.Key)[0]
			if !x.press(r) {
				x.rig.Enter(a.Key)
			}
			continue
		}
		for _, s := range a.Strokes {
			first, last := s[0], s[len(s)-1]
			x.rig.Stroke(first.X, first.Y, last.X, last.Y, last.At-first.At)
		}
	}
	return nil
}
