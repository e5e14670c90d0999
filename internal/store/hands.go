package store

// Devices that persons hold: sessions of a kind.

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/work"
)

// HoldOnDevice finds the hold by hand of a device, of the workspace.
func (s *Store) HoldOnDevice(ctx context.Context, workspace, serial string) (r SessionRow, err error) {
	err = s.db.GetContext(ctx, &r, sessionRows+" WHERE s.workspace_id = ? AND s.by_hand = 1 AND w.stage NOT IN ('waiting', 'done') AND d.serial = ? ORDER BY s.id DESC LIMIT 1", workspace, serial)
	return r, found(err)
}

// Watched is work at whose device people may be.
type Watched struct {
	ID          string    `db:"id"`
	WorkspaceID string    `db:"workspace_id"`
	Kind        work.Kind `db:"kind"`
	ByHand      bool      `db:"by_hand"` // a person holds the device
	Stage       string    `db:"stage"`
	AskedBy     string    `db:"asked_by"` // the key's id
	AttemptID   string    `db:"attempt_id"`
	Serial      string    `db:"serial"` // "": it has no device yet
}

// WatchedByID finds such work by its id, whatever its kind.
func (s *Store) WatchedByID(ctx context.Context, workspace, id string) (w Watched, err error) {
	err = s.db.GetContext(ctx, &w, `SELECT w.id, w.workspace_id, w.kind, coalesce(s.by_hand, 0) AS by_hand, w.stage, w.asked_by, coalesce(a.id, '') AS attempt_id, coalesce(d.serial, '') AS serial
		FROM work w LEFT JOIN sessions s ON s.id = w.id LEFT JOIN attempts a ON a.work_id = w.id AND a.number = (SELECT max(number) FROM attempts WHERE work_id = w.id) LEFT JOIN devices d ON d.id = a.device_id
		WHERE w.workspace_id = ? AND w.id = ?`, workspace, id)
	return w, found(err)
}

// WatchedOn finds the work that has a device now, of the workspace.
func (s *Store) WatchedOn(ctx context.Context, workspace, serial string) (w Watched, err error) {
	var id string
	if err = s.db.GetContext(ctx, &id, "SELECT h.work_id FROM holds h JOIN devices d ON d.id = h.device_id WHERE d.serial = ? AND h.workspace_id = ? AND h.holding = 1 LIMIT 1", serial, workspace); err != nil {
		return w, found(err)
	}
	return s.WatchedByID(ctx, workspace, id)
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
