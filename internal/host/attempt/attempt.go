// Package attempt takes one hold from its beginning to its end.
//
// The device is prepared and the recorders are set going (ready.go); a runner carries the content out; then the device is put back
// and released, with proof that it is as it was found (release.go), while the evidence is still being written and uploaded. An attempt ends with its
// closing, which says what came of it. In: a hold, and the Bench on which it is worked on.
package attempt

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/film"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/sandbox"
)

// Bench is what an attempt needs of its host.
type Bench struct {
	Link     hostlink.Link
	Spool    *spool.Spool
	Lab      func(hostlink.Hold) lab.Lab // of the hold's device
	Runners  map[string]runner.Maker     // by the kind of content
	Silence  time.Duration               // for which a device at work may not answer the simplest question
	Encoding chan struct{}               // a place for each encoder at work
	Outlet   *record.Outlet              // of the proxies; nil: there are none
	Box      *sandbox.Box                // where programs run; nil: none do
	About    func() hostlink.About       // what the host says of that
	// Lost is called when a device was lost: it is looked at anew before its hold is closed.
	Lost func(ctx context.Context, hold hostlink.Hold)
	// Stream takes up a stream that the service opened.
	Stream func(id string) (hostlink.Stream, error)
	// Open lets a session be commanded until shut is called.
	Open func(ctx context.Context, hold string, end orders.Carrier, log *slog.Logger) (s *orders.Served, shut func())
}

// attempt is the work of one hold.
type attempt struct {
	b       *Bench
	hold    hostlink.Hold
	log     *slog.Logger
	dir     string
	mask    *masking.Mask
	room    *spool.Share
	courier *spool.Courier
	journal *spool.Journal

	unit     *lab.Unit
	started  lab.Starter // of a device that was started for this; nil: none was
	given    lab.Given   // of a device that is lent
	loan     devices.Loan
	lentAt   time.Time // zero: it was not
	timeline *record.Timeline
	film     *film.Film
	kit      *runner.Kit
	runner   runner.Runner
	record   []record.Recorder
	late     sync.Mutex // guards record, and lateNet, from when the runner runs
	lateNet  bool       // its apps were led through a proxy that nothing was recorded for
	refs     *os.File   // of steps; nil: none is wanted

	telling sync.Mutex
	seq     int64 // of the last report

	stopping bool // the host ends: there is a moment left
	ours     bool // the program itself failed at it
}

// Work does all that a hold asks for, and closes it. Released is called as soon as the device is not needed any more.
// When held ends before ctx does, a person stopped the work, or the hold is lost: what was gathered is
// uploaded, and in the second case the device, which may be somebody else's by now, is left alone.
func Work(ctx, held context.Context, b *Bench, hold hostlink.Hold, log *slog.Logger, released func()) {
	a := &attempt{b: b, hold: hold, dir: b.Spool.Path(hold.AttemptID), log: log, mask: masking.New(slices.Collect(maps.Values(hold.Secrets))), room: b.Spool.Of(hold.AttemptID)}
	if hold.Begun { // by a process of this host whose folder is gone
		Refuse(ctx, b.Link, hold, log, errors.New("the host was started again while the leg ran, without its folder"))
		return
	}
	log.Info("work begins", "epoch", hold.Epoch)
	start := time.Now()
	if err := a.open(); err != nil {
		Refuse(ctx, b.Link, hold, log, fmt.Errorf("the host can't keep evidence: %w", err))
		return
	}
	var end hostlink.Closing
	var delivered sync.WaitGroup
	// The courier outlives the host's own end by a little, to say that it has come.
	carry, stopCarrying := context.WithCancel(context.WithoutCancel(ctx))
	defer stopCarrying()
	uploaded := false
	delivered.Go(func() {
		uploaded = guard.Do(log, guard.Hold, func() error { return a.courier.Deliver(carry, func() hostlink.Closing { return end }) }) == nil
	})
	end.Verdict, end.Message = a.run(held)
	cause := context.Cause(held)
	mine := true // the device is still ours
	defer a.doneWith()
	switch {
	case ctx.Err() != nil:
		log.Info("work is cut short: the host stops")
		end.Verdict, end.Message, a.stopping = verdict.Lost, "the host was stopped while the leg ran", true
	case errors.Is(cause, casebook.ErrHoldOver):
		log.Warn("work is abandoned: its hold ran out")
		end.Verdict, end.Message, mine = verdict.Lost, casebook.ErrHoldOver.Error(), false
	case end.Verdict == verdict.Lost && !a.ours:
		log.Warn("attempt lost", "why", end.Message)
		mine = false // it is not there, or does not answer: the next work on it cleans up
		b.Lost(ctx, hold)
	}
	cut := false // the host ended before all evidence was written
	if err := guard.Run(log, guard.Hold, func() { cut = a.finish(ctx, mine, released) }); err != nil {
		end.Verdict, end.Message, a.ours = verdict.Lost, err.Error(), true
	}
	if cut {
		end.Verdict, end.Message = verdict.Lost, "the host was stopped before all evidence was written"
	}
	a.close(&end)
	if err := a.courier.Finish(end); err != nil {
		log.Warn("the result of the work can't be written down", "err", err)
	}
	if ctx.Err() != nil {
		time.AfterFunc(lastWords, stopCarrying)
	} else {
		defer context.AfterFunc(ctx, func() { time.AfterFunc(lastWords, stopCarrying) })()
	}
	delivered.Wait()
	if !uploaded {
		log.Warn("the end of the work could not be told yet; its files are kept", "folder", a.dir)
		return
	}
	b.Spool.Remove(hold.AttemptID)
	log.Info("work ends", "verdict", end.Verdict, "took", time.Since(start).Round(time.Millisecond))
}

