package sessions

// Clients of WebDriver that work on a device which a person holds: they come and go, and it stays held.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

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
func (s *Sessions) join(ctx context.Context, who store.Identity, c w3c.Capabilities, door string) remoteend.Response {
	w, err := ours.Read(c)
	if err != nil {
		return remoteend.Answer(w3c.Fail(w3c.InvalidArgument, "%v", err))
	}
	if w.Build != "" || len(w.Where)+len(w.Conditions)+len(w.Helpers) > 0 {
		return remoteend.Answer(w3c.Fail(w3c.InvalidArgument, "tessellant:hold: the device is held already, so that build, where, conditions and helpers can't be chosen; leave them out"))
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
		_ = s.leave(context.WithoutCancel(ctx), wire)
		return remoteend.Answer(s.serviceFailed("find the hold's host", err))
	}
	timeouts, werr := s.agreeTimeouts(ctx, p, w.Standard)
	if werr != nil {
		_ = s.leave(context.WithoutCancel(ctx), wire)
		return remoteend.Answer(werr)
	}
	s.Log.Info("a client works on a device that is held", "hold", v.ID)
	told := v.SessionRow
	told.Request.V.Standard = w.Standard
	answer := s.answered(told, door, wire)
	answer["timeouts"] = timeouts
	return remoteend.NewAnswer(wire, answer)
}

// agreeTimeouts sets the time-outs that a client asks for, and says which hold: those who work on one device share them, and who asks for none leaves them as they are.
func (s *Sessions) agreeTimeouts(ctx context.Context, p *passage, asked w3c.Capabilities) (any, *w3c.Error) {
	path := "/session/" + p.session + "/timeouts"
	gone := w3c.Fail(w3c.SessionNotCreated, "tessellant:hold: the host %s, where the device is, does not answer", p.host)
	if v, given := asked["timeouts"]; given {
		raw, err := json.Marshal(v)
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "the timeouts can't be read: %v", err)
		}
		if out, err := s.Orders.Do(ctx, p.host, p.hold, remoteend.Request{Method: http.MethodPost, Path: path, Body: raw}); err != nil || out.Status != http.StatusOK {
			return nil, gone
		}
	}
	out, err := s.Orders.Do(ctx, p.host, p.hold, remoteend.Request{Method: http.MethodGet, Path: path})
	var said struct{ Value any }
	if err != nil || out.Status != http.StatusOK || json.Unmarshal(out.Body, &said) != nil {
		return nil, gone
	}
	return said.Value, nil
}

// leave answers the Delete Session of a client that works on a device which a person holds.
func (s *Sessions) leave(ctx context.Context, wire string) remoteend.Response {
	if err := s.Store.LeaveHold(ctx, tokenHash(wire)); err != nil {
		return remoteend.Answer(s.serviceFailed("end the session", err))
	}
	if p, werr := s.passage(ctx, "", wire); werr == nil {
		s.unlisten(ctx, p, wire)
	}
	s.door.Remove(wire)
	return remoteend.Done()
}

// HoldByID finds a hold by its id, by the serial of the device that is held, or the one that was asked for last, as "newest".
func (s *Sessions) HoldByID(ctx context.Context, who store.Identity, ref string) (v SessionView, err error) {
	var r store.SessionRow
	if ref == "newest" {
		r, err = s.newest(ctx, who, store.SessionFilter{ByHand: true})
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
