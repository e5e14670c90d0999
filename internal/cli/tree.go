package cli

// What is on the screen of a held device, and how its elements can be addressed.

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func (a *App) deviceTreeCmd() *cobra.Command {
	var find string
	cmd := &cobra.Command{Use: "tree SERIAL", Short: "Show what is on the screen of a device that you hold", Args: Exactly(1),
		Long: `Show what is on the screen of a device that your workspace holds: each element with the best way to address it, and how many
elements of the screen that means. With --find, show only the elements that a locator means, with all ways to address each, and what each means on the
same screen of other devices, as far as the newest runs kept it.
A locator is a CSS selector, or XPath where it begins with / or (.`,
		Example: "  tessellant device tree orr-01\n  tessellant device tree orr-01 --find '#send'\n  tessellant device tree orr-01 --find '//text[contains(@text, \"Ledge\")]'",
		RunE:    func(c *cobra.Command, args []string) error { return a.deviceTree(c.Context(), args[0], find) }}
	cmd.Flags().StringVar(&find, "find", "", "a locator: show only what it means")
	return cmd
}

func (a *App) deviceTree(ctx context.Context, serial, find string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetHeldTreeWithResponse(ctx, serial, &api.GetHeldTreeParams{Find: given(find)})
	if err != nil || r.JSON200 == nil {
		return a.Failed("read the screen", err, r)
	}
	t := r.JSON200
	elsewhere := map[string]string{}
	if t.Found != nil && !a.JSON {
		if elsewhere, err = a.elsewhere(ctx, client, t); err != nil {
			return err
		}
	}
	if err := a.Show(t, func() {
		if find != "" {
			a.foundText(t, find, elsewhere)
			return
		}
		if len(t.Elements) == 0 {
			fmt.Fprintln(a.Out, "Nothing is on the screen that could be read.")
			return
		}
		list := NewTable(a.Out, "element", "says", "best locator", "means here")
		for _, e := range t.Elements {
			l := e.Locators[0]
			list.AppendRow(table.Row{strings.Repeat("  ", e.Depth) + e.Kind + stateOf(e), clipTo(sayingOf(e), 40), l.Css, l.Here})
		}
		list.Render()
	}); err != nil {
		return err
	}
	if t.Found != nil && len(*t.Found) == 0 {
		return &Exit{verdict.ExitAppFailed, nil}
	}
	return nil
}

// mostElsewhere is how many locators are asked for in one request.
const mostElsewhere = 20

// elsewhere says what the locators of what was found mean on other devices, as far as runs kept their screens.
func (a *App) elsewhere(ctx context.Context, client *api.ClientWithResponses, t *api.HeldTree) (map[string]string, error) {
	var css []string
	for _, i := range *t.Found {
		for _, l := range t.Elements[i].Locators {
			if len(css) < mostElsewhere {
				css = append(css, l.Css)
			}
		}
	}
	out := map[string]string{}
	if len(css) == 0 {
		return out, nil
	}
	r, err := client.GetElsewhereWithResponse(ctx, t.Hold, &api.GetElsewhereParams{Css: css})
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("see what locators mean elsewhere", err, r)
	}
	for _, m := range r.JSON200.Locators {
		out[m.Css] = Deref(m.Says)
	}
	return out, nil
}

func (a *App) foundText(t *api.HeldTree, find string, elsewhere map[string]string) {
	means := "nothing"
	if len(*t.Found) > 0 {
		means = Plural(len(*t.Found), "element")
	}
	fmt.Fprintf(a.Out, "%s means %s on %s.\n", find, means, t.Serial)
	for _, i := range *t.Found {
		e := t.Elements[i]
		fmt.Fprintf(a.Out, "\n%s%s  %s  at %d,%d to %d,%d\n", e.Kind, stateOf(e), sayingOf(e), e.Bounds.Left, e.Bounds.Top, e.Bounds.Right, e.Bounds.Bottom)
		for _, l := range e.Locators {
			note := Plural(l.Here, "element") + " here"
			if says := elsewhere[l.Css]; says != "" {
				note += "; " + says
			}
			if Deref(l.Fickle) {
				note += "; there are digits in it, which may change"
			}
			fmt.Fprintf(a.Out, "  %-6s %-50s %s\n", l.By, l.Css, note)
		}
	}
}

// sayingOf is what a person, or a screen reader, reads on an element.
func sayingOf(e api.HeldElement) string {
	for _, s := range []*string{e.Text, e.Value, e.Label, e.Hint} {
		if s != nil {
			return strings.Join(strings.Fields(*s), " ")
		}
	}
	return ""
}

// stateOf says what is out of the ordinary with an element.
func stateOf(e api.HeldElement) string {
	var out []string
	for _, x := range []struct {
		word string
		is   bool
	}{{"checked", Deref(e.Checked)}, {"focused", Deref(e.Focused)}, {"disabled", !e.Enabled}} {
		if x.is {
			out = append(out, x.word)
		}
	}
	if len(out) == 0 {
		return ""
	}
	return " (" + strings.Join(out, ", ") + ")"
}
