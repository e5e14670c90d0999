package house

import (
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"

	"tessellant/internal/host/record"
	"tessellant/internal/proxy"
)

// BackendHelp says what --backend does.
const BackendHelp = "where the proxies of the network log find a host that apps ask for, if its name is not enough: NAME=HOST:PORT, such as tides.example=127.0.0.1:8080; it can be on this machine. Repeat for more"

// Backends reads NAME=HOST:PORT.
func Backends(all []string) (map[string]string, error) {
	m := map[string]string{}
	for _, x := range all {
		name, to, _ := strings.Cut(x, "=")
		if _, port, err := net.SplitHostPort(to); err != nil || port == "" || name == "" {
			return nil, fmt.Errorf("--backend is %q; write NAME=HOST:PORT, such as tides.example=127.0.0.1:8080", x)
		}
		m[strings.ToLower(name)] = to
	}
	return m, nil
}

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
