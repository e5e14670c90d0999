package cli

// How a case came out before.

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func (a *App) caseCmd() *cobra.Command {
	var q api.GetCaseHistoryParams
	var pkg, app string
	history := &cobra.Command{Use: "history CASE", Short: "Show how a case came out on builds and devices", Args: Exactly(1),
		Long: `Show how a case came out: a row per device, a column per build, the newest first, and how often it failed for no reason. CASE is the
case's name, or that of its function. Without --package and --app, the case is looked for in those of the newest run.`,
		Example: "  tessellant case history test_tide_chart\n  tessellant case history survey.test_send_a_survey --package shore-suite --app kelpline/android",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			q.Case, q.Package, q.App = args[0], given(pkg), given(app)
			r, err := client.GetCaseHistoryWithResponse(c.Context(), &q)
			if err != nil || r.JSON200 == nil {
				return a.Failed("show the case's history", err, r)
			}
			return a.Show(r.JSON200, func() { a.historyText(r.JSON200) })
		}}
	history.Flags().StringVar(&pkg, "package", "", "the package's name")
	history.Flags().StringVar(&app, "app", "", "the app, such as kelpline/android")
	return group("case", "See how test cases came out over time", history)
}

func (a *App) historyText(h *api.CaseHistory) {
	fmt.Fprintf(a.Out, "%s of %s on %s\n", h.Case, h.Package, h.App)
	for _, s := range historySays(h) {
		indented(a.Out, 0, s)
	}
	fmt.Fprintln(a.Out)
	const most = 8 // builds side by side
	builds := h.Builds[:min(len(h.Builds), most)]
	head := []any{"device", "system"}
	for _, b := range builds {
		_, version, _ := strings.Cut(b.Ref, "@")
		head = append(head, strings.TrimSuffix(fmt.Sprintf("%s @%s", b.Version, version), " @"))
	}
	t := NewTable(a.Out, head...)
	seen := map[api.Verdict]bool{}
	for _, d := range h.Devices {
		row := table.Row{strings.TrimSpace(d.Serial + " " + d.Set), d.System}
		for _, b := range builds {
			cell := ""
			for _, c := range d.Cells {
				if c.Build != b.Id {
					continue
				}
				seen[c.Verdict] = true
				cell = letters[c.Verdict]
				if c.Times > 1 {
					cell += fmt.Sprintf(" %d/%d", c.Bad, c.Times)
				}
				cell = a.painted(c.Verdict, cell)
			}
			row = append(row, cell)
		}
		t.AppendRow(row)
	}
	t.Render()
	var key []string
	for _, v := range verdict.Order {
		if seen[api.Verdict(v)] {
			key = append(key, letters[api.Verdict(v)]+" "+string(v))
		}
	}
	fmt.Fprintf(a.Out, "\n(%s; 1/4: failed 1 of 4 times on that build)\n", strings.Join(key, ", "))
	if n := len(h.Builds) - len(builds); n > 0 {
		fmt.Fprintf(a.Out, "%s not shown; --json has them.\n", Plural(n, "older build"))
	}
}

func historySays(h *api.CaseHistory) (out []string) {
	out = append(out, fmt.Sprintf("It failed %d of %d times in %s.", h.Bad.Times, h.Bad.Of, Plural(h.Bad.Runs, "run")))
	f := h.Flaky
	if f.Times == 0 {
		return append(out, fmt.Sprintf("It never failed and then passed: it is flaky in at most %.0f %% of its runs, 19 times of 20.", 100*f.High))
	}
	out = append(out, fmt.Sprintf("It failed and then passed %d times: %.0f %% (%.0f to %.0f %%).", f.Times, 100*float64(f.Times)/float64(f.Of), 100*f.Low, 100*f.High))
	if h.Quiet > 0 && h.QuietChance != nil {
		out = append(out, fmt.Sprintf("Since then it was quiet %s; if it is as flaky as before, that is luck, which happens %.0f times of 100.", Plural(h.Quiet, "time"), 100**h.QuietChance))
	}
	return out
}
