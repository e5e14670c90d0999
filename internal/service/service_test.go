package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/service/access"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

var ctx = context.Background()

// desk is a service with a build, a package and devices, whose host is played by the test.
type desk struct {
	gathered func(h hostlink.Hold, device int) // hands in evidence before a leg ends; nil: none
	*housetest.Service
	t    *testing.T
	dsn  string
	link hostlink.Link
}

func set(t *testing.T, serials ...string) *desk {
	t.Helper()
	dsn := housetest.DSN(t)
	d := &desk{Service: housetest.StartService(t, dsn), t: t, dsn: dsn}
	d.link = d.HostLink()
	d.see(serials...)
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	_, _, err = d.AddBuild(ctx, d.Who, service.Upload{Body: apk, Size: -1})
	require.NoError(t, err)
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: suite\nkind: script\n")}, "a.star": {Data: []byte("def test_a(p):\n    pass\n")}}
	var buf bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &buf))
	_, _, err = d.AddPackage(ctx, d.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(t, err)
	return d
}

func (d *desk) see(serials ...string) {
	d.t.Helper()
	var seen []hostlink.Seen
	for _, s := range serials {
		seen = append(seen, hostlink.Seen{Facts: devices.Facts{Serial: s, Model: s[:1], Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"})
	}
	_, err := d.link.Devices(ctx, housetest.HostName, hostlink.About{Isolation: "open"}, seen)
	require.NoError(d.t, err)
}

func (d *desk) start(serials ...string) store.Run {
	d.t.Helper()
	r, _, err := d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1", Devices: serials})
	require.NoError(d.t, err)
	return r
}

// holds waits until the host has so many holds.
func (d *desk) holds(n int) []hostlink.Hold {
	d.t.Helper()
	var hs []hostlink.Hold
	housetest.Eventually(d.t, fmt.Sprintf("the host has %d holds", n), func() bool {
		var err error
		hs, err = d.link.Holds(ctx, housetest.HostName, nil)
		require.NoError(d.t, err)
		return len(hs) == n
	})
	return hs
}

func (d *desk) sql(query string, args ...any) {
	d.t.Helper()
	db, err := sqlx.Open("mysql", d.dsn)
	require.NoError(d.t, err)
	defer db.Close()
	_, err = db.Exec(query, args...)
	require.NoError(d.t, err)
}

func TestTheHostIsWokenWithAllItNeeds(t *testing.T) {
	d := set(t, "d-1", "d-2")
	wake, stop := d.link.Wake(housetest.HostName)
	defer stop()
	run := d.start()
	select {
	case <-wake:
	case <-time.After(10 * time.Second):
		t.Fatal("nobody woke the host")
	}
	hs := d.holds(2)
	for _, h := range hs {
		assert.Equal(t, run.ID, h.RunID)
		assert.Equal(t, "org.kelpline.app", h.Spec.App.ID)
		assert.Equal(t, "org.kelpline.app.MainActivity", h.Spec.App.Activity)
		assert.Len(t, h.Spec.App.SHA256, 64)
		assert.Equal(t, work.Seconds(1800), h.Spec.Limits.Whole)
		assert.Equal(t, []string{"a.test_a"}, h.Spec.Cases)
		for _, what := range []hostlink.Content{hostlink.Build, hostlink.Package} {
			r, err := d.link.Fetch(ctx, h, what)
			require.NoError(t, err)
			require.NoError(t, r.Close())
		}
	}
	kept, err := d.link.Renew(ctx, housetest.HostName, []string{hs[0].ID, "nonsense"})
	require.NoError(t, err)
	assert.Equal(t, []string{hs[0].ID}, kept)
}

func TestALostLegGetsOneMoreAttemptAndThenIsLost(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	for attempt := 1; attempt <= 2; attempt++ {
		h := d.holds(1)[0]
		require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}))
		require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: fmt.Sprintf("cable %d", attempt)}))
		require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}), "told twice, it counts once")
	}
	housetest.Eventually(t, "the run is over", func() bool {
		v, err := d.Run(ctx, d.Who, run.ID)
		require.NoError(t, err)
		return v.Ended.Valid
	})
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Lost, v.Verdict)
	l, err := d.Leg(ctx, d.Who, v.Legs[0].ID)
	require.NoError(t, err)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, "cable 1", l.Attempts[0].Message)
	assert.Equal(t, "cable 2", l.Message)
	require.ErrorIs(t, d.link.Close(ctx, hostlink.Hold{ID: "no such hold"}, hostlink.Closing{}), hostlink.ErrOver)
}

