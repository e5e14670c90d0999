package store

// Shares: links to runs, or to one leg, for people who have no key.

import (
	"context"
	"database/sql"
	"strings"
	"time"
)

// Share is one of them.
type Share struct {
	ID          string       `db:"id"`
	Hash        []byte       `db:"hash"` // of what stands in the link
	WorkspaceID string       `db:"workspace_id"`
	RunID       string       `db:"run_id"`
	WorkID      string       `db:"work_id"` // of one leg alone; "": the whole run
	Without     string       `db:"without"` // what is left out, with commas
	Expires     time.Time    `db:"expires"`
	Withdrawn   sql.NullTime `db:"withdrawn"`
	Views       int          `db:"views"`
	MadeBy      string       `db:"made_by"`
	Created     time.Time    `db:"created"`
}

// Leaves says whether a share leaves something out.
func (s Share) Leaves(what string) bool {
	for _, w := range strings.Split(s.Without, ",") {
		if w == what {
			return true
		}
	}
	return false
}

// AddShare keeps a share.
func (s *Store) AddShare(ctx context.Context, x Share) error {
	_, err := s.exec(ctx, "INSERT INTO shares (id, hash, workspace_id, run_id, work_id, without, expires, made_by, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", x.ID, x.Hash, x.WorkspaceID, x.RunID, x.WorkID, x.Without, x.Expires, x.MadeBy, x.Created)
	return err
}

// ShareByHash finds a share that is in force, by the clock of the database.
func (s *Store) ShareByHash(ctx context.Context, hash []byte) (x Share, err error) {
	err = s.db.GetContext(ctx, &x, "SELECT * FROM shares WHERE hash = ? AND withdrawn IS NULL AND expires > now(3)", hash)
	return x, found(err)
}

// SawShare counts that a share was opened.
func (s *Store) SawShare(ctx context.Context, id string) error {
	_, err := s.exec(ctx, "UPDATE shares SET views = views + 1 WHERE id = ?", id)
	return err
}

// Shares lists the shares of a run, the newest first.
func (s *Store) Shares(ctx context.Context, workspace, run string) (out []Share, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM shares WHERE workspace_id = ? AND run_id = ? ORDER BY id DESC LIMIT 200", workspace, run)
	return out, err
}

// ShareByID finds a share of a workspace.
func (s *Store) ShareByID(ctx context.Context, workspace, id string) (x Share, err error) {
	err = s.db.GetContext(ctx, &x, "SELECT * FROM shares WHERE workspace_id = ? AND id = ?", workspace, id)
	return x, found(err)
}

// WithdrawShare ends a share.
func (s *Store) WithdrawShare(ctx context.Context, id string) error {
	_, err := s.exec(ctx, "UPDATE shares SET withdrawn = now(3) WHERE id = ? AND withdrawn IS NULL", id)
	return err
}

// WhoseAttempt gives the run and the leg of an attempt.
func (s *Store) WhoseAttempt(ctx context.Context, attempt string) (run, leg string, err error) {
	var row struct {
		Run string `db:"run_id"`
		Leg string `db:"work_id"`
	}
	err = s.db.GetContext(ctx, &row, "SELECT coalesce(w.run_id, '') AS run_id, a.work_id FROM attempts a JOIN work w ON w.id = a.work_id WHERE a.id = ?", attempt)
	return row.Run, row.Leg, found(err)
}
