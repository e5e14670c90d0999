package remoteend_test

// The remote end as a client meets it: over HTTP, on a simulated phone behind the real adb server, section by section of the standard.

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
	"tessellant/internal/housetest"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	"tessellant/internal/remoteend"
	standin "tessellant/internal/standin/phone"
)

// kept are notes for tests.
type kept struct {
	mu       sync.Mutex
	commands []phone.Command
	log      []string
	secrets  []string
	said     []string
}

func (k *kept) add(to *[]string, s string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	*to = append(*to, s)
}

// has says whether something was said.
func (k *kept) has(said string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Contains(k.said, said)
}

func (k *kept) Command(c phone.Command) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.commands = append(k.commands, c)
}
func (k *kept) Log(line string)    { k.add(&k.log, line) }
func (k *kept) Secret(text string) { k.add(&k.secrets, text) }
func (k *kept) Step(_ context.Context, name string) error {
	k.add(&k.said, "step "+name)
	return nil
}
func (k *kept) BeginCase(_ context.Context, name string) error {
	k.add(&k.said, "begin "+name)
	return nil
}
func (k *kept) EndCase(_ context.Context, v, m string) error {
	k.add(&k.said, "end "+v+" "+m)
	return nil
}
func (k *kept) Mark(v, m string)           { k.add(&k.said, "mark "+v+" "+m) }
func (k *kept) Console(level, text string) { k.add(&k.said, "console "+level+" "+text) }
func (k *kept) DeviceLog(_ context.Context, since int64) ([]string, int64, error) {
	return []string{"a line"}, since + 1, nil
}

// client is a WebDriver client as anybody would write one.
type client struct {
	t    testing.TB
	base string
	id   string
}

// answered is what came back.
type answered struct {
	Status int
	Value  any
}

// Error is the standard's code; "": none.
func (a answered) Error() string {
	m, _ := a.Value.(map[string]any)
	code, _ := m["error"].(string)
	if a.Status == 200 {
		return ""
	}
	return code
}

func (c *client) raw(method, path, body string) answered {
	c.t.Helper()
	req, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	require.NoError(c.t, err)
	req.Header.Set("Content-Type", "application/json; charset=utf-8")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	var a struct{ Value any }
	require.NoError(c.t, json.Unmarshal(raw, &a), string(raw))
	assert.Equal(c.t, "application/json; charset=utf-8", strings.ToLower(resp.Header.Get("Content-Type")))
	return answered{resp.StatusCode, a.Value}
}

func (c *client) do(method, path string, body any) answered {
	c.t.Helper()
	text := ""
	if method == "POST" {
		raw, err := json.Marshal(body)
		require.NoError(c.t, err)
		text = string(raw)
	}
	return c.raw(method, "/session/"+c.id+path, text)
}

// must is do, where success is expected.
func (c *client) must(method, path string, body any) any {
	c.t.Helper()
	a := c.do(method, path, body)
	require.Equal(c.t, 200, a.Status, "%s %s: %v", method, path, a.Value)
	return a.Value
}

type m = map[string]any

// find gives the reference of an element.
func (c *client) find(css string) string {
	c.t.Helper()
	v := c.must("POST", "/element", m{"using": "css selector", "value": css})
	return v.(m)[w3c.ElementKey].(string)
}

// filled writes references of elements where {#ID} stands, and their key where {key} does.
func filled(s string, ref func(css string) string) string {
	s = strings.ReplaceAll(s, "{key}", w3c.ElementKey)
	for {
		before, after, found := strings.Cut(s, "{#")
		if !found {
			return s
		}
		id, rest, _ := strings.Cut(after, "}")
		s = before + ref("#"+id) + rest
	}
}

func (c *client) open() {
	c.t.Helper()
	a := c.raw("POST", "/session", `{"capabilities": {}}`)
	require.Equal(c.t, 200, a.Status, a.Value)
	c.id = a.Value.(m)["sessionId"].(string)
}

// lab is a phone with Kelpline in front, behind a remote end.
type lab struct {
	*client
	notes *kept
	phone *standin.Phone
	dev   *android.Device

	working atomic.Int32 // requests
}

