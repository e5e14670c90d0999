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
	"slices"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/work"
	"tessellant/internal/service/content"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
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
	Content  *content.Content
	Specs    *specs.Specs
	Secrets  *secrets.Secrets
	Queue    *queue.Queue
	Sessions *sessions.Sessions
	Orders   *orders.Orders
}

// RunRequest asks for a run.
type RunRequest struct {
	Build, Package string // references or ids
	Where          []string
	Devices        []string // serials
	LimitSeconds   int
	IdempotencyKey string
	Cases, Tags    []string          // which cases; none: all
	Confirm        int               // how often a failed case is tried again
	Attempts       int               // that a leg may have when devices are lost; 0: 2
	Inputs         map[string]string // plain
	Secrets        map[string]string // never shown again
}

const (
	maxConfirm  = 10
	maxAttempts = 10
	// maxWaitingLegs is how many legs of a workspace may wait for devices.
	maxWaitingLegs = 20_000
)

// isKey says whether a text may be an Idempotency-Key (draft-ietf-httpapi-idempotency-key-header: a printable string).
func isKey(s string) bool {
	return len(s) <= 100 && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' })
}

// hash is of all that a request asks for, but for the values of secrets.
func (q RunRequest) hash() []byte {
	q.IdempotencyKey, q.Secrets = "", maps.Clone(q.Secrets)
	for name := range q.Secrets {
		q.Secrets[name] = ""
	}
	raw, _ := json.Marshal(q)
	sum := sha256.Sum256(raw)
	return sum[:]
}

// RunPlan is what a run would be.
type RunPlan struct {
	Build   store.Build
	Package store.Package
	Cases   []testpkg.Case
	planning.Plan
}

// CheckRun plans a run and starts nothing: the findings say what is in its way.
func (s *Runs) CheckRun(ctx context.Context, who store.Identity, q RunRequest) (RunPlan, error) {
	return s.plan(ctx, who, &q)
}

// plan finds what a request names and plans it. It sets the limit that was not said.
func (s *Runs) plan(ctx context.Context, who store.Identity, q *RunRequest) (p RunPlan, err error) {
	const title = "plan the run"
	if q.Build == "" || q.Package == "" {
		return p, refuse.New(refuse.Invalid, title, "set both, such as kelpline/android@newest and shore-suite@newest", "the request names no %s", map[bool]string{true: "build", false: "package"}[q.Build == ""])
	}
	if p.Build, err = s.Content.Build(ctx, who, q.Build); err != nil {
		return p, err
	}
	if p.Package, err = s.Content.Package(ctx, who, q.Package); err != nil {
		return p, err
	}
	filter, err := devices.ParseFilter(q.Where, q.Devices)
	if err != nil {
		return p, refuse.New(refuse.Invalid, title, "", "%v", err)
	}
	if q.LimitSeconds == 0 {
		q.LimitSeconds = 1800
	}
	if q.LimitSeconds < 1 || q.LimitSeconds > 86400 {
		return p, refuse.New(refuse.Invalid, title, "choose 1 to 86400 seconds (24 h)", "the time limit is out of range")
	}
	if q.Confirm < 0 || q.Confirm > maxConfirm {
		return p, refuse.New(refuse.Invalid, title, "choose 0 to 10", "a failed case can't be retried %d times", q.Confirm)
	}
	if q.Attempts < 0 || q.Attempts > maxAttempts {
		return p, refuse.New(refuse.Invalid, title, "choose 1 to 10", "a leg can't have %d attempts", q.Attempts)
	}
	prog := p.Package.Program.V
	if prog != nil && (len(q.Cases)+len(q.Tags) > 0 || q.Confirm > 0) {
		return p, refuse.New(refuse.Invalid, title, "remove --case, --tag and --confirm, or pass an input that the program reads", "%s is a program, and a program decides itself which cases it runs", p.Package.Ref())
	}
	if p.Cases, err = testpkg.Choose(p.Package.Cases.V, q.Cases, q.Tags); err != nil {
		return p, refuse.New(refuse.Invalid, title, "see the cases with: tessellant package show "+p.Package.Ref(), "%v", err)
	}
	about := map[string]store.HostAbout{}
	if prog != nil {
		hosts, err := s.Store.Hosts(ctx)
		if err != nil {
			return p, err
		}
		for _, h := range hosts {
			about[h.ID] = h.About.V
		}
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return p, err
	}
	var there []planning.Device
	for _, d := range all {
		x := planning.Device{ID: d.ID, Facts: d.Facts.V, Lacks: content.Lacking(prog, about[d.HostID])}
		x.Away = d.Standing().Unusable
		there = append(there, x)
	}
	cases := len(p.Cases)
	if prog != nil {
		cases = 1 // at least: which, is seen when it runs
	}
	p.Plan = planning.Make(p.Build.Facts.V, cases, there, filter)
	if _, _, err := testpkg.Inputs(p.Package.Inputs.V, q.Inputs, q.Secrets); err != nil {
		p.Findings = append(p.Findings, planning.Finding{Level: planning.Blocks, What: err.Error(), Remedy: "fill it in; on the command line with --set NAME=VALUE, a secret one with --secret-from-env NAME=VARIABLE"})
	}
	return p, nil
}

