package adb

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// Process is an adb server that we started.
type Process struct {
	Server
	cmd  *exec.Cmd
	done chan error
}

// StartServer starts an adb server of our own on a free port of loopback. Its
// files lie in dir, which is made.
func StartServer(ctx context.Context, dir string) (*Process, error) {
	path, err := exec.LookPath("adb")
	if err != nil {
		return nil, errors.New("adb is not installed; on Debian: apt-get install adb")
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the adb server's folder: %w", err)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	logFile, err := os.Create(filepath.Join(dir, "adb.log"))
	if err != nil {
		return nil, err
	}
	defer logFile.Close()
	cmd := exec.Command(path, "-P", strconv.Itoa(port), "server", "nodaemon")
	cmd.Env = append(os.Environ(), "HOME="+dir, "TMPDIR="+dir)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start adb: %w", err)
	}
	p := &Process{Server: Server{"127.0.0.1:" + strconv.Itoa(port)}, cmd: cmd, done: make(chan error, 1)}
	go func() { p.done <- cmd.Wait() }()
	for deadline := time.Now().Add(15 * time.Second); ; {
		if _, err = p.Version(ctx); err == nil {
			return p, nil
		}
		select {
		case werr := <-p.done:
			p.done <- werr
			return nil, fmt.Errorf("the adb server ended at once (%v); see %s", werr, logFile.Name())
		case <-ctx.Done():
			p.Close()
			return nil, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			p.Close()
			return nil, fmt.Errorf("the adb server does not answer: %w", err)
		}
	}
}

// Close ends the server and waits until it has gone.
func (p *Process) Close() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(5 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.done
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
