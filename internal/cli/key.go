package cli

// Keys of a workspace.

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) keyCmd() *cobra.Command {
	var role, expires, workspace string
	ofWorkspace := func(c *cobra.Command) {
		c.Flags().StringVar(&workspace, "workspace", "", "another workspace (for operators)")
	}
	add := &cobra.Command{Use: "add NAME", Short: "Make a key", Args: Exactly(1),
		Long: `Make a key for a person or a program. NAME says who uses it. The key is shown only once. For owners.

What a role may do:
  borrower   use the devices that the workspace lends: for another installation
  viewer     see what the workspace has
  engineer   also upload builds and packages, start and stop tests, and share runs
  owner      also change the settings and the keys of the workspace
  operator   also run the installation: hosts, devices, workspaces, backups
Nobody can make a key that may do more than their own.`,
		Example: "  tessellant key add ci-nightly --role engineer --expires 90d\n  tessellant key add wall-screen --role viewer\n  tessellant key add ada --role owner --workspace tide-team",
		RunE: func(c *cobra.Command, args []string) error {
			q := api.NewKey{Name: args[0], Role: api.Role(role)}
			if expires != "" {
				at, err := untilWhen(expires, time.Now())
				if err != nil {
					return usage(c, err.Error())
				}
				q.Expires = &at
			}
			if workspace != "" {
				q.Workspace = &workspace
			}
			return a.keyAdd(c.Context(), q)
		}}
	add.Flags().StringVar(&role, "role", "", "borrower, viewer, engineer, owner or operator")
	add.Flags().StringVar(&expires, "expires", "", "when the key runs out: 90d, 12h, 2027-01-31 (default: never)")
	ofWorkspace(add)
	required(add, "role")
	list := &cobra.Command{Use: "list", Short: "List keys by name", Args: Nothing, Example: "  tessellant key list",
		RunE: func(c *cobra.Command, _ []string) error { return a.keyList(c.Context(), workspace) }}
	ofWorkspace(list)
	remove := &cobra.Command{Use: "remove NAME", Short: "Withdraw a key", Args: Exactly(1), Example: "  tessellant key remove ci-nightly",
		Long: "Withdraw a key, by its name or its id. It ends at once, with the sessions that it opened, its live events and the browsers\nthat signed in with it. Runs that it started go on. For owners.",
		RunE: func(c *cobra.Command, args []string) error { return a.keyRemove(c.Context(), args[0], workspace) }}
	ofWorkspace(remove)
	return group("key", "Give and withdraw keys", add, list, remove)
}

// untilWhen reads a time to come: a date, or how long from now on.
func untilWhen(s string, now time.Time) (time.Time, error) {
	if at, err := time.ParseInLocation(time.DateOnly, s, time.Local); err == nil {
		return at, nil
	}
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n > 0 && n < 100_000 {
			return now.AddDate(0, 0, n), nil
		}
	}
	if d, err := time.ParseDuration(s); err == nil && d > 0 {
		return now.Add(d), nil
	}
	return time.Time{}, fmt.Errorf("--expires is a time like 90d, 12h or 2027-01-31, not %q", s)
}

func (a *App) keyAdd(ctx context.Context, q api.NewKey) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.AddKeyWithResponse(ctx, q)
	if err != nil || r.JSON201 == nil {
		return a.Failed("make a key", err, r)
	}
	return a.Show(r.JSON201, func() {
		k, until := r.JSON201.Made, "does not run out"
		if k.Expires != nil {
			until = "runs out " + runsOut(k)
		}
		fmt.Fprintf(a.Out, "The key %s of workspace %s, role %s, %s. It is shown only now:\n  %s\n", k.Name, k.Workspace, k.Role, until, r.JSON201.Key)
	})
}

func runsOut(k api.Key) string {
	if k.Expires == nil {
		return "never"
	}
	return k.Expires.Local().Format("2 Jan 2006 15:04")
}

func (a *App) keys(ctx context.Context, workspace string) ([]api.Key, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	q := api.ListKeysParams{}
	if workspace != "" {
		q.Workspace = &workspace
	}
	r, err := client.ListKeysWithResponse(ctx, &q)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("list the keys", err, r)
	}
	return r.JSON200.Items, nil
}

func (a *App) keyList(ctx context.Context, workspace string) error {
	keys, err := a.keys(ctx, workspace)
	if err != nil {
		return err
	}
	return a.Show(map[string]any{"items": keys}, func() {
		t := NewTable(a.Out, "key", "role", "runs out", "last used", "made", "id")
		for _, k := range keys {
			out, used := runsOut(k), "never"
			if k.Expired {
				out = "has run out"
			}
			if k.Used != nil {
				used = ago(*k.Used)
			}
			t.AppendRow(table.Row{k.Name, k.Role, out, used, ago(k.Created), k.Id})
		}
		t.Render()
	})
}

func (a *App) keyRemove(ctx context.Context, name, workspace string) error {
	keys, err := a.keys(ctx, workspace)
	if err != nil {
		return err
	}
	id := name // of another workspace's it may be, which the service knows
	for _, k := range keys {
		if k.Name == name {
			id = k.Id
		}
	}
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.RemoveKeyWithResponse(ctx, id)
	if err != nil || status(r) != 204 {
		return a.Failed("withdraw the key", err, r)
	}
	return a.Show(map[string]string{"withdrawn": name}, func() { fmt.Fprintf(a.Out, "%s is withdrawn, and lets nobody in any more.\n", name) })
}
