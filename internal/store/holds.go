package store

// Holds: who works on which device, until when, and how that ended; and the leases of the processes that see to it.

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
)

// HoldOfDevice finds the hold that has a device.
func (s *Store) HoldOfDevice(ctx context.Context, device string) (h Hold, err error) {
	err = s.db.GetContext(ctx, &h, "SELECT * FROM holds WHERE device_id = ? AND holding = 1", device)
	return h, found(err)
}

// HoldOfAttempt finds the hold in force for an attempt.
func (s *Store) HoldOfAttempt(ctx context.Context, attempt string) (h Hold, err error) {
	err = s.db.GetContext(ctx, &h, "SELECT * FROM holds WHERE attempt_id = ? AND active = 1", attempt)
	return h, found(err)
}

// Lease takes or renews a named lease for holder; false: somebody else has it.
func (s *Store) Lease(ctx context.Context, name, holder string, period time.Duration) (bool, error) {
	us := period.Microseconds()
	if _, err := s.exec(ctx, `INSERT INTO leases (name, holder, expires) VALUES (?, ?, now(3) + INTERVAL ? MICROSECOND)
		ON DUPLICATE KEY UPDATE holder = IF(holder = VALUES(holder) OR expires < now(3), VALUES(holder), holder), expires = IF(holder = VALUES(holder), VALUES(expires), expires)`, name, holder, us); err != nil {
		return false, err
	}
	var has string
	err := s.db.GetContext(ctx, &has, "SELECT holder FROM leases WHERE name = ?", name)
	return has == holder, err
}

// Unlease gives a lease back.
func (s *Store) Unlease(ctx context.Context, name, holder string) error {
	_, err := s.exec(ctx, "DELETE FROM leases WHERE name = ? AND holder = ?", name, holder)
	return err
}

// Hold is one device taken for a leg or a session.
type Hold struct {
	ID          string       `db:"id"`
	DeviceID    string       `db:"device_id"`
	HostID      string       `db:"host_id"`
	Kind        work.Kind    `db:"kind"`
	WorkspaceID string       `db:"workspace_id"`
	RunID       string       `db:"run_id"`
	WorkID      string       `db:"work_id"`
	AttemptID   string       `db:"attempt_id"`
	Epoch       int          `db:"epoch"`
	Created     time.Time    `db:"created"`
	Expires     time.Time    `db:"expires"`
	Ended       sql.NullTime `db:"ended"`
	Active      *int         `db:"active"`
	Released    sql.NullTime `db:"released"` // when the device was given back; its evidence may still be coming
	Holding     *int         `db:"holding"`  // neither ended nor released
	Stop        bool         `db:"stop"`     // a person wants its work to end; only where holds are listed
	Begun       bool         `db:"begun"`    // something was reported of it; there, too
}

// ActiveHolds lists all holds in force; of one host where host is given.
func (s *Store) ActiveHolds(ctx context.Context, host string) (out []Hold, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT h.*, w.stop, a.last_report > 0 AS begun FROM holds h JOIN work w ON w.id = h.work_id JOIN attempts a ON a.id = h.attempt_id WHERE h.active = 1 AND (? = '' OR h.host_id = ?) ORDER BY h.id", host, host)
	return out, err
}

// Renew makes active holds of a host last longer and answers those that are still its own.
func (s *Store) Renew(ctx context.Context, host string, ids []string, period time.Duration) (kept []string, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	q, args, err := sqlx.In("UPDATE holds SET expires = now(3) + INTERVAL ? MICROSECOND WHERE host_id = ? AND active = 1 AND id IN (?)", period.Microseconds(), host, ids)
	if err != nil {
		return nil, err
	}
	if _, err := s.exec(ctx, q, args...); err != nil {
		return nil, err
	}
	q, args, err = sqlx.In("SELECT id FROM holds WHERE host_id = ? AND active = 1 AND id IN (?)", host, ids)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &kept, q, args...)
	return kept, err
}

// ExpiredHolds lists active holds whose time is over, by the database's clock.
func (s *Store) ExpiredHolds(ctx context.Context) (out []Hold, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM holds WHERE active = 1 AND expires < now(3)")
	return out, err
}

// ReleaseHold gives a hold's device back before the hold ends. With a reason why it is not clean, the device gets no more work until it has passed a check. It
// answers the hold, and false when the device was given back already.
func (s *Store) ReleaseHold(ctx context.Context, hold, notClean string) (h Hold, ok bool, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		h, ok = Hold{}, false
		if err := tx.GetContext(ctx, &h, "SELECT * FROM holds WHERE id = ? AND holding = 1 FOR UPDATE", hold); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			return err
		}
		ok = true
		if _, err := tx.ExecContext(ctx, "UPDATE holds SET released = now(3) WHERE id = ?", hold); err != nil {
			return err
		}
		if notClean == "" {
			return nil
		}
		_, err := tx.ExecContext(ctx, "UPDATE devices SET quarantined = now(3), quarantine_by = 'itself', quarantine_why = ? WHERE id = ? AND quarantined IS NULL", notClean, h.DeviceID)
		return err
	})
	return h, ok, err
}

