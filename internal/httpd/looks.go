package httpd

// What runs showed step by step.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/uitree"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func (s *server) ListSteps(ctx context.Context, q api.ListStepsRequestObject) (api.ListStepsResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	v, err := s.s.Steps(ctx, r)
	return api.ListSteps200JSONResponse{Run: r.ID, Number: r.Number, Reading: v.Reading, Cut: v.Cut, Steps: each(v.Steps, func(x service.StepLine) api.StepLine {
		return api.StepLine{Case: x.Case, Step: x.Name, Nth: x.Nth, Legs: x.Legs, Stacks: someOf(x.Stacks, x.Stacks), Odd: x.Odd, Moved: x.Moved}
	})}, err
}

func (s *server) GetStep(ctx context.Context, q api.GetStepRequestObject) (api.GetStepResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	v, err := s.s.Step(ctx, r, stepName(q.Params.Case, q.Params.Step, q.Params.Nth))
	if err != nil {
		return nil, err
	}
	return api.GetStep200JSONResponse{Run: r.ID, Number: r.Number, Case: v.Case, Step: v.Name, Nth: v.Nth, Reading: v.Reading, Cut: v.Cut, Without: full(v.Without), Unread: each(v.Unread, stepOn),
		Stacks: each(v.Stacks, func(x service.StepStack) api.StepStack {
			return api.StepStack{Apart: x.Apart, Tint: x.Tint, Legs: each(x.Legs, stepOn)}
		})}, nil
}

func stepName(name, step string, nth *int) service.StepName {
	n := service.StepName{Case: name, Name: step, Nth: 1}
	if nth != nil {
		n.Nth = *nth
	}
	return n
}

func stepOn(x service.StepOn) api.StepOn {
	f := x.Leg.Facts.V
	o := api.StepOn{Leg: x.Leg.ID, Device: x.Leg.Label(), Model: f.Maker + " " + f.Model, At: x.At, Picture: some(x.Picture), Verdict: api.Verdict(x.Verdict), Kind: some(x.Kind), Remarks: each(x.Remarks, func(r remarks.Remark) string { return r.Says })}
	if m := x.Moved; m != nil {
		o.Moved = &api.StepMoved{Reference: m.Reference, Says: m.Says(), Share: m.Share, Allowed: m.Allowed, Too: m.Too(), Regions: each(m.Regions, region)}
	}
	return o
}

func region(r uitree.Rect) api.Region {
	return api.Region{Left: r.Left, Top: r.Top, Right: r.Right, Bottom: r.Bottom}
}

func (s *server) GetRemarks(ctx context.Context, q api.GetRemarksRequestObject) (api.GetRemarksResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	v, err := s.s.Remarks(ctx, r)
	return api.GetRemarks200JSONResponse{Run: r.ID, Number: r.Number, Sentence: v.Sentence, Looked: v.Looked, Reading: v.Reading, Cut: v.Cut, Families: each(v.Families, remarkFamily)}, err
}

func remarkFamily(f service.RemarkFamily) api.RemarkFamily {
	x := f.Example
	o := api.RemarkFamily{Id: f.ID, Kind: api.RemarkKind(f.Kind), What: f.What, Says: f.Says, Rule: some(f.Rule), At: f.At(), Where: f.Where(), On: f.On, Legs: full(f.Legs), Devices: full(f.Devices),
		Example: api.RemarkExample{Leg: x.Leg, Device: x.Device, Case: x.Case, Step: some(x.Step), At: x.At, Says: x.Says, Picture: some(x.Picture)}}
	if !x.Bounds.Empty() {
		b := region(x.Bounds)
		o.Example.Bounds = &b
	}
	return o
}

func (s *server) GetSlower(ctx context.Context, q api.GetSlowerRequestObject) (api.GetSlowerResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	v, err := s.s.Slower(ctx, r)
	return api.GetSlower200JSONResponse{Run: r.ID, Number: r.Number, Sentence: v.Sentence, Looked: v.Looked, Measured: v.Measured, Reading: v.Reading, Cut: v.Cut, Things: each(v.Things, func(t service.SlowerThing) api.SlowerThing {
		return api.SlowerThing{Says: t.Says(), What: t.What(), Leg: t.Leg, Device: t.Device, Case: some(t.Case), Step: some(t.Step), By: t.By, Before: t.Before, Unit: t.Unit, Chance: t.Chance,
			Build: *buildName(&t.Build), ValuesBefore: t.Samples[0], ValuesNow: t.Samples[1]}
	})}, err
}