func TestAFailedLegGetsNoOtherAttempt(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	h := d.holds(1)[0]
	c := hostlink.CaseResult{Name: "a.test_a", Try: hostlink.Try{StartMS: 3}}
	require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Case: &c}}))
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, "a.test_a", v.Legs[0].NowCase.String)
	c.Verdict = verdict.Failed
	require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 2, Case: &c}}))
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Failed}))
	v, err = d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Failed, v.Verdict)
	assert.Equal(t, []store.CaseVerdict{{Ordinal: 0, Verdict: verdict.Failed}}, v.Legs[0].Cases)
	assert.Empty(t, v.Legs[0].NowCase.String)
}

func TestDevicesAreSharedFairlyBetweenRuns(t *testing.T) {
	d := set(t, "d-1", "d-2")
	one := d.start()      // both devices
	two := d.start("d-1") // waits for the first
	for range 2 {
		for _, h := range d.holds(2) {
			if h.RunID == two.ID {
				v, err := d.Run(ctx, d.Who, one.ID)
				require.NoError(t, err)
				assert.Equal(t, "done", v.Legs[0].Stage, "d-1 was given on when the first run was done with it")
				return
			}
			if h.Serial == "d-1" {
				require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
			}
		}
	}
	t.Fatal("the second run never got its device")
}

func TestALegWhoseDeviceStaysAwayIsGivenUp(t *testing.T) {
	d := set(t, "d-1", "e-1")
	run := d.start()
	hs := d.holds(2)
	d.see("e-1") // d-1 is gone
	for _, h := range hs {
		require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: map[string]verdict.Verdict{"d-1": verdict.Lost, "e-1": verdict.Passed}[h.Serial]}))
	}
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	require.False(t, v.Ended.Valid, "it waits for its device to come back")
	// Two minutes later:
	d.sql("UPDATE devices SET seen = seen - INTERVAL 5 MINUTE WHERE serial = 'd-1'")
	d.sql("UPDATE work SET created = created - INTERVAL 5 MINUTE")
	housetest.Eventually(t, "the run is over", func() bool {
		v, err = d.Run(ctx, d.Who, run.ID)
		require.NoError(t, err)
		return v.Ended.Valid
	})
	assert.Equal(t, verdict.Lost, v.Verdict)
	assert.Contains(t, v.Legs[0].Message, "d-1 has been away for 2m0s")
}

func TestAServiceThatWasAwayGivesNoLegUpBeforeItsHostCouldSpeak(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	h := d.holds(1)[0]
	d.see() // d-1 is gone
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: "cable"}))
	// The service is away for five minutes, and its host has nobody to tell that the device is back.
	d.Service = d.Anew(t, func() {
		d.sql("UPDATE devices SET seen = seen - INTERVAL 5 MINUTE")
		d.sql("UPDATE work SET created = created - INTERVAL 5 MINUTE")
	})
	d.link = d.HostLink()
	d.see("d-1")
	h = d.holds(1)[0]
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, v.Verdict)
}

func TestALostLegGoesOnOnALikeDevice(t *testing.T) {
	d := set(t, "d-1", "d-2", "e-1")
	run := d.start("d-1")
	h := d.holds(1)[0]
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: "cable"}))
	h = d.holds(1)[0]
	assert.Equal(t, "d-2", h.Serial, "another of its model, with the same system")
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, v.Verdict)
	assert.Equal(t, []string{"d-1", "d-2"}, []string{v.Legs[0].Serial, v.Legs[0].RanOn.String}, "asked for, and got")
}

