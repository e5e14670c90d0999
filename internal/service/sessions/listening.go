package sessions

// Clients that listen to a session (W3C WebDriver BiDi): their way to the host, which answers them.

import (
	"context"
	"encoding/hex"
	"errors"
	"net"

	"tessellant/internal/core/w3c"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
)

// listener is how the host knows a client that works on a device which a person holds; "": the session's own.
func (p *passage) listener(wire string) string {
	if !p.joined {
		return ""
	}
	return hex.EncodeToString(tokenHash(wire)[:8])
}

// Listen opens a way to what goes on in a session: frames, each a message (core/bidi). Ended is to be told why the host has closed it. Workspace is as for passage.
func (s *Sessions) Listen(ctx context.Context, workspace, wire string) (c net.Conn, ended func(why error), werr *w3c.Error) {
	p, werr := s.passage(ctx, workspace, wire)
	if werr != nil {
		return nil, nil, werr
	}
	c, err := s.Orders.Listen(ctx, p.host, p.hold, p.session, p.listener(wire))
	var no *refuse.Error
	switch {
	case errors.Is(err, orders.ErrGone):
		s.door.Remove(wire)
		return nil, nil, w3c.Fail(w3c.InvalidSessionID, "the session %s has ended", p.session)
	case errors.As(err, &no) && no.Kind == refuse.Refused:
		return nil, nil, w3c.Fail(w3c.UnsupportedOperation, "%v", no)
	case err != nil:
		return nil, nil, w3c.Fail(w3c.UnknownError, "%v", err)
	}
	return c, func(why error) {
		if p.joined && orders.Ended(why) { // the device stays with the person
			s.leave(context.WithoutCancel(ctx), wire)
		}
	}, nil
}

// unlisten has a host let go of a client that works on a device which a person holds.
func (s *Sessions) unlisten(ctx context.Context, p *passage, wire string) {
	if err := s.Orders.Unlisten(ctx, p.host, p.hold, p.session, p.listener(wire)); err != nil && !errors.Is(err, orders.ErrGone) {
		s.Log.Warn("a client that has left may still listen", "session", p.session, "host", p.host, "err", err)
	}
}
