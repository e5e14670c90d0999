package proxy

// Connections: opened where the device trusts us, passed through as they are otherwise.

import (
	"bufio"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tessellant/internal/core/har"
)

const established = "HTTP/1.1 200 Connection established\r\n\r\n"

// connect answers CONNECT.
func (p *Proxy) connect(w http.ResponseWriter, r *http.Request) {
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil || host == "" || port == "" {
		http.Error(w, "CONNECT wants host:port.", http.StatusBadRequest)
		return
	}
	x := p.begin(har.Connection, http.MethodConnect, &url.URL{Scheme: "https", Host: strings.TrimSuffix(r.Host, ":443")}, 0)
	if p.shape.now().Offline {
		x.end(errOffline)
		panic(http.ErrAbortHandler)
	}
	opens := p.c.Authority != nil && p.c.Opens != nil && p.c.Opens(host)
	var up net.Conn
	if !opens {
		begin := time.Now()
		if up, err = p.dial(r.Context(), "tcp", r.Host); err != nil {
			x.end(err)
			http.Error(w, "The host could not reach "+r.Host+": "+err.Error(), http.StatusBadGateway)
			return
		}
		x.mu.Lock()
		x.e.Timings.Connect = ms(time.Since(begin))
		x.e.Server, _, _ = net.SplitHostPort(up.RemoteAddr().String())
		x.mu.Unlock()
	}
	p.mu.Lock()
	over := p.over
	if !over {
		p.conns.Add(1)
	}
	p.mu.Unlock()
	c, rw, err := http.NewResponseController(w).Hijack()
	if err != nil || over {
		if up != nil {
			_ = up.Close()
		}
		if !over {
			p.conns.Done()
		}
		x.end(errors.New("cut off"))
		return
	}
	defer p.conns.Done()
	defer c.Close()
	if s, ok := c.(*shaped); ok { // a device without a proxy would not have waited for this answer
		s.mu.Lock()
		s.free = len(established)
		s.mu.Unlock()
	}
	if _, err := io.WriteString(c, established); err != nil {
		x.end(err)
		return
	}
	client := &peeking{Conn: c, r: rw.Reader}
	if !opens {
		p.pass(x, client, up, "")
		return
	}
	_ = c.SetReadDeadline(time.Now().Add(headerLimit))
	first, err := client.r.Peek(1)
	_ = c.SetReadDeadline(time.Time{})
	if err != nil {
		x.end(nil) // it was opened in advance, and never used
		return
	}
	if first[0] != recordHandshake {
		if up, err = p.dial(p.ctx, "tcp", r.Host); err != nil {
			x.end(err)
			return
		}
		p.pass(x, client, up, "it is no TLS")
		return
	}
	p.open(x, client, host, r.Host)
}

// beneath finds the device's own connection.
func beneath(c net.Conn) *shaped {
	if p, ok := c.(*peeking); ok {
		c = p.Conn
	}
	s, _ := c.(*shaped)
	return s
}

// peeking is a connection of which something was read ahead.
type peeking struct {
	net.Conn
	r *bufio.Reader
}

func (c *peeking) Read(b []byte) (int, error) { return c.r.Read(b) }

// opened is a connection that was opened.
type opened struct {
	conn          *tls.Conn
	beneath       *shaped
	host, address string
	requests      atomic.Int64
	closed        chan struct{}
	once          sync.Once
}

// state is told how a connection stands that was opened.
func (p *Proxy) state(c net.Conn, s http.ConnState) {
	if s != http.StateClosed && s != http.StateHijacked {
		return
	}
	if o, ok := p.opened.Load(c); ok {
		o := o.(*opened)
		o.once.Do(func() { close(o.closed) })
	}
}

// open opens a connection with a certificate of ours, and serves what is asked on it.
func (p *Proxy) open(x *exchange, client net.Conn, host, address string) {
	server := tls.Server(client, &tls.Config{NextProtos: []string{"h2", "http/1.1"}, GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		if h.ServerName != "" {
			return p.c.Authority.of(strings.ToLower(h.ServerName))
		}
		return p.c.Authority.of(strings.ToLower(host))
	}})
	_ = client.SetDeadline(time.Now().Add(headerLimit))
	err := server.HandshakeContext(p.ctx)
	_ = client.SetDeadline(time.Time{})
	if err != nil {
		if p.ctx.Err() == nil {
			p.refused(x, host, err)
		} else {
			x.end(errors.New("cut off"))
		}
		return
	}
	c := &opened{conn: server, host: strings.ToLower(host), address: address, beneath: beneath(client), closed: make(chan struct{})}
	p.opened.Store(net.Conn(server), c)
	defer p.opened.Delete(net.Conn(server))
	_ = p.inside.Serve(&oneConn{c: c}) // until it is closed; it speaks HTTP/2 where it sees a *tls.Conn
	_ = server.Close()
	if c.requests.Load() == 0 && p.ctx.Err() == nil {
		p.refused(x, host, errors.New("it closed the connection without a word"))
		return
	}
	// What was asked on it stands in entries of its own.
	x.mu.Lock()
	x.over = true
	x.mu.Unlock()
	p.mu.Lock()
	delete(p.going, x)
	p.mu.Unlock()
}

