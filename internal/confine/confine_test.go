package confine

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestMain is the confined process, too: what it tries, and what comes of it, is printed.
func TestMain(m *testing.M) {
	if how := os.Getenv("CONFINED"); how != "" {
		confined(how)
		return
	}
	os.Exit(m.Run())
}

func confined(how string) {
	say := func(what string, err error) {
		if err == nil {
			err = errors.New("done")
		}
		fmt.Printf("%s: %v\n", what, err)
	}
	if how == "script" {
		say("user", User())
		say("files", Files())
	}
	if err := Syscalls(how != "script"); err != nil {
		say("syscalls", err)
		return
	}
	try := func(name string, number uintptr, args ...uintptr) {
		args = append(args, 0, 0, 0, 0, 0, 0)
		_, _, errno := unix.Syscall6(number, args[0], args[1], args[2], args[3], args[4], args[5])
		if errno == 0 {
			say(name, nil)
			return
		}
		say(name, errno)
	}
	try("ptrace", unix.SYS_PTRACE, unix.PTRACE_TRACEME)
	try("bpf", unix.SYS_BPF)
	try("keyctl", unix.SYS_KEYCTL)
	try("userfaultfd", unix.SYS_USERFAULTFD)
	try("io_uring", unix.SYS_IO_URING_SETUP, 1)
	try("mount", unix.SYS_MOUNT)
	try("unshare", unix.SYS_UNSHARE, unix.CLONE_NEWUSER)
	try("setns", unix.SYS_SETNS)
	try("clone with a new namespace", unix.SYS_CLONE, unix.CLONE_NEWNET|uintptr(unix.SIGCHLD))
	try("clone3", unix.SYS_CLONE3)
	try("shmget", unix.SYS_SHMGET, 0, 4096, 0o600)
	try("x32", 0x40000000+39)
	_, err := unix.Socket(unix.AF_VSOCK, unix.SOCK_STREAM, 0)
	say("vsock", err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	say("listen", err)
	if err == nil {
		_ = l.Close()
	}
	_, err = os.ReadFile("/etc/passwd")
	say("read", err)
	err = os.WriteFile(os.TempDir()+"/confined", nil, 0o600)
	say("write", err)
	_ = os.Remove(os.TempDir() + "/confined")
	say("start", exec.Command("/bin/true").Run())
	say("kill", syscall.Kill(os.Getppid(), 0))
}

func run(t *testing.T, how string) map[string]string {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "CONFINED="+how)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	said := map[string]string{}
	for line := range strings.Lines(string(out)) {
		name, what, _ := strings.Cut(strings.TrimSpace(line), ": ")
		said[name] = what
	}
	return said
}

const no = "operation not permitted"

func TestCallsOfTheKernelAreTakenAway(t *testing.T) {
	said := run(t, "program")
	for _, call := range []string{"ptrace", "bpf", "keyctl", "userfaultfd", "io_uring", "mount", "unshare", "setns", "clone with a new namespace", "shmget", "x32"} {
		if call == "x32" && otherABI == 0 {
			continue
		}
		assert.Equal(t, no, said[call], call)
	}
	assert.Equal(t, "function not implemented", said["clone3"])
	assert.Equal(t, "address family not supported by protocol", said["vsock"])
	for _, what := range []string{"listen", "read", "write", "start"} { // what a test needs stays
		assert.Equal(t, "done", said[what], what)
	}
}

func TestAScriptsProcessHasNoSocketsAndNoFiles(t *testing.T) {
	said := run(t, "script")
	if strings.Contains(said["files"], "not supported") {
		t.Skip("this kernel takes away no files, or the test was built with cgo")
	}
	assert.Equal(t, "done", said["files"])
	assert.Contains(t, said["listen"], no)
	assert.Equal(t, no, said["vsock"])
	for _, what := range []string{"read", "write", "start"} {
		assert.Contains(t, said[what], "permission denied", what)
	}
	if os.Geteuid() == 0 {
		assert.Equal(t, no, said["kill"], "it is a user of its own")
	}
}
