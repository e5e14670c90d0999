package httpd

// WebDriver BiDi at the door: a WebSocket to a session (/webdriver/session/ID), and one on which a session is opened first (/webdriver/session). Messages go to the session's
// host, which answers them.

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/coder/websocket"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

const (
	openWithin = time.Minute // without a session, a connection is kept for so long
	maxAhead   = 16          // messages that a client may send while its session is being opened
)

// listensAt is where this request's client opens WebSockets.
func listensAt(r *http.Request) string {
	return map[bool]string{true: "wss://", false: "ws://"}[overTLS(r)] + r.Host + Door
}

// listen opens a WebSocket: to the session that the path names, or, where it names none, to one that is to be opened.
func listen(s *service.Service, w http.ResponseWriter, r *http.Request, path string) error {
	wire, found := strings.CutPrefix(path, "/session")
	wire = strings.TrimPrefix(wire, "/")
	if !found || strings.Contains(wire, "/") {
		remoteend.Answer(w3c.Fail(w3c.UnknownCommand, "no WebSocket is opened at %.200s: use …/session/ID, or …/session to open a session on it", path)).Write(w)
		return nil
	}
	key := keyOf(r)
	if key != "" {
		defer remain(s, r, key)()
	}
	if wire == "" {
		return listenAnew(s, w, r, key)
	}
	who := service.Identity{}
	if key != "" {
		var err error
		if who, err = mayTest(s, s.EnterSession, r, key); err != nil {
			deny(w, w3c.InvalidSessionID, err)
			return nil
		}
	}
	c, ended, werr := s.Listen(r.Context(), who.WorkspaceID, wire)
	if werr != nil {
		remoteend.Answer(werr).Write(w)
		return nil
	}
	defer c.Close()
	ws, err := accept(w, r, bidi.MaxCommand)
	if err != nil {
		return nil // it has answered
	}
	defer ws.CloseNow()
	ended(carry(r.Context(), ws, c, func(ctx context.Context, ws *websocket.Conn) {
		for {
			kind, data, err := ws.Read(ctx)
			if err != nil || handOn(c, kind, data) != nil {
				return
			}
		}
	}, told(c)))
	return nil
}

// handOn hands a client's message on to the host.
func handOn(c net.Conn, kind websocket.MessageType, data []byte) error {
	if kind != websocket.MessageText {
		return hostlink.WriteFrame(c, hostlink.FrameOther)
	}
	return hostlink.WriteFrame(c, hostlink.FrameText, data)
}

// told hands on what the host says, until that ends.
func told(c net.Conn) func(context.Context, *websocket.Conn) error {
	return func(ctx context.Context, ws *websocket.Conn) error {
		for {
			_, body, err := hostlink.ReadFrame(c, bidi.MaxMessage)
			if errors.Is(err, io.EOF) {
				return errGivenBack
			}
			if err != nil {
				return err
			}
			if say(ctx, ws, websocket.MessageText, body) != nil {
				return net.ErrClosed
			}
		}
	}
}

// message is one of a client.
type message struct {
	kind websocket.MessageType
	data []byte
}

// listenAnew has a session opened on the WebSocket, and then listens to that.
func listenAnew(s *service.Service, w http.ResponseWriter, r *http.Request, key string) error {
	ws, err := accept(w, r, ours.MaxKeyless)
	if err != nil {
		return nil // it has answered
	}
	defer ws.CloseNow()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	ahead := make(chan message, maxAhead)
	go func() { // it is read at all times: whether the client is there is seen by that alone
		defer cancel()
		for {
			kind, data, err := ws.Read(ctx)
			if err != nil {
				return
			}
			select {
			case ahead <- message{kind, data}:
			case <-ctx.Done():
				return
			}
		}
	}()
	u := unopened{s, r, key}
	patience := time.NewTimer(openWithin)
	defer patience.Stop()
	for {
		var m message
		select {
		case m = <-ahead:
		case <-patience.C:
			_ = ws.Close(websocket.StatusPolicyViolation, "no session was opened within "+openWithin.String())
			return nil
		case <-ctx.Done():
			return nil
		}
		opened, answer := u.answer(ctx, m)
		if say(ctx, ws, websocket.MessageText, answer) != nil {
			return nil
		}
		if opened == "" {
			continue
		}
		c, ended, werr := s.Listen(ctx, "", opened)
		if werr != nil {
			_ = ws.Close(websocket.StatusGoingAway, "the session has ended")
			return nil
		}
		if key == "" {
			defer remain(s, r, u.key)()
		}
		ws.SetReadLimit(bidi.MaxCommand)
		ended(carry(ctx, ws, c, func(ctx context.Context, _ *websocket.Conn) {
			for {
				select {
				case m := <-ahead:
					if handOn(c, m.kind, m.data) != nil {
						return
					}
				case <-ctx.Done():
					return
				}
			}
		}, told(c)))
		return nil
	}
}

