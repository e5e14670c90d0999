package store

// Runs, legs, attempts, cases.

import (
	"cmp"
	"context"
	"database/sql"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
)

// Run is one build and one package, fanned out.
type Run struct {
	ID             string                   `db:"id"`
	WorkspaceID    string                   `db:"workspace_id"`
	BuildID        string                   `db:"build_id"`
	OtherBuilds    []string                 `db:"-"` // of one that is added: ids of the builds for other platforms
	PackageID      string                   `db:"package_id"`
	Request        JSON[RunRequest]         `db:"request"`
	Findings       JSON[[]planning.Finding] `db:"findings"`
	LimitSeconds   int                      `db:"limit_seconds"`
	IdempotencyKey *string                  `db:"idempotency_key"`
	Verdict        verdict.Verdict          `db:"verdict"`
	Created        time.Time                `db:"created"`
	Ended          sql.NullTime             `db:"ended"`
	Stopped        sql.NullTime             `db:"stopped"` // when a person asked for its end
	// IdempotencyHash is of the request that came with the key; nil: none, or an older version took it.
	IdempotencyHash []byte `db:"idempotency_hash"`

	Number    int                      `db:"number"` // in its workspace
	Name      string                   `db:"name"`
	Labels    JSON[map[string]string]  `db:"labels"`
	StartedBy string                   `db:"started_by"` // the name of the key; "": an earlier version started it
	Words     string                   `db:"words"`      // by which it is searched
	Forecast  JSON[*planning.Forecast] `db:"forecast"`   // nil: there was none
	Told      int                      `db:"told"`       // the version of its answer; 0: there is none
	Looked    int                      `db:"looked"`     // the version in which its attempts were read step by step; 0: they were not
}

// RunRequest is what was asked for, as it was asked.
type RunRequest struct {
	Build   string   `json:"build"` // as a reference, resolved
	Package string   `json:"package"`
	Where   []string `json:"where"`
	Devices []string `json:"devices"`

	Cases    []string          `json:"cases,omitempty"` // patterns
	Tags     []string          `json:"tags,omitempty"`
	Confirm  int               `json:"confirm,omitempty"`  // how often a failed case is tried again
	Attempts int               `json:"attempts,omitempty"` // that a leg may have when devices are lost; 0: 2
	Inputs   map[string]string `json:"inputs,omitempty"`   // not the secret ones
	Secrets  []string          `json:"secrets,omitempty"`  // the names of the secret ones

	Pool       string               `json:"pool,omitempty"`
	Take       pools.How            `json:"take,omitempty"` // how many of the devices that fit; empty: as the pool says, else all
	N          int                  `json:"n,omitempty"`
	Models     bool                 `json:"models,omitempty"`     // any unit of each model
	Conditions conditions.Set       `json:"conditions,omitempty"` // of all legs
	Variants   []conditions.Variant `json:"variants,omitempty"`
	Lines      []Line               `json:"lines,omitempty"` // of devices, with their conditions
	Spread     bool                 `json:"spread,omitempty"`
	Others     []string             `json:"other_builds,omitempty"` // for devices of other platforms, as references, resolved
	Helpers    []string             `json:"helpers,omitempty"`
	Routes     []string             `json:"routes,omitempty"` // as route.test:3000=8080
	Beside     []string             `json:"beside,omitempty"` // builds that are installed besides, as references, resolved
	Put        []work.File          `json:"put,omitempty"`
	Fetch      []string             `json:"fetch,omitempty"`
	Bounds     []string             `json:"bounds,omitempty"`  // on gauges, as they are written
	Remarks    string               `json:"remarks,omitempty"` // work.RemarksFail: they fail a case
	Again      *AgainOf             `json:"again,omitempty"`
	Recording  *recording.Set       `json:"recording,omitempty"` // nil: video and log, as all runs before there was a choice
}

// BuildFor is the reference of the build that a device of a platform gets.
func (q RunRequest) BuildFor(platform string) string {
	for _, ref := range q.Others {
		if _, rest, ok := strings.Cut(ref, "/"); ok && strings.HasPrefix(rest, platform+"@") {
			return ref
		}
	}
	return q.Build
}

