// Package tunnel carries connections through one connection: who has the near end asks for a server by its number, who has the far end connects to it.
//
// The connections lie beside each other by yamux (its specification is https://github.com/hashicorp/yamux/blob/master/spec.md), each with a window of its own. One
// begins with the server's number (a byte) and the answer to that: a zero, or the length of the reason why not, and the reason. In: a connection. Out: connections.
package tunnel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/yamux"
)

const (
	// Most is how many connections there may be at once.
	Most       = 512
	answerIn   = 20 * time.Second // a server is connected to
	maxWhy     = 250              // bytes
	closeTakes = 10 * time.Minute // for the other side to close its way, too
)

func config() *yamux.Config {
	c := yamux.DefaultConfig()
	c.AcceptBacklog = Most
	c.KeepAliveInterval = 10 * time.Second
	c.ConnectionWriteTimeout = 20 * time.Second
	c.StreamOpenTimeout = answerIn
	c.StreamCloseTimeout = closeTakes
	c.LogOutput = io.Discard
	return c
}

// Near is the end that asks.
type Near struct{ s *yamux.Session }

// NewNear takes the near end of a connection.
func NewNear(c io.ReadWriteCloser) (*Near, error) {
	s, err := yamux.Client(c, config())
	if err != nil {
		return nil, err
	}
	go func() {
		if _, err := s.AcceptStream(); err == nil { // the far end asks for nothing: it is no tunnel
			_ = s.Close()
		}
	}()
	return &Near{s}, nil
}

// Conn is a connection through a tunnel. CloseWrite says that no more comes, and Close ends it in both ways.
type Conn struct {
	*yamux.Stream
	of *yamux.Session
}

// Read implements net.Conn: where the tunnel was cut, what comes has not ended.
func (c Conn) Read(b []byte) (int, error) {
	n, err := c.Stream.Read(b)
	if errors.Is(err, io.EOF) && c.of.IsClosed() {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// CloseWrite implements what net.TCPConn has.
func (c Conn) CloseWrite() error { return c.Stream.Close() }

// Refused is why the far end could not connect.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// Connect connects to the server of a number.
func (n *Near) Connect(ctx context.Context, number byte) (Conn, error) {
	if n.s.NumStreams() >= Most {
		return Conn{}, fmt.Errorf("%d connections are open already", Most)
	}
	s, err := n.s.OpenStream()
	if err != nil {
		return Conn{}, err
	}
	defer context.AfterFunc(ctx, func() { _ = s.SetDeadline(time.Now()) })()
	_ = s.SetDeadline(time.Now().Add(answerIn))
	why, err := asked(s, number)
	if err == nil && why != "" {
		err = &Refused{why}
	}
	if err == nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		_ = s.Close()
		return Conn{}, err
	}
	_ = s.SetDeadline(time.Time{})
	return Conn{s, n.s}, nil
}

func asked(s net.Conn, number byte) (why string, err error) {
	if _, err := s.Write([]byte{number}); err != nil {
		return "", err
	}
	var n [1]byte
	if _, err := io.ReadFull(s, n[:]); err != nil {
		return "", err
	}
	text := make([]byte, n[0])
	_, err = io.ReadFull(s, text)
	return string(text), err
}

// Gone is closed when the tunnel has ended.
func (n *Near) Gone() <-chan struct{} { return n.s.CloseChan() }

// Close ends the tunnel and what goes through it.
func (n *Near) Close() error { return n.s.Close() }

// Serve is the far end: it connects to servers as the near end asks, until the connection or ctx ends. The error says why: io.EOF, that the near end has ended it.
func Serve(ctx context.Context, c io.ReadWriteCloser, connect func(ctx context.Context, number byte) (net.Conn, error)) error {
	s, err := yamux.Server(c, config())
	if err != nil {
		return err
	}
	defer s.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(ctx, func() { _ = s.Close() })()
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel(nil)
	defer s.Close()
	places := make(chan struct{}, Most)
	for {
		one, err := s.AcceptStreamWithContext(ctx)
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				return cause
			}
			return err
		}
		select {
		case places <- struct{}{}:
		default: // the near end does not ask for as many
			_ = one.Close()
			continue
		}
		all.Go(func() {
			defer func() { <-places }()
			serve(ctx, Conn{one, s}, connect)
		})
	}
}

// serve connects one.
func serve(ctx context.Context, c Conn, connect func(context.Context, byte) (net.Conn, error)) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(answerIn))
	var number [1]byte
	if _, err := io.ReadFull(c, number[:]); err != nil {
		return
	}
	short, cancel := context.WithTimeout(ctx, answerIn)
	server, err := connect(short, number[0])
	cancel()
	if err != nil {
		why := err.Error()
		why = strings.ToValidUTF8(why[:min(len(why), maxWhy)], "")
		_, _ = c.Write(append([]byte{byte(len(why))}, why...))
		return
	}
	defer server.Close()
	if _, err := c.Write([]byte{0}); err != nil {
		return
	}
	_ = c.SetDeadline(time.Time{})
	Join(c, server)
}

// halfway is a connection of which one way can be closed.
type halfway interface{ CloseWrite() error }

// Join passes on what comes on each of two connections to the other, until both ways have ended.
func Join(a, b net.Conn) {
	var all sync.WaitGroup
	pass := func(to, from net.Conn) {
		_, err := io.Copy(to, from)
		if h, ok := to.(halfway); ok && err == nil {
			_ = h.CloseWrite()
			return
		}
		_, _ = to.Close(), from.Close()
	}
	all.Go(func() { pass(a, b) })
	all.Go(func() { pass(b, a) })
	all.Wait()
}