// StartRun plans a run and writes it; the dispatcher does the rest. The same
// idempotency key gives the run that is there already, and isNew false.
func (s *Runs) StartRun(ctx context.Context, who store.Identity, q RunRequest) (r store.Run, isNew bool, err error) {
	const title = "start the run"
	if !isKey(q.IdempotencyKey) {
		return r, false, refuse.New(refuse.Invalid, title, "send an Idempotency-Key of up to 100 printable ASCII characters, or none", "the Idempotency-Key is not valid")
	}
	asked := q.hash()
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
	p, err := s.plan(ctx, who, &q)
	if err != nil {
		return r, false, err
	}
	waiting, err := s.Store.CountWaiting(ctx, who.WorkspaceID, work.Leg)
	if err != nil {
		return r, false, err
	}
	if waiting+len(p.Devices) > maxWaitingLegs {
		return r, false, refuse.New(refuse.Refused, title, "wait until some have finished, or stop runs that you do not need", "%d legs of this workspace are waiting for devices; this run would add %d; the limit is %d", waiting, len(p.Devices), maxWaitingLegs)
	}
	build, pkg, plan := p.Build, p.Package, p.Plan
	if blocked := plan.Blocked(); len(blocked) > 0 {
		e := refuse.New(refuse.Refused, title, blocked[0].Remedy, "%s", blocked[0].What)
		e.Findings = refuse.PlanFindings(plan.Findings)
		return r, false, e
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	r = store.Run{ID: store.NewID(), WorkspaceID: who.WorkspaceID, BuildID: build.ID, PackageID: pkg.ID, LimitSeconds: q.LimitSeconds, Created: now,
		Request: store.JSON[store.RunRequest]{V: store.RunRequest{Build: build.Ref(), Package: pkg.Ref(), Where: q.Where, Devices: q.Devices,
			Cases: q.Cases, Tags: q.Tags, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, Secrets: slices.Sorted(maps.Keys(q.Secrets))}},
		Findings: store.JSON[[]planning.Finding]{V: plan.Findings}}
	if q.IdempotencyKey != "" {
		r.IdempotencyKey, r.IdempotencyHash = &q.IdempotencyKey, asked
	}
	spec, err := specs.Run(build, pkg, r.Request.V, q.LimitSeconds)
	if err != nil {
		return r, false, err
	}
	var legs []store.NewWork
	for _, d := range plan.Devices {
		legs = append(legs, store.NewWork{Spec: spec, Work: store.Work{ID: store.NewID(), Kind: work.Leg, RunID: r.ID, WorkspaceID: r.WorkspaceID, DeviceID: d.ID, CasesTotal: len(p.Cases), Created: now,
			Wants: store.JSON[work.Wants]{V: work.Wants{Device: d.ID}}, AskedBy: who.KeyID}})
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
