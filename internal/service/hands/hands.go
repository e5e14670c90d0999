// Package hands is devices that persons hold: asked for, prolonged, looked at, given back.
//
// Such a hold is a session without a client: it waits in the same queue, is recorded as any session, and ends when it is given back, or when its time is over.
// What concerns the hold itself goes to its host as an order. In: what a person wants. Out: how the hold stands, and what is on its screen.
package hands

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"time"
	"unicode/utf8"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/content"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/pools"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// Hands is that room.
type Hands struct {
	Store    *store.Store
	Log      *slog.Logger
	Feed     *feed.Feed
	Content  *content.Content
	Pools    *pools.Pools
	Orders   *orders.Orders
	Sessions *sessions.Sessions
	// Timelines reads what happened in a hold.
	Timelines Timelines
}

// Bounds of a hold's time.
const (
	UsualHold   = 30 * time.Minute
	ShortHold   = time.Minute
	LongestHold = 8 * time.Hour
	// holdPatience is how long a hold waits for its device.
	holdPatience = time.Hour
	// maxHolds is how many devices the persons of a workspace may hold, or wait for, at once.
	maxHolds = 100
	// askTakes is how long a host may take to answer what concerns a hold.
	askTakes = 90 * time.Second
)

// HoldRequest is what a person wants.
type HoldRequest struct {
	Device         string        // a serial; "": any that Where chooses
	Where          []string      // patterns over traits
	Build          string        // a reference, to be installed at once; "": none
	For            time.Duration // from when the device is ready
	Name           string        // what people call it
	Helpers        []string      // that may be installed: work.Helpers
	IdempotencyKey string        // asked again with it, it is the same hold
}

func (q HoldRequest) check(title string) error {
	switch {
	case q.For < ShortHold || q.For > LongestHold:
		return refuse.New(refuse.Invalid, title, fmt.Sprintf("choose from %d minute to %d hours; it can be prolonged", int(ShortHold.Minutes()), int(LongestHold.Hours())), "a device can't be held for %s", q.For)
	case (q.Device == "") == (len(q.Where) == 0):
		return refuse.New(refuse.Invalid, title, "such as orr-01, or os>=12", "name one device, or say which would do")
	case len(q.Name) > 200 || !utf8.ValidString(q.Name):
		return refuse.New(refuse.Invalid, title, "keep it within 200 bytes, as UTF-8", "the name is too long, or is not text")
	case len(q.IdempotencyKey) > 100:
		return refuse.New(refuse.Invalid, title, "keep it within 100 bytes", "the Idempotency-Key is too long")
	}
	if err := work.CheckHelpers(q.Helpers); err != nil {
		return refuse.New(refuse.Invalid, title, "leave it out", "%v", err)
	}
	return nil
}

// Hold asks for a device for a person. It answers at once: the hold waits in the queue. Made is false where it was asked for before.
func (s *Hands) Hold(ctx context.Context, who store.Identity, q HoldRequest) (v sessions.SessionView, made bool, err error) {
	const title = "hold a device"
	if err := q.check(title); err != nil {
		return v, false, err
	}
	token := []byte(store.NewID())
	if q.IdempotencyKey != "" {
		token = []byte("hold " + who.WorkspaceID + " " + who.KeyID + " " + q.IdempotencyKey)
	}
	hash := sha256.Sum256(token)
	if q.IdempotencyKey != "" {
		if r, err := s.Store.SessionByToken(ctx, hash[:]); err == nil {
			v, err = s.Sessions.HoldByID(ctx, who, r.ID)
			return v, false, err
		}
	}
	w, b, wants, err := s.holdable(ctx, who, q, title)
	if err != nil {
		return v, false, err
	}
	going, err := s.Store.Sessions(ctx, who.WorkspaceID, store.SessionFilter{ByHand: true, Going: true}, "", maxHolds)
	if err != nil {
		return v, false, err
	}
	if len(going) == maxHolds {
		return v, false, refuse.New(refuse.Refused, title, "give some back: tessellant hold list --going", "people of this workspace hold %d devices, or wait for them, and no more may be", maxHolds)
	}
	x := store.Session{ID: store.NewID(), WorkspaceID: who.WorkspaceID, Token: hash[:], Name: q.Name, Created: time.Now().UTC().Truncate(time.Millisecond), ByHand: true}
	r := store.SessionRequest{Where: w.Where, Patience: holdPatience.Seconds(), Limit: q.For.Seconds(), Recording: recording.Usual(), Helpers: q.Helpers}
	if q.Device != "" {
		r.Where = []string{"serial=" + q.Device}
	}
	if b != nil {
		x.BuildID.String, x.BuildID.Valid, r.Build = b.ID, true, b.Ref()
	}
	x.Request.V = r
	if err := s.Store.AddSession(ctx, x, specs.Hands(r, b), wants, who.KeyID, holdPatience); err != nil {
		if errors.Is(err, store.ErrTaken) && q.IdempotencyKey != "" { // asked twice at the same time
			if first, err := s.Store.SessionByToken(ctx, hash[:]); err == nil {
				v, err = s.Sessions.HoldByID(ctx, who, first.ID)
				return v, false, err
			}
		}
		return v, false, err
	}
	s.Log.Info("a person waits for a device", "hold", x.ID, "where", r.Where, "build", r.Build, "by", who.KeyName)
	s.Orders.Dispatch()
	s.Feed.SessionChanged(x.WorkspaceID, x.ID)
	v, err = s.Sessions.HoldByID(ctx, who, x.ID)
	return v, true, err
}

