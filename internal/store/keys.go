package store

// Workspaces, and the keys that let people and programs into them.

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/access"
	"tessellant/internal/core/routes"
)

// Identity is who a key belongs to.
type Identity struct {
	WorkspaceID string       `db:"workspace_id"`
	Workspace   string       `db:"workspace"`
	Role        access.Role  `db:"role"`
	KeyID       string       `db:"id"`
	KeyName     string       `db:"name"`
	Expires     sql.NullTime `db:"expires"`
	Withdrawn   bool         `db:"withdrawn"`
	Expired     bool         `db:"expired"` // by the database's clock
	Allowances
	Host Host `db:"-"` // of a host's key, which belongs to no workspace
}

const identityColumns = "k.id, k.name, k.workspace_id, w.name AS workspace, k.role, w.program_network, w.other_apps, w.routes, k.expires, k.withdrawn IS NOT NULL AS withdrawn, coalesce(k.expires <= now(3), 0) AS expired"

// Allowances are what a workspace allows beyond what is usual.
type Allowances struct {
	ProgramNetwork bool `db:"program_network"` // programs of its packages may use the network
	OtherApps      bool `db:"other_apps"`      // sessions may stop and clear apps that were not installed for them
	// Routes are the names that apps may be led to people's own machines from.
	Routes JSON[routes.Allowed] `db:"routes"`
}

// Allowances gives those of a workspace.
func (s *Store) Allowances(ctx context.Context, workspace string) (a Allowances, err error) {
	err = s.db.GetContext(ctx, &a, "SELECT program_network, other_apps, routes FROM workspaces WHERE id = ?", workspace)
	return a, found(err)
}

// Allow sets them.
func (s *Store) Allow(ctx context.Context, workspace string, a Allowances) error {
	_, err := s.exec(ctx, "UPDATE workspaces SET program_network = ?, other_apps = ?, routes = ? WHERE id = ?", a.ProgramNetwork, a.OtherApps, asJSON(a.Routes.V), workspace)
	return err
}

// Key is a key, without what its holder shows.
type Key struct {
	ID          string       `db:"id"`
	WorkspaceID string       `db:"workspace_id"`
	Workspace   string       `db:"workspace"`
	Role        access.Role  `db:"role"`
	Name        string       `db:"name"`
	Created     time.Time    `db:"created"`
	Expires     sql.NullTime `db:"expires"`
	Used        sql.NullTime `db:"used"`
	Expired     bool         `db:"expired"`
}

const keyColumns = "k.id, k.workspace_id, w.name AS workspace, k.role, k.name, k.created, k.expires, k.used, coalesce(k.expires <= now(3), 0) AS expired FROM access_keys k JOIN workspaces w ON w.id = k.workspace_id"

// Workspace is what one team owns.
type Workspace struct {
	ID      string    `db:"id"`
	Name    string    `db:"name"`
	Created time.Time `db:"created"`
	Keys    int       `db:"access_keys"`
}

// CountKeys says how many keys were ever made.
func (s *Store) CountKeys(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM access_keys")
	return n, err
}

// FirstKey makes an operator's key, and its workspace where that is missing. ErrTaken: there is such a key.
func (s *Store) FirstKey(ctx context.Context, workspace, name string, hash []byte) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT IGNORE INTO workspaces (id, name, created) VALUES (?, ?, ?)", NewID(), workspace, now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO access_keys (id, workspace_id, role, name, hash, created) SELECT ?, id, ?, ?, ?, ? FROM workspaces WHERE name = ?",
			NewID(), access.Operator, name, hash, now(), workspace)
		return taken(err)
	})
}

