// Package routes is the ways from the apps on a device to servers that only a person's own machine sees.
//
// Each way is a stream from the service (hostlink.RoutePath), at whose other end somebody's terminal connects to servers of theirs; internal/tunnel lays connections
// into it. The device's apps ask the attempt's proxy for a name and a port, and Dial finds the way. In: streams. Out: connections, and what ways there are.
package routes

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/routes"
	"tessellant/internal/hostlink"
	"tessellant/internal/tunnel"
)

// Routes are the ways of one attempt.
type Routes struct {
	Note    func(name, answer string) // what stands on the timeline
	Changed func()                    // there are others now; called without a lock held

	mu     sync.Mutex
	ways   map[string]*way          // open, by what apps ask for, such as route.test:3000
	broken map[string]time.Time     // since when those are not open that were
	away   map[string]time.Duration // for how long before
	now    chan struct{}            // closed, and made anew, when they change
	closed bool
}

// way is one stream, which may lead to several servers.
type way struct {
	by     string
	stream hostlink.Stream
	near   *tunnel.Near
	at     []string
	opened time.Time
}

// New makes them; none is open.
func New() *Routes {
	return &Routes{Note: func(_, _ string) {}, Changed: func() {}, ways: map[string]*way{}, broken: map[string]time.Time{}, away: map[string]time.Duration{}, now: make(chan struct{})}
}

var errClosed = errors.New("the device is being given back")

// Open opens the ways to servers through a stream. One that the same person has open already is replaced: their terminal comes again.
func (r *Routes) Open(c hostlink.Stream, by string, at []string) error {
	near, err := tunnel.NewNear(c)
	if err != nil {
		return err
	}
	w := &way{by: by, stream: c, near: near, at: at, opened: time.Now()}
	r.mu.Lock()
	var old []*way
	for _, a := range at {
		switch have := r.ways[a]; {
		case have == nil:
		case have.by != by:
			r.mu.Unlock()
			_ = near.Close()
			return fmt.Errorf("%s has a route from %s open already", have.by, a)
		case !slices.Contains(old, have):
			old = append(old, have)
		}
	}
	if r.closed || len(r.ways)+len(at) > routes.Most {
		closed := r.closed
		r.mu.Unlock()
		_ = near.Close()
		if closed {
			return errClosed
		}
		return fmt.Errorf("at most %d routes may be open", routes.Most)
	}
	for _, o := range old {
		r.drop(o)
	}
	for _, a := range at {
		r.ways[a] = w
		if since, was := r.broken[a]; was {
			r.away[a] += time.Since(since)
			delete(r.broken, a)
		}
	}
	r.tell()
	r.mu.Unlock()
	for _, o := range old {
		o.end("it was opened anew")
	}
	r.Note("route opened: "+strings.Join(at, ", "), "by "+by)
	r.Changed()
	go func() {
		<-near.Gone()
		r.gone(w)
	}()
	return nil
}

// tell wakes, under mu, who waits.
func (r *Routes) tell() {
	close(r.now)
	r.now = make(chan struct{})
}

// drop takes a way out, under mu. False: it was out already.
func (r *Routes) drop(w *way) (had bool) {
	for _, a := range w.at {
		if r.ways[a] == w {
			delete(r.ways, a)
			r.broken[a] = time.Now()
			had = true
		}
	}
	return had
}

func (w *way) end(why string) {
	_ = w.stream.CloseWith(why)
	_ = w.near.Close()
}

// gone notes that a way has ended.
func (r *Routes) gone(w *way) {
	r.mu.Lock()
	had := r.drop(w)
	closed := r.closed
	r.tell()
	r.mu.Unlock()
	w.end("")
	if had && !closed {
		r.Note("route closed: "+strings.Join(w.at, ", "), "its terminal has closed it, or was cut off")
		r.Changed()
	}
}

// Close ends all.
func (r *Routes) Close() {
	r.mu.Lock()
	r.closed = true
	for a, since := range r.broken { // it has stood long enough
		r.away[a] += time.Since(since)
	}
	var all []*way
	for _, w := range r.ways {
		if !slices.Contains(all, w) {
			all = append(all, w)
		}
	}
	r.tell()
	r.mu.Unlock()
	for _, w := range all {
		w.end("the device is given back")
	}
}

// List says which ways are open, in order.
func (r *Routes) List() []hostlink.Routed {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []hostlink.Routed{}
	for at, w := range r.ways {
		out = append(out, hostlink.Routed{At: at, By: w.by, Seconds: int(time.Since(w.opened).Seconds())})
	}
	slices.SortFunc(out, func(a, b hostlink.Routed) int { return strings.Compare(a.At, b.At) })
	return out
}

// Lead says whether a server that apps ask for is to be reached by a route: where one leads there, or did.
func (r *Routes) Lead(address string) bool {
	address = strings.ToLower(address)
	host, _, _ := net.SplitHostPort(address)
	r.mu.Lock()
	defer r.mu.Unlock()
	return host == routes.Name || r.ways[address] != nil || !r.broken[address].IsZero()
}

// Dial connects to a server that apps ask for.
func (r *Routes) Dial(ctx context.Context, address string) (net.Conn, error) {
	address = strings.ToLower(address)
	r.mu.Lock()
	w, since := r.ways[address], r.broken[address]
	r.mu.Unlock()
	switch {
	case w == nil && since.IsZero():
		return nil, fmt.Errorf("no route is open from %s; open it with: tessellant route open", address)
	case w == nil:
		return nil, fmt.Errorf("the route from %s is closed: its terminal has closed it, or was cut off", address)
	}
	c, err := w.near.Connect(ctx, byte(slices.Index(w.at, address)))
	var no *tunnel.Refused
	switch {
	case errors.As(err, &no):
		return nil, fmt.Errorf("the route from %s is open, but its other end says: %s", address, no.Why)
	case err != nil:
		return nil, fmt.Errorf("the route from %s broke: %w", address, err)
	}
	return c, nil
}

// Await waits until ways from all these are open, for so long at most. The error says which are missing.
func (r *Routes) Await(ctx context.Context, at []string, long time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, long)
	defer cancel()
	for {
		var missing []string
		r.mu.Lock()
		for _, a := range at {
			if r.ways[a] == nil {
				missing = append(missing, a)
			}
		}
		now := r.now
		r.mu.Unlock()
		if len(missing) == 0 {
			return nil
		}
		select {
		case <-now:
		case <-ctx.Done():
			return fmt.Errorf("no route was opened from %s within %s", strings.Join(missing, ", "), long)
		}
	}
}

// Away says of those that were open for how long they were broken until Close, as "route.test:3000 for 12 s"; "": none was.
func (r *Routes) Away(at []string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []string
	for _, a := range at {
		if d := r.away[a]; d >= time.Second {
			out = append(out, fmt.Sprintf("%s for %s", a, d.Round(time.Second)))
		}
	}
	return strings.Join(out, ", ")
}