func TestADeviceThatLosesTwoAttemptsInARowIsQuarantinedUntilItPassesACheck(t *testing.T) {
	d := set(t, "d-1")
	d.QuarantineLasts = 100 * time.Millisecond
	d.start()
	for range 2 {
		require.NoError(t, d.link.Close(ctx, d.holds(1)[0], hostlink.Closing{Verdict: verdict.Lost, Message: "cable"}))
	}
	v, err := d.Device(ctx, d.Who, "d-1")
	require.NoError(t, err)
	assert.True(t, v.Quarantined.Valid)
	assert.Equal(t, "2 attempts in a row were lost on it; the last: cable", v.QuarantineWhy)
	_, _, err = d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1"})
	require.ErrorContains(t, err, "none of the 1 devices")
	d.see("d-1")
	v, _ = d.Device(ctx, d.Who, "d-1")
	assert.True(t, v.Quarantined.Valid, "that it is seen is no check")
	var check []string
	seen := hostlink.Seen{Facts: v.Facts.V, State: "ready"}
	housetest.Eventually(t, "a check is asked for", func() bool {
		check, err = d.link.Devices(ctx, housetest.HostName, hostlink.About{}, []hostlink.Seen{seen})
		require.NoError(t, err)
		return len(check) == 1
	})
	assert.Equal(t, []string{"d-1"}, check)
	seen.Checked = true
	_, err = d.link.Devices(ctx, housetest.HostName, hostlink.About{}, []hostlink.Seen{seen})
	require.NoError(t, err)
	v, _ = d.Device(ctx, d.Who, "d-1")
	assert.False(t, v.Quarantined.Valid)
	// One more lost attempt, and it is back: nothing has shown that it is well.
	d.start()
	require.NoError(t, d.link.Close(ctx, d.holds(1)[0], hostlink.Closing{Verdict: verdict.Lost, Message: "cable"}))
	v, _ = d.Device(ctx, d.Who, "d-1")
	assert.True(t, v.Quarantined.Valid)
}

func TestAPersonQuarantinesAndReleasesADevice(t *testing.T) {
	d := set(t, "d-1")
	d.QuarantineLasts = time.Millisecond
	_, err := d.QuarantineDevice(ctx, d.Who, "d-1", " ")
	require.ErrorContains(t, err, "the reason is missing")
	v, err := d.QuarantineDevice(ctx, d.Who, "d-1", "its screen is cracked")
	require.NoError(t, err)
	assert.Equal(t, "its screen is cracked", v.QuarantineWhy)
	_, err = d.link.Devices(ctx, housetest.HostName, hostlink.About{}, []hostlink.Seen{{Facts: v.Facts.V, State: "ready", Checked: true}})
	require.NoError(t, err)
	v, _ = d.Device(ctx, d.Who, "d-1")
	assert.True(t, v.Quarantined.Valid, "a check does not release what a hand has put there")
	v, err = d.ReleaseDevice(ctx, d.Who, "d-1")
	require.NoError(t, err)
	assert.False(t, v.Quarantined.Valid)
	_, err = d.ReleaseDevice(ctx, d.Who, "d-1")
	require.ErrorContains(t, err, "not in quarantine")
}

