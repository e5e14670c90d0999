package httpd

// Runs: planned, started, named, stopped, listed.

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/service"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// runRequest reads a request for a run.
func runRequest(q api.RunRequest) (r service.RunRequest, err error) {
	r = service.RunRequest{Build: q.Build, Package: q.Package, Name: text(q.Name), Labels: mapped(q.Labels), Pool: text(q.Pool), Beside: listed(q.Beside), Others: listed(q.OtherBuilds), Fetch: listed(q.Fetch), Bounds: listed(q.Bounds), Remarks: text((*string)(q.Remarks)),
		Models: q.Models != nil && *q.Models, Spread: q.Spread != nil && *q.Spread}
	if q.Where != nil {
		r.Where = *q.Where
	}
	if q.Devices != nil {
		r.Devices = *q.Devices
	}
	if q.LimitSeconds != nil {
		r.LimitSeconds = *q.LimitSeconds
		if r.LimitSeconds == 0 {
			r.LimitSeconds = -1 // said, and makes no sense
		}
	}
	r.Cases, r.Tags, r.Inputs, r.Secrets = listed(q.Cases), listed(q.Tags), mapped(q.Inputs), mapped(q.Secrets)
	r.Routes, r.Helpers = listed(q.Routes), listed(q.Helpers)
	if q.Confirm != nil {
		r.Confirm = *q.Confirm
	}
	if q.Attempts != nil {
		r.Attempts = *q.Attempts
		if r.Attempts == 0 {
			r.Attempts = -1
		}
	}
	if q.Take != nil {
		r.Take = pools.How(*q.Take)
	}
	if q.N != nil {
		r.N = *q.N
	}
	if r.Conditions, err = conditionsIn(q.Conditions); err != nil {
		return r, err
	}
	if q.Recording != nil {
		set, err := recording.Usual().WithAll(*q.Recording)
		if err != nil {
			return r, refuse.New(refuse.Invalid, "choose what is kept", "such as video: off", "%v", err)
		}
		r.Recording = &set
	}
	if q.Variants != nil {
		for _, v := range *q.Variants {
			set, err := conditionsIn(v.Conditions)
			if err != nil {
				return r, err
			}
			r.Variants = append(r.Variants, conditions.Variant{Name: v.Name, Conditions: set})
		}
	}
	if q.Lines != nil {
		for _, l := range *q.Lines {
			set, err := conditionsIn(l.Conditions)
			if err != nil {
				return r, err
			}
			r.Lines = append(r.Lines, store.Line{Device: l.Device, Version: text(l.Version), Language: text(l.Language), Orientation: text(l.Orientation), Variant: text(l.Variant), Conditions: set, Cases: listed(l.Cases)})
		}
	}
	if q.Put != nil {
		for _, f := range *q.Put {
			r.Put = append(r.Put, work.File{From: f.From, To: f.To})
		}
	}
	return r, nil
}

// conditionsIn reads conditions as they stand in JSON.
func conditionsIn(m *map[string]string) (set conditions.Set, err error) {
	if m == nil {
		return nil, nil
	}
	for _, name := range slices.Sorted(maps.Keys(*m)) {
		if set, err = set.With(name, (*m)[name]); err != nil {
			return nil, refuse.New(refuse.Invalid, "set the conditions", "such as language: de", "%v", err)
		}
	}
	return set, nil
}

func (s *server) StopRun(ctx context.Context, q api.StopRunRequestObject) (api.StopRunResponseObject, error) {
	leg := ""
	if q.Body != nil {
		leg = text(q.Body.Leg)
	}
	v, err := s.s.StopRun(ctx, identity(ctx), q.Id, leg)
	return api.StopRun200JSONResponse(runOut(v)), err
}

func (s *server) CheckRun(ctx context.Context, q api.CheckRunRequestObject) (api.CheckRunResponseObject, error) {
	r, err := runRequest(*q.Body)
	if err != nil {
		return nil, err
	}
	p, err := s.s.CheckRun(ctx, identity(ctx), r)
	if err != nil {
		return nil, err
	}
	o := api.CheckRun200JSONResponse{Devices: []string{}, Cases: len(p.Cases), Findings: findings(refuse.PlanFindings(p.Findings)), Legs: []api.PlannedLeg{},
		File: plans.AsFile(r.Asked(), r.Name, r.Labels, r.LimitSeconds).YAML()}
	for _, d := range p.Devices {
		o.Devices = append(o.Devices, d.Facts.Serial)
	}
	for _, l := range p.Legs {
		likely := l.Likely.Likely.Seconds()
		o.Legs = append(o.Legs, api.PlannedLeg{Serial: l.Device.Facts.Serial, Variant: some(l.Variant.Name), Conditions: conditionsOut(l.Variant.Conditions), Cases: len(l.Cases), AnyUnit: someTrue(l.AnyUnit), LikelySeconds: &likely})
	}
	if len(p.Legs) > 0 {
		o.Forecast = forecastOut(p.Forecast)
	}
	if p.Cover != nil {
		o.Cover = coverOut(p.Cover)
	}
	return o, nil
}

