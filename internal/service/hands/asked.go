package hands

// What is asked of the host that has a held device: the tree of its screen, a picture, deeds, and a way to watch it.

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tessellant/internal/core/access"
	"tessellant/internal/core/routes"
	"tessellant/internal/core/uitree"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// At is a device at which people may be: one that a person holds, or on which a session or a leg runs.
type At struct {
	store.Watched
	Of string // hold, session or leg
}

// At finds one by its id, by the serial of its device, or, as "newest", the hold that was asked for last.
func (s *Hands) At(ctx context.Context, who store.Identity, ref string) (at At, err error) {
	if ref == "newest" {
		v, err := s.Sessions.HoldByID(ctx, who, ref)
		if err != nil {
			return at, err
		}
		ref = v.ID
	}
	at.Watched, err = s.Store.WatchedByID(ctx, who.WorkspaceID, ref)
	if errors.Is(err, store.ErrNotFound) {
		at.Watched, err = s.Store.WatchedOn(ctx, who.WorkspaceID, ref)
	}
	if err != nil {
		return at, refuse.Missing(err, "hold, session or leg that runs", ref, "see what is held with: tessellant hold list; hold a device with: tessellant device hold SERIAL")
	}
	at.Of = string(at.Kind)
	if at.ByHand {
		at.Of = "hold"
	}
	return at, nil
}

// place is where such a device is: its host, and the hold there.
type place struct{ host, hold string }

// placeOf finds the host of a device at which people may be; an error says why there is none now.
func (s *Hands) placeOf(ctx context.Context, at At, title string) (p place, err error) {
	again := map[bool]string{true: "hold the device again", false: "hold a device: tessellant device hold SERIAL"}[at.ByHand]
	switch {
	case at.Stage == "waiting":
		return p, refuse.New(refuse.Refused, title, "wait until it has its device", "the %s waits for its device still", at.Of)
	case at.Stage == "done":
		return p, refuse.New(refuse.Refused, title, again, "the %s is over", at.Of)
	case at.Stage != "running":
		return p, refuse.New(refuse.Refused, title, "try again in a moment", "the device is not ready, or is being given back (%s)", at.Stage)
	}
	h, err := s.Store.HoldOfAttempt(ctx, at.AttemptID)
	if errors.Is(err, store.ErrNotFound) {
		return p, refuse.New(refuse.Refused, title, again, "the %s is being ended", at.Of)
	}
	if err != nil {
		return p, err
	}
	name, err := s.Store.HostName(ctx, h.HostID)
	return place{name, h.ID}, err
}

// gone says that the host does not know of it any more.
func (at At) gone(err error, title string) error {
	if errors.Is(err, orders.ErrGone) {
		return refuse.New(refuse.Refused, title, map[bool]string{true: "hold the device again"}[at.ByHand], "the %s is over, or its host was started anew", at.Of)
	}
	return err
}

// askHolder asks the host of a hold's device for something that it does soon.
func (s *Hands) askHolder(ctx context.Context, at At, title, method, path string, q, answer any) error {
	ctx, cancel := context.WithTimeout(ctx, askTakes)
	defer cancel()
	return s.askWithin(ctx, at, title, method, path, q, answer)
}

// askWithin asks for something that may take as long as the context says.
func (s *Hands) askWithin(ctx context.Context, at At, title, method, path string, q, answer any) error {
	p, err := s.placeOf(ctx, at, title)
	if err != nil {
		return err
	}
	var body []byte
	if q != nil {
		if body, err = json.Marshal(q); err != nil {
			return err
		}
	}
	return at.gone(s.Orders.Ask(ctx, p.host, p.hold, title, remoteend.Request{Method: method, Path: "/session/" + at.ID + path, Body: body}, answer), title)
}

// HeldTree reads what is on the screen of a device that is held.
func (s *Hands) HeldTree(ctx context.Context, who store.Identity, id string) (at At, screen *uitree.Screen, err error) {
	const title = "read the screen"
	if at, err = s.At(ctx, who, id); err != nil {
		return at, nil, err
	}
	var t hostlink.Tree
	if err := s.askHolder(ctx, at, title, http.MethodGet, hostlink.TreePath, nil, &t); err != nil {
		return at, nil, err
	}
	if screen, err = uitree.ParseOurs([]byte(t.XML)); err != nil {
		return at, nil, refuse.New(refuse.Refused, title, "try again in a moment", "the host's answer can't be read: %v", err)
	}
	screen.Rotation = t.Rotation
	return at, screen, nil
}

// HeldPicture takes a picture of the screen of a device that is held, as PNG.
func (s *Hands) HeldPicture(ctx context.Context, who store.Identity, id string) ([]byte, error) {
	const title = "take a picture of the screen"
	at, err := s.At(ctx, who, id)
	if err != nil {
		return nil, err
	}
	var shot hostlink.Shot
	err = s.askHolder(ctx, at, title, http.MethodGet, hostlink.ShotPath, nil, &shot)
	return shot.PNG, err
}

// HeldApp is an app on a held device.
type HeldApp struct {
	App     string `json:"app"`
	Version string `json:"version"`
}

// HeldApps lists the apps on a held device that are not its system's.
func (s *Hands) HeldApps(ctx context.Context, who store.Identity, id string) (apps []HeldApp, err error) {
	at, err := s.At(ctx, who, id)
	if err != nil {
		return nil, err
	}
	err = s.askHolder(ctx, at, "list the apps", http.MethodGet, "/"+hostlink.AppsCommand, nil, &apps)
	return apps, err
}

