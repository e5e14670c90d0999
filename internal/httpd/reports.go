package httpd

// What came of runs, for people and tools elsewhere.

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"

	"tessellant/api"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/report"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

func (s *server) GetRunReport(ctx context.Context, q api.GetRunReportRequestObject) (api.GetRunReportResponseObject, error) {
	name, suites, err := s.s.RunReport(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	if err := junit.Write(&buf, name, suites); err != nil {
		return nil, err
	}
	return api.GetRunReport200ApplicationxmlResponse{Body: &buf, ContentLength: int64(buf.Len())}, nil
}

// forms are the forms of reports: their media types, and how files of them end.
var forms = map[api.GetReportParamsForm][2]string{
	api.Html: {"text/html; charset=utf-8", "html"}, api.Csv: {"text/csv; charset=utf-8", "csv"}, api.Json: {"application/json", "json"}, api.Tap: {"text/plain; charset=utf-8", "tap"}, api.Junit: {"application/xml", "xml"},
}

func (s *server) GetReport(ctx context.Context, q api.GetReportRequestObject) (api.GetReportResponseObject, error) {
	form, ok := forms[q.Params.Form]
	if !ok {
		return nil, refuse.New(refuse.Invalid, "write the report", "choose one of html, csv, json, tap, junit", "there is no form %.50q", q.Params.Form)
	}
	who := identity(ctx)
	first, err := s.s.FindRun(ctx, who, q.Id)
	if err != nil {
		return nil, err
	}
	ids := append([]string{first.ID}, listed(q.Params.With)...)
	out := reportOut{s: s.s, media: form[0], name: fmt.Sprintf("run-%d.%s", first.Number, form[1]), run: first.ID}
	switch q.Params.Form {
	case api.Html:
		page, err := s.s.Page(ctx, who, ids)
		if err != nil {
			return nil, err
		}
		out.write = page.Write
	case api.Junit:
		name, suites, err := s.s.RunReport(ctx, who, ids...)
		if err != nil {
			return nil, err
		}
		var buf bytes.Buffer
		if err := junit.Write(&buf, name, suites); err != nil {
			return nil, err
		}
		out.write = func(w io.Writer) error { _, err := w.Write(buf.Bytes()); return err }
	default:
		for _, id := range ids[1:] { // what is named and is not there is said before anything is written
			if _, err := s.s.FindRun(ctx, who, id); err != nil {
				return nil, err
			}
		}
		out.write = func(w io.Writer) error {
			rows := report.NewRows(string(q.Params.Form), w)
			if err := s.s.EachRow(ctx, who, ids, rows.Row); err != nil {
				return err
			}
			return rows.End()
		}
	}
	return out, nil
}

// reportOut sends a report while it is written.
type reportOut struct {
	s                *service.Service
	media, name, run string
	write            func(io.Writer) error
}

func (o reportOut) VisitGetReportResponse(w http.ResponseWriter) error {
	h := w.Header()
	h.Set("Content-Type", o.media)
	h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", o.name))
	h.Set("Content-Security-Policy", "sandbox") // what apps and tests said stands in it
	if err := o.write(w); err != nil {
		o.s.Log.Warn("a report was not sent whole", "run", o.run, "err", err)
		panic(http.ErrAbortHandler) // so that the client sees that it was cut off
	}
	return nil
}
