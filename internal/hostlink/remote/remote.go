// Package remote is the link of a host that runs in a process of its own: calls go over the bus, and over HTTP where the
// bus can't be reached; bytes go over HTTP. It joins again by itself when the service was started anew.
package remote

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/hostlink"
)

// ErrRefused says that the service will not have this host: its key is not known, or was taken
// away, or the two speak different protocols. Trying again does not help.
var ErrRefused = errors.New("the service refuses this host")

// Link is a hostlink.Link to a service elsewhere.
type Link struct {
	URL, Key, Version string
	Log               *slog.Logger
	HTTP              *http.Client // nil: one of its own
	Bus               string       // where the bus is and what to show there; "": as the service says

	joining sync.Mutex // guards tried
	tried   time.Time  // when it last joined, or tried to

	mu      sync.Mutex
	serve   hostlink.Answerer // answers the commands of sessions
	now     *joined
	wakes   map[chan []byte]bool
	refused error
}

// joined is the time from one joining to the next.
type joined struct {
	hostlink.Welcome
	bus *bus.NATS // nil: it can't be reached, all goes over HTTP
	end func()

	mu      sync.Mutex
	ended   bool
	streams map[*bus.Stream]bool // that are open
}

// stream is one of those; it is forgotten when it is closed.
type stream struct {
	*bus.Stream
	of *joined
}

func (s stream) Close() error { return s.CloseWith("") }

// CloseWith closes it, and tells the other end why.
func (s stream) CloseWith(why string) error {
	s.of.mu.Lock()
	delete(s.of.streams, s.Stream)
	s.of.mu.Unlock()
	return s.Stream.CloseWith(why)
}

// take takes a stream up.
func (s *joined) take(id string) (hostlink.Stream, error) {
	c, err := bus.NewStream(s.bus, bus.Down(s.Name, id), bus.Up(s.Name, id))
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		_ = c.Close()
		return nil, errAnew
	}
	if s.streams == nil {
		s.streams = map[*bus.Stream]bool{}
	}
	s.streams[c] = true
	return stream{c, s}, nil
}

var errAnew = errors.New("the host joins the service anew; try again")

// cut ends all streams, while the other ends can still be told.
func (s *joined) cut() {
	s.mu.Lock()
	s.ended = true
	all := s.streams
	s.streams = nil
	s.mu.Unlock()
	for c := range all {
		_ = c.CloseWith(errAnew.Error())
	}
}

var _ hostlink.Link = (*Link)(nil)

func (r *Link) client() *http.Client {
	if r.HTTP != nil {
		return r.HTTP
	}
	return http.DefaultClient
}

// Join enters the service, and answers the host's name.
func (r *Link) Join(ctx context.Context) (string, error) {
	s, err := r.join(ctx, nil)
	if err != nil {
		return "", err
	}
	return s.Name, nil
}

// Welcome is what the last joining gave.
func (r *Link) Welcome() hostlink.Welcome {
	if s := r.current(); s != nil {
		return s.Welcome
	}
	return hostlink.Welcome{}
}

// Leave ends the joining.
func (r *Link) Leave() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.now != nil {
		r.now.end()
		r.now = nil
	}
}

// Refused is why the service will not have this host any more; nil: it does.
func (r *Link) Refused() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.refused
}

func (r *Link) current() *joined {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.now
}

const (
	joinPause   = time.Second     // between two joinings
	lookForABus = 5 * time.Second // between two joinings for the sake of the bus alone
)

// join enters the service anew, unless somebody else has since old was found to be of no use.
func (r *Link) join(ctx context.Context, old *joined) (*joined, error) {
	r.joining.Lock()
	defer r.joining.Unlock()
	if s := r.current(); s != nil && s != old {
		return s, nil
	}
	if wait := joinPause - time.Since(r.tried); wait > 0 && old != nil {
		return nil, fmt.Errorf("the service does not know this host yet; it joins again in %s", wait.Round(time.Millisecond))
	}
	r.tried = time.Now()
	body, _ := json.Marshal(map[string]any{"protocol": hostlink.Protocol, "version": r.Version})
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	resp, err := r.do(ctx, http.MethodPost, "/api/v1/hosts/join", "application/json", bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var w hostlink.Welcome
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&w); err != nil {
		return nil, fmt.Errorf("join %s: %w", r.URL, err)
	}
	s := &joined{Welcome: w, end: func() {}}
	if s.bus, err = bus.Connect(cmp.Or(r.Bus, w.BusURL), bus.Secret{User: w.BusUser, Password: w.BusPassword}, w.Name); err != nil {
		r.Log.Warn("the service is there, its bus is not: calls go over HTTP", "err", err)
		s.bus = nil
	} else {
		s.listen(r.wake)
	}
	r.mu.Lock()
	s.answer(r.serve, r.Log)
	before := r.now
	r.now = s
	r.mu.Unlock()
	if before != nil {
		before.end()
	}
	r.Log.Info("joined", "service", r.URL, "host", w.Name)
	r.wake(nil)
	return s, nil
}

