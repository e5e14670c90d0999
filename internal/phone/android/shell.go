package android

// Running commands on a device, and knowing whether it was there until the end.

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/phone"
)

// answer is what a command wrote.
type answer struct {
	out, err []byte
	code     int
}

// text is all that the command wrote, trimmed.
func (a answer) text() string { return strings.TrimSpace(string(a.out) + string(a.err)) }

const maxAnswer = 64 << 20

var errSilent = errors.New("it did not answer in time")
var errTooLong = fmt.Errorf("it answered with more than %d bytes", maxAnswer)
var errCut = errors.New("the connection broke before the command had ended")

// with gives a context that ends after limit at the latest.
func (d *Device) with(ctx context.Context, limit time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, limit, errSilent)
}

// failed tells apart why a call failed: the caller gave up, the device did not
// answer in time, said too much or went away.
func (d *Device) failed(ctx context.Context, doing string, err error) error {
	if ctx.Err() != nil {
		if errors.Is(context.Cause(ctx), errSilent) {
			return &phone.Lost{Serial: d.serial, Doing: doing, Err: errSilent}
		}
		return ctx.Err()
	}
	if errors.Is(err, errTooLong) {
		return fmt.Errorf("%s: %w", doing, err)
	}
	return &phone.Lost{Serial: d.serial, Doing: doing, Err: err}
}

// shell runs a line in the device's shell. Doing says what for, in the
// infinitive, for errors. The limit is ours; the context's own comes on top.
func (d *Device) shell(ctx context.Context, doing, line string, limit time.Duration) (answer, error) {
	ctx, cancel := d.with(ctx, limit)
	defer cancel()
	if d.isClosed() {
		return answer{}, fmt.Errorf("%s: the device is not in use any more: %w", doing, os.ErrClosed)
	}
	if !d.features["shell_v2"] {
		return d.shellV1(ctx, doing, line)
	}
	if a, ok, err := d.inKept(ctx, doing, line); ok {
		return a, err
	}
	return d.shellV2(ctx, doing, line)
}

// slowLimit is how long a command may take that only is slow.
const slowLimit = 5 * time.Minute

// slowly runs a line that takes long on slow storage: the device is not lost while it still answers.
func (d *Device) slowly(ctx context.Context, doing, line string) (answer, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() {
		for {
			if phone.Pause(ctx, quick) != nil {
				return
			}
			if d.Answers(ctx, quick/2) != nil {
				cancel(errSilent)
				return
			}
		}
	}()
	return d.shell(ctx, doing, line, slowLimit)
}

// Packets of shell_v2: one byte of kind, four of length (little endian), the body.
const (
	packetIn   = 0
	packetOut  = 1
	packetErr  = 2
	packetExit = 3
)

func (d *Device) shellV2(ctx context.Context, doing, line string) (answer, error) {
	var a answer
	c, err := d.server.Open(ctx, d.transport, "shell,v2,TERM=dumb,raw:"+line)
	if err != nil {
		return a, d.failed(ctx, doing, err)
	}
	defer c.Close()
	for {
		kind, err := a.read(c)
		if err != nil {
			return a, d.failed(ctx, doing, err) // no exit packet: however this looks, the command did not end
		}
		if kind == packetExit {
			return a, nil
		}
	}
}

// read takes one packet in, and says of what kind it was.
func (a *answer) read(r io.Reader) (kind byte, err error) {
	head := make([]byte, 5)
	if _, err := io.ReadFull(r, head); err != nil {
		return 0, errCut
	}
	n := int64(binary.LittleEndian.Uint32(head[1:]))
	if int64(len(a.out)+len(a.err))+n > maxAnswer {
		return 0, errTooLong
	}
	body := make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		return 0, errCut
	}
	switch head[0] {
	case packetOut:
		a.out = append(a.out, body...)
	case packetErr:
		a.err = append(a.err, body...)
	case packetExit:
		if n > 0 {
			a.code = int(body[0])
		}
	}
	return head[0], nil
}

// endMark is written behind a command where the protocol has no exit code.
const endMark = "tessellant-end:"

