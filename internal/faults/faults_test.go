package faults

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/bus"
	"tessellant/internal/core/timeline"
	"tessellant/internal/housetest"
)

// patient is a package whose first case takes about eight seconds.
const patient = `def test_long(phone):
    phone.launch()
    for i in range(8):
        phone.find("#title")
        phone.step("look %d" % i)
        phone.background(1)

def test_after(phone):
    phone.launch()
    phone.find("#shore_gull-ledge")
`

func verdicts(leg *api.Leg) (out []string) {
	for _, a := range leg.Attempts {
		v := "none"
		if a.Verdict != nil {
			v = string(*a.Verdict)
		}
		out = append(out, v)
	}
	return out
}

func (l *lab) whole(leg *api.Leg) {
	l.t.Helper()
	for _, a := range leg.Attempts {
		assert.Empty(l.t, l.lacks(a, leg.CasesTotal))
	}
}

// A phone whose owner has set it otherwise: it must be as it was, also when the host was killed while a test held it set.
func TestAPhoneThatWasSetIsPutBackAfterItsHostWasKilled(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	l.add("patient", patient)
	before := l.phones[0].Stands()
	set := map[string]string{"language": "de", "font-scale": "1.3", "display-size": "1.2", "time-zone": "Asia/Tokyo", "dark": "on", "wifi": "off", "location": "1.5,-2"}
	two := 2
	r, err := l.StartRunWithResponse(ctx, nil, api.RunRequest{Build: "kelpline/android@newest", Package: "patient@newest", Attempts: &two, Conditions: &set})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	l.until(r.JSON201.Id, "c.test_long")
	assert.NotEqual(t, before, l.phones[0].Stands())
	l.host.kill()
	l.host.start()
	_, legs := l.over(r.JSON201.Id, 2*time.Minute)
	assert.Equal(t, []string{"lost", "passed"}, verdicts(legs[0]))
	housetest.Eventually(t, "it is as it was", func() bool { return assert.ObjectsAreEqual(before, l.phones[0].Stands()) })
}

// The cases of a run that is spread run once each, on whichever of the devices that are alike, also when one of those goes away.
func TestASpreadRunRunsEachCaseOnceAlsoWhenADeviceIsLost(t *testing.T) {
	t.Parallel()
	l := newLab(t, 2)
	var src strings.Builder
	for i := range 6 {
		fmt.Fprintf(&src, "def test_%d(phone):\n    phone.launch()\n    phone.background(1)\n", i)
	}
	l.add("six", src.String())
	spread, three := true, 3
	r, err := l.StartRunWithResponse(ctx, nil, api.RunRequest{Build: "kelpline/android@newest", Package: "six@newest", Attempts: &three, Spread: &spread})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	require.Len(t, r.JSON201.Legs, 2)
	for _, x := range r.JSON201.Legs {
		assert.Len(t, *x.CaseNames, 3)
		assert.Equal(t, 3, x.CasesTotal)
	}
	housetest.Eventually(t, "a case runs", func() bool {
		x := l.run(r.JSON201.Id)
		return x != nil && x.Legs[0].Now != nil
	})
	l.phones[0].Unplug()
	run, legs := l.over(r.JSON201.Id, 3*time.Minute)
	assert.Equal(t, api.Passed, *run.Verdict)
	assert.Len(t, run.CaseNames, 6, "in the order of the package, of all legs")
	ran := map[string]int{}
	for _, leg := range legs {
		for _, c := range leg.Attempts[len(leg.Attempts)-1].Cases {
			ran[c.Name]++
		}
	}
	assert.Len(t, ran, 6)
	for name, n := range ran {
		assert.Equal(t, 1, n, name)
	}
}

func TestWhenTheServiceIsKilledTheLegsGoOn(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	l.add("patient", patient)
	run := l.start("patient", 2)
	l.until(run.Id, "c.test_long")
	l.service.kill()
	l.service.start()
	r, legs := l.over(run.Id, 90*time.Second)
	assert.Equal(t, api.Passed, *r.Verdict)
	assert.Equal(t, []string{"passed"}, verdicts(legs[0]), "the one attempt, that never noticed")
	l.whole(legs[0])
	assert.Equal(t, "bench-1", legs[0].Attempts[0].Host)
}

