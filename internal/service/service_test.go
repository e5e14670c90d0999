package service_test

import (
	"archive/zip"
	"bytes"
	"context"
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

	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

var ctx = context.Background()

// desk is a service with a build, a package and devices, whose host is played by the test.
type desk struct {
	*housetest.Service
	t    *testing.T
	dsn  string
	link host.Link
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
	var seen []host.Seen
	for _, s := range serials {
		seen = append(seen, host.Seen{Facts: devices.Facts{Serial: s, Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"})
	}
	require.NoError(d.t, d.link.Devices(ctx, service.BuiltIn, seen))
}

func (d *desk) start(serials ...string) store.Run {
	d.t.Helper()
	r, _, err := d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1", Devices: serials})
	require.NoError(d.t, err)
	return r
}

// holds waits until the host has so many holds.
func (d *desk) holds(n int) []host.Hold {
	d.t.Helper()
	var hs []host.Hold
	housetest.Eventually(d.t, fmt.Sprintf("the host has %d holds", n), func() bool {
		var err error
		hs, err = d.link.Holds(ctx, service.BuiltIn)
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
	wake, stop := d.link.Wake(service.BuiltIn)
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
		assert.Equal(t, "org.kelpline.app", h.AppID)
		assert.Equal(t, "org.kelpline.app.MainActivity", h.Activity)
		assert.Len(t, h.BuildSHA, 64)
		assert.Equal(t, 1800, h.LimitSeconds)
		r, err := d.link.Fetch(ctx, h.BuildKey)
		require.NoError(t, err)
		require.NoError(t, r.Close())
	}
	kept, err := d.link.Renew(ctx, service.BuiltIn, []string{hs[0].ID, "nonsense"})
	require.NoError(t, err)
	assert.Equal(t, []string{hs[0].ID}, kept)
}

func TestALostLegGetsOneMoreAttemptAndThenIsLost(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	for attempt := 1; attempt <= 2; attempt++ {
		h := d.holds(1)[0]
		require.NoError(t, d.link.Report(ctx, h.ID, host.Progress{Seq: 1, Stage: "running"}))
		require.NoError(t, d.link.Close(ctx, h.ID, host.Closing{Verdict: verdict.Lost, Message: fmt.Sprintf("cable %d", attempt)}))
		require.NoError(t, d.link.Close(ctx, h.ID, host.Closing{Verdict: verdict.Passed}), "told twice, it counts once")
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
	require.NoError(t, d.link.Close(ctx, "no such hold", host.Closing{}))
}

func TestAFailedLegGetsNoOtherAttempt(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	h := d.holds(1)[0]
	c := host.CaseResult{Name: "a.test_a", StartMS: 3}
	require.NoError(t, d.link.Report(ctx, h.ID, host.Progress{Seq: 1, Case: &c}))
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	assert.Equal(t, "a.test_a", v.Legs[0].NowCase.String)
	c.Verdict = verdict.Failed
	require.NoError(t, d.link.Report(ctx, h.ID, host.Progress{Seq: 2, Case: &c}))
	require.NoError(t, d.link.Close(ctx, h.ID, host.Closing{Verdict: verdict.Failed}))
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
				require.NoError(t, d.link.Close(ctx, h.ID, host.Closing{Verdict: verdict.Passed}))
			}
		}
	}
	t.Fatal("the second run never got its device")
}

func TestALegWhoseDeviceStaysAwayIsGivenUp(t *testing.T) {
	d := set(t, "d-1", "d-2")
	run := d.start()
	hs := d.holds(2)
	d.see("d-2") // d-1 is gone
	for _, h := range hs {
		require.NoError(t, d.link.Close(ctx, h.ID, host.Closing{Verdict: map[string]verdict.Verdict{"d-1": verdict.Lost, "d-2": verdict.Passed}[h.Serial]}))
	}
	v, err := d.Run(ctx, d.Who, run.ID)
	require.NoError(t, err)
	require.False(t, v.Ended.Valid, "it waits for its device to come back")
	// Two minutes later:
	d.sql("UPDATE devices SET seen = seen - INTERVAL 5 MINUTE WHERE serial = 'd-1'")
	d.sql("UPDATE legs SET created = created - INTERVAL 5 MINUTE")
	housetest.Eventually(t, "the run is over", func() bool {
		v, err = d.Run(ctx, d.Who, run.ID)
		require.NoError(t, err)
		return v.Ended.Valid
	})
	assert.Equal(t, verdict.Lost, v.Verdict)
	assert.Contains(t, v.Legs[0].Message, "d-1 has been away for 2m0s")
}

func TestADeviceWhoseHostIsSilentIsAway(t *testing.T) {
	d := set(t, "d-1")
	d.sql("UPDATE devices SET seen = seen - INTERVAL 1 MINUTE")
	ds, _, err := d.Devices(ctx, nil, "", 10)
	require.NoError(t, err)
	assert.Equal(t, "away", ds[0].State)
	assert.Contains(t, ds[0].Why, "gone silent")
	_, _, err = d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1"})
	var e *service.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, service.Refused, e.Kind)
	assert.Contains(t, e.Findings[0].What, "gone silent")
}

func TestTwoAppsOfOneNameKeepApart(t *testing.T) {
	d := set(t)
	// The same label under another app id: the manifest's string pool is patched, same length, as UTF-8 or UTF-16.
	raw, err := os.ReadFile(housetest.Kelpline(t))
	require.NoError(t, err)
	other := repack(t, raw, "org.kelpline.app", "net.kelpline.app")
	b, isNew, err := d.AddBuild(ctx, d.Who, service.Upload{Body: bytes.NewReader(other), Size: int64(len(other)), Name: "other.apk"})
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.Equal(t, "net.kelpline.app", b.AppID)
	assert.Equal(t, "net.kelpline.app/android@231", service.BuildRef(b))
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
	given := service.NewKey()
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
		assert.NotContains(t, strings.ToLower(k), strings.TrimPrefix(given, service.KeyPrefix))
	}
}

func TestMetricsSayWhatIsGoingOn(t *testing.T) {
	d := set(t, "d-1", "d-2")
	d.start("d-1")
	h := d.holds(1)[0]
	require.NoError(t, d.link.Report(ctx, h.ID, host.Progress{Seq: 1, Stage: "running"}))
	reg := prometheus.NewRegistry()
	reg.MustRegister(d.Collector())
	require.NoError(t, testutil.GatherAndCompare(reg, strings.NewReader(`
# HELP tessellant_devices Devices, by state.
# TYPE tessellant_devices gauge
tessellant_devices{state="ready"} 2
# HELP tessellant_legs Legs that are not done, by stage.
# TYPE tessellant_legs gauge
tessellant_legs{stage="running"} 1
`)))
}

// repack replaces a text in the binary manifest of a build, by one of the same length.
func repack(t *testing.T, raw []byte, old, with string) []byte {
	t.Helper()
	in, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	wide := func(s string) []byte { return []byte(strings.Join(strings.Split(s, ""), "\x00") + "\x00") }
	var buf bytes.Buffer
	out := zip.NewWriter(&buf)
	for _, f := range in.File {
		r, err := f.Open()
		require.NoError(t, err)
		var body bytes.Buffer
		_, err = body.ReadFrom(r)
		require.NoError(t, err)
		b := body.Bytes()
		if f.Name == "AndroidManifest.xml" {
			b = bytes.ReplaceAll(bytes.ReplaceAll(b, wide(old), wide(with)), []byte(old), []byte(with))
		}
		w, err := out.Create(f.Name)
		require.NoError(t, err)
		_, err = w.Write(b)
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	return buf.Bytes()
}
