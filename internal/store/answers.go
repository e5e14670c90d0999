package store

// What runs that are over say: how each case came out, lying by case, and the answers that are made of it.

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
)

// Subject is of what a history is: a case of a package, on an app, in a workspace.
type Subject [8]byte

// Result is how a case came out in a leg.
type Result struct {
	Subject    []byte          `db:"subject"`
	RunID      string          `db:"run_id"`
	WorkID     string          `db:"work_id"`
	DeviceID   string          `db:"device_id"`
	BuildID    string          `db:"build_id"`
	AttemptID  string          `db:"attempt_id"`
	Variant    string          `db:"variant"`
	Conditions string          `db:"conditions"`
	Verdict    verdict.Verdict `db:"verdict"`
	Signature  string          `db:"signature"` // of its first failure
	TookMS     int64           `db:"took_ms"`
}

// CaseTally is how often a case was judged in a run.
type CaseTally struct {
	Subject []byte `db:"subject"`
	RunID   string `db:"run_id"`
	Judged  int    `db:"judged"`
	Bad     int    `db:"bad"` // failed, crashed or expired
	Flaky   int    `db:"flaky"`
}

// App is of what families are: of an app on a platform, in a workspace.
type App struct {
	WorkspaceID string `db:"workspace_id"`
	Slug        string `db:"slug"`
	Platform    string `db:"platform"`
}

// FamilyIn says that a signature was seen in a run, and into which family it was taken.
type FamilyIn struct {
	RunID     string `db:"run_id"`
	Signature string `db:"signature"`
	Family    string `db:"family"`
	BuildID   string `db:"build_id"`
}

// Answer is what a run that is over says.
type Answer struct {
	RunID    string `db:"run_id"`
	Version  int    `db:"version"`
	Sentence string `db:"sentence"`
	Answer   []byte `db:"answer"` // as JSON
}

// Told is all that is kept of an answer.
type Told struct {
	Answer
	App      App
	Families []FamilyIn
	Results  []Result
	Tallies  []CaseTally
}

const resultRows = 500 // in one statement

// PutAnswer keeps what a run says, in place of what was kept before.
func (s *Store) PutAnswer(ctx context.Context, t Told) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SELECT id FROM runs WHERE id = ? FOR UPDATE", t.RunID); err != nil { // of two that found it at once, one after the other writes
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO answers (run_id, version, sentence, answer) VALUES (?, ?, ?, ?)", t.RunID, t.Version, t.Sentence, t.Answer.Answer); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM families WHERE run_id = ?", t.RunID); err != nil {
			return err
		}
		if err := replace(ctx, tx, "families (run_id, signature, family, workspace_id, slug, platform, build_id)", t.Families, func(f FamilyIn) []any {
			return []any{t.RunID, f.Signature, f.Family, t.App.WorkspaceID, t.App.Slug, t.App.Platform, f.BuildID}
		}); err != nil {
			return err
		}
		if err := replace(ctx, tx, "results (subject, run_id, work_id, device_id, build_id, attempt_id, variant, conditions, verdict, signature, took_ms)", t.Results, func(r Result) []any {
			return []any{r.Subject, r.RunID, r.WorkID, r.DeviceID, r.BuildID, r.AttemptID, r.Variant, r.Conditions, r.Verdict, r.Signature, r.TookMS}
		}); err != nil {
			return err
		}
		if err := replace(ctx, tx, "tallies (subject, run_id, judged, bad, flaky)", t.Tallies, func(c CaseTally) []any {
			return []any{c.Subject, c.RunID, c.Judged, c.Bad, c.Flaky}
		}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE runs SET told = ? WHERE id = ?", t.Version, t.RunID)
		return err
	})
}

// replace writes items as rows in few statements.
func replace[T any](ctx context.Context, tx *sqlx.Tx, into string, items []T, row func(T) []any) error {
	for some := range slices.Chunk(items, resultRows) {
		var args []any
		for _, x := range some {
			args = append(args, row(x)...)
		}
		one := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(args)/len(some)), ", ") + ")"
		if _, err := tx.ExecContext(ctx, "REPLACE INTO "+into+" VALUES "+one+strings.Repeat(", "+one, len(some)-1), args...); err != nil {
			return err
		}
	}
	return nil
}

