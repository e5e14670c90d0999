package httpd

// A held device over a WebSocket (RFC 6455): its frames as messages, and back. What they are, hostlink/live.go says.

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
	if _, err := s.s.At(ctx, identity(ctx), q.Id); err != nil {
		return nil, err
	}
	r, ok := ctx.Value(keyRequest).(*http.Request)
	if !ok || r.Header.Get("Upgrade") == "" {
		return nil, refuse.New(refuse.Invalid, "watch the device", "open it as a WebSocket; a picture is at …/picture", "the request does not ask for a WebSocket")
	}
	c, err := s.s.Watch(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return watching{ctx, r, c}, nil
}

func (s *server) OpenRoute(ctx context.Context, q api.OpenRouteRequestObject) (api.OpenRouteResponseObject, error) {
	if _, err := s.s.At(ctx, identity(ctx), q.Id); err != nil {
		return nil, err
	}
	r, ok := ctx.Value(keyRequest).(*http.Request)
	if !ok || r.Header.Get("Upgrade") == "" {
		return nil, refuse.New(refuse.Invalid, "open the route", "open it as a WebSocket, or with: tessellant route open", "the request does not ask for a WebSocket")
	}
	c, err := s.s.OpenRoute(ctx, identity(ctx), q.Id, q.Params.At)
	if err != nil {
		return nil, err
	}
	return routed{ctx, r, c}, nil
}

// routed carries bytes between a WebSocket and a host.
type routed watching

// VisitOpenRouteResponse implements the response.
func (w routed) VisitOpenRouteResponse(rw http.ResponseWriter) error {
	defer w.c.Close()
	ws, err := websocket.Accept(rw, w.r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return nil // it has answered
	}
	defer ws.CloseNow()
	ws.SetReadLimit(routeMessage)
	ctx, cancel := context.WithCancel(w.ctx)
	defer cancel()
	c := websocket.NetConn(ctx, ws, websocket.MessageBinary)
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	defer w.c.Close()
	all.Go(func() {
		defer w.c.Close()
		_, _ = io.CopyBuffer(w.c, struct{ io.Reader }{c}, make([]byte, routePiece))
	})
	all.Go(func() { beat(ctx, ws, w.c) })
	_, err = io.CopyBuffer(struct{ io.Writer }{c}, struct{ io.Reader }{w.c}, make([]byte, routePiece))
	why := "the device is given back, or its host has gone"
	if err != nil {
		why = err.Error()
	}
	_ = ws.Close(websocket.StatusGoingAway, foreign.Fit(why, 120))
	return nil
}

const (
	routePiece   = 64 << 10 // bytes that are carried at once
	routeMessage = 1 << 20  // bytes that a message may have
)

// watching carries frames between a WebSocket and a held device.
type watching struct {
	ctx context.Context
	r   *http.Request
	c   net.Conn
}

// VisitWatchHeldResponse implements the response.
func (w watching) VisitWatchHeldResponse(rw http.ResponseWriter) error {
	defer w.c.Close()
	ws, err := websocket.Accept(rw, w.r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled}) // of its own origin alone
	if err != nil {
		return nil // it has answered
	}
	defer ws.CloseNow()
	ws.SetReadLimit(hostlink.MaxDone)
	ctx, cancel := context.WithCancel(w.ctx)
	defer cancel()
	var all sync.WaitGroup
	defer all.Wait()
	defer w.c.Close()
	defer cancel()
	all.Go(func() {
		defer w.c.Close()
		w.done(ctx, ws)
	})
	all.Go(func() { beat(ctx, ws, w.c) })
	why := w.shown(ctx, ws)
	if errors.Is(why, net.ErrClosed) {
		return nil
	}
	_ = ws.Close(websocket.StatusGoingAway, foreign.Fit(why.Error(), 120))
	return nil
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
		write, cancel := context.WithTimeout(ctx, watchWrite)
		err = ws.Write(write, message, data)
		if cancel(); err != nil {
			return net.ErrClosed
		}
	}
}