// answer answers the commands of sessions until this host joins again.
func (s *joined) answer(serve hostlink.Answerer, log *slog.Logger) {
	if s.bus == nil || serve == nil {
		return
	}
	stop, err := s.bus.Answer(bus.Commands(s.Name), func(ctx context.Context, data []byte) []byte {
		return hostlink.AnswerOrder(ctx, data, serve)
	})
	if err != nil {
		log.Warn("sessions on this host can't be reached", "err", err)
		return
	}
	end := s.end
	s.end = func() {
		stop()
		end()
	}
}

// Serve implements Link.
func (r *Link) Serve(_ string, serve hostlink.Answerer) (func(), error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	serve = hostlink.Guarded(r.Log, serve)
	r.serve = serve
	if r.now != nil {
		r.now.answer(serve, r.Log)
	}
	return func() {}, nil // it ends with the joining
}

// Stream implements Link.
func (r *Link) Stream(_, id string) (hostlink.Stream, error) {
	s := r.current()
	if s == nil || s.bus == nil {
		return nil, errors.New("this host has no way to the service's bus: streams need it")
	}
	return s.take(id)
}

// listen takes wake-ups until this host joins again.
func (s *joined) listen(wake func([]byte)) {
	messages, unsubscribe := s.bus.Subscribe(bus.Host(s.Name))
	done := make(chan struct{})
	s.end = sync.OnceFunc(func() {
		s.cut()
		unsubscribe()
		close(done)
		s.bus.Close()
	})
	go func() {
		for {
			select {
			case m := <-messages:
				wake(m)
			case <-done:
				return
			}
		}
	}()
}

func (r *Link) wake(m []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.wakes {
		select {
		case c <- m:
		default:
		}
	}
}

// do sends a request; an answer that is no success is an error.
func (r *Link) do(ctx context.Context, method, path, kind string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(r.URL, "/")+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+r.Key)
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	resp, err := r.client().Do(req)
	if err != nil {
		return nil, fmt.Errorf("the service at %s can't be reached: %w", r.URL, err)
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	var p struct{ Title, Detail, Remedy string }
	_ = json.NewDecoder(io.LimitReader(resp.Body, 64<<10)).Decode(&p)
	err = fmt.Errorf("the service says %d: %s: %s", resp.StatusCode, p.Title, p.Detail)
	switch resp.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusUpgradeRequired:
		err = fmt.Errorf("%w: %s; %s", ErrRefused, p.Detail, p.Remedy)
		r.mu.Lock()
		r.refused = err
		r.mu.Unlock()
	case http.StatusNotFound, http.StatusGone:
		err = fmt.Errorf("%w: %s", hostlink.ErrOver, p.Detail)
	case http.StatusInsufficientStorage:
		err = fmt.Errorf("%w: %s", hostlink.ErrFull, p.Detail)
	case http.StatusBadRequest, http.StatusMethodNotAllowed, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity:
		err = fmt.Errorf("%w: %s: %s", hostlink.ErrUnfit, p.Title, p.Detail)
	}
	return nil, err
}

