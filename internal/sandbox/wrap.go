package sandbox

// The command line of bubblewrap: what a program sees.

import (
	"os"
	"strconv"
)

// Sizes of what a program can write to that lies in memory, in bytes.
const (
	tmpSize = 512 << 20 // of /tmp
	shmSize = 64 << 20  // of /dev/shm
)

// wrapped is the command line of bubblewrap.
func (b *Box) wrapped(s Spec, in *inside, way *wayOut) []string {
	args := []string{"bwrap", "--unshare-all", "--unshare-user", "--uid", "1000", "--gid", "1000", "--hostname", "box", "--new-session", "--die-with-parent", "--cap-drop", "ALL",
		"--ro-bind", "/usr", "/usr"}
	if way == nil || b.users {
		args = append(args, "--disable-userns") // else the way out needs the namespace that its network belongs to; new ones are refused in any case
	}
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
	args = append(args, "--size", strconv.Itoa(tmpSize), "--tmpfs", "/tmp", "--dev", "/dev", "--size", strconv.Itoa(shmSize), "--tmpfs", "/dev/shm", "--remount-ro", "/dev",
		"--proc", "/proc", "--ro-bind", b.exe, "/inside", "--bind", s.Work, "/work", "--bind", s.Keep, "/keep")
	if s.Socket != "" {
		args = append(args, "--bind", s.Socket, "/run/webdriver.sock")
		in.Socket = "/run/webdriver.sock"
	}
	if way != nil {
		in.Go = true
		args = append(args, "--info-fd", strconv.Itoa(infoFile), "--ro-bind", b.namesFile(), "/etc/resolv.conf", "--ro-bind-try", "/etc/hosts", "/etc/hosts")
	}
	return append(args, "--remount-ro", "/", "--chdir", "/work", "/inside", ChildArg)
}
