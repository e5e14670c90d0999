package httpd

// What runs say, and what people say of it.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/core/triage"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

func (s *server) GetRunAnswer(ctx context.Context, q api.GetRunAnswerRequestObject) (api.GetRunAnswerResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	a, err := s.s.Answer(ctx, r)
	return api.GetRunAnswer200JSONResponse(answerOut(r, a)), err
}

func (s *server) MarkFamily(ctx context.Context, q api.MarkFamilyRequestObject) (api.MarkFamilyResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	m := service.FamilyMark{Kind: string(q.Body.Kind), Reference: text(q.Body.Reference), Note: text(q.Body.Note)}
	if q.Body.Until != nil {
		m.Until = *q.Body.Until
	}
	a, err := s.s.Mark(ctx, identity(ctx), r, q.Family, m)
	return api.MarkFamily200JSONResponse(answerOut(r, a)), err
}

func (s *server) UnmarkFamily(ctx context.Context, q api.UnmarkFamilyRequestObject) (api.UnmarkFamilyResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	a, err := s.s.Unmark(ctx, identity(ctx), r, q.Family)
	return api.UnmarkFamily200JSONResponse(answerOut(r, a)), err
}

func answerOut(r store.Run, a service.RunAnswer) api.Answer {
	o := api.Answer{Run: r.ID, Number: r.Number, Sentence: a.Sentence, Over: a.Over, Verdict: verdictOut(r.Verdict), LayBy: some(a.LayBy), Families: each(a.Families, familyOut),
		Gone: each(a.Gone, func(g service.GoneFamily) api.Gone {
			return api.Gone{Id: g.ID, Says: g.Says(a.Before), Kind: api.Verdict(g.Kind), Title: g.Title, Devices: full(g.Devices), Cases: full(g.Cases), Standing: api.GoneStanding(g.Standing)}
		})}
	if b := a.Before; b != nil {
		o.Before = &api.Baseline{Run: b.Run, Number: b.Number, Build: b.Build, Runs: b.Runs}
	}
	return o
}

func familyOut(f service.Family) api.Family {
	o := api.Family{Id: f.ID, Kind: api.Verdict(f.Kind), Head: f.Head(), Says: full(f.Says()), Where: f.Where(), Title: f.Title, Message: f.Message, Pattern: some(f.Pattern), Cause: some(f.Cause), Frames: full(f.Frames), On: f.On, Legs: full(f.Legs), Devices: full(f.Devices), Cases: full(f.Cases),
		Failures: f.Failures, FirstBad: buildName(f.FirstBad), LastGood: buildName(f.LastGood), Excused: some(f.Excused),
		Joined: each(f.Joined, func(j service.JoinedSignature) api.JoinedSignature {
			return api.JoinedSignature{Pattern: j.Pattern, Own: j.Own, Other: j.Other, Failures: j.Failures}
		}),
		Example: api.FailureExample{Leg: f.Example.Leg, Attempt: f.Example.Attempt, Case: f.Example.Case, Shot: some(f.Example.Shot), Picture: some(f.Example.Picture)}}
	if f.Standing == triage.New || f.Standing == triage.Still {
		standing := api.FamilyStanding(f.Standing)
		o.Standing = &standing
	}
	if r := f.Rule; r != nil {
		o.Rule = &api.FamilyRule{Sentence: r.Sentence, Phrase: r.Phrase, FailIn: r.FailIn, PassIn: r.PassIn, FailOut: r.FailOut, PassOut: r.PassOut, Chance: r.Chance, Also: full(r.Also),
			Literals: each(r.Literals, func(l triage.Literal) api.RuleLiteral {
				return api.RuleLiteral{Trait: l.Trait, Op: api.RuleLiteralOp(l.Op), Value: l.Value}
			})}
	}
	if h := f.Hint; h != nil {
		o.Hint = &api.FamilyHint{Device: h.Device, Sentence: h.Sentence}
	}
	if f.Rate != nil {
		rate := rateOut(f.Rate)
		o.Rate = &rate
	}
	if m := f.Mark; m != nil {
		o.Mark = &api.FamilyMark{Kind: api.FamilyMarkKind(m.Kind), Reference: some(m.Reference), Note: some(m.Note), Until: m.Until, By: m.By, Created: m.Created}
	}
	return o
}

