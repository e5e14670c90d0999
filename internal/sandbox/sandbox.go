// Package sandbox runs a program that nobody here has read, so that it can reach
// nothing but what it is given.
//
// With bubblewrap (https://github.com/containers/bubblewrap) it gets namespaces of its own: it sees the
// system's programs, its own folder and nothing else of the disk; no network but one
// address that leads to a unix socket; no process but its own, which all end with it.
// Limits on memory, processes and files hold inside. Where bubblewrap can't do that, Probe says so, and
// the caller decides whether the weaker level will do.
// In: a Spec. Out: its output, as it comes, and how it ended.
package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Level is how well a program is kept apart.
type Level string

const (
	// Tight: namespaces of its own, as a user without rights.
	Tight Level = "tight"
	// Open: limits, and an end for all that it has started; it sees the disk and the network as any program of its user does. That is nobody,
	// where this process runs as root.
	Open Level = "open"
)

// Spec is what is run.
type Spec struct {
	Work      string // its folder, at /work where it is kept tight; Make makes it
	Keep      string // a folder for what is to be kept
	Socket    string // a unix socket that it reaches at the URL in URLName; "": none
	URLName   string // the variable that has the URL
	Command   []string
	Env       map[string]string
	MemoryMB  int // of each process
	Processes int
	DiskMB    int // that it may write
	Network   bool
	Output    io.Writer // standard output and error, as they come
}

// Ended is how a program ended.
type Ended struct {
	Code   int    // exit code; -1: it was killed
	Killed string // why, where this package did it: the disk was its limit
}

// ErrNoStart says that the program could not be started.
var ErrNoStart = errors.New("the program can't be started")

// Box is where programs run.
type Box struct {
	Level Level
	Why   string // why it is not tight
	base  string // the folder of all folders
	exe   string // a copy of this program that the programs' user can read
	uid   int    // they run as; 0: as this process does
}

const nobody = 65534

// Probe sees which level can be had. Base is where folders are made; it and those above must be open to other users where this process runs as root. ""
// is the system's folder for temporary files.
func Probe(ctx context.Context, base string) (*Box, error) {
	b := &Box{Level: Tight}
	if os.Geteuid() == 0 {
		b.uid = nobody
	}
	if base == "" {
		base = os.TempDir()
	}
	removeStale(base)
	var err error
	if b.base, err = os.MkdirTemp(base, fmt.Sprintf("%s%d-", basePrefix, os.Getpid())); err != nil {
		return nil, fmt.Errorf("make the folder for programs: %w", err)
	}
	if err := os.Chmod(b.base, 0o711); err != nil {
		return nil, err
	}
	if err := b.copyExe(); err != nil {
		return nil, err
	}
	try, err := b.Make()
	if err != nil {
		return nil, err
	}
	defer b.Remove(try)
	var said sayings
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	end, err := b.Run(ctx, Spec{Work: try.Work, Keep: try.Keep, Command: []string{"/bin/true"}, MemoryMB: 512, Processes: 64, DiskMB: 10, Output: &said})
	if err != nil || end.Code != 0 {
		b.Level = Open
		b.Why, _, _ = strings.Cut(said.String(), "\n")
		if _, lerr := exec.LookPath("bwrap"); lerr != nil {
			b.Why = "bubblewrap is not installed; on Debian: apt-get install bubblewrap"
		}
		// A user without rights is better than this one, where its folders can be reached by it.
		if end, err := b.Run(ctx, Spec{Work: try.Work, Keep: try.Keep, Command: []string{"/bin/true"}, MemoryMB: 512, Output: io.Discard}); err != nil || end.Code != 0 {
			b.uid = 0
		}
	}
	return b, nil
}

const basePrefix = "tessellant-boxes-"

