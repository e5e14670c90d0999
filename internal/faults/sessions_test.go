package faults

// Sessions from outside, on a host in a process of its own, when something is killed.

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/housetest"
)

// wd sends one WebDriver command; it answers the value, and whether it went well.
func (l *lab) wd(method, path string, body any) (any, bool) {
	raw, err := json.Marshal(body)
	require.NoError(l.t, err)
	r, err := http.NewRequest(method, l.url+"/webdriver"+path, bytes.NewReader(raw))
	require.NoError(l.t, err)
	r.Header.Set("Authorization", "Bearer "+labKey)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err.Error(), false
	}
	defer resp.Body.Close()
	var a struct{ Value any }
	if err := json.NewDecoder(resp.Body).Decode(&a); err != nil {
		return err.Error(), false
	}
	return a.Value, resp.StatusCode == http.StatusOK
}

// openSession opens a session with Kelpline in front; it answers the path of its commands, and its id.
func (l *lab) openSession() (path, id string) {
	l.t.Helper()
	v, ok := l.wd("POST", "/session", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"tessellant:build": "kelpline/android@newest", "timeouts": map[string]any{"implicit": 8000}, "webSocketUrl": true}}})
	require.True(l.t, ok, "%v", v)
	m := v.(map[string]any)
	return "/session/" + m["sessionId"].(string), m["capabilities"].(map[string]any)["tessellant:session"].(string)
}

// listens opens a WebSocket to a session, says something, or nothing, and reads until a message has this part.
func (l *lab) listens(path, says, part string) (ws *websocket.Conn, message string) {
	l.t.Helper()
	housetest.Eventually(l.t, "the session can be listened to", func() (ok bool) {
		c, resp, err := websocket.Dial(ctx, strings.Replace(l.url, "http", "ws", 1)+"/webdriver"+path, nil)
		if resp != nil && resp.Body != nil {
			_ = resp.Body.Close()
		}
		ws = c
		return err == nil
	})
	l.t.Cleanup(func() { _ = ws.CloseNow() })
	ws.SetReadLimit(4 << 20)
	if says != "" {
		require.NoError(l.t, ws.Write(ctx, websocket.MessageText, []byte(says)))
	}
	return ws, l.heard(ws, part)
}

// heard reads until a message has this part.
func (l *lab) heard(ws *websocket.Conn, part string) string {
	l.t.Helper()
	within, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		_, raw, err := ws.Read(within)
		require.NoError(l.t, err, "it was waited for %s", part)
		if strings.Contains(string(raw), part) {
			return string(raw)
		}
	}
}

// cutOff reads until there is nobody to listen to, and what was still on its way was read.
func (l *lab) cutOff(ws *websocket.Conn) {
	l.t.Helper()
	within, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		if _, _, err := ws.Read(within); err != nil {
			require.NoError(l.t, within.Err(), "who listens is told that nothing more comes")
			return
		}
	}
}

// opensHelp goes to the page in a web view of Kelpline.
func (l *lab) opensHelp(path string) {
	l.t.Helper()
	for _, css := range []string{"#settings", "#help"} {
		v, ok := l.wd("POST", path+"/element", map[string]any{"using": "css selector", "value": css})
		require.True(l.t, ok, "%v", v)
		v, ok = l.wd("POST", path+"/element/"+v.(map[string]any)["element-6066-11e4-a52e-4f735466cecf"].(string)+"/click", map[string]any{})
		require.True(l.t, ok, "%v", v)
	}
	housetest.Eventually(l.t, "the page can be commanded", func() bool {
		_, ok := l.wd("POST", path+"/tessellant/context", map[string]any{"context": "web", "url": "/help"})
		return ok
	})
}

func (l *lab) sees(path string) bool {
	_, ok := l.wd("POST", path+"/element", map[string]any{"using": "css selector", "value": "#search"})
	return ok
}

func (l *lab) sessionOver(id string) *api.Session {
	l.t.Helper()
	var s *api.Session
	housetest.Eventually(l.t, "the session is over", func() bool {
		r, err := l.GetSessionWithResponse(ctx, id)
		if err != nil || r.JSON200 == nil {
			return false
		}
		s = r.JSON200
		return s.Stage == "done"
	})
	return s
}