func TestStoppingARunEndsWhatWaitsAtOnceAndTellsTheHostsOfTheRest(t *testing.T) {
	d := set(t, "d-1", "e-1")
	first := d.start("d-1")
	d.holds(1)
	run := d.start()
	hs := d.holds(2)
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, v.Legs[0].Place, "next in the queue for d-1")
	v, err = d.StopRun(ctx, d.Who, run.ID, "")
	require.NoError(t, err)
	assert.Equal(t, verdict.Stopped, v.Legs[0].Verdict)
	assert.False(t, v.Ended.Valid)
	for _, h := range hs {
		now := d.holds(2)
		for _, n := range now {
			if n.ID == h.ID {
				assert.Equal(t, n.RunID == run.ID, n.Stop)
			}
		}
	}
	// Its host goes away before it has stopped: it is stopped all the same, and not tried again.
	for _, h := range hs {
		if h.RunID == run.ID {
			require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: "cable"}))
		}
	}
	v, _ = d.Run(ctx, d.Who, run.ID)
	assert.Equal(t, verdict.Stopped, v.Verdict)
	_, err = d.StopRun(ctx, d.Who, run.ID, "")
	require.ErrorContains(t, err, "it has already finished: stopped")
	v, _ = d.Run(ctx, d.Who, first.ID)
	assert.False(t, v.Ended.Valid, "the other run goes on")
	require.NoError(t, d.link.Close(ctx, d.holds(1)[0], hostlink.Closing{Verdict: verdict.Passed}))
}

func TestWhatAHostHandedInBeforeItVanishedIsPutTogether(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	h := d.holds(1)[0]
	log := tracks.Growing()[0]
	require.NoError(t, d.link.Append(ctx, h, log, 0, []byte("{\"seq\":1,\"at\":1,\"kind\":\"st")))
	require.NoError(t, d.link.Append(ctx, h, log, 27, []byte("age\"}\n{\"seq\":2,\"at\":2,\"ki")))
	require.NoError(t, d.link.Append(ctx, h, log, 27, []byte("age\"}\n{\"seq\":2,\"at\":2,\"ki")), "told twice, it is there once")
	leg, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	tl, err := d.Timeline(ctx, d.Who, leg.Legs[0].ID, 0, "")
	require.NoError(t, err)
	assert.True(t, tl.Live)
	assert.Len(t, tl.Events, 1, "what goes on can be looked at, also by a service that was started since")
	d.sql("UPDATE holds SET expires = now(3) - INTERVAL 1 SECOND")
	housetest.Eventually(t, "the attempt is over", func() bool {
		tl, err = d.Timeline(ctx, d.Who, leg.Legs[0].ID, 1, "")
		require.NoError(t, err)
		return !tl.Live
	})
	assert.Len(t, tl.Events, 1, "the cut-off line is passed over")
	l, err := d.Leg(ctx, d.Who, leg.Legs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Equal(t, int64(51), l.Attempts[0].Artifacts[0].Size)
	// What comes late takes their place, and changes no verdict.
	require.NoError(t, d.link.Keep(ctx, h, log, strings.NewReader("{\"seq\":1,\"at\":1,\"kind\":\"stage\"}\n")))
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	l, _ = d.Leg(ctx, d.Who, leg.Legs[0].ID)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	keys, err := d.Blobs.List(ctx, d.Who.WorkspaceID+"/attempts/"+h.AttemptID+"/parts/")
	require.NoError(t, err)
	assert.Empty(t, keys)
}

func TestInputsGoToTheHostAndSecretsNowhereElse(t *testing.T) {
	d := set(t, "d-1")
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: asks\nkind: script\ninputs:\n  who: {default: Ines}\n  code: {secret: true}\n")}, "a.star": {Data: []byte("def test_a(p):\n    pass\ndef test_b(p):\n    pass\ncase(test_b, tags = ['smoke'])\n")}}
	var buf bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &buf))
	_, _, err := d.AddPackage(ctx, d.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(t, err)
	q := service.RunRequest{Build: "kelpline/android@newest", Package: "asks@1", Tags: []string{"smoke"}, Confirm: 2, Secrets: map[string]string{"code": "ebb-and-flow"}}
	r, _, err := d.StartRun(ctx, d.Who, q)
	require.NoError(t, err)
	h := d.holds(1)[0]
	assert.Equal(t, map[string]string{"who": "Ines", "code": "ebb-and-flow"}, h.Inputs())
	assert.Equal(t, map[string]string{"code": "ebb-and-flow"}, h.Secrets)
	assert.Equal(t, []string{"a.test_b"}, h.Spec.Cases)
	assert.Equal(t, 2, h.Spec.Limits.Confirm)
	v, err := d.Run(ctx, d.Who, r.ID)
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprintf("%+v", v), "ebb-and-flow")
	assert.Equal(t, []string{"a.test_b"}, v.CaseNames)
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	left, err := d.Store.Secrets(ctx, r.ID)
	require.NoError(t, err)
	assert.Empty(t, left, "a run that is over keeps none")
	for name, c := range map[string]struct {
		change func(*service.RunRequest)
		why    string
	}{
		"no secret":         {func(q *service.RunRequest) { q.Secrets = nil }, "wants the input code"},
		"no such case":      {func(q *service.RunRequest) { q.Cases = []string{"b.*"} }, `no case is called "b.*"`},
		"no such tag":       {func(q *service.RunRequest) { q.Tags = []string{"big"} }, "there are smoke"},
		"too much":          {func(q *service.RunRequest) { q.Confirm = 11 }, "can't be retried 11 times"},
		"too many attempts": {func(q *service.RunRequest) { q.Attempts = 11 }, "can't have 11 attempts"},
	} {
		t.Run(name, func(t *testing.T) {
			q := q
			c.change(&q)
			_, _, err := d.StartRun(ctx, d.Who, q)
			var e *refuse.Error
			require.ErrorAs(t, err, &e)
			assert.Contains(t, e.Why, c.why)
			assert.NotEmpty(t, e.Remedy)
		})
	}
}