// Line is one line of a list of devices: one leg.
type Line struct {
	Device      string `json:"device"`                // a serial, or a model, as a pattern
	Version     string `json:"version,omitempty"`     // of the system
	Language    string `json:"language,omitempty"`    // of the app
	Orientation string `json:"orientation,omitempty"` // of the screen

	Variant    string         `json:"variant,omitempty"`    // what the leg is called beside its device
	Conditions conditions.Set `json:"conditions,omitempty"` // more of them
	Cases      []string       `json:"cases,omitempty"`      // by their names; none: those of the run
}

// AgainOf says of which run one is a part again.
type AgainOf struct {
	Run    string `json:"run"`
	Number int    `json:"number"`
	What   string `json:"what"` // "all", "what did not pass"
}

// Kept is what is kept of the run's legs.
func (q RunRequest) Kept() recording.Set {
	if q.Recording == nil {
		return recording.Set{Video: true, Log: true}
	}
	return *q.Recording
}

// LegsAre is what the legs of a run are called: devices, or legs.
func (q RunRequest) LegsAre() string {
	var devices []string
	for _, l := range q.Lines {
		devices = append(devices, l.Device)
	}
	return report.LegsAre(len(q.Variants), devices)
}

// MaxAttempts is how many attempts a leg may have.
func (q RunRequest) MaxAttempts() int {
	if q.Attempts == 0 {
		return 2
	}
	return q.Attempts
}

