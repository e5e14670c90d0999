package bus

// A stream: a connection between two processes, made of messages on two topics, one for each way.
//
// Who sends may be ahead of who reads by window bytes: the reader tells how much it has read, as a sum, so that one that is lost is made good by the next.
// Data say where they begin; where some are missing the stream has broken, and both ends hear so. An end that hears nothing for streamSilence takes the other
// for gone: both say how far they are every streamBeat, whatever else there is.

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"
)

const (
	window        = 512 << 10 // bytes on their way in one direction
	streamPiece   = 64 << 10  // bytes of a message
	smallPiece    = 4 << 10
	streamBeat    = 5 * time.Second
	streamSilence = 3 * streamBeat
	tellAfter     = window / 4 // bytes that were read
)

// Kinds of messages: a byte, then a sum of bytes (8, big endian), then what there is.
const (
	streamData = 'd' // the sum before these bytes; the bytes
	streamRead = 'r' // the sum that was read
	streamEnd  = 'e' // the sum that was sent in all; why it ends, "" for no reason
	streamCut  = 'x' // the sum that came; why nothing more can come
)

// ErrBroken says that a stream was cut: bytes got lost, or the other end says nothing any more.
var ErrBroken = errors.New("the stream is broken")

// Stream is one end of a stream. It is a net.Conn; one goroutine may read while one writes.
type Stream struct {
	bus  Bus
	to   string
	deaf func()
	beat *time.Ticker
	once sync.Once

	mu       sync.Mutex
	changed  chan struct{} // closed, and made anew, at each change
	sent     uint64
	read     uint64   // by the other end
	came     uint64   // sum
	waiting  [][]byte // that came, and are not read
	taken    uint64   // sum that was read here
	told     uint64   // what of it the other end knows
	heard    time.Time
	ended    error // why no more comes; io.EOF: the other end has closed it
	closed   bool
	readBy   time.Time // deadlines; zero: there is none
	writeBy  time.Time
	finished chan struct{}
}

// over says whether a deadline is.
func over(by time.Time) bool { return !by.IsZero() && !time.Now().Before(by) }

var _ net.Conn = (*Stream)(nil)

// NewStream makes an end of a stream that sends on one topic and hears on another. The other end has them the other way round.
func NewStream(b Bus, send, hear string) (*Stream, error) {
	s := &Stream{bus: b, to: send, changed: make(chan struct{}), heard: time.Now(), beat: time.NewTicker(streamBeat), finished: make(chan struct{})}
	deaf, err := b.Hear(hear, s.take)
	if err != nil {
		s.beat.Stop()
		return nil, err
	}
	s.deaf = deaf
	go s.live()
	return s, nil
}

// live tells the other end that this one is there, and notices when the other is not.
func (s *Stream) live() {
	for {
		select {
		case <-s.beat.C:
			s.mu.Lock()
			if s.ended == nil && time.Since(s.heard) > streamSilence {
				s.cut("the other end says nothing any more")
			}
			taken := s.taken
			s.told = taken
			s.mu.Unlock()
			s.say(streamRead, taken, nil)
		case <-s.finished:
			return
		}
	}
}

func (s *Stream) say(kind byte, sum uint64, data []byte) {
	m := make([]byte, 0, 9+len(data))
	s.bus.Publish(s.to, append(binary.BigEndian.AppendUint64(append(m, kind), sum), data...))
}

// end notes, under mu, why no more comes.
func (s *Stream) end(why error) {
	if s.ended == nil {
		s.ended = why
		s.tell()
	}
}

// cut ends it, under mu, and tells the other end so.
func (s *Stream) cut(why string) {
	if s.ended == nil {
		s.end(fmt.Errorf("%w: %s", ErrBroken, why))
		came := s.came
		go s.say(streamCut, came, []byte(why))
	}
}

// tell wakes, under mu, who waits.
func (s *Stream) tell() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// take takes in one message.
func (s *Stream) take(m []byte) {
	if len(m) < 9 {
		return
	}
	sum, rest := binary.BigEndian.Uint64(m[1:9]), m[9:]
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heard = time.Now()
	switch m[0] {
	case streamRead:
		if sum > s.read && sum <= s.sent {
			s.read = sum
			s.tell()
		}
	case streamData:
		switch {
		case s.ended != nil || s.closed:
		case sum != s.came || s.came+uint64(len(rest))-s.taken > window:
			s.cut("some of it got lost")
		case len(rest) > 0:
			s.came += uint64(len(rest))
			if n := len(s.waiting); n > 0 && len(rest)+len(s.waiting[n-1]) <= smallPiece { // many small ones would take more room than they have bytes
				s.waiting[n-1] = append(s.waiting[n-1], rest...)
			} else {
				s.waiting = append(s.waiting, rest)
			}
			s.tell()
		}
	case streamCut:
		s.end(fmt.Errorf("%w: %.1000s", ErrBroken, rest))
	case streamEnd:
		switch {
		case sum != s.came:
			s.cut("some of it got lost")
		case len(rest) > 0:
			s.end(errors.New(string(rest[:min(len(rest), 1000)])))
		default:
			s.end(io.EOF)
		}
	}
}

