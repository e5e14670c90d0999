// Package devtools speaks the DevTools protocol to the pages of a web view or a browser, as far as commands of WebDriver need it.
//
// A web view listens on a socket: over HTTP it lists its pages, and a page takes commands over a WebSocket, as JSON (https://chromedevtools.github.io/devtools-protocol/).
// In: a way to connect to that socket. Out: pages, answers, and events. What a page sends is bounded; each command has the deadline of its context.
package devtools

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
)

const (
	maxMessage = 64 << 20 // bytes of one: a screenshot as Base64
	maxList    = 4 << 20
	listTakes  = 10 * time.Second
	writeTakes = 20 * time.Second
	maxEvents  = 1000       // that wait to be taken
	maxWaiting = maxMessage // bytes of them
)

// Socket is where a web view listens.
type Socket struct {
	// Connect connects to it.
	Connect func(ctx context.Context) (net.Conn, error)
}

func (s Socket) client() *http.Client {
	return &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return s.Connect(ctx) }}}
}

// Target is one page, or what else can be spoken to.
type Target struct {
	ID    string `json:"id"`
	Type  string `json:"type"` // page, iframe, worker…
	Title string `json:"title"`
	URL   string `json:"url"`
}

// List lists the pages.
func (s Socket) List(ctx context.Context) ([]Target, error) {
	ctx, cancel := context.WithTimeout(ctx, listTakes)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://localhost/json/list", nil)
	if err != nil {
		return nil, err
	}
	r, err := s.client().Do(req)
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxList))
	if err != nil {
		return nil, err
	}
	var all, out []Target
	if err := json.Unmarshal(raw, &all); err != nil {
		return nil, fmt.Errorf("its list of pages can't be read: %w", err)
	}
	for _, t := range all {
		if t.Type == "page" || t.Type == "webview" {
			out = append(out, t)
		}
	}
	return out, nil
}

// Event is something that a page tells by itself.
type Event struct {
	Session string // of a frame that has a process of its own; "": the page's
	Method  string
	Params  json.RawMessage
}

// Error is the page's own answer to a command that it can't carry out.
type Error struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

func (e *Error) Error() string { return e.Message }

// ErrGone says that the page is not there any more.
var ErrGone = errors.New("the page is gone")

// Page is a page that commands are sent to. It is safe for use by several goroutines.
type Page struct {
	Target Target
	ws     *websocket.Conn
	cancel context.CancelFunc
	gone   chan struct{}
	queued atomic.Int64 // bytes of events that wait to be taken

	mu      sync.Mutex
	next    int
	waiting map[int]chan answer
	hear    []func(Event)
	why     error
}

type answer struct {
	Result json.RawMessage `json:"result"`
	Error  *Error          `json:"error"`
}

// Attach begins to speak to a page.
func (s Socket) Attach(ctx context.Context, t Target) (*Page, error) {
	ws, resp, err := websocket.Dial(ctx, "ws://localhost/devtools/page/"+t.ID, &websocket.DialOptions{HTTPClient: s.client(), CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		if resp != nil && resp.StatusCode == http.StatusNotFound {
			return nil, ErrGone
		}
		return nil, err
	}
	ws.SetReadLimit(maxMessage)
	whole, cancel := context.WithCancel(context.WithoutCancel(ctx))
	p := &Page{Target: t, ws: ws, cancel: cancel, gone: make(chan struct{}), waiting: map[int]chan answer{}}
	events := make(chan Event, maxEvents)
	go p.read(whole, events)
	go func() {
		for e := range events {
			p.queued.Add(-int64(len(e.Params)))
			p.mu.Lock()
			hear := p.hear
			p.mu.Unlock()
			for _, f := range hear {
				f(e)
			}
		}
	}()
	return p, nil
}

// Hear has f told of events, in their order; it must not wait for a command of the same page.
func (p *Page) Hear(f func(Event)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hear = append(p.hear[:len(p.hear):len(p.hear)], f)
}

func (p *Page) read(ctx context.Context, events chan<- Event) {
	defer close(events)
	for {
		_, raw, err := p.ws.Read(ctx)
		if err != nil {
			p.end(fmt.Errorf("%w: %w", ErrGone, err))
			return
		}
		var m struct {
			ID        int
			SessionID string
			Method    string
			Params    json.RawMessage
			answer
		}
		if json.Unmarshal(raw, &m) != nil {
			p.end(fmt.Errorf("%w: it said what can't be read", ErrGone))
			return
		}
		if m.ID == 0 {
			if m.SessionID == "" && (m.Method == "Inspector.detached" || m.Method == "Inspector.targetCrashed") {
				p.end(fmt.Errorf("%w (%s)", ErrGone, strings.TrimPrefix(m.Method, "Inspector.")))
				return
			}
			n := int64(len(m.Params))
			if p.queued.Load()+n > maxWaiting {
				continue // who hears is too slow: the rest is not told
			}
			select {
			case events <- Event{m.SessionID, m.Method, m.Params}:
				p.queued.Add(n)
			default:
			}
			continue
		}
		p.mu.Lock()
		c := p.waiting[m.ID]
		delete(p.waiting, m.ID)
		p.mu.Unlock()
		if c != nil {
			c <- m.answer
		}
	}
}

// end notes, once, why nothing more comes.
func (p *Page) end(why error) {
	p.mu.Lock()
	first := p.why == nil
	if first {
		p.why = why
	}
	p.mu.Unlock()
	if first {
		close(p.gone)
		p.cancel()
		_ = p.ws.CloseNow()
	}
}

// Gone is closed when the page is not there any more, or was closed.
func (p *Page) Gone() <-chan struct{} { return p.gone }

// Close ends it; the page itself stays.
func (p *Page) Close() { p.end(ErrGone) }

// Do sends a command, and reads its answer into result, which may be nil.
func (p *Page) Do(ctx context.Context, method string, params, result any) error {
	return p.DoIn(ctx, "", method, params, result)
}

// DoIn is Do to a frame that has a process of its own, by the session of which Target.attachedToTarget told; "": to the page.
func (p *Page) DoIn(ctx context.Context, session, method string, params, result any) error {
	c := make(chan answer, 1)
	p.mu.Lock()
	if p.why != nil {
		defer p.mu.Unlock()
		return p.why
	}
	p.next++
	id := p.next
	p.waiting[id] = c
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.waiting, id)
		p.mu.Unlock()
	}()
	if params == nil {
		params = struct{}{}
	}
	m := map[string]any{"id": id, "method": method, "params": params}
	if session != "" {
		m["sessionId"] = session
	}
	raw, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	write, cancel := context.WithTimeout(context.WithoutCancel(ctx), writeTakes) // one that is broken off would end the way to the page
	defer cancel()
	if err := p.ws.Write(write, websocket.MessageText, raw); err != nil {
		return fmt.Errorf("%w: %w", ErrGone, err)
	}
	select {
	case a := <-c:
		if a.Error != nil {
			return a.Error
		}
		if result == nil {
			return nil
		}
		return json.Unmarshal(a.Result, result)
	case <-p.gone:
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.why
	case <-ctx.Done():
		return ctx.Err()
	}
}