func newLab(t testing.TB, serial string) *lab {
	server := housetest.ADB(t)
	tr := housetest.Fleet(t)[serial]
	tr.Temper = standin.Instant
	p := housetest.Phone(t, server, tr)
	ctx := context.Background()
	d, err := android.Open(ctx, &server.Server, p.Address())
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	app := housetest.KelplineApp(t)
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Launch(ctx, app))
	facts, err := d.Facts(ctx)
	require.NoError(t, err)
	l := &lab{notes: &kept{}, phone: p, dev: d}
	n := 0
	h := &remoteend.Handler{Open: func(_ context.Context, wanted []w3c.Capabilities) (*remoteend.Session, *w3c.Error) {
		if why := wanted[0].Unmatched("android"); why != "" {
			return nil, w3c.Fail(w3c.SessionNotCreated, "%s", why)
		}
		w, err := ours.Read(wanted[0])
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		n++
		timeouts, bad := wanted[0].Timeouts()
		if bad != nil {
			return nil, bad
		}
		return remoteend.New(remoteend.Config{ID: fmt.Sprintf("session-%d", n), Answer: wanted[0].Answer("android", timeouts, nil), Timeouts: timeouts, Idle: w.Idle, Phone: d, App: app, Facts: facts, Notes: l.notes}), nil
	}, Waits: func(id string) { l.notes.add(&l.notes.said, "a session waits for "+id) }}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.working.Add(1)
		defer l.working.Add(-1)
		h.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	l.client = &client{t: t, base: srv.URL}
	return l
}

func TestASessionIsOpenedAndEnded(t *testing.T) {
	l := newLab(t, "orr-01")
	assert.Equal(t, m{"ready": true, "message": "a session can be opened"}, l.raw("GET", "/status", "").Value)
	a := l.raw("POST", "/session", `{"capabilities": {"alwaysMatch": {"platformName": "Android", "timeouts": {"implicit": 1500}}, "firstMatch": [{"pageLoadStrategy": "none"}]}}`)
	require.Equal(t, 200, a.Status, a.Value)
	l.id = a.Value.(m)["sessionId"].(string)
	assert.Equal(t, m{"browserName": "", "browserVersion": "", "platformName": "android", "acceptInsecureCerts": false, "pageLoadStrategy": "none", "proxy": m{}, "setWindowRect": false,
		"strictFileInteractability": false, "unhandledPromptBehavior": "dismiss and notify", "timeouts": m{"script": 30000.0, "pageLoad": 300000.0, "implicit": 1500.0}}, a.Value.(m)["capabilities"])
	assert.Equal(t, false, l.raw("GET", "/status", "").Value.(m)["ready"])
	assert.Nil(t, l.must("DELETE", "", nil))
	a = l.do("GET", "/timeouts", nil)
	assert.Equal(t, []any{404, "invalid session id"}, []any{a.Status, a.Error()})
	l.open()
	for body, want := range map[string]string{
		`{`: "invalid argument", `[]`: "invalid argument", `{"capabilities": {}} x`: "invalid argument",
		`{"implicit": 1.5}`: "invalid argument", `{"implicit": -1}`: "invalid argument", `{"script": null, "implicit": 0}`: "",
	} {
		assert.Equal(t, want, l.raw("POST", "/session/"+l.id+"/timeouts", body).Error(), body)
	}
	assert.Nil(t, l.must("GET", "/timeouts", nil).(m)["script"])
}

func TestADeviceHasOneSessionAtATime(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	next := make(chan answered, 1)
	ask := func(body string) {
		c := *l.client
		go func() { next <- c.raw("POST", "/session", body) }()
	}
	ask(`{"capabilities": {"alwaysMatch": {"tessellant:idle": 1}}}`)
	housetest.Eventually(t, "the second waits", func() bool { return l.notes.has("a session waits for session-1") })
	assert.Empty(t, next)
	l.must("GET", "/timeouts", nil)
	l.must("DELETE", "", nil)
	a := <-next
	require.Equal(t, 200, a.Status, a.Value)

	// This one's client does not end it: a second without a command, and the next has the device.
	l.id = a.Value.(m)["sessionId"].(string)
	used := time.Now()
	l.must("GET", "/timeouts", nil)
	ask(`{"capabilities": {}}`)
	a = <-next
	require.Equal(t, 200, a.Status, a.Value)
	assert.GreaterOrEqual(t, time.Since(used), time.Second)
	assert.Equal(t, "invalid session id", l.do("GET", "/timeouts", nil).Error())
	l.id = a.Value.(m)["sessionId"].(string)
	l.must("GET", "/timeouts", nil)

	// Who goes away while waiting gets none, and keeps none from the next.
	ctx, cancel := context.WithCancel(t.Context())
	req, err := http.NewRequestWithContext(ctx, "POST", l.base+"/session", strings.NewReader(`{"capabilities": {}}`))
	require.NoError(t, err)
	gone := make(chan error, 1)
	go func() {
		_, err := http.DefaultClient.Do(req)
		gone <- err
	}()
	housetest.Eventually(t, "it waits", func() bool { return l.notes.has("a session waits for session-3") })
	cancel()
	require.ErrorIs(t, <-gone, context.Canceled)
	housetest.Eventually(t, "the remote end has seen it go", func() bool { return l.working.Load() == 0 })
	ask(`{"capabilities": {}}`)
	l.must("DELETE", "", nil)
	a = <-next
	require.Equal(t, 200, a.Status, a.Value)
	assert.Equal(t, "session-4", a.Value.(m)["sessionId"])
}