func TestWhenTheHostIsKilledItsAttemptIsLostWithAllButItsLastSeconds(t *testing.T) {
	t.Parallel()
	for name, back := range map[string]string{"and it comes back": "soon", "and it comes back late, without its folder": "late", "and it comes back at once, without its folder": "at once"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, 1)
			l.add("patient", patient)
			run := l.start("patient", 2)
			l.until(run.Id, "c.test_long")
			began := time.Now()
			housetest.Eventually(t, "it has been at work for a while", func() bool { return time.Since(began) > 6*time.Second })
			l.host.kill()
			killed := time.Since(began)
			if back != "soon" {
				require.NoError(t, os.Rename(filepath.Join(l.dir, "host"), filepath.Join(l.dir, "host-gone")))
			}
			if back == "late" {
				housetest.Eventually(t, "the attempt is lost", func() bool {
					x, err := l.GetLegWithResponse(ctx, run.Legs[0].Id)
					return err == nil && x.JSON200 != nil && len(x.JSON200.Attempts) > 0 && x.JSON200.Attempts[0].Verdict != nil
				})
			}
			l.host.start()
			r, legs := l.over(run.Id, 90*time.Second)
			assert.Equal(t, api.Passed, *r.Verdict)
			require.Equal(t, []string{"lost", "passed"}, verdicts(legs[0]))
			l.whole(legs[0])
			lost := legs[0].Attempts[0]
			var last, start int64
			require.NoError(t, timeline.Read(bytes.NewReader(l.file(lost, "timeline.jsonl")), func(e timeline.Event) error {
				if e.Kind == timeline.Case && start == 0 {
					start = e.At
				}
				last = e.At + e.Took
				return nil
			}))
			missing := killed - time.Duration(last-start)*time.Millisecond
			t.Logf("the timeline ends %s before the host was killed", missing.Round(10*time.Millisecond))
			assert.Less(t, missing, 5*time.Second)
			assert.NotEmpty(t, l.file(lost, "device.log"))
		})
	}
}

func TestWhenTheDatabaseIsAwayTheRunGoesOn(t *testing.T) {
	t.Parallel()
	for name, away := range map[string]func(l *lab){
		"it dies": func(l *lab) { _ = syscall.Kill(l.service.childNamed("mariadbd"), syscall.SIGKILL) },
		"it hangs for longer than a hold lasts": func(l *lab) {
			pid := l.service.childNamed("mariadbd")
			_ = syscall.Kill(pid, syscall.SIGSTOP)
			until := time.Now().Add(22 * time.Second)
			housetest.Eventually(l.t, "it has been away for long", func() bool { return time.Now().After(until) })
			_ = syscall.Kill(pid, syscall.SIGCONT)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, 1)
			l.add("patient", patient)
			run := l.start("patient", 2)
			l.until(run.Id, "c.test_long")
			away(l)
			r, legs := l.over(run.Id, 120*time.Second)
			assert.Equal(t, api.Passed, *r.Verdict)
			assert.Equal(t, []string{"passed"}, verdicts(legs[0]))
			l.whole(legs[0])
		})
	}
}

func TestTheBusMayBeSomebodyElsesServerAndGoAwayToo(t *testing.T) {
	t.Parallel()
	nats, err := bus.Embed("127.0.0.1:0", nil, nil)
	require.NoError(t, err)
	l := newLab(t, 1, "--bus", "nats://"+nats.Secret.User+":"+nats.Secret.Password+"@"+nats.Address)
	l.add("patient", patient)
	run := l.start("patient", 2)
	l.until(run.Id, "c.test_long")
	nats.Close() // for good: what went over it goes over HTTP
	r, legs := l.over(run.Id, 120*time.Second)
	assert.Equal(t, api.Passed, *r.Verdict)
	assert.Equal(t, []string{"passed"}, verdicts(legs[0]))
	l.whole(legs[0])
	raw, err := os.ReadFile(l.service.log)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), nats.Secret.Password)
}

func TestAHostWhoseKeyIsTakenAwayEndsAndSaysSo(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	r, err := l.RemoveHostWithResponse(ctx, "bench-1")
	require.NoError(t, err)
	require.Equal(t, 204, r.StatusCode())
	select {
	case <-l.host.done:
	case <-time.After(30 * time.Second):
		t.Fatal("it goes on")
	}
	assert.Equal(t, 4, l.host.cmd.ProcessState.ExitCode())
	raw, err := os.ReadFile(l.host.log)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "the service refuses this host: this host's key is unknown, or was removed; ask an operator for a new one")
	ds, err := l.ListDevicesWithResponse(ctx, &api.ListDevicesParams{})
	require.NoError(t, err)
	for _, d := range ds.JSON200.Items {
		assert.Equal(t, api.DeviceState("away"), d.State)
	}
}

func TestAFullDiskUnderTheServiceIsSaidAndLosesNothing(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	l.add("patient", patient)
	if !l.mountSmall() {
		t.Skip("no small disk can be mounted here: that takes root, in a container the right to mount")
	}
	run := l.start("patient", 2)
	l.until(run.Id, "c.test_long")
	big := filepath.Join(l.blobs(), "somebody-else")
	require.NoError(t, os.WriteFile(big, make([]byte, 300<<20), 0o600))
	housetest.Eventually(t, "the leg is collecting", func() bool { r := l.run(run.Id); return r != nil && r.Legs[0].Stage == "collecting" })
	up, err := l.AddBuildWithBodyWithResponse(ctx, &api.AddBuildParams{}, "application/octet-stream", strings.NewReader("PK"))
	require.NoError(t, err)
	assert.Equal(t, 507, up.StatusCode())
	ready, err := http.Get(l.url + "/readyz")
	require.NoError(t, err)
	_ = ready.Body.Close()
	assert.Equal(t, 200, ready.StatusCode, "runs are still started and shown")
	require.NoError(t, os.Remove(big))
	r, legs := l.over(run.Id, 90*time.Second)
	assert.Equal(t, api.Passed, *r.Verdict)
	l.whole(legs[0])
}
