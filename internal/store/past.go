package store

// How past legs went: what forecasts are made of.

import (
	"context"
	"database/sql"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/verdict"
)

const (
	pastRuns = 30   // of a package that are looked at
	pastLegs = 1500 // of those
)

// Past lists the newest legs of a package that have ended, of all its revisions, the newest first.
func (s *Store) Past(ctx context.Context, workspace, pkg string) (out []planning.Past, err error) {
	var rows []struct {
		Device  string              `db:"device_id"`
		Facts   JSON[devices.Facts] `db:"facts"`
		Variant string              `db:"variant"`
		Cases   int                 `db:"cases"`
		Verdict verdict.Verdict     `db:"verdict"`
		Started time.Time           `db:"started"`
		Ended   sql.NullTime        `db:"ended"`
	}
	err = s.db.SelectContext(ctx, &rows, `SELECT a.device_id, d.facts, w.variant, (SELECT count(*) FROM cases c WHERE c.attempt_id = a.id) AS cases, a.verdict, a.started, a.ended
		FROM (SELECT id FROM runs WHERE workspace_id = ? AND package_id IN (SELECT id FROM packages WHERE workspace_id = ? AND name = ?) ORDER BY id DESC LIMIT ?) r
		JOIN work w ON w.run_id = r.id JOIN attempts a ON a.work_id = w.id JOIN devices d ON d.id = a.device_id
		WHERE w.stage = 'done' AND a.verdict NOT IN ('', 'stopped', 'invalid') AND a.ended IS NOT NULL ORDER BY a.id DESC LIMIT ?`, workspace, workspace, pkg, pastRuns, pastLegs)
	for _, r := range rows {
		out = append(out, planning.Past{Device: r.Device, Kind: r.Facts.V.Kind(), Variant: r.Variant, Cases: r.Cases, Took: r.Ended.Time.Sub(r.Started), Flaky: r.Verdict == verdict.Flaky, Lost: r.Verdict == verdict.Lost})
	}
	return out, err
}

// CaseTimes gives how long each case of a package took on average in its newest legs: where it passed, or in all where it never did.
func (s *Store) CaseTimes(ctx context.Context, workspace, pkg string) (map[string]time.Duration, error) {
	var rows []struct {
		Name string  `db:"name"`
		Took float64 `db:"took"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT c.name, coalesce(avg(CASE WHEN c.verdict = 'passed' THEN c.took_ms END), avg(c.took_ms)) AS took FROM (SELECT a.id FROM (SELECT id FROM runs WHERE workspace_id = ? AND package_id IN (SELECT id FROM packages WHERE workspace_id = ? AND name = ?) ORDER BY id DESC LIMIT 5) r
		JOIN work w ON w.run_id = r.id JOIN attempts a ON a.work_id = w.id WHERE w.stage = 'done' ORDER BY a.id DESC LIMIT 100) a JOIN cases c ON c.attempt_id = a.id WHERE c.took_ms > 0 GROUP BY c.name`, workspace, workspace, pkg)
	out := map[string]time.Duration{}
	for _, r := range rows {
		out[r.Name] = time.Duration(r.Took * float64(time.Millisecond))
	}
	return out, err
}

// Load is what a device has to do.
type Load struct {
	Device    string       `db:"device_id"`
	Waiting   int          `db:"waiting"`      // pieces of work that wait for it
	Since     sql.NullTime `db:"since"`        // when the work on it began; nothing: it is free
	Holds     int          `db:"holds"`        // seconds since then, by the database's clock
	Ends      sql.NullTime `db:"ends"`         // when it ends at the latest
	Workspace string       `db:"workspace_id"` // whose it is
	RunID     string       `db:"run_id"`
	WorkID    string       `db:"work_id"`
	ByHand    bool         `db:"by_hand"` // a person holds it
}

// Loads says what devices have to do; those that have nothing are not in it.
func (s *Store) Loads(ctx context.Context) (map[string]Load, error) {
	var rows []Load
	err := s.db.SelectContext(ctx, &rows, `SELECT device_id, sum(waiting) AS waiting, max(since) AS since, coalesce(max(TIMESTAMPDIFF(SECOND, since, now(3))), 0) AS holds, max(ends) AS ends,
			max(workspace_id) AS workspace_id, max(run_id) AS run_id, max(work_id) AS work_id, max(by_hand) AS by_hand FROM (
			SELECT device_id, 1 AS waiting, NULL AS since, NULL AS ends, '' AS workspace_id, '' AS run_id, '' AS work_id, 0 AS by_hand FROM work WHERE stage = 'waiting' AND device_id IS NOT NULL
			UNION ALL SELECT h.device_id, 0, h.created, coalesce(s.held_until, h.created + INTERVAL w.limit_seconds SECOND), h.workspace_id, h.run_id, h.work_id, coalesce(s.by_hand, 0) FROM holds h
				JOIN work w ON w.id = h.work_id LEFT JOIN sessions s ON s.id = h.work_id WHERE h.holding = 1) AS x GROUP BY device_id`)
	out := map[string]Load{}
	for _, r := range rows {
		out[r.Device] = r
	}
	return out, err
}
