package httpd_test

// Sessions as a client from outside meets them: bare HTTP against /webdriver, on simulated phones behind the real adb server.

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/adb"
	"tessellant/internal/core/snippet"
	"tessellant/internal/core/timeline"
	"tessellant/internal/host"
	"tessellant/internal/host/record"
	"tessellant/internal/housetest"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

type m = map[string]any

// outside is a lab with phones, and Kelpline among the builds.
type outside struct {
	*door
	phones map[string]*standin.Phone
	adb    *adb.Process
}

func openOutside(t *testing.T, serials ...string) *outside {
	return openOutsideWith(t, nil, serials...)
}

// openLed opens one whose apps are led through proxies, to the demo's backend.
func openLed(t *testing.T, serials ...string) *outside {
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	return openOutsideWith(t, tides, serials...)
}

func openOutsideWith(t *testing.T, tides *backend.Server, serials ...string) *outside {
	t.Helper()
	server := housetest.ADB(t)
	o := &outside{open(t), map[string]*standin.Phone{}, server}
	for _, s := range serials {
		tr := housetest.Fleet(t)[s]
		tr.Temper = standin.Instant
		if tides != nil {
			tr.Network, tr.System = tides.Network(), tides.Certificate
		}
		o.phones[s] = housetest.Phone(t, server, tr)
	}
	c := host.Config{Labs: housetest.ADBLab(adblab.Config{Server: &server.Server})}
	if tides != nil {
		c.Outlet = &record.Outlet{Names: tides.Network(), Version: "test"}
	}
	o.HostWith(t, c)
	housetest.Eventually(t, "the phones are free", func() bool {
		r, err := o.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})
		require.NoError(t, err)
		free := 0
		for _, d := range r.JSON200.Items {
			if d.State == "free" {
				free++
			}
		}
		return free == len(serials)
	})
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	b, err := o.AddBuildWithBodyWithResponse(t.Context(), &api.AddBuildParams{}, "application/octet-stream", apk)
	require.NoError(t, err)
	require.NotNil(t, b.JSON201, string(b.Body))
	return o
}

// wd is one WebDriver client.
type wd struct {
	t    testing.TB
	url  string // of the remote end
	auth string // an Authorization header
	id   string
	caps m
}

func (o *outside) client() *wd {
	return &wd{t: o.t, url: o.URL + "/webdriver", auth: "Basic " + base64.StdEncoding.EncodeToString([]byte("anyone:"+o.Key))}
}

func (c *wd) send(ctx context.Context, method, path string, body any) (int, any, error) {
	var in io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		in = strings.NewReader(b)
	default:
		raw, err := json.Marshal(b)
		require.NoError(c.t, err)
		in = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, in)
	require.NoError(c.t, err)
	req.Header.Set("Authorization", c.auth)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	var a struct{ Value any }
	err = json.NewDecoder(resp.Body).Decode(&a)
	return resp.StatusCode, a.Value, err
}

// do is a command of the session; it answers the value and the error's code.
func (c *wd) do(method, path string, body any) (any, string) {
	c.t.Helper()
	status, v, err := c.send(context.Background(), method, "/session/"+c.id+path, body)
	require.NoError(c.t, err)
	if status == 200 {
		return v, ""
	}
	return v.(m)["message"], v.(m)["error"].(string)
}

func (c *wd) must(method, path string, body any) any {
	c.t.Helper()
	v, code := c.do(method, path, body)
	require.Empty(c.t, code, "%s %s: %v", method, path, v)
	return v
}

// open opens a session; it answers the error's code and message.
func (c *wd) open(caps m) (code, message string) {
	c.t.Helper()
	_, v, err := c.send(context.Background(), "POST", "/session", m{"capabilities": m{"alwaysMatch": caps}})
	require.NoError(c.t, err)
	if e, bad := v.(m)["error"]; bad {
		return e.(string), v.(m)["message"].(string)
	}
	c.id, c.caps = v.(m)["sessionId"].(string), v.(m)["capabilities"].(m)
	return "", ""
}

func (c *wd) find(css string) string {
	c.t.Helper()
	return c.must("POST", "/element", m{"using": "css selector", "value": css}).(m)["element-6066-11e4-a52e-4f735466cecf"].(string)
}

func (c *wd) click(css string) { c.t.Helper(); c.must("POST", "/element/"+c.find(css)+"/click", m{}) }

