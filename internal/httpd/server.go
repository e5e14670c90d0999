package httpd

import (
	"context"
	"io"
	"net/http"
	"slices"
	"time"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// server answers the operations of openapi.yaml.
type server struct {
	s       *service.Service
	windows chan struct{} // places for those who read a window of a timeline
}

var _ api.StrictServerInterface = (*server)(nil)

func (s *server) GetMe(ctx context.Context, _ api.GetMeRequestObject) (api.GetMeResponseObject, error) {
	return api.GetMe200JSONResponse(s.me(ctx, identity(ctx))), nil
}

func upload(ctx context.Context, body io.Reader) service.Upload {
	u := service.Upload{Body: body, Size: -1}
	if r, ok := ctx.Value(keyRequest).(*http.Request); ok {
		u.Size = r.ContentLength
		u.Digest = r.Header.Get("Content-Digest")
	}
	return u
}

func (s *server) AddBuild(ctx context.Context, q api.AddBuildRequestObject) (api.AddBuildResponseObject, error) {
	u := upload(ctx, q.Body)
	u.Name = text(q.Params.Filename)
	b, isNew, err := s.s.AddBuild(ctx, identity(ctx), u)
	if err != nil {
		return nil, err
	}
	if isNew {
		return api.AddBuild201JSONResponse(buildOut(b)), nil
	}
	return api.AddBuild200JSONResponse(buildOut(b)), nil
}

func (s *server) ListBuilds(ctx context.Context, q api.ListBuildsRequestObject) (api.ListBuildsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	with, err := labelsIn(q.Params.Label)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.Builds(ctx, identity(ctx), with, text(q.Params.After), limit)
	return api.ListBuilds200JSONResponse{Items: each(rows, buildOut), Next: some(next)}, err
}

func (s *server) GetBuild(ctx context.Context, q api.GetBuildRequestObject) (api.GetBuildResponseObject, error) {
	b, err := s.s.Build(ctx, identity(ctx), q.Ref)
	return api.GetBuild200JSONResponse(buildOut(b)), err
}

func (s *server) LabelBuild(ctx context.Context, q api.LabelBuildRequestObject) (api.LabelBuildResponseObject, error) {
	b, err := s.s.LabelBuild(ctx, identity(ctx), q.Ref, mapped(q.Body.Set), listed(q.Body.Remove))
	return api.LabelBuild200JSONResponse(buildOut(b)), err
}

func (s *server) LabelPackage(ctx context.Context, q api.LabelPackageRequestObject) (api.LabelPackageResponseObject, error) {
	p, err := s.s.LabelPackage(ctx, identity(ctx), q.Ref, mapped(q.Body.Set), listed(q.Body.Remove))
	return api.LabelPackage200JSONResponse(packageOut(p)), err
}

func (s *server) GetBuildIcon(ctx context.Context, q api.GetBuildIconRequestObject) (api.GetBuildIconResponseObject, error) {
	r, err := s.s.Icon(ctx, identity(ctx), q.Ref)
	return api.GetBuildIcon200ImagepngResponse{Body: r}, err
}

func (s *server) AddPackage(ctx context.Context, q api.AddPackageRequestObject) (api.AddPackageResponseObject, error) {
	p, isNew, err := s.s.AddPackage(ctx, identity(ctx), upload(ctx, q.Body))
	if err != nil {
		return nil, err
	}
	if isNew {
		return api.AddPackage201JSONResponse(packageOut(p)), nil
	}
	return api.AddPackage200JSONResponse(packageOut(p)), nil
}

func (s *server) ListPackages(ctx context.Context, q api.ListPackagesRequestObject) (api.ListPackagesResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	with, err := labelsIn(q.Params.Label)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.Packages(ctx, identity(ctx), with, text(q.Params.After), limit)
	return api.ListPackages200JSONResponse{Items: each(rows, packageOut), Next: some(next)}, err
}

func (s *server) GetPackage(ctx context.Context, q api.GetPackageRequestObject) (api.GetPackageResponseObject, error) {
	p, err := s.s.Package(ctx, identity(ctx), q.Ref)
	return api.GetPackage200JSONResponse(packageOut(p)), err
}

func listed(p *[]string) []string {
	if p == nil {
		return nil
	}
	return *p
}

func mapped(p *map[string]string) map[string]string {
	if p == nil {
		return nil
	}
	return *p
}

// someOf is nil where there is nothing.
func someOf[T any](n int, v T) *T {
	if n == 0 {
		return nil
	}
	return &v
}

func (s *server) GetLeg(ctx context.Context, q api.GetLegRequestObject) (api.GetLegResponseObject, error) {
	l, err := s.s.Leg(ctx, identity(ctx), q.Id)
	return api.GetLeg200JSONResponse(legOut(l)), err
}

func (s *server) ListLegs(ctx context.Context, q api.ListLegsRequestObject) (api.ListLegsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.DeviceLegs(ctx, identity(ctx), q.Params.Device, text(q.Params.After), limit)
	return api.ListLegs200JSONResponse{Items: each(rows, legSummary), Next: some(next)}, err
}

// --- from rows to the contract ----------------------------------------------

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

func some(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func someTrue(b bool) *bool {
	if !b {
		return nil
	}
	return &b
}

func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, 0, len(in))
	for _, a := range in {
		out = append(out, f(a))
	}
	return out
}

