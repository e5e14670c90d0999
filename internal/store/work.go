package store

// Work: the queue. A leg of a run and a session are each a row of it, with what is to be done and which devices will do.

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"reflect"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
)

// Work is one piece of work.
type Work struct {
	ID          string           `db:"id"`
	Kind        work.Kind        `db:"kind"`
	RunID       string           `db:"run_id"` // of a leg
	WorkspaceID string           `db:"workspace_id"`
	DeviceID    string           `db:"device_id"` // the one it is for, or that it got; "": none yet
	Stage       string           `db:"stage"`
	Verdict     verdict.Verdict  `db:"verdict"`
	Message     string           `db:"message"`
	CasesTotal  int              `db:"cases_total"`
	Created     time.Time        `db:"created"`
	Ended       sql.NullTime     `db:"ended"`
	Stop        bool             `db:"stop"` // a person wants it to end
	Wants       JSON[work.Wants] `db:"wants"`
	AskedBy     string           `db:"asked_by"` // id of the key; "": written by an earlier version
	Variant     string           `db:"variant"`
	Conditions  string           `db:"conditions"` // how its device is set, as people write it
	Counts      verdict.Verdict  `db:"counts"`     // what of its verdict counts for its run, where a part is known to fail; "": all
}

// Of is what the work belongs to when devices are shared out: its run, or itself.
func (w Work) Of() string {
	if w.RunID != "" {
		return w.RunID
	}
	return w.ID
}

// Set is how its device is set.
func (w Work) Set() conditions.Set {
	if w.Conditions == "" {
		return nil
	}
	set, _ := conditions.Parse(w.Conditions) // as it was written by String
	return set
}

const workColumns = "w.id, w.kind, coalesce(w.run_id, '') AS run_id, w.workspace_id, coalesce(w.device_id, '') AS device_id, w.stage, w.verdict, w.message, w.cases_total, w.created, w.ended, w.stop, w.wants, w.asked_by, w.variant, w.conditions, w.counts"

// NewWork is work to be written, with what is to be done.
type NewWork struct {
	Work
	Spec work.Spec
}

