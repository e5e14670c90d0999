package store

// Sessions: what is opened from outside. The work of each has the same id.

import (
	"context"
	"database/sql"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
)

// Session is one W3C WebDriver session, or a device that a person holds.
type Session struct {
	ID            string               `db:"id"`
	WorkspaceID   string               `db:"workspace_id"`
	Token         []byte               `db:"token"`
	BuildID       sql.NullString       `db:"build_id"`
	Group         string               `db:"group"`
	Name          string               `db:"name"`
	Request       JSON[SessionRequest] `db:"request"`
	How           string               `db:"how"` // it ended: client, idle, limit, lost, stopped, crashed, never
	Seen          verdict.Verdict      `db:"seen"`
	SeenMessage   string               `db:"seen_message"`
	Marked        verdict.Verdict      `db:"marked"`
	MarkedMessage string               `db:"marked_message"`
	Inferred      bool                 `db:"inferred"`
	Created       time.Time            `db:"created"`
	Awaited       sql.NullTime         `db:"awaited"` // until when somebody waits for it to be opened, unless that is said again
	ByHand        bool                 `db:"by_hand"` // a person holds the device
	HeldUntil     sql.NullTime         `db:"held_until"`
}

// SessionRequest is what was asked for.
type SessionRequest struct {
	Build     string        `json:"build,omitempty"` // as a reference, resolved
	Where     []string      `json:"where,omitempty"`
	Patience  float64       `json:"patience"` // seconds, as all below
	Limit     float64       `json:"limit"`
	Idle      float64       `json:"idle"`
	Recording recording.Set `json:"recording"`
	// Conditions are how the device is set. Before, there were two of them, each by itself.
	Conditions conditions.Set `json:"conditions,omitempty"`
	Helpers    []string       `json:"helpers,omitempty"`
	Landscape  *bool          `json:"landscape,omitempty"`
	Dark       *bool          `json:"dark,omitempty"`
	Standard   map[string]any `json:"standard"` // capabilities
}

// Set is how the device is to be set, also of a request of before.
func (q SessionRequest) Set() conditions.Set {
	out := maps.Clone(q.Conditions)
	if out == nil {
		out = conditions.Set{}
	}
	if q.Dark != nil {
		out[conditions.Dark] = map[bool]string{true: conditions.On, false: conditions.Off}[*q.Dark]
	}
	if q.Landscape != nil {
		out[conditions.Orientation] = map[bool]string{true: "landscape", false: "portrait"}[*q.Landscape]
	}
	return out
}

// SessionRow is a session with how its work stands.
type SessionRow struct {
	Session
	Stage     string              `db:"stage"`
	Verdict   verdict.Verdict     `db:"verdict"`
	Message   string              `db:"message"`
	Ended     sql.NullTime        `db:"ended"`
	Stop      bool                `db:"stop"`
	Serial    sql.NullString      `db:"serial"`
	Facts     JSON[devices.Facts] `db:"facts"`
	AttemptID sql.NullString      `db:"attempt_id"`
	NowCase   sql.NullString      `db:"now_case"`
	Started   sql.NullTime        `db:"started"`
	AskedBy   string              `db:"asked_by"` // the key's id
	AskedName sql.NullString      `db:"asked_name"`
}

const sessionRows = `SELECT s.*, w.asked_by, (SELECT k.name FROM access_keys k WHERE k.id = w.asked_by) AS asked_name, w.stage, w.verdict, w.message, w.ended, w.stop, d.serial, coalesce(d.facts, '{}') AS facts, a.id AS attempt_id, a.now_case, a.started
	FROM sessions s JOIN work w ON w.id = s.id LEFT JOIN devices d ON d.id = w.device_id LEFT JOIN attempts a ON a.work_id = w.id`

// AddSession writes a session, and its work, which waits for a device, for so long unless AwaitSession says that somebody waits still.
func (s *Store) AddSession(ctx context.Context, x Session, spec work.Spec, wants work.Wants, askedBy string, period time.Duration) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if err := addWork(ctx, tx, NewWork{Work{ID: x.ID, Kind: work.Session, WorkspaceID: x.WorkspaceID, Created: x.Created, Wants: JSON[work.Wants]{V: wants}, AskedBy: askedBy}, spec}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO sessions (id, workspace_id, token, build_id, `group`, name, request, created, by_hand, awaited) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, now(3) + INTERVAL ? MICROSECOND)",
			x.ID, x.WorkspaceID, x.Token, x.BuildID, x.Group, x.Name, asJSON(x.Request.V), x.Created, x.ByHand, period.Microseconds())
		return err
	})
}

