package cli

// What a run would be, and how long it takes, in words.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"tessellant/api"
	"tessellant/internal/core/conditions"
)

// planText says what a run would be.
func (a *App) planText(p *api.Plan) {
	varied := slices.ContainsFunc(p.Legs, func(l api.PlannedLeg) bool { return l.Variant != nil || l.Conditions != nil })
	fmt.Fprint(a.Out, map[bool]string{true: Plural(len(p.Legs), "leg") + " on "}[len(p.Legs) != len(p.Devices)], Plural(len(p.Devices), "device"))
	if p.Cases > 0 { // those of a program are seen when it runs
		fmt.Fprintf(a.Out, ", %s", Plural(p.Cases, "case"))
	}
	fmt.Fprintln(a.Out, ".")
	if p.Forecast != nil {
		fmt.Fprintln(a.Out, forecastText(p.Forecast))
	}
	if p.Cover != nil {
		a.coverText(p.Cover)
	}
	if len(p.Legs) > 0 {
		fmt.Fprintln(a.Out)
		head := []any{"device", "variant", "conditions", "cases", "likely to take"}
		if !varied {
			head = slices.Delete(head, 1, 3)
		}
		t := NewTable(a.Out, head...)
		for _, l := range p.Legs {
			serial := l.Serial
			if Deref(l.AnyUnit) {
				serial += " or one like it"
			}
			cases := ""
			if l.Cases > 0 {
				cases = fmt.Sprint(l.Cases)
			}
			row := table.Row{serial, Deref(l.Variant), conditions.Set(Deref(l.Conditions)).String(), cases, TookText(seconds(Deref(l.LikelySeconds)))}
			if !varied {
				row = slices.Delete(row, 1, 3)
			}
			t.AppendRow(row)
		}
		t.Render()
	}
	if len(p.Findings) > 0 {
		fmt.Fprintln(a.Out)
	}
	for _, f := range p.Findings {
		fmt.Fprintln(a.Out, findingText(f))
	}
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// forecastText says how long a run will take, and how it came out.
func forecastText(f *api.Forecast) string {
	s := fmt.Sprintf("It is likely to take %s to %s", TookText(seconds(f.LowSeconds)), TookText(seconds(f.HighSeconds)))
	if f.Held != nil {
		s = fmt.Sprintf("%s to %s was forecast", TookText(seconds(f.LowSeconds)), TookText(seconds(f.HighSeconds)))
	}
	if w := Deref(f.WaitSeconds); w >= 5 && f.Held == nil {
		s += fmt.Sprintf(", the first device being free in about %s", TookText(seconds(w)))
	}
	s += " (" + f.Basis + ")"
	if f.Held != nil {
		s += map[api.ForecastHeld]string{api.Inside: ": it held", api.Sooner: ": it was sooner", api.Later: ": it was later"}[*f.Held]
	}
	return s + "."
}

// coverText says what devices cover.
func (a *App) coverText(c *api.Cover) {
	said := fmt.Sprintf("They cover %.0f %% of what differs.", 100*c.Share)
	var missing []string
	for _, t := range c.Traits {
		if len(t.Missing) > 0 {
			missing = append(missing, t.Trait+" "+strings.Join(t.Missing, ", "))
		}
	}
	if len(missing) > 0 {
		said += fmt.Sprintf(" Not covered: %s.", strings.Join(missing, "; "))
	}
	if n := c.Next; n != nil {
		adds := append([]string{}, n.Adds...)
		if n.Pairs > 0 {
			adds = append(adds, Plural(n.Pairs, "pair")+" of values")
		}
		said += fmt.Sprintf(" The next device, %s, would add %s (%.1f %%).", n.Serial, strings.Join(adds, ", "), 100*n.Share)
	}
	indented(a.Out, 0, said)
}

// whichDevices says which devices a run was asked for.
func whichDevices(r *api.Run) string {
	var parts []string
	if r.Pool != nil {
		parts = append(parts, "pool "+*r.Pool)
	}
	parts = append(append(parts, r.Where...), r.Devices...)
	if r.Lines != nil {
		parts = append(parts, Plural(len(*r.Lines), "line")+" of devices")
	}
	if len(parts) == 0 {
		parts = []string{"any device"}
	}
	switch Deref(r.Take) {
	case api.RunTakeAny:
		parts = append(parts, fmt.Sprintf("(any %d)", Deref(r.N)))
	case api.RunTakeDiffer:
		parts = append(parts, fmt.Sprintf("(the %d that differ most)", Deref(r.N)))
	}
	if Deref(r.Models) {
		parts = append(parts, "any unit of each model")
	}
	return strings.Join(parts, " ")
}
