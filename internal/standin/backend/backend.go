// Package backend is the small server that Kelpline, the demo's app, talks to:
// shores, their tides, and surveys that volunteers send in; and a page of tides for browsers.
//
// It is a value with an address and a Close, and keeps what it is sent in
// memory, for tests to look at. All of it is made up.
package backend

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"math"
	"math/big"
	"net"
	"net/http"
	"sync"
	"time"
)

// page is the page of tides, for browsers. On narrow screens a notice lies over its last row.
//
//go:embed tides.html
var page []byte

//go:embed help.html
var help []byte

// Shore is a place that can be surveyed.
type Shore struct {
	ID    string  `json:"id"`
	Name  string  `json:"name"`
	About string  `json:"about"`
	span  float64 // metres between high and low water
}

// Shores are all there are.
var Shores = []Shore{
	{"gull-ledge", "Gull Ledge", "Shale platform, 12 pools", 4.2},
	{"mussel-steps", "Mussel Steps", "Sheltered, barnacles and mussels", 3.1},
	{"old-slip", "Old Slip", "Concrete slipway, weed covered", 3.6},
	{"tern-rocks", "Tern Rocks", "Exposed; mind the swell", 5.0},
	{"cormorant-stacks", "Cormorant Stacks", "Three stacks, a boat is needed", 4.6},
	{"eelgrass-bay", "Eelgrass Bay", "Sand and eelgrass", 2.8},
	{"heron-pool", "Heron Pool", "One deep pool, wheelchair path", 3.3},
	{"limpet-shelf", "Limpet Shelf", "Slabs, slippery when wet", 4.0},
	{"sandpiper-spit", "Sandpiper Spit", "Shingle; keep off in May", 3.9},
}

// Survey is what a volunteer sent.
type Survey struct {
	Shore string            `json:"shore"`
	Draft map[string]string `json:"draft"`
	Total float64           `json:"total"`
}

// Names are the hosts under which apps ask for it. The last two speak HTTPS alone, and the last one is pinned by the app.
const (
	Tides    = "tides.kelpline.example"
	SendTo   = "surveys.kelpline.example"
	Accounts = "accounts.kelpline.example"
)

// Server is the running backend.
type Server struct {
	// Certificate is what it proves its names with; nobody trusts it who was not told to.
	Certificate *x509.Certificate

	http   *http.Server
	https  *http.Server
	l      net.Listener
	secure net.Listener

	mu      sync.Mutex
	surveys []Survey
}

// Start begins to serve on address ("127.0.0.1:0" for any free port).
func Start(address string) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("demo backend: %w", err)
	}
	s := &Server{l: l}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
	})
	mux.HandleFunc("GET /help", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(help)
	})
	mux.HandleFunc("GET /shores", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, map[string]any{"shores": Shores}) })
	mux.HandleFunc("GET /shores/{id}/tides", s.tides)
	mux.HandleFunc("POST /surveys", s.take)
	mux.HandleFunc("POST /signin", signIn)
	s.http = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	pair, err := certificate()
	if err == nil {
		s.secure, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("demo backend: %w", err)
	}
	s.Certificate = pair.Leaf
	s.https = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, TLSConfig: &tls.Config{Certificates: []tls.Certificate{pair}},
		ErrorLog: log.New(io.Discard, "", 0)} // of those who do not trust it
	go func() { _ = s.http.Serve(l) }()
	go func() { _ = s.https.ServeTLS(s.secure, "", "") }()
	return s, nil
}

// certificate makes one for the names that are served by HTTPS.
func certificate() (pair tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return pair, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Kelpline's demo backend"}, DNSNames: []string{SendTo, Accounts},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return pair, err
	}
	leaf, err := x509.ParseCertificate(der)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, err
}

// Network says where its names are to be found, as phones and hosts need it.
func (s *Server) Network() map[string]string {
	secure := s.secure.Addr().String()
	return map[string]string{Tides: s.Address(), SendTo: secure, Accounts: secure}
}

// Address is host:port.
func (s *Server) Address() string { return s.l.Addr().String() }

// Close stops serving.
func (s *Server) Close() {
	_ = s.http.Close()
	_ = s.https.Close()
}

// Surveys are those taken so far.
func (s *Server) Surveys() []Survey {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Survey(nil), s.surveys...)
}

func (s *Server) tides(w http.ResponseWriter, r *http.Request) {
	for _, shore := range Shores {
		if shore.ID != r.PathValue("id") {
			continue
		}
		var heights []float64
		for i := range 25 { // hour by hour; high water at 3:10, then every 12 h 25 min
			heights = append(heights, math.Round(10*(shore.span/2+0.6+shore.span/2*math.Cos(2*math.Pi*(float64(i)-3.17)/12.42)))/10)
		}
		high, low := shore.span+0.6, 0.6
		answer(w, 200, map[string]any{"heights": heights, "extremes": []map[string]any{
			{"kind": "high", "time": "03:10", "height": high}, {"kind": "low", "time": "09:23", "height": low},
			{"kind": "high", "time": "15:35", "height": high}, {"kind": "low", "time": "21:48", "height": low},
		}})
		return
	}
	answer(w, 404, map[string]string{"title": "no such shore"})
}

// Code is what an observer signs in with.
const Code = "ebb-and-flow-4711"

func signIn(w http.ResponseWriter, r *http.Request) {
	var q struct{ Observer, Code string }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&q); err != nil || q.Code != Code || q.Observer == "" {
		answer(w, 403, map[string]string{"title": "not known"})
		return
	}
	answer(w, 200, map[string]string{"observer": q.Observer})
}

func (s *Server) take(w http.ResponseWriter, r *http.Request) {
	var survey Survey
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&survey); err != nil {
		answer(w, 400, map[string]string{"title": "not a survey"})
		return
	}
	s.mu.Lock()
	s.surveys = append(s.surveys, survey)
	n := len(s.surveys)
	if n > 10_000 {
		s.surveys = s.surveys[1:]
	}
	s.mu.Unlock()
	answer(w, 201, map[string]string{"receipt": fmt.Sprintf("KL-%04d", n)})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}
