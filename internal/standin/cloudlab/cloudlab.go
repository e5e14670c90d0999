// Package cloudlab is a simulated lab of somebody else: phones behind a W3C WebDriver endpoint, lent one session at a time.
//
// It is a value with an address and a Close. Its phones are simulated ones of Android (standin/phone) and of iOS (standin/ios), and it says of each that it is
// simulated. It lists them in the open format of core/catalogue, takes builds, keeps a queue with so many sessions at a time, ends what is idle, and has
// commands of its own beside the standard's (session.go). Faults can be asked for (faults.go). In: demo/cloud.yaml. Out: an address.
package cloudlab

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/standin/ios"
	"tessellant/internal/standin/phone"
)

// File is a cloud as a file has it.
type File struct {
	Name   string  `yaml:"name"`
	Place  string  `yaml:"place"`
	AtOnce int     `yaml:"at_once"` // sessions
	Phones []Phone `yaml:"phones"`
}

// Phone is one phone of the cloud.
type Phone struct {
	ID       string `yaml:"id"`
	Platform string `yaml:"platform"`
	Maker    string `yaml:"maker"`
	Model    string `yaml:"model"`
	OS       string `yaml:"os"`
	API      int    `yaml:"api"`
	UDID     string `yaml:"udid"`
	Width    int    `yaml:"width"`  // pixels; of iOS points
	Height   int    `yaml:"height"` // the same
	Density  int    `yaml:"density"`
	Scale    int    `yaml:"scale"` // of iOS: pixels a point
	MemoryGB int    `yaml:"memory_gb"`
	Language string `yaml:"language"`
	Tablet   bool   `yaml:"tablet"`
}

// ReadFile reads a cloud's file.
func ReadFile(path string) (f File, err error) {
	in, err := os.Open(path)
	if err != nil {
		return f, err
	}
	defer in.Close()
	dec := yaml.NewDecoder(io.LimitReader(in, 1<<20))
	dec.KnownFields(true)
	if err := dec.Decode(&f); err != nil {
		return f, fmt.Errorf("the cloud's file can't be read: %w", err)
	}
	return f, nil
}

// UDIDs are the unique identifiers of the cloud's iOS devices.
func (f File) UDIDs() (out []string) {
	for _, p := range f.Phones {
		if p.UDID != "" {
			out = append(out, p.UDID)
		}
	}
	return out
}

// handset is a phone as the cloud's rig has it. Places are in the units of its sessions: pixels, or points.
type handset interface {
	Add(raw []byte) error
	Remove(id string)
	Open(id string, args map[string]string) error
	Quit(id string)
	Wipe(id string) error
	Stroke(x0, y0, x, y int, took time.Duration)
	Enter(text string)
	Key(name string)
	Source() (string, error)
	Picture() []byte
	Size() (w, h int)
	Keys() bool
	Turn(landscape bool)
	Night(on bool)
	Speak(language string)
	Lines(since time.Time) []string
	Time() time.Time
	WriteFile(name string, raw []byte)
	ReadFile(name string) ([]byte, error)
	DeleteFile(name string)
	Clean(language string)
	Off()
}

// Config is what a cloud needs besides its file.
type Config struct {
	File
	Address string // where it listens; "": any port of loopback
	Key     string // that its users show
	Instant bool   // its phones and its queue answer at once
	Slower  time.Duration
	Network map[string]string // where the names that apps ask for can be found: host name → address:port
	System  *x509.Certificate // that its phones trust
	Browser phone.Browser     // of their web views
	Idle    time.Duration     // after which a session is ended; 0: two minutes
	Waits   time.Duration     // how long a session waits for a place; 0: twenty seconds
	Log     func(format string, args ...any)
}

// Cloud is a running cloud.
type Cloud struct {
	Config
	Faults
	server   *http.Server
	listener net.Listener
	ctx      context.Context
	cancel   context.CancelFunc
	running  sync.WaitGroup

	mu       sync.Mutex
	phones   map[string]*rig
	builds   map[string][]byte
	sessions map[string]*session
	ended    map[string]bool // ids of sessions that were
	queue    int
	freed    chan struct{}
	opened   int // sessions, in all
}

// rig is a phone in its place.
type rig struct {
	Phone
	handset
	taken bool
}

const (
	idleFor   = 2 * time.Minute
	waitsFor  = 20 * time.Second
	maxBuild  = 256 << 20
	maxBuilds = 20
	maxBody   = 48 << 20
)

