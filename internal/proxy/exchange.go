package proxy

// One exchange on its way: what is known of it by now, and its times.

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/har"
)

type exchange struct {
	p     *Proxy
	start time.Time

	mu       sync.Mutex
	e        har.Entry
	over     bool
	asks     *tap
	reqHead  http.Header
	answers  *tap
	switched *duplex
	respHead http.Header

	dns, conn, ssl        time.Time // when each began
	got, wrote, firstByte time.Time
}

// asked takes in what a request says.
func (x *exchange) asked(r *http.Request, tlsVersion string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.e.TLS = tlsVersion
	x.e.Request.HTTPVersion = r.Proto
	x.reqHead = r.Header.Clone()
	x.e.Request.Headers = pairs(r.Header)
	x.e.Request.Query = pairs(r.URL.Query())
	if r.Body != nil && r.Body != http.NoBody {
		x.asks = &tap{ReadCloser: r.Body}
		r.Body = x.asks
	}
}

// now is what is known of the exchange.
func (x *exchange) now() har.Entry {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.e
}

// trace notes the times of a request on its way.
func (x *exchange) trace(r *http.Request) {
	note := func(to *time.Time) {
		x.mu.Lock()
		defer x.mu.Unlock()
		if to.IsZero() {
			*to = time.Now()
		}
	}
	since := func(from *time.Time, to *float64) {
		x.mu.Lock()
		defer x.mu.Unlock()
		if !from.IsZero() {
			*to = ms(time.Since(*from))
		}
	}
	*r = *r.WithContext(httptrace.WithClientTrace(r.Context(), &httptrace.ClientTrace{
		DNSStart:             func(httptrace.DNSStartInfo) { note(&x.dns) },
		DNSDone:              func(httptrace.DNSDoneInfo) { since(&x.dns, &x.e.Timings.DNS) },
		ConnectStart:         func(string, string) { note(&x.conn) },
		ConnectDone:          func(string, string, error) { since(&x.conn, &x.e.Timings.Connect) },
		TLSHandshakeStart:    func() { note(&x.ssl) },
		TLSHandshakeDone:     func(tls.ConnectionState, error) { since(&x.ssl, &x.e.Timings.SSL) },
		GotFirstResponseByte: func() { note(&x.firstByte) },
		WroteRequest:         func(httptrace.WroteRequestInfo) { note(&x.wrote) },
		GotConn: func(i httptrace.GotConnInfo) {
			note(&x.got)
			x.mu.Lock()
			defer x.mu.Unlock()
			x.e.Server, _, _ = net.SplitHostPort(i.Conn.RemoteAddr().String())
		},
	}))
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// answered takes in what an answer says; the exchange ends with its body.
func (x *exchange) answered(r *http.Response) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.respHead = r.Header.Clone()
	// "200 OK" is the status with its text.
	_, text, _ := strings.Cut(r.Status, " ")
	x.e.Response.Status, x.e.Response.StatusText, x.e.Response.HTTPVersion = r.StatusCode, strings.ToValidUTF8(fmt.Sprintf("%.200s", text), "\uFFFD"), r.Proto
	x.e.Response.Headers, x.e.Response.RedirectURL = pairs(r.Header), fmt.Sprintf("%.*s", maxURL, r.Header.Get("Location"))
	x.answers = &tap{ReadCloser: r.Body}
	if rw, ok := r.Body.(io.ReadWriteCloser); ok && r.StatusCode == http.StatusSwitchingProtocols {
		x.e.Kind = har.WebSocket
		if up := r.Header.Get("Upgrade"); !strings.EqualFold(up, "websocket") {
			x.e.Note = fmt.Sprintf("switched to %.60q", up)
		}
		x.switched = &duplex{tap: x.answers, w: rw}
		r.Body = x.switched
		return
	}
	r.Body = x.answers
}

// end completes the entry and tells it, once.
func (x *exchange) end(err error) {
	x.mu.Lock()
	if x.over {
		x.mu.Unlock()
		return
	}
	x.over = true
	now := time.Now()
	e := &x.e
	e.Time = ms(now.Sub(x.start))
	if err == nil {
		err = x.answers.failed()
	}
	if err != nil {
		e.Error = fmt.Sprintf("%.1000s", err.Error())
	}
	sent, asked := x.asks.seen()
	received, answered := x.answers.seen()
	if x.switched != nil {
		sent, answered = x.switched.wrote(), nil
	}
	if e.Kind != har.Connection {
		e.Sent, e.Received = sent, received
	}
	if e.Kind == har.HTTP {
		e.Request.BodySize, e.Response.BodySize = sent, received
		if sent > 0 {
			c := content(x.reqHead, sent, asked)
			e.Request.Post = &c
		}
		if x.respHead != nil {
			e.Response.Content = content(x.respHead, received, answered)
		}
		x.times(now)
	}
	done := x.e
	x.mu.Unlock()
	x.p.mu.Lock()
	delete(x.p.going, x)
	x.p.mu.Unlock()
	if x.p.c.Seen != nil {
		x.p.c.Seen(done)
	}
}

// times works out, under mu, how long each part took.
func (x *exchange) times(now time.Time) {
	t := &x.e.Timings
	t.Blocked = 0
	if !x.got.IsZero() {
		t.Blocked = max(ms(x.got.Sub(x.start))-max(t.DNS, 0)-max(t.Connect, 0)-max(t.SSL, 0), 0)
	}
	t.Send, t.Wait, t.Receive = 0, 0, 0
	if !x.got.IsZero() && !x.wrote.IsZero() {
		t.Send = max(ms(x.wrote.Sub(x.got)), 0)
	}
	if !x.wrote.IsZero() && !x.firstByte.IsZero() {
		t.Wait = max(ms(x.firstByte.Sub(x.wrote)), 0)
	}
	if !x.firstByte.IsZero() {
		t.Receive = max(ms(now.Sub(x.firstByte)), 0)
	}
	if t.SSL >= 0 && t.Connect >= 0 {
		t.Connect += t.SSL // the format counts it there, too
	}
}
