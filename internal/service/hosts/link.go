package hosts

// The service as hosts meet it: what they are told to do, and what they tell.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// link is the service as hosts in the same process see it.
type link struct {
	*Hosts
	mu  sync.Mutex
	ids map[string]knownHost // by its name

	told map[string]string // host's id → what it said of itself

}

// HostLink gives the service as a host sees it.
func (s *Hosts) HostLink() hostlink.Link { return s.hostLink() }

func (s *Hosts) hostLink() *link {
	s.linked.Do(func() {
		s.links = &link{Hosts: s, ids: map[string]knownHost{}, told: map[string]string{}}
	})
	return s.links
}

// knownHost is a host's id, and when the database said so.
type knownHost struct {
	id string
	at time.Time
}

// hostTrust is how long a host's id is taken for true: one that was removed and joined again, by whichever process, has another.
const hostTrust = 5 * time.Second

func (l *link) hostID(ctx context.Context, name string) (string, error) {
	l.mu.Lock()
	known := l.ids[name]
	l.mu.Unlock()
	if known.id != "" && time.Since(known.at) < hostTrust {
		return known.id, nil
	}
	id, err := l.Store.SeeHost(ctx, name)
	if err == nil {
		l.mu.Lock()
		l.ids[name] = knownHost{id, time.Now()}
		l.mu.Unlock()
	}
	return id, err
}

// forget forgets what is known of a host.
func (l *link) forget(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.told, l.ids[name].id)
	delete(l.ids, name)
}

