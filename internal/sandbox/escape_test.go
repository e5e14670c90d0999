package sandbox

// Ways out of the box, tried: each must fail, with the programs' network and without.

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// escape is one way that is tried: a program, and what must come of it.
type escape struct {
	name   string
	sh     string // a shell's script
	py     string // or one of Python, with the function call(number, …) for calls of the kernel
	says   string // what it must say: the reason why not
	killed string // or why the box was ended
	change func(*Spec)
}

// python lets a program call the kernel, and say what came of it.
const python = `
import ctypes, os, socket, sys, time, struct, threading
libc = ctypes.CDLL(None, use_errno=True)
libc.syscall.restype = ctypes.c_long
def call(name, number, *args):
    r = libc.syscall(ctypes.c_long(number), *[ctypes.c_long(a) if isinstance(a, int) else a for a in args])
    print(name, "done" if r >= 0 else os.strerror(ctypes.get_errno()), flush=True)
    return r
def reach(host, port):
    try:
        socket.create_connection((host, port), 4).close()
        print("reached", host, port)
    except OSError as e:
        print("no way to", host)
`

// escapes lists them. %SECRET% is a file of the host that everybody may read, %PID% the host's process, %OWN% the address of this machine on its network, %PORT% a
// server on loopback, %OWNPORT% one on all addresses, %OTHER% the folder of another program.
var escapes = []escape{
	{name: "a file of the host", sh: "cat %SECRET%", says: "No such file"},
	{name: "the host's users", sh: "cat /etc/passwd /etc/shadow; id", says: "No such file"},
	{name: "the folder of another program", sh: "ls %OTHER%", says: "No such file"},
	{name: "the environment of the host", sh: "cat /proc/%PID%/environ /proc/1/environ | tr '\\0' '\\n'; echo over", says: "over"},
	{name: "the host's processes", sh: "test $(ls -d /proc/[0-9]* | wc -l) -lt 15 && echo alone", says: "alone"},
	{name: "a signal to the host", sh: "kill -9 %PID%; kill -9 -1; true", says: ""},
	{name: "files that were left open", sh: "ls -l /proc/self/fd; cat /proc/self/fd/[3-9] 2>&1; true", says: "/proc/self/fd"},
	{name: "the system's folders", sh: "touch /usr/x /etc/x /x /run/x /lib/x", says: "Read-only file system"},
	{name: "/dev", sh: "head -c 1000000 /dev/zero > /dev/x; mknod /dev/sda b 8 0; mkdir /dev/y", says: "Read-only file system"},
	{name: "/tmp without end", sh: "head -c 700000000 /dev/zero > /tmp/a || head -c 700000000 /dev/zero > /tmp/b; df -m /tmp | tail -1", says: "o space left", change: func(s *Spec) { s.DiskMB, s.MemoryMB = 4000, 4000 }},
	{name: "/dev/shm without end", sh: "head -c 100000000 /dev/zero > /dev/shm/x", says: "No space left", change: func(s *Spec) { s.DiskMB, s.MemoryMB = 4000, 4000 }},
	{name: "a mount", py: `call("mount", 165, b"x", b"/tmp", b"tmpfs", 0, 0)`, says: "mount Operation not permitted"},
	{name: "a mount of the new kind", py: `call("fsopen", 430, b"tmpfs", 0); call("open_tree", 428, -100, b"/", 1); call("move_mount", 429, 0, 0, 0, 0, 0)`, says: "fsopen Operation not permitted\nopen_tree Operation not permitted\nmove_mount Operation not permitted"},
	{name: "another root", py: `call("chroot", 161, b"/tmp"); call("pivot_root", 155, b"/tmp", b"/tmp")`, says: "chroot Operation not permitted\npivot_root Operation not permitted"},
	{name: "new namespaces", py: `call("unshare", 272, 0x10000000); call("clone", 56, 0x10000000 | 17, 0, 0, 0, 0); call("clone3", 435, 0, 0)`, says: "unshare Operation not permitted\nclone Operation not permitted\nclone3 Function not implemented"},
	{name: "the namespaces of others", py: `call("setns", 308, os.open("/proc/1/ns/net", os.O_RDONLY), 0)`, says: "setns Operation not permitted"},
	{name: "the memory of others", py: `call("ptrace", 101, 16, 1, 0, 0); call("process_vm_readv", 310, 1, 0, 0, 0, 0, 0); call("pidfd_getfd", 438, 0, 0, 0)`, says: "ptrace Operation not permitted\nprocess_vm_readv Operation not permitted\npidfd_getfd Operation not permitted"},
	{name: "the kernel's keys", py: `call("keyctl", 250, 0, -3, 1); call("add_key", 248, b"user", b"x", b"y", 1, -3); call("request_key", 249, b"user", b"x", 0, -3)`, says: "keyctl Operation not permitted\nadd_key Operation not permitted\nrequest_key Operation not permitted"},
	{name: "programs in the kernel", py: `call("bpf", 321, 0, 0, 0); call("perf_event_open", 298, 0, 0, 0, 0, 0)`, says: "bpf Operation not permitted\nperf_event_open Operation not permitted"},
	{name: "page faults by hand", py: `call("userfaultfd", 323, 0)`, says: "userfaultfd Operation not permitted"},
	{name: "queues in the kernel", py: `call("io_uring_setup", 425, 8, ctypes.create_string_buffer(256)); call("io_uring_enter", 426, 0, 0, 0, 0, 0)`, says: "io_uring_setup Operation not permitted\nio_uring_enter Operation not permitted"},
	{name: "calls under other numbers", py: `call("x32", 0x40000000 + 39)`, says: "x32 Operation not permitted"},
	{name: "files by their handles", py: `call("open_by_handle_at", 304, -100, 0, 0); call("name_to_handle_at", 303, -100, b"/", 0, 0, 0)`, says: "open_by_handle_at Operation not permitted"},
	{name: "the machine's clock and name", py: `call("clock_settime", 227, 0, 0); call("sethostname", 170, b"x", 1); call("reboot", 169, 0, 0, 0, 0)`, says: "clock_settime Operation not permitted\nsethostname Operation not permitted\nreboot Operation not permitted"},
	{name: "another user", py: "for f in (os.setuid, os.setgid):\n    try: f(0); print('root')\n    except OSError as e: print(e)", says: "Invalid argument"},
	{name: "programs that make one root", sh: "ls -l /usr/bin/su /usr/bin/mount | head -2; su -c id; mount -t tmpfs x /tmp; id -u", says: "\n1000\n"},
	{name: "sockets of other kinds", py: "for f in (17, 40, 38):\n    try: socket.socket(f, socket.SOCK_RAW); print('made')\n    except OSError as e: print(e)", says: "Address family not supported"},
	{name: "a socket of the host without a name on the disk", py: "s = socket.socket(socket.AF_UNIX)\ntry: s.connect('\\0tessellant-escape'); print('reached')\nexcept OSError as e: print(e)", says: "Connection refused"},
	{name: "the host's loopback", py: `reach("127.0.0.1", %PORT%); reach("localhost", %PORT%); reach("10.0.2.2", %PORT%); reach("198.18.57.2", %PORT%)`, says: "no way to 127.0.0.1\nno way to localhost\nno way to 10.0.2.2\nno way to 198.18.57.2"},
	{name: "the host on its network", py: `reach("%OWN%", %OWNPORT%)`, says: "no way to %OWN%"},
	{name: "what clouds tell their machines", py: `reach("169.254.169.254", 80); reach("100.100.100.200", 80)`, says: "no way to 169.254.169.254\nno way to 100.100.100.200"},
	{name: "limits that are raised", sh: "ulimit -n 100000; ulimit -u 100000; ulimit -c unlimited; ulimit -d unlimited; true", says: "not permitted"},
	{name: "processes without end", sh: "bomb() { bomb | bomb & }; bomb; sleep 2", says: "ork", change: func(s *Spec) { s.Processes = 40 }},
	{name: "memory in many processes", py: "for i in range(20):\n    if os.fork() == 0:\n        x = bytearray(40 << 20)\n        for j in range(0, len(x), 4096): x[j] = 1\n        time.sleep(20); os._exit(0)\ntime.sleep(20)", killed: "its processes took more than 256 MB of memory together", change: func(s *Spec) { s.MemoryMB = 256 }},
	{name: "memory in files without names", py: "fd = os.memfd_create('x')\nfor i in range(600): os.write(fd, b'x' * (1 << 20))\ntime.sleep(20)", killed: "its processes took more than 256 MB of memory together", change: func(s *Spec) { s.MemoryMB, s.DiskMB = 256, 4000 }},
	{name: "memory that is shared the old way", py: `call("shmget", 29, 0, 1 << 30, 0o600)`, says: "shmget Operation not permitted"},
	{name: "processor time without end", py: "for i in range(4):\n    if os.fork() == 0:\n        while True: pass\ntime.sleep(20)", killed: "it used more than 2s of processor time", change: func(s *Spec) { s.CPU = 2 * time.Second }},
	{name: "files without end", sh: "for i in $(seq 100); do head -c 4000000 /dev/zero > f$i; sleep 0.05; done", killed: "it wrote more than 20 MB", change: func(s *Spec) { s.DiskMB = 20 }},
	{name: "files that have lost their names", py: "fds = []\nfor i in range(100):\n    f = open('x', 'wb'); f.write(b'x' * (4 << 20)); f.flush(); os.unlink('x'); fds.append(f); time.sleep(0.05)\ntime.sleep(20)", killed: "it wrote more than 20 MB", change: func(s *Spec) { s.DiskMB = 20 }},
	{name: "so many files that none can be made any more", py: "for i in range(1000000):\n    os.close(os.open(str(i), os.O_CREAT | os.O_WRONLY))", killed: "it made more than 100000 files", change: func(s *Spec) { s.DiskMB = 100_000 }},
	{name: "folders without end", py: "for i in range(3000):\n    os.mkdir('d'); os.chdir('d')\ntime.sleep(20)", killed: "it made folders more than 100 deep"},
	{name: "a life of its own", py: "if os.fork() == 0:\n    os.setsid()\n    if os.fork() == 0:\n        os.execvp('sleep', ['sleep', '77777.25'])\n    os._exit(0)\nprint('gone on')", says: "gone on"},
	{name: "links to what is the host's", sh: "ln -s /etc /keep/etc; ln -s %SECRET% /keep/secret; ln -s / root; ln %SECRET% hard; chmod 000 . ; true", says: "ln: "},
}

