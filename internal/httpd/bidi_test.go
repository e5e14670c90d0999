package httpd_test

// WebDriver BiDi as a client meets it: a WebSocket to a session, or one on which a session is opened.

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"image/png"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/bidi"
	"tessellant/internal/core/timeline"
	"tessellant/internal/housetest"
)

// ear is a client that listens.
type ear struct {
	t  *testing.T
	ws *websocket.Conn
	n  int

	mu      sync.Mutex
	events  []m
	answers map[int]m
	strange []m // answers without an id
	end     error
}

// dial opens a WebSocket; auth may be "".
func dial(t *testing.T, url, auth string) (*ear, *http.Response, error) {
	head := http.Header{}
	if auth != "" {
		head.Set("Authorization", auth)
	}
	ws, resp, err := websocket.Dial(t.Context(), url, &websocket.DialOptions{HTTPHeader: head})
	if err != nil {
		return nil, resp, err
	}
	ws.SetReadLimit(bidi.MaxMessage)
	e := &ear{t: t, ws: ws, answers: map[int]m{}}
	t.Cleanup(func() { _ = ws.CloseNow() })
	go func() {
		for {
			_, raw, err := ws.Read(context.Background())
			e.mu.Lock()
			var x m
			switch {
			case err != nil:
				e.end = err
				e.mu.Unlock()
				return
			case json.Unmarshal(raw, &x) != nil:
				t.Errorf("no JSON: %.200s", raw)
			case x["type"] == "event":
				e.events = append(e.events, x)
			case x["id"] == nil:
				e.strange = append(e.strange, x)
			default:
				e.answers[int(x["id"].(float64))] = x
			}
			e.mu.Unlock()
		}
	}()
	return e, resp, nil
}

// listens opens a session's WebSocket.
func (c *wd) listens() *ear {
	c.t.Helper()
	e, _, err := dial(c.t.(*testing.T), c.caps["webSocketUrl"].(string), c.auth)
	require.NoError(c.t, err)
	return e
}

// says sends a command, and gives its id.
func (e *ear) says(method string, params any) int {
	e.t.Helper()
	e.n++
	raw, err := json.Marshal(m{"id": e.n, "method": method, "params": params})
	require.NoError(e.t, err)
	require.NoError(e.t, e.ws.Write(e.t.Context(), websocket.MessageText, raw))
	return e.n
}

func (e *ear) answer(id int) (x m) {
	e.t.Helper()
	housetest.Eventually(e.t, "the answer has come", func() bool {
		e.mu.Lock()
		defer e.mu.Unlock()
		x = e.answers[id]
		return x != nil
	})
	return x
}

// does has a command done.
func (e *ear) does(method string, params any) m {
	e.t.Helper()
	x := e.answer(e.says(method, params))
	require.Equal(e.t, "success", x["type"], "%s: %v", method, x)
	return x["result"].(m)
}

// fails gives the error's code.
func (e *ear) fails(method string, params any) string {
	e.t.Helper()
	x := e.answer(e.says(method, params))
	require.Equal(e.t, "error", x["type"], "%s: %v", method, x)
	assert.NotEmpty(e.t, x["message"])
	return x["error"].(string)
}

// heard are the events that have come by now.
func (e *ear) heard(method string, is func(params m) bool) (out []m) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.events {
		if p := x["params"].(m); x["method"] == method && (is == nil || is(p)) {
			out = append(out, p)
		}
	}
	return out
}

// hears waits for an event, and gives the last that is so.
func (e *ear) hears(method string, is func(params m) bool) m {
	e.t.Helper()
	housetest.Eventually(e.t, "it is told of "+method, func() bool { return len(e.heard(method, is)) > 0 })
	all := e.heard(method, is)
	return all[len(all)-1]
}

func (e *ear) ended() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.end
}

func has(key, part string) func(m) bool {
	return func(p m) bool { s, _ := p[key].(string); return strings.Contains(s, part) }
}

