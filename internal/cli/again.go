package cli

// A run again, or the part of it that matters.

import (
	"context"
	"fmt"
	"time"

	"github.com/oklog/ulid/v2"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/labels"
)

func (a *App) againCmd() *cobra.Command {
	var failed, watch, check bool
	var families, cases, devices, with, secrets []string
	var build, name string
	c := &cobra.Command{Use: "again RUN", Short: "Start a run again, or the part of it that matters", Args: Exactly(1),
		Long: `Start a run again: the same package on the same devices, set in the same way. With --failed, run only what did not pass. With --family, only
where these families showed. --case and --device narrow it further. With --build, test another build. It says how much device time that saves.`,
		Example: "  tessellant run again newest --failed --watch\n  tessellant run again newest --failed --build kelpline/android@newest\n  tessellant run again 1 --check",
		RunE: func(c *cobra.Command, args []string) error {
			q := api.AgainRequest{Failed: &failed, Families: listed(families), Cases: listed(cases), Devices: listed(devices), Build: given(build), Name: given(name)}
			l, err := labels.Parse(with)
			if err != nil {
				return fmt.Errorf("%w; write name=value, such as branch=main", err)
			}
			q.Labels = mapped(l)
			if q.Secrets, err = secretsOf(secrets); err != nil {
				return err
			}
			if check {
				return a.againCheck(c.Context(), args[0], q)
			}
			return a.again(c.Context(), args[0], q, watch)
		}}
	f := c.Flags()
	f.BoolVar(&failed, "failed", false, "only what did not pass")
	f.StringArrayVar(&families, "family", nil, "only where this family showed: its id, or its first characters; repeat for more")
	f.StringArrayVar(&cases, "case", nil, "only these cases; * for anything but a slash; repeat for more")
	f.StringArrayVar(&devices, "device", nil, "only on this device: serial, or serial/variant; repeat for more")
	f.StringVar(&build, "build", "", "another build")
	f.StringVar(&name, "name", "", "what people call it; default: as the run before")
	f.StringArrayVar(&with, "label", nil, "a label, such as branch=main; default: those of the run before")
	f.StringArrayVar(&secrets, "secret-from-env", nil, "a secret input and the variable that has it: NAME=VARIABLE")
	f.BoolVar(&watch, "watch", false, "wait until the run has finished, and exit with its verdict")
	f.BoolVar(&check, "check", false, "only show what would run again, and what that saves")
	return c
}

func (a *App) againCheck(ctx context.Context, id string, q api.AgainRequest) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.CheckAgainWithResponse(ctx, id, q)
	if err != nil || r.JSON200 == nil {
		return a.Failed("plan to run it again", err, r)
	}
	p := r.JSON200
	return a.Show(p, func() {
		fmt.Fprintf(a.Out, "%d of %s, %d of %s.\n", p.Legs, Plural(p.OfLegs, "leg"), p.Cases, Plural(p.OfCases, "case"))
		fmt.Fprintln(a.Out, savesText(p))
		if p.Forecast != nil {
			fmt.Fprintln(a.Out, forecastText(p.Forecast))
		}
		for _, f := range p.Findings {
			indented(a.Out, 0, findingText(f))
		}
	})
}

func savesText(p *api.AgainPlan) string {
	part := time.Duration(p.DeviceSeconds * float64(time.Second))
	if p.SavesSeconds < 1 {
		return fmt.Sprintf("It took %s of device time.", TookText(part))
	}
	return fmt.Sprintf("About %s of device time; that saves %s.", TookText(part), TookText(time.Duration(p.SavesSeconds*float64(time.Second))))
}

func (a *App) again(ctx context.Context, id string, q api.AgainRequest, watch bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	p, err := client.CheckAgainWithResponse(ctx, id, q)
	if err != nil || p.JSON200 == nil {
		return a.Failed("run it again", err, p)
	}
	key := ulid.Make().String()
	r, err := client.RunAgainWithResponse(ctx, id, &api.RunAgainParams{IdempotencyKey: &key}, q)
	run := r2(r, func() (*api.Run, *api.Run) { return r.JSON201, r.JSON200 })
	if err != nil || run == nil {
		return a.Failed("run it again", err, r)
	}
	if !a.JSON {
		fmt.Fprintf(a.Out, "Again of run %d: %s. %s\n", run.Again.Number, run.Again.What, savesText(p.JSON200))
	}
	return a.started(ctx, run, watch)
}