// besides are what an escape could find on this machine.
type besides struct{ replace *strings.Replacer }

func around(t *testing.T, b *Box) besides {
	t.Helper()
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("low tide"), 0o644))
	t.Setenv("HOST_SECRET", "low tide")
	fd, err := syscall.Open(secret, syscall.O_RDONLY, 0) // without O_CLOEXEC: left open to whatever is started
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	serve := func(address string) string {
		l, err := net.Listen("tcp", address)
		require.NoError(t, err)
		web := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "low tide") })}
		go func() { _ = web.Serve(l) }()
		t.Cleanup(func() { _ = web.Close() })
		_, port, _ := net.SplitHostPort(l.Addr().String())
		return port
	}
	abstract, err := net.Listen("unix", "@tessellant-escape")
	require.NoError(t, err)
	t.Cleanup(func() { _ = abstract.Close() })
	other, err := b.Make()
	require.NoError(t, err)
	t.Cleanup(func() { b.Remove(other) })
	require.NoError(t, os.WriteFile(filepath.Join(other.Work, "secret"), []byte("low tide"), 0o644))
	own := "192.0.2.1"
	if all, err := net.InterfaceAddrs(); err == nil {
		for _, a := range all {
			if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
				own = n.IP.String()
			}
		}
	}
	return besides{strings.NewReplacer("%SECRET%", secret, "%PID%", fmt.Sprint(os.Getpid()), "%OWN%", own, "%PORT%", serve("127.0.0.1:0"), "%OWNPORT%", serve("0.0.0.0:0"), "%OTHER%", other.Work)}
}