func TestElementsAreFoundByAllFiveStrategies(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	l.find("#shore_gull-ledge")
	for _, c := range []struct{ using, value, want string }{
		{"css selector", "text#title", "Shores"}, {"xpath", "//text[@id='title']", "Shores"}, {"link text", "Shores", "Shores"}, {"partial link text", "hore", "Shores"},
	} {
		v := l.must("POST", "/element", m{"using": c.using, "value": c.value}).(m)
		assert.Equal(t, c.want, l.must("GET", "/element/"+v[w3c.ElementKey].(string)+"/text", nil), c.using)
	}
	l.must("POST", "/timeouts", m{"implicit": 0})
	v := l.must("POST", "/elements", m{"using": "tag name", "value": "field"}).([]any)
	require.Len(t, v, 1)
	row := l.find("#shore_gull-ledge")
	below := l.must("POST", "/element/"+row+"/elements", m{"using": "css selector", "value": "text"}).([]any)
	assert.NotEmpty(t, below)
	assert.Empty(t, l.must("POST", "/element/"+row+"/elements", m{"using": "xpath", "value": ".//field"}))
	assert.Equal(t, "no such element", l.do("POST", "/element/"+row+"/element", m{"using": "tag name", "value": "field"}).Error(), "the field lies elsewhere")
	for want, body := range map[string]m{
		"invalid selector":   {"using": "xpath", "value": "//text["},
		"invalid argument":   {"using": "id", "value": "title"},
		"no such element":    {"using": "css selector", "value": "#nothing"},
		"invalid selector ":  {"using": "xpath", "value": "//text/@id"},
		"invalid selector  ": {"using": "xpath", "value": "count(//text)"},
	} {
		assert.Equal(t, strings.TrimSpace(want), l.do("POST", "/element", body).Error(), body)
	}
	start := time.Now()
	l.must("POST", "/timeouts", m{"implicit": 300})
	assert.Equal(t, "no such element", l.do("POST", "/element", m{"using": "css selector", "value": "#nothing"}).Error())
	assert.GreaterOrEqual(t, time.Since(start), 300*time.Millisecond, "it waits as long as it was told")
	assert.Empty(t, l.must("POST", "/elements", m{"using": "css selector", "value": "#nothing"}))
}

