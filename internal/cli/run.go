package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/oklog/ulid/v2"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
)

func (a *App) runCmd() *cobra.Command {
	var q, asked askFlags
	var watch bool
	start := &cobra.Command{Use: "start", Short: "Start a run", Args: Nothing,
		Long: `Start a run: test a build with a package on every device that --pool, --where and --device select.
Without them, the run uses every device that can run the build. With --variant, each device runs the cases
once under each set of conditions. Everything can also stand in a run file: see docs/5-runs.md.`,
		Example: "  tessellant run start --build kelpline/android@newest --package shore-suite@newest --where platform=android --watch\n" +
			"  tessellant run start --build kelpline/android@231 --package shore-suite@1 --device orr-01 --limit 5m\n" +
			"  tessellant run start --build kelpline/android@newest --package shore-suite@newest --differ 8 --variant as-it-is --variant de=language:de --name nightly --label branch=main\n" +
			"  tessellant run start --build kelpline/android@newest --package shore-suite@newest --tag smoke --confirm 1 --set observer=Jon --secret-from-env observer-code=KELPLINE_CODE\n" +
			"  tessellant run start --file demo/nightly.yaml --set observer=Jon",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := q.request(c)
			if err != nil {
				return err
			}
			return a.runStart(c.Context(), q, watch)
		}}
	check := &cobra.Command{Use: "check", Short: "Show what a run would do, without starting it", Args: Nothing,
		Long:    "Show which legs a run would have, how long it is likely to take, which devices can't take part, and why. Nothing is started.\nExit code 3 if the run can't start.",
		Example: "  tessellant run check --build kelpline/android@newest --package shore-suite@newest --where 'os>=10'",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := asked.request(c)
			if err != nil {
				return err
			}
			return a.runCheck(c.Context(), q)
		}}
	q.register(start.Flags())
	asked.register(check.Flags())
	start.Flags().BoolVar(&watch, "watch", false, "wait until the run has finished, and exit with its verdict; as always with --route")
	var n int
	var build, pkg, came, by string
	var with []string
	list := &cobra.Command{Use: "list [WORDS]", Short: "List runs, the newest first", Args: UpTo(8), Long: "List runs, the newest first. With words, only runs in whose name, labels, build, package, pool or starter all words occur.",
		Example: "  tessellant run list\n  tessellant run list nightly\n  tessellant run list --build kelpline/android@231 --verdict failed\n  tessellant run list --label branch=main",
		RunE: func(c *cobra.Command, args []string) error {
			p := api.ListRunsParams{Limit: &n, Build: given(build), Package: given(pkg), By: given(by), Search: given(strings.Join(args, " ")), Label: listed(with)}
			if came != "" {
				v := api.Verdict(came)
				p.Verdict = &v
			}
			return a.runList(c.Context(), p)
		}}
	list.Flags().IntVar(&n, "limit", 20, "how many to list, 1 to 200")
	list.Flags().StringVar(&build, "build", "", "only runs of this build")
	list.Flags().StringVar(&pkg, "package", "", "only runs of this package")
	list.Flags().StringArrayVar(&with, "label", nil, "only runs with this label, such as branch=main; repeat for more, which must all match")
	list.Flags().StringVar(&by, "by", "", "only runs that the key of this name started")
	list.Flags().StringVar(&came, "verdict", "", "only runs with this verdict, such as failed")
	var asFile, markdown bool
	show := &cobra.Command{Use: "show RUN", Short: "Show a run and its legs", Long: "Show a run and its legs. RUN is a number, an id, or newest. With --as-file, print what was asked for as a run file; with --markdown, a summary for a pipeline.", Args: Exactly(1),
		Example: "  tessellant run show newest\n  tessellant run show 1\n  tessellant run show newest --as-file > nightly.yaml\n  tessellant run show newest --markdown",
		RunE: func(c *cobra.Command, args []string) error {
			if asFile {
				return a.runFile(c.Context(), args[0])
			}
			r, err := a.getRun(c.Context(), args[0])
			if err != nil {
				return err
			}
			if markdown {
				x, err := a.getAnswer(c.Context(), r.Id)
				if err != nil {
					return err
				}
				markdownOf(a.Out, r, x)
				return nil
			}
			return a.Show(r, func() { a.runText(c.Context(), r) })
		}}
	show.Flags().BoolVar(&markdown, "markdown", false, "print it as Markdown, for the summary of a pipeline")
	show.Flags().BoolVar(&asFile, "as-file", false, "print what was asked for as a run file")
	follow := &cobra.Command{Use: "watch RUN", Short: "Follow a run until it has finished", Args: Exactly(1), Example: "  tessellant run watch newest",
		Long: "Follow a run until it has finished, and exit with its verdict: 0 passed or flaky; 1 the app failed on some device; 3 nothing worse than invalid, lost or stopped.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.getRun(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.watch(c.Context(), r)
		}}
	var leg string
	stop := &cobra.Command{Use: "stop RUN", Short: "Stop a run, or one leg of it", Args: Exactly(1),
		Long:    "Stop a run, or one leg of it. Waiting legs end at once. Running legs end within seconds and keep the evidence gathered so far.",
		Example: "  tessellant run stop newest\n  tessellant run stop newest --leg newest/orr-01",
		RunE:    func(c *cobra.Command, args []string) error { return a.runStop(c.Context(), args[0], leg) }}
	stop.Flags().StringVar(&leg, "leg", "", "only this leg: an id, or run/serial")
	return group("run", "Start, follow and list runs", check, start, list, show, a.whyCmd(), follow, a.againCmd(), a.bisectCmd(), a.compareCmd(), a.stepsCmd(), a.remarksCmd(), a.slowerCmd(), a.markCmd(), a.unmarkCmd(), a.shareCmd(), a.sharesCmd(), a.unshareCmd(), a.reportCmd(), a.runFetchCmd(), stop, a.runNameCmd(), a.labelCmd("run", "RUN", "newest", a.labelRun))
}

