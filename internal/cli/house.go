package cli

import (
	"context"
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
	"tessellant/internal/lab"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/localdb"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

// houseConfig is what serve can be told.
type houseConfig struct {
	Listen    string
	Data      string
	Database  string // DSN; "": a MariaDB of our own
	Blobs     string // a folder; "": one in Data
	ADB       string // as --adb-server has it
	Emulators bool   // those on this machine are looked for, where the adb server is our own
	Bus       string // URL of a NATS server; "": one of our own
	BusListen string // where that listens for hosts; "": any port of loopback
	NoHost    bool   // without the built-in host
	OpenBox   bool   // programs run even where they can't be kept apart
	Retention service.Retention
	Connect   []string
	Workspace string
	FirstKey  string
	Log       *slog.Logger
}

// house is the running service with all that it started.
type house struct {
	URL string
	Key string // the first key, when it was made just now

	closers []func() // in the order they are to be undone, last first
}

// Close stops everything, what was started last first.
func (h *house) Close() {
	for i := len(h.closers) - 1; i >= 0; i-- {
		h.closers[i]()
	}
	h.closers = nil
}

func (h *house) onClose(f func()) { h.closers = append(h.closers, f) }

// startHouse starts database, service, adb server and the built-in host.
func startHouse(ctx context.Context, c houseConfig) (h *house, err error) {
	h = &house{}
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
	unlock, err := lockFolder(c.Data)
	if err != nil {
		return nil, err
	}
	h.onClose(unlock)
	// Listening comes first: a port that is taken is said before anything is started.
	l, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; choose another address with --listen", c.Listen, err)
	}
	h.onClose(func() { _ = l.Close() })
	h.URL = "http://" + l.Addr().String()
	if err := h.openDatabase(ctx, &c); err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, c.Database)
	if err != nil {
		return nil, err
	}
	h.onClose(func() { _ = st.Close() })
	bl, err := h.openBlobs(ctx, c)
	if err != nil {
		return nil, err
	}
	reach := service.Reach{External: c.Bus}
	var messages *bus.NATS
	if c.Bus != "" {
		messages, err = bus.Connect(c.Bus, bus.Secret{})
	} else {
		if c.BusListen == "" {
			c.BusListen = "127.0.0.1:0"
		}
		messages, err = bus.Embed(c.BusListen)
	}
	if err != nil {
		return nil, err
	}
	h.onClose(messages.Close)
	if c.Bus == "" {
		reach.Address, reach.Secret = messages.Address, messages.Secret
	}
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	svc := service.New(service.Config{Store: st, Blobs: bl, Bus: messages, Log: c.Log, Version: Version, Reach: reach})
	metrics.MustRegister(svc.Collector())
	if h.Key, err = svc.FirstKey(ctx, c.Workspace, c.FirstKey); err != nil {
		return nil, err
	}
	run, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var all sync.WaitGroup
	if !c.NoHost {
		server, err := findADB(ctx, c.ADB, filepath.Join(c.Data, "adb"))
		if err != nil {
			cancel()
			return nil, err
		}
		h.onClose(server.stop)
		c.Log.Info("devices come from " + server.found)
		box := openBox(ctx, c.Log)
		h.onClose(box.Close)
		beside := host.New(host.Config{Name: service.BuiltIn, Dir: filepath.Join(c.Data, "host"), Labs: []lab.Maker{adblab.Maker(adblab.Config{Server: server.Server, Emulators: emulatorPorts(c.Emulators && server.ours), Connect: c.Connect, Log: c.Log})}, Link: svc.HostLink(), Log: c.Log, Box: box, OpenBox: c.OpenBox})
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
	h.onClose(func() { cancel(); all.Wait() })
	stopAnswering, err := svc.AnswerHosts()
	if err != nil {
		return nil, err
	}
	h.onClose(stopAnswering)
	all.Go(func() { svc.Dispatch(run) })
	web := httpd.Server(svc, metrics)
	web.RegisterOnShutdown(svc.Feed.End)
	all.Go(func() { svc.Follow(run) })
	all.Go(func() { svc.ReadAhead(run) })
	all.Go(func() { svc.ClearOld(run, c.Retention) })
	all.Go(func() {
		if err := web.Serve(httpd.Bounded(l)); err != nil && !errors.Is(err, http.ErrServerClosed) {
			c.Log.Error("the HTTP server ended", "err", err)
		}
	})
	h.onClose(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := web.Shutdown(ctx); err != nil {
			_ = web.Close()
		}
	})
	return h, nil
}

// openDatabase starts a database of our own where none is given.
func (h *house) openDatabase(ctx context.Context, c *houseConfig) error {
	if c.Database != "" {
		return nil
	}
	db, err := localdb.Start(ctx, filepath.Join(c.Data, "database"))
	if err != nil {
		return err
	}
	h.onClose(db.Close)
	c.Database = db.DSN
	return nil
}

func (h *house) openBlobs(ctx context.Context, c houseConfig) (bl *blobs.Store, err error) {
	if c.Blobs == "" {
		bl, err = blobs.OpenFolder(filepath.Join(c.Data, "blobs"))
	} else {
		bl, err = blobs.Open(c.Blobs)
	}
	if err == nil {
		h.onClose(func() { _ = bl.Close() })
	}
	return bl, err
}

// newLogger gives the structured log.
func newLogger(w io.Writer, level, format string) (*slog.Logger, error) {
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
