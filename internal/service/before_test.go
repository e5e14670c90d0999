package service_test

// Data and hosts of the landing before there were specs.

import (
	"database/sql"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
)

func id(name string) string { return "01" + strings.Repeat("0", 24-len(name)) + name }

// schema5 fills a database as the last landing without specs left it: a run with a leg that is done and one that waits, a session that goes on and one that waits.
func schema5(t *testing.T) (dsn string) {
	t.Helper()
	dsn = housetest.DSN(t)
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	files := fstest.MapFS{}
	for _, name := range []string{"00001_first.sql", "00002_signins.sql", "00003_faults.sql", "00004_sessions.sql", "00005_bounds.sql"} {
		data, err := os.ReadFile("../store/migrations/" + name)
		require.NoError(t, err)
		files[name] = &fstest.MapFile{Data: data}
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files)
	require.NoError(t, err)
	_, err = p.Up(t.Context())
	require.NoError(t, err)
	text := func(v any) string {
		raw, err := json.Marshal(v)
		require.NoError(t, err)
		return string(raw)
	}
	do := func(query string, args ...any) {
		_, err := db.Exec(query, args...)
		require.NoError(t, err, query)
	}
	w, started := id("w"), time.Now().UTC().Add(-time.Minute)
	do("INSERT INTO workspaces (id, name, created) VALUES (?, 'tests', now(3))", w)
	do("INSERT INTO builds (id, workspace_id, slug, platform, app_id, version_name, version_code, facts, size, sha256, filename, blob_key, icon_key, created) VALUES (?, ?, 'kelpline', 'android', 'org.kelpline.app', '1.8.0', 231, ?, 9, 'abc', 'f', 'k', '', now(3))",
		id("b"), w, text(appfile.Facts{Platform: "android", MinAPI: 26, Activity: "org.kelpline.app.Main", ABIs: []string{"arm64-v8a"}}))
	tide := "low"
	do("INSERT INTO packages (id, workspace_id, name, revision, kind, about, cases, findings, inputs, size, sha256, blob_key, created) VALUES (?, ?, 'suite', 3, 'script', '', ?, '[]', ?, 1, 'def', 'k', now(3))",
		id("p"), w, text([]testpkg.Case{{Name: "a.test_a", Tags: []string{"smoke"}}, {Name: "a.test_b"}}), text([]testpkg.Input{{Name: "tide", Default: &tide}, {Name: "code", Secret: true}}))
	do("INSERT INTO hosts (id, name, seen) VALUES (?, 'built-in', now(3))", id("h"))
	for _, serial := range []string{"d-1", "d-2"} {
		do("INSERT INTO devices (id, serial, host_id, facts, state, why, seen) VALUES (?, ?, ?, ?, 'ready', '', now(3))", id(serial), serial, id("h"), text(devices.Facts{Serial: serial, Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}))
	}
	do("INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, created) VALUES (?, ?, ?, ?, ?, '[]', 600, ?)",
		id("r"), w, id("b"), id("p"), `{"build": "kelpline/android@231", "package": "suite@3", "where": null, "devices": null, "tags": ["smoke"], "confirm": 2, "secrets": ["code"]}`, started)
	do("INSERT INTO run_secrets (run_id, name, value) VALUES (?, 'code', 'ebb-and-flow')", id("r"))
	do("INSERT INTO legs (id, run_id, workspace_id, device_id, stage, verdict, message, cases_total, created, ended) VALUES (?, ?, ?, ?, 'done', 'passed', '', 1, ?, now(3))", id("l1"), id("r"), w, id("d-1"), started)
	do("INSERT INTO legs (id, run_id, workspace_id, device_id, stage, message, cases_total, created) VALUES (?, ?, ?, ?, 'waiting', '', 1, ?)", id("l2"), id("r"), w, id("d-2"), started)
	for _, x := range []struct{ id, stage, device, request string }{
		{id("s1"), "done", id("d-1"), `{"where": null, "patience": 1, "limit": 3600, "idle": 120, "recording": {"video": true}, "standard": {}}`},
		{id("s2"), "waiting", "", `{"where": ["serial=d-1"], "patience": 60, "limit": 3600, "idle": 120, "recording": {"log": true}, "landscape": true, "standard": {"browserName": "x"}}`},
	} {
		do("INSERT INTO legs (id, workspace_id, device_id, stage, message, cases_total, created) VALUES (?, ?, nullif(?, ''), ?, '', 0, ?)", x.id, w, x.device, x.stage, started)
		do("INSERT INTO sessions (id, workspace_id, token, build_id, label, name, request, created, awaited) VALUES (?, ?, ?, ?, 'nightly', 'n', ?, ?, now(3) + INTERVAL 1 HOUR)", x.id, w, []byte(x.id + "······")[:32], id("b"), x.request, started)
	}
	return dsn
}

