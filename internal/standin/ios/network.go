package ios

// The way of the phone's apps to servers.

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// Network is where the names are that apps ask for, and whose certificates they trust.
type Network struct {
	Hosts  map[string]string // host name, with its port or without → address:port
	System *x509.Certificate
}

const fetchLimit = 30 * time.Second

func (n Network) fetch(ctx context.Context, method, target string, body []byte) (int, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	roots := x509.NewCertPool()
	if n.System != nil {
		roots.AddCert(n.System)
	}
	t := &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, _ := strings.Cut(address, ":")
		to := n.Hosts[address]
		if to == "" {
			to = n.Hosts[host]
		}
		if to == "" {
			return nil, fmt.Errorf("A server with the hostname %s could not be found", host) //nolint:staticcheck // as iOS words it
		}
		return (&net.Dialer{}).DialContext(ctx, network, to)
	}}
	r, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "Kelpline/1 CFNetwork Darwin")
	resp, err := (&http.Client{Transport: t}).Do(r)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return resp.StatusCode, answer, err
}
