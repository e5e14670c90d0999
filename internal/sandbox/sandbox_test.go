package sandbox

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == ChildArg {
		Child()
		return
	}
	if len(os.Args) == 2 && os.Args[1] == hostArg {
		hostOfAProgram()
		return
	}
	os.Exit(m.Run())
}

// box gives a tight box; bubblewrap must work where tests run.
func box(t testing.TB) *Box {
	t.Helper()
	dir, err := os.MkdirTemp("", "tsl-box-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o711))
	b, err := Probe(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	_, err = exec.LookPath("bwrap")
	require.NoError(t, err, "install Debian's bubblewrap")
	if b.Level != Tight {
		t.Skip("this machine's kernel gives programs no namespaces of their own: " + b.Why)
	}
	return b
}

// run runs a shell's script in a box of its own.
func run(t testing.TB, b *Box, script string, change ...func(*Spec)) (Ended, string, Folders) {
	t.Helper()
	f, err := b.Make()
	require.NoError(t, err)
	t.Cleanup(func() { b.Remove(f) })
	var out bytes.Buffer
	s := Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", script}, MemoryMB: 1024, Processes: 64, DiskMB: 50, Output: &out, Env: map[string]string{"GIVEN": "tide"}}
	for _, c := range change {
		c(&s)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	end, err := b.Run(ctx, s)
	require.NoError(t, err)
	return end, out.String(), f
}

func TestAProgramGetsItsFolderItsEnvironmentAndNothingElse(t *testing.T) {
	b := box(t)
	t.Setenv("HOST_SECRET", "low tide")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("low tide"), 0o644))
	end, out, f := run(t, b, `pwd; echo $GIVEN; env; echo made > made; echo kept > /keep/kept; ls -a / /home /root /var 2>&1; cat `+secret+` /etc/passwd /etc/shadow 2>&1; id -u; ps ax 2>/dev/null; ls /proc | grep -c '^[0-9]'; exit 7`)
	assert.Equal(t, 7, end.Code)
	assert.Contains(t, out, "/work\ntide\n")
	assert.NotContains(t, out, "low tide")
	assert.NotContains(t, out, "root:")
	assert.NotContains(t, out, "TESSELLANT_INSIDE")
	assert.Regexp(t, `(?m)^1000$`, out)
	for name, dir := range map[string]string{"made": f.Work, "kept": f.Keep} {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, name+"\n", string(raw))
	}
	_, out, _ = run(t, b, "ls "+f.Work+" "+filepath.Dir(filepath.Dir(f.Work))+" 2>&1; true")
	assert.NotContains(t, out, "made", "another program's folder is not there")
	_, out, _ = run(t, b, "touch /usr/x /etc/x /x 2>&1; mount -t tmpfs x /tmp 2>&1; unshare -U true 2>&1; true")
	assert.GreaterOrEqual(t, strings.Count(out, "\n"), 3, "all of it is refused: %s", out)
}

func TestAProgramReachesTheSocketAndNoNetwork(t *testing.T) {
	b := box(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	f, err := b.Make()
	require.NoError(t, err)
	defer b.Remove(f)
	socket := filepath.Join(f.Run, "s.sock")
	ul, err := net.Listen("unix", socket)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(socket, 0o666))
	web := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "reached "+r.URL.Path) })}
	go func() { _ = web.Serve(ul) }()
	defer web.Close()
	_, out, _ := run(t, b, `curl -sS $WD/status; echo; curl -sS -m 5 http://`+l.Addr().String()+` 2>&1; curl -sS -m 5 http://192.0.2.1 2>&1; ls /sys/class/net 2>&1; true`, func(s *Spec) { s.Work, s.Keep, s.Socket, s.URLName = f.Work, f.Keep, socket, "WD" })
	assert.Contains(t, out, "reached /status\n")
	assert.Contains(t, out, "Failed to connect to 127.0.0.1")
	assert.Regexp(t, `192\.0\.2\.1.*(unreachable|Couldn't connect|Could not connect)|Failed to connect to 192\.0\.2\.1`, out)
}

// openBox gives a box of the weaker level.
func openBox(t testing.TB) *Box {
	t.Helper()
	b := box(t)
	b.Level = Open
	return b
}

func TestAProgramThatIsEndedLeavesNothingBehind(t *testing.T) {
	for level, b := range map[Level]*Box{Tight: box(t), Open: openBox(t)} {
		t.Run(string(level), func(t *testing.T) { leavesNothing(t, b) })
	}
}

