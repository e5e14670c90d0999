package plans

// Whether a build and a package can run on a device: for lists, tiles, and who asks about one.

import (
	"context"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/service/content"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Fit is whether a build and a package can run on a device.
type Fit struct {
	No       bool
	Findings []planning.Finding // why not; or, where they can, what to mind
}

// FitOf gives what says of devices whether a build and a package can run there. Package "": any.
func (s *Plans) FitOf(ctx context.Context, who store.Identity, build, pkg string) (func(store.Device) Fit, error) {
	return s.fits(ctx, who, Request{Build: build, Package: pkg})
}

func (s *Plans) fits(ctx context.Context, who store.Identity, q Request) (func(store.Device) Fit, error) {
	const title = "say what can run there"
	if q.Build == "" {
		return nil, refuse.New(refuse.Invalid, title, "name one, such as kelpline/android@newest", "the request names no build")
	}
	b, p, err := s.Named(ctx, who, q.Build, q.Package)
	if err != nil {
		return nil, err
	}
	needs, err := devices.ParseFilter(p.Needs.V, nil)
	if err != nil {
		return nil, err
	}
	about := map[string]store.HostAbout{}
	if p.Program.V != nil {
		hosts, err := s.Store.Hosts(ctx)
		if err != nil {
			return nil, err
		}
		for _, h := range hosts {
			about[h.ID] = h.About.V
		}
	}
	var past []planning.Past
	if p.Name != "" {
		if past, err = s.Store.Past(ctx, who.WorkspaceID, p.Name); err != nil {
			return nil, err
		}
	}
	var cases []planning.Case
	for _, c := range p.Cases.V {
		cases = append(cases, planning.Case{Name: c.Name, Needs: c.Needs})
	}
	return func(d store.Device) Fit {
		x := planning.Device{ID: d.ID, Facts: d.Facts.V, Lacks: content.Lacking(p.Program.V, about[d.HostID]), Away: d.Standing().Unusable, Lost: d.LostInRow}
		if no := planning.Unfit(b.Facts.V, needs, x); no != nil {
			return Fit{No: true, Findings: []planning.Finding{*no}}
		}
		if lacks := q.Conditions.Lacks(d.Facts.V, true); len(lacks) > 0 {
			return Fit{No: true, Findings: []planning.Finding{{Level: planning.Blocks, Device: d.Serial, What: lacks[0].Why, Remedy: lacks[0].Remedy}}}
		}
		if p.Name == "" {
			return Fit{}
		}
		plan := planning.Make(planning.Request{App: b.Facts.V, Cases: cases, Program: p.Program.V != nil, Targets: []planning.Target{{}}, Devices: []planning.Device{x}, Past: past})
		return Fit{No: len(plan.Legs) == 0, Findings: plan.Findings}
	}, nil
}

// Fit says whether a build and a package can run on a device, set in this way.
func (s *Plans) Fit(ctx context.Context, who store.Identity, serial string, q Request) (Fit, error) {
	fits, err := s.fits(ctx, who, q)
	if err != nil {
		return Fit{}, err
	}
	d, err := s.Store.DeviceBySerial(ctx, serial)
	if err != nil {
		return Fit{}, refuse.Missing(err, "device", serial, "see the devices with: tessellant device list")
	}
	return fits(d), nil
}