var kelpline = m{"platformName": "android", "tessellant:build": "kelpline/android@newest", "timeouts": m{"implicit": 8000}}

func with(a m, more ...any) m {
	out := m{}
	for k, v := range a {
		out[k] = v
	}
	for i := 0; i < len(more); i += 2 {
		out[more[i].(string)] = more[i+1]
	}
	return out
}

// session reads a session's record once it is over.
func (o *outside) over(c *wd) *api.Session {
	o.t.Helper()
	var s *api.Session
	housetest.Eventually(o.t, "the session is over", func() bool {
		r, err := o.GetSessionWithResponse(o.t.Context(), c.caps["tessellant:session"].(string))
		require.NoError(o.t, err)
		require.NotNil(o.t, r.JSON200, string(r.Body))
		s = r.JSON200
		return s.Stage == "done"
	})
	return s
}

// events gives the timeline of a session.
func (o *outside) events(id string) []timeline.Event {
	o.t.Helper()
	r, err := o.GetTimelineWithResponse(o.t.Context(), id, &api.GetTimelineParams{})
	require.NoError(o.t, err)
	require.NotNil(o.t, r.JSON200, string(r.Body))
	return r.JSON200.Events
}

func TestASessionFromOutsideIsGatheredLikeALeg(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(with(kelpline, "tessellant:group", "nightly", "tessellant:name", "opens a shore", "tessellant:where", []string{"os>=12"}, "tessellant:conditions", m{"orientation": "portrait", "dark": true}))
	require.Empty(t, code, message)
	assert.Equal(t, "orr-01", c.caps["tessellant:device"].(m)["serial"])
	assert.Equal(t, true, c.caps["tessellant:device"].(m)["simulated"], "stand-ins say what they are")
	assert.Equal(t, "kelpline/android@231", c.caps["tessellant:build"])
	c.must("POST", "/tessellant/case/begin", m{"name": "a shore opens"})
	c.click("#shore_gull-ledge")
	c.find("#start")
	c.must("POST", "/tessellant/step", m{"name": "the shore"})
	c.must("POST", "/tessellant/case/end", m{"verdict": "passed"})
	c.must("POST", "/tessellant/case/begin", m{"name": "a secret stays one"})
	c.must("POST", "/back", m{})
	c.must("POST", "/element/"+c.find("#search")+"/value", m{"text": "tide-and-rock", "tessellant:secret": true})
	assert.Contains(t, c.must("GET", "/source", nil), "tide-and-rock", "to its client nothing is masked")
	c.must("POST", "/tessellant/case/end", m{"verdict": "failed", "message": "as was wanted"})
	log := c.must("POST", "/tessellant/log", m{}).(m)
	assert.NotEmpty(t, log["lines"])
	assert.Empty(t, c.must("POST", "/tessellant/log", m{"since": log["next"]}).(m)["lines"])
	c.must("DELETE", "", nil)
	s := o.over(c)
	assert.Equal(t, api.Failed, *s.Verdict)
	assert.Equal(t, "a secret stays one: as was wanted", *s.Message)
	assert.False(t, s.Inferred, "the client said so")
	assert.Equal(t, []string{"passed", "failed"}, s.CaseVerdicts)
	assert.Equal(t, []string{"nightly", "opens a shore"}, []string{s.Group, s.Name})
	_, code = c.do("GET", "/source", nil)
	assert.Equal(t, "invalid session id", code)

	l, err := o.GetLegWithResponse(t.Context(), s.Id)
	require.NoError(t, err)
	require.NotNil(t, l.JSON200)
	kinds := map[string]int{}
	for _, f := range l.JSON200.Attempts[0].Artifacts {
		kinds[string(f.Kind)]++
	}
	assert.Equal(t, 1, kinds["video"])
	assert.Equal(t, 1, kinds["device-log"])
	assert.Equal(t, 1, kinds["remote-end-log"])
	assert.Equal(t, 2, kinds["screenshot"], "the step's, and the failed case's")
	var did []string
	for _, e := range o.events(s.Id) {
		if e.Kind == timeline.Command && e.Case == "a shore opens" {
			did = append(did, e.Name)
		}
	}
	assert.Equal(t, []string{"find element", "element click", "find element"}, did)
	files := o.zip(s.Id)
	for name, content := range files {
		assert.NotContains(t, content, "tide-and-rock", name)
	}
	assert.Contains(t, files["remote-end.log"], "device: tap")
	r, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{Group: ptr("nightly")})
	require.NoError(t, err)
	assert.Len(t, r.JSON200.Items, 1)
	assert.Zero(t, r.JSON200.Open)
}

