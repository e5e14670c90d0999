// Package proxy is the way of one device's apps to the network: it passes everything on, says what went through, and can be as slow as a mobile network.
//
// A request in plain HTTP is seen whole. A connection (CONNECT, RFC 9110 section 9.3.6) is opened where the device trusts our certificate, and
// passed through as it is where it does not, or where an app refuses it. Nothing is changed on its way. In: a listener, a profile of the network. Out:
// entries (core/har), each when it has ended.
package proxy

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/netutil"

	"tessellant/internal/core/har"
	"tessellant/internal/core/netprofile"
)

// Config is what a proxy needs.
type Config struct {
	// Authority signs what HTTPS is opened with; nil: none is opened.
	Authority *Authority
	// Opens says whether connections to a host are opened.
	Opens func(host string) bool
	// Refused is told that an app has refused our certificate for a host.
	Refused func(host string)
	// Names are hosts that are found elsewhere than their name says: host → address:port; they may be on this machine.
	Names map[string]string
	// Routes lead to servers by way of people's own machines; nil: there are none.
	Routes Routes
	// Leads says whether a server may be reached, and whether also where it is on this machine or its own network; nil: all may that are elsewhere.
	Leads func(host, port string) (may, here bool)
	// Roots are certificates that servers are trusted by, besides the system's.
	Roots *x509.CertPool
	// Asked is told of each request that is about to be sent on, with what of its entry is known by then; Seen, of each entry when it has ended. Nil: nobody wants to know.
	Asked, Seen func(har.Entry)
	// Clock gives a moment on the attempt's clock, in ms.
	Clock func(time.Time) int64
}

// Routes lead to servers by way of people's own machines, and may change at any time.
type Routes interface {
	Lead(address string) bool // whether to that one
	Dial(ctx context.Context, address string) (net.Conn, error)
}

// Proxy is one. It is safe for use by several goroutines.
type Proxy struct {
	c         Config
	shape     *shape
	transport *http.Transport
	routed    *http.Transport // the same, by way of routes: a connection that was made before a route was opened, or after it was closed, is none of it
	server    *http.Server
	inside    *http.Server // of connections that were opened
	ctx       context.Context
	stop      context.CancelFunc
	pool      sync.Pool

	opened sync.Map // connections that were opened: net.Conn → *opened

	mu    sync.Mutex
	going map[*exchange]bool
	count int64 // of all that have begun
	over  bool
	conns sync.WaitGroup // that were taken over from the server
}

const (
	maxConns    = 1000
	headerLimit = 30 * time.Second
	dialLimit   = 20 * time.Second
	idleLimit   = 2 * time.Minute
	copySize    = 32 << 10
)

// New makes a proxy.
func New(c Config) *Proxy {
	p := &Proxy{c: c, shape: newShape(), going: map[*exchange]bool{}}
	p.ctx, p.stop = context.WithCancel(context.Background())
	p.pool.New = func() any { b := make([]byte, copySize); return &b }
	p.transport = &http.Transport{DialContext: p.dial, DisableCompression: true, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 32, IdleConnTimeout: idleLimit,
		TLSHandshakeTimeout: dialLimit, MaxResponseHeaderBytes: 256 << 10, TLSClientConfig: &tls.Config{RootCAs: c.Roots}}
	p.routed = p.transport.Clone()
	if c.Routes != nil {
		p.routed.DialContext = func(ctx context.Context, _, address string) (net.Conn, error) { return c.Routes.Dial(ctx, address) }
	}
	quiet := log.New(io.Discard, "", 0) // what apps do wrong stands in the entries
	p.server = &http.Server{Handler: http.HandlerFunc(p.outside), ReadHeaderTimeout: headerLimit, IdleTimeout: idleLimit, MaxHeaderBytes: 64 << 10, ErrorLog: quiet, ConnContext: withConn}
	p.inside = &http.Server{Handler: http.HandlerFunc(p.asked), ConnState: p.state, ReadHeaderTimeout: headerLimit, IdleTimeout: idleLimit, MaxHeaderBytes: 64 << 10, ErrorLog: quiet,
		ConnContext: withConn}
	return p
}

