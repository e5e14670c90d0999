package host

// The cases of a leg, with what their files want around them.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// appCrashed ends a case whose app has died.
type appCrashed struct{ crash *devicelog.Crash }

func (a *appCrashed) Error() string { return "the app crashed" }

// fileRun is the run of one file's cases.
type fileRun struct {
	name     string
	prepared any
	broken   *hostlink.Try // what all its cases come to, since before_file did not pass
	cleared  bool
}

// cases runs the chosen cases, one after the other.
func (a *attempt) cases(ctx context.Context) error {
	limit := a.hold.Spec.Limits.Whole.Duration()
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errLegTime)
	defer cancel()
	var file fileRun
	for i, c := range a.chosen {
		if c.File != file.name {
			file = a.beginFile(ctx, c.File)
		}
		r := hostlink.CaseResult{Ordinal: i, Name: c.Name}
		r.StartMS = a.rec.now()
		a.rec.inCase(c.Name)
		switch {
		case errors.Is(context.Cause(ctx), context.Canceled), errors.Is(context.Cause(ctx), errHoldOver):
			return context.Cause(ctx) // it says nothing of the cases that were not begun
		case ctx.Err() != nil:
			r.Verdict, r.Message = verdict.Skipped, "not begun: "+context.Cause(ctx).Error()
			a.noteCase(c, r, r.Try)
		case file.broken != nil:
			r.Try = *file.broken
			r.StartMS = a.rec.now()
			a.noteCase(c, r, r.Try)
		default:
			a.tries(ctx, c, &r, &file)
		}
		last := i+1 == len(a.chosen) || a.chosen[i+1].File != c.File
		if last && a.pkg.Has(c.File, "after_file") && file.broken == nil && ctx.Err() == nil {
			if o := a.around(ctx, file, "after_file"); o.Verdict != verdict.Passed && r.Verdict == verdict.Passed {
				a.outcome(&r.Try, o)
				r.Message = "after_file: " + r.Message
				a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "after_file", Error: r.Message, Line: r.Line})
			}
		}
		a.rec.inCase("")
		a.results, a.said = append(a.results, r.Verdict), append(a.said, c.Name+": "+r.Message)
		a.report(hostlink.Progress{Case: a.masked(r)})
		if r.Verdict == verdict.Lost {
			return &phone.Lost{Serial: a.hold.Serial, Doing: "run " + c.Name, Err: errors.New(r.Message)}
		}
	}
	if cause := context.Cause(ctx); errors.Is(cause, errLegTime) || errors.Is(cause, errStopped) {
		return cause
	}
	return nil
}

// maxTrySaid is how many bytes of each text of a try leave the host, where there was more than one: the bus carries small messages.
const maxTrySaid = 8 << 10

// masked is a result as it may leave the host.
func (a *attempt) masked(r hostlink.CaseResult) *hostlink.CaseResult {
	hide := func(t *hostlink.Try, most int) {
		for _, s := range []*string{&t.Message, &t.Expected, &t.Actual, &t.Trace} {
			*s = foreign.Fit(a.mask.Text(*s), most)
		}
		t.Line = foreign.Name(a.mask.Text(t.Line), hostlink.MaxCaseName)
	}
	r.Name = foreign.Name(a.mask.Text(r.Name), hostlink.MaxCaseName)
	r.Tries = append([]hostlink.Try(nil), r.Tries...)
	hide(&r.Try, hostlink.MaxText)
	for i := range r.Tries {
		hide(&r.Tries[i], maxTrySaid)
	}
	return &r
}

// beginFile does what a file wants before its first case.
func (a *attempt) beginFile(ctx context.Context, name string) fileRun {
	f := fileRun{name: name}
	if !a.pkg.Has(name, "before_file") || ctx.Err() != nil {
		return f
	}
	o := a.around(ctx, f, "before_file")
	f.prepared = o.Value
	if o.Verdict != verdict.Passed && ctx.Err() == nil {
		f.broken = &hostlink.Try{}
		a.outcome(f.broken, o) // a device that is lost is lost, whatever it was doing
		f.broken.Message = "before_file: " + o.Message
	}
	return f
}

// around calls a function that a file wants to be called around its cases.
func (a *attempt) around(ctx context.Context, f fileRun, name string) script.Outcome {
	ctx, cancel := context.WithTimeoutCause(ctx, caseLimit, errCaseTime)
	defer cancel()
	a.rec.note(timeline.Event{Kind: timeline.Marker, Name: name, Line: f.name})
	if name == "before_file" {
		if err := a.phone.Clear(ctx, a.app.ID); err != nil {
			return script.Outcome{Verdict: verdict.Failed, Message: err.Error(), Err: err}
		}
	}
	defer a.rec.atCall("", "")
	return script.Run(ctx, a.script(testpkg.Case{File: f.name, Func: name}, f), a.call)
}

