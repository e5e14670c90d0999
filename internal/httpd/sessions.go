package httpd

// Sessions: lists, marks, ends. What was gathered of them is asked for as of legs.

import (
	"context"
	"net/http"

	"tessellant/api"
	"tessellant/internal/core/snippet"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func (s *server) ListSessions(ctx context.Context, q api.ListSessionsRequestObject) (api.ListSessionsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	f := store.SessionFilter{Group: text(q.Params.Group), Serial: text(q.Params.Device), Going: q.Params.Going != nil && *q.Params.Going}
	rows, next, open, waiting, err := s.s.ListSessions(ctx, identity(ctx), f, text(q.Params.After), limit)
	return api.ListSessions200JSONResponse{Items: each(rows, sessionOut), Next: some(next), Open: open, Waiting: waiting}, err
}

func (s *server) GetSession(ctx context.Context, q api.GetSessionRequestObject) (api.GetSessionResponseObject, error) {
	v, err := s.s.Session(ctx, identity(ctx), q.Id)
	return api.GetSession200JSONResponse(sessionOut(v)), err
}

func (s *server) StopSession(ctx context.Context, q api.StopSessionRequestObject) (api.StopSessionResponseObject, error) {
	v, err := s.s.StopSession(ctx, identity(ctx), q.Id)
	return api.StopSession200JSONResponse(sessionOut(v)), err
}

func (s *server) MarkSession(ctx context.Context, q api.MarkSessionRequestObject) (api.MarkSessionResponseObject, error) {
	v, err := s.s.MarkSession(ctx, identity(ctx), q.Id, text(q.Body.Case), verdict.Verdict(q.Body.Verdict), text(q.Body.Message))
	return api.MarkSession200JSONResponse(sessionOut(v)), err
}

func (s *server) ReportSession(ctx context.Context, q api.ReportSessionRequestObject) (api.ReportSessionResponseObject, error) {
	v, err := s.s.ReportSession(ctx, identity(ctx), q.Id, q.Body)
	return api.ReportSession200JSONResponse(sessionOut(v)), err
}

func (s *server) GetSnippet(ctx context.Context, q api.GetSnippetRequestObject) (api.GetSnippetResponseObject, error) {
	r, _ := ctx.Value(keyRequest).(*http.Request)
	scheme := "http://"
	if overTLS(r) {
		scheme = "https://"
	}
	l, program, n, err := s.s.Snippet(ctx, identity(ctx), q.Language, snippet.Choice{URL: scheme + r.Host, Build: text(q.Params.Build), Where: listed(q.Params.Where), Group: text(q.Params.Group), Name: text(q.Params.Name)})
	return api.GetSnippet200JSONResponse{Language: l.Name, Title: l.Title, File: l.File, Run: l.Run, Program: program, Devices: n}, err
}

func sessionOut(v service.SessionView) api.Session {
	q := v.Request.V
	o := api.Session{Id: v.ID, Group: v.Group, Name: v.Name, Stage: api.SessionStage(v.Stage), Verdict: verdictOut(v.Verdict), Inferred: v.Inferred, Message: some(v.Message), Build: q.Build, Where: full(q.Where),
		Place: someOf(v.Place, v.Place), NowCase: some(v.NowCase.String), How: some(v.How), ByHand: someTrue(v.ByHand), By: some(v.AskedName.String), Created: v.Created, PatienceSeconds: float32(q.Patience), LimitSeconds: float32(q.Limit), IdleSeconds: float32(q.Idle), CaseVerdicts: []string{}}
	var vs []verdict.Verdict
	for _, c := range v.Cases {
		said := string(c.Verdict)
		switch {
		case said != "":
			vs = append(vs, c.Verdict)
		case v.Stage == "done":
			said = "open"
		default:
			said = "running"
		}
		o.CaseVerdicts = append(o.CaseVerdicts, said)
	}
	o.Cases = counts(verdict.Count(vs...))
	if v.Serial.Valid {
		f := v.Facts.V
		o.Device = &api.SessionDevice{Serial: v.Serial.String, Model: f.Maker + " " + f.Model, Os: f.OS, System: f.System(), Simulated: f.Simulated}
	}
	if v.Stop && v.Stage != "done" {
		o.Stopping = &v.Stop
	}
	if v.Started.Valid {
		o.Started = &v.Started.Time
	}
	if v.Ended.Valid {
		o.Ended = &v.Ended.Time
	}
	return o
}
