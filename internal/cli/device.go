package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

const whereHelp = `a pattern over a trait, such as maker=Orrery, model='Skerry*', os>=10, form!=tablet; repeat for more, which must all match.
Values: * for any letters, /…/ for a regular expression, a comma for "or".
Traits: serial platform os api maker model form origin simulated screen width density memory processor language place label:NAME pool`

func (a *App) deviceCmd() *cobra.Command {
	var where []string
	var forBuild, forPackage string
	list := &cobra.Command{Use: "list", Short: "List devices by serial", Args: Nothing,
		Example: "  tessellant device list\n  tessellant device list --where maker=Fennel --where 'os>=10'\n  tessellant device list --build kelpline/android@newest --package shore-suite@newest",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.deviceList(c.Context(), api.ListDevicesParams{Where: listed(where), Build: given(forBuild), Package: given(forPackage)})
		}}
	list.Flags().StringVar(&forBuild, "build", "", "say of each device whether it can run this build")
	list.Flags().StringVar(&forPackage, "package", "", "and whether this package can test it there; with --build")
	list.Flags().StringArrayVar(&where, "where", nil, whereHelp)
	show := &cobra.Command{Use: "show SERIAL", Short: "Show a device, who uses it, and its newest results", Args: Exactly(1),
		Example: "  tessellant device show orr-01",
		RunE:    func(c *cobra.Command, args []string) error { return a.deviceShow(c.Context(), args[0]) }}
	var pkg, set string
	fit := &cobra.Command{Use: "why BUILD SERIAL", Short: "Say whether a build can run on a device, and why not", Args: Exactly(2),
		Long:    "Say whether a build can run on a device, and why not; with --package, whether the package can test it there. Exit code 3 if it can't.",
		Example: "  tessellant device why kelpline/android@newest orr-01\n  tessellant device why kelpline/android@newest fen-01 --package shore-suite@newest --conditions language:de",
		RunE: func(c *cobra.Command, args []string) error {
			return a.deviceWhy(c.Context(), args[0], args[1], pkg, set)
		}}
	fit.Flags().StringVar(&pkg, "package", "", "a package, such as shore-suite@newest")
	fit.Flags().StringVar(&set, "conditions", "", "how the device is to be set, such as language:de,dark")
	var why string
	quarantine := &cobra.Command{Use: "quarantine SERIAL --why TEXT", Short: "Stop scheduling work on a device", Args: Exactly(1),
		Long:    "Stop scheduling work on a device until you release it. Work that is running on it is finished first.\nA device that is lost twice in a row is quarantined automatically, until it passes a check. For operators.",
		Example: "  tessellant device quarantine mar-01 --why 'its cable is loose'",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.QuarantineDeviceWithResponse(c.Context(), args[0], api.Quarantine{Why: why})
			if err != nil || r.JSON200 == nil {
				return a.Failed("quarantine the device", err, r)
			}
			return a.Show(r.JSON200, func() {
				fmt.Fprintf(a.Out, "%s is quarantined. To schedule work on it again: tessellant device release %s\n", args[0], args[0])
			})
		}}
	quarantine.Flags().StringVar(&why, "why", "", "what is wrong with the device; others will read this")
	required(quarantine, "why")
	release := &cobra.Command{Use: "release SERIAL", Short: "Schedule work on a quarantined device again", Args: Exactly(1), Long: "Schedule work on a quarantined device again. For operators.", Example: "  tessellant device release mar-01",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.ReleaseDeviceWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("release the device", err, r)
			}
			return a.Show(r.JSON200, func() { fmt.Fprintf(a.Out, "%s is %s.\n", args[0], stateText(*r.JSON200)) })
		}}
	free := &cobra.Command{Use: "free SERIAL", Short: "Stop the work on a device at once", Args: Exactly(1), Example: "  tessellant device free orr-05",
		Long: "Stop the work on a device at once. Use this if the work does not end by itself or with: tessellant run stop.\nThe leg or session is stopped. Evidence that was already uploaded is kept. You can stop work of your own workspace; operators can stop any.",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.FreeDeviceWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("free the device", err, r)
			}
			return a.Show(r.JSON200, func() { fmt.Fprintf(a.Out, "%s is %s.\n", args[0], stateText(*r.JSON200)) })
		}}
	return group("device", "List, check and manage devices", list, show, fit, a.labelCmd("device", "SERIAL", "orr-01", a.labelDevice), a.deviceCheckCmd(), a.deviceHoldCmd(), a.deviceTreeCmd(), a.deviceDoCmd(), a.deviceAppsCmd(), a.devicePictureCmd(), a.deviceRunCmd(), a.devicePauseCmd(), a.deviceResumeCmd(), quarantine, release, free, a.devicePairCmd())
}

