package httpd

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"tessellant/api"
	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

// server answers the operations of openapi.yaml.
type server struct{ s *service.Service }

var _ api.StrictServerInterface = (*server)(nil)

func (s *server) GetMe(ctx context.Context, _ api.GetMeRequestObject) (api.GetMeResponseObject, error) {
	who := identity(ctx)
	return api.GetMe200JSONResponse{Workspace: who.Workspace, Role: api.MeRole(who.Role), Version: s.s.Version}, nil
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
	rows, next, err := s.s.Builds(ctx, identity(ctx), text(q.Params.After), limit)
	return api.ListBuilds200JSONResponse{Items: each(rows, buildOut), Next: some(next)}, err
}

func (s *server) GetBuild(ctx context.Context, q api.GetBuildRequestObject) (api.GetBuildResponseObject, error) {
	b, err := s.s.Build(ctx, identity(ctx), q.Ref)
	return api.GetBuild200JSONResponse(buildOut(b)), err
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
	rows, next, err := s.s.Packages(ctx, identity(ctx), text(q.Params.After), limit)
	return api.ListPackages200JSONResponse{Items: each(rows, packageOut), Next: some(next)}, err
}

func (s *server) GetPackage(ctx context.Context, q api.GetPackageRequestObject) (api.GetPackageResponseObject, error) {
	p, err := s.s.Package(ctx, identity(ctx), q.Ref)
	return api.GetPackage200JSONResponse(packageOut(p)), err
}

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

func (s *server) StartRun(ctx context.Context, q api.StartRunRequestObject) (api.StartRunResponseObject, error) {
	who := identity(ctx)
	r := service.RunRequest{Build: q.Body.Build, Package: q.Body.Package, IdempotencyKey: text(q.Params.IdempotencyKey)}
	if q.Body.Where != nil {
		r.Where = *q.Body.Where
	}
	if q.Body.Devices != nil {
		r.Devices = *q.Body.Devices
	}
	if q.Body.LimitSeconds != nil {
		r.LimitSeconds = *q.Body.LimitSeconds
		if r.LimitSeconds == 0 {
			r.LimitSeconds = -1 // said, and makes no sense
		}
	}
	run, isNew, err := s.s.StartRun(ctx, who, r)
	if err != nil {
		return nil, err
	}
	v, err := s.s.Run(ctx, who, run.ID)
	if err != nil {
		return nil, err
	}
	if isNew {
		return api.StartRun201JSONResponse(runOut(v)), nil
	}
	return api.StartRun200JSONResponse(runOut(v)), nil
}

func (s *server) ListRuns(ctx context.Context, q api.ListRunsRequestObject) (api.ListRunsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.Runs(ctx, identity(ctx), text(q.Params.After), limit)
	return api.ListRuns200JSONResponse{Items: each(rows, func(v service.RunView) api.Run {
		r := runOut(v)
		r.Legs = []api.LegSummary{}
		return r
	}), Next: some(next)}, err
}

func (s *server) GetRun(ctx context.Context, q api.GetRunRequestObject) (api.GetRunResponseObject, error) {
	v, err := s.s.Run(ctx, identity(ctx), q.Id)
	return api.GetRun200JSONResponse(runOut(v)), err
}

func (s *server) GetLeg(ctx context.Context, q api.GetLegRequestObject) (api.GetLegResponseObject, error) {
	l, err := s.s.Leg(ctx, identity(ctx), q.Id)
	return api.GetLeg200JSONResponse(legOut(l)), err
}

func (s *server) GetArtifact(ctx context.Context, q api.GetArtifactRequestObject) (api.GetArtifactResponseObject, error) {
	a, err := s.s.Artifact(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return artifactBytes{ctx, s.s, a}, nil
}

// artifactBytes sends an artifact, whole or in ranges.
type artifactBytes struct {
	ctx context.Context
	s   *service.Service
	a   store.Artifact
}

func (b artifactBytes) VisitGetArtifactResponse(w http.ResponseWriter) error {
	r, ok := b.ctx.Value(keyRequest).(*http.Request)
	if !ok {
		return errors.New("the request is not at hand")
	}
	w.Header().Set("Content-Type", b.a.ContentType)
	w.Header().Set("ETag", `"`+b.a.SHA256+`"`)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Content-Security-Policy", "sandbox") // it may be anything that a test wrote
	file := &seeker{ctx: b.ctx, b: b}
	defer file.Close()
	http.ServeContent(&patientWriter{w, http.NewResponseController(w)}, r, "", time.Time{}, file)
	return nil
}

type patientWriter struct {
	http.ResponseWriter
	rc *http.ResponseController
}

func (p *patientWriter) Write(b []byte) (int, error) {
	_ = p.rc.SetWriteDeadline(time.Now().Add(idleWrite))
	return p.ResponseWriter.Write(b)
}

// seeker reads a blob from wherever it is set to.
type seeker struct {
	ctx context.Context
	b   artifactBytes
	at  int64
	r   io.ReadCloser
}

func (s *seeker) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += s.at
	case io.SeekEnd:
		offset += s.b.a.Size
	}
	if offset < 0 {
		return 0, errors.New("before the beginning")
	}
	if offset != s.at {
		_ = s.Close()
	}
	s.at = offset
	return offset, nil
}

func (s *seeker) Read(p []byte) (int, error) {
	if s.at >= s.b.a.Size {
		return 0, io.EOF
	}
	if s.r == nil {
		r, err := s.b.s.Open(s.ctx, s.b.a, s.at, -1)
		if err != nil {
			return 0, err
		}
		s.r = r
	}
	n, err := s.r.Read(p)
	s.at += int64(n)
	return n, err
}

