package cli

// A run step by step: the same step on all devices, remarks on screens, what is slower than before.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
)

func (a *App) stepsCmd() *cobra.Command {
	var of stepFlags
	c := &cobra.Command{Use: "steps RUN [STEP]", Short: "Compare the same step on all devices", Args: between(1, 2),
		Long: `List the steps of a run, and on how many devices each looks otherwise than on most. With STEP, show which devices look alike: the odd ones first.
Pictures are compared by what they show: size, density, the status bar and where a line breaks do not count.`,
		Example: "  tessellant run steps 1\n  tessellant run steps 1 review\n  tessellant run steps 1 'the list of shores' --case shores.test_list_shows_all_shores",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			x, err := a.steps(c.Context(), client, args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return a.Show(x, func() { a.stepsText(x) })
			}
			name, err := of.find(x, args[1])
			if err != nil {
				return err
			}
			r, err := client.GetStepWithResponse(c.Context(), args[0], &api.GetStepParams{Case: name.Case, Step: name.Step, Nth: &name.Nth})
			if err != nil || r.JSON200 == nil {
				return a.Failed("show the step", err, r)
			}
			return a.Show(r.JSON200, func() { a.stepText(r.JSON200) })
		}}
	of.register(c)
	return c
}

// stepFlags say which of several steps of a name is meant.
type stepFlags struct {
	name string
	nth  int
}

func (f *stepFlags) register(c *cobra.Command) {
	c.Flags().StringVar(&f.name, "case", "", "the case of the step, where several cases have one of the name")
	c.Flags().IntVar(&f.nth, "nth", 1, "of several steps of the name in one case, which")
}

// find finds a step by its name.
func (f *stepFlags) find(x *api.RunSteps, name string) (api.StepLine, error) {
	var is, cases []api.StepLine
	for _, s := range x.Steps {
		if s.Step != name {
			continue
		}
		cases = append(cases, s)
		if s.Nth == f.nth && (f.name == "" || s.Case == f.name || strings.HasSuffix(s.Case, "."+f.name)) {
			is = append(is, s)
		}
	}
	switch {
	case len(is) == 1:
		return is[0], nil
	case len(is) > 1:
		var names []string
		for _, s := range is {
			names = append(names, s.Case)
		}
		return api.StepLine{}, fmt.Errorf("several cases have a step %q: add --case with one of %s", name, strings.Join(names, ", "))
	case len(cases) > 0:
		return api.StepLine{}, &Exit{verdict.ExitUnreachable, fmt.Errorf("find the step: %s has no such step %q number %d; see all steps with: tessellant run steps %d", f.name, name, f.nth, x.Number)}
	}
	return api.StepLine{}, &Exit{verdict.ExitUnreachable, fmt.Errorf("find the step: run %d has no step %q; see all steps with: tessellant run steps %d", x.Number, name, x.Number)}
}

func (a *App) steps(ctx context.Context, client *api.ClientWithResponses, run string) (*api.RunSteps, error) {
	r, err := client.ListStepsWithResponse(ctx, run)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("list the steps", err, r)
	}
	return r.JSON200, nil
}

const stillReading = "Not all legs were read yet: there will be more."

func (a *App) stepsText(x *api.RunSteps) {
	if len(x.Steps) == 0 {
		fmt.Fprintln(a.Out, "No case of this run has a step. A script names one with: phone.step(\"review\")")
		return
	}
	t := NewTable(a.Out, "case", "step", "legs", "looks", "odd", "not like its reference")
	for _, s := range x.Steps {
		looks := ""
		if s.Stacks != nil {
			looks = fmt.Sprint(*s.Stacks)
		}
		name := s.Step
		if s.Nth > 1 {
			name += fmt.Sprintf(" (%d)", s.Nth)
		}
		t.AppendRow(table.Row{clipTo(s.Case, 48), clipTo(name, 40), s.Legs, looks, someCount(s.Odd), someCount(s.Moved)})
	}
	t.Render()
	if x.Cut {
		fmt.Fprintf(a.Out, "Only the first %s are listed.\n", Plural(len(x.Steps), "step"))
	}
	if x.Reading {
		fmt.Fprintln(a.Out, stillReading)
	}
}

