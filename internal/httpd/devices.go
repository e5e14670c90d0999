package httpd

// Devices: what they are, the care for them, their checks.

import (
	"context"
	"time"

	"tessellant/api"
	"tessellant/internal/checkup"
	"tessellant/internal/service"
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
	rows, next, err := s.s.Devices(ctx, where, text(q.Params.After), limit)
	return api.ListDevices200JSONResponse{Items: each(rows, deviceOut), Next: some(next)}, err
}

func (s *server) GetDevice(ctx context.Context, q api.GetDeviceRequestObject) (api.GetDeviceResponseObject, error) {
	d, err := s.s.Device(ctx, identity(ctx), q.Serial)
	return api.GetDevice200JSONResponse(deviceView(d)), err
}

func deviceView(d service.DeviceView) api.Device {
	o := deviceOut(d.Device)
	if h := d.Hold; h != nil {
		o.HeldBy = &api.Holder{Run: h.RunID, Leg: h.WorkID, Since: h.Created, Until: h.Expires}
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
	return api.Device{Overdue: someTrue(d.Overdue), Host: d.Host, Quarantined: since, QuarantinedBy: by, LostInRow: d.LostInRow, Id: d.ID, Serial: d.Serial, State: api.DeviceState(stands.Name), Why: some(stands.Why), Platform: f.Platform, Os: f.OS, Api: f.API, Maker: f.Maker, Model: f.Model, Form: f.Form,
		Origin: api.DeviceOrigin(f.Origin), Simulated: f.Simulated, Width: f.Width, Height: f.Height, Density: f.Density, WidthDp: f.WidthDP(), MemoryMb: f.MemoryMB,
		Abis: full(f.ABIs), Language: f.Language, Seen: d.Seen, Limits: someOf(len(f.Limits), f.Limits), Ways: someOf(len(f.Ways), f.Ways)}
}
