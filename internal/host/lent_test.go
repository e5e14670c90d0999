package host_test

// Legs and sessions on devices that a lab lends: the real service, a host, and the simulated cloud.

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host"
	"tessellant/internal/housetest"
	"tessellant/internal/lab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/service"
	"tessellant/internal/standin/cloudlab"
	"tessellant/internal/store"
)

// rented is a service with a host whose devices are a cloud's.
type rented struct {
	*bench
	cloud *cloudlab.Cloud
	stop  func()
}

func rent(t *testing.T, change ...func(*cloudlab.Config)) *rented {
	t.Helper()
	cloud := housetest.Cloud(t, change...)
	r := &rented{bench: &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t}, cloud: cloud}
	dir := t.TempDir()
	t.Setenv("HERON_KEY", housetest.CloudKey)
	r.again = func() {
		l, err := wdlab.New(wdlab.Config{Lab: housetest.LabFile(t, cloud, "every: 10s", "every: 5s"), Dir: dir, Log: housetest.Log()})
		require.NoError(t, err)
		r.stop = r.HostWith(t, host.Config{Labs: []lab.Maker{wdlab.Maker(l)}})
	}
	r.again()
	ctx := context.Background()
	_, _, err := r.AddBuild(ctx, r.Who, service.Upload{Body: bytes.NewReader(housetest.KelplineIOS(t)), Size: -1})
	require.NoError(t, err)
	r.listed(8)
	return r
}

// listed waits until so many devices are ready.
func (r *rented) listed(n int) {
	r.t.Helper()
	housetest.Eventually(r.t, "the cloud's devices are ready", func() bool {
		ds, _, err := r.Devices(context.Background(), store.Identity{}, nil, "", 50)
		ready := 0
		for _, d := range ds {
			if d.Standing().State == "ready" {
				ready++
			}
		}
		return err == nil && ready == n
	})
}