func TestASessionIsListenedTo(t *testing.T) {
	t.Parallel()
	o := openLed(t, "orr-01")
	c := o.client()
	code, message := c.open(m{"tessellant:build": "kelpline/android@newest", "timeouts": m{"implicit": 60000}, "webSocketUrl": true})
	require.Empty(t, code, message)
	assert.Equal(t, strings.Replace(o.URL, "http", "ws", 1)+"/webdriver/session/"+c.id, c.caps["webSocketUrl"])
	e := c.listens()
	assert.Equal(t, false, e.does("session.status", m{})["ready"])
	assert.Equal(t, "session not created", e.fails("session.new", m{"capabilities": m{}}))

	// The device's log, also of what was before; the contexts that there are.
	first := e.does("session.subscribe", m{"events": []string{"log.entryAdded"}})["subscription"]
	entry := e.hears("log.entryAdded", has("type", "tessellant:device"))
	assert.Equal(t, m{"realm": "device", "context": "native"}, entry["source"])
	assert.InDelta(t, float64(time.Now().UnixMilli()), entry["timestamp"], 120_000, "on the service's clock")
	e.does("session.subscribe", m{"events": []string{"browsingContext", "network"}})
	assert.Equal(t, "native", e.hears("browsingContext.contextCreated", nil)["context"])
	assert.Empty(t, e.heard("browsingContext.contextCreated", func(p m) bool { return p["context"] != "native" }))

	// A web view comes.
	c.click("#settings")
	c.click("#help")
	page := e.hears("browsingContext.contextCreated", has("url", "/help"))
	id := page["context"].(string)
	assert.True(t, strings.HasPrefix(id, "web:org.kelpline.app:"), id)
	assert.Nil(t, page["parent"])
	tree := e.does("browsingContext.getTree", m{})["contexts"].([]any)
	require.Len(t, tree, 2)
	assert.Equal(t, id, tree[1].(m)["context"])
	asked := e.hears("network.beforeRequestSent", func(p m) bool { return strings.Contains(p["request"].(m)["url"].(string), "/help") })
	whole := e.hears("network.responseCompleted", func(p m) bool { return p["request"].(m)["request"] == asked["request"].(m)["request"] })
	assert.EqualValues(t, 200, whole["response"].(m)["status"])
	assert.Contains(t, whole["response"].(m)["mimeType"], "text/html")
	assert.Positive(t, whole["response"].(m)["bytesReceived"])

	// It is commanded, beside the session's own commands.
	c.must("POST", "/tessellant/context", m{"context": "web", "url": "/help"})
	c.must("POST", "/execute/sync", m{"script": "console.warn('counted', 3, {a: 1}); setTimeout(() => { throw new Error('late') })", "args": []any{}})
	warned := e.hears("log.entryAdded", has("type", "console"))
	assert.Equal(t, []any{"warn", "warn", "counted 3 Object"}, []any{warned["level"], warned["method"], warned["text"]})
	assert.Equal(t, []any{m{"type": "string", "value": "counted"}, m{"type": "number", "value": 3.0}, m{"type": "object"}}, warned["args"])
	assert.Equal(t, id, warned["source"].(m)["context"])
	thrown := e.hears("log.entryAdded", has("type", "javascript"))
	assert.Equal(t, []any{"error", "Error: late"}, []any{thrown["level"], thrown["text"]})

	url := page["url"].(string)
	gone := e.does("browsingContext.navigate", m{"context": id, "url": url + "#more", "wait": "complete"})
	assert.Equal(t, gone["navigation"], e.hears("browsingContext.fragmentNavigated", has("url", "#more"))["navigation"])
	e.does("browsingContext.traverseHistory", m{"context": id, "delta": -1})
	assert.Equal(t, "no such history entry", e.fails("browsingContext.traverseHistory", m{"context": id, "delta": -9}))
	again := e.does("browsingContext.reload", m{"context": id, "wait": "complete"})
	assert.Equal(t, url, again["url"])
	e.hears("browsingContext.load", func(p m) bool { return p["navigation"] == again["navigation"] })
	assert.Equal(t, "unknown error", e.fails("browsingContext.navigate", m{"context": id, "url": "nothing://here"}))
	for context, smaller := range map[string]bool{"native": false, id: true} {
		raw, err := base64.StdEncoding.DecodeString(e.does("browsingContext.captureScreenshot", m{"context": context})["data"].(string))
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(raw))
		require.NoError(t, err)
		assert.Equal(t, smaller, img.Bounds().Dy() < 1500, "%s: %v", context, img.Bounds())
	}

	// A dialog is answered here while the session's own command has set it off.
	c.must("POST", "/execute/sync", m{"script": "setTimeout(() => { document.title = prompt('Which shore?', 'Gull') })", "args": []any{}})
	asks := e.hears("browsingContext.userPromptOpened", nil)
	assert.Equal(t, []any{"prompt", "Which shore?", "Gull", id}, []any{asks["type"], asks["message"], asks["defaultValue"], asks["context"]})
	e.does("browsingContext.handleUserPrompt", m{"context": id, "userText": "Tern"})
	assert.Equal(t, "Tern", e.hears("browsingContext.userPromptClosed", nil)["userText"])
	assert.Equal(t, "no such alert", e.fails("browsingContext.handleUserPrompt", m{"context": id}))
	housetest.Eventually(t, "the page goes on", func() bool { return c.must("GET", "/title", nil) == "Tern" })

	// What is not wanted any more does not come; the page goes with its screen.
	e.does("session.unsubscribe", m{"subscriptions": []any{first}})
	assert.Equal(t, "invalid argument", e.fails("session.unsubscribe", m{"subscriptions": []any{first}}))
	e.does("session.unsubscribe", m{"events": []string{"network"}})
	before := len(e.heard("log.entryAdded", nil))
	c.must("POST", "/execute/sync", m{"script": "console.warn('unheard')", "args": []any{}})
	c.must("POST", "/tessellant/context", m{"context": "native"})
	c.click("#up")
	assert.Equal(t, id, e.hears("browsingContext.contextDestroyed", nil)["context"])
	assert.Len(t, e.heard("log.entryAdded", nil), before)
	assert.Equal(t, "no such frame", e.fails("browsingContext.navigate", m{"context": id, "url": "about:blank"}))

	// A connection that is cut is opened again; what was subscribed to is so still.
	_ = e.ws.CloseNow()
	e = c.listens()
	c.click("#help")
	e.hears("browsingContext.contextCreated", has("url", "/help"))
	e.does("session.end", m{})
	housetest.Eventually(t, "the connection is closed", func() bool { return e.ended() != nil })
	assert.Contains(t, e.ended().Error(), "the session has ended")
	s := o.over(c)
	assert.Equal(t, api.Passed, *s.Verdict, "an error of these commands fails no session: %v", s.Message)
	_, resp, err := dial(t, c.caps["webSocketUrl"].(string), c.auth)
	require.Error(t, err)
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
	did := map[string]bool{}
	for _, x := range o.events(s.Id) {
		did[x.Name] = did[x.Name] || x.Kind == timeline.Command
	}
	for _, name := range []string{"browsingContext.navigate", "browsingContext.reload", "browsingContext.handleUserPrompt"} {
		assert.True(t, did[name], "%s is on the timeline", name)
	}
}

