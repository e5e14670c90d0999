package store

// Labels that people give to runs, builds, packages and devices.

import (
	"context"
	"database/sql"

	"github.com/jmoiron/sqlx"
)

// Labelled is what can have labels.
type Labelled string

// The kinds of it.
const (
	LabelledRun     Labelled = "run"
	LabelledBuild   Labelled = "build"
	LabelledPackage Labelled = "package"
)

var labelTables = map[Labelled]string{LabelledRun: "runs", LabelledBuild: "builds", LabelledPackage: "packages"}

// SetLabels gives a thing these labels in place of those that it had.
func (s *Store) SetLabels(ctx context.Context, kind Labelled, workspace, id string, labels map[string]string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE "+labelTables[kind]+" SET labels = ? WHERE id = ? AND workspace_id = ?", asJSON(labels), id, workspace); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM labels WHERE kind = ? AND of_id = ?", kind, id); err != nil {
			return err
		}
		return addLabels(ctx, tx, kind, workspace, id, labels)
	})
}

// addLabels writes those by which a thing is found, in a transaction.
func addLabels(ctx context.Context, tx *sqlx.Tx, kind Labelled, workspace, id string, labels map[string]string) error {
	for name, value := range labels {
		if _, err := tx.ExecContext(ctx, "INSERT INTO labels (kind, of_id, workspace_id, name, value) VALUES (?, ?, ?, ?, ?)", kind, id, workspace, name, value); err != nil {
			return err
		}
	}
	return nil
}

// having gives the part of a query that keeps those with these labels; the column is that of their ids.
func having(kind Labelled, workspace, column string, labels map[string]string) (q string, args []any) {
	for name, value := range labels {
		q += " AND " + column + " IN (SELECT of_id FROM labels WHERE workspace_id = ? AND kind = ? AND name = ? AND value = ?)"
		args = append(args, workspace, kind, name, value)
	}
	return q, args
}

// SetDeviceLabels gives a device these labels in place of those that it had.
func (s *Store) SetDeviceLabels(ctx context.Context, id string, labels map[string]string) error {
	_, err := s.exec(ctx, "UPDATE devices SET labels = ? WHERE id = ?", asJSON(labels), id)
	return err
}

// hit is ErrNotFound where a change found nothing to change.
func hit(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrNotFound
}
