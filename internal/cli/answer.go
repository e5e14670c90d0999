package cli

// What a run says: the mosaic in text, families, and why they are where they are.

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func (a *App) whyCmd() *cobra.Command {
	return &cobra.Command{Use: "why RUN [FAMILY]", Short: "Show why a run failed: families of failures, their devices, since when", Args: between(1, 2),
		Long: `Show what a run says. Failures that are the same fault are one family. For each family: on which devices it shows, what these
have in common that the others have not, and since which build. With the id of a family, or its first characters, show all that is known of it.`,
		Example: "  tessellant run why newest\n  tessellant run why 1 --json",
		RunE: func(c *cobra.Command, args []string) error {
			x, err := a.getAnswer(c.Context(), args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return a.Show(x, func() { a.whyText(x) })
			}
			f, err := familyIn(x, args[1])
			if err != nil {
				return err
			}
			return a.Show(f, func() { a.familyText(x, f) })
		}}
}

func (a *App) getAnswer(ctx context.Context, id string) (*api.Answer, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetRunAnswerWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("find out why", err, r)
	}
	return r.JSON200, nil
}

// familyIn finds a family by its id or the beginning of it.
func familyIn(x *api.Answer, id string) (*api.Family, error) {
	for i := range x.Families {
		if strings.HasPrefix(x.Families[i].Id, id) && len(id) >= 4 {
			return &x.Families[i], nil
		}
	}
	return nil, &Exit{verdict.ExitUnreachable, fmt.Errorf("find the family: run %d has no family %q; see its families with: tessellant run why %d", x.Number, id, x.Number)}
}

func (a *App) whyText(x *api.Answer) {
	indented(a.Out, 0, x.Sentence)
	if !x.Over {
		fmt.Fprintln(a.Out, "The run is still going: this is what its finished legs say.")
	}
	a.families(x)
	if len(x.Families) == 0 && x.Over {
		fmt.Fprintln(a.Out, "\nNo case failed.")
	}
}

// families writes each family in a few lines, and those that are gone.
func (a *App) families(x *api.Answer) {
	for _, f := range x.Families {
		fmt.Fprintf(a.Out, "\n%s  %s\n", a.painted(f.Kind, f.Head), f.Id[:8])
		for _, s := range slices.Concat([]string{f.Title}, f.Says, []string{f.Where}) {
			indented(a.Out, 4, s)
		}
		fmt.Fprintf(a.Out, "    tessellant run why %d %s\n", x.Number, f.Id[:8])
	}
	for _, g := range x.Gone {
		fmt.Fprintln(a.Out)
		indented(a.Out, 0, g.Says)
	}
}

// familyText is all that is known of a family.
func (a *App) familyText(x *api.Answer, f *api.Family) {
	fmt.Fprintf(a.Out, "%s  %s\n\n", a.painted(f.Kind, f.Head), f.Id)
	indented(a.Out, 0, f.Message)
	fmt.Fprintln(a.Out)
	for _, s := range f.Says {
		indented(a.Out, 0, s)
	}
	if f.Excused != nil {
		fmt.Fprintf(a.Out, "It did not count for the verdict of this run: %s.\n", *f.Excused)
	}
	fmt.Fprintln(a.Out)
	pairs := []string{"devices", strings.Join(f.Devices, ", "), "cases", strings.Join(f.Cases, ", "), "failures", strconv.Itoa(f.Failures)}
	if r := f.Rule; r != nil {
		pairs = append(pairs, "rule", fmt.Sprintf("%s: %d fail, %d pass; elsewhere %d fail, %d pass; chance of luck %s", r.Phrase, r.FailIn, r.PassIn, r.FailOut, r.PassOut, chanceText(r.Chance)), "or else", strings.Join(r.Also, "; "))
	}
	same := Deref(f.Pattern)
	if f.Kind == api.Crashed && len(f.Frames) > 0 {
		same = Deref(f.Cause) + " in " + strings.Join(f.Frames, ", ")
	}
	pairs = append(pairs, "same in all", same)
	for i, j := range f.Joined {
		label := ""
		if i == 0 {
			label = "also"
		}
		pairs = append(pairs, label, fmt.Sprintf("%s (%s in place of %s, %s)", j.Pattern, orNothing(j.Other), orNothing(j.Own), Plural(j.Failures, "failure")))
	}
	if f.LastGood != nil {
		pairs = append(pairs, "last good", f.LastGood.Ref)
	}
	if f.FirstBad != nil {
		pairs = append(pairs, "first bad", f.FirstBad.Ref)
	}
	facts(a.Out, pairs...)
	fmt.Fprintf(a.Out, "\nOne of its legs:        tessellant leg show %s\nRun its legs again:     tessellant run again %d --family %s\nA case's history:       tessellant case history %q\nSay that it is known:   tessellant run mark %d %s --known --reference TICKET\n",
		f.Example.Leg, x.Number, f.Id[:8], f.Example.Case, x.Number, f.Id[:8])
}

