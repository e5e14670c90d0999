package runs

// Planning a run: what a request names is found, and core/planning is asked.

import (
	"context"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/content"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Bounds of what a run may ask for.
const (
	maxRunName = 200 // bytes
	maxLines   = 500
	maxBeside  = 10
	maxFiles   = 20 // each way
)

// RunPlan is what a run would be.
type RunPlan struct {
	Build   store.Build
	Package store.Package
	Beside  []store.Build
	Cases   []testpkg.Case
	planning.Plan
}

// CheckRun plans a run and starts nothing: the findings say what is in its way.
func (s *Runs) CheckRun(ctx context.Context, who store.Identity, q RunRequest) (RunPlan, error) {
	return s.plan(ctx, who, &q)
}

// plan finds what a request names and plans it. It sets what was not said.
func (s *Runs) plan(ctx context.Context, who store.Identity, q *RunRequest) (p RunPlan, err error) {
	const title = "plan the run"
	if q.Build == "" || q.Package == "" {
		return p, refuse.New(refuse.Invalid, title, "set both, such as kelpline/android@newest and shore-suite@newest", "the request names no %s", map[bool]string{true: "build", false: "package"}[q.Build == ""])
	}
	if p.Build, err = s.Content.Build(ctx, who, q.Build); err != nil {
		return p, err
	}
	if p.Package, err = s.Content.Package(ctx, who, q.Package); err != nil {
		return p, err
	}
	if err := q.check(); err != nil {
		return p, err
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
	if prog != nil && (len(q.Cases)+len(q.Tags) > 0 || q.Confirm > 0 || q.Spread) {
		return p, refuse.New(refuse.Invalid, title, "remove --case, --tag, --confirm and --spread, or pass an input that the program reads", "%s is a program, and a program decides itself which cases it runs", p.Package.Ref())
	}
	if p.Cases, err = testpkg.Choose(p.Package.Cases.V, q.Cases, q.Tags); err != nil {
		return p, refuse.New(refuse.Invalid, title, "see the cases with: tessellant package show "+p.Package.Ref(), "%v", err)
	}
	r := planning.Request{App: p.Build.Facts.V, Needs: p.Package.Needs.V, Program: prog != nil, Spread: q.Spread, Limit: time.Duration(q.LimitSeconds) * time.Second}
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
	if r.Devices, err = s.there(ctx, prog, q.sets(), r.Past); err != nil {
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

// pathForm is a file's place on a device that may be written or read.
var pathForm = regexp.MustCompile(`^/(sdcard|storage/[\w-]+|data/local/tmp)/[^\x00-\x1f]{1,300}$`)

// check says what makes no sense in a request, whatever there is. It sets the limit that was not said.
func (q *RunRequest) check() error {
	const title = "plan the run"
	wrong := func(remedy, why string, args ...any) error {
		return refuse.New(refuse.Invalid, title, remedy, why, args...)
	}
	if q.LimitSeconds == 0 {
		q.LimitSeconds = 1800
	}
	q.Name = strings.TrimSpace(q.Name)
	switch {
	case q.LimitSeconds < 1 || q.LimitSeconds > 86400:
		return wrong("choose 1 to 86400 seconds (24 h)", "the time limit is out of range")
	case q.Confirm < 0 || q.Confirm > maxConfirm:
		return wrong("choose 0 to 10", "a failed case can't be retried %d times", q.Confirm)
	case q.Attempts < 0 || q.Attempts > maxAttempts:
		return wrong("choose 1 to 10", "a leg can't have %d attempts", q.Attempts)
	case len(q.Name) > maxRunName || strings.ContainsFunc(q.Name, func(r rune) bool { return r < ' ' }):
		return wrong("use up to 200 characters in one line", "the run's name is too long, or has characters that can't be shown")
	case len(q.Beside) > maxBeside:
		return wrong("leave some out", "%d builds can't be installed beside; %d is the most", len(q.Beside), maxBeside)
	case len(q.Put) > maxFiles || len(q.Fetch) > maxFiles:
		return wrong("leave some out", "at most %d files can be put onto a device, and kept of it", maxFiles)
	case len(q.Lines) > maxLines:
		return wrong("start several runs", "%d lines of devices are too many; %d is the most", len(q.Lines), maxLines)
	case len(q.Lines) > 0 && (len(q.Where)+len(q.Devices)+len(q.Variants)+len(q.Conditions) > 0 || q.Pool != "" || q.Take != ""):
		return wrong("give lines, or a filter with variants", "lines of devices say which devices and conditions; a filter, a pool, conditions and variants can't be given besides")
	}
	if q.Take != "" || q.N != 0 {
		if err := (pools.Definition{Take: q.Take, N: q.N}).Check(); err != nil {
			return wrong("write all, any with a number, or differ with a number", "%v", err)
		}
	}
	if err := labels.Check(q.Labels); err != nil {
		return wrong("write name=value, such as branch=main", "%v", err)
	}
	if err := conditions.CheckVariants(q.Variants); err != nil {
		return wrong("name each variant once, such as --variant de=language:de", "%v", err)
	}
	for _, f := range q.Put {
		if !pathForm.MatchString(f.To) || path.Clean(f.To) != f.To {
			return wrong("choose a path below /sdcard or /data/local/tmp", "%.200q is no place for a file on a device", f.To)
		}
	}
	for _, f := range q.Fetch {
		if !pathForm.MatchString(f) || path.Clean(f) != f {
			return wrong("choose a path below /sdcard or /data/local/tmp", "%.200q is no file of a device that can be kept", f)
		}
	}
	return nil
}

// targets says where the run is to go.
func (s *Runs) targets(ctx context.Context, who store.Identity, q RunRequest) ([]planning.Target, error) {
	if len(q.Lines) > 0 {
		return lines(q.Lines)
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

// lines makes a target of each line of a list of devices: one leg, on any unit that fits.
func lines(all []store.Line) (out []planning.Target, err error) {
	for i, l := range all {
		wrong := func(err error) error {
			return refuse.New(refuse.Invalid, "plan the run", "write device, version, language, orientation; all but the device may be empty", "line %d of the devices: %v", i+1, err)
		}
		if strings.TrimSpace(l.Device) == "" {
			return nil, wrong(fmt.Errorf("the device is missing"))
		}
		t := planning.Target{Take: pools.Definition{Take: pools.Any, N: 1, Models: true}}
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
		t.Variants = []conditions.Variant{v}
		out = append(out, t)
	}
	return out, nil
}

// usualLeg is how long a leg takes of which nothing is known.
const usualLeg = 2 * time.Minute

// sets says whether devices are to be set, or furnished, in ways that hosts of protocol 1 don't know.
func (q RunRequest) sets() bool {
	return len(q.Conditions)+len(q.Lines)+len(q.Beside)+len(q.Put)+len(q.Fetch) > 0 || slices.ContainsFunc(q.Variants, func(v conditions.Variant) bool { return len(v.Conditions) > 0 })
}

// there gives the devices as the planner sees them.
func (s *Runs) there(ctx context.Context, prog *testpkg.Program, sets bool, past []planning.Past) ([]planning.Device, error) {
	about, older := map[string]store.HostAbout{}, map[string]bool{}
	if prog != nil || sets {
		hosts, err := s.Store.Hosts(ctx)
		if err != nil {
			return nil, err
		}
		for _, h := range hosts {
			about[h.ID] = h.About.V
			older[h.ID] = sets && h.Protocol == hostlink.Protocol-1
		}
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, err
	}
	loads, err := s.Store.Loads(ctx)
	if err != nil {
		return nil, err
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
		x := planning.Device{ID: d.ID, Facts: d.Facts.V, Lacks: content.Lacking(prog, about[d.HostID]), Away: st.Unusable, Free: st.Free, Lost: d.LostInRow}
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
	return out, nil
}

// refs are the references of builds.
func refs(builds []store.Build) (out []string) {
	for _, b := range builds {
		out = append(out, b.Ref())
	}
	return out
}

// words are those by which a run is searched.
func words(r store.Run) string {
	parts := []string{r.Name, r.Request.V.Build, r.Request.V.Package, r.Request.V.Pool, r.StartedBy}
	for name, value := range r.Labels.V {
		parts = append(parts, name+"="+value)
	}
	s := strings.ToLower(strings.Join(parts, " "))
	return strings.ToValidUTF8(s[:min(len(s), 2000)], "")
}