func TestWorkThatWasWrittenBeforeThereWereSpecsIsDone(t *testing.T) {
	s := housetest.StartService(t, schema5(t))
	link := s.HostLink()
	_, err := link.Devices(ctx, housetest.HostName, hostlink.About{}, []hostlink.Seen{
		{Facts: devices.Facts{Serial: "d-1", Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}, {Facts: devices.Facts{Serial: "d-2", Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}})
	require.NoError(t, err)
	holds := map[work.Kind]hostlink.Hold{}
	housetest.Eventually(t, "the leg and the session have their devices", func() bool {
		all, err := link.Holds(ctx, housetest.HostName, nil)
		require.NoError(t, err)
		for _, h := range all {
			holds[h.Kind] = h
		}
		return len(holds) == 2
	})
	app := work.App{Build: id("b"), Ref: "kelpline/android@231", ID: "org.kelpline.app", Activity: "org.kelpline.app.Main", Size: 9, SHA256: "abc"}
	leg, session := holds[work.Leg], holds[work.Session]
	assert.Equal(t, []string{id("l2"), "d-2"}, []string{leg.WorkID, leg.Serial})
	assert.Equal(t, work.Spec{App: app, Content: work.Content{Kind: "script", Package: id("p"), Ref: "suite@3", SHA256: "def"}, Cases: []string{"a.test_a"}, Inputs: map[string]string{"tide": "low"}, Secrets: []string{"code"},
		Recording: recording.Set{Video: true, Log: true}, Limits: work.Limits{Whole: 600, Confirm: 2, Attempts: 2}}, leg.Spec)
	assert.Equal(t, map[string]string{"tide": "low", "code": "ebb-and-flow"}, leg.Inputs())
	assert.Equal(t, []string{id("s2"), "d-1"}, []string{session.WorkID, session.Serial})
	assert.Equal(t, work.Spec{App: app, Content: work.Content{Kind: work.Commands, Capabilities: map[string]any{"browserName": "x"}}, Conditions: conditions.Set{conditions.Orientation: "landscape"},
		Recording: recording.Set{Log: true}, Limits: work.Limits{Whole: 3600, Idle: 120, Attempts: 1}}, session.Spec)
	// What was there is shown as before.
	v, err := s.Run(ctx, s.Who, id("r"))
	require.NoError(t, err)
	assert.Equal(t, []string{"a.test_a"}, v.CaseNames)
	require.Len(t, v.Legs, 2)
	old, err := s.Session(ctx, s.Who, id("s1"))
	require.NoError(t, err)
	assert.Equal(t, "nightly", old.Group)
	l, err := s.Leg(ctx, s.Who, id("s1"))
	require.NoError(t, err)
	assert.NotNil(t, l.Session)
	require.NoError(t, link.Close(ctx, leg, hostlink.Closing{Verdict: verdict.Passed}))
	v, err = s.Run(ctx, s.Who, id("r"))
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, v.Verdict)
}

func TestAHostOfTheProtocolBeforeGetsItsWork(t *testing.T) {
	d := set(t)
	key, err := d.AddHost(ctx, d.Who, "bench-1")
	require.NoError(t, err)
	beside, err := d.Enter(ctx, key)
	require.NoError(t, err)
	h := beside.Host
	w, err := d.Join(ctx, h, "0.9", hostlink.Protocol-1, "nats://x")
	require.NoError(t, err)
	ask := func(c hostlink.Call, into any) {
		c.Token = w.Token
		raw, err := json.Marshal(c)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(d.AnswerHost(ctx, "", raw), into))
	}
	var a hostlink.AnswerBefore
	ask(hostlink.Call{Kind: "devices", Seen: []hostlink.Seen{{Facts: devices.Facts{Serial: "d-1", Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}}}, &a)
	require.Empty(t, a.Problem)
	r := d.start()
	housetest.Eventually(t, "it has the hold", func() bool {
		ask(hostlink.Call{Kind: "holds"}, &a)
		return len(a.Holds) == 1
	})
	got := a.Holds[0]
	assert.Equal(t, []any{r.ID, "org.kelpline.app", "org.kelpline.app.MainActivity", 1800, []string{"a.test_a"}, "kelpline/android@231", "suite@1", false}, []any{got.RunID, got.AppID, got.Activity, got.LimitSeconds, got.Cases, got.Build, got.Package, got.Program})
	assert.Len(t, got.BuildSHA, 64)
	assert.Len(t, got.PackageSHA, 64)
	assert.Nil(t, got.Session)
	ask(hostlink.Call{Kind: "close", Hold: got.ID, Closing: &hostlink.Closing{Verdict: verdict.Passed}}, &a)
	require.Empty(t, a.Problem)
	// And what it left in its folder can be read by the host that takes its place.
	raw, err := json.Marshal(got)
	require.NoError(t, err)
	left, err := hostlink.ReadHold(raw)
	require.NoError(t, err)
	assert.Equal(t, []any{got.ID, got.LegID, got.AttemptID, "d-1", work.Leg, "org.kelpline.app"}, []any{left.ID, left.WorkID, left.AttemptID, left.Serial, left.Kind, left.Spec.App.ID})
}