// call does one call of a script.
func (a *attempt) call(ctx context.Context, c script.Call) (v any, err error) {
	err = guard.Do(a.log, guard.Script, func() error {
		v, err = a.hands.Do(ctx, c)
		return err
	})
	return v, err
}

// script is what the script's process needs to run a case.
func (a *attempt) script(c testpkg.Case, f fileRun) script.Case {
	return script.Case{Scripts: a.pkg.Scripts, File: c.File, Func: c.Func, Row: c.Row, Facts: a.unit.facts, Inputs: a.hold.Inputs(), Prepared: f.prepared}
}

// tries runs a case, and again where it failed and failures are to be confirmed. One
// that passes then is flaky; else what it said first counts.
func (a *attempt) tries(ctx context.Context, c testpkg.Case, r *hostlink.CaseResult, f *fileRun) {
	for n := 1; ; n++ {
		t := hostlink.Try{StartMS: a.rec.now()}
		begun := timeline.Event{Kind: timeline.Case, Name: c.Name, Line: fmt.Sprintf("%s:%d", c.File, c.Line)}
		if n > 1 {
			begun.Args = map[string]string{"try": fmt.Sprint(n)}
		}
		a.rec.note(begun)
		if n == 1 {
			a.report(hostlink.Progress{Case: &hostlink.CaseResult{Ordinal: r.Ordinal, Name: r.Name, Try: t}})
		}
		a.oneCase(ctx, c, r.Ordinal, &t, f, n)
		t.TookMS = a.rec.now() - t.StartMS
		r.Tries = append(r.Tries, t)
		again := (t.Verdict == verdict.Failed || t.Verdict == verdict.Expired) && n <= a.hold.Spec.Limits.Confirm && ctx.Err() == nil
		if again {
			a.noteCase(c, *r, t)
			continue
		}
		r.Try = combine(r.Tries)
		a.noteCase(c, *r, r.Try)
		break
	}
	if len(r.Tries) == 1 {
		r.Tries = nil
	}
	r.TookMS = a.rec.now() - r.StartMS
}

// combine makes one result of a case's tries.
func combine(tries []hostlink.Try) hostlink.Try {
	first, last := tries[0], tries[len(tries)-1]
	switch {
	case len(tries) == 1:
	case last.Verdict == verdict.Passed:
		first.Verdict, first.Message = verdict.Flaky, fmt.Sprintf("failed, then passed in try %d with nothing changed: %s", len(tries), first.Message)
	case last.Verdict == verdict.Crashed || last.Verdict == verdict.Lost:
		last.Message = fmt.Sprintf("in try %d: %s", len(tries), last.Message)
		return last
	case last.Verdict == first.Verdict:
		how := fmt.Sprintf("the same in %d tries", len(tries))
		if last.Message != first.Message {
			how = fmt.Sprintf("failed in %d tries; the last said: %s", len(tries), last.Message)
		}
		first.Message += " (" + how + ")"
	}
	return first
}

// noteCase writes the end of a try into the timeline.
func (a *attempt) noteCase(c testpkg.Case, r hostlink.CaseResult, t hostlink.Try) {
	e := timeline.Event{Kind: timeline.Case, Name: c.Name, Verdict: string(t.Verdict), Error: t.Message, Line: t.Line, File: t.Shot, Tree: t.Tree, Took: a.rec.now() - t.StartMS, Expected: t.Expected, Actual: t.Actual}
	if n := len(r.Tries); n > 1 || (n == 1 && a.hold.Spec.Limits.Confirm > 0 && t.Verdict == verdict.Failed) {
		e.Args = map[string]string{"try": fmt.Sprint(n)}
	}
	a.rec.note(e)
}