func leavesNothing(t *testing.T, b *Box) {
	f, err := b.Make()
	require.NoError(t, err)
	defer b.Remove(f)
	mark := fmt.Sprintf("sleep %d.5", 70000+os.Getpid()%10000)
	alive := func() bool {
		all, err := filepath.Glob("/proc/[0-9]*/cmdline")
		require.NoError(t, err)
		for _, name := range all {
			if raw, err := os.ReadFile(name); err == nil && strings.HasPrefix(strings.ReplaceAll(string(raw), "\x00", " "), mark) {
				return true
			}
		}
		return false
	}
	// One that ends by itself, and left a process that has left its parent.
	_, err = b.Run(t.Context(), Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", "setsid nohup " + mark + " >/dev/null 2>&1 & sleep 0.1"}, Processes: 64, Output: &bytes.Buffer{}})
	require.NoError(t, err)
	assert.Eventually(t, func() bool { return !alive() }, 5*time.Second, 20*time.Millisecond)
	// One that is ended.
	ctx, cancel := context.WithTimeoutCause(t.Context(), 700*time.Millisecond, os.ErrDeadlineExceeded)
	defer cancel()
	begin := time.Now()
	end, err := b.Run(ctx, Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", "trap '' TERM; (setsid " + mark + " &); while true; do " + mark + "; done"}, Processes: 64, Output: &bytes.Buffer{}})
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	assert.NotZero(t, end.Code)
	assert.Less(t, time.Since(begin), 6*time.Second)
	assert.Eventually(t, func() bool { return !alive() }, 5*time.Second, 20*time.Millisecond)
}

func TestTheWeakerLevelRunsAsAUserOfItsOwnWithItsLimits(t *testing.T) {
	b := openBox(t)
	end, out, f := run(t, b, "id -u; pwd; echo $GIVEN; echo made > made; echo kept > ../keep/kept; ulimit -n; exit 5")
	assert.Equal(t, 5, end.Code)
	user, rest, _ := strings.Cut(out, "\n")
	if os.Getuid() == 0 {
		assert.Greater(t, len(user), 8, "a user that owns nothing")
	} else {
		assert.Equal(t, fmt.Sprint(os.Getuid()), user)
	}
	assert.Equal(t, fmt.Sprintf("%s\ntide\n4096\n", f.Work), rest)
	assert.FileExists(t, filepath.Join(f.Keep, "kept"))
}

func TestLimitsHoldInside(t *testing.T) {
	b := box(t)
	end, out, _ := run(t, b, "bomb() { bomb | bomb & }; bomb; sleep 1; echo still here; exit 3", func(s *Spec) { s.Processes = 40 })
	assert.NotZero(t, end.Code, out)
	assert.Contains(t, out, "ork", "it could not fork: %s", out)
	end, out, _ = run(t, b, "head -c 900000000 /dev/zero | tail -c 800000000 | wc -c", func(s *Spec) { s.MemoryMB = 100 })
	assert.NotContains(t, out, "800000000", "the memory for it is not there: %s %d", out, end.Code)
	end, _, _ = run(t, b, "for i in $(seq 100); do head -c 4000000 /dev/zero > f$i; sleep 0.05; done", func(s *Spec) { s.DiskMB = 20 })
	assert.Equal(t, "it wrote more than 20 MB", end.Killed)
	end, _, _ = run(t, b, "head -c 40000000 /dev/zero > f", func(s *Spec) { s.DiskMB = 20 })
	assert.NotZero(t, end.Code, "one file has a limit of its own")
	end, out, _ = run(t, b, "true", func(s *Spec) { s.Command = []string{"no-such-program"} })
	assert.Equal(t, cantStart, end.Code)
	assert.Contains(t, out, "no-such-program can't be started: it is not here")
}

func TestRuntimesAreFoundWhereProgramsRun(t *testing.T) {
	found := box(t).Runtimes(t.Context())
	assert.Regexp(t, `^\d+\.\d+`, found["python3"])
	assert.Regexp(t, `^\d+\.\d+`, found["node"])
	assert.NotContains(t, found, "dotnet")
}

func TestAProgramThatIsNotKeptTightPutsNoLinksInThePlaceOfItsFolders(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("without root, such a program is the same user as its host")
	}
	b := openBox(t)
	_, out, f := run(t, b, "mv ../work ../other; mv ../keep ../kept; rm -rf ../keep; ln -s / ../work; ln -s /etc ../keep; ls -l ..; true")
	assert.GreaterOrEqual(t, strings.Count(out, "Permission denied"), 2, out)
	for _, dir := range []string{f.Work, f.Keep} {
		st, err := os.Lstat(dir)
		require.NoError(t, err)
		assert.True(t, st.IsDir(), "%s is what it was", dir)
	}
	_, out, _ = run(t, b, "id -u", func(s *Spec) { s.Work, s.Keep = f.Work, f.Keep })
	assert.Equal(t, fmt.Sprintf("%d\n", f.user), out, "it is nobody else by now")
}
