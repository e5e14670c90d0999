package cli

// References: pictures of steps that later ones are held against.

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) referenceCmd() *cobra.Command {
	return group("reference", "Keep pictures of steps that later runs are held against", a.referenceKeepCmd(), a.referenceListCmd(), a.referenceSetCmd(), a.referenceRemoveCmd(), a.referenceFetchCmd())
}

func (a *App) referenceKeepCmd() *cobra.Command {
	var of stepFlags
	var legs []string
	c := &cobra.Command{Use: "keep RUN STEP", Short: "Keep a step's pictures as references", Args: Exactly(2),
		Long: `Keep a step's pictures in a run as references, one for each kind of device: model, system, screen and language. A script that wants a step to be like its
reference says so: phone.step("review", like_reference = True). A new reference takes the place of the one before, and keeps its masks.`,
		Example: "  tessellant reference keep 1 review --leg orr-01/as-it-is\n  tessellant reference keep 1 sent",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			x, err := a.steps(c.Context(), client, args[0])
			if err != nil {
				return err
			}
			name, err := of.find(x, args[1])
			if err != nil {
				return err
			}
			r, err := client.KeepReferencesWithResponse(c.Context(), api.ReferenceRequest{Run: args[0], Case: name.Case, Step: name.Step, Nth: &name.Nth, Legs: listed(legs)})
			if err != nil || r.JSON201 == nil {
				return a.Failed("keep the references", err, r)
			}
			return a.Show(r.JSON201, func() { a.referencesText(r.JSON201.Items) })
		}}
	of.register(c)
	c.Flags().StringArrayVar(&legs, "leg", nil, "only the picture of this leg: an id, or its device with the variant, such as orr-01/de; repeat for more")
	return c
}

func (a *App) referenceListCmd() *cobra.Command {
	var n int
	var pkg, after string
	c := &cobra.Command{Use: "list", Short: "List references, the newest first", Args: Nothing,
		Example: "  tessellant reference list\n  tessellant reference list --package shore-suite",
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.ListReferencesWithResponse(c.Context(), &api.ListReferencesParams{Limit: &n, Package: given(pkg), After: given(after)})
			if err != nil || r.JSON200 == nil {
				return a.Failed("list the references", err, r)
			}
			return a.Show(r.JSON200, func() {
				if len(r.JSON200.Items) == 0 {
					fmt.Fprintln(a.Out, "There are no references. Keep one with: tessellant reference keep RUN STEP")
					return
				}
				a.referencesText(r.JSON200.Items)
				if r.JSON200.Next != nil {
					fmt.Fprintf(a.Out, "More: tessellant reference list --after %s\n", *r.JSON200.Next)
				}
			})
		}}
	c.Flags().IntVar(&n, "limit", 50, "how many to list, 1 to 200")
	c.Flags().StringVar(&pkg, "package", "", "only those of this package, by its name")
	c.Flags().StringVar(&after, "after", "", "go on behind this one")
	return c
}

func (a *App) referencesText(rs []api.Reference) {
	t := NewTable(a.Out, "reference", "step", "kind of device", "masks", "may differ", "by", "kept")
	for _, r := range rs {
		t.AppendRow(table.Row{r.Id, clipTo(r.Step+" in "+r.Case, 50), clipTo(r.Kind, 64), someCount(len(r.Masks)), fmt.Sprintf("%.3g %%", 100*r.Allowed), r.By, ago(r.Created)})
	}
	t.Render()
}

func (a *App) referenceSetCmd() *cobra.Command {
	var masks []string
	var allowed float64
	var none bool
	c := &cobra.Command{Use: "set REFERENCE", Short: "Set what of a reference is not looked at", Args: Exactly(1),
		Long:    "Set what of a reference's picture is not looked at, and how much of the rest may differ. Masks are given whole: those of before are replaced.",
		Example: "  tessellant reference set 01M8Q1418J3XZNQN2JRYKV6CND --mask 40,300,680,380 --may-differ 0.5\n  tessellant reference set 01M8Q1418J3XZNQN2JRYKV6CND --no-masks",
		RunE: func(c *cobra.Command, args []string) error {
			var change api.ReferenceChange
			if len(masks) > 0 || none {
				list := []api.Region{}
				for _, m := range masks {
					r, err := regionOf(m)
					if err != nil {
						return err
					}
					list = append(list, r)
				}
				change.Masks = &list
			}
			if c.Flags().Changed("may-differ") {
				share := allowed / 100
				change.Allowed = &share
			}
			if change.Masks == nil && change.Allowed == nil {
				return fmt.Errorf("nothing to set: add --mask, --no-masks or --may-differ")
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.SetReferenceWithResponse(c.Context(), args[0], change)
			if err != nil || r.JSON200 == nil {
				return a.Failed("change the reference", err, r)
			}
			return a.Show(r.JSON200, func() { a.referencesText([]api.Reference{*r.JSON200}) })
		}}
	c.Flags().StringArrayVar(&masks, "mask", nil, "a rectangle that is not looked at: left,top,right,bottom in pixels; repeat for more")
	c.Flags().BoolVar(&none, "no-masks", false, "look at all of it")
	c.Flags().Float64Var(&allowed, "may-differ", 0.01, "how much of the picture may differ, in percent, 0 to 50")
	c.MarkFlagsMutuallyExclusive("mask", "no-masks")
	return c
}

// regionOf reads left,top,right,bottom.
func regionOf(s string) (r api.Region, err error) {
	parts := strings.Split(s, ",")
	to := []*int{&r.Left, &r.Top, &r.Right, &r.Bottom}
	if len(parts) != len(to) {
		return r, fmt.Errorf("--mask takes left,top,right,bottom in pixels, such as 40,300,680,380, not %q", s)
	}
	for i, p := range parts {
		if *to[i], err = strconv.Atoi(strings.TrimSpace(p)); err != nil {
			return r, fmt.Errorf("--mask takes left,top,right,bottom in pixels, such as 40,300,680,380, not %q", s)
		}
	}
	return r, nil
}

func (a *App) referenceRemoveCmd() *cobra.Command {
	return &cobra.Command{Use: "remove REFERENCE", Short: "Remove a reference", Args: Exactly(1), Long: "Remove a reference. Steps are not held against it any more; what failed by it stays as it is.",
		Example: "  tessellant reference remove 01M8Q1418J3XZNQN2JRYKV6CND",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.RemoveReferenceWithResponse(c.Context(), args[0])
			if err != nil || r.StatusCode() != 204 {
				return a.Failed("remove the reference", err, r)
			}
			if !a.JSON {
				fmt.Fprintf(a.Out, "The reference %s is removed.\n", args[0])
			}
			return nil
		}}
}

func (a *App) referenceFetchCmd() *cobra.Command {
	return &cobra.Command{Use: "fetch REFERENCE FILE.png", Short: "Download the picture of a reference", Args: Exactly(2),
		Example: "  tessellant reference fetch 01M8Q1418J3XZNQN2JRYKV6CND review.png",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetReferencePicture(c.Context(), args[0])
			in, err := a.Bytes("download the picture", r, err)
			if err != nil {
				return err
			}
			defer in.Close()
			_, err = a.save(in, r.ContentLength, args[1], func() error { return nil })
			return err
		}}
}
