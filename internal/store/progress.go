package store

// What hosts report of an attempt that goes on.

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/work"
)

// Progress is a numbered report of a host on an attempt. Case and Stage are set
// where they changed.
type Progress struct {
	Seq   int64
	Stage string
	Case  *Case
	Cases *int // so many cases there are: those behind are no more
	Loan  *devices.Loan
}

// Note takes a host's reports in, each once: one with a number that was seen before,
// or of a hold that is over, changes nothing. It answers the hold, an empty one when that is over.
func (s *Store) Note(ctx context.Context, hold string, ps []Progress) (h Hold, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		h = Hold{}
		if err := tx.GetContext(ctx, &h, "SELECT * FROM holds WHERE id = ? AND active = 1 FOR UPDATE", hold); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			return err
		}
		var last int64
		if err := tx.GetContext(ctx, &last, "SELECT last_report FROM attempts WHERE id = ?", h.AttemptID); err != nil {
			return err
		}
		var cases []Case // that are not written yet
		write := func() error {
			defer func() { cases = nil }()
			return putCases(ctx, tx, h.AttemptID, cases)
		}
		for _, p := range ps {
			if p.Seq <= last {
				continue
			}
			last = p.Seq
			if p.Case != nil {
				cases = append(cases, *p.Case)
			}
			if p.Stage == "" && p.Cases == nil && p.Loan == nil {
				continue
			}
			if err := write(); err != nil { // in the order in which they were told
				return err
			}
			if err := note(ctx, tx, h, p); err != nil {
				return err
			}
		}
		if err := write(); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE attempts SET last_report = ? WHERE id = ?", last, h.AttemptID)
		return err
	})
	return h, err
}

func note(ctx context.Context, tx *sqlx.Tx, h Hold, p Progress) error {
	if p.Stage != "" {
		if _, err := tx.ExecContext(ctx, "UPDATE attempts SET stage = ? WHERE id = ?", p.Stage, h.AttemptID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE work SET stage = ? WHERE id = ?", p.Stage, h.WorkID); err != nil {
			return err
		}
		if h.Kind == work.Session && p.Stage == "running" {
			if err := handed(ctx, tx, h.WorkID); err != nil {
				return err
			}
		}
	}
	if p.Loan != nil {
		if _, err := tx.ExecContext(ctx, "UPDATE attempts SET loan = ? WHERE id = ?", asJSON(p.Loan), h.AttemptID); err != nil {
			return err
		}
	}
	if p.Cases != nil {
		_, err := tx.ExecContext(ctx, "DELETE FROM cases WHERE attempt_id = ? AND ordinal >= ?", h.AttemptID, *p.Cases)
		return err
	}
	return nil
}

const (
	caseRows  = 200     // in one statement
	caseBytes = 4 << 20 // of their texts: a packet has 16 MB
)

// putCases writes cases in few statements, and notes which one is at work.
func putCases(ctx context.Context, tx *sqlx.Tx, attempt string, cases []Case) error {
	if len(cases) == 0 {
		return nil
	}
	const row = "(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"
	for left := cases; len(left) > 0; {
		n, size := 0, 0
		var args []any
		for n < len(left) && n < caseRows && size < caseBytes {
			c := left[n]
			tries := asJSON(append([]Try{}, c.Tries.V...))
			size += len(c.Name) + len(c.Message) + len(c.Expected) + len(c.Actual) + len(c.Trace) + len(tries)
			args = append(args, attempt, c.Ordinal, c.Name, c.Verdict, c.Message, c.Line, c.Expected, c.Actual, c.Trace, c.Shot, c.Tree, c.StartMS, c.TookMS, tries)
			n++
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO cases (attempt_id, ordinal, name, verdict, message, line, expected, actual, trace, shot, tree, start_ms, took_ms, tries) VALUES "+row+strings.Repeat(", "+row, n-1)+`
			ON DUPLICATE KEY UPDATE name = VALUES(name), verdict = VALUES(verdict), message = VALUES(message), line = VALUES(line), expected = VALUES(expected), actual = VALUES(actual), trace = VALUES(trace), shot = VALUES(shot), tree = VALUES(tree), start_ms = VALUES(start_ms), took_ms = VALUES(took_ms), tries = VALUES(tries)`, args...); err != nil {
			return err
		}
		left = left[n:]
	}
	now := cases[len(cases)-1].Name
	if cases[len(cases)-1].Verdict != "" {
		now = ""
	}
	_, err := tx.ExecContext(ctx, "UPDATE attempts SET now_case = ? WHERE id = ?", now, attempt)
	return err
}
