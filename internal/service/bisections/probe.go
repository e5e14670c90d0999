package bisections

// A bisection goes on: a probe is started, or its run is over and is read.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/chore"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/secrets"
	"tessellant/internal/store"
)

const (
	probeEvery = time.Second
	probeLease = 2 * time.Minute
	probeBatch = 200
	nothings   = 5 // tries in a row that say nothing, after which it is given up
	// patience is how long a device may be away.
	patience = 2 * time.Hour
)

// KeepProbing goes on with all bisections until ctx ends. Of several processes one does it.
func (s *Bisections) KeepProbing(ctx context.Context) {
	wake, stop := s.Bus.Subscribe(bus.Work) // it is told when work is over, too
	defer stop()
	chore.Chore{Name: "bisections", Every: probeEvery, Lasts: probeLease, Fails: "bisections could not go on", Wake: wake}.Keep(ctx, s.Store, s.Log, func() error { return s.round(ctx) })
}

func (s *Bisections) round(ctx context.Context) error {
	all, err := s.Store.BisectionsGoing(ctx, probeBatch)
	for _, b := range all {
		if bad := s.step(ctx, b); bad != nil && ctx.Err() == nil {
			err = errors.Join(err, fmt.Errorf("bisection %s: %w", b.ID, bad))
		}
	}
	return err
}

// step goes one step on, if it can.
func (s *Bisections) step(ctx context.Context, b store.Bisection) error {
	if b.RunID == "" {
		return s.next(ctx, b)
	}
	run, err := s.Store.RunByID(ctx, b.WorkspaceID, b.RunID)
	if err != nil || !run.Ended.Valid {
		return err
	}
	p, err := s.read(ctx, b, run)
	if err != nil {
		return err
	}
	b.Probes.V, b.RunID, b.Probing.Valid = append(b.Probes.V, p), "", false
	s.Log.Info("a bisection tried a build", "bisection", b.ID, "build", b.Builds.V[p.Build], "says", p.Says, "run", run.ID)
	if n := len(b.Probes.V); n >= nothings && !slices.ContainsFunc(b.Probes.V[n-nothings:], func(p store.Probe) bool { return p.Says != store.ProbeOther }) {
		b.State, b.Why = store.BisectFailed, fmt.Sprintf("%d tries in a row said nothing of the fault; the last: %s", nothings, p.Message)
	}
	if err := s.Store.SetBisection(ctx, b); err != nil || b.State != store.BisectGoing {
		return err
	}
	if b, err = s.Store.BisectionByID(ctx, b.WorkspaceID, b.ID); err != nil || b.State != store.BisectGoing { // a person may have stopped it
		return err
	}
	return s.next(ctx, b)
}

// next starts the next probe, or ends.
func (s *Bisections) next(ctx context.Context, b store.Bisection) error {
	x := replayed(b)
	build, more := x.Next()
	_, _, unsure := x.Answer()
	switch {
	case !more && unsure <= triage.Unsure:
		b.State = store.BisectFound
		return s.Store.SetBisection(ctx, b)
	case !more, len(b.Probes.V) >= maxProbes:
		b.State, b.Why = store.BisectUnsure, fmt.Sprintf("the answer has a chance of %.0f %% of being another build", 100*unsure)
		return s.Store.SetBisection(ctx, b)
	}
	r := b.Request.V
	values, err := s.Secrets.Of(ctx, b.ID)
	if errors.Is(err, secrets.ErrLost) {
		b.State, b.Why = store.BisectFailed, err.Error()
		return s.Store.SetBisection(ctx, b)
	}
	if err != nil {
		return err
	}
	who := store.Identity{WorkspaceID: b.WorkspaceID, KeyID: b.AskedBy, KeyName: b.StartedBy}
	run, _, err := s.Runs.StartRun(ctx, who, plans.Request{Build: b.Builds.V[build], Package: r.Package, Inputs: r.Inputs, Secrets: values, LimitSeconds: r.LimitSeconds, Name: "first bad build", Labels: map[string]string{"bisection": b.ID},
		Lines:          []store.Line{{Device: "serial=" + r.Device, Variant: r.Variant, Conditions: r.Conditions, Cases: []string{r.Case}}},
		IdempotencyKey: fmt.Sprintf("bisection %s, try %d", b.ID, len(b.Probes.V))}) // a process that dies here starts nothing twice
	var no *refuse.Error
	if errors.As(err, &no) {
		if b.Why = no.Why; !b.Waits.Valid {
			b.Waits.Time, b.Waits.Valid = time.Now().UTC(), true
		}
		if no.Kind != refuse.Refused || time.Since(b.Waits.Time) > patience {
			b.State = store.BisectFailed
		}
		return s.Store.SetBisection(ctx, b)
	}
	if err != nil {
		return err
	}
	b.RunID, b.Probing.Int64, b.Probing.Valid, b.Waits.Valid, b.Why = run.ID, int64(build), true, false, ""
	return s.Store.SetBisection(ctx, b)
}

// read says what a probe's run says.
func (s *Bisections) read(ctx context.Context, b store.Bisection, run store.Run) (p store.Probe, err error) {
	p = store.Probe{Build: int(b.Probing.Int64), RunID: run.ID, Number: run.Number, Verdict: run.Verdict, Says: store.ProbeOther, DeviceMS: run.Ended.Time.Sub(run.Created).Milliseconds()}
	legs, err := s.Store.Legs(ctx, run.ID)
	if err != nil || len(legs) == 0 {
		return p, err
	}
	l := legs[0]
	p.Verdict, p.Message = l.Verdict, l.Message
	if l.Started.Valid && l.Ended.Valid {
		p.DeviceMS = l.Ended.Time.Sub(l.Started.Time).Milliseconds()
	}
	switch l.Verdict {
	case verdict.Passed, verdict.Flaky:
		p.Says = store.ProbeGood
	case verdict.Failed, verdict.Crashed, verdict.Expired:
		a, err := s.Answers.Of(ctx, run)
		if err != nil {
			return p, err
		}
		p.Says = store.ProbeBad
		if len(a.Families) > 0 {
			p.Signature = a.Families[0].ID
		}
		if want := b.Request.V.Signatures; len(want) > 0 && !slices.Contains(want, p.Signature) {
			p.Says, p.Message = store.ProbeOther, "it fails in another way: "+p.Message
		}
	}
	return p, nil
}
