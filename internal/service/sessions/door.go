package sessions

// The door: commands of sessions on their way to the hosts that carry them out.

import (
	"context"
	"errors"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"tessellant/internal/core/w3c"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/orders"
	"tessellant/internal/store"
)

// door remembers where sessions are, by the ids that go over the wire. What is forgotten is found again in the database.
type door struct{ *lru.Cache[string, *passage] }

func newDoor() door {
	where, _ := lru.New[string, *passage](maxPassages) // it fails for no size alone
	return door{where}
}

// passage is the way to one session.
type passage struct {
	session, workspace, hold, host string
	joined                         bool // a client that works on a device which a person holds
}

const (
	maxPassages = 20_000
	// maxCommand is how long the door waits for one command.
	maxCommand = 15 * time.Minute
)

// keepPassage remembers the way to a session that has this hold.
func (s *Sessions) keepPassage(ctx context.Context, wire string, h store.Hold, joined bool) (*passage, error) {
	name, err := s.Store.HostName(ctx, h.HostID)
	if err != nil {
		return nil, err
	}
	p := &passage{session: h.WorkID, workspace: h.WorkspaceID, hold: h.ID, host: name, joined: joined}
	s.door.Add(wire, p)
	return p, nil
}

func noSession(wire string) *w3c.Error {
	return w3c.Fail(w3c.InvalidSessionID, "there is no session %.100q", wire)
}

// passage finds the way to a session. Workspace is the one that the caller's key is of; "": the caller showed none, and the id alone
// must do, which nobody can guess.
func (s *Sessions) passage(ctx context.Context, workspace, wire string) (*passage, *w3c.Error) {
	p, known := s.door.Get(wire)
	if !known {
		joined := false
		r, err := s.Store.SessionByToken(ctx, tokenHash(wire))
		if errors.Is(err, store.ErrNotFound) || err == nil && r.ByHand { // a hold's own token is no client's
			joined = true
			r, err = s.Store.HoldOfClient(ctx, tokenHash(wire))
		}
		if errors.Is(err, store.ErrNotFound) {
			return nil, noSession(wire)
		}
		if err != nil {
			return nil, s.serviceFailed("find the session", err)
		}
		if workspace != "" && r.WorkspaceID != workspace {
			return nil, noSession(wire)
		}
		h, err := s.ActiveHold(ctx, r)
		switch {
		case errors.Is(err, ErrNoHold):
			return nil, w3c.Fail(w3c.InvalidSessionID, "the session %s has ended: %s", r.ID, howItEnded(r))
		case err != nil:
			return nil, s.serviceFailed("find the session's device", err)
		}
		if p, err = s.keepPassage(ctx, wire, h, joined); err != nil {
			return nil, s.serviceFailed("find the session's host", err)
		}
	}
	if workspace != "" && p.workspace != workspace {
		return nil, noSession(wire)
	}
	return p, nil
}

// HasSession says why there is no such session; nil: there is. Workspace is as for passage.
func (s *Sessions) HasSession(ctx context.Context, workspace, wire string) *w3c.Error {
	_, werr := s.passage(ctx, workspace, wire)
	return werr
}

func howItEnded(r store.SessionRow) string {
	out := string(r.Verdict)
	if out == "" {
		out = "it is being closed"
	}
	if r.Message != "" {
		out += ", " + r.Message
	}
	return out
}

// Command carries out one command of a session. Workspace is as for passage.
func (s *Sessions) Command(ctx context.Context, workspace string, q remoteend.Request) remoteend.Response {
	call, werr := w3c.Route(q.Method, q.Path)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	p, werr := s.passage(ctx, workspace, call.Session)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	ctx, cancel := context.WithTimeout(ctx, maxCommand)
	defer cancel()
	if p.joined && call.Name == "Delete Session" { // the device stays with the person
		return s.leave(ctx, call.Session)
	}
	// The host knows the session by its own id: what goes over the wire is a secret.
	q.Path = "/session/" + p.session + q.Path[len("/session/")+len(call.Session):]
	out, err := s.Orders.Do(ctx, p.host, p.hold, q)
	if err == nil {
		return out
	}
	s.door.Remove(call.Session)
	if errors.Is(err, orders.ErrGone) {
		if call.Name == "Delete Session" { // its answer got lost on the way: it is over, as was wanted
			return remoteend.Done()
		}
		again, werr := s.passage(ctx, workspace, call.Session)
		if werr != nil {
			return remoteend.Answer(werr)
		}
		return remoteend.Answer(w3c.Fail(w3c.InvalidSessionID, "the session %s has ended and is being closed", again.session))
	}
	s.Log.Warn("a session's command could not be handed on", "session", p.session, "host", p.host, "err", err)
	return remoteend.Answer(w3c.Fail(w3c.UnknownError, "the host %s, where the session's device is, did not take the command: %v", p.host, err))
}
