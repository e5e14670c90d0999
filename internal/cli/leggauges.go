package cli

// The gauges of a leg, as lines of small bars.

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/gauges"
)

func (a *App) legGaugesCmd() *cobra.Command {
	var units strings.Builder
	for _, g := range gauges.Table {
		fmt.Fprintf(&units, "  %-17s %-5s %s\n", g.Name, g.Unit, g.About)
	}
	return &cobra.Command{Use: "gauges LEG", Short: "Show processor, memory, frames, battery and traffic", Args: Exactly(1),
		Long: "Show the gauges of a leg over its time, with least, median and greatest value; of a leg that runs, as far as they have come.\nThe file gauges.csv, which leg fetch downloads, has every reading.\n\n" +
			units.String() + "\n" + legHelp,
		Example: "  tessellant leg gauges newest/orr-01\n  tessellant leg gauges newest/orr-01 --json",
		RunE:    func(c *cobra.Command, args []string) error { return a.legGauges(c.Context(), args[0]) }}
}

func (a *App) legGauges(ctx context.Context, id string) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	r, err := client.GetGaugesWithResponse(ctx, l.Id, nil)
	if err != nil || r.JSON200 == nil {
		return a.Failed("read the gauges", err, r)
	}
	if a.JSON {
		return a.Show(r.JSON200, nil)
	}
	g := r.JSON200
	if len(g.At) == 0 {
		why := "None were read."
		switch {
		case l.Recording["gauges"] == "off":
			why = "They were switched off (recording gauges:off)."
		case g.Attempt == 0:
			why = "The leg still waits for its device."
		case g.Live:
			why = "None have come yet; try again in a few seconds."
		}
		fmt.Fprintln(a.Out, "There are no gauges. "+why)
		return nil
	}
	from, to := g.At[0], g.At[len(g.At)-1]
	t := NewTable(a.Out, "gauge", "over the time", "least", "median", "greatest")
	for _, of := range []bool{false, true} {
		for _, s := range g.Series {
			if s.Device != of {
				continue
			}
			x, _ := gauges.Of(s.Name)
			t.AppendRow(table.Row{s.Name, bars(g.At, s, from, to), x.With(s.Min), x.With(s.Median), x.With(s.Max)})
		}
	}
	t.Render()
	fmt.Fprintf(a.Out, "\nFrom %s to %s on the attempt's clock. Each line goes from 0 to its greatest value.\n", clock(from), clock(to))
	return nil
}

const (
	barsWide = 48
	barSigns = "▁▂▃▄▅▆▇█"
)

// bars draws a series: in each place the greatest value of its time, so that no spike is lost; a place without a reading shows the one before.
func bars(at []int64, s api.GaugeSeries, from, to int64) string {
	most := make([]float64, barsWide)
	for i := range most {
		most[i] = math.NaN()
	}
	for i, v := range s.Values {
		if v == nil {
			continue
		}
		if n := (at[i] - from) * barsWide / max(to-from+1, 1); math.IsNaN(most[n]) || *v > most[n] {
			most[n] = *v
		}
	}
	signs := []rune(barSigns)
	var b strings.Builder
	last := math.NaN()
	for _, v := range most {
		if math.IsNaN(v) {
			v = last
		}
		last = v
		switch {
		case math.IsNaN(v):
			b.WriteByte(' ')
		case s.Max <= 0:
			b.WriteRune(signs[0])
		default:
			n := int(v / s.Max * float64(len(signs)))
			b.WriteRune(signs[max(min(n, len(signs)-1), 0)])
		}
	}
	return b.String()
}
