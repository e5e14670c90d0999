package httpd_test

// What browsers and other watchers do: sign in, follow events, read windows of logs.

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
)

func cookieOf(t *testing.T, resp *http.Response) string {
	t.Helper()
	require.Len(t, resp.Cookies(), 1)
	c := resp.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	return c.Name + "=" + c.Value
}

func signInBody(kind, secret string) io.Reader {
	raw, _ := json.Marshal(map[string]string{kind: secret})
	return bytes.NewReader(raw)
}

func TestABrowserSignsInAndOut(t *testing.T) {
	d := open(t)
	resp, raw := d.do("POST", "/api/v1/signin", "", signInBody("key", "tsl_wrong"), "Content-Type", "application/json")
	refused(t, resp, raw, 401, "unknown")
	resp, raw = d.do("POST", "/api/v1/signin", "", signInBody("key", ""), "Content-Type", "application/json")
	refused(t, resp, raw, 401, "no key was given")
	resp, raw = d.do("POST", "/api/v1/signin", "", signInBody("key", d.Key), "Content-Type", "application/json")
	require.Equal(t, 200, resp.StatusCode, string(raw))
	cookie := cookieOf(t, resp)
	assert.NotContains(t, cookie, d.Key)
	var me api.Me
	require.NoError(t, json.Unmarshal(raw, &me))
	require.NotNil(t, me.Expires)
	assert.InDelta(t, 12, time.Until(*me.Expires).Hours(), 0.1)
	resp, _ = d.do("GET", "/api/v1/me", "", nil, "Cookie", cookie)
	assert.Equal(t, 200, resp.StatusCode)
	resp, _ = d.do("DELETE", "/api/v1/signin", "", nil, "Cookie", cookie)
	assert.Equal(t, 204, resp.StatusCode)
	resp, raw = d.do("GET", "/api/v1/me", "", nil, "Cookie", cookie)
	refused(t, resp, raw, 401, "no longer signed in")
	resp, _ = d.do("DELETE", "/api/v1/signin", "", nil)
	assert.Equal(t, 204, resp.StatusCode, "twice does no harm")
}

func TestOtherSitesPagesCanDoNothing(t *testing.T) {
	d := open(t)
	for _, from := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Origin", "https://elsewhere.example"}} {
		resp, raw := d.do("POST", "/api/v1/signin", "", signInBody("key", d.Key), append([]string{"Content-Type", "application/json"}, from...)...)
		refused(t, resp, raw, 403, "another site's page")
	}
	resp, _ := d.do("POST", "/api/v1/signin", "", signInBody("key", d.Key), "Content-Type", "application/json", "Origin", d.URL)
	cookie := cookieOf(t, resp)
	resp, raw := d.do("POST", "/api/v1/tickets", "", nil, "Cookie", cookie, "Sec-Fetch-Site", "same-site")
	refused(t, resp, raw, 403, "another site's page")
	resp, _ = d.do("POST", "/api/v1/tickets", "", nil, "Cookie", cookie, "Sec-Fetch-Site", "same-origin")
	assert.Equal(t, 201, resp.StatusCode)
	resp, _ = d.do("POST", "/api/v1/tickets", d.Key, nil, "Origin", "https://elsewhere.example")
	assert.Equal(t, 201, resp.StatusCode, "who has the key needs no cookie")
}

func TestATicketWorksOnce(t *testing.T) {
	ctx, d := context.Background(), open(t)
	r, err := d.AddTicketWithResponse(ctx)
	require.NoError(t, err)
	assert.Equal(t, "/signin#"+r.JSON201.Ticket, r.JSON201.Path)
	resp, _ := d.do("POST", "/api/v1/signin", "", signInBody("ticket", r.JSON201.Ticket), "Content-Type", "application/json")
	cookieOf(t, resp)
	resp, raw := d.do("POST", "/api/v1/signin", "", signInBody("ticket", r.JSON201.Ticket), "Content-Type", "application/json")
	refused(t, resp, raw, 401, "already used")
	resp, raw = d.do("GET", "/api/v1/me", "", nil, "Cookie", "tessellant="+r.JSON201.Ticket)
	refused(t, resp, raw, 401, "") // a ticket is no sign-in
}

// events reads a stream of events.
type events struct {
	t    *testing.T
	br   *bufio.Reader
	stop context.CancelFunc
	last string
}

