package sandbox

// A program's processes where it has no namespace of its own: all that it started are below the one that started it, which takes
// those in that have lost their parents.

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

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
func below(pid int) []int { return started().below(pid) }

// processes are which processes there are, by those that started them; those that are over are negative.
type processes map[int][]int

// started looks at all processes of this machine.
func started() processes {
	all := processes{}
	dirs, _ := os.ReadDir("/proc")
	for _, d := range dirs {
		child, err := strconv.Atoi(d.Name())
		if err != nil {
			continue
		}
		raw, err := os.ReadFile("/proc/" + d.Name() + "/stat")
		if err != nil {
			continue
		}
		// pid (name) state ppid …: the name may have blanks and brackets (proc_pid_stat(5)).
		fields := bytes.Fields(raw[bytes.LastIndexByte(raw, ')')+1:])
		if len(fields) < 2 {
			continue
		}
		parent, err := strconv.Atoi(string(fields[1]))
		if err != nil {
			continue
		}
		if state := fields[0][0]; state == 'Z' || state == 'X' {
			child = -child // what was below it has another parent by now
		}
		all[parent] = append(all[parent], child)
	}
	return all
}

// below lists the processes below one that were still at work.
func (all processes) below(pid int) (out []int) {
	for next := []int{pid}; len(next) > 0; {
		p := next[0]
		next = next[1:]
		for _, c := range all[p] {
			if c > 0 {
				out, next = append(out, c), append(next, c)
			}
		}
	}
	return out
}

// lately is a look at all processes that the watchers of all boxes share: it costs as much as this machine has processes, not as it has boxes.
var lately struct {
	sync.Mutex
	at  time.Time
	all processes
}

// belowLately lists the processes below one as they were a moment ago.
func belowLately(pid int) []int {
	lately.Lock()
	defer lately.Unlock()
	if time.Since(lately.at) > boundsLook/2 {
		lately.all, lately.at = started(), time.Now()
	}
	return lately.all.below(pid)
}
