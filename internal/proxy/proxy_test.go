package proxy

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/har"
	"tessellant/internal/core/netprofile"
)

// rig is a proxy with servers behind it, under names of their own.
type rig struct {
	*Proxy
	t       testing.TB
	address string
	names   map[string]string
	mu      sync.Mutex
	seen    []har.Entry
	opens   map[string]bool
	refused []string
}

func newRig(t testing.TB) *rig {
	a, err := OpenAuthority(t.TempDir())
	require.NoError(t, err)
	g := &rig{t: t, names: map[string]string{}, opens: map[string]bool{}}
	g.Proxy = New(Config{Authority: a, Names: g.names, Roots: x509.NewCertPool(), Clock: func(at time.Time) int64 { return at.UnixMilli() },
		Opens:   func(h string) bool { g.mu.Lock(); defer g.mu.Unlock(); return g.opens[h] },
		Refused: func(h string) { g.mu.Lock(); defer g.mu.Unlock(); g.opens[h] = false; g.refused = append(g.refused, h) },
		Seen:    func(e har.Entry) { g.mu.Lock(); defer g.mu.Unlock(); g.seen = append(g.seen, e) }})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g.address = l.Addr().String()
	var serving sync.WaitGroup
	serving.Go(func() { assert.NoError(t, g.Serve(l)) })
	t.Cleanup(func() { g.Close(); serving.Wait() })
	return g
}

// serve puts a server behind a name.
func (g *rig) serve(name string, secure bool, h http.HandlerFunc) {
	s := httptest.NewUnstartedServer(h)
	if secure {
		s.EnableHTTP2 = true
		s.StartTLS()
		g.transport.TLSClientConfig.RootCAs.AddCert(s.Certificate())
		g.transport.TLSClientConfig.ServerName = "example.com" // of httptest's certificate
	} else {
		s.Start()
	}
	g.t.Cleanup(s.Close)
	g.names[name] = s.Listener.Addr().String()
}

// client is an app: it trusts ours alone, or what else it is given.
func (g *rig) client(trust ...*x509.Certificate) *http.Client {
	pool := x509.NewCertPool()
	for _, c := range trust {
		pool.AddCert(c)
	}
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: g.address}), TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}
	g.t.Cleanup(tr.CloseIdleConnections)
	return &http.Client{Transport: tr, Timeout: 20 * time.Second}
}

func (g *rig) entries(n int) []har.Entry {
	g.t.Helper()
	require.Eventually(g.t, func() bool { g.mu.Lock(); defer g.mu.Unlock(); return len(g.seen) >= n }, 10*time.Second, 5*time.Millisecond)
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.seen)
}

func body(t testing.TB, r *http.Response, err error) string {
	t.Helper()
	require.NoError(t, err)
	defer r.Body.Close()
	raw, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(raw)
}

func TestPlainHTTPIsSeenWhole(t *testing.T) {
	g := newRig(t)
	g.serve("tides.example", false, func(w http.ResponseWriter, r *http.Request) {
		asked, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Encoding", "gzip")
		w.WriteHeader(201)
		z := gzip.NewWriter(w)
		fmt.Fprintf(z, `{"got": %q, "agent": %q, "via": %q}`, asked, r.Header.Get("User-Agent"), r.Header.Get("X-Forwarded-For"))
		_ = z.Close()
	})
	r, err := g.client().Post("http://tides.example/surveys?shore=gull-ledge", "application/json", strings.NewReader(`{"kelp": 3}`))
	assert.Contains(t, body(t, r, err), `{\"kelp\": 3}`)
	e := g.entries(1)[0]
	assert.Equal(t, []any{"POST", "http://tides.example/surveys?shore=gull-ledge", 201, "Created", har.HTTP, ""}, []any{e.Request.Method, e.Request.URL, e.Response.Status, e.Response.StatusText, e.Kind, e.Error})
	assert.Equal(t, []har.Pair{{Name: "shore", Value: "gull-ledge"}}, e.Request.Query)
	assert.Equal(t, `{"kelp": 3}`, e.Request.Post.Text)
	assert.Contains(t, e.Response.Content.Text, `"via": ""`, "it is unpacked, and nothing was added on the way")
	assert.Equal(t, e.Received, e.Response.BodySize)
	assert.Positive(t, e.Time)
	assert.GreaterOrEqual(t, e.Time+0.01, e.Timings.Wait+e.Timings.Receive)
	assert.InDelta(t, time.Now().UnixMilli(), e.At, 5000)
}

