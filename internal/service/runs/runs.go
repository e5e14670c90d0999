// Package runs is what is fanned out: runs planned, started and stopped, and how they and their legs stand.
package runs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/work"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/queue"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/secrets"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// Runs is that room.
type Runs struct {
	Store    *store.Store
	Bus      bus.Bus
	Log      *slog.Logger
	Feed     *feed.Feed
	Plans    *plans.Plans
	Specs    *specs.Specs
	Secrets  *secrets.Secrets
	Queue    *queue.Queue
	Sessions *sessions.Sessions
	Orders   *orders.Orders
	Answers  Told
}

// Told knows what runs say.
type Told interface {
	Sentence(ctx context.Context, r store.Run) (string, error)
	Sentences(ctx context.Context, runs []store.Run) (map[string]string, error)
	// Places gives by legs the cases in which families of a run showed.
	Places(ctx context.Context, r store.Run, families []string) (map[string][]string, error)
}

// maxWaitingLegs is how many legs of a workspace may wait for devices.
const maxWaitingLegs = 20_000

// isKey says whether a text may be an Idempotency-Key (draft-ietf-httpapi-idempotency-key-header: a printable string).
func isKey(s string) bool {
	return len(s) <= 100 && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' })
}

// hash is of all that a request asks for, but for the values of secrets.
func hash(q plans.Request) []byte {
	q.IdempotencyKey, q.Secrets = "", maps.Clone(q.Secrets)
	for name := range q.Secrets {
		q.Secrets[name] = ""
	}
	raw, _ := json.Marshal(q)
	sum := sha256.Sum256(raw)
	return sum[:]
}

