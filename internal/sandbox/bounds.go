package sandbox

// Bounds of a box as a whole: what its processes take together. The kernel's limits hold for each process alone; these are looked at a few times a second,
// and a box that is beyond one is ended.

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	boundsLook = 200 * time.Millisecond // between two looks at the processes
	diskLook   = time.Second            // between two looks at the files

	maxEntries = 100_000 // files and folders in a program's folders
	maxDepth   = 100     // folders in folders
	tick       = 100     // of a processor's clock, a second (USER_HZ, proc_pid_stat(5))
)

var pageSize = int64(os.Getpagesize())

// taken is what the processes below one take together.
type taken struct {
	processes int
	memory    int64 // bytes
	cpu       time.Duration
	unlinked  int64 // bytes of files that have no name any more, and are open
}

// take adds up. Exactly: shared pages are counted once; else every process has its own.
func take(pid int, exactly bool) (t taken) {
	type file struct{ dev, ino uint64 }
	seen := map[file]bool{}
	for _, p := range belowLately(pid) {
		t.processes++
		dir := "/proc/" + strconv.Itoa(p)
		raw, err := os.ReadFile(dir + "/stat")
		if err != nil {
			continue
		}
		// After the name: state is field 3, utime 14, stime 15, cutime 16, cstime 17, rss 24 (proc_pid_stat(5)).
		f := bytes.Fields(raw[bytes.LastIndexByte(raw, ')')+1:])
		if len(f) < 22 {
			continue
		}
		for _, i := range []int{11, 12, 13, 14} {
			n, _ := strconv.ParseInt(string(f[i]), 10, 64)
			t.cpu += time.Duration(n) * time.Second / tick
		}
		rss, _ := strconv.ParseInt(string(f[21]), 10, 64)
		t.memory += rss * pageSize
		if exactly {
			if pss, ok := proportional(dir); ok {
				t.memory += pss - rss*pageSize
			}
		}
		fds, _ := os.ReadDir(dir + "/fd")
		for _, fd := range fds {
			name, err := os.Readlink(dir + "/fd/" + fd.Name())
			memory := strings.HasPrefix(name, "/memfd:")
			if err != nil || !memory && !strings.HasSuffix(name, " (deleted)") {
				continue
			}
			var st unix.Stat_t
			if unix.Stat(dir+"/fd/"+fd.Name(), &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFREG || seen[file{st.Dev, st.Ino}] {
				continue
			}
			seen[file{st.Dev, st.Ino}] = true
			if bytes := st.Blocks * 512; memory {
				t.memory += bytes
			} else {
				t.unlinked += bytes
			}
		}
	}
	return t
}

// proportional is the memory of a process, of which shared pages count in parts (smaps_rollup, proc_pid_smaps(5)).
func proportional(dir string) (int64, bool) {
	raw, err := os.ReadFile(dir + "/smaps_rollup")
	if err != nil {
		return 0, false
	}
	for line := range bytes.Lines(raw) {
		if rest, ok := bytes.CutPrefix(line, []byte("Pss:")); ok {
			n, err := strconv.ParseInt(string(bytes.TrimSpace(bytes.TrimSuffix(bytes.TrimSpace(rest), []byte("kB")))), 10, 64)
			return n << 10, err == nil
		}
	}
	return 0, false
}

// beyond says which bound of a spec the processes below one are beyond; "": none.
func beyond(s Spec, pid int) (why string, unlinked int64) {
	t := take(pid, false)
	if s.MemoryMB > 0 && t.memory>>20 > int64(s.MemoryMB) {
		t = take(pid, true) // shared pages may be all of it
	}
	switch {
	case s.MemoryMB > 0 && t.memory>>20 > int64(s.MemoryMB):
		return memoryTaken(s), 0
	case s.Processes > 0 && t.processes > s.Processes+boxOwn:
		return fmt.Sprintf("it had more than %d processes", s.Processes), 0
	case s.CPU > 0 && t.cpu > s.CPU:
		return fmt.Sprintf("it used more than %s of processor time", s.CPU), 0
	}
	return "", t.unlinked
}

func memoryTaken(s Spec) string {
	return fmt.Sprintf("its processes took more than %d MB of memory together", s.MemoryMB)
}

// boxOwn are processes of the box itself.
const boxOwn = 4

// used is what lies in a program's folders.
type used struct {
	bytes   int64
	entries int
	tooDeep bool
}

// count adds up what lies in a folder. It follows no links, and goes down so far and no further.
func (u *used) count(dir string) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return
	}
	defer root.Close()
	u.in(root, 0)
}

func (u *used) in(root *os.Root, depth int) {
	if depth > maxDepth {
		u.tooDeep = true
		return
	}
	d, err := root.Open(".")
	if err != nil {
		return // a folder that the program has closed to itself can't be written to
	}
	defer d.Close()
	for u.entries <= maxEntries && !u.tooDeep {
		all, err := d.ReadDir(1000)
		for _, e := range all {
			u.entries++
			if e.IsDir() {
				if below, err := root.OpenRoot(e.Name()); err == nil {
					u.in(below, depth+1)
					_ = below.Close()
				}
				continue
			}
			if i, err := e.Info(); err == nil {
				u.bytes += onDisk(i)
			}
		}
		if err != nil {
			return
		}
	}
}

// onDisk is how many bytes a file takes: holes take none, and a file of a byte takes a block.
func onDisk(i fs.FileInfo) int64 {
	if st, ok := i.Sys().(*syscall.Stat_t); ok {
		return st.Blocks * 512
	}
	return i.Size()
}

func (s Spec) uses() (u used) {
	for _, dir := range []string{s.Work, s.Keep} {
		u.count(dir)
	}
	return u
}

// full says which bound on files a program is beyond that had so much before; "": none.
func (u used) full(s Spec, before used, unlinked int64) string {
	switch {
	case s.DiskMB > 0 && (u.bytes-before.bytes+unlinked)>>20 > int64(s.DiskMB):
		return fmt.Sprintf("it wrote more than %d MB", s.DiskMB)
	case u.entries > max(maxEntries, before.entries):
		return fmt.Sprintf("it made more than %d files", maxEntries)
	case u.tooDeep:
		return fmt.Sprintf("it made folders more than %d deep", maxDepth)
	}
	return ""
}

// removeAll removes a folder, whatever the program made of it. Nothing of a program runs any more; links are not followed.
func removeAll(dir string) {
	_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() { // it may be closed
			_ = unix.Fchmodat(unix.AT_FDCWD, path, 0o700, unix.AT_SYMLINK_NOFOLLOW)
		}
		return nil
	})
	if os.RemoveAll(dir) != nil { // deeper than this process may have files open, or than a path is long
		_ = exec.Command("rm", "-rf", "--", dir).Run()
	}
}