func (d *door) events(query string, headers ...string) *events {
	d.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	d.t.Cleanup(cancel)
	r, err := http.NewRequestWithContext(ctx, "GET", d.URL+"/api/v1/events"+query, nil)
	require.NoError(d.t, err)
	r.Header.Set("Authorization", "Bearer "+d.Key)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { _ = resp.Body.Close() })
	require.Equal(d.t, 200, resp.StatusCode)
	assert.Equal(d.t, "text/event-stream", resp.Header.Get("Content-Type"))
	e := &events{d.t, bufio.NewReader(resp.Body), cancel, ""}
	e.next("hello", nil)
	return e
}

// next reads on to the next event of a kind, into v.
func (e *events) next(kind string, v any) {
	e.t.Helper()
	for e.read(func(got string) bool { return got == kind }, v) != kind {
	}
}

// any reads the next event, whichever it is, into v.
func (e *events) any(v any) string {
	e.t.Helper()
	return e.read(func(string) bool { return true }, v)
}

// read reads an event, and its data into v if it is one that is wanted.
func (e *events) read(wanted func(kind string) bool, v any) string {
	e.t.Helper()
	var got, id, data string
	for {
		line, err := e.br.ReadString('\n')
		require.NoError(e.t, err, "waited for an event")
		name, value, _ := strings.Cut(strings.TrimRight(line, "\n"), ": ")
		switch name {
		case "event":
			got = value
		case "id":
			id = value
		case "data":
			data = value
		case "":
			if id != "" {
				e.last = id
			}
			if got == "" {
				continue
			}
			if v != nil && wanted(got) {
				require.NoError(e.t, json.Unmarshal([]byte(data), v))
			}
			return got
		}
	}
}

// leg starts a run on one device, and answers the hold on it.
func (d *door) leg(serial string) (api.Run, hostlink.Hold) {
	d.t.Helper()
	ctx := context.Background()
	b := d.addKelpline()
	_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(d.t, "suite", "pass")))
	require.NoError(d.t, err)
	d.device(serial, "Orrery", 30)
	r, err := d.StartRunWithResponse(ctx, nil, api.RunRequest{Build: b.Ref, Package: "suite@1"})
	require.NoError(d.t, err)
	require.NotNil(d.t, r.JSON201, string(r.Body))
	var h hostlink.Hold
	housetest.Eventually(d.t, "the leg holds its device", func() bool {
		holds, err := d.Store.ActiveHolds(ctx, "")
		require.NoError(d.t, err)
		if len(holds) == 1 {
			h = hostlink.Hold{ID: holds[0].ID, WorkspaceID: holds[0].WorkspaceID, RunID: holds[0].RunID, WorkID: holds[0].WorkID, AttemptID: holds[0].AttemptID}
		}
		return len(holds) == 1
	})
	return *r.JSON201, h
}

func TestEventsTellWhatChangesAndGoOnWhereTheyWereLeft(t *testing.T) {
	ctx, d := context.Background(), open(t)
	e := d.events("")
	run, h := d.leg("d-1")
	var build api.Build
	e.next("build", &build)
	assert.Equal(t, "kelpline/android@231", build.Ref)
	var c api.RunChange
	for c.Run.Id != run.Id || len(*c.Legs) == 0 || (*c.Legs)[0].Stage != "held" {
		e.next("run", &c)
	}
	link := d.HostLink()
	require.NoError(t, link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}))
	c = api.RunChange{}
	e.next("run", &c)
	assert.Equal(t, api.LegSummaryStage("running"), (*c.Legs)[0].Stage)
	assert.Equal(t, map[string]int{"running": 1}, c.Run.Stages)

	// A tab that sleeps, and wakes.
	left := e.last
	e.stop()
	require.NoError(t, link.Report(ctx, h, []hostlink.Progress{{Seq: 2, Case: &hostlink.CaseResult{Name: "a.test_a", Try: hostlink.Try{Verdict: verdict.Passed}}}}))
	require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	for _, how := range []*events{d.events("", "Last-Event-ID", left), d.events("?since=" + left)} {
		for !c.Run.Done || (*c.Legs)[0].Verdict == nil {
			how.next("run", &c)
		}
		assert.Equal(t, "The device passed.", c.Run.Sentence)
		assert.Equal(t, []string{"passed"}, (*c.Legs)[0].CaseVerdicts)
		how.next("device", nil) // it is free again
		c = api.RunChange{}
	}
	// Of an earlier process, or from nowhere: all has to be asked for anew.
	for _, place := range []string{"gone-17", "nonsense"} {
		d.events("?since="+place).next("again", nil)
	}
	resp, raw := d.do("GET", "/api/v1/events?leg=01NONE", d.Key, nil)
	refused(t, resp, raw, 404, "no leg")
	resp, raw = d.do("GET", "/api/v1/events", "", nil)
	refused(t, resp, raw, 401, "no key")
}

