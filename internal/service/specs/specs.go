// Package specs makes what is to be done, once, when work is planned. Work that was written before there were specs gets its own when it is first asked for.
package specs

import (
	"context"
	"errors"
	"slices"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/routes"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/work"
	"tessellant/internal/service/secrets"
	"tessellant/internal/store"
)

// Specs is that room.
type Specs struct {
	Store   *store.Store
	Secrets *secrets.Secrets // opens what hosts are given besides
}

// ErrLost says that secrets of a piece of work can't be opened any more.
var ErrLost = secrets.ErrLost

// app is a build as the app under test.
func app(b store.Build) work.App {
	return work.App{Build: b.ID, Ref: b.Ref(), ID: b.AppID, Activity: b.Facts.V.Activity, Page: b.Facts.V.Page, Size: b.Size, SHA256: b.SHA256}
}

// Run is what each leg of a run is to do, but for its cases and its conditions.
func Run(b store.Build, p store.Package, q store.RunRequest, limitSeconds int, beside []store.Build) work.Spec {
	s := work.Spec{App: app(b), Content: work.Content{Kind: p.Kind, Package: p.ID, Ref: p.Ref(), SHA256: p.SHA256}, Secrets: q.Secrets,
		Recording: q.Kept(), Limits: work.Limits{Whole: work.Seconds(limitSeconds), Confirm: q.Confirm, Attempts: q.MaxAttempts()}}
	for _, x := range beside {
		s.Beside = append(s.Beside, app(x))
	}
	s.Put, s.Fetch, s.Remarks = q.Put, q.Fetch, q.Remarks
	s.Helpers = q.Helpers
	all, _ := routes.ParseAll(q.Routes) // they were checked when the run was planned
	for _, r := range all {
		s.Routes = append(s.Routes, r.At())
	}
	s.Bounds, _ = gauges.ParseBounds(q.Bounds)
	for _, in := range p.Inputs.V {
		v, given := q.Inputs[in.Name]
		if !given && in.Default != nil {
			v, given = *in.Default, true
		}
		if given && !slices.Contains(q.Secrets, in.Name) {
			if s.Inputs == nil {
				s.Inputs = map[string]string{}
			}
			s.Inputs[in.Name] = v
		}
	}
	return s
}

// Session is what a session wants.
func Session(q store.SessionRequest, b *store.Build) work.Spec {
	s := work.Spec{Content: work.Content{Kind: work.Commands, Capabilities: q.Standard}, Conditions: q.Set(), Helpers: q.Helpers,
		Recording: q.Recording, Limits: work.Limits{Whole: work.Seconds(q.Limit), Idle: work.Seconds(q.Idle), Attempts: 1}}
	if b != nil {
		s.App = app(*b)
	}
	return s
}

// Hands is what a person who holds a device wants.
func Hands(q store.SessionRequest, b *store.Build) work.Spec {
	s := Session(q, b)
	s.Content.Kind, s.Limits.Idle = work.Hands, s.Limits.Whole // a person may be silent
	return s
}

// Of gives what a piece of work is to do.
func (s *Specs) Of(ctx context.Context, workspace, id string) (work.Spec, error) {
	spec, err := s.Store.Spec(ctx, id)
	if !errors.Is(err, store.ErrNotFound) {
		return spec, err
	}
	w, err := s.Store.WorkByID(ctx, workspace, id)
	if err != nil {
		return spec, err
	}
	if spec, err = s.old(ctx, w); err != nil {
		return spec, err
	}
	return spec, s.Store.SetSpec(ctx, id, spec)
}

// old makes the spec of work that was written before there were any.
func (s *Specs) old(ctx context.Context, w store.Work) (spec work.Spec, err error) {
	if w.Kind == work.Session {
		x, err := s.Store.SessionByID(ctx, w.WorkspaceID, w.ID)
		if err != nil {
			return spec, err
		}
		if !x.BuildID.Valid {
			return Session(x.Request.V, nil), nil
		}
		b, err := s.Store.BuildByID(ctx, w.WorkspaceID, x.BuildID.String)
		return Session(x.Request.V, &b), err
	}
	run, err := s.Store.RunByID(ctx, w.WorkspaceID, w.RunID)
	if err != nil {
		return spec, err
	}
	b, err := s.Store.BuildByID(ctx, w.WorkspaceID, run.BuildID)
	if err != nil {
		return spec, err
	}
	p, err := s.Store.PackageByID(ctx, w.WorkspaceID, run.PackageID)
	if err != nil {
		return spec, err
	}
	spec = Run(b, p, run.Request.V, run.LimitSeconds, nil)
	cases, err := testpkg.Choose(p.Cases.V, run.Request.V.Cases, run.Request.V.Tags)
	for _, c := range cases {
		spec.Cases = append(spec.Cases, c.Name)
	}
	return spec, err
}

// CasesOfRun gives the names of the cases that a run's legs were planned with, in their order, and the kind of its content. Of is the cases of a leg by
// its spec's hash, where not all have the same.
func (s *Specs) CasesOfRun(ctx context.Context, r store.Run) (names []string, kind string, of map[string][]string, err error) {
	specs, hashed, missing, err := s.Store.SpecsOfRun(ctx, r.ID)
	if err == nil && missing != "" {
		var spec work.Spec
		spec, err = s.Of(ctx, r.WorkspaceID, missing)
		specs, hashed = append(specs, spec), append(hashed, "")
	}
	if err != nil || len(specs) == 0 {
		return nil, "", nil, err
	}
	all := map[string][]string{}
	alike := true
	for i, x := range specs {
		all[hashed[i]] = x.Cases
		alike = alike && slices.Equal(x.Cases, specs[0].Cases)
	}
	if alike {
		return specs[0].Cases, specs[0].Content.Kind, nil, nil
	}
	// Their order is the package's.
	p, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return nil, "", nil, err
	}
	known := map[string]bool{}
	for _, x := range specs {
		for _, n := range x.Cases {
			known[n] = true
		}
	}
	for _, c := range p.Cases.V {
		if known[c.Name] {
			names = append(names, c.Name)
		}
	}
	return names, specs[0].Content.Kind, all, nil
}
