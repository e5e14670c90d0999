package faults

// The lab: service, host and phones, each of which can be taken away.

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/child"
	"tessellant/internal/cli"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/demo"
	"tessellant/internal/doctor"
	"tessellant/internal/housetest"
	"tessellant/internal/sandbox"
	"tessellant/internal/script"
	"tessellant/internal/serve"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

// asTessellant makes the test binary the program.
const asTessellant = "as-tessellant"

func TestMain(m *testing.M) {
	switch {
	case len(os.Args) == 2 && os.Args[1] == script.ChildArg:
		script.Child()
	case len(os.Args) == 2 && os.Args[1] == sandbox.ChildArg:
		sandbox.Child()
	case len(os.Args) > 1 && os.Args[1] == asTessellant:
		os.Exit(cli.Main(os.Args[2:], os.Stdout, os.Stderr, serve.Add, doctor.Add, demo.Add))
	default:
		os.Exit(housetest.Tests{M: m}.Run())
	}
}

var ctx = context.Background()

// process is one of ours that can be killed and started again.
type process struct {
	t    testing.TB
	args []string
	env  []string
	log  string
	cmd  *exec.Cmd
	done chan struct{}
}

func (p *process) start() {
	p.t.Helper()
	self, err := os.Executable()
	require.NoError(p.t, err)
	out, err := os.OpenFile(p.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(p.t, err)
	defer out.Close()
	p.cmd = exec.Command(self, append([]string{asTessellant}, p.args...)...)
	p.cmd.Env = append(os.Environ(), p.env...)
	p.cmd.Stdout, p.cmd.Stderr = out, out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(p.t, p.cmd.Start())
	cmd, done := p.cmd, make(chan struct{})
	p.done = done
	go func() { _ = cmd.Wait(); close(done) }()
}

// kill is kill -9.
func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	<-p.done
}

// end asks the process to end and waits for it.
func (p *process) end() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(30 * time.Second):
		p.kill()
	}
}

// childNamed gives the process id of a child of p by its name.
func (p *process) childNamed(name string) int {
	p.t.Helper()
	found := 0
	housetest.Eventually(p.t, name+" runs", func() bool {
		dirs, _ := filepath.Glob("/proc/[0-9]*/stat")
		for _, d := range dirs {
			raw, _ := os.ReadFile(d)
			_, rest, ok := strings.Cut(string(raw), "(")
			comm, after, ok2 := strings.Cut(rest, ") ")
			if f := strings.Fields(after); ok && ok2 && len(f) > 1 && comm == name && f[1] == strconv.Itoa(p.cmd.Process.Pid) {
				found, _ = strconv.Atoi(filepath.Base(filepath.Dir(d)))
				return true
			}
		}
		return false
	})
	return found
}

// lab is a service, a host that joined it, and phones.
type lab struct {
	*api.ClientWithResponses
	t       testing.TB
	dir     string
	url     string
	service *process
	host    *process
	phones  []*standin.Phone // alike, all of them
	limit   int              // seconds, of the runs that are started; 0: as by default
	small   bool             // the blobs lie on a small disk
}

func (l *lab) blobs() string { return filepath.Join(l.dir, "service", "blobs") }

// mountSmall moves the blobs onto a disk with room for little more than the reserve; false: that can't be done here.
func (l *lab) mountSmall() bool {
	l.t.Helper()
	if os.Geteuid() != 0 {
		return false
	}
	l.service.end()
	defer func() { l.service.start(); l.up() }()
	blobs := l.blobs()
	require.NoError(l.t, os.Rename(blobs, blobs+".old"))
	require.NoError(l.t, os.Mkdir(blobs, 0o700))
	if syscall.Mount("tmpfs", blobs, "tmpfs", 0, "size=512m") != nil {
		require.NoError(l.t, os.Remove(blobs))
		require.NoError(l.t, os.Rename(blobs+".old", blobs))
		return false
	}
	l.t.Cleanup(func() { _ = syscall.Unmount(blobs, syscall.MNT_DETACH) })
	out, err := exec.Command("cp", "-a", blobs+".old/.", blobs).CombinedOutput()
	require.NoError(l.t, err, string(out))
	l.small = true
	return true
}

