// Package plans says what a run would be: what a request names is found, and core/planning is asked. It starts nothing.
package plans

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/content"
	poolsroom "tessellant/internal/service/pools"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Plans is that room.
type Plans struct {
	Store   *store.Store
	Content *content.Content
	Pools   *poolsroom.Pools
}

// Named finds a build and a package by what they are called; of an empty name nothing is found.
func (s *Plans) Named(ctx context.Context, who store.Identity, build, pkg string) (b store.Build, p store.Package, err error) {
	if build != "" {
		if b, err = s.Content.Build(ctx, who, build); err != nil {
			return b, p, err
		}
	}
	if pkg != "" {
		p, err = s.Content.Package(ctx, who, pkg)
	}
	return b, p, err
}

// Plan is what a run would be.
type Plan struct {
	Build   store.Build
	Package store.Package
	Others  []store.Build // for devices of other platforms
	Beside  []store.Build
	Cases   []testpkg.Case
	planning.Plan
}

// For is the build that a device gets.
func (p Plan) For(d planning.Device) store.Build {
	for _, b := range p.Others {
		if b.Platform == d.Facts.Platform {
			return b
		}
	}
	return p.Build
}

// CheckRun plans a run and starts nothing: the findings say what is in its way.
func (s *Plans) CheckRun(ctx context.Context, who store.Identity, q Request) (Plan, error) {
	return s.Plan(ctx, who, &q)
}

// Plan finds what a request names and plans it. It sets what was not said.
func (s *Plans) Plan(ctx context.Context, who store.Identity, q *Request) (p Plan, err error) {
	const title = "plan the run"
	if q.Build == "" || q.Package == "" {
		return p, refuse.New(refuse.Invalid, title, "set both, such as kelpline/android@newest and shore-suite@newest", "the request names no %s", map[bool]string{true: "build", false: "package"}[q.Build == ""])
	}
	if p.Build, p.Package, err = s.Named(ctx, who, q.Build, q.Package); err != nil {
		return p, err
	}
	if err := q.Check(); err != nil {
		return p, err
	}
	for _, ref := range q.Others {
		b, err := s.Content.Build(ctx, who, ref)
		if err != nil {
			return p, err
		}
		for _, o := range append([]store.Build{p.Build}, p.Others...) {
			if o.Platform == b.Platform {
				return p, refuse.New(refuse.Invalid, title, "name one build for each platform, or start a run for each", "%s and %s are both for %s", o.Ref(), b.Ref(), b.Platform)
			}
		}
		p.Others = append(p.Others, b)
	}
	for _, ref := range q.Beside {
		b, err := s.Content.Build(ctx, who, ref)
		if err != nil {
			return p, err
		}
		if b.AppID == p.Build.AppID {
			return p, refuse.New(refuse.Invalid, title, "name a build of another app", "%s can't be installed beside %s: they are the same app", b.Ref(), p.Build.Ref())
		}
		p.Beside = append(p.Beside, b)
	}
	prog := p.Package.Program.V
	if prog != nil && (len(q.Cases)+len(q.Tags) > 0 || q.namesCases() || q.Confirm > 0 || q.Spread) {
		return p, refuse.New(refuse.Invalid, title, "remove --case, --tag, --confirm and --spread, or pass an input that the program reads", "%s is a program, and a program decides itself which cases it runs", p.Package.Ref())
	}
	if p.Cases, err = testpkg.Choose(p.Package.Cases.V, q.Cases, q.Tags); err != nil {
		return p, refuse.New(refuse.Invalid, title, "see the cases with: tessellant package show "+p.Package.Ref(), "%v", err)
	}
	r := planning.Request{App: p.Build.Facts.V, Now: time.Now(), Needs: p.Package.Needs.V, Program: prog != nil, Spread: q.Spread, Limit: time.Duration(q.LimitSeconds) * time.Second}
	for _, b := range p.Others {
		r.Others = append(r.Others, b.Facts.V)
	}
	if r.Past, err = s.Store.Past(ctx, who.WorkspaceID, p.Package.Name); err != nil {
		return p, err
	}
	took, err := s.Store.CaseTimes(ctx, who.WorkspaceID, p.Package.Name)
	if err != nil {
		return p, err
	}
	for _, c := range p.Cases {
		r.Cases = append(r.Cases, planning.Case{Name: c.Name, Needs: c.Needs, Took: took[c.Name]})
	}
	if r.Devices, r.Labs, err = s.there(ctx, prog, q.sets(), r.Past); err != nil {
		return p, err
	}
	if r.Targets, err = s.targets(ctx, who, *q); err != nil {
		return p, err
	}
	p.Plan = planning.Make(r)
	if _, _, err := testpkg.Inputs(p.Package.Inputs.V, q.Inputs, q.Secrets); err != nil {
		p.Findings = append(p.Findings, planning.Finding{Level: planning.Blocks, What: err.Error(), Remedy: "fill it in; on the command line with --set NAME=VALUE, a secret one with --secret-from-env NAME=VARIABLE"})
	}
	return p, nil
}