func TestHTTPSIsOpenedWhereTheDeviceTrustsUs(t *testing.T) {
	g := newRig(t)
	g.serve("example.com", true, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "hello over "+r.Proto) })
	g.opens["example.com"] = true
	for range 2 {
		r, err := g.client(g.c.Authority.Certificate).Get("https://example.com/a")
		require.NoError(t, err)
		assert.Equal(t, "HTTP/2.0", r.Proto, "the app speaks as it would without us")
		assert.Equal(t, "hello over HTTP/2.0", body(t, r, err))
	}
	e := g.entries(2)[1]
	assert.Equal(t, []any{"GET", "https://example.com/a", 200, har.HTTP, "TLS 1.3", "hello over HTTP/2.0"}, []any{e.Request.Method, e.Request.URL, e.Response.Status, e.Kind, e.TLS, e.Response.Content.Text})
	assert.Empty(t, g.refused)
}

func TestWhereItDoesNotTheConnectionIsPassedThrough(t *testing.T) {
	g := newRig(t)
	g.serve("example.com", true, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, strings.Repeat("x", 5000)) })
	c := g.client()
	c.Transport.(*http.Transport).TLSClientConfig = g.transport.TLSClientConfig.Clone()
	r, err := c.Get("https://example.com/secret-path")
	assert.Len(t, body(t, r, err), 5000)
	c.CloseIdleConnections()
	e := g.entries(1)[0]
	assert.Equal(t, []any{har.Connection, "CONNECT", "https://example.com", "TLS 1.3", 0}, []any{e.Kind, e.Request.Method, e.Request.URL, e.TLS, e.Response.Status})
	assert.Greater(t, e.Received, int64(5000))
	assert.Positive(t, e.Sent)
	assert.NotContains(t, fmt.Sprint(e), "secret-path")
}

func TestAnAppThatRefusesUsGoesOn(t *testing.T) {
	for how, break1 := range map[string]func(*tls.Config){
		"it does not know our certificate": func(c *tls.Config) {},
		"it has pinned another key, and hangs up": func(c *tls.Config) {
			c.InsecureSkipVerify = true
			c.VerifyConnection = func(s tls.ConnectionState) error {
				if strings.Contains(s.PeerCertificates[0].Issuer.CommonName, "Tessellant") {
					return errors.New("pinned")
				}
				return nil
			}
		},
	} {
		t.Run(how, func(t *testing.T) {
			g := newRig(t)
			g.serve("example.com", true, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "hello") })
			g.opens["example.com"] = true
			c := g.client()
			c.Transport.(*http.Transport).TLSClientConfig = g.transport.TLSClientConfig.Clone()
			break1(c.Transport.(*http.Transport).TLSClientConfig)
			_, err := c.Get("https://example.com/")
			require.Error(t, err, "the first time it sees us")
			e := g.entries(1)[0]
			assert.Contains(t, e.Error, "the app refused the certificate")
			assert.Contains(t, e.Note, "passed through")
			assert.Equal(t, []string{"example.com"}, g.refused)
			r, err := c.Get("https://example.com/")
			assert.Equal(t, "hello", body(t, r, err), "and from then on it goes")
		})
	}
}

func TestAWebSocketGoesThrough(t *testing.T) {
	g := newRig(t)
	g.serve("tides.example", false, func(w http.ResponseWriter, r *http.Request) {
		c, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		kind, said, _ := c.Read(r.Context())
		_ = c.Write(r.Context(), kind, append([]byte("heard "), said...))
		_ = c.Close(websocket.StatusNormalClosure, "")
	})
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	c, _, err := websocket.Dial(ctx, "ws://tides.example/live", &websocket.DialOptions{HTTPClient: &http.Client{Transport: g.client().Transport}})
	require.NoError(t, err)
	require.NoError(t, c.Write(ctx, websocket.MessageText, []byte("ebb")))
	_, said, err := c.Read(ctx)
	require.NoError(t, err)
	assert.Equal(t, "heard ebb", string(said))
	_ = c.Close(websocket.StatusNormalClosure, "")
	e := g.entries(1)[0]
	assert.Equal(t, []any{har.WebSocket, 101, "http://tides.example/live"}, []any{e.Kind, e.Response.Status, e.Request.URL})
	assert.Positive(t, e.Sent)
	assert.Positive(t, e.Received)
}