// Closing is how an attempt ended.
type Closing struct {
	Verdict      verdict.Verdict
	Message      string
	ClockDoubtMS *int64
	Again        bool // the leg should get another attempt
	OurFault     bool // a host failed, and not the device

	Counts verdict.Verdict // what of the verdict counts for the run, where a part is known to fail; "": all

	How           string          // a session ended
	Marked        verdict.Verdict // what a session's client said of the whole
	MarkedMessage string
}

// QuarantineAfter is how many attempts in a row a device may lose.
const QuarantineAfter = 2

// CloseHold ends a hold and its attempt. Its work is done, or waits again; when
// it was the last leg of its run, the run is over. It answers the hold, and false when
// it was over already: then nothing was changed.
func (s *Store) CloseHold(ctx context.Context, hold string, c Closing) (h Hold, ok bool, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		h, ok = Hold{}, false
		if err := tx.GetContext(ctx, &h, "SELECT * FROM holds WHERE id = ? AND active = 1 FOR UPDATE", hold); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			return err
		}
		ok = true
		if _, err := tx.ExecContext(ctx, "UPDATE holds SET ended = now(3) WHERE id = ?", hold); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE attempts SET stage = 'done', verdict = ?, message = ?, now_case = '', clock_doubt_ms = ?, ended = now(3) WHERE id = ?",
			c.Verdict, c.Message, c.ClockDoubtMS, h.AttemptID); err != nil {
			return err
		}
		if err := judgeDevice(ctx, tx, h.DeviceID, c); err != nil {
			return err
		}
		var w Work
		if err := tx.GetContext(ctx, &w, "SELECT "+workColumns+" FROM work w WHERE id = ? FOR UPDATE", h.WorkID); err != nil {
			return err
		}
		switch {
		case w.Stop && c.Verdict == verdict.Lost:
			c.Verdict, c.Message, c.How = verdict.Stopped, "it was stopped ("+c.Message+")", "stopped"
		case c.Again:
			_, err := tx.ExecContext(ctx, "UPDATE work SET stage = 'waiting' WHERE id = ?", w.ID)
			return err
		}
		return finish(ctx, tx, w, c)
	})
	return h, ok && err == nil, err
}

// judgeDevice counts the attempts that a device loses, and quarantines one that loses too many in a row.
func judgeDevice(ctx context.Context, tx *sqlx.Tx, device string, c Closing) error {
	if c.Verdict == verdict.Stopped || c.OurFault {
		return nil // says nothing about the device
	}
	if c.Verdict != verdict.Lost {
		_, err := tx.ExecContext(ctx, "UPDATE devices SET lost_in_row = 0 WHERE id = ? AND lost_in_row > 0", device)
		return err
	}
	// MariaDB assigns from left to right: the comparison sees the new count.
	_, err := tx.ExecContext(ctx, `UPDATE devices SET lost_in_row = lost_in_row + 1,
		quarantine_why = IF(lost_in_row >= ? AND quarantined IS NULL, ?, quarantine_why), quarantine_by = IF(lost_in_row >= ? AND quarantined IS NULL, 'itself', quarantine_by),
		quarantined = IF(lost_in_row >= ? AND quarantined IS NULL, now(3), quarantined) WHERE id = ?`,
		QuarantineAfter, fmt.Sprintf("%d attempts in a row were lost on it; the last: %s", QuarantineAfter, c.Message), QuarantineAfter, QuarantineAfter, device)
	return err
}

// closeRun ends a run whose legs are all done.
func closeRun(ctx context.Context, tx *sqlx.Tx, run string) error {
	// The run's row is the lock: of two last legs, the second sees the first one done.
	if _, err := tx.ExecContext(ctx, "SELECT id FROM runs WHERE id = ? FOR UPDATE", run); err != nil {
		return err
	}
	var vs []verdict.Verdict
	if err := tx.SelectContext(ctx, &vs, "SELECT IF(stage = 'done', IF(counts <> '', counts, verdict), '') FROM work WHERE run_id = ?", run); err != nil {
		return err
	}
	for _, v := range vs {
		if v == "" {
			return nil
		}
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM run_secrets WHERE run_id = ?", run); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE runs SET verdict = ?, ended = now(3) WHERE id = ? AND ended IS NULL", verdict.Roll(vs...), run)
	return err
}

// HoldByID finds a hold.
func (s *Store) HoldByID(ctx context.Context, id string) (h Hold, err error) {
	err = s.db.GetContext(ctx, &h, "SELECT * FROM holds WHERE id = ?", id)
	return h, found(err)
}