func TestAnyBuildOfTheWorkspaceCanBeInstalledInASession(t *testing.T) {
	o := openOutside(t, "fen-01")
	newer, err := os.ReadFile(housetest.Kelpline190(t))
	require.NoError(t, err)
	for _, apk := range [][]byte{newer, housetest.OtherKelpline(t)} {
		b, err := o.AddBuildWithBodyWithResponse(t.Context(), &api.AddBuildParams{}, "application/octet-stream", bytes.NewReader(apk))
		require.NoError(t, err)
		require.NotNil(t, b.JSON201, string(b.Body))
	}
	c := o.client()
	code, message := c.open(with(kelpline, "tessellant:build", "kelpline/android@231"))
	require.Empty(t, code, message)
	install := func(ref any) (any, string) { return c.do("POST", "/tessellant/app/install", m{"build": ref}) }
	_, code = install("kelpline/android@240")
	require.Empty(t, code)
	c.must("POST", "/tessellant/app/launch", m{})
	c.click("#shore_gull-ledge")
	c.click("#show_chart")
	c.find("#tide_chart") // the older one dies of it on this device
	assert.Contains(t, fmt.Sprint(c.must("POST", "/tessellant/log", m{})), "Installed org.kelpline.app versionCode=240")
	for ref, said := range map[any]string{"kelpline/android@7": `there is no build "kelpline/android@7"`, "nonsense": "a reference looks like", 7: "must be a build's reference"} {
		v, code := install(ref)
		assert.Equal(t, "invalid argument", code)
		assert.Contains(t, v, said)
	}
	v, code := c.do("POST", "/tessellant/app/install", m{}) // its own is older by now
	assert.Equal(t, "unknown error", code)
	assert.Contains(t, v, "INSTALL_FAILED_VERSION_DOWNGRADE")
	_, code = install("net.kelpline.app/android@newest")
	require.Empty(t, code)
	c.must("POST", "/tessellant/app/launch", m{"app": "net.kelpline.app"})
	c.must("DELETE", "", nil)
	s := o.over(c)
	assert.Equal(t, api.Passed, *s.Verdict, "%v", s.Message)
	var did []string
	for _, e := range o.events(s.Id) {
		if e.Name == "install app" && e.Error == "" {
			did = append(did, e.Args["build"]+": "+e.Answer)
		}
	}
	assert.Equal(t, []string{"kelpline/android@240: org.kelpline.app 1.9.0 (240)", "net.kelpline.app/android@newest: net.kelpline.app 1.8.0 (231)"}, did)
	// It is watched like a build that was asked for from the beginning.
	c = o.client()
	code, message = c.open(m{"platformName": "android", "timeouts": m{"implicit": 8000}})
	require.Empty(t, code, message)
	_, code = install("net.kelpline.app/android@newest")
	require.Empty(t, code)
	c.must("POST", "/tessellant/app/launch", m{"app": "net.kelpline.app", "args": m{"debug_crash": "low tide"}})
	c.click("#aerr_close")
	c.must("DELETE", "", nil)
	s = o.over(c)
	assert.Equal(t, api.Crashed, *s.Verdict, "%v", s.Message)
	assert.Contains(t, *s.Message, "low tide")
	d, err := android.Open(t.Context(), &o.adb.Server, o.phones["fen-01"].Address())
	require.NoError(t, err)
	defer d.Close()
	for _, app := range []string{"org.kelpline.app", "net.kelpline.app"} {
		require.Error(t, d.Launch(t.Context(), phone.App{ID: app}), "the device is as it was: %s", app)
	}
}

func ptr[T any](v T) *T { return &v }

// zip gives the text files of a session.
func (o *outside) zip(id string) map[string]string {
	o.t.Helper()
	l, err := o.GetLegWithResponse(o.t.Context(), id)
	require.NoError(o.t, err)
	out := map[string]string{}
	for _, f := range l.JSON200.Attempts[0].Artifacts {
		if f.Kind == "video" || f.Kind == "screenshot" {
			continue
		}
		_, raw := o.do("GET", "/api/v1/artifacts/"+f.Id, o.Key, nil)
		out[f.Name] = string(raw)
	}
	return out
}