// AnswerOf gives what a run says, if it was kept.
func (s *Store) AnswerOf(ctx context.Context, run string) (a Answer, err error) {
	err = s.db.GetContext(ctx, &a, "SELECT * FROM answers WHERE run_id = ?", run)
	return a, found(err)
}

// Sentences gives what runs say in one sentence, where that is kept.
func (s *Store) Sentences(ctx context.Context, runs []string) (map[string]string, error) {
	out := map[string]string{}
	if len(runs) == 0 {
		return out, nil
	}
	q, args, err := sqlx.In("SELECT run_id, sentence FROM answers WHERE run_id IN (?)", runs)
	if err != nil {
		return nil, err
	}
	var rows []Answer
	err = s.db.SelectContext(ctx, &rows, q, args...)
	for _, r := range rows {
		out[r.RunID] = r.Sentence
	}
	return out, err
}

// Untold lists runs that are over and whose answer is missing, or of an older version, the newest first.
func (s *Store) Untold(ctx context.Context, version, limit int) (out []Run, err error) {
	for v := version - 1; v >= 0 && len(out) < limit && err == nil; v-- { // version by version: so the index has them in their order
		var some []Run
		err = s.db.SelectContext(ctx, &some, "SELECT * FROM runs WHERE told = ? AND ended IS NOT NULL ORDER BY ended DESC LIMIT ?", v, limit-len(out))
		out = append(out, some...)
	}
	return out, err
}

// UntoldBefore lists those of the last runs of an app and a package before one that are over and have no answer, the oldest first.
func (s *Store) UntoldBefore(ctx context.Context, app App, pkg, run string, version int) (out []Run, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT * FROM (SELECT r.* FROM runs r JOIN builds b ON b.id = r.build_id JOIN packages p ON p.id = r.package_id
		WHERE r.workspace_id = ? AND r.id < ? AND r.ended IS NOT NULL AND b.slug = ? AND b.platform = ? AND p.name = ? ORDER BY r.id DESC LIMIT ?) AS x WHERE told < ? ORDER BY id`,
		app.WorkspaceID, run, app.Slug, app.Platform, pkg, runsBefore, version)
	return out, err
}

// Bad is a failure of a case, with what is said of it.
type Bad struct {
	AttemptID string          `db:"attempt_id"`
	Ordinal   int             `db:"ordinal"`
	Name      string          `db:"name"`
	Verdict   verdict.Verdict `db:"verdict"`
	Message   string          `db:"message"`
	Trace     string          `db:"trace"`
	Shot      string          `db:"shot"`
	Tries     JSON[[]Try]     `db:"tries"` // of one that is flaky
}

const (
	badMessage = 2000 // characters of a failure's message and of its stack that are read
	badTrace   = 16_000
)

// EachBad gives the failures among the cases of attempts one by one, those that passed at last among them.
func (s *Store) EachBad(ctx context.Context, attempts []string, each func(Bad) error) error {
	return s.some(ctx, `SELECT attempt_id, ordinal, name, verdict, left(message, ?) AS message, left(trace, ?) AS trace, shot, IF(verdict = 'flaky', tries, '[]') AS tries FROM cases
		WHERE attempt_id IN (?) AND verdict IN ('crashed', 'failed', 'expired', 'flaky') ORDER BY attempt_id, ordinal`, []any{badMessage, badTrace}, attempts, func(rows *sqlx.Rows) error {
		var b Bad
		if err := rows.StructScan(&b); err != nil {
			return err
		}
		return each(b)
	})
}

// Outcome is how a case of an attempt came out.
type Outcome struct {
	AttemptID string          `db:"attempt_id"`
	Ordinal   int             `db:"ordinal"`
	Name      string          `db:"name"`
	Verdict   verdict.Verdict `db:"verdict"`
	TookMS    int64           `db:"took_ms"`
}

// EachOutcome gives how the cases of attempts came out, one by one.
func (s *Store) EachOutcome(ctx context.Context, attempts []string, each func(Outcome) error) error {
	return s.some(ctx, "SELECT attempt_id, ordinal, name, verdict, took_ms FROM cases WHERE attempt_id IN (?) AND verdict <> '' ORDER BY attempt_id, ordinal", nil, attempts, func(rows *sqlx.Rows) error {
		var o Outcome
		if err := rows.StructScan(&o); err != nil {
			return err
		}
		return each(o)
	})
}

const atOnce = 1000 // ids in one statement

// some asks for rows of some of the ids at a time, in their order.
func (s *Store) some(ctx context.Context, query string, before []any, ids []string, each func(*sqlx.Rows) error) error {
	for len(ids) > 0 {
		n := min(len(ids), atOnce)
		q, args, err := sqlx.In(query, append(append([]any{}, before...), ids[:n])...)
		if err != nil {
			return err
		}
		ids = ids[n:]
		if err := func() error {
			rows, err := s.db.QueryxContext(ctx, q, args...)
			if err != nil {
				return err
			}
			defer rows.Close()
			for rows.Next() {
				if err := each(rows); err != nil {
					return err
				}
			}
			return rows.Err()
		}(); err != nil {
			return err
		}
	}
	return nil
}

// Before is a leg as it stood in an earlier run.
type Before struct {
	WorkID     string `db:"work_id"`
	RunID      string `db:"run_id"`
	DeviceID   string `db:"device_id"`
	Variant    string `db:"variant"`
	Conditions string `db:"conditions"`
	BuildID    string `db:"build_id"`
	AttemptID  string `db:"attempt_id"`
}

const (
	runsBefore = 20 // in which a leg is looked for
	legsBefore = 3  // of a device: a run of some cases alone must not hide what the others were
)

// LastBefore finds for each device, and each way in which it was set, its newest legs that say something, in the last runs of an app and a package before one.
func (s *Store) LastBefore(ctx context.Context, app App, pkg, run string) (out []Before, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT work_id, run_id, device_id, variant, conditions, build_id, attempt_id FROM (
		SELECT w.id AS work_id, w.run_id, a.device_id, w.variant, w.conditions, r.build_id, a.id AS attempt_id, ROW_NUMBER() OVER (PARTITION BY a.device_id, w.conditions ORDER BY w.id DESC, a.number DESC) AS n
		FROM (SELECT r.id, r.build_id FROM runs r JOIN builds b ON b.id = r.build_id JOIN packages p ON p.id = r.package_id
			WHERE r.workspace_id = ? AND r.id < ? AND r.ended IS NOT NULL AND b.slug = ? AND b.platform = ? AND p.name = ? ORDER BY r.id DESC LIMIT ?) r
		JOIN work w ON w.run_id = r.id JOIN attempts a ON a.work_id = w.id
		WHERE w.verdict IN ('passed', 'failed', 'crashed', 'expired', 'flaky') AND a.verdict = w.verdict) AS x WHERE n <= ?`,
		app.WorkspaceID, run, app.Slug, app.Platform, pkg, runsBefore, legsBefore)
	return out, err
}

