package remoteend

// The screen of a native app: commands that look at it and at its elements. Those that touch it are in input.go.

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"image"
	"image/png"
	"strings"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
	"time"
)

// native is the screen, with what a session remembers of it.
type native struct {
	eyes    phone.Looker
	refs    map[string]referred
	refOf   map[w3c.Known]string
	likes   map[string][]string // the newest references of elements that are alike
	nextRef int
	input   w3c.Input
}

func newNative() *native {
	return &native{refs: map[string]referred{}, refOf: map[w3c.Known]string{}, likes: map[string][]string{}}
}

func (n *native) context() w3c.Context { return w3c.Native }

func (n *native) anew() { n.eyes.Touched() }

// onNative is a command that works on it.
type onNative struct {
	*command
	*native
}

// onScreen gives a command the screen, whatever else the session works on.
func (c *command) onScreen() *onNative { return &onNative{c, c.screen} }

const theWindow = "screen"

// do implements surface.
func (n *native) do(of *command) (any, *w3c.Error) {
	c := &onNative{of, n}
	switch c.call.Name {
	case "Back":
		return nil, c.press("go back", phone.Back)
	case "Get Window Handle":
		return theWindow, nil
	case "Get Window Handles":
		return []string{theWindow}, nil
	case "Switch To Window":
		handle, ok := c.body["handle"].(string)
		if !ok {
			return nil, w3c.Fail(w3c.InvalidArgument, "the window's handle must be a string")
		}
		if handle != theWindow {
			return nil, w3c.Fail(w3c.NoSuchWindow, "there is no window %q; the screen is %q", handle, theWindow)
		}
		return nil, nil
	case "Switch To Frame":
		return nil, c.frame()
	case "Switch To Parent Frame":
		return nil, nil
	case "Get Window Rect":
		r, err := c.area()
		return rect(r), err
	case "Find Element From Shadow Root", "Find Elements From Shadow Root":
		return nil, w3c.Fail(w3c.NoSuchShadowRoot, "a native screen has no shadow roots")
	case "Find Element", "Find Element From Element":
		es, s, err := c.find()
		if err != nil {
			return nil, err
		}
		if len(es) == 0 {
			return nil, w3c.Fail(w3c.NoSuchElement, "nothing on the screen is %s", c.locator)
		}
		c.answer = w3c.Describe(es[0])
		return c.references(s, es[0])[0], nil
	case "Find Elements", "Find Elements From Element":
		es, s, err := c.find()
		if err != nil || len(es) == 0 {
			c.answer = "0 elements"
			return []any{}, err
		}
		c.answer = fmt.Sprintf("%d elements", len(es))
		return c.references(s, es...), nil
	case "Get Active Element":
		return c.active()
	case "Get Page Source":
		s, err := c.look()
		if err != nil {
			return nil, err
		}
		source := strings.TrimSpace(s.XML())
		c.answer = fmt.Sprintf("%d bytes", len(source))
		return source, nil
	case "Take Screenshot":
		return c.screenshot(nil)
	case "Perform Actions":
		return nil, c.actions()
	case "Release Actions":
		return nil, c.perform(c.input.Release(), 0)
	}
	return c.onElement()
}

func (c *onNative) onElement() (any, *w3c.Error) {
	e, err := c.element(c.call.Element)
	if err != nil {
		return nil, err
	}
	c.args["on"] = w3c.Describe(e)
	say := func(v any) (any, *w3c.Error) { c.answer = short(fmt.Sprint(v)); return v, nil }
	switch c.call.Name {
	case "Get Element Shadow Root":
		return nil, w3c.Fail(w3c.NoSuchShadowRoot, "native elements have no shadow roots")
	case "Is Element Selected":
		return say(w3c.Selected(e))
	case "Is Element Displayed":
		r, err := c.area()
		if err != nil {
			return nil, err
		}
		return say(!visible(e, r).Empty())
	case "Get Element Attribute":
		c.args["attribute"] = c.call.Param
		return say(w3c.Attribute(e, c.call.Param))
	case "Get Element Property":
		c.args["property"] = c.call.Param
		return say(w3c.Property(e, c.call.Param))
	case "Get Element Text":
		return say(w3c.Text(e, true))
	case "Get Element Tag Name":
		return say(e.Kind)
	case "Get Element Rect":
		return rect(e.Bounds), nil
	case "Is Element Enabled":
		return say(e.Enabled)
	case "Get Computed Role":
		return say(w3c.Role(e))
	case "Get Computed Label":
		return say(w3c.Label(e))
	case "Take Element Screenshot":
		return c.screenshot(e)
	case "Element Click":
		return nil, c.click(e)
	case "Element Clear":
		return nil, c.clear(e)
	case "Element Send Keys":
		return nil, c.sendKeys(e)
	}
	return nil, w3c.Fail(w3c.UnknownCommand, "nothing here does %s", c.call.Name)
}

