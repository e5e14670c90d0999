package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/housetest"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// desk is a store with a workspace, a build, a package, a host and devices.
type desk struct {
	*store.Store
	dsn                  string
	ws, build, pkg, host string
	devices              []store.Device
}

func open(t *testing.T) *desk {
	t.Helper()
	ctx := context.Background()
	dsn := housetest.DSN(t)
	s, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	d := &desk{Store: s, dsn: dsn, build: store.NewID(), pkg: store.NewID()}
	require.NoError(t, s.FirstKey(ctx, "one", "k", make([]byte, 32)))
	id, err := s.KeyByHash(ctx, make([]byte, 32))
	require.NoError(t, err)
	d.ws = id.WorkspaceID
	now := time.Now().UTC().Truncate(time.Millisecond)
	_, err = s.AddBuild(ctx, store.Build{ID: d.build, WorkspaceID: d.ws, Platform: "android", AppID: "a", SHA256: "1", Created: now, VersionCode: 231, VersionName: "1.8.0",
		Facts: store.JSON[appfile.Facts]{V: appfile.Facts{Label: "Kelpline", Permissions: []string{"p"}}}}, "kelpline")
	require.NoError(t, err)
	rev, err := s.AddPackage(ctx, store.Package{ID: d.pkg, WorkspaceID: d.ws, Name: "suite", Kind: "script", SHA256: "1", Created: now, Cases: store.JSON[[]testpkg.Case]{V: []testpkg.Case{{Name: "c"}}}})
	require.NoError(t, err)
	require.Equal(t, 1, rev)
	d.host, err = s.SeeHost(ctx, "beside")
	require.NoError(t, err)
	for _, serial := range []string{"d-1", "d-2"} {
		see(t, s, d.host, devices.Facts{Serial: serial, Platform: "android"}, "ready", "")
	}
	d.devices, err = s.Devices(ctx, "", 0)
	require.NoError(t, err)
	return d
}

// see has a host show a device.
func see(t *testing.T, s *store.Store, host string, f devices.Facts, state, why string) (id string) {
	t.Helper()
	id, err := s.SeeDevice(context.Background(), store.Sighting{HostID: host, Host: "beside", Lab: "adb", Facts: f, State: state, Why: why})
	require.NoError(t, err)
	return id
}

func (d *desk) run(t *testing.T, n int) (string, []store.Work) {
	t.Helper()
	r := store.Run{ID: store.NewID(), WorkspaceID: d.ws, BuildID: d.build, PackageID: d.pkg, LimitSeconds: 60, Created: time.Now().UTC()}
	var legs []store.NewWork
	for i := range n {
		legs = append(legs, store.NewWork{Work: store.Work{ID: store.NewID(), Kind: work.Leg, RunID: r.ID, WorkspaceID: d.ws, DeviceID: d.devices[i%2].ID, CasesTotal: 1, Created: r.Created}})
	}
	require.NoError(t, d.AddRun(context.Background(), r, nil, legs))
	waiting, err := d.Waiting(context.Background(), 100)
	require.NoError(t, err)
	return r.ID, waiting[len(waiting)-n:]
}

func TestBuildsAndPackagesAreFoundByWhatPeopleCallThem(t *testing.T) {
	ctx, d := context.Background(), open(t)
	code := int64(231)
	for _, c := range []struct {
		app  string
		code *int64
		name string
	}{{"kelpline", nil, ""}, {"a", &code, ""}, {"kelpline", nil, "1.8.0"}} {
		b, err := d.NewestBuild(ctx, d.ws, c.app, "android", c.code, c.name)
		require.NoError(t, err)
		assert.Equal(t, d.build, b.ID)
		assert.Equal(t, "Kelpline", b.Facts.V.Label)
	}
	_, err := d.NewestBuild(ctx, "another workspace", "kelpline", "android", nil, "")
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = d.AddBuild(ctx, store.Build{ID: store.NewID(), WorkspaceID: d.ws, SHA256: "1", Created: time.Now()}, "kelpline")
	assert.ErrorIs(t, err, store.ErrTaken)
	rev, err := d.AddPackage(ctx, store.Package{ID: store.NewID(), WorkspaceID: d.ws, Name: "suite", SHA256: "2", Created: time.Now()})
	require.NoError(t, err)
	assert.Equal(t, 2, rev)
	p, err := d.PackageByName(ctx, d.ws, "suite", 0)
	require.NoError(t, err)
	assert.Equal(t, 2, p.Revision)
}

