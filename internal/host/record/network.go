package record

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"

	"tessellant/internal/core/har"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/netprofile"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/host/routes"
	"tessellant/internal/host/spool"
	"tessellant/internal/proxy"
)

// Outlet is what all proxies of a host share.
type Outlet struct {
	Authority *proxy.Authority  // nil: no HTTPS is opened
	Names     map[string]string // hosts that are found elsewhere than their name says
	Roots     *x509.CertPool    // certificates that servers are trusted by; nil: the system's
	Version   string            // of the program, which network logs name

	mu      sync.Mutex
	refused map[string]bool // app and host whose connections are passed through
}

const maxRefused = 10_000

// refuse notes that an app does not take our certificate for a host.
func (o *Outlet) refuse(app, host string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.refused == nil || len(o.refused) >= maxRefused {
		o.refused = map[string]bool{}
	}
	o.refused[app+" "+host] = true
}

func (o *Outlet) refuses(app, host string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.refused[app+" "+host]
}

// Routes are the ways by which an attempt's apps reach people's own machines.
type Routes = routes.Routes

// NewRoutes makes those of an attempt, which stand on its timeline.
func NewRoutes(on *Timeline) *Routes {
	r := routes.New()
	r.Note = func(name, answer string) {
		on.Note(timeline.Event{Kind: timeline.Marker, Name: name, Answer: answer})
	}
	return r
}

// Network is what an attempt's apps reach the network through. It keeps what went through, and is as the conditions say.
type Network struct {
	timeline *Timeline
	mask     *masking.Mask
	proxy    *proxy.Proxy
	listener net.Listener
	out      *os.File // nil: nothing is kept
	entries  lines

	mu    sync.Mutex
	base  netprofile.Profile // that the work wants
	count int
	left  int // entries that had no room
	err   error

	hear func(e har.Entry, ended bool) // nil: nobody listens
}

const (
	maxExchanges = 200_000
	maxNetwork   = 192 << 20 // bytes
)

// NetworkOptions say how a network log is kept.
type NetworkOptions struct {
	Dir    string // ""; nothing is kept
	App    string
	Opens  bool // HTTPS is opened: the device trusts us
	Routes *Routes
}

// NewNetwork opens the proxy of an attempt. Port is where it listens on this machine.
func NewNetwork(q NetworkOptions, o *Outlet, t *Timeline, mask *masking.Mask, room *spool.Share) (n *Network, port int, err error) {
	n = &Network{timeline: t, mask: mask}
	if q.Dir != "" {
		if n.out, err = os.OpenFile(filepath.Join(q.Dir, tracks.Network), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
			return nil, 0, err
		}
		if _, err = n.out.WriteString(har.Head(o.Version)); err != nil {
			return nil, 0, err
		}
		n.entries = lines{out: n.out, share: room, size: int64(len(har.Head(o.Version)))}
	}
	if n.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, 0, fmt.Errorf("the proxy of the network log can't listen: %w", err)
	}
	c := proxy.Config{Names: o.Names, Roots: o.Roots, Asked: n.asked, Seen: n.seen, Clock: t.At, Routes: q.Routes}
	if q.Opens && o.Authority != nil {
		c.Authority = o.Authority
		c.Opens = func(host string) bool { return !o.refuses(q.App, host) }
		c.Refused = func(host string) { o.refuse(q.App, host) }
	}
	n.proxy = proxy.New(c)
	address, _ := n.listener.Addr().(*net.TCPAddr)
	return n, address.Port, nil
}

// Name implements Recorder.
func (n *Network) Name() string { return recording.Network }

// Record implements Recorder.
func (n *Network) Record(ctx context.Context) error {
	defer context.AfterFunc(ctx, n.proxy.Close)()
	if err := n.proxy.Serve(n.listener); err != nil && ctx.Err() == nil {
		return err
	}
	<-ctx.Done()
	n.proxy.Close()
	return nil
}

// Hear has f told of what apps ask from now on, and, ended, of what came of it: secrets are hidden in it. It must not wait. Nil: nobody is told any more.
func (n *Network) Hear(f func(e har.Entry, ended bool)) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.hear = f
}

func (n *Network) listens() func(e har.Entry, ended bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.hear
}

// hide hides secrets in an entry.
func (n *Network) hide(e *har.Entry) {
	e.At = max(e.At, 1)
	e.Text(n.mask.Text)
	e.Hide()
}

// asked takes in what is known of a request that is about to be sent on.
func (n *Network) asked(e har.Entry) {
	if hear := n.listens(); hear != nil {
		n.hide(&e)
		hear(e, false)
	}
}

// seen takes an entry in.
func (n *Network) seen(e har.Entry) {
	hear := n.listens()
	if hear == nil && n.out == nil {
		return
	}
	n.hide(&e)
	if hear != nil {
		hear(e, true)
	}
	if n.out == nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	line, err := e.Line(n.count == 0)
	switch {
	case n.err != nil:
	case err != nil || len(line) > har.MaxLine || n.count >= maxExchanges || n.entries.size+int64(len(line)) > maxNetwork:
		n.left++
	default:
		if n.err = n.entries.add(line); n.err == nil {
			n.count++
		}
	}
}

// Set sets how the network is from now on, without a word on the timeline: a command of a session says it.
func (n *Network) Set(p netprofile.Profile) { n.proxy.Shape(p) }

// Shape sets how the network is until Restore; whole: until the end of the attempt.
func (n *Network) Shape(p netprofile.Profile, whole bool) {
	n.mu.Lock()
	if whole {
		n.base = p
	}
	n.mu.Unlock()
	n.proxy.Shape(p)
	n.timeline.Note(timeline.Event{Kind: timeline.Command, Name: "network", Args: map[string]string{"to": p.Name}, Answer: p.Numbers()})
}

// Restore puts back how the work wants the network.
func (n *Network) Restore() {
	n.mu.Lock()
	p := n.base
	n.mu.Unlock()
	n.proxy.Shape(p)
}

// Count is how many entries were kept by now.
func (n *Network) Count() int {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.count
}

// CompleteNetwork ends the network log that a process left that was killed, in the folder of its attempt: as it stands, it is no JSON.
func CompleteNetwork(dir string) error {
	name := filepath.Join(dir, tracks.Network)
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	end := make([]byte, min(st.Size(), har.MaxLine))
	if _, err := f.ReadAt(end, st.Size()-int64(len(end))); err != nil {
		return err
	}
	last := bytes.LastIndexByte(end, '\n')
	if last < 0 || bytes.HasSuffix(end, []byte(har.Tail)) {
		return nil // it has not begun, or is whole
	}
	whole := st.Size() - int64(len(end)) + int64(last+1) // it may have been cut off within a line
	if _, err := f.WriteAt([]byte(har.Tail), whole); err != nil {
		return err
	}
	return f.Truncate(whole + int64(len(har.Tail)))
}

// Close implements Recorder.
func (n *Network) Close() error {
	n.proxy.Close()
	_ = n.listener.Close()
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.out == nil {
		return nil
	}
	var left error
	if n.left > 0 {
		left = fmt.Errorf("%d exchanges had no room in the network log", n.left)
	}
	_, err := n.out.WriteAt([]byte(har.Tail), n.entries.size)
	return errors.Join(n.err, left, err, n.out.Sync(), n.out.Close())
}
