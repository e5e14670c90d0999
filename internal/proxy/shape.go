package proxy

// The conditions of a network, on the connections of the device.
//
// The proxy stands between the device and all servers: what goes to and from the device is held back here. Each turn of a conversation takes a round trip
// more; a rate is shared by all connections of the device; a packet that is lost is sent again, which takes a retransmission timeout (RFC 6298, section 2.4).

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"sync"
	"time"

	"tessellant/internal/core/netprofile"
)

// errOffline is what a device without a network meets.
var errOffline = errors.New("the network was switched off (offline)")

const (
	packet = 1460     // bytes of a TCP segment on an Ethernet
	slice  = 16 << 10 // that are sent at once at most, so that a slow connection flows
	again  = 200      // ms: the least retransmission timeout
)

// shape holds what goes through a proxy back, as its profile says.
type shape struct {
	mu       sync.Mutex
	profile  netprofile.Profile
	changed  chan struct{} // closed when the profile is another
	down, up time.Time     // until when the line is busy in each direction
	rnd      *rand.Rand
	conns    map[*shaped]bool
}

func newShape() *shape {
	return &shape{changed: make(chan struct{}), rnd: rand.New(rand.NewPCG(17, 42)), conns: map[*shaped]bool{}}
}

// set changes the profile from now on. Offline cuts what is connected.
func (s *shape) set(p netprofile.Profile) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.profile, s.down, s.up = p, time.Time{}, time.Time{}
	close(s.changed)
	s.changed = make(chan struct{})
	if p.Offline {
		for c := range s.conns {
			c.cut()
		}
	}
}

func (s *shape) now() netprofile.Profile {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.profile
}

// holds says how long n bytes in one direction take, from now; turn: the direction has just changed.
func (s *shape) holds(n int, down, turn bool) (time.Duration, <-chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.profile
	rate, busy := p.Up, &s.up
	if down {
		rate, busy = p.Down, &s.down
	}
	now := time.Now()
	wait := time.Duration(0)
	if rate > 0 {
		if busy.Before(now) {
			*busy = now
		}
		*busy = busy.Add(time.Duration(float64(n) * 8 / float64(rate) * float64(time.Second)))
		wait = busy.Sub(now)
	}
	if turn {
		wait += p.RTT / 2
	}
	if p.Loss > 0 {
		for range (n + packet - 1) / packet {
			if s.rnd.Float64()*100 < p.Loss {
				wait += max(p.RTT, again*time.Millisecond)
			}
		}
	}
	return wait, s.changed
}

// shaped is a connection of the device.
type shaped struct {
	net.Conn
	s       *shape
	ctx     context.Context
	done    context.CancelFunc
	mu      sync.Mutex
	writing bool // the last bytes went to the device
	begun   bool
	held    time.Duration // for which what the device sends now was held back
	free    int           // bytes to the device that no turn is counted for: they are the proxy's own
}

// conn takes a connection of the device in; nil: there is no network, and it was closed.
func (s *shape) conn(c net.Conn) *shaped {
	x := &shaped{Conn: c, s: s, writing: true}
	x.ctx, x.done = context.WithCancel(context.Background())
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.profile.Offline {
		_ = c.Close()
		return nil
	}
	s.conns[x] = true
	return x
}

// cut ends a connection as a network that goes away does.
func (c *shaped) cut() {
	c.done()
	if t, ok := c.Conn.(*net.TCPConn); ok {
		_ = t.SetLinger(0)
	}
	_ = c.Conn.Close()
}

// Close implements net.Conn.
func (c *shaped) Close() error {
	c.s.mu.Lock()
	delete(c.s.conns, c)
	c.s.mu.Unlock()
	c.done()
	return c.Conn.Close()
}

// wait holds back, until the profile changes.
func (c *shaped) wait(n int, down, turn bool) {
	d, changed := c.s.holds(n, down, turn)
	if d <= 0 {
		return
	}
	t := time.NewTimer(d)
	defer t.Stop()
	start := time.Now()
	select {
	case <-t.C:
	case <-changed:
	case <-c.ctx.Done():
	}
	if !down {
		c.mu.Lock()
		c.held += time.Since(start)
		c.mu.Unlock()
	}
}

// takeHeld says for how long the request that has just come was held back, once: so much earlier the device sent it.
func (c *shaped) takeHeld() (d time.Duration) {
	if c == nil {
		return 0
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	d, c.held = c.held, 0
	return d
}

// turns notes in which direction bytes go, and says whether that has just changed.
func (c *shaped) turns(writing bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := c.writing
	c.writing = writing
	return was != writing
}

// Read implements net.Conn: what the device sends. Before its first bytes stands the round trip of the connection itself.
func (c *shaped) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if n > 0 {
		first := !c.begun
		c.begun = true
		c.wait(n, false, c.turns(false))
		if first {
			c.wait(0, true, true)
			c.wait(0, false, true)
		}
	}
	return n, err
}

// Write implements net.Conn: what the device gets.
func (c *shaped) Write(b []byte) (int, error) {
	if c.s.now().Full() { // as nearly always
		c.turns(true)
		return c.Conn.Write(b)
	}
	sent := 0
	for sent < len(b) {
		part := b[sent:min(sent+slice, len(b))]
		c.mu.Lock()
		own := min(c.free, len(part))
		c.free -= own
		c.mu.Unlock()
		if own < len(part) {
			c.wait(len(part), true, c.turns(true))
		}
		n, err := c.Conn.Write(part)
		if sent += n; err != nil {
			return sent, err
		}
	}
	return sent, nil
}