// AddRun writes a run, its secrets and its legs in one transaction. ErrTaken: a run with
// this idempotency key is there.
func (s *Store) AddRun(ctx context.Context, r Run, secrets map[string]string, legs []NewWork) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		// The workspace's row hands out the numbers, so that none is given twice and none is left out.
		if _, err := tx.ExecContext(ctx, "UPDATE workspaces SET runs = runs + 1 WHERE id = ?", r.WorkspaceID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, idempotency_key, idempotency_hash, created, name, labels, started_by, words, forecast, number)
			SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, runs FROM workspaces WHERE id = ?`,
			r.ID, r.WorkspaceID, r.BuildID, r.PackageID, asJSON(r.Request.V), asJSON(r.Findings.V), r.LimitSeconds, r.IdempotencyKey, r.IdempotencyHash, r.Created, r.Name, asJSON(r.Labels.V), r.StartedBy, r.Words, asJSON(r.Forecast.V), r.WorkspaceID); err != nil {
			return taken(err)
		}
		if err := addLabels(ctx, tx, LabelledRun, r.WorkspaceID, r.ID, r.Labels.V); err != nil {
			return err
		}
		for name, value := range secrets {
			if _, err := tx.ExecContext(ctx, "INSERT INTO run_secrets (run_id, name, value) VALUES (?, ?, ?)", r.ID, name, value); err != nil {
				return err
			}
		}
		for _, build := range r.OtherBuilds {
			if _, err := tx.ExecContext(ctx, "INSERT INTO run_builds (run_id, build_id) VALUES (?, ?)", r.ID, build); err != nil {
				return err
			}
		}
		return addWork(ctx, tx, legs...)
	})
}

// RunByID finds a run.
func (s *Store) RunByID(ctx context.Context, workspace, id string) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, "SELECT * FROM runs WHERE workspace_id = ? AND id = ?", workspace, id)
	return r, found(err)
}

// RunByNumber finds a run by its number in the workspace.
func (s *Store) RunByNumber(ctx context.Context, workspace string, number int) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, "SELECT * FROM runs WHERE workspace_id = ? AND number = ?", workspace, number)
	return r, found(err)
}

// NameRun gives a run another name.
func (s *Store) NameRun(ctx context.Context, workspace, id, name, words string) error {
	_, err := s.exec(ctx, "UPDATE runs SET name = ?, words = ? WHERE id = ? AND workspace_id = ?", name, words, id, workspace)
	return err
}

// StopRun asks for the end of a run's legs, or of one of them: those that wait are done, the others
// are to be ended by their hosts. It answers how many are being ended.
func (s *Store) StopRun(ctx context.Context, run, leg, message string) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		n = 0
		if leg == "" {
			if _, err := tx.ExecContext(ctx, "UPDATE runs SET stopped = now(3) WHERE id = ? AND ended IS NULL AND stopped IS NULL", run); err != nil {
				return err
			}
		}
		res, err := tx.ExecContext(ctx, "UPDATE work SET stage = 'done', verdict = ?, message = ?, ended = now(3), stop = 1 WHERE run_id = ? AND (? = '' OR id = ?) AND stage = 'waiting'", verdict.Stopped, message, run, leg, leg)
		if err != nil {
			return err
		}
		waited, _ := res.RowsAffected()
		if res, err = tx.ExecContext(ctx, "UPDATE work SET stop = 1 WHERE run_id = ? AND (? = '' OR id = ?) AND stage <> 'done'", run, leg, leg); err != nil {
			return err
		}
		going, _ := res.RowsAffected()
		n = waited + going
		return closeRun(ctx, tx, run)
	})
	return n, err
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
	StartedBy          string
	Labels             map[string]string
	Words              []string // in small letters; all must occur
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, workspace string, c RunChoice, after string, limit int) (out []Run, err error) {
	q, args := "SELECT * FROM runs WHERE workspace_id = ?", []any{workspace}
	for _, x := range []struct{ column, value string }{{"package_id", c.PackageID}, {"verdict", string(c.Verdict)}, {"started_by", c.StartedBy}} {
		if x.value != "" {
			q, args = q+" AND "+x.column+" = ?", append(args, x.value)
		}
	}
	if c.BuildID != "" {
		var beside bool
		if err := s.db.GetContext(ctx, &beside, "SELECT EXISTS (SELECT 1 FROM run_builds WHERE build_id = ?)", c.BuildID); err != nil {
			return nil, err
		}
		if beside {
			q, args = q+" AND id IN (SELECT id FROM runs WHERE build_id = ? UNION SELECT run_id FROM run_builds WHERE build_id = ?)", append(args, c.BuildID, c.BuildID)
		} else {
			q, args = q+" AND build_id = ?", append(args, c.BuildID)
		}
	}
	more, with := having(LabelledRun, workspace, "id", c.Labels)
	q, args = q+more, append(args, with...)
	for _, w := range c.Words {
		q, args = q+" AND words LIKE ?", append(args, "%"+likeEscape.Replace(w)+"%")
	}
	if after != "" {
		q, args = q+" AND id < ?", append(args, after)
	}
	err = s.db.SelectContext(ctx, &out, q+" ORDER BY id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

var likeEscape = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

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
	q, args, err := sqlx.In("SELECT run_id, stage, IF(stage = 'done', verdict, '') AS verdict, count(*) AS legs FROM work WHERE run_id IN (?) GROUP BY 1, 2, 3", runs)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &out, q, args...)
	return out, err
}

// LegRow is a leg as a list shows it: with its device and how its last attempt stands.
type LegRow struct {
	Work
	Serial    string              `db:"serial"`
	Facts     JSON[devices.Facts] `db:"facts"`
	AttemptID sql.NullString      `db:"attempt_id"`
	Attempts  int                 `db:"attempts"`
	NowCase   sql.NullString      `db:"now_case"`
	Started   sql.NullTime        `db:"started"`
	RanOn     sql.NullString      `db:"ran_on"`    // serial of the device of the last attempt
	OnDevice  string              `db:"on_device"` // its id, or that of the device it is for
	SpecHash  []byte              `db:"spec"`      // nil: it was written before there were specs
}

// Label is how a leg is called: the device that it ran on, and how that was set where there are variants.
func (l LegRow) Label() string {
	return strings.TrimSuffix(cmp.Or(l.RanOn.String, l.Serial)+"/"+l.Variant, "/")
}

const legRows = "SELECT " + workColumns + `, w.spec, d.serial, ` + deviceFacts + `, a.id AS attempt_id, coalesce(a.number, 0) AS attempts, a.now_case, a.started, ad.serial AS ran_on, coalesce(a.device_id, w.device_id) AS on_device FROM work w JOIN devices d ON d.id = w.device_id
	LEFT JOIN attempts a ON a.work_id = w.id AND a.number = (SELECT max(number) FROM attempts WHERE work_id = w.id) LEFT JOIN devices ad ON ad.id = a.device_id`

// Legs lists the legs of a run with their devices, by serial.
func (s *Store) Legs(ctx context.Context, run string) (out []LegRow, err error) {
	err = s.db.SelectContext(ctx, &out, legRows+" WHERE w.run_id = ? ORDER BY d.serial, w.id", run)
	return out, err
}

// DeviceLegs lists a workspace's legs on a device, the newest first.
func (s *Store) DeviceLegs(ctx context.Context, workspace, device, after string, limit int) (out []LegRow, err error) {
	err = s.db.SelectContext(ctx, &out, legRows+" WHERE w.device_id = ? AND w.workspace_id = ? AND w.kind = 'leg' AND (? = '' OR w.id < ?) ORDER BY w.id DESC LIMIT ?", device, workspace, after, after, limit)
	return out, err
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

// CaseNames gives the names of the cases of attempts, in their order.
func (s *Store) CaseNames(ctx context.Context, attempts []string) (map[string][]string, error) {
	out := map[string][]string{}
	if len(attempts) == 0 {
		return out, nil
	}
	q, args, err := sqlx.In("SELECT attempt_id, name FROM cases WHERE attempt_id IN (?) ORDER BY attempt_id, ordinal", attempts)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Attempt string `db:"attempt_id"`
		Name    string `db:"name"`
	}
	err = s.db.SelectContext(ctx, &rows, q, args...)
	for _, r := range rows {
		out[r.Attempt] = append(out[r.Attempt], r.Name)
	}
	return out, err
}

// Attempt is one try of a piece of work.
type Attempt struct {
	ID           string              `db:"id"`
	WorkID       string              `db:"work_id"`
	Number       int                 `db:"number"`
	DeviceID     string              `db:"device_id"`
	Stage        string              `db:"stage"`
	Verdict      verdict.Verdict     `db:"verdict"`
	Message      string              `db:"message"`
	NowCase      string              `db:"now_case"`
	LastReport   int64               `db:"last_report"`
	ClockDoubtMS sql.NullInt64       `db:"clock_doubt_ms"`
	Started      time.Time           `db:"started"`
	Ended        sql.NullTime        `db:"ended"`
	Cleared      sql.NullTime        `db:"cleared"`      // when evidence was removed, for its age or size
	HandedBytes  int64               `db:"handed_bytes"` // by its host, also twice
	HandedPieces int                 `db:"handed_pieces"`
	Loan         JSON[*devices.Loan] `db:"loan"`
	Serial       string              `db:"serial"` // of its device
	HostName     string              `db:"host_name"`
}

// Attempts lists the attempts of a piece of work, the first first.
func (s *Store) Attempts(ctx context.Context, id string) (out []Attempt, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT a.*, d.serial, coalesce((SELECT t.name FROM holds h JOIN hosts t ON t.id = h.host_id WHERE h.attempt_id = a.id ORDER BY h.id LIMIT 1), '') AS host_name
		FROM attempts a JOIN devices d ON d.id = a.device_id WHERE work_id = ? ORDER BY number`, id)
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
	Tries     JSON[[]Try]     `db:"tries"`  // where there was more than one
	Source    string          `db:"source"` // of a session's: marked or report
}

