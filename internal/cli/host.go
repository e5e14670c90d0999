package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) hostCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "host", Short: "Run a host near your devices, and manage hosts", Args: commandsAlone}
	key := &cobra.Command{Use: "key NAME", Short: "Create or replace the key of a host", Args: Exactly(1),
		Long:    "Create the key with which a process joins as the host NAME. The key is shown only once. For operators.\nA process that joined with an older key of this name is disconnected.",
		Example: "  tessellant host key bench-2",
		RunE:    func(c *cobra.Command, args []string) error { return a.hostKey(c.Context(), args[0]) }}
	list := &cobra.Command{Use: "list", Short: "List hosts by name", Args: Nothing, Example: "  tessellant host list",
		RunE: func(c *cobra.Command, _ []string) error { return a.hostList(c.Context()) }}
	remove := &cobra.Command{Use: "remove NAME", Short: "Revoke the key of a host", Args: Exactly(1), Example: "  tessellant host remove bench-2",
		Long: "Revoke a host's key. The host can no longer join and its devices go offline. Past results are kept. For operators.",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.RemoveHostWithResponse(c.Context(), args[0])
			if err != nil || status(r) != 204 {
				return a.Failed("remove the host", err, r)
			}
			return a.Show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.Out, "%s can't join any more.\n", args[0]) })
		}}
	certificate := &cobra.Command{Use: "certificate NAME", Short: "Show the certificate by which a host opens HTTPS", Args: Exactly(1), Example: "  tessellant host certificate bench-1 > tessellant.pem",
		Long: "Write the certificate of a host's proxies as PEM. A test build, or a device, that trusts it lets the network log see the contents of HTTPS; docs/7-evidence.md says how.\nTrust it on devices for tests only: the host can read all HTTPS of apps that trust it.",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetHostCertificateWithResponse(c.Context(), args[0])
			if err != nil || status(r) != 200 {
				return a.Failed("show the host's certificate", err, r)
			}
			return a.Show(map[string]string{"host": args[0], "certificate": string(r.Body)}, func() { fmt.Fprint(a.Out, string(r.Body)) })
		}}
	cmd.AddCommand(key, list, remove, certificate)
	return cmd
}

func (a *App) hostKey(ctx context.Context, name string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.AddHostWithResponse(ctx, api.AddHostJSONRequestBody{Name: name})
	if err != nil || r.JSON201 == nil {
		return a.Failed("make the host's key", err, r)
	}
	return a.Show(r.JSON201, func() {
		fmt.Fprintf(a.Out, "The key of host %s, shown only now. On the machine beside the devices:\n  export TESSELLANT_HOST_KEY=%s\n  tessellant host --join %s\n", name, r.JSON201.Key, a.URL)
	})
}

func (a *App) hostList(ctx context.Context) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListHostsWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the hosts", err, r)
	}
	return a.Show(r.JSON200, func() {
		t := NewTable(a.Out, "host", "kind", "state", "devices", "at work", "programs", "version", "seen")
		for _, h := range r.JSON200.Items {
			seen := ""
			if h.Seen != nil {
				seen = ago(*h.Seen)
			}
			t.AppendRow(table.Row{h.Name, h.Kind, h.State, h.Devices, h.Holds, h.Isolation, Deref(h.Version), seen})
		}
		t.Render()
		for _, h := range r.JSON200.Items {
			var has []string
			for _, n := range slices.Sorted(maps.Keys(h.Runtimes)) {
				if n != "sh" {
					has = append(has, n+" "+h.Runtimes[n])
				}
			}
			switch {
			case len(has) > 0:
				fmt.Fprintf(a.Out, "\nPrograms on %s find %s.\n", h.Name, strings.Join(has, ", "))
			case h.Isolation == "none" && h.IsolationWhy != nil:
				fmt.Fprintf(a.Out, "\n%s runs no programs: %s\n", h.Name, *h.IsolationWhy)
			}
		}
	})
}