// AwaitSession says that somebody waits for a session, for so long again.
func (s *Store) AwaitSession(ctx context.Context, id string, period time.Duration) error {
	_, err := s.exec(ctx, "UPDATE sessions SET awaited = now(3) + INTERVAL ? MICROSECOND WHERE id = ?", period.Microseconds(), id)
	return err
}

// Unawaited lists the sessions that wait for a device while nobody waits for them any more; of those that an older version of the program wrote, the ones
// that are older than the longest patience.
func (s *Store) Unawaited(ctx context.Context, longest time.Duration) (out []SessionRow, err error) {
	err = s.db.SelectContext(ctx, &out, sessionRows+" WHERE w.stage = 'waiting' AND coalesce(s.awaited, s.created + INTERVAL ? MICROSECOND) < now(3)", longest.Microseconds())
	return out, err
}

// OfEndedKeys lists the sessions that are to go on, while the key that opened them has ended.
func (s *Store) OfEndedKeys(ctx context.Context) (out []SessionRow, err error) {
	err = s.db.SelectContext(ctx, &out, sessionRows+" JOIN access_keys k ON k.id = w.asked_by WHERE w.kind = 'session' AND w.stage <> 'done' AND w.stop = 0 AND (k.withdrawn IS NOT NULL OR k.expires <= now(3))")
	return out, err
}

// SessionByID finds a session.
func (s *Store) SessionByID(ctx context.Context, workspace, id string) (r SessionRow, err error) {
	err = s.db.GetContext(ctx, &r, sessionRows+" WHERE s.workspace_id = ? AND s.id = ?", workspace, id)
	return r, found(err)
}

// SessionByToken finds a session by the hash of the id that goes over the wire, in whatever workspace it is.
func (s *Store) SessionByToken(ctx context.Context, token []byte) (r SessionRow, err error) {
	err = s.db.GetContext(ctx, &r, sessionRows+" WHERE s.token = ?", token)
	return r, found(err)
}

// SessionFilter chooses sessions; what is empty chooses all.
type SessionFilter struct {
	ByHand bool // those of persons, and no others
	Group  string
	Serial string // of the device
	Going  bool   // those that are not over
}

