// Package bisections finds the first bad build by itself: it tries a case on some of the builds between a good and a bad one, run by run.
//
// core/triage says which build is next and when the answer is known; a probe is a run of one case on one device (probe.go). How far a bisection is stands in the
// database alone: any process goes on with it, also after a restart.
package bisections

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/nearest"
	"tessellant/internal/core/report"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/triage"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/content"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/service/secrets"
	"tessellant/internal/store"
)

// Bisections is that room.
type Bisections struct {
	Store   *store.Store
	Bus     bus.Bus
	Log     *slog.Logger
	Content *content.Content
	Runs    *runs.Runs
	Answers *answers.Answers
	Secrets *secrets.Secrets
}

// Request asks for a bisection.
type Request struct {
	Run, Family  string // of which the rest is taken, where it is not given
	Good, Bad    string // builds
	Package      string
	Case         string
	Device       string // a serial; "": one on which the case failed on the bad build
	Conditions   conditions.Set
	Inputs       map[string]string
	Secrets      map[string]string
	LimitSeconds int
}

// Bounds of bisections.
const (
	maxBuilds   = 1024
	maxGoing    = 10 // of a workspace at once
	maxProbes   = 120
	probeLimit  = 600 // seconds of a probe, where nothing is said
	title       = "find the first bad build"
	lookedAt    = 2000 // results of the case, for a device on which it failed
	latelyRuns  = 30   // by which it is known how often the case fails for no reason
	steadyAlarm = 0.01
)

// View is a bisection with what it comes to.
type View struct {
	store.Bisection
	Builds   []store.Build // in their order
	LastGood int           // places in the builds, as it looks now
	FirstBad int
	Unsure   float64
	Changes  []appfile.Change // of the facts, between the two
	DeviceMS int64            // that the probes took
}

// StartBisection begins a bisection.
func (s *Bisections) StartBisection(ctx context.Context, who store.Identity, q Request) (v View, err error) {
	b := store.Bisection{ID: store.NewID(), WorkspaceID: who.WorkspaceID, State: store.BisectGoing, StartedBy: who.KeyName, AskedBy: who.KeyID, Created: time.Now().UTC().Truncate(time.Millisecond)}
	if q.Run != "" || q.Family != "" {
		if err := s.fromFamily(ctx, who, &q, &b.Request.V); err != nil {
			return v, err
		}
	}
	for _, x := range []struct{ what, value, remedy string }{{"good build", q.Good, "name one on which the case passes, such as kelpline/android@231"}, {"bad build", q.Bad, "name one on which it fails, such as kelpline/android@newest"},
		{"package", q.Package, "name one, such as shore-suite@newest"}, {"case", q.Case, "name one, such as tides.test_tide_chart"}} {
		if x.value == "" {
			return v, refuse.New(refuse.Invalid, title, x.remedy, "the request names no %s", x.what)
		}
	}
	good, err := s.Content.Build(ctx, who, q.Good)
	if err != nil {
		return v, err
	}
	bad, err := s.Content.Build(ctx, who, q.Bad)
	if err != nil {
		return v, err
	}
	switch {
	case good.Slug != bad.Slug || good.Platform != bad.Platform:
		return v, refuse.New(refuse.Invalid, title, "name two builds of one app", "%s and %s are builds of different apps", good.Ref(), bad.Ref())
	case good.ID == bad.ID:
		return v, refuse.New(refuse.Invalid, title, "name an older build that is good", "%s can't be good and bad", good.Ref())
	case good.ID > bad.ID:
		return v, refuse.New(refuse.Invalid, title, "swap them; builds are taken in the order of their uploads", "%s was uploaded after %s", good.Ref(), bad.Ref())
	}
	pkg, err := s.Content.Package(ctx, who, q.Package)
	if err != nil {
		return v, err
	}
	app := store.App{WorkspaceID: who.WorkspaceID, Slug: bad.Slug, Platform: bad.Platform}
	r := &b.Request.V
	r.Slug, r.Platform, r.Package, r.PackageRef, r.Inputs, r.LimitSeconds = app.Slug, app.Platform, pkg.ID, pkg.Ref(), q.Inputs, cmp.Or(q.LimitSeconds, probeLimit)
	if r.LimitSeconds < 1 || r.LimitSeconds > 86400 {
		return v, refuse.New(refuse.Invalid, title, "choose 1 to 86400 seconds", "the time limit is out of range")
	}
	if r.Case, err = caseOf(pkg, q.Case); err != nil {
		return v, err
	}
	if b.Builds.V, err = s.Store.BuildsBetween(ctx, app, good.ID, bad.ID, maxBuilds+1); err != nil {
		return v, err
	}
	if len(b.Builds.V) > maxBuilds {
		return v, refuse.New(refuse.TooLarge, title, "name builds that are nearer to each other", "there are more than %d builds between %s and %s", maxBuilds, good.Ref(), bad.Ref())
	}
	if q.Conditions != nil {
		r.Conditions = q.Conditions
	}
	if err := s.device(ctx, app, pkg.Name, bad.ID, q.Device, r); err != nil {
		return v, err
	}
	if _, _, err := testpkg.Inputs(pkg.Inputs.V, q.Inputs, q.Secrets); err != nil {
		return v, refuse.New(refuse.Refused, title, "fill it in; on the command line with --set NAME=VALUE, a secret one with --secret-from-env NAME=VARIABLE", "%v", err)
	}
	if b.Alarm, err = s.alarm(ctx, app, pkg.Name, r.Case); err != nil {
		return v, err
	}
	if n, err := s.Store.CountBisections(ctx, who.WorkspaceID); err != nil {
		return v, err
	} else if n >= maxGoing {
		return v, refuse.New(refuse.Refused, title, "wait until one is over, or stop one", "%d bisections of this workspace go on; that is the most", n)
	}
	for name := range q.Secrets {
		r.Secrets = append(r.Secrets, name)
	}
	slices.Sort(r.Secrets)
	sealed, err := s.Secrets.Seal(b.ID, q.Secrets)
	if err != nil {
		return v, err
	}
	if err := s.Store.AddBisection(ctx, b, sealed); err != nil {
		return v, err
	}
	s.Log.Info("a bisection begins", "bisection", b.ID, "builds", len(b.Builds.V), "case", r.Case, "device", r.Device)
	return s.Bisection(ctx, who, b.ID)
}

