package house

import (
	"crypto/x509"
	"log/slog"
	"os"

	"tessellant/internal/host/record"
	"tessellant/internal/proxy"
)

// OpenOutlet makes what the proxies of a host share; the certificate by which they open HTTPS lies in dir. Without one that can be read, nothing is opened.
func OpenOutlet(dir, version string, names map[string]string, roots *x509.CertPool, log *slog.Logger) *record.Outlet {
	o := &record.Outlet{Names: names, Roots: roots, Version: version}
	err := os.MkdirAll(dir, 0o700)
	if err == nil {
		o.Authority, err = proxy.OpenAuthority(dir)
	}
	if err != nil {
		log.Warn("the network logs of this host open no HTTPS", "err", err)
	}
	return o
}