// Sessions lists the sessions that a filter chooses, the newest first.
func (s *Store) Sessions(ctx context.Context, workspace string, f SessionFilter, after string, limit int) (out []SessionRow, err error) {
	q, args := sessionRows+" WHERE s.workspace_id = ? AND s.by_hand = ?", []any{workspace, f.ByHand}
	if f.Group != "" {
		q, args = q+" AND s.`group` = ?", append(args, f.Group)
	}
	if f.Serial != "" {
		q, args = q+" AND d.serial = ?", append(args, f.Serial)
	}
	if f.Going {
		q += " AND w.stage <> 'done'"
	}
	if after != "" {
		q, args = q+" AND s.id < ?", append(args, after)
	}
	err = s.db.SelectContext(ctx, &out, q+" ORDER BY s.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// SessionsGoing lists the sessions of all workspaces that are not over.
func (s *Store) SessionsGoing(ctx context.Context) (out []SessionRow, err error) {
	err = s.db.SelectContext(ctx, &out, sessionRows+" WHERE w.stage <> 'done' ORDER BY s.id")
	return out, err
}

// CountSessions says how many sessions have a device, and how many wait for one; of all workspaces where none is given.
func (s *Store) CountSessions(ctx context.Context, workspace string) (open, waiting int, err error) {
	var row struct{ Open, Waiting int }
	err = s.db.GetContext(ctx, &row, "SELECT coalesce(sum(w.stage <> 'waiting'), 0) AS open, coalesce(sum(w.stage = 'waiting'), 0) AS waiting FROM work w JOIN sessions s ON s.id = w.id WHERE w.kind = 'session' AND w.stage <> 'done' AND s.by_hand = 0 AND (? = '' OR w.workspace_id = ?)", workspace, workspace)
	return row.Open, row.Waiting, err
}

// CountSessionStates counts the sessions that are not over by whether they have a device.
func (s *Store) CountSessionStates(ctx context.Context) (map[string]int, error) {
	open, waiting, err := s.CountSessions(ctx, "")
	return map[string]int{"open": open, "waiting": waiting}, err
}

// closeSession notes how a session ended, and judges it.
func closeSession(ctx context.Context, tx *sqlx.Tx, id string, c Closing) error {
	if c.How == "" { // its host did not come to say it
		c.How = "lost"
	}
	if _, err := tx.ExecContext(ctx, "UPDATE sessions SET how = ?, seen = ?, seen_message = ?, marked = IF(? = '', marked, ?), marked_message = IF(? = '', marked_message, ?) WHERE id = ?",
		c.How, c.Verdict, c.Message, c.Marked, c.Marked, c.Marked, c.MarkedMessage, id); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM hold_clients WHERE session_id = ?", id); err != nil {
		return err
	}
	return judgeSession(ctx, tx, id)
}

// judgeSession gives a session that is over its verdict, from what was seen, marked and reported.
func judgeSession(ctx context.Context, tx *sqlx.Tx, id string) error {
	var x Session
	if err := tx.GetContext(ctx, &x, "SELECT * FROM sessions WHERE id = ? FOR UPDATE", id); err != nil {
		return found(err)
	}
	if x.Seen == "" {
		return nil // it goes on
	}
	var cases []Case
	if err := tx.SelectContext(ctx, &cases, "SELECT c.* FROM cases c JOIN attempts a ON a.id = c.attempt_id WHERE a.work_id = ? ORDER BY ordinal", id); err != nil {
		return err
	}
	var vs []verdict.Verdict
	for _, c := range cases {
		vs = append(vs, c.Verdict)
	}
	v, inferred := verdict.Session(x.Seen, x.Marked, vs...)
	message := x.SeenMessage
	switch {
	case x.Marked != "" && v == x.Marked:
		message = x.MarkedMessage
	case v != x.Seen || (!inferred && v == verdict.Failed):
		message = ""
		for _, c := range cases {
			if c.Verdict == v && v != verdict.Passed {
				message = c.Name + ": " + c.Message
				break
			}
		}
	}
	for _, c := range cases {
		if inferred && message == "" && c.Verdict == "" {
			message = c.Name + ": it was begun, and nobody said how it came out"
		}
	}
	if _, err := tx.ExecContext(ctx, "UPDATE sessions SET inferred = ? WHERE id = ?", inferred, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE work SET verdict = ?, message = ? WHERE id = ?", v, message, id)
	return err
}

// MarkSession gives a session as a whole a verdict; one that is over is judged anew.
func (s *Store) MarkSession(ctx context.Context, id string, v verdict.Verdict, message string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE sessions SET marked = ?, marked_message = ? WHERE id = ?", v, message, id); err != nil {
			return err
		}
		return judgeSession(ctx, tx, id)
	})
}

// NewCase is the ordinal of a case that gets the next one.
const NewCase = -1

// PutCases adds cases to a session's attempt, or puts them in place of those of their ordinals; where they come from a report, also of all
// that an earlier report brought. The session is judged anew.
func (s *Store) PutCases(ctx context.Context, session, attempt, source string, cases []Case) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		if source == "report" {
			if _, err := tx.ExecContext(ctx, "DELETE FROM cases WHERE attempt_id = ? AND source = 'report'", attempt); err != nil {
				return err
			}
		}
		var have []Case
		if err := tx.SelectContext(ctx, &have, "SELECT * FROM cases WHERE attempt_id = ? ORDER BY ordinal", attempt); err != nil {
			return err
		}
		next := 0
		at := map[int]Case{}
		for _, c := range have {
			next = max(next, c.Ordinal+1)
			at[c.Ordinal] = c
		}
		for _, c := range cases {
			from := source
			if old, ok := at[c.Ordinal]; ok {
				if old.Source != "report" {
					from = old.Source // it stays when another report comes
				}
				if c.StartMS == 0 && c.TookMS == 0 {
					c.StartMS, c.TookMS = old.StartMS, old.TookMS
				}
				c.Shot, c.Tree = old.Shot, old.Tree
			} else {
				c.Ordinal = next
				next++
			}
			if err := putCases(ctx, tx, attempt, []Case{c}); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE cases SET source = ? WHERE attempt_id = ? AND ordinal = ?", from, attempt, c.Ordinal); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "UPDATE attempts SET now_case = IF(stage = 'done', '', now_case) WHERE id = ?", attempt); err != nil {
			return err
		}
		return judgeSession(ctx, tx, session)
	})
}
