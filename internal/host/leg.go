package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
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
	"tessellant/internal/guard"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// attempt is the work of one hold.
type attempt struct {
	h       *Host
	hold    Hold
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
func (h *Host) work(ctx, held context.Context, hold Hold) {
	a := &attempt{h: h, hold: hold, dir: h.spool.path(hold.AttemptID), log: h.logOf(hold), mask: masking.New(hold.Secrets)}
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
	var end Closing
	var delivered sync.WaitGroup
	// The courier outlives the host's own end by a little, to say that it has come.
	carry, stopCarrying := context.WithCancel(context.WithoutCancel(ctx))
	defer stopCarrying()
	handedIn := false
	delivered.Go(func() {
		handedIn = guard.Do(a.log, guard.Hold, func() error { return a.courier.deliver(carry, func() Closing { return end }) }) == nil
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
	end = Closing{Verdict: v, Message: foreign.Fit(a.mask.Text(message), MaxMessage), OurFault: a.ours}
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
	if a.hold.Session != nil {
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
func (h *Host) refuse(ctx context.Context, hold Hold, log *slog.Logger, why error) {
	log.Error("a leg can't be begun", "err", why)
	var panicked *guard.Panicked
	ours := errors.As(why, &panicked)
	err := persist(ctx, log, "close the hold", func(ctx context.Context) error {
		return h.Link.Close(ctx, hold, Closing{Verdict: verdict.Lost, Message: why.Error(), OurFault: ours})
	})
	if err != nil {
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
	if a.hold.Session != nil || a.hold.Program {
		if a.outside, err = newGathering(a); err != nil {
			return verdict.Lost, fmt.Sprintf("the host can't keep evidence: %v", err)
		}
	}
	work, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var side sync.WaitGroup
	err = guard.Do(a.log, guard.Hold, func() error {
		if err := a.prepare(work, stop, &side); err != nil {
			return err
		}
		if a.film != nil {
			a.film.begun(work)
		}
		switch {
		case a.hold.Session != nil:
			return a.serve(work)
		case a.hold.Program:
			return a.program(work)
		}
		a.stage("running")
		return a.cases(work)
	})
	stop(nil)
	side.Wait()
	a.stage("collecting")
	if cause := context.Cause(work); cause != nil && !errors.Is(cause, context.Canceled) {
		err = cause // the device went away, whatever was noticed first
	}
	var panicked *guard.Panicked
	a.ours = errors.As(err, &panicked)
	if a.hold.Session != nil {
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
	a.report(Progress{Stage: name})
}

// report says what changed; the courier takes it to the service.
func (a *attempt) report(p Progress) {
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
		if err == nil || errors.Is(err, ErrOver) {
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

// prepare makes the device ready: clock, log, film, a clean app.
func (a *attempt) prepare(ctx context.Context, stop context.CancelCauseFunc, side *sync.WaitGroup) error {
	session := a.hold.Session
	if session == nil {
		if err := a.readPackage(ctx); err != nil {
			return err
		}
	}
	build := filepath.Join(a.dir, "build")
	if a.hold.BuildSHA != "" {
		if err := a.fetch(ctx, Build, build, a.hold.BuildSHA); err != nil {
			return &unready{fmt.Errorf("the host could not fetch the build: %w", err)}
		}
	}
	a.app = phone.App{ID: a.hold.AppID, Activity: a.hold.Activity, Size: a.hold.BuildSize, Open: func() (io.ReadCloser, error) { return os.Open(build) }}
	if a.hold.BuildSHA == "" {
		a.app = phone.App{}
	}
	d := a.unit.device
	if err := d.Wake(ctx); err != nil {
		return err
	}
	free, err := d.FreeMB(ctx)
	if err != nil {
		return err
	}
	if needs := int(a.hold.BuildSize>>20)*3 + leastFreeMB; free < needs {
		return &unready{fmt.Errorf("the device %s has %d MB of storage left, and needs %d for this build: remove apps or files from it", a.hold.Serial, free, needs)}
	}
	since := time.Time{}
	for range 3 {
		if err := a.sample(ctx, d); err != nil {
			return err
		}
		since = a.samples[0].Device
	}
	logTo := a.dir
	if session != nil && !session.Log {
		logTo = "" // it is watched for crashes all the same
	}
	if a.book, err = newLogbook(logTo, d, a.hold.AppID, since, a.mask, a.share()); err != nil {
		return err
	}
	beside := func(f func() error) { // what goes on beside the test; its error ends the attempt
		side.Go(func() {
			if err := guard.Do(a.log, guard.Hold, f); err != nil {
				stop(err)
			}
		})
	}
	beside(func() error { return a.book.follow(ctx) }) // a log that ends is the first sign that the device went away
	if session == nil || session.Video {
		if a.film, err = newFilm(a.dir, d, a.rec.at, a.share()); err != nil {
			return err
		}
		a.rec.film = a.film
		beside(func() error { a.film.roll(ctx); return nil })
		beside(func() error { a.film.develop(ctx); return nil })
	}
	beside(func() error { a.tellLive(ctx); return nil })
	beside(func() error { return a.keepInTouch(ctx) })
	if err := d.Settle(ctx); err != nil {
		return err
	}
	if session != nil {
		return a.prepareSession(ctx, session)
	}
	a.hands = &script.Hands{Phone: a.phone, Keyboard: phone.ObservedKeyboard(d, a.rec.command), Settings: phone.ObservedSettings(d, a.rec.command), App: a.app, Facts: a.unit.facts,
		Data: a.pkg, Notes: notes{a.rec, a.phone}, Calls: a.rec.atCall}
	return a.reinstall(ctx)
}

// prepareSession sets the device as a session wants it, with its app in front.
func (a *attempt) prepareSession(ctx context.Context, q *Session) error {
	d := phone.ObservedSettings(a.unit.device, a.rec.command)
	if a.app.ID != "" {
		if err := a.reinstall(ctx); err != nil {
			return err
		}
	}
	if q.Dark != nil {
		if err := d.Dark(ctx, *q.Dark); err != nil {
			return err
		}
	}
	if q.Landscape != nil {
		if err := d.Rotate(ctx, *q.Landscape); err != nil {
			return err
		}
	}
	if a.app.ID == "" {
		return nil
	}
	return a.phone.Launch(ctx, a.app)
}

// sessionEnd puts to a closing what is said of sessions alone.
func (a *attempt) sessionEnd(end *Closing) {
	end.How = a.how
	if end.Verdict == verdict.Lost && end.How != "never" {
		end.How = "lost"
	}
	if g := a.outside; g != nil {
		g.mu.Lock()
		defer g.mu.Unlock()
		end.Marked, end.MarkedMessage = g.marked, foreign.Fit(a.mask.Text(g.message), MaxMessage)
	}
}

// keepInTouch asks the device again and again whether it is there: one that freezes stays
// listed, and what is asked of it elsewhere may take long for good reasons.
func (a *attempt) keepInTouch(ctx context.Context) error {
	for {
		select {
		case <-time.After(a.h.Silence / 4):
		case <-ctx.Done():
			return nil
		}
		if err := a.unit.device.Answers(ctx, a.h.Silence); err != nil && ctx.Err() == nil {
			return err
		}
	}
}

// sample reads the device's clock.
func (a *attempt) sample(ctx context.Context, c phone.Clock) error {
	before := time.Since(a.rec.zero)
	t, err := c.Now(ctx)
	if err != nil {
		return err
	}
	a.samples = append(a.samples, timeline.Sample{Before: before, After: time.Since(a.rec.zero), Device: t})
	return nil
}

func (a *attempt) readPackage(ctx context.Context) error {
	path := filepath.Join(a.dir, "package")
	if err := a.fetch(ctx, Package, path, a.hold.PackageSHA); err != nil {
		return &unready{fmt.Errorf("the host could not fetch the package: %w", err)}
	}
	file, err := os.Open(path)
	if err != nil {
		return &unready{err}
	}
	a.zip = file
	st, err := file.Stat()
	if err != nil {
		return &unready{err}
	}
	f, err := testpkg.Open(file, st.Size())
	if err != nil {
		return err
	}
	a.files = f
	if a.pkg, err = testpkg.Read(f); err != nil {
		return err
	}
	if len(a.pkg.Blocked()) > 0 {
		return errors.New(a.pkg.Blocked()[0].What)
	}
	for _, c := range a.pkg.Cases {
		if slices.Contains(a.hold.Cases, c.Name) {
			a.chosen = append(a.chosen, c)
		}
	}
	return nil
}

// fetch copies what the hold needs into a file, and sees that it is whole: that it has this SHA-256.
func (a *attempt) fetch(ctx context.Context, what Content, target, want string) error {
	return persist(ctx, a.log, "fetch the "+string(what), func(ctx context.Context) error {
		r, err := a.h.Link.Fetch(ctx, a.hold, what)
		if err != nil {
			return err
		}
		defer r.Close()
		f, err := os.Create(target)
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(io.MultiWriter(f, h), r)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		if sum := hex.EncodeToString(h.Sum(nil)); want != "" && sum != want {
			return fmt.Errorf("the %s came with SHA-256 %s, not %s", what, sum, want)
		}
		return nil
	})
}

// collect closes the evidence, and leaves the device clean.
func (a *attempt) collect(ctx context.Context) {
	if a.rec == nil {
		return
	}
	d := a.unit.device
	if a.noVideo { // the host stops: there is a moment left
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
	}
	tidy, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if len(a.samples) > 0 && !a.letGo {
		if err := a.sample(tidy, d); err == nil {
			o, doubt, _ := timeline.Align(a.samples...)
			a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "clock", Args: map[string]string{
				"device_zero_ms": fmt.Sprint(o.Zero().UnixMilli()), "doubt_ms": fmt.Sprint(doubt.Milliseconds())}})
		}
	}
	end := a.rec.now()
	var cleaning sync.WaitGroup
	if !a.letGo {
		cleaning.Go(func() {
			_ = guard.Run(a.log, guard.Hold, func() { clean(tidy, d, a.asHeld()) })
		})
	}
	if a.film != nil && !a.noVideo {
		if err := a.video(ctx, end); err != nil {
			a.log.Warn("no video", "err", err)
			a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "no video", Error: err.Error()})
		}
	}
	cleaning.Wait()
	a.rec.film = nil
	if a.book != nil {
		if err := a.book.close(); err != nil {
			a.log.Warn("the device log is not whole", "err", err)
		}
	}
	if err := a.rec.close(); err != nil {
		a.log.Warn("the timeline is not whole", "err", err)
	}
}

// finishLimit is how long a host that ends goes on writing videos.
const finishLimit = 15 * time.Second

// video encodes the film, when it is this attempt's turn.
func (a *attempt) video(ctx context.Context, end int64) error {
	// All cases have run: a host that ends waits a moment for what they left.
	finish, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(finishLimit, cancel) })()
	var err error
	select {
	case a.h.encoding <- struct{}{}:
		defer func() { <-a.h.encoding }()
		err = a.film.encode(finish, filepath.Join(a.dir, "video.mp4"), end)
	case <-finish.Done():
		err = finish.Err()
	}
	a.cut = err != nil && finish.Err() != nil
	return err
}
