package host

// An attempt from its hold to its end: it is made ready, carried out, judged, and handed in.

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// attempt is the work of one hold.
type attempt struct {
	h       *Host
	hold    hostlink.Hold
	log     *slog.Logger
	dir     string
	mask    *masking.Mask
	courier *courier

	unit     *unit
	phone    phone.Phone // observed
	hands    *script.Hands
	rec      *recorder
	film     *film
	book     *logbook
	app      phone.App
	pkg      *testpkg.Package
	zip      *os.File // the package
	files    fs.FS    // in it
	chosen   []testpkg.Case
	samples  []timeline.Sample
	seq      int64
	results  []verdict.Verdict
	said     []string // by the cases, as results
	letGo    bool     // the device is not ours any more
	noVideo  bool     // there is no time for one
	cut      bool     // the host ended before the video was written
	ours     bool     // the program itself failed at it
	reported sync.Mutex

	installing sync.Mutex // guards those below
	besides    []string   // as in Hold
	replaced   bool       // another build may stand where the hold's own was

	outside  *gathering // of a session
	standing *w3c.Error // that a session's last command failed with
	how      string     // a session ended
}

// kind is the kind of the content.
func (a *attempt) kind() string { return a.hold.Spec.Content.Kind }

// share is what the attempt takes of the host's folder.
func (a *attempt) share() *share { return a.h.spool.of(a.hold.AttemptID) }

// caseLimit is how long one case may take, within the leg's limit.
const caseLimit = 10 * time.Minute

var (
	errLegTime  = errors.New("the leg's time limit was reached")
	errCaseTime = errors.New("the case took longer than " + caseLimit.String())
)

// work does all that a hold asks for, and closes it.
// When held ends before ctx does, the run was stopped, or the hold is lost: what was gathered is
// handed in, and in the second case the device, which may be somebody else's by now, is let alone.
func (h *Host) work(ctx, held context.Context, hold hostlink.Hold) {
	a := &attempt{h: h, hold: hold, dir: h.spool.path(hold.AttemptID), log: h.logOf(hold), mask: masking.New(slices.Collect(maps.Values(hold.Secrets)))}
	if hold.Begun { // by a process of this host whose folder is gone
		h.refuse(ctx, hold, a.log, errors.New("the host was started again while the leg ran, without its folder"))
		return
	}
	a.log.Info("work begins", "epoch", hold.Epoch)
	start := time.Now()
	var err error
	if err = os.RemoveAll(a.dir); err == nil {
		a.courier, err = newCourier(h.Link, h.spool, hold, a.log)
	}
	if err != nil {
		h.refuse(ctx, hold, a.log, fmt.Errorf("the host can't keep evidence: %w", err))
		return
	}
	var end hostlink.Closing
	var delivered sync.WaitGroup
	// The courier outlives the host's own end by a little, to say that it has come.
	carry, stopCarrying := context.WithCancel(context.WithoutCancel(ctx))
	defer stopCarrying()
	handedIn := false
	delivered.Go(func() {
		handedIn = guard.Do(a.log, guard.Hold, func() error { return a.courier.deliver(carry, func() hostlink.Closing { return end }) }) == nil
	})
	v, message := a.run(held)
	cause := context.Cause(held)
	switch {
	case ctx.Err() != nil:
		a.log.Info("leg broken off: the host stops")
		v, message, a.noVideo = verdict.Lost, "the host was stopped while the leg ran", true
	case errors.Is(cause, errHoldOver):
		a.log.Warn("leg left: its hold ran out")
		v, message, a.letGo = verdict.Lost, errHoldOver.Error(), true
	case v == verdict.Lost:
		a.log.Warn("attempt lost", "why", message)
		a.letGo = true // it is not there, or does not answer: the next leg on it cleans up
		h.lost(ctx, hold.Serial)
	}
	if err := guard.Run(a.log, guard.Hold, func() { a.collect(ctx) }); err != nil {
		v, message, a.ours = verdict.Lost, err.Error(), true
	}
	if a.cut {
		v, message = verdict.Lost, "the host was stopped before all evidence was written"
	}
	end = hostlink.Closing{Verdict: v, Message: foreign.Fit(a.mask.Text(message), hostlink.MaxMessage), OurFault: a.ours}
	if a.rec != nil && a.rec.whole() != nil {
		end.Message = strings.TrimSpace(end.Message + " (evidence is not whole: " + a.rec.whole().Error() + ")")
	}
	if _, doubt, err := timeline.Align(a.samples...); err == nil {
		ms := doubt.Milliseconds()
		end.ClockDoubtMS = &ms
	}
	if a.zip != nil {
		_ = a.zip.Close()
	}
	for _, name := range []string{"build", "package"} {
		_ = os.Remove(filepath.Join(a.dir, name))
	}
	if a.outside != nil {
		a.outside.close()
	}
	if a.kind() == work.Commands {
		a.sessionEnd(&end)
	}
	if err := a.courier.finish(end); err != nil {
		a.log.Warn("how the leg came out can't be written down", "err", err)
	}
	if ctx.Err() != nil {
		time.AfterFunc(3*time.Second, stopCarrying)
	} else {
		defer context.AfterFunc(ctx, func() { time.AfterFunc(3*time.Second, stopCarrying) })()
	}
	delivered.Wait()
	if !handedIn {
		a.log.Warn("the leg's end could not be told yet; its files are kept", "folder", a.dir)
		return
	}
	h.spool.remove(hold.AttemptID)
	a.log.Info("work ends", "verdict", v, "took", time.Since(start).Round(time.Millisecond))
}

