// Package orders takes what the service hands on to a host: commands of sessions, and questions to the host's desk. They come in pieces where they are
// large, and are answered again when an answer got lost.
package orders

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

const (
	// orderWait is how long an order waits for its command's end before it says "pending".
	orderWait = 8 * time.Second
	keptDone  = 8 // answers of a session that are kept, once given, for orders that come again
	// maxWaiting is how many commands of a session may wait for each other: clients send one after the other.
	maxWaiting = 32
	// maxBeside is how many of those may be at work that wait for no other: people beside a session take no place of its client.
	maxBeside = 16
	// maxHalf is how long an order may lack pieces of its body.
	maxHalf = time.Minute
)

// Carrier carries out commands: a session's remote end, or the host's desk.
type Carrier interface {
	Do(ctx context.Context, q remoteend.Request) remoteend.Response
	Ended() bool // no more commands are to come
}

// Besider is a carrier some of whose commands need not wait for those before them.
type Besider interface {
	Beside(q remoteend.Request) bool
}

// Served is a session, or the desk, that can be commanded.
type Served struct {
	end  Carrier
	ctx  context.Context // of its commands
	log  *slog.Logger
	over chan struct{} // closed when the client has ended it
	next chan *done    // those that are whole, in their order

	mu      sync.Mutex
	done    []*done // the newest last
	left    bool    // ctx has ended
	working int
	lastUse time.Time
}

// done is one command, done or being done.
type done struct {
	id     string
	began  time.Time
	order  hostlink.Order
	body   []byte
	beside bool // it waits for no other
	whole  bool // all pieces of the body are here
	given  bool // the answer was, to its end
	ready  chan struct{}
	out    remoteend.Response
}

// New makes one that carries out commands, one after the other, until ctx ends.
func New(ctx context.Context, log *slog.Logger, end Carrier) *Served {
	s := &Served{end: end, ctx: ctx, log: log, over: make(chan struct{}), next: make(chan *done, maxWaiting), lastUse: time.Now()}
	go func() {
		for {
			select {
			case d := <-s.next:
				s.do(d)
			case <-ctx.Done():
				s.leave()
				return
			}
		}
	}()
	return s
}

// leave answers what waits still; what comes now ends by itself.
func (s *Served) leave() {
	s.mu.Lock()
	s.left = true
	s.mu.Unlock()
	for {
		select {
		case d := <-s.next:
			s.do(d)
		default:
			return
		}
	}
}

// Idle is for how long nothing was commanded.
func (s *Served) Idle() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.working > 0 {
		return 0
	}
	return time.Since(s.lastUse)
}

// Used says that the session is commanded by another way.
func (s *Served) Used() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lastUse = time.Now()
}

// Over is closed when no more commands are to come.
func (s *Served) Over() <-chan struct{} { return s.over }

// Take answers one order.
func (s *Served) Take(ctx context.Context, o hostlink.Order) hostlink.Result {
	if o.Size < 0 || o.Size > remoteend.MaxBody || o.From < 0 || o.From+len(o.Piece) > o.Size || o.Want < 0 {
		return hostlink.Result{Problem: "the order is not valid"}
	}
	d := s.find(o)
	if d == nil {
		return hostlink.Result{Problem: fmt.Sprintf("%d commands of the session wait already", maxWaiting)}
	}
	select {
	case <-d.ready:
	case <-ctx.Done():
		return hostlink.Result{Pending: true}
	case <-wait(d, o):
		return hostlink.Result{Pending: true}
	}
	from := min(o.Want, len(d.out.Body))
	to := min(from+hostlink.PieceSize, len(d.out.Body))
	if to == len(d.out.Body) {
		s.mu.Lock()
		d.given = true
		s.mu.Unlock()
	}
	return hostlink.Result{Status: d.out.Status, Size: len(d.out.Body), Piece: d.out.Body[from:to]}
}

// wait gives how long an order waits: not at all while pieces of its body are missing.
func wait(d *done, o hostlink.Order) <-chan time.Time {
	if o.From+len(o.Piece) < o.Size {
		return time.After(0)
	}
	return time.After(orderWait)
}

// find gives the command of an order; a new one begins when its body is whole. Nil: too many wait.
func (s *Served) find(o hostlink.Order) *done {
	s.mu.Lock()
	defer s.mu.Unlock()
	var d *done
	for _, x := range s.done {
		if x.id == o.ID {
			d = x
		}
	}
	if d == nil {
		b, ok := s.end.(Besider)
		beside := ok && b.Beside(remoteend.Request{Method: o.Method, Path: o.Path})
		most := map[bool]int{true: maxBeside, false: maxWaiting}[beside]
		if s.makeRoom(beside, most); s.kept(beside) >= most {
			return nil
		}
		d = &done{id: o.ID, order: hostlink.Order{Method: o.Method, Path: o.Path}, beside: beside, began: time.Now(), ready: make(chan struct{})}
		s.done = append(s.done, d)
	}
	if !d.whole && o.From == len(d.body) {
		d.body = append(d.body, o.Piece...)
		if d.whole = len(d.body) == o.Size; d.whole {
			switch {
			case d.beside:
				go s.do(d)
			case s.left:
				s.working++
				go s.do(d)
			default:
				s.working++
				s.next <- d // there is room: no more than that wait
			}
		}
	}
	return d
}

// kept counts, under mu, those of a kind.
func (s *Served) kept(beside bool) (n int) {
	for _, d := range s.done {
		if d.beside == beside {
			n++
		}
	}
	return n
}

// makeRoom forgets, under mu, what was answered and given long ago, and what never came whole. An answer that nobody has come for goes only when there
// is no other room: its order may be on the way again, and the command must not be carried out twice.
func (s *Served) makeRoom(beside bool, most int) {
	given := 0
	for i := len(s.done) - 1; i >= 0; i-- {
		d := s.done[i]
		if d.given {
			given++
		}
		if d.given && given >= keptDone || !d.whole && time.Since(d.began) > maxHalf {
			s.done = slices.Delete(s.done, i, i+1)
		}
	}
	if s.kept(beside) < most {
		return
	}
	if i := slices.IndexFunc(s.done, func(d *done) bool { return d.beside == beside && d.answered() }); i >= 0 {
		s.done = slices.Delete(s.done, i, i+1)
	}
}

func (d *done) answered() bool {
	select {
	case <-d.ready:
		return true
	default:
		return false
	}
}

func (s *Served) do(d *done) {
	if err := guard.Run(s.log, guard.Order, func() {
		d.out = s.end.Do(s.ctx, remoteend.Request{Method: d.order.Method, Path: d.order.Path, Body: d.body})
	}); err != nil {
		d.out = remoteend.Answer(w3c.Fail(w3c.UnknownError, "%v", err))
	}
	d.body = nil
	over := s.end.Ended()
	if !d.beside { // who looks on does not keep a session from being silent
		s.mu.Lock()
		s.working--
		s.lastUse = time.Now()
		s.mu.Unlock()
	}
	close(d.ready)
	if over {
		s.mu.Lock()
		defer s.mu.Unlock()
		select {
		case <-s.over:
		default:
			close(s.over)
		}
	}
}
