// Package house puts service, built-in host, database, adb server and bus together, and starts them: for serve, the demo, tests, benches and
// faults alike.
package house

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"tessellant/internal/blobs"
	"tessellant/internal/bus"
	"tessellant/internal/host"
	"tessellant/internal/httpd"
	"tessellant/internal/localdb"
	"tessellant/internal/service"
	"tessellant/internal/service/hosts"
	"tessellant/internal/service/secrets"
	"tessellant/internal/store"
)

// Config is what there is to choose.
type Config struct {
	Listen    string
	Data      string
	Database  string // DSN; "": a MariaDB of our own
	Blobs     string // a folder; "": one in Data
	ADB       string // as --adb-server has it
	Emulators bool   // those on this machine are looked for, where the adb server is our own
	Bus       string // URL of a NATS server; "": one of our own
	BusListen string // where that listens for hosts; "": any port of loopback, once a host joins
	TLSCert   string // PEM files of a certificate and its key; "": nothing is encrypted
	TLSKey    string
	// SecretsKey are the keys that seal secret inputs, from the environment; "": a file in Data has them.
	SecretsKey    string
	NewSecretsKey bool   // the key before is lost, and given up
	HostName      string // of the built-in host; "": a name of this data folder's own
	NoHost        bool   // without the built-in host
	OpenBox       bool   // programs run even where they can't be kept apart
	Retention     service.Retention
	Connect       []string
	Labs          string            // a lab file; "": the adb server alone
	Names         map[string]string // hosts that apps ask for, and where the proxies of the built-in host find them
	Roots         *x509.CertPool    // certificates that its proxies trust servers by; nil: the system's
	Workspace     string
	FirstKey      string
	Version       string
	Log           *slog.Logger
}

// House is the running service with all that it started.
type House struct {
	*service.Service
	URL string
	Key string // the first key, when it was made just now

	closers []func() // in the order they are to be undone, last first
}

// Close stops everything, what was started last first.
func (h *House) Close() {
	for i := len(h.closers) - 1; i >= 0; i-- {
		h.closers[i]()
	}
	h.closers = nil
}

// OnClose has something undone when the house closes: before what was begun earlier.
func (h *House) OnClose(f func()) { h.closers = append(h.closers, f) }

// Start starts database, service, adb server and the built-in host.
func Start(ctx context.Context, c Config) (h *House, err error) {
	h = &House{}
	slog.SetDefault(c.Log)
	begun := h // a return of nil must not hide what was started
	defer func() {
		if err != nil {
			begun.Close()
		}
	}()
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	unlock, err := LockFolder(c.Data)
	if err != nil {
		return nil, err
	}
	h.OnClose(unlock)
	// Listening comes first: a port that is taken is said before anything is started.
	l, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; choose another address with --listen", c.Listen, err)
	}
	h.OnClose(func() { _ = l.Close() })
	encrypted, err := encryption(c.TLSCert, c.TLSKey, c.Log)
	if err != nil {
		return nil, err
	}
	h.URL = "http://" + l.Addr().String()
	if encrypted != nil {
		h.URL = "https://" + l.Addr().String()
	} else {
		warnOpen(c.Log, "the service", c.Listen)
	}
	if err := h.OpenDatabase(ctx, &c); err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, c.Database)
	if err != nil {
		return nil, err
	}
	h.OnClose(func() { _ = st.Close() })
	bl, err := h.OpenBlobs(ctx, c)
	if err != nil {
		return nil, err
	}
	messages, reach, err := h.openBus(c, hosts.Gate(st), encrypted)
	if err != nil {
		return nil, err
	}
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	sealing, err := secrets.New(st, c.Log, filepath.Join(c.Data, "secrets.key"), c.SecretsKey)
	if err != nil {
		return nil, err
	}
	if err := sealing.Agree(ctx, c.NewSecretsKey); err != nil {
		return nil, err
	}
	svc := service.New(service.Config{Secrets: sealing, Store: st, Blobs: bl, Bus: messages, Log: c.Log, Version: c.Version, Reach: reach})
	metrics.MustRegister(svc.Collector())
	if h.Key, err = svc.FirstKey(ctx, c.Workspace, c.FirstKey); err != nil {
		return nil, err
	}
	run, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var all sync.WaitGroup
	if !c.NoHost {
		dir := filepath.Join(c.Data, "host")
		labs, err := OpenLabs(ctx, LabsConfig{File: c.Labs, ADB: c.ADB, Connect: c.Connect, Emulators: c.Emulators, Dir: dir, ADBDir: filepath.Join(c.Data, "adb"), OpenBox: c.OpenBox, Names: c.Names, Roots: c.Roots, Log: c.Log})
		if err != nil {
			cancel()
			return nil, err
		}
		h.OnClose(labs.Stop)
		box := OpenBox(ctx, c.Log, append(labs.Refused, c.Database, c.Bus)...)
		h.OnClose(box.Close)
		if c.HostName == "" {
			if c.HostName, err = hostName(dir); err != nil {
				cancel()
				return nil, fmt.Errorf("name the built-in host: %w", err)
			}
		}
		beside := host.New(host.Config{Name: c.HostName, Dir: dir, Labs: labs.Makers, Link: svc.HostLink(), Log: c.Log, Box: box, OpenBox: c.OpenBox, Outlet: OpenOutlet(dir, c.Version, c.Names, c.Roots, c.Log)})
		if err := beside.Begin(); err != nil {
			cancel()
			return nil, err
		}
		all.Go(func() {
			if err := beside.Run(run); err != nil {
				c.Log.Error("the host ended", "err", err)
			}
		})
	}
	h.OnClose(func() { cancel(); all.Wait() })
	stopAnswering, err := svc.AnswerHosts()
	if err != nil {
		return nil, err
	}
	h.OnClose(stopAnswering)
	all.Go(func() { svc.Dispatch(run) })
	h.Service = svc
	web := httpd.Server(svc, metrics)
	web.RegisterOnShutdown(svc.Feed.End)
	all.Go(func() { svc.Follow(run) })
	all.Go(func() { svc.FollowKeys(run) })
	all.Go(func() { svc.ReadAhead(run) })
	all.Go(func() { svc.ClearOld(run, c.Retention) })
	all.Go(func() { svc.KeepTelling(run) })
	all.Go(func() { svc.KeepReading(run) })
	all.Go(func() { svc.KeepProbing(run) })
	all.Go(func() {
		bounded := httpd.Bounded(l)
		serve := func() error { return web.Serve(bounded) }
		if web.TLSConfig = encrypted; encrypted != nil {
			serve = func() error { return web.ServeTLS(bounded, "", "") }
		}
		if err := serve(); err != nil && !errors.Is(err, http.ErrServerClosed) {
			c.Log.Error("the HTTP server ended", "err", err)
		}
	})
	h.OnClose(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := web.Shutdown(ctx); err != nil {
			_ = web.Close()
		}
	})
	return h, nil
}

