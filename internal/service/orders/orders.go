// Package orders is the way from the service to its hosts: wake-ups, and orders that are answered.
//
// A host is where it joined: in this process, or wherever its bus reaches. An order goes in pieces where it is large, and is sent again where no
// answer comes; of an order's id nothing is done twice.
package orders

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Orders is that way.
type Orders struct {
	Store *store.Store
	Bus   bus.Bus
	Log   *slog.Logger

	mu   sync.Mutex
	here map[string]hostlink.Answerer // hosts in this process
}

// retryFor is how long a host that does not answer is asked again before the caller hears of it.
const retryFor = 10 * time.Second

// Log is the log for what concerns a hold.
func Log(log *slog.Logger, h store.Hold) *slog.Logger {
	l := log.With(string(h.Kind), h.WorkID, "attempt", h.AttemptID)
	if h.RunID != "" {
		l = l.With("run", h.RunID)
	}
	return l
}

// Dispatch tells the dispatcher that there may be something to do.
func (s *Orders) Dispatch() { s.Bus.Publish(bus.Work, nil) }

// Woken gives a channel on which something comes when a host is woken.
func (s *Orders) Woken(host string) (<-chan []byte, func()) { return s.Bus.Subscribe(bus.Host(host)) }

// AnswerCalls answers what hosts ask over the bus, until stop is called.
func (s *Orders) AnswerCalls(answer func(context.Context, []byte) []byte) (stop func(), err error) {
	return s.Bus.Answer(bus.Hosts, answer)
}

// Wake tells a host that there is news for it.
func (s *Orders) Wake(host string) { s.Bus.Publish(bus.Host(host), nil) }

// WakeHolding tells the hosts of some holds that there is news for them.
func (s *Orders) WakeHolding(ctx context.Context, of func(store.Hold) bool) error {
	holds, err := s.Store.ActiveHolds(ctx, "")
	if err != nil {
		return err
	}
	hosts := map[string]bool{}
	for _, h := range holds {
		if of(h) {
			hosts[h.HostID] = true
		}
	}
	for h := range hosts {
		if name, err := s.Store.HostName(ctx, h); err == nil {
			s.Wake(name)
		}
	}
	return nil
}

// ErrGone says that the host does not have the session any more.
var ErrGone = errors.New("the host does not have the session any more")

// Do hands a request on, in pieces where it is large, and gathers the answer. Hold is the one of the session that is commanded; "": the host itself is asked.
func (s *Orders) Do(ctx context.Context, host, hold string, q remoteend.Request) (out remoteend.Response, err error) {
	o := hostlink.Order{Hold: hold, ID: rand.Text(), Method: q.Method, Path: q.Path, Size: len(q.Body)}
	silent := time.Time{}
	for {
		to := min(o.From+hostlink.PieceSize, len(q.Body))
		o.Piece = q.Body[o.From:to]
		r, err := s.Send(ctx, host, o)
		switch {
		case ctx.Err() != nil:
			return out, ctx.Err()
		case err != nil && silent.IsZero():
			silent = time.Now()
			fallthrough
		case err != nil:
			if time.Since(silent) > retryFor {
				return out, err
			}
			select {
			case <-time.After(200 * time.Millisecond):
			case <-ctx.Done():
				return out, ctx.Err()
			}
			continue
		case r.Gone:
			return out, ErrGone
		case r.Problem != "":
			return out, errors.New(r.Problem)
		}
		silent = time.Time{}
		if r.Pending {
			if to < len(q.Body) {
				o.From = to
			}
			continue
		}
		out.Status = r.Status
		out.Body = append(out.Body, r.Piece...)
		if o.Want = len(out.Body); o.Want >= r.Size || len(r.Piece) == 0 {
			return out, nil
		}
	}
}

// Ask puts a question to a host that is no command of a session: to its desk, or, with a hold, to what it does there. Title says what for, in errors, which are for people.
// ErrGone comes as it is. Answer may be nil.
func (s *Orders) Ask(ctx context.Context, host, hold, title string, q remoteend.Request, answer any) error {
	out, err := s.Do(ctx, host, hold, q)
	switch {
	case errors.Is(err, ErrGone):
		return err
	case err != nil:
		return refuse.New(refuse.Unavailable, title, "check that the host is up: tessellant host list", "the host %s did not answer: %v", host, err)
	case out.Status >= http.StatusBadRequest:
		var no hostlink.Unable
		if err := json.Unmarshal(out.Body, &no); err != nil || no.Why == "" {
			no = hostlink.Unable{Why: "the host " + host + " can't do that", Remedy: "run the same version of tessellant on both sides"}
		}
		kind := map[int]refuse.Kind{http.StatusNotFound: refuse.NotFound, http.StatusBadRequest: refuse.Invalid}[out.Status]
		return refuse.New(cmp.Or(kind, refuse.Refused), title, no.Remedy, "%s", no.Why)
	case answer == nil:
		return nil
	}
	if err := json.Unmarshal(out.Body, answer); err != nil {
		return fmt.Errorf("the answer of the host %s can't be read: %w", host, err)
	}
	return nil
}

// Open opens a stream to what a host does with a hold: its order brings the stream's id as {"stream": id}, besides what q's body has. Title is as for Ask.
func (s *Orders) Open(ctx context.Context, host, hold, title string, q remoteend.Request, with map[string]any) (net.Conn, error) {
	id := strings.ToLower(rand.Text())
	c, err := bus.NewStream(s.Bus, bus.Up(host, id), bus.Down(host, id))
	if err != nil {
		return nil, refuse.New(refuse.Unavailable, title, "try again in a moment", "%v", err)
	}
	body := map[string]any{"stream": id}
	maps.Copy(body, with)
	if q.Body, err = json.Marshal(body); err == nil {
		err = s.Ask(ctx, host, hold, title, q, nil)
	}
	if err != nil {
		_ = c.Close()
		return nil, err
	}
	return c, nil
}

// TakeUp is the other end of a stream that was opened here, for a host in this process.
func (s *Orders) TakeUp(host, id string) (hostlink.Stream, error) {
	return bus.NewStream(s.Bus, bus.Down(host, id), bus.Up(host, id))
}

// Send hands an order to a host: directly where that is in this process, else over the bus.
func (s *Orders) Send(ctx context.Context, name string, o hostlink.Order) (r hostlink.Result, err error) {
	s.mu.Lock()
	beside := s.here[name]
	s.mu.Unlock()
	if beside != nil {
		return beside(ctx, o), nil
	}
	raw, err := json.Marshal(o)
	if err != nil {
		return r, err
	}
	back, err := s.Bus.Call(ctx, bus.Commands(name), raw)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(back, &r)
}

// Serve has the orders for a host in this process answered, until stop is called.
func (s *Orders) Serve(name string, answer hostlink.Answerer) (stop func(), err error) {
	answer = hostlink.Guarded(s.Log, answer)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.here == nil {
		s.here = map[string]hostlink.Answerer{}
	}
	s.here[name] = answer
	// Other processes of the service reach it over the bus.
	deaf, err := s.Bus.Answer(bus.Commands(name), func(ctx context.Context, data []byte) []byte {
		return hostlink.AnswerOrder(ctx, data, answer)
	})
	if err != nil {
		return nil, err
	}
	return func() {
		deaf()
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.here, name)
	}, nil
}
