package store

// What is old enough, or too much, to be kept.

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

const ofEndedRuns = " FROM artifacts f JOIN attempts a ON a.id = f.attempt_id JOIN work w ON w.id = a.work_id LEFT JOIN runs r ON r.id = w.run_id WHERE coalesce(r.ended, IF(w.run_id IS NULL, w.ended, NULL)) IS NOT NULL"

// OldArtifacts lists artifacts of runs and sessions that ended longer ago than age, the oldest first.
func (s *Store) OldArtifacts(ctx context.Context, age time.Duration, limit int) (out []Artifact, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT f.*"+ofEndedRuns+" AND coalesce(r.ended, w.ended) < now(3) - INTERVAL ? SECOND ORDER BY f.id LIMIT ?", int64(age.Seconds()), limit)
	return out, err
}

// OldestArtifacts lists artifacts of runs and sessions that are over, the oldest first.
func (s *Store) OldestArtifacts(ctx context.Context, limit int) (out []Artifact, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT f.*"+ofEndedRuns+" ORDER BY f.id LIMIT ?", limit)
	return out, err
}

// ArtifactBytes is how much all artifacts take.
func (s *Store) ArtifactBytes(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT coalesce(sum(size), 0) FROM artifacts")
	return n, err
}

// ForgetArtifacts removes the records of artifacts, and notes at their attempts that there was something.
func (s *Store) ForgetArtifacts(ctx context.Context, artifacts []Artifact) error {
	if len(artifacts) == 0 {
		return nil
	}
	var ids, attempts []string
	for _, a := range artifacts {
		ids, attempts = append(ids, a.ID), append(attempts, a.AttemptID)
	}
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		for _, x := range []struct {
			query string
			ids   []string
		}{{"UPDATE attempts SET cleared = now(3) WHERE id IN (?)", attempts}, {"DELETE FROM artifacts WHERE id IN (?)", ids}} {
			q, args, err := sqlx.In(x.query, x.ids)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, q, args...); err != nil {
				return err
			}
		}
		return nil
	})
}
