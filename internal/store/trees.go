package store

// The trees of screens that runs kept.

import "context"

// KeptTree is the tree of a screen that a run kept of a device.
type KeptTree struct {
	ID      string `db:"id"`
	BlobKey string `db:"blob_key"`
	Size    int64  `db:"size"`
	Serial  string `db:"serial"`
}

// KeptTrees lists the trees that the newest runs kept, the newest first: of an app, where one is named, and of other devices than this.
func (s *Store) KeptTrees(ctx context.Context, workspace, app, besides string, runs, limit int) (out []KeptTree, err error) {
	var newest []string
	if err = s.db.SelectContext(ctx, &newest, "SELECT r.id FROM runs r JOIN builds b ON b.id = r.build_id WHERE r.workspace_id = ? AND (? = '' OR b.slug = ?) ORDER BY r.id DESC LIMIT ?", workspace, app, app, runs); err != nil {
		return nil, err
	}
	for _, run := range newest {
		var some []KeptTree
		if err = s.db.SelectContext(ctx, &some, `SELECT f.id, f.blob_key, f.size, d.serial FROM work w JOIN attempts a ON a.work_id = w.id JOIN devices d ON d.id = a.device_id
			JOIN artifacts f ON f.attempt_id = a.id WHERE w.run_id = ? AND f.kind = 'tree' AND d.serial <> ? ORDER BY f.id DESC LIMIT ?`, run, besides, limit-len(out)); err != nil {
			return nil, err
		}
		if out = append(out, some...); len(out) >= limit {
			break
		}
	}
	return out, nil
}