func (a *App) deviceShow(ctx context.Context, serial string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetDeviceWithResponse(ctx, serial)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the device", err, r)
	}
	limit := 10
	legs, err := client.ListLegsWithResponse(ctx, &api.ListLegsParams{Device: serial, Limit: &limit})
	if err != nil || legs.JSON200 == nil {
		return a.Failed("list the device's legs", err, legs)
	}
	sessions, err := client.ListSessionsWithResponse(ctx, &api.ListSessionsParams{Device: &serial, Limit: &limit})
	if err != nil || sessions.JSON200 == nil {
		return a.Failed("list the device's sessions", err, sessions)
	}
	d := *r.JSON200
	return a.Show(map[string]any{"device": d, "legs": legs.JSON200.Items, "sessions": sessions.JSON200.Items}, func() {
		state := stateText(d)
		if h := d.HeldBy; h != nil {
			state += fmt.Sprintf(" by %s %s since %s", holderText(*h), h.Leg, ago(h.Since))
		}
		if d.Quarantined != nil {
			state += " (since " + ago(*d.Quarantined) + map[bool]string{true: ", by hand)", false: ", until it passes a check)"}[Deref(d.QuarantinedBy) == api.Hand]
		}
		facts(a.Out, "serial", d.Serial, "device", d.Maker+" "+d.Model, "kind", fmt.Sprintf("%s %s%s", d.Origin, d.Form, map[bool]string{true: ", simulated"}[d.Simulated]), "system", systemText(d),
			"screen", fmt.Sprintf("%d×%d, %d dpi, %s wide", d.Width, d.Height, d.Density, widthText(d)), "memory", memoryText(d, "%d MB", d.MemoryMb),
			"processors", strings.Join(d.Abis, ", "), "language", d.Language, "labels", labelText(Deref(d.Labels)), "without", strings.Join(Deref(d.Without), ", "), "host", d.Host, "state", state, "seen", ago(d.Seen))
		if ways := Deref(d.Ways); len(ways) > 1 {
			fmt.Fprintf(a.Out, "\nIt is connected in %d ways: %s; the first is used.\n", len(ways), strings.Join(ways, ", "))
		}
		for _, l := range Deref(d.Limits) {
			fmt.Fprintln(a.Out, "\n"+l)
		}
		if len(legs.JSON200.Items) > 0 {
			fmt.Fprintln(a.Out)
			t := NewTable(a.Out, "verdict", "cases", "when", "took", "leg")
			for _, l := range legs.JSON200.Items {
				t.AppendRow(table.Row{verdictText(l), caseText(l), ago(l.Created), legTook(l), l.Id})
			}
			t.Render()
		}
		if len(sessions.JSON200.Items) > 0 {
			fmt.Fprintln(a.Out)
			t := NewTable(a.Out, "verdict", "group", "name", "when", "session")
			for _, s := range sessions.JSON200.Items {
				t.AppendRow(table.Row{sessionState(s), clipTo(s.Group, 24), clipTo(s.Name, 32), ago(s.Created), s.Id})
			}
			t.Render()
		}
	})
}

func (a *App) deviceWhy(ctx context.Context, build, serial, pkg, set string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetFitWithResponse(ctx, serial, &api.GetFitParams{Build: build, Package: given(pkg), Conditions: given(set)})
	if err != nil || r.JSON200 == nil {
		return a.Failed("say whether it can run there", err, r)
	}
	f := r.JSON200
	what := strings.TrimSuffix(build+" with "+pkg, " with ")
	if err := a.Show(f, func() {
		switch f.Fits {
		case api.No:
			fmt.Fprintf(a.Out, "No: %s can't run on %s.\n", what, serial)
		case api.Warned:
			fmt.Fprintf(a.Out, "Yes, but: %s can run on %s.\n", what, serial)
		default:
			fmt.Fprintf(a.Out, "Yes: %s can run on %s.\n", what, serial)
		}
		for _, x := range f.Findings {
			fmt.Fprintln(a.Out, findingText(x))
		}
	}); err != nil {
		return err
	}
	if f.Fits == api.No {
		return &Exit{verdict.ExitNothingSaid, nil}
	}
	return nil
}

