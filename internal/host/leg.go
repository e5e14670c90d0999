package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/phone"
	"tessellant/internal/phone/adb"
	"tessellant/internal/script"
)

// attempt is the work of one hold.
type attempt struct {
	h    *Host
	hold Hold
	log  *slog.Logger
	dir  string

	unit    *unit
	phone   phone.Phone // observed
	rec     *recorder
	film    *film
	book    *logbook
	app     phone.App
	pkg     *testpkg.Package
	samples []timeline.Sample
	seq     int64
	results []verdict.Verdict
	worst   string // what the first case that did not pass said
	letGo   bool   // the device is not ours any more
}

// caseLimit is how long one case may take, within the leg's limit.
const caseLimit = 10 * time.Minute

var (
	errLegTime  = errors.New("the leg's time limit was reached")
	errCaseTime = errors.New("the case took longer than " + caseLimit.String())
)

// appCrashed ends a case whose app has died.
type appCrashed struct{ crash *devicelog.Crash }

func (a *appCrashed) Error() string { return "the app crashed" }

// work does all that a hold asks for, and closes it.
// When held ends before ctx does, the hold is lost: what was gathered is
// handed in, and the device, which may be somebody else's by now, is let alone.
func (h *Host) work(ctx, held context.Context, hold Hold) {
	a := &attempt{h: h, hold: hold, dir: filepath.Join(h.spool(), hold.AttemptID),
		log: h.Log.With("run", hold.RunID, "leg", hold.LegID, "attempt", hold.AttemptID, "device", hold.Serial)}
	a.log.Info("leg begins")
	start := time.Now()
	v, message := a.run(held)
	switch {
	case ctx.Err() != nil:
		a.log.Info("leg left: the host stops")
		return
	case held.Err() != nil:
		a.log.Warn("leg left: its hold ran out")
		v, message, a.letGo = verdict.Lost, "the hold on the device ran out", true
	case v == verdict.Lost:
		h.lost(ctx, hold.Serial)
	}
	a.collect(ctx)
	c := Closing{Verdict: v, Message: message}
	if _, doubt, err := timeline.Align(a.samples...); err == nil {
		ms := doubt.Milliseconds()
		c.ClockDoubtMS = &ms
	}
	if err := a.persist(ctx, "close the hold", func(ctx context.Context) error { return h.Link.Close(ctx, hold.ID, c) }); err != nil {
		a.log.Error("the leg's end could not be told; its files are kept", "err", err, "folder", a.dir)
		return
	}
	_ = os.RemoveAll(a.dir)
	a.log.Info("leg ends", "verdict", v, "took", time.Since(start).Round(time.Millisecond))
}

// run prepares the device and runs the cases. It answers the attempt's verdict,
// and a message where there is something to say.
func (a *attempt) run(ctx context.Context) (verdict.Verdict, string) {
	var err error
	if a.unit, err = a.h.device(ctx, a.hold.Serial); err != nil {
		return verdict.Lost, "the device " + a.hold.Serial + " was not there: " + err.Error()
	}
	if err = os.RemoveAll(a.dir); err == nil {
		a.rec, err = newRecorder(a.dir, a.unit.device)
	}
	if err != nil {
		return verdict.Invalid, fmt.Sprintf("the host can't keep evidence: %v", err)
	}
	a.phone = phone.Observed(a.unit.device, a.rec.command)
	a.stage(ctx, "preparing")
	work, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var side sync.WaitGroup
	err = a.prepare(work, stop, &side)
	if err == nil {
		a.stage(ctx, "running")
		err = a.cases(work)
	}
	stop(nil)
	side.Wait()
	a.stage(ctx, "collecting")
	if cause := context.Cause(work); cause != nil && !errors.Is(cause, context.Canceled) {
		err = cause // the device went away, whatever was noticed first
	}
	return a.judge(err)
}

// judge gives the verdict of the attempt from what ended it.
func (a *attempt) judge(err error) (verdict.Verdict, string) {
	var lost *phone.Lost
	switch {
	case errors.As(err, &lost):
		return verdict.Lost, err.Error()
	case errors.Is(err, errLegTime):
		return verdict.Roll(append(a.results, verdict.Expired)...), err.Error()
	case err != nil:
		return verdict.Invalid, err.Error()
	}
	return verdict.Roll(a.results...), a.worst
}

// stage goes into a stage.
func (a *attempt) stage(ctx context.Context, name string) {
	a.rec.note(timeline.Event{Kind: timeline.Stage, Name: name})
	a.report(ctx, Progress{Stage: name})
}

func (a *attempt) report(ctx context.Context, p Progress) {
	a.seq++
	p.Seq = a.seq
	if err := a.persist(ctx, "report", func(ctx context.Context) error { return a.h.Link.Report(ctx, a.hold.ID, p) }); err != nil && ctx.Err() == nil {
		a.log.Warn("a report was not taken", "err", err)
	}
}

