package cli

// The device log of a leg: all of it, or, while the leg runs, what has come so far, and what comes.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/api"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/verdict"
)

// logChoice says which lines are shown.
type logChoice struct {
	level, tag string
	follow     bool
}

// followEvery is between two looks at what grows.
const followEvery = time.Second

func (a *App) legLog(ctx context.Context, id string, q logChoice) error {
	if strings.Index(devicelog.Levels, strings.ToUpper(q.level)) < 0 || len(q.level) != 1 {
		return fmt.Errorf("--level is %q; it can be one of V D I W E F", q.level)
	}
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	if len(l.Attempts) == 0 && !q.follow {
		return &Exit{verdict.ExitUnreachable, errors.New("there is no log yet: the leg still waits for its device")}
	}
	attempt, from := len(l.Attempts), 0
	for {
		for ; attempt > 0 && attempt <= len(l.Attempts); attempt, from = attempt+1, 0 {
			if from, err = a.logFrom(ctx, client, l.Id, attempt, from, q); err != nil {
				return err
			}
			if attempt == len(l.Attempts) {
				break
			}
		}
		if !q.follow || l.Stage == "done" {
			return nil
		}
		if err := pause(ctx, followEvery); err != nil {
			return nil // whoever followed has had enough
		}
		if _, l, err = a.getLeg(ctx, l.Id); err != nil {
			return err
		}
		attempt = max(attempt, min(len(l.Attempts), 1))
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// logFrom writes the rows of an attempt's log behind the first from, and says how many there are then.
func (a *App) logFrom(ctx context.Context, client *api.ClientWithResponses, leg string, attempt, from int, c logChoice) (int, error) {
	least, page := api.LogLevel(strings.ToUpper(c.level)), 1000
	q := &api.GetLogParams{Attempt: &attempt, Level: &least, From: &from, Limit: &page}
	if c.tag != "" {
		q.Tag = &c.tag
	}
	enc := json.NewEncoder(a.Out)
	for {
		r, err := client.GetLogWithResponse(ctx, leg, q)
		if c.follow && err == nil && r.StatusCode() == 404 { // none has come yet
			return from, nil
		}
		if err != nil || r.JSON200 == nil {
			return from, a.Failed("read the log", err, r)
		}
		for _, l := range r.JSON200.Items {
			switch {
			case l.Level == "": // what the log says of itself
			case a.JSON:
				_ = enc.Encode(map[string]any{"at": l.At, "pid": l.Pid, "level": l.Level, "tag": l.Tag, "text": l.Text})
			default:
				fmt.Fprintf(a.Out, "%10s %s %-20s %s\n", clock(l.At), l.Level, l.Tag, l.Text)
			}
		}
		if from += len(r.JSON200.Items); len(r.JSON200.Items) == 0 || from >= r.JSON200.Rows {
			return from, nil
		}
	}
}