func (a *App) runStop(ctx context.Context, id, leg string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.StopRunWithResponse(ctx, id, api.Stop{Leg: given(leg)})
	if err != nil || r.JSON200 == nil {
		return a.Failed("stop the run", err, r)
	}
	run := r.JSON200
	return a.Show(run, func() {
		going := 0
		for _, l := range run.Legs {
			if l.Stopping != nil {
				going++
			}
		}
		if going == 0 {
			fmt.Fprintln(a.Out, run.Sentence)
			return
		}
		fmt.Fprintf(a.Out, "Stopping; %s still at work. Follow it with: tessellant run watch %s\n", Plural(going, "device"), run.Id)
	})
}

func (a *App) runCheck(ctx context.Context, q api.RunRequest) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.CheckRunWithResponse(ctx, q)
	if err != nil || r.JSON200 == nil {
		return a.Failed("plan the run", err, r)
	}
	p := r.JSON200
	if err := a.Show(p, func() { a.planText(p) }); err != nil {
		return err
	}
	for _, f := range p.Findings {
		if f.Level == api.Blocks && f.Device == nil {
			return &Exit{verdict.ExitNothingSaid, errors.New("the run can't start so")}
		}
	}
	return nil
}

func (a *App) runStart(ctx context.Context, q api.RunRequest, watch bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	key := ulid.Make().String() // a request that the network made us send twice starts one run
	r, err := client.StartRunWithResponse(ctx, &api.StartRunParams{IdempotencyKey: &key}, q)
	run := r2(r, func() (*api.Run, *api.Run) { return r.JSON201, r.JSON200 })
	if err != nil || run == nil {
		return a.Failed("start the run", err, r)
	}
	return a.started(ctx, run, watch)
}

// started tells of a run that was started, or watches it.
func (a *App) started(ctx context.Context, run *api.Run, watch bool) error {
	switch {
	case run.Routes != nil:
		return a.watchRouted(ctx, run)
	case watch:
		return a.watch(ctx, run)
	}
	return a.Show(run, func() {
		fmt.Fprintf(a.Out, "Started run %s: %s with %s on %s.\n", calledText(run), buildsText(run), run.Package, legsText(run))
		if f := run.Forecast; f != nil {
			fmt.Fprintln(a.Out, forecastText(f))
		}
		a.leftOut(run)
		fmt.Fprintf(a.Out, "Follow it with: tessellant run watch %d\n", run.Number)
	})
}

// leftOut says which chosen devices do not take part, and why.
func (a *App) leftOut(r *api.Run) {
	for _, f := range r.Findings {
		text := findingText(f)
		if f.Level == api.Blocks {
			text = "Left out: " + strings.Replace(text, fmt.Sprintf("(%s; ", f.Level), "(", 1)
		}
		indented(a.Out, 0, text)
	}
}