const labKey = "tsl_a_key_for_the_lab_alone"

// newLab starts all, with so many phones of one model; serve is what serve is told besides.
func newLab(t testing.TB, phones int, serve ...string) *lab {
	t.Helper()
	dir, err := os.MkdirTemp("", "tsl-lab-") // not the test's own: what it is named after may be long for a socket
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	port, err := child.FreePort()
	require.NoError(t, err)
	l := &lab{t: t, dir: dir, url: "http://127.0.0.1:" + strconv.Itoa(port)}
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	var connect []string
	for i := range phones {
		tr := housetest.Fleet(t)["orr-01"]
		tr.Serial, tr.Temper, tr.Network = fmt.Sprintf("skerry-%d", i+1), standin.Instant, tides.Network()
		tr.System = tides.Certificate
		p, err := standin.Start(tr, "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(p.Close)
		l.phones = append(l.phones, p)
		connect = append(connect, "--connect", p.Address())
	}
	l.service = &process{t: t, args: append([]string{"serve", "--no-host", "--adb-server", "own", "--listen", "127.0.0.1:" + strconv.Itoa(port), "--data", filepath.Join(dir, "service")}, serve...), env: []string{"TESSELLANT_FIRST_KEY=" + labKey}, log: filepath.Join(dir, "service.log")}
	l.service.start()
	t.Cleanup(func() { l.service.end() })
	t.Cleanup(func() {
		if t.Failed() {
			for _, p := range []*process{l.service, l.host} {
				if p == nil {
					continue
				}
				raw, _ := os.ReadFile(p.log)
				t.Logf("%s\n%s", p.log, raw[max(0, len(raw)-6000):])
			}
		}
	})
	l.ClientWithResponses, err = api.NewClientWithResponses(l.url+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+labKey)
		return nil
	}))
	require.NoError(t, err)
	l.up()
	k, err := l.AddHostWithResponse(ctx, api.AddHostJSONRequestBody{Name: "bench-1"})
	require.NoError(t, err)
	require.NotNil(t, k.JSON201, string(k.Body))
	l.host = &process{t: t, args: append([]string{"host", "--adb-server", "own", "--join", l.url, "--data", filepath.Join(dir, "host")}, append(connect, housetest.Backends(tides)...)...), env: []string{"TESSELLANT_HOST_KEY=" + k.JSON201.Key}, log: filepath.Join(dir, "host.log")}
	l.host.start()
	t.Cleanup(func() { l.host.end() })
	l.free(phones)
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	b, err := l.AddBuildWithBodyWithResponse(ctx, &api.AddBuildParams{}, "application/octet-stream", apk)
	require.NoError(t, err)
	require.NotNil(t, b.JSON201, string(b.Body))
	return l
}

// up waits until the service answers.
func (l *lab) up() {
	l.t.Helper()
	housetest.Eventually(l.t, "the service answers", func() bool {
		r, err := l.GetMeWithResponse(ctx)
		return err == nil && r.JSON200 != nil
	})
}

// free waits until so many phones are free.
func (l *lab) free(n int) {
	l.t.Helper()
	housetest.Eventually(l.t, fmt.Sprintf("%d phones are free", n), func() bool {
		r, err := l.ListDevicesWithResponse(ctx, &api.ListDevicesParams{})
		if err != nil || r.JSON200 == nil {
			return false
		}
		free := 0
		for _, d := range r.JSON200.Items {
			if d.State == "free" {
				free++
			}
		}
		return free >= n
	})
}

