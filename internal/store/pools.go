package store

// Pools: sets of devices that are kept under a name.

import (
	"context"
	"time"

	"tessellant/internal/core/pools"
)

// Pool is one.
type Pool struct {
	ID          string                 `db:"id"`
	WorkspaceID string                 `db:"workspace_id"`
	Name        string                 `db:"name"`
	Definition  JSON[pools.Definition] `db:"definition"`
	Created     time.Time              `db:"created"`
	Changed     time.Time              `db:"changed"`
}

// AddPool writes a new pool. ErrTaken: the workspace has one of this name.
func (s *Store) AddPool(ctx context.Context, p Pool) error {
	_, err := s.exec(ctx, "INSERT INTO pools (id, workspace_id, name, definition, created, changed) VALUES (?, ?, ?, ?, now(3), now(3))", p.ID, p.WorkspaceID, p.Name, asJSON(p.Definition.V))
	return taken(err)
}

// SetPool gives a pool another definition. ErrNotFound: there is none of this name.
func (s *Store) SetPool(ctx context.Context, workspace, name string, d pools.Definition) error {
	res, err := s.exec(ctx, "UPDATE pools SET definition = ?, changed = now(3) WHERE workspace_id = ? AND name = ?", asJSON(d), workspace, name)
	return hit(res, err)
}

// RemovePool removes a pool. ErrNotFound: there is none of this name.
func (s *Store) RemovePool(ctx context.Context, workspace, name string) error {
	res, err := s.exec(ctx, "DELETE FROM pools WHERE workspace_id = ? AND name = ?", workspace, name)
	return hit(res, err)
}

// PoolByName finds a pool.
func (s *Store) PoolByName(ctx context.Context, workspace, name string) (p Pool, err error) {
	err = s.db.GetContext(ctx, &p, "SELECT * FROM pools WHERE workspace_id = ? AND name = ?", workspace, name)
	return p, found(err)
}

// Pools lists a workspace's pools by name.
func (s *Store) Pools(ctx context.Context, workspace, after string, limit int) (out []Pool, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM pools WHERE workspace_id = ? AND name > ? ORDER BY name LIMIT ?", workspace, after, limit)
	return out, err
}