func TestADeviceWhoseHostIsSilentIsAway(t *testing.T) {
	d := set(t, "d-1")
	d.sql("UPDATE devices SET seen = seen - INTERVAL 1 MINUTE")
	ds, _, err := d.Devices(ctx, store.Identity{}, nil, "", 10)
	require.NoError(t, err)
	assert.Equal(t, "away", ds[0].Standing().State)
	assert.Contains(t, ds[0].Standing().Why, "gone silent")
	_, _, err = d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1"})
	var e *refuse.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, refuse.Refused, e.Kind)
	assert.Contains(t, e.Findings[0].What, "gone silent")
}

func TestTwoAppsOfOneNameKeepApart(t *testing.T) {
	d := set(t)
	other := housetest.OtherKelpline(t)
	b, isNew, err := d.AddBuild(ctx, d.Who, service.Upload{Body: bytes.NewReader(other), Size: int64(len(other)), Name: "other.apk"})
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.Equal(t, "net.kelpline.app", b.AppID)
	assert.Equal(t, "net.kelpline.app/android@231", b.Ref())
	first, err := d.Build(ctx, d.Who, "kelpline/android@newest")
	require.NoError(t, err)
	assert.Equal(t, "org.kelpline.app", first.AppID)
}

func TestTheFirstKeyIsMadeOnce(t *testing.T) {
	d := set(t)
	key, err := d.FirstKey(ctx, "tests", "")
	require.NoError(t, err)
	assert.Empty(t, key, "there is one")
	_, err = d.FirstKey(ctx, "tests", "short")
	assert.ErrorContains(t, err, "shorter than 20")
	given := access.NewKey()
	key, err = d.FirstKey(ctx, "tests", given)
	require.NoError(t, err)
	assert.Equal(t, given, key)
	who, err := d.Enter(ctx, given)
	require.NoError(t, err)
	assert.Equal(t, d.Who.WorkspaceID, who.WorkspaceID)
	var kept []string
	db, err := sqlx.Open("mysql", d.dsn)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.Select(&kept, "SELECT concat(hex(hash), name) FROM access_keys"))
	for _, k := range kept {
		assert.NotContains(t, strings.ToLower(k), strings.TrimPrefix(given, access.KeyPrefix))
	}
}