// Start switches a cloud on.
func Start(c Config) (*Cloud, error) {
	if c.Address == "" {
		c.Address = "127.0.0.1:0"
	}
	if c.Idle == 0 {
		c.Idle = idleFor
	}
	if c.Waits == 0 {
		c.Waits = waitsFor
	}
	l, err := net.Listen("tcp", c.Address)
	if err != nil {
		return nil, fmt.Errorf("the simulated cloud: %w", err)
	}
	s := &Cloud{Config: c, listener: l, phones: map[string]*rig{}, builds: map[string][]byte{}, sessions: map[string]*session{}, ended: map[string]bool{}, freed: make(chan struct{})}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	for _, p := range c.Phones {
		h, err := s.handsetOf(p)
		if err != nil {
			_ = l.Close()
			return nil, err
		}
		s.phones[p.ID] = &rig{Phone: p, handset: h}
	}
	s.server = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	s.running.Go(func() { _ = s.server.Serve(l) })
	s.running.Go(s.reap)
	return s, nil
}

func (s *Cloud) handsetOf(p Phone) (handset, error) {
	if p.Platform == "ios" {
		return ios.New(ios.Traits{Name: p.ID, Model: p.Model, OS: p.OS, UDID: p.UDID, Width: p.Width, Height: p.Height, Scale: p.Scale, MemoryGB: p.MemoryGB, Language: p.Language, Tablet: p.Tablet, Instant: s.Instant, Network: ios.Network{Hosts: s.Network, System: s.System}}), nil
	}
	t := phone.Traits{Serial: p.ID, Maker: p.Maker, Model: p.Model, Origin: "real", Android: p.OS, API: p.API, Width: p.Width, Height: p.Height, Density: p.Density, MemoryGB: p.MemoryGB, Language: p.Language, Tablet: p.Tablet,
		Temper: phone.Real, Network: s.Network, System: s.System, Browser: s.Browser}
	if s.Instant {
		t.Temper = phone.Instant
	}
	return phone.New(t)
}

// URL is where the cloud is.
func (s *Cloud) URL() string { return "http://" + s.listener.Addr().String() }

// Close switches the cloud off.
func (s *Cloud) Close() {
	s.cancel()
	_ = s.server.Close()
	s.running.Wait()
	for _, p := range s.phones {
		p.Off()
	}
}

// Open is how many sessions are open, and how many were opened in all.
func (s *Cloud) Open() (now, ever int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.sessions), s.opened
}

// Builds is how many builds the cloud has.
func (s *Cloud) Builds() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.builds)
}

// ForgetBuilds has the cloud forget all builds, as some do overnight.
func (s *Cloud) ForgetBuilds() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.builds)
}

// Limit changes how many sessions may be open at a time.
func (s *Cloud) Limit(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.AtOnce = n
	s.wake()
}

func (s *Cloud) wake() {
	close(s.freed)
	s.freed = make(chan struct{})
}

// reap ends sessions that are idle.
func (s *Cloud) reap() {
	tick := time.NewTicker(min(s.Idle/4, time.Second))
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-s.ctx.Done():
			return
		}
		s.mu.Lock()
		var idle []*session
		for _, x := range s.sessions {
			if time.Since(x.used()) > s.Idle {
				idle = append(idle, x)
			}
		}
		s.mu.Unlock()
		for _, x := range idle {
			s.end(x)
		}
	}
}

// end ends a session: its phone is cleaned, and free.
func (s *Cloud) end(x *session) {
	s.mu.Lock()
	if s.sessions[x.id] != x {
		s.mu.Unlock()
		return
	}
	delete(s.sessions, x.id)
	s.ended[x.id] = true
	s.mu.Unlock()
	x.rig.Clean(x.rig.Language)
	s.mu.Lock()
	x.rig.taken = false
	s.wake()
	s.mu.Unlock()
}

// EndAll ends all sessions, as a lab does that is started again.
func (s *Cloud) EndAll() {
	s.mu.Lock()
	all := make([]*session, 0, len(s.sessions))
	for _, x := range s.sessions {
		all = append(all, x)
	}
	s.mu.Unlock()
	for _, x := range all {
		s.end(x)
	}
}

// ServeHTTP implements http.Handler.
func (s *Cloud) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.broken(w, r) {
		return
	}
	if s.Key != "" && r.Header.Get("Authorization") != "Bearer "+s.Key && !strings.HasPrefix(r.URL.Path, "/sessions/") {
		say(w, http.StatusUnauthorized, "no such key")
		return
	}
	switch path := r.URL.Path; {
	case path == "/catalogue" && r.Method == http.MethodGet:
		s.catalogue(w)
	case path == "/builds" && r.Method == http.MethodPost:
		s.take(w, r)
	case strings.HasPrefix(path, "/sessions/"):
		s.page(w, strings.TrimPrefix(path, "/sessions/"))
	case path == "/wd/session" && r.Method == http.MethodPost:
		s.open(w, r)
	case strings.HasPrefix(path, "/wd/"):
		s.command(w, r, strings.TrimPrefix(path, "/wd"))
	default:
		say(w, http.StatusNotFound, "there is nothing here")
	}
}

