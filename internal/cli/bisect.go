package cli

// The first bad build, found by itself.

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/verdict"
)

func (a *App) bisectCmd() *cobra.Command {
	var q api.BisectionRequest
	var run, family, good, bad, pkg, name, device, with string
	var inputs, secrets []string
	var limit time.Duration
	var watch bool
	c := &cobra.Command{Use: "bisect", Short: "Find the first bad build", Args: Nothing,
		Long: `Find the build with which a case began to fail. The builds between a good and a bad one, in the order of their uploads, are tried with this
one case on one device, halving what is left. A case that is known to fail for no reason is tried as often as it takes. The answer is wrong in at most 2 of 100.
With --run and --family, all that is not said is taken from there. It goes on without this command, also after a restart of the service.`,
		Example: "  tessellant run bisect --good kelpline/android@231 --bad kelpline/android@newest --package shore-suite@newest --case tides.test_tide_chart --watch\n" +
			"  tessellant run bisect --run newest --family d3012be6 --watch",
		RunE: func(c *cobra.Command, _ []string) error {
			q = api.BisectionRequest{Run: given(run), Family: given(family), Good: given(good), Bad: given(bad), Package: given(pkg), Case: given(name), Device: given(device)}
			if with != "" {
				set, err := conditions.Parse(with)
				if err != nil {
					return err
				}
				q.Conditions = mapped(set)
			}
			values, err := pairs("--set", inputs, "VALUE")
			if err != nil {
				return err
			}
			q.Inputs = mapped(values)
			if q.Secrets, err = secretsOf(secrets); err != nil {
				return err
			}
			if limit > 0 {
				seconds := int((limit + time.Second - 1) / time.Second)
				q.LimitSeconds = &seconds
			}
			return a.bisect(c.Context(), q, watch)
		}}
	f := c.Flags()
	f.StringVar(&good, "good", "", "a build on which the case passes")
	f.StringVar(&bad, "bad", "", "a build on which it fails, uploaded later")
	f.StringVar(&pkg, "package", "", "the package")
	f.StringVar(&name, "case", "", "the case's name, or that of its function")
	f.StringVar(&device, "device", "", "the device that tries; default: one on which the case failed on the bad build")
	f.StringVar(&with, "conditions", "", "how the device is set, such as language:de,dark")
	f.StringVar(&run, "run", "", "a run with a family of failures")
	f.StringVar(&family, "family", "", "the family: its id, or its first characters")
	f.StringArrayVar(&inputs, "set", nil, "an input of the package: NAME=VALUE")
	f.StringArrayVar(&secrets, "secret-from-env", nil, "a secret input and the variable that has it: NAME=VARIABLE")
	f.DurationVar(&limit, "limit", 0, "time limit of each try; default: 10m")
	f.BoolVar(&watch, "watch", false, "wait until it is over")
	return c
}

func (a *App) bisectionCmd() *cobra.Command {
	var n int
	list := &cobra.Command{Use: "list", Short: "List bisections, the newest first", Args: Nothing, Example: "  tessellant bisection list",
		RunE: func(c *cobra.Command, _ []string) error { return a.bisectionList(c.Context(), n) }}
	list.Flags().IntVar(&n, "limit", 20, "how many to list, 1 to 200")
	show := &cobra.Command{Use: "show BISECTION", Short: "Show how far a bisection is, and what it comes to", Args: Exactly(1), Example: "  tessellant bisection show newest",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := a.bisection(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Show(b, func() { a.bisectionText(b) })
		}}
	watch := &cobra.Command{Use: "watch BISECTION", Short: "Follow a bisection until it is over", Args: Exactly(1), Example: "  tessellant bisection watch newest",
		Long: "Follow a bisection until it is over. Exit code 0 if the first bad build was found, 3 if not.",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := a.bisection(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.bisectionWatch(c.Context(), b)
		}}
	stop := &cobra.Command{Use: "stop BISECTION", Short: "Stop a bisection, and the run in which it tries a build", Args: Exactly(1), Example: "  tessellant bisection stop newest",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.StopBisectionWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("stop the bisection", err, r)
			}
			return a.Show(r.JSON200, func() { fmt.Fprintln(a.Out, r.JSON200.Sentence) })
		}}
	return group("bisection", "See and stop searches for the first bad build", list, show, watch, stop)
}

func (a *App) bisect(ctx context.Context, q api.BisectionRequest, watch bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.StartBisectionWithResponse(ctx, q)
	if err != nil || r.JSON201 == nil {
		return a.Failed("find the first bad build", err, r)
	}
	b := r.JSON201
	if watch {
		return a.bisectionWatch(ctx, b)
	}
	return a.Show(b, func() {
		fmt.Fprintf(a.Out, "%s, with %s on %s.\nFollow it with: tessellant bisection watch %s\n", strings.TrimSuffix(b.Sentence, "."), b.Case, b.Device, b.Id)
	})
}

