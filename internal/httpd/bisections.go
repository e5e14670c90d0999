package httpd

// The first bad build, found by itself.

import (
	"cmp"
	"context"

	"tessellant/api"
	"tessellant/internal/core/appfile"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func (s *server) StartBisection(ctx context.Context, q api.StartBisectionRequestObject) (api.StartBisectionResponseObject, error) {
	b := q.Body
	r := service.BisectionRequest{Run: text(b.Run), Family: text(b.Family), Good: text(b.Good), Bad: text(b.Bad), Package: text(b.Package), Case: text(b.Case), Device: text(b.Device), Inputs: mapped(b.Inputs), Secrets: mapped(b.Secrets)}
	var err error
	if r.Conditions, err = conditionsIn(b.Conditions); err != nil {
		return nil, err
	}
	if b.LimitSeconds != nil {
		r.LimitSeconds = cmp.Or(*b.LimitSeconds, -1) // said, and makes no sense
	}
	v, err := s.s.StartBisection(ctx, identity(ctx), r)
	if err != nil {
		return nil, err
	}
	return api.StartBisection201JSONResponse(bisectionOut(v)), nil
}

func (s *server) ListBisections(ctx context.Context, q api.ListBisectionsRequestObject) (api.ListBisectionsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.ListBisections(ctx, identity(ctx), text(q.Params.After), limit)
	return api.ListBisections200JSONResponse{Items: each(rows, bisectionOut), Next: some(next)}, err
}

func (s *server) GetBisection(ctx context.Context, q api.GetBisectionRequestObject) (api.GetBisectionResponseObject, error) {
	v, err := s.s.Bisection(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return api.GetBisection200JSONResponse(bisectionOut(v)), nil
}

func (s *server) StopBisection(ctx context.Context, q api.StopBisectionRequestObject) (api.StopBisectionResponseObject, error) {
	v, err := s.s.StopBisection(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return api.StopBisection200JSONResponse(bisectionOut(v)), nil
}

func bisectionOut(v service.Bisection) api.Bisection {
	name := func(b store.Build) api.BuildName {
		return api.BuildName{Id: b.ID, Ref: b.Ref(), Version: cmp.Or(b.VersionName, b.Ref())}
	}
	r := v.Request.V
	o := api.Bisection{Id: v.ID, State: api.BisectionState(v.State), Sentence: v.Sentence(), Why: some(v.Why), Package: r.PackageRef, Case: r.Case, Device: r.Device, Variant: some(r.Variant), Builds: each(v.Builds, name),
		Probes: each(v.Probes.V, func(p store.Probe) api.Probe {
			return api.Probe{Build: p.Build, Run: p.RunID, Number: p.Number, Verdict: api.Verdict(p.Verdict), Says: api.ProbeSays(p.Says), Message: some(p.Message), DeviceSeconds: float64(p.DeviceMS) / 1000}
		}),
		Unsure: v.Unsure, DeviceSeconds: float64(v.DeviceMS) / 1000, Created: v.Created, StartedBy: v.StartedBy, Run: some(v.RunID),
		Changes: each(v.Changes, func(c appfile.Change) api.FactChange {
			return api.FactChange{What: c.What, Before: c.Before, Now: c.Now}
		})}
	if v.Probing.Valid {
		n := int(v.Probing.Int64)
		o.Probing = &n
	}
	if v.Ended.Valid {
		o.Ended = &v.Ended.Time
	}
	if v.State == store.BisectFound || v.State == store.BisectUnsure {
		good, bad := name(v.Builds[v.LastGood]), name(v.Builds[v.FirstBad])
		o.LastGood, o.FirstBad = &good, &bad
	}
	return o
}
