package store

// What attempts showed step by step, and the references that steps are held against.

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/uitree"
)

// Looked is what an attempt that is over showed step by step.
type Looked struct {
	AttemptID  string `db:"attempt_id"`
	Version    int    `db:"version"`
	RunID      string `db:"run_id"`
	WorkID     string `db:"work_id"`
	DeviceID   string `db:"device_id"`
	BuildID    string `db:"build_id"`
	Subject    []byte `db:"subject"`
	Conditions string `db:"conditions"`
	Steps      []byte `db:"steps"` // these three as JSON
	Remarks    []byte `db:"remarks"`
	Measures   []byte `db:"measures"`
}

// PutLooked keeps it, in place of what was kept before.
func (s *Store) PutLooked(ctx context.Context, l Looked) error {
	_, err := s.db.NamedExecContext(ctx, `REPLACE INTO looks (attempt_id, version, run_id, work_id, device_id, build_id, subject, conditions, steps, remarks, measures)
		VALUES (:attempt_id, :version, :run_id, :work_id, :device_id, :build_id, :subject, :conditions, :steps, :remarks, :measures)`, l)
	return err
}

// LookedOf gives what the attempts of a run showed. Of the three large columns only those that are named are read; the others are empty.
func (s *Store) LookedOf(ctx context.Context, run string, columns ...string) (out []Looked, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT attempt_id, version, run_id, work_id, device_id, build_id, subject, conditions"+listOf(columns)+" FROM looks WHERE run_id = ?", run)
	return out, err
}

// The large columns of what was looked at.
const (
	LookedSteps    = "steps"
	LookedRemarks  = "remarks"
	LookedMeasures = "measures"
)

func listOf(columns []string) (out string) {
	for _, c := range columns {
		switch c {
		case LookedSteps, LookedRemarks, LookedMeasures:
			out += ", " + c
		}
	}
	return out
}

// MeasuresBefore gives what was measured on a device in earlier runs of the same app and package, set in the same way, the newest first.
func (s *Store) MeasuresBefore(ctx context.Context, subject []byte, device, conditions, run string, limit int) (out []Looked, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT attempt_id, run_id, build_id, measures FROM looks WHERE subject = ? AND device_id = ? AND run_id < ? AND conditions = ? ORDER BY run_id DESC LIMIT ?`,
		subject, device, run, conditions, limit)
	return out, err
}

// Unlooked lists runs that are over and were not read step by step in this version, the newest first.
func (s *Store) Unlooked(ctx context.Context, version, limit int) (out []Run, err error) {
	for v := version - 1; v >= 0 && len(out) < limit && err == nil; v-- { // version by version: so the index has them in their order
		var some []Run
		err = s.db.SelectContext(ctx, &some, "SELECT * FROM runs WHERE looked = ? AND ended IS NOT NULL ORDER BY ended DESC LIMIT ?", v, limit-len(out))
		out = append(out, some...)
	}
	return out, err
}

// SetLooked says in which version a run was read step by step.
func (s *Store) SetLooked(ctx context.Context, run string, version int) error {
	_, err := s.db.ExecContext(ctx, "UPDATE runs SET looked = ? WHERE id = ?", version, run)
	return err
}

// Reference is a step's picture that later ones are held against, on one kind of device.
type Reference struct {
	ID          string              `db:"id"`
	WorkspaceID string              `db:"workspace_id"`
	Slug        string              `db:"slug"`
	Platform    string              `db:"platform"`
	Package     string              `db:"package_name"`
	Spot        []byte              `db:"spot"`
	Case        string              `db:"case_name"`
	Step        string              `db:"step"`
	Nth         int                 `db:"nth"`
	Kind        string              `db:"kind"`
	Model       string              `db:"model"`
	BlobKey     string              `db:"blob_key"`
	SHA256      string              `db:"sha256"`
	Width       int                 `db:"width"`
	Height      int                 `db:"height"`
	Masks       JSON[[]uitree.Rect] `db:"masks"`
	Allowed     float64             `db:"allowed"`
	RunID       string              `db:"run_id"`
	WorkID      string              `db:"work_id"`
	MadeBy      string              `db:"made_by"`
	Created     time.Time           `db:"created"`
	Ended       sql.NullTime        `db:"ended"`
}

// PutReference keeps a reference; the one that was at its spot has ended. It gives that one's masks and allowance, where there was one.
func (s *Store) PutReference(ctx context.Context, r Reference) (kept Reference, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		kept = r
		var old Reference
		err := tx.GetContext(ctx, &old, "SELECT * FROM step_references WHERE workspace_id = ? AND spot = ? AND ended IS NULL ORDER BY id DESC LIMIT 1 FOR UPDATE", r.WorkspaceID, r.Spot)
		switch {
		case err == nil:
			kept.Masks, kept.Allowed = old.Masks, old.Allowed
			if _, err := tx.ExecContext(ctx, "UPDATE step_references SET ended = ? WHERE workspace_id = ? AND spot = ? AND ended IS NULL", r.Created, r.WorkspaceID, r.Spot); err != nil {
				return err
			}
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		_, err = tx.NamedExecContext(ctx, `INSERT INTO step_references (id, workspace_id, slug, platform, package_name, spot, case_name, step, nth, kind, model, blob_key, sha256, width, height, masks, allowed, run_id, work_id, made_by, created)
			VALUES (:id, :workspace_id, :slug, :platform, :package_name, :spot, :case_name, :step, :nth, :kind, :model, :blob_key, :sha256, :width, :height, :masks, :allowed, :run_id, :work_id, :made_by, :created)`, kept)
		return err
	})
	return kept, err
}

// References lists a workspace's references, the newest first; pkg "": of all packages.
func (s *Store) References(ctx context.Context, workspace, pkg, after string, limit int) (out []Reference, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM step_references WHERE workspace_id = ? AND ended IS NULL AND (? = '' OR package_name = ?) AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?", workspace, pkg, pkg, after, after, limit)
	return out, err
}

// ReferencesFor lists those of a package's steps, on an app, for a model.
func (s *Store) ReferencesFor(ctx context.Context, app App, pkg, model string, limit int) (out []Reference, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM step_references WHERE workspace_id = ? AND slug = ? AND platform = ? AND package_name = ? AND model = ? AND ended IS NULL ORDER BY id DESC LIMIT ?",
		app.WorkspaceID, app.Slug, app.Platform, pkg, model, limit)
	return out, err
}

// ReferenceByID gives one that is in force, or was.
func (s *Store) ReferenceByID(ctx context.Context, workspace, id string) (r Reference, err error) {
	err = s.db.GetContext(ctx, &r, "SELECT * FROM step_references WHERE workspace_id = ? AND id = ?", workspace, id)
	return r, found(err)
}

// SetReference sets what of a reference is not looked at, and how much may differ.
func (s *Store) SetReference(ctx context.Context, workspace, id string, masks []uitree.Rect, allowed float64) error {
	_, err := s.db.ExecContext(ctx, "UPDATE step_references SET masks = ?, allowed = ? WHERE workspace_id = ? AND id = ? AND ended IS NULL", JSON[[]uitree.Rect]{V: masks}, allowed, workspace, id)
	return err
}

// EndReference takes a reference away.
func (s *Store) EndReference(ctx context.Context, workspace, id string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE step_references SET ended = ? WHERE workspace_id = ? AND id = ? AND ended IS NULL", time.Now().UTC(), workspace, id)
	return err
}
