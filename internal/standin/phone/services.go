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
func (p *Phone) service(name string) func(context.Context, *stream) {
	kind, arg, _ := strings.Cut(name, ":")
	kind, options, _ := strings.Cut(kind, ",")
	switch {
	case kind == "shell" && strings.Contains(","+options+",", ",v2,") && !p.traits.oldShell():
		return func(ctx context.Context, s *stream) { p.shellV2(ctx, s, arg) }
	case kind == "shell" || kind == "exec":
		return func(ctx context.Context, s *stream) {
			p.run(ctx, arg, s, s, s)
		}
	case kind == "sync":
		return p.sync
	}
	return nil
}

const (
	v2stdin, v2stdout, v2stderr, v2exit, v2closeIn = 0, 1, 2, 3, 4
)

type v2writer struct {
	mu *sync.Mutex
	s  io.Writer
	id byte
}

func (w v2writer) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	head := make([]byte, 5, 5+len(b))
	head[0] = w.id
	binary.LittleEndian.PutUint32(head[1:], uint32(len(b)))
	if _, err := w.s.Write(append(head, b...)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// answersAtOnce are the commands that say all they have to say when they end.
var answersAtOnce = map[string]bool{"uiautomator": true, "input": true, "getprop": true, "wm": true, "settings": true, "pidof": true, "date": true}

func (p *Phone) shellV2(ctx context.Context, s *stream, command string) {
	var mu sync.Mutex
	in, feed := io.Pipe()
	go func() { // ends when the stream does
		head := make([]byte, 5)
		for {
			if _, err := io.ReadFull(s, head); err != nil {
				feed.CloseWithError(io.EOF)
				return
			}
			body := io.LimitReader(s, int64(binary.LittleEndian.Uint32(head[1:])))
			switch head[0] {
			case v2stdin:
				_, _ = io.Copy(feed, body)
			case v2closeIn:
				_ = feed.Close()
			default:
				_, _ = io.Copy(io.Discard, body)
			}
		}
	}()
	var to io.Writer = s
	var whole bytes.Buffer
	if name, _, _ := strings.Cut(command, " "); answersAtOnce[name] {
		to = &whole // one packet for what is said and the exit code
	}
	code := p.run(ctx, command, in, v2writer{&mu, to, v2stdout}, v2writer{&mu, to, v2stderr})
	_ = in.Close()
	_, _ = v2writer{&mu, to, v2exit}.Write([]byte{byte(code)})
	_, _ = s.Write(whole.Bytes())
}

// file is a file on the phone.
type file struct {
	data []byte
	mode uint32
	at   time.Time
}

const maxFileSize = 2 << 30

// sync is the file service (SYNC.TXT): STAT, STA2, LIST, SEND, RECV, QUIT.
func (p *Phone) sync(_ context.Context, s *stream) {
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