func TestASessionOnAHostElsewhereOutlivesTheService(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	path, id := l.openSession()
	require.True(t, l.sees(path))
	v, ok := l.wd("POST", path+"/tessellant/app/install", map[string]any{"build": "kelpline/android@231"})
	require.True(t, ok, "%v", v)
	v, ok = l.wd("POST", path+"/tessellant/app/launch", map[string]any{})
	require.True(t, ok, "%v", v)
	v, ok = l.wd("POST", path+"/tessellant/app/install", map[string]any{"build": "kelpline/android@7"})
	assert.False(t, ok)
	assert.Contains(t, v.(map[string]any)["message"], "the build kelpline/android@7 is not available")
	ws, _ := l.listens(path, `{"id": 1, "method": "session.subscribe", "params": {"events": ["browsingContext", "log"]}}`, `"success"`)
	l.opensHelp(path)
	l.heard(ws, "/help")
	l.service.kill()
	assert.False(t, l.sees(path), "there is nobody to ask")
	l.cutOff(ws)
	l.service.start()
	l.up()
	housetest.Eventually(t, "the session goes on, in its page", func() bool {
		title, ok := l.wd("GET", path+"/title", nil)
		return ok && title == "Kelpline help"
	})
	ws, _ = l.listens(path, `{"id": 1, "method": "browsingContext.getTree", "params": {}}`, `"success"`)
	_, ok = l.wd("POST", path+"/execute/sync", map[string]any{"script": "console.warn('still here')", "args": []any{}})
	require.True(t, ok)
	l.heard(ws, "still here") // as it was subscribed to before
	_, ok = l.wd("POST", path+"/tessellant/context", map[string]any{"context": "native"})
	require.True(t, ok)
	_, ok = l.wd("DELETE", path, nil)
	require.True(t, ok)
	s := l.sessionOver(id)
	assert.Equal(t, api.Passed, *s.Verdict)
	x, err := l.GetLegWithResponse(ctx, id)
	require.NoError(t, err)
	require.Len(t, x.JSON200.Attempts, 1)
	for _, name := range []string{"timeline.jsonl", "device.log", "remote-end.log", "video.mp4"} {
		assert.NotEmpty(t, l.file(x.JSON200.Attempts[0], name), name)
	}
}

func TestASessionWhoseHostIsKilledIsLostWithWhatItHadGathered(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	path, id := l.openSession()
	require.True(t, l.sees(path))
	housetest.Eventually(t, "it has lasted for longer than a host may lose", func() bool {
		require.True(t, l.sees(path))
		return l.lasted(id) > 5000
	})
	l.opensHelp(path)
	ws, _ := l.listens(path, `{"id": 1, "method": "session.status", "params": {}}`, `"success"`)
	l.host.kill()
	v, ok := l.wd("GET", path+"/title", nil)
	assert.False(t, ok)
	assert.Contains(t, []any{"unknown error", "invalid session id"}, v.(map[string]any)["error"])
	l.cutOff(ws)
	s := l.sessionOver(id)
	assert.Equal(t, api.Lost, *s.Verdict)
	x, err := l.GetLegWithResponse(ctx, id)
	require.NoError(t, err)
	assert.Len(t, x.JSON200.Attempts, 1, "its client would know nothing of a second device")
	assert.Contains(t, string(l.file(x.JSON200.Attempts[0], "timeline.jsonl")), "find element")
}

// lasted is how long a session's commands have come, in milliseconds.
func (l *lab) lasted(id string) int64 {
	r, err := l.GetTimelineWithResponse(ctx, id, &api.GetTimelineParams{})
	if err != nil || r.JSON200 == nil || len(r.JSON200.Events) == 0 {
		return 0
	}
	return r.JSON200.Events[len(r.JSON200.Events)-1].At - r.JSON200.Events[0].At
}

func TestASessionGoesOnWhileTheDatabaseHangs(t *testing.T) {
	t.Parallel()
	l := newLab(t, 2)
	path, id := l.openSession()
	require.True(t, l.sees(path))
	pid := l.service.childNamed("mariadbd")
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	second := make(chan string, 1)
	go func() {
		v, ok := l.wd("POST", "/session", map[string]any{"capabilities": map[string]any{}})
		if !assert.True(t, ok, "%v", v) {
			close(second)
			return
		}
		second <- "/session/" + v.(map[string]any)["sessionId"].(string)
	}()
	until := time.Now().Add(20 * time.Second) // for longer than a key is trusted without asking
	slowest, commands := time.Duration(0), 0
	for time.Now().Before(until) {
		began := time.Now()
		require.True(t, l.sees(path))
		slowest, commands = max(slowest, time.Since(began)), commands+1
	}
	t.Logf("%d commands, the slowest took %s", commands, slowest)
	assert.Less(t, slowest, 10*time.Second)
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	other := <-second
	_, ok := l.wd("GET", other+"/source", nil)
	require.True(t, ok, "who asked while it hung has a session when it is back")
	for _, p := range []string{path, other} {
		_, ok := l.wd("DELETE", p, nil)
		require.True(t, ok)
	}
	assert.Equal(t, api.Passed, *l.sessionOver(id).Verdict)
}
