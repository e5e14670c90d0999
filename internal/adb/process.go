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

// Process is an adb server that we started, and start again when it dies.
type Process struct {
	Server
	*child.Kept
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
	p := &Process{Server: Server{"127.0.0.1:" + strconv.Itoa(port)}}
	p.Kept, err = child.Keep(ctx, "adb", 5*time.Second, func(ctx context.Context) (*child.Process, error) { return p.start(ctx, path, dir, port) })
	return p, err
}

// start starts the process and waits until it answers.
func (p *Process) start(ctx context.Context, path, dir string, port int) (*child.Process, error) {
	logFile, err := os.OpenFile(filepath.Join(dir, "adb.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer logFile.Close()
	cmd := exec.Command(path, "-P", strconv.Itoa(port), "server", "nodaemon")
	cmd.Env = child.Environment([]string{"ADB_", "ANDROID_"}, "HOME="+dir, "TMPDIR="+dir)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	started, err := child.Start(cmd, syscall.SIGKILL)
	if err != nil {
		return nil, fmt.Errorf("start adb: %w", err)
	}
	err = started.Ready(ctx, 15*time.Second, func() error {
		_, err := p.Version(ctx)
		return err
	})
	if err != nil {
		started.Stop(5 * time.Second)
		return nil, fmt.Errorf("the adb server did not start: %w; see %s", err, logFile.Name())
	}
	return started, nil
}