// refuse closes a hold that nothing can be done for.
func (h *Host) refuse(ctx context.Context, hold hostlink.Hold, log *slog.Logger, why error) {
	log.Error("a leg can't be begun", "err", why)
	var panicked *guard.Panicked
	ours := errors.As(why, &panicked)
	err := persist(ctx, log, "close the hold", func(ctx context.Context) error {
		return h.Link.Close(ctx, hold, hostlink.Closing{Verdict: verdict.Lost, Message: why.Error(), OurFault: ours})
	})
	if err != nil && !errors.Is(err, hostlink.ErrOver) {
		log.Error("a hold could not be closed", "err", err)
	}
}

// run prepares the device and runs the cases. It answers the attempt's verdict,
// and a message where there is something to say.
func (a *attempt) run(ctx context.Context) (verdict.Verdict, string) {
	var err error
	if a.unit, err = a.h.device(ctx, a.hold.Serial); err != nil {
		return verdict.Lost, "the device " + a.hold.Serial + " was not there: " + err.Error()
	}
	if a.rec, err = newRecorder(a.dir, a.unit.device, a.mask, a.share()); err != nil {
		return verdict.Lost, fmt.Sprintf("the host can't keep evidence: %v", err)
	}
	a.phone = phone.Observed(a.unit.device, a.rec.command)
	a.stage("preparing")
	if a.kind() == work.Commands || a.kind() == work.Programs {
		if a.outside, err = newGathering(a); err != nil {
			return verdict.Lost, fmt.Sprintf("the host can't keep evidence: %v", err)
		}
	}
	doing, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var side sync.WaitGroup
	err = guard.Do(a.log, guard.Hold, func() error {
		if err := a.prepare(doing, stop, &side); err != nil {
			return err
		}
		if a.film != nil {
			a.film.begun(doing)
		}
		switch {
		case a.kind() == work.Commands:
			return a.serve(doing)
		case a.kind() == work.Programs:
			return a.program(doing)
		}
		a.stage("running")
		return a.cases(doing)
	})
	stop(nil)
	side.Wait()
	a.stage("collecting")
	if cause := context.Cause(doing); cause != nil && !errors.Is(cause, context.Canceled) {
		err = cause // the device went away, whatever was noticed first
	}
	var panicked *guard.Panicked
	a.ours = errors.As(err, &panicked)
	if a.kind() == work.Commands {
		v, message, how := a.judgeSession(err)
		a.how = how
		return v, message
	}
	return a.judge(err)
}

// unready says that what the leg needs could not be had: nothing is known of app or package.
type unready struct{ err error }

func (u *unready) Error() string { return u.err.Error() }

func (u *unready) Unwrap() error { return u.err }

// judge gives the verdict of the attempt from what ended it.
func (a *attempt) judge(err error) (verdict.Verdict, string) {
	var lost *phone.Lost
	var notReady *unready
	switch {
	case a.ours:
		return verdict.Lost, err.Error()
	case errors.Is(err, errStopped):
		return verdict.Roll(append(a.results, verdict.Stopped)...), err.Error()
	case errors.As(err, &lost), errors.As(err, &notReady):
		return verdict.Lost, err.Error()
	case errors.Is(err, errLegTime):
		return verdict.Roll(append(a.results, verdict.Expired)...), err.Error()
	case err != nil:
		return verdict.Invalid, err.Error()
	}
	v := verdict.Roll(a.results...)
	if i := slices.Index(a.results, v); i >= 0 && v != verdict.Passed && v != verdict.Skipped {
		return v, a.said[i] // the first case that decided
	}
	return v, ""
}

// stage goes into a stage.
func (a *attempt) stage(name string) {
	a.rec.note(timeline.Event{Kind: timeline.Stage, Name: name})
	a.report(hostlink.Progress{Stage: name})
}

// report says what changed; the courier takes it to the service.
func (a *attempt) report(p hostlink.Progress) {
	a.reported.Lock()
	defer a.reported.Unlock()
	a.seq++
	p.Seq = a.seq
	if err := a.courier.report(p); err != nil {
		a.log.Error("a report can't be written down", "err", err)
	}
}

// persist tries again and again what needs the service, for ten minutes.
func persist(ctx context.Context, log *slog.Logger, what string, f func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	for wait := 100 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		err := f(ctx)
		if err == nil || errors.Is(err, hostlink.ErrOver) {
			return err
		}
		log.Debug("trying again", "what", what, "err", err)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// setConditions sets the device as the work wants it.
func (a *attempt) setConditions(ctx context.Context) error {
	d, c := phone.ObservedSettings(a.unit.device, a.rec.command), a.hold.Spec.Conditions
	if c.Dark != nil {
		if err := d.Dark(ctx, *c.Dark); err != nil {
			return err
		}
	}
	if c.Landscape != nil {
		return d.Rotate(ctx, *c.Landscape)
	}
	return nil
}

// sessionEnd puts to a closing what is said of sessions alone.
func (a *attempt) sessionEnd(end *hostlink.Closing) {
	end.How = a.how
	if end.Verdict == verdict.Lost && end.How != "never" {
		end.How = "lost"
	}
	if g := a.outside; g != nil {
		g.mu.Lock()
		defer g.mu.Unlock()
		end.Marked, end.MarkedMessage = g.marked, foreign.Fit(a.mask.Text(g.message), hostlink.MaxMessage)
	}
}