// Try is how one try of a case came out.
type Try struct {
	Verdict  verdict.Verdict `json:"verdict"`
	Message  string          `json:"message,omitempty"`
	Line     string          `json:"line,omitempty"`
	Expected string          `json:"expected,omitempty"`
	Actual   string          `json:"actual,omitempty"`
	Trace    string          `json:"trace,omitempty"`
	Shot     string          `json:"shot,omitempty"`
	Tree     string          `json:"tree,omitempty"`
	StartMS  int64           `json:"start_ms"`
	TookMS   int64           `json:"took_ms"`
}

// Cases lists the cases of an attempt, in the order they ran.
func (s *Store) Cases(ctx context.Context, attempt string) (out []Case, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT * FROM cases WHERE attempt_id = ? ORDER BY ordinal", attempt)
	return out, err
}

// LentTime is for how long a lab lent devices to a run.
type LentTime struct {
	Lab      string  `db:"lab"`
	Seconds  float64 `db:"seconds"`
	Attempts int     `db:"attempts"`
}

// LentTo says for how long labs lent devices to a run, the legs that go on left out.
func (s *Store) LentTo(ctx context.Context, run string) (out []LentTime, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT JSON_VALUE(a.loan, '$.lab') AS lab, coalesce(sum(JSON_VALUE(a.loan, '$.seconds')), 0) AS seconds, count(*) AS attempts
		FROM work w JOIN attempts a ON a.work_id = w.id WHERE w.run_id = ? AND a.loan IS NOT NULL GROUP BY 1 ORDER BY 1`, run)
	return out, err
}