// Results gives the newest results of a case, the newest first.
func (s *Store) Results(ctx context.Context, subject Subject, before string, limit int) (out []Result, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM results WHERE subject = ? AND (? = '' OR run_id < ?) ORDER BY run_id DESC, work_id DESC LIMIT ?", subject[:], before, before, limit)
	return out, err
}

// CaseTallies gives how cases came out in each of the runs before one, the newest first.
func (s *Store) CaseTallies(ctx context.Context, subjects []Subject, until string, limit int) (out []CaseTally, err error) {
	if len(subjects) == 0 {
		return nil, nil
	}
	ids := make([][]byte, len(subjects))
	for i, x := range subjects {
		ids[i] = x[:]
	}
	q, args, err := sqlx.In("SELECT * FROM tallies WHERE subject IN (?) AND run_id < ? ORDER BY run_id DESC LIMIT ?", ids, until, limit)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &out, q, args...)
	return out, err
}

// FamilyRuns lists the newest runs in which one of the signatures was seen, up to one, the newest first.
func (s *Store) FamilyRuns(ctx context.Context, app App, signatures []string, until string, limit int) (out []FamilyIn, err error) {
	if len(signatures) == 0 {
		return nil, nil
	}
	q, args, err := sqlx.In("SELECT run_id, signature, family, build_id FROM families WHERE workspace_id = ? AND slug = ? AND platform = ? AND signature IN (?) AND run_id <= ? ORDER BY run_id DESC LIMIT ?", app.WorkspaceID, app.Slug, app.Platform, signatures, until, limit)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &out, q, args...)
	return out, err
}

