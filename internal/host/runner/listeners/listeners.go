// Package listeners is the clients that listen to what goes on in an attempt (W3C WebDriver BiDi), whoever has opened their sessions.
//
// Each has a listening.Session of its own; all are told of the same log, the same network and the same pages. In: an attempt's kit, and a client's session. Out: a
// listening.Session, which takes connections.
package listeners

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
	"tessellant/internal/host/listening"
	"tessellant/internal/host/runner"
	"tessellant/internal/phone"
	"tessellant/internal/webpage"
)

// Bounds of what is kept of the device's log from before there is a client.
const (
	maxEarly      = 500       // lines
	maxEarlyBytes = 256 << 10 // of their texts
)

// Listeners are those of one attempt.
type Listeners struct {
	k   *runner.Kit
	ctx context.Context

	mu    sync.Mutex
	over  bool
	all   map[string]*listening.Session
	early []said
	bytes int // of those
}

// said is a line of the device's log, and its moment.
type said struct {
	line devicelog.Line
	at   time.Time
}

// Client is one; its functions say what is to become of its session.
type Client struct {
	Used    func()            // it has commanded something
	Changed func()            // that may have changed what is on the screen
	Wire    func(line string) // takes a line of the remote end's own log
	// Enter is called before a command that acts; nil: it is always the client's turn.
	Enter func(ctx context.Context, what string) (leave func(), changed bool, err error)
	// Ends ends its session; nil: its connections end alone.
	Ends func(ctx context.Context)
}

// New begins to hear what the clients may want to. Close must be called.
func New(ctx context.Context, k *runner.Kit) *Listeners {
	l := &Listeners{k: k, ctx: ctx, all: map[string]*listening.Session{}}
	k.DeviceLog.Hear(func(line devicelog.Line, at time.Time) {
		if l.tell(func(x *listening.Session) { x.Line(line, at) }) == 0 {
			l.keep(said{line, at})
		}
	})
	if k.Network != nil {
		k.Network.Hear(func(e har.Entry, ended bool) {
			if ended {
				l.tell(func(x *listening.Session) { x.Answered(e) })
			} else {
				l.tell(func(x *listening.Session) { x.Asked(e) })
			}
		})
	}
	return l
}

// tell tells all, and says how many there are.
func (l *Listeners) tell(f func(*listening.Session)) int {
	l.mu.Lock()
	all := slices.Collect(maps.Values(l.all))
	l.mu.Unlock()
	for _, x := range all {
		f(x)
	}
	return len(all)
}

// keep keeps a line for who comes first.
func (l *Listeners) keep(x said) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.early, l.bytes = append(l.early, x), l.bytes+len(x.line.Text)
	for len(l.early) > maxEarly || l.bytes > maxEarlyBytes {
		l.bytes -= len(l.early[0].line.Text)
		l.early = l.early[1:]
	}
}

// Of gives the session of a client, made by c where there is none yet. Most is how many clients may be at once; nil: more are there, or the attempt ends.
func (l *Listeners) Of(id string, most int, c Client) *listening.Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	if x := l.all[id]; x != nil || l.over || len(l.all) >= most {
		return x
	}
	x := listening.New(l.ctx, l.config(c))
	for _, e := range l.early {
		x.Line(e.line, e.at)
	}
	l.early, l.bytes = nil, 0
	l.all[id] = x
	return x
}

// Leave ends the session of a client, if there is one.
func (l *Listeners) Leave(id string) {
	l.mu.Lock()
	x := l.all[id]
	delete(l.all, id)
	l.mu.Unlock()
	if x != nil {
		x.Close()
	}
}

// Close ends all of them.
func (l *Listeners) Close() {
	l.k.DeviceLog.Hear(nil)
	if l.k.Network != nil {
		l.k.Network.Hear(nil)
	}
	l.mu.Lock()
	l.over = true
	all := slices.Collect(maps.Values(l.all))
	l.mu.Unlock()
	for _, x := range all {
		x.Close()
	}
}

func (l *Listeners) config(of Client) listening.Config {
	k := l.k
	c := listening.Config{Log: k.Log, Screenshot: k.Unit.Screenshot, Used: of.Used, Mask: k.Mask.Text, End: of.Ends,
		Command: func(c phone.Command) {
			k.Timeline.Command(c)
			if !c.Looks {
				of.Changed()
			}
		},
		Enter: func(ctx context.Context, what string) (func(), error) {
			if of.Enter == nil {
				return func() {}, nil
			}
			leave, _, err := of.Enter(ctx, what)
			return leave, err
		},
		Wire: func(line string) { of.Wire("bidi " + line) },
	}
	if w := k.Unit.Webbed; w != nil {
		c.Pages = func(ctx context.Context) ([]webpage.Found, error) { return webpage.List(ctx, w, k.Apps.Reaches) }
	}
	if k.Network == nil {
		c.NoNetwork = "no network log is kept; leave network in the recording as it is usual, and choose a device whose apps can be led through a proxy"
	}
	return c
}