// StartRun plans a run and writes it; the dispatcher does the rest. The same
// idempotency key gives the run that is there already, and isNew false.
func (s *Runs) StartRun(ctx context.Context, who store.Identity, q plans.Request) (r store.Run, isNew bool, err error) {
	const title = "start the run"
	if !isKey(q.IdempotencyKey) {
		return r, false, refuse.New(refuse.Invalid, title, "send an Idempotency-Key of up to 100 printable ASCII characters, or none", "the Idempotency-Key is not valid")
	}
	asked := hash(q)
	before := func() (store.Run, error) {
		old, err := s.Store.RunByIdempotencyKey(ctx, who.WorkspaceID, q.IdempotencyKey)
		if err == nil && old.IdempotencyHash != nil && !bytes.Equal(old.IdempotencyHash, asked) {
			err = refuse.New(refuse.Refused, title, "use a new Idempotency-Key for a new run", "this Idempotency-Key was already used for another request, which started run %s", old.ID)
		}
		return old, err
	}
	if q.IdempotencyKey != "" {
		if old, err := before(); !errors.Is(err, store.ErrNotFound) {
			return old, false, err
		}
	}
	p, err := s.Plans.Plan(ctx, who, &q)
	if err != nil {
		return r, false, err
	}
	waiting, err := s.Store.CountWaiting(ctx, who.WorkspaceID, work.Leg)
	if err != nil {
		return r, false, err
	}
	if waiting+len(p.Legs) > maxWaitingLegs {
		return r, false, refuse.New(refuse.Refused, title, "wait until some have finished, or stop runs that you do not need", "%d legs of this workspace are waiting for devices; this run would add %d; the limit is %d", waiting, len(p.Legs), maxWaitingLegs)
	}
	build, pkg, plan := p.Build, p.Package, p.Plan
	if blocked := plan.Blocked(); len(blocked) > 0 {
		e := refuse.New(refuse.Refused, title, blocked[0].Remedy, "%s", blocked[0].What)
		e.Findings = refuse.PlanFindings(plan.Findings)
		return r, false, e
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	kept := q.Asked()
	kept.Build, kept.Package, kept.Others, kept.Beside = build.Ref(), pkg.Ref(), refs(p.Others), refs(p.Beside)
	r = store.Run{ID: store.NewID(), WorkspaceID: who.WorkspaceID, BuildID: build.ID, PackageID: pkg.ID, LimitSeconds: q.LimitSeconds, Created: now, Name: q.Name, Labels: store.JSON[map[string]string]{V: q.Labels}, StartedBy: who.KeyName,
		Request:  store.JSON[store.RunRequest]{V: kept},
		Findings: store.JSON[[]planning.Finding]{V: plan.Findings}, Forecast: store.JSON[*planning.Forecast]{V: &plan.Forecast}}
	r.Words = words(r)
	if q.IdempotencyKey != "" {
		r.IdempotencyKey, r.IdempotencyHash = &q.IdempotencyKey, asked
	}
	spec := specs.Run(build, pkg, r.Request.V, q.LimitSeconds, p.Beside)
	apps := map[string]work.App{}
	for _, b := range p.Others {
		r.OtherBuilds = append(r.OtherBuilds, b.ID)
		apps[b.ID] = specs.Run(b, pkg, r.Request.V, q.LimitSeconds, nil).App
	}
	var legs []store.NewWork
	for _, l := range plan.Legs {
		x := spec
		if app, other := apps[p.For(l.Device).ID]; other {
			x.App = app
		}
		x.Cases, x.Variant, x.Conditions = l.Cases, l.Variant.Name, l.Variant.Conditions
		legs = append(legs, store.NewWork{Spec: x, Work: store.Work{ID: store.NewID(), Kind: work.Leg, RunID: r.ID, WorkspaceID: r.WorkspaceID, DeviceID: l.Device.ID, CasesTotal: len(l.Cases), Created: now,
			Wants: store.JSON[work.Wants]{V: work.Wants{Device: l.Device.ID, Like: l.AnyUnit}}, AskedBy: who.KeyID}})
	}
	sealed, err := s.Secrets.Seal(r.ID, q.Secrets)
	if err != nil {
		return r, false, err
	}
	err = s.Store.AddRun(ctx, r, sealed, legs)
	if errors.Is(err, store.ErrTaken) {
		old, err := before()
		return old, false, err
	}
	if err == nil {
		s.Bus.Publish(bus.Work, nil)
		s.Feed.RunChanged(r.WorkspaceID, r.ID, "")
		s.Log.Info("run starts", "run", r.ID, "build", r.Request.V.Build, "package", r.Request.V.Package, "legs", len(legs))
	}
	return r, true, err
}

// StopRun ends a run, or one leg of it. Legs that wait are over at once; the others
// end within seconds, with what was gathered. It answers the run as it stands then.
func (s *Runs) StopRun(ctx context.Context, who store.Identity, id, leg string) (RunView, error) {
	const title = "stop the run"
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.Ended.Valid {
		return v, refuse.New(refuse.Refused, title, "start another with: tessellant run start", "it has already finished: %s", v.Verdict)
	}
	if leg != "" {
		l, err := s.Leg(ctx, who, leg)
		if err != nil {
			return v, err
		}
		if l.RunID != v.ID {
			return v, refuse.New(refuse.Invalid, title, "name one of its own legs", "the leg %s belongs to another run", leg)
		}
		leg = l.ID
	}
	n, err := s.Store.StopRun(ctx, v.ID, leg, "stopped before it began")
	if err != nil {
		return v, err
	}
	s.Log.Info("run is stopped", "run", v.ID, "leg", leg, "legs", n)
	s.Feed.RunChanged(v.WorkspaceID, v.ID, leg)
	if err := s.Orders.WakeHolding(ctx, func(h store.Hold) bool { return h.RunID == v.ID }); err != nil {
		return v, err
	}
	return s.Run(ctx, who, v.ID)
}

// refs are the references of builds.
func refs(builds []store.Build) (out []string) {
	for _, b := range builds {
		out = append(out, b.Ref())
	}
	return out
}
