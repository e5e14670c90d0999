package remoteend

// The remote end behind HTTP, for one device: what a package's tests on the host talk to, and what bench holds against the door.

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
)

// Handler serves WebDriver over one device, one session at a time. Who asks for one while there is another waits until that
// was ended, or was idle for as long as it may be: a test that died without ending its session holds up the next, and no more.
type Handler struct {
	// Open makes the session that a New Session command asks for, with one of these sets of capabilities.
	Open func(ctx context.Context, wanted []w3c.Capabilities) (*Session, *w3c.Error)
	// Waits is told when somebody begins to wait for the session of this id; nil: nobody is.
	Waits func(id string)

	opening sync.Mutex // one at a time
	reading sync.Mutex // the same, of bodies

	mu   sync.Mutex
	now  *Session
	free chan struct{} // closed when now ends
}

const (
	// MaxBody is how many bytes a command may have that carries a file: it is put as Base64.
	MaxBody = 48 << 20
	// MaxPlain is how many bytes any other may have.
	MaxPlain = 1 << 20
)

// Longest is how many bytes a command's body may have.
func Longest(c w3c.Call) int64 {
	switch {
	case c.Method != http.MethodPost:
		return 0
	case c.Name == "Put File":
		return MaxBody
	}
	return MaxPlain
}

// ReadBody reads a command's body, of at most so many bytes.
func ReadBody(r io.Reader, most int64) ([]byte, *w3c.Error) {
	if most == 0 {
		return nil, nil
	}
	raw, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil {
		return nil, w3c.Fail(w3c.InvalidArgument, "the request's body did not come whole: %v", err)
	}
	if int64(len(raw)) > most {
		return nil, TooLong(most)
	}
	return raw, nil
}

// TooLong says that a body is longer than so many bytes.
func TooLong(most int64) *w3c.Error {
	return w3c.Fail(w3c.InvalidArgument, "the request's body is longer than the %d bytes that this command may have", most)
}

// Write writes a response as the standard wants it (section 6.3: JSON, not to be cached). Its length is said: a client that stops
// reading behind the value can use the connection again.
func (r Response) Write(w http.ResponseWriter) {
	w.Header().Set("Content-Length", strconv.Itoa(len(r.Body)))
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	w.WriteHeader(r.Status)
	_, _ = w.Write(r.Body)
}

// Plain is an answer that is none of the standard's: of what concerns the host itself, or the holding of a device.
func Plain(status int, v any) Response {
	raw, err := json.Marshal(v)
	if err != nil {
		return Response{Status: http.StatusInternalServerError}
	}
	return Response{status, raw}
}

// Status is the answer to the Status command.
func Status(ready bool, message string) Response {
	return answer(map[string]any{"ready": ready, "message": message}, nil)
}

// ServeHTTP implements http.Handler.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	if listens := h.listened(r); listens != nil {
		listens.ServeHTTP(w, r)
		return
	}
	call, err := w3c.Route(r.Method, r.URL.EscapedPath())
	if err == nil && call.Session != "" && !h.has(call.Session) {
		err = w3c.Fail(w3c.InvalidSessionID, "there is no session %.100q", call.Session)
	}
	var body []byte
	if err == nil {
		h.reading.Lock() // bodies come one after the other: they lie in the host's memory
		_ = rc.SetReadDeadline(time.Now().Add(readWithin))
		body, err = ReadBody(r.Body, Longest(call))
		_ = rc.SetReadDeadline(time.Time{})
		h.reading.Unlock()
	}
	out := Answer(err)
	if err == nil {
		out = h.do(r.Context(), r.Host, call, Request{r.Method, r.URL.EscapedPath(), body})
	}
	_ = rc.SetWriteDeadline(time.Now().Add(readWithin))
	out.Write(w)
}

// readWithin is how long a body may take to come, and an answer to be taken: both are on the same machine.
const readWithin = 30 * time.Second

// listened is what serves a WebSocket to the session; nil: none is asked for, or there is nothing to listen to.
func (h *Handler) listened(r *http.Request) http.Handler {
	if r.Method != http.MethodGet || !strings.EqualFold(r.Header.Get("Upgrade"), "websocket") {
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.now == nil || r.URL.EscapedPath() != "/session/"+h.now.ID {
		return nil
	}
	return h.now.Listen
}

func (h *Handler) has(id string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.now != nil && h.now.ID == id
}

// do carries a command out; host is what the client calls this remote end.
func (h *Handler) do(ctx context.Context, host string, call w3c.Call, r Request) Response {
	h.mu.Lock()
	now := h.now
	h.mu.Unlock()
	switch {
	case call.Name == "Status" && now == nil:
		return Status(true, "a session can be opened")
	case call.Name == "Status":
		return Status(false, "the device is in a session")
	case call.Name == "New Session":
		return h.open(ctx, host, r.Body)
	case now == nil:
		return Answer(w3c.Fail(w3c.InvalidSessionID, "there is no session %q", call.Session))
	}
	out := now.Do(ctx, r)
	if call.Name == "Delete Session" && out.Status == http.StatusOK {
		h.end(now)
	}
	return out
}

// End ends the session that there is: nothing more is commanded.
func (h *Handler) End() {
	h.mu.Lock()
	now := h.now
	h.mu.Unlock()
	if now != nil {
		h.end(now)
	}
}

// Over says that a session has ended past Handler.
func (h *Handler) Over(s *Session) { h.end(s) }

// end forgets a session.
func (h *Handler) end(s *Session) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.now == s {
		h.now = nil
		close(h.free)
		go s.Close()
	}
}

func (h *Handler) open(ctx context.Context, host string, body []byte) Response {
	request, err := w3c.Object(body)
	if err != nil {
		return Answer(err)
	}
	wanted, err := w3c.Process(request, ours.CheckExtension)
	if err != nil {
		return Answer(err)
	}
	h.opening.Lock()
	defer h.opening.Unlock()
	if err := h.await(ctx); err != nil {
		return Answer(err)
	}
	s, err := h.Open(ctx, wanted)
	if err == nil && ctx.Err() != nil {
		err = errNobody
	}
	if err != nil {
		return Answer(err)
	}
	h.mu.Lock()
	h.now, h.free = s, make(chan struct{})
	h.mu.Unlock()
	if s.Listen == nil {
		return NewAnswer(s.ID, s.Answer)
	}
	answer := maps.Clone(s.Answer)
	answer[w3c.WebSocketURL] = "ws://" + host + "/session/" + s.ID
	return NewAnswer(s.ID, answer)
}

var errNobody = w3c.Fail(w3c.SessionNotCreated, "the client no longer waits for this session")

// await waits until there is no session.
func (h *Handler) await(ctx context.Context) *w3c.Error {
	for told := false; ; told = true {
		h.mu.Lock()
		now, free := h.now, h.free
		h.mu.Unlock()
		if ctx.Err() != nil {
			return errNobody
		}
		if now == nil {
			return nil
		}
		left := now.Idle - now.unused()
		if left <= 0 {
			h.end(now)
			return nil
		}
		if h.Waits != nil && !told {
			h.Waits(now.ID)
		}
		select {
		case <-free:
		case <-time.After(left):
		case <-ctx.Done():
			return w3c.Fail(w3c.SessionNotCreated, "the device is in session %s, which did not end; end it first", now.ID)
		}
	}
}
