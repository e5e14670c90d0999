package cloudlab

// Sessions: W3C WebDriver (https://www.w3.org/TR/webdriver2/) over a phone, opened and ended. The standard's commands are in standard.go, the cloud's own in own.go.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/w3c"
)

// vendor is by which the cloud's own capabilities and commands are known.
const vendor = "heron"

// session is one that is open.
type session struct {
	id    string
	rig   *rig
	began time.Time
	app   string // its build's id on the phone

	mu       sync.Mutex // one command at a time
	timeouts w3c.Timeouts
	input    w3c.Input
	refs     map[string]known
	refOf    map[w3c.Known]string

	usedMu sync.Mutex
	at     time.Time
}

// known is an element that a reference was given for.
type known struct {
	w3c.Known
	others w3c.Others
}

func (x *session) use() {
	x.usedMu.Lock()
	defer x.usedMu.Unlock()
	x.at = time.Now()
}

func (x *session) used() time.Time {
	x.usedMu.Lock()
	defer x.usedMu.Unlock()
	return x.at
}

func answer(w http.ResponseWriter, v any, err *w3c.Error) {
	status, body := http.StatusOK, map[string]any{"value": v}
	if err != nil {
		status, body = err.Status(), err.Body()
	}
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func bodyOf(r *http.Request) (map[string]any, *w3c.Error) {
	if r.Method != http.MethodPost {
		return map[string]any{}, nil
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err != nil || len(raw) > maxBody {
		return nil, w3c.Fail(w3c.InvalidArgument, "the body did not come whole, or is too long")
	}
	return w3c.Object(raw)
}

// open is New Session: heron:device names the phone, heron:build what is installed on it and started.
func (s *Cloud) open(w http.ResponseWriter, r *http.Request) {
	body, werr := bodyOf(r)
	if werr != nil {
		answer(w, nil, werr)
		return
	}
	x, capabilities, werr := s.begin(r.Context(), body)
	if werr != nil {
		answer(w, nil, werr)
		return
	}
	answer(w, map[string]any{"sessionId": x.id, "capabilities": capabilities}, nil)
}

func (s *Cloud) begin(ctx context.Context, body map[string]any) (*session, map[string]any, *w3c.Error) {
	sets, werr := w3c.Process(body, func(string, any) error { return nil })
	if werr != nil {
		return nil, nil, werr
	}
	c := sets[0]
	text := func(name string) string {
		v, _ := c[vendor+":"+name].(string)
		return v
	}
	p := s.rigOf(text("device"))
	if p == nil {
		return nil, nil, w3c.Fail(w3c.SessionNotCreated, "there is no phone %.60q here; there are %s", text("device"), strings.Join(s.ids(), ", "))
	}
	if name, _ := c["platformName"].(string); name != "" && !strings.EqualFold(name, p.Platform) {
		return nil, nil, w3c.Fail(w3c.SessionNotCreated, "%s runs %s, not %s", p.ID, p.Platform, name)
	}
	var raw []byte
	if build := text("build"); build != "" {
		s.mu.Lock()
		raw = s.builds[build]
		s.mu.Unlock()
		if raw == nil {
			return nil, nil, w3c.Fail(w3c.SessionNotCreated, "the build %.60q is not here; upload it", build)
		}
	}
	if err := s.place(ctx, p); err != nil {
		return nil, nil, w3c.Fail(w3c.SessionNotCreated, "queue full: %v; %d sessions may be open", err, s.AtOnce)
	}
	x := &session{id: strings.ToLower(rand.Text()[:20]), rig: p, began: time.Now(), app: text("app"), timeouts: w3c.DefaultTimeouts(), refs: map[string]known{}, refOf: map[w3c.Known]string{}}
	x.use()
	s.mu.Lock()
	s.sessions[x.id] = x
	s.opened++
	s.mu.Unlock()
	p.Clean(p.Language)
	if language := text("language"); language != "" {
		p.Speak(language)
	}
	if text("orientation") == "landscape" {
		p.Turn(true)
	}
	if raw != nil {
		err := p.Add(raw)
		if err == nil && x.app != "" {
			err = p.Open(x.app, nil)
		}
		if err != nil {
			s.end(x)
			return nil, nil, w3c.Fail(w3c.SessionNotCreated, "the build could not be installed: %v", err)
		}
	}
	if ctx.Err() != nil { // nobody waits any more
		s.end(x)
		return nil, nil, w3c.Fail(w3c.SessionNotCreated, "the client has left")
	}
	return x, map[string]any{"platformName": p.Platform, "browserName": "", vendor + ":device": p.ID, vendor + ":model": p.Model, vendor + ":os": p.OS, vendor + ":page": s.URL() + "/sessions/" + x.id, "timeouts": x.timeouts.JSON()}, nil
}

// command carries out one of a session's.
func (s *Cloud) command(w http.ResponseWriter, r *http.Request, path string) {
	if path == "/status" {
		answer(w, map[string]any{"ready": true, "message": s.Name}, nil)
		return
	}
	id, rest, _ := strings.Cut(strings.TrimPrefix(path, "/session/"), "/")
	s.mu.Lock()
	x := s.sessions[id]
	s.mu.Unlock()
	if x == nil {
		answer(w, nil, w3c.Fail(w3c.InvalidSessionID, "there is no session %.60q", id))
		return
	}
	if s.Dies.CompareAndSwap(true, false) {
		s.end(x)
		answer(w, nil, w3c.Fail(w3c.InvalidSessionID, "the session %s was ended", id))
		return
	}
	if rest == "screenshot" && s.Drops.CompareAndSwap(true, false) {
		s.end(x)
		panic(http.ErrAbortHandler) // the connection is cut
	}
	body, werr := bodyOf(r)
	if werr != nil {
		answer(w, nil, werr)
		return
	}
	x.use()
	defer x.use()
	if s.Slower > 0 {
		select {
		case <-time.After(s.Slower):
		case <-r.Context().Done():
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if own, ok := strings.CutPrefix(rest, vendor+"/"); ok {
		v, err := s.own(x, r, own, body)
		s.said(w, x, v, err)
		return
	}
	call, werr := w3c.Route(r.Method, path)
	if werr != nil {
		answer(w, nil, werr)
		return
	}
	if call.Name == "Delete Session" {
		s.end(x)
		answer(w, nil, nil)
		return
	}
	v, werr := x.do(r.Context(), call, body)
	s.said(w, x, v, werr)
}

// said answers a command, unless its session was ended under it: then what it found means nothing.
func (s *Cloud) said(w http.ResponseWriter, x *session, v any, err *w3c.Error) {
	s.mu.Lock()
	over := s.sessions[x.id] != x
	s.mu.Unlock()
	if over {
		v, err = nil, w3c.Fail(w3c.InvalidSessionID, "the session %s was ended", x.id)
	}
	answer(w, v, err)
}
