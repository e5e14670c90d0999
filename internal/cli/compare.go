package cli

// A run, held against one before it.

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) compareCmd() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "compare RUN [BEFORE]", Short: "Hold a run against one before it", Args: between(1, 2),
		Long: `Hold a run against one before it: on each device that was set in the same way, case by case. Without BEFORE, it is held against the last run of
the same app and package on the same devices.`,
		Example: "  tessellant run compare newest\n  tessellant run compare 42 41\n  tessellant run compare newest --all",
		RunE: func(c *cobra.Command, args []string) error {
			before := ""
			if len(args) > 1 {
				before = args[1]
			}
			x, err := a.compare(c.Context(), args[0], before)
			if err != nil {
				return err
			}
			return a.Show(x, func() { a.compareText(x, all) })
		}}
	c.Flags().BoolVar(&all, "all", false, "show all differences, not only the first 40")
	return c
}

func (a *App) compare(ctx context.Context, now, before string) (*api.Comparison, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.CompareRunsWithResponse(ctx, now, &api.CompareRunsParams{With: given(before)})
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("compare the runs", err, r)
	}
	return r.JSON200, nil
}

// fewDifferences are shown where not all are asked for.
const fewDifferences = 40

func (a *App) compareText(x *api.Comparison, all bool) {
	indented(a.Out, 0, x.Sentence)
	fmt.Fprintln(a.Out)
	facts(a.Out, "now", runName(x.Now), "before", runName(x.Before))
	if len(x.Differences) > 0 {
		fmt.Fprintln(a.Out)
		t := NewTable(a.Out, "case", "device", "before", "now", "leg now")
		rows := x.Differences
		if !all && len(rows) > fewDifferences {
			rows = rows[:fewDifferences]
		}
		for _, d := range rows {
			t.AppendRow(table.Row{d.Case, d.Device, a.painted(d.Before, string(d.Before)), a.painted(d.Now, string(d.Now)), d.NowLeg})
		}
		t.Render()
		if n := len(x.Differences) - len(rows); n > 0 {
			fmt.Fprintf(a.Out, "%s more: --all shows them.\n", Plural(n, "difference"))
		}
	}
	if len(x.Families) > 0 {
		fmt.Fprintln(a.Out)
		t := NewTable(a.Out, "family", "legs before", "legs now", "")
		for _, f := range x.Families {
			t.AppendRow(table.Row{a.painted(f.Kind, string(f.Kind)) + "  " + f.Id[:8], f.Before, f.Now, f.Title})
		}
		t.Render()
	}
}

func runName(r api.ComparedRun) string {
	name := fmt.Sprintf("run %d", r.Number)
	if r.Name != nil {
		name += ", " + *r.Name
	}
	return fmt.Sprintf("%s: %s with %s", name, r.Build, r.Package)
}