// removeStale removes the folders of processes that are not there any more.
func removeStale(base string) {
	dirs, _ := filepath.Glob(filepath.Join(base, basePrefix+"*"))
	for _, d := range dirs {
		pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(d), basePrefix), "-")
		if n, err := strconv.Atoi(pid); err == nil && errors.Is(syscall.Kill(n, 0), syscall.ESRCH) {
			_ = os.RemoveAll(d)
		}
	}
}

// Close removes the folder of all folders.
func (b *Box) Close() {
	if b != nil {
		_ = os.RemoveAll(b.base)
	}
}

// copyExe copies this program to where the programs' user can read it.
func (b *Box) copyExe() error {
	own, err := os.Executable()
	if err != nil {
		return err
	}
	b.exe = filepath.Join(b.base, "inside")
	in, err := os.Open(own)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(b.exe, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close(), os.Chmod(b.exe, 0o755))
}

// Folders are those of one program.
type Folders struct{ root, Work, Keep, Run string } // Run: for the socket

// Make makes folders for a program that no other program sees.
func (b *Box) Make() (f Folders, err error) {
	if f.root, err = os.MkdirTemp(b.base, "box-"); err != nil {
		return f, err
	}
	f.Work, f.Keep, f.Run = filepath.Join(f.root, "work"), filepath.Join(f.root, "keep"), filepath.Join(f.root, "run")
	for _, d := range []string{f.Work, f.Keep, f.Run} {
		if err := os.Mkdir(d, 0o700); err != nil {
			return f, err
		}
	}
	return f, b.give(f.root)
}

// give hands a folder to the programs' user.
func (b *Box) give(dir string) error {
	if b.uid == 0 {
		return nil
	}
	return filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, b.uid, b.uid)
	})
}

// Give hands what was put into a program's folders to it.
func (b *Box) Give(f Folders) error { return b.give(f.root) }

// Remove removes a program's folders.
func (b *Box) Remove(f Folders) {
	// Folders may have been made unreadable by the program.
	_ = filepath.WalkDir(f.root, func(path string, d os.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o700)
		}
		return nil
	})
	_ = os.RemoveAll(f.root)
}

// Run runs a program until it ends. When ctx ends first, it is killed with all that it has started.
func (b *Box) Run(ctx context.Context, s Spec) (Ended, error) {
	in := inside{Command: s.Command, MemoryMB: s.MemoryMB, Processes: s.Processes, FileMB: s.DiskMB, URLName: s.URLName, Dir: s.Work}
	var args []string
	if b.Level == Tight {
		in.Dir = "/work"
		args = b.wrapped(s, &in)
	} else {
		in.Socket, in.Adopt = s.Socket, true
		args = []string{b.exe, ChildArg}
	}
	spec, err := json.Marshal(in)
	if err != nil {
		return Ended{}, err
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = b.env(s, string(spec))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if b.uid != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(b.uid), Gid: uint32(b.uid)}
	}
	had := folderMB(s.Work) + folderMB(s.Keep)
	r, w, err := os.Pipe()
	if err != nil {
		return Ended{}, err
	}
	defer r.Close()
	cmd.Stdout, cmd.Stderr = w, w
	if err := cmd.Start(); err != nil {
		_ = w.Close()
		return Ended{}, fmt.Errorf("%w: %w", ErrNoStart, err)
	}
	_ = w.Close()
	group := func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	kill := func() {
		if b.Level == Open { // no namespace of its own ends them
			killBelow(cmd.Process.Pid)
		}
		group()
	}
	var out sync.WaitGroup
	out.Go(func() { _, _ = io.Copy(s.Output, r) })
	exited := make(chan error, 1)
	go func() { exited <- cmd.Wait() }()
	killed := b.watch(ctx, s, had, kill, exited)
	group() // what is left of it
	// Where it is not kept tight, something may still hold the pipe.
	_ = r.SetReadDeadline(time.Now().Add(2 * time.Second))
	out.Wait()
	e := Ended{Code: cmd.ProcessState.ExitCode(), Killed: killed}
	if ctx.Err() != nil {
		return e, context.Cause(ctx)
	}
	return e, nil
}

