// Package turns says whose turn it is on a device on which something is tested: the test's, or that of the people beside it.
//
// The test passes Enter before each of its commands. While a person has paused it, its next command waits there, its clocks stand (Within, Quiet), and people
// may work on the device (Acting). A pause ends when a person lets the test go on, when nobody is there any more, or after Longest. In: what the test and people want.
// Out: how it stands (hostlink.Standing), and marks on the timeline.
package turns

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tessellant/internal/hostlink"
)

// Bounds of a pause.
const (
	// Longest is how long one may last.
	Longest = 30 * time.Minute
	// Alone is how long it lasts while nobody is there who watches: a way that was cut can be opened again.
	Alone = 30 * time.Second
	// quietTakes is how long people wait for the end of the test's command that is at work.
	quietTakes = 20 * time.Second
	lookEvery  = 250 * time.Millisecond
)

// Errors of people who want what can't be.
var (
	ErrOver    = errors.New("the test has ended")
	ErrRunning = errors.New("the test is running")
	ErrBusy    = errors.New("the test's command has not ended yet")
)

// Turns is whose turn it is. Nil: there is no test, and all that is asked is given.
type Turns struct {
	Watched func() bool                     // somebody is there who may touch the device
	Changed func()                          // how it stands has changed; called without a lock held
	Note    func(name, answer, line string) // what stands on the timeline

	mu      sync.Mutex
	over    bool
	inside  int           // commands of the test that are at work
	left    chan struct{} // closed, and made anew, when one ends
	last    string        // the test's last command
	waits   bool          // it waits for its turn
	pause   *pause        // nil: the test runs
	touched bool          // there was one since the last command
	stood   time.Duration // in pauses that have ended
	wentOn  time.Time     // when the last one did
}

type pause struct {
	by, why, line string
	since, until  time.Time
	ended         chan struct{}
}

// New makes them; the test runs.
func New() *Turns {
	return &Turns{Watched: func() bool { return false }, Changed: func() {}, Note: func(_, _, _ string) {}, left: make(chan struct{})}
}

// Enter is called before a command of the test, and waits while it is not the test's turn. Leave is called when the command has ended. Changed says that people
// may have changed what is on the screen since the command before.
func (t *Turns) Enter(ctx context.Context, what string) (leave func(), changed bool, err error) {
	if t == nil {
		return func() {}, false, nil
	}
	for {
		t.mu.Lock()
		t.last, t.waits = what, t.pause != nil
		p := t.pause
		if p == nil {
			changed, t.touched = t.touched, false
			t.inside++
			t.mu.Unlock()
			return sync.OnceFunc(t.leave), changed, nil
		}
		t.mu.Unlock()
		t.Changed()
		select {
		case <-p.ended:
		case <-ctx.Done():
			return nil, false, context.Cause(ctx)
		}
	}
}

func (t *Turns) leave() {
	t.mu.Lock()
	t.inside--
	close(t.left)
	t.left = make(chan struct{})
	paused := t.pause != nil
	t.mu.Unlock()
	if paused {
		t.Changed()
	}
}

// Pause has the test's next command wait, for as long as somebody watches, or for so long. One that is paused already stays so, for that long at least.
// It answers when the command at work has ended; ErrBusy: it takes long, and the test pauses behind it.
func (t *Turns) Pause(ctx context.Context, by, why string, long time.Duration) error {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	if t.over {
		t.mu.Unlock()
		return ErrOver
	}
	now := time.Now()
	if t.pause == nil {
		t.begin(&pause{by: by, why: why, since: now})
	}
	t.pause.lasts(now.Add(max(long, Alone)))
	t.mu.Unlock()
	t.Changed()
	return t.quiet(ctx)
}

// begin begins a pause, under mu.
func (t *Turns) begin(p *pause) {
	p.ended = make(chan struct{})
	t.pause = p
	t.Note(said("paused by "+cmp.Or(p.by, "the test"), p.why), "", p.line)
	go t.keep(p)
}

// said is a mark on the timeline, with its reason where there is one.
func said(what, why string) string { return strings.TrimSuffix(what+": "+why, ": ") }

// lasts has a pause last until then at least, but for no longer than one may.
func (p *pause) lasts(until time.Time) {
	if most := p.since.Add(Longest); until.After(most) {
		until = most
	}
	if until.After(p.until) {
		p.until = until
	}
}

// keep ends a pause when its time is over.
func (t *Turns) keep(p *pause) {
	for {
		select {
		case <-p.ended:
			return
		case <-time.After(lookEvery):
		}
		watched := t.Watched()
		t.mu.Lock()
		now := time.Now()
		if watched {
			p.lasts(now.Add(Alone))
		}
		over, most := !now.Before(p.until), !now.Before(p.since.Add(Longest))
		t.mu.Unlock()
		if over {
			why := "nobody was there any more"
			if most {
				why = fmt.Sprintf("a pause lasts %d minutes at most", int(Longest.Minutes()))
			}
			t.end(p, why)
			return
		}
	}
}

