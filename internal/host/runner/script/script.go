// Package script is the runner of packages of scripts: case after case, with what their files want around them.
package script

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// caseLimit is how long one case may take, within the work's limit.
const caseLimit = 10 * time.Minute

var errCaseTime = errors.New("the case took longer than " + caseLimit.String())

// appCrashed ends a case whose app has died.
type appCrashed struct{ crash *devicelog.Crash }

func (a *appCrashed) Error() string { return "the app crashed" }

// scripts implements runner.Runner.
type scripts struct {
	*runner.Kit
	hands  *script.Hands
	chosen []testpkg.Case
}

// New makes the runner.
func New(k *runner.Kit) (runner.Runner, error) {
	s := &scripts{Kit: k}
	wanted := map[string]bool{}
	for _, name := range k.Hold.Spec.Cases {
		wanted[name] = true
	}
	for _, c := range k.Package.Cases {
		if wanted[c.Name] {
			s.chosen = append(s.chosen, c)
		}
	}
	return s, nil
}

// Prepare implements runner.Runner.
func (s *scripts) Prepare(context.Context) error {
	h := script.On(s.Phone)
	h.App, h.Facts, h.Data, h.Notes, h.Calls = s.App, s.Unit.Known, s.Package.Package, record.Notes{R: s.Timeline, P: s.Phone}, s.Timeline.AtCall
	h.Turns, h.See, h.Console, h.Reaches = s.Turns, s.Timeline.Command, s.Kit.Console, s.Apps.Reaches
	if s.Gauges != nil {
		h.Gauge = s.Gauges.Now
	}
	s.hands = h
	return nil
}

// Judge implements runner.Runner.
func (s *scripts) Judge(err error) (verdict.Verdict, string) { return s.Book.Judge(err) }

// Close implements runner.Runner.
func (s *scripts) Close(*hostlink.Closing) {}

// fileRun is the run of one file's cases.
type fileRun struct {
	name     string
	prepared any
	broken   *hostlink.Try // what all its cases come to, since before_file did not pass
	cleared  bool
}

// Run implements runner.Runner: it runs the chosen cases, one after the other.
func (s *scripts) Run(ctx context.Context) error {
	s.Stage("running")
	ctx, cancel := s.Turns.Within(ctx, s.Hold.Spec.Limits.Whole.Duration(), casebook.ErrTime)
	defer cancel()
	stopPeople, err := beside.Serve(ctx, s.Kit)
	if err != nil {
		return err
	}
	defer stopPeople()
	var file fileRun
	for i, c := range s.chosen {
		if c.File != file.name {
			file = s.beginFile(ctx, c.File)
		}
		r := hostlink.CaseResult{Ordinal: i, Name: c.Name}
		r.StartMS = s.Timeline.Now()
		s.Timeline.InCase(c.Name)
		switch {
		case errors.Is(context.Cause(ctx), context.Canceled), errors.Is(context.Cause(ctx), casebook.ErrHoldOver):
			return context.Cause(ctx) // it says nothing of the cases that were not begun
		case ctx.Err() != nil:
			r.Verdict, r.Message = verdict.Skipped, "not begun: "+context.Cause(ctx).Error()
			s.Book.Ended(c.Name, r.Try, 0)
		case file.broken != nil:
			r.Try = *file.broken
			r.StartMS = s.Timeline.Now()
			s.Book.Ended(c.Name, r.Try, 0)
		default:
			s.tries(ctx, c, &r, &file)
		}
		last := i+1 == len(s.chosen) || s.chosen[i+1].File != c.File
		if last && s.Package.Has(c.File, "after_file") && file.broken == nil && ctx.Err() == nil {
			if o := s.around(ctx, file, "after_file"); o.Verdict != verdict.Passed && r.Verdict == verdict.Passed {
				s.outcome(&r.Try, o)
				r.Message = "after_file: " + r.Message
				s.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "after_file", Error: r.Message, Line: r.Line})
			}
		}
		s.Book.End(r)
		if r.Verdict == verdict.Lost {
			return &phone.Lost{Serial: s.Hold.Serial, Doing: "run " + c.Name, Err: errors.New(r.Message)}
		}
	}
	if cause := context.Cause(ctx); errors.Is(cause, casebook.ErrTime) || errors.Is(cause, casebook.ErrStopped) {
		return cause
	}
	return nil
}

// beginFile does what a file wants before its first case.
func (s *scripts) beginFile(ctx context.Context, name string) fileRun {
	f := fileRun{name: name}
	if !s.Package.Has(name, "before_file") || ctx.Err() != nil {
		return f
	}
	o := s.around(ctx, f, "before_file")
	f.prepared = o.Value
	if o.Verdict != verdict.Passed && ctx.Err() == nil {
		f.broken = &hostlink.Try{}
		s.outcome(f.broken, o) // a device that is lost is lost, whatever it was doing
		f.broken.Message = "before_file: " + o.Message
	}
	return f
}

// around calls a function that a file wants to be called around its cases.
func (s *scripts) around(ctx context.Context, f fileRun, name string) script.Outcome {
	ctx, cancel := s.Turns.Within(ctx, caseLimit, errCaseTime)
	defer cancel()
	s.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: name, Line: f.name})
	if name == "before_file" {
		if err := s.Phone.Clear(ctx, s.App.ID); err != nil {
			return script.Outcome{Verdict: verdict.Failed, Message: err.Error(), Err: err}
		}
	}
	defer s.Timeline.AtCall("", "")
	return script.Run(ctx, s.script(testpkg.Case{File: f.name, Func: name}, f), s.hands.Guarded(s.Log))
}

