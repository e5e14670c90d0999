// Package casebook begins, ends and judges the cases of one attempt, for every runner.
//
// A runner says when a case begins and what its result is. The Book writes that to the timeline, tells the service, saves the screen of
// a failure, marks a case as crashed if the app crashed in it, and judges the attempt by all its cases.
package casebook

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/record"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

// What ends an attempt, or a case of it.
var (
	ErrTime     = errors.New("the leg's time limit was reached")
	ErrStopped  = errors.New("the run was stopped")
	ErrHoldOver = errors.New("the hold on the device ran out")
)

// Unready says that what the work needs is not available: nothing is known of app or package.
type Unready struct{ Err error }

func (u *Unready) Error() string { return u.Err.Error() }

func (u *Unready) Unwrap() error { return u.Err }

// Book keeps the cases of one attempt. It is safe for use by several goroutines.
type Book struct {
	Timeline *record.Timeline
	Phone    *phone.Unit // by which a crash's dialog is closed
	Mask     *masking.Mask
	Clock    *record.Clock // the device's
	Tell     func(hostlink.Progress)
	Log      *slog.Logger
	// Passed says which bounds on gauges were passed between two moments, ms; nil: none are watched.
	Passed func(from, to int64) []gauges.Passed
	// Remarks gives what is wrong with the screens of a try, waiting so long until all were looked at; nil: no case fails by it.
	Remarks func(name string, try int, within time.Duration) []remarks.Remark

	mu   sync.Mutex
	ends []end
}

type end struct {
	verdict verdict.Verdict
	said    string
}

// Begin says that a case begins, or a further try of it. Line is where it stands: file:line.
func (b *Book) Begin(c hostlink.CaseResult, line string, try int) {
	b.Timeline.InCase(c.Name)
	e := timeline.Event{Kind: timeline.Case, At: max(b.Timeline.Now(), 1), Name: c.Name, Line: line}
	if try > 1 {
		e.Args = map[string]string{"try": fmt.Sprint(try)}
	}
	b.Timeline.Note(e)
	if try == 1 {
		b.Tell(hostlink.Progress{Case: &hostlink.CaseResult{Ordinal: c.Ordinal, Name: b.name(c.Name), Try: hostlink.Try{StartMS: c.StartMS}}})
	}
}

// Died is a death of the app as it stands on the timeline.
func (b *Book) Died(c devicelog.Crash) timeline.Event {
	e := timeline.Event{Kind: timeline.Crash, At: b.Clock.On(c.At), Name: c.Problem, Answer: c.Trace}
	b.Timeline.Note(e)
	return e
}

// Crashed makes of a try one in which the app died, and notes that. Where the script was when the crash became known is not where it was when it came.
func (b *Book) Crashed(t *hostlink.Try, c devicelog.Crash) {
	t.Verdict, t.Message, t.Trace = verdict.Crashed, c.Problem, c.Trace
	t.Expected, t.Actual = "", ""
	if line := b.Timeline.LineAt(b.Clock.On(c.At)); line != "" {
		t.Line = line
	}
	b.Died(c)
}

// Bound makes of a try that passed one that failed, where a bound on a gauge was passed between its beginning and to (ms); and notes each.
func (b *Book) Bound(t *hostlink.Try, to int64) {
	if b.Passed == nil || t.Verdict == verdict.Skipped || t.Verdict == verdict.Lost {
		return
	}
	for _, p := range b.Passed(t.StartMS, to) {
		g, _ := gauges.Of(p.Bound.Gauge)
		e := timeline.Event{Kind: timeline.Check, At: p.At, Name: "bound", Expected: p.Bound.String(), Actual: g.With(p.Worst), Error: p.String()}
		b.Timeline.Note(e)
		if t.Verdict == verdict.Passed {
			t.Verdict, t.Message, t.Expected, t.Actual = verdict.Failed, e.Error, e.Expected, e.Actual
		}
	}
}

// remarksTake is how long the last pictures of a case may take to be looked at.
const remarksTake = 20 * time.Second

// Remarked makes of a try that passed one that failed, where something is wrong with its screens and the run wants that to fail; and notes each at a moment of the attempt (ms).
func (b *Book) Remarked(name string, number int, t *hostlink.Try, at int64) {
	if b.Remarks == nil || t.Verdict != verdict.Passed {
		return
	}
	found := b.Remarks(name, number, remarksTake)
	told := map[string]bool{}
	for _, r := range found {
		if told[r.Says] {
			continue
		}
		told[r.Says] = true
		b.Timeline.Note(timeline.Event{Kind: timeline.Check, At: at, Name: "remark", Expected: "a screen without remarks", Actual: r.Says, Error: r.Says})
		if len(told) == 1 {
			t.Verdict, t.Message, t.Expected, t.Actual = verdict.Failed, r.Says, "a screen without remarks", r.Says
		}
	}
	if n := len(told) - 1; n > 0 {
		t.Message += fmt.Sprintf(" (and %d more)", n)
	}
}

