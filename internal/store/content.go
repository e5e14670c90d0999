package store

// Builds, packages, artifacts.

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/testpkg"
)

// Build is an uploaded build.
type Build struct {
	ID          string              `db:"id"`
	WorkspaceID string              `db:"workspace_id"`
	Slug        string              `db:"slug"`
	Platform    string              `db:"platform"`
	AppID       string              `db:"app_id"`
	VersionName string              `db:"version_name"`
	VersionCode int64               `db:"version_code"`
	Facts       JSON[appfile.Facts] `db:"facts"`
	Size        int64               `db:"size"`
	SHA256      string              `db:"sha256"`
	Filename    string              `db:"filename"`
	BlobKey     string              `db:"blob_key"`
	IconKey     string              `db:"icon_key"`
	Created     time.Time           `db:"created"`

	Labels JSON[map[string]string] `db:"labels"`
}

// AddBuild keeps a build, under a slug where no other app has that, else under its app id; it answers which. ErrTaken: the workspace has one with this content.
func (s *Store) AddBuild(ctx context.Context, b Build, slug string) (string, error) {
	err := s.InTx(ctx, func(tx *sqlx.Tx) error {
		b.Slug = slug
		// The workspace's row is the lock under which slugs are given.
		if _, err := tx.ExecContext(ctx, "SELECT id FROM workspaces WHERE id = ? FOR UPDATE", b.WorkspaceID); err != nil {
			return err
		}
		var owner string
		err := tx.GetContext(ctx, &owner, "SELECT app_id FROM builds WHERE workspace_id = ? AND slug = ? ORDER BY id LIMIT 1", b.WorkspaceID, slug)
		if err = found(err); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		if owner != "" && owner != b.AppID {
			b.Slug = b.AppID
		}
		return insertBuild(ctx, tx, b)
	})
	return b.Slug, err
}

func insertBuild(ctx context.Context, tx *sqlx.Tx, b Build) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO builds (id, workspace_id, slug, platform, app_id, version_name, version_code, facts, size, sha256, filename, blob_key, icon_key, created)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		b.ID, b.WorkspaceID, b.Slug, b.Platform, b.AppID, b.VersionName, b.VersionCode, asJSON(b.Facts.V), b.Size, b.SHA256, b.Filename, b.BlobKey, b.IconKey, b.Created)
	return taken(err)
}

// BuildByHash finds a build by its content.
func (s *Store) BuildByHash(ctx context.Context, workspace, sha string) (b Build, err error) {
	err = s.db.GetContext(ctx, &b, "SELECT * FROM builds WHERE workspace_id = ? AND sha256 = ?", workspace, sha)
	return b, found(err)
}

// BuildByID finds a build.
func (s *Store) BuildByID(ctx context.Context, workspace, id string) (b Build, err error) {
	err = s.db.GetContext(ctx, &b, "SELECT * FROM builds WHERE workspace_id = ? AND id = ?", workspace, id)
	return b, found(err)
}

// BuildsOf lists the builds of a run: for each platform one.
func (s *Store) BuildsOf(ctx context.Context, run string) (out []Build, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT b.* FROM (SELECT build_id FROM runs WHERE id = ? UNION SELECT build_id FROM run_builds WHERE run_id = ?) x JOIN builds b ON b.id = x.build_id", run, run)
	return out, err
}

// NewestBuild finds the newest build of an app (by slug or app id), with that version
// code or version name where one is given.
func (s *Store) NewestBuild(ctx context.Context, workspace, app, platform string, code *int64, name string) (b Build, err error) {
	q, args := "SELECT * FROM builds WHERE workspace_id = ? AND (slug = ? OR app_id = ?) AND platform = ?", []any{workspace, app, app, platform}
	if code != nil {
		q, args = q+" AND version_code = ?", append(args, *code)
	}
	if name != "" {
		q, args = q+" AND version_name = ?", append(args, name)
	}
	err = s.db.GetContext(ctx, &b, q+" ORDER BY id DESC LIMIT 1", args...)
	return b, found(err)
}

