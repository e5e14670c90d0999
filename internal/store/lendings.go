package store

// What workspaces lend to other installations.

import (
	"context"
	"database/sql"
	"errors"
)

// Lending is what a workspace lends.
type Lending struct {
	Pool   string `db:"pool"`    // "": nothing
	AtOnce int    `db:"at_once"` // sessions that a borrower may have open; 0: one for each device
}

// Lending gives what a workspace lends.
func (s *Store) Lending(ctx context.Context, workspace string) (l Lending, err error) {
	err = s.db.GetContext(ctx, &l, "SELECT pool, at_once FROM lendings WHERE workspace_id = ?", workspace)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return l, err
}

// SetLending says what a workspace lends from now on.
func (s *Store) SetLending(ctx context.Context, workspace string, l Lending) error {
	if l.Pool == "" {
		_, err := s.exec(ctx, "DELETE FROM lendings WHERE workspace_id = ?", workspace)
		return err
	}
	_, err := s.exec(ctx, "INSERT INTO lendings (workspace_id, pool, at_once) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE pool = VALUES(pool), at_once = VALUES(at_once)", workspace, l.Pool, l.AtOnce)
	return err
}

// OtherSessions counts the sessions of a key that are not over, besides one.
func (s *Store) OtherSessions(ctx context.Context, key, besides string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM work WHERE kind = 'session' AND stage <> 'done' AND asked_by = ? AND id <> ?", key, besides)
	return n, err
}