// lastWords is how long a host that ends goes on telling.
const lastWords = 3 * time.Second

// open makes the attempt's folder.
func (a *attempt) open() (err error) {
	if err = os.RemoveAll(a.dir); err != nil {
		return err
	}
	if a.courier, err = spool.NewCourier(a.b.Link, a.b.Spool, a.hold, a.log); err != nil {
		return err
	}
	a.journal, err = a.b.Spool.Journal(a.hold.AttemptID)
	return err
}

// Refuse closes a hold that nothing can be done for.
func Refuse(ctx context.Context, link hostlink.Link, hold hostlink.Hold, log *slog.Logger, why error) {
	log.Error("work can't be begun", "err", why)
	var panicked *guard.Panicked
	ours := errors.As(why, &panicked)
	err := spool.Persist(ctx, log, "close the hold", func(ctx context.Context) error {
		return link.Close(ctx, hold, hostlink.Closing{Verdict: verdict.Lost, Message: why.Error(), OurFault: ours})
	})
	if err != nil && !errors.Is(err, hostlink.ErrOver) {
		log.Error("a hold could not be closed", "err", err)
	}
}

// run prepares the device and has the content carried out. It answers the attempt's verdict,
// and a message where there is something to say.
func (a *attempt) run(ctx context.Context) (verdict.Verdict, string) {
	started, err := a.start(ctx)
	if err != nil {
		return verdict.Lost, "the device " + a.hold.Serial + " could not be started: " + err.Error()
	}
	if a.unit, err = lab.Await(ctx, a.b.Lab(a.hold), a.hold.Serial); err != nil {
		return verdict.Lost, "the device " + a.hold.Serial + " was not there: " + err.Error()
	}
	if a.timeline, err = record.NewTimeline(a.dir, a.unit, a.hold.Spec.Recording, a.mask, a.room); err != nil {
		return verdict.Lost, fmt.Sprintf("the host can't keep evidence: %v", err)
	}
	a.kit = a.newKit()
	a.stage("preparing")
	if started > 0 {
		a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the device was started", Answer: fmt.Sprintf("it took %.1f s", started.Seconds())})
	}
	doing, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var side sync.WaitGroup
	err = guard.Do(a.log, guard.Hold, func() error {
		if err := a.prepare(doing, stop, &side); err != nil {
			return err
		}
		if a.film != nil {
			a.film.Begun(doing)
		}
		return a.runner.Run(doing)
	})
	stop(nil)
	side.Wait()
	a.stage("collecting")
	if cause := context.Cause(doing); cause == nil || errors.Is(cause, context.Canceled) {
		a.keep(ctx)
	}
	if cause := context.Cause(doing); cause != nil && !errors.Is(cause, context.Canceled) {
		err = cause // the device went away, whatever was noticed first
	}
	var panicked *guard.Panicked
	if errors.As(err, &panicked) {
		a.ours = true
		return verdict.Lost, err.Error()
	}
	if a.runner == nil {
		return a.kit.Book.Judge(err)
	}
	return a.runner.Judge(err)
}

// close completes the closing.
func (a *attempt) close(end *hostlink.Closing) {
	end.Message, end.OurFault = foreign.Fit(a.mask.Text(end.Message), verdict.MaxMessage), a.ours
	if a.timeline != nil && a.timeline.Whole() != nil {
		end.Message = strings.TrimSpace(end.Message + " (evidence is not whole: " + a.timeline.Whole().Error() + ")")
	}
	if a.kit != nil {
		if away := a.kit.Routes.Away(a.hold.Spec.Routes); away != "" {
			end.Message = strings.TrimSpace(end.Message + " (its routes were broken: " + away + ")")
		}
		if doubt, ok := a.kit.Book.Clock.Doubt(); ok {
			ms := doubt.Milliseconds()
			end.ClockDoubtMS = &ms
		}
		if p := a.kit.Package; p != nil && p.Zip != nil {
			_ = p.Zip.Close()
		}
	}
	if a.refs != nil {
		_ = a.refs.Close()
	}
	for _, name := range []string{"build", "package", "references"} {
		_ = os.Remove(filepath.Join(a.dir, name))
	}
	if a.runner != nil {
		a.runner.Close(end)
	}
}

// stage goes into a stage.
func (a *attempt) stage(name string) {
	a.timeline.Note(timeline.Event{Kind: timeline.Stage, Name: name})
	a.tell(hostlink.Progress{Stage: name})
}

// tell says what changed; the courier takes it to the service.
func (a *attempt) tell(p hostlink.Progress) {
	a.telling.Lock()
	defer a.telling.Unlock()
	a.seq++
	p.Seq = a.seq
	if err := a.courier.Report(p); err != nil {
		a.log.Error("a report can't be written down", "err", err)
	}
}

// newKit is what the runner works with; what is not there yet comes with prepare.
func (a *attempt) newKit() *runner.Kit {
	k := &runner.Kit{Hold: a.hold, Dir: a.dir, Log: a.log, Mask: a.mask, Room: a.room, Unit: a.unit, Phone: a.unit.Observed(a.timeline.Command), Timeline: a.timeline, Stage: a.stage, Box: a.b.Box, About: a.b.About, Turns: runner.NewTurns(a.timeline), Routes: record.NewRoutes(a.timeline)}
	k.Book = &casebook.Book{Timeline: a.timeline, Clock: record.NewClock(a.timeline), Phone: k.Phone, Mask: a.mask, Tell: a.tell, Log: a.log}
	k.Open = func(ctx context.Context, end orders.Carrier) (*orders.Served, func()) {
		return a.b.Open(ctx, a.hold.ID, end, a.log)
	}
	k.Stream = a.b.Stream
	return k
}

var _ phone.Phone = (*lab.Unit)(nil)
