package sandbox

// The way out of a program that may use the network: a network of its own, from which connections go through slirp4netns
// (https://github.com/rootless-containers/slirp4netns), never to this machine. Its loopback is nowhere in it; to its other addresses, to link-local ones and to
// those where clouds keep what machines may know, there is no route.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Files that are handed to bubblewrap, and by it on.
const (
	infoFile = 3 // bubblewrap says on it which process it started
	goFile   = 4 // what runs inside waits on it
	hereFile = 5 // what runs inside closes it when it waits: the box stands
)

const (
	ownNet    = "198.18.57.0/24" // of those for tests of networks (RFC 2544): hardly in use where a program wants to go
	names     = "198.18.57.3"    // where slirp4netns answers for names
	wayWithin = 10 * time.Second
)

// hidden are the networks that no program reaches: link-local ones (RFC 3927), where clouds tell machines their secrets, and two more such addresses.
var hidden = []string{"169.254.0.0/16", "100.100.100.200/32", "168.63.129.16/32"}

// wayOut is the way of one program.
type wayOut struct {
	info, infoIn *os.File
	goes, goOut  *os.File
	here, hereIn *os.File
	slirp        *exec.Cmd
}

// makeWay prepares it.
func (b *Box) makeWay() (*wayOut, error) {
	for _, need := range []string{"slirp4netns", "nsenter", "ip"} {
		if _, err := exec.LookPath(need); err != nil {
			return nil, fmt.Errorf("this host can't give programs a network without its own: %s is not installed; on Debian: apt-get install slirp4netns util-linux iproute2", need)
		}
	}
	w := &wayOut{}
	var err error
	w.info, w.infoIn, err = os.Pipe()
	if err == nil {
		w.goOut, w.goes, err = os.Pipe()
	}
	if err == nil {
		w.here, w.hereIn, err = os.Pipe()
	}
	if err != nil {
		w.close()
		return nil, err
	}
	return w, nil
}

// TryNetwork says why no program can be given a network here; nil: one can.
func (b *Box) TryNetwork(ctx context.Context) error {
	f, err := b.Make()
	if err != nil {
		return err
	}
	defer b.Remove(f)
	_, err = b.Run(ctx, Spec{Work: f.Work, Keep: f.Keep, Command: []string{"true"}, Network: true, Output: io.Discard})
	return err
}

func (w *wayOut) files() []*os.File { return []*os.File{w.infoIn, w.goOut, w.hereIn} }

func (w *wayOut) close() {
	if w.slirp != nil && w.slirp.Process != nil {
		_ = w.slirp.Process.Kill()
		_ = w.slirp.Wait()
	}
	for _, f := range []*os.File{w.info, w.infoIn, w.goes, w.goOut, w.here, w.hereIn} {
		if f != nil {
			_ = f.Close()
		}
	}
}

// ownAddresses are this machine's. A variable for tests alone.
var ownAddresses = net.InterfaceAddrs

// namesFile is what programs with the network find as /etc/resolv.conf.
func (b *Box) namesFile() string { return filepath.Join(b.base, "resolv.conf") }

// refused are the networks to which there is no route: this machine's addresses are among them.
func (b *Box) refused() []string {
	out := append([]string(nil), hidden...)
	own, _ := ownAddresses()
	for _, a := range own {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() && !p.Addr().IsLoopback() {
			out = append(out, p.Addr().String()+"/32")
		}
	}
	for _, a := range b.Refused {
		if a.Is4() && !a.IsLoopback() && !a.IsUnspecified() {
			out = append(out, a.String()+"/32")
		}
	}
	return out
}

// open opens the way of a program that waits for it.
func (w *wayOut) open(ctx context.Context, refused []string) error {
	ctx, cancel := context.WithTimeout(ctx, wayWithin)
	defer cancel()
	_, _ = w.infoIn.Close(), w.hereIn.Close() // the box has them
	_ = w.info.SetReadDeadline(time.Now().Add(wayWithin))
	var about struct {
		PID int `json:"child-pid"`
	}
	if err := json.NewDecoder(w.info).Decode(&about); err != nil || about.PID == 0 {
		return fmt.Errorf("bubblewrap did not say what it started: %w", err)
	}
	pid := strconv.Itoa(about.PID)
	_ = w.here.SetReadDeadline(time.Now().Add(wayWithin))
	if _, err := w.here.Read(make([]byte, 1)); !errors.Is(err, io.EOF) {
		return errors.New("the program's box did not come to stand")
	}
	ready, readyIn, err := os.Pipe()
	if err != nil {
		return err
	}
	defer ready.Close()
	args := []string{"--configure", "--mtu=65520", "--disable-host-loopback", "--cidr=" + ownNet, "--netns-type=path", "--ready-fd=3"}
	enter := []string{"-n", "-t", pid}
	if os.Geteuid() != 0 {
		args = append(args, "--userns-path=/proc/"+pid+"/ns/user")
		enter = append(enter, "-U", "--preserve-credentials")
	}
	var said sayings
	w.slirp = exec.Command("slirp4netns", append(args, "/proc/"+pid+"/ns/net", "tap0")...)
	w.slirp.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"}
	w.slirp.Stdout, w.slirp.Stderr, w.slirp.ExtraFiles = &said, &said, []*os.File{readyIn}
	w.slirp.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	err = w.slirp.Start()
	_ = readyIn.Close()
	if err != nil {
		w.slirp = nil
		return fmt.Errorf("the program's network: %w", err)
	}
	_ = ready.SetReadDeadline(time.Now().Add(wayWithin))
	if _, err := ready.Read(make([]byte, 1)); err != nil {
		return fmt.Errorf("this host can't give programs a network without its own: slirp4netns: %s", lastLine(said.String()))
	}
	var routes strings.Builder
	for _, r := range refused {
		fmt.Fprintf(&routes, "route add unreachable %s\n", r)
	}
	cmd := exec.CommandContext(ctx, "nsenter", append(enter, "ip", "-batch", "-")...)
	cmd.Stdin = strings.NewReader(routes.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the program's network can't be kept from this machine: %s", lastLine(string(out)))
	}
	if _, err := w.goes.Write([]byte("g")); err != nil {
		return errors.Join(errors.New("the program did not wait for its network"), err)
	}
	return nil
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}