func TestOldEvidenceIsRemovedAndRunsStay(t *testing.T) {
	d := set(t, "d-1")
	var legs []string
	for i := range 3 {
		run := d.start()
		h := d.holds(1)[0]
		for _, name := range []string{"timeline.jsonl", "device.log"} {
			a, _ := tracks.Named(name)
			require.NoError(t, d.link.Keep(ctx, h, a, strings.NewReader(strings.Repeat("x", 1000))))
		}
		if i < 2 {
			require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
		}
		v, err := d.Run(ctx, d.Who, run.ID)
		require.NoError(t, err)
		legs = append(legs, v.Legs[0].ID)
	}
	left := func(i int) (n int, cleared bool) {
		l, err := d.Leg(ctx, d.Who, legs[i])
		require.NoError(t, err)
		for _, f := range l.Attempts[0].Artifacts {
			r, err := d.Open(ctx, f, 0, -1)
			require.NoError(t, err)
			require.NoError(t, r.Close())
		}
		return len(l.Attempts[0].Artifacts), l.Attempts[0].Cleared.Valid
	}
	n, bytes, err := d.ClearNow(ctx, service.Retention{Age: time.Hour})
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.Zero(t, bytes)
	d.sql("UPDATE runs SET ended = ended - INTERVAL 2 HOUR WHERE id = (SELECT run_id FROM work WHERE id = '" + legs[0] + "')")
	n, bytes, err = d.ClearNow(ctx, service.Retention{Age: time.Hour})
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 2000}, []int64{int64(n), bytes})
	files, cleared := left(0)
	assert.Zero(t, files)
	assert.True(t, cleared)
	n, _, err = d.ClearNow(ctx, service.Retention{Bytes: 3500})
	require.NoError(t, err)
	assert.Equal(t, 1, n, "only as much as is too much")
	files, _ = left(1)
	assert.Equal(t, 1, files)
	_, _, err = d.ClearNow(ctx, service.Retention{Bytes: 1})
	require.NoError(t, err)
	files, cleared = left(2)
	assert.Equal(t, 2, files, "what a run gathers that goes on is left")
	assert.False(t, cleared)
	v, err := d.Leg(ctx, d.Who, legs[0])
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, v.Verdict)
}

func TestHostsJoinWithTheirKeysAndSeeTheirOwnHoldsAlone(t *testing.T) {
	d := set(t, "d-1")
	for _, name := range []string{"", "Bench", "a b"} {
		_, err := d.AddHost(ctx, d.Who, name)
		assert.ErrorContains(t, err, "not a valid host name", name)
	}
	_, err := d.AddHost(ctx, d.Who, housetest.HostName)
	assert.ErrorContains(t, err, "the name of a built-in host")
	key, err := d.AddHost(ctx, d.Who, "bench-1")
	require.NoError(t, err)
	_, err = d.Enter(ctx, key+"x")
	require.ErrorContains(t, err, "this host's key is unknown")
	beside, err := d.Enter(ctx, key)
	require.NoError(t, err)
	h := beside.Host
	_, err = d.Join(ctx, h, "1", hostlink.Protocol+1, "nats://x")
	require.ErrorContains(t, err, "the host speaks protocol")
	_, err = d.Join(ctx, h, "1", hostlink.Protocol, "")
	require.ErrorContains(t, err, "can't reach the bus")
	first, err := d.Join(ctx, h, "1", hostlink.Protocol, "nats://x")
	require.NoError(t, err)
	second, err := d.Join(ctx, h, "1", hostlink.Protocol, "nats://x")
	require.NoError(t, err)
	stop, err := d.AnswerHosts()
	require.NoError(t, err)
	defer stop()
	ask := func(c hostlink.Call) (a hostlink.Answer) {
		raw, err := json.Marshal(c)
		require.NoError(t, err)
		back, err := d.Bus.Call(ctx, bus.Hosts, raw)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(back, &a))
		return a
	}
	assert.Equal(t, hostlink.KindStranger, ask(hostlink.Call{Token: first.Token, Kind: "holds"}).Kind, "who joins later sends the first away")
	d.start()
	mine := d.holds(1)[0] // the built-in host's
	a := ask(hostlink.Call{Token: second.Token, Kind: "holds"})
	assert.Empty(t, a.Problem)
	assert.Empty(t, a.Holds)
	assert.Equal(t, hostlink.KindOver, ask(hostlink.Call{Token: second.Token, Kind: "close", Hold: mine.ID, Closing: &hostlink.Closing{Verdict: verdict.Passed}}).Kind)
	_, err = d.HostFetch(ctx, h, mine.ID, hostlink.Build)
	require.ErrorContains(t, err, "this host has no hold")
	require.ErrorContains(t, d.HostKeep(ctx, h, mine.ID, "device.log", -1, strings.NewReader("x")), "this host has no hold")
	assert.Contains(t, ask(hostlink.Call{Token: second.Token, Kind: "dance"}).Problem, "no call")
	back, err := d.Bus.Call(ctx, bus.Hosts, []byte("{"))
	require.NoError(t, err)
	assert.Contains(t, string(back), "can't be read")
	hosts, err := d.ListHosts(ctx)
	require.NoError(t, err)
	require.Len(t, hosts, 2)
	assert.Equal(t, []string{"bench-1", "up", "built-in", "up"}, []string{hosts[0].Name, hosts[0].State, hosts[1].Name, hosts[1].State})
	require.NoError(t, d.RemoveHost(ctx, d.Who, "bench-1"))
	require.ErrorContains(t, d.RemoveHost(ctx, d.Who, "bench-1"), "no host with a key")
	_, err = d.Enter(ctx, key)
	require.Error(t, err)
	require.NoError(t, d.link.Close(ctx, mine, hostlink.Closing{Verdict: verdict.Passed}))
}

