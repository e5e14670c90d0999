package store

// Runs, legs, attempts, cases.

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/verdict"
)

// Run is one build and one package, fanned out.
type Run struct {
	ID             string                   `db:"id"`
	WorkspaceID    string                   `db:"workspace_id"`
	BuildID        string                   `db:"build_id"`
	PackageID      string                   `db:"package_id"`
	Request        JSON[RunRequest]         `db:"request"`
	Findings       JSON[[]planning.Finding] `db:"findings"`
	LimitSeconds   int                      `db:"limit_seconds"`
	IdempotencyKey *string                  `db:"idempotency_key"`
	Verdict        verdict.Verdict          `db:"verdict"`
	Created        time.Time                `db:"created"`
	Ended          sql.NullTime             `db:"ended"`
}

// RunRequest is what was asked for, as it was asked.
type RunRequest struct {
	Build   string   `json:"build"` // as a reference, resolved
	Package string   `json:"package"`
	Where   []string `json:"where"`
	Devices []string `json:"devices"`
}

// Leg is the part of a run on one device.
type Leg struct {
	ID          string          `db:"id"`
	RunID       string          `db:"run_id"`
	WorkspaceID string          `db:"workspace_id"`
	DeviceID    string          `db:"device_id"`
	Stage       string          `db:"stage"`
	Verdict     verdict.Verdict `db:"verdict"`
	Message     string          `db:"message"`
	CasesTotal  int             `db:"cases_total"`
	Created     time.Time       `db:"created"`
	Ended       sql.NullTime    `db:"ended"`
}

// AddRun writes a run and its legs in one transaction. ErrTaken: a run with
// this idempotency key is there.
func (s *Store) AddRun(ctx context.Context, r Run, legs []Leg) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, idempotency_key, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.ID, r.WorkspaceID, r.BuildID, r.PackageID, asJSON(r.Request.V), asJSON(r.Findings.V), r.LimitSeconds, r.IdempotencyKey, r.Created); err != nil {
			return taken(err)
		}
		for _, l := range legs {
			if _, err := tx.ExecContext(ctx, `INSERT INTO legs (id, run_id, workspace_id, device_id, stage, message, cases_total, created) VALUES (?, ?, ?, ?, 'waiting', '', ?, ?)`,
				l.ID, r.ID, r.WorkspaceID, l.DeviceID, l.CasesTotal, r.Created); err != nil {
				return err
			}
		}
		return nil
	})
}

// RunByID finds a run.
func (s *Store) RunByID(ctx context.Context, workspace, id string) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, "SELECT * FROM runs WHERE workspace_id = ? AND id = ?", workspace, id)
	return r, found(err)
}

// RunByIdempotencyKey finds the run that a request with this key started.
func (s *Store) RunByIdempotencyKey(ctx context.Context, workspace, key string) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, "SELECT * FROM runs WHERE workspace_id = ? AND idempotency_key = ?", workspace, key)
	return r, found(err)
}