func buildName(b *service.BuildRef) *api.BuildName {
	if b == nil {
		return nil
	}
	return &api.BuildName{Id: b.ID, Ref: b.Ref, Version: b.Version}
}

func rateOut(r *service.Rate) api.FlakyRate {
	return api.FlakyRate{Times: r.Times, Of: r.Of, Low: r.Low, High: r.High, Runs: r.Runs}
}

func (s *server) GetCaseHistory(ctx context.Context, q api.GetCaseHistoryRequestObject) (api.GetCaseHistoryResponseObject, error) {
	h, err := s.s.CaseHistory(ctx, identity(ctx), service.HistoryOf{Case: q.Params.Case, Package: text(q.Params.Package), App: text(q.Params.App)})
	if err != nil {
		return nil, err
	}
	o := api.GetCaseHistory200JSONResponse{Case: h.Case, Package: h.Package, App: h.App, Flaky: rateOut(h.Rate), Bad: rateOut(h.Bad), Quiet: h.Quiet, Cut: h.Cut, Builds: []api.BuildName{}, Devices: []api.HistoryRow{}}
	if h.Rate.Times > 0 {
		o.QuietChance = &h.QuietChance
	}
	for _, b := range h.Builds {
		o.Builds = append(o.Builds, *buildName(&b))
	}
	for _, d := range h.Devices {
		row := api.HistoryRow{Serial: d.Serial, Model: d.Model, Os: d.OS, System: d.System, Set: d.Set, Cells: []api.HistoryCell{}}
		for _, c := range d.Cells {
			row.Cells = append(row.Cells, api.HistoryCell{Build: c.Build, Verdict: api.Verdict(c.Verdict), Run: c.Run, Number: c.Number, Leg: c.Leg, Family: some(c.Signature), TookSeconds: c.Took.Seconds(), Times: c.Times, Bad: c.Bad, Flaky: c.Flaky})
		}
		o.Devices = append(o.Devices, row)
	}
	return o, nil
}

const maxDifferences = 2000

func (s *server) CompareRuns(ctx context.Context, q api.CompareRunsRequestObject) (api.CompareRunsResponseObject, error) {
	who := identity(ctx)
	now, err := s.s.FindRun(ctx, who, q.Id)
	if err != nil {
		return nil, err
	}
	with := text(q.Params.With)
	if with == "" {
		a, err := s.s.Answers.Of(ctx, now)
		if err != nil {
			return nil, err
		}
		if a.Before == nil {
			return nil, refuse.New(refuse.Refused, "compare the run", "name the run before", "no run of the same app and package on the same devices came before run %d", now.Number)
		}
		with = a.Before.Run
	}
	before, err := s.s.FindRun(ctx, who, with)
	if err != nil {
		return nil, err
	}
	c, err := s.s.Compare(ctx, before, now)
	if err != nil {
		return nil, err
	}
	o := api.CompareRuns200JSONResponse{Before: comparedRun(before), Now: comparedRun(now), Sentence: c.Sentence, Worse: c.Worse, Better: c.Better, FlakyNow: c.NewFlaky, Alike: c.Alike, OnlyBefore: c.OnlyBefore, OnlyNow: c.OnlyNow,
		LegsBefore: c.LegsBefore, LegsNow: c.LegsNow, Cut: len(c.Differences) > maxDifferences, Differences: []api.CaseDifference{},
		Families: each(c.Families, func(f service.ComparedFamily) api.ComparedFamily {
			return api.ComparedFamily{Id: f.ID, Kind: api.Verdict(f.Kind), Title: f.Title, Before: f.Before, Now: f.Now}
		})}
	for _, d := range c.Differences[:min(len(c.Differences), maxDifferences)] {
		l := c.LegOf(true, d.Now)
		o.Differences = append(o.Differences, api.CaseDifference{Case: d.Case, Device: l.Label(), Before: api.Verdict(d.BeforeWas), Now: api.Verdict(d.NowIs), BeforeLeg: c.LegOf(false, d.Before).ID, NowLeg: l.ID, Worse: d.Worse})
	}
	return o, nil
}

func comparedRun(r store.Run) api.ComparedRun {
	return api.ComparedRun{Id: r.ID, Number: r.Number, Name: some(r.Name), Build: r.Request.V.Build, Package: r.Request.V.Package, Verdict: verdictOut(r.Verdict)}
}
