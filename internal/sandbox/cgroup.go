package sandbox

// A control group for each box, where the kernel gives this process some (version 2, cgroups(7)): then memory and processes of the box as a whole are bounded
// by the kernel, too, and not only watched.

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// controllers are those that a box needs.
var controllers = []string{"memory", "pids"}

const (
	ownGroup   = "tessellant-service" // of this process: a group that has others below has no processes itself
	boxGroup   = "tessellant-box-"
	groupsEnd  = 3 * time.Second
	groupLooks = 10 * time.Millisecond
)

// findGroups finds the group below which boxes can have theirs; why not, where there is none.
func findGroups(mounts, membership string) (parent string, err error) {
	own, err := ownGroupOf(mounts, membership)
	if err != nil {
		return "", err
	}
	raw, err := os.ReadFile(filepath.Join(own, "cgroup.controllers"))
	if err != nil {
		return "", err
	}
	for _, c := range controllers {
		if !slices.Contains(strings.Fields(string(raw)), c) {
			return "", fmt.Errorf("the kernel's control groups (version 2) have no controller %s here", c)
		}
	}
	passed, err := os.ReadFile(filepath.Join(own, "cgroup.subtree_control"))
	if err != nil {
		return "", err
	}
	if slices.Contains(strings.Fields(string(passed)), controllers[0]) && slices.Contains(strings.Fields(string(passed)), controllers[1]) {
		return own, nil
	}
	mine := filepath.Join(own, ownGroup)
	if err := os.Mkdir(mine, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	pid := strconv.Itoa(os.Getpid())
	if err := write(mine, "cgroup.procs", pid); err != nil {
		return "", err
	}
	if err := write(own, "cgroup.subtree_control", "+"+strings.Join(controllers, " +")); err != nil {
		_ = write(own, "cgroup.procs", pid)
		_ = os.Remove(mine)
		return "", err
	}
	return own, nil
}

// ownGroupOf finds the folder of this process's group in the files mountinfo and cgroup of a process.
func ownGroupOf(mounts, membership string) (string, error) {
	raw, err := os.ReadFile(mounts)
	if err != nil {
		return "", err
	}
	at := ""
	for lines := bufio.NewScanner(bytes.NewReader(raw)); lines.Scan(); {
		// … the mount point is field 5; the type follows the dash (proc_pid_mountinfo(5)).
		before, after, _ := strings.Cut(lines.Text(), " - ")
		f, t := strings.Fields(before), strings.Fields(after)
		if len(f) > 4 && len(t) > 0 && t[0] == "cgroup2" {
			at = f[4]
		}
	}
	if at == "" {
		return "", errors.New("the kernel's control groups (version 2) are not mounted")
	}
	if raw, err = os.ReadFile(membership); err != nil {
		return "", err
	}
	for lines := bufio.NewScanner(bytes.NewReader(raw)); lines.Scan(); {
		if path, ok := strings.CutPrefix(lines.Text(), "0::"); ok {
			return filepath.Join(at, path), nil
		}
	}
	return "", errors.New("this process is in no control group (version 2)")
}

func write(dir, name, value string) error {
	return os.WriteFile(filepath.Join(dir, name), []byte(value), 0o644)
}

// group is the control group of one box.
type group struct {
	dir  string
	open *os.File
}

// newGroup makes a group below another, with a spec's bounds. What the kernel's files in memory may take comes to its processes' memory.
func newGroup(parent string, s Spec) (*group, error) {
	dir, err := os.MkdirTemp(parent, boxGroup)
	if err != nil {
		return nil, err
	}
	g := &group{dir: dir}
	if s.MemoryMB > 0 {
		err = errors.Join(err, write(dir, "memory.max", strconv.Itoa(s.MemoryMB<<20+tmpSize+shmSize)))
		_ = write(dir, "memory.swap.max", "0") // where there is swap
	}
	if s.Processes > 0 {
		err = errors.Join(err, write(dir, "pids.max", strconv.Itoa(s.Processes+boxOwn)))
	}
	if err == nil {
		g.open, err = os.Open(dir)
	}
	if err != nil {
		g.end()
		return nil, err
	}
	return g, nil
}

// inGroup has a process start in a group.
func inGroup(g *group, a *syscall.SysProcAttr) *syscall.SysProcAttr {
	if a == nil {
		a = &syscall.SysProcAttr{}
	}
	a.UseCgroupFD, a.CgroupFD = true, int(g.open.Fd())
	return a
}

// beyond says whether the kernel ended a process of the group for its memory.
func (g *group) beyond() bool {
	raw, _ := os.ReadFile(filepath.Join(g.dir, "memory.events"))
	for line := range strings.Lines(string(raw)) {
		if n, ok := strings.CutPrefix(strings.TrimSpace(line), "oom_kill "); ok {
			return n != "0"
		}
	}
	return false
}

// end ends all that is in the group, and the group.
func (g *group) end() {
	if g.open != nil {
		_ = g.open.Close()
	}
	_ = write(g.dir, "cgroup.kill", "1")
	for until := time.Now().Add(groupsEnd); ; time.Sleep(groupLooks) {
		if err := os.Remove(g.dir); err == nil || errors.Is(err, os.ErrNotExist) || time.Now().After(until) {
			return
		}
	}
}