// Picture keeps the screen and its tree as they are at the end of a try that did not pass, and closes the dialog of a crash.
func (b *Book) Picture(ctx context.Context, p phone.Phone, what string, t *hostlink.Try) {
	if t.Verdict == verdict.Passed || t.Verdict == verdict.Lost || t.Verdict == verdict.Skipped {
		return
	}
	shot, tree, screen, err := b.Timeline.Moment(ctx, p, what+" "+string(t.Verdict))
	t.Shot, t.Tree = shot, tree
	if err != nil {
		b.Log.Warn("the screen of a failure could not be kept whole", "err", err)
	}
	if t.Verdict == verdict.Crashed && screen != nil {
		closeDialog(ctx, b.Phone, screen)
	}
}

// closeDialog closes what the system shows after an app has died.
func closeDialog(ctx context.Context, p phone.Phone, screen *uitree.Screen) {
	// Before Android 7 it is a dialog as any other; its first button closes the app, also of one that does not respond.
	for _, locator := range []string{"#aerr_close", "#button1[app=android]"} {
		if es, _ := screen.Find(locator); len(es) > 0 {
			x, y := es[0].Bounds.Center()
			_ = p.Tap(ctx, x, y)
			return
		}
	}
}

// Ended notes the end of a try on the timeline. Try is its number where there is more than one; 0: there is not.
func (b *Book) Ended(name string, t hostlink.Try, try int) {
	e := timeline.Event{Kind: timeline.Case, Name: name, Verdict: string(t.Verdict), Error: t.Message, Line: t.Line, File: t.Shot, Tree: t.Tree, Took: b.Timeline.Now() - t.StartMS, Expected: t.Expected, Actual: t.Actual}
	if try > 0 {
		e.Args = map[string]string{"try": fmt.Sprint(try)}
	}
	b.Timeline.Note(e)
}

// End tells the service the result of a case, and counts it.
func (b *Book) End(r hostlink.CaseResult) {
	b.Timeline.InCase("")
	b.Count(r.Verdict, r.Name+": "+r.Message)
	b.Result(r)
}

// Result tells the service the result of a case, as it may leave the host.
func (b *Book) Result(r hostlink.CaseResult) { b.Tell(hostlink.Progress{Case: b.Masked(r)}) }

// Count counts a verdict for the attempt's. Said is what the attempt says where that one decides.
func (b *Book) Count(v verdict.Verdict, said string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ends = append(b.ends, end{v, said})
}

// Has says whether a verdict was counted.
func (b *Book) Has(v verdict.Verdict) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.ContainsFunc(b.ends, func(e end) bool { return e.verdict == v })
}

// Roll rolls up what was counted, with more besides.
func (b *Book) Roll(more ...verdict.Verdict) verdict.Verdict {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.ends {
		more = append(more, e.verdict)
	}
	return verdict.Roll(more...)
}

// Judge gives the verdict of the attempt, by its cases and by what ended it.
func (b *Book) Judge(err error) (verdict.Verdict, string) {
	var lost *phone.Lost
	var unready *Unready
	switch {
	case errors.Is(err, ErrStopped):
		return b.Roll(verdict.Stopped), err.Error()
	case errors.As(err, &lost), errors.As(err, &unready):
		return verdict.Lost, err.Error()
	case errors.Is(err, ErrTime):
		return b.Roll(verdict.Expired), err.Error()
	case err != nil:
		return verdict.Invalid, err.Error()
	}
	v := b.Roll()
	if v == verdict.Passed || v == verdict.Skipped {
		return v, ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.ends {
		if e.verdict == v {
			return v, e.said // the first case that decided
		}
	}
	return v, ""
}

// maxTrySaid is how many bytes of each text of a try leave the host, where there was more than one: the bus carries small messages.
const maxTrySaid = 8 << 10

func (b *Book) name(s string) string { return foreign.Name(b.Mask.Text(s), verdict.MaxCaseName) }

// Masked is a result as it may leave the host.
func (b *Book) Masked(r hostlink.CaseResult) *hostlink.CaseResult {
	hide := func(t *hostlink.Try, most int) {
		for _, s := range []*string{&t.Message, &t.Expected, &t.Actual, &t.Trace} {
			*s = foreign.Fit(b.Mask.Text(*s), most)
		}
		t.Line = b.name(t.Line)
	}
	r.Name = b.name(r.Name)
	r.Tries = append([]hostlink.Try(nil), r.Tries...)
	hide(&r.Try, verdict.MaxText)
	for i := range r.Tries {
		hide(&r.Tries[i], maxTrySaid)
	}
	return &r
}

// Combine makes one result of a case's tries. One that passes in a later try is flaky; else what it said first counts.
func Combine(tries []hostlink.Try) hostlink.Try {
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