func TestMetricsSayWhatIsGoingOn(t *testing.T) {
	d := set(t, "d-1", "d-2")
	d.start("d-1")
	h := d.holds(1)[0]
	require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}))
	reg := prometheus.NewRegistry()
	reg.MustRegister(d.Collector())
	require.NoError(t, testutil.GatherAndCompare(reg, strings.NewReader(`
# HELP tessellant_devices Devices, by state.
# TYPE tessellant_devices gauge
tessellant_devices{state="free"} 1
tessellant_devices{state="held"} 1
# HELP tessellant_hosts Hosts, by state.
# TYPE tessellant_hosts gauge
tessellant_hosts{state="up"} 1
# HELP tessellant_legs Legs that are not done, by stage.
# TYPE tessellant_legs gauge
tessellant_legs{stage="running"} 1
# HELP tessellant_waiting_seconds How long the leg that has waited longest for a device has waited.
# TYPE tessellant_waiting_seconds gauge
tessellant_waiting_seconds 0
`), "tessellant_devices", "tessellant_hosts", "tessellant_legs", "tessellant_waiting_seconds"))
	page, err := os.ReadFile("../../docs/10-operating.md")
	require.NoError(t, err)
	found, err := reg.Gather()
	require.NoError(t, err)
	for _, m := range found {
		assert.Contains(t, string(page), "`"+m.GetName()+"`", "the documented list has it")
	}
}

func TestEachLegOfAProgramHasTheNamesOfItsOwnCases(t *testing.T) {
	d := set(t, "d-1", "d-2")
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: outside\nkind: program\nrun: [sh, run.sh]\nresults: [out.xml]\n")}, "run.sh": {Data: []byte("true\n")}}
	var buf bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &buf))
	_, _, err := d.AddPackage(ctx, d.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(t, err)
	r, _, err := d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "outside@1"})
	require.NoError(t, err)
	came := [][]string{{"opens", "counts"}, {"opens", "asks", "counts"}} // the second device asks for a permission
	for i, h := range d.holds(2) {
		for n, name := range came[i] {
			require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: int64(n + 1), Case: &hostlink.CaseResult{Ordinal: n, Name: name, Try: hostlink.Try{Verdict: verdict.Passed}}}}))
		}
		require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	}
	v, err := d.Run(ctx, d.Who, r.ID)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"opens", "counts", "asks"}, v.CaseNames)
	var names [][]string
	for _, l := range v.Legs {
		assert.Equal(t, 3, l.CasesTotal)
		assert.Len(t, l.Cases, len(l.Names))
		for n, c := range l.Cases {
			assert.Equal(t, n, c.Ordinal)
		}
		names = append(names, l.Names)
	}
	assert.ElementsMatch(t, came, names, "what another leg found moves none of its cases")
}