// AddKey makes a key. ErrTaken: a key of the workspace that was not withdrawn has this name.
func (s *Store) AddKey(ctx context.Context, k Key, hash []byte, madeBy string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		// The workspace's row is the lock under which its keys get their names.
		if _, err := tx.ExecContext(ctx, "SELECT id FROM workspaces WHERE id = ? FOR UPDATE", k.WorkspaceID); err != nil {
			return err
		}
		var same int
		if err := tx.GetContext(ctx, &same, "SELECT count(*) FROM access_keys WHERE workspace_id = ? AND name = ? AND withdrawn IS NULL", k.WorkspaceID, k.Name); err != nil {
			return err
		}
		if same > 0 {
			return ErrTaken
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO access_keys (id, workspace_id, role, name, hash, created, expires, made_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			k.ID, k.WorkspaceID, k.Role, k.Name, hash, k.Created, k.Expires, madeBy)
		return taken(err)
	})
}

// Keys lists a workspace's keys by name, without those that were withdrawn.
func (s *Store) Keys(ctx context.Context, workspace string) (out []Key, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT "+keyColumns+" WHERE k.workspace_id = ? AND k.withdrawn IS NULL ORDER BY k.name, k.id", workspace)
	return out, err
}

// KeyByID finds a key that was not withdrawn, in whatever workspace it is.
func (s *Store) KeyByID(ctx context.Context, id string) (k Key, err error) {
	err = s.db.GetContext(ctx, &k, "SELECT "+keyColumns+" WHERE k.id = ? AND k.withdrawn IS NULL", id)
	return k, found(err)
}

// ErrLast says that a key can't be withdrawn, since no other could do what it may.
var ErrLast = errors.New("the last of its kind")

// WithdrawKey ends a key, and the browsers that signed in with it. ErrNotFound: there is none that goes on. ErrLast: it is the last operator's key that lasts.
func (s *Store) WithdrawKey(ctx context.Context, id string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		var operators []string
		if err := tx.SelectContext(ctx, &operators, "SELECT id FROM access_keys WHERE role = ? AND withdrawn IS NULL AND (expires IS NULL OR id = ?) FOR UPDATE", access.Operator, id); err != nil {
			return err
		}
		if len(operators) == 1 && operators[0] == id {
			return ErrLast
		}
		res, err := tx.ExecContext(ctx, "UPDATE access_keys SET withdrawn = now(3) WHERE id = ? AND withdrawn IS NULL", id)
		if err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return ErrNotFound
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM signins WHERE key_id = ?", id)
		return err
	})
}

// KeyByHash finds a key, also one that has ended, and notes that it is used.
func (s *Store) KeyByHash(ctx context.Context, hash []byte) (who Identity, err error) {
	var row struct {
		Identity
		Noted bool `db:"noted"`
	}
	err = s.db.GetContext(ctx, &row, "SELECT "+identityColumns+", coalesce(k.used > now(3) - INTERVAL 1 MINUTE, 0) AS noted FROM access_keys k JOIN workspaces w ON w.id = k.workspace_id WHERE k.hash = ?", hash)
	if err == nil && !row.Noted && !row.Withdrawn && !row.Expired {
		err = s.keyUsed(ctx, row.KeyID)
	}
	return row.Identity, found(err)
}

// keyUsed notes that a key is used.
func (s *Store) keyUsed(ctx context.Context, id string) error {
	_, err := s.exec(ctx, "UPDATE access_keys SET used = now(3) WHERE id = ?", id)
	return err
}

// Workspaces lists all by name.
func (s *Store) Workspaces(ctx context.Context) (out []Workspace, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT w.id, w.name, w.created, (SELECT count(*) FROM access_keys k WHERE k.workspace_id = w.id AND k.withdrawn IS NULL) AS access_keys FROM workspaces w ORDER BY w.name")
	return out, err
}

// WorkspaceByName finds one.
func (s *Store) WorkspaceByName(ctx context.Context, name string) (w Workspace, err error) {
	err = s.db.GetContext(ctx, &w, "SELECT id, name, created, 0 AS access_keys FROM workspaces WHERE name = ?", name)
	return w, found(err)
}

// AddWorkspace makes one. ErrTaken: there is one of this name.
func (s *Store) AddWorkspace(ctx context.Context, w Workspace) error {
	_, err := s.exec(ctx, "INSERT INTO workspaces (id, name, created) VALUES (?, ?, ?)", w.ID, w.Name, w.Created)
	return taken(err)
}
