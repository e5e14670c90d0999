package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"
)

func (a *app) demoCmd() *cobra.Command {
	var c demoConfig
	var builds string
	cmd := &cobra.Command{Use: "demo", Short: "Start the demo: a service, its console, simulated phones and runs on them", Args: cobra.NoArgs,
		Long: `Start the demo and stay up until Ctrl-C: a service with its console and the demo's simulated
phones behind a real adb server; then upload two versions of Kelpline and their package, run, and print how it
came out; then the same roads in JavaScript and Python, from this machine over WebDriver and as packages. What
was there from the last time is found again. It runs in a checkout of the source.`,
		Example: "  make demo\n  tessellant demo --temper instant --data .data/quick",
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.demo(cmd.Context(), c, builds) }}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "demo", "demo", "folder with fleet.yaml and shore-suite")
	f.StringVar(&c.Data, "data", ".data/demo", "data folder of the service")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7480", "address to listen on")
	f.StringVar(&c.Temper, "temper", "real", "how the phones behave: instant, real or stubborn")
	f.BoolVar(&c.Loose, "loose-cables", false, "let the cable of mar-01 drop now and then")
	f.StringVar(&builds, "builds", "build", "folder with Kelpline's builds; make build makes them")
	return cmd
}

func (a *app) demo(ctx context.Context, c demoConfig, builds string) error {
	h, err := a.startDemo(ctx, c)
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(a.out, "The service is up after %s, with %d simulated phones. Open the console, signed in (the link works once):\n", tookText(h.took), h.phones)
	if err := a.wayIn(ctx); err != nil {
		return err
	}
	if _, err := a.mainJob(ctx, h, c.Dir, builds); err != nil {
		if ctx.Err() != nil {
			fmt.Fprintln(a.out, "\nStopping.")
			return nil
		}
		fmt.Fprintln(a.err, err) // the service stays up, so that one can look
	}
	fmt.Fprintln(a.out, "\nThe console, with another link that signs in once:")
	if err := a.wayIn(ctx); err != nil && ctx.Err() == nil {
		return err
	}
	fmt.Fprintf(a.out, "From another terminal:\n  bin/tessellant login %s < %s\nCtrl-C stops everything; make demo finds it again.\n", a.url, filepath.Join(c.Data, "key"))
	<-ctx.Done()
	fmt.Fprintln(a.out, "Stopping.")
	return nil
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
