package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

const (
	watchEvery = 400 * time.Millisecond
	// A service that is being restarted is waited for this long.
	watchPatience = 2 * time.Minute
)

// watch follows a run until it is over: a live table on a terminal, else a line
// for each thing that changes. The exit code is the run's.
func (a *App) watch(ctx context.Context, r *api.Run) error {
	width, live := terminal(a.Out)
	live = live && !a.JSON
	if !a.JSON {
		fmt.Fprintf(a.Out, "Run %s: %s with %s on %s\n", calledText(r), buildsText(r), r.Package, legsText(r))
		if r.Forecast != nil && !r.Done {
			fmt.Fprintln(a.Out, forecastText(r.Forecast))
		}
		a.leftOut(r)
	}
	drawn := 0
	seen := map[string]string{}
	lastGood := time.Now()
	for {
		switch {
		case a.JSON:
		case live:
			drawn = a.redraw(r, width, drawn)
		default:
			a.changes(r, seen)
		}
		if r.Done {
			break
		}
		select {
		case <-time.After(watchEvery):
		case <-ctx.Done():
			return &Exit{verdict.ExitNothingSaid, fmt.Errorf("stopped watching; the run continues. To follow it again: tessellant run watch %d", r.Number)}
		}
		next, err := a.getRun(ctx, r.Id)
		switch {
		case err == nil:
			r, lastGood = next, time.Now()
		case ctx.Err() != nil:
		case errors.As(err, new(*Exit)) && time.Since(lastGood) < watchPatience:
		default:
			return err
		}
	}
	if err := a.Show(r, func() {
		if !live {
			fmt.Fprintln(a.Out)
			a.legTable(r).Render()
		}
		fmt.Fprintln(a.Out)
		a.said(ctx, r)
	}); err != nil {
		return err
	}
	if code := verdict.ExitCode(verdict.Verdict(Deref(r.Verdict))); code != 0 {
		return &Exit{code, nil}
	}
	return nil
}

// redraw draws the table over the one before, of so many lines, and answers how
// many it has now.
func (a *App) redraw(r *api.Run, width, before int) int {
	var buf bytes.Buffer
	t := NewTable(&buf, "device", "model", "system", "stage", "cases", "time", "now")
	t.Style().Color.Header = text.Colors{text.Faint}
	// Columns whose content changes keep their width, so that nothing jumps.
	t.SetColumnConfigs([]table.ColumnConfig{{Name: "stage", WidthMin: 13}, {Name: "cases", WidthMin: 29}, {Name: "time", WidthMin: 9}})
	for _, l := range r.Legs {
		model := l.Model
		if l.Simulated {
			model += " (simulated)"
		}
		stage := stageText(l)
		t.AppendRow(table.Row{legText(l), model, l.System, stage, caseText(l), legTook(l), Deref(l.Now)})
	}
	t.Render()
	lines := strings.Split(strings.TrimRight(buf.String(), "\n"), "\n")
	var out strings.Builder
	if before > 0 {
		fmt.Fprintf(&out, "\x1b[%dA", before)
	}
	for _, l := range lines {
		out.WriteString("\x1b[2K" + text.Trim(l, max(width-1, 20)) + "\x1b[0m\n")
	}
	fmt.Fprint(a.Out, out.String())
	return len(lines)
}

// stageText is a leg's stage, or its verdict in a colour of its own.
func stageText(l api.LegSummary) string {
	if l.Verdict == nil {
		return verdictText(l)
	}
	return colours[*l.Verdict].Sprint(string(*l.Verdict))
}

// changes writes a line for each leg that has changed.
func (a *App) changes(r *api.Run, seen map[string]string) {
	for _, l := range r.Legs {
		state := verdictText(l)
		switch {
		case l.Verdict != nil && l.Stage == "done":
			state = string(*l.Verdict) + " (" + caseText(l) + ")"
		case l.Now != nil:
			state += " " + *l.Now + " (" + caseText(l) + ")"
		case l.Stage == "running" && l.Stopping == nil && (l.CasesTotal > 0 || len(l.Cases) > 0):
			continue // between two cases
		}
		if seen[l.Id] != state {
			seen[l.Id] = state
			fmt.Fprintf(a.Out, "%s  %-8s %s\n", time.Now().Format("15:04:05"), legText(l), state)
		}
	}
}
