package startlab_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/housetest"
	"tessellant/internal/lab"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/lab/startlab"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// ten are kinds of devices: phones of the fleet that differ.
var ten = []string{"orr-01", "orr-03", "orr-04", "fen-02", "fen-03", "qui-01", "qui-02", "mar-01", "emu-01", "emu-03"}

// rig is a lab of an adb server with one of devices that are started beside it.
type rig struct {
	*startlab.Lab
	bridge *adblab.Lab
	dir    string
	end    func()
}

func begin(t *testing.T, l *labfile.Lab) *rig {
	t.Helper()
	return beginIn(t, l, t.TempDir())
}

func beginIn(t *testing.T, l *labfile.Lab, dir string) *rig {
	t.Helper()
	server := housetest.ADB(t)
	s, err := startlab.New(startlab.Config{Lab: l, Server: &server.Server, Dir: dir, Log: housetest.Log()})
	require.NoError(t, err)
	r := &rig{Lab: s, dir: dir, bridge: adblab.New(adblab.Config{Server: &server.Server, Log: housetest.Log(), Apart: s.Owns}, func(string) bool { return false })}
	s.Beside(r.bridge)
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() { s.Watch(ctx, func(context.Context) {}) })
	all.Go(func() { r.bridge.Watch(ctx, func(ctx context.Context) { _, _ = r.bridge.Devices(ctx) }) })
	r.end = func() { cancel(); all.Wait() }
	t.Cleanup(r.end)
	return r
}

// processes counts those that the lab has started.
func (r *rig) processes() (pids []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range all {
		if raw, err := os.ReadFile(path); err == nil && strings.Contains(string(raw), "TESSELLANT_STARTED="+r.dir+"\x00") {
			var pid int
			_, _ = fmt.Sscanf(path, "/proc/%d/", &pid)
			pids = append(pids, pid)
		}
	}
	return pids
}

func TestTenKindsFourAtOnce(t *testing.T) {
	r := begin(t, housetest.Startable(t, 4, ten))
	ds, err := r.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, ds, 10)
	for _, d := range ds {
		assert.Equal(t, devices.Ready, d.State, "one that is not up can get work")
		assert.True(t, d.Facts.Startable)
	}
	assert.Equal(t, []any{10, 4, 0}, []any{r.About().Devices, r.About().AtOnce, r.About().Open})
	assert.Empty(t, r.processes(), "nothing is started before it is wanted")
	_, err = r.Acquire("s-orr-01")
	assert.ErrorIs(t, err, lab.ErrNotHere)

	var all sync.WaitGroup
	var mu sync.Mutex
	most := 0
	for _, name := range ten {
		all.Go(func() {
			serial := "s-" + name
			_, err := r.Start(t.Context(), serial)
			if !assert.NoError(t, err, serial) {
				return
			}
			mu.Lock()
			most = max(most, r.About().Open)
			mu.Unlock()
			u, err := r.Acquire(serial)
			if assert.NoError(t, err, serial) {
				assert.Equal(t, serial, u.Known.Serial)
				raw, err := u.Screenshot(t.Context())
				assert.NoError(t, err, serial)
				assert.NotEmpty(t, raw)
			}
			r.Done(serial)
		})
	}
	all.Wait()
	assert.LessOrEqual(t, most, 4)
	assert.LessOrEqual(t, len(r.processes()), 4)
	assert.Positive(t, r.About().StartMS)
	seen, err := r.bridge.Devices(t.Context())
	require.NoError(t, err)
	assert.Empty(t, seen, "the adb server's lab does not list them")
	r.end()
	housetest.Eventually(t, "all are down when the host ends", func() bool { return len(r.processes()) == 0 })
}

func TestAFreshDeviceIsThrownAwayAndAnIdleOneStopped(t *testing.T) {
	r := begin(t, housetest.Startable(t, 2, ten[:1], "fresh: each"))
	_, err := r.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	assert.True(t, r.Fresh("s-orr-01"))
	first := r.processes()
	require.Len(t, first, 1)
	_, err = r.Start(t.Context(), "s-orr-01")
	assert.ErrorContains(t, err, "other work of this host has it")
	r.Done("s-orr-01")
	assert.Empty(t, r.processes())
	_, err = r.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	assert.NotEqual(t, first, r.processes(), "the next work gets another")

	idle := begin(t, housetest.Startable(t, 2, ten[:1], "idle: 2s"))
	_, err = idle.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	idle.Done("s-orr-01")
	again, err := idle.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	assert.Less(t, again, time.Second, "one that is up is taken as it is")
	idle.Done("s-orr-01")
	housetest.Eventually(t, "it is stopped when nobody wants it", func() bool { return len(idle.processes()) == 0 })
}