func withConn(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, connKey{}, c)
}

type connKey struct{}

// Serve takes connections of the device until Close.
func (p *Proxy) Serve(l net.Listener) error {
	err := p.server.Serve(shapedListener{netutil.LimitListener(l, maxConns), p.shape})
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

type shapedListener struct {
	net.Listener
	s *shape
}

func (l shapedListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if x := l.s.conn(c); x != nil {
			return x, nil
		}
	}
}

// Shape sets how the network is from now on.
func (p *Proxy) Shape(profile netprofile.Profile) { p.shape.set(profile) }

// Close ends everything that goes on; what has not ended is told as it is.
func (p *Proxy) Close() {
	p.mu.Lock()
	p.over = true
	var left []*exchange
	for x := range p.going {
		left = append(left, x)
	}
	p.mu.Unlock()
	for _, x := range left {
		x.end(errors.New("it went on when the recording ended"))
	}
	p.stop()
	_ = p.server.Close()
	_ = p.inside.Close()
	p.shape.mu.Lock()
	for c := range p.shape.conns {
		c.cut()
	}
	p.shape.mu.Unlock()
	p.conns.Wait()
	p.transport.CloseIdleConnections()
	p.routed.CloseIdleConnections()
}

// errOwn is why an address of this machine can't be reached.
type errOwn struct{ address string }

func (e errOwn) Error() string {
	return e.address + " is this host's own, or not an address of the network: apps on a device can't reach it through the host"
}

// errBarred is why a server may not be reached.
type errBarred struct{ address string }

func (e errBarred) Error() string {
	return e.address + " is not among the servers that pages may lead to from this host; its operator says which"
}

// dial reaches a server: by the names of the configuration, else by its own. This machine and its neighbours by link are out of reach.
func (p *Proxy) dial(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	if p.leads(address) {
		return p.c.Routes.Dial(ctx, address)
	}
	d := net.Dialer{}
	if known := p.named(address); known != "" {
		return d.DialContext(ctx, network, known)
	}
	here := false
	if p.c.Leads != nil {
		host, port, _ := net.SplitHostPort(address)
		may := false
		if may, here = p.c.Leads(host, port); !may {
			return nil, errBarred{address}
		}
	}
	d.Control = func(_, to string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(to)
		if err != nil || !here && (forbidden(at.Addr().Unmap()) || p.c.Leads != nil && at.Addr().Unmap().IsPrivate()) {
			return errOwn{to}
		}
		return nil
	}
	return d.DialContext(ctx, network, address)
}

// leads says whether a route leads to a server.
func (p *Proxy) leads(address string) bool { return p.c.Routes != nil && p.c.Routes.Lead(address) }

// way is how a request reaches its server.
func (p *Proxy) way(u *url.URL) *http.Transport {
	address := u.Host
	if u.Port() == "" {
		address = net.JoinHostPort(u.Hostname(), map[bool]string{true: "443", false: "80"}[u.Scheme == "https"])
	}
	if p.leads(address) {
		return p.routed
	}
	return p.transport
}

// named finds an address in the names of the configuration: with its port, else without.
func (p *Proxy) named(address string) string {
	host, _, _ := net.SplitHostPort(address)
	if to := p.c.Names[address]; to != "" {
		return to
	}
	return p.c.Names[host]
}

func forbidden(a netip.Addr) bool {
	if a.IsLoopback() || a.IsUnspecified() || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsInterfaceLocalMulticast() {
		return true
	}
	own, err := net.InterfaceAddrs()
	if err != nil {
		return true
	}
	for _, x := range own {
		if prefix, err := netip.ParsePrefix(x.String()); err == nil && prefix.Addr().Unmap() == a {
			return true
		}
	}
	return false
}

