// Package sandbox runs a program that nobody here has read, so that it can reach
// nothing but what it is given.
//
// With bubblewrap (https://github.com/containers/bubblewrap) it gets namespaces of its own: it sees the
// system's programs, its own folder and nothing else of the disk; no network but one
// address that leads to a unix socket; no process but its own, which all end with it. It is a user of its own, and calls of the kernel that no test
// needs are taken away (internal/confine). Memory, processes, processor time and files are bounded for the box as a whole (bounds.go). With Network it
// gets a way out that never leads to this machine (network.go). Where bubblewrap can't do that, Probe says so, and
// the caller decides whether the weaker level will do.
// In: a Spec. Out: its output, as it comes, and how it ended.
package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tessellant/internal/confine"
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
	MemoryMB  int // of each process, and of all together
	Processes int
	CPU       time.Duration // of all processors, by all processes together; 0: without a bound
	DiskMB    int           // that it may write
	Network   bool
	Output    io.Writer // standard output and error, as they come
}

// Ended is how a program ended.
type Ended struct {
	Code   int    // exit code; -1: it was killed
	Killed string // why, where this package did it: it was beyond a bound
}

// ErrNoStart says that the program could not be started.
var ErrNoStart = errors.New("the program can't be started")

// Box is where programs run.
type Box struct {
	Level Level
	Why   string // why it is not tight
	// Bounds says how the memory and the processes of a box as a whole are bounded.
	Bounds string
	groups string // the control group below which boxes have theirs; "": they have none
	base   string // the folder of all folders
	exe    string // a copy of this program that the programs' users can read
	users  bool   // each program is a user of its own; else they are this process's
	// Refused are addresses that no program reaches, besides those of this machine.
	Refused []netip.Addr
}

// Probe sees which level can be had. Base is where folders are made; it and those above must be open to other users where this process runs as root. ""
// is the system's folder for temporary files.
func Probe(ctx context.Context, base string) (*Box, error) {
	b := &Box{Level: Tight, users: os.Geteuid() == 0, Bounds: "by control groups of the kernel"}
	groups, gerr := findGroups("/proc/self/mountinfo", "/proc/self/cgroup")
	if b.groups = groups; gerr != nil {
		b.Bounds = "watched five times a second: " + gerr.Error()
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
	if err := errors.Join(b.copyExe(), os.WriteFile(b.namesFile(), []byte("nameserver "+names+"\n"), 0o644)); err != nil {
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
			b.users = false
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
type Folders struct {
	root, Work, Keep, Run string // Run: for the socket
	user                  int
}

// Make makes folders for a program that no other program sees.
func (b *Box) Make() (f Folders, err error) {
	if f.root, err = os.MkdirTemp(b.base, "box-"); err != nil {
		return f, err
	}
	// The folder above stays this process's: a program that could put links in the place of its folders would have this process follow them.
	if err := os.Chmod(f.root, 0o711); err != nil {
		return f, err
	}
	f.user = confine.NewUser()
	f.Work, f.Keep, f.Run = filepath.Join(f.root, "work"), filepath.Join(f.root, "keep"), filepath.Join(f.root, "run")
	for _, d := range []string{f.Work, f.Keep, f.Run} {
		if err := os.Mkdir(d, 0o700); err != nil {
			return f, err
		}
	}
	return f, b.Give(f)
}

// Give hands what was put into a program's folders to its user. Nothing of the program runs yet.
func (b *Box) Give(f Folders) error {
	if !b.users {
		return nil
	}
	for _, dir := range []string{f.Work, f.Keep, f.Run} {
		err := filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Lchown(path, f.user, f.user)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Remove removes a program's folders.
func (b *Box) Remove(f Folders) {
	removeAll(f.root)
}

// Run runs a program until it ends. When ctx ends first, it is killed with all that it has started.
func (b *Box) Run(ctx context.Context, s Spec) (Ended, error) {
	in := inside{Command: s.Command, MemoryMB: s.MemoryMB, Processes: s.Processes, FileMB: s.DiskMB, URLName: s.URLName, Dir: s.Work}
	var args []string
	var way *wayOut
	if b.Level == Tight {
		in.Dir = "/work"
		if s.Network {
			var err error
			if way, err = b.makeWay(); err != nil {
				return Ended{}, fmt.Errorf("%w: %w", ErrNoStart, err)
			}
			defer way.close()
		}
		args = b.wrapped(s, &in, way)
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
	if user, err := os.Lstat(s.Work); err == nil && b.users { // whom its folders were made for
		if st, ok := user.Sys().(*syscall.Stat_t); ok {
			cmd.SysProcAttr.Credential = &syscall.Credential{Uid: st.Uid, Gid: st.Gid}
		}
	}
	var own *group
	if b.groups != "" {
		if own, err = newGroup(b.groups, s); err == nil {
			defer own.end()
			inGroup(own, cmd.SysProcAttr)
		} // else it is watched, as everywhere
	}
	before := s.uses()
	r, w, err := os.Pipe()
	if err != nil {
		return Ended{}, err
	}
	defer r.Close()
	cmd.Stdout, cmd.Stderr = w, w
	if way != nil {
		cmd.ExtraFiles = way.files()
	}
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
	if way != nil {
		if err := way.open(ctx, b.refused()); err != nil {
			kill()
			<-exited
			out.Wait()
			return Ended{}, errors.Join(context.Cause(ctx), fmt.Errorf("%w: %w", ErrNoStart, err))
		}
	}
	killed := watch(ctx, s, cmd.Process.Pid, before, kill, exited)
	group() // what is left of it
	// Where it is not kept tight, something may still hold the pipe.
	_ = r.SetReadDeadline(time.Now().Add(2 * time.Second))
	out.Wait()
	e := Ended{Code: cmd.ProcessState.ExitCode(), Killed: killed}
	if own != nil && killed == "" && own.beyond() {
		e.Killed = memoryTaken(s)
	}
	if ctx.Err() != nil {
		return e, context.Cause(ctx)
	}
	return e, nil
}

// watch waits for the program's end, and ends it where it must be. It answers why, where it went beyond a bound. Before is what its folders had.
func watch(ctx context.Context, s Spec, pid int, before used, kill func(), exited <-chan error) (killed string) {
	look, files := time.NewTimer(boundsLook), time.NewTimer(diskLook)
	defer look.Stop()
	defer files.Stop()
	done := ctx.Done()
	unlinked := int64(0)
	end := func(why string) {
		if killed == "" && why != "" {
			killed = why
			kill()
		}
	}
	for {
		select {
		case <-exited:
			return killed
		case <-done:
			kill()
			done = nil
		case <-look.C:
			began := time.Now()
			why, open := beyond(s, pid)
			unlinked = open
			end(why)
			if s.DiskMB > 0 && unlinked>>20 > int64(s.DiskMB) {
				end(fmt.Sprintf("it wrote more than %d MB", s.DiskMB))
			}
			look.Reset(max(boundsLook, 10*time.Since(began)))
		case <-files.C:
			began := time.Now()
			end(s.uses().full(s, before, unlinked))
			files.Reset(max(diskLook, 4*time.Since(began))) // a folder of many files takes its time
		}
	}
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