// Resume lets the test go on.
func (t *Turns) Resume(by string) error {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	p, over := t.pause, t.over
	t.mu.Unlock()
	switch {
	case over:
		return ErrOver
	case p != nil:
		t.end(p, "by "+by)
	}
	return nil
}

// end ends a pause, once.
func (t *Turns) end(p *pause, why string) {
	t.mu.Lock()
	if t.pause != p {
		t.mu.Unlock()
		return
	}
	t.pause, t.touched, t.wentOn = nil, true, time.Now()
	took := t.wentOn.Sub(p.since)
	t.stood += took
	close(p.ended)
	t.Note("resumed after "+took.Round(time.Second).String(), why, p.line)
	t.mu.Unlock()
	t.Changed()
}

// Await is the test's own wish to be looked at: it waits for a person where one watches, and does not where nobody does.
func (t *Turns) Await(ctx context.Context, why, line string) error {
	if t == nil {
		return nil
	}
	if !t.Watched() {
		t.Note(said("not paused, as nobody watches", why), "", line)
		return nil
	}
	t.mu.Lock()
	if t.pause == nil && !t.over {
		now := time.Now()
		t.begin(&pause{why: why, line: line, since: now, until: now.Add(Alone)})
	}
	p := t.pause
	t.mu.Unlock()
	if p == nil {
		return nil
	}
	t.Changed()
	select {
	case <-p.ended:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Acting says whether a person may do something now: the test is paused, and its command has ended. Else the error says why not.
func (t *Turns) Acting(ctx context.Context) error {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	p, over := t.pause, t.over
	if p != nil {
		p.lasts(time.Now().Add(Alone)) // who does something is there
	}
	t.mu.Unlock()
	switch {
	case over:
		return ErrOver
	case p == nil:
		return ErrRunning
	}
	return t.quiet(ctx)
}

// quiet waits until no command of the test is at work.
func (t *Turns) quiet(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, quietTakes)
	defer cancel()
	for {
		t.mu.Lock()
		inside, left := t.inside, t.left
		t.mu.Unlock()
		if inside == 0 {
			return nil
		}
		select {
		case <-left:
		case <-ctx.Done():
			return ErrBusy
		}
	}
}

// Open says whether people may do something at this moment.
func (t *Turns) Open() bool {
	if t == nil {
		return true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.pause != nil && t.inside == 0
}

// Standing is how it stands now.
func (t *Turns) Standing() hostlink.Standing {
	if t == nil {
		return hostlink.Standing{}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	s := hostlink.Standing{Last: t.last, Waits: t.waits && t.pause != nil, Busy: t.inside > 0}
	if p := t.pause; p != nil {
		s.Paused, s.By, s.Why, s.Line, s.Seconds, s.Left = true, p.by, p.why, p.line, int(time.Since(p.since).Seconds()), int(time.Until(p.until).Seconds())
	}
	return s
}

// Close ends it with its test: a pause ends, and there is no other.
func (t *Turns) Close() {
	if t == nil {
		return
	}
	t.mu.Lock()
	p := t.pause
	t.over = true
	t.mu.Unlock()
	if p != nil {
		t.end(p, "the test has ended")
	}
}

// Stood is for how long the test has stood still in all.
func (t *Turns) Stood() time.Duration {
	if t == nil {
		return 0
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.pause != nil {
		return t.stood + time.Since(t.pause.since)
	}
	return t.stood
}

// Quiet is for how long the test was silent by its own doing: in a pause it is not.
func (t *Turns) Quiet(silent time.Duration) time.Duration {
	if t == nil {
		return silent
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case t.pause != nil:
		return 0
	case t.wentOn.IsZero():
		return silent
	}
	return min(silent, time.Since(t.wentOn))
}

// Within is a context that ends with cause when the test has run for so long; the time of pauses does not count.
func (t *Turns) Within(ctx context.Context, long time.Duration, cause error) (context.Context, context.CancelFunc) {
	if t == nil {
		return context.WithTimeoutCause(ctx, long, cause)
	}
	ctx, stop := context.WithCancelCause(ctx)
	begun, before := time.Now(), t.Stood()
	go func() {
		for {
			ran := time.Since(begun) - (t.Stood() - before)
			if ran >= long {
				stop(cause)
				return
			}
			select {
			case <-time.After(max(long-ran, 20*time.Millisecond)):
			case <-ctx.Done():
				return
			}
		}
	}()
	return ctx, func() { stop(context.Canceled) }
}
