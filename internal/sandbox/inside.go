package sandbox

// What this program does inside of the sandbox: it sets the limits, opens the way to the socket, and starts the program.

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"tessellant/internal/confine"
)

// ChildArg is the argument with which this program does it.
const ChildArg = "inside-of-a-box"

const specName = "TESSELLANT_INSIDE"

// inside is what it needs to know.
type inside struct {
	Command             []string
	Dir                 string
	Socket, URLName     string
	Go                  bool // it waits for a word that its network is there
	MemoryMB, Processes int
	FileMB              int
	Adopt               bool // it has no process namespace of its own
}

// cantStart is the exit code when the program could not be started, as shells have it.
const cantStart = 127

// Child runs the program and answers with its exit code.
func Child() {
	var in inside
	if err := json.Unmarshal([]byte(os.Getenv(specName)), &in); err != nil || len(in.Command) == 0 {
		fmt.Fprintln(os.Stderr, "there is nothing to run")
		os.Exit(cantStart)
	}
	_ = os.Unsetenv(specName)
	if in.Go {
		_ = os.NewFile(hereFile, "here").Close()
		if _, err := os.NewFile(goFile, "go").Read(make([]byte, 1)); err != nil {
			fmt.Fprintln(os.Stderr, "the network did not come")
			os.Exit(cantStart)
		}
	}
	if in.Socket != "" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			fmt.Fprintln(os.Stderr, "the way to the device can't be opened:", err)
			os.Exit(cantStart)
		}
		_ = os.Setenv(in.URLName, "http://"+l.Addr().String())
		go bridge(l, in.Socket)
	}
	path, err := exec.LookPath(in.Command[0])
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s can't be started: it is not here\n", in.Command[0])
		os.Exit(cantStart)
	}
	cmd := &exec.Cmd{Path: path, Args: in.Command, Dir: in.Dir, Stdout: os.Stdout, Stderr: os.Stderr}
	// The limits hold for the program, and not for the bridge beside it.
	limits := []string{"--core=0", "--nofile=4096"}
	if in.MemoryMB > 0 {
		limits = append(limits, fmt.Sprintf("--data=%d", in.MemoryMB<<20))
	}
	if in.Processes > 0 {
		limits = append(limits, fmt.Sprintf("--nproc=%d", in.Processes))
	}
	if in.FileMB > 0 {
		limits = append(limits, fmt.Sprintf("--fsize=%d", in.FileMB<<20))
	}
	if prlimit, err := exec.LookPath("prlimit"); err == nil {
		cmd.Path, cmd.Args = prlimit, append(append([]string{prlimit}, limits...), append([]string{"--", path}, in.Command[1:]...)...)
	} else {
		fmt.Fprintln(os.Stderr, "limits can't be set: prlimit (util-linux) is not here")
		os.Exit(cantStart)
	}
	signal.Ignore(syscall.SIGHUP)
	if err := errors.Join(confine.Descriptors(), confine.Syscalls(true)); err != nil {
		fmt.Fprintln(os.Stderr, "the program can't be confined:", err)
		os.Exit(cantStart)
	}
	if in.Adopt {
		if err := adopt(); err != nil {
			fmt.Fprintln(os.Stderr, "what the program starts can't be ended with it:", err)
			os.Exit(cantStart)
		}
	}
	if err := cmd.Start(); err != nil {
		fmt.Fprintf(os.Stderr, "%s can't be started: %v\n", in.Command[0], err)
		os.Exit(cantStart)
	}
	_ = cmd.Wait()
	if in.Adopt {
		killBelow(os.Getpid())
	}
	code := cmd.ProcessState.ExitCode()
	if s, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && s.Signaled() {
		code = 128 + int(s.Signal())
	}
	os.Exit(code)
}

// bridge carries connections to the socket.
func bridge(l net.Listener, socket string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			to, err := net.Dial("unix", socket)
			if err != nil {
				return
			}
			defer to.Close()
			go func() {
				_, _ = io.Copy(to, c)
				_ = to.(*net.UnixConn).CloseWrite()
			}()
			_, _ = io.Copy(c, to)
		}()
	}
}
