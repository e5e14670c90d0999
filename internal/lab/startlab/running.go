package startlab

// The command of a device: started in a group of its own, watched until the device is ready, ended with all that it started.

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tessellant/internal/child"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/labfile"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

const (
	stopTakes = 15 * time.Second
	grace     = 5 * time.Second
	askEvery  = 200 * time.Millisecond
	maxSaid   = 8 << 10 // bytes kept of what a command says
	toldOf    = 600     // of them, in a message
)

// marker is the variable by which what a lab has started is known, also by a later process.
const marker = "TESSELLANT_STARTED"

// running is a command that runs.
type running struct {
	cmd    *exec.Cmd
	env    []string
	values labfile.Values
	done   chan struct{}
	said   *tail
}

// tail keeps the end of what is written.
type tail struct {
	mu  sync.Mutex
	raw []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.raw = append(t.raw, p...); len(t.raw) > maxSaid {
		t.raw = append([]byte(nil), t.raw[len(t.raw)-maxSaid:]...)
	}
	return len(p), nil
}

// last is the end of it, in one line.
func (t *tail) last() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	text := strings.TrimSpace(string(t.raw))
	if len(text) > toldOf {
		text = "… " + strings.ToValidUTF8(text[len(text)-toldOf:], "")
	}
	if text == "" {
		return "it said nothing"
	}
	return "it said last: " + foreign.Name(strings.Join(strings.Fields(text), " "), toldOf+8)
}

// run starts a command of the shell.
func (l *Lab) run(u *unit) (*running, error) {
	port, err := child.FreePort()
	if err != nil {
		return nil, err
	}
	r := &running{done: make(chan struct{}), said: &tail{}, values: labfile.Values{Device: labfile.Device{ID: u.serial, Platform: u.kind.Device.Platform, OS: u.kind.Device.OS, Maker: u.kind.Device.Maker, Model: u.kind.Device.Model, Language: u.kind.Device.Language}, Port: port}}
	if r.values.Transport, err = u.kind.Transport.Make(r.values); err != nil {
		return nil, err
	}
	command, err := u.kind.Start.Make(r.values)
	if err != nil {
		return nil, err
	}
	r.env = append(os.Environ(), marker+"="+l.Dir)
	r.cmd = exec.Command("/bin/sh", "-c", command)
	r.cmd.Env, r.cmd.Stdout, r.cmd.Stderr = r.env, r.said, r.said
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	r.cmd.WaitDelay = time.Second
	if err := r.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		_ = r.cmd.Wait()
		close(r.done)
	}()
	return r, nil
}

// over says whether the command has ended.
func (r *running) over() bool {
	select {
	case <-r.done:
		return true
	default:
		return false
	}
}

// stop ends the command, and all that it started.
func (r *running) stop(ctx context.Context, how *labfile.Text) {
	if r == nil {
		return
	}
	if how != nil && !r.over() {
		if command, err := how.Make(r.values); err == nil {
			ask := exec.CommandContext(ctx, "/bin/sh", "-c", command)
			ask.Env, ask.WaitDelay = r.env, time.Second
			_ = ask.Run()
			r.wait(grace)
		}
	}
	if !r.over() {
		_ = syscall.Kill(-r.cmd.Process.Pid, syscall.SIGTERM)
		r.wait(grace)
	}
	_ = syscall.Kill(-r.cmd.Process.Pid, syscall.SIGKILL)
	r.wait(grace)
}

func (r *running) wait(limit time.Duration) {
	select {
	case <-r.done:
	case <-time.After(limit):
	}
}

// bringUp starts a device, and waits until the adb server's lab has it ready.
func (l *Lab) bringUp(ctx context.Context, u *unit) error {
	r, err := l.run(u)
	if err != nil {
		return fmt.Errorf("the command that starts it could not be run: %w", err)
	}
	address := r.values.Transport
	l.mu.Lock()
	u.running, u.transport = r, address
	l.mu.Unlock()
	why := "the adb server does not see it"
	checked := false
	for next := time.Now(); ; {
		if r.over() {
			return fmt.Errorf("the command that starts it has ended: %s", r.said.last())
		}
		d, seen := l.bridge.SeenApart(address)
		switch {
		case seen && d.State == devices.Ready && !checked: // it has to show its screen, as before any work
			checked = true
			l.bridge.Check([]string{d.Facts.Serial})
			why = "it does not show its screen"
		case seen && d.State == devices.Ready && d.Checked:
			if other := otherThan(u.kind, d); other != "" {
				return fmt.Errorf("it is not what the lab file says: %s", other)
			}
			l.mu.Lock()
			u.inner = d.Facts.Serial
			l.mu.Unlock()
			return nil
		case seen && d.Why != "":
			why = d.Why
		}
		if !seen && addressOf(address) != "" && time.Now().After(next) {
			next = time.Now().Add(time.Second)
			_ = l.Server.Connect(ctx, address)
		}
		if phone.Pause(ctx, askEvery) != nil {
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return fmt.Errorf("it was not ready within %s: %s; %s", u.kind.Ready, why, r.said.last())
			}
			return ctx.Err()
		}
	}
}

// otherThan says in what a device differs from what its kind is; "": in nothing that matters.
func otherThan(k labfile.Startable, d lab.Device) string {
	f := d.Facts
	switch {
	case f.API != k.Device.API:
		return fmt.Sprintf("it has API level %d instead of %d", f.API, k.Device.API)
	case f.Width != k.Device.Width || f.Height != k.Device.Height || f.Density != k.Device.Density:
		return fmt.Sprintf("its screen is %d×%d with %d dpi instead of %d×%d with %d", f.Width, f.Height, f.Density, k.Device.Width, k.Device.Height, k.Device.Density)
	}
	return ""
}

// addressOf is a transport where that is an address that is connected to.
func addressOf(transport string) string {
	if _, _, err := net.SplitHostPort(transport); err != nil {
		return ""
	}
	return transport
}

// endLeft ends what an earlier process of this host has started and could not end: it has the lab's marker in its environment.
func endLeft(dir string, log *slog.Logger) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	all, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		return err
	}
	for _, path := range all {
		raw, err := os.ReadFile(path)
		if err != nil || !strings.Contains("\x00"+string(raw), "\x00"+marker+"="+dir+"\x00") {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
		if err == nil && pid != os.Getpid() {
			log.Warn("a device that an earlier process has started is ended", "pid", pid)
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	return nil
}
