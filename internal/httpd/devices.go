package httpd

// Devices: what they are, the care for them, their checks.

import (
	"context"
	"time"

	"tessellant/api"
	"tessellant/internal/checkup"
	"tessellant/internal/core/conditions"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

func (s *server) ListDevices(ctx context.Context, q api.ListDevicesRequestObject) (api.ListDevicesResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	var where []string
	if q.Params.Where != nil {
		where = *q.Params.Where
	}
	who := identity(ctx)
	rows, next, err := s.s.Devices(ctx, who, where, text(q.Params.After), limit)
	if err != nil {
		return nil, err
	}
	o := api.ListDevices200JSONResponse{Items: []api.Device{}, Next: some(next)}
	fit := func(store.Device) service.Fit { return service.Fit{} }
	if q.Params.Build != nil || q.Params.Package != nil {
		if fit, err = s.s.FitOf(ctx, who, text(q.Params.Build), text(q.Params.Package)); err != nil {
			return nil, err
		}
	}
	for _, d := range rows {
		x := deviceOut(d)
		if q.Params.Build != nil {
			f := fitOut(fit(d))
			x.Fit = &f
		}
		o.Items = append(o.Items, x)
	}
	return o, nil
}

func (s *server) ListLoads(ctx context.Context, _ api.ListLoadsRequestObject) (api.ListLoadsResponseObject, error) {
	loads, err := s.s.Loads(ctx)
	return api.ListLoads200JSONResponse{Items: each(loads, func(l service.DeviceLoad) api.Load {
		o := api.Load{Serial: l.Serial, Waiting: l.Waiting}
		if l.Since.Valid {
			o.Since, o.Ends = &l.Since.Time, &l.Ends.Time
		}
		if l.WorkID != "" && l.Workspace == identity(ctx).WorkspaceID {
			o.HeldBy = &api.Holder{Run: l.RunID, Leg: l.WorkID, ByHand: someTrue(l.ByHand), Since: l.Since.Time, Until: l.Ends.Time}
		}
		return o
	})}, err
}

func (s *server) GetFit(ctx context.Context, q api.GetFitRequestObject) (api.GetFitResponseObject, error) {
	r := service.RunRequest{Build: q.Params.Build, Package: text(q.Params.Package)}
	if c := text(q.Params.Conditions); c != "" {
		var err error
		if r.Conditions, err = conditions.Parse(c); err != nil {
			return nil, refuse.New(refuse.Invalid, "say what can run there", "such as language:de,dark", "%v", err)
		}
	}
	f, err := s.s.Fit(ctx, identity(ctx), q.Serial, r)
	return api.GetFit200JSONResponse(fitOut(f)), err
}

func fitOut(f service.Fit) api.Fit {
	o := api.Fit{Fits: api.Yes, Findings: findings(refuse.PlanFindings(f.Findings))}
	switch {
	case f.No:
		o.Fits = api.No
	case len(f.Findings) > 0:
		o.Fits = api.Warned
	}
	return o
}

func (s *server) LabelDevice(ctx context.Context, q api.LabelDeviceRequestObject) (api.LabelDeviceResponseObject, error) {
	d, err := s.s.LabelDevice(ctx, identity(ctx), q.Serial, mapped(q.Body.Set), listed(q.Body.Remove))
	return api.LabelDevice200JSONResponse(deviceView(d)), err
}

func (s *server) GetDevice(ctx context.Context, q api.GetDeviceRequestObject) (api.GetDeviceResponseObject, error) {
	d, err := s.s.Device(ctx, identity(ctx), q.Serial)
	return api.GetDevice200JSONResponse(deviceView(d)), err
}

func deviceView(d service.DeviceView) api.Device {
	o := deviceOut(d.Device)
	if h := d.Hold; h != nil {
		o.HeldBy = &api.Holder{Run: h.RunID, Leg: h.WorkID, ByHand: someTrue(d.ByHand), Since: h.Created, Until: d.Until}
	}
	return o
}

func (s *server) QuarantineDevice(ctx context.Context, q api.QuarantineDeviceRequestObject) (api.QuarantineDeviceResponseObject, error) {
	d, err := s.s.QuarantineDevice(ctx, identity(ctx), q.Serial, q.Body.Why)
	return api.QuarantineDevice200JSONResponse(deviceView(d)), err
}

func (s *server) ReleaseDevice(ctx context.Context, q api.ReleaseDeviceRequestObject) (api.ReleaseDeviceResponseObject, error) {
	d, err := s.s.ReleaseDevice(ctx, identity(ctx), q.Serial)
	return api.ReleaseDevice200JSONResponse(deviceView(d)), err
}

func (s *server) FreeDevice(ctx context.Context, q api.FreeDeviceRequestObject) (api.FreeDeviceResponseObject, error) {
	d, err := s.s.FreeDevice(ctx, identity(ctx), q.Serial)
	return api.FreeDevice200JSONResponse(deviceView(d)), err
}

func (s *server) StartDeviceCheck(ctx context.Context, q api.StartDeviceCheckRequestObject) (api.StartDeviceCheckResponseObject, error) {
	r, err := s.s.StartDeviceCheck(ctx, identity(ctx), q.Serial)
	return api.StartDeviceCheck202JSONResponse(checkOut(q.Serial, r)), err
}

func (s *server) GetDeviceCheck(ctx context.Context, q api.GetDeviceCheckRequestObject) (api.GetDeviceCheckResponseObject, error) {
	r, err := s.s.DeviceCheck(ctx, identity(ctx), q.Serial)
	return api.GetDeviceCheck200JSONResponse(checkOut(q.Serial, r)), err
}

func checkOut(serial string, r checkup.Report) api.DeviceCheck {
	return api.DeviceCheck{Serial: serial, Done: r.Done, Fit: r.Fit, Sentence: r.Sentence, Of: r.Of, Limits: full(r.Limits), Began: r.Began, TookMs: r.TookMS,
		Maker: r.Maker, Model: r.Model, Os: r.OS, Api: r.API, Origin: r.Origin, Simulated: r.Simulated,
		Steps: each(r.Steps, func(s checkup.Step) api.CheckStep {
			return api.CheckStep{Name: s.Name, State: api.CheckStepState(s.State), TookMs: s.TookMS, Found: some(s.Found), Remedy: some(s.Remedy)}
		})}
}

func deviceOut(d store.Device) api.Device {
	f := d.Facts.V
	stands := d.Standing()
	var since *time.Time
	var by *api.DeviceQuarantinedBy
	if d.Quarantined.Valid {
		q := api.DeviceQuarantinedBy(d.QuarantineBy)
		since, by = &d.Quarantined.Time, &q
	}
	return api.Device{Overdue: someTrue(d.Overdue), Host: d.Host, Quarantined: since, QuarantinedBy: by, LostInRow: d.LostInRow, Id: d.ID, Serial: d.Serial, State: api.DeviceState(stands.Name), Why: some(stands.Why), Platform: f.Platform, Os: f.OS, System: f.System(), Api: f.API, Maker: f.Maker, Model: f.Model, Form: f.Form,
		Origin: api.DeviceOrigin(f.Origin), Simulated: f.Simulated, Width: f.Width, Height: f.Height, Density: f.Density, WidthDp: f.WidthDP(), MemoryMb: f.MemoryMB,
		Abis: full(f.ABIs), Language: f.Language, Labels: someOf(len(f.Labels), f.Labels), Place: some(f.Place), Lab: some(d.Lab), Lent: someTrue(f.Lent), Startable: someTrue(f.Startable), Pages: someTrue(f.Pages), Udid: some(f.UDID), Without: someOf(len(f.Without), f.Without), Seen: d.Seen, Limits: someOf(len(f.Limits), f.Limits), Ways: someOf(len(f.Ways), f.Ways)}
}