// Devices implements hostlink.Link.
func (l *link) Devices(ctx context.Context, name string, about hostlink.About, seen []hostlink.Seen) ([]string, error) {
	id, err := l.Store.SeeHost(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := l.tellAbout(ctx, id, about); err != nil {
		return nil, err
	}
	var still []string
	var told []store.Sighting
	var checked []bool
	for _, d := range seen {
		if len(d.Facts.Serial) > maxSerial || d.Facts.Serial != foreign.Name(d.Facts.Serial, maxSerial) {
			l.Log.Warn("a device has a serial that can't be kept, and is passed over", "host", name, "serial", foreign.Name(d.Facts.Serial, maxSerial))
			continue
		}
		told = append(told, store.Sighting{HostID: id, Host: name, Lab: foreign.Name(cmp.Or(d.Lab, firstLab), maxLab), Facts: fitted(d.Facts), State: d.State, Why: foreign.Fit(d.Why, maxWhyNot)})
		checked = append(checked, d.Checked && d.State == devices.Ready)
	}
	ids, err := l.Store.SeeDevices(ctx, id, told)
	if err != nil {
		return nil, err
	}
	resting, err := l.Store.Resting(ctx, id)
	if err != nil {
		return nil, err
	}
	for i, one := range ids {
		if one == "" { // it is told again in a moment
			continue
		}
		still = append(still, one)
		if checked[i] && resting[one] {
			if err := l.released(ctx, one); err != nil {
				return nil, err
			}
		}
	}
	if err := l.Store.DevicesGone(ctx, id, still); err != nil {
		return nil, err
	}
	l.Orders.Dispatch()
	l.Feed.DevicesChanged()
	return l.Store.ToBeChecked(ctx, id, l.quarantineLasts())
}

// tellAbout keeps what a host says of itself, when it has changed.
func (l *link) tellAbout(ctx context.Context, id string, about hostlink.About) error {
	about.Isolation, about.Why = foreign.Name(about.Isolation, maxFact), foreign.Fit(about.Why, maxWhyNot)
	if len(about.Runtimes) > 100 {
		about.Runtimes = nil
	}
	about.Certificate = certificate(about.Certificate)
	about.Labs = fittedLabs(about.Labs)
	said := fmt.Sprint(about)
	l.mu.Lock()
	same := l.told[id] == said
	l.mu.Unlock()
	if same {
		return nil
	}
	if err := l.Store.TellHost(ctx, id, store.HostAbout(about)); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.told[id] = said
	return nil
}

// firstLab is the lab of devices that hosts told of before labs had names.
const firstLab = "adb"

// released lets a device have work again that has passed its check.
func (l *link) released(ctx context.Context, device string) error {
	ok, err := l.Store.Release(ctx, device, "itself", l.quarantineLasts())
	if ok {
		l.Log.Info("a device is out of quarantine: it passed its check", "device", device)
	}
	return err
}

// Holds implements hostlink.Link.
func (l *link) Holds(ctx context.Context, name string, inHand []string) ([]hostlink.Hold, error) {
	id, err := l.hostID(ctx, name)
	if err != nil {
		return nil, err
	}
	rows, err := l.Store.ActiveHolds(ctx, id)
	if err != nil {
		return nil, err
	}
	var out []hostlink.Hold
	for _, h := range rows {
		if slices.Contains(inHand, h.ID) {
			out = append(out, hostlink.Hold{ID: h.ID, Stop: h.Stop})
			continue
		}
		full, err := l.fullHold(ctx, h)
		if errors.Is(err, specs.ErrLost) { // the others' work goes on
			if err := l.Dispatcher.CloseHold(ctx, h, store.Closing{Verdict: verdict.Invalid, Message: err.Error()}); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, full)
	}
	return out, nil
}

// fullHold is a hold with all that its host needs.
func (l *link) fullHold(ctx context.Context, h store.Hold) (out hostlink.Hold, err error) {
	out = hostlink.Hold{ID: h.ID, AttemptID: h.AttemptID, WorkspaceID: h.WorkspaceID, WorkID: h.WorkID, RunID: h.RunID, Kind: h.Kind, Epoch: h.Epoch, Stop: h.Stop, Begun: h.Begun}
	if out.Spec, err = l.Specs.Of(ctx, h.WorkspaceID, h.WorkID); err != nil {
		return out, err
	}
	d, err := l.Store.DeviceByID(ctx, h.DeviceID)
	if err != nil {
		return out, err
	}
	out.Lab, out.Serial = d.Lab, d.Unit
	if len(out.Spec.Secrets) > 0 {
		if out.Secrets, err = l.Specs.Secrets.Of(ctx, h.RunID); err != nil {
			return out, err
		}
	}
	allowed, err := l.Store.Allowances(ctx, h.WorkspaceID)
	out.Network, out.OtherApps = allowed.ProgramNetwork && out.Spec.Content.Kind == work.Programs, allowed.OtherApps
	return out, err
}

// Renew implements hostlink.Link.
func (l *link) Renew(ctx context.Context, name string, holds []string) ([]string, error) {
	id, err := l.hostID(ctx, name)
	if err != nil {
		return nil, err
	}
	return l.Store.Renew(ctx, id, holds, hostlink.HoldPeriod)
}

// Report implements hostlink.Link.
func (l *link) Report(ctx context.Context, hold hostlink.Hold, ps []hostlink.Progress) error {
	var qs []store.Progress
	for _, p := range ps {
		q := store.Progress{Seq: p.Seq, Stage: p.Stage, Cases: p.Cases, Loan: fittedLoan(p.Loan)}
		if p.Stage != "" && !slices.Contains(stages, p.Stage) {
			return fmt.Errorf("%w: there is no stage %.50q", hostlink.ErrUnfit, p.Stage)
		}
		if c := p.Case; c != nil {
			q.Case = &store.Case{Ordinal: c.Ordinal, Name: c.Name, Verdict: c.Verdict, Message: c.Message, Line: c.Line, Expected: c.Expected, Actual: c.Actual,
				Trace: c.Trace, Shot: c.Shot, Tree: c.Tree, StartMS: c.StartMS, TookMS: c.TookMS}
			for _, t := range c.Tries[:min(len(c.Tries), maxTries)] {
				one := store.Case{Verdict: t.Verdict, Message: t.Message, Line: t.Line, Expected: t.Expected, Actual: t.Actual, Trace: t.Trace, Shot: t.Shot, Tree: t.Tree}
				if err := fit(&one); err != nil {
					return err
				}
				t.Message, t.Line, t.Expected, t.Actual, t.Trace, t.Shot, t.Tree = one.Message, one.Line, one.Expected, one.Actual, one.Trace, one.Shot, one.Tree
				q.Case.Tries.V = append(q.Case.Tries.V, store.Try(t))
			}
			if err := fit(q.Case); err != nil {
				return err
			}
		}
		qs = append(qs, q)
	}
	if _, err := l.own(ctx, hold); err != nil {
		return err
	}
	h, err := l.Store.Note(ctx, hold.ID, qs)
	if err == nil && h.ID != "" {
		l.Feed.WorkChanged(h.Kind, h.WorkspaceID, h.RunID, h.WorkID)
	}
	return unfit(err)
}

// Live implements hostlink.Link.
func (l *link) Live(_ context.Context, h hostlink.Hold, now hostlink.Now) error {
	l.Feed.Live(h, now)
	return nil
}

// own gives the hold as the database knows it; what a host says of it counts for nothing.
func (l *link) own(ctx context.Context, hold hostlink.Hold) (store.Hold, error) {
	h, err := l.Store.HoldByID(ctx, hold.ID)
	if errors.Is(err, store.ErrNotFound) {
		return h, hostlink.ErrOver
	}
	return h, err
}

// Release implements hostlink.Link.
func (l *link) Release(ctx context.Context, hold hostlink.Hold, r hostlink.Release) error {
	if _, err := l.own(ctx, hold); err != nil {
		return err
	}
	notClean := ""
	if !r.Clean {
		notClean = foreign.Fit("it could not be put back as it was after a test: "+r.Why, maxWhyNot)
	}
	h, ok, err := l.Store.ReleaseHold(ctx, hold.ID, notClean)
	if ok {
		orders.Log(l.Log, h).Info("the device is released", "clean", r.Clean)
		l.Orders.Dispatch()
		l.Feed.DevicesChanged()
	}
	return err
}

// Close implements hostlink.Link.
func (l *link) Close(ctx context.Context, hold hostlink.Hold, c hostlink.Closing) error {
	h, err := l.own(ctx, hold)
	if err != nil {
		return err
	}
	if c.Verdict == verdict.Lost { // the host may have lost what it had gathered, too
		if err := l.Evidence.Assemble(ctx, h); err != nil {
			return err
		}
	}
	if !c.Verdict.Known() {
		c.Message = fmt.Sprintf("the host reported the unknown verdict %.50q: %s", c.Verdict, c.Message)
		c.Verdict = verdict.Lost
	}
	if c.Marked != "" && !c.Marked.Known() {
		c.Marked = ""
	}
	c.Message, c.MarkedMessage, c.How = foreign.Fit(c.Message, verdict.MaxMessage), foreign.Fit(c.MarkedMessage, verdict.MaxMessage), foreign.Name(c.How, 16)
	return unfit(l.Dispatcher.CloseHold(ctx, h, store.Closing{Verdict: c.Verdict, Message: c.Message, ClockDoubtMS: c.ClockDoubtMS, OurFault: c.OurFault, How: c.How, Marked: c.Marked, MarkedMessage: c.MarkedMessage}))
}

// Fetch implements hostlink.Link.
func (l *link) Fetch(ctx context.Context, hold hostlink.Hold, what hostlink.Content) (io.ReadCloser, error) {
	h, err := l.own(ctx, hold)
	if err != nil {
		return nil, err
	}
	spec, err := l.Specs.Of(ctx, h.WorkspaceID, h.WorkID)
	if err != nil {
		return nil, err
	}
	switch {
	case what == hostlink.Package && spec.Content.Package != "":
		return l.Content.ReadPackage(ctx, h.WorkspaceID, spec.Content.Package)
	case what == hostlink.References && spec.Content.Package != "" && spec.App.Build != "":
		return l.ReferencesOf(ctx, h, spec.App.Build, spec.Content.Package)
	case what == hostlink.Build && spec.App.Build != "":
		return l.Content.ReadBuild(ctx, h.WorkspaceID, spec.App.Build)
	}
	return nil, fmt.Errorf("%w: the %s has no %s", hostlink.ErrOver, h.Kind, what)
}

// FetchBuild implements hostlink.Link.
func (l *link) FetchBuild(ctx context.Context, hold hostlink.Hold, ref string) (io.ReadCloser, error) {
	h, err := l.own(ctx, hold)
	if err != nil {
		return nil, err
	}
	if h.Ended.Valid {
		return nil, hostlink.ErrOver
	}
	b, err := l.Content.Build(ctx, store.Identity{WorkspaceID: h.WorkspaceID}, ref)
	if err != nil {
		return nil, err
	}
	return l.Content.ReadBuild(ctx, h.WorkspaceID, b.ID)
}

// Append implements hostlink.Link.
func (l *link) Append(ctx context.Context, hold hostlink.Hold, a hostlink.Artifact, offset int64, part []byte) error {
	h, err := l.own(ctx, hold)
	if err != nil {
		return err
	}
	return l.Evidence.Append(ctx, h, a, offset, part)
}

// Keep implements hostlink.Link.
func (l *link) Keep(ctx context.Context, hold hostlink.Hold, a hostlink.Artifact, r io.Reader) error {
	h, err := l.own(ctx, hold)
	if err != nil {
		return err
	}
	return l.Evidence.Keep(ctx, h, a, r)
}

// Serve implements hostlink.Link.
func (l *link) Serve(name string, answer hostlink.Answerer) (func(), error) {
	return l.Orders.Serve(name, answer)
}

// Stream implements hostlink.Link.
func (l *link) Stream(host, id string) (hostlink.Stream, error) { return l.Orders.TakeUp(host, id) }

// Wake implements hostlink.Link.
func (l *link) Wake(name string) (<-chan []byte, func()) { return l.Orders.Woken(name) }