func TestASessionThatNobodyMarkedIsJudgedByHowItEnded(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	for name, c := range map[string]struct {
		caps    m
		do      func(c *wd)
		verdict api.Verdict
		how     string
		said    string
	}{
		"its client ended it": {kelpline, func(c *wd) { c.find("#search"); c.must("DELETE", "", nil) }, api.Passed, "client", ""},
		"its client ended it after an error": {with(kelpline, "timeouts", m{"implicit": 0}), func(c *wd) {
			_, code := c.do("POST", "/element", m{"using": "css selector", "value": "#nothing"})
			assert.Equal(t, "no such element", code)
			c.must("DELETE", "", nil)
		}, api.Failed, "client", "no such element"},
		"its client went on after an error": {with(kelpline, "timeouts", m{"implicit": 0}), func(c *wd) {
			_, _ = c.do("POST", "/element", m{"using": "css selector", "value": "#nothing"})
			c.must("GET", "/source", nil)
			c.must("DELETE", "", nil)
		}, api.Passed, "client", ""},
		"a case was left open": {kelpline, func(c *wd) {
			c.must("POST", "/tessellant/case/begin", m{"name": "opens"})
			c.must("POST", "/tessellant/case/end", m{"verdict": "passed"})
			c.must("POST", "/tessellant/case/begin", m{"name": "totals"})
			c.must("DELETE", "", nil)
		}, api.Passed, "client", "totals: it was begun, and nobody said how it came out"},
		"its client is gone": {with(kelpline, "tessellant:idle", 1), func(c *wd) { c.find("#search") }, api.Expired, "idle", "no command any more"},
		"its time was over":  {with(kelpline, "tessellant:limit", 2), func(c *wd) { c.find("#search") }, api.Expired, "limit", "time limit"},
		"the app crashed": {kelpline, func(c *wd) {
			c.must("POST", "/tessellant/app/stop", m{})
			c.must("POST", "/tessellant/app/launch", m{"args": m{"debug_crash": "low tide"}})
			c.find("#aerr_close")
			c.must("DELETE", "", nil)
		}, api.Crashed, "client", "low tide"},
		"a person stopped it": {kelpline, func(c *wd) {
			_, err := o.StopSessionWithResponse(t.Context(), c.caps["tessellant:session"].(string))
			require.NoError(t, err)
		}, api.Stopped, "stopped", "stopped"},
	} {
		client := o.client()
		client.t = t
		code, message := client.open(c.caps)
		require.Empty(t, code, message)
		c.do(client)
		s := o.over(client)
		assert.Equal(t, c.verdict, *s.Verdict, name)
		assert.Equal(t, c.how, *s.How, name)
		assert.Contains(t, deref(s.Message), c.said, name)
		assert.Equal(t, c.verdict != api.Crashed && c.verdict != api.Stopped, s.Inferred, name)
	}
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func TestAVerdictCanBeGivenAfterwards(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	c.find("#search")
	c.must("DELETE", "", nil)
	s := o.over(c)
	assert.True(t, s.Inferred)
	mark := func(body api.Mark) *api.Session {
		r, err := o.MarkSessionWithResponse(t.Context(), s.Id, body)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		return r.JSON200
	}
	x := mark(api.Mark{Verdict: api.Failed, Message: ptr("the total was wrong"), Case: ptr("total")})
	assert.Equal(t, []any{api.Failed, false, "total: the total was wrong"}, []any{*x.Verdict, x.Inferred, *x.Message})
	x = mark(api.Mark{Verdict: api.Passed, Case: ptr("total")})
	assert.Equal(t, api.Passed, *x.Verdict, "the same case anew")
	r, err := o.MarkSessionWithResponse(t.Context(), s.Id, api.Mark{Verdict: api.Crashed})
	require.NoError(t, err)
	assert.Equal(t, 400, r.StatusCode())

	began := s.Started.UTC()
	report := func(text string) (*api.Session, int) {
		r, err := o.ReportSessionWithBodyWithResponse(t.Context(), s.Id, "application/xml", strings.NewReader(text))
		require.NoError(t, err)
		return r.JSON200, r.StatusCode()
	}
	x, status := report(fmt.Sprintf(`<testsuite name="shores" timestamp="%s"><testcase name="total" time="1"/><testcase name="opens" time="2"><failure message="not there"/></testcase></testsuite>`, began.Add(3*time.Second).Format("2006-01-02T15:04:05.000")))
	require.Equal(t, 200, status)
	assert.Equal(t, api.Failed, *x.Verdict)
	l, err := o.GetLegWithResponse(t.Context(), s.Id)
	require.NoError(t, err)
	starts := map[string]int64{}
	for _, c := range l.JSON200.Attempts[0].Cases {
		starts[c.Name] = c.StartMs
	}
	assert.InDelta(t, 3000, starts["total"], 5)
	assert.InDelta(t, 4000, starts["shores / opens"], 5)
	x, _ = report(`<testsuite name="shores"><testcase name="opens"/></testsuite>`)
	assert.Equal(t, map[string]int{"passed": 2}, x.Cases, "an earlier report's cases give way")
	_, status = report("<html>")
	assert.Equal(t, 400, status)
}

func TestAReportFindsTheCasesThatWereMarked(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	for range 2 { // a method of the same name in two classes
		c.must("POST", "/tessellant/case/begin", m{"name": "opens"})
		c.find("#search")
		c.must("POST", "/tessellant/case/end", m{"verdict": "passed"})
	}
	c.must("DELETE", "", nil)
	s := o.over(c)
	require.Equal(t, map[string]int{"passed": 2}, s.Cases)
	long := strings.Repeat("ü", 390)
	text := `<testsuite><testcase classname="Shores" name="opens"/><testcase classname="Tides" name="opens"><failure message="no tide"/></testcase>
		<testcase name="again"><failure message="once"/></testcase><testcase name="again"/><testcase classname="` + long + `" name="` + long + `"/></testsuite>`
	for range 2 { // the same report again changes nothing
		r, err := o.ReportSessionWithBodyWithResponse(t.Context(), s.Id, "application/xml", strings.NewReader(text))
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		assert.Equal(t, map[string]int{"passed": 3, "failed": 2}, r.JSON200.Cases)
		l, err := o.GetLegWithResponse(t.Context(), s.Id)
		require.NoError(t, err)
		got := l.JSON200.Attempts[0].Cases
		require.Len(t, got, 5)
		assert.Equal(t, []string{"opens", "opens", "again", "again (2)"}, []string{got[0].Name, got[1].Name, got[2].Name, got[3].Name}, "twins are not merged")
		assert.Equal(t, []api.Verdict{api.Passed, api.Failed}, []api.Verdict{*got[0].Verdict, *got[1].Verdict})
		assert.Less(t, got[0].StartMs, got[1].StartMs, "their times stay")
	}
}

func TestWhoMayOpenASessionAndCommandIt(t *testing.T) {
	o := openOutside(t, "orr-01")
	other := &wd{t: t, url: o.URL + "/webdriver"}
	key := o.otherWorkspace()
	for auth, caps := range map[string]m{"": kelpline, "Bearer nonsense": kelpline, "Basic " + base64.StdEncoding.EncodeToString([]byte("a:b")): kelpline} {
		other.auth = auth
		status, v, err := other.send(t.Context(), "POST", "/session", m{"capabilities": m{"alwaysMatch": caps}})
		require.NoError(t, err)
		assert.Equal(t, []any{401, "session not created"}, []any{status, v.(m)["error"]})
	}
	other.auth = "Bearer " + key
	code, message := other.open(kelpline)
	assert.Equal(t, "session not created", code)
	assert.Contains(t, message, "no build", "another workspace's build is none of theirs")
	c := o.client()
	c.auth = ""
	code, message = c.open(with(kelpline, "tessellant:key", o.Key))
	require.Empty(t, code, message)
	c.find("#search")
	assert.NotContains(t, o.stored("sessions"), o.Key, "it is a secret")
	other.id = c.id
	_, code = other.do("GET", "/source", nil)
	assert.Equal(t, "invalid session id", code, "of another workspace, even with its id")
	r, err := o.GetSessionWithResponse(t.Context(), "01ZZZZZZZZZZZZZZZZZZZZZZZZ")
	require.NoError(t, err)
	assert.Equal(t, 404, r.StatusCode())
	id := c.caps["tessellant:session"].(string)
	_, raw := o.do("GET", "/api/v1/sessions/"+id, key, nil)
	assert.Contains(t, string(raw), "there is no session")
	c.id = id
	_, code = c.do("GET", "/source", nil)
	assert.Equal(t, "invalid session id", code, "what is shown in lists commands nothing")
}

// stored gives all that a table holds.
func (o *outside) stored(table string) string {
	o.t.Helper()
	db, err := sqlx.Open("mysql", o.DSN)
	require.NoError(o.t, err)
	defer db.Close()
	rows, err := db.Queryx("SELECT * FROM " + table)
	require.NoError(o.t, err)
	defer rows.Close()
	var out strings.Builder
	for rows.Next() {
		row, err := rows.SliceScan()
		require.NoError(o.t, err)
		for _, v := range row {
			fmt.Fprintf(&out, "%s\n", v)
		}
	}
	require.NoError(o.t, rows.Err())
	require.NotEmpty(o.t, out.String())
	return out.String()
}

// otherWorkspace makes a workspace and gives its key.
func (o *outside) otherWorkspace() string {
	o.t.Helper()
	key, err := o.FirstKey(o.t.Context(), "others", "tsl_a_key_for_somebody_else")
	require.NoError(o.t, err)
	return key
}

func TestWhatCanNotBeHadIsSaidAtOnce(t *testing.T) {
	o := openOutside(t, "orr-01")
	for name, c := range map[string]struct {
		caps m
		code string
		said string
	}{
		"a filter that matches nothing":     {with(kelpline, "tessellant:where", []string{"os>=99"}), "session not created", "no device matches os>=99"},
		"a filter that makes no sense":      {with(kelpline, "tessellant:where", []string{"colour=red"}), "invalid argument", "no trait"},
		"a build that is not there":         {with(kelpline, "tessellant:build", "kelpline/android@999"), "session not created", "kelpline/android@999"},
		"a capability without a prefix":     {with(kelpline, "deviceName", "x"), "invalid argument", "deviceName"},
		"a capability of ours that is none": {with(kelpline, "tessellant:colour", "x"), "invalid argument", "there is none of this name"},
		"somebody else's capability":        {with(kelpline, "other:thing", "x"), "session not created", "other:thing"},
		"another platform":                  {with(kelpline, "platformName", "typewriter"), "session not created", "typewriter"},
		"patience that is too long":         {with(kelpline, "tessellant:patience", 1e9), "invalid argument", "3600"},
	} {
		code, message := o.client().open(c.caps)
		assert.Equal(t, c.code, code, name)
		assert.Contains(t, message, c.said, name)
	}
	c := o.client()
	for body, code := range map[string]string{"{": "invalid argument", "[]": "invalid argument", "": "invalid argument"} {
		status, v, err := c.send(t.Context(), "POST", "/session", body)
		require.NoError(t, err)
		assert.Equal(t, []any{400, code}, []any{status, v.(m)["error"]}, body)
	}
	status, v, err := c.send(t.Context(), "POST", "/session", strings.Repeat(" ", 50<<20)+"{}")
	if err == nil { // the connection may be closed before all was sent
		assert.Equal(t, []any{400, "invalid argument"}, []any{status, v.(m)["error"]})
	}
	status, v, err = c.send(t.Context(), "GET", "/nothing", nil)
	require.NoError(t, err)
	assert.Equal(t, []any{404, "unknown command"}, []any{status, v.(m)["error"]})
	// A build that fits no device here: it wants a system that is not out yet.
	db, err := sql.Open("mysql", o.DSN)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), "UPDATE builds SET facts = JSON_SET(facts, '$.min_api', 99)")
	require.NoError(t, err)
	code, message := o.client().open(kelpline)
	assert.Equal(t, "session not created", code)
	assert.Contains(t, message, "orr-01 the build needs API level 99, the device has 34")
	r, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{})
	require.NoError(t, err)
	assert.Empty(t, r.JSON200.Items, "nothing of all that became a session")
}

