package store

// What is counted for the metrics.

import (
	"context"
	"time"

	"tessellant/internal/core/planning"
)

// CountOverdue counts the devices that are held for longer than the work on them may take.
func (s *Store) CountOverdue(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM "+overdueHolds)
	return n, err
}

// CountStages counts the legs that are not done by stage.
func (s *Store) CountStages(ctx context.Context) (map[string]int, error) {
	return s.counted(ctx, "SELECT stage, count(*) FROM work WHERE stage <> 'done' AND kind = 'leg' GROUP BY stage")
}

// CountVerdicts counts the legs that are done by verdict.
func (s *Store) CountVerdicts(ctx context.Context) (map[string]int, error) {
	return s.counted(ctx, "SELECT verdict, count(*) FROM work WHERE stage = 'done' AND kind = 'leg' GROUP BY verdict")
}

// CountDevices counts the devices by how they stand.
func (s *Store) CountDevices(ctx context.Context) (map[string]int, error) {
	all, err := s.Devices(ctx, "", 0)
	out := map[string]int{}
	for _, d := range all {
		out[d.Standing().Name]++
	}
	return out, err
}

// CountAttempts counts the attempts that are done by verdict.
func (s *Store) CountAttempts(ctx context.Context) (map[string]int, error) {
	return s.counted(ctx, "SELECT verdict, count(*) FROM attempts WHERE stage = 'done' GROUP BY verdict")
}

// CountHosts counts the hosts by whether they are heard of.
func (s *Store) CountHosts(ctx context.Context) (map[string]int, error) {
	return s.counted(ctx, "SELECT IF(seen < now(3) - INTERVAL 20 SECOND, 'silent', 'up'), count(*) FROM hosts GROUP BY 1")
}

// LongestWait is for how many seconds the leg that has waited longest has waited.
func (s *Store) LongestWait(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT coalesce(max(TIMESTAMPDIFF(SECOND, created, now(3))), 0) FROM work WHERE stage = 'waiting'")
	return n, err
}

func (s *Store) counted(ctx context.Context, query string) (map[string]int, error) {
	rows, err := s.db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var k string
		var n int
		if err := rows.Scan(&k, &n); err != nil {
			return nil, err
		}
		out[k] = n
	}
	return out, rows.Err()
}

// CountForecasts counts the runs of the last 30 days that ended by themselves, by how they came out against their forecast: inside, sooner or later.
func (s *Store) CountForecasts(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Forecast JSON[*planning.Forecast] `db:"forecast"`
		Created  time.Time                `db:"created"`
		Ended    time.Time                `db:"ended"`
	}
	err := s.db.SelectContext(ctx, &rows, "SELECT forecast, created, ended FROM runs WHERE ended > now(3) - INTERVAL 30 DAY AND stopped IS NULL AND forecast <> 'null' ORDER BY id DESC LIMIT 10000")
	out := map[string]int{"inside": 0, "sooner": 0, "later": 0}
	for _, r := range rows {
		if r.Forecast.V != nil {
			out[r.Forecast.V.Whole.Held(r.Ended.Sub(r.Created))]++
		}
	}
	return out, err
}
