package session

// A device that a person holds. Nobody's silence ends it: it ends when the person gives it back, or when its time is over, which may be prolonged.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"tessellant/internal/core/verdict"
	people "tessellant/internal/host/hands"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/runner"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

var errTimeOver = errors.New("the time for which the device was held is over")

// hands implements runner.Runner.
type hands struct {
	*session
	until  atomic.Int64 // ns since 1970
	device *people.Device
}

// NewHands makes the runner.
func NewHands(k *runner.Kit) (runner.Runner, error) {
	s, err := newSession(k)
	return &hands{session: s}, err
}

// Run implements runner.Runner: it waits until the device is given back.
func (h *hands) Run(ctx context.Context) error {
	whole := h.Hold.Spec.Limits.Whole.Duration()
	h.device = &people.Device{Phone: h.Unit.Unit, Size: image.Pt(h.Unit.Known.Width, h.Unit.Known.Height), Film: h.Film, Note: h.Timeline.Command, Log: h.Log}
	defer h.device.Open(ctx)()
	return h.serve(ctx, min(idleLookEvery, whole/4), func(end *remoteend.Session) orders.Carrier { return &held{end, h} }, func(*orders.Served) error {
		h.until.CompareAndSwap(0, time.Now().Add(whole).UnixNano())
		if h.left() <= 0 {
			return errTimeOver
		}
		return nil
	})
}

func (h *hands) left() time.Duration { return time.Until(time.Unix(0, h.until.Load())) }

// Judge implements runner.Runner. What a person does by hand is no test: it can't fail.
func (h *hands) Judge(err error) (v verdict.Verdict, message string) {
	crashed := h.outside.Crashed()
	switch {
	case errors.Is(err, errTimeOver), errors.Is(err, errClientEnded):
		h.how = map[bool]string{true: "limit", false: "client"}[errors.Is(err, errTimeOver)]
		if crashed != "" {
			return verdict.Crashed, crashed
		}
		return verdict.Passed, ""
	}
	return h.session.Judge(err)
}

// held carries out what a person, or a client that names the hold, commands; and what concerns the hold itself.
type held struct {
	*remoteend.Session
	h *hands
}

// of is what an order asks for, as "POST /hands/prolong".
func (x *held) of(q remoteend.Request) string {
	return q.Method + " " + strings.TrimPrefix(q.Path, "/session/"+x.ID)
}

// Beside implements orders.Besider: who watches, and the end of the hold, wait for no command.
func (x *held) Beside(q remoteend.Request) bool {
	what := x.of(q)
	return what == "POST "+hostlink.WatchPath || what == "POST "+hostlink.ProlongPath
}

// Do implements orders.Carrier.
func (x *held) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	what := x.of(q)
	if x.Ended() && what == "DELETE " { // given back twice
		return remoteend.Done()
	}
	if x.Ended() && strings.Contains(what, " "+hostlink.HandsPath) {
		return refused("the device is being given back")
	}
	switch what {
	case "POST " + hostlink.ProlongPath:
		return x.h.prolong(q.Body)
	case "GET " + hostlink.TreePath:
		return x.h.tree(ctx)
	case "GET " + hostlink.ShotPath:
		return x.h.shot(ctx)
	case "POST " + hostlink.DoPath:
		return x.deed(ctx, q.Body)
	case "POST " + hostlink.RunPath:
		return x.h.run(ctx, q.Body)
	case "POST " + hostlink.WatchPath:
		return x.h.watch(q.Body)
	case "GET /" + hostlink.AppsCommand:
		return plain(x.Session.Do(ctx, q))
	}
	if q.Method != http.MethodGet {
		defer x.h.device.Acted()
	}
	return x.Session.Do(ctx, q)
}

// prolong moves the end: by so much, but not further from now than is allowed.
func (h *hands) prolong(body []byte) remoteend.Response {
	var p hostlink.Prolong
	if err := json.Unmarshal(body, &p); err != nil || p.By <= 0 || p.Most <= 0 {
		return refused("the time to prolong by can't be read")
	}
	for {
		was := h.until.Load()
		to := min(was+p.By.Nanoseconds(), time.Now().Add(p.Most).UnixNano())
		if h.until.CompareAndSwap(was, to) {
			return remoteend.Plain(http.StatusOK, hostlink.Held{Left: h.left()})
		}
	}
}