func (s *server) StartRun(ctx context.Context, q api.StartRunRequestObject) (api.StartRunResponseObject, error) {
	who := identity(ctx)
	r, err := runRequest(*q.Body)
	if err != nil {
		return nil, err
	}
	r.IdempotencyKey = text(q.Params.IdempotencyKey)
	o, isNew, err := s.startRun(ctx, who, r)
	if isNew || err != nil {
		return api.StartRun201JSONResponse(o), err
	}
	return api.StartRun200JSONResponse(o), nil
}

// againOf reads what of a run is wanted again.
func againOf(q api.AgainRequest) service.AgainRequest {
	return service.AgainRequest{Failed: q.Failed != nil && *q.Failed, Families: listed(q.Families), Cases: listed(q.Cases), Devices: listed(q.Devices), Build: text(q.Build), Name: text(q.Name), Labels: mapped(q.Labels), Secrets: mapped(q.Secrets)}
}

func (s *server) CheckAgain(ctx context.Context, q api.CheckAgainRequestObject) (api.CheckAgainResponseObject, error) {
	r, saves, err := s.s.Again(ctx, identity(ctx), q.Id, againOf(*q.Body))
	if err != nil {
		return nil, err
	}
	p, err := s.s.CheckRun(ctx, identity(ctx), r)
	if err != nil {
		return nil, err
	}
	o := api.CheckAgain200JSONResponse{Legs: saves.Legs, OfLegs: saves.OfLegs, Cases: saves.Cases, OfCases: saves.OfCases, DeviceSeconds: saves.Part.Seconds(), SavesSeconds: saves.Saves.Seconds(), Findings: findings(refuse.PlanFindings(p.Findings))}
	if len(p.Legs) > 0 {
		o.Forecast = forecastOut(p.Forecast)
	}
	return o, nil
}

func (s *server) RunAgain(ctx context.Context, q api.RunAgainRequestObject) (api.RunAgainResponseObject, error) {
	who := identity(ctx)
	r, _, err := s.s.Again(ctx, who, q.Id, againOf(*q.Body))
	if err != nil {
		return nil, err
	}
	r.IdempotencyKey = text(q.Params.IdempotencyKey)
	o, isNew, err := s.startRun(ctx, who, r)
	if isNew || err != nil {
		return api.RunAgain201JSONResponse(o), err
	}
	return api.RunAgain200JSONResponse(o), nil
}

// startRun starts a run and answers it as it stands then; not new: its key had started it before.
func (s *server) startRun(ctx context.Context, who service.Identity, r service.RunRequest) (o api.Run, isNew bool, err error) {
	run, isNew, err := s.s.StartRun(ctx, who, r)
	if err != nil {
		return o, false, err
	}
	v, err := s.s.Run(ctx, who, run.ID)
	return runOut(v), isNew, err
}

func (s *server) ListRuns(ctx context.Context, q api.ListRunsRequestObject) (api.ListRunsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	choice := service.RunChoice{Build: text(q.Params.Build), Package: text(q.Params.Package), StartedBy: text(q.Params.By), Search: text(q.Params.Search)}
	if choice.Labels, err = labelsIn(q.Params.Label); err != nil {
		return nil, err
	}
	if v := q.Params.Verdict; v != nil {
		if !v.Valid() {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: "list the runs", Why: fmt.Sprintf("there is no verdict %q", *v), Remedy: "choose one of crashed, failed, expired, invalid, lost, stopped, flaky, passed, skipped"}
		}
		choice.Verdict = verdict.Verdict(*v)
	}
	rows, next, err := s.s.ListRuns(ctx, identity(ctx), choice, text(q.Params.After), limit)
	return api.ListRuns200JSONResponse{Items: each(rows, runOut), Next: some(next)}, err
}

func (s *server) GetRun(ctx context.Context, q api.GetRunRequestObject) (api.GetRunResponseObject, error) {
	v, err := s.s.Run(ctx, identity(ctx), q.Id)
	return api.GetRun200JSONResponse(runOut(v)), err
}