// all has each escape tried with the programs' network, too; else only those that are about a network.
var all = flag.Bool("all", false, "try each escape with a network, too")

func TestEscapesFromTheBoxFail(t *testing.T) {
	b := box(t)
	x := around(t, b)
	for _, network := range []bool{false, true} {
		t.Run(map[bool]string{false: "without a network", true: "with a network"}[network], func(t *testing.T) {
			if network {
				mayHaveWay(t, b)
			}
			for _, e := range escapes {
				if network && !*all && !strings.Contains(e.py+e.sh, "reach(") && !strings.Contains(e.py, "socket.socket(") {
					continue
				}
				t.Run(e.name, func(t *testing.T) {
					t.Parallel()
					x.fails(t, b, e, network)
				})
			}
		})
	}
}

// mayHaveWay skips where no program can be given a network: that takes /dev/net/tun, which not every container has.
func mayHaveWay(t *testing.T, b *Box) {
	t.Helper()
	if err := b.TryNetwork(t.Context()); err != nil {
		t.Skip("this machine can't give programs a network of their own: " + err.Error())
	}
}

// fails tries one way out.
func (x besides) fails(t *testing.T, b *Box, e escape, network bool) {
	t.Helper()
	f, err := b.Make()
	require.NoError(t, err)
	var out bytes.Buffer
	s := Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", x.replace.Replace(e.sh) + " 2>&1"}, MemoryMB: 1024, Processes: 64, DiskMB: 50, CPU: time.Minute, Output: &out, Network: network}
	if e.sh != "" {
		s.Command[2] = "exec 2>&1; " + x.replace.Replace(e.sh)
	}
	if e.py != "" {
		s.Command = []string{"python3", "-c", python + x.replace.Replace(e.py)}
	}
	if e.change != nil {
		e.change(&s)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	end, err := b.Run(ctx, s)
	require.NoError(t, err, out.String())
	assert.Equal(t, e.killed, end.Killed, out.String())
	assert.Contains(t, out.String(), x.replace.Replace(e.says))
	assert.NotContains(t, out.String(), "low tide", "it has read what is the host's")
	assert.NotContains(t, out.String(), "reached")
	assert.NotContains(t, out.String(), "root\n")
	b.Remove(f)
	assert.NoDirExists(t, f.root, "nothing of it is left")
	assert.DirExists(t, "/etc")
	if e.name == "a life of its own" {
		assert.Eventually(t, func() bool {
			return exec.Command("pgrep", "-f", "^sleep 77777.25").Run() != nil
		}, 5*time.Second, 20*time.Millisecond, "it ends with the box")
	}
}

func TestAProgramWithTheNetworkGetsOutAndNotToThisMachine(t *testing.T) {
	b := box(t)
	mayHaveWay(t, b)
	x := around(t, b)
	// Nothing but this machine is here to be reached: that a way out is there at all is seen where its address is not refused.
	program := python + x.replace.Replace(`reach("%OWN%", %OWNPORT%); print(open("/etc/resolv.conf").read())`)
	run := func() string {
		_, out, _ := run(t, b, "", func(s *Spec) { s.Network, s.Command = true, []string{"python3", "-c", program} })
		return out
	}
	out := run()
	assert.Contains(t, out, "no way to")
	assert.Contains(t, out, "nameserver "+names)
	defer func() { ownAddresses = net.InterfaceAddrs }()
	ownAddresses = func() ([]net.Addr, error) { return nil, nil }
	assert.Contains(t, run(), "reached")
}

// TestNothingOfABoxOutlivesItsHost is about a host that is killed while a program with the network runs.
func TestNothingOfABoxOutlivesItsHost(t *testing.T) {
	b := box(t)
	mayHaveWay(t, b)
	host := exec.Command(os.Args[0], hostArg)
	host.Env = append(os.Environ(), "TMPDIR="+b.base)
	out, err := host.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, host.Start())
	_, err = out.Read(make([]byte, 1)) // the program runs
	require.NoError(t, err)
	started := below(host.Process.Pid)
	require.GreaterOrEqual(t, len(started), 3, "the box, the program, and its way out")
	require.NoError(t, host.Process.Kill())
	_ = host.Wait()
	assert.Eventually(t, func() bool {
		for _, pid := range started {
			if raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && !strings.Contains(string(raw), ") Z ") {
				return false
			}
		}
		return true
	}, 5*time.Second, 20*time.Millisecond)
}

// hostArg is the argument with which the test binary is a host that runs such a program.
const hostArg = "host-of-a-program"

func hostOfAProgram() {
	b, err := Probe(context.Background(), "")
	if err != nil {
		panic(err)
	}
	f, err := b.Make()
	if err != nil {
		panic(err)
	}
	_, _ = b.Run(context.Background(), Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", "echo x; sleep 60"}, Network: true, Output: os.Stdout})
}