func say(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"message": text})
}

func (s *Cloud) catalogue(w http.ResponseWriter) {
	if s.Garbage.Load() {
		_, _ = io.WriteString(w, `{"catalogue": 1, "devices": [{"id": `)
		return
	}
	s.mu.Lock()
	c := catalogue.Catalogue{Name: s.Name, Place: s.Place, AtOnce: s.AtOnce, Waiting: s.queue}
	for _, p := range s.Phones {
		d := catalogue.Device{ID: p.ID, Platform: p.Platform, OS: p.OS, API: p.API, Maker: p.Maker, Model: p.Model, Form: "phone", Width: p.Width, Height: p.Height, Density: p.Density, MemoryMB: p.MemoryGB * 1024, Language: p.Language,
			UDID: p.UDID, Simulated: true, State: catalogue.Free, ABIs: []string{"arm64-v8a"}}
		if p.Platform == "ios" {
			d.Width, d.Height, d.Density, d.ABIs = p.Width*p.Scale, p.Height*p.Scale, 160*p.Scale, []string{"arm64"}
		}
		if p.Tablet {
			d.Form = "tablet"
		}
		if s.phones[p.ID].taken {
			d.State = catalogue.Busy
		}
		c.Devices = append(c.Devices, d)
	}
	s.mu.Unlock()
	raw, err := c.JSON()
	if err != nil {
		say(w, http.StatusInternalServerError, err.Error())
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(raw)
}

// take takes a build in: the field app of a form.
func (s *Cloud) take(w http.ResponseWriter, r *http.Request) {
	form, err := r.MultipartReader()
	if err != nil {
		say(w, http.StatusBadRequest, "a build comes in a form")
		return
	}
	for {
		part, err := form.NextPart()
		if err != nil {
			say(w, http.StatusBadRequest, "the form has no field app")
			return
		}
		if part.FormName() != "app" {
			continue
		}
		raw, err := io.ReadAll(io.LimitReader(part, maxBuild+1))
		if err != nil || len(raw) > maxBuild {
			say(w, http.StatusBadRequest, "the build did not come whole, or is too large")
			return
		}
		id := "bld-" + strings.ToLower(rand.Text()[:10])
		s.mu.Lock()
		if len(s.builds) >= maxBuilds {
			clear(s.builds)
		}
		s.builds[id] = raw
		s.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(map[string]any{"build": map[string]any{"id": id, "bytes": len(raw)}})
		return
	}
}

// page is the cloud's own page about a session.
func (s *Cloud) page(w http.ResponseWriter, id string) {
	s.mu.Lock()
	x, was := s.sessions[id], s.ended[id]
	s.mu.Unlock()
	state := "There is no such session."
	switch {
	case x != nil:
		state = "Open on " + x.rig.ID + " since " + x.began.UTC().Format(time.RFC3339) + "."
	case was:
		state = "Over."
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = fmt.Fprintf(w, "<!doctype html><title>%s</title><h1>Session %s</h1><p>%s</p><p>A simulated cloud: nothing here is real.</p>", html.EscapeString(s.Name), html.EscapeString(id), html.EscapeString(state))
}

var errFull = errors.New("no place became free in time")

// place waits for the phone, and for a place among the sessions that may be open.
func (s *Cloud) place(ctx context.Context, p *rig) error {
	ctx, cancel := context.WithTimeout(ctx, s.Waits)
	defer cancel()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queue++
	defer func() { s.queue-- }()
	for p.taken || s.AtOnce > 0 && s.takenNow() >= s.AtOnce {
		freed := s.freed
		s.mu.Unlock()
		select {
		case <-freed:
			s.mu.Lock()
		case <-ctx.Done():
			s.mu.Lock()
			return errFull
		}
	}
	p.taken = true
	return nil
}

func (s *Cloud) takenNow() (n int) {
	for _, p := range s.phones {
		if p.taken {
			n++
		}
	}
	return n
}

// rigOf finds the phone that is asked for; where the fault is on, another.
func (s *Cloud) rigOf(id string) *rig {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.phones[id]
	if p != nil && s.Other.CompareAndSwap(true, false) {
		for _, o := range s.Phones {
			if o.ID != id && o.Platform == p.Platform && !s.phones[o.ID].taken {
				return s.phones[o.ID]
			}
		}
	}
	return p
}

// number reads a query's number.
func number(r *http.Request, name string) int64 {
	n, _ := strconv.ParseInt(r.URL.Query().Get(name), 10, 64)
	return n
}

// ids are those of all phones.
func (s *Cloud) ids() (out []string) {
	for id := range s.phones {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}