func TestSessionsWaitForADeviceUpToTheirPatience(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	first := o.client()
	code, message := first.open(kelpline)
	require.Empty(t, code, message)
	code, message = o.client().open(with(kelpline, "tessellant:patience", 0.5))
	assert.Equal(t, "session not created", code)
	assert.Contains(t, message, "no device came free within 500ms; the session was number 1 in the queue")

	// One whose client goes away while it waits is withdrawn.
	ctx, cancel := context.WithCancel(t.Context())
	gone := make(chan error, 1)
	go func() {
		_, _, err := o.client().send(ctx, "POST", "/session", m{"capabilities": m{"alwaysMatch": kelpline}})
		gone <- err
	}()
	waiting := func() (n int, place int) {
		r, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{Going: ptr(true)})
		require.NoError(t, err)
		for _, s := range r.JSON200.Items {
			if s.Place != nil {
				place = max(place, *s.Place)
			}
		}
		return r.JSON200.Waiting, place
	}
	housetest.Eventually(t, "it waits", func() bool { n, place := waiting(); return n == 1 && place == 1 })
	cancel()
	require.Error(t, <-gone)
	housetest.Eventually(t, "it does not wait any more", func() bool { n, _ := waiting(); return n == 0 })

	// The next in the queue gets the device when it is free.
	second := o.client()
	opened := make(chan string, 1)
	go func() {
		_, v, err := second.send(t.Context(), "POST", "/session", m{"capabilities": m{"alwaysMatch": kelpline}})
		if err == nil {
			second.id, _ = v.(m)["sessionId"].(string)
		}
		opened <- second.id
	}()
	housetest.Eventually(t, "it waits", func() bool { n, _ := waiting(); return n == 1 })
	first.must("DELETE", "", nil)
	require.NotEmpty(t, <-opened)
	second.find("#search")
	second.must("DELETE", "", nil)
}

