package cli

// What holds for the whole workspace.

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
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
	var network, others, led string
	set := &cobra.Command{Use: "set", Short: "Change the settings of the workspace", Args: Nothing,
		Long: `Change the settings of the workspace. For owners. What is not given stays as it is.

With --program-network on, programs of packages can use the network, but never reach their host itself. With off, they reach only their device.
With --other-apps on, sessions can stop and clear apps that were not installed for them. With off, only those that were.
With --routes, apps can be led to servers on people's own machines from these names (see tessellant route open --help): NAME, NAME:PORT, or *.NAME for
all names below it. With none, from no name.`,
		Example: "  tessellant workspace set --program-network on\n  tessellant workspace set --other-apps on\n  tessellant workspace set --routes 'route.test,*.kelpline.test'",
		RunE: func(c *cobra.Command, _ []string) error {
			q, given := api.SetWorkspaceJSONRequestBody{}, false
			for _, f := range []struct {
				name, value string
				into        **bool
			}{{"--program-network", network, &q.ProgramNetwork}, {"--other-apps", others, &q.OtherApps}} {
				switch f.value {
				case "":
					continue
				case "on", "off":
					on := f.value == "on"
					*f.into, given = &on, true
				default:
					return usage(c, fmt.Sprintf("%s is on or off, not %q", f.name, f.value))
				}
			}
			if c.Flags().Changed("routes") {
				list := []string{}
				if led != "none" {
					list = strings.Split(led, ",")
				}
				q.Routes, given = &list, true
			}
			if !given {
				return usage(c, c.CommandPath()+" needs --program-network, --other-apps or --routes")
			}
			return a.workspaceSet(c.Context(), q)
		}}
	set.Flags().StringVar(&network, "program-network", "", "on or off")
	set.Flags().StringVar(&others, "other-apps", "", "on or off")
	set.Flags().StringVar(&led, "routes", "", "names, with a comma between, or none")
	list := &cobra.Command{Use: "list", Short: "List all workspaces", Args: Nothing, Long: "List all workspaces of the installation. For operators.", Example: "  tessellant workspace list",
		RunE: func(c *cobra.Command, _ []string) error { return a.workspaceList(c.Context()) }}
	add := &cobra.Command{Use: "add NAME", Short: "Make a workspace", Args: Exactly(1), Example: "  tessellant workspace add tide-team\n  tessellant key add ada --role owner --workspace tide-team",
		Long: "Make a workspace for another team. It has its own builds, packages, runs, sessions and keys; all workspaces share the devices.\nFor operators.",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.AddWorkspaceWithResponse(c.Context(), api.AddWorkspaceJSONRequestBody{Name: args[0]})
			if err != nil || r.JSON201 == nil {
				return a.Failed("make the workspace", err, r)
			}
			return a.Show(r.JSON201, func() {
				fmt.Fprintf(a.Out, "Workspace %s is made. Give its owner a key with:\n  tessellant key add OWNER --role owner --workspace %s\n", r.JSON201.Name, r.JSON201.Name)
			})
		}}
	return group("workspace", "Show and change workspaces and their settings", show, set, list, add)
}

func (a *App) workspaceSet(ctx context.Context, q api.SetWorkspaceJSONRequestBody) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.SetWorkspaceWithResponse(ctx, q)
	if err != nil || r.JSON200 == nil {
		return a.Failed("change the workspace", err, r)
	}
	return a.workspaceText(r.JSON200)
}

func (a *App) workspaceText(me *api.Me) error {
	return a.Show(me, func() {
		network := "off: they reach their device and nothing else"
		others := "off: sessions stop and clear only apps that were installed for them"
		if me.OtherApps {
			others = "on: sessions stop and clear any app"
		}
		if me.ProgramNetwork {
			network = "on: they reach others, but not their host"
		}
		facts(a.Out, "workspace", me.Workspace, "your role", string(me.Role), "network for programs", network, "other apps", others, "routes from", cmp.Or(strings.Join(me.Routes, ", "), "no name"))
	})
}

func (a *App) workspaceList(ctx context.Context) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListWorkspacesWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the workspaces", err, r)
	}
	return a.Show(r.JSON200, func() {
		t := NewTable(a.Out, "workspace", "keys", "made")
		for _, w := range r.JSON200.Items {
			t.AppendRow(table.Row{w.Name, w.Keys, ago(w.Created)})
		}
		t.Render()
	})
}