// ask sends a call over the bus, and where that can't be, over HTTP.
func (r *Link) ask(ctx context.Context, s *joined, raw []byte) ([]byte, error) {
	if s.bus != nil {
		back, err := s.bus.Call(ctx, bus.Hosts, raw)
		if err == nil || ctx.Err() != nil {
			return back, err
		}
	}
	resp, err := r.do(ctx, http.MethodPost, "/api/v1/hosts/call", "application/octet-stream", bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	back, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err == nil && r.busDue() {
		_, _ = r.join(ctx, s) // the bus may be elsewhere by now
	}
	return back, err
}

const maxAnswer = 64 << 20 // bytes

// busDue says whether it is time to look for the bus again.
func (r *Link) busDue() bool {
	if !r.joining.TryLock() {
		return false
	}
	defer r.joining.Unlock()
	return time.Since(r.tried) > lookForABus
}

// call asks the service; where that does not know the session, it joins again and asks once more.
func (r *Link) call(ctx context.Context, c hostlink.Call) (a hostlink.Answer, err error) {
	s := r.current()
	for try := 0; try < 2; try++ {
		if s == nil || try > 0 {
			if s, err = r.join(ctx, s); err != nil {
				return a, err
			}
		}
		c.Protocol, c.Token = hostlink.Protocol, s.Token
		raw, err := json.Marshal(c)
		if err != nil {
			return a, err
		}
		back, err := r.ask(ctx, s, raw)
		if err != nil {
			return a, err
		}
		a = hostlink.Answer{}
		if err := json.Unmarshal(back, &a); err != nil {
			return a, fmt.Errorf("the service's answer can't be read: %w", err)
		}
		if a.Kind != hostlink.KindStranger {
			break
		}
	}
	return a, a.Err()
}

// Devices implements Link.
func (r *Link) Devices(ctx context.Context, _ string, about hostlink.About, seen []hostlink.Seen) ([]string, error) {
	a, err := r.call(ctx, hostlink.Call{Kind: "devices", About: &about, Seen: seen})
	return a.Names, err
}

// Holds implements Link.
func (r *Link) Holds(ctx context.Context, _ string, inHand []string) ([]hostlink.Hold, error) {
	a, err := r.call(ctx, hostlink.Call{Kind: "holds", Holds: inHand})
	return a.Holds, err
}

// Renew implements Link.
func (r *Link) Renew(ctx context.Context, _ string, holds []string) ([]string, error) {
	a, err := r.call(ctx, hostlink.Call{Kind: "renew", Holds: holds})
	return a.Names, err
}

// Report implements Link.
func (r *Link) Report(ctx context.Context, hold hostlink.Hold, p []hostlink.Progress) error {
	_, err := r.call(ctx, hostlink.Call{Kind: "report", Hold: hold.ID, Reports: p})
	return err
}

// Live implements Link.
func (r *Link) Live(ctx context.Context, hold hostlink.Hold, now hostlink.Now) error {
	if now.Frame != nil {
		resp, err := r.do(ctx, http.MethodPut, holdPath(hold, "screen", url.Values{"at": {strconv.FormatInt(now.FrameAt, 10)}}), "image/jpeg", bytes.NewReader(now.Frame))
		if err != nil {
			return err
		}
		_ = resp.Body.Close()
		now.Frame = nil
	}
	if len(now.Events) == 0 {
		return nil
	}
	_, err := r.call(ctx, hostlink.Call{Kind: "live", Hold: hold.ID, Live: &now})
	return err
}

func holdPath(hold hostlink.Hold, what string, q url.Values) string {
	p := "/api/v1/holds/" + url.PathEscape(hold.ID) + "/" + what
	if len(q) > 0 {
		p += "?" + q.Encode()
	}
	return p
}

// Append implements Link.
func (r *Link) Append(ctx context.Context, hold hostlink.Hold, a hostlink.Artifact, offset int64, part []byte) error {
	return r.put(ctx, hold, "parts", url.Values{"name": {a.Name}, "offset": {strconv.FormatInt(offset, 10)}}, bytes.NewReader(part))
}

// Keep implements Link.
func (r *Link) Keep(ctx context.Context, hold hostlink.Hold, a hostlink.Artifact, body io.Reader) error {
	return r.put(ctx, hold, "artifacts", url.Values{"name": {a.Name}}, body)
}

func (r *Link) put(ctx context.Context, hold hostlink.Hold, what string, q url.Values, body io.Reader) error {
	resp, err := r.do(ctx, http.MethodPut, holdPath(hold, what, q), "application/octet-stream", body)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Release implements Link.
func (r *Link) Release(ctx context.Context, hold hostlink.Hold, x hostlink.Release) error {
	_, err := r.call(ctx, hostlink.Call{Kind: "release", Hold: hold.ID, Release: &x})
	return err
}

// Close implements Link.
func (r *Link) Close(ctx context.Context, hold hostlink.Hold, c hostlink.Closing) error {
	_, err := r.call(ctx, hostlink.Call{Kind: "close", Hold: hold.ID, Closing: &c})
	return err
}

// Fetch implements Link.
func (r *Link) Fetch(ctx context.Context, hold hostlink.Hold, what hostlink.Content) (io.ReadCloser, error) {
	resp, err := r.do(ctx, http.MethodGet, holdPath(hold, string(what), nil), "", nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// FetchBuild implements Link.
func (r *Link) FetchBuild(ctx context.Context, hold hostlink.Hold, ref string) (io.ReadCloser, error) {
	resp, err := r.do(ctx, http.MethodGet, holdPath(hold, "any-build", url.Values{"ref": {ref}}), "", nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Wake implements Link.
func (r *Link) Wake(string) (<-chan []byte, func()) {
	c := make(chan []byte, 16)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.wakes == nil {
		r.wakes = map[chan []byte]bool{}
	}
	r.wakes[c] = true
	return c, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.wakes, c)
	}
}