// openBus opens the way between processes: somebody's server, one of our own, or one that starts when the first host joins.
func (h *House) openBus(c Config, gate bus.Gate, encrypted *tls.Config) (bus.Bus, service.Reach, error) {
	switch {
	case c.Bus != "":
		n, err := bus.Connect(c.Bus, bus.Secret{}, "")
		if err != nil {
			return nil, service.Reach{}, err
		}
		h.OnClose(n.Close)
		return n, service.Reach{External: bus.Bare(c.Bus)}, nil
	case c.BusListen != "":
		if encrypted == nil {
			warnOpen(c.Log, "the bus", c.BusListen)
		}
		n, err := bus.Embed(c.BusListen, gate, encrypted)
		if err != nil {
			return nil, service.Reach{}, err
		}
		h.OnClose(n.Close)
		return n, service.Reach{Open: func() (string, error) { return n.Address, nil }, Drop: n.Drop, Encrypted: encrypted != nil}, nil
	}
	lazy := &bus.Lazy{Listen: "127.0.0.1:0", Gate: gate} // for hosts on this machine
	h.OnClose(lazy.Close)
	return lazy, service.Reach{Open: lazy.Open, Drop: lazy.Drop}, nil
}

// Outlived are things that the house uses and others started: they are undone last.
func (h *House) Outlived(by []func()) { h.closers = append(by, h.closers...) }

// OpenDatabase starts a database of our own where none is given.
func (h *House) OpenDatabase(ctx context.Context, c *Config) error {
	if c.Database != "" {
		return nil
	}
	db, err := localdb.Start(ctx, filepath.Join(c.Data, "database"))
	if err != nil {
		return err
	}
	h.OnClose(db.Close)
	c.Database = db.DSN
	return nil
}

// OpenBlobs opens where builds and evidence are kept.
func (h *House) OpenBlobs(ctx context.Context, c Config) (bl *blobs.Store, err error) {
	if c.Blobs == "" {
		bl, err = blobs.OpenFolder(filepath.Join(c.Data, "blobs"))
	} else {
		bl, err = blobs.Open(c.Blobs)
	}
	if err == nil {
		h.OnClose(func() { _ = bl.Close() })
	}
	return bl, err
}

// Logger gives the structured log.
func Logger(w io.Writer, level, format string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, fmt.Errorf("--log-level is %q; it can be debug, info, warn or error", level)
	}
	o := &slog.HandlerOptions{Level: l}
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, fmt.Errorf("--log-format is %q; it can be text or json", format)
}