func TestRevisionsAreCountedWithoutGapsWhenManyUploadAtOnce(t *testing.T) {
	ctx, d := context.Background(), open(t)
	var all sync.WaitGroup
	got := make([]int, 12)
	for i := range got {
		all.Go(func() {
			rev, err := d.AddPackage(ctx, store.Package{ID: store.NewID(), WorkspaceID: d.ws, Name: "busy", SHA256: fmt.Sprint("b", i), Created: time.Now()})
			assert.NoError(t, err)
			got[i] = rev
		})
	}
	all.Wait()
	seen := map[int]bool{}
	for _, r := range got {
		seen[r] = true
	}
	for i := range got {
		assert.True(t, seen[i+1], "revision %d", i+1)
	}
}

func TestADeviceHasOneHoldAtATime(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, legs := d.run(t, 4) // two for each device
	var all sync.WaitGroup
	var mu sync.Mutex
	won := 0
	for _, l := range legs {
		dev := d.devices[0]
		if l.DeviceID == d.devices[1].ID {
			dev = d.devices[1]
		}
		all.Go(func() {
			err := d.TakeDevice(ctx, l, dev, time.Minute)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else {
				assert.ErrorIs(t, err, store.ErrTaken)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 2, won)
	holds, err := d.ActiveHolds(ctx, "")
	require.NoError(t, err)
	assert.Len(t, holds, 2)
	waiting, err := d.Waiting(ctx, 100)
	require.NoError(t, err)
	assert.Len(t, waiting, 2, "those that got no device still wait")
}

func TestReportsCountOnceAndTheLastLegEndsTheRun(t *testing.T) {
	ctx, d := context.Background(), open(t)
	run, legs := d.run(t, 2)
	for i, l := range legs {
		require.NoError(t, d.TakeDevice(ctx, l, d.devices[i], time.Minute))
	}
	holds, err := d.ActiveHolds(ctx, d.host)
	require.NoError(t, err)
	c := store.Case{Name: "c", StartMS: 5}
	_, err = d.Note(ctx, holds[0].ID, []store.Progress{{Seq: 1, Stage: "running"}})
	require.NoError(t, err)
	_, err = d.Note(ctx, holds[0].ID, []store.Progress{{Seq: 2, Case: &c}})
	require.NoError(t, err)
	c.Verdict, c.TookMS = verdict.Failed, 7
	_, err = d.Note(ctx, holds[0].ID, []store.Progress{{Seq: 3, Case: &c}})
	require.NoError(t, err)
	c.Verdict = verdict.Passed
	_, err = d.Note(ctx, holds[0].ID, []store.Progress{{Seq: 3, Case: &c}})
	require.NoError(t, err, "told twice")
	cases, err := d.Cases(ctx, holds[0].AttemptID)
	require.NoError(t, err)
	require.Len(t, cases, 1)
	assert.Equal(t, verdict.Failed, cases[0].Verdict)
	verdicts, err := d.CaseVerdicts(ctx, []string{holds[0].AttemptID})
	require.NoError(t, err)
	assert.Equal(t, []store.CaseVerdict{{Ordinal: 0, Verdict: verdict.Failed}}, verdicts[holds[0].AttemptID])

	var all sync.WaitGroup
	for i, h := range holds {
		all.Go(func() {
			_, ok, err := d.CloseHold(ctx, h.ID, store.Closing{Verdict: []verdict.Verdict{verdict.Failed, verdict.Passed}[i]})
			assert.NoError(t, err)
			assert.True(t, ok)
		})
	}
	all.Wait()
	r, err := d.RunByID(ctx, d.ws, run)
	require.NoError(t, err)
	assert.True(t, r.Ended.Valid)
	assert.Equal(t, verdict.Failed, r.Verdict)
	_, ok, err := d.CloseHold(ctx, holds[0].ID, store.Closing{Verdict: verdict.Passed})
	require.NoError(t, err)
	assert.False(t, ok, "a hold that is over changes nothing")
	_, err = d.Note(ctx, holds[0].ID, []store.Progress{{Seq: 9, Stage: "running"}})
	require.NoError(t, err)
	l, err := d.WorkByID(ctx, d.ws, holds[0].WorkID)
	require.NoError(t, err)
	assert.Equal(t, "done", l.Stage)
}

func TestAHoldThatIsNotRenewedRunsOutAndItsLegGetsAnotherAttempt(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, legs := d.run(t, 1)
	require.NoError(t, d.TakeDevice(ctx, legs[0], d.devices[0], time.Millisecond))
	var out []store.Hold
	housetest.Eventually(t, "the hold has run out", func() bool {
		var err error
		out, err = d.ExpiredHolds(ctx)
		require.NoError(t, err)
		return len(out) == 1
	})
	_, ok, err := d.CloseHold(ctx, out[0].ID, store.Closing{Verdict: verdict.Lost, Again: true})
	require.NoError(t, err)
	require.True(t, ok)
	waiting, err := d.Waiting(ctx, 10)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	require.NoError(t, d.TakeDevice(ctx, waiting[0], d.devices[0], time.Minute))
	attempts, err := d.Attempts(ctx, waiting[0].ID)
	require.NoError(t, err)
	require.Len(t, attempts, 2)
	assert.Equal(t, 2, attempts[1].Number)
	holds, err := d.ActiveHolds(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, 2, holds[0].Epoch)
	kept, err := d.Renew(ctx, d.host, []string{holds[0].ID, out[0].ID}, time.Minute)
	require.NoError(t, err)
	assert.Equal(t, []string{holds[0].ID}, kept)
}

func TestTheLeaseHasOneHolder(t *testing.T) {
	ctx, d := context.Background(), open(t)
	ok, err := d.Lease(ctx, "x", "a", time.Hour)
	require.NoError(t, err)
	assert.True(t, ok)
	ok, err = d.Lease(ctx, "x", "b", time.Hour)
	require.NoError(t, err)
	assert.False(t, ok)
	ok, err = d.Lease(ctx, "x", "a", time.Millisecond)
	require.NoError(t, err)
	assert.True(t, ok, "renewed")
	housetest.Eventually(t, "the lease has run out", func() bool {
		ok, err := d.Lease(ctx, "x", "b", time.Hour)
		require.NoError(t, err)
		return ok
	})
	require.NoError(t, d.Unlease(ctx, "x", "b"))
	ok, err = d.Lease(ctx, "x", "a", time.Hour)
	require.NoError(t, err)
	assert.True(t, ok)
}

func TestDevicesKeepTheirFactsWhenTheyCanNoLongerBeAsked(t *testing.T) {
	ctx, d := context.Background(), open(t)
	one := see(t, d.Store, d.host, devices.Facts{Serial: "d-1"}, "unusable", "unauthorized")
	require.NoError(t, d.DevicesGone(ctx, d.host, []string{one}))
	all, err := d.Devices(ctx, "", 0)
	require.NoError(t, err)
	assert.Equal(t, "unusable", all[0].Standing().State)
	assert.Equal(t, "android", all[0].Facts.V.Platform)
	assert.Equal(t, "away", all[1].Standing().State)
	assert.NotEmpty(t, all[1].Standing().Why)
}

func TestADeviceThatNeverSaidWhatItIsIsForgottenWhenItGoes(t *testing.T) {
	ctx, d := context.Background(), open(t)
	see(t, d.Store, d.host, devices.Facts{Serial: "10.0.0.9:5555"}, "unusable", "unauthorized")
	all, err := d.Devices(ctx, "", 0)
	require.NoError(t, err)
	assert.Len(t, all, 3)
	require.NoError(t, d.DevicesGone(ctx, d.host, []string{d.devices[0].ID, d.devices[1].ID}))
	all, err = d.Devices(ctx, "", 0)
	require.NoError(t, err)
	assert.Len(t, all, 2)
}

func TestTwoProcessesOpenTheSameDatabaseAtOnce(t *testing.T) {
	dsn := housetest.DSN(t)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			s, err := store.Open(context.Background(), dsn)
			if assert.NoError(t, err) {
				_ = s.Close()
			}
		})
	}
	all.Wait()
	_, err := store.Open(context.Background(), "nonsense")
	assert.ErrorContains(t, err, "can't be read")
}