func TestAnElementTellsItsStateAndGoesStale(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	row := l.find("#shore_gull-ledge")
	field := l.find("#search")
	get := func(e, what string) any { t.Helper(); return l.must("GET", "/element/"+e+"/"+what, nil) }
	assert.Equal(t, "field", get(field, "name"))
	assert.Equal(t, "textbox", get(field, "computedrole"))
	assert.Equal(t, true, get(field, "enabled"))
	assert.Equal(t, false, get(field, "selected"))
	assert.Equal(t, true, get(field, "displayed"))
	assert.Equal(t, "search", get(field, "attribute/id"))
	assert.Nil(t, get(field, "attribute/checked"))
	assert.Nil(t, get(field, "attribute/nothing"))
	assert.Equal(t, false, get(field, "property/checked"))
	r := get(field, "rect").(m)
	assert.Greater(t, r["width"], 100.0)
	assert.Equal(t, "unsupported operation", l.do("GET", "/element/"+field+"/css/color", nil).Error())
	assert.Equal(t, "no such shadow root", l.do("GET", "/element/"+field+"/shadow", nil).Error())
	assert.Equal(t, field, l.find("#search"), "one element has one reference")

	l.must("POST", "/element/"+field+"/click", m{})
	assert.Equal(t, field, l.must("GET", "/element/active", nil).(m)[w3c.ElementKey])
	l.must("POST", "/element/"+field+"/value", m{"text": "gul\uE003ll"})
	assert.Equal(t, "gull", get(field, "property/value"), "the code point for Backspace deletes")
	l.must("POST", "/element/"+field+"/clear", m{})
	assert.Nil(t, get(field, "property/value"))
	assert.Equal(t, "invalid element state", l.do("POST", "/element/"+row+"/clear", m{}).Error())
	assert.Equal(t, "element not interactable", l.do("POST", "/element/"+row+"/value", m{"text": "x"}).Error())
	a := l.do("POST", "/element/"+field+"/value", m{"text": "Küste"})
	assert.Equal(t, "unsupported operation", a.Error())
	assert.Contains(t, a.Value.(m)["message"], `'ü'`)
	assert.Equal(t, "invalid argument", l.do("POST", "/element/"+field+"/value", m{"text": 5}).Error())

	l.must("POST", "/tessellant/keyboard/hide", m{})
	l.must("POST", "/element/"+row+"/click", m{})
	l.find("#start")
	assert.Equal(t, "stale element reference", l.do("GET", "/element/"+row+"/text", nil).Error())
	assert.Equal(t, "no such element", l.do("GET", "/element/other/text", nil).Error())
	l.must("POST", "/back", m{})
	l.find("#search")
	assert.Contains(t, get(row, "text"), "Gull Ledge", "it is there again")
}

func TestScreenshotsAreThoseOfTheScreenAndOfAnElement(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	field := l.find("#search")
	size := func(v any) (int, int) {
		raw, err := base64.StdEncoding.DecodeString(v.(string))
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(raw))
		require.NoError(t, err)
		return img.Bounds().Dx(), img.Bounds().Dy()
	}
	w, h := size(l.must("GET", "/screenshot", nil))
	r := l.must("GET", "/window/rect", nil).(m)
	assert.Equal(t, []any{0.0, 0.0, float64(w), float64(h)}, []any{r["x"], r["y"], r["width"], r["height"]})
	ew, eh := size(l.must("GET", "/element/"+field+"/screenshot", nil))
	er := l.must("GET", "/element/"+field+"/rect", nil).(m)
	assert.Equal(t, []any{er["width"], er["height"]}, []any{float64(ew), float64(eh)})
	assert.Contains(t, l.must("GET", "/source", nil), `<field id="search"`)
	l.must("POST", "/tessellant/orientation", m{"orientation": "landscape"})
	assert.Equal(t, "landscape", l.must("GET", "/tessellant/orientation", nil))
	r = l.must("GET", "/window/rect", nil).(m)
	assert.Equal(t, []any{float64(h), float64(w)}, []any{r["width"], r["height"]})
	assert.Equal(t, "invalid argument", l.do("POST", "/tessellant/orientation", m{"orientation": "sideways"}).Error())
}

