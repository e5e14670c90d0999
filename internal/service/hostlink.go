package service

import (
	"context"
	"errors"
	"io"
	"sync"

	"tessellant/internal/host"
	"tessellant/internal/store"
)

// builtIn is the name of the host that runs inside the service.
const builtIn = "built-in"

// BuiltIn is the name under which a host in the same process is known.
const BuiltIn = builtIn

// link is the service as hosts in the same process see it.
type link struct {
	*Service
	mu  sync.Mutex
	ids map[string]string // host's name → id
}

// HostLink gives the service as a host sees it.
func (s *Service) HostLink() host.Link { return &link{Service: s, ids: map[string]string{}} }

func (l *link) hostID(ctx context.Context, name string) (string, error) {
	l.mu.Lock()
	id := l.ids[name]
	l.mu.Unlock()
	if id != "" {
		return id, nil
	}
	id, err := l.Store.SeeHost(ctx, name)
	if err == nil {
		l.mu.Lock()
		l.ids[name] = id
		l.mu.Unlock()
	}
	return id, err
}

// Devices implements host.Link.
func (l *link) Devices(ctx context.Context, name string, seen []host.Seen) error {
	id, err := l.hostID(ctx, name)
	if err != nil {
		return err
	}
	var still []string
	for _, d := range seen {
		if err := l.Store.SeeDevice(ctx, id, d.Facts, d.State, d.Why); err != nil {
			return err
		}
		still = append(still, d.Facts.Serial)
	}
	if err := l.Store.DevicesGone(ctx, id, still); err != nil {
		return err
	}
	l.Bus.Publish(topicWork, nil)
	l.Feed.devicesChanged()
	return nil
}

// Holds implements host.Link.
func (l *link) Holds(ctx context.Context, name string) ([]host.Hold, error) {
	id, err := l.hostID(ctx, name)
	if err != nil {
		return nil, err
	}
	rows, err := l.Store.ActiveHolds(ctx, id)
	if err != nil {
		return nil, err
	}
	var out []host.Hold
	for _, h := range rows {
		full, err := l.fullHold(ctx, h)
		if err != nil {
			return nil, err
		}
		out = append(out, full)
	}
	return out, nil
}

func (l *link) fullHold(ctx context.Context, h store.Hold) (host.Hold, error) {
	run, err := l.Store.RunByID(ctx, h.WorkspaceID, h.RunID)
	if err != nil {
		return host.Hold{}, err
	}
	build, err := l.Store.BuildByID(ctx, h.WorkspaceID, run.BuildID)
	if err != nil {
		return host.Hold{}, err
	}
	pkg, err := l.Store.PackageByID(ctx, h.WorkspaceID, run.PackageID)
	if err != nil {
		return host.Hold{}, err
	}
	d, err := l.Store.DeviceByID(ctx, h.DeviceID)
	if err != nil {
		return host.Hold{}, err
	}
	return host.Hold{ID: h.ID, RunID: h.RunID, LegID: h.LegID, AttemptID: h.AttemptID, WorkspaceID: h.WorkspaceID, Serial: d.Serial,
		AppID: build.AppID, Activity: build.Facts.V.Activity, BuildKey: build.BlobKey, BuildSize: build.Size, BuildSHA: build.SHA256,
		PackageKey: pkg.BlobKey, PackageSize: pkg.Size, LimitSeconds: run.LimitSeconds}, nil
}

// Renew implements host.Link.
func (l *link) Renew(ctx context.Context, name string, holds []string) ([]string, error) {
	id, err := l.hostID(ctx, name)
	if err != nil {
		return nil, err
	}
	return l.Store.Renew(ctx, id, holds, host.HoldPeriod)
}

// Report implements host.Link.
func (l *link) Report(ctx context.Context, hold string, p host.Progress) error {
	q := store.Progress{Seq: p.Seq, Stage: p.Stage}
	if c := p.Case; c != nil {
		q.Case = &store.Case{Ordinal: c.Ordinal, Name: c.Name, Verdict: c.Verdict, Message: c.Message, Line: c.Line, Expected: c.Expected, Actual: c.Actual,
			Trace: c.Trace, Shot: c.Shot, Tree: c.Tree, StartMS: c.StartMS, TookMS: c.TookMS}
	}
	h, err := l.Store.Note(ctx, hold, q)
	if err == nil && h.ID != "" {
		l.Feed.runChanged(h.WorkspaceID, h.RunID, h.LegID)
	}
	return err
}

// Live implements host.Link.
func (l *link) Live(_ context.Context, h host.Hold, now host.Live) error {
	l.Feed.live(h, now)
	return nil
}

// Keep implements host.Link.
func (l *link) Keep(ctx context.Context, h host.Hold, a host.Artifact, r io.Reader) error {
	key := h.WorkspaceID + "/attempts/" + h.AttemptID + "/" + a.Name
	size, sha, err := l.Blobs.Put(ctx, key, r)
	if err != nil {
		return err
	}
	return l.Store.PutArtifact(ctx, store.Artifact{ID: store.NewID(), WorkspaceID: h.WorkspaceID, AttemptID: h.AttemptID, Name: a.Name, Kind: a.Kind,
		ContentType: a.ContentType, Size: size, SHA256: sha, BlobKey: key})
}

// Close implements host.Link.
func (l *link) Close(ctx context.Context, hold string, c host.Closing) error {
	h, err := l.Store.HoldByID(ctx, hold)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return l.closeHold(ctx, hold, h.LegID, store.Closing{Verdict: c.Verdict, Message: c.Message, ClockDoubtMS: c.ClockDoubtMS})
}

// Fetch implements host.Link.
func (l *link) Fetch(ctx context.Context, key string) (io.ReadCloser, error) {
	return l.Blobs.Read(ctx, key, 0, -1)
}

// Wake implements host.Link.
func (l *link) Wake(name string) (<-chan []byte, func()) { return l.Bus.Subscribe(topicHost(name)) }