func TestASignInLastsWhileItIsUsedButNotForEver(t *testing.T) {
	ctx, d := context.Background(), open(t)
	who, err := d.KeyByHash(ctx, make([]byte, 32))
	require.NoError(t, err)
	browser, ticket := bytes.Repeat([]byte{7}, 32), bytes.Repeat([]byte{8}, 32)
	require.NoError(t, d.AddSignin(ctx, store.SigninBrowser, browser, who.KeyID, time.Hour))
	got, first, err := d.SigninByHash(ctx, browser, time.Hour, 24*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, who, got)
	_, later, err := d.SigninByHash(ctx, browser, 4*time.Hour, 24*time.Hour) // less than half of that is left
	require.NoError(t, err)
	assert.InDelta(t, 3, later.Sub(first).Hours(), 0.01)
	_, capped, err := d.SigninByHash(ctx, browser, 40*time.Hour, 5*time.Hour)
	require.NoError(t, err)
	assert.InDelta(t, 4, capped.Sub(first).Hours(), 0.01, "never longer than the longest time in all")

	require.NoError(t, d.AddSignin(ctx, store.SigninTicket, ticket, who.KeyID, time.Hour))
	_, _, err = d.SigninByHash(ctx, ticket, time.Hour, time.Hour)
	assert.ErrorIs(t, err, store.ErrNotFound, "a ticket is no sign-in")
	_, err = d.UseTicket(ctx, browser)
	assert.ErrorIs(t, err, store.ErrNotFound, "a sign-in is no ticket")
	var used atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			if key, err := d.UseTicket(ctx, ticket); err == nil && key == who.KeyID {
				used.Add(1)
			}
		})
	}
	all.Wait()
	assert.Equal(t, int32(1), used.Load(), "once, by whoever came first")
	require.NoError(t, d.AddSignin(ctx, store.SigninBrowser, bytes.Repeat([]byte{9}, 32), who.KeyID, -time.Second))
	_, _, err = d.SigninByHash(ctx, bytes.Repeat([]byte{9}, 32), time.Hour, time.Hour)
	assert.ErrorIs(t, err, store.ErrNotFound, "it is over")
}