func TestAHostHandsInOfAnAttemptAsMuchAsItMay(t *testing.T) {
	d := set(t, "d-1")
	d.start()
	h := d.holds(1)[0]
	d.Evidence.MostBytes, d.Evidence.MostPieces = 1000, 3
	kept := func(n int) hostlink.Artifact { a, _ := tracks.Named(fmt.Sprintf("kept/%d", n)); return a }
	require.NoError(t, d.link.Keep(ctx, h, kept(1), strings.NewReader(strings.Repeat("x", 600))))
	require.ErrorIs(t, d.link.Keep(ctx, h, kept(2), strings.NewReader(strings.Repeat("x", 600))), hostlink.ErrUnfit, "too many bytes")
	log, _ := tracks.Named(tracks.DeviceLog)
	require.ErrorIs(t, d.link.Append(ctx, h, log, 0, make([]byte, 401)), hostlink.ErrUnfit)
	require.NoError(t, d.link.Append(ctx, h, log, 0, make([]byte, 10)))
	require.NoError(t, d.link.Append(ctx, h, log, 10, make([]byte, 10)))
	require.ErrorIs(t, d.link.Append(ctx, h, log, 20, make([]byte, 1)), hostlink.ErrUnfit, "too many pieces")
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}), "the attempt ends all the same")
}

func TestAHostSaysOfADeviceWhatCanBeKeptAndGivesNoLabels(t *testing.T) {
	d := set(t)
	long := strings.Repeat("x", 10_000)
	f := devices.Facts{Serial: "orr-01", Platform: "android", API: 30, Place: long, Labels: map[string]string{"desk": "3"}, Without: []string{long, "android.hardware.nfc", "android.hardware.nfc"}}
	say := func() store.Device {
		_, err := d.link.Devices(ctx, housetest.HostName, hostlink.About{Isolation: "open"}, []hostlink.Seen{{Facts: f, State: "ready"}})
		require.NoError(t, err)
		v, err := d.Device(ctx, d.Who, "orr-01")
		require.NoError(t, err)
		return v.Device
	}
	x := say().Facts.V
	assert.Empty(t, x.Labels, "people give them")
	assert.Equal(t, []string{"android.hardware.nfc"}, x.Without)
	assert.LessOrEqual(t, len(x.Place), 200)
	_, err := d.LabelDevice(ctx, d.Who, "orr-01", map[string]string{"room": "lab"}, nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"room": "lab"}, say().Facts.V.Labels)
}

func TestWhatCouldNotBeKeptDoesNotCount(t *testing.T) {
	d := set(t, "d-1")
	d.start()
	h := d.holds(1)[0]
	d.Evidence.MostBytes, d.Evidence.MostPieces = 1000, 4
	log, _ := tracks.Named(tracks.DeviceLog)
	shot, _ := tracks.Named("screenshots/001-open.png")
	d.Blobs.Reserve.Store(1 << 60) // the disk is full
	for range 10 {
		require.ErrorIs(t, d.link.Append(ctx, h, log, 0, make([]byte, 500)), hostlink.ErrFull)
		require.ErrorIs(t, d.link.Keep(ctx, h, shot, strings.NewReader(strings.Repeat("x", 500))), hostlink.ErrFull)
	}
	d.Blobs.Reserve.Store(0)
	require.NoError(t, d.link.Append(ctx, h, log, 0, make([]byte, 500)))
	require.NoError(t, d.link.Keep(ctx, h, shot, strings.NewReader(strings.Repeat("x", 400))))
	require.NoError(t, d.link.Keep(ctx, h, shot, strings.NewReader("")), "an empty one is a piece, too")
}
