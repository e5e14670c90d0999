package session

// Clients that listen to what goes on (W3C WebDriver BiDi): that of the session, where it has asked for it, or those that work on a device which a person holds. They come
// as orders, as commands do.

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"

	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/host/runner/listeners"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

// maxListeners is how many clients may listen to what goes on on a device that a person holds.
const maxListeners = 20

// ears take them in.
type ears struct {
	*session
	client listeners.Client
	held   bool          // by a person
	ended  chan struct{} // closed when the session's own client has ended it here
}

// wantsListening says whether the session's client has asked to listen.
func (s *session) wantsListening() bool {
	return s.Hold.Spec.Content.Capabilities[w3c.WebSocketURL] == true
}

// listened begins to keep for the clients what they may want to hear.
func (s *session) listened(ctx context.Context, end *remoteend.Session, used func()) *ears {
	x := &ears{session: s, held: s.Hold.Spec.Content.Kind == work.Hands, ended: make(chan struct{}), client: listeners.Client{Changed: end.Changed, Used: used, Wire: s.outside.Log}}
	if x.held {
		s.heard = listeners.New(ctx, s.Kit)
		return x
	}
	x.client.Enter = s.Turns.Enter
	once := sync.OnceFunc(func() { close(x.ended) })
	x.client.Ends = func(ctx context.Context) {
		end.Do(ctx, remoteend.Request{Method: http.MethodDelete, Path: "/session/" + end.ID})
		once()
	}
	return x
}

// Close ends all connections.
func (x *ears) Close() {
	if x.heard != nil {
		x.heard.Close()
	}
}

// listen takes in a connection of a client, or lets go of a client of a held device that has left.
func (x *ears) listen(method string, body []byte) remoteend.Response {
	var q hostlink.Listen
	if err := json.Unmarshal(body, &q); err != nil || method == http.MethodPost && q.Stream == "" {
		return beside.Refused("who wants to listen can't be read", "")
	}
	if x.heard == nil {
		return beside.Refused("the session was not opened to be listened to", `ask for the capability "webSocketUrl": true`)
	}
	if method == http.MethodDelete {
		x.heard.Leave(q.Client)
		return remoteend.Done()
	}
	most := 1
	if x.held {
		most = maxListeners
	}
	s := x.heard.Of(q.Client, most, x.client)
	if s == nil {
		return beside.Refused("as many clients listen already as may, or the device is being given back", "")
	}
	to, err := x.Stream(q.Stream)
	if err != nil {
		return beside.Refused(err.Error(), "")
	}
	if err := s.Listen(to); err != nil {
		_ = to.CloseWith(err.Error())
		return beside.Refused(err.Error(), "")
	}
	return remoteend.Done()
}

// carrier is one whose session may be listened to. It implements orders.Carrier and orders.Besider.
type carrier struct {
	orders.Carrier
	x *ears
}

func (c carrier) listens(q remoteend.Request) bool {
	return beside.Of(q, c.x.Hold.WorkID) == q.Method+" "+hostlink.ListenPath
}

// Beside implements orders.Besider: who listens waits for no command.
func (c carrier) Beside(q remoteend.Request) bool {
	b, ok := c.Carrier.(orders.Besider)
	return c.listens(q) || ok && b.Beside(q)
}

// Do implements orders.Carrier.
func (c carrier) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	if c.listens(q) {
		return c.x.listen(q.Method, q.Body)
	}
	return c.Carrier.Do(ctx, q)
}