// outside answers what the device asks the proxy.
func (p *Proxy) outside(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Method == http.MethodConnect:
		p.connect(w, r)
	case r.URL.IsAbs() && r.URL.Scheme == "http":
		c, _ := r.Context().Value(connKey{}).(*shaped)
		p.forward(w, r, c, "")
	default:
		http.Error(w, "This is the way of a device under test to the network: it takes requests to other servers.", http.StatusBadRequest)
	}
}

// asked answers a request of a connection that was opened.
func (p *Proxy) asked(w http.ResponseWriter, r *http.Request) {
	conn, _ := r.Context().Value(connKey{}).(net.Conn)
	o, ok := p.opened.Load(conn)
	if !ok {
		panic(http.ErrAbortHandler) // it was closed meanwhile
	}
	c := o.(*opened)
	c.requests.Add(1)
	r.URL.Scheme, r.URL.Host = "https", r.Host
	if r.Host == "" || !strings.EqualFold(hostOf(r.Host), c.host) {
		r.URL.Host = c.address // as it was asked for, whatever the header says
	} else if _, port, _ := net.SplitHostPort(c.address); port != "443" && !strings.Contains(r.Host, ":") {
		r.URL.Host = c.address
	}
	p.forward(w, r, c.beneath, tlsName(c.conn.ConnectionState().Version))
}

func hostOf(address string) string {
	if h, _, err := net.SplitHostPort(address); err == nil {
		return h
	}
	return address
}

func tlsName(version uint16) string {
	if version == 0 {
		return ""
	}
	return tls.VersionName(version)
}

// forward passes a request on, and its answer back.
func (p *Proxy) forward(w http.ResponseWriter, r *http.Request, c *shaped, tlsVersion string) {
	x := p.begin(har.HTTP, r.Method, r.URL, c.takeHeld())
	if profile := p.shape.now(); profile.Offline {
		x.end(errOffline)
		panic(http.ErrAbortHandler)
	}
	x.asked(r, tlsVersion)
	if p.c.Asked != nil {
		p.c.Asked(x.now())
	}
	rp := httputil.ReverseProxy{Rewrite: func(pr *httputil.ProxyRequest) {
		pr.Out.Host = pr.In.Host
		if _, has := pr.In.Header["User-Agent"]; !has {
			pr.Out.Header["User-Agent"] = nil // none is added
		}
		x.trace(pr.Out)
	}, Transport: p.way(r.URL), FlushInterval: -1, BufferPool: buffers{p}, ErrorLog: p.server.ErrorLog,
		ModifyResponse: func(resp *http.Response) error { x.answered(resp); return nil },
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			x.end(err)
			http.Error(w, "The host could not reach "+r.URL.Host+": "+err.Error(), http.StatusBadGateway)
		}}
	defer func() {
		if v := recover(); v != nil { // the device, or the server, has gone
			x.end(errors.New("cut off"))
			panic(http.ErrAbortHandler)
		}
	}()
	rp.ServeHTTP(w, r)
	x.end(nil) // its answer is with the device
}

type buffers struct{ p *Proxy }

func (b buffers) Get() []byte  { return *b.p.pool.Get().(*[]byte) }
func (b buffers) Put(x []byte) { b.p.pool.Put(&x) }

// begin notes that an exchange has begun; what came of it was held back for so long.
func (p *Proxy) begin(kind, method string, u *url.URL, held time.Duration) *exchange {
	x := &exchange{p: p, start: time.Now().Add(-held)}
	x.e = har.Entry{Started: x.start.UTC(), Kind: kind, Timings: har.Timings{Blocked: -1, DNS: -1, Connect: -1, Send: -1, Wait: -1, Receive: -1, SSL: -1}}
	if p.c.Clock != nil {
		x.e.At = p.c.Clock(x.start)
	}
	text := u.String()
	x.e.Request = har.Request{Method: fmt.Sprintf("%.40s", method), URL: strings.ToValidUTF8(fmt.Sprintf("%.*s", maxURL, text), "\uFFFD"), HeadersSize: -1, BodySize: -1}
	x.e.Response = har.Response{HeadersSize: -1, BodySize: -1}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.going[x] = true
	p.count++
	x.e.Number = p.count
	return x
}