func TestASessionIsOpenedOnAWebSocket(t *testing.T) {
	o := openOutside(t, "orr-01")
	url := strings.Replace(o.URL, "http", "ws", 1) + "/webdriver/session"
	e, _, err := dial(t, url, "")
	require.NoError(t, err)
	assert.Equal(t, true, e.does("session.status", m{})["ready"])
	assert.Equal(t, "invalid session id", e.fails("session.subscribe", m{"events": []string{"log"}}))
	assert.Equal(t, "unknown command", e.fails("session.begin", m{}))
	assert.Equal(t, "invalid argument", e.fails("session.new", m{}))
	assert.Equal(t, "session not created", e.fails("session.new", m{"capabilities": m{}}), "without a key")
	assert.Equal(t, "session not created", e.fails("session.new", m{"capabilities": m{"alwaysMatch": m{"tessellant:key": "tsl_wrong"}}}))
	assert.Equal(t, "session not created", e.fails("session.new", m{"capabilities": m{"alwaysMatch": m{"tessellant:key": o.Key, "platformName": "web"}}}))
	made := e.does("session.new", m{"capabilities": m{"alwaysMatch": m{"tessellant:key": o.Key, "tessellant:build": "kelpline/android@newest"}, "firstMatch": []any{m{"webSocketUrl": true}}}})
	c := o.client()
	c.id, c.caps = made["sessionId"].(string), made["capabilities"].(m)
	assert.Equal(t, url+"/"+c.id, c.caps["webSocketUrl"])
	e.does("session.subscribe", m{"events": []string{"log"}})
	e.hears("log.entryAdded", nil)
	assert.Equal(t, "session not created", e.fails("session.new", m{"capabilities": m{}}))
	c.find("#search")
	c.must("DELETE", "", nil)
	housetest.Eventually(t, "the connection is closed", func() bool { return e.ended() != nil })
	o.over(c)
}