// holdable finds the build that is wanted, and what is wanted of the device; an error says why there is none.
func (s *Hands) holdable(ctx context.Context, who store.Identity, q HoldRequest, title string) (w ours.Wanted, b *store.Build, wants work.Wants, err error) {
	var app appfile.Facts
	if q.Build != "" {
		found, err := s.Content.Build(ctx, who, q.Build)
		if err != nil {
			return w, nil, wants, err
		}
		b, app = &found, found.Facts.V
		needs := planning.NeedsOf(app)
		wants.Needs = &needs
	}
	var units []string
	if q.Device != "" {
		units = []string{q.Device}
	}
	if w.Filter, err = devices.ParseFilter(q.Where, units); err != nil {
		return w, nil, wants, refuse.New(refuse.Invalid, title, "see the traits with: tessellant device list --help", "%v", err)
	}
	if err := s.Pools.LookUp(ctx, who, w.Filter); err != nil {
		return w, nil, wants, err
	}
	w.Where, wants.Where, wants.Units = q.Where, q.Where, units
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return w, nil, wants, err
	}
	if q.Device != "" {
		i := slices.IndexFunc(all, func(d store.Device) bool { return d.Serial == q.Device })
		if i < 0 {
			return w, nil, wants, refuse.New(refuse.NotFound, title, "see the devices with: tessellant device list", "there is no device %q", q.Device)
		}
		if st := all[i].Standing(); !st.Usable {
			return w, nil, wants, refuse.New(refuse.Refused, title, "choose another: tessellant device list", "the device %s can't be used now: %s", q.Device, st.Unusable)
		}
	}
	wants, no := sessions.Fitting(wants, w, app, b != nil, all, false)
	if no != "" {
		return w, nil, wants, refuse.New(refuse.Refused, title, "see the devices with: tessellant device list", "no device will do: %s", no)
	}
	return w, b, wants, nil
}

// Holds lists what the persons of a workspace held, the newest first.
func (s *Hands) Holds(ctx context.Context, who store.Identity, going bool, device, after string, limit int) (views []sessions.SessionView, next string, err error) {
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.Sessions(ctx, who.WorkspaceID, store.SessionFilter{ByHand: true, Going: going, Serial: device}, after, limit+1)
	rows, next, err = paging.Cut(rows, limit, err, func(r store.SessionRow) string { return r.ID })
	if err != nil {
		return nil, "", err
	}
	views, err = s.Sessions.Views(ctx, rows)
	return views, next, err
}

// held is the device of a hold.
func held(v sessions.SessionView) At {
	return At{store.Watched{ID: v.ID, WorkspaceID: v.WorkspaceID, Kind: work.Session, ByHand: true, Stage: v.Stage, AskedBy: v.AskedBy, AttemptID: v.AttemptID.String, Serial: v.Serial.String}, "hold"}
}

// Prolong moves the end of a hold by so much.
func (s *Hands) Prolong(ctx context.Context, who store.Identity, id string, by time.Duration) (v sessions.SessionView, err error) {
	const title = "prolong the hold"
	if v, err = s.Sessions.HoldByID(ctx, who, id); err != nil {
		return v, err
	}
	if by < ShortHold || by > LongestHold {
		return v, refuse.New(refuse.Invalid, title, fmt.Sprintf("choose from %d minute to %d hours", int(ShortHold.Minutes()), int(LongestHold.Hours())), "a hold can't be prolonged by %s", by)
	}
	var left hostlink.Held
	if err := s.askHolder(ctx, held(v), title, http.MethodPost, hostlink.ProlongPath, hostlink.Prolong{By: by, Most: LongestHold}, &left); err != nil {
		return v, err
	}
	if err := s.Store.HeldFor(ctx, v.ID, left.Left); err != nil {
		return v, err
	}
	s.Feed.SessionChanged(v.WorkspaceID, v.ID)
	return s.Sessions.HoldByID(ctx, who, v.ID)
}

// GiveBack ends a hold: its device is cleaned and goes to the next. One that waits is taken out of the queue.
func (s *Hands) GiveBack(ctx context.Context, who store.Identity, id string) (sessions.SessionView, error) {
	v, err := s.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return v, err
	}
	switch v.Stage {
	case "collecting", "done":
		return v, nil // as was wanted
	case "running":
		err := s.askHolder(ctx, held(v), "give the device back", http.MethodDelete, "", nil, nil)
		var no *refuse.Error
		// A refusal says that it is over already: to stop it now would change how it ended.
		if err == nil || errors.As(err, &no) && no.Kind == refuse.Refused {
			s.Log.Info("a person gives a device back", "hold", v.ID)
			s.Feed.SessionChanged(v.WorkspaceID, v.ID)
			return s.Sessions.HoldByID(ctx, who, v.ID)
		}
	}
	if err := s.Sessions.End(ctx, v.ID, v.WorkspaceID, "stopped", "it was given back before the device was ready"); err != nil {
		return v, err
	}
	return s.Sessions.HoldByID(ctx, who, v.ID)
}