func rect(r uitree.Rect) map[string]any {
	return map[string]any{"x": r.Left, "y": r.Top, "width": r.Right - r.Left, "height": r.Bottom - r.Top}
}

// visible is what of an element lies on the screen.
func visible(e *uitree.Element, screen uitree.Rect) uitree.Rect {
	b := e.Bounds
	return uitree.Rect{Left: max(b.Left, screen.Left), Top: max(b.Top, screen.Top), Right: min(b.Right, screen.Right), Bottom: min(b.Bottom, screen.Bottom)}
}

// look reads the screen.
func (c *onNative) look() (*uitree.Screen, *w3c.Error) {
	s, err := c.eyes.Tree(c.ctx, c.phone)
	return s, asError("read the screen", err)
}

// area is the screen as it is held.
func (c *onNative) area() (uitree.Rect, *w3c.Error) {
	s, err := c.look()
	if err != nil {
		return uitree.Rect{}, err
	}
	w, h := c.Facts.Width, c.Facts.Height
	if s.Rotation%2 == 1 { // not by what lies on it: a dialog's window may be wider than it is high
		w, h = h, w
	}
	return uitree.Rect{Right: w, Bottom: h}, nil
}

func (c *onNative) frame() *w3c.Error {
	id, given := c.body["id"]
	switch v := id.(type) {
	case nil:
		if !given {
			return w3c.Fail(w3c.InvalidArgument, "the frame's id is missing")
		}
		return nil
	case float64:
		if v != float64(uint16(v)) {
			return w3c.Fail(w3c.InvalidArgument, "a frame's number must be a whole one from 0 to 65535, not %v", v)
		}
		return w3c.Fail(w3c.NoSuchFrame, "a native screen has no frames")
	case map[string]any:
		ref, ok := v[w3c.ElementKey].(string)
		if !ok {
			return w3c.Fail(w3c.InvalidArgument, "a frame's id must be null, a number or an element")
		}
		if _, err := c.element(ref); err != nil {
			return err
		}
		return w3c.Fail(w3c.NoSuchFrame, "a native screen has no frames")
	}
	return w3c.Fail(w3c.InvalidArgument, "a frame's id must be null, a number or an element")
}

// pause is between two looks at a quick phone.
const pause = 50 * time.Millisecond

// find looks until something is found, as long as the implicit timeout lasts (section 12.3, "find").
func (c *onNative) find() ([]*uitree.Element, *uitree.Screen, *w3c.Error) {
	using, ok1 := c.body["using"].(string)
	value, ok2 := c.body["value"].(string)
	if !ok1 || !ok2 {
		return nil, nil, w3c.Fail(w3c.InvalidArgument, "a locator needs a strategy in using and a text in value")
	}
	c.locator = using + " " + short(value)
	if using == "css selector" || using == "xpath" { // locators as everywhere
		c.args["element"] = short(value)
	} else {
		c.args[using] = short(value)
	}
	if _, err := w3c.Locate(&uitree.Screen{}, nil, using, value); err != nil {
		return nil, nil, err
	}
	if c.call.Element != "" {
		if _, known := c.refs[c.call.Element]; !known {
			return nil, nil, w3c.Fail(w3c.NoSuchElement, "there is no element with the reference %q in this session", c.call.Element)
		}
	}
	begin := time.Now()
	var last *w3c.Error
	for {
		es, s, moves, err := c.findNow(using, value)
		if len(es) > 0 || (err != nil && !moves) {
			return es, s, err
		}
		last = err
		if left := c.timeouts.Implicit - time.Since(begin); left <= 0 {
			break
		} else if err := phone.Pause(c.ctx, min(left, pause)); err != nil {
			return nil, nil, asError("find an element", err)
		}
		c.touched() // look anew
	}
	if last != nil && strings.HasSuffix(c.call.Name, "Element") {
		return nil, nil, w3c.Fail(w3c.NoSuchElement, "nothing was found as %s: %s", c.locator, last.Message)
	}
	return nil, nil, last
}

// findNow looks once. Moves says that the screen could not be read since it would not stand still.
func (c *onNative) findNow(using, value string) (es []*uitree.Element, s *uitree.Screen, moves bool, werr *w3c.Error) {
	s, err := c.eyes.Tree(c.ctx, c.phone)
	var restless *phone.Restless
	if errors.As(err, &restless) && restless.Last != nil { // the newest there is, and its age is said
		s, err = restless.Last, nil
		c.args["screen"] = fmt.Sprintf("as it was %d s ago: it has not come to rest", int(time.Since(restless.Seen).Seconds()))
	}
	if err != nil {
		var refused *phone.Refused
		return nil, nil, errors.As(err, &refused) || restless != nil, asError("read the screen", err)
	}
	var from *uitree.Element
	if c.call.Element != "" {
		if from = c.refs[c.call.Element].again(s); from == nil {
			return nil, nil, false, stale()
		}
	}
	es, werr = w3c.Locate(s, from, using, value)
	return es, s, false, werr
}