// refused notes that an app does not take our certificate: from now on connections to this host are passed through.
func (p *Proxy) refused(x *exchange, host string, why error) {
	if p.c.Refused != nil {
		p.c.Refused(host)
	}
	x.mu.Lock()
	x.e.Note = "the app does not trust the certificate of this host for " + fmt.Sprintf("%.200s", host) + "; from now on its connections are passed through, not opened"
	x.mu.Unlock()
	x.end(fmt.Errorf("the app refused the certificate: %w", why))
}

// oneConn is a listener with one connection.
type oneConn struct {
	c    *opened
	once sync.Once
}

// Accept implements net.Listener.
func (l *oneConn) Accept() (c net.Conn, err error) {
	l.once.Do(func() { c = l.c.conn })
	if c != nil {
		return c, nil
	}
	<-l.c.closed
	return nil, io.EOF
}

// Close implements net.Listener.
func (l *oneConn) Close() error { return nil }

// Addr implements net.Listener.
func (l *oneConn) Addr() net.Addr { return l.c.conn.LocalAddr() }

// pass copies in both directions until one has ended, and tells what is known without opening.
func (p *Proxy) pass(x *exchange, client, up net.Conn, note string) {
	defer up.Close()
	hello := &sniffed{}
	var sent, received atomic.Int64
	x.mu.Lock()
	x.e.Note = note
	x.mu.Unlock()
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		select {
		case <-p.ctx.Done():
			_ = up.Close()
			_ = client.Close()
		case <-stop:
		}
	}()
	var both sync.WaitGroup
	both.Go(func() {
		_ = p.copy(up, client, &sent, nil)
		if t, ok := up.(interface{ CloseWrite() error }); ok {
			_ = t.CloseWrite()
		}
	})
	err := p.copy(client, up, &received, hello)
	_ = client.Close() // the other direction ends with it
	both.Wait()
	x.mu.Lock()
	x.e.Sent, x.e.Received, x.e.TLS = sent.Load(), received.Load(), hello.version()
	if note == "" && x.e.TLS == "" && received.Load() > 0 {
		x.e.Note = "it is no TLS"
	}
	x.mu.Unlock()
	if p.ctx.Err() != nil {
		err = errors.New("it went on when the recording ended")
	} else if p.shape.now().Offline {
		err = errOffline
	}
	x.end(err)
}

func (p *Proxy) copy(to io.Writer, from io.Reader, count *atomic.Int64, see io.Writer) error {
	buf := p.pool.Get().(*[]byte)
	defer p.pool.Put(buf)
	for {
		n, err := from.Read(*buf)
		if n > 0 {
			count.Add(int64(n))
			if see != nil {
				_, _ = see.Write((*buf)[:n])
			}
			if _, werr := to.Write((*buf)[:n]); werr != nil {
				return nil // who was to get it has gone: that ends a connection as well
			}
		}
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) {
				return nil
			}
			return err
		}
	}
}

const (
	recordHandshake = 22
	serverHello     = 2
	maxHello        = 4 << 10
)

// sniffed reads the version of TLS from a ServerHello (RFC 8446, section 4.1.3) that goes by.
type sniffed struct{ b []byte }

func (s *sniffed) Write(b []byte) (int, error) {
	if room := maxHello - len(s.b); room > 0 {
		s.b = append(s.b, b[:min(room, len(b))]...)
	}
	return len(b), nil
}

func (s *sniffed) version() string {
	b := s.b
	if len(b) < 5+4+2+32+1 || b[0] != recordHandshake || b[5] != serverHello {
		return ""
	}
	version := binary.BigEndian.Uint16(b[9:])
	b = b[9+2+32:]
	skip := 1 + int(b[0]) + 2 + 1 // session, cipher suite, compression
	if len(b) < skip+2 {
		return tlsName(version)
	}
	b = b[skip+2:]
	for len(b) >= 4 {
		kind, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if len(b) < 4+n {
			break
		}
		if kind == 43 && n == 2 { // supported_versions
			version = binary.BigEndian.Uint16(b[4:])
		}
		b = b[4+n:]
	}
	return tlsName(version)
}