// Builds lists builds, the newest first; after is the id of the last one seen.
func (s *Store) Builds(ctx context.Context, workspace string, labels map[string]string, after string, limit int) (out []Build, err error) {
	q, args := having(LabelledBuild, workspace, "id", labels)
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM builds WHERE workspace_id = ?"+q+" AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?", append(append([]any{workspace}, args...), after, after, limit)...)
	return out, err
}

// Package is one revision of a test package.
type Package struct {
	ID          string                  `db:"id"`
	WorkspaceID string                  `db:"workspace_id"`
	Name        string                  `db:"name"`
	Revision    int                     `db:"revision"`
	Kind        string                  `db:"kind"`
	About       string                  `db:"about"`
	Cases       JSON[[]testpkg.Case]    `db:"cases"`
	Findings    JSON[[]testpkg.Finding] `db:"findings"`
	Inputs      JSON[[]testpkg.Input]   `db:"inputs"`
	Program     JSON[*testpkg.Program]  `db:"program"` // nil: it is of another kind
	Size        int64                   `db:"size"`
	SHA256      string                  `db:"sha256"`
	BlobKey     string                  `db:"blob_key"`
	Created     time.Time               `db:"created"`

	Labels JSON[map[string]string] `db:"labels"`
	Needs  JSON[[]string]          `db:"needs"` // of a device: patterns
}

// AddPackage keeps a package as the next revision of its name, and answers the
// revision. ErrTaken: the workspace has one with this content.
func (s *Store) AddPackage(ctx context.Context, p Package) (revision int, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		// The workspace's row is the lock under which revisions are counted.
		if _, err := tx.ExecContext(ctx, "SELECT id FROM workspaces WHERE id = ? FOR UPDATE", p.WorkspaceID); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &revision, "SELECT coalesce(max(revision), 0) + 1 FROM packages WHERE workspace_id = ? AND name = ?", p.WorkspaceID, p.Name); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO packages (id, workspace_id, name, revision, kind, about, cases, findings, inputs, program, needs, size, sha256, blob_key, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			p.ID, p.WorkspaceID, p.Name, revision, p.Kind, p.About, asJSON(p.Cases.V), asJSON(p.Findings.V), asJSON(p.Inputs.V), asJSON(p.Program.V), asJSON(p.Needs.V), p.Size, p.SHA256, p.BlobKey, p.Created)
		return taken(err)
	})
	return revision, err
}

// PackageByHash finds a package by its content.
func (s *Store) PackageByHash(ctx context.Context, workspace, sha string) (p Package, err error) {
	err = s.db.GetContext(ctx, &p, "SELECT * FROM packages WHERE workspace_id = ? AND sha256 = ?", workspace, sha)
	return p, found(err)
}

// PackageByID finds a package.
func (s *Store) PackageByID(ctx context.Context, workspace, id string) (p Package, err error) {
	err = s.db.GetContext(ctx, &p, "SELECT * FROM packages WHERE workspace_id = ? AND id = ?", workspace, id)
	return p, found(err)
}

// PackageByName finds a revision of a package; revision 0: the newest.
func (s *Store) PackageByName(ctx context.Context, workspace, name string, revision int) (p Package, err error) {
	err = s.db.GetContext(ctx, &p, "SELECT * FROM packages WHERE workspace_id = ? AND name = ? AND (? = 0 OR revision = ?) ORDER BY revision DESC LIMIT 1", workspace, name, revision, revision)
	return p, found(err)
}

// Packages lists packages, the newest first.
func (s *Store) Packages(ctx context.Context, workspace string, labels map[string]string, after string, limit int) (out []Package, err error) {
	q, args := having(LabelledPackage, workspace, "id", labels)
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM packages WHERE workspace_id = ?"+q+" AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?", append(append([]any{workspace}, args...), after, after, limit)...)
	return out, err
}

