package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tessellant/api"
	"tessellant/internal/core/pools"
)

// poolFlags say what a pool is.
type poolFlags struct {
	takeFlags
	shares string
}

func (q *poolFlags) register(f *pflag.FlagSet) {
	q.takeFlags.register(f, "take one device per model; any unit of the model can run its legs")
	f.StringVar(&q.shares, "shares", "", "CSV file with the columns trait,value,share: how many of your users have each value; for --differ")
}

func (q *poolFlags) definition(f *pflag.FlagSet) (d api.PoolDefinition, err error) {
	if err := q.check(f); err != nil {
		return d, err
	}
	d = api.PoolDefinition{Take: api.PoolDefinitionTakeAll, Where: listed(q.where), Devices: listed(q.devices), Models: &q.anyUnit}
	switch {
	case q.any > 0:
		d.Take, d.N = api.PoolDefinitionTakeAny, &q.any
	case q.differ > 0:
		d.Take, d.N = api.PoolDefinitionTakeDiffer, &q.differ
	}
	if q.shares == "" {
		return d, nil
	}
	file, err := os.Open(q.shares)
	if err != nil {
		return d, err
	}
	defer file.Close()
	shares, err := pools.ReadShares(file)
	if err != nil {
		return d, fmt.Errorf("%s: %w", q.shares, err)
	}
	var out []api.Share
	for _, s := range shares {
		out = append(out, api.Share{Trait: s.Trait, Value: s.Value, Of: s.Of})
	}
	d.Shares = &out
	return d, nil
}

func (a *App) poolCmd() *cobra.Command {
	define := func(use, short, example string, args cobra.PositionalArgs, do func(context.Context, []string, api.PoolDefinition) error) *cobra.Command {
		var q poolFlags
		c := &cobra.Command{Use: use, Short: short, Args: args, Example: example, RunE: func(c *cobra.Command, args []string) error {
			d, err := q.definition(c.Flags())
			if err != nil {
				return err
			}
			return do(c.Context(), args, d)
		}}
		q.register(c.Flags())
		return c
	}
	add := define("add NAME", "Save a set of devices under a name", "  tessellant pool add everyday --where 'os>=10' --differ 8\n  tessellant pool add desk-3 --where label:desk=3\n  tessellant pool add small --where 'width<400' --any 3", Exactly(1),
		func(ctx context.Context, args []string, d api.PoolDefinition) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.AddPoolWithResponse(ctx, api.NewPool{Name: args[0], Definition: d})
			if err != nil || r.JSON201 == nil {
				return a.Failed("add the pool", err, r)
			}
			return a.Show(r.JSON201, func() { a.poolText(r.JSON201) })
		})
	set := define("set NAME", "Change which devices a pool takes", "  tessellant pool set everyday --where 'os>=10' --differ 6", Exactly(1),
		func(ctx context.Context, args []string, d api.PoolDefinition) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.SetPoolWithResponse(ctx, args[0], d)
			if err != nil || r.JSON200 == nil {
				return a.Failed("change the pool", err, r)
			}
			return a.Show(r.JSON200, func() { a.poolText(r.JSON200) })
		})
	try := define("try", "Show which devices a pool would take, without saving it", "  tessellant pool try --where maker=Orrery,Fennel --differ 4", Nothing,
		func(ctx context.Context, _ []string, d api.PoolDefinition) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.TryPoolWithResponse(ctx, d)
			if err != nil || r.JSON200 == nil {
				return a.Failed("try the pool", err, r)
			}
			return a.Show(r.JSON200, func() { a.poolText(r.JSON200) })
		})
	list := &cobra.Command{Use: "list", Short: "List pools by name", Args: Nothing, Example: "  tessellant pool list",
		RunE: func(c *cobra.Command, _ []string) error { return a.poolList(c.Context()) }}
	show := &cobra.Command{Use: "show NAME", Short: "Show a pool, the devices it takes now, and what they cover", Args: Exactly(1), Example: "  tessellant pool show everyday",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetPoolWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("show the pool", err, r)
			}
			return a.Show(r.JSON200, func() { a.poolText(r.JSON200) })
		}}
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a pool", Args: Exactly(1), Long: "Remove a pool. Runs that were started with it stay as they are.", Example: "  tessellant pool remove everyday",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.RemovePoolWithResponse(c.Context(), args[0])
			if err != nil || status(r) != 204 {
				return a.Failed("remove the pool", err, r)
			}
			return a.Show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.Out, "The pool %s is removed.\n", args[0]) })
		}}
	return group("pool", "Save sets of devices under a name", add, set, list, show, try, remove)
}

func (a *App) poolText(p *api.Pool) {
	whose := "It"
	if p.Name != "" {
		whose = "The pool " + p.Name
	}
	fmt.Fprintf(a.Out, "%s takes %s of %s", whose, p.Says, filterText(p.Definition))
	fmt.Fprintf(a.Out, ": %d of %d now.\n", len(p.Serials), p.Matches)
	if len(p.Serials) > 0 {
		fmt.Fprintf(a.Out, "    %s\n", strings.Join(p.Serials, " "))
	}
	if p.Cover == nil || p.Matches == 0 {
		return
	}
	a.coverText(p.Cover)
	fmt.Fprintln(a.Out)
	t := NewTable(a.Out, "trait", "covered", "of users or values", "not covered")
	for _, c := range p.Cover.Traits {
		t.AppendRow(table.Row{c.Trait, strings.Join(c.Covered, ", "), fmt.Sprintf("%.0f %%", 100*c.Share), strings.Join(c.Missing, ", ")})
	}
	t.Render()
}

func filterText(d api.PoolDefinition) string {
	parts := append(append([]string{}, Deref(d.Where)...), Deref(d.Devices)...)
	if len(parts) == 0 {
		return "the devices"
	}
	return strings.Join(parts, " ")
}

func (a *App) poolList(ctx context.Context) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	all := api.PoolPage{Items: []api.Pool{}}
	limit := 200
	for after := (*string)(nil); ; {
		r, err := client.ListPoolsWithResponse(ctx, &api.ListPoolsParams{Limit: &limit, After: after})
		if err != nil || r.JSON200 == nil {
			return a.Failed("list the pools", err, r)
		}
		all.Items = append(all.Items, r.JSON200.Items...)
		if after = r.JSON200.Next; after == nil {
			break
		}
	}
	return a.Show(all, func() {
		if len(all.Items) == 0 {
			fmt.Fprintln(a.Out, "No pools yet. Save one with: tessellant pool add everyday --where 'os>=10' --differ 8")
			return
		}
		t := NewTable(a.Out, "pool", "takes", "of", "now", "devices")
		for _, p := range all.Items {
			t.AppendRow(table.Row{p.Name, p.Says, filterText(p.Definition), fmt.Sprintf("%d of %d", len(p.Serials), p.Matches), clipTo(strings.Join(p.Serials, " "), 48)})
		}
		t.Render()
	})
}