// persist tries again and again what needs the service, for ten minutes.
func (a *attempt) persist(ctx context.Context, what string, f func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	for wait := 100 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		err := f(ctx)
		if err == nil {
			return nil
		}
		a.log.Debug("trying again", "what", what, "err", err)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// prepare makes the device ready: clock, log, film, a clean app.
func (a *attempt) prepare(ctx context.Context, stop context.CancelCauseFunc, side *sync.WaitGroup) error {
	if err := a.readPackage(ctx); err != nil {
		return err
	}
	build := filepath.Join(a.dir, "build")
	if err := a.fetchBuild(ctx, build); err != nil {
		return err
	}
	a.app = phone.App{ID: a.hold.AppID, Activity: a.hold.Activity, Size: a.hold.BuildSize, Open: func() (io.ReadCloser, error) { return os.Open(build) }}
	defer os.Remove(build)
	d := a.unit.device
	if err := d.Wake(ctx); err != nil {
		return err
	}
	since := time.Time{}
	for range 3 {
		if err := a.sample(ctx, d); err != nil {
			return err
		}
		since = a.samples[0].Device
	}
	var err error
	if a.book, err = newLogbook(a.dir, d, a.hold.AppID, since); err != nil {
		return err
	}
	side.Go(func() {
		if err := a.book.follow(ctx); err != nil {
			stop(err) // a log that ends is the first sign that the device went away
		}
	})
	a.rec.files = append(a.rec.files, "device.log")
	if a.film, err = newFilm(a.dir, d, a.rec.at); err != nil {
		return err
	}
	a.rec.film = a.film
	side.Go(func() { a.film.roll(ctx) })
	side.Go(func() { a.film.develop(ctx) })
	side.Go(func() { a.tellLive(ctx) })
	if err := a.phone.Uninstall(ctx, a.app.ID); err != nil {
		return err
	}
	return a.phone.Install(ctx, a.app)
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
	var raw []byte
	err := a.persist(ctx, "fetch the package", func(ctx context.Context) error {
		r, err := a.h.Link.Fetch(ctx, a.hold.PackageKey)
		if err != nil {
			return err
		}
		defer r.Close()
		raw, err = io.ReadAll(io.LimitReader(r, testpkg.MaxZip+1))
		return err
	})
	if err != nil {
		return fmt.Errorf("fetch the package: %w", err)
	}
	f, err := testpkg.Open(strings.NewReader(string(raw)), int64(len(raw)))
	if err != nil {
		return err
	}
	a.pkg, err = testpkg.Read(f)
	if err == nil && len(a.pkg.Blocked()) > 0 {
		err = errors.New(a.pkg.Blocked()[0].What)
	}
	return err
}

// fetchBuild copies the build beside the device, and sees that it is whole.
func (a *attempt) fetchBuild(ctx context.Context, target string) error {
	err := a.persist(ctx, "fetch the build", func(ctx context.Context) error {
		r, err := a.h.Link.Fetch(ctx, a.hold.BuildKey)
		if err != nil {
			return err
		}
		defer r.Close()
		f, err := os.Create(target)
		if err != nil {
			return err
		}
		defer f.Close()
		h := sha256.New()
		if _, err := io.Copy(io.MultiWriter(f, h), r); err != nil {
			return err
		}
		if sum := hex.EncodeToString(h.Sum(nil)); sum != a.hold.BuildSHA {
			return fmt.Errorf("the build came with SHA-256 %s, not %s", sum, a.hold.BuildSHA)
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("fetch the build: %w", err)
	}
	return nil
}

// cases runs all cases, one after the other.
func (a *attempt) cases(ctx context.Context) error {
	limit := time.Duration(a.hold.LimitSeconds) * time.Second
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errLegTime)
	defer cancel()
	for i, c := range a.pkg.Cases {
		r := CaseResult{Ordinal: i, Name: c.Name, StartMS: a.rec.now()}
		a.rec.inCase(c.Name)
		if ctx.Err() != nil {
			r.Verdict, r.Message = verdict.Skipped, "not begun: "+context.Cause(ctx).Error()
		} else {
			a.rec.note(timeline.Event{Kind: timeline.Case, Name: c.Name, Line: fmt.Sprintf("%s:%d", c.File, c.Line)})
			a.report(ctx, Progress{Case: &r})
			a.oneCase(ctx, c, &r)
		}
		r.TookMS = a.rec.now() - r.StartMS
		a.rec.note(timeline.Event{Kind: timeline.Case, Name: c.Name, Verdict: string(r.Verdict), Error: r.Message, Line: r.Line, File: r.Shot, Tree: r.Tree, Took: r.TookMS, Expected: r.Expected, Actual: r.Actual})
		a.rec.inCase("")
		a.results = append(a.results, r.Verdict)
		if a.worst == "" && r.Verdict != verdict.Passed {
			a.worst = c.Name + ": " + r.Message
		}
		a.report(context.WithoutCancel(ctx), Progress{Case: &r})
		if r.Verdict == verdict.Lost {
			return &phone.Lost{Serial: a.hold.Serial, Doing: "run " + c.Name, Err: errors.New(r.Message)}
		}
	}
	if errors.Is(context.Cause(ctx), errLegTime) {
		return errLegTime
	}
	return nil
}

// oneCase runs one case from a clean state of the app, and judges it.
func (a *attempt) oneCase(leg context.Context, c testpkg.Case, r *CaseResult) {
	ctx, cancel := context.WithTimeoutCause(leg, caseLimit, errCaseTime)
	defer cancel()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	if err := a.phone.Clear(ctx, a.app.ID); err != nil {
		a.outcome(r, script.Outcome{Verdict: verdict.Failed, Message: err.Error(), Err: err})
		return
	}
	var watch sync.WaitGroup
	watch.Go(func() {
		if crash := a.book.crash(ctx); crash != nil {
			stop(&appCrashed{crash})
		}
	})
	hands := &script.Hands{Phone: a.phone, Keyboard: phone.ObservedKeyboard(a.unit.device, a.rec.command), App: a.app, Facts: a.unit.facts, Notes: notes{a.rec, a.phone}, Calls: a.rec.atCall}
	o := script.Run(ctx, script.Case{Scripts: a.pkg.Scripts, File: c.File, Func: c.Func, Facts: a.unit.facts}, hands.Do)
	cause := context.Cause(ctx)
	stop(nil)
	watch.Wait()
	a.rec.atCall("", "")
	a.outcome(r, o)
	// What the log still holds back belongs to this case too.
	a.book.settle(leg, fmt.Sprintf("end of case %d", r.Ordinal+1))
	var crashed *appCrashed
	if !errors.As(cause, &crashed) {
		if crash := a.book.pastCrash(); crash != nil {
			crashed = &appCrashed{crash}
		}
	}
	if crashed != nil {
		a.crashed(r, a.book.trace(crashed.crash))
	}
	if r.Verdict == verdict.Passed || r.Verdict == verdict.Lost {
		return
	}
	keep, cancelKeep := context.WithTimeout(context.WithoutCancel(leg), time.Minute)
	defer cancelKeep()
	shot, tree, screen, err := a.rec.moment(keep, a.phone, c.Func+" "+string(r.Verdict))
	r.Shot, r.Tree = shot, tree
	if err != nil {
		a.log.Warn("the screen of a failure could not be kept whole", "err", err)
	}
	if crashed != nil && screen != nil { // put the system's dialog away
		if es, _ := screen.Find("#aerr_close"); len(es) > 0 {
			x, y := es[0].Bounds.Center()
			_ = a.phone.Tap(keep, x, y)
		}
	}
}

// outcome takes a script's outcome over into the case's result.
func (a *attempt) outcome(r *CaseResult, o script.Outcome) {
	r.Verdict, r.Message, r.Line, r.Trace = o.Verdict, o.Message, o.Line, o.Trace
	var f *script.Failure
	if errors.As(o.Err, &f) {
		r.Expected, r.Actual = f.Expected, f.Actual
	}
	var lost *phone.Lost
	if errors.As(o.Err, &lost) {
		r.Verdict = verdict.Lost
	}
}

func (a *attempt) crashed(r *CaseResult, c devicelog.Crash) {
	r.Verdict, r.Message, r.Trace = verdict.Crashed, c.Problem, c.Trace
	r.Expected, r.Actual = "", ""
	at := a.rec.now()
	if o, _, err := timeline.Align(a.samples...); err == nil {
		at = max(o.On(c.At).Milliseconds(), 1)
	}
	if line := a.rec.lineAt(at); line != "" {
		r.Line = line // not where the script was when the crash became known
	}
	a.rec.note(timeline.Event{Kind: timeline.Crash, At: at, Name: c.Problem, Answer: c.Trace})
}

// collect closes the evidence and hands it in, then leaves the device clean.
func (a *attempt) collect(ctx context.Context) {
	if a.rec == nil {
		return
	}
	d := a.unit.device
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
		cleaning.Go(func() { clean(tidy, d, a.hold.AppID) })
	}
	if a.film != nil {
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
	for _, name := range a.rec.files {
		err := a.persist(ctx, "hand in "+name, func(ctx context.Context) error {
			r, err := os.Open(filepath.Join(a.dir, filepath.FromSlash(name)))
			if err != nil {
				return err
			}
			defer r.Close()
			f, _ := artifactNamed(name)
			return a.h.Link.Keep(ctx, a.hold, f, r)
		})
		if err != nil {
			a.log.Error("evidence could not be handed in", "file", name, "err", err)
		}
	}
}

// clean leaves the device as it should be found: without the app, at home.
func clean(ctx context.Context, d *adb.Device, app string) {
	_ = d.Uninstall(ctx, app)
	_ = d.Press(ctx, phone.Home)
}

// video encodes the film, when it is this attempt's turn.
func (a *attempt) video(ctx context.Context, end int64) error {
	select {
	case a.h.encoding <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-a.h.encoding }()
	if err := a.film.encode(ctx, filepath.Join(a.dir, "video.mp4"), end); err != nil {
		return err
	}
	a.rec.files = append(a.rec.files, "video.mp4")
	return nil
}
