package httpd

// What was done by hand as lines of a script, and lines that are run on a held device.

import (
	"context"
	"time"

	"tessellant/api"
	"tessellant/internal/core/scribe"
)

func (s *server) GetHeldScript(ctx context.Context, q api.GetHeldScriptRequestObject) (api.GetHeldScriptResponseObject, error) {
	lines, err := s.s.HeldScript(ctx, identity(ctx), q.Id)
	texts := each(lines, func(l scribe.Line) string { return l.Text })
	return api.GetHeldScript200JSONResponse{Lines: each(lines, func(l scribe.Line) api.ScriptLine { return api.ScriptLine{At: l.At, Text: l.Text} }), Source: scribe.Source(texts)}, err
}

func (s *server) RunOnHeld(ctx context.Context, q api.RunOnHeldRequestObject) (api.RunOnHeldResponseObject, error) {
	r, err := s.s.RunOnHeld(ctx, identity(ctx), q.Id, q.Body.Lines, number(q.Body.From), mapped(q.Body.Inputs), time.Duration(number(q.Body.Seconds))*time.Second)
	o := api.RunOnHeld200JSONResponse{Verdict: api.Verdict(r.Verdict), Message: some(r.Message), Expected: some(r.Expected), Actual: some(r.Actual), Seconds: float32(r.Took.Seconds())}
	if r.Line >= 0 {
		o.Line = &r.Line
	}
	return o, err
}

func (s *server) AddScript(ctx context.Context, q api.AddScriptRequestObject) (api.AddScriptResponseObject, error) {
	p, isNew, err := s.s.AddScript(ctx, identity(ctx), q.Body.Name, q.Body.Source)
	if err != nil {
		return nil, err
	}
	if isNew {
		return api.AddScript201JSONResponse(packageOut(p)), nil
	}
	return api.AddScript200JSONResponse(packageOut(p)), nil
}