// begin starts a run of cases, written as bodies of functions, on devices.
func (r *rented) begin(serials []string, q service.RunRequest, cases ...string) string {
	r.t.Helper()
	var src strings.Builder
	for i := 0; i+1 < len(cases); i += 2 {
		src.WriteString("def test_" + cases[i] + "(phone):\n    " + strings.ReplaceAll(cases[i+1], "\n", "\n    ") + "\n")
	}
	var zip bytes.Buffer
	require.NoError(r.t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: cases\nkind: script\n")}, "c.star": {Data: []byte(src.String())}}, &zip))
	ctx := context.Background()
	_, _, err := r.AddPackage(ctx, r.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(r.t, err)
	q.Build, q.Package, q.Devices = "kelpline/ios@newest", "cases@newest", serials
	run, _, err := r.StartRun(ctx, r.Who, q)
	require.NoError(r.t, err)
	return run.ID
}

const looksAtShores = "phone.launch()\nphone.find('#shore_gull-ledge')\nphone.step('shores')"

// closed waits until the cloud has no session open.
func (r *rented) closed() {
	r.t.Helper()
	housetest.Eventually(r.t, "the cloud has no session open", func() bool { now, _ := r.cloud.Open(); return now == 0 })
}

func TestALegOnALentIOSPhoneLeavesItsEvidence(t *testing.T) {
	r := rent(t)
	run := r.begin([]string{"her-05"}, service.RunRequest{}, "shores", looksAtShores, "settings", "phone.launch()\nphone.tap('#settings')\ncheck.equal(phone.find('#feet').text, 'Heights in feet')\nphone.back()\nphone.find('#search')",
		"fails", "phone.launch()\nphone.find('#nothing', within = 0.2)")
	l := r.wait(run)
	assert.Equal(t, verdict.Failed, l.Verdict, l.Message)
	require.Len(t, l.Attempts, 1)
	a := l.Attempts[0]
	assert.Equal(t, []verdict.Verdict{verdict.Passed, verdict.Passed, verdict.Failed}, []verdict.Verdict{a.Cases[0].Verdict, a.Cases[1].Verdict, a.Cases[2].Verdict}, a.Cases[1].Message)
	require.NotNil(t, a.Loan.V)
	assert.Equal(t, "heron", a.Loan.V.Lab)
	assert.InDelta(t, a.Ended.Time.Sub(a.Started).Seconds(), a.Loan.V.Seconds, 30, "for how long it was lent")
	assert.Positive(t, a.Loan.V.Seconds)
	times, err := r.Store.LentTo(context.Background(), run)
	require.NoError(t, err)
	assert.Equal(t, []store.LentTime{{Lab: "heron", Seconds: a.Loan.V.Seconds, Attempts: 1}}, times)
	assert.Equal(t, r.cloud.URL()+"/sessions/"+a.Loan.V.Session, a.Loan.V.Page)
	es := r.whole(a)
	shots, lent := 0, false
	for _, e := range es {
		if e.Kind == timeline.Step && e.File != "" {
			shots++
		}
		lent = lent || e.Name == "lent by its lab" && e.Args["session"] == a.Loan.V.Session
	}
	assert.Positive(t, shots)
	assert.True(t, lent, "the timeline says when the device came")
	assert.Contains(t, string(r.file(a, "device.log")), "[app<org.kelpline.app>:", "the lab's log is kept")
	assert.True(t, a.ClockDoubtMS.Valid, "the lab tells the device's time")
	r.closed()
	r.listed(8)
}

func TestAnAppThatDiesOnALentPhoneHasCrashed(t *testing.T) {
	r := rent(t)
	l := r.wait(r.begin([]string{"her-05"}, service.RunRequest{}, "dies", "phone.launch(args = {'debug_crash': 'low tide'})\nphone.find('#shore_gull-ledge')\nphone.find('#nothing', within = 8)"))
	assert.Equal(t, verdict.Crashed, l.Verdict, l.Message)
	assert.Contains(t, l.Attempts[0].Cases[0].Message, "low tide")
}

func TestALentPhoneIsSetAsTheRunWants(t *testing.T) {
	r := rent(t)
	l := r.wait(r.begin([]string{"her-05"}, service.RunRequest{Conditions: map[string]string{"language": "de", "orientation": "landscape"}}, "german", "phone.launch()\ncheck.equal(phone.read('#title'), 'Küsten')\nb = phone.find('#title').bounds\ncheck.that(b['right'] > 1000, 'it lies on its side')"))
	assert.Equal(t, verdict.Passed, l.Verdict, "%s %+v", l.Message, l.Attempts[0].Cases)
	_, _, err := r.StartRun(context.Background(), r.Who, service.RunRequest{Build: "kelpline/ios@newest", Package: "cases@newest", Devices: []string{"her-05"}, Conditions: map[string]string{"time-zone": "Europe/Lisbon"}})
	require.ErrorContains(t, err, "can be set to the conditions", "what the lab can't do is said before")
}

func TestADeviceThatALabLosesInACaseGetsTheLegAnotherAttempt(t *testing.T) {
	r := rent(t)
	run := r.begin([]string{"her-05"}, service.RunRequest{Attempts: 2}, "waits", "phone.launch()\nphone.find('#shore_gull-ledge')\nfor _ in range(60):\n    phone.step('again')")
	r.until(run, "c.test_waits")
	r.cloud.EndAll()
	l := r.wait(run)
	assert.Equal(t, verdict.Passed, l.Verdict, l.Message)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Contains(t, l.Attempts[0].Message, "the lab has ended the session")
	r.closed()
}

func TestALabThatGivesAnotherDeviceLosesTheAttempt(t *testing.T) {
	r := rent(t)
	r.cloud.Other.Store(true)
	l := r.wait(r.begin([]string{"her-05"}, service.RunRequest{Attempts: 2}, "shores", looksAtShores))
	assert.Equal(t, verdict.Passed, l.Verdict, l.Message)
	require.Len(t, l.Attempts, 2)
	assert.Contains(t, l.Attempts[0].Message, "gave another device than was asked for")
	r.closed()
}

func TestNoMorePhonesOfALabAreTakenThanItLends(t *testing.T) {
	r := rent(t)
	run := r.begin([]string{"her-05", "her-06", "her-07", "her-08"}, service.RunRequest{}, "shores", looksAtShores+"\nfor _ in range(3):\n    phone.step('again')")
	most := 0
	housetest.Eventually(t, "the run is over", func() bool {
		x, err := r.Run(context.Background(), r.Who, run)
		require.NoError(t, err)
		ds, _, err := r.Devices(context.Background(), store.Identity{}, nil, "", 50)
		require.NoError(t, err)
		held := 0
		for _, d := range ds {
			if d.Held {
				held++
			}
		}
		most = max(most, held)
		return x.Ended.Valid
	})
	assert.Equal(t, 3, most, "the fourth waits for its turn in the queue, where it is seen to wait")
	x, err := r.Run(context.Background(), r.Who, run)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, x.Verdict)
	var said []string
	for _, f := range x.Findings.V {
		said = append(said, f.What)
	}
	assert.Contains(t, strings.Join(said, "\n"), "the lab heron lends 3 devices at a time, and the run has 4 there: the others wait")
}

func TestASessionThatAHostLeftOpenIsEndedByItsNextProcess(t *testing.T) {
	r := rent(t)
	run := r.begin([]string{"her-05"}, service.RunRequest{Attempts: 1}, "waits", looksAtShores+"\nphone.find('#nothing', within = 60)")
	r.until(run, "c.test_waits")
	r.cloud.Only.Store("/wd/")
	r.cloud.Hangs.Store(1000) // the host can't tell the lab
	r.stop()
	r.cloud.Hangs.Store(0)
	now, _ := r.cloud.Open()
	require.Equal(t, 1, now)
	r.again()
	r.closed()
	assert.Equal(t, verdict.Lost, r.wait(run).Verdict)
}

// client sends W3C requests to the service's door.
type client struct {
	t   *testing.T
	url string
	key string
}

func (c client) do(method, path string, body any) (int, map[string]any) {
	c.t.Helper()
	var in io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		require.NoError(c.t, err)
		in = bytes.NewReader(raw)
	}
	q, err := http.NewRequest(method, c.url+"/webdriver"+path, in)
	require.NoError(c.t, err)
	q.Header.Set("Authorization", "Bearer "+c.key)
	resp, err := http.DefaultClient.Do(q)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	var out map[string]any
	require.NoError(c.t, json.NewDecoder(resp.Body).Decode(&out))
	return resp.StatusCode, out
}