func TestWhoListensIsHeldToItsBounds(t *testing.T) {
	o := openOutside(t, "orr-01")
	deaf := o.client()
	code, message := deaf.open(m{})
	require.Empty(t, code, message)
	assert.NotContains(t, deaf.caps, "webSocketUrl")
	at := strings.Replace(o.URL, "http", "ws", 1) + "/webdriver/session/"
	_, resp, err := dial(t, at+deaf.id, deaf.auth)
	require.Error(t, err)
	assert.Equal(t, http.StatusInternalServerError, resp.StatusCode, "the session was not opened to be listened to")
	deaf.must("DELETE", "", nil)
	o.over(deaf)

	c := o.client()
	code, message = c.open(m{"webSocketUrl": true, "tessellant:recording": m{"network": "off"}})
	require.Empty(t, code, message)
	for path, want := range map[string]int{at + "nothing": 404, at + c.id + "/more": 404} {
		_, resp, err := dial(t, path, c.auth)
		require.Error(t, err)
		assert.Equal(t, want, resp.StatusCode, path)
	}
	other := o.otherWorkspace()
	_, resp, err = dial(t, at+c.id, "Bearer "+other)
	require.Error(t, err)
	assert.Equal(t, 404, resp.StatusCode, "of another workspace")
	_, resp, err = dial(t, at+c.id, "Bearer tsl_wrong")
	require.Error(t, err)
	assert.Equal(t, 401, resp.StatusCode)
	head := http.Header{"Origin": {"http://elsewhere.example"}}
	_, resp, err = websocket.Dial(t.Context(), at+c.id, &websocket.DialOptions{HTTPHeader: head})
	require.Error(t, err)
	assert.Equal(t, 403, resp.StatusCode, "a page of another site")

	e, _, err := dial(t, at+c.id, "") // the id is enough
	require.NoError(t, err)
	for text, known := range map[string]bool{`{`: false, `[]`: false, `{"id":-1,"method":"session.status","params":{}}`: false, `{"id":1.5,"method":"session.status","params":{}}`: false, `{"id":900,"params":{}}`: true,
		`{"id":901,"method":"session.status"}`: true, strings.Repeat("[", 5000): false, "\xff": false} {
		e.mu.Lock()
		n := len(e.strange)
		e.mu.Unlock()
		require.NoError(t, e.ws.Write(t.Context(), websocket.MessageText, []byte(text)))
		if !known {
			housetest.Eventually(t, "it is refused: "+text, func() bool {
				e.mu.Lock()
				defer e.mu.Unlock()
				return len(e.strange) == n+1 && e.strange[n]["error"] == "invalid argument"
			})
		}
	}
	assert.Equal(t, "invalid argument", e.answer(900)["error"])
	assert.Equal(t, "invalid argument", e.answer(901)["error"])
	require.NoError(t, e.ws.Write(t.Context(), websocket.MessageBinary, []byte(`{"id":902,"method":"session.status","params":{}}`)))
	assert.Equal(t, "unsupported operation", e.fails("network.addIntercept", m{"phases": []string{"beforeRequestSent"}}))
	assert.Equal(t, "unsupported operation", e.fails("session.subscribe", m{"events": []string{"network"}}), "no network log is kept")
	assert.Equal(t, "unsupported operation", e.fails("browsingContext.navigate", m{"context": "native", "url": "about:blank"}))
	assert.Equal(t, "unknown command", e.fails("nothing.here", m{}))
	for _, params := range []m{{}, {"events": []string{}}, {"events": "log"}, {"events": []string{"nothing"}}, {"events": []any{1}}, {"events": []string{"log"}, "contexts": []any{}}, {"events": []string{"log"}, "contexts": []string{"native"}, "userContexts": []string{"default"}}} {
		assert.Equal(t, "invalid argument", e.fails("session.subscribe", params), "%v", params)
	}
	assert.Equal(t, "no such frame", e.fails("session.subscribe", m{"events": []string{"log"}, "contexts": []string{"web:nothing"}}))
	assert.Equal(t, "no such user context", e.fails("session.subscribe", m{"events": []string{"log"}, "userContexts": []string{"mine"}}))
	e.does("session.subscribe", m{"events": []string{"log"}, "contexts": []string{"native"}})
	var more []*ear
	for range 3 {
		x, _, err := dial(t, at+c.id, c.auth)
		require.NoError(t, err)
		more = append(more, x)
	}
	_, _, err = dial(t, at+c.id, c.auth)
	require.Error(t, err, "a fifth connection")
	_ = more[0].ws.CloseNow()
	housetest.Eventually(t, "there is room again", func() bool {
		x, _, err := dial(t, at+c.id, c.auth)
		if err == nil {
			more = append(more, x)
		}
		return err == nil
	})
	require.NoError(t, more[1].ws.Write(t.Context(), websocket.MessageText, bytes.Repeat([]byte(" "), bidi.MaxCommand+1)))
	housetest.Eventually(t, "it is closed", func() bool { return more[1].ended() != nil })
	assert.Equal(t, websocket.StatusMessageTooBig, websocket.CloseStatus(more[1].ended()))
	assert.Equal(t, false, e.does("session.status", m{})["ready"], "the others go on")

	// Silence ends it all the same: who only listens commands nothing.
	c.must("DELETE", "", nil)
	for _, x := range append(more[2:], e) {
		housetest.Eventually(t, "all connections are closed", func() bool { return x.ended() != nil })
	}
}