// unopened is a connection that has no session yet. Key is what its request shows; where it shows none, that of the session which is opened on it.
type unopened struct {
	s   *service.Service
	r   *http.Request
	key string
}

// answer answers a message; opened is the id of the session that it has opened.
func (u *unopened) answer(ctx context.Context, m message) (opened string, answer []byte) {
	if m.kind != websocket.MessageText {
		return "", bidi.Failed(0, false, w3c.Fail(w3c.InvalidArgument, "a message must be a text"))
	}
	x, known, werr := bidi.Read(m.data)
	if werr == nil {
		werr = bidi.Refusal(x.Method)
	}
	switch {
	case werr != nil:
	case x.Method == "session.status":
		ready := u.s.Ready(ctx) == nil
		return "", bidi.Done(x.ID, map[string]any{"ready": ready, "message": map[bool]string{true: "a session can be opened with session.new", false: "the database does not answer"}[ready]})
	case x.Method != "session.new":
		werr = w3c.Fail(w3c.InvalidSessionID, "no session is open on this connection: open one with session.new")
	default:
		var result json.RawMessage
		if opened, result, werr = u.open(ctx, x.Params); werr == nil {
			return opened, bidi.Done(x.ID, result)
		}
	}
	return "", bidi.Failed(x.ID, known, werr)
}

// open opens a session by session.new, whose capabilities are those of New Session. It is listened to, said or not.
func (u *unopened) open(ctx context.Context, params bidi.Params) (wire string, result json.RawMessage, werr *w3c.Error) {
	caps, ok := params["capabilities"].(map[string]any)
	if !ok {
		return "", nil, w3c.Fail(w3c.InvalidArgument, "capabilities must be an object")
	}
	always, ok := caps["alwaysMatch"].(map[string]any)
	if !ok && caps["alwaysMatch"] != nil {
		return "", nil, w3c.Fail(w3c.InvalidArgument, "alwaysMatch must be an object")
	}
	if always == nil {
		always = map[string]any{}
		caps["alwaysMatch"] = always
	}
	always[w3c.WebSocketURL] = true
	first, _ := caps["firstMatch"].([]any)
	for _, f := range first {
		if set, ok := f.(map[string]any); ok {
			delete(set, w3c.WebSocketURL)
		}
	}
	body, err := json.Marshal(params)
	if err != nil {
		return "", nil, w3c.Fail(w3c.InvalidArgument, "the capabilities can't be read: %v", err)
	}
	shown := u.key
	if shown == "" {
		shown = ours.KeyIn(body)
	}
	if shown == "" {
		return "", nil, w3c.Fail(w3c.SessionNotCreated, "no key was given: send it with the capability tessellant:key, or as the header Authorization: Bearer KEY when you open the WebSocket")
	}
	who, err := mayTest(u.s, u.s.Enter, u.r, shown)
	if err != nil {
		var no *refuse.Error
		if errors.As(err, &no) {
			return "", nil, w3c.Fail(w3c.SessionNotCreated, "%v", no)
		}
		return "", nil, w3c.Fail(w3c.UnknownError, "the key can't be looked at now; try again in a while")
	}
	out := u.s.OpenSession(ctx, who, body, listensAt(u.r))
	var said struct {
		Value struct {
			SessionID    string          `json:"sessionId"`
			Capabilities json.RawMessage `json:"capabilities"`
			Error        w3c.Code
			Message      string
		}
	}
	if err := json.Unmarshal(out.Body, &said); err != nil {
		return "", nil, w3c.Fail(w3c.UnknownError, "the answer can't be read: %v", err)
	}
	v := said.Value
	if out.Status != http.StatusOK {
		return "", nil, w3c.Fail(v.Error, "%s", v.Message)
	}
	result, err = json.Marshal(map[string]any{"sessionId": v.SessionID, "capabilities": v.Capabilities})
	if err != nil {
		return "", nil, w3c.Fail(w3c.UnknownError, "the answer can't be written: %v", err)
	}
	u.key = shown
	return v.SessionID, result, nil
}
