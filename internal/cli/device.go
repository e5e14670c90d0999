package cli

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

const whereHelp = `a pattern over a trait, such as maker=Orrery, model='Skerry*', os>=10, form!=tablet; again: all must hold.
Traits: serial platform os api maker model form origin simulated screen width density memory processor language place`

func (a *app) deviceCmd() *cobra.Command {
	var where []string
	list := &cobra.Command{Use: "list", Short: "List devices by serial", Args: cobra.NoArgs,
		Example: "  tessellant device list\n  tessellant device list --where maker=Fennel --where 'os>=10'",
		RunE:    func(c *cobra.Command, _ []string) error { return a.deviceList(c.Context(), where) }}
	list.Flags().StringArrayVar(&where, "where", nil, whereHelp)
	return group("device", "Look at devices", list)
}

func (a *app) deviceList(ctx context.Context, where []string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	all := api.DevicePage{Items: []api.Device{}}
	limit := 200
	for after := (*string)(nil); ; {
		q := &api.ListDevicesParams{Limit: &limit, After: after}
		if len(where) > 0 {
			q.Where = &where
		}
		r, err := client.ListDevicesWithResponse(ctx, q)
		if err != nil || r.JSON200 == nil {
			return a.problem("list the devices", err, status(r), problemOf(r), bodyOf(r))
		}
		all.Items = append(all.Items, r.JSON200.Items...)
		if after = r.JSON200.Next; after == nil {
			break
		}
	}
	return a.show(all, func() {
		if len(all.Items) == 0 {
			fmt.Fprintln(a.out, "No device matches. Plug one in with USB debugging on, or leave the filter out.")
			return
		}
		t := newTable(a.out, "serial", "device", "kind", "Android", "screen", "memory", "language", "state")
		for _, d := range all.Items {
			state := string(d.State)
			if d.Why != nil && *d.Why != "" {
				state += ": " + *d.Why
			}
			t.AppendRow(table.Row{d.Serial, d.Maker + " " + d.Model, kind(d), fmt.Sprintf("%s (API %d)", d.Os, d.Api),
				fmt.Sprintf("%d×%d, %d dp", d.Width, d.Height, d.WidthDp), fmt.Sprintf("%d GB", (d.MemoryMb+512)/1024), d.Language, state})
		}
		t.Render()
	})
}

func kind(d api.Device) string {
	if d.Simulated {
		return string(d.Origin) + ", simulated"
	}
	return string(d.Origin)
}
