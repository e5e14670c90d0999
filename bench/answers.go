package main

// What runs say: finding it for a large run, and the queries of the pages with ten million results.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/house"
	"tessellant/internal/housetest"
	"tessellant/internal/localdb"
	"tessellant/internal/service"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/looks"
	"tessellant/internal/store"
)

func whatRunsSay(dir string) error {
	return errors.Join(largeTriage(), stacking(), tenMillion(filepath.Join(dir, "answers")))
}

// largeTriage finds what a run of 1,000 legs and 100 cases says, of which every tenth failed, in 40 ways.
func largeTriage() error {
	const legs, cases, ways = 1000, 100, 40
	rnd := rand.New(rand.NewPCG(18, 1))
	fleet := make([]triage.Leg, legs)
	for i := range fleet {
		f := devices.Facts{Serial: fmt.Sprint("d-", i), Platform: "android", API: 26 + rnd.IntN(10), Maker: []string{"Orrery", "Fennel", "Quillon", "Marrow"}[rnd.IntN(4)], Model: fmt.Sprint("M", rnd.IntN(60)), Form: "phone", Origin: "real", Width: 720 + 40*rnd.IntN(20), Height: 1600, Density: 280 + 40*rnd.IntN(6), MemoryMB: 1024 * (2 + rnd.IntN(11)), Language: []string{"en", "de", "fr"}[rnd.IntN(3)], Place: fmt.Sprint("room ", rnd.IntN(9))}
		f.OS = fmt.Sprint(f.API - 20)
		fleet[i] = triage.Leg{Device: f}
	}
	trace := strings.Repeat("\tat org.kelpline.app.Tide.step(Tide.java:12)\n\tat android.view.View.draw(View.java:1)\n", 40)
	failure := func(leg, way int) triage.Failure {
		f := triage.Failure{Leg: leg, Case: fmt.Sprintf("shore.test_%02d", way*7%cases), Kind: verdict.Failed, Message: fmt.Sprintf("the total of page %q is wrong: expected %d, but there was %d after %d ms", strings.Repeat("a", way+1), way, rnd.IntN(1000), rnd.IntN(9000))}
		if way%4 == 0 {
			f.Kind, f.Trace = verdict.Crashed, fmt.Sprintf("java.lang.IllegalStateException: tide %d\n\tat org.kelpline.app.Page%d.open(Page.java:1)\n%s", rnd.IntN(1000), way, trace)
		}
		return f
	}
	var all []triage.Failure
	judged := make([][]triage.Judged, legs)
	for i := range fleet {
		fails := map[string]bool{}
		for range cases / 10 {
			way := rnd.IntN(ways)
			if way < 10 && fleet[i].Device.API > 28 { // some have a cause
				continue
			}
			f := failure(i, way)
			if !fails[f.Case] {
				fails[f.Case] = true
				all = append(all, f)
			}
		}
		for c := range cases {
			name, v := fmt.Sprintf("shore.test_%02d", c), verdict.Passed
			if fails[name] {
				v = verdict.Failed
			}
			judged[i] = append(judged[i], triage.Judged{Case: name, Verdict: v})
		}
	}
	runtime.GC()
	var before, at runtime.MemStats
	runtime.ReadMemStats(&before)
	most, stop, over := uint64(0), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				runtime.ReadMemStats(&at)
				most = max(most, at.HeapAlloc)
			}
		}
	}()
	start := time.Now()
	var g triage.Gathered
	for _, f := range all {
		g.Add(f)
	}
	families := g.Families()
	explained := triage.Explain(families, fleet, judged, nil)
	took := time.Since(start)
	close(stop)
	<-over
	rules := 0
	for _, x := range explained {
		if x.Rule != nil {
			rules++
		}
	}
	used := float64(most-min(most, before.HeapAlloc)) / (1 << 20)
	return errors.Join(
		say("triage of 1,000 legs × 100 cases ÷ 1 s", took.Seconds(), 1, "%d failures, %d families, %d rules: %s", len(all), len(families), rules, took.Round(time.Millisecond)),
		say("its memory ÷ 200 MB", used/200, 1, "%.0f MB of heap at most", used))
}