// script is what the script's process needs to run a case.
func (s *scripts) script(c testpkg.Case, f fileRun) script.Case {
	return script.Case{Scripts: s.Package.Scripts, File: c.File, Func: c.Func, Row: c.Row, Facts: s.Unit.Known, Inputs: s.Hold.Inputs(), Prepared: f.prepared, Stood: s.Turns.Stood}
}

// tries runs a case, and again where it failed and failures are to be confirmed. One
// that passes then is flaky; else what it said first counts.
func (s *scripts) tries(ctx context.Context, c testpkg.Case, r *hostlink.CaseResult, f *fileRun) {
	for n := 1; ; n++ {
		t := hostlink.Try{StartMS: s.Timeline.Now()}
		begun := *r
		begun.Try = t
		s.Book.Begin(begun, fmt.Sprintf("%s:%d", c.File, c.Line), n)
		s.oneCase(ctx, c, r.Ordinal, &t, f, n)
		t.TookMS = s.Timeline.Now() - t.StartMS
		r.Tries = append(r.Tries, t)
		again := (t.Verdict == verdict.Failed || t.Verdict == verdict.Expired) && n <= s.Hold.Spec.Limits.Confirm && ctx.Err() == nil
		if again {
			s.Book.Ended(c.Name, t, n)
			continue
		}
		r.Try = casebook.Combine(r.Tries)
		number := 0
		if n > 1 || s.Hold.Spec.Limits.Confirm > 0 && t.Verdict == verdict.Failed {
			number = n
		}
		s.Book.Ended(c.Name, r.Try, number)
		break
	}
	if len(r.Tries) == 1 {
		r.Tries = nil
	}
	r.TookMS = s.Timeline.Now() - r.StartMS
}

// oneCase runs one case from a clean state of the app, and judges it.
func (s *scripts) oneCase(leg context.Context, c testpkg.Case, ordinal int, t *hostlink.Try, f *fileRun, n int) {
	ctx, cancel := s.Turns.Within(leg, caseLimit, errCaseTime)
	defer cancel()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	if !f.cleared || n > 1 || !s.Package.KeepsData(c.File) {
		f.cleared = true
		if err := s.Phone.Clear(ctx, s.App.ID); err != nil {
			o := script.Outcome{Verdict: verdict.Failed, Message: err.Error(), Err: err}
			if ctx.Err() != nil { // not its fault
				o = script.Outcome{Verdict: verdict.Expired, Message: context.Cause(ctx).Error(), Err: context.Cause(ctx)}
			}
			s.outcome(t, o)
			return
		}
	}
	var watch sync.WaitGroup
	watch.Go(func() {
		_ = guard.Run(s.Log, guard.Hold, func() {
			if crash := s.DeviceLog.Crash(ctx); crash != nil {
				stop(&appCrashed{crash})
			}
		})
	})
	x := s.script(c, *f)
	x.Before, x.After = s.Package.Has(c.File, "before_case"), s.Package.Has(c.File, "after_case")
	o := script.Run(ctx, x, s.hands.Guarded(s.Log))
	cause := context.Cause(ctx)
	stop(nil)
	watch.Wait()
	s.Timeline.AtCall("", "")
	s.outcome(t, o)
	// What the log still holds back belongs to this case too.
	s.DeviceLog.Settle(leg, fmt.Sprintf("end of case %d, try %d", ordinal+1, n))
	var crashed *appCrashed
	if !errors.As(cause, &crashed) {
		if crash := s.DeviceLog.PastCrash(); crash != nil {
			crashed = &appCrashed{crash}
		}
	}
	if crashed != nil {
		s.Book.Crashed(t, s.DeviceLog.Trace(crashed.crash))
	}
	s.Book.Bound(t, s.Timeline.Now())
	s.Book.Remarked(c.Name, n, t, s.Timeline.Now())
	keep, cancelKeep := context.WithTimeout(context.WithoutCancel(leg), time.Minute)
	defer cancelKeep()
	s.Book.Picture(keep, s.Phone, c.Name[strings.LastIndex(c.Name, c.Func):], t)
	if t.Verdict != verdict.Lost {
		if err := s.hands.Restore(keep); err != nil {
			s.Log.Warn("settings could not be put back after a case", "case", c.Name, "err", err)
		}
	}
}

// outcome takes a script's outcome over into a try.
func (s *scripts) outcome(t *hostlink.Try, o script.Outcome) {
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
	case errors.Is(o.Err, casebook.ErrStopped):
		t.Verdict = verdict.Stopped
	case o.Verdict == verdict.Expired && o.Err != nil && brokenOff(o.Err):
		t.Verdict, t.Message = verdict.Lost, "broken off: "+whyBrokenOff(o.Err)
	}
}

// brokenOff says whether work ended for a reason that is neither the test's nor a person's: the host stops, its hold ran out, or what goes on beside it failed.
func brokenOff(cause error) bool {
	return !errors.Is(cause, casebook.ErrTime) && !errors.Is(cause, errCaseTime) && !errors.Is(cause, casebook.ErrStopped)
}

func whyBrokenOff(cause error) string {
	if errors.Is(cause, context.Canceled) {
		return "the host was stopped"
	}
	return cause.Error()
}