func TestServersThatMisbehave(t *testing.T) {
	g := newRig(t)
	g.serve("endless.example", false, func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := fmt.Fprint(w, "again and again\n"); err != nil {
				return
			}
			w.(http.Flusher).Flush()
		}
	})
	g.serve("large.example", false, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		page := bytes.Repeat([]byte("0123456789abcdef"), 1<<16)
		for range 300 {
			_, _ = w.Write(page)
		}
	})
	broken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer broken.Close()
	g.names["broken.example"] = broken.Addr().String()
	go func() {
		for {
			c, err := broken.Accept()
			if err != nil {
				return
			}
			_, _ = bufio.NewReader(c).ReadString('\n')
			_, _ = io.WriteString(c, "HTTP/1.1 two hundred\r\n\r\n")
			_ = c.Close()
		}
	}()

	r, err := g.client().Get("http://broken.example/")
	assert.Contains(t, body(t, r, err), "The host could not reach broken.example")
	assert.Equal(t, 502, r.StatusCode)
	assert.Contains(t, g.entries(1)[0].Error, "malformed HTTP")

	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	r, err = g.client().Get("http://large.example/")
	require.NoError(t, err)
	n, err := io.Copy(io.Discard, r.Body)
	require.NoError(t, err)
	_ = r.Body.Close()
	assert.Equal(t, int64(300<<20), n)
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapInuse)-int64(before.HeapInuse), int64(32<<20), "nothing of it is held")
	e := g.entries(2)[1]
	assert.Equal(t, n, e.Received)
	assert.Len(t, e.Response.Content.Text, maxBody)
	assert.Equal(t, "only its beginning was kept", e.Response.Content.Comment)

	ctx, cancel := context.WithCancel(t.Context())
	req, _ := http.NewRequestWithContext(ctx, "GET", "http://endless.example/", nil)
	r, err = g.client().Do(req)
	require.NoError(t, err)
	_, err = bufio.NewReader(r.Body).ReadString('\n')
	require.NoError(t, err, "it flows at once")
	cancel()
	assert.NotEmpty(t, g.entries(3)[2].Response.Content.Text)

	r, err = g.client().Get("http://endless.example/")
	require.NoError(t, err)
	g.Close()
	assert.Equal(t, "it went on when the recording ended", g.entries(4)[3].Error, "what never ends is told all the same")
	_ = r.Body.Close()
}

func TestThisMachineIsOutOfReach(t *testing.T) {
	g := newRig(t)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "the host's own") }))
	defer s.Close()
	for _, to := range []string{s.URL, "http://localhost:" + strings.Split(s.URL, ":")[2], "http://169.254.169.254/latest", "http://[::1]:80/", "http://0.0.0.0:80/"} {
		r, err := g.client().Get(to)
		said := body(t, r, err)
		assert.Equal(t, 502, r.StatusCode, to)
		assert.Contains(t, said, "this host's own", to)
	}
	_, err := g.client(g.c.Authority.Certificate).Get(strings.Replace(s.URL, "http", "https", 1))
	assert.ErrorContains(t, err, "Bad Gateway")
	r, err := http.Get("http://" + g.address + "/")
	assert.Contains(t, body(t, r, err), "the way of a device under test")
	assert.Equal(t, 400, r.StatusCode)
}

func TestTheNetworkIsAsItsProfileSays(t *testing.T) {
	const size = 40_000
	g := newRig(t)
	g.serve("tides.example", false, func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		if n == 0 {
			_, _ = w.Write(bytes.Repeat([]byte("x"), size))
		}
	})
	within := func(what string, took, want time.Duration) {
		t.Helper()
		assert.InDelta(t, want.Seconds(), took.Seconds(), want.Seconds()*0.15+0.015, what)
	}
	for _, p := range []netprofile.Profile{{RTT: 300 * time.Millisecond}, {RTT: 100 * time.Millisecond, Down: 2_000_000, Up: 1_000_000}, {Down: 4_000_000, Up: 800_000}} {
		g.Shape(p)
		c := g.client()
		// A machine that is busy only adds to it: the least of a few is what the profile costs.
		took := func(method string, n int, anew bool) time.Duration {
			least := time.Hour
			for range 3 {
				if anew {
					c.CloseIdleConnections()
				}
				start := time.Now()
				req, _ := http.NewRequestWithContext(t.Context(), method, "http://tides.example/", bytes.NewReader(make([]byte, n)))
				r, err := c.Do(req)
				_ = body(t, r, err)
				least = min(least, time.Since(start))
			}
			return least
		}
		rate := func(bits int64) time.Duration {
			if bits == 0 {
				return 0
			}
			return time.Duration(size * 8 / float64(bits) * float64(time.Second))
		}
		within("a connection and a page, "+p.Numbers(), took("GET", 0, true), 2*p.RTT+rate(p.Down))
		within("a page, "+p.Numbers(), took("GET", 0, false), p.RTT+rate(p.Down))
		within("an upload, "+p.Numbers(), took("POST", size, false), p.RTT+rate(p.Up))
	}
	g.Shape(netprofile.Profile{Loss: 10})
	start := time.Now()
	r, err := g.client().Get("http://tides.example/")
	_ = body(t, r, err)
	assert.Greater(t, time.Since(start), again*time.Millisecond, "what is lost is sent again")
}