// oneCase runs one case from a clean state of the app, and judges it.
func (a *attempt) oneCase(leg context.Context, c testpkg.Case, ordinal int, t *hostlink.Try, f *fileRun, n int) {
	ctx, cancel := context.WithTimeoutCause(leg, caseLimit, errCaseTime)
	defer cancel()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	if !f.cleared || n > 1 || !a.pkg.KeepsData(c.File) {
		f.cleared = true
		if err := a.phone.Clear(ctx, a.app.ID); err != nil {
			o := script.Outcome{Verdict: verdict.Failed, Message: err.Error(), Err: err}
			if ctx.Err() != nil { // not its fault
				o = script.Outcome{Verdict: verdict.Expired, Message: context.Cause(ctx).Error(), Err: context.Cause(ctx)}
			}
			a.outcome(t, o)
			return
		}
	}
	var watch sync.WaitGroup
	watch.Go(func() {
		_ = guard.Run(a.log, guard.Hold, func() {
			if crash := a.book.crash(ctx); crash != nil {
				stop(&appCrashed{crash})
			}
		})
	})
	s := a.script(c, *f)
	s.Before, s.After = a.pkg.Has(c.File, "before_case"), a.pkg.Has(c.File, "after_case")
	o := script.Run(ctx, s, a.call)
	cause := context.Cause(ctx)
	stop(nil)
	watch.Wait()
	a.rec.atCall("", "")
	a.outcome(t, o)
	// What the log still holds back belongs to this case too.
	a.book.settle(leg, fmt.Sprintf("end of case %d, try %d", ordinal+1, n))
	var crashed *appCrashed
	if !errors.As(cause, &crashed) {
		if crash := a.book.pastCrash(); crash != nil {
			crashed = &appCrashed{crash}
		}
	}
	if crashed != nil {
		a.crashed(t, a.book.trace(crashed.crash))
	}
	keep, cancelKeep := context.WithTimeout(context.WithoutCancel(leg), time.Minute)
	defer cancelKeep()
	if t.Verdict != verdict.Passed && t.Verdict != verdict.Lost && t.Verdict != verdict.Skipped {
		shot, tree, screen, err := a.rec.moment(keep, a.phone, c.Name[strings.LastIndex(c.Name, c.Func):]+" "+string(t.Verdict))
		t.Shot, t.Tree = shot, tree
		if err != nil {
			a.log.Warn("the screen of a failure could not be kept whole", "err", err)
		}
		if crashed != nil && screen != nil {
			closeCrashDialog(keep, a.phone, screen)
		}
	}
	if t.Verdict != verdict.Lost {
		if err := a.hands.Restore(keep); err != nil {
			a.log.Warn("settings could not be put back after a case", "case", c.Name, "err", err)
		}
	}
}

// closeCrashDialog puts away what the system shows after an app has died.
func closeCrashDialog(ctx context.Context, p phone.Phone, screen *uitree.Screen) {
	// Before Android 7 it is a dialog as any other; its first button closes the app, also of one that does not respond.
	for _, locator := range []string{"#aerr_close", "#button1[app=android]"} {
		if es, _ := screen.Find(locator); len(es) > 0 {
			x, y := es[0].Bounds.Center()
			_ = p.Tap(ctx, x, y)
			return
		}
	}
}

// outcome takes a script's outcome over into a try.
func (a *attempt) outcome(t *hostlink.Try, o script.Outcome) {
	t.Verdict, t.Message, t.Line, t.Trace = o.Verdict, o.Message, o.Line, o.Trace
	var f *script.Failure
	if errors.As(o.Err, &f) {
		t.Expected, t.Actual = f.Expected, f.Actual
	}
	var lost *phone.Lost
	var panicked *guard.Panicked
	switch {
	case errors.As(o.Err, &panicked):
		t.Verdict = verdict.Invalid // it says nothing of the app
	case errors.As(o.Err, &lost):
		t.Verdict = verdict.Lost
	case errors.Is(o.Err, errStopped):
		t.Verdict = verdict.Stopped
	case o.Verdict == verdict.Expired && o.Err != nil && brokenOff(o.Err):
		t.Verdict, t.Message = verdict.Lost, "broken off: "+whyBrokenOff(o.Err)
	}
}

// brokenOff says whether work ended for a reason that is neither the test's nor a person's: the host stops, its hold ran out, or what goes on beside it failed.
func brokenOff(cause error) bool {
	return !errors.Is(cause, errLegTime) && !errors.Is(cause, errCaseTime) && !errors.Is(cause, errStopped)
}

func whyBrokenOff(cause error) string {
	if errors.Is(cause, context.Canceled) {
		return "the host was stopped"
	}
	return cause.Error()
}

func (a *attempt) crashed(t *hostlink.Try, c devicelog.Crash) {
	t.Verdict, t.Message, t.Trace = verdict.Crashed, c.Problem, c.Trace
	t.Expected, t.Actual = "", ""
	at := a.rec.now()
	if o, _, err := timeline.Align(a.samples...); err == nil {
		at = max(o.On(c.At).Milliseconds(), 1)
	}
	if line := a.rec.lineAt(at); line != "" {
		t.Line = line // not where the script was when the crash became known
	}
	a.rec.note(timeline.Event{Kind: timeline.Crash, At: at, Name: c.Problem, Answer: c.Trace})
}
