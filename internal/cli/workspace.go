package cli

// What holds for the whole workspace.

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *app) workspaceCmd() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "Show what holds for the workspace", Args: cobra.NoArgs, Example: "  tessellant workspace show",
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.client()
			if err != nil {
				return err
			}
			r, err := client.GetMeWithResponse(c.Context())
			if err != nil || r.JSON200 == nil {
				return a.problem("show the workspace", err, status(r), problemOf(r), bodyOf(r))
			}
			return a.workspaceText(r.JSON200)
		}}
	var network string
	set := &cobra.Command{Use: "set", Short: "Change what holds for the workspace", Args: cobra.NoArgs,
		Long:    "Change what holds for the workspace. For owners.\n\n--program-network on lets programs of packages use the network of their host; off, they reach their device and nothing else.",
		Example: "  tessellant workspace set --program-network on",
		RunE: func(c *cobra.Command, _ []string) error {
			if network != "on" && network != "off" {
				return fmt.Errorf("--program-network is on or off, not %q", network)
			}
			return a.workspaceSet(c.Context(), network == "on")
		}}
	set.Flags().StringVar(&network, "program-network", "", "on or off")
	_ = set.MarkFlagRequired("program-network")
	return group("workspace", "Look at the workspace, and change what holds for it", show, set)
}

func (a *app) workspaceSet(ctx context.Context, network bool) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.SetWorkspaceWithResponse(ctx, api.SetWorkspaceJSONRequestBody{ProgramNetwork: network})
	if err != nil || r.JSON200 == nil {
		return a.problem("change the workspace", err, status(r), problemOf(r), bodyOf(r))
	}
	return a.workspaceText(r.JSON200)
}

func (a *app) workspaceText(me *api.Me) error {
	return a.show(me, func() {
		network := "off: they reach their device and nothing else"
		if me.ProgramNetwork {
			network = "on: they use their host's network"
		}
		facts(a.out, "workspace", me.Workspace, "your role", string(me.Role), "network for programs", network)
	})
}
