package adb

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"tessellant/internal/child"
)

// Process is an adb server that we started.
type Process struct {
	Server
	child *child.Process
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
	port, err := child.FreePort()
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
	started, err := child.Start(cmd, syscall.SIGKILL)
	if err != nil {
		return nil, fmt.Errorf("start adb: %w", err)
	}
	p := &Process{Server: Server{"127.0.0.1:" + strconv.Itoa(port)}, child: started}
	err = started.Ready(ctx, 15*time.Second, func() error {
		_, err := p.Version(ctx)
		return err
	})
	if err != nil {
		p.Close()
		return nil, fmt.Errorf("the adb server did not start: %w; see %s", err, logFile.Name())
	}
	return p, nil
}

// Close ends the server and waits until it has gone.
func (p *Process) Close() { p.child.Stop(5 * time.Second) }
