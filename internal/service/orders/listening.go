package orders

// Clients that listen to a session (W3C WebDriver BiDi): their streams to its host, which answers them.

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"time"

	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

// listenTakes is how long a host may take to take such a client in, or to let go of it.
const listenTakes = 20 * time.Second

// Listen opens a way to what goes on in a session: frames, each a message (hostlink.ListenPath). Client is which of those that work on a device which a person holds; "": the
// session's own.
func (s *Orders) Listen(ctx context.Context, host, hold, session, client string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, listenTakes)
	defer cancel()
	return s.Open(ctx, host, hold, "listen to the session", remoteend.Request{Method: http.MethodPost, Path: "/session/" + session + hostlink.ListenPath}, map[string]any{"client": client})
}

// Unlisten has a host let go of such a client.
func (s *Orders) Unlisten(ctx context.Context, host, hold, session, client string) error {
	ctx, cancel := context.WithTimeout(ctx, listenTakes)
	defer cancel()
	body, err := json.Marshal(hostlink.Listen{Client: client})
	if err != nil {
		return err
	}
	return s.Ask(ctx, host, hold, "let go of a client", remoteend.Request{Method: http.MethodDelete, Path: "/session/" + session + hostlink.ListenPath, Body: body}, nil)
}

// Ended says whether a host has closed such a way because the client ended its session there.
func Ended(why error) bool { return why != nil && why.Error() == hostlink.SessionEnded }