// add uploads a package of one file.
func (l *lab) add(name, source string) {
	l.t.Helper()
	var zip bytes.Buffer
	require.NoError(l.t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: " + name + "\nkind: script\n")}, "c.star": {Data: []byte(source)}}, &zip))
	r, err := l.AddPackageWithBodyWithResponse(ctx, "application/zip", &zip)
	require.NoError(l.t, err)
	require.True(l.t, r.JSON200 != nil || r.JSON201 != nil, string(r.Body))
}

// start starts a run on these phones.
func (l *lab) start(pkg string, attempts int, serials ...string) *api.Run {
	l.t.Helper()
	q := api.RunRequest{Build: "kelpline/android@newest", Package: pkg + "@newest", Attempts: &attempts}
	if len(serials) > 0 {
		q.Devices = &serials
	}
	if l.limit > 0 {
		q.LimitSeconds = &l.limit
	}
	r, err := l.StartRunWithResponse(ctx, nil, q)
	require.NoError(l.t, err)
	require.NotNil(l.t, r.JSON201, string(r.Body))
	return r.JSON201
}

// run asks how a run stands; nil: nobody says at the moment.
func (l *lab) run(id string) *api.Run {
	r, err := l.GetRunWithResponse(ctx, id)
	if err != nil {
		return nil
	}
	return r.JSON200
}

// until waits until the first leg of a run is at a case, of its newest attempt.
func (l *lab) until(id, name string) {
	l.t.Helper()
	housetest.Eventually(l.t, name+" runs", func() bool {
		r := l.run(id)
		return r != nil && len(r.Legs) > 0 && r.Legs[0].Now != nil && *r.Legs[0].Now == name
	})
}

// over waits until a run is over, and answers its legs.
func (l *lab) over(id string, limit time.Duration) (*api.Run, []*api.Leg) {
	l.t.Helper()
	for deadline := time.Now().Add(limit); ; time.Sleep(50 * time.Millisecond) {
		r := l.run(id)
		if r != nil && r.Done {
			var legs []*api.Leg
			for _, s := range r.Legs {
				x, err := l.GetLegWithResponse(ctx, s.Id)
				require.NoError(l.t, err)
				require.NotNil(l.t, x.JSON200, string(x.Body))
				legs = append(legs, x.JSON200)
			}
			return r, legs
		}
		if time.Now().After(deadline) {
			raw, _ := json.MarshalIndent(r, "", " ")
			require.Failf(l.t, "the run does not end", "%s", raw)
		}
	}
}

func (l *lab) file(at api.Attempt, name string) []byte {
	for _, f := range at.Artifacts {
		if f.Name == name {
			r, err := l.GetArtifact(ctx, f.Id)
			require.NoError(l.t, err)
			defer r.Body.Close()
			raw, err := io.ReadAll(r.Body)
			require.NoError(l.t, err)
			require.Len(l.t, raw, int(f.Size))
			return raw
		}
	}
	return nil
}

// lacks says what the evidence of an attempt lacks that it should have. Of a
// lost one nothing is known of its end: what it had told by then must be there without a gap.
func (l *lab) lacks(at api.Attempt, cases int) (wrong []string) {
	add := func(format string, args ...any) {
		wrong = append(wrong, fmt.Sprintf("attempt %d: ", at.Number)+fmt.Sprintf(format, args...))
	}
	var es []timeline.Event
	raw := l.file(at, "timeline.jsonl")
	if err := timeline.Read(bytes.NewReader(raw), func(e timeline.Event) error { es = append(es, e); return nil }); err != nil {
		add("its timeline can't be read: %v", err)
	}
	for i, e := range es {
		if e.Seq != i+1 {
			add("its timeline has a gap before event %d", e.Seq)
			break
		}
	}
	lost := at.Verdict != nil && *at.Verdict == api.Lost
	has := func(name string) bool {
		return slices.ContainsFunc(at.Artifacts, func(f api.Artifact) bool { return f.Name == name && f.Size > 0 })
	}
	begun := 0
	for _, e := range es {
		if e.File != "" && !has(e.File) {
			add("the screenshot %s is missing", e.File)
		}
		if e.Kind == timeline.Case && e.Verdict != "" {
			begun++
		}
	}
	told := 0
	for _, c := range at.Cases {
		if c.Verdict != nil {
			told++
		}
	}
	if told < begun {
		add("%d cases ended on the timeline, and %d have a result", begun, told)
	}
	if lost {
		if len(at.Cases) > 0 && len(es) == 0 {
			add("it ran cases, and has no timeline")
		}
		return wrong
	}
	if len(es) == 0 {
		add("it has no timeline")
	}
	stopped := at.Verdict != nil && *at.Verdict == api.Stopped
	if told != cases && !stopped {
		add("%d of %d cases have a result", told, cases)
	}
	for _, name := range []string{"device.log", "video.mp4"} {
		if !has(name) && !stopped {
			add("%s is missing", name)
		}
	}
	return wrong
}