func TestAThousandSessionsAtOnceAllGetAnAnswer(t *testing.T) {
	o := openOutside(t, "orr-01", "orr-02")
	var all sync.WaitGroup
	var mu sync.Mutex
	codes := map[string]int{}
	for range 1000 {
		all.Go(func() {
			c := o.client()
			_, v, err := c.send(t.Context(), "POST", "/session", m{"capabilities": m{"alwaysMatch": m{"tessellant:patience": 15, "tessellant:recording": m{"video": false}}}})
			code := "no answer"
			if err == nil {
				code, _ = v.(m)["error"].(string)
			}
			if c.id, _ = v.(m)["sessionId"].(string); c.id != "" {
				_, _, _ = c.send(t.Context(), "DELETE", "/session/"+c.id, nil)
				code = "opened"
			}
			mu.Lock()
			defer mu.Unlock()
			codes[code]++
		})
	}
	all.Wait()
	assert.Equal(t, 1000, codes["opened"]+codes["session not created"], "%v", codes)
	assert.Greater(t, codes["opened"], 2, "%v", codes)
	housetest.Eventually(t, "nothing waits or is open", func() bool {
		open, waiting, err := o.Store.CountSessions(t.Context(), "")
		require.NoError(t, err)
		return open+waiting == 0
	})
	c := o.client()
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	c.must("DELETE", "", nil)
}

