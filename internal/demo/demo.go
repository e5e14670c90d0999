// Package demo shows the main job on simulated phones: it starts a service with the demo's fleet, and types the commands that a newcomer would.
//
// demo stays up, so that one can look; example holds what came out against what was foretold, and exits. Outside of tests, only this package
// starts stand-ins.
package demo

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/cli"
	"tessellant/internal/core/verdict"
)

// demo types commands at a service.
type demo struct {
	*cli.App
}

// Add adds both to the client's commands.
func Add(a *cli.App, root *cobra.Command) {
	d := &demo{a}
	root.AddCommand(d.demoCmd(), d.exampleCmd(), d.cloudCmd())
}

// types shows a command and carries it out. Prefix stands before it, such as a variable that is set. An end with a code that is not among fine is an error.
func (d *demo) types(ctx context.Context, prefix string, fine []int, args ...string) error {
	fmt.Fprintf(d.Out, "\n$ %stessellant %s\n", prefix, strings.Join(args, " "))
	return d.silently(ctx, d.Out, fine, args...)
}

// silently carries a command out without showing it.
func (d *demo) silently(ctx context.Context, out io.Writer, fine []int, args ...string) error {
	var said strings.Builder
	code := cli.Run(ctx, cli.Root(&cli.App{Out: out, Err: d.Err, Key: d.Key}), append([]string{"--url", d.URL}, args...), &said)
	if code != verdict.ExitPassed && !slices.Contains(fine, code) {
		return &cli.Exit{Code: code, Err: fmt.Errorf("tessellant %s: %s", strings.Join(args, " "), strings.TrimSpace(said.String()))}
	}
	return nil
}

// appFailed are the codes that are fine where the demo's app has faults.
var appFailed = []int{verdict.ExitAppFailed}

func (d *demo) demoCmd() *cobra.Command {
	var c demoConfig
	var builds string
	var again bool
	cmd := &cobra.Command{Use: "demo", Short: "Start the demo: service, console, simulated phones, runs", Args: cli.Nothing,
		Long: `Start the demo and keep it running until Ctrl-C: a service with its console, and simulated phones behind a real
adb server. The demo uploads two versions of the app Kelpline with its test package, runs them and prints the results.
Then it runs suites in JavaScript and Python, from this machine over WebDriver and as packages. A second start finds
the results again and runs nothing new without --again. Start it in a checkout of the source.`,
		Example: "  make demo\n  tessellant demo --temper instant --data .data/quick",
		RunE:    func(cmd *cobra.Command, _ []string) error { return d.stay(cmd.Context(), c, builds, again) }}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "demo", "demo", "folder with fleet.yaml and shore-suite")
	f.StringVar(&c.Data, "data", ".data/demo", "data folder of the service")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7480", "address to listen on")
	f.StringVar(&c.Temper, "temper", "real", temperHelp)
	f.StringSliceVar(&c.Phones, "phones", nil, phonesHelp)
	f.BoolVar(&c.Loose, "loose-cables", false, "disconnect mar-01 now and then")
	f.BoolVar(&again, "again", false, "do the whole job again, even if its runs exist")
	f.StringVar(&builds, "builds", "build", "folder with Kelpline's builds; make build makes them")
	return cmd
}

func (d *demo) stay(ctx context.Context, c demoConfig, builds string, again bool) error {
	h, err := d.startDemo(ctx, c)
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(d.Out, "The service is up after %s, with %d simulated phones. Open the console, signed in (the link works once):\n", cli.TookText(h.took), h.phones)
	if err := d.wayIn(ctx); err != nil {
		return err
	}
	earlier := 0
	if !again {
		if earlier, err = d.earlierRuns(ctx); err != nil {
			return err
		}
	}
	if earlier > 0 {
		fmt.Fprintf(d.Out, "\nThe job was done before: %s are in the console. Do it once more with: bin/tessellant demo --again\n", cli.Plural(earlier, "run"))
	} else if _, err := d.mainJob(ctx, h, c.Dir, builds); err != nil {
		if ctx.Err() != nil {
			fmt.Fprintln(d.Out, "\nStopping.")
			return nil
		}
		fmt.Fprintln(d.Err, err) // the service stays up, so that one can look
	}
	if earlier == 0 {
		fmt.Fprintln(d.Out, "\nThe console, with another link that signs in once:")
		if err := d.wayIn(ctx); err != nil && ctx.Err() == nil {
			return err
		}
	}
	fmt.Fprintf(d.Out, "From another terminal:\n  bin/tessellant login %s < %s\nCtrl-C stops everything; make demo finds it again.\n", d.URL, filepath.Join(c.Data, "key"))
	<-ctx.Done()
	fmt.Fprintln(d.Out, "Stopping.")
	return nil
}

// earlierRuns counts the runs that are there; 0 where some that the job makes are missing.
func (d *demo) earlierRuns(ctx context.Context) (int, error) {
	client, err := d.Client()
	if err != nil {
		return 0, err
	}
	limit := 200
	runs, err := client.ListRunsWithResponse(ctx, &api.ListRunsParams{Limit: &limit})
	if err != nil || runs.JSON200 == nil {
		return 0, d.Failed("list the runs", err, runs)
	}
	sessions, err := client.ListSessionsWithResponse(ctx, &api.ListSessionsParams{})
	if err != nil || sessions.JSON200 == nil {
		return 0, d.Failed("list the sessions", err, sessions)
	}
	hosts, err := client.ListHostsWithResponse(ctx)
	if err != nil || hosts.JSON200 == nil {
		return 0, d.Failed("list the hosts", err, hosts)
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
func (d *demo) wayIn(ctx context.Context) error {
	link, err := d.ConsoleLink(ctx)
	if err == nil {
		fmt.Fprintf(d.Out, "  %s\n", link)
	}
	return err
}