func TestASessionFromOutsideGoesThroughToTheLab(t *testing.T) {
	r := rent(t)
	c := client{t, r.URL, r.Key}
	status, out := c.do("POST", "/session", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"platformName": "iOS", "timeouts": map[string]any{"implicit": 1500}, "tessellant:build": "kelpline/ios@newest", "tessellant:where": []string{"serial=her-06"}}}})
	require.Equal(t, 200, status, out)
	value := out["value"].(map[string]any)
	id := value["sessionId"].(string)
	assert.Equal(t, "ios", value["capabilities"].(map[string]any)["platformName"])
	path := "/session/" + id
	_, out = c.do("GET", path+"/timeouts", nil)
	assert.EqualValues(t, 1500, out["value"].(map[string]any)["implicit"], "the time-outs are the lab's own")
	_, out = c.do("GET", path+"/source", nil)
	assert.Contains(t, out["value"], "<XCUIElementTypeApplication", "the source is the lab's own")
	_, out = c.do("GET", path+"/window/rect", nil)
	assert.EqualValues(t, 430, out["value"].(map[string]any)["width"], "so are places: points")
	find := func(css string) string {
		status, out := c.do("POST", path+"/element", map[string]any{"using": "css selector", "value": css})
		require.Equal(t, 200, status, out)
		for _, v := range out["value"].(map[string]any) {
			return v.(string)
		}
		return ""
	}
	status, out = c.do("POST", path+"/element", map[string]any{"using": "css selector", "value": "#nothing"})
	assert.Equal(t, 404, status)
	assert.Equal(t, "no such element", out["value"].(map[string]any)["error"])
	assert.Contains(t, out["value"].(map[string]any)["message"], "nothing on the screen is css selector", "errors are the lab's own")
	search := find("#search")
	status, out = c.do("POST", path+"/element/"+search+"/value", map[string]any{"text": "gül"})
	require.Equal(t, 200, status, out)
	_, out = c.do("GET", path+"/element/"+search+"/property/value", nil)
	assert.Equal(t, "gül", out["value"])
	code := find("#search")
	status, _ = c.do("POST", path+"/element/"+code+"/clear", map[string]any{})
	require.Equal(t, 200, status)
	status, out = c.do("POST", path+"/element/"+code+"/value", map[string]any{"text": "tern-rocks-secret", "tessellant:secret": true})
	require.Equal(t, 200, status, out)
	status, out = c.do("POST", path+"/tessellant/case/begin", map[string]any{"name": "the search"})
	require.Equal(t, 200, status, out)
	status, out = c.do("POST", path+"/tessellant/step", map[string]any{"name": "typed"})
	require.Equal(t, 200, status, out)
	status, out = c.do("POST", path+"/tessellant/case/end", map[string]any{"verdict": "passed"})
	require.Equal(t, 200, status, out)
	status, _ = c.do("DELETE", path, nil)
	require.Equal(t, 200, status)
	r.closed()
	newest, err := r.Session(context.Background(), r.Who, "newest")
	require.NoError(t, err)
	var s service.LegDetail
	housetest.Eventually(t, "the session's evidence is there", func() bool {
		s, err = r.Leg(context.Background(), r.Who, newest.ID)
		require.NoError(t, err)
		return s.Stage == "done"
	})
	assert.Equal(t, verdict.Passed, s.Verdict, s.Message)
	raw := string(r.file(s.Attempts[0], "timeline.jsonl"))
	assert.Contains(t, raw, "find element")
	assert.Contains(t, raw, "gül")
	assert.NotContains(t, raw, "tern-rocks-secret", "what is secret is masked")
	require.Len(t, s.Attempts[0].Cases, 1)
	assert.Equal(t, verdict.Passed, s.Attempts[0].Cases[0].Verdict)
}