func TestOfflineCutsAndComesBack(t *testing.T) {
	g := newRig(t)
	begun := make(chan bool, 1)
	g.serve("tides.example", false, func(w http.ResponseWriter, r *http.Request) {
		w.(http.Flusher).Flush()
		if r.URL.Path == "/long" {
			begun <- true
			<-r.Context().Done()
		}
	})
	c := g.client()
	r, err := c.Get("http://tides.example/")
	_ = body(t, r, err)
	var long sync.WaitGroup
	long.Go(func() {
		r, err := c.Get("http://tides.example/long")
		if err == nil {
			_, err = io.ReadAll(r.Body)
			_ = r.Body.Close()
		}
		assert.Error(t, err, "what goes on is cut")
	})
	<-begun
	offline, _ := netprofile.Parse("offline")
	g.Shape(offline)
	long.Wait()
	_, err = c.Get("http://tides.example/")
	require.Error(t, err)
	g.Shape(netprofile.Profile{})
	r, err = c.Get("http://tides.example/")
	_ = body(t, r, err)
	assert.Equal(t, 200, r.StatusCode)
}

func TestManyConnectionsAtOnce(t *testing.T) {
	g := newRig(t)
	release := make(chan bool)
	g.serve("tides.example", false, func(w http.ResponseWriter, _ *http.Request) { <-release; fmt.Fprint(w, "ebb") })
	var all sync.WaitGroup
	c := g.client()
	for range 500 {
		all.Go(func() {
			r, err := c.Get("http://tides.example/")
			if assert.NoError(t, err) {
				assert.Equal(t, "ebb", body(t, r, err))
			}
		})
	}
	require.Eventually(t, func() bool { g.Proxy.mu.Lock(); defer g.Proxy.mu.Unlock(); return len(g.going) == 500 }, 15*time.Second, 10*time.Millisecond)
	close(release)
	all.Wait()
	assert.Len(t, g.entries(500), 500)
}

func TestTheCertificateLasts(t *testing.T) {
	dir := t.TempDir()
	a, err := OpenAuthority(dir)
	require.NoError(t, err)
	b, err := OpenAuthority(dir)
	require.NoError(t, err)
	assert.Equal(t, a.PEM(), b.PEM())
	leaf, err := b.of("tides.example")
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(a.Certificate)
	_, err = leaf.Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: "tides.example"})
	require.NoError(t, err)
	ip, err := b.of("192.0.2.1")
	require.NoError(t, err)
	assert.Len(t, ip.Leaf.IPAddresses, 1)
}

func TestContent(t *testing.T) {
	h := func(kv ...string) http.Header {
		out := http.Header{}
		for i := 0; i < len(kv); i += 2 {
			out.Set(kv[i], kv[i+1])
		}
		return out
	}
	c := content(h("Content-Type", "image/png"), 10, []byte("0123456789"))
	assert.Equal(t, []string{"", "no text, so not kept"}, []string{c.Text, c.Comment})
	c = content(h("Content-Type", "text/plain", "Content-Encoding", "shuffle"), 3, []byte("abc"))
	assert.Contains(t, c.Comment, "not known here")
	c = content(h("Content-Type", "text/plain", "Content-Encoding", "gzip"), 3, []byte("abc"))
	assert.Equal(t, "it could not be unpacked", c.Comment)
	c = content(h("Content-Type", "text/plain"), 100, []byte("kü")[:2])
	assert.Equal(t, "k", c.Text, "a letter that was cut is left out")
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	_, _ = z.Write(make([]byte, 50<<20))
	_ = z.Close()
	c = content(h("Content-Type", "text/plain", "Content-Encoding", "gzip"), int64(bomb.Len()), bomb.Bytes())
	assert.LessOrEqual(t, len(c.Text), 3*maxDecoded)
}

func FuzzSniffed(f *testing.F) {
	f.Add([]byte("\x16\x03\x03\x00\x7a\x02\x00\x00\x76\x03\x03" + strings.Repeat("r", 32) + "\x00\x13\x01\x00\x00\x06\x00\x2b\x00\x02\x03\x04"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := &sniffed{}
		_, _ = s.Write(b)
		_ = s.version()
		_ = content(http.Header{"Content-Type": {"text/plain"}, "Content-Encoding": {"gzip"}}, int64(len(b)), b)
	})
}