// tree reads what is on the screen.
func (h *hands) tree(ctx context.Context) remoteend.Response {
	since := time.Now()
	s, err := h.Unit.Tree(ctx)
	if err != nil {
		return refused(fmt.Sprintf("the screen can't be read: %v", err))
	}
	h.device.Saw(s, since)
	return remoteend.Plain(http.StatusOK, hostlink.Tree{XML: s.XML(), Rotation: s.Rotation})
}

// watch takes somebody in who watches, or has the device in hand.
func (h *hands) watch(body []byte) remoteend.Response {
	var q hostlink.Watch
	if err := json.Unmarshal(body, &q); err != nil || q.Stream == "" {
		return refused("who wants to watch can't be read")
	}
	c, err := h.Stream(q.Stream)
	if err == nil {
		if err = h.device.Sit(c, q); err != nil {
			_ = c.Close()
		}
	}
	if err != nil {
		return refused(err.Error())
	}
	return remoteend.Plain(http.StatusOK, struct{}{})
}

// shot takes a picture of the screen.
func (h *hands) shot(ctx context.Context) remoteend.Response {
	png, err := h.Phone.Screenshot(ctx)
	if err != nil {
		return refused(err.Error())
	}
	return remoteend.Plain(http.StatusOK, hostlink.Shot{PNG: png})
}

// deed does one thing that a person asked for.
func (x *held) deed(ctx context.Context, body []byte) remoteend.Response {
	var q hostlink.Deed
	if err := json.Unmarshal(body, &q); err != nil {
		return refused("what is to be done can't be read")
	}
	if path := hostlink.Commands[q.Do]; path != "" {
		defer x.h.device.Acted()
		return plain(x.Session.Do(ctx, remoteend.Request{Method: http.MethodPost, Path: "/session/" + x.ID + "/" + path, Body: q.With}))
	}
	var t hostlink.Touch
	if err := json.Unmarshal(q.With, &t); err != nil || !slices.Contains(hostlink.Fingers, q.Do) {
		return refused("what is to be done can't be read")
	}
	if err := x.h.touch(ctx, q.Do, t); err != nil {
		return refused(err.Error())
	}
	return remoteend.Plain(http.StatusOK, nil)
}

// touch does what fingers and keyboard do.
func (h *hands) touch(ctx context.Context, do string, t hostlink.Touch) error {
	secret := false
	if t.Locator != "" {
		s, err := h.Unit.Tree(ctx)
		if err != nil {
			return err
		}
		found, err := s.Find(t.Locator)
		switch {
		case err != nil:
			return err
		case len(found) == 0:
			return fmt.Errorf("nothing on the screen is %.200s; see what is there: tessellant device tree %s", t.Locator, h.Hold.Serial)
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
		return h.device.Do("type", map[string]string{"text": people.Shown(t.Text, secret), "element": t.Locator}, func() error {
			if t.Locator != "" {
				if err := h.Unit.Tap(ctx, t.X, t.Y); err != nil {
					return err
				}
			}
			return h.Unit.Type(ctx, t.Text)
		})
	case do == "swipe":
		return h.device.Do("swipe", map[string]string{"from": fmt.Sprintf("%d,%d", t.X, t.Y), "to": fmt.Sprintf("%d,%d", t.ToX, t.ToY), "ms": ms}, func() error {
			return h.Unit.Swipe(ctx, t.X, t.Y, t.ToX, t.ToY, t.Took)
		})
	case t.Took > 0:
		place["ms"] = ms
		return h.device.Do("long press", place, func() error { return h.Unit.Swipe(ctx, t.X, t.Y, t.X, t.Y, t.Took) })
	}
	return h.device.Do("tap", place, func() error { return h.Unit.Tap(ctx, t.X, t.Y) })
}

// plain gives what a command of WebDriver answered as this host answers all else.
func plain(r remoteend.Response) remoteend.Response {
	var a struct{ Value json.RawMessage }
	if err := json.Unmarshal(r.Body, &a); err != nil {
		return refused("the answer can't be read")
	}
	if r.Status < http.StatusBadRequest {
		return remoteend.Response{Status: r.Status, Body: a.Value}
	}
	var no struct{ Message string }
	_ = json.Unmarshal(a.Value, &no)
	return refused(no.Message)
}

func refused(why string) remoteend.Response {
	return remoteend.Plain(http.StatusConflict, hostlink.Unable{Why: why})
}