func runOut(v service.RunView) api.Run {
	o := api.Run{Id: v.ID, Number: v.Number, Name: v.Name, Labels: fullMap(v.Labels.V), StartedBy: some(v.StartedBy), Build: v.Request.V.Build, BuildId: v.BuildID, Package: v.Request.V.Package, PackageId: v.PackageID, Where: full(v.Request.V.Where),
		Devices: full(v.Request.V.Devices), LimitSeconds: v.LimitSeconds, Created: v.Created, Done: v.Ended.Valid, Verdict: verdictOut(v.Verdict),
		Sentence: v.Sentence, Counts: counts(verdict.Count(v.Verdicts...)), Stages: v.Stages, CaseNames: full(v.CaseNames), Legs: each(v.Legs, legSummary),
		Findings: findings(refuse.PlanFindings(v.Findings.V))}
	if v.Ended.Valid {
		o.Ended = &v.Ended.Time
	}
	if v.Stopped.Valid {
		o.Stopped = &v.Stopped.Time
	}
	q := v.Request.V
	o.Cases, o.Tags, o.Inputs, o.Secrets = someOf(len(q.Cases), q.Cases), someOf(len(q.Tags), q.Tags), someOf(len(q.Inputs), q.Inputs), someOf(len(q.Secrets), q.Secrets)
	o.Confirm, o.MaxAttempts = q.Confirm, q.MaxAttempts()
	if len(v.Lent) > 0 {
		lent := each(v.Lent, func(l store.LentTime) api.LentTime {
			return api.LentTime{Lab: l.Lab, Seconds: float32(l.Seconds), Attempts: l.Attempts}
		})
		o.Lent = &lent
	}
	o.OtherBuilds = someOf(len(q.Others), q.Others)
	o.Routes, o.Helpers = someOf(len(q.Routes), q.Routes), someOf(len(q.Helpers), q.Helpers)
	o.Pool, o.Models, o.Spread, o.Beside, o.Fetch, o.N = some(q.Pool), someTrue(q.Models), someTrue(q.Spread), someOf(len(q.Beside), q.Beside), someOf(len(q.Fetch), q.Fetch), someOf(q.N, q.N)
	o.Conditions = conditionsOut(q.Conditions)
	if a := q.Again; a != nil {
		o.Again = &api.AgainOf{Run: a.Run, Number: a.Number, What: a.What}
	}
	o.Recording, o.Bounds = q.Kept().Map(), someOf(len(q.Bounds), q.Bounds)
	o.Remarks = someOf(len(q.Remarks), api.RemarksDo(q.Remarks))
	if q.Take != "" {
		take := api.RunTake(q.Take)
		o.Take = &take
	}
	if len(q.Variants) > 0 {
		all := each(q.Variants, func(v conditions.Variant) api.Variant {
			return api.Variant{Name: v.Name, Conditions: conditionsOut(v.Conditions)}
		})
		o.Variants = &all
	}
	if len(q.Lines) > 0 {
		all := each(q.Lines, func(l store.Line) api.DeviceLine {
			return api.DeviceLine{Device: l.Device, Version: some(l.Version), Language: some(l.Language), Orientation: some(l.Orientation), Variant: some(l.Variant), Conditions: conditionsOut(l.Conditions), Cases: someOf(len(l.Cases), l.Cases)}
		})
		o.Lines = &all
	}
	if len(q.Put) > 0 {
		all := each(q.Put, func(f work.File) api.PutFile { return api.PutFile{From: f.From, To: f.To} })
		o.Put = &all
	}
	if f := v.Forecast.V; f != nil {
		o.Forecast = forecastOut(*f)
		if v.Ended.Valid && !v.Stopped.Valid {
			held := api.ForecastHeld(f.Whole.Held(v.Ended.Time.Sub(v.Created)))
			o.Forecast.Held = &held
		}
	}
	return o
}

// fullMap is never nil.
func fullMap(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

func conditionsOut(set conditions.Set) *map[string]string {
	if len(set) == 0 {
		return nil
	}
	m := map[string]string(set)
	return &m
}

func forecastOut(f planning.Forecast) *api.Forecast {
	wait := f.Wait.Seconds()
	return &api.Forecast{LowSeconds: f.Whole.Low.Seconds(), LikelySeconds: f.Whole.Likely.Seconds(), HighSeconds: f.Whole.High.Seconds(), WaitSeconds: &wait, Basis: f.Basis, Guess: f.Guess}
}

func labelsIn(all *[]string) (map[string]string, error) {
	m, err := labels.Parse(listed(all))
	if err != nil {
		return nil, refuse.New(refuse.Invalid, "list", "write name=value, such as label=branch=main", "%v", err)
	}
	return m, nil
}

func (s *server) NameRun(ctx context.Context, q api.NameRunRequestObject) (api.NameRunResponseObject, error) {
	v, err := s.s.NameRun(ctx, identity(ctx), q.Id, q.Body.Name)
	return api.NameRun200JSONResponse(runOut(v)), err
}

func (s *server) LabelRun(ctx context.Context, q api.LabelRunRequestObject) (api.LabelRunResponseObject, error) {
	v, err := s.s.LabelRun(ctx, identity(ctx), q.Id, mapped(q.Body.Set), listed(q.Body.Remove))
	return api.LabelRun200JSONResponse(runOut(v)), err
}

func (s *server) GetRunFile(ctx context.Context, q api.GetRunFileRequestObject) (api.GetRunFileResponseObject, error) {
	file, err := s.s.RunFile(ctx, identity(ctx), q.Id)
	return api.GetRunFile200ApplicationyamlResponse{Body: strings.NewReader(file), ContentLength: int64(len(file))}, err
}
