package cli

// Labs: where devices come from. Lab files are read here as hosts read them.

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/verdict"
)

func (a *App) labCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "lab", Short: "Show where devices come from, and check lab files", Args: commandsAlone}
	list := &cobra.Command{Use: "list", Short: "List the labs of all hosts", Args: Nothing, Example: "  tessellant lab list",
		RunE: func(c *cobra.Command, _ []string) error { return a.labList(c.Context()) }}
	show := &cobra.Command{Use: "show LAB", Short: "Show a lab: its devices, limits, and what it can't do", Args: Exactly(1), Example: "  tessellant lab show heron\n  tessellant lab show heron@bench-1 --json",
		RunE: func(c *cobra.Command, args []string) error { return a.labShow(c.Context(), args[0]) }}
	check := &cobra.Command{Use: "check FILE", Short: "Check a lab file without a service", Args: Exactly(1), Example: "  tessellant lab check demo/labs.yaml",
		Long: "Read a lab file as a host reads it, and list its mistakes, each with its line and what to do. Nothing is asked of a lab.\nExit code 0 if the file is good, 2 if not. Try a lab for real with: tessellant lab try FILE --lab NAME",
		RunE: func(_ *cobra.Command, args []string) error { return a.labCheck(args[0]) }}
	cmd.AddCommand(list, show, check, a.labLendCmd())
	return cmd
}

func (a *App) labList(ctx context.Context) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListLabsWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the labs", err, r)
	}
	return a.Show(r.JSON200, func() {
		t := NewTable(a.Out, "lab", "host", "kind", "place", "state", "devices", "sessions", "waiting", "today")
		for _, l := range r.JSON200.Items {
			t.AppendRow(table.Row{l.Name, l.Host, l.Kind, Deref(l.Place), l.State, l.Devices, labSessions(l), unless(l.Kind == labfile.ADB, fmt.Sprint(l.Waiting)), labToday(l)})
		}
		t.Render()
		for _, l := range r.JSON200.Items {
			if l.Why != nil {
				fmt.Fprintf(a.Out, "\n%s@%s: %s\n", l.Name, l.Host, *l.Why)
			}
		}
	})
}

func unless(not bool, text string) string {
	if not {
		return ""
	}
	return text
}

// labSessions says how many sessions are open, of how many.
func labSessions(l api.Lab) string {
	switch {
	case l.Kind == labfile.ADB:
		return ""
	case l.AtOnce != nil:
		return fmt.Sprintf("%d of %d", l.Open, *l.AtOnce)
	}
	return fmt.Sprint(l.Open)
}

// labToday says how many minutes were used today, of how many.
func labToday(l api.Lab) string {
	switch {
	case l.Kind == labfile.ADB:
		return ""
	case l.DayLimit != nil:
		return fmt.Sprintf("%d of %d min", l.UsedMinutes, *l.DayLimit)
	}
	return fmt.Sprintf("%d min", l.UsedMinutes)
}

func (a *App) labShow(ctx context.Context, name string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetLabWithResponse(ctx, name)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the lab", err, r)
	}
	return a.Show(r.JSON200, func() {
		l := *r.JSON200
		facts(a.Out, "lab", l.Name, "host", l.Host, "kind", l.Kind, "place", Deref(l.Place), "address", Deref(l.Address), "state", string(l.State), "because", Deref(l.Why), "devices", fmt.Sprint(l.Devices),
			"sessions", labSessions(l), "waiting there", unless(l.Kind == labfile.ADB, fmt.Sprint(l.Waiting)), "used today", labToday(l))
		for _, platform := range slices.Sorted(maps.Keys(l.Lacks)) {
			fmt.Fprintf(a.Out, "\nOn %s:\n", devices.Platforms[platform])
			for _, what := range l.Lacks[platform] {
				fmt.Fprintf(a.Out, "  %s\n", what)
			}
		}
		fmt.Fprintf(a.Out, "\nIts devices: tessellant device list --where %s\n", labWhere(l))
	})
}

// labWhere is a filter that finds a lab's devices.
func labWhere(l api.Lab) string {
	if l.Place != nil {
		return "'place=" + *l.Place + "'"
	}
	return "origin=" + map[bool]string{true: "'real,emulated'", false: "cloud"}[l.Kind == labfile.ADB]
}

// checkedLab is a lab of a file, as it is answered.
type checkedLab struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind"`
	Devices  int      `json:"devices,omitempty"` // that the file lists
	Commands []string `json:"commands,omitempty"`
}

func (a *App) labCheck(path string) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return &Exit{Code: verdict.ExitUsage, Err: fmt.Errorf("read the lab file: %w", err)}
	}
	file, mistakes := labfile.Parse(raw)
	answer := struct {
		File     string            `json:"file"`
		Good     bool              `json:"good"`
		Labs     []checkedLab      `json:"labs"`
		Mistakes []labfile.Mistake `json:"mistakes"`
	}{path, len(mistakes) == 0, []checkedLab{}, mistakes}
	if answer.Mistakes == nil {
		answer.Mistakes = []labfile.Mistake{}
	}
	for _, l := range file.Labs {
		one := checkedLab{Name: l.Name, Kind: l.Kind, Devices: len(l.Devices)}
		for _, c := range labfile.Commands {
			if l.Commands[c.Name] != nil {
				one.Commands = append(one.Commands, c.Name)
			}
		}
		answer.Labs = append(answer.Labs, one)
	}
	err = a.Show(answer, func() {
		for _, m := range mistakes {
			fmt.Fprintf(a.Out, "%s:%d: %s\n    %s\n", path, m.Line, m.What, m.Remedy)
		}
		if len(mistakes) > 0 {
			return
		}
		fmt.Fprintf(a.Out, "%s is good: %s.\n", path, Plural(len(file.Labs), "lab"))
		for _, l := range answer.Labs {
			what := l.Kind
			if l.Devices > 0 {
				what += ", " + Plural(l.Devices, "device")
			}
			if len(l.Commands) > 0 {
				what += "; its own commands: " + strings.Join(l.Commands, ", ")
			}
			fmt.Fprintf(a.Out, "  %s: %s\n", l.Name, what)
		}
	})
	if err == nil && len(mistakes) > 0 {
		return &Exit{Code: verdict.ExitUsage, Err: fmt.Errorf("%s has %s", path, Plural(len(mistakes), "mistake"))}
	}
	return err
}
