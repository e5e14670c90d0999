// Package adbd is the device side of the adb transport, over TCP: connections, and the streams on them.
//
// It knows no phone: whoever serves says what the device calls itself, and what runs a service that a host opens. A cable can be pulled, a device can freeze. The protocol is
// that of system/core/adb/protocol.txt in the Android Open Source Project. In: an address. Out: streams.
package adbd

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"
)

const (
	cmdCNXN    = 0x4e584e43
	cmdOPEN    = 0x4e45504f
	cmdOKAY    = 0x59414b4f
	cmdCLSE    = 0x45534c43
	cmdWRTE    = 0x45545257
	version    = 0x01000001
	maxPayload = 1 << 20
	maxStreams = 64
)

// Chunk is how many bytes are written at once: a smaller one keeps other streams moving.
const Chunk = 256 << 10

// Config is what a device is to the host.
type Config struct {
	Banner  func() string                                             // what it calls itself, such as device::ro.product.name=…
	Service func(c *Conn, name string) func(context.Context, *Stream) // what runs a service; nil: there is none of that name
	Ended   func(*Conn)                                               // is told when a connection has ended
}

// Server is a device that listens.
type Server struct {
	Config
	ctx      context.Context
	cancel   context.CancelFunc
	listener net.Listener
	running  sync.WaitGroup

	mu     sync.Mutex
	conns  map[*Conn]bool
	thawed chan struct{} // closed when a frozen device thaws; nil: not frozen
}

// Listen begins to listen on an address ("127.0.0.1:0" for any free port), until ctx ends or Close.
func Listen(ctx context.Context, address string, c Config) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Server{Config: c, listener: l, conns: map[*Conn]bool{}}
	s.ctx, s.cancel = context.WithCancel(ctx)
	s.running.Go(s.accept)
	return s, nil
}

// Address is where it listens.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Close ends everything, and waits until all services have ended.
func (s *Server) Close() {
	s.cancel()
	_ = s.listener.Close()
	s.Unplug()
	s.running.Wait()
}

// Unplug cuts every connection, as a pulled cable does. It goes on listening: it can be plugged in again.
func (s *Server) Unplug() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		_ = c.raw.Close()
	}
}

// Freeze makes the device stop answering while it stays connected; Thaw ends it.
func (s *Server) Freeze() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.thawed == nil {
		s.thawed = make(chan struct{})
	}
}

// Thaw lets a frozen device answer again.
func (s *Server) Thaw() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.thawed != nil {
		close(s.thawed)
		s.thawed = nil
	}
}

func (s *Server) waitThawed() {
	s.mu.Lock()
	thawed := s.thawed
	s.mu.Unlock()
	if thawed != nil {
		select {
		case <-thawed:
		case <-s.ctx.Done():
		}
	}
}

func (s *Server) accept() {
	for {
		raw, err := s.listener.Accept()
		if err != nil {
			return
		}
		c := &Conn{server: s, raw: raw, streams: map[uint32]*Stream{}}
		c.ctx, c.cancel = context.WithCancel(s.ctx)
		s.mu.Lock()
		s.conns[c] = true
		if s.ctx.Err() != nil { // it was switched off meanwhile, and nobody will cut this one
			_ = raw.Close()
		}
		s.mu.Unlock()
		s.running.Go(func() {
			c.serve()
			s.mu.Lock()
			delete(s.conns, c)
			s.mu.Unlock()
			s.Ended(c)
		})
	}
}

// Conn is a connection of a host.
type Conn struct {
	server *Server
	raw    net.Conn
	ctx    context.Context
	cancel context.CancelFunc

	writeMu sync.Mutex
	mu      sync.Mutex
	streams map[uint32]*Stream
	last    uint32
}

// Stream is a stream on a connection.
type Stream struct {
	c             *Conn
	local, remote uint32
	in            chan []byte // what the host wrote; each is acknowledged when it has been taken
	acks          chan struct{}
	gone          chan struct{}
	once          sync.Once
	rest          []byte
	answered      chan struct{} // of a stream to the host: closed when the host has taken it
}

// taken notes the host's answer to a stream that we opened. It says whether the stream was open already: then it is an acknowledgement.
func (s *Stream) taken(remote uint32) bool {
	if s.answered == nil {
		return true
	}
	select {
	case <-s.answered:
		return true
	default:
		s.remote = remote
		close(s.answered)
		return false
	}
}

func (c *Conn) serve() {
	defer c.cancel()
	defer c.dropAll()
	br := bufio.NewReaderSize(c.raw, 64<<10)
	head := make([]byte, 24)
	for {
		if _, err := io.ReadFull(br, head); err != nil {
			return
		}
		cmd, arg0, arg1 := binary.LittleEndian.Uint32(head), binary.LittleEndian.Uint32(head[4:]), binary.LittleEndian.Uint32(head[8:])
		size := binary.LittleEndian.Uint32(head[12:])
		if size > maxPayload || binary.LittleEndian.Uint32(head[20:]) != cmd^0xffffffff {
			return
		}
		data := make([]byte, size)
		if _, err := io.ReadFull(br, data); err != nil {
			return
		}
		c.server.waitThawed()
		switch cmd {
		case cmdCNXN:
			c.send(cmdCNXN, version, maxPayload, []byte(c.server.Banner()))
		case cmdOPEN:
			c.open(arg0, strings.TrimRight(string(data), "\x00"))
		case cmdWRTE:
			if s := c.find(arg1); s != nil {
				select {
				case s.in <- data:
				case <-s.gone:
				}
			} else {
				c.send(cmdCLSE, 0, arg0, nil)
			}
		case cmdOKAY:
			if s := c.find(arg1); s != nil && s.taken(arg0) {
				select {
				case s.acks <- struct{}{}:
				default:
				}
			}
		case cmdCLSE:
			if s := c.find(arg1); s != nil {
				s.shut()
			}
		}
	}
}

