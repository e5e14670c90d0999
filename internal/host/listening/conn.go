package listening

// A connection of a client: commands come in, answers and events go out.

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/w3c"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
)

const (
	maxQueue   = 2000    // messages that wait to be taken
	maxQueued  = 8 << 20 // bytes of them, besides one
	maxWorking = 16      // commands at once
)

// conn is one connection of a client.
type conn struct {
	s    *Session
	to   hostlink.Stream
	out  chan []byte
	once sync.Once
	why  string
	gone chan struct{} // closed when nothing more is to be said

	mu     sync.Mutex
	queued int // bytes
}

// Errors of who wants to listen.
var (
	ErrFull = errors.New("as many connections as a session may have are open")
	ErrOver = errors.New("the session has ended")
)

// Listen takes a connection in: frames of the kind hostlink.FrameText, each a message. It answers at once.
func (s *Session) Listen(to hostlink.Stream) error {
	c := &conn{s: s, to: to, out: make(chan []byte, maxQueue), gone: make(chan struct{})}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.over:
		return ErrOver
	case len(s.conns) == maxConns:
		return ErrFull
	}
	s.conns = append(s.conns, c)
	s.tasks.Go(c.write)
	s.tasks.Go(func() {
		_ = guard.Run(s.Log, guard.Order, c.read)
		c.end("")
		s.mu.Lock()
		defer s.mu.Unlock()
		s.conns = slices.DeleteFunc(s.conns, func(x *conn) bool { return x == c })
	})
	return nil
}

// end has the connection closed, when what waits has been sent: why is for the client.
func (c *conn) end(why string) {
	c.once.Do(func() {
		c.why = why
		close(c.gone)
		_ = c.to.SetWriteDeadline(time.Now().Add(lastWrites))
	})
}

const (
	tooSlow    = "the client does not take what it is sent"
	lastWrites = 5 * time.Second
)

// say sends a message when its turn comes.
func (c *conn) say(raw []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.queued > 0 && c.queued+len(raw) > maxQueued {
		c.end(tooSlow)
		return
	}
	select {
	case c.out <- raw:
		c.queued += len(raw)
	default:
		c.end(tooSlow)
	}
}

// write sends what is said, until the connection ends.
func (c *conn) write() {
	defer func() {
		if c.why == "" {
			_ = c.to.Close()
		} else {
			_ = c.to.CloseWith(c.why)
		}
	}()
	send := func(raw []byte) bool {
		c.mu.Lock()
		c.queued -= len(raw)
		c.mu.Unlock()
		return hostlink.WriteFrame(c.to, hostlink.FrameText, raw) == nil
	}
	for {
		select {
		case raw := <-c.out:
			if !send(raw) {
				c.end("")
				return
			}
			continue
		case <-c.gone:
		}
		if c.why == tooSlow {
			return
		}
		for {
			select {
			case raw := <-c.out: // what was said before the end
				if !send(raw) {
					return
				}
			default:
				return
			}
		}
	}
}

// read takes commands, until the connection ends.
func (c *conn) read() {
	places := make(chan struct{}, maxWorking)
	var all sync.WaitGroup
	defer all.Wait()
	ctx, cancel := context.WithCancel(c.s.ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { _ = c.to.SetReadDeadline(time.Now()) })()
	go func() {
		select {
		case <-c.gone:
			cancel()
		case <-ctx.Done():
		}
	}()
	for {
		kind, raw, err := hostlink.ReadFrame(c.to, bidi.MaxCommand)
		if err != nil {
			if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
				c.s.Log.Debug("a client that listens is gone", "err", err)
			}
			return
		}
		if kind != hostlink.FrameText {
			c.say(bidi.Failed(0, false, w3c.Fail(w3c.InvalidArgument, "a message must be a text")))
			continue
		}
		c.s.Used()
		x, known, werr := bidi.Read(raw)
		if werr == nil {
			werr = bidi.Refusal(x.Method)
		}
		if werr != nil {
			c.say(bidi.Failed(x.ID, known, werr))
			continue
		}
		if strings.HasPrefix(x.Method, "session.") { // in their order with what comes after
			c.do(ctx, x)
			continue
		}
		select {
		case places <- struct{}{}:
		case <-ctx.Done():
			return
		}
		all.Go(func() {
			defer func() { <-places }()
			if err := guard.Run(c.s.Log, guard.Order, func() { c.do(ctx, x) }); err != nil {
				c.say(bidi.Failed(x.ID, true, w3c.Fail(w3c.UnknownError, "%v", err)))
			}
			c.s.Used()
		})
	}
}

const maxWire = 4 << 10 // bytes of a message in the remote end's log

// do carries a command out, and answers it.
func (c *conn) do(ctx context.Context, x bidi.Command) {
	raw, _ := json.Marshal(x.Params)
	c.s.Wire("client: " + x.Method + " " + foreign.Fit(string(raw), maxWire))
	begun := time.Now()
	result, werr := c.carry(ctx, x)
	out := bidi.Done(x.ID, result)
	if werr != nil {
		out = bidi.Failed(x.ID, true, werr)
	}
	c.s.Wire("answer: after " + strconv.FormatInt(time.Since(begun).Milliseconds(), 10) + " ms " + foreign.Fit(string(out), maxWire))
	if len(out) > bidi.MaxMessage {
		out = bidi.Failed(x.ID, true, w3c.Fail(w3c.UnknownError, "the answer has %d bytes; %d is the most", len(out), bidi.MaxMessage))
	}
	c.say(out)
	if x.Method == "session.end" && werr == nil {
		c.end(hostlink.SessionEnded)
		if c.s.End != nil {
			c.s.End(ctx)
		}
	}
}
