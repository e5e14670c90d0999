package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/oklog/ulid/v2"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/runfile"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

func (a *App) scriptCmd() *cobra.Command {
	var markdown bool
	list := &cobra.Command{Use: "words [WORD]", Short: "List the words of a script, or explain one", Args: UpTo(1),
		Example: "  tessellant script words\n  tessellant script words scroll_to",
		RunE: func(_ *cobra.Command, args []string) error {
			if markdown {
				fmt.Fprint(a.Out, testpkg.Reference())
				return nil
			}
			return a.scriptWords(args)
		}}
	list.Flags().BoolVar(&markdown, "markdown", false, "print the documentation page")
	var q runFlags
	var build, device string
	try := &cobra.Command{Use: "try DIR --device SERIAL", Short: "Run a package on one device and print each command live", Args: Exactly(1),
		Long: `Run the package in a folder on one device, and print each case, step, command and check as it happens;
for a failed case also what the device logged just before. The package is uploaded first; unchanged
content makes no new revision. Ctrl-C also stops the run on the device. The exit code is that of the verdict.`,
		Example: "  tessellant script try demo/shore-suite --device orr-01 --case tides.test_tide_table --secret-from-env observer-code=KELPLINE_CODE",
		RunE: func(c *cobra.Command, args []string) error {
			return a.scriptTry(c.Context(), args[0], build, device, &q)
		}}
	try.Flags().StringVar(&build, "build", "", "the build; default: the newest upload")
	try.Flags().StringVar(&device, "device", "", "serial of the device")
	required(try, "device")
	q.register(try.Flags())
	return group("script", "Write test scripts", try, list)
}

func (a *App) scriptWords(args []string) error {
	var out []testpkg.Word
	full := func(w testpkg.Word) string { return strings.TrimPrefix(w.Of+"."+w.Name, ".") }
	for _, w := range testpkg.Vocabulary {
		if len(args) == 0 || w.Name == args[0] || full(w) == args[0] {
			out = append(out, w)
		}
	}
	if len(out) == 0 {
		return fmt.Errorf("there is no word %q; see: tessellant script words", args[0])
	}
	return a.Show(out, func() {
		if len(args) > 0 {
			for _, w := range out {
				fmt.Fprintf(a.Out, "%s\n", strings.TrimPrefix(w.Of+"."+w.Call, "."))
				indented(a.Out, 4, w.Does)
				indented(a.Out, 4, "such as: "+w.Example)
			}
			return
		}
		t := NewTable(a.Out, "word", "what it does")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, WidthMax: 90}})
		for _, w := range out {
			t.AppendRow(table.Row{strings.TrimPrefix(w.Of+"."+w.Call, "."), w.Does})
		}
		t.Render()
	})
}

func (a *App) scriptTry(ctx context.Context, dir, build, device string, q *runFlags) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	pkg, _, err := a.sendPackage(ctx, dir)
	if err != nil {
		return err
	}
	if build == "" {
		one := 1
		r, err := client.ListBuildsWithResponse(ctx, &api.ListBuildsParams{Limit: &one})
		if err != nil || r.JSON200 == nil {
			return a.Failed("find a build", err, r)
		}
		if len(r.JSON200.Items) == 0 {
			return &Exit{verdict.ExitUnreachable, fmt.Errorf("there is no build to try it with; upload one with: tessellant build add FILE")}
		}
		build = r.JSON200.Items[0].Ref
	}
	f := runfile.File{Build: build, Package: pkg.Ref, Devices: []string{device}}
	if err := q.over(&f); err != nil {
		return err
	}
	req, err := asRequest(f)
	if err != nil {
		return err
	}
	key := ulid.Make().String()
	r, err := client.StartRunWithResponse(ctx, &api.StartRunParams{IdempotencyKey: &key}, req)
	if err != nil || r.JSON201 == nil {
		return a.Failed("start the run", err, r)
	}
	run := r.JSON201
	if len(run.Legs) == 0 {
		return &Exit{verdict.ExitNothingSaid, fmt.Errorf("the device takes no part")}
	}
	if !a.JSON {
		fmt.Fprintf(a.Out, "%s with %s on %s; run %s\n", run.Build, run.Package, device, run.Id)
	}
	if err := a.follow(ctx, client, run.Legs[0].Id); err != nil {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if ctx.Err() != nil {
			_, _ = client.StopRunWithResponse(stop, run.Id, api.Stop{})
			return &Exit{verdict.ExitNothingSaid, fmt.Errorf("stopped")}
		}
		return err
	}
	_, leg, err := a.getLeg(ctx, run.Legs[0].Id)
	if err != nil {
		return err
	}
	if err := a.Show(leg, func() { a.tried(ctx, client, leg) }); err != nil {
		return err
	}
	if code := verdict.ExitCode(verdict.Verdict(Deref(leg.Verdict))); code != 0 {
		return &Exit{code, nil}
	}
	return nil
}