func (s *seeker) Close() error {
	if s.r == nil {
		return nil
	}
	err := s.r.Close()
	s.r = nil
	return err
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
		return 0, &service.Error{Kind: service.Invalid, Title: "list", Why: "limit must be 1 to 200", Remedy: "ask for less, and for the next page with after"}
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

func findings(in []service.Finding) []api.Finding {
	return each(in, func(f service.Finding) api.Finding {
		o := api.Finding{Level: api.FindingLevel(f.Level), Device: some(f.Device), File: some(f.File), What: f.What, Remedy: f.Remedy}
		if f.Line > 0 {
			o.Line = &f.Line
		}
		return o
	})
}

func buildOut(b store.Build) api.Build {
	f := b.Facts.V
	return api.Build{Id: b.ID, Ref: service.BuildRef(b), AppId: b.AppID, Label: f.Label, Platform: b.Platform, VersionName: b.VersionName, VersionCode: b.VersionCode,
		MinApi: f.MinAPI, TargetApi: f.TargetAPI, Permissions: full(f.Permissions), Abis: full(f.ABIs), Size: b.Size, Sha256: b.SHA256, Filename: b.Filename,
		Created: b.Created, HasIcon: b.IconKey != "", Debuggable: f.Debuggable}
}

func packageOut(p store.Package) api.Package {
	o := api.Package{Id: p.ID, Ref: service.PackageRef(p), Name: p.Name, Revision: p.Revision, Kind: p.Kind, About: p.About, Size: p.Size, Sha256: p.SHA256, Created: p.Created,
		Cases: []api.Case{}, Findings: findings(service.PackageFindings(p.Findings.V))}
	for _, c := range p.Cases.V {
		o.Cases = append(o.Cases, api.Case{Name: c.Name, File: c.File, Line: c.Line, About: some(c.About)})
	}
	return o
}

func deviceOut(d store.Device) api.Device {
	f := d.Facts.V
	state := api.DeviceState(d.State)
	if d.State == "ready" {
		state = "free"
		if d.Held {
			state = "held"
		}
	}
	return api.Device{Id: d.ID, Serial: d.Serial, State: state, Why: some(d.Why), Platform: f.Platform, Os: f.OS, Api: f.API, Maker: f.Maker, Model: f.Model, Form: f.Form,
		Origin: api.DeviceOrigin(f.Origin), Simulated: f.Simulated, Width: f.Width, Height: f.Height, Density: f.Density, WidthDp: f.WidthDP(), MemoryMb: f.MemoryMB,
		Abis: full(f.ABIs), Language: f.Language, Seen: d.Seen}
}

func runOut(v service.RunView) api.Run {
	vs := v.Verdicts()
	o := api.Run{Id: v.ID, Build: v.Request.V.Build, BuildId: v.BuildID, Package: v.Request.V.Package, PackageId: v.PackageID, Where: full(v.Request.V.Where),
		Devices: full(v.Request.V.Devices), LimitSeconds: v.LimitSeconds, Created: v.Created, Done: v.Ended.Valid, Verdict: verdictOut(v.Verdict),
		Sentence: report.Sentence(vs), Counts: counts(verdict.Count(vs...)), Legs: []api.LegSummary{}, Findings: findings(service.PlanFindings(v.Findings.V))}
	if v.Ended.Valid {
		o.Ended = &v.Ended.Time
	}
	for _, l := range v.Legs {
		s := api.LegSummary{Id: l.ID, Serial: l.Serial, Model: l.Facts.V.Maker + " " + l.Facts.V.Model, Os: l.Facts.V.OS, Simulated: l.Facts.V.Simulated, Stage: api.LegSummaryStage(l.Stage),
			Verdict: verdictOut(l.Verdict), Message: some(l.Message), CasesTotal: l.CasesTotal, Cases: counts(l.Cases), Now: some(l.NowCase.String)}
		if l.Started.Valid {
			s.Started = &l.Started.Time
		}
		if l.Ended.Valid {
			s.Ended = &l.Ended.Time
		}
		o.Legs = append(o.Legs, s)
	}
	return o
}

func legOut(l service.LegDetail) api.Leg {
	o := api.Leg{Id: l.ID, RunId: l.RunID, Build: l.Run.Request.V.Build, Package: l.Run.Request.V.Package, Device: deviceOut(l.Device), Stage: l.Stage,
		Verdict: verdictOut(l.Verdict), Message: some(l.Message), CasesTotal: l.CasesTotal, Attempts: []api.Attempt{}}
	for _, a := range l.Attempts {
		x := api.Attempt{Id: a.ID, Number: a.Number, Stage: a.Stage, Verdict: verdictOut(a.Verdict), Message: some(a.Message), Started: a.Started,
			Cases: []api.CaseResult{}, Artifacts: []api.Artifact{}}
		if a.Ended.Valid {
			x.Ended = &a.Ended.Time
		}
		if a.ClockDoubtMS.Valid {
			ms := int(a.ClockDoubtMS.Int64)
			x.ClockDoubtMs = &ms
		}
		for _, c := range a.Cases {
			x.Cases = append(x.Cases, api.CaseResult{Name: c.Name, Verdict: verdictOut(c.Verdict), Message: some(c.Message), Line: some(c.Line), Expected: some(c.Expected),
				Actual: some(c.Actual), Trace: some(c.Trace), Shot: some(c.Shot), Tree: some(c.Tree), StartMs: c.StartMS, TookMs: c.TookMS})
		}
		for _, f := range a.Artifacts {
			x.Artifacts = append(x.Artifacts, api.Artifact{Id: f.ID, Name: f.Name, Kind: api.ArtifactKind(f.Kind), ContentType: f.ContentType, Size: f.Size, Sha256: f.SHA256})
		}
		o.Attempts = append(o.Attempts, x)
	}
	return o
}