func TestActionsMoveFingersAndPressKeys(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	row := l.find("#shore_gull-ledge")
	finger := func(id string, items ...any) m {
		return m{"type": "pointer", "id": id, "parameters": m{"pointerType": "touch"}, "actions": items}
	}
	on := func(e string) m {
		return m{"type": "pointerMove", "duration": 0, "x": 0, "y": 0, "origin": m{w3c.ElementKey: e}}
	}
	down, up := m{"type": "pointerDown", "button": 0}, m{"type": "pointerUp", "button": 0}
	pause := func(ms int) m { return m{"type": "pause", "duration": ms} }
	did := func(want string) {
		t.Helper()
		l.notes.mu.Lock()
		defer l.notes.mu.Unlock()
		for i := len(l.notes.log) - 1; i >= 0 && i > len(l.notes.log)-12; i-- {
			if strings.HasPrefix(l.notes.log[i], want) {
				return
			}
		}
		assert.Fail(t, "not done: "+want, strings.Join(l.notes.log[max(0, len(l.notes.log)-8):], "\n"))
	}
	back := func() {
		l.find("#start")
		l.must("POST", "/back", m{})
		l.find("#shore_gull-ledge")
	}
	l.must("POST", "/actions", m{"actions": []any{finger("one", on(row), down, pause(50), up)}})
	did("device: tap")
	back()
	l.must("POST", "/actions", m{"actions": []any{finger("one", on(row), down, pause(700), up)}})
	did("device: long press")
	l.must("POST", "/actions", m{"actions": []any{finger("one", m{"type": "pointerMove", "x": 300, "y": 900}, down, m{"type": "pointerMove", "duration": 200, "x": 0, "y": -200, "origin": "pointer"}, up)}})
	did("device: swipe")
	// A finger that stays down lifts with the next call, or when actions are released.
	row = l.find("#shore_old-slip")
	l.must("POST", "/actions", m{"actions": []any{finger("one", on(row), down)}})
	assert.Equal(t, "Shores", l.must("GET", "/element/"+l.find("text#title")+"/text", nil))
	l.must("DELETE", "/actions", nil)
	back()
	// Two at once: the one on the title does nothing, the other taps.
	title := l.find("text#title")
	row = l.find("#shore_old-slip")
	l.must("POST", "/actions", m{"actions": []any{finger("one", on(row), down, pause(60), up), finger("two", on(title), down, pause(60), up)}})
	did("device: touch")
	back()
	field := l.find("#search")
	l.must("POST", "/element/"+field+"/click", m{})
	key := func(v string) []any { return []any{m{"type": "keyDown", "value": v}, m{"type": "keyUp", "value": v}} }
	l.must("POST", "/actions", m{"actions": []any{m{"type": "key", "id": "keys", "actions": slices.Concat(key("o"), key("l"), key("d"), key("\uE003"))}}})
	assert.Equal(t, "ol", l.must("GET", "/element/"+field+"/property/value", nil))
	for _, c := range []struct {
		want string
		body m
	}{
		{"move target out of bounds", m{"actions": []any{finger("far", m{"type": "pointerMove", "x": 99999, "y": 1})}}},
		{"unsupported operation", m{"actions": []any{m{"type": "wheel", "id": "w", "actions": []any{}}}}},
		{"unsupported operation", m{"actions": []any{m{"type": "key", "id": "keys", "actions": key("\uE009")}}}},
		{"invalid argument", m{"actions": []any{m{"type": "key", "id": "one", "actions": []any{}}}}},
		{"invalid argument", m{"actions": []any{m{"type": "pointer", "actions": []any{}}}}},
		{"invalid argument", m{"actions": []any{finger("x", m{"type": "pointerMove", "x": 1, "y": 1, "duration": -1})}}},
		{"invalid argument", m{"actions": 1}},
		{"stale element reference", m{"actions": []any{finger("s", on(row))}}},
	} {
		if c.want == "stale element reference" {
			l.must("POST", "/tessellant/app/stop", m{})
		}
		assert.Equal(t, c.want, l.do("POST", "/actions", c.body).Error(), c.body)
	}
}

func TestOurOwnCommandsDoWhatTheStandardHasNoWordFor(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	l.must("POST", "/tessellant/case/begin", m{"name": "opens a shore"})
	l.must("POST", "/tessellant/app/clear", m{})
	l.must("POST", "/tessellant/app/launch", m{"args": m{"shore": "old-slip"}})
	l.find("#start")
	l.must("POST", "/tessellant/step", m{"name": "the shore"})
	l.must("POST", "/tessellant/case/end", m{"verdict": "passed", "message": "fine"})
	l.must("POST", "/tessellant/verdict", m{"verdict": "failed", "message": "as a whole"})
	assert.Equal(t, []string{"begin opens a shore", "step the shore", "end passed fine", "mark failed as a whole"}, l.notes.said)
	l.must("POST", "/tessellant/app/stop", m{})
	assert.Equal(t, "no such element", func() string {
		l.must("POST", "/timeouts", m{"implicit": 0})
		return l.do("POST", "/element", m{"using": "css selector", "value": "#start"}).Error()
	}())
	l.must("POST", "/tessellant/app/install", m{})
	assert.Equal(t, "unsupported operation", l.do("POST", "/tessellant/app/install", m{"build": "kelpline/android@7"}).Error(), "there is no service behind it")
	assert.Equal(t, m{"lines": []any{"a line"}, "next": 8.0}, l.must("POST", "/tessellant/log", m{"since": 7}))
	content := base64.StdEncoding.EncodeToString([]byte("low 3.2\n"))
	l.must("POST", "/tessellant/file/put", m{"path": "/sdcard/tides.csv", "content": content})
	assert.Equal(t, content, l.must("POST", "/tessellant/file/fetch", m{"path": "/sdcard/tides.csv"}))
	l.must("POST", "/timeouts", m{"implicit": 10000})
	for _, allow := range []bool{true, false} {
		l.must("POST", "/tessellant/permission/ask", m{})
		l.must("POST", "/tessellant/app/launch", m{"args": m{"debug_ask": "CAMERA"}})
		l.must("POST", "/tessellant/permission/answer", m{"permission": "camera", "allow": allow})
		l.find("#shore_gull-ledge")
	}
	l.must("POST", "/tessellant/permission/answer", m{"permission": "calendar", "allow": true}) // the app does not ask for it
	for path, body := range map[string]m{
		"/tessellant/permission/answer": {"permission": "luck", "allow": true}, "/tessellant/permission/ask": {"app": 7},
		"/tessellant/file/fetch": {"path": "/sdcard/none"}, "/tessellant/file/put": {"path": "/sdcard/x", "content": "***"}, "/tessellant/case/end": {"verdict": "great"},
		"/tessellant/step": {"name": " "}, "/tessellant/app/install": {"build": 7}, "/tessellant/log": {"since": -1}, "/tessellant/app/launch": {"args": 1},
	} {
		assert.Equal(t, "invalid argument", l.do("POST", path, body).Error(), path)
	}
}