// fromFamily takes from a family of a run what was not said.
func (s *Bisections) fromFamily(ctx context.Context, who store.Identity, q *Request, r *store.BisectRequest) error {
	run, err := s.Runs.FindRun(ctx, who, q.Run)
	if err != nil {
		return err
	}
	f, err := s.Answers.FamilyOf(ctx, run, q.Family)
	if err != nil {
		return err
	}
	r.Signatures = f.Signatures
	q.Bad, q.Package, q.Case = cmp.Or(q.Bad, run.BuildID), cmp.Or(q.Package, run.PackageID), cmp.Or(q.Case, f.Example.Case)
	if q.Good == "" {
		if f.LastGood == nil {
			return refuse.New(refuse.Refused, title, "name a build on which it passes, with --good", "no build is known on which this did not show")
		}
		q.Good = f.LastGood.ID
	}
	if q.Inputs == nil {
		q.Inputs = run.Request.V.Inputs
	}
	if q.Device != "" {
		return nil
	}
	legs, err := s.Store.Legs(ctx, run.ID)
	for _, l := range legs {
		if l.ID == f.Example.Leg {
			q.Device, r.Variant, r.Conditions = l.Serial, l.Variant, l.Set()
		}
	}
	return err
}

// caseOf finds a case of a package by its name, or by that of its function.
func caseOf(pkg store.Package, name string) (string, error) {
	if pkg.Program.V != nil {
		return "", refuse.New(refuse.Refused, title, "use a package of scripts", "%s is a program, and a program decides itself which cases it runs", pkg.Ref())
	}
	called, words := testpkg.Called(pkg.Cases.V, name)
	if len(called) == 1 {
		return called[0], nil
	}
	return "", refuse.New(refuse.NotFound, title, "see the cases with: tessellant package show "+pkg.Ref()+nearest.Meant(name, words), "%s has no case %.200q", pkg.Ref(), name)
}

// device finds the device that is to try: the one that is named, else one on which the case failed on the bad build, one that is ready first.
func (s *Bisections) device(ctx context.Context, app store.App, pkg, bad, named string, r *store.BisectRequest) error {
	if named != "" {
		d, err := s.Store.DeviceBySerial(ctx, named)
		r.Device = d.Serial
		return refuse.Missing(err, "device", named, "see the devices with: tessellant device list")
	}
	results, err := s.Store.Results(ctx, answers.Subject(app, pkg, r.Case), "", lookedAt)
	if err != nil {
		return err
	}
	for _, ready := range []bool{true, false} {
		for _, x := range results {
			if x.BuildID != bad || x.Signature == "" || x.Verdict == "flaky" {
				continue
			}
			d, err := s.Store.DeviceByID(ctx, x.DeviceID)
			if err != nil {
				return err
			}
			if ready && d.Standing().Why != "" {
				continue
			}
			set, err := conditions.Parse(x.Conditions)
			if err != nil {
				return err
			}
			r.Device, r.Variant, r.Conditions = d.Serial, x.Variant, set
			return nil
		}
	}
	return refuse.New(refuse.Refused, title, "name one with --device, or run the case on the bad build first", "no device is known on which %s failed on the bad build", r.Case)
}