// targets says where the run is to go.
func (s *Plans) targets(ctx context.Context, who store.Identity, q Request) ([]planning.Target, error) {
	if len(q.Lines) > 0 {
		return lines(q.Lines, q.Again != nil)
	}
	take := pools.Definition{Take: q.Take, N: q.N, Models: q.Models}
	where, units := q.Where, q.Devices
	filter, err := devices.ParseFilter(where, units)
	if err != nil {
		return nil, refuse.New(refuse.Invalid, "plan the run", "", "%v", err)
	}
	pool := q.Pool
	if named := filter.Pools(); pool == "" && len(named) == 1 && len(where) == 1 && filter.Where[0].Op == "=" {
		pool, where = named[0], nil // the pool takes of those that can run it
	}
	if pool != "" {
		p, err := s.Pools.Pool(ctx, who, pool)
		if err != nil {
			return nil, err
		}
		d := p.Definition.V
		where = append(append([]string{}, d.Where...), where...)
		if units = d.Devices; len(q.Devices) > 0 {
			units = q.Devices
		}
		take.Shares, take.Models = d.Shares, take.Models || d.Models
		if take.Take == "" {
			take.Take, take.N = d.Take, d.N
		}
		if filter, err = devices.ParseFilter(where, units); err != nil {
			return nil, refuse.New(refuse.Invalid, "plan the run", "", "%v", err)
		}
	}
	if err := s.Pools.LookUp(ctx, who, filter); err != nil {
		return nil, err
	}
	t := planning.Target{Filter: filter, Take: take}
	for _, v := range q.Variants {
		t.Variants = append(t.Variants, conditions.Variant{Name: v.Name, Conditions: over(q.Conditions, v.Conditions)})
	}
	if len(t.Variants) == 0 && len(q.Conditions) > 0 {
		t.Variants = []conditions.Variant{{Conditions: q.Conditions}}
	}
	return []planning.Target{t}, nil
}

// over puts the conditions of a variant over those of all.
func over(all, one conditions.Set) conditions.Set {
	out := conditions.Set{}
	maps.Copy(out, all)
	maps.Copy(out, one)
	return out
}

// lines makes a target of each line of a list of devices: one leg, on any unit that fits, or on the one that is named.
func lines(all []store.Line, optional bool) (out []planning.Target, err error) {
	for i, l := range all {
		wrong := func(err error) error {
			return refuse.New(refuse.Invalid, "plan the run", "write device, version, language, orientation; all but the device may be empty", "line %d of the devices: %v", i+1, err)
		}
		if strings.TrimSpace(l.Device) == "" {
			return nil, wrong(fmt.Errorf("the device is missing"))
		}
		t := planning.Target{Take: pools.Definition{Take: pools.Any, N: 1, Models: !strings.HasPrefix(l.Device, "serial=")}, Cases: l.Cases, Optional: optional}
		trait := "model="
		if strings.ContainsAny(l.Device, "=<>") {
			trait = ""
		}
		where := []string{trait + l.Device}
		if l.Version != "" {
			where = append(where, "os="+l.Version)
		}
		if t.Filter, err = devices.ParseFilter(where, nil); err != nil {
			return nil, wrong(err)
		}
		v := conditions.Variant{}
		for _, c := range []struct{ name, value string }{{conditions.Language, l.Language}, {conditions.Orientation, l.Orientation}} {
			if c.value == "" {
				continue
			}
			if v.Conditions, err = v.Conditions.With(c.name, c.value); err != nil {
				return nil, wrong(err)
			}
			v.Name = strings.Trim(v.Name+"-"+v.Conditions[c.name], "-")
		}
		if len(l.Conditions) > 0 {
			v.Conditions = over(l.Conditions, v.Conditions)
		}
		v.Name = cmp.Or(l.Variant, v.Name)
		t.Variants = []conditions.Variant{v}
		out = append(out, t)
	}
	return out, nil
}

// usualLeg is how long a leg takes of which nothing is known.
const usualLeg = 2 * time.Minute

// there gives the devices as the planner sees them.
func (s *Plans) there(ctx context.Context, prog *testpkg.Program, sets bool, past []planning.Past) ([]planning.Device, map[string]planning.Lab, error) {
	about, older, labs := map[string]store.HostAbout{}, map[string]bool{}, map[string]planning.Lab{}
	hosts, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, h := range hosts {
		about[h.ID] = h.About.V
		older[h.ID] = sets && h.Protocol == hostlink.Protocol-1
		for _, l := range h.About.V.Labs {
			labs[store.LabKey(h.ID, l.Name)] = planning.Lab{Name: l.Name, AtOnce: l.AtOnce, Queue: l.Waiting, Start: time.Duration(l.StartMS) * time.Millisecond}
		}
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, nil, err
	}
	loads, err := s.Store.Loads(ctx)
	if err != nil {
		return nil, nil, err
	}
	usual, legs := map[string]time.Duration{}, map[string]int{}
	for _, x := range past {
		if !x.Lost && x.Took > 0 {
			usual[x.Device] += x.Took
			legs[x.Device]++
		}
	}
	out := make([]planning.Device, 0, len(all))
	for _, d := range all {
		st := d.Standing()
		x := planning.Device{ID: d.ID, Facts: d.Facts.V, Lacks: content.Lacking(prog, about[d.HostID]), Away: st.Unusable, Free: st.Free, Lost: d.LostInRow, Lab: store.LabKey(d.HostID, d.Lab)}
		if older[d.HostID] && x.Lacks == "" {
			x.Lacks = "it is of an older version, which does not set conditions; update it"
		}
		if l, ok := loads[d.ID]; ok {
			leg := usualLeg
			if n := legs[d.ID]; n > 0 {
				leg = usual[d.ID] / time.Duration(n)
			}
			x.Busy = time.Duration(l.Waiting) * leg
			if l.Since.Valid {
				x.Busy += max(leg-time.Duration(l.Holds)*time.Second, 10*time.Second)
			}
		}
		out = append(out, x)
	}
	return out, labs, nil
}
