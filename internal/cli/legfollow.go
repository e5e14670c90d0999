package cli

// A leg while it runs: each event of its timeline as a line, as it comes.

import (
	"context"
	"encoding/json"
	"fmt"

	"tessellant/api"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

// legFollow follows a leg until it has ended, and exits with its verdict.
func (a *App) legFollow(ctx context.Context, id string) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	attempt, seen, stage := 0, 0, ""
	for {
		if l.Stage != stage && !a.JSON {
			stage = l.Stage
			switch {
			case stage == "waiting" && l.Place != nil:
				fmt.Fprintf(a.Out, "It waits for %s, as number %d of the queue.\n", l.Device.Serial, *l.Place)
			case stage == "waiting":
				fmt.Fprintf(a.Out, "It waits for %s.\n", l.Device.Serial)
			}
		}
		for n := max(attempt, 1); n <= len(l.Attempts); n++ {
			if n > attempt {
				attempt, seen = n, 0
				if n > 1 && !a.JSON {
					fmt.Fprintf(a.Out, "Attempt %d on %s\n", n, l.Attempts[n-1].Serial)
				}
			}
			if seen, err = a.newEvents(ctx, client, l.Id, attempt, seen); err != nil {
				return err
			}
		}
		if l.Stage == "done" {
			break
		}
		if pause(ctx, followEvery) != nil {
			return &Exit{verdict.ExitNothingSaid, fmt.Errorf("stopped following; the leg continues. To follow it again: tessellant leg show %s --follow", id)}
		}
		if _, l, err = a.getLeg(ctx, l.Id); err != nil {
			return err
		}
	}
	v := verdict.Verdict(Deref(l.Verdict))
	if !a.JSON {
		fmt.Fprintf(a.Out, "\n%s: %s %s\n", l.Device.Serial, v, foreign.Shown(Deref(l.Message)))
	}
	if code := verdict.ExitCode(v); code != 0 {
		return &Exit{code, nil}
	}
	return nil
}

// newEvents writes the events of an attempt behind the number seen, and gives the last number.
func (a *App) newEvents(ctx context.Context, client *api.ClientWithResponses, leg string, attempt, seen int) (int, error) {
	enc := json.NewEncoder(a.Out)
	show := func(e timeline.Event) {
		if e.Seq <= seen {
			return
		}
		seen = e.Seq
		if a.JSON {
			_ = enc.Encode(e)
			return
		}
		what, detail := eventText(e)
		took := ""
		if e.Kind == timeline.Command {
			took = fmt.Sprintf(" (%d ms)", e.Took)
		}
		fmt.Fprintf(a.Out, "%10s  %-12s %s%s\n", clock(e.At), what, clipTo(detail, 120), took)
	}
	if seen > 0 {
		if live, err := a.events(ctx, client, leg, attempt, seen, show); err == nil && live {
			return seen, nil
		}
	}
	// It is the first look, or the attempt has ended: then places in its timeline are counted in another way.
	_, err := a.events(ctx, client, leg, attempt, 0, show)
	return seen, err
}
