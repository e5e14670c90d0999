package httpd

// What was gathered: artifacts in ranges, timelines, windows of logs, zips.

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"tessellant/api"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/tracks"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

func (s *server) GetTimeline(ctx context.Context, q api.GetTimelineRequestObject) (api.GetTimelineResponseObject, error) {
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	// A window is read and written by a few at a time: it lies in memory in several forms meanwhile.
	select {
	case s.windows <- struct{}{}:
		defer func() { <-s.windows }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	v, err := s.s.Timeline(ctx, identity(ctx), q.Id, n, text(q.Params.From))
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(api.Timeline{Attempt: v.Attempt, Live: v.Live, Events: full(v.Events), Next: some(v.Next)})
	return written(raw), err
}

// windowsAtOnce is how many windows of timelines are read at the same time.
const windowsAtOnce = 3

// written is an answer that is JSON already.
type written []byte

func (b written) VisitGetTimelineResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	_, err := w.Write(b)
	return err
}

func attemptOf(n *int) (int, error) {
	if n == nil {
		return 0, nil
	}
	if *n < 1 {
		return 0, &refuse.Error{Kind: refuse.Invalid, Title: "find the attempt", Why: fmt.Sprintf("there is no attempt %d", *n), Remedy: "attempts are counted from 1"}
	}
	return *n, nil
}

func (s *server) GetScreen(ctx context.Context, q api.GetScreenRequestObject) (api.GetScreenResponseObject, error) {
	raw, err := s.s.Screen(ctx, identity(ctx), q.Id)
	return api.GetScreen200ImagejpegResponse{Body: bytes.NewReader(raw), ContentLength: int64(len(raw))}, err
}

func (s *server) GetLog(ctx context.Context, q api.GetLogRequestObject) (api.GetLogResponseObject, error) {
	const title = "read the device's log"
	c := service.LogChoice{Choice: devicelog.Choice{Tag: text(q.Params.Tag), Text: text(q.Params.Text)}, Limit: 200, Near: q.Params.Near}
	if l := q.Params.Level; l != nil {
		if !l.Valid() {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: fmt.Sprintf("there is no level %q", *l), Remedy: "choose one of V D I W E F"}
		}
		c.Level = string(*l)[0]
	}
	if q.Params.Limit != nil {
		if c.Limit = *q.Params.Limit; c.Limit < 1 || c.Limit > 1000 {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: "limit must be 1 to 1000", Remedy: "ask for less, and for the rest with from"}
		}
	}
	if q.Params.From != nil {
		if c.From = *q.Params.From; c.From < 0 {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: "rows are counted from 0"}
		}
	}
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	w, err := s.s.DeviceLog(ctx, identity(ctx), q.Id, n, c)
	return api.GetLog200JSONResponse{Rows: w.Rows, From: w.From, Near: w.Near, Items: each(w.Lines, func(l service.LogLine) api.LogLine {
		o := api.LogLine{Row: l.Row, Line: l.Line + 1, At: l.At, Level: l.Level, Tag: l.Tag, Text: l.Text, Crash: l.Crash}
		if l.Level != "" {
			o.Pid = &l.PID
		}
		return o
	})}, err
}

func (s *server) GetLogOverview(ctx context.Context, q api.GetLogOverviewRequestObject) (api.GetLogOverviewResponseObject, error) {
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	v, err := s.s.LogOverview(ctx, identity(ctx), q.Id, n)
	return api.GetLogOverview200JSONResponse{Lines: v.Lines, Size: v.Size, Aligned: v.Aligned, SliceMs: v.SliceMS, Density: full(v.Density), Warnings: full(v.Warnings),
		Crashes: full(v.Crashes), Tags: each(v.Tags, func(t devicelog.TagCount) api.LogTag { return api.LogTag{Name: t.Name, Lines: t.Lines} })}, err
}

// usualPoints is in how many points a gauge is answered unless said.
const usualPoints = 4000

