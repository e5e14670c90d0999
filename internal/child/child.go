// Package child starts servers as children of this process, and ends them with it.
//
// In: a command whose server listens on a port. Out: a Process that is ready,
// or why it is not; and its end, waited for. A Kept one is started again when it dies.
package child

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"github.com/sethvargo/go-retry"
)

// Process is a child that runs.
type Process struct {
	cmd  *exec.Cmd
	done chan struct{} // closed when it has ended
	err  error         // then
}

// FreePort gives a port of loopback that nobody listens on at the moment, below those that the system gives to
// outgoing connections: one of them could take it before it is used.
func FreePort() (int, error) {
	const first, last = 10240, 32767
	var err error
	for range 100 {
		var l net.Listener
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", first+rand.IntN(last-first+1))); err == nil {
			defer l.Close()
			return l.Addr().(*net.TCPAddr).Port, nil
		}
	}
	return 0, fmt.Errorf("find a free port: %w", err)
}

// Start starts the command in a group of its own. When this process dies, the
// child is sent the signal last.
func Start(cmd *exec.Cmd, last syscall.Signal) (*Process, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: last, Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	p := &Process{cmd: cmd, done: make(chan struct{})}
	go func() {
		p.err = cmd.Wait()
		close(p.done)
	}()
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
		case <-p.done:
			return fmt.Errorf("it ended at once (%v)", p.err)
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
	case <-p.done:
	case <-time.After(grace):
		_ = p.cmd.Process.Kill()
		<-p.done
	}
}

// Kept is a child that is started again whenever it dies.
type Kept struct {
	what  string
	start func(ctx context.Context) (*Process, error)
	grace time.Duration
	stop  context.CancelFunc
	ended chan struct{}

	mu   sync.Mutex
	now  *Process
	died int
}

// Keep starts a child that is ready when start returns, and starts it again, by the same
// function, when it dies. What names it in the log; grace is what it gets to end.
func Keep(ctx context.Context, what string, grace time.Duration, start func(ctx context.Context) (*Process, error)) (*Kept, error) {
	p, err := start(ctx)
	if err != nil {
		return nil, err
	}
	k := &Kept{what: what, start: start, grace: grace, ended: make(chan struct{}), now: p}
	var run context.Context
	run, k.stop = context.WithCancel(context.WithoutCancel(ctx))
	go k.look(run)
	return k, nil
}

func (k *Kept) process() *Process {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now
}

func (k *Kept) look(ctx context.Context) {
	defer close(k.ended)
	for {
		select {
		case <-k.process().done:
		case <-ctx.Done():
			return
		}
		k.mu.Lock()
		k.died++
		k.mu.Unlock()
		slog.Warn("a server has died, and is started again", "server", k.what, "how", k.process().err)
		pauses := retry.WithCappedDuration(10*time.Second, retry.NewExponential(100*time.Millisecond))
		_ = retry.Do(ctx, pauses, func(ctx context.Context) error {
			p, err := k.start(ctx)
			if err != nil {
				slog.Error("a server can't be started again", "server", k.what, "err", err)
				return retry.RetryableError(err)
			}
			k.mu.Lock()
			k.now = p
			k.mu.Unlock()
			return nil
		})
	}
}

// Died is how often it has died by now.
func (k *Kept) Died() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.died
}

// Close ends the child and waits until it has gone.
func (k *Kept) Close() {
	k.stop()
	<-k.ended
	k.process().Stop(k.grace)
}

// Kill ends the child as a crash would.
func (k *Kept) Kill() {
	p := k.process()
	_ = p.cmd.Process.Kill()
	<-p.done
}
