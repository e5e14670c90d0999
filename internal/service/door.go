package service

// The door: commands of sessions on their way to the hosts that carry them out.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/w3c"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/store"
)

// door remembers where sessions are.
type door struct {
	mu    sync.Mutex
	where map[string]*passage // by the id that goes over the wire
	keys  map[string]keyHolder
}

// keyHolder is who was found to hold a key, and when.
type keyHolder struct {
	workspace string
	at        time.Time
}

const (
	keyTrust = 15 * time.Second // a key that was taken away opens no session, and commands one so much longer
	keyAsk   = 2 * time.Second  // for the database to say whose a key is that it has known before
	maxKeys  = 1000
)

// Holder says which workspace a key is of. A session's client shows it with each command: the database is asked now and
// then, and while it is away what it said last holds.
func (s *Service) Holder(ctx context.Context, key string) (workspace string, err error) {
	hash := string(hashKey(key))
	d := &s.door
	d.mu.Lock()
	known, before := d.keys[hash]
	if before {
		if time.Since(known.at) < keyTrust {
			d.mu.Unlock()
			return known.workspace, nil
		}
		d.keys[hash] = keyHolder{known.workspace, time.Now()} // one asks; the others need not wait
	}
	d.mu.Unlock()
	ask, cancel := ctx, func() {}
	if before {
		ask, cancel = context.WithTimeout(ctx, keyAsk)
	}
	defer cancel()
	who, err := s.Enter(ask, key)
	var no *Error
	if before && err != nil && !errors.As(err, &no) {
		return known.workspace, ctx.Err()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err != nil {
		delete(d.keys, hash)
		return "", err
	}
	if d.keys == nil || len(d.keys) >= maxKeys {
		d.keys = map[string]keyHolder{}
	}
	d.keys[hash] = keyHolder{who.WorkspaceID, time.Now()}
	return who.WorkspaceID, nil
}

// passage is the way to one session.
type passage struct {
	session, workspace, hold, host string
}

const (
	maxPassages = 20_000
	// retryFor is how long a host that does not answer is asked again before the client hears of it.
	retryFor = 10 * time.Second
	// maxCommand is how long the door waits for one command.
	maxCommand = 15 * time.Minute
)

// keepPassage remembers the way to a session that has this hold.
func (s *Service) keepPassage(ctx context.Context, wire string, h store.Hold) (*passage, error) {
	name, err := s.Store.HostName(ctx, h.HostID)
	if err != nil {
		return nil, err
	}
	p := &passage{session: h.WorkID, workspace: h.WorkspaceID, hold: h.ID, host: name}
	s.door.mu.Lock()
	defer s.door.mu.Unlock()
	if s.door.where == nil || len(s.door.where) >= maxPassages { // what is forgotten is found again in the database
		s.door.where = map[string]*passage{}
	}
	s.door.where[wire] = p
	return p, nil
}

func (d *door) find(wire string) *passage {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.where[wire]
}

func (d *door) forget(wire string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.where, wire)
}

func noSession(wire string) *w3c.Error {
	return w3c.Fail(w3c.InvalidSessionID, "there is no session %.100q", wire)
}

// passage finds the way to a session. Workspace is the one that the caller's key is of; "": the caller showed none, and the id alone
// must do, which nobody can guess.
func (s *Service) passage(ctx context.Context, workspace, wire string) (*passage, *w3c.Error) {
	p := s.door.find(wire)
	if p == nil {
		r, err := s.Store.SessionByToken(ctx, tokenHash(wire))
		if errors.Is(err, store.ErrNotFound) {
			return nil, noSession(wire)
		}
		if err != nil {
			return nil, s.serviceFailed("find the session", err)
		}
		if workspace != "" && r.WorkspaceID != workspace {
			return nil, noSession(wire)
		}
		h, err := s.activeHold(ctx, r)
		switch {
		case errors.Is(err, errNoHold):
			return nil, w3c.Fail(w3c.InvalidSessionID, "the session %s is over: %s", r.ID, howItEnded(r))
		case err != nil:
			return nil, s.serviceFailed("find the session's device", err)
		}
		if p, err = s.keepPassage(ctx, wire, h); err != nil {
			return nil, s.serviceFailed("find the session's host", err)
		}
	}
	if workspace != "" && p.workspace != workspace {
		return nil, noSession(wire)
	}
	return p, nil
}

// HasSession says why there is no such session; nil: there is. Workspace is as for passage.
func (s *Service) HasSession(ctx context.Context, workspace, wire string) *w3c.Error {
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
func (s *Service) Command(ctx context.Context, workspace string, q remoteend.Request) remoteend.Response {
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
	// The host knows the session by its own id: what goes over the wire is a secret.
	q.Path = "/session/" + p.session + q.Path[len("/session/")+len(call.Session):]
	out, err := s.order(ctx, p, q)
	if err == nil {
		return out
	}
	s.door.forget(call.Session)
	if errors.Is(err, errGone) {
		if call.Name == "Delete Session" { // its answer got lost on the way: it is over, as was wanted
			return remoteend.Done()
		}
		again, werr := s.passage(ctx, workspace, call.Session)
		if werr != nil {
			return remoteend.Answer(werr)
		}
		return remoteend.Answer(w3c.Fail(w3c.InvalidSessionID, "the session %s is over, and is being closed", again.session))
	}
	s.Log.Warn("a session's command could not be handed on", "session", p.session, "host", p.host, "err", err)
	return remoteend.Answer(w3c.Fail(w3c.UnknownError, "the host %s, where the session's device is, did not take the command: %v", p.host, err))
}

var errGone = errors.New("the host does not have the session any more")

// order hands a command on, in pieces where it is large, and gathers the answer.
func (s *Service) order(ctx context.Context, p *passage, q remoteend.Request) (out remoteend.Response, err error) {
	o := hostlink.Order{Hold: p.hold, ID: rand.Text(), Method: q.Method, Path: q.Path, Size: len(q.Body)}
	silent := time.Time{}
	for {
		to := min(o.From+hostlink.PieceSize, len(q.Body))
		o.Piece = q.Body[o.From:to]
		r, err := s.SendOrder(ctx, p.host, o)
		switch {
		case ctx.Err() != nil:
			return out, ctx.Err()
		case err != nil && silent.IsZero():
			silent = time.Now()
			fallthrough
		case err != nil:
			if time.Since(silent) > retryFor {
				return out, err
			}
			select {
			case <-time.After(200 * time.Millisecond):
			case <-ctx.Done():
				return out, ctx.Err()
			}
			continue
		case r.Gone:
			return out, errGone
		case r.Problem != "":
			return out, errors.New(r.Problem)
		}
		silent = time.Time{}
		if r.Pending {
			if to < len(q.Body) {
				o.From = to
			}
			continue
		}
		out.Status = r.Status
		out.Body = append(out.Body, r.Piece...)
		if o.Want = len(out.Body); o.Want >= r.Size || len(r.Piece) == 0 {
			return out, nil
		}
	}
}

// SendOrder hands an order to a host: directly where that is in this process, else over the bus.
func (s *Service) SendOrder(ctx context.Context, name string, o hostlink.Order) (r hostlink.Result, err error) {
	l := s.hostLink()
	l.mu.Lock()
	beside := l.orders[name]
	l.mu.Unlock()
	if beside != nil {
		return beside(ctx, o), nil
	}
	raw, err := json.Marshal(o)
	if err != nil {
		return r, err
	}
	back, err := s.Bus.Call(ctx, bus.Commands(name), raw)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(back, &r)
}
