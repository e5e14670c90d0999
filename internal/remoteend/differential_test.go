package remoteend_test

// The same requests to this remote end and to chromedriver, the one that Debian has: where a command has a meaning on both,
// status, error code and the shape of the answer must be the same.

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/child"
	"tessellant/internal/core/w3c"
	"tessellant/internal/housetest"
)

// page is what the browser shows: as much like Kelpline's first screen as a page can be.
const page = `<!doctype html><meta name=viewport content="width=device-width"><h1 id=title>Shores</h1><input id=search value=""><button id=shore_gull-ledge>Gull Ledge</button><button id=off disabled>Off</button>`

// browser starts chromedriver with a session that shows the page.
func browser(t *testing.T) *client {
	driver, err := exec.LookPath("chromedriver")
	require.NoError(t, err, "install Debian's chromium-driver")
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(page)) }))
	t.Cleanup(srv.Close)
	port, err := child.FreePort()
	require.NoError(t, err)
	cmd := exec.Command(driver, fmt.Sprintf("--port=%d", port), "--allowed-ips=127.0.0.1")
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	p, err := child.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { p.Stop(5 * time.Second) })
	c := &client{t: t, base: fmt.Sprintf("http://127.0.0.1:%d", port)}
	housetest.Eventually(t, "chromedriver listens", func() bool {
		r, err := http.Get(c.base + "/status")
		if err == nil {
			_ = r.Body.Close()
		}
		return err == nil
	})
	options, _ := json.Marshal(m{"capabilities": m{"alwaysMatch": m{"goog:chromeOptions": m{"binary": "/usr/bin/chromium", "mobileEmulation": m{"deviceMetrics": m{"width": 400, "height": 800, "pixelRatio": 1.0}},
		"args": []string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--disable-background-networking", "--no-first-run", "--disable-component-update", "--disable-sync", "--user-data-dir=" + t.TempDir()}}}}})
	a := c.raw("POST", "/session", string(options))
	require.Equal(t, 200, a.Status, a.Value)
	c.id = a.Value.(m)["sessionId"].(string)
	t.Cleanup(func() {
		if req, err := http.NewRequestWithContext(context.Background(), "DELETE", c.base+"/session/"+c.id, nil); err == nil {
			if r, err := http.DefaultClient.Do(req); err == nil {
				_ = r.Body.Close()
			}
		}
	})
	c.must("POST", "/url", m{"url": srv.URL})
	return c
}

// shape is a value without what may differ: the names of its fields, the kinds of its values.
func shape(v any) string {
	switch v := v.(type) {
	case m:
		if _, ok := v[w3c.ElementKey]; ok {
			return "element"
		}
		if e, ok := v["error"]; ok {
			return fmt.Sprint("error ", e)
		}
		keys := ""
		for _, k := range []string{"x", "y", "width", "height", "script", "pageLoad", "implicit", "ready", "message"} {
			if _, ok := v[k]; ok {
				keys += " " + k
			}
		}
		return "object" + keys
	case []any:
		if len(v) == 0 {
			return "no elements"
		}
		return "list of " + shape(v[0])
	}
	return fmt.Sprintf("%T", v)
}

func TestAnswersAreThoseOfAnotherRemoteEnd(t *testing.T) {
	t.Parallel()
	l := newLab(t, "orr-01")
	l.open()
	theirs := browser(t)
	refs := map[*client]*strings.Replacer{}
	for _, c := range []*client{l.client, theirs} {
		c.must("POST", "/timeouts", m{"implicit": 5000})
		field, button := c.find("#search"), c.find("#shore_gull-ledge")
		c.must("POST", "/timeouts", m{"implicit": 0})
		refs[c] = strings.NewReplacer("{field}", field, "{button}", button, "{key}", w3c.ElementKey)
	}
	const move = `{"actions": [{"type": "pointer", "id": "f", "parameters": {"pointerType": "touch"}, "actions": [%s]}]}`
	for _, c := range []struct{ method, path, body string }{
		// routing (6.3)
		{"GET", "/nothing", ""}, {"GET", "/element/{field}/nothing", ""},
		// bodies (6.3)
		{"POST", "/timeouts", "{"}, {"POST", "/timeouts", "[]"}, {"POST", "/element", `{"using": "css selector"}`}, {"POST", "/element", `{"using": 1, "value": "x"}`},
		// timeouts (8.5)
		{"GET", "/timeouts", ""}, {"POST", "/timeouts", `{"implicit": "1"}`}, {"POST", "/timeouts", `{"implicit": -1}`}, {"POST", "/timeouts", `{"implicit": 1.5}`}, {"POST", "/timeouts", `{"script": null}`},
		{"POST", "/timeouts", `{"implicit": 9007199254740992}`},
		// windows and frames (11)
		{"GET", "/window", ""}, {"GET", "/window/handles", ""}, {"GET", "/window/rect", ""}, {"POST", "/window", `{"handle": "other"}`}, {"POST", "/window", `{"handle": 1}`}, {"POST", "/frame", `{"id": null}`}, {"POST", "/frame", `{"id": 7}`},
		{"POST", "/frame", `{"id": "x"}`}, {"POST", "/frame", `{"id": -1}`}, {"POST", "/frame", `{}`}, {"POST", "/frame/parent", "{}"}, {"POST", "/frame", `{"id": {"{key}": "{field}"}}`},
		// finding (12.3)
		{"POST", "/element", `{"using": "css selector", "value": "#title"}`}, {"POST", "/element", `{"using": "xpath", "value": "//*[@id='title']"}`}, {"POST", "/elements", `{"using": "css selector", "value": "#nothing"}`},
		{"POST", "/element", `{"using": "css selector", "value": "#nothing"}`}, {"POST", "/element", `{"using": "css selector", "value": "##"}`}, {"POST", "/element", `{"using": "xpath", "value": "//["}`},
		{"POST", "/element", `{"using": "xpath", "value": "//*/@id"}`}, {"POST", "/element", `{"using": "xpath", "value": "count(//*)"}`}, {"POST", "/element", `{"using": "id", "value": "title"}`},
		{"POST", "/element", `{"using": "link text", "value": "nothing"}`}, {"POST", "/element", `{"using": "tag name", "value": "nothing"}`}, {"POST", "/element/{field}/element", `{"using": "css selector", "value": "*"}`},
		{"POST", "/element/{field}/elements", `{"using": "css selector", "value": "*"}`}, {"POST", "/element/unknown/element", `{"using": "css selector", "value": "*"}`}, {"POST", "/elements", `{"using": "tag name", "value": "button"}`},
		// state (12.4)
		{"GET", "/element/{button}/text", ""}, {"GET", "/element/{button}/name", ""}, {"GET", "/element/{button}/rect", ""}, {"GET", "/element/{button}/enabled", ""}, {"GET", "/element/{field}/displayed", ""},
		{"GET", "/element/{field}/selected", ""}, {"GET", "/element/{field}/attribute/id", ""}, {"GET", "/element/{field}/attribute/nothing", ""}, {"GET", "/element/{field}/property/nothing", ""}, {"GET", "/element/{button}/computedrole", ""},
		{"GET", "/element/{button}/computedlabel", ""}, {"GET", "/element/unknown/text", ""}, {"GET", "/element/{button}/shadow", ""},
		// interaction (12.5)
		{"POST", "/element/{field}/click", "{}"}, {"GET", "/element/active", ""}, {"POST", "/element/{field}/value", `{"text": "low"}`}, {"POST", "/element/{field}/value", `{"text": 1}`}, {"POST", "/element/{field}/value", `{}`},
		{"POST", "/element/{field}/clear", "{}"}, {"POST", "/element/{button}/clear", "{}"},
		// document, screenshots
		{"GET", "/source", ""}, {"GET", "/screenshot", ""}, {"GET", "/element/{field}/screenshot", ""}, {"GET", "/element/unknown/screenshot", ""},
		// actions (17)
		{"POST", "/actions", `{}`}, {"POST", "/actions", `{"actions": [{"type": "hand", "id": "x", "actions": []}]}`}, {"POST", "/actions", `{"actions": [{"type": "none", "id": "n", "actions": [{"type": "pause", "duration": -1}]}]}`},
		{"POST", "/actions", `{"actions": [{"type": "none", "id": "n", "actions": [{"type": "pause", "duration": 1}]}]}`}, {"POST", "/actions", `{"actions": [{"type": "key", "id": "k", "actions": [{"type": "keyDown", "value": "xy"}]}]}`},
		{"POST", "/actions", fmt.Sprintf(move, `{"type": "pointerMove", "x": 99999, "y": 5}`)},
		{"POST", "/actions", fmt.Sprintf(move, `{"type": "pointerMove", "x": 1, "y": 1, "origin": {"{key}": "unknown"}}`)}, {"DELETE", "/actions", ""},
	} {
		ask := func(on *client) answered {
			return on.raw(c.method, "/session/"+on.id+refs[on].Replace(c.path), refs[on].Replace(c.body))
		}
		ours, other := ask(l.client), ask(theirs)
		assert.Equal(t, fmt.Sprint(other.Status, " ", shape(other.Value)), fmt.Sprint(ours.Status, " ", shape(ours.Value)), "%s %s %s\n%v\n%v", c.method, c.path, c.body, other.Value, ours.Value)
	}
	// Where chromedriver departs from the standard, the standard counts: a path that has another method is "unknown method" (6.3,
	// step 3 of the routing), a button is a whole number from 0 (17.3).
	assert.Equal(t, "unknown method", l.raw("PUT", "/session/"+l.id+"/timeouts", "").Error())
	assert.Equal(t, "unknown method", l.do("DELETE", "/title", nil).Error())
	assert.Equal(t, "invalid argument", l.raw("POST", "/session/"+l.id+"/actions", fmt.Sprintf(move, `{"type": "pointerMove", "x": 20, "y": 20}, {"type": "pointerDown", "button": -1}`)).Error())
	gone := func(c *client) answered { return c.raw("GET", "/session/none/timeouts", "") }
	assert.Equal(t, []any{gone(theirs).Status, gone(theirs).Error()}, []any{gone(l.client).Status, gone(l.client).Error()})
	for _, body := range []string{`{}`, `{"capabilities": 1}`, `{"capabilities": {"firstMatch": []}}`, `{"capabilities": {"alwaysMatch": 5}}`, `{"capabilities": {"alwaysMatch": {"tree": 1}}}`, `{"capabilities": {"alwaysMatch": {"acceptInsecureCerts": "yes"}}}`,
		`{"capabilities": {"alwaysMatch": {"timeouts": {"implicit": -1}}}}`, `{"capabilities": {"alwaysMatch": {"pageLoadStrategy": "slow"}}}`, `{"capabilities": {"alwaysMatch": {"unhandledPromptBehavior": "sigh"}}}`,
		`{"capabilities": {"alwaysMatch": {"platformName": "android"}, "firstMatch": [{"platformName": "android"}]}}`} {
		their := theirs.raw("POST", "/session", body)
		_ = l.do("DELETE", "", nil)
		assert.Equal(t, fmt.Sprint(their.Status, their.Error()), func() string { a := l.raw("POST", "/session", body); return fmt.Sprint(a.Status, a.Error()) }(), "%s %v", body, their.Value)
	}
}