func TestALegThatGoesOnIsSeenByThoseWhoWatchIt(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, h := d.leg("d-1")
	e, others := d.events("?leg="+h.WorkID), d.events("")
	link := d.HostLink()
	require.NoError(t, link.Live(ctx, h, hostlink.Now{Events: []timeline.Event{{Seq: 1, At: 5, Kind: timeline.Command, Name: "tap"}}, Frame: []byte("a picture"), FrameAt: 7}))
	var c api.TimelineChange
	e.next("timeline", &c)
	assert.Equal(t, "tap", c.Events[0].Name)
	var s api.ScreenChange
	e.next("screen", &s)
	assert.Equal(t, int64(7), s.At)
	_, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/screen", d.Key, nil)
	assert.Equal(t, "a picture", string(raw))
	tl, err := d.GetTimelineWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	assert.True(t, tl.JSON200.Live)
	assert.Len(t, tl.JSON200.Events, 1)

	require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	resp, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/screen", d.Key, nil)
	refused(t, resp, raw, 404, "not running")
	var run api.RunChange
	for !run.Run.Done {
		others.next("run", &run) // and nothing of the leg's own on the way
	}
}

func TestATabHearsWhatItShows(t *testing.T) {
	ctx, d := context.Background(), open(t)
	run, h := d.leg("d-1")
	list, one := d.events("?list=runs"), d.events("?run="+run.Id)
	other, devices := d.events("?list=builds,packages"), d.events("?list=devices")
	require.NoError(t, d.HostLink().Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}))
	_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "late", "pass")))
	require.NoError(t, err)
	require.NoError(t, d.HostLink().Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	var c api.RunChange
	for !c.Run.Done {
		c = api.RunChange{}
		assert.Equal(t, "run", list.any(&c), "of the runs alone")
		assert.Nil(t, c.Legs, "and as they stand in a list")
		assert.Empty(t, c.Run.CaseNames)
	}
	for c = (api.RunChange{}); !c.Run.Done; {
		assert.Equal(t, "run", one.any(&c), "of this run alone")
		assert.NotEmpty(t, *c.Legs)
		assert.Equal(t, []string{"a.test_a"}, c.Run.CaseNames)
	}
	var p api.Package
	assert.Equal(t, "package", other.any(&p))
	assert.Equal(t, "late@1", p.Ref)
	assert.Equal(t, "device", devices.any(nil))
	for query, why := range map[string]string{"?list=everything": "there is no list", "?run=01NONE": "no run"} {
		resp, raw := d.do("GET", "/api/v1/events"+query, d.Key, nil)
		refused(t, resp, raw, map[string]int{"?list=everything": 400, "?run=01NONE": 404}[query], why)
	}
}

func TestManyWatchersCostTheDatabaseNothingMore(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, h := d.leg("d-1")
	link := d.HostLink()
	// What it costs the database to tell of twenty changes, with so many watchers.
	seq := int64(0)
	// The service asks now and then by itself: how often, while nothing changes. On a busy machine telling takes longer, and more of that comes between.
	const quiet = 2 * time.Second
	idle := d.questions()
	time.Sleep(quiet)
	perSecond := float64(d.questions()-idle) / quiet.Seconds()
	asked := func(watchers int) float64 {
		var all []*events
		for range watchers {
			all = append(all, d.events(""))
		}
		watch := d.events("")
		before, begun := d.questions(), time.Now()
		for range 20 {
			seq++
			require.NoError(t, link.Report(ctx, h, []hostlink.Progress{{Seq: seq, Stage: []string{"preparing", "running"}[seq%2]}}))
			watch.next("run", nil)
		}
		n := float64(d.questions()-before) - perSecond*time.Since(begun).Seconds()
		for _, e := range all {
			for range 20 {
				e.next("run", nil)
			}
			e.stop()
		}
		return n
	}
	asked(0)
	few, many := asked(0), asked(50)
	assert.InDelta(t, few, many, 40, "the ticks between them may differ a little; each watcher asking once for each change would be 1000 more")
}