func TestALabOfUnderstandingOnlyTheStandardCanBeUsed(t *testing.T) {
	cloud := housetest.Cloud(t)
	file := housetest.LabFile(t, cloud)
	file.Commands = nil
	t.Setenv("HERON_KEY", housetest.CloudKey)
	l, err := wdlab.New(wdlab.Config{Lab: file, Dir: t.TempDir(), Log: housetest.Log()})
	require.NoError(t, err)
	r := &rented{bench: &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t}, cloud: cloud}
	r.HostWith(t, host.Config{Labs: []lab.Maker{wdlab.Maker(l)}})
	_, _, err = r.AddBuild(context.Background(), r.Who, service.Upload{Body: bytes.NewReader(housetest.KelplineIOS(t)), Size: -1})
	require.NoError(t, err)
	r.listed(8)
	leg := r.wait(r.begin([]string{"her-05"}, service.RunRequest{}, "one", "phone.launch()\nphone.tap('#search')\nphone.type('#search', 'tern')\nphone.find('#shore_tern-rocks')", "two", "phone.launch()\ncheck.equal(phone.find('#search').value, '', 'each case begins anew')"))
	assert.Equal(t, verdict.Passed, leg.Verdict, "%s %+v", leg.Message, leg.Attempts[0].Cases)
	_, ever := cloud.Open()
	assert.Equal(t, 2, ever, "a new session for the second case")
	r.closed()
	assert.False(t, leg.Attempts[0].ClockDoubtMS.Valid)
	es := events(t, r.file(leg.Attempts[0], "timeline.jsonl"))
	said := false
	for _, e := range es {
		said = said || e.Name == "log is not whole"
	}
	assert.True(t, said, "what is not kept is said")
	assert.WithinDuration(t, time.Now(), leg.Attempts[0].Started, time.Minute)
}
