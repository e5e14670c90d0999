package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/store"
)

// Devices lists devices by serial; where holds patterns over their traits.
func (s *Service) Devices(ctx context.Context, where []string, after string, limit int) (items []store.Device, next string, err error) {
	filter, err := devices.ParseFilter(where, nil)
	if err != nil {
		return nil, "", fail(Invalid, "list devices", "", "%v", err)
	}
	for {
		rows, err := s.Store.Devices(ctx, after, 200)
		if err != nil {
			return nil, "", err
		}
		for _, d := range rows {
			after = d.Serial
			if !filter.Match(d.Facts.V) {
				continue
			}
			if len(items) == limit {
				return items, items[limit-1].Serial, nil
			}
			items = append(items, d)
		}
		if len(rows) < 200 {
			return items, "", nil
		}
	}
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
func (s *Service) CheckRun(ctx context.Context, who Identity, q RunRequest) (RunPlan, error) {
	return s.plan(ctx, who, &q)
}

// plan finds what a request names and plans it. It sets the limit that was not said.
func (s *Service) plan(ctx context.Context, who Identity, q *RunRequest) (p RunPlan, err error) {
	const title = "plan the run"
	if q.Build == "" || q.Package == "" {
		return p, fail(Invalid, title, "name both, such as kelpline/android@newest and shore-suite@newest", "the request names no %s", map[bool]string{true: "build", false: "package"}[q.Build == ""])
	}
	if p.Build, err = s.Build(ctx, who, q.Build); err != nil {
		return p, err
	}
	if p.Package, err = s.Package(ctx, who, q.Package); err != nil {
		return p, err
	}
	filter, err := devices.ParseFilter(q.Where, q.Devices)
	if err != nil {
		return p, fail(Invalid, title, "", "%v", err)
	}
	if q.LimitSeconds == 0 {
		q.LimitSeconds = 1800
	}
	if q.LimitSeconds < 1 || q.LimitSeconds > 86400 {
		return p, fail(Invalid, title, "choose 1 to 86400 seconds (24 h)", "the time limit makes no sense")
	}
	if q.Confirm < 0 || q.Confirm > maxConfirm {
		return p, fail(Invalid, title, "choose 0 to 10", "a failed case can't be tried again %d times", q.Confirm)
	}
	if q.Attempts < 0 || q.Attempts > maxAttempts {
		return p, fail(Invalid, title, "choose 1 to 10", "a leg can't have %d attempts", q.Attempts)
	}
	prog := p.Package.Program.V
	if prog != nil && (len(q.Cases)+len(q.Tags) > 0 || q.Confirm > 0) {
		return p, fail(Invalid, title, "leave --case, --tag and --confirm out, or give the program an input that it heeds", "%s is a program: which cases it runs, and how often, is its own affair", PackageRef(p.Package))
	}
	if p.Cases, err = testpkg.Choose(p.Package.Cases.V, q.Cases, q.Tags); err != nil {
		return p, fail(Invalid, title, "see the cases with: tessellant package show "+PackageRef(p.Package), "%v", err)
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
		x := planning.Device{ID: d.ID, Facts: d.Facts.V, Lacks: lacking(prog, about[d.HostID])}
		switch {
		case d.State != "ready":
			x.Away = d.Why
		case d.Quarantined.Valid:
			x.Away = "it is in quarantine: " + d.QuarantineWhy
		}
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
func (s *Service) StartRun(ctx context.Context, who Identity, q RunRequest) (r store.Run, isNew bool, err error) {
	const title = "start the run"
	if !isKey(q.IdempotencyKey) {
		return r, false, fail(Invalid, title, "send an Idempotency-Key of up to 100 printable ASCII characters, or none", "the Idempotency-Key is not one")
	}
	asked := q.hash()
	before := func() (store.Run, error) {
		old, err := s.Store.RunByIdempotencyKey(ctx, who.WorkspaceID, q.IdempotencyKey)
		if err == nil && old.IdempotencyHash != nil && !bytes.Equal(old.IdempotencyHash, asked) {
			err = fail(Refused, title, "send another Idempotency-Key for another run", "the Idempotency-Key came before with another request, and run %s was started for it", old.ID)
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
	waiting, err := s.Store.CountWaiting(ctx, who.WorkspaceID)
	if err != nil {
		return r, false, err
	}
	if waiting+len(p.Devices) > maxWaitingLegs {
		return r, false, fail(Refused, title, "wait until some are done, or stop what is not needed any more", "%d legs of this workspace wait for devices already, and this run would add %d; %d may wait", waiting, len(p.Devices), maxWaitingLegs)
	}
	build, pkg, plan := p.Build, p.Package, p.Plan
	if blocked := plan.Blocked(); len(blocked) > 0 {
		e := fail(Refused, title, blocked[0].Remedy, "%s", blocked[0].What)
		e.Findings = PlanFindings(plan.Findings)
		return r, false, e
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	r = store.Run{ID: store.NewID(), WorkspaceID: who.WorkspaceID, BuildID: build.ID, PackageID: pkg.ID, LimitSeconds: q.LimitSeconds, Created: now,
		Request: store.JSON[store.RunRequest]{V: store.RunRequest{Build: BuildRef(build), Package: PackageRef(pkg), Where: q.Where, Devices: q.Devices,
			Cases: q.Cases, Tags: q.Tags, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, Secrets: slices.Sorted(maps.Keys(q.Secrets))}},
		Findings: store.JSON[[]planning.Finding]{V: plan.Findings}}
	if q.IdempotencyKey != "" {
		r.IdempotencyKey, r.IdempotencyHash = &q.IdempotencyKey, asked
	}
	var legs []store.Leg
	for _, d := range plan.Devices {
		legs = append(legs, store.Leg{ID: store.NewID(), DeviceID: d.ID, CasesTotal: len(p.Cases)})
	}
	err = s.Store.AddRun(ctx, r, q.Secrets, legs)
	if errors.Is(err, store.ErrTaken) {
		old, err := before()
		return old, false, err
	}
	if err == nil {
		s.Bus.Publish(bus.Work, nil)
		s.Feed.runChanged(r.WorkspaceID, r.ID, "")
		s.Log.Info("run starts", "run", r.ID, "build", r.Request.V.Build, "package", r.Request.V.Package, "legs", len(legs))
	}
	return r, true, err
}

// StopRun ends a run, or one leg of it. Legs that wait are over at once; the others
// end within seconds, with what was gathered. It answers the run as it stands then.
func (s *Service) StopRun(ctx context.Context, who Identity, id, leg string) (RunView, error) {
	const title = "stop the run"
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.Ended.Valid {
		return v, fail(Refused, title, "start another with: tessellant run start", "it is over already: %s", v.Verdict)
	}
	if leg != "" {
		l, err := s.Leg(ctx, who, leg)
		if err != nil {
			return v, err
		}
		if l.RunID != v.ID {
			return v, fail(Invalid, title, "name one of its own legs", "the leg %s belongs to another run", leg)
		}
		leg = l.ID
	}
	n, err := s.Store.StopRun(ctx, v.ID, leg, "stopped before it began")
	if err != nil {
		return v, err
	}
	s.Log.Info("run is stopped", "run", v.ID, "leg", leg, "legs", n)
	s.Feed.runChanged(v.WorkspaceID, v.ID, leg)
	holds, err := s.Store.ActiveHolds(ctx, "")
	if err != nil {
		return v, err
	}
	hosts := map[string]bool{}
	for _, h := range holds {
		if h.RunID == v.ID {
			hosts[h.HostID] = true
		}
	}
	for h := range hosts {
		if name, err := s.Store.HostName(ctx, h); err == nil {
			s.Bus.Publish(bus.Host(name), nil)
		}
	}
	return s.Run(ctx, who, v.ID)
}

// RunView is a run with how its legs stand.
type RunView struct {
	store.Run
	Verdicts  []verdict.Verdict // of the legs, in no order; "" for those still going
	Stages    map[string]int    // legs that are not done
	CaseNames []string          // not in lists
	Legs      []LegView         // not in lists
}

// LegView is a leg with its device, and the cases of its last attempt.
type LegView struct {
	store.LegRow
	Cases []store.CaseVerdict
}

// tallied puts to runs how their legs stand, without the legs.
func (s *Service) tallied(ctx context.Context, runs []store.Run) ([]RunView, error) {
	var ids []string
	at := map[string]int{}
	out := make([]RunView, len(runs))
	for i, r := range runs {
		out[i] = RunView{Run: r, Stages: map[string]int{}}
		ids, at[r.ID] = append(ids, r.ID), i
	}
	tallies, err := s.Store.Tallies(ctx, ids)
	for _, t := range tallies {
		v := &out[at[t.RunID]]
		for range t.Legs {
			v.Verdicts = append(v.Verdicts, t.Verdict)
		}
		if t.Stage != "done" {
			v.Stages[t.Stage] += t.Legs
		}
	}
	return out, err
}

// view is a run with those of its legs that wanted chooses; nil: all.
func (s *Service) view(ctx context.Context, r store.Run, wanted map[string]bool) (RunView, error) {
	v := RunView{Run: r, Stages: map[string]int{}}
	pkg, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return v, err
	}
	cases, err := testpkg.Choose(pkg.Cases.V, r.Request.V.Cases, r.Request.V.Tags)
	if err != nil {
		return v, err
	}
	for _, c := range cases {
		v.CaseNames = append(v.CaseNames, c.Name)
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return v, err
	}
	var chosen []store.LegRow
	for _, l := range legs {
		if l.Stage == "done" {
			v.Verdicts = append(v.Verdicts, l.Verdict)
		} else {
			v.Verdicts = append(v.Verdicts, "")
			v.Stages[l.Stage]++
		}
		if wanted == nil || wanted[l.ID] {
			chosen = append(chosen, l)
		}
	}
	if v.Legs, err = s.legViews(ctx, chosen); err == nil && pkg.Kind == testpkg.Programs {
		err = s.asRun(ctx, &v, legs)
	}
	return v, err
}

// asRun gives a run of a program the names of its cases: those that were seen to run, on whichever device. Each leg's cases are put
// in the same order.
func (s *Service) asRun(ctx context.Context, v *RunView, legs []store.LegRow) error {
	var attempts []string
	for _, l := range legs {
		if l.AttemptID.Valid {
			attempts = append(attempts, l.AttemptID.String)
		}
	}
	names, err := s.Store.CaseNames(ctx, attempts)
	if err != nil {
		return err
	}
	at := map[string]int{}
	for _, a := range attempts {
		for _, n := range names[a] {
			if _, known := at[n]; !known {
				at[n] = len(v.CaseNames)
				v.CaseNames = append(v.CaseNames, n)
			}
		}
	}
	for i := range v.Legs {
		l := &v.Legs[i]
		if l.Stage == "done" { // before, nobody knows how many there will be
			l.CasesTotal = len(v.CaseNames)
		}
		own := names[l.AttemptID.String]
		for j := range l.Cases {
			if n := l.Cases[j].Ordinal; n < len(own) {
				l.Cases[j].Ordinal = at[own[n]]
			}
		}
		slices.SortFunc(l.Cases, func(a, b store.CaseVerdict) int { return a.Ordinal - b.Ordinal })
	}
	return nil
}

// legViews puts the cases to legs.
func (s *Service) legViews(ctx context.Context, legs []store.LegRow) ([]LegView, error) {
	var attempts []string
	for _, l := range legs {
		if l.AttemptID.Valid {
			attempts = append(attempts, l.AttemptID.String)
		}
	}
	cases, err := s.Store.CaseVerdicts(ctx, attempts)
	out := make([]LegView, 0, len(legs))
	for _, l := range legs {
		out = append(out, LegView{l, cases[l.AttemptID.String]})
	}
	return out, err
}

// Run finds a run by its id; "newest" is the one started last.
func (s *Service) Run(ctx context.Context, who Identity, id string) (RunView, error) {
	var r store.Run
	var err error
	if id == "newest" {
		var rows []store.Run
		if rows, err = s.Store.Runs(ctx, who.WorkspaceID, store.RunChoice{}, "", 1); err == nil && len(rows) == 0 {
			err = store.ErrNotFound
		} else if err == nil {
			r = rows[0]
		}
	} else {
		r, err = s.Store.RunByID(ctx, who.WorkspaceID, id)
	}
	if err != nil {
		return RunView{}, notFound(err, "run", id, "see the runs with: tessellant run list")
	}
	return s.view(ctx, r, nil)
}

// RunChoice says which runs are wanted: references or ids, a verdict; empty fields: any.
type RunChoice struct {
	Build, Package string
	Verdict        verdict.Verdict
}

// Runs lists runs, the newest first.
func (s *Service) Runs(ctx context.Context, who Identity, c RunChoice, after string, limit int) ([]RunView, string, error) {
	choice := store.RunChoice{Verdict: c.Verdict}
	if c.Build != "" {
		b, err := s.Build(ctx, who, c.Build)
		if err != nil {
			return nil, "", err
		}
		choice.BuildID = b.ID
	}
	if c.Package != "" {
		p, err := s.Package(ctx, who, c.Package)
		if err != nil {
			return nil, "", err
		}
		choice.PackageID = p.ID
	}
	if err := checkAfter(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.Runs(ctx, who.WorkspaceID, choice, after, limit+1)
	rows, next, err := page(rows, limit, err, func(r store.Run) string { return r.ID })
	if err != nil {
		return nil, "", err
	}
	views, err := s.tallied(ctx, rows)
	return views, next, err
}

// DeviceView is a device, and the hold on it where it is this workspace's.
type DeviceView struct {
	store.Device
	Hold *store.Hold
}

// Device finds a device by its serial.
func (s *Service) Device(ctx context.Context, who Identity, serial string) (v DeviceView, err error) {
	if v.Device, err = s.Store.DeviceBySerial(ctx, serial); err != nil {
		return v, notFound(err, "device", serial, "see the devices with: tessellant device list")
	}
	h, err := s.Store.HoldOfDevice(ctx, v.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return v, err
	case h.WorkspaceID == who.WorkspaceID:
		v.Hold = &h
	}
	return v, nil
}

// QuarantineDevice keeps a device from getting work until a person releases it. Work in hand goes on.
func (s *Service) QuarantineDevice(ctx context.Context, who Identity, serial, why string) (DeviceView, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	if why = strings.TrimSpace(why); why == "" || len(why) > 500 {
		return d, fail(Invalid, "quarantine the device", "say in up to 500 characters what is wrong with it, for those who wonder", "no reason was given, or a long one")
	}
	if err := s.Store.Quarantine(ctx, d.ID, "hand", why); err != nil {
		return d, err
	}
	s.Log.Info("a device is in quarantine", "device", serial, "why", why)
	s.Feed.devicesChanged()
	return s.Device(ctx, who, serial)
}

// ReleaseDevice lets a device in quarantine have work again.
func (s *Service) ReleaseDevice(ctx context.Context, who Identity, serial string) (DeviceView, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	ok, err := s.Store.Release(ctx, d.ID, "hand", 0)
	if err != nil {
		return d, err
	}
	if !ok {
		return d, fail(Refused, "release the device", "see how it stands with: tessellant device show "+serial, "it is not in quarantine")
	}
	s.Log.Info("a device is out of quarantine: released by hand", "device", serial)
	s.Feed.devicesChanged()
	s.Bus.Publish(bus.Work, nil)
	return s.Device(ctx, who, serial)
}

// FreeDevice ends the work on a device, whatever its state: the leg, or the session, is stopped at once, and its host
// hears of it when it next renews its hold. What had been handed in is kept.
func (s *Service) FreeDevice(ctx context.Context, who Identity, serial string) (DeviceView, error) {
	const title = "free the device"
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	if d.Hold == nil {
		if d.Held {
			return d, fail(Refused, title, "ask somebody of that workspace", "the work on it is another workspace's")
		}
		return d, fail(Refused, title, "see how it stands with: tessellant device show "+serial, "nothing is at work on it")
	}
	h := *d.Hold
	if err := s.assemble(ctx, h); err != nil {
		s.logOf(h).Warn("what was handed in of an attempt could not be put together", "err", err)
	}
	if err := s.closeHold(ctx, h, store.Closing{Verdict: verdict.Stopped, Message: "a person freed its device", How: "stopped"}); err != nil {
		return d, err
	}
	s.Log.Info("a device was freed by hand", "device", serial, "leg", h.LegID)
	if name, err := s.Store.HostName(ctx, h.HostID); err == nil {
		s.Bus.Publish(bus.Host(name), nil)
	}
	return s.Device(ctx, who, serial)
}

// DeviceLegs lists the workspace's legs on a device, the newest first.
func (s *Service) DeviceLegs(ctx context.Context, who Identity, serial, after string, limit int) ([]LegView, string, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return nil, "", err
	}
	if err := checkAfter(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.DeviceLegs(ctx, who.WorkspaceID, d.ID, after, limit+1)
	rows, next, err := page(rows, limit, err, func(l store.LegRow) string { return l.ID })
	if err != nil {
		return nil, "", err
	}
	views, err := s.legViews(ctx, rows)
	return views, next, err
}

// LegDetail is a leg with all that is known of it.
type LegDetail struct {
	store.Leg
	Run      store.Run
	Session  *SessionView // where it is one, and no run's
	Device   store.Device // without a serial: there is none yet
	Place    int          // of one that waits: in the queue for its device, from 1
	Attempts []AttemptDetail
}

// AttemptDetail is an attempt with its cases and artifacts.
type AttemptDetail struct {
	store.Attempt
	Cases     []store.Case
	Artifacts []store.Artifact
}

// Leg finds a leg by its id, or by its run and device: newest/orr-01. A session's id gives what was gathered of it.
func (s *Service) Leg(ctx context.Context, who Identity, id string) (l LegDetail, err error) {
	if run, serial, ok := strings.Cut(id, "/"); ok {
		v, err := s.Run(ctx, who, run)
		if err != nil {
			return l, err
		}
		for _, leg := range v.Legs {
			if leg.Serial == serial {
				id = leg.ID
			}
		}
	}
	if l.Leg, err = s.Store.LegByID(ctx, who.WorkspaceID, id); err != nil {
		return l, notFound(err, "leg", id, "see the legs of a run with: tessellant run show RUN")
	}
	if l.Kind() == store.KindSession {
		x, err := s.Session(ctx, who, id)
		if err != nil {
			return l, err
		}
		l.Session = &x
		l.Place = x.Place
	} else if l.Run, err = s.Store.RunByID(ctx, who.WorkspaceID, l.RunID); err != nil {
		return l, err
	}
	if l.DeviceID != "" {
		if l.Device, err = s.Store.DeviceByID(ctx, l.DeviceID); err != nil {
			return l, err
		}
	}
	if l.Stage == "waiting" && l.Session == nil {
		if l.Place, err = s.Store.Place(ctx, l.Leg); err != nil {
			return l, err
		}
	}
	attempts, err := s.Store.Attempts(ctx, id)
	if err != nil {
		return l, err
	}
	for _, a := range attempts {
		d := AttemptDetail{Attempt: a}
		if d.Cases, err = s.Store.Cases(ctx, a.ID); err != nil {
			return l, err
		}
		if d.Artifacts, err = s.Store.Artifacts(ctx, a.ID); err != nil {
			return l, err
		}
		l.Attempts = append(l.Attempts, d)
		if l.Stage == "done" && l.CasesTotal < len(d.Cases) { // of a program or a session: those that were seen
			l.CasesTotal = len(d.Cases)
		}
	}
	return l, nil
}

// Artifact finds an artifact; Open reads it.
func (s *Service) Artifact(ctx context.Context, who Identity, id string) (store.Artifact, error) {
	a, err := s.Store.ArtifactByID(ctx, who.WorkspaceID, id)
	return a, notFound(err, "artifact", id, "see the artifacts of a leg with: tessellant leg show LEG")
}

// Open reads length bytes of an artifact from offset on; length -1: to its end.
func (s *Service) Open(ctx context.Context, a store.Artifact, offset, length int64) (io.ReadCloser, error) {
	return s.Blobs.Read(ctx, a.BlobKey, offset, length)
}
