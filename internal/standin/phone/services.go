package phone

// The services that a host can open: shell, exec and sync.

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"sort"
	"strings"
	"sync"
	"time"

	"tessellant/internal/standin/adbd"
)

func (p *Phone) banner() string {
	t := p.traits
	features := ""
	if !t.oldShell() {
		features = ";features=shell_v2,cmd,stat_v2"
	}
	name := strings.ToLower(strings.ReplaceAll(t.Model, " ", "_"))
	return fmt.Sprintf("device::ro.product.name=%s;ro.product.model=%s;ro.product.device=%s%s", name, t.Model, name, features)
}

// service gives what runs a service, nil when there is none of that name.
func (p *Phone) service(c *adbd.Conn, name string) func(context.Context, *adbd.Stream) {
	kind, arg, _ := strings.Cut(name, ":")
	kind, options, _ := strings.Cut(kind, ",")
	switch {
	case kind == "shell":
		v2 := strings.Contains(","+options+",", ",v2,") && !p.traits.oldShell()
		return func(ctx context.Context, s *adbd.Stream) { p.shell(ctx, s, arg, v2) }
	case kind == "exec":
		return func(ctx context.Context, s *adbd.Stream) { p.run(ctx, arg, s, s, s) }
	case kind == "reverse":
		return func(_ context.Context, s *adbd.Stream) { p.reversed(c, s, arg) }
	case kind == "localabstract":
		return p.localAbstract(arg)
	case kind == "sync":
		return p.sync
	}
	return nil
}

const (
	v2stdin, v2stdout, v2stderr, v2exit, v2closeIn = 0, 1, 2, 3, 4
)

// packets is what the host sends to a command's input (shell_v2).
type packets struct {
	s    *adbd.Stream
	left int
}

func (r *packets) Read(b []byte) (int, error) {
	for r.left == 0 {
		head := make([]byte, 5)
		if _, err := io.ReadFull(r.s, head); err != nil {
			return 0, io.EOF
		}
		n := int(binary.LittleEndian.Uint32(head[1:]))
		switch head[0] {
		case v2stdin:
			r.left = n
		case v2closeIn:
			return 0, io.EOF
		default:
			if _, err := io.CopyN(io.Discard, r.s, int64(n)); err != nil {
				return 0, io.EOF
			}
		}
	}
	n, err := r.s.Read(b[:min(len(b), r.left)])
	r.left -= n
	return n, err
}

// said is what a shell says to the host: at once, or held until there is more.
type said struct {
	mu    sync.Mutex
	s     *adbd.Stream
	holds bool
	held  bytes.Buffer
}

// voice is one of a shell's outputs.
type voice struct {
	*said
	id   byte // of its packets
	bare bool // it has none: before shell_v2
}

func (v voice) Write(b []byte) (int, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.bare {
		v.held.WriteByte(v.id)
		v.held.Write(binary.LittleEndian.AppendUint32(v.held.AvailableBuffer(), uint32(len(b))))
	}
	v.held.Write(b)
	if v.holds && v.held.Len() < adbd.Chunk {
		return len(b), nil
	}
	return len(b), v.send()
}

// hold sets whether what is said is held back from now on.
func (t *said) hold(on bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.holds = on
	if !on {
		_ = t.send()
	}
}

// let lets go of what is held.
func (t *said) let() {
	t.mu.Lock()
	defer t.mu.Unlock()
	_ = t.send()
}

func (t *said) send() error {
	_, err := t.s.Write(t.held.Bytes())
	t.held.Reset()
	return err
}

// answersAtOnce are the commands that say all they have to say when they end.
var answersAtOnce = map[string]bool{"rm": true, "cat": true, "uiautomator": true, "input": true, "getprop": true, "wm": true, "settings": true, "pidof": true, "date": true, "echo": true}

// shell is the service of that name: one command, or without one a shell that reads its commands.
func (p *Phone) shell(ctx context.Context, s *adbd.Stream, command string, v2 bool) {
	t := &said{s: s}
	out, errOut, in := voice{t, v2stdout, !v2}, voice{t, v2stderr, !v2}, io.Reader(s)
	if v2 {
		in = &packets{s: s}
	}
	var code int
	if command == "" {
		code = p.lines(ctx, in, out, errOut)
	} else {
		name, _, _ := strings.Cut(command, " ")
		t.hold(answersAtOnce[name])
		code = p.run(ctx, command, in, out, errOut)
	}
	if v2 {
		t.hold(true)
		_, _ = voice{t, v2exit, false}.Write([]byte{byte(code)})
	}
	t.let()
}