func full[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}

func limitOf(p *int) (int, error) {
	if p == nil {
		return 50, nil
	}
	if *p < 1 || *p > 200 {
		return 0, &refuse.Error{Kind: refuse.Invalid, Title: "list", Why: "limit must be 1 to 200", Remedy: "ask for less, and for the next page with after"}
	}
	return *p, nil
}

func verdictOut(v verdict.Verdict) *api.Verdict {
	if v == "" {
		return nil
	}
	out := api.Verdict(v)
	return &out
}

func counts(c verdict.Counts) map[string]int {
	out := map[string]int{}
	for v, n := range c {
		out[string(v)] = n
	}
	return out
}

func findings(in []refuse.Finding) []api.Finding {
	return each(in, func(f refuse.Finding) api.Finding {
		o := api.Finding{Level: api.FindingLevel(f.Level), Device: some(f.Device), Variant: some(f.Variant), File: some(f.File), What: f.What, Remedy: f.Remedy}
		if f.Line > 0 {
			o.Line = &f.Line
		}
		return o
	})
}

func buildOut(b store.Build) api.Build {
	f := b.Facts.V
	if f.IOS != nil {
		f.Findings = append(slices.Clone(f.Findings), f.IOS.Outdated(time.Now())...)
	}
	return api.Build{Id: b.ID, Ref: b.Ref(), AppId: b.AppID, Label: f.Label, Platform: b.Platform, VersionName: b.VersionName, VersionCode: b.VersionCode,
		MinApi: f.MinAPI, TargetApi: f.TargetAPI, Permissions: full(f.Permissions), Abis: full(f.ABIs), Size: b.Size, Sha256: b.SHA256, Filename: b.Filename,
		Created: b.Created, HasIcon: b.IconKey != "", Debuggable: f.Debuggable, MinCode: some(f.MinCode), TargetCode: some(f.TargetCode), Findings: api.BuildFindings(f.Findings),
		Labels: someOf(len(b.Labels.V), b.Labels.V), Features: someOf(len(f.Features), f.Features), NoScreens: someOf(len(f.NoScreens), f.NoScreens), Ios: api.IOSOf(f.IOS), Page: some(f.Page)}
}

func packageOut(p store.Package) api.Package {
	o := api.Package{Id: p.ID, Ref: p.Ref(), Name: p.Name, Revision: p.Revision, Kind: p.Kind, About: p.About, Size: p.Size, Sha256: p.SHA256, Created: p.Created,
		Cases: []api.Case{}, Inputs: []api.Input{}, Findings: findings(refuse.PackageFindings(p.Findings.V)),
		Labels: someOf(len(p.Labels.V), p.Labels.V), Needs: someOf(len(p.Needs.V), p.Needs.V)}
	if g := p.Program.V; g != nil {
		x := api.Program{Run: g.Run, Needs: []string{}, Results: g.Results, Prepare: someOf(len(g.Prepare), g.Prepare)}
		for _, n := range g.Needs {
			x.Needs = append(x.Needs, n.String())
		}
		o.Program = &x
	}
	for _, in := range p.Inputs.V {
		o.Inputs = append(o.Inputs, api.Input{Name: in.Name, About: some(in.About), Default: in.Default, Secret: in.Secret})
	}
	for _, c := range p.Cases.V {
		o.Cases = append(o.Cases, api.Case{Name: c.Name, File: c.File, Line: c.Line, About: some(c.About), Tags: someOf(len(c.Tags), c.Tags)})
	}
	return o
}