// follow writes what happens in a leg until it is over.
func (a *App) follow(ctx context.Context, client *api.ClientWithResponses, leg string) error {
	attempt, seen, place := 0, 0, -1
	lastGood := time.Now()
	for {
		r, err := client.GetTimelineWithResponse(ctx, leg, &api.GetTimelineParams{})
		switch {
		case err == nil && r.JSON200 != nil:
			lastGood = time.Now()
			if r.JSON200.Attempt != attempt {
				attempt, seen = r.JSON200.Attempt, 0
			}
			for _, e := range r.JSON200.Events {
				if e.Seq > seen {
					seen = e.Seq
					a.happened(e)
				}
			}
			if attempt == 0 {
				place = a.sayPlace(ctx, leg, place)
			}
			if !r.JSON200.Live {
				return nil
			}
		case ctx.Err() != nil:
			return ctx.Err()
		case time.Since(lastGood) > watchPatience:
			return a.Failed("follow the run", err, r)
		}
		select {
		case <-time.After(watchEvery):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// sayPlace says how long the queue for the device is, when that has changed.
func (a *App) sayPlace(ctx context.Context, leg string, before int) int {
	_, l, err := a.getLeg(ctx, leg)
	if err != nil || l.Place == nil || *l.Place == before || a.JSON {
		return before
	}
	fmt.Fprintf(a.Out, "waiting for %s: %s in its queue, the device is %s\n", l.Device.Serial, ordinal(*l.Place), stateText(l.Device))
	return *l.Place
}

func ordinal(n int) string {
	switch {
	case n%100 >= 11 && n%100 <= 13:
	case n%10 == 1:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

// happened writes one event.
func (a *App) happened(e timeline.Event) {
	if a.JSON || e.Kind == timeline.Marker && e.Name == "clock" {
		return
	}
	what, detail := eventText(e)
	if e.Kind == timeline.Case && e.Verdict == "" {
		fmt.Fprintln(a.Out)
	}
	line := fmt.Sprintf("%9s  %-10s %-70s %s", clock(e.At), what, clipTo(detail, 110), e.Line)
	fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
}

// tried writes how it came out, and of each failure what the device logged before.
func (a *App) tried(ctx context.Context, client *api.ClientWithResponses, l *api.Leg) {
	if len(l.Attempts) == 0 {
		fmt.Fprintf(a.Out, "\n%s: %s\n", Deref(l.Verdict), Deref(l.Message))
		return
	}
	at := l.Attempts[len(l.Attempts)-1]
	for _, c := range at.Cases {
		v := Deref(c.Verdict)
		a.failure(c)
		if v != api.Failed && v != api.Crashed && v != api.Expired && v != api.Flaky {
			continue
		}
		near, limit, level := c.StartMs+c.TookMs, 24, api.LogLevel("I")
		r, err := client.GetLogWithResponse(ctx, l.Id, &api.GetLogParams{Near: &near, Limit: &limit, Level: &level})
		if err != nil || r.JSON200 == nil || len(r.JSON200.Items) == 0 {
			continue
		}
		fmt.Fprintln(a.Out, "    the device's log until then:")
		for _, x := range r.JSON200.Items {
			if x.At >= c.StartMs && x.At <= near {
				fmt.Fprintf(a.Out, "      %s %s %s: %s\n", clock(x.At), x.Level, x.Tag, clipTo(x.Text, 160))
			}
		}
	}
	fmt.Fprintf(a.Out, "\n%s on %s. All of it: tessellant leg show %s\n", Deref(l.Verdict), at.Serial, l.Id)
}