// file is a file on the phone.
type file struct {
	data []byte
	mode uint32
	at   time.Time
}

const maxFileSize = 2 << 30

// sync is the file service (SYNC.TXT): STAT, STA2, LIST, SEND, RECV, QUIT.
func (p *Phone) sync(_ context.Context, s *adbd.Stream) {
	head := make([]byte, 8)
	le := binary.LittleEndian
	fail := func(why string) {
		_, _ = s.Write(append(append([]byte("FAIL"), le.AppendUint32(nil, uint32(len(why)))...), why...))
	}
	for {
		if _, err := io.ReadFull(s, head); err != nil {
			return
		}
		n := le.Uint32(head[4:])
		if string(head[:4]) == "QUIT" || n > 4096 {
			return
		}
		raw := make([]byte, n)
		if _, err := io.ReadFull(s, raw); err != nil {
			return
		}
		name := string(raw)
		switch string(head[:4]) {
		case "STAT":
			f := p.file(name)
			out := append([]byte("STAT"), make([]byte, 12)...)
			if f != nil {
				le.PutUint32(out[4:], f.mode)
				le.PutUint32(out[8:], uint32(len(f.data)))
				le.PutUint32(out[12:], uint32(f.at.Unix()))
			}
			_, _ = s.Write(out)
		case "STA2":
			f := p.file(name)
			out := append([]byte("STA2"), make([]byte, 68)...)
			if f == nil {
				le.PutUint32(out[4:], 2) // ENOENT
			} else {
				le.PutUint32(out[24:], f.mode)
				le.PutUint64(out[40:], uint64(len(f.data)))
			}
			_, _ = s.Write(out)
		case "LIST":
			for _, n := range p.list(name) {
				f, base := p.file(n), path.Base(n)
				out := append([]byte("DENT"), make([]byte, 16)...)
				le.PutUint32(out[4:], f.mode)
				le.PutUint32(out[8:], uint32(len(f.data)))
				le.PutUint32(out[16:], uint32(len(base)))
				_, _ = s.Write(append(out, base...))
			}
			_, _ = s.Write(append([]byte("DONE"), make([]byte, 16)...))
		case "SEND":
			target, mode, _ := strings.Cut(name, ",")
			var m uint32
			_, _ = fmt.Sscan(mode, &m)
			var buf bytes.Buffer
			for {
				if _, err := io.ReadFull(s, head); err != nil {
					return
				}
				if string(head[:4]) == "DONE" {
					break
				}
				if string(head[:4]) != "DATA" || le.Uint32(head[4:]) > 64<<10 || buf.Len() > maxFileSize {
					fail("bad data")
					return
				}
				if _, err := io.CopyN(&buf, s, int64(le.Uint32(head[4:]))); err != nil {
					return
				}
			}
			if strings.HasPrefix(target, "/sdcard/") && p.isSealed() {
				fail("couldn't create file: No such file or directory")
				continue
			}
			if p.full(buf.Len()) {
				fail("couldn't write: No space left on device")
				continue
			}
			p.put(target, &file{buf.Bytes(), m | 0o100000, p.now()})
			_, _ = s.Write([]byte("OKAY\x00\x00\x00\x00"))
		case "RECV":
			f := p.file(name)
			if f == nil {
				fail("No such file or directory")
				continue
			}
			for rest := f.data; len(rest) > 0; {
				k := min(len(rest), 64<<10)
				_, _ = s.Write(append(append([]byte("DATA"), le.AppendUint32(nil, uint32(k))...), rest[:k]...))
				rest = rest[k:]
			}
			_, _ = s.Write([]byte("DONE\x00\x00\x00\x00"))
		default:
			fail("unknown command " + string(head[:4]))
			return
		}
	}
}

// isSealed says whether nobody has unlocked the phone since it was switched on: what apps and people keep is not there yet.
func (p *Phone) isSealed() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sealed
}

func (p *Phone) file(name string) *file {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.files[path.Clean(name)]
}

func (p *Phone) put(name string, f *file) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files[path.Clean(name)] = f
}

func (p *Phone) list(dir string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []string
	for n := range p.files {
		if path.Dir(n) == path.Clean(dir) {
			out = append(out, n)
		}
	}
	sort.Strings(out)
	return out
}

func (p *Phone) full(n int) bool { return p.traits.FreeMB > 0 && n > p.traits.FreeMB<<20 }