func legSummary(l service.LegView) api.LegSummary {
	f := l.Facts.V
	set := l.Set()
	s := api.LegSummary{Id: l.ID, RunId: l.RunID, Serial: l.Serial, Model: f.Maker + " " + f.Model, Os: f.OS, System: f.System(), Simulated: f.Simulated, Traits: traitsOf(l, set), Variant: some(l.Variant), Conditions: conditionsOut(set), Stage: api.LegSummaryStage(l.Stage),
		Verdict: verdictOut(l.Verdict), Message: some(l.Message), Attempts: l.Attempts, CasesTotal: l.CasesTotal, Now: some(l.NowCase.String), Created: l.Created, CaseVerdicts: []string{}, CaseNames: someOf(len(l.Names), l.Names)}
	var vs []verdict.Verdict
	for _, c := range l.Cases {
		for len(s.CaseVerdicts) < c.Ordinal {
			s.CaseVerdicts = append(s.CaseVerdicts, "")
		}
		if c.Verdict == "" {
			s.CaseVerdicts = append(s.CaseVerdicts, "running")
			continue
		}
		s.CaseVerdicts = append(s.CaseVerdicts, string(c.Verdict))
		vs = append(vs, c.Verdict)
	}
	s.Cases = counts(verdict.Count(vs...))
	if l.RanOn.Valid && l.RanOn.String != l.Serial {
		s.RanOn = &l.RanOn.String
	}
	s.Place = someOf(l.Place, l.Place)
	if l.Stop && l.Stage != "done" {
		s.Stopping = &l.Stop
	}
	if l.Started.Valid {
		s.Started = &l.Started.Time
	}
	if l.Ended.Valid {
		s.Ended = &l.Ended.Time
	}
	return s
}

// traitsOf are a leg's: its device's, over which its conditions win, and the name of those.
func traitsOf(l service.LegView, set conditions.Set) map[string]string {
	out := set.Traits(l.Facts.V.Traits())
	if l.Variant != "" {
		out["variant"] = l.Variant
	}
	return out
}

func legOut(l service.LegDetail) api.Leg {
	o := api.Leg{Id: l.ID, RunId: l.RunID, Variant: some(l.Variant), Conditions: conditionsOut(l.Set()), Build: l.Run.Request.V.BuildFor(l.Device.Facts.V.Platform), Package: l.Run.Request.V.Package, Device: deviceOut(l.Device), Recording: l.Run.Request.V.Kept().Map(), Stage: l.Stage,
		Verdict: verdictOut(l.Verdict), Message: some(l.Message), CasesTotal: l.CasesTotal, Place: someOf(l.Place, l.Place), Attempts: []api.Attempt{}}
	if l.Session != nil {
		x := sessionOut(*l.Session)
		o.Session, o.Build, o.Recording = &x, x.Build, l.Session.Request.V.Recording.Map()
	}
	for _, a := range l.Attempts {
		x := api.Attempt{Serial: a.Serial, Host: a.HostName, Id: a.ID, Number: a.Number, Stage: a.Stage, Verdict: verdictOut(a.Verdict), Message: some(a.Message), Started: a.Started,
			Cases: []api.CaseResult{}, Artifacts: []api.Artifact{}}
		if a.Ended.Valid {
			x.Ended = &a.Ended.Time
		}
		if a.Cleared.Valid {
			x.EvidenceRemoved = &a.Cleared.Time
		}
		if a.ClockDoubtMS.Valid {
			ms := int(a.ClockDoubtMS.Int64)
			x.ClockDoubtMs = &ms
		}
		if l := a.Loan.V; l != nil {
			x.Loan = &api.Loan{Lab: l.Lab, Session: l.Session, Page: some(l.Page), Seconds: someOf(int(l.Seconds+0.999), float32(l.Seconds))}
		}
		for _, c := range a.Cases {
			var tries []api.Try
			for _, t := range c.Tries.V {
				tries = append(tries, api.Try{Verdict: api.Verdict(t.Verdict), Message: some(t.Message), Line: some(t.Line), Expected: some(t.Expected), Actual: some(t.Actual),
					Trace: some(t.Trace), Shot: some(t.Shot), Tree: some(t.Tree), StartMs: t.StartMS, TookMs: t.TookMS})
			}
			x.Cases = append(x.Cases, api.CaseResult{Tries: someOf(len(tries), tries), Name: c.Name, Verdict: verdictOut(c.Verdict), Message: some(c.Message), Line: some(c.Line), Expected: some(c.Expected),
				Actual: some(c.Actual), Trace: some(c.Trace), Shot: some(c.Shot), Tree: some(c.Tree), StartMs: c.StartMS, TookMs: c.TookMS})
		}
		for _, f := range a.Artifacts {
			x.Artifacts = append(x.Artifacts, api.Artifact{Id: f.ID, Name: f.Name, Kind: api.ArtifactKind(f.Kind), ContentType: f.ContentType, Size: f.Size, Sha256: f.SHA256})
		}
		o.Attempts = append(o.Attempts, x)
	}
	return o
}
