package hands

// What is asked of the host that has a held device: the tree of its screen, a picture, deeds, and a way to watch it.

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"slices"
	"time"

	"tessellant/internal/core/access"
	"tessellant/internal/core/uitree"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/sessions"
	"tessellant/internal/store"
)

// place is where a held device is: its host, and the hold there.
type place struct{ host, hold string }

// placeOf finds the host of a hold's device; an error says why there is none now.
func (s *Hands) placeOf(ctx context.Context, v sessions.SessionView, title string) (p place, err error) {
	switch {
	case v.Stage == "waiting":
		return p, refuse.New(refuse.Refused, title, "wait until it has its device", "the hold waits for its device still")
	case v.Stage == "done":
		return p, refuse.New(refuse.Refused, title, "hold the device again", "the hold is over")
	case v.Stage != "running":
		return p, refuse.New(refuse.Refused, title, "try again in a moment", "the device is not ready, or is being given back (%s)", v.Stage)
	}
	h, err := s.Sessions.ActiveHold(ctx, v.SessionRow)
	if errors.Is(err, sessions.ErrNoHold) {
		return p, refuse.New(refuse.Refused, title, "hold the device again", "the hold is being ended")
	}
	if err != nil {
		return p, err
	}
	name, err := s.Store.HostName(ctx, h.HostID)
	return place{name, h.ID}, err
}

// gone says that the host does not know a hold any more.
func gone(err error, title string) error {
	if errors.Is(err, orders.ErrGone) {
		return refuse.New(refuse.Refused, title, "hold the device again", "the hold is over, or its host was started anew")
	}
	return err
}

// askHolder asks the host of a hold's device for something that it does soon.
func (s *Hands) askHolder(ctx context.Context, v sessions.SessionView, title, method, path string, q, answer any) error {
	ctx, cancel := context.WithTimeout(ctx, askTakes)
	defer cancel()
	return s.askWithin(ctx, v, title, method, path, q, answer)
}

// askWithin asks for something that may take as long as the context says.
func (s *Hands) askWithin(ctx context.Context, v sessions.SessionView, title, method, path string, q, answer any) error {
	p, err := s.placeOf(ctx, v, title)
	if err != nil {
		return err
	}
	var body []byte
	if q != nil {
		if body, err = json.Marshal(q); err != nil {
			return err
		}
	}
	return gone(s.Orders.Ask(ctx, p.host, p.hold, title, remoteend.Request{Method: method, Path: "/session/" + v.ID + path, Body: body}, answer), title)
}

// HeldTree reads what is on the screen of a device that is held.
func (s *Hands) HeldTree(ctx context.Context, who store.Identity, id string) (v sessions.SessionView, screen *uitree.Screen, err error) {
	const title = "read the screen"
	if v, err = s.Sessions.HoldByID(ctx, who, id); err != nil {
		return v, nil, err
	}
	var t hostlink.Tree
	if err := s.askHolder(ctx, v, title, http.MethodGet, hostlink.TreePath, nil, &t); err != nil {
		return v, nil, err
	}
	if screen, err = uitree.ParseOurs([]byte(t.XML)); err != nil {
		return v, nil, refuse.New(refuse.Refused, title, "try again in a moment", "the host's answer can't be read: %v", err)
	}
	screen.Rotation = t.Rotation
	return v, screen, nil
}

// HeldPicture takes a picture of the screen of a device that is held, as PNG.
func (s *Hands) HeldPicture(ctx context.Context, who store.Identity, id string) ([]byte, error) {
	const title = "take a picture of the screen"
	v, err := s.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return nil, err
	}
	var shot hostlink.Shot
	err = s.askHolder(ctx, v, title, http.MethodGet, hostlink.ShotPath, nil, &shot)
	return shot.PNG, err
}

// HeldApp is an app on a held device.
type HeldApp struct {
	App     string `json:"app"`
	Version string `json:"version"`
}

// HeldApps lists the apps on a held device that are not its system's.
func (s *Hands) HeldApps(ctx context.Context, who store.Identity, id string) (apps []HeldApp, err error) {
	v, err := s.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return nil, err
	}
	err = s.askHolder(ctx, v, "list the apps", http.MethodGet, "/"+hostlink.AppsCommand, nil, &apps)
	return apps, err
}

// DoOnHeld does one thing on a held device: with is a hostlink.Touch for those of fingers, else the body of its command.
func (s *Hands) DoOnHeld(ctx context.Context, who store.Identity, id, do string, with any) error {
	title := do + " on the device"
	if hostlink.Commands[do] == "" && !slices.Contains(hostlink.Fingers, do) {
		return refuse.New(refuse.Invalid, title, "see the list in the API's description", "nothing is called %.50q that could be done", do)
	}
	v, err := s.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(with)
	if err != nil {
		return err
	}
	return s.askHolder(ctx, v, title, http.MethodPost, hostlink.DoPath, hostlink.Deed{Do: do, With: raw}, nil)
}

// openTakes is how long a host may take to let somebody watch.
const openTakes = 20 * time.Second

// Watch lets somebody watch a held device, or have it in hand; what goes over the connection is hostlink/live.go.
func (s *Hands) Watch(ctx context.Context, who store.Identity, id string) (net.Conn, error) {
	const title = "watch the device"
	v, err := s.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return nil, err
	}
	p, err := s.placeOf(ctx, v, title)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTakes)
	defer cancel()
	takes := access.May(who.Role, access.Test)
	c, err := s.Orders.Open(ctx, p.host, p.hold, title, remoteend.Request{Method: http.MethodPost, Path: "/session/" + v.ID + hostlink.WatchPath},
		map[string]any{"name": who.KeyName, "takes": takes, "mine": takes && v.AskedBy == who.KeyID})
	return c, gone(err, title)
}