func TestADeviceThatVanishesEndsItsSessionAsLost(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	c.find("#search")
	o.phones["orr-01"].Unplug()
	said := map[string]bool{}
	housetest.Eventually(t, "the session is over for its client", func() bool {
		_, code := c.do("GET", "/source", nil)
		said[code] = true
		return code == "invalid session id"
	})
	for code := range said {
		assert.Contains(t, []string{"", "unknown error", "invalid session id", "timeout"}, code) // "": it was not noticed yet
	}
	s := o.over(c)
	assert.Equal(t, []any{api.Lost, "lost", false}, []any{*s.Verdict, *s.How, s.Inferred})
	message2, _ := c.do("GET", "/source", nil)
	assert.Contains(t, message2, "has ended: lost")
	assert.NotEmpty(t, o.events(s.Id), "what was gathered is kept")
}

func TestLargeAnswersAndBodiesGoThroughInPieces(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(with(kelpline, "tessellant:recording", m{"video": false, "log": false}))
	require.Empty(t, code, message)
	content := base64.StdEncoding.EncodeToString(bytes.Repeat([]byte("low 3.2\n"), 400_000))
	c.must("POST", "/tessellant/file/put", m{"path": "/sdcard/tides.csv", "content": content})
	assert.Equal(t, content, c.must("POST", "/tessellant/file/fetch", m{"path": "/sdcard/tides.csv"}))
	message2, code := c.do("POST", "/tessellant/log", m{})
	assert.Equal(t, "unsupported operation", code)
	assert.Contains(t, message2, "no device log")
	c.must("DELETE", "", nil)
	s := o.over(c)
	l, err := o.GetLegWithResponse(t.Context(), s.Id)
	require.NoError(t, err)
	for _, f := range l.JSON200.Attempts[0].Artifacts {
		assert.NotContains(t, []string{"video", "device-log"}, string(f.Kind), "it was asked to leave them out")
	}
}