func (s *server) CompareLegs(ctx context.Context, q api.CompareLegsRequestObject) (api.CompareLegsResponseObject, error) {
	p := q.Params
	number := func(n *int) int {
		if n == nil {
			return 0
		}
		return *n
	}
	theirs := service.LegSide{Leg: q.Id, Attempt: number(p.WithAttempt), Try: number(p.WithTry)}
	if p.With != nil {
		theirs.Leg = *p.With
	}
	c, err := s.s.CompareLegs(ctx, identity(ctx), service.LegSide{Leg: q.Id, Attempt: number(p.Attempt), Try: number(p.Try)}, theirs, text(p.Case))
	if err != nil {
		return nil, err
	}
	o := api.CompareLegs200JSONResponse{Ours: comparedLeg(c.Ours), Theirs: comparedLeg(c.Theirs), Sentence: c.Sentence, Cut: c.Cut, Cases: []api.LegCasePair{}}
	ours, theirFiles := pictures(c.Ours), pictures(c.Theirs)
	for _, x := range c.Cases {
		pair := api.LegCasePair{Case: x.Case, Otherwise: x.Otherwise, Ours: caseSide(x.Ours, ours), Theirs: caseSide(x.Theirs, theirFiles), Steps: []api.LegStepPair{}}
		for i, st := range x.Steps {
			line := api.LegStepPair{Step: st.Name, Nth: st.Nth, Alike: x.Looks[i].Is, Ours: stepSide(st.Ours, st.OursTook, ours), Theirs: stepSide(st.Theirs, st.TheirsTook, theirFiles)}
			if x.Looks[i].Is != nil {
				line.Apart = &x.Looks[i].Apart
			}
			pair.Steps = append(pair.Steps, line)
		}
		o.Cases = append(o.Cases, pair)
	}
	return o, nil
}

// pictures are the ids of a side's files, by their names.
func pictures(v service.LegSideView) map[string]string {
	out := map[string]string{}
	for _, a := range v.Attempt.Artifacts {
		out[a.Name] = a.ID
	}
	return out
}

func comparedLeg(v service.LegSideView) api.ComparedLeg {
	l := v.Leg
	device := v.Attempt.Serial
	if l.Variant != "" {
		device += "/" + l.Variant
	}
	f := l.Device.Facts.V
	return api.ComparedLeg{Leg: l.ID, Run: l.RunID, Device: device, Model: f.Maker + " " + f.Model, Os: f.OS, System: f.System(), Attempt: v.Attempt.Number, Try: someOf(v.Try, v.Try), Video: some(pictures(v)["video.mp4"]), Verdict: verdictOut(v.Attempt.Verdict)}
}

func caseSide(t *steps.Try, files map[string]string) *api.LegCaseSide {
	if t == nil {
		return nil
	}
	return &api.LegCaseSide{Verdict: verdictOut(t.Verdict), Try: t.Number, At: t.From, TookMs: max(t.To-t.From, 0), Error: some(t.Error), Picture: some(files[t.File])}
}

func stepSide(st *steps.Step, took int64, files map[string]string) *api.LegStepSide {
	if st == nil {
		return nil
	}
	return &api.LegStepSide{At: st.At, TookMs: took, Picture: some(files[st.File])}
}

func (s *server) ListReferences(ctx context.Context, q api.ListReferencesRequestObject) (api.ListReferencesResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.References(ctx, identity(ctx), text(q.Params.Package), text(q.Params.After), limit)
	return api.ListReferences200JSONResponse{Items: each(rows, referenceOut), Next: some(next)}, err
}

func (s *server) KeepReferences(ctx context.Context, q api.KeepReferencesRequestObject) (api.KeepReferencesResponseObject, error) {
	r, err := s.s.FindRun(ctx, identity(ctx), q.Body.Run)
	if err != nil {
		return nil, err
	}
	kept, err := s.s.KeepReferences(ctx, identity(ctx), r, stepName(q.Body.Case, q.Body.Step, q.Body.Nth), listed(q.Body.Legs))
	return api.KeepReferences201JSONResponse{Items: each(kept, referenceOut)}, err
}

func (s *server) GetReference(ctx context.Context, q api.GetReferenceRequestObject) (api.GetReferenceResponseObject, error) {
	r, err := s.s.Reference(ctx, identity(ctx), q.Id)
	return api.GetReference200JSONResponse(referenceOut(r)), err
}

func (s *server) SetReference(ctx context.Context, q api.SetReferenceRequestObject) (api.SetReferenceResponseObject, error) {
	var masks []uitree.Rect
	if q.Body.Masks != nil {
		masks = []uitree.Rect{}
		for _, m := range *q.Body.Masks {
			masks = append(masks, uitree.Rect{Left: m.Left, Top: m.Top, Right: m.Right, Bottom: m.Bottom})
		}
	}
	r, err := s.s.SetReference(ctx, identity(ctx), q.Id, masks, q.Body.Allowed)
	return api.SetReference200JSONResponse(referenceOut(r)), err
}

func (s *server) RemoveReference(ctx context.Context, q api.RemoveReferenceRequestObject) (api.RemoveReferenceResponseObject, error) {
	return api.RemoveReference204Response{}, s.s.RemoveReference(ctx, identity(ctx), q.Id)
}

func (s *server) GetReferencePicture(ctx context.Context, q api.GetReferencePictureRequestObject) (api.GetReferencePictureResponseObject, error) {
	r, err := s.s.ReferencePicture(ctx, identity(ctx), q.Id)
	return api.GetReferencePicture200ImagepngResponse{Body: r}, err
}

func referenceOut(r store.Reference) api.Reference {
	return api.Reference{Id: r.ID, App: r.Slug + "/" + r.Platform, Package: r.Package, Case: r.Case, Step: r.Step, Nth: r.Nth, Kind: r.Kind, Width: r.Width, Height: r.Height, Masks: each(r.Masks.V, region), Allowed: r.Allowed,
		Run: r.RunID, Leg: r.WorkID, By: r.MadeBy, Created: r.Created, InForce: !r.Ended.Valid}
}
