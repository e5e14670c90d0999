package phone

// The phone's network: what its apps ask of servers, through the proxy where one is set.

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"
)

// addedCertificates is where the system keeps those that a person has added.
const addedCertificates = "/data/misc/user/0/cacerts-added/"

// Trust adds a certificate, as a person does in the settings. Apps that allow such certificates trust it from now on.
func (p *Phone) Trust(c *x509.Certificate) {
	p.put(addedCertificates+fmt.Sprintf("%08x.0", bytesum(c.RawSubject)), &file{append([]byte(nil), c.Raw...), 0o100644, p.now()})
}

func bytesum(b []byte) (n uint32) {
	for _, x := range b {
		n = n*31 + uint32(x)
	}
	return n
}

// roots are the certificates that an app trusts: the system's, and where it allows them, those that a person has added.
func (p *Phone) roots(added bool) *x509.CertPool {
	pool := x509.NewCertPool()
	if p.traits.System != nil {
		pool.AddCert(p.traits.System)
	}
	if !added {
		return pool
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for name, f := range p.files {
		if path.Dir(name)+"/" != addedCertificates {
			continue
		}
		if c, err := x509.ParseCertificate(f.data); err == nil {
			pool.AddCert(c)
		}
	}
	return pool
}

// Setting is how a setting of Android's tables stands, such as global/http_proxy.
func (p *Phone) Setting(name string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.settings[name]
}

const fetchLimit = 30 * time.Second

// fetch asks a server. A pinned request trusts nothing that a person has added; one that fails before it was sent is tried once more, as most libraries for apps do.
func (p *Phone) fetch(ctx context.Context, id, method, target string, body []byte, pinned bool) (status int, answer []byte, err error) {
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	for range 2 {
		status, answer, err = p.fetchOnce(ctx, method, target, body, pinned)
		var unknown x509.UnknownAuthorityError
		if !errors.As(err, &unknown) {
			return status, answer, err
		}
		p.log("main", p.pid(id), 'W', "Tides", "javax.net.ssl.SSLHandshakeException: %v", err)
	}
	return status, answer, err
}

func (p *Phone) pid(id string) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	if in := p.apps[id]; in != nil && in.proc != nil {
		return in.proc.pid
	}
	return 0
}

// offline says whether the phone has no network.
func (p *Phone) offline() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.settings["global/airplane_mode_on"] == "1" || p.settings["global/wifi_on"] == "0" && p.settings["global/mobile_data"] == "0"
}

func (p *Phone) fetchOnce(ctx context.Context, method, target string, body []byte, pinned bool) (int, []byte, error) {
	p.mu.Lock()
	proxy := p.settings["global/http_proxy"]
	p.mu.Unlock()
	offline := p.offline()
	if p.traits.NoProxy {
		proxy = ""
	}
	t := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := p.dial(ctx, network, address, offline)
		if err != nil {
			return nil, err
		}
		return &metered{Conn: c, p: p}, nil
	}, TLSClientConfig: &tls.Config{RootCAs: p.roots(!pinned)}, ForceAttemptHTTP2: true}
	if proxy != "" && proxy != ":0" {
		t.Proxy = http.ProxyURL(&url.URL{Scheme: "http", Host: proxy})
	}
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Kelpline/1 (Android "+p.traits.Android+")")
	resp, err := (&http.Client{Transport: t}).Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return resp.StatusCode, answer, err
}

// dial opens a connection: to a port that leads to the host, or to a server whose name the phone's traits know.
func (p *Phone) dial(ctx context.Context, network, address string, offline bool) (net.Conn, error) {
	host, port, _ := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	if host == "localhost" || strings.HasSuffix(host, ".localhost") || ip.IsLoopback() || ip.IsUnspecified() { // the phone itself, never the machine that it is simulated on
		n, _ := strconv.Atoi(port)
		return p.dialReverse(ctx, n)
	}
	if offline {
		return nil, fmt.Errorf("java.net.UnknownHostException: Unable to resolve host %q: No address associated with hostname", host)
	}
	if known := p.traits.named(address); known != "" {
		address = known
	} else if ip == nil {
		return nil, fmt.Errorf("java.net.UnknownHostException: Unable to resolve host \"%s\"", host)
	} else if ip.IsLinkLocalUnicast() { // neighbours of that machine, no phone's
		return nil, fmt.Errorf("java.net.ConnectException: Failed to connect to /%s: ENETUNREACH (Network is unreachable)", address)
	}
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// named finds where a name is: with its port, else without.
func (t Traits) named(address string) string {
	host, _, _ := strings.Cut(address, ":")
	if to := t.Network[address]; to != "" {
		return to
	}
	return t.Network[host]
}

// metered counts what goes over a connection.
type metered struct {
	net.Conn
	p *Phone
}

func (m *metered) Read(b []byte) (int, error) {
	n, err := m.Conn.Read(b)
	m.p.mu.Lock()
	m.p.load.in += int64(n)
	m.p.mu.Unlock()
	return n, err
}

func (m *metered) Write(b []byte) (int, error) {
	n, err := m.Conn.Write(b)
	m.p.mu.Lock()
	m.p.load.out += int64(n)
	m.p.mu.Unlock()
	return n, err
}
