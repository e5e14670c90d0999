package phone

// The device side of the adb transport: connections, and the streams on them.

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
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
	chunkSize  = 256 << 10 // of what we write; smaller keeps other streams moving
	maxStreams = 64
)

// Start begins to listen on address ("127.0.0.1:0" for any free port).
func Start(t Traits, address string) (*Phone, error) {
	if err := t.complete(); err != nil {
		return nil, fmt.Errorf("simulated phone %s: %w", t.Serial, err)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("simulated phone %s: %w", t.Serial, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	p := newPhone(ctx, t)
	p.listener, p.cancel = l, cancel
	p.running.Go(p.accept)
	if t.Drops > 0 {
		p.running.Go(p.drop)
	}
	return p, nil
}

// drop is a loose cable: it holds for half to one and a half times as long as on average.
func (p *Phone) drop() {
	for p.ctx.Err() == nil {
		p.mu.Lock()
		held := p.traits.Drops/2 + time.Duration(p.rnd.Int64N(int64(p.traits.Drops)))
		p.mu.Unlock()
		wait(p.ctx, held)
		p.Unplug()
	}
}

// Address is where the phone listens.
func (p *Phone) Address() string { return p.listener.Addr().String() }

// Close switches the phone off and waits until all it did has ended.
func (p *Phone) Close() {
	p.cancel()
	_ = p.listener.Close()
	p.Unplug()
	p.running.Wait()
}

// Unplug cuts every connection, as a pulled cable does. The phone goes on
// listening: it can be plugged in again.
func (p *Phone) Unplug() {
	p.connMu.Lock()
	defer p.connMu.Unlock()
	for c := range p.conns {
		_ = c.raw.Close()
	}
}

// Freeze makes the phone stop answering while it stays connected; Thaw ends it.
func (p *Phone) Freeze() {
	p.connMu.Lock()
	defer p.connMu.Unlock()
	if p.thawed == nil {
		p.thawed = make(chan struct{})
	}
}

// Thaw lets a frozen phone answer again.
func (p *Phone) Thaw() {
	p.connMu.Lock()
	defer p.connMu.Unlock()
	if p.thawed != nil {
		close(p.thawed)
		p.thawed = nil
	}
}

func (p *Phone) waitThawed() {
	p.connMu.Lock()
	thawed := p.thawed
	p.connMu.Unlock()
	if thawed != nil {
		select {
		case <-thawed:
		case <-p.ctx.Done():
		}
	}
}

func (p *Phone) accept() {
	for {
		raw, err := p.listener.Accept()
		if err != nil {
			return
		}
		c := &conn{p: p, raw: raw, streams: map[uint32]*stream{}}
		c.ctx, c.cancel = context.WithCancel(p.ctx)
		p.connMu.Lock()
		p.conns[c] = true
		if p.ctx.Err() != nil { // it was switched off meanwhile, and nobody will cut this one
			_ = raw.Close()
		}
		p.connMu.Unlock()
		p.running.Go(func() {
			c.serve()
			p.connMu.Lock()
			delete(p.conns, c)
			for port, r := range p.reverses { // they go with their connection
				if r.c == c {
					delete(p.reverses, port)
				}
			}
			p.connMu.Unlock()
		})
	}
}

type conn struct {
	p      *Phone
	raw    net.Conn
	ctx    context.Context
	cancel context.CancelFunc

	writeMu sync.Mutex
	mu      sync.Mutex
	streams map[uint32]*stream
	last    uint32
}

type stream struct {
	c             *conn
	local, remote uint32
	in            chan []byte // what the host wrote; each is acknowledged when it has been taken
	acks          chan struct{}
	gone          chan struct{}
	once          sync.Once
	rest          []byte
	answered      chan struct{} // of a stream to the host: closed when the host has taken it
}

// taken notes the host's answer to a stream that we opened. It says whether the stream was open already: then it is an acknowledgement.
func (s *stream) taken(remote uint32) bool {
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

func (c *conn) serve() {
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
		c.p.waitThawed()
		switch cmd {
		case cmdCNXN:
			c.send(cmdCNXN, version, maxPayload, []byte(c.p.banner()))
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

func (c *conn) send(cmd, arg0, arg1 uint32, data []byte) {
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

func (c *conn) find(id uint32) *stream {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.streams[id]
}

func (c *conn) open(remote uint32, service string) {
	run := c.service(service)
	c.mu.Lock()
	if run == nil || len(c.streams) >= maxStreams {
		c.mu.Unlock()
		c.send(cmdCLSE, 0, remote, nil)
		return
	}
	c.last++
	s := &stream{c: c, local: c.last, remote: remote, in: make(chan []byte, 1), acks: make(chan struct{}, 1), gone: make(chan struct{})}
	c.streams[s.local] = s
	c.mu.Unlock()
	c.send(cmdOKAY, s.local, remote, nil)
	c.p.running.Go(func() {
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

func (c *conn) dropAll() {
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
func (s *stream) Read(b []byte) (int, error) {
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
func (s *stream) Write(b []byte) (int, error) {
	sent := 0
	for sent < len(b) {
		n := min(len(b)-sent, chunkSize)
		s.c.p.waitThawed()
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
func (s *stream) shut() {
	s.once.Do(func() {
		close(s.gone)
		s.c.mu.Lock()
		delete(s.c.streams, s.local)
		s.c.mu.Unlock()
		s.c.send(cmdCLSE, s.local, s.remote, nil)
	})
}

// Close ends the stream.
func (s *stream) Close() error {
	s.shut()
	return nil
}