func TestAStartThatFailsSaysWhatTheCommandSaid(t *testing.T) {
	for name, c := range map[string]struct{ start, more, says string }{
		"it ends":          {"echo no image of that name >&2; exit 3", "", "no image of that name"},
		"it is never seen": {"echo booting; sleep 60", ", ready_within: 2s", "was not ready within 2s: the adb server does not see it; it said last: booting"},
		"it says a lot":    {"yes 0123456789 | head -c 3000000; exit 1", "", "it said last: …"},
	} {
		t.Run(name, func(t *testing.T) {
			f, mistakes := labfile.Parse(fmt.Appendf(nil, "labs:\n  - name: adb\n    kind: adb\n    startable: [{id: a, start: %q, os: \"14\", api: 34, model: M, width: 720, height: 1600, density: 280%s}]\n", c.start, c.more))
			require.Empty(t, mistakes)
			r := begin(t, f.Labs[0])
			_, err := r.Start(t.Context(), "a")
			require.ErrorContains(t, err, c.says)
			assert.Less(t, len(err.Error()), 1000)
			ds, err := r.Devices(t.Context())
			require.NoError(t, err)
			assert.Equal(t, devices.Unusable, ds[0].State)
			assert.Contains(t, ds[0].Why, c.says)
			assert.Empty(t, r.processes())
			r.LookAgain("a")
			ds, _ = r.Devices(t.Context())
			assert.Equal(t, devices.Ready, ds[0].State)
		})
	}
}

func TestADeviceThatIsNotWhatTheFileSaysIsNotUsed(t *testing.T) {
	l := housetest.Startable(t, 1, ten[:1])
	l.Startable[0].Device.API = 33
	r := begin(t, l)
	_, err := r.Start(t.Context(), "s-orr-01")
	assert.ErrorContains(t, err, "it has API level 34 instead of 33")
	assert.Empty(t, r.processes())
}

func TestADeviceThatDiesIsStartedAnew(t *testing.T) {
	r := begin(t, housetest.Startable(t, 1, ten[:1]))
	_, err := r.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	for _, pid := range r.processes() {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	r.Lost("s-orr-01")
	r.Done("s-orr-01")
	housetest.Eventually(t, "it starts again", func() bool {
		_, err := r.Start(t.Context(), "s-orr-01")
		return err == nil
	})
	assert.Len(t, r.processes(), 1)
}

func TestWhoWaitsCanGoAwayAndAnIdleOneGivesWay(t *testing.T) {
	r := begin(t, housetest.Startable(t, 1, ten[:2], "ready_within: 20s"))
	_, err := r.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	_, err = r.Start(ctx, "s-orr-03")
	assert.ErrorContains(t, err, "no place became free")
	r.Done("s-orr-01")
	_, err = r.Start(t.Context(), "s-orr-03")
	require.NoError(t, err, "one that nobody uses makes room")
	_, err = r.Acquire("s-orr-01")
	assert.True(t, errors.Is(err, lab.ErrNotHere))
	_, err = r.Start(t.Context(), "nobody")
	assert.ErrorIs(t, err, lab.ErrNotHere)
}

func TestWhatAnEarlierProcessHasStartedIsEnded(t *testing.T) {
	l := housetest.Startable(t, 1, ten[:1])
	r := begin(t, l)
	_, err := r.Start(t.Context(), "s-orr-01")
	require.NoError(t, err)
	require.Len(t, r.processes(), 1)
	_, err = startlab.New(startlab.Config{Lab: l, Dir: r.dir, Log: housetest.Log()}) // as after a crash
	require.NoError(t, err)
	housetest.Eventually(t, "the one of before is gone", func() bool { return len(r.processes()) == 0 })
}