func TestDataOfTheFirstVersionOpens(t *testing.T) {
	ctx, dsn := context.Background(), housetest.DSN(t)
	first, err := os.ReadFile("migrations/00001_first.sql")
	require.NoError(t, err)
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectMySQL, db, fstest.MapFS{"00001_first.sql": {Data: first}})
	require.NoError(t, err)
	_, err = p.Up(ctx)
	require.NoError(t, err)
	for _, q := range []string{
		"INSERT INTO workspaces (id, name, created) VALUES ('w', 'old', now(3))",
		"INSERT INTO access_keys (id, workspace_id, role, name, hash, created) VALUES ('k', 'w', 'owner', 'first', REPEAT('x', 32), now(3))",
		"INSERT INTO builds (id, workspace_id, slug, platform, app_id, version_name, version_code, facts, size, sha256, filename, blob_key, icon_key, created) VALUES ('b', 'w', 's', 'android', 'a', '1', 1, '{}', 1, 'x', 'f', 'k', '', now(3))",
		"INSERT INTO packages (id, workspace_id, name, revision, kind, about, cases, findings, size, sha256, blob_key, created) VALUES ('p', 'w', 'n', 1, 'script', '', '[]', '[]', 1, 'x', 'k', now(3))",
		"INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, created) VALUES ('r', 'w', 'b', 'p', '{}', '[]', 60, now(3))",
	} {
		_, err := db.Exec(q)
		require.NoError(t, err, q)
	}
	s, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	defer s.Close()
	runs, err := s.Runs(ctx, "w", store.RunChoice{BuildID: "b"}, "", 10)
	require.NoError(t, err)
	assert.Len(t, runs, 1)
	require.NoError(t, s.AddSignin(ctx, store.SigninBrowser, bytes.Repeat([]byte{1}, 32), "k", time.Hour))
}

func TestEqualSerialsAtTwoHostsAreTwoDevices(t *testing.T) {
	ctx, d := context.Background(), open(t)
	other, err := d.SeeHost(ctx, "bench-2")
	require.NoError(t, err)
	show := func(host, name, model string) string {
		id, err := d.SeeDevice(ctx, store.Sighting{HostID: host, Host: name, Lab: "adb", Facts: devices.Facts{Serial: "d-1", Platform: "android", Model: model}, State: "ready"})
		require.NoError(t, err)
		return id
	}
	first := show(d.host, "beside", "Skerry")
	for range 3 { // they do not flap
		assert.Equal(t, first, show(d.host, "beside", "Skerry"))
		second := show(other, "bench-2", "Fennel")
		assert.NotEqual(t, first, second)
		x, err := d.DeviceByID(ctx, second)
		require.NoError(t, err)
		assert.Equal(t, []string{"d-1@bench-2", "d-1@bench-2", "d-1", "Fennel"}, []string{x.Serial, x.Facts.V.Serial, x.Unit, x.Facts.V.Model})
		x, err = d.DeviceByID(ctx, first)
		require.NoError(t, err)
		assert.Equal(t, []string{"d-1", "beside", "Skerry"}, []string{x.Serial, x.Host, x.Facts.V.Model})
	}
	// One that was carried to another host is the same device there.
	require.NoError(t, d.DevicesGone(ctx, d.host, nil))
	third, err := d.SeeHost(ctx, "bench-3")
	require.NoError(t, err)
	assert.Equal(t, first, show(third, "bench-3", "Skerry"))
	x, err := d.DeviceBySerial(ctx, "d-1")
	require.NoError(t, err)
	assert.Equal(t, "bench-3", x.Host)
}

