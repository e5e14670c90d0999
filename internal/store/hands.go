package store

// Devices that persons hold: sessions of a kind.

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// HoldOnDevice finds the hold by hand of a device, of the workspace.
func (s *Store) HoldOnDevice(ctx context.Context, workspace, serial string) (r SessionRow, err error) {
	err = s.db.GetContext(ctx, &r, sessionRows+" WHERE s.workspace_id = ? AND s.by_hand = 1 AND w.stage NOT IN ('waiting', 'done') AND d.serial = ? ORDER BY s.id DESC LIMIT 1", workspace, serial)
	return r, found(err)
}

// HeldFor says for how long from now a person has a device.
func (s *Store) HeldFor(ctx context.Context, id string, left time.Duration) error {
	_, err := s.exec(ctx, "UPDATE sessions SET held_until = now(3) + INTERVAL ? MICROSECOND WHERE id = ? AND by_hand = 1", left.Microseconds(), id)
	return err
}

// handed notes that a device is a person's from now on, where it is one who waited for it.
func handed(ctx context.Context, tx *sqlx.Tx, id string) error {
	_, err := tx.ExecContext(ctx, "UPDATE sessions SET held_until = now(3) + INTERVAL JSON_VALUE(request, '$.limit') SECOND WHERE id = ? AND by_hand = 1 AND held_until IS NULL", id)
	return err
}

// JoinHold lets a client of WebDriver work on a device that a person holds, by the hash of the id that goes over the wire. So many may at once.
func (s *Store) JoinHold(ctx context.Context, id string, token []byte, most int) (ok bool, err error) {
	res, err := s.exec(ctx, "INSERT INTO hold_clients (token, session_id) SELECT ?, ? FROM DUAL WHERE (SELECT count(*) FROM hold_clients WHERE session_id = ?) < ?", token, id, id, most)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// LeaveHold takes a client away from a hold.
func (s *Store) LeaveHold(ctx context.Context, token []byte) error {
	_, err := s.exec(ctx, "DELETE FROM hold_clients WHERE token = ?", token)
	return err
}

// HoldOfClient finds the hold that a client works on.
func (s *Store) HoldOfClient(ctx context.Context, token []byte) (r SessionRow, err error) {
	err = s.db.GetContext(ctx, &r, sessionRows+" JOIN hold_clients c ON c.session_id = s.id WHERE c.token = ?", token)
	return r, found(err)
}
