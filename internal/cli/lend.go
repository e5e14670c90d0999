package cli

// Devices that a workspace lends to other installations.

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) labLendCmd() *cobra.Command {
	var q api.NewLending
	var pool, workspace string
	var atOnce int
	var off bool
	lend := &cobra.Command{Use: "lend", Short: "Lend the devices of a pool to other installations", Args: Nothing,
		Long: `Lend the devices of a pool of the workspace to other installations, or show what is lent. For operators; all may look.
All that the pool's filter chooses are lent, however many of them a run takes.

Another installation uses them with a key of role borrower and four lines in its lab file:
  - name: gull
    kind: tessellant
    address: https://tessellant.example
    key: {env: GULL_KEY}
A borrower sees the lent devices alone, and opens sessions on them; builds that it brings, and the evidence, lie in this workspace, too. It is best made for that.`,
		Example: "  tessellant pool add spare --where 'origin!=cloud'\n  tessellant lab lend --pool spare --at-once 3\n  tessellant key add tern-team --role borrower\n  tessellant lab lend --off",
		RunE: func(c *cobra.Command, _ []string) error {
			if off == (pool != "") {
				if off {
					return usage(c, "--off and --pool can't go together")
				}
				return a.lending(c.Context())
			}
			if pool != "" {
				q.Pool = &pool
			}
			if workspace != "" {
				q.Workspace = &workspace
			}
			if atOnce > 0 {
				q.AtOnce = &atOnce
			}
			return a.lend(c.Context(), q)
		}}
	f := lend.Flags()
	f.StringVar(&pool, "pool", "", "the pool whose devices are lent")
	f.IntVar(&atOnce, "at-once", 0, "sessions that a borrower may have open (default: one for each device)")
	f.StringVar(&workspace, "workspace", "", "another workspace")
	f.BoolVar(&off, "off", false, "lend nothing from now on; sessions that are open go on")
	return lend
}

func (a *App) lending(ctx context.Context) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetLendingWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.Failed("see what is lent", err, r)
	}
	return a.lendingText(r.JSON200)
}

func (a *App) lend(ctx context.Context, q api.NewLending) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.SetLendingWithResponse(ctx, q)
	if err != nil || r.JSON200 == nil {
		return a.Failed("lend the devices", err, r)
	}
	return a.lendingText(r.JSON200)
}

func (a *App) lendingText(l *api.Lending) error {
	return a.Show(l, func() {
		if l.Pool == nil {
			fmt.Fprintf(a.Out, "The workspace %s lends nothing.\n", l.Workspace)
			return
		}
		fmt.Fprintf(a.Out, "The workspace %s lends the pool %s: %s, %s at a time for each borrower.\n", l.Workspace, *l.Pool, Plural(l.Devices, "device"), Plural(l.AtOnce, "session"))
	})
}
