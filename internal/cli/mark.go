package cli

// What people say of families of failures.

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) markCmd() *cobra.Command {
	var known, notApp, wrongTest bool
	var q api.FamilyMarkRequest
	var reference, note, until string
	c := &cobra.Command{Use: "mark RUN FAMILY", Short: "Say that a family of failures is known, not the app's fault, or a wrong test", Args: Exactly(2),
		Long: `Say of a family of failures that it is known, that it is not the app's fault, or that the test is wrong. It holds for the whole app, in
runs that end from now on: such failures are shown, counted apart, and do not turn a run red. See the families of a run with: tessellant run why RUN`,
		Example: "  tessellant run mark 41 d3012be6 --known --reference KELP-12 --until 2027-03-31\n  tessellant run mark 41 d3012be6 --wrong-test --note 'the table of tides is not German'",
		RunE: func(c *cobra.Command, args []string) error {
			q.Reference, q.Note = given(reference), given(note)
			switch {
			case known:
				q.Kind = api.Known
			case notApp:
				q.Kind = api.NotApp
			case wrongTest:
				q.Kind = api.WrongTest
			}
			if until != "" {
				day, err := time.ParseInLocation(time.DateOnly, until, time.Local)
				if err != nil {
					return fmt.Errorf("--until %s is no day: write it as 2027-03-31", until)
				}
				end := day.AddDate(0, 0, 1) // that day still counts
				q.Until = &end
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.MarkFamilyWithResponse(c.Context(), args[0], args[1], q)
			if err != nil || r.JSON200 == nil {
				return a.Failed("mark the family", err, r)
			}
			f, err := familyIn(r.JSON200, args[1])
			if err != nil {
				return err
			}
			return a.Show(f, func() {
				fmt.Fprintf(a.Out, "Marked: %s\nIn runs that end from now on it is counted apart. To take that back: tessellant run unmark %d %s\n", f.Title, r.JSON200.Number, f.Id[:8])
			})
		}}
	f := c.Flags()
	f.BoolVar(&known, "known", false, "a fault that somebody has in hand")
	f.BoolVar(&notApp, "not-app", false, "it is not the app's fault")
	f.BoolVar(&wrongTest, "wrong-test", false, "the test is wrong")
	f.StringVar(&reference, "reference", "", "where it is in hand, such as KELP-12")
	f.StringVar(&note, "note", "", "what others should know")
	f.StringVar(&until, "until", "", "the last day, such as 2027-03-31; afterwards it counts again")
	c.MarkFlagsMutuallyExclusive("known", "not-app", "wrong-test")
	c.MarkFlagsOneRequired("known", "not-app", "wrong-test")
	return c
}

func (a *App) unmarkCmd() *cobra.Command {
	return &cobra.Command{Use: "unmark RUN FAMILY", Short: "Take the mark of a family away", Args: Exactly(2),
		Long:    "Take the mark of a family away: in runs that end from now on its failures count again. Runs that are over stay as they are.",
		Example: "  tessellant run unmark 41 d3012be6",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.UnmarkFamilyWithResponse(c.Context(), args[0], args[1])
			if err != nil || r.JSON200 == nil {
				return a.Failed("take the mark away", err, r)
			}
			f, err := familyIn(r.JSON200, args[1])
			if err != nil {
				return err
			}
			return a.Show(f, func() { fmt.Fprintf(a.Out, "It counts again: %s\n", f.Title) })
		}}
}
