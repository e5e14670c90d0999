package sandbox

// A program's processes where it has no namespace of its own: all that it started are below the one that started it, which takes
// those in that have lost their parents.

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// adopt makes this process the one that takes in what its children leave behind.
func adopt() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

const killRounds = 200 // of ending what is below a process: it may start more while it is being ended

// killBelow ends all that is below a process, again until nothing is left.
func killBelow(pid int) {
	for range killRounds {
		left := below(pid)
		if len(left) == 0 {
			return
		}
		for _, p := range left {
			_ = syscall.Kill(p, syscall.SIGKILL)
		}
	}
}

// below lists the processes below one that are still at work.
func below(pid int) (out []int) {
	children := map[int][]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range stats {
		raw, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		// pid (name) state ppid …: the name may have blanks and brackets (proc_pid_stat(5)).
		fields := bytes.Fields(raw[bytes.LastIndexByte(raw, ')')+1:])
		child, err := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		if err != nil || len(fields) < 2 {
			continue
		}
		parent, err := strconv.Atoi(string(fields[1]))
		if err != nil {
			continue
		}
		if state := fields[0][0]; state == 'Z' || state == 'X' {
			child = -child // it is over; what was below it has another parent by now
		}
		children[parent] = append(children[parent], child)
	}
	for next := []int{pid}; len(next) > 0; {
		p := next[0]
		next = next[1:]
		for _, c := range children[p] {
			if c > 0 {
				out, next = append(out, c), append(next, c)
			}
		}
	}
	return out
}