// Of the ten million results.
const (
	oldRuns  = 1000
	oldLegs  = 100
	oldCases = 100
	oldBuild = 200
	asked    = 60 // times that each query is asked
)

// tenMillion fills a database with ten million results of cases and asks what the pages ask.
func tenMillion(dir string) error {
	ctx := context.Background()
	db, err := localdb.Start(ctx, filepath.Join(dir, "db"))
	if err != nil {
		return err
	}
	defer db.Close()
	h, err := house.Start(ctx, house.Config{Listen: "127.0.0.1:0", Data: dir, Database: db.DSN, NoHost: true, Workspace: "bench", FirstKey: "tsl_a_key_for_the_bench_alone", Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer h.Close()
	who, err := h.Enter(ctx, "tsl_a_key_for_the_bench_alone")
	if err != nil {
		return err
	}
	start := time.Now()
	rows, err := fillOld(ctx, db.DSN, who.WorkspaceID)
	if err != nil {
		return fmt.Errorf("fill the database: %w", err)
	}
	fmt.Printf("%d rows of cases and as many results were filled in within %s\n", rows, time.Since(start).Round(time.Second))
	if err := settled(ctx, db.Root); err != nil {
		return err
	}
	rnd := rand.New(rand.NewPCG(18, 3))
	run := func() store.Run {
		r, err := h.FindRun(ctx, who, oldID("r", rnd.IntN(oldRuns)))
		if err != nil {
			panic(err)
		}
		return r
	}
	app := store.App{WorkspaceID: who.WorkspaceID, Slug: "kelpline", Platform: "android"}
	var all error
	for _, q := range []struct {
		what string
		ask  func() error
	}{
		{"the list of runs", func() error {
			_, _, err := h.ListRuns(ctx, who, service.RunChoice{}, oldID("r", rnd.IntN(oldRuns)), 50)
			return err
		}},
		{"a run of 100 legs", func() error { _, err := h.Run(ctx, who, oldID("r", rnd.IntN(oldRuns))); return err }},
		{"what a run says", func() error { _, err := h.Answer(ctx, run()); return err }},
		{"a case's history", func() error {
			_, err := h.CaseHistory(ctx, who, service.HistoryOf{App: "kelpline/android", Package: "shore", Case: oldCase(rnd.IntN(oldCases))})
			return err
		}},
		{"in which runs a family was", func() error {
			_, err := h.Store.FamilyRuns(ctx, app, []string{fmt.Sprintf("%016x", rnd.IntN(50))}, oldID("r", rnd.IntN(oldRuns)), 100)
			return err
		}},
		{"how often cases were flaky", func() error {
			var of []store.Subject
			for range 20 {
				of = append(of, answers.Subject(app, "shore", oldCase(rnd.IntN(oldCases))))
			}
			_, err := h.Store.CaseTallies(ctx, of, oldID("r", rnd.IntN(oldRuns)), 600)
			return err
		}},
		{"a leg with its cases", func() error { _, err := h.Leg(ctx, who, oldID("w", rnd.IntN(oldRuns*oldLegs))); return err }},
		{"what a device measured before", func() error {
			of := answers.Subject(app, "shore", "")
			_, err := h.Store.MeasuresBefore(ctx, of[:], oldID("d", rnd.IntN(oldLegs)), "", oldID("r", rnd.IntN(oldRuns)), 60)
			return err
		}},
		{"the steps of a run", func() error { _, err := h.Steps(ctx, run()); return err }},
		{"the legs of a device", func() error {
			_, _, err := h.DeviceLegs(ctx, who, fmt.Sprintf("d-%02d", rnd.IntN(oldLegs)), oldID("w", rnd.IntN(oldRuns*oldLegs)), 50)
			return err
		}},
	} {
		var took []time.Duration
		for range asked {
			start := time.Now()
			if err := q.ask(); err != nil {
				return fmt.Errorf("%s: %w", q.what, err)
			}
			took = append(took, time.Since(start))
		}
		slices.Sort(took)
		p95 := took[len(took)*95/100]
		all = errors.Join(all, say(q.what+", p95 ÷ 50 ms", float64(p95)/float64(50*time.Millisecond), 1, "of %d, each another one: %s; median %s", asked, p95.Round(100*time.Microsecond), took[len(took)/2].Round(100*time.Microsecond)))
	}
	return errors.Join(all, wideGrid(ctx, h, db.DSN, who.WorkspaceID))
}

// wideGrid opens a run of 1,000 legs and 100 cases, and scrolls over its grid.
func wideGrid(ctx context.Context, h *house.House, dsn, workspace string) error {
	if err := fillWide(ctx, dsn, workspace); err != nil {
		return fmt.Errorf("fill in a wide run: %w", err)
	}
	tab, stop, err := housetest.Browse()
	if err != nil {
		return err
	}
	defer stop()
	if err := tab.SignIn(h.URL, "tsl_a_key_for_the_bench_alone"); err != nil {
		return err
	}
	var took []time.Duration
	for range 7 {
		if err := tab.Do(chromedp.Navigate(h.URL + "/runs/" + oldID("r", oldRuns))); err != nil {
			return err
		}
		ms, err := housetest.Eval[float64](tab, `new Promise(done => { const look = () => document.querySelectorAll('[data-spot]').length > 200 && document.querySelectorAll('[data-leg]').length === 1000
			? requestAnimationFrame(() => done(performance.now())) : requestAnimationFrame(look); look(); })`)
		if err != nil {
			return err
		}
		took = append(took, time.Duration(ms*float64(time.Millisecond)))
	}
	var frames []time.Duration // a frame each, so that median can be used
	for range 5 {
		n, err := housetest.Eval[float64](tab, `new Promise(done => {
			const box = document.querySelector('[aria-label="Cases on devices"]'), start = performance.now(); let n = 0;
			const step = now => { if (now - start > 3000) return done(n / 3); n++; box.scrollLeft = (box.scrollLeft + 40) % (box.scrollWidth - box.clientWidth); box.scrollTop = (box.scrollTop + 10) % (box.scrollHeight - box.clientHeight); requestAnimationFrame(step); };
			requestAnimationFrame(step); })`)
		if err != nil {
			return err
		}
		frames = append(frames, time.Duration(n*float64(time.Second)))
	}
	perSecond := median(frames).Seconds()
	return errors.Join(
		say("a run of 1,000 legs × 100 cases ÷ 1 s", median(took).Seconds(), 1, "from the navigation's start until the mosaic and the grid are drawn; median of %d: %s", len(took), median(took).Round(time.Millisecond)),
		say("50 ÷ frames a second of its grid", 50/perSecond, 1, "scrolled by 40 and 10 pixels a frame; median of 5 times 3 s: %.0f", perSecond))
}

// fillWide writes the run.
func fillWide(ctx context.Context, dsn, workspace string) error {
	db, err := sqlx.ConnectContext(ctx, "mysql", dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	id := func(kind, n string) string { return "concat('01" + kind + "', lpad(" + n + ", 23, '0'))" }
	do := func(query string, args ...any) {
		if err == nil {
			_, err = db.ExecContext(ctx, query, args...)
		}
	}
	for i := oldLegs; i < 1000; i++ {
		f, _ := json.Marshal(devices.Facts{Serial: fmt.Sprintf("d-%03d", i), Platform: "android", API: 26 + i%10, OS: fmt.Sprint(6 + i%10), Maker: "Orrery", Model: fmt.Sprint("M", i%30), Form: "phone", Origin: "real", Width: 1080, Height: 2400, Density: 420, MemoryMB: 4096, Language: "en"})
		do("INSERT INTO devices (id, serial, unit, host_id, facts, state, why, seen) VALUES (?, ?, ?, ?, ?, 'away', '', now(3))", oldID("d", i), fmt.Sprintf("d-%03d", i), fmt.Sprintf("d-%03d", i), oldID("h", 0), f)
	}
	run, leg := oldID("r", oldRuns), fmt.Sprintf("%d + w.seq", oldRuns*oldLegs)
	do("INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, verdict, created, ended, number, name, words, told, looked) VALUES (?, ?, ?, ?, JSON_OBJECT('build', 'kelpline/android@1', 'package', 'shore@1'), '[]', 600, 'failed', now(3), now(3), ?, '', '', ?, ?)", run, workspace, oldID("b", oldBuild-1), oldID("p", 0), oldRuns+1, answers.Version, looks.Version)
	do("INSERT INTO answers (run_id, version, sentence, answer) VALUES (?, ?, 'Not good.', ?)", run, answers.Version, `{"sentence": "Not good.", "families": [], "gone": [], "over": true}`)
	do("INSERT INTO work (id, kind, run_id, workspace_id, device_id, stage, verdict, message, cases_total, created, ended, spec) SELECT "+id("W", leg)+", 'leg', ?, ?, "+id("D", "w.seq")+", 'done', 'failed', '', 100, now(3), now(3), unhex(sha2('bench', 256)) FROM seq_0_to_999 w", run, workspace)
	do("INSERT INTO attempts (id, work_id, number, device_id, stage, verdict, message, started, ended) SELECT " + id("A", leg) + ", " + id("W", leg) + ", 1, " + id("D", "w.seq") + ", 'done', 'failed', '', now(3), now(3) FROM seq_0_to_999 w")
	do("INSERT INTO cases (attempt_id, ordinal, name, verdict, message, line, expected, actual, trace, start_ms, took_ms) SELECT " + id("A", leg) + ", c.seq, concat('shore.test_case_', lpad(c.seq, 2, '0')), IF((w.seq * 13 + c.seq) % 97 = 0, 'failed', 'passed'), '', '', '', '', '', 0, 900 FROM seq_0_to_999 w JOIN seq_0_to_99 c ORDER BY 1, 2")
	return err
}

// settled waits until the database has written what the filling left in its memory: pages are asked of a service that stands, not of one that is being filled.
func settled(ctx context.Context, root string) error {
	db, err := sqlx.ConnectContext(ctx, "mysql", root)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "SET GLOBAL innodb_max_dirty_pages_pct = 0"); err != nil {
		return err
	}
	for range 600 {
		var name, value string
		if err := db.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Innodb_buffer_pool_pages_dirty'").Scan(&name, &value); err != nil {
			return err
		}
		if len(value) < 3 { // under a hundred
			return nil
		}
		time.Sleep(500 * time.Millisecond)
	}
	return errors.New("the database still writes what it was filled with, after five minutes")
}

// oldID is an id that lies where it was made in time.
func oldID(kind string, n int) string { return fmt.Sprintf("01%s%023d", strings.ToUpper(kind), n) }

func oldCase(n int) string { return fmt.Sprintf("shore.test_case_%02d", n) }

// fillOld writes runs with ten million results in bulk.
func fillOld(ctx context.Context, dsn, workspace string) (rows int, err error) {
	db, err := sqlx.ConnectContext(ctx, "mysql", dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	conn, err := db.Connx(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	do := func(query string, args ...any) {
		if err == nil {
			if _, err = conn.ExecContext(ctx, query, args...); err != nil {
				err = fmt.Errorf("%.80s: %w", query, err)
			}
		}
	}
	do("SET SESSION foreign_key_checks = 0, unique_checks = 0, time_zone = '+00:00'")
	do("INSERT INTO hosts (id, name, seen) VALUES (?, 'bench', now(3))", oldID("h", 0))
	for i := range oldLegs {
		f, _ := json.Marshal(devices.Facts{Serial: fmt.Sprintf("d-%02d", i), Platform: "android", API: 26 + i%10, OS: fmt.Sprint(6 + i%10), Maker: "Orrery", Model: fmt.Sprint("M", i%30), Form: "phone", Origin: "real", Width: 1080, Height: 2400, Density: 420, MemoryMB: 4096, Language: "en"})
		do("INSERT INTO devices (id, serial, unit, host_id, facts, state, why, seen) VALUES (?, ?, ?, ?, ?, 'away', '', now(3))", oldID("d", i), fmt.Sprintf("d-%02d", i), fmt.Sprintf("d-%02d", i), oldID("h", 0), f)
	}
	for i := range oldBuild {
		do("INSERT INTO builds (id, workspace_id, slug, platform, app_id, version_name, version_code, facts, size, sha256, filename, blob_key, icon_key, created) VALUES (?, ?, 'kelpline', 'android', 'org.kelpline.app', ?, ?, '{}', 9, ?, 'f', 'k', '', now(3))",
			oldID("b", i), workspace, fmt.Sprintf("1.%d.0", i), i, fmt.Sprintf("%064d", i))
	}
	do("INSERT INTO packages (id, workspace_id, name, revision, kind, about, cases, findings, inputs, size, sha256, blob_key, created) VALUES (?, ?, 'shore', 1, 'script', '', '[]', '[]', '[]', 1, 'def', 'k', now(3))", oldID("p", 0), workspace)
	var names []string
	for i := range oldCases {
		names = append(names, oldCase(i))
	}
	spec, _ := json.Marshal(map[string]any{"cases": names, "content": map[string]any{"kind": "script"}})
	do("INSERT INTO specs (hash, spec) VALUES (unhex(sha2('bench', 256)), ?)", string(spec))
	do("CREATE TEMPORARY TABLE bench_cases (i int PRIMARY KEY, name varchar(512), subject binary(8))")
	app := store.App{WorkspaceID: workspace, Slug: "kelpline", Platform: "android"}
	for i := range oldCases {
		subject := answers.Subject(app, "shore", oldCase(i))
		do("INSERT INTO bench_cases VALUES (?, ?, ?)", i, oldCase(i), subject[:])
	}
	id := func(kind, n string) string { return "concat('01" + kind + "', lpad(" + n + ", 23, '0'))" }
	verdictOf := "IF((r.seq * 7 + w.seq * 13 + c.i) % 97 = 0, 'failed', IF((r.seq + w.seq + c.i) % 211 = 0, 'flaky', 'passed'))"
	do("INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, verdict, created, ended, number, name, words, told, looked) SELECT "+id("R", "r.seq")+", ?, "+id("B", fmt.Sprintf("r.seq DIV %d", oldRuns/oldBuild))+", "+id("P", "0")+
		", JSON_OBJECT('build', 'kelpline/android@1', 'package', 'shore@1'), '[]', 600, 'failed', now(3), now(3), r.seq + 1, '', '', ?, ? FROM seq_0_to_"+fmt.Sprint(oldRuns-1)+" r", workspace, answers.Version, looks.Version)
	do("INSERT INTO answers (run_id, version, sentence, answer) SELECT "+id("R", "r.seq")+", ?, 'Not good.', ? FROM seq_0_to_"+fmt.Sprint(oldRuns-1)+" r", answers.Version, `{"sentence": "Not good.", "families": [], "gone": [], "over": true}`)
	do("INSERT INTO families (run_id, signature, family, workspace_id, slug, platform, build_id) SELECT "+id("R", "r.seq")+", lpad(hex((r.seq + f.seq) % 50), 16, '0'), lpad(hex((r.seq + f.seq) % 50), 16, '0'), ?, 'kelpline', 'android', "+id("B", fmt.Sprintf("r.seq DIV %d", oldRuns/oldBuild))+" FROM seq_0_to_"+fmt.Sprint(oldRuns-1)+" r JOIN seq_0_to_9 f", workspace)
	legs := fmt.Sprintf(" FROM seq_0_to_%d r JOIN seq_0_to_%d w", oldRuns-1, oldLegs-1)
	leg := fmt.Sprintf("r.seq * %d + w.seq", oldLegs)
	do("INSERT INTO work (id, kind, run_id, workspace_id, device_id, stage, verdict, message, cases_total, created, ended, spec) SELECT "+id("W", leg)+", 'leg', "+id("R", "r.seq")+", ?, "+id("D", "w.seq")+", 'done', 'failed', '', 100, now(3), now(3), unhex(sha2('bench', 256))"+legs, workspace)
	do("INSERT INTO attempts (id, work_id, number, device_id, stage, verdict, message, started, ended) SELECT " + id("A", leg) + ", " + id("W", leg) + ", 1, " + id("D", "w.seq") + ", 'done', 'failed', '', now(3), now(3)" + legs)
	subject := answers.Subject(store.App{WorkspaceID: workspace, Slug: "kelpline", Platform: "android"}, "shore", "")
	var seen, measured []string
	for i := range 20 {
		seen = append(seen, fmt.Sprintf(`{"case": "%s", "verdict": "passed", "name": "step %d", "nth": 1, "at": %d, "file": "screenshots/%03d-step.png"}`, oldCase(i), i, 1000*i, i))
		measured = append(measured, fmt.Sprintf(`{"what": "time", "case": "%s", "step": "step %d", "nth": 1, "value": %d}`, oldCase(i), i, 900+i))
	}
	do("INSERT INTO looks (attempt_id, version, run_id, work_id, device_id, build_id, subject, conditions, steps, remarks, measures) SELECT "+id("A", leg)+", ?, "+id("R", "r.seq")+", "+id("W", leg)+", "+id("D", "w.seq")+", "+id("B", fmt.Sprintf("r.seq DIV %d", oldRuns/oldBuild))+", ?, '', ?, '[]', ?"+legs,
		looks.Version, subject[:], "["+strings.Join(seen, ", ")+"]", "["+strings.Join(measured, ", ")+"]")
	const some = 50 // runs at a time
	for from := 0; from < oldRuns && err == nil; from += some {
		part := fmt.Sprintf(" FROM seq_%d_to_%d r JOIN seq_0_to_%d w JOIN bench_cases c", from, from+some-1, oldLegs-1)
		do("INSERT INTO cases (attempt_id, ordinal, name, verdict, message, line, expected, actual, trace, start_ms, took_ms) SELECT " + id("A", leg) + ", c.i, c.name, " + verdictOf + ", IF((r.seq * 7 + w.seq * 13 + c.i) % 97 = 0, 'the total: expected 6.5, but there was 29', ''), '', '', '', '', 0, 900" + part + " ORDER BY 1, 2")
		do("INSERT INTO tallies (subject, run_id, judged, bad, flaky) SELECT c.subject, " + id("R", "r.seq") + ", 100, 1, 1 FROM " + fmt.Sprintf("seq_%d_to_%d r JOIN bench_cases c", from, from+some-1))
	}
	for i := 0; i < oldCases && err == nil; i++ { // as they lie
		do(fmt.Sprintf("INSERT INTO results (subject, run_id, work_id, device_id, build_id, attempt_id, variant, conditions, verdict, signature, took_ms) SELECT c.subject, %s, %s, %s, %s, %s, '', '', %s, '', 900 FROM seq_0_to_%d r JOIN seq_0_to_%d w JOIN bench_cases c WHERE c.i = %d",
			id("R", "r.seq"), id("W", leg), id("D", "w.seq"), id("B", fmt.Sprintf("r.seq DIV %d", oldRuns/oldBuild)), id("A", leg), verdictOf, oldRuns-1, oldLegs-1, i))
	}
	do("UPDATE workspaces SET runs = ? WHERE id = ?", oldRuns, workspace)
	do("ANALYZE TABLE runs, work, attempts, cases, results, tallies, families")
	if err == nil {
		err = conn.GetContext(ctx, &rows, "SELECT count(*) FROM results")
	}
	return rows, err
}