// questions is how many statements the database has answered.
func (d *door) questions() int {
	d.t.Helper()
	db, err := sql.Open("mysql", d.DSN)
	require.NoError(d.t, err)
	defer db.Close()
	var name string
	var n int
	require.NoError(d.t, db.QueryRow("SHOW GLOBAL STATUS LIKE 'Questions'").Scan(&name, &n))
	return n
}

const littleLog = "     1900000000.500   100   101 I Tides   : the table is here\n     1900000001.000   100   101 W Clock   : drift\n     1900000002.000   100   100 E AndroidRuntime: FATAL EXCEPTION: main\n" +
	"     1900000002.000   100   100 E AndroidRuntime: Process: org.kelpline.app, PID: 100\n     1900000002.000   100   100 E AndroidRuntime: java.lang.NoSuchMethodError: paint\n"

func TestTheDeviceLogIsReadInWindows(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, h := d.leg("d-1")
	link := d.HostLink()
	resp, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/log", d.Key, nil)
	refused(t, resp, raw, 404, "no log of this attempt yet")
	require.NoError(t, link.Keep(ctx, h, hostlink.Artifact{Name: "device.log", Kind: "device-log", ContentType: "text/plain"}, strings.NewReader(littleLog)))
	require.NoError(t, link.Keep(ctx, h, hostlink.Artifact{Name: "timeline.jsonl", Kind: "timeline", ContentType: "application/jsonl"},
		strings.NewReader(`{"seq":1,"at":0,"kind":"marker","name":"clock","args":{"device_zero_ms":"1900000000000"}}`+"\n")))
	require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Crashed}))
	get := func(query string) api.LogWindow {
		t.Helper()
		resp, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/log"+query, d.Key, nil)
		require.Equal(t, 200, resp.StatusCode, string(raw))
		var w api.LogWindow
		require.NoError(t, json.Unmarshal(raw, &w))
		return w
	}
	w := get("?from=1&limit=2")
	assert.Equal(t, 5, w.Rows)
	require.Len(t, w.Items, 2)
	assert.Equal(t, api.LogLine{Row: 1, Line: 2, At: 1000, Level: "W", Pid: w.Items[0].Pid, Tag: "Clock", Text: "drift"}, w.Items[0])
	w = get("?level=E&text=KELPLINE")
	assert.Equal(t, 1, w.Rows)
	assert.Equal(t, 4, w.Items[0].Line)
	assert.True(t, get("?tag=AndroidRuntime&from=2").Items[0].Crash)
	assert.Equal(t, 1, *get("?near=1999&limit=1").Near)
	assert.Equal(t, -1, *get("?near=3&limit=1").Near)
	assert.Equal(t, -1, *get("?near=3000&tag=Nobody").Near)
	assert.Empty(t, get("?from=100").Items)
	for query, says := range map[string]string{"?level=X": "no level", "?limit=0": "1 to 1000", "?from=-1": "counted from 0", "?attempt=7": "no attempt 7", "?attempt=0": "no attempt 0"} {
		resp, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/log"+query, d.Key, nil)
		assert.Contains(t, []int{400, 404}, resp.StatusCode, query)
		assert.Contains(t, string(raw), says)
	}
	o, err := d.GetLogOverviewWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{2000}, o.JSON200.Crashes)
	assert.True(t, o.JSON200.Aligned)
	assert.Equal(t, api.LogTag{Name: "AndroidRuntime", Lines: 3}, o.JSON200.Tags[0])

	// All files in one.
	resp, raw = d.do("GET", "/api/v1/legs/"+h.WorkID+"/files", d.Key, nil)
	assert.Equal(t, fmt.Sprintf(`attachment; filename="d-1-%s.zip"`, h.WorkID), resp.Header.Get("Content-Disposition"))
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	require.Len(t, z.File, 4)
	read := func(name string) string {
		f, err := z.Open(name)
		require.NoError(t, err)
		got, err := io.ReadAll(f)
		require.NoError(t, err)
		return string(got)
	}
	assert.Equal(t, littleLog, read("device.log"))
	assert.Contains(t, read("leg.json"), h.WorkID)
}