// addWork writes pieces of work that wait, in a transaction.
func addWork(ctx context.Context, tx *sqlx.Tx, all ...NewWork) error {
	var hash []byte
	for i, w := range all {
		if i == 0 || !reflect.DeepEqual(w.Spec, all[i-1].Spec) { // most of a run have the same
			var err error
			if hash, err = putSpec(ctx, tx, w.Spec); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO work (id, kind, run_id, workspace_id, device_id, stage, message, cases_total, created, spec, wants, limit_seconds, asked_by, variant, conditions)
			VALUES (?, ?, nullif(?, ''), ?, nullif(?, ''), 'waiting', '', ?, ?, ?, ?, ?, ?, ?, ?)`,
			w.ID, w.Kind, w.RunID, w.WorkspaceID, w.DeviceID, w.CasesTotal, w.Created, hash, asJSON(w.Wants.V), int(w.Spec.Limits.Whole), w.AskedBy, w.Spec.Variant, w.Spec.Conditions.String()); err != nil {
			return err
		}
	}
	return nil
}

// putSpec writes a spec, unless it is there, and answers its hash.
func putSpec(ctx context.Context, db sqlx.ExecerContext, spec work.Spec) ([]byte, error) {
	text := asJSON(spec)
	hash := sha256.Sum256([]byte(text))
	_, err := db.ExecContext(ctx, "INSERT IGNORE INTO specs (hash, spec) VALUES (?, ?)", hash[:], text)
	return hash[:], err
}

// Spec gives what a piece of work is to do. ErrNotFound: it was written before there were specs.
func (s *Store) Spec(ctx context.Context, id string) (spec work.Spec, err error) {
	var text string
	if err = s.db.GetContext(ctx, &text, "SELECT s.spec FROM work w JOIN specs s ON s.hash = w.spec WHERE w.id = ?", id); err != nil {
		return spec, found(err)
	}
	return spec, json.Unmarshal([]byte(text), &spec)
}

// SetSpec gives a piece of work that was written before there were specs its own; where several do so at once, one's counts.
func (s *Store) SetSpec(ctx context.Context, id string, spec work.Spec) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		hash, err := putSpec(ctx, tx, spec)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE work SET spec = ? WHERE id = ? AND spec IS NULL", hash, id)
		return err
	})
}

// SpecsOfRun gives the different specs of a run's legs, with their hashes. Missing is a leg that has none: it was written before there were any.
func (s *Store) SpecsOfRun(ctx context.Context, run string) (specs []work.Spec, hashed []string, missing string, err error) {
	var hashes []struct {
		Hash []byte `db:"spec"`
		Leg  string `db:"leg"`
	}
	if err = s.db.SelectContext(ctx, &hashes, "SELECT spec, min(id) AS leg FROM work WHERE run_id = ? GROUP BY spec ORDER BY leg", run); err != nil {
		return nil, nil, "", err
	}
	for _, h := range hashes {
		if h.Hash == nil {
			missing = h.Leg
			continue
		}
		var text string
		if err = s.db.GetContext(ctx, &text, "SELECT spec FROM specs WHERE hash = ?", h.Hash); err != nil {
			return nil, nil, "", err
		}
		var spec work.Spec
		if err = json.Unmarshal([]byte(text), &spec); err != nil {
			return nil, nil, "", err
		}
		specs, hashed = append(specs, spec), append(hashed, string(h.Hash))
	}
	return specs, hashed, missing, nil
}

// Waiting lists the work that waits for a device, in the order it was made. Where more waits than limit, the same number of each workspace
// comes, and in it of each run: nobody's backlog hides another's. Limit 0: all.
func (s *Store) Waiting(ctx context.Context, limit int) (out []Work, err error) {
	q := "SELECT " + workColumns + " FROM work w WHERE w.stage = 'waiting' ORDER BY w.id"
	if limit == 0 {
		err = s.db.SelectContext(ctx, &out, q)
		return out, err
	}
	err = s.db.SelectContext(ctx, &out, q+" LIMIT ?", limit+1)
	if err != nil || len(out) <= limit {
		return out, err
	}
	out = nil
	err = s.db.SelectContext(ctx, &out, "SELECT "+workColumns+` FROM work w JOIN (
			SELECT id, ROW_NUMBER() OVER (PARTITION BY workspace_id ORDER BY in_run, id) AS in_workspace FROM (
				SELECT id, workspace_id, ROW_NUMBER() OVER (PARTITION BY workspace_id, coalesce(run_id, id) ORDER BY id) AS in_run FROM work WHERE stage = 'waiting'
			) AS runs ORDER BY in_workspace, id LIMIT ?
		) AS chosen ON chosen.id = w.id ORDER BY w.id`, limit)
	return out, err
}

// CountWaiting counts a workspace's pieces of work of a kind that wait for a device.
func (s *Store) CountWaiting(ctx context.Context, workspace string, kind work.Kind) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM work WHERE stage = 'waiting' AND workspace_id = ? AND kind = ?", workspace, kind)
	return n, err
}

// TriedOn lists the devices on which work that waits has had an attempt, by the work.
func (s *Store) TriedOn(ctx context.Context) (map[string][]string, error) {
	var rows []struct {
		Work   string `db:"work_id"`
		Device string `db:"device_id"`
	}
	err := s.db.SelectContext(ctx, &rows, "SELECT a.work_id, a.device_id FROM work w JOIN attempts a ON a.work_id = w.id WHERE w.stage = 'waiting'")
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Work] = append(out[r.Work], r.Device)
	}
	return out, err
}

// WorkByID finds a piece of work.
func (s *Store) WorkByID(ctx context.Context, workspace, id string) (w Work, err error) {
	err = s.db.GetContext(ctx, &w, "SELECT "+workColumns+" FROM work w WHERE w.workspace_id = ? AND w.id = ?", workspace, id)
	return w, found(err)
}

// TakeDevice gives a piece of work that waits a device: a hold and a new attempt. ErrTaken:
// the device was taken, or the work, in the meantime.
func (s *Store) TakeDevice(ctx context.Context, w Work, device Device, period time.Duration) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		var fit bool // in the meantime it may have been quarantined
		if err := tx.GetContext(ctx, &fit, "SELECT quarantined IS NULL FROM devices WHERE id = ? FOR UPDATE", device.ID); err != nil {
			return err
		}
		if !fit {
			return ErrTaken
		}
		res, err := tx.ExecContext(ctx, "UPDATE work SET stage = 'held', device_id = coalesce(device_id, ?) WHERE id = ? AND stage = 'waiting'", device.ID, w.ID)
		if err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return ErrTaken
		}
		attempt := NewID()
		if _, err := tx.ExecContext(ctx, `INSERT INTO attempts (id, work_id, number, device_id, stage, message, started)
			SELECT ?, ?, coalesce(max(number), 0) + 1, ?, 'held', '', now(3) FROM attempts WHERE work_id = ?`, attempt, w.ID, device.ID, w.ID); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO holds (id, device_id, host_id, kind, workspace_id, run_id, work_id, attempt_id, epoch, created, expires)
			SELECT ?, ?, ?, ?, ?, ?, ?, ?, 1 + (SELECT count(*) FROM holds WHERE device_id = ?), now(3), now(3) + INTERVAL ? MICROSECOND`,
			NewID(), device.ID, device.HostID, w.Kind, w.WorkspaceID, w.RunID, w.ID, attempt, device.ID, period.Microseconds())
		return taken(err)
	})
}

// finish ends a piece of work, in a transaction, and what belongs to it: the run whose last leg it was, or its session.
func finish(ctx context.Context, tx *sqlx.Tx, w Work, c Closing) error {
	if _, err := tx.ExecContext(ctx, "UPDATE work SET stage = 'done', verdict = ?, counts = ?, message = ?, ended = now(3) WHERE id = ?", c.Verdict, c.Counts, c.Message, w.ID); err != nil {
		return err
	}
	if w.Kind == work.Session {
		return closeSession(ctx, tx, w.ID, c)
	}
	return closeRun(ctx, tx, w.RunID)
}

// GiveUp ends a piece of work that still waits, without another attempt.
func (s *Store) GiveUp(ctx context.Context, id string, c Closing) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		var w Work
		if err := tx.GetContext(ctx, &w, "SELECT "+workColumns+" FROM work w WHERE id = ? AND stage = 'waiting' FOR UPDATE", id); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			return err
		}
		return finish(ctx, tx, w, c)
	})
}

// StopWork asks for the end of a piece of work: one that waits is done with this closing, another is to be ended by its host. It answers whether it waited.
func (s *Store) StopWork(ctx context.Context, id string, c Closing) (waited bool, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		var w Work
		if err := tx.GetContext(ctx, &w, "SELECT "+workColumns+" FROM work w WHERE id = ? AND stage <> 'done' FOR UPDATE", id); err != nil {
			if waited = false; errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE work SET stop = 1 WHERE id = ?", id); err != nil {
			return err
		}
		if waited = w.Stage == "waiting"; waited {
			return finish(ctx, tx, w, c)
		}
		return nil
	})
	return waited, err
}
