package beside

// What people see of the screen and do on the device, one thing at a time.

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"tessellant/internal/host/hands"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

// tree reads what is on the screen.
func (p *People) tree(ctx context.Context) remoteend.Response {
	since := time.Now()
	s, err := p.Unit.Tree(ctx)
	if err != nil {
		return Refused(fmt.Sprintf("the screen can't be read: %v", err), "")
	}
	p.Device.Saw(s, since)
	return remoteend.Plain(http.StatusOK, hostlink.Tree{XML: s.XML(), Rotation: s.Rotation})
}

// shot takes a picture of the screen.
func (p *People) shot(ctx context.Context) remoteend.Response {
	png, err := p.Phone.Screenshot(ctx)
	if err != nil {
		return Refused(err.Error(), "")
	}
	return remoteend.Plain(http.StatusOK, hostlink.Shot{PNG: png})
}

// deed does one thing that a person asked for.
func (p *People) deed(ctx context.Context, body []byte) remoteend.Response {
	var q hostlink.Deed
	if err := json.Unmarshal(body, &q); err != nil {
		return Refused("what is to be done can't be read", "")
	}
	if path := hostlink.Commands[q.Do]; path != "" {
		defer p.Device.Acted()
		return plain(p.end.Do(ctx, remoteend.Request{Method: http.MethodPost, Path: "/session/" + p.end.ID + "/" + path, Body: q.With}))
	}
	var t hostlink.Touch
	if err := json.Unmarshal(q.With, &t); err != nil || !slices.Contains(hostlink.Fingers, q.Do) {
		return Refused("what is to be done can't be read", "")
	}
	if err := p.touch(ctx, q.Do, t); err != nil {
		return Refused(err.Error(), "")
	}
	return remoteend.Plain(http.StatusOK, nil)
}

// touch does what fingers and keyboard do.
func (p *People) touch(ctx context.Context, do string, t hostlink.Touch) error {
	secret := false
	if t.Locator != "" {
		s, err := p.Unit.Tree(ctx)
		if err != nil {
			return err
		}
		found, err := s.Find(t.Locator)
		switch {
		case err != nil:
			return err
		case len(found) == 0:
			return fmt.Errorf("nothing on the screen is %.200s; see what is there: tessellant device tree %s", t.Locator, p.Hold.Serial)
		case len(found) > 1:
			return fmt.Errorf("%d elements on the screen are %.200s: say which is meant", len(found), t.Locator)
		}
		t.X, t.Y = found[0].Bounds.Center()
		secret = found[0].Password
	}
	place := map[string]string{"x": fmt.Sprint(t.X), "y": fmt.Sprint(t.Y), "element": t.Locator}
	ms := fmt.Sprint(t.Took.Milliseconds())
	switch {
	case do == "type":
		return p.Device.Do("type", map[string]string{"text": hands.Shown(t.Text, secret), "element": t.Locator}, func() error {
			if t.Locator != "" {
				if err := p.Unit.Tap(ctx, t.X, t.Y); err != nil {
					return err
				}
			}
			return p.Unit.Type(ctx, t.Text)
		})
	case do == "swipe":
		return p.Device.Do("swipe", map[string]string{"from": fmt.Sprintf("%d,%d", t.X, t.Y), "to": fmt.Sprintf("%d,%d", t.ToX, t.ToY), "ms": ms}, func() error {
			return p.Unit.Swipe(ctx, t.X, t.Y, t.ToX, t.ToY, t.Took)
		})
	case t.Took > 0:
		place["ms"] = ms
		return p.Device.Do("long press", place, func() error { return p.Unit.Swipe(ctx, t.X, t.Y, t.X, t.Y, t.Took) })
	}
	return p.Device.Do("tap", place, func() error { return p.Unit.Tap(ctx, t.X, t.Y) })
}
