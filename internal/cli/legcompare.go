package cli

// Two legs side by side; or two attempts, or two tries of a case.

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) legCompareCmd() *cobra.Command {
	var attempts, tries, name string
	var all bool
	c := &cobra.Command{Use: "compare LEG [OTHER]", Short: "Compare two legs, attempts or tries side by side", Args: between(1, 2),
		Long: `Compare two legs side by side: case by case and step by step, not by seconds. Without OTHER, compare two attempts of LEG, or two tries of its cases.

` + legHelp,
		Example: "  tessellant leg compare 1/orr-01 1/fen-01\n  tessellant leg compare 1/orr-01 1/fen-01 --case tides.test_tide_chart\n  tessellant leg compare 1/fen-04 --tries 1,2 --case survey.test_send_a_survey\n  tessellant leg compare 1/mar-01 --attempts 1,2",
		RunE: func(c *cobra.Command, args []string) error {
			p := api.CompareLegsParams{Case: given(name)}
			if len(args) > 1 {
				p.With = &args[1]
			}
			var err error
			if p.Attempt, p.WithAttempt, err = two("--attempts", attempts); err != nil {
				return err
			}
			if p.Try, p.WithTry, err = two("--tries", tries); err != nil {
				return err
			}
			if p.With == nil && p.Attempt == nil && p.Try == nil {
				return fmt.Errorf("nothing to compare %s with: name another leg, or add --attempts 1,2 or --tries 1,2", args[0])
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.CompareLegsWithResponse(c.Context(), args[0], &p)
			if err != nil || r.JSON200 == nil {
				return a.Failed("compare the legs", err, r)
			}
			return a.Show(r.JSON200, func() { a.legCompareText(r.JSON200, all || name != "") })
		}}
	c.Flags().StringVar(&attempts, "attempts", "", "which attempts, such as 1,2: of LEG, and of OTHER or of LEG again; usually the last of each")
	c.Flags().StringVar(&tries, "tries", "", "which tries of each case, such as 1,2; usually the last of each")
	c.Flags().StringVar(&name, "case", "", "only this case")
	c.Flags().BoolVar(&all, "all", false, "show the steps of all cases, not only of those that differ")
	return c
}

// two reads two numbers.
func two(flag, s string) (first, second *int, err error) {
	if s == "" {
		return nil, nil, nil
	}
	var x, y int
	if n, err := fmt.Sscanf(s, "%d,%d", &x, &y); n != 2 || err != nil || x < 1 || y < 1 || fmt.Sprintf("%d,%d", x, y) != s {
		return nil, nil, fmt.Errorf("%s takes two numbers, such as 1,2, not %q", flag, s)
	}
	return &x, &y, nil
}

func (a *App) legCompareText(x *api.LegComparison, all bool) {
	indented(a.Out, 0, x.Sentence)
	fmt.Fprintln(a.Out)
	here, there := sideName(x.Ours), sideName(x.Theirs)
	facts(a.Out, "here", here, "there", there)
	fmt.Fprintln(a.Out)
	t := NewTable(a.Out, "case", "step", "here", "there", "")
	left := 0
	for _, c := range x.Cases {
		unlike := false
		for _, s := range c.Steps {
			unlike = unlike || s.Alike != nil && !*s.Alike || (s.Ours == nil) != (s.Theirs == nil)
		}
		if !all && !c.Otherwise && !unlike {
			left++
			continue
		}
		t.AppendRow(table.Row{clipTo(c.Case, 48), "", a.caseSide(c.Ours), a.caseSide(c.Theirs), ""})
		for _, s := range c.Steps {
			say := ""
			switch {
			case s.Alike != nil && *s.Alike:
				say = "looks alike"
			case s.Alike != nil:
				say = fmt.Sprintf("looks otherwise (%.0f %%)", 100**s.Apart)
			}
			t.AppendRow(table.Row{"", clipTo(s.Step, 40), stepSide(s.Ours), stepSide(s.Theirs), say})
		}
	}
	t.Render()
	if left > 0 {
		fmt.Fprintf(a.Out, "%s alike: --all shows them.\n", Plural(left, "case"))
	}
}

func sideName(s api.ComparedLeg) string {
	out := fmt.Sprintf("%s, %s, %s", s.Device, s.Model, s.System)
	if s.Attempt > 1 {
		out += fmt.Sprintf(", attempt %d", s.Attempt)
	}
	if s.Try != nil {
		out += fmt.Sprintf(", try %d of each case", *s.Try)
	}
	return strings.TrimSpace(out)
}

func (a *App) caseSide(s *api.LegCaseSide) string {
	if s == nil {
		return "did not run"
	}
	came := "cut off"
	if s.Verdict != nil {
		came = a.painted(*s.Verdict, string(*s.Verdict))
	}
	return came + " after " + TookText(time.Duration(s.TookMs)*time.Millisecond)
}

func stepSide(s *api.LegStepSide) string {
	if s == nil {
		return "never came to it"
	}
	return "after " + TookText(time.Duration(s.TookMs)*time.Millisecond)
}