func someCount(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func (a *App) stepText(x *api.RunStep) {
	fmt.Fprintf(a.Out, "“%s” in “%s”, run %d\n", x.Step, report.CaseTitle(x.Case), x.Number)
	for i, s := range x.Stacks {
		head := "looks so on " + Plural(len(s.Legs), "leg")
		if i < len(x.Stacks)-1 {
			head += ", " + otherwise(s)
		}
		fmt.Fprintf(a.Out, "\n%s\n", head)
		a.stepLegs(s.Legs)
	}
	if len(x.Unread) > 0 {
		fmt.Fprintf(a.Out, "\nnot compared: %s without a picture that was looked at\n", Plural(len(x.Unread), "leg"))
		a.stepLegs(x.Unread)
	}
	if x.Cut {
		fmt.Fprintln(a.Out, "\nThe run has more legs than are compared at one step; the others are left out.")
	}
	if len(x.Without) > 0 {
		fmt.Fprintf(a.Out, "\nnever came to it: %s\n", strings.Join(x.Without, ", "))
	}
	if x.Reading {
		fmt.Fprintln(a.Out, stillReading)
	}
}

// otherwise says how a stack differs from the most usual one.
func otherwise(s api.StepStack) string {
	var how []string
	if n := fmt.Sprintf("%.0f", 100*s.Apart); n != "0" {
		how = append(how, n+" % of it otherwise than on most")
	}
	if s.Tint {
		how = append(how, "in other colours")
	}
	if len(how) == 0 {
		return "a little more or less than on most"
	}
	return strings.Join(how, ", ")
}

func (a *App) stepLegs(legs []api.StepOn) {
	for _, l := range legs {
		line := fmt.Sprintf("%-16s %-28s case %s", l.Device, clipTo(l.Model, 28), a.painted(l.Verdict, string(l.Verdict)))
		fmt.Fprintf(a.Out, "    %s\n", strings.TrimRight(line, " "))
		if l.Moved != nil {
			fmt.Fprintf(a.Out, "        %s\n", l.Moved.Says)
		}
		for _, r := range l.Remarks {
			fmt.Fprintf(a.Out, "        %s\n", r)
		}
	}
}

func (a *App) remarksCmd() *cobra.Command {
	return &cobra.Command{Use: "remarks RUN", Short: "Show what is wrong with screens though no test asked", Args: Exactly(1),
		Long: `Show what is wrong with the screens of a run, though no test asked for it: controls that are cut off, covered, too small or without a label, texts that do
not fit, stand out too little or do not grow, and controls that other devices show at the same step. No verdict counts it, unless the run was started with --remarks fail.
Screens are looked at where their tree is at hand: at each failure, at steps that follow a look, and at all steps with --record trees:steps.`,
		Example: "  tessellant run remarks 1\n  tessellant run remarks 1 --json",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetRemarksWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("show the remarks", err, r)
			}
			return a.Show(r.JSON200, func() { a.remarksText(r.JSON200) })
		}}
}

func (a *App) remarksText(x *api.RunRemarks) {
	indented(a.Out, 0, x.Sentence)
	for _, f := range x.Families {
		fmt.Fprintf(a.Out, "\n%s on %s\n", f.Kind, Plural(f.On, "leg"))
		indented(a.Out, 4, capital(f.Says)+".")
		if f.Rule != nil {
			indented(a.Out, 4, *f.Rule)
		}
		indented(a.Out, 4, f.Where)
	}
	if x.Reading {
		fmt.Fprintln(a.Out, stillReading)
	}
}

func capital(s string) string {
	r := []rune(s)
	if len(r) == 0 {
		return s
	}
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}

func (a *App) slowerCmd() *cobra.Command {
	return &cobra.Command{Use: "slower RUN", Short: "Show what takes longer than with the build before", Args: Exactly(1),
		Long: `Show what takes longer, or more, than with the last build before whose cases passed on the same device: the start of the app, the time from step to step,
memory at steps, late frames. A rank test has to say that it is no noise: at least three values on each side, more where many are compared. Values of one
build are those of all its runs on the device.`,
		Example: "  tessellant run slower 2\n  tessellant run slower 2 --json",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetSlowerWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("show what is slower", err, r)
			}
			return a.Show(r.JSON200, func() { a.slowerText(r.JSON200) })
		}}
}

func (a *App) slowerText(x *api.RunSlower) {
	indented(a.Out, 0, x.Sentence)
	if len(x.Things) > 0 {
		fmt.Fprintln(a.Out)
		t := NewTable(a.Out, "device", "what", "before", "more", "values", "chance of noise")
		for _, s := range x.Things {
			t.AppendRow(table.Row{s.Device, s.What, fmt.Sprintf("%.0f %s", s.Before, s.Unit), fmt.Sprintf("%.0f %s", s.By, s.Unit), fmt.Sprintf("%d, %d before", s.ValuesNow, s.ValuesBefore), fmt.Sprintf("%.1g", s.Chance)})
		}
		t.Render()
		builds := []string{}
		for _, s := range x.Things {
			if !slices.Contains(builds, s.Build.Ref) {
				builds = append(builds, s.Build.Ref)
			}
		}
		fmt.Fprintf(a.Out, "Before: %s\n", strings.Join(builds, ", "))
		if x.Cut {
			fmt.Fprintf(a.Out, "Only the first %d are listed.\n", len(x.Things))
		}
	}
	if x.Reading {
		fmt.Fprintln(a.Out, stillReading)
	}
}

// remarksText says what remarks do in a run, where that is not the usual.
func remarksText(do *api.RemarksDo) string {
	if Deref(do) == api.RemarksFail {
		return "fail a case"
	}
	return ""
}
