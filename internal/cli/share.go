package cli

// Links to runs for people who have no key.

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) shareCmd() *cobra.Command {
	var leg string
	var lasts time.Duration
	var without []string
	c := &cobra.Command{Use: "share RUN", Short: "Make a link to a run for people who have no key", Args: Exactly(1),
		Long: `Make a link to a run, or to one leg of it, for people who have no key. It shows the answer, devices, cases, screens and files of this run and
nothing else; inputs are never shown. It runs out, and can be withdrawn. The link is printed only now.`,
		Example: "  tessellant run share newest\n  tessellant run share newest --for 48h --without logs,network\n  tessellant run share newest --leg newest/fen-02",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			q := api.ShareRequest{Leg: given(leg)}
			if c.Flags().Changed("for") {
				seconds := int(lasts.Seconds())
				q.LastsSeconds = &seconds
			}
			var left []api.ShareWithout
			for _, w := range without {
				left = append(left, api.ShareWithout(w))
			}
			q.Without = listed(left)
			r, err := client.AddShareWithResponse(c.Context(), args[0], q)
			if err != nil || r.JSON201 == nil {
				return a.Failed("share the run", err, r)
			}
			return a.Show(r.JSON201, func() {
				fmt.Fprintf(a.Out, "%s%s\nIt works until %s. To withdraw it: tessellant run unshare %s\n", strings.TrimSuffix(a.URL, "/"), r.JSON201.Path, r.JSON201.Share.Expires.Local().Format("2006-01-02 15:04"), r.JSON201.Share.Id)
			})
		}}
	f := c.Flags()
	f.StringVar(&leg, "leg", "", "only this leg: an id, or run/serial")
	f.DurationVar(&lasts, "for", 0, "how long it works, a minute to 2160h; default: a week")
	f.StringSliceVar(&without, "without", nil, "what is left out: logs, network")
	return c
}

func (a *App) sharesCmd() *cobra.Command {
	return &cobra.Command{Use: "shares RUN", Short: "List the links to a run", Args: Exactly(1), Example: "  tessellant run shares newest",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.ListSharesWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("list the shares", err, r)
			}
			return a.Show(r.JSON200, func() {
				if len(r.JSON200.Items) == 0 {
					fmt.Fprintf(a.Out, "No links yet. Make one with: tessellant run share %s\n", args[0])
					return
				}
				t := NewTable(a.Out, "share", "of", "without", "works until", "views", "made")
				for _, x := range r.JSON200.Items {
					of, until := "the run", x.Expires.Local().Format("2006-01-02 15:04")
					if x.Leg != nil {
						of = "leg " + *x.Leg
					}
					switch {
					case x.Withdrawn != nil:
						until = "withdrawn"
					case x.Expires.Before(time.Now()):
						until = "ran out"
					}
					var left []string
					for _, w := range x.Without {
						left = append(left, string(w))
					}
					t.AppendRow(table.Row{x.Id, of, strings.Join(left, ", "), until, x.Views, ago(x.Created) + " by " + x.MadeBy})
				}
				t.Render()
			})
		}}
}

func (a *App) unshareCmd() *cobra.Command {
	return &cobra.Command{Use: "unshare SHARE", Short: "Withdraw a link to a run", Args: Exactly(1), Example: "  tessellant run unshare 01M8PS3M429CSQ51V6ZTZYCQKB",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.RemoveShareWithResponse(c.Context(), args[0])
			if err != nil || r.StatusCode() != 204 {
				return a.Failed("withdraw the share", err, r)
			}
			return a.Show(map[string]any{"withdrawn": args[0]}, func() { fmt.Fprintln(a.Out, "The link has ended.") })
		}}
}
