package house

// Encryption: a certificate that is read anew when it was renewed, and a warning where there is none.

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"
)

// certificate is a certificate and its key in two files.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	now     *tls.Certificate
	changed [2]time.Time // when the files last did
}

// encryption gives the configuration for a certificate's files; nil where none is given.
func encryption(cert, key string, log *slog.Logger) (*tls.Config, error) {
	if cert == "" && key == "" {
		return nil, nil //nolint:nilnil // without encryption
	}
	if cert == "" || key == "" {
		return nil, errors.New("--tls-cert and --tls-key belong together: give both")
	}
	c := &certificate{cert: cert, key: key, log: log}
	if _, err := c.get(nil); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}, nil
}

// get gives the certificate as its files have it. While they can't be read, because they are just being renewed or for good, the last one holds.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var changed [2]time.Time
	for i, name := range []string{c.cert, c.key} {
		s, err := os.Stat(name)
		if err != nil {
			return c.keep(err)
		}
		changed[i] = s.ModTime()
	}
	if c.now != nil && changed == c.changed {
		return c.now, nil
	}
	read, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return c.keep(err)
	}
	if c.now != nil {
		c.log.Info("the certificate was renewed", "file", c.cert, "until", read.Leaf.NotAfter)
	}
	c.now, c.changed = &read, changed
	return c.now, nil
}

func (c *certificate) keep(err error) (*tls.Certificate, error) {
	err = fmt.Errorf("the certificate in %s and %s can't be read: %w", c.cert, c.key, err)
	if c.now == nil {
		return nil, err
	}
	c.log.Warn("the certificate in use stays", "err", err)
	return c.now, nil
}

// Beyond says whether an address can be reached from other machines.
func Beyond(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback())
}

// warnOpen says loudly what can be read by others on the network.
func warnOpen(log *slog.Logger, what, address string) {
	if Beyond(address) {
		log.Warn("NOT ENCRYPTED: anybody on the network between can read keys, builds and evidence. Give --tls-cert and --tls-key, or listen on 127.0.0.1 behind a proxy with HTTPS", "what", what, "address", address)
	}
}