func (d *Device) shellV1(ctx context.Context, doing, line string) (answer, error) {
	var a answer
	raw, err := d.exec(ctx, doing, "shell:"+line+"\necho "+endMark+"$?", nil)
	if err != nil {
		return a, err
	}
	// Before Android 7 a terminal stands between, which ends lines with CR LF.
	text := strings.ReplaceAll(string(raw), "\r\n", "\n")
	out, code, ok := strings.Cut(text, endMark)
	if !ok {
		return a, d.failed(ctx, doing, errCut)
	}
	a.out = []byte(out)
	a.code, _ = strconv.Atoi(strings.TrimSpace(code))
	return a, nil
}

// exec opens a service, writes in to it where there is one, and reads all that
// comes. Whether that was all, the caller must see from what came.
func (d *Device) exec(ctx context.Context, doing, service string, in io.Reader) ([]byte, error) {
	c, err := d.server.Open(ctx, d.transport, service)
	if err != nil {
		return nil, d.failed(ctx, doing, err)
	}
	defer c.Close()
	var sent error
	if in != nil {
		_, sent = io.Copy(c, in)
	}
	// A device that wants no more of what is sent may have said why.
	raw, err := io.ReadAll(io.LimitReader(c, maxAnswer))
	if err = errors.Join(sent, err); err != nil && (len(raw) == 0 || ctx.Err() != nil) {
		return nil, d.failed(ctx, doing, err)
	}
	return raw, nil
}

// quote makes one word of a shell of any text.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// stream runs a command that goes on until it is closed, and gives what it
// writes. When the device goes away, Read says so with *phone.Lost.
func (d *Device) stream(ctx context.Context, doing, line string) (*streaming, error) {
	service := "shell:" + line
	if d.features["shell_v2"] {
		service = "shell,v2,TERM=dumb,raw:" + line
	}
	opening, cancel := context.WithCancel(ctx)
	limit := time.AfterFunc(adb.DialLimit, cancel)
	c, err := d.server.Open(opening, d.transport, service)
	if !limit.Stop() || err != nil {
		cancel()
		if err == nil {
			_ = c.Close()
			err = errSilent
		}
		return nil, d.failed(ctx, doing, err)
	}
	return &streaming{d: d, ctx: ctx, c: c, doing: doing, v2: d.features["shell_v2"], cancel: cancel}, nil
}

type streaming struct {
	d      *Device
	ctx    context.Context
	c      *adb.Conn
	cancel context.CancelFunc
	doing  string
	v2     bool
	left   int    // of the packet being read
	skip   bool   // it is not for the reader
	said   []byte // the beginning of what came on the other output
}

// maxSaid is how many bytes of it are kept.
const maxSaid = 1 << 10

func (s *streaming) Read(b []byte) (int, error) {
	if !s.v2 {
		n, err := s.c.Read(b)
		if n == 0 && err != nil {
			return 0, s.d.failed(s.ctx, s.doing, errCut)
		}
		return n, nil
	}
	for s.left == 0 {
		head := make([]byte, 5)
		if _, err := io.ReadFull(s.c, head); err != nil {
			return 0, s.d.failed(s.ctx, s.doing, errCut)
		}
		s.left, s.skip = int(binary.LittleEndian.Uint32(head[1:])), head[0] != packetOut
		if head[0] == packetExit {
			return 0, io.EOF
		}
		if s.skip {
			said, err := io.ReadAll(io.LimitReader(s.c, int64(min(s.left, maxSaid-len(s.said)))))
			if s.said = append(s.said, said...); err == nil {
				_, err = io.CopyN(io.Discard, s.c, int64(s.left-len(said)))
			}
			if err != nil {
				return 0, s.d.failed(s.ctx, s.doing, errCut)
			}
			s.left = 0
		}
	}
	n, err := s.c.Read(b[:min(len(b), s.left)])
	s.left -= n
	if n == 0 && err != nil {
		return 0, s.d.failed(s.ctx, s.doing, errCut)
	}
	return n, nil
}

func (s *streaming) Close() error {
	s.cancel()
	return s.c.Close()
}