func TestRunsDevicesAndPlansAreAskedFor(t *testing.T) {
	ctx, d := context.Background(), open(t)
	run, h := d.leg("d-1")
	d.device("d-2", "Fennel", 16) // too old for the build
	plan := func(q api.RunRequest) *api.CheckRunResponse {
		t.Helper()
		p, err := d.CheckRunWithResponse(ctx, q)
		require.NoError(t, err)
		return p
	}
	p := plan(api.RunRequest{Build: run.Build, Package: run.Package})
	require.NotNil(t, p.JSON200, string(p.Body))
	assert.Equal(t, []string{"d-1"}, p.JSON200.Devices)
	assert.Equal(t, 1, p.JSON200.Cases)
	require.Len(t, p.JSON200.Findings, 1)
	assert.Equal(t, "d-2", *p.JSON200.Findings[0].Device)
	p = plan(api.RunRequest{Build: run.Build, Package: run.Package, Devices: &[]string{"d-9"}})
	assert.Empty(t, p.JSON200.Devices)
	assert.Contains(t, p.JSON200.Findings[0].What, "d-9")
	assert.Equal(t, 404, plan(api.RunRequest{Build: "nobody/android@1", Package: run.Package}).StatusCode())

	dev, err := d.GetDeviceWithResponse(ctx, "d-1")
	require.NoError(t, err)
	assert.Equal(t, h.WorkID, dev.JSON200.HeldBy.Leg)
	dev, err = d.GetDeviceWithResponse(ctx, "d-9")
	require.NoError(t, err)
	assert.Equal(t, 404, dev.StatusCode())
	legs, err := d.ListLegsWithResponse(ctx, &api.ListLegsParams{Device: "d-1"})
	require.NoError(t, err)
	require.Len(t, legs.JSON200.Items, 1)
	assert.Equal(t, run.Id, legs.JSON200.Items[0].RunId)
	assert.Equal(t, "Orrery", legs.JSON200.Items[0].Traits["maker"])

	count := func(p api.ListRunsParams) int {
		t.Helper()
		r, err := d.ListRunsWithResponse(ctx, &p)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		return len(r.JSON200.Items)
	}
	failed, crashed, pkg := api.Failed, api.Crashed, "suite@newest"
	require.NoError(t, d.HostLink().Close(ctx, hostlink.Hold{ID: h.ID}, hostlink.Closing{Verdict: verdict.Failed}))
	assert.Equal(t, 1, count(api.ListRunsParams{Build: &run.Build, Package: &pkg, Verdict: &failed}))
	assert.Equal(t, 0, count(api.ListRunsParams{Verdict: &crashed}))
	resp, raw := d.do("GET", "/api/v1/runs?verdict=splendid", d.Key, nil)
	refused(t, resp, raw, 400, "")
}

func TestTheConsoleIsServedStrictly(t *testing.T) {
	d := open(t)
	resp, raw := d.do("GET", "/runs/anything", "", nil)
	require.Equal(t, 200, resp.StatusCode, "the console is not built: run make console")
	policy := resp.Header.Get("Content-Security-Policy")
	assert.Contains(t, policy, "default-src 'none'; script-src 'self';")
	assert.NotContains(t, policy, "unsafe")
	assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	_, nonce, _ := strings.Cut(policy, "'nonce-")
	nonce, _, _ = strings.Cut(nonce, "'")
	assert.Contains(t, string(raw), `nonce="`+nonce+`"`)
	again, _ := d.do("GET", "/", "", nil)
	assert.NotEqual(t, policy, again.Header.Get("Content-Security-Policy"), "a nonce is used once")
	_, script, _ := strings.Cut(string(raw), `src="`)
	script, _, _ = strings.Cut(script, `"`)
	for _, packing := range []string{"br", "gzip", ""} {
		resp, packed := d.do("GET", script, "", nil, "Accept-Encoding", packing)
		assert.Equal(t, 200, resp.StatusCode)
		assert.Equal(t, packing, resp.Header.Get("Content-Encoding"))
		assert.Contains(t, resp.Header.Get("Cache-Control"), "immutable")
		assert.Contains(t, resp.Header.Get("Content-Type"), "text/javascript")
		assert.NotEmpty(t, packed)
	}
	for _, path := range []string{"/assets/nothing.js", "/assets/../../etc/passwd", "/api/v2/me"} {
		resp, _ := d.do("GET", path, "", nil)
		assert.NotEqual(t, "text/javascript", resp.Header.Get("Content-Type"), path)
		if !strings.Contains(path, "..") {
			assert.Equal(t, 404, resp.StatusCode, path)
		}
	}
}