// Artifact is a file that an attempt left.
type Artifact struct {
	ID          string `db:"id"`
	WorkspaceID string `db:"workspace_id"`
	AttemptID   string `db:"attempt_id"`
	Name        string `db:"name"`
	Kind        string `db:"kind"`
	ContentType string `db:"content_type"`
	Size        int64  `db:"size"`
	SHA256      string `db:"sha256"`
	BlobKey     string `db:"blob_key"`
	Assembled   bool   `db:"assembled"` // of the parts of an attempt that was lost: the whole may still come
}

// PutArtifact keeps an artifact, in place of an older one of the same name.
func (s *Store) PutArtifact(ctx context.Context, a Artifact) error {
	_, err := s.exec(ctx, `INSERT INTO artifacts (id, workspace_id, attempt_id, name, kind, content_type, size, sha256, blob_key, assembled) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE size = VALUES(size), sha256 = VALUES(sha256), blob_key = VALUES(blob_key), assembled = VALUES(assembled)`,
		a.ID, a.WorkspaceID, a.AttemptID, a.Name, a.Kind, a.ContentType, a.Size, a.SHA256, a.BlobKey, a.Assembled)
	return err
}

// ArtifactByName finds an attempt's artifact.
func (s *Store) ArtifactByName(ctx context.Context, attempt, name string) (a Artifact, err error) {
	err = s.db.GetContext(ctx, &a, "SELECT * FROM artifacts WHERE attempt_id = ? AND name = ?", attempt, name)
	return a, found(err)
}

// HandedIn counts what the host of an attempt hands in; less than nothing is given back. False: it has handed in as much as it may, and nothing was counted.
func (s *Store) HandedIn(ctx context.Context, attempt string, bytes int64, pieces int, mostBytes int64, mostPieces int) (bool, error) {
	if bytes == 0 && pieces == 0 {
		return true, nil // no row would change
	}
	res, err := s.exec(ctx, "UPDATE attempts SET handed_bytes = handed_bytes + ?, handed_pieces = handed_pieces + ? WHERE id = ? AND handed_bytes + ? <= ? AND handed_pieces + ? <= ?",
		bytes, pieces, attempt, bytes, mostBytes, pieces, mostPieces)
	if err != nil {
		return false, err
	}
	n, _ := res.RowsAffected()
	return n > 0, nil
}

// ForgetLostPictures takes from an attempt's cases the names of pictures and trees that never came.
func (s *Store) ForgetLostPictures(ctx context.Context, attempt string) error {
	for _, column := range []string{"shot", "tree"} {
		if _, err := s.exec(ctx, "UPDATE cases SET "+column+" = '' WHERE attempt_id = ? AND "+column+" <> '' AND NOT EXISTS (SELECT 1 FROM artifacts a WHERE a.attempt_id = cases.attempt_id AND a.name = cases."+column+")", attempt); err != nil {
			return err
		}
	}
	return nil
}

// ArtifactByID finds an artifact.
func (s *Store) ArtifactByID(ctx context.Context, workspace, id string) (a Artifact, err error) {
	err = s.db.GetContext(ctx, &a, "SELECT * FROM artifacts WHERE workspace_id = ? AND id = ?", workspace, id)
	return a, found(err)
}

// Artifacts lists the artifacts of an attempt, by name.
func (s *Store) Artifacts(ctx context.Context, attempt string) (out []Artifact, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM artifacts WHERE attempt_id = ? ORDER BY name", attempt)
	return out, err
}

// Ref is the short, stable name of a build.
func (b Build) Ref() string {
	if b.Platform == appfile.WebPlatform { // pages have no version codes
		return fmt.Sprintf("%s/%s@v%s", b.Slug, b.Platform, b.VersionName)
	}
	return fmt.Sprintf("%s/%s@%d", b.Slug, b.Platform, b.VersionCode)
}

// Ref is the short, stable name of a package's revision.
func (p Package) Ref() string { return fmt.Sprintf("%s@%d", p.Name, p.Revision) }
