package cli

import (
	"context"
	"fmt"
	"strings"

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
	show := &cobra.Command{Use: "show SERIAL", Short: "Show a device, who holds it, and how its newest legs came out", Args: cobra.ExactArgs(1),
		Example: "  tessellant device show orr-01",
		RunE:    func(c *cobra.Command, args []string) error { return a.deviceShow(c.Context(), args[0]) }}
	return group("device", "Look at devices", list, show)
}

func (a *app) deviceShow(ctx context.Context, serial string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.GetDeviceWithResponse(ctx, serial)
	if err != nil || r.JSON200 == nil {
		return a.problem("show the device", err, status(r), problemOf(r), bodyOf(r))
	}
	limit := 10
	legs, err := client.ListLegsWithResponse(ctx, &api.ListLegsParams{Device: serial, Limit: &limit})
	if err != nil || legs.JSON200 == nil {
		return a.problem("list the device's legs", err, status(legs), problemOf(legs), bodyOf(legs))
	}
	d := *r.JSON200
	return a.show(map[string]any{"device": d, "legs": legs.JSON200.Items}, func() {
		state := stateText(d)
		if h := d.HeldBy; h != nil {
			state += fmt.Sprintf(" by leg %s since %s", h.Leg, ago(h.Since))
		}
		facts(a.out, "serial", d.Serial, "device", d.Maker+" "+d.Model, "kind", fmt.Sprintf("%s %s%s", d.Origin, d.Form, map[bool]string{true: ", simulated"}[d.Simulated]), "system", fmt.Sprintf("Android %s (API %d)", d.Os, d.Api),
			"screen", fmt.Sprintf("%d×%d, %d dpi, %d dp wide", d.Width, d.Height, d.Density, d.WidthDp), "memory", fmt.Sprintf("%d MB", d.MemoryMb),
			"processors", strings.Join(d.Abis, ", "), "language", d.Language, "state", state, "seen", ago(d.Seen))
		if len(legs.JSON200.Items) == 0 {
			return
		}
		fmt.Fprintln(a.out)
		t := newTable(a.out, "verdict", "cases", "when", "took", "leg")
		for _, l := range legs.JSON200.Items {
			t.AppendRow(table.Row{verdictText(l), caseText(l), ago(l.Created), legTook(l), l.Id})
		}
		t.Render()
	})
}

func stateText(d api.Device) string {
	if d.Why != nil && *d.Why != "" {
		return string(d.State) + ": " + *d.Why
	}
	return string(d.State)
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
			t.AppendRow(table.Row{d.Serial, d.Maker + " " + d.Model, kind(d), fmt.Sprintf("%s (API %d)", d.Os, d.Api),
				fmt.Sprintf("%d×%d, %d dp", d.Width, d.Height, d.WidthDp), fmt.Sprintf("%d GB", (d.MemoryMb+512)/1024), d.Language, stateText(d)})
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
