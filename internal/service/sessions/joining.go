package sessions

// Clients of WebDriver that work on a device which a person holds: they come and go, and it stays held.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"tessellant/internal/core/access"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// joins is the capability that names a hold.
const joins = w3c.Prefix + ":hold"

// maxClients is how many clients may work on one device at once.
const maxClients = 20

// join answers a New Session request that names a hold.
func (s *Sessions) join(ctx context.Context, who store.Identity, c w3c.Capabilities) remoteend.Response {
	w, err := ours.Read(c)
	if err != nil {
		return remoteend.Answer(w3c.Fail(w3c.InvalidArgument, "%v", err))
	}
	if w.Build != "" || len(w.Where) > 0 || len(w.Conditions) > 0 {
		return remoteend.Answer(w3c.Fail(w3c.InvalidArgument, "tessellant:hold: the device is held already, so that build, where and conditions can't be chosen; leave them out"))
	}
	if !access.May(who.Role, access.Test) {
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: a key of the role %s may not work on a device that is held", who.Role))
	}
	v, err := s.HoldByID(ctx, who, w.Hold)
	var no *refuse.Error
	switch {
	case errors.As(err, &no):
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: %s; %s", no.Why, no.Remedy))
	case err != nil:
		return remoteend.Answer(s.serviceFailed("find the hold", err))
	case v.Stage != "running":
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: the device is not held now; see how it stands with: tessellant hold show %s", v.ID))
	}
	if no := c.Unmatched(v.Facts.V.Platform); no != "" {
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "the device that is held will not do: %s", no))
	}
	h, err := s.ActiveHold(ctx, v.SessionRow)
	if errors.Is(err, ErrNoHold) {
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: the hold is being ended"))
	}
	if err != nil {
		return remoteend.Answer(s.serviceFailed("find the hold's device", err))
	}
	timeouts, werr := w.Standard.Timeouts()
	if werr != nil {
		return remoteend.Answer(werr)
	}
	wire := strings.ToLower(rand.Text())
	ok, err := s.Store.JoinHold(ctx, v.ID, tokenHash(wire), maxClients)
	if err != nil {
		return remoteend.Answer(s.serviceFailed("join the hold", err))
	}
	if !ok {
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: %d clients work on the device already; have them delete their sessions", maxClients))
	}
	p, err := s.keepPassage(ctx, wire, h, true)
	if err != nil {
		return remoteend.Answer(s.serviceFailed("find the hold's host", err))
	}
	raw, err := json.Marshal(timeouts.JSON())
	if err == nil {
		_, err = s.Orders.Do(ctx, p.host, p.hold, remoteend.Request{Method: http.MethodPost, Path: "/session/" + v.ID + "/timeouts", Body: raw})
	}
	if err != nil {
		_ = s.leave(context.WithoutCancel(ctx), wire)
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: the host %s, where the device is, does not answer", p.host))
	}
	s.Log.Info("a client works on a device that is held", "hold", v.ID)
	told := v.SessionRow
	told.Request.V.Standard = w.Standard
	return remoteend.NewAnswer(wire, s.answered(told))
}

// leave answers the Delete Session of a client that works on a device which a person holds.
func (s *Sessions) leave(ctx context.Context, wire string) remoteend.Response {
	if err := s.Store.LeaveHold(ctx, tokenHash(wire)); err != nil {
		return remoteend.Answer(s.serviceFailed("end the session", err))
	}
	s.door.Remove(wire)
	return remoteend.Done()
}

// HoldPatience is how long a person waits for a device.
const HoldPatience = time.Hour

// HoldByID finds a hold by its id, by the serial of the device that is held, or the one that was asked for last, as "newest".
func (s *Sessions) HoldByID(ctx context.Context, who store.Identity, ref string) (v SessionView, err error) {
	var r store.SessionRow
	if ref == "newest" {
		var rows []store.SessionRow
		if rows, err = s.Store.Sessions(ctx, who.WorkspaceID, store.SessionFilter{ByHand: true}, "", 1); err == nil && len(rows) == 0 {
			err = store.ErrNotFound
		} else if err == nil {
			r = rows[0]
		}
	} else if r, err = s.Store.SessionByID(ctx, who.WorkspaceID, ref); errors.Is(err, store.ErrNotFound) || err == nil && !r.ByHand {
		r, err = s.Store.HoldOnDevice(ctx, who.WorkspaceID, ref)
	}
	if err != nil {
		return v, refuse.Missing(err, "hold", ref, "see what is held with: tessellant hold list; hold a device with: tessellant device hold SERIAL")
	}
	vs, err := s.Views(ctx, []store.SessionRow{r})
	if err != nil {
		return v, err
	}
	return vs[0], nil
}