func TestADeviceThatIsReleasedIsGivenAwayBeforeItsHoldEnds(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, legs := d.run(t, 1)
	require.NoError(t, d.TakeDevice(ctx, legs[0], d.devices[0], time.Minute))
	h, err := d.HoldOfDevice(ctx, d.devices[0].ID)
	require.NoError(t, err)
	_, ok, err := d.ReleaseHold(ctx, h.ID, "")
	require.NoError(t, err)
	assert.True(t, ok)
	_, ok, err = d.ReleaseHold(ctx, h.ID, "too late")
	require.NoError(t, err)
	assert.False(t, ok)
	x, err := d.DeviceByID(ctx, d.devices[0].ID)
	require.NoError(t, err)
	assert.True(t, x.Standing().Free)
	_, more := d.run(t, 1)
	require.NoError(t, d.TakeDevice(ctx, more[0], d.devices[0], time.Minute))
	_, ok, err = d.CloseHold(ctx, h.ID, store.Closing{Verdict: verdict.Passed})
	require.NoError(t, err)
	assert.True(t, ok)
	again, err := d.HoldOfDevice(ctx, d.devices[0].ID)
	require.NoError(t, err)
	assert.Equal(t, more[0].ID, again.WorkID, "the end of one hold takes the device from no other")
	_, ok, err = d.ReleaseHold(ctx, again.ID, "the app can't be removed")
	require.NoError(t, err)
	assert.True(t, ok)
	x, err = d.DeviceByID(ctx, d.devices[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "quarantined", x.Standing().Name)
	assert.Equal(t, "itself", x.QuarantineBy)
}

func TestManyDevicesAreSeenTogetherAsEachWouldBe(t *testing.T) {
	ctx, d := context.Background(), open(t)
	other, err := d.SeeHost(ctx, "bench-2")
	require.NoError(t, err)
	tell := func(host, name, lab string, of ...string) (ids []string) {
		t.Helper()
		var all []store.Sighting
		for i := 0; i+2 < len(of); i += 3 {
			all = append(all, store.Sighting{HostID: host, Host: name, Lab: lab, Facts: devices.Facts{Serial: of[i], Platform: "android", Model: of[i+1]}, State: of[i+2]})
		}
		ids, err := d.SeeDevices(ctx, host, all)
		require.NoError(t, err)
		require.Len(t, ids, len(all))
		return ids
	}
	first := tell(d.host, "beside", "adb", "d-1", "Skerry", "ready", "d-2", "", "ready", "m-1", "Fennel", "ready", "m-2", "Fennel", "unusable", "m-1", "Fennel", "ready")
	assert.Equal(t, first[2], first[4], "one that is told twice is one")
	again := tell(d.host, "beside", "adb", "d-1", "Skerry", "ready", "d-2", "", "ready", "m-1", "Fennel", "unusable", "m-2", "Fennel", "unusable")
	assert.Equal(t, first[:4], again)
	x, err := d.DeviceByID(ctx, first[2])
	require.NoError(t, err)
	assert.Equal(t, devices.Unusable, x.Standing().State, "what has changed is taken over")
	rented := tell(d.host, "beside", "heron", "m-1", "Larch", "ready")
	assert.NotEqual(t, first[2], rented[0], "another lab's device of that serial is another")
	elsewhere := tell(other, "bench-2", "adb", "m-1", "Quillon", "ready", "n-1", "Quillon", "ready")
	x, err = d.DeviceByID(ctx, elsewhere[0])
	require.NoError(t, err)
	assert.Equal(t, []string{"m-1@bench-2", "m-1", "Quillon"}, []string{x.Serial, x.Unit, x.Facts.V.Model})

	// So many that they go in several statements.
	var many []string
	for i := range 1300 {
		many = append(many, fmt.Sprintf("k-%d", i), "Many", "ready")
	}
	ids := tell(other, "bench-2", "heron", many...)
	assert.Equal(t, ids, tell(other, "bench-2", "heron", many...))
	seen := map[string]bool{}
	for _, id := range ids {
		assert.False(t, seen[id])
		seen[id] = true
	}
}
