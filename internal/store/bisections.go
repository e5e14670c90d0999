package store

// Bisections: the first bad build, found by trying a case on some of those between a good and a bad one.

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/verdict"
)

// BisectRequest is what is tried: a case of a package, on a device that is set in some way.
type BisectRequest struct {
	Slug, Platform string
	Package        string // its id
	PackageRef     string
	Case           string
	Device         string            // its serial
	Variant        string            `json:",omitempty"`
	Conditions     conditions.Set    `json:",omitempty"`
	Signatures     []string          `json:",omitempty"` // of the family that is meant; none: any failure
	Inputs         map[string]string `json:",omitempty"`
	Secrets        []string          `json:",omitempty"` // the names of secret inputs
	LimitSeconds   int
}

// Probe is one try.
type Probe struct {
	Build     int // its place in the builds
	RunID     string
	Number    int
	Verdict   verdict.Verdict
	Says      string // bad, good, or other: nothing of the fault
	Message   string `json:",omitempty"`
	DeviceMS  int64
	Signature string `json:",omitempty"`
}

// What a probe says.
const (
	ProbeBad   = "bad"
	ProbeGood  = "good"
	ProbeOther = "other"
)

// The states of a bisection.
const (
	BisectGoing   = "going"
	BisectFound   = "found"
	BisectUnsure  = "unsure" // some builds between can't be judged
	BisectStopped = "halted"
	BisectFailed  = "given_up"
)

// Bisection is one of them.
type Bisection struct {
	ID          string              `db:"id"`
	WorkspaceID string              `db:"workspace_id"`
	Request     JSON[BisectRequest] `db:"request"`
	Builds      JSON[[]string]      `db:"builds"`
	Probes      JSON[[]Probe]       `db:"probes"`
	Probing     sql.NullInt64       `db:"probing"`
	RunID       string              `db:"run_id"`
	State       string              `db:"state"`
	Why         string              `db:"why"`
	Alarm       float64             `db:"alarm"`
	StartedBy   string              `db:"started_by"`
	AskedBy     string              `db:"asked_by"`
	Created     time.Time           `db:"created"`
	Ended       sql.NullTime        `db:"ended"`
	Waits       sql.NullTime        `db:"waits"` // since when the next try can't be started
}

// AddBisection writes a bisection, and its secrets as they are sealed.
func (s *Store) AddBisection(ctx context.Context, b Bisection, secrets map[string]string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO bisections (id, workspace_id, request, builds, state, alarm, started_by, asked_by, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
			b.ID, b.WorkspaceID, asJSON(b.Request.V), asJSON(b.Builds.V), b.State, b.Alarm, b.StartedBy, b.AskedBy, b.Created); err != nil {
			return err
		}
		for name, value := range secrets {
			if _, err := tx.ExecContext(ctx, "INSERT INTO run_secrets (run_id, name, value) VALUES (?, ?, ?)", b.ID, name, value); err != nil {
				return err
			}
		}
		return nil
	})
}

// BisectionByID finds a bisection.
func (s *Store) BisectionByID(ctx context.Context, workspace, id string) (b Bisection, err error) {
	err = s.db.GetContext(ctx, &b, "SELECT * FROM bisections WHERE workspace_id = ? AND id = ?", workspace, id)
	return b, found(err)
}

// Bisections lists a workspace's, the newest first.
func (s *Store) Bisections(ctx context.Context, workspace, after string, limit int) (out []Bisection, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM bisections WHERE workspace_id = ? AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?", workspace, after, after, limit)
	return out, err
}

// BisectionsGoing lists those of all workspaces that go on.
func (s *Store) BisectionsGoing(ctx context.Context, limit int) (out []Bisection, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM bisections WHERE state = ? ORDER BY id LIMIT ?", BisectGoing, limit)
	return out, err
}

// CountBisections counts a workspace's that go on.
func (s *Store) CountBisections(ctx context.Context, workspace string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM bisections WHERE state = ? AND workspace_id = ?", BisectGoing, workspace)
	return n, err
}

// SetBisection keeps how far a bisection that goes on is. One that a person stopped meanwhile stays so.
func (s *Store) SetBisection(ctx context.Context, b Bisection) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE bisections SET probes = ?, probing = ?, run_id = ?, state = ?, why = ?, waits = ?, ended = IF(? = 'going', NULL, now(3)) WHERE id = ? AND state = 'going'",
			asJSON(append([]Probe{}, b.Probes.V...)), b.Probing, b.RunID, b.State, b.Why, b.Waits, b.State, b.ID); err != nil {
			return err
		}
		if b.State == BisectGoing {
			return nil
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM run_secrets WHERE run_id = ?", b.ID)
		return err
	})
}

// BuildsBetween lists an app's builds from one upload to another, the older first.
func (s *Store) BuildsBetween(ctx context.Context, app App, from, to string, limit int) (out []string, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT id FROM builds WHERE workspace_id = ? AND slug = ? AND platform = ? AND id >= ? AND id <= ? ORDER BY id LIMIT ?", app.WorkspaceID, app.Slug, app.Platform, from, to, limit)
	return out, err
}
