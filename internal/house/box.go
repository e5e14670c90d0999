package house

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"tessellant/internal/sandbox"
)

// OpenBox sees how programs of packages can be kept apart; nil: not at all, and none are run.
// Refused are addresses, of databases and buses, that no program reaches.
func OpenBox(ctx context.Context, log *slog.Logger, refused ...string) *sandbox.Box {
	box, err := sandbox.Probe(ctx, "")
	if err != nil {
		log.Warn("no programs of packages can be run here", "err", err)
		return nil
	}
	for _, address := range refused {
		box.Refused = append(box.Refused, addressesOf(ctx, address)...)
	}
	if box.Level != sandbox.Tight {
		log.Warn("programs of packages can't be kept apart here", "why", box.Why)
	}
	return box
}

// addressesOf finds the addresses in host:port, a URL or a database's name; none where there are none, or they can't be found now.
func addressesOf(ctx context.Context, address string) (out []netip.Addr) {
	if cfg, err := mysql.ParseDSN(address); err == nil && cfg.Net == "tcp" {
		address = cfg.Addr
	}
	for _, one := range strings.Split(address, ",") {
		if u, err := url.Parse(one); err == nil && u.Host != "" {
			one = u.Host
		}
		host, _, err := net.SplitHostPort(one)
		if err != nil {
			host = one
		}
		look, cancel := context.WithTimeout(ctx, 2*time.Second)
		found, _ := net.DefaultResolver.LookupNetIP(look, "ip4", host)
		cancel()
		out = append(out, found...)
	}
	return out
}
