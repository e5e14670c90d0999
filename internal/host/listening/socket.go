package listening

// A connection that comes as a WebSocket (RFC 6455), from a program beside the device.

import (
	"context"
	"net"
	"net/http"
	"time"

	"github.com/coder/websocket"

	"tessellant/internal/core/bidi"
	"tessellant/internal/hostlink"
)

const socketWrites = 20 * time.Second // for a message to be taken

// inside is the end of a connection within this process.
type inside struct{ net.Conn }

// CloseWith implements hostlink.Stream; there is no other side that would be told why.
func (c inside) CloseWith(string) error { return c.Close() }

// ServeHTTP takes a WebSocket in, until either side ends it.
func (s *Session) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return // it has answered
	}
	defer ws.CloseNow()
	ws.SetReadLimit(bidi.MaxCommand)
	near, far := net.Pipe()
	defer near.Close()
	if err := s.Listen(inside{far}); err != nil {
		_ = ws.Close(websocket.StatusTryAgainLater, err.Error())
		return
	}
	go func() {
		defer near.Close()
		for {
			kind, data, err := ws.Read(context.Background())
			if err != nil {
				return
			}
			frame := byte(hostlink.FrameText)
			if kind != websocket.MessageText {
				frame, data = hostlink.FrameOther, nil
			}
			if hostlink.WriteFrame(near, frame, data) != nil {
				return
			}
		}
	}()
	for {
		_, body, err := hostlink.ReadFrame(near, bidi.MaxMessage)
		if err != nil {
			_ = ws.Close(websocket.StatusGoingAway, hostlink.SessionEnded)
			return
		}
		write, cancel := context.WithTimeout(context.Background(), socketWrites)
		err = ws.Write(write, websocket.MessageText, body)
		if cancel(); err != nil {
			return
		}
	}
}