// alarm says how often a case is known to fail for no reason.
func (s *Bisections) alarm(ctx context.Context, app store.App, pkg, name string) (float64, error) {
	tallies, err := s.Store.CaseTallies(ctx, []store.Subject{answers.Subject(app, pkg, name)}, "~", latelyRuns)
	var r triage.Rate
	for _, t := range tallies {
		r.Times, r.Of = r.Times+t.Flaky, r.Of+t.Judged
	}
	if r.Times == 0 {
		return steadyAlarm, err
	}
	return float64(r.Times) / float64(r.Of), err
}

// Bisection finds a bisection, with what it comes to.
func (s *Bisections) Bisection(ctx context.Context, who store.Identity, id string) (v View, err error) {
	if id == "newest" {
		all, err := s.Store.Bisections(ctx, who.WorkspaceID, "", 1)
		if err != nil {
			return v, err
		}
		if len(all) > 0 {
			id = all[0].ID
		}
	}
	b, err := s.Store.BisectionByID(ctx, who.WorkspaceID, id)
	if err != nil {
		return v, refuse.Missing(err, "bisection", id, "see them with: tessellant bisection list")
	}
	return s.view(ctx, b)
}

func (s *Bisections) view(ctx context.Context, b store.Bisection) (v View, err error) {
	v.Bisection = b
	for _, id := range b.Builds.V {
		x, err := s.Store.BuildByID(ctx, b.WorkspaceID, id)
		if err != nil {
			return v, err
		}
		v.Builds = append(v.Builds, x)
	}
	for _, p := range b.Probes.V {
		v.DeviceMS += p.DeviceMS
	}
	v.LastGood, v.FirstBad, v.Unsure = replayed(b).Answer()
	if b.State == store.BisectFound || b.State == store.BisectUnsure {
		v.Changes = appfile.Changes(v.Builds[v.LastGood].Facts.V, v.Builds[v.FirstBad].Facts.V)
	}
	return v, nil
}

// replayed is the state of a bisection, from its probes.
func replayed(b store.Bisection) *triage.Bisect {
	x := triage.NewBisect(len(b.Builds.V), b.Alarm, b.Alarm)
	others := map[int]int{}
	for _, p := range b.Probes.V {
		switch p.Says {
		case store.ProbeBad:
			x.Saw(p.Build, true)
		case store.ProbeGood:
			x.Saw(p.Build, false)
		default:
			if others[p.Build]++; others[p.Build] >= maxOthers {
				x.Skip(p.Build)
			}
		}
	}
	return x
}

// maxOthers is how often a build may say nothing of the fault before it is left out.
const maxOthers = 2

// ListBisections lists a workspace's, the newest first.
func (s *Bisections) ListBisections(ctx context.Context, who store.Identity, after string, limit int) ([]View, string, error) {
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.Bisections(ctx, who.WorkspaceID, after, limit+1)
	rows, next, err := paging.Cut(rows, limit, err, func(b store.Bisection) string { return b.ID })
	if err != nil {
		return nil, "", err
	}
	var out []View
	for _, b := range rows {
		v, err := s.view(ctx, b)
		if err != nil {
			return nil, "", err
		}
		out = append(out, v)
	}
	return out, next, nil
}

// StopBisection ends a bisection, and the run in which it tries a build now.
func (s *Bisections) StopBisection(ctx context.Context, who store.Identity, id string) (View, error) {
	v, err := s.Bisection(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.State != store.BisectGoing {
		return v, refuse.New(refuse.Refused, "stop the bisection", "start another with: tessellant run bisect", "it is over already: %s", v.State)
	}
	b := v.Bisection
	b.State, b.Why = store.BisectStopped, "stopped by "+who.KeyName
	if err := s.Store.SetBisection(ctx, b); err != nil {
		return v, err
	}
	if b.RunID != "" {
		if _, err := s.Runs.StopRun(ctx, who, b.RunID, ""); err != nil && !strings.Contains(err.Error(), "already finished") {
			return v, err
		}
	}
	return s.Bisection(ctx, who, b.ID)
}

// Sentence says in one sentence what a bisection comes to.
func (v View) Sentence() string {
	name := func(i int) string { return v.Builds[i].Ref() }
	r := v.Request.V
	switch v.State {
	case store.BisectFound:
		return r.Case + " fails since " + name(v.FirstBad) + "; with " + name(v.LastGood) + " it is good."
	case store.BisectUnsure:
		return r.Case + " fails since " + name(v.FirstBad) + " or a build beside it: on some of the builds between it can't be judged."
	case store.BisectStopped:
		return "Stopped before the first bad build was found."
	case store.BisectFailed:
		return "The first bad build was not found: " + v.Why + "."
	}
	if v.Waits.Valid {
		return "Waiting to go on: " + v.Why + "."
	}
	return "Looking for the first bad build of " + report.Many(len(v.Builds), "build") + "; tried so far: " + strconv.Itoa(len(v.Probes.V)) + "."
}