func stateText(d api.Device) string {
	if Deref(d.Overdue) {
		return string(d.State) + ", longer than its work may take; end it with: tessellant device free " + d.Serial
	}
	if d.Why != nil && *d.Why != "" {
		return string(d.State) + ": " + *d.Why
	}
	return string(d.State)
}

func (a *App) deviceList(ctx context.Context, q api.ListDevicesParams) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	all := api.DevicePage{Items: []api.Device{}}
	limit := 200
	for after := (*string)(nil); ; {
		q.Limit, q.After = &limit, after
		r, err := client.ListDevicesWithResponse(ctx, &q)
		if err != nil || r.JSON200 == nil {
			return a.Failed("list the devices", err, r)
		}
		all.Items = append(all.Items, r.JSON200.Items...)
		if after = r.JSON200.Next; after == nil {
			break
		}
	}
	return a.Show(all, func() {
		if len(all.Items) == 0 {
			fmt.Fprintln(a.Out, "No device matches. Plug one in with USB debugging on, or leave the filter out. What keeps one away, says: tessellant doctor")
			return
		}
		head := []any{"serial", "device", "kind", "system", "screen", "memory", "language", "state"}
		if q.Build != nil {
			head = append(head, "can run it")
		}
		t := NewTable(a.Out, head...)
		for _, d := range all.Items {
			row := table.Row{d.Serial, d.Maker + " " + d.Model, kind(d), systemText(d),
				fmt.Sprintf("%d×%d, %s", d.Width, d.Height, widthText(d)), memoryText(d, "%d GB", (d.MemoryMb+512)/1024), d.Language, stateText(d)}
			if f := d.Fit; f != nil {
				row = append(row, fitText(*f))
			}
			t.AppendRow(row)
		}
		t.Render()
		var said []string // each once, in the order of the devices
		whose := map[string][]string{}
		for _, d := range all.Items {
			for _, l := range Deref(d.Limits) {
				if whose[l] == nil {
					said = append(said, l)
				}
				whose[l] = append(whose[l], d.Serial)
			}
		}
		for i, l := range said {
			if i == 0 {
				fmt.Fprintln(a.Out)
			}
			fmt.Fprintf(a.Out, "%s: %s\n", strings.Join(whose[l], ", "), l)
		}
	})
}

// fitText says whether it can run there: yes, or why not.
func fitText(f api.Fit) string {
	if len(f.Findings) == 0 {
		return string(f.Fits)
	}
	return map[api.FitFits]string{api.No: "no: ", api.Warned: "yes, but "}[f.Fits] + clipTo(f.Findings[0].What, 60)
}

func kind(d api.Device) string {
	out := string(d.Origin)
	if d.Simulated {
		out += ", simulated"
	}
	if Deref(d.Startable) {
		out += ", started when wanted"
	}
	return out
}

// holderText is what holds a device.
func holderText(h api.Holder) string {
	switch {
	case h.Run != "":
		return "leg"
	case Deref(h.ByHand):
		return "a person: hold"
	}
	return "session"
}

// widthText is how wide a screen is, in the unit of its platform.
func widthText(d api.Device) string {
	unit := map[string]string{"ios": "pt", "web": "px"}[d.Platform]
	return fmt.Sprintf("%d %s", d.WidthDp, cmp.Or(unit, "dp"))
}

// memoryText is a device's memory, where it is known.
func memoryText(d api.Device, form string, n int) string {
	if d.MemoryMb == 0 {
		return ""
	}
	return fmt.Sprintf(form, n)
}

// systemText is a device's system, with Android's API level.
func systemText(d api.Device) string {
	if d.Api == 0 {
		return d.System
	}
	return fmt.Sprintf("%s (API %d)", d.System, d.Api)
}