func TestClientsOfAHeldDeviceListenEachForItself(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	h := o.until(o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest")}).Id, api.HoldStageRunning)
	one, two := o.client(), o.client()
	var ears []*ear
	for _, c := range []*wd{one, two} {
		code, message := c.open(m{"tessellant:hold": h.Id, "webSocketUrl": true})
		require.Empty(t, code, message)
		ears = append(ears, c.listens())
	}
	ears[0].does("session.subscribe", m{"events": []string{"log"}})
	one.must("POST", "/tessellant/app/stop", m{})
	one.must("POST", "/tessellant/app/launch", m{})
	ears[0].hears("log.entryAdded", nil)
	assert.Empty(t, ears[1].heard("log.entryAdded", nil), "its subscriptions are its own")
	ears[0].does("session.end", m{})
	housetest.Eventually(t, "its id is none any more", func() bool { _, code := one.do("GET", "/source", nil); return code == "invalid session id" })
	two.must("GET", "/source", nil)
	ears[1].does("session.subscribe", m{"events": []string{"log"}})
	two.must("DELETE", "", nil)
	housetest.Eventually(t, "who has left hears nothing any more", func() bool { return ears[1].ended() != nil })
	assert.Equal(t, api.HoldStageRunning, o.held(h.Id).Stage, "the device stays held")
}
