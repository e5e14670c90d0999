// Package browserbox keeps a Chromium apart from the machine that it runs on.
//
// In the box it sees programs and fonts of the machine, no files of anybody's, and writes into memory that goes with it; a page at file:// finds nothing. It has the
// machine's network: who starts it leads its pages through a proxy. In: what is installed here. Out: the words that a command begins with, and Chromium's flags in it.
package browserbox

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"tessellant/internal/child"
)

// Box is what commands begin with in it.
type Box struct {
	Args  []string // nil: there is none
	Flags []string // of Chromium: its own sandbox works within the box where the kernel allows it; where not, the box is the only one
	Why   string   // why there is none
}

// Home is where a browser may write in the box.
const Home = "/tmp"

const tryTakes = 30 * time.Second

var found struct {
	sync.Mutex
	*Box
}

// Here gives the box of this machine. One that was found holds for this process; none is looked for again.
func Here(ctx context.Context) Box {
	found.Lock()
	defer found.Unlock()
	if found.Box != nil {
		return *found.Box
	}
	b := find(ctx)
	if b.Why == "" {
		found.Box = &b
	}
	return b
}

func find(ctx context.Context) (b Box) {
	b.Args = args()
	if b.Why = trial(ctx, b.Args); b.Why == "" {
		return b
	}
	if b.Flags = []string{"--no-sandbox"}; trial(ctx, b.Args, b.Flags...) == "" {
		b.Why = ""
		return b
	}
	return Box{Why: b.Why}
}

// args is the command line of bubblewrap.
func args() []string {
	box := []string{"bwrap", "--unshare-user", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try", "--uid", "65534", "--gid", "65534", "--hostname", "browser", "--die-with-parent", "--new-session",
		"--ro-bind", "/usr", "/usr", "--proc", "/proc", "--dev", "/dev", "--tmpfs", "/dev/shm", "--tmpfs", Home, "--dir", "/etc"}
	for _, name := range []string{"/bin", "/lib", "/lib64", "/sbin"} {
		to, err := os.Readlink(name)
		if err == nil {
			box = append(box, "--symlink", to, name)
		} else {
			box = append(box, "--ro-bind-try", name, name)
		}
	}
	for _, name := range []string{"fonts", "hosts", "nsswitch.conf", "resolv.conf", "ssl/certs", "ca-certificates", "alternatives", "ld.so.cache", "chromium", "chromium.d"} {
		path := filepath.Join("/etc", name)
		box = append(box, "--ro-bind-try", path, path)
	}
	return append(box, "--chdir", Home, "--setenv", "HOME", Home)
}

// Command is a command in the box, whose processes end with this one. Binds are folders that it sees besides: where they are here, and where there.
func (b Box) Command(ctx context.Context, binds [][2]string, program string, args ...string) *exec.Cmd {
	var words []string
	if b.Args != nil {
		words = append(words, b.Args...)
		for _, x := range binds {
			words = append(words, "--bind", x[0], x[1])
		}
		words = append(words, "--")
	}
	words = append(append(words, program), args...)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env = child.Environment([]string{"LANG", "LC_"}, "PATH=/usr/local/bin:/usr/bin:/bin", "HOME="+Home, "TMPDIR="+Home, "DBUS_SESSION_BUS_ADDRESS=disabled:")
	return cmd
}

// Browser is the command of a Chromium in the box, with its profile in a folder of this machine.
func Browser(ctx context.Context, profile string, args ...string) (*exec.Cmd, error) {
	box := Here(ctx)
	if box.Why != "" {
		return nil, fmt.Errorf("Chromium can't be kept apart from this machine (%s): install bubblewrap and allow user namespaces", box.Why) //nolint:staticcheck // a name
	}
	const there = Home + "/profile"
	return box.Command(context.WithoutCancel(ctx), [][2]string{{profile, there}}, "chromium", append(append([]string{"--user-data-dir=" + there}, box.Flags...), args...)...), nil
}

// trial starts Chromium in the box on an empty page; "": it came up.
func trial(ctx context.Context, box []string, flags ...string) string {
	ctx, cancel := context.WithTimeout(ctx, tryTakes)
	defer cancel()
	cmd := Box{Args: box}.Command(ctx, nil, "chromium", append(append([]string{"--headless=new", "--disable-dev-shm-usage", "--dump-dom"}, flags...), "data:text/html,<p>here</p>")...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	cmd.WaitDelay = time.Second
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	if strings.Contains(out.String(), "here") {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(said.String()), "\n")
	return fmt.Sprintf("%v: %.300s", err, lines[len(lines)-1])
}