// Read implements net.Conn.
func (s *Stream) Read(b []byte) (int, error) {
	s.mu.Lock()
	for {
		switch {
		case s.closed:
			s.mu.Unlock()
			return 0, net.ErrClosed
		case over(s.readBy):
			s.mu.Unlock()
			return 0, os.ErrDeadlineExceeded
		case len(s.waiting) > 0:
			n := copy(b, s.waiting[0])
			if s.waiting[0] = s.waiting[0][n:]; len(s.waiting[0]) == 0 {
				s.waiting[0] = nil
				s.waiting = s.waiting[1:]
			}
			s.taken += uint64(n)
			taken, tell := s.taken, s.taken-s.told >= tellAfter
			if tell {
				s.told = taken
			}
			s.mu.Unlock()
			if tell {
				s.say(streamRead, taken, nil)
			}
			return n, nil
		case s.ended != nil:
			why := s.ended
			s.mu.Unlock()
			return 0, why
		}
		s.wait(s.readBy)
	}
}

// wait waits, with mu let go meanwhile, until something has changed or a deadline is over.
func (s *Stream) wait(by time.Time) {
	changed := s.changed
	s.mu.Unlock()
	defer s.mu.Lock()
	if by.IsZero() {
		<-changed
		return
	}
	t := time.NewTimer(time.Until(by))
	defer t.Stop()
	select {
	case <-changed:
	case <-t.C:
	}
}

// Write implements net.Conn.
func (s *Stream) Write(b []byte) (n int, err error) {
	for n < len(b) {
		s.mu.Lock()
		for s.sent-s.read >= window && !s.closed && s.ended == nil && !over(s.writeBy) {
			s.wait(s.writeBy)
		}
		switch {
		case s.closed:
			err = net.ErrClosed
		case s.ended != nil && !errors.Is(s.ended, io.EOF):
			err = s.ended
		case s.ended != nil:
			err = io.ErrClosedPipe
		case over(s.writeBy):
			err = os.ErrDeadlineExceeded
		}
		if err != nil {
			s.mu.Unlock()
			return n, err
		}
		piece := b[n:min(len(b), n+streamPiece, n+int(window-(s.sent-s.read)))]
		at := s.sent
		s.sent += uint64(len(piece))
		s.mu.Unlock()
		s.say(streamData, at, piece)
		n += len(piece)
	}
	return n, nil
}

// Close implements net.Conn. What was written before comes to the other end still.
func (s *Stream) Close() error { return s.CloseWith("") }

// CloseWith closes it, and tells the other end why.
func (s *Stream) CloseWith(why string) error {
	s.once.Do(func() {
		s.mu.Lock()
		s.closed = true
		sent := s.sent
		s.waiting = nil
		s.tell()
		s.mu.Unlock()
		close(s.finished)
		s.beat.Stop()
		s.deaf()
		s.say(streamEnd, sent, []byte(why))
	})
	return nil
}

// SetDeadline implements net.Conn.
func (s *Stream) SetDeadline(t time.Time) error { return s.by(t, &s.readBy, &s.writeBy) }

// SetReadDeadline implements net.Conn.
func (s *Stream) SetReadDeadline(t time.Time) error { return s.by(t, &s.readBy) }

// SetWriteDeadline implements net.Conn.
func (s *Stream) SetWriteDeadline(t time.Time) error { return s.by(t, &s.writeBy) }

// by sets deadlines; who waits looks again.
func (s *Stream) by(t time.Time, which ...*time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range which {
		*w = t
	}
	s.tell()
	return nil
}

type streamAddress string

func (streamAddress) Network() string  { return "bus" }
func (a streamAddress) String() string { return string(a) }

// LocalAddr implements net.Conn.
func (s *Stream) LocalAddr() net.Addr { return streamAddress(s.to) }

// RemoteAddr implements net.Conn.
func (s *Stream) RemoteAddr() net.Addr { return streamAddress(s.to) }