func stale() *w3c.Error {
	return w3c.Fail(w3c.StaleElementReference, "the element is not on the screen any more; find it again")
}

// referred is what a reference was given for.
type referred struct {
	known  w3c.Known
	others w3c.Others
}

func (r referred) again(s *uitree.Screen) *uitree.Element { return r.known.Again(s, r.others) }

// maxRefs is how many references are remembered; when there are more, all before are forgotten.
const maxRefs = 20_000

// references gives elements of a screen their references. One element has one.
func (c *onNative) references(s *uitree.Screen, es ...*uitree.Element) (out []map[string]string) {
	at := w3c.Places(s)
	var one referred // of those that are alike, all have the same others
	for _, e := range es {
		known := w3c.Remember(at, e)
		if one.others == nil || !one.known.Alike(e) {
			one.others = known.Others(at)
		}
		one.known = known
		ref := c.refOf[known]
		if ref == "" {
			ref = c.referredBefore(s, e, known)
		}
		if ref == "" {
			if len(c.refs) >= maxRefs {
				c.refs, c.refOf, c.likes = map[string]referred{}, map[w3c.Known]string{}, map[string][]string{}
			}
			c.nextRef++
			ref = fmt.Sprintf("e%d-%s", c.nextRef, strings.ToLower(c.ID[max(0, len(c.ID)-8):]))
			like := append(c.likes[known.Likeness()], ref)
			c.likes[known.Likeness()] = like[max(0, len(like)-maxLikes):]
		}
		if len(c.refOf) >= 2*maxRefs {
			c.refOf = map[w3c.Known]string{}
		}
		c.refOf[known] = ref
		c.refs[ref] = one
		out = append(out, map[string]string{w3c.ElementKey: ref})
	}
	return out
}

// maxLikes is how many references to elements that are alike are held against one that has changed.
const maxLikes = 16

// referredBefore finds the reference that an element has had under another text, or in another place; "": none.
func (c *onNative) referredBefore(s *uitree.Screen, e *uitree.Element, known w3c.Known) string {
	like := c.likes[known.Likeness()]
	for i := len(like) - 1; i >= 0; i-- {
		if r, ok := c.refs[like[i]]; ok && r.again(s) == e {
			return like[i]
		}
	}
	return ""
}

// element gives the element that a reference means on the screen as it is now.
func (c *onNative) element(ref string) (*uitree.Element, *w3c.Error) {
	known, ok := c.refs[ref]
	if !ok {
		return nil, w3c.Fail(w3c.NoSuchElement, "there is no element with the reference %q in this session", ref)
	}
	s, err := c.look()
	if err != nil {
		return nil, err
	}
	e := known.again(s)
	if e == nil {
		return nil, stale()
	}
	return e, nil
}

func (c *onNative) active() (any, *w3c.Error) {
	s, err := c.look()
	if err != nil {
		return nil, err
	}
	all := s.All()
	for i := len(all) - 1; i >= 0; i-- { // the innermost
		if all[i].Focused {
			c.answer = w3c.Describe(all[i])
			return c.references(s, all[i])[0], nil
		}
	}
	return nil, w3c.Fail(w3c.NoSuchElement, "no element has the focus")
}

// screenshot takes the screen, or what of it an element covers, as Base64 of a PNG.
func (c *onNative) screenshot(e *uitree.Element) (any, *w3c.Error) {
	raw, err := c.phone.Screenshot(c.ctx)
	if err != nil {
		werr := asError("take a screenshot", err)
		if werr.Code == w3c.UnknownError {
			werr.Code = w3c.UnableToCaptureScreen
		}
		return nil, werr
	}
	if e != nil {
		img, err := phone.Unpacked(raw)
		if err != nil {
			return nil, w3c.Fail(w3c.UnableToCaptureScreen, "the device's picture can't be read: %v", err)
		}
		part := image.Rect(e.Bounds.Left, e.Bounds.Top, e.Bounds.Right, e.Bounds.Bottom).Intersect(img.Bounds())
		sub, ok := img.(interface {
			SubImage(image.Rectangle) image.Image
		})
		if part.Empty() || !ok {
			return nil, w3c.Fail(w3c.UnableToCaptureScreen, "the element is not on the screen")
		}
		var buf bytes.Buffer
		if err := png.Encode(&buf, sub.SubImage(part)); err != nil {
			return nil, w3c.Fail(w3c.UnableToCaptureScreen, "%v", err)
		}
		raw = buf.Bytes()
	}
	c.answer = fmt.Sprintf("%d bytes", len(raw))
	return base64.StdEncoding.EncodeToString(raw), nil
}
