package cli

// What holds for the whole workspace.

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) workspaceCmd() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "Show the settings of the workspace", Args: Nothing, Example: "  tessellant workspace show",
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetMeWithResponse(c.Context())
			if err != nil || r.JSON200 == nil {
				return a.Failed("show the workspace", err, r)
			}
			return a.workspaceText(r.JSON200)
		}}
	var network string
	set := &cobra.Command{Use: "set", Short: "Change the settings of the workspace", Args: Nothing,
		Long:    "Change the settings of the workspace. For owners.\n\nWith --program-network on, programs of packages can use the network of their host. With off, they reach only their device.",
		Example: "  tessellant workspace set --program-network on",
		RunE: func(c *cobra.Command, _ []string) error {
			if network != "on" && network != "off" {
				return fmt.Errorf("--program-network is on or off, not %q", network)
			}
			return a.workspaceSet(c.Context(), network == "on")
		}}
	set.Flags().StringVar(&network, "program-network", "", "on or off")
	required(set, "program-network")
	return group("workspace", "Show and change the settings of the workspace", show, set)
}

func (a *App) workspaceSet(ctx context.Context, network bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.SetWorkspaceWithResponse(ctx, api.SetWorkspaceJSONRequestBody{ProgramNetwork: network})
	if err != nil || r.JSON200 == nil {
		return a.Failed("change the workspace", err, r)
	}
	return a.workspaceText(r.JSON200)
}

func (a *App) workspaceText(me *api.Me) error {
	return a.Show(me, func() {
		network := "off: they reach their device and nothing else"
		if me.ProgramNetwork {
			network = "on: they use their host's network"
		}
		facts(a.Out, "workspace", me.Workspace, "your role", string(me.Role), "network for programs", network)
	})
}