// RunChoice says which runs are wanted; empty fields: any.
type RunChoice struct {
	BuildID, PackageID string
	Verdict            verdict.Verdict
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, workspace string, c RunChoice, after string, limit int) (out []Run, err error) {
	q, args := "SELECT * FROM runs WHERE workspace_id = ?", []any{workspace}
	for _, x := range []struct{ column, value string }{{"build_id", c.BuildID}, {"package_id", c.PackageID}, {"verdict", string(c.Verdict)}} {
		if x.value != "" {
			q, args = q+" AND "+x.column+" = ?", append(args, x.value)
		}
	}
	if after != "" {
		q, args = q+" AND id < ?", append(args, after)
	}
	err = s.db.SelectContext(ctx, &out, q+" ORDER BY id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// RunsGoing lists the runs of all workspaces that are not over.
func (s *Store) RunsGoing(ctx context.Context) (out []Run, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM runs WHERE ended IS NULL")
	return out, err
}

// Tally is how many legs of a run stand in a stage, with a verdict.
type Tally struct {
	RunID   string          `db:"run_id"`
	Stage   string          `db:"stage"`
	Verdict verdict.Verdict `db:"verdict"`
	Legs    int             `db:"legs"`
}

// Tallies counts the legs of runs.
func (s *Store) Tallies(ctx context.Context, runs []string) (out []Tally, err error) {
	if len(runs) == 0 {
		return nil, nil
	}
	q, args, err := sqlx.In("SELECT run_id, stage, IF(stage = 'done', verdict, '') AS verdict, count(*) AS legs FROM legs WHERE run_id IN (?) GROUP BY 1, 2, 3", runs)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &out, q, args...)
	return out, err
}

// LegRow is a leg as a list shows it: with its device and how its last attempt stands.
type LegRow struct {
	Leg
	Serial    string              `db:"serial"`
	Facts     JSON[devices.Facts] `db:"facts"`
	AttemptID sql.NullString      `db:"attempt_id"`
	Attempts  int                 `db:"attempts"`
	NowCase   sql.NullString      `db:"now_case"`
	Started   sql.NullTime        `db:"started"`
}

const legRows = `SELECT l.*, d.serial, d.facts, a.id AS attempt_id, coalesce(a.number, 0) AS attempts, a.now_case, a.started FROM legs l JOIN devices d ON d.id = l.device_id
	LEFT JOIN attempts a ON a.leg_id = l.id AND a.number = (SELECT max(number) FROM attempts WHERE leg_id = l.id)`

// Legs lists the legs of a run with their devices, by serial.
func (s *Store) Legs(ctx context.Context, run string) (out []LegRow, err error) {
	err = s.db.SelectContext(ctx, &out, legRows+" WHERE l.run_id = ? ORDER BY d.serial", run)
	return out, err
}

// DeviceLegs lists a workspace's legs on a device, the newest first.
func (s *Store) DeviceLegs(ctx context.Context, workspace, device, after string, limit int) (out []LegRow, err error) {
	err = s.db.SelectContext(ctx, &out, legRows+" WHERE l.device_id = ? AND l.workspace_id = ? AND (? = '' OR l.id < ?) ORDER BY l.id DESC LIMIT ?", device, workspace, after, after, limit)
	return out, err
}

// LegByID finds a leg.
func (s *Store) LegByID(ctx context.Context, workspace, id string) (l Leg, err error) {
	err = s.db.GetContext(ctx, &l, "SELECT * FROM legs WHERE workspace_id = ? AND id = ?", workspace, id)
	return l, found(err)
}

// CaseVerdict is how one case of an attempt stands; without a verdict it runs.
type CaseVerdict struct {
	Ordinal int
	Verdict verdict.Verdict
}

// CaseVerdicts gives the verdicts of the cases of attempts.
func (s *Store) CaseVerdicts(ctx context.Context, attempts []string) (map[string][]CaseVerdict, error) {
	out := map[string][]CaseVerdict{}
	if len(attempts) == 0 {
		return out, nil
	}
	q, args, err := sqlx.In("SELECT attempt_id, ordinal, verdict FROM cases WHERE attempt_id IN (?) ORDER BY attempt_id, ordinal", attempts)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		var c CaseVerdict
		if err := rows.Scan(&id, &c.Ordinal, &c.Verdict); err != nil {
			return nil, err
		}
		out[id] = append(out[id], c)
	}
	return out, rows.Err()
}

// Attempt is one try of a leg.
type Attempt struct {
	ID           string          `db:"id"`
	LegID        string          `db:"leg_id"`
	Number       int             `db:"number"`
	DeviceID     string          `db:"device_id"`
	Stage        string          `db:"stage"`
	Verdict      verdict.Verdict `db:"verdict"`
	Message      string          `db:"message"`
	NowCase      string          `db:"now_case"`
	LastReport   int64           `db:"last_report"`
	ClockDoubtMS sql.NullInt64   `db:"clock_doubt_ms"`
	Started      time.Time       `db:"started"`
	Ended        sql.NullTime    `db:"ended"`
}

// Attempts lists the attempts of a leg, the first first.
func (s *Store) Attempts(ctx context.Context, leg string) (out []Attempt, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM attempts WHERE leg_id = ? ORDER BY number", leg)
	return out, err
}

// Case is the result of one case in an attempt.
type Case struct {
	AttemptID string          `db:"attempt_id"`
	Ordinal   int             `db:"ordinal"`
	Name      string          `db:"name"`
	Verdict   verdict.Verdict `db:"verdict"`
	Message   string          `db:"message"`
	Line      string          `db:"line"`
	Expected  string          `db:"expected"`
	Actual    string          `db:"actual"`
	Trace     string          `db:"trace"`
	Shot      string          `db:"shot"`
	Tree      string          `db:"tree"`
	StartMS   int64           `db:"start_ms"`
	TookMS    int64           `db:"took_ms"`
}

// Cases lists the cases of an attempt, in the order they ran.
func (s *Store) Cases(ctx context.Context, attempt string) (out []Case, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM cases WHERE attempt_id = ? ORDER BY ordinal", attempt)
	return out, err
}