// Mark is what a person says of a family, for the whole app.
type Mark struct {
	App
	Family     string                   `db:"family"`
	Kind       string                   `db:"kind"`
	Reference  string                   `db:"reference"`
	Note       string                   `db:"note"`
	Until      sql.NullTime             `db:"until"`
	Signatures JSON[[]string]           `db:"signatures"` // of the family when it was marked
	Likes      JSON[[]triage.Signature] `db:"likes"`      // the signatures themselves
	Title      string                   `db:"title"`
	MadeBy     string                   `db:"made_by"`
	Created    time.Time                `db:"created"`
	Ended      sql.NullTime             `db:"ended"` // when it was taken away, or another took its place
}

// PutMark keeps a mark; the one before on the family ends.
func (s *Store) PutMark(ctx context.Context, m Mark) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE marks SET ended = ? WHERE workspace_id = ? AND slug = ? AND platform = ? AND family = ? AND ended IS NULL", m.Created, m.WorkspaceID, m.Slug, m.Platform, m.Family); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "REPLACE INTO marks (workspace_id, slug, platform, family, kind, reference, note, until, signatures, likes, title, made_by, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			m.WorkspaceID, m.Slug, m.Platform, m.Family, m.Kind, m.Reference, m.Note, m.Until, asJSON(m.Signatures.V), asJSON(m.Likes.V), m.Title, m.MadeBy, m.Created)
		return err
	})
}

// EndMark takes a family's mark away.
func (s *Store) EndMark(ctx context.Context, app App, family string) error {
	_, err := s.exec(ctx, "UPDATE marks SET ended = ? WHERE workspace_id = ? AND slug = ? AND platform = ? AND family = ? AND ended IS NULL", now(), app.WorkspaceID, app.Slug, app.Platform, family)
	return err
}

// Marks lists the marks of an app, those that ended among them, the oldest first.
func (s *Store) Marks(ctx context.Context, app App) (out []Mark, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM marks WHERE workspace_id = ? AND slug = ? AND platform = ? ORDER BY created", app.WorkspaceID, app.Slug, app.Platform)
	return out, err
}

// Forget makes the answers of the newest runs in which a signature was seen be found anew.
func (s *Store) Forget(ctx context.Context, app App, signatures []string, limit int) error {
	seen, err := s.FamilyRuns(ctx, app, signatures, "~", limit)
	for _, f := range seen {
		if err == nil {
			_, err = s.exec(ctx, "UPDATE runs SET told = 0 WHERE id = ?", f.RunID)
		}
	}
	return err
}

// AppOf gives the app of a run.
func (s *Store) AppOf(ctx context.Context, run string) (app App, err error) {
	err = s.db.GetContext(ctx, &app, "SELECT r.workspace_id, b.slug, b.platform FROM runs r JOIN builds b ON b.id = r.build_id WHERE r.id = ?", run)
	return app, found(err)
}

// Tried is an app that was tested with a package.
type Tried struct {
	App
	PackageID string `db:"package_id"` // the newest of the name
	Package   string `db:"name"`
}

const (
	triedRuns = 500 // the last runs that are looked at
	triedMost = 20
)

// LastTried lists what was tested last, the newest first: of an app (its slug, or slug/platform) and a package of this name, where they are given.
func (s *Store) LastTried(ctx context.Context, workspace, app, pkg string) (out []Tried, err error) {
	slug, platform, _ := strings.Cut(app, "/")
	err = s.db.SelectContext(ctx, &out, `SELECT workspace_id, slug, platform, name, max(package_id) AS package_id FROM (
			SELECT r.id, r.workspace_id, b.slug, b.platform, p.name, r.package_id FROM runs r JOIN builds b ON b.id = r.build_id JOIN packages p ON p.id = r.package_id
			WHERE r.workspace_id = ? AND (? = '' OR b.slug = ?) AND (? = '' OR b.platform = ?) AND (? = '' OR p.name = ?) ORDER BY r.id DESC LIMIT ?) AS x
		GROUP BY workspace_id, slug, platform, name ORDER BY max(id) DESC LIMIT ?`, workspace, slug, slug, platform, platform, pkg, pkg, triedRuns, triedMost)
	return out, err
}