func (c *Conn) send(cmd, arg0, arg1 uint32, data []byte) {
	head := make([]byte, 24, 24+len(data))
	for i, v := range []uint32{cmd, arg0, arg1, uint32(len(data)), 0, cmd ^ 0xffffffff} {
		binary.LittleEndian.PutUint32(head[i*4:], v)
	}
	c.writeMu.Lock()
	defer c.writeMu.Unlock()
	if _, err := c.raw.Write(append(head, data...)); err != nil {
		_ = c.raw.Close()
	}
}

func (c *Conn) find(id uint32) *Stream {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.streams[id]
}

// open opens a stream for the host. Whoever serves may think about it for as long as it wants to: what comes for other streams does not wait.
func (c *Conn) open(remote uint32, service string) {
	refuse := func() { c.send(cmdCLSE, 0, remote, nil) }
	c.mu.Lock()
	if len(c.streams) >= maxStreams {
		c.mu.Unlock()
		refuse()
		return
	}
	c.last++
	s := &Stream{c: c, local: c.last, remote: remote, in: make(chan []byte, 1), acks: make(chan struct{}, 1), gone: make(chan struct{})}
	c.streams[s.local] = s
	c.mu.Unlock()
	c.server.running.Go(func() {
		run := c.server.Service(c, service)
		if run == nil {
			c.mu.Lock()
			delete(c.streams, s.local)
			c.mu.Unlock()
			refuse()
			return
		}
		c.send(cmdOKAY, s.local, remote, nil)
		ctx, cancel := context.WithCancel(c.ctx)
		defer cancel()
		context.AfterFunc(ctx, s.shut)
		go func() { // ends with the stream
			<-s.gone
			cancel()
		}()
		run(ctx, s)
		s.Close()
	})
}

func (c *Conn) dropAll() {
	_ = c.raw.Close() // a stream that is being shut may wait for the host to read
	c.mu.Lock()
	streams := slices.Collect(maps.Values(c.streams))
	c.mu.Unlock() // or to be taken off the list
	for _, s := range streams {
		s.once.Do(func() { close(s.gone) })
	}
}

var errGone = errors.New("the host closed the stream")

// Read takes what the host wrote.
func (s *Stream) Read(b []byte) (int, error) {
	if len(s.rest) == 0 {
		select {
		case s.rest = <-s.in:
			s.c.send(cmdOKAY, s.local, s.remote, nil)
		case <-s.gone:
			select {
			case s.rest = <-s.in:
			default:
				return 0, io.EOF
			}
		}
	}
	n := copy(b, s.rest)
	s.rest = s.rest[n:]
	return n, nil
}

// Write sends to the host, and waits until it has taken what was sent.
func (s *Stream) Write(b []byte) (int, error) {
	sent := 0
	for sent < len(b) {
		n := min(len(b)-sent, Chunk)
		s.c.server.waitThawed()
		select {
		case <-s.gone:
			return sent, errGone
		default:
		}
		s.c.send(cmdWRTE, s.local, s.remote, b[sent:sent+n])
		select {
		case <-s.acks:
		case <-s.gone: // the host may have taken it, and closed the stream at once
			select {
			case <-s.acks:
			default:
				return sent, errGone
			}
		}
		sent += n
	}
	return sent, nil
}

// shut ends the stream on our side without a word to the host.
func (s *Stream) shut() {
	s.once.Do(func() {
		close(s.gone)
		s.c.mu.Lock()
		delete(s.c.streams, s.local)
		s.c.mu.Unlock()
		s.c.send(cmdCLSE, s.local, s.remote, nil)
	})
}

// Close ends the stream.
func (s *Stream) Close() error {
	s.shut()
	return nil
}

// callTakes is how long a host may take to take a stream that the device opens.
const callTakes = 10 * time.Second

// What a stream to the host can fail with.
var (
	ErrRefused = errors.New("the host does not take the stream")
	ErrSlow    = errors.New("the host did not take the stream in time")
)

// Call opens a stream to the host, and waits until that has taken it.
func (c *Conn) Call(ctx context.Context, service string) (*Stream, error) {
	c.mu.Lock()
	c.last++
	s := &Stream{c: c, local: c.last, in: make(chan []byte, 1), acks: make(chan struct{}, 1), gone: make(chan struct{}), answered: make(chan struct{})}
	c.streams[s.local] = s
	c.mu.Unlock()
	c.send(cmdOPEN, s.local, 0, append([]byte(service), 0))
	t := time.NewTimer(callTakes)
	defer t.Stop()
	select {
	case <-s.answered:
		return s, nil
	case <-s.gone:
		return nil, ErrRefused
	case <-ctx.Done():
	case <-t.C:
	}
	s.shut()
	return nil, ErrSlow
}