func (s *server) GetGauges(ctx context.Context, q api.GetGaugesRequestObject) (api.GetGaugesResponseObject, error) {
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	c := service.GaugesChoice{Points: usualPoints}
	if q.Params.From != nil {
		c.From = *q.Params.From
	}
	if q.Params.To != nil {
		c.To = *q.Params.To
	}
	if q.Params.Points != nil {
		if c.Points = *q.Params.Points; c.Points < 10 || c.Points > 10_000 {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: "read the gauges", Why: "points must be 10 to 10000", Remedy: "ask for a part with from and to"}
		}
	}
	v, err := s.s.Gauges(ctx, identity(ctx), q.Id, n, c)
	if err != nil {
		return nil, err
	}
	o := api.GetGauges200JSONResponse{Attempt: v.Attempt, Live: v.Live, At: full(v.At), Series: []api.GaugeSeries{}}
	for i, x := range v.Series {
		values := make([]*float64, len(x.Values))
		for k := range x.Values {
			if !math.IsNaN(x.Values[k]) {
				values[k] = &x.Values[k]
			}
		}
		said := v.Said[i]
		o.Series = append(o.Series, api.GaugeSeries{Name: x.Gauge.Name, Unit: x.Gauge.Unit, About: x.Gauge.About, Device: x.Gauge.OfDevice, Values: values,
			Count: said.Count, Min: said.Min, Median: said.Median, Max: said.Max})
	}
	return o, nil
}

func (s *server) GetNetwork(ctx context.Context, q api.GetNetworkRequestObject) (api.GetNetworkResponseObject, error) {
	const title = "read the network log"
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	c := service.NetworkChoice{Choice: har.Choice{Text: text(q.Params.Text), Failed: q.Params.Failed != nil && *q.Params.Failed}, Limit: 200}
	for of, to := range map[*int64]*int64{q.Params.Since: &c.From, q.Params.Until: &c.To} {
		if of != nil {
			*to = max(*of, 0)
		}
	}
	if o := q.Params.Order; o != nil {
		if !o.Valid() {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: fmt.Sprintf("there is no order %.60q", *o), Remedy: "choose time, worst or size"}
		}
		c.Order = string(*o)
	}
	if q.Params.From != nil {
		if c.First = *q.Params.From; c.First < 0 {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: "rows are counted from 0"}
		}
	}
	if q.Params.Limit != nil {
		if c.Limit = *q.Params.Limit; c.Limit < 1 || c.Limit > 1000 {
			return nil, &refuse.Error{Kind: refuse.Invalid, Title: title, Why: "limit must be 1 to 1000", Remedy: "ask for less, and for the rest with from"}
		}
	}
	w, err := s.s.Network(ctx, identity(ctx), q.Id, n, c)
	return api.GetNetwork200JSONResponse{Attempt: w.Attempt, Live: w.Live, Rows: w.Rows, From: c.First, Items: each(w.Items, func(r service.NetworkRow) api.NetworkRow {
		return api.NetworkRow{N: r.N, At: r.At, Took: r.Took, Kind: api.NetworkRowKind(r.Kind), Method: r.Method, Url: r.URL, Status: r.Status, Type: some(r.Type), Sent: r.Sent, Received: r.Received, Error: some(r.Error), Failed: r.Failed()}
	})}, err
}

func (s *server) GetNetworkOverview(ctx context.Context, q api.GetNetworkOverviewRequestObject) (api.GetNetworkOverviewResponseObject, error) {
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	o, err := s.s.NetworkOverview(ctx, identity(ctx), q.Id, n)
	return api.GetNetworkOverview200JSONResponse{Count: o.Count, Failed: o.Failed, Sent: o.Sent, Received: o.Received, SliceMs: o.SliceMS, Density: full(o.Density), Failures: full(o.Failures),
		Hosts: each(o.Hosts, func(h har.HostSum) api.NetworkHost {
			return api.NetworkHost{Name: h.Name, Count: h.Count, Failed: h.Failed, Sent: h.Sent, Received: h.Received}
		})}, err
}