func orNothing(word string) string {
	if word == "" {
		return "nothing"
	}
	return "“" + word + "”"
}

func chanceText(p float64) string {
	if p < 0.001 {
		return "below 0.1 %"
	}
	return fmt.Sprintf("%.1f %%", 100*p)
}

// colours are those of verdicts on a terminal.
var colours = map[api.Verdict]text.Colors{api.Passed: {text.FgGreen}, api.Failed: {text.FgRed}, api.Crashed: {text.FgMagenta, text.Bold}, api.Expired: {text.FgYellow}, api.Flaky: {text.FgYellow}, api.Lost: {text.FgBlue}}

// painted is a text in the colour of a verdict, where there are colours.
func (a *App) painted(v api.Verdict, s string) string {
	if !a.coloured() {
		return s
	}
	return colours[v].Sprint(s)
}

// letters stand for verdicts where there are no colours, and beside them where there are.
var letters = map[api.Verdict]string{api.Crashed: "C", api.Failed: "F", api.Expired: "E", api.Invalid: "I", api.Lost: "L", api.Stopped: "S", api.Flaky: "k", api.Passed: "·", api.Skipped: "-"}

// mosaic writes the legs laid by the trait that explains the largest family: a line a value, a letter a leg.
func (a *App) mosaic(r *api.Run, layBy string) {
	if len(r.Legs) < 2 {
		return
	}
	type group struct {
		value string
		legs  []api.LegSummary
	}
	var groups []*group
	at := map[string]*group{}
	for _, l := range r.Legs {
		v := ""
		if layBy != "" {
			if v = l.Traits[layBy]; v == "" {
				v = "unknown"
			}
		}
		if at[v] == nil {
			at[v] = &group{value: v}
			groups = append(groups, at[v])
		}
		at[v].legs = append(at[v].legs, l)
	}
	slices.SortStableFunc(groups, func(a, b *group) int {
		x, err1 := strconv.ParseFloat(a.value, 64)
		y, err2 := strconv.ParseFloat(b.value, 64)
		switch {
		case err1 != nil || err2 != nil:
			return strings.Compare(a.value, b.value)
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	wide := 0
	for _, g := range groups {
		wide = max(wide, len([]rune(g.value)))
	}
	fmt.Fprintln(a.Out)
	if layBy != "" {
		fmt.Fprintf(a.Out, "By %s:\n", layBy)
	}
	const named = 40 // legs up to which each has its device's name
	seen := map[api.Verdict]bool{}
	for _, g := range groups {
		slices.SortStableFunc(g.legs, func(a, b api.LegSummary) int {
			return slices.Index(verdict.Order, verdict.Verdict(Deref(a.Verdict))) - slices.Index(verdict.Order, verdict.Verdict(Deref(b.Verdict)))
		})
		var cells []string
		for _, l := range g.legs {
			v := Deref(l.Verdict)
			letter := letters[v]
			if l.Stage != "done" || letter == "" {
				letter = "…"
			} else {
				seen[v] = true
			}
			cell := letter
			if len(r.Legs) <= named {
				name := unitText(l)
				if l.Variant != nil {
					name += "/" + *l.Variant
				}
				cell += " " + name
			}
			cells = append(cells, a.painted(v, cell))
		}
		between := "  "
		if len(r.Legs) > named {
			between = ""
		}
		a.inRows(wide, g.value, cells, between)
	}
	var key []string
	for _, v := range verdict.Order {
		if seen[api.Verdict(v)] {
			key = append(key, a.painted(api.Verdict(v), letters[api.Verdict(v)]+" "+string(v)))
		}
	}
	if len(key) > 0 {
		fmt.Fprintf(a.Out, "(%s)\n", strings.Join(key, ", "))
	}
}

// coloured says whether what is written may have colours (no-color.org).
func (a *App) coloured() bool {
	_, ok := terminal(a.Out)
	return ok && os.Getenv("NO_COLOR") == ""
}

// usualWidth is how wide lines are where nobody knows.
const usualWidth = 110

// inRows writes cells behind a label, in as many lines as they need.
func (a *App) inRows(wide int, label string, cells []string, between string) {
	width, ok := terminal(a.Out)
	if !ok || width < wide+30 {
		width = usualWidth
	}
	line, used := "", 0
	for _, c := range cells {
		n := text.StringWidthWithoutEscSequences(c)
		if used > 0 && wide+4+used+len(between)+n > width {
			fmt.Fprintf(a.Out, "  %-*s  %s\n", wide, label, line)
			label, line, used = "", "", 0
		}
		if used > 0 {
			line, used = line+between, used+len(between)
		}
		line, used = line+c, used+n
	}
	fmt.Fprintf(a.Out, "  %-*s  %s\n", wide, label, line)
}
