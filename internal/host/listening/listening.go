// Package listening is the clients that listen to a session: W3C WebDriver BiDi (core/bidi) over one device.
//
// A Session is what a client's subscriptions belong to; its connections come and go. What happens comes from the device's log, the proxy of its apps, and the pages of its
// web views, which are spoken to by a way of their own, beside that of the session's commands. In: connections, and what happens. Out: answers and events. A client that
// does not take what it is sent is cut off; nothing waits for it.
package listening

import (
	"context"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
	"tessellant/internal/core/w3c"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/webpage"
)

const (
	maxConns   = 4         // of a session at once
	maxKept    = 500       // entries of the log that wait for whoever subscribes
	maxKeptLen = 256 << 10 // bytes of them
)

// Config is what a session listens to, and works on.
type Config struct {
	Log *slog.Logger
	// Pages lists the pages of web views; nil: there are none that could be spoken to.
	Pages func(ctx context.Context) ([]webpage.Found, error)
	// Screenshot takes a picture of the screen, as PNG.
	Screenshot func(ctx context.Context) ([]byte, error)
	// Enter is called before a command that acts; it waits while a person has paused the test.
	Enter func(ctx context.Context, what string) (leave func(), err error)
	// Command is told of each command that does something on the device, when it has ended; Used of each command at all.
	Command func(phone.Command)
	Used    func()
	// Wire takes a line of the remote end's own log.
	Wire func(line string)
	// Mask hides secrets.
	Mask func(string) string
	// NoNetwork says why no request can be seen; "": they are.
	NoNetwork string
	// End ends the WebDriver session. Nil: the client works on a device that a person holds, and its connections end alone.
	End func(ctx context.Context)
}

// Session is the side of one WebDriver session that is listened to. It is safe for use by several goroutines.
type Session struct {
	Config
	ctx   context.Context
	stop  context.CancelFunc
	tasks sync.WaitGroup
	look  chan struct{} // the pages are to be looked for at once

	mu    sync.Mutex
	over  bool
	subs  bidi.Subscriptions
	conns []*conn
	kept  []kept // of the log
	bytes int    // of them

	touch *touched // the pages that are spoken to
}

// kept is an entry of the log, as it goes out.
type kept struct {
	context string
	raw     []byte
}

// New makes one, for as long as ctx goes on, or until Close.
func New(ctx context.Context, c Config) *Session {
	s := &Session{Config: c, look: make(chan struct{}, 1)}
	s.ctx, s.stop = context.WithCancel(ctx)
	s.touch = &touched{s: s, pages: map[string]*page{}}
	s.tasks.Go(func() {
		_ = guard.Run(c.Log, guard.Hold, s.touch.watch)
	})
	return s
}

// Close ends all connections, and waits until nothing of it is at work.
func (s *Session) Close() {
	s.mu.Lock()
	s.over = true
	conns := slices.Clone(s.conns)
	s.mu.Unlock()
	for _, c := range conns {
		c.end(hostlink.SessionEnded)
	}
	s.stop()
	s.tasks.Wait()
	s.touch.close()
}

// Line takes in a line of the device's log.
func (s *Session) Line(l devicelog.Line, at time.Time) { s.tell(bidi.DeviceEntry(l, at)) }

// Asked takes in that an app has begun to send a request; Answered, that it has ended. Secrets are hidden in them.
func (s *Session) Asked(e har.Entry) {
	for _, x := range bidi.Asked(exchange(e), e) {
		s.tell(x)
	}
}

// Answered is told of a request that has ended.
func (s *Session) Answered(e har.Entry) {
	for _, x := range bidi.Answered(exchange(e), e) {
		s.tell(x)
	}
}

func exchange(e har.Entry) string { return strconv.FormatInt(e.Number, 10) }

// tell hands an event to those who want it. Entries of the log are kept for who subscribes later (section "log.entryAdded").
func (s *Session) tell(e bidi.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	wanted := len(s.conns) > 0 && s.subs.Want(e.Name, e.Context)
	if !wanted && e.Name != bidi.LogEntry {
		return
	}
	raw := bidi.Happened(e)
	if e.Name == bidi.LogEntry {
		for s.kept, s.bytes = append(s.kept, kept{e.Context, raw}), s.bytes+len(raw); len(s.kept) > maxKept || s.bytes > maxKeptLen; s.kept = s.kept[1:] {
			s.bytes -= len(s.kept[0].raw)
		}
	}
	if !wanted {
		return
	}
	for _, c := range s.conns {
		c.say(raw)
	}
}