const diskLook = time.Second // between two looks at what a program has written

// watch waits for the program's end, and ends it where it must be. It answers why, where it wrote too much besides the megabytes that its folders
// had.
func (b *Box) watch(ctx context.Context, s Spec, had int, kill func(), exited <-chan error) (killed string) {
	look := time.NewTimer(diskLook)
	defer look.Stop()
	done := ctx.Done()
	for {
		select {
		case <-exited:
			return killed
		case <-done:
			kill()
			done = nil
		case <-look.C:
			began := time.Now()
			if s.DiskMB > 0 && killed == "" && folderMB(s.Work)+folderMB(s.Keep)-had > s.DiskMB {
				killed = fmt.Sprintf("it wrote more than %d MB", s.DiskMB)
				kill()
			}
			look.Reset(max(diskLook, 10*time.Since(began))) // a folder of many files takes its time
		}
	}
}

func folderMB(dir string) int {
	n := int64(0)
	_ = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if i, err := d.Info(); err == nil {
				n += i.Size()
			}
		}
		return nil
	})
	return int(n >> 20)
}

func (b *Box) env(s Spec, spec string) []string {
	env := []string{specName + "=" + spec, "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
	if b.Level == Tight {
		env = append(env, "HOME=/tmp", "TMPDIR=/tmp")
	} else {
		env = append(env, "HOME="+s.Work, "TMPDIR="+s.Work)
	}
	for k, v := range s.Env {
		env = append(env, k+"="+v)
	}
	slices.Sort(env)
	return env
}

// wrapped is the command line of bubblewrap.
func (b *Box) wrapped(s Spec, in *inside) []string {
	args := []string{"bwrap", "--unshare-all", "--unshare-user", "--disable-userns", "--uid", "1000", "--gid", "1000", "--hostname", "box", "--new-session", "--die-with-parent", "--cap-drop", "ALL",
		"--ro-bind", "/usr", "/usr"}
	for _, d := range []string{"bin", "sbin", "lib", "lib32", "lib64", "libx32"} {
		if target, err := os.Readlink("/" + d); err == nil {
			args = append(args, "--symlink", target, "/"+d)
		} else if _, err := os.Stat("/" + d); err == nil {
			args = append(args, "--ro-bind", "/"+d, "/"+d)
		}
	}
	// What programs of the distribution read of the system's settings: no names of users or hosts.
	for _, d := range []string{"/etc/alternatives", "/etc/ssl", "/etc/ca-certificates", "/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d", "/etc/localtime", "/etc/java-11-openjdk", "/etc/java-17-openjdk", "/etc/java-21-openjdk", "/etc/python3", "/etc/perl"} {
		args = append(args, "--ro-bind-try", d, d)
	}
	args = append(args, "--tmpfs", "/tmp", "--dev", "/dev", "--proc", "/proc", "--ro-bind", b.exe, "/inside", "--bind", s.Work, "/work", "--bind", s.Keep, "/keep")
	if s.Socket != "" {
		args = append(args, "--bind", s.Socket, "/run/webdriver.sock")
		in.Socket = "/run/webdriver.sock"
	}
	if s.Network {
		args = append(args, "--share-net", "--ro-bind-try", "/etc/resolv.conf", "/etc/resolv.conf", "--ro-bind-try", "/etc/hosts", "/etc/hosts")
	}
	return append(args, "--chdir", "/work", "/inside", ChildArg)
}

// sayings keep the first of what a program says.
type sayings struct {
	mu  sync.Mutex
	out []byte
}

func (s *sayings) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.out = append(s.out, b[:min(len(b), 4096-min(len(s.out), 4096))]...)
	return len(b), nil
}

func (s *sayings) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return string(s.out)
}

// KeepPath is where the program finds the folder for what is to be kept.
func (b *Box) KeepPath(f Folders) string {
	if b.Level == Tight {
		return "/keep"
	}
	return f.Keep
}