// DoOnHeld does one thing on a held device: with is a hostlink.Touch for those of fingers, else the body of its command.
func (s *Hands) DoOnHeld(ctx context.Context, who store.Identity, id, do string, with any) error {
	title := do + " on the device"
	if hostlink.Commands[do] == "" && !slices.Contains(hostlink.Fingers, do) {
		return refuse.New(refuse.Invalid, title, "see the list in the API's description", "nothing is called %.50q that could be done", do)
	}
	at, err := s.At(ctx, who, id)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(with)
	if err != nil {
		return err
	}
	return s.askHolder(ctx, at, title, http.MethodPost, hostlink.DoPath, hostlink.Deed{Do: do, With: raw}, nil)
}

// PauseTest has the test on a device pause before its next command: while somebody watches it in the console, or for so long.
func (s *Hands) PauseTest(ctx context.Context, who store.Identity, id, why string, long time.Duration) (stands hostlink.Standing, err error) {
	const title = "pause the test"
	if long < 0 || long > LongestPause || len(why) > maxWhy || !utf8.ValidString(why) {
		return stands, refuse.New(refuse.Invalid, title, fmt.Sprintf("at most %d minutes, and a reason of at most %d bytes", int(LongestPause.Minutes()), maxWhy), "the time or the reason is too long, or the reason is no text")
	}
	at, err := s.At(ctx, who, id)
	if err != nil {
		return stands, err
	}
	err = s.askHolder(ctx, at, title, http.MethodPost, hostlink.PausePath, hostlink.Pause{By: who.KeyName, Why: why, For: long}, &stands)
	return stands, err
}

// Bounds of a pause. The host's own are the same.
const (
	LongestPause = 30 * time.Minute
	maxWhy       = 500
)

// ResumeTest resumes a test that was paused.
func (s *Hands) ResumeTest(ctx context.Context, who store.Identity, id string) (stands hostlink.Standing, err error) {
	at, err := s.At(ctx, who, id)
	if err != nil {
		return stands, err
	}
	err = s.askHolder(ctx, at, "resume the test", http.MethodPost, hostlink.ResumePath, hostlink.Resume{By: who.KeyName}, &stands)
	return stands, err
}

// TestStands says how the test on a device stands.
func (s *Hands) TestStands(ctx context.Context, who store.Identity, id string) (stands hostlink.Standing, err error) {
	at, err := s.At(ctx, who, id)
	if err != nil {
		return stands, err
	}
	err = s.askHolder(ctx, at, "see how the test stands", http.MethodGet, hostlink.PausePath, nil, &stands)
	return stands, err
}

// OpenRoute opens a way from the apps on a device to servers that the other end of the connection sees: at are what apps ask for, as NAME:PORT. What goes over the
// connection is internal/tunnel.
func (s *Hands) OpenRoute(ctx context.Context, who store.Identity, id string, ats []string) (net.Conn, error) {
	const title = "open the route"
	all, err := routes.ParseAll(ats)
	if err != nil || len(all) == 0 {
		return nil, refuse.New(refuse.Invalid, title, "such as 3000 or api.kelpline.test:443", "%v", cmp.Or(err, errNoRoutes))
	}
	at, err := s.At(ctx, who, id)
	if err != nil {
		return nil, err
	}
	allowed, err := s.Store.Allowances(ctx, who.WorkspaceID)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(all))
	for i, r := range all {
		if !allowed.Routes.V.Allow(r) {
			return nil, refuse.New(refuse.Forbidden, title, "an owner can allow it: tessellant workspace set --routes "+strings.Join(append(slices.Clone(allowed.Routes.V), r.Host), ","), "the workspace does not let apps be led elsewhere from %s", r.At())
		}
		names[i] = r.At()
	}
	p, err := s.placeOf(ctx, at, title)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, askTakes)
	defer cancel()
	c, err := s.Orders.Open(ctx, p.host, p.hold, title, remoteend.Request{Method: http.MethodPost, Path: "/session/" + at.ID + hostlink.RoutePath}, map[string]any{"by": who.KeyName, "at": names})
	if err == nil {
		s.Log.Info("a route is open", at.Of, at.ID, "from", names, "by", who.KeyName)
	}
	return c, at.gone(err, title)
}

var errNoRoutes = errors.New("no route is asked for")

// Routes lists the ways that are open from the apps on a device.
func (s *Hands) Routes(ctx context.Context, who store.Identity, id string) (out []hostlink.Routed, err error) {
	at, err := s.At(ctx, who, id)
	if err != nil {
		return nil, err
	}
	err = s.askHolder(ctx, at, "list the routes", http.MethodGet, hostlink.RoutePath, nil, &out)
	return out, err
}

// openTakes is how long a host may take to let somebody watch.
const openTakes = 20 * time.Second

// Watch lets somebody watch a held device, or have it in hand; what goes over the connection is hostlink/live.go.
func (s *Hands) Watch(ctx context.Context, who store.Identity, id string) (net.Conn, error) {
	const title = "watch the device"
	at, err := s.At(ctx, who, id)
	if err != nil {
		return nil, err
	}
	p, err := s.placeOf(ctx, at, title)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTakes)
	defer cancel()
	takes := access.May(who.Role, access.Test)
	c, err := s.Orders.Open(ctx, p.host, p.hold, title, remoteend.Request{Method: http.MethodPost, Path: "/session/" + at.ID + hostlink.WatchPath},
		map[string]any{"name": who.KeyName, "takes": takes, "mine": takes && at.AskedBy == who.KeyID})
	return c, at.gone(err, title)
}