// wants says whether events of pages are wanted.
func (s *Session) wants() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.conns) > 0 && s.subs.Any(func(event string) bool { return event == bidi.LogEntry || strings.HasPrefix(event, "browsingContext.") })
}

// carry carries a command out.
func (c *conn) carry(ctx context.Context, x bidi.Command) (any, *w3c.Error) {
	switch x.Method {
	case "session.status":
		return map[string]any{"ready": false, "message": "a session is open on this connection"}, nil
	case "session.new":
		return nil, w3c.Fail(w3c.SessionNotCreated, "a session is open on this connection; open a new one on …/webdriver/session")
	case "session.end":
		return nil, nil
	case "session.subscribe":
		return c.subscribe(ctx, x.Params)
	case "session.unsubscribe":
		return nil, c.s.unsubscribe(x.Params)
	case "browser.getUserContexts":
		return map[string]any{"userContexts": []any{map[string]string{"userContext": bidi.UserContext}}}, nil
	}
	return c.s.inContext(ctx, x)
}

// subscribe subscribes to events. Who subscribes anew is told at once what was before: the contexts, and the newest entries of the log (sections
// "browsingContext.contextCreated", "log.entryAdded").
func (c *conn) subscribe(ctx context.Context, p bidi.Params) (any, *w3c.Error) {
	s := c.s
	events, given, err := p.Texts("events")
	if err == nil && !given {
		err = w3c.Fail(w3c.InvalidArgument, "events must say which, such as log.entryAdded")
	}
	var contexts, outermost []string
	if err == nil {
		contexts, _, err = p.Texts("contexts")
	}
	if err == nil {
		err = s.userContexts(p)
	}
	if err != nil {
		return nil, err
	}
	for _, c := range contexts {
		top := bidi.Screen
		if c != bidi.Screen {
			x, _, err := s.touch.find(ctx, c)
			if err != nil {
				return nil, err
			}
			top = x.context
		}
		if !slices.Contains(outermost, top) {
			outermost = append(outermost, top)
		}
	}
	if s.NoNetwork != "" && slices.ContainsFunc(events, func(e string) bool { return e == "network" || strings.HasPrefix(e, "network.") }) {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "no request is seen: %s", s.NoNetwork)
	}
	var id string
	add := func() { id, err = s.add(c, events, outermost) }
	if slices.Contains(events, "browsingContext") || slices.Contains(events, bidi.ContextCreated) {
		s.touch.still(ctx, add)
	} else {
		add()
	}
	if err != nil {
		return nil, err
	}
	select {
	case s.look <- struct{}{}:
	default:
	}
	return map[string]string{"subscription": id}, nil
}

func (s *Session) add(c *conn, events, outermost []string) (id string, err *w3c.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id, fresh, err := s.subs.Add(events, outermost)
	if err != nil {
		return "", err
	}
	if slices.Contains(fresh, bidi.ContextCreated) {
		for _, e := range s.touch.created() {
			if s.subs.Want(e.Name, e.Context) {
				c.say(bidi.Happened(e))
			}
		}
	}
	if slices.Contains(fresh, bidi.LogEntry) {
		for _, e := range s.kept {
			if s.subs.Want(bidi.LogEntry, e.context) {
				c.say(e.raw)
			}
		}
	}
	return id, nil
}

// userContexts holds those that are named against the one that there is.
func (s *Session) userContexts(p bidi.Params) *w3c.Error {
	names, given, err := p.Texts("userContexts")
	if err != nil {
		return err
	}
	if _, both := p["contexts"]; given && both {
		return w3c.Fail(w3c.InvalidArgument, "subscribe to contexts or to user contexts, not to both")
	}
	for _, n := range names {
		if n != bidi.UserContext {
			return w3c.Fail(bidi.NoSuchUserContext, "there is no user context %.100q: a device has one, %s", n, bidi.UserContext)
		}
	}
	return nil
}

func (s *Session) unsubscribe(p bidi.Params) *w3c.Error {
	ids, byID, err := p.Texts("subscriptions")
	if err != nil {
		return err
	}
	names, byName, err := p.Texts("events")
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case byID == byName:
		return w3c.Fail(w3c.InvalidArgument, "say which to end: subscriptions by their ids, or events by their names")
	case byID:
		return s.subs.RemoveIDs(ids)
	}
	return s.subs.RemoveNames(names)
}
