package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *app) demoCmd() *cobra.Command {
	var c demoConfig
	var builds string
	var again bool
	cmd := &cobra.Command{Use: "demo", Short: "Start the demo: a service, its console, simulated phones and runs on them", Args: cobra.NoArgs,
		Long: `Start the demo and stay up until Ctrl-C: a service with its console and the demo's simulated
phones behind a real adb server; then upload two versions of Kelpline and their package, run, and print how it
came out; then the same roads in JavaScript and Python, from this machine over WebDriver and as packages. What
was there from the last time is found again, and not run anew unless --again says so. It runs in a checkout of the source.`,
		Example: "  make demo\n  tessellant demo --temper instant --data .data/quick",
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.demo(cmd.Context(), c, builds, again) }}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "demo", "demo", "folder with fleet.yaml and shore-suite")
	f.StringVar(&c.Data, "data", ".data/demo", "data folder of the service")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7480", "address to listen on")
	f.StringVar(&c.Temper, "temper", "real", temperHelp)
	f.StringSliceVar(&c.Phones, "phones", nil, phonesHelp)
	f.BoolVar(&c.Loose, "loose-cables", false, "let the cable of mar-01 drop now and then")
	f.BoolVar(&again, "again", false, "do the whole job once more, also where its runs are there")
	f.StringVar(&builds, "builds", "build", "folder with Kelpline's builds; make build makes them")
	return cmd
}

func (a *app) demo(ctx context.Context, c demoConfig, builds string, again bool) error {
	h, err := a.startDemo(ctx, c)
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(a.out, "The service is up after %s, with %d simulated phones. Open the console, signed in (the link works once):\n", tookText(h.took), h.phones)
	if err := a.wayIn(ctx); err != nil {
		return err
	}
	earlier := 0
	if !again {
		if earlier, err = a.earlierRuns(ctx); err != nil {
			return err
		}
	}
	if earlier > 0 {
		fmt.Fprintf(a.out, "\nThe job was done before: %s are in the console. Do it once more with: bin/tessellant demo --again\n", plural(earlier, "run"))
	} else if _, err := a.mainJob(ctx, h, c.Dir, builds); err != nil {
		if ctx.Err() != nil {
			fmt.Fprintln(a.out, "\nStopping.")
			return nil
		}
		fmt.Fprintln(a.err, err) // the service stays up, so that one can look
	}
	if earlier == 0 {
		fmt.Fprintln(a.out, "\nThe console, with another link that signs in once:")
		if err := a.wayIn(ctx); err != nil && ctx.Err() == nil {
			return err
		}
	}
	fmt.Fprintf(a.out, "From another terminal:\n  bin/tessellant login %s < %s\nCtrl-C stops everything; make demo finds it again.\n", a.url, filepath.Join(c.Data, "key"))
	<-ctx.Done()
	fmt.Fprintln(a.out, "Stopping.")
	return nil
}

// earlierRuns counts the runs that are there; 0 where some that the job makes are missing.
func (a *app) earlierRuns(ctx context.Context) (int, error) {
	client, err := a.client()
	if err != nil {
		return 0, err
	}
	limit := 200
	runs, err := client.ListRunsWithResponse(ctx, &api.ListRunsParams{Limit: &limit})
	if err != nil || runs.JSON200 == nil {
		return 0, a.problem("list the runs", err, status(runs), problemOf(runs), bodyOf(runs))
	}
	sessions, err := client.ListSessionsWithResponse(ctx, &api.ListSessionsParams{})
	if err != nil || sessions.JSON200 == nil {
		return 0, a.problem("list the sessions", err, status(sessions), problemOf(sessions), bodyOf(sessions))
	}
	hosts, err := client.ListHostsWithResponse(ctx)
	if err != nil || hosts.JSON200 == nil {
		return 0, a.problem("list the hosts", err, status(hosts), problemOf(hosts), bodyOf(hosts))
	}
	done := map[string]bool{}
	for _, r := range runs.JSON200.Items {
		if name, _, _ := strings.Cut(r.Package, "@"); r.Done && (r.Verdict == nil || *r.Verdict != api.Stopped) {
			done[name] = true
			done[name+" "+r.BuildId] = true
		}
	}
	builds := 0
	for what := range done {
		if strings.HasPrefix(what, "shore-suite ") {
			builds++
		}
	}
	missing := builds < len(versions) || len(sessions.JSON200.Items) == 0
	for _, s := range suites {
		missing = missing || (!done[s.name] && len(hosts.JSON200.Items) > 0 && hosts.JSON200.Items[0].Isolation != "none")
	}
	if missing {
		return 0, nil
	}
	return len(runs.JSON200.Items), nil
}

// wayIn prints a link to the console that signs in once.
func (a *app) wayIn(ctx context.Context) error {
	t, err := a.ticket(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "  %s\n", a.consoleLink(t))
	return nil
}