func (a *App) getRun(ctx context.Context, id string) (*api.Run, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetRunWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("show the run", err, r)
	}
	return r.JSON200, nil
}

func (a *App) runList(ctx context.Context, p api.ListRunsParams) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListRunsWithResponse(ctx, &p)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the runs", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 && (p.Build != nil || p.Package != nil || p.Verdict != nil || p.Label != nil || p.By != nil || p.Search != nil) {
			fmt.Fprintln(a.Out, "No run fits.")
			return
		}
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "No runs yet. Start one with: tessellant run start --build REF --package REF --watch")
			return
		}
		t := NewTable(a.Out, "run", "name", "build", "package", "verdict", "", "started")
		for _, x := range r.JSON200.Items {
			v := "running"
			if x.Done {
				v = string(Deref(x.Verdict))
			}
			t.AppendRow(table.Row{fmt.Sprint(x.Number), clipTo(x.Name, 24), x.Build, x.Package, v, x.Sentence, ago(x.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

func (a *App) runText(ctx context.Context, r *api.Run) {
	indented(a.Out, 0, r.Sentence)
	fmt.Fprintln(a.Out)
	took := "still running"
	if r.Ended != nil {
		took = TookText(r.Ended.Sub(r.Created))
	}
	which := whichDevices(r)
	cases := strings.Join(append(append([]string{}, Deref(r.Cases)...), prefixed("tag ", Deref(r.Tags))...), ", ")
	confirm := ""
	if r.Confirm > 0 {
		confirm = Plural(r.Confirm, "more try")
		confirm = strings.Replace(confirm, "trys", "tries", 1) + " of a failed case"
	}
	inputs := []string{}
	for _, n := range slices.Sorted(maps.Keys(Deref(r.Inputs))) {
		inputs = append(inputs, n+"="+Deref(r.Inputs)[n])
	}
	inputs = append(inputs, prefixed("secret ", Deref(r.Secrets))...)
	stopped := ""
	if r.Stopped != nil {
		stopped = ago(*r.Stopped)
	}
	variants := []string{}
	for _, v := range Deref(r.Variants) {
		variants = append(variants, strings.TrimSuffix(v.Name+" = "+conditions.Set(Deref(v.Conditions)).String(), " = "))
	}
	forecast := ""
	if r.Forecast != nil {
		forecast = forecastText(r.Forecast)
	}
	again := ""
	if r.Again != nil {
		again = fmt.Sprintf("of run %d: %s", r.Again.Number, r.Again.What)
	}
	by := ago(r.Created)
	if r.StartedBy != nil {
		by += " by " + *r.StartedBy
	}
	facts(a.Out, "run", fmt.Sprintf("%d (%s)", r.Number, r.Id), "name", r.Name, "again", again, "labels", labelText(r.Labels), "build", buildsText(r), "package", r.Package, "devices", which, "conditions", conditions.Set(Deref(r.Conditions)).String(), "variants", strings.Join(variants, "; "),
		"cases", cases, "inputs", strings.Join(inputs, ", "), "confirm", confirm, "remarks", remarksText(r.Remarks), "stopped", stopped, "started", by, "took", took, "lent", lentText(r.Lent), "forecast", forecast)
	a.leftOut(r)
	fmt.Fprintln(a.Out)
	a.legTable(r).Render()
	a.answerText(ctx, r)
	fmt.Fprintf(a.Out, "\nStep by step: tessellant run steps %d\nWhat is wrong with screens: tessellant run remarks %[1]d\nSlower than before: tessellant run slower %[1]d\n", r.Number)
}

// said writes a run's sentence, and what is behind it.
func (a *App) said(ctx context.Context, r *api.Run) {
	indented(a.Out, 0, r.Sentence)
	a.answerText(ctx, r)
}

// answerText writes the mosaic, the families, and what happened to the devices that say nothing of the app. Where the service can't say more, there is still all that the run says.
func (a *App) answerText(ctx context.Context, r *api.Run) {
	x, err := a.getAnswer(ctx, r.Id)
	if err != nil {
		x = &api.Answer{}
		indented(a.Out, 0, "The families of failures could not be fetched: "+err.Error())
	}
	a.mosaic(r, Deref(x.LayBy))
	a.families(x)
	a.broken(r)
}

func prefixed(with string, list []string) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = with + x
	}
	return out
}

func (a *App) legTable(r *api.Run) table.Writer {
	head := []any{"device", "model", "system", "verdict", "cases", "took", "leg"}
	if varied(r) {
		head = slices.Insert(head, 1, any("variant"))
	}
	t := NewTable(a.Out, head...)
	for _, l := range r.Legs {
		model := l.Model
		if l.Simulated {
			model += " (simulated)"
		}
		row := table.Row{unitText(l), model, l.System, verdictText(l), caseText(l), legTook(l), l.Id}
		if varied(r) {
			row = slices.Insert(row, 1, any(Deref(l.Variant)))
		}
		t.AppendRow(row)
	}
	return t
}

// varied says whether the legs of a run have variants.
func varied(r *api.Run) bool {
	return slices.ContainsFunc(r.Legs, func(l api.LegSummary) bool { return l.Variant != nil })
}

// legsText says how many legs a run has, in the words of its sentence: as long as each device has one, they are devices.
func legsText(r *api.Run) string {
	var devices []string
	for _, l := range Deref(r.Lines) {
		devices = append(devices, l.Device)
	}
	what := report.LegsAre(len(Deref(r.Variants)), devices)
	return Plural(len(r.Legs), what)
}

// calledText is a run's number, and its name where it has one.
func calledText(r *api.Run) string {
	return strings.TrimSuffix(fmt.Sprintf("%d, %s", r.Number, r.Name), ", ")
}

// buildsText are the builds of a run: for each platform one.
func buildsText(r *api.Run) string {
	return strings.Join(append([]string{r.Build}, Deref(r.OtherBuilds)...), ", ")
}

// unitText is the device that was asked for, and the one that it ran on where that is another.
func unitText(l api.LegSummary) string {
	if l.RanOn != nil {
		return l.Serial + " → " + *l.RanOn
	}
	return l.Serial
}

// legText is a leg's device, and the name of its conditions.
func legText(l api.LegSummary) string { return strings.TrimSpace(unitText(l) + " " + Deref(l.Variant)) }

// verdictText is a leg's verdict, or the stage that it is in.
func verdictText(l api.LegSummary) string {
	if l.Verdict != nil && l.Stage == "done" {
		if l.Attempts > 1 {
			return fmt.Sprintf("%s (attempt %d)", *l.Verdict, l.Attempts)
		}
		return string(*l.Verdict)
	}
	switch {
	case l.Stopping != nil:
		return string(l.Stage) + ", stopping"
	case l.Place != nil:
		return fmt.Sprintf("waiting, %s in the queue", ordinal(*l.Place))
	}
	return string(l.Stage)
}

// broken says of each leg that says nothing of the app what happened, and how to look at it.
func (a *App) broken(r *api.Run) {
	for _, l := range r.Legs {
		if v := Deref(l.Verdict); v == api.Lost || v == api.Invalid || v == api.Stopped {
			fmt.Fprintf(a.Out, "\n%s %s\n", strings.TrimSpace(l.Serial+" "+Deref(l.Variant)), v)
			indented(a.Out, 4, clipTo(Deref(l.Message), 240))
			fmt.Fprintf(a.Out, "    tessellant leg show %s\n", l.Id)
		}
	}
}

func clipTo(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// caseText counts a leg's cases: "7 passed, 1 failed".
func caseText(l api.LegSummary) string {
	var parts []string
	done := 0
	for _, v := range verdict.Order {
		if n := l.Cases[string(v)]; n > 0 {
			done += n
			parts = append(parts, fmt.Sprintf("%d %s", n, v))
		}
	}
	if l.Stage != "done" && l.CasesTotal == 0 { // a program's: its report will say how many
		parts = append([]string{fmt.Sprintf("%d so far", done)}, parts...)
	} else if l.Stage != "done" || done < l.CasesTotal {
		parts = append([]string{fmt.Sprintf("%d of %d", done, l.CasesTotal)}, parts...)
	}
	return strings.Join(parts, ", ")
}

func legTook(l api.LegSummary) string {
	if l.Started == nil {
		return ""
	}
	end := time.Now()
	if l.Ended != nil {
		end = *l.Ended
	}
	return TookText(max(end.Sub(*l.Started), 0))
}

// lentText says for how long labs lent devices to a run.
func lentText(of *[]api.LentTime) string {
	var out []string
	for _, l := range Deref(of) {
		out = append(out, fmt.Sprintf("%.1f min by %s (%s)", l.Seconds/60, l.Lab, Plural(l.Attempts, "attempt")))
	}
	return strings.Join(out, ", ")
}
