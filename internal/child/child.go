// Package child starts servers as children of this process, and ends them with it.
//
// In: a command whose server listens on a port. Out: a Process that is ready,
// or why it is not; and its end, waited for.
package child

import (
	"context"
	"fmt"
	"net"
	"os/exec"
	"syscall"
	"time"
)

// Process is a child that runs.
type Process struct {
	cmd  *exec.Cmd
	done chan error
}

// FreePort gives a port of loopback that nobody listens on at the moment.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Start starts the command in a group of its own. When this process dies, the
// child is sent the signal last.
func Start(cmd *exec.Cmd, last syscall.Signal) (*Process, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: last, Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	p := &Process{cmd, make(chan error, 1)}
	go func() { p.done <- cmd.Wait() }()
	return p, nil
}

// Ready waits until try succeeds, limit at most. It fails as soon as the child ends.
func (p *Process) Ready(ctx context.Context, limit time.Duration, try func() error) error {
	for deadline := time.Now().Add(limit); ; {
		err := try()
		if err == nil {
			return nil
		}
		select {
		case ended := <-p.done:
			p.done <- ended
			return fmt.Errorf("it ended at once (%v)", ended)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("it does not answer: %w", err)
		}
	}
}

// Stop asks the child to end, and waits; after grace it is killed.
func (p *Process) Stop(grace time.Duration) {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-p.done:
		p.done <- err
	case <-time.After(grace):
		_ = p.cmd.Process.Kill()
		p.done <- <-p.done
	}
}