func TestTextsThatAreSecretAreToldToBeHidden(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	field := l.find("#search")
	l.must("POST", "/element/"+field+"/value", m{"text": "one", "tessellant:secret": true})
	l.must("POST", "/tessellant/secret", m{})
	l.must("POST", "/element/"+field+"/value", m{"text": "two"})
	l.must("POST", "/element/"+field+"/value", m{"text": "three"})
	spelled := func(text string) m {
		var items []any
		for _, r := range text {
			items = append(items, m{"type": "keyDown", "value": string(r)}, m{"type": "keyUp", "value": string(r)})
		}
		return m{"actions": []any{m{"type": "key", "id": "k", "actions": items}}}
	}
	l.must("POST", "/tessellant/secret", m{})
	l.must("POST", "/actions", m{"actions": []any{m{"type": "pointer", "id": "p", "actions": []any{m{"type": "pointerMove", "x": 5, "y": 500, "duration": 20}}}}})
	l.must("POST", "/actions", spelled("four"))
	l.must("POST", "/actions", spelled("five"))
	assert.Equal(t, []string{"one", "two", "four"}, l.notes.secrets)
	var told []string
	for _, c := range l.notes.commands {
		if c.Name == "perform actions" {
			told = append(told, c.Args["actions"])
		}
	}
	assert.Equal(t, []string{"p: to 5,500 in 20 ms", "k: types four", "k: types five"}, told, "who keeps it masks it: by its text")
	assert.Contains(t, l.notes.log, "client: POST /session/…/actions k: types four")
	assert.NotContains(t, strings.Join(l.notes.log, "\n"), `"value":"f"`)
}

func TestEveryCommandOfTheStandardHasAnAnswerOfItsOwn(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.must("POST", "/timeouts", m{"implicit": 5000})
	field := l.find("#search")
	for _, c := range w3c.Commands {
		if c.Name == "New Session" || c.Name == "Delete Session" || c.Name == "Status" {
			continue
		}
		path := strings.NewReplacer("{session id}", l.id, "{element id}", field, "{name}", "id", "{property name}", "id", "{shadow id}", "s").Replace(c.Path)
		a := l.raw(c.Method, path, map[string]string{"POST": `{}`}[c.Method])
		if why := c.Reason(w3c.Native); why != "" {
			assert.Equal(t, []any{500, "unsupported operation"}, []any{a.Status, a.Error()}, c.Name)
			assert.Contains(t, a.Value.(m)["message"], why)
			continue
		}
		assert.NotContains(t, []string{"unknown command", "unknown method", "unknown error", "unsupported operation"}, a.Error(), c.Name)
	}
}

func TestADeviceThatGoesAwayIsSaidInTheStandardsWords(t *testing.T) {
	l := newLab(t, "orr-01")
	l.open()
	l.phone.Unplug()
	a := l.do("GET", "/source", nil)
	assert.Equal(t, []any{500, "unknown error"}, []any{a.Status, a.Error()})
	assert.Contains(t, a.Value.(m)["message"], "lost")
}
