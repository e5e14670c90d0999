package httpd

// What goes over a WebSocket (RFC 6455): a device that is watched, its frames as messages, and back (what they are, hostlink/live.go says); and routes, a stream of bytes.
// Those of clients of WebDriver BiDi are opened in bidi.go.

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"

	"tessellant/api"
	"tessellant/internal/core/foreign"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/refuse"
)

const (
	watchBeat  = 15 * time.Second // between questions whether the other side is there
	watchWrite = 20 * time.Second // for a message to be taken
)

func (s *server) WatchHeld(ctx context.Context, q api.WatchHeldRequestObject) (api.WatchHeldResponseObject, error) {
	u, err := s.upgrade(ctx, q.Id, "watch the device", "open it as a WebSocket; a picture is at …/picture", func() (net.Conn, error) { return s.s.Watch(ctx, identity(ctx), q.Id) })
	return watching(u), err
}

func (s *server) OpenRoute(ctx context.Context, q api.OpenRouteRequestObject) (api.OpenRouteResponseObject, error) {
	u, err := s.upgrade(ctx, q.Id, "open the route", "open it as a WebSocket, or with: tessellant route open", func() (net.Conn, error) {
		return s.s.OpenRoute(ctx, identity(ctx), q.Id, q.Params.At)
	})
	return routed(u), err
}

// upgraded is a request for a WebSocket, and the stream from a host that it is joined to.
type upgraded struct {
	ctx context.Context
	r   *http.Request
	c   net.Conn
}

// upgrade opens the stream, for who may see the device and asks for a WebSocket.
func (s *server) upgrade(ctx context.Context, id, title, remedy string, open func() (net.Conn, error)) (u upgraded, err error) {
	if _, err := s.s.At(ctx, identity(ctx), id); err != nil {
		return u, err
	}
	r, ok := ctx.Value(keyRequest).(*http.Request)
	if !ok || r.Header.Get("Upgrade") == "" {
		return u, refuse.New(refuse.Invalid, title, remedy, "the request does not ask for a WebSocket")
	}
	c, err := open()
	return upgraded{ctx, r, c}, err
}

// join carries what comes in from the WebSocket, and what goes out to it, until either ends. The error of out is why, for the other side; net.ErrClosed: that has gone.
func (u upgraded) join(rw http.ResponseWriter, limit int64, in func(context.Context, *websocket.Conn), out func(context.Context, *websocket.Conn) error) error {
	defer u.c.Close()
	ws, err := accept(rw, u.r, limit)
	if err != nil {
		return nil // it has answered
	}
	defer ws.CloseNow()
	carry(u.ctx, ws, u.c, in, out)
	return nil
}

// accept opens the WebSocket that a page of our own origin, or a program, asks for. An error has been answered.
func accept(rw http.ResponseWriter, r *http.Request, limit int64) (*websocket.Conn, error) {
	ws, err := websocket.Accept(rw, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err == nil {
		ws.SetReadLimit(limit)
	}
	return ws, err
}

// carry joins a WebSocket to a stream from a host, as join does, and gives the error of out.
func carry(ctx context.Context, ws *websocket.Conn, c net.Conn, in func(context.Context, *websocket.Conn), out func(context.Context, *websocket.Conn) error) (why error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var all sync.WaitGroup
	defer all.Wait()
	defer c.Close()
	defer cancel()
	all.Go(func() {
		defer c.Close()
		in(ctx, ws)
	})
	all.Go(func() { beat(ctx, ws, c) })
	if why = out(ctx, ws); !errors.Is(why, net.ErrClosed) {
		_ = ws.Close(websocket.StatusGoingAway, foreign.Fit(why.Error(), 120))
	}
	return why
}

// routed carries bytes between a WebSocket and a host.
type routed upgraded

const (
	routePiece   = 64 << 10 // bytes that are carried at once
	routeMessage = 1 << 20  // bytes that a message may have
)

var errGivenBack = errors.New("the device is given back, or its host has gone")

// VisitOpenRouteResponse implements the response.
func (w routed) VisitOpenRouteResponse(rw http.ResponseWriter) error {
	return upgraded(w).join(rw, routeMessage, w.in, w.out)
}

func (w routed) in(ctx context.Context, ws *websocket.Conn) {
	piece := make([]byte, routePiece)
	for {
		_, message, err := ws.Reader(ctx)
		if err != nil {
			return
		}
		if _, err := io.CopyBuffer(struct{ io.Writer }{w.c}, message, piece); err != nil {
			return
		}
	}
}

func (w routed) out(ctx context.Context, ws *websocket.Conn) error {
	piece := make([]byte, routePiece)
	for {
		n, err := w.c.Read(piece)
		if n > 0 && ws.Write(ctx, websocket.MessageBinary, piece[:n]) != nil {
			return net.ErrClosed
		}
		switch {
		case errors.Is(err, io.EOF):
			return errGivenBack
		case err != nil:
			return err
		}
	}
}

// watching carries frames between a WebSocket and a device that is watched.
type watching upgraded

// VisitWatchHeldResponse implements the response.
func (w watching) VisitWatchHeldResponse(rw http.ResponseWriter) error {
	return upgraded(w).join(rw, hostlink.MaxDone, w.done, w.shown)
}

// beat asks again and again whether the other side is there, and ends what is carried where it is not.
func beat(ctx context.Context, ws *websocket.Conn, c net.Conn) {
	tick := time.NewTicker(watchBeat)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			ping, stop := context.WithTimeout(ctx, watchWrite)
			err := ws.Ping(ping)
			if stop(); err != nil {
				_, _ = c.Close(), ws.CloseNow() // a message that nobody takes ends, too
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// done hands on what the person does.
func (w watching) done(ctx context.Context, ws *websocket.Conn) {
	for {
		kind, data, err := ws.Read(ctx)
		if err != nil {
			return
		}
		if kind != websocket.MessageText {
			_ = ws.Close(websocket.StatusUnsupportedData, "what is done is said as text")
			return
		}
		if hostlink.WriteFrame(w.c, hostlink.FrameText, data) != nil {
			return
		}
	}
}

// shown hands on what the person is shown, until there is no more.
func (w watching) shown(ctx context.Context, ws *websocket.Conn) error {
	for {
		kind, body, err := hostlink.ReadFrame(w.c, hostlink.MaxFrame)
		if err != nil {
			return err
		}
		message, data := websocket.MessageBinary, body
		if kind == hostlink.FrameText {
			message = websocket.MessageText
		} else {
			data = append([]byte{kind}, body...)
		}
		if say(ctx, ws, message, data) != nil {
			return net.ErrClosed
		}
	}
}

// say sends a message, which must be taken in time.
func say(ctx context.Context, ws *websocket.Conn, kind websocket.MessageType, data []byte) error {
	ctx, cancel := context.WithTimeout(ctx, watchWrite)
	defer cancel()
	return ws.Write(ctx, kind, data)
}
