package script

// Ways out of a script, tried: through the language, and should there be a hole in its interpreter, from its process.

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/verdict"
)

func TestEscapesThroughTheLanguageFail(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret.star")
	require.NoError(t, os.WriteFile(secret, []byte("tide = 'low tide'\n"), 0o644))
	for name, c := range map[string]struct{ file, says string }{
		"a file of the host":              {`load("` + secret + `", "tide")`, "there is no file"},
		"a file by a way around":          {`load("../../../../` + secret + `", "tide")`, "there is no file"},
		"a file by an address":            {`load("file://` + secret + `", "tide")`, "there is no file"},
		"a module of the host's":          {`load("os", "environ")`, "there is no file"},
		"itself, again and again":         {`load("it.star", "x")`, "loads itself"},
		"an import":                       {"import os", "got import"},
		"a function that opens files":     {`x = open("` + secret + `").read()`, "undefined: open"},
		"a function that runs text":       {`x = eval("1")`, "undefined: eval"},
		"what objects are made of":        {`x = (1).__class__.__bases__`, "no .__class__ field or method"},
		"the attributes of a builtin":     {`x = getattr(len, "__self__")`, "no .__self__ field or method"},
		"more memory than there is":       {`x = "a" * (1 << 40)`, "too large"},
		"a number without end":            {`x = 1 << 100000`, "shift count too large"},
		"calls that never come back":      {"def f(n):\n    return f(n + 1)\nx = f(0)", "called recursively"},
		"a top level without end":         {"def f():\n    for a in range(1 << 30):\n        pass\nf()", "endless loop"},
		"the calls of the host by a name": {`x = phone`, "undefined: phone"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := Run(t.Context(), Case{Scripts: map[string]string{"it.star": c.file + "\ndef test_it(phone):\n    pass\n"}, File: "it.star", Func: "test_it", Limits: Limits{Steps: 1_000_000, Memory: 64 << 20}},
				func(context.Context, Call) (any, error) { return nil, nil })
			assert.NotEqual(t, verdict.Passed, o.Verdict)
			assert.Contains(t, o.Message, c.says)
			assert.NotContains(t, o.Message+o.Trace, "low tide")
		})
	}
}

// TestEscapesFromAScriptsProcessFail looks at a process while it runs a script: what it may do is what a hole in the interpreter would give. What the kernel
// refuses such a process is tried in internal/confine.
func TestEscapesFromAScriptsProcessFail(t *testing.T) {
	t.Setenv("TESSELLANT_HOST_KEY", "tslh_secret")
	left, err := os.Open("/etc/hostname") // something that this process has open
	require.NoError(t, err)
	defer left.Close()
	asks, goOn := make(chan struct{}), make(chan struct{})
	done := make(chan Outcome, 1)
	go func() {
		done <- Run(t.Context(), Case{Scripts: map[string]string{"it.star": "def test_it(phone):\n    log('here')\n"}, File: "it.star", Func: "test_it"},
			func(context.Context, Call) (any, error) { close(asks); <-goOn; return nil, nil })
	}()
	<-asks
	defer func() { close(goOn); assert.Equal(t, verdict.Passed, (<-done).Verdict) }()
	pid := childOf(t, os.Getpid())
	status := map[string]string{}
	for line := range strings.Lines(read(t, pid, "status")) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		status[name] = strings.Join(strings.Fields(value), " ")
	}
	assert.Equal(t, "2", status["Seccomp"], "calls of the kernel are filtered")
	assert.Equal(t, "1", status["NoNewPrivs"], "no program makes it somebody else")
	if os.Geteuid() == 0 {
		assert.NotEqual(t, "0", strings.Fields(status["Uid"])[0], "it is a user that owns nothing")
		assert.Equal(t, "0000000000000000", status["CapEff"], "it has no rights of root's")
		assert.Empty(t, status["Groups"])
	}
	for _, kind := range []string{"net", "ipc"} {
		own, err1 := os.Readlink("/proc/self/ns/" + kind)
		its, err2 := os.Readlink("/proc/" + pid + "/ns/" + kind)
		require.NoError(t, err1)
		require.NoError(t, err2)
		assert.NotEqual(t, own, its, "it has the host's %s", kind)
	}
	assert.NotContains(t, read(t, pid, "net/dev"), "eth")
	assert.Equal(t, "GOMAXPROCS=1\x00", read(t, pid, "environ"), "it knows nothing of the host")
	cwd, err := os.Readlink("/proc/" + pid + "/cwd")
	require.NoError(t, err)
	assert.Equal(t, "/", cwd)
	open, err := os.ReadDir("/proc/" + pid + "/fd")
	require.NoError(t, err)
	for _, fd := range open {
		name, _ := os.Readlink("/proc/" + pid + "/fd/" + fd.Name())
		assert.True(t, strings.HasPrefix(name, "pipe:") || strings.HasPrefix(name, "anon_inode:") || name == "/dev/null" || strings.HasPrefix(name, "/sys/fs/cgroup/"), "it has %s open", name) // the last are the language's own runtime's
	}
	limits := read(t, pid, "limits")
	assert.NotRegexp(t, `Max cpu time\s+unlimited`, limits)
	if bounded {
		assert.NotRegexp(t, `Max data size\s+unlimited`, limits)
	}
}

func read(t *testing.T, pid, name string) string {
	t.Helper()
	raw, err := os.ReadFile("/proc/" + pid + "/" + name)
	require.NoError(t, err)
	return string(raw)
}

// childOf finds the process that this one started to run a script.
func childOf(t *testing.T, parent int) string {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		all, _ := filepath.Glob("/proc/[0-9]*")
		for _, dir := range all {
			stat, _ := os.ReadFile(dir + "/stat")
			said, _ := os.ReadFile(dir + "/cmdline")
			_, rest, _ := strings.Cut(string(stat), ") ")
			if f := strings.Fields(rest); len(f) > 1 && f[1] == strconv.Itoa(parent) && strings.Contains(string(said), ChildArg) {
				return filepath.Base(dir)
			}
		}
	}
	require.Fail(t, "there is no such process")
	return ""
}

// TestAScriptsProcessEndsWithItsHost is about a host that is killed while a script computes without end, and asks for nothing.
func TestAScriptsProcessEndsWithItsHost(t *testing.T) {
	host := exec.Command(os.Args[0], hostArg)
	out, err := host.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, host.Start())
	_, err = out.Read(make([]byte, 1)) // the script is at work
	require.NoError(t, err)
	script := childOf(t, host.Process.Pid)
	require.Eventually(t, func() bool { // it computes: the time that it used stands behind its name, as field 14 (proc_pid_stat(5))
		_, after, _ := strings.Cut(read(t, script, "stat"), ") ")
		used, err := strconv.Atoi(strings.Fields(after)[11])
		return err == nil && used >= 20
	}, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, host.Process.Kill())
	_ = host.Wait()
	assert.Eventually(t, func() bool {
		_, err := os.Stat("/proc/" + script)
		return errors.Is(err, os.ErrNotExist)
	}, 5*time.Second, 10*time.Millisecond, "it computes on for nobody")
}

// hostArg is the argument with which the test binary is a host that runs such a script.
const hostArg = "host-of-a-script"

func hostOfAScript() {
	Run(context.Background(), Case{Scripts: map[string]string{"it.star": "def test_it(phone):\n    log('here')\n    for i in range(1 << 40):\n        pass\n"}, File: "it.star", Func: "test_it", Limits: Limits{Steps: 1 << 60, Memory: 64 << 20, CPU: 60}},
		func(context.Context, Call) (any, error) { fmt.Print("x"); return nil, nil })
}