func (s *server) GetExchange(ctx context.Context, q api.GetExchangeRequestObject) (api.GetExchangeResponseObject, error) {
	n, err := attemptOf(q.Params.Attempt)
	if err != nil {
		return nil, err
	}
	e, err := s.s.Exchange(ctx, identity(ctx), q.Id, n, q.N)
	return api.GetExchange200JSONResponse(e), err
}

func (s *server) GetFiles(ctx context.Context, q api.GetFilesRequestObject) (api.GetFilesResponseObject, error) {
	l, err := s.s.Leg(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return legZip{ctx, s.s, l}, nil
}

// legZip sends a leg's files while they are packed.
type legZip struct {
	ctx context.Context
	s   *service.Service
	l   service.LegDetail
}

func (z legZip) VisitGetFilesResponse(w http.ResponseWriter) error {
	about, err := json.MarshalIndent(legOut(z.l), "", "  ")
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s.zip"`, z.l.Device.Serial, z.l.ID))
	p := z.s.Pack(w)
	if err := errors.Join(p.Leg(z.ctx, z.l, about, ""), p.Close()); err != nil {
		z.s.Log.Warn("a zip was not sent whole", "leg", z.l.ID, "err", err)
		panic(http.ErrAbortHandler) // so that the client sees that it was cut off
	}
	return nil
}

func (s *server) GetRunFiles(ctx context.Context, q api.GetRunFilesRequestObject) (api.GetRunFilesResponseObject, error) {
	v, err := s.s.Run(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return runZip{ctx, s.s, v}, nil
}

// runZip sends all files of a run while they are packed: nothing of it lies in memory or on a disk meanwhile but the leg that is being sent.
type runZip struct {
	ctx context.Context
	s   *service.Service
	v   service.RunView
}

func (z runZip) VisitGetRunFilesResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="run-%d.zip"`, z.v.Number))
	if err := z.write(z.s.Pack(w)); err != nil {
		z.s.Log.Warn("a zip was not sent whole", "run", z.v.ID, "err", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

func (z runZip) write(p *service.Pack) error {
	who := identity(z.ctx)
	about, err := json.MarshalIndent(runOut(z.v), "", "  ")
	if err != nil {
		return err
	}
	if err := p.Put("run.json", z.v.Created, about); err != nil {
		return err
	}
	name, suites, err := z.s.RunReport(z.ctx, who, z.v.ID)
	if err != nil {
		return err
	}
	var report bytes.Buffer
	if err := errors.Join(junit.Write(&report, name, suites), p.Put("junit.xml", z.v.Created, report.Bytes())); err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, x := range z.v.Legs {
		l, err := z.s.Leg(z.ctx, who, x.ID)
		if err != nil {
			return err
		}
		if about, err = json.MarshalIndent(legOut(l), "", "  "); err != nil {
			return err
		}
		if err := p.Leg(z.ctx, l, about, tracks.Folder(x.Serial, x.Variant, taken)); err != nil {
			return err
		}
	}
	return p.Close()
}

func (s *server) GetArtifact(ctx context.Context, q api.GetArtifactRequestObject) (api.GetArtifactResponseObject, error) {
	a, err := s.s.Artifact(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	return artifactBytes{ctx, s.s, a}, nil
}

// disposition says whether a browser may show an artifact, and what it is called when it is saved (RFC 6266).
func disposition(a store.Artifact) string {
	how := "attachment"
	switch kind, _, _ := strings.Cut(a.ContentType, "/"); kind {
	case "image", "video":
		how = "inline"
	}
	return mime.FormatMediaType(how, map[string]string{"filename": path.Base(a.Name)})
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
	w.Header().Set("Content-Disposition", disposition(b.a))
	w.Header().Set("Content-Security-Policy", "sandbox") // it may be anything that a test wrote
	file := &seeker{ctx: b.ctx, b: b}
	defer file.Close()
	http.ServeContent(w, r, "", time.Time{}, file)
	return nil
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