func TestSnippetsWorkWhenPasted(t *testing.T) {
	o := openOutside(t, "orr-01")
	for _, l := range snippet.Languages {
		t.Run(l.Name, func(t *testing.T) {
			r, err := o.GetSnippetWithResponse(t.Context(), l.Name, &api.GetSnippetParams{Build: ptr("kelpline/android@newest"), Where: ptr([]string{"os>=10", "maker=Orrery,O'Dell"}), Group: ptr("snippets"), Name: ptr(`"quoted" & <said>`)})
			require.NoError(t, err)
			require.NotNil(t, r.JSON200, string(r.Body))
			assert.Equal(t, 1, r.JSON200.Devices)
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, r.JSON200.File), []byte(r.JSON200.Program), 0o600))
			cmd := exec.CommandContext(t.Context(), "sh", "-c", r.JSON200.Run)
			cmd.Dir, cmd.Env = dir, append(os.Environ(), "TESSELLANT_KEY="+o.Key, "GOFLAGS=", "GOWORK=off")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.True(t, strings.Contains(string(out), "<screen>"), "it prints what it saw")
			s, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{Group: ptr("snippets")})
			require.NoError(t, err)
			newest := s.JSON200.Items[0]
			assert.Equal(t, `"quoted" & <said>`, newest.Name)
			housetest.Eventually(t, "the session is over, and passed by its case", func() bool {
				x, err := o.GetSessionWithResponse(t.Context(), newest.Id)
				require.NoError(t, err)
				return x.JSON200.Stage == "done" && *x.JSON200.Verdict == api.Passed && !x.JSON200.Inferred
			})
		})
	}
	r, err := o.GetSnippetWithResponse(t.Context(), "latin", &api.GetSnippetParams{})
	require.NoError(t, err)
	assert.Equal(t, 400, r.StatusCode())
}

func TestASessionReachesItsOwnAppsAndLeavesNoFiles(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	open := func() *wd {
		t.Helper()
		c := o.client()
		code, message := c.open(kelpline)
		require.Empty(t, code, message)
		return c
	}
	c := open()
	for _, what := range []string{"stop", "clear"} {
		said, code := c.do("POST", "/tessellant/app/"+what, m{"app": "com.android.settings"})
		assert.Equal(t, "invalid argument", code)
		assert.Contains(t, said, "was not installed for this session; an owner of the workspace can allow it with: tessellant workspace set --other-apps on")
		_, code = c.do("POST", "/tessellant/app/"+what, m{})
		assert.Empty(t, code, "its own")
		_, code = c.do("POST", "/tessellant/app/"+what, m{"app": "org.kelpline.app"})
		assert.Empty(t, code)
	}
	const path = "/sdcard/Download/it's left.txt"
	_, code := c.do("POST", "/tessellant/file/put", m{"path": path, "content": base64.StdEncoding.EncodeToString([]byte("low tide"))})
	require.Empty(t, code)
	back, code := c.do("POST", "/tessellant/file/fetch", m{"path": path})
	require.Empty(t, code)
	assert.Equal(t, base64.StdEncoding.EncodeToString([]byte("low tide")), back)
	_, code = c.do("DELETE", "", nil)
	require.Empty(t, code)
	allowed := true
	set, err := o.SetWorkspaceWithResponse(t.Context(), api.SetWorkspaceJSONRequestBody{OtherApps: &allowed})
	require.NoError(t, err)
	require.NotNil(t, set.JSON200, string(set.Body))
	assert.True(t, set.JSON200.OtherApps)
	assert.False(t, set.JSON200.ProgramNetwork, "what was not given stays")
	c = open() // the device is clean: it was released, not quarantined
	_, code = c.do("POST", "/tessellant/file/fetch", m{"path": path})
	assert.NotEmpty(t, code, "the next session finds nothing of it")
	_, code = c.do("POST", "/tessellant/app/stop", m{"app": "com.android.settings"})
	assert.Empty(t, code, "the workspace allows it now")
}