func (a *App) bisection(ctx context.Context, id string) (*api.Bisection, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetBisectionWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("show the bisection", err, r)
	}
	return r.JSON200, nil
}

func (a *App) bisectionWatch(ctx context.Context, b *api.Bisection) error {
	if !a.JSON {
		fmt.Fprintf(a.Out, "%s of %s on %s: %s from %s to %s\n", b.Case, b.Package, b.Device, Plural(len(b.Builds), "build"), b.Builds[0].Ref, b.Builds[len(b.Builds)-1].Ref)
	}
	told, trying, lastGood := 0, "", time.Now()
	for {
		if !a.JSON {
			for ; told < len(b.Probes); told++ {
				fmt.Fprintf(a.Out, "%s  %s\n", time.Now().Format("15:04:05"), a.probeText(b, b.Probes[told]))
			}
			if b.Probing != nil && Deref(b.Run) != trying {
				trying = Deref(b.Run)
				fmt.Fprintf(a.Out, "%s  trying %s\n", time.Now().Format("15:04:05"), b.Builds[*b.Probing].Ref)
			}
		}
		if b.State != api.Going {
			break
		}
		select {
		case <-time.After(watchEvery):
		case <-ctx.Done():
			return &Exit{verdict.ExitNothingSaid, fmt.Errorf("stopped watching; the search continues. To follow it again: tessellant bisection watch %s", b.Id)}
		}
		next, err := a.bisection(ctx, b.Id)
		switch {
		case err == nil:
			b, lastGood = next, time.Now()
		case time.Since(lastGood) < watchPatience && ctx.Err() == nil:
		default:
			return err
		}
	}
	if err := a.Show(b, func() { fmt.Fprintln(a.Out); a.bisectionEnd(b) }); err != nil {
		return err
	}
	if b.State != api.Found {
		return &Exit{verdict.ExitNothingSaid, nil}
	}
	return nil
}

func (a *App) probeText(b *api.Bisection, p api.Probe) string {
	s := fmt.Sprintf("%s is %s (run %d, %s)", b.Builds[p.Build].Ref, p.Says, p.Number, TookText(time.Duration(p.DeviceSeconds*float64(time.Second))))
	if p.Says == api.Other {
		s = fmt.Sprintf("%s says nothing of it (run %d, %s): %s", b.Builds[p.Build].Ref, p.Number, p.Verdict, clipTo(Deref(p.Message), 120))
	}
	return s
}

func (a *App) bisectionEnd(b *api.Bisection) {
	indented(a.Out, 0, b.Sentence)
	switch {
	case b.FirstBad != nil && len(b.Probes) == 0:
		fmt.Fprintln(a.Out, "Nothing lay between the two builds, so nothing was run.")
	case b.FirstBad != nil:
		fmt.Fprintf(a.Out, "%s of %s, %s of device time; the chance that it is another build is %s.\n", Plural(len(b.Probes), "run"), Plural(len(b.Builds), "build"), TookText(time.Duration(b.DeviceSeconds*float64(time.Second))), chanceText(b.Unsure))
	}
	if len(b.Changes) > 0 {
		fmt.Fprintln(a.Out, "\nWhat changed in the builds:")
		t := NewTable(a.Out, "fact", b.LastGood.Ref, b.FirstBad.Ref)
		for _, c := range b.Changes {
			t.AppendRow(table.Row{c.What, c.Before, c.Now})
		}
		t.Render()
	}
}

func (a *App) bisectionText(b *api.Bisection) {
	a.bisectionEnd(b)
	fmt.Fprintln(a.Out)
	variant := strings.TrimSpace(b.Device + " " + Deref(b.Variant))
	facts(a.Out, "bisection", b.Id, "case", b.Case, "package", b.Package, "device", variant, "builds", fmt.Sprintf("%d, from %s to %s", len(b.Builds), b.Builds[0].Ref, b.Builds[len(b.Builds)-1].Ref), "started", ago(b.Created)+" by "+b.StartedBy, "why", Deref(b.Why))
	if len(b.Probes) > 0 {
		fmt.Fprintln(a.Out)
		for _, p := range b.Probes {
			fmt.Fprintln(a.Out, a.probeText(b, p))
		}
	}
}

func (a *App) bisectionList(ctx context.Context, n int) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListBisectionsWithResponse(ctx, &api.ListBisectionsParams{Limit: &n})
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the bisections", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "No bisections yet. Start one with: tessellant run bisect --good REF --bad REF --package REF --case NAME --watch")
			return
		}
		t := NewTable(a.Out, "bisection", "state", "", "started")
		for _, b := range r.JSON200.Items {
			t.AppendRow(table.Row{b.Id, b.State, b.Sentence, ago(b.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}
