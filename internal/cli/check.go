package cli

// Trying a device, and pairing with one over the network.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func (a *App) deviceCheckCmd() *cobra.Command {
	var report string
	cmd := &cobra.Command{Use: "check SERIAL", Short: "Check whether a device can run tests", Args: Exactly(1),
		Long: `Check whether a device can run tests, and print one sentence: it can, or it can't and what to do about it.
Do this first with a phone of your own. The check takes about 20 seconds. It installs a tiny app, removes it again
and leaves the device as it was. With --report FILE it also writes a JSON report that you can send to others:
the report has no serial and nothing about the owner.

Exit code 0 if the device can be tested, 1 if not.`,
		Example: "  tessellant device check orr-01\n  tessellant device check orr-01 --report skerry-5.json",
		RunE:    func(c *cobra.Command, args []string) error { return a.deviceCheck(c.Context(), args[0], report) }}
	cmd.Flags().StringVar(&report, "report", "", "file for the report")
	return cmd
}

// writeReport writes a check down without what names the unit.
func writeReport(path string, c *api.DeviceCheck) error {
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	var all map[string]any
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	delete(all, "serial")
	if raw, err = json.MarshalIndent(all, "", "  "); err != nil {
		return err
	}
	return os.WriteFile(path, append(raw, '\n'), 0o644)
}

const checkPoll = 300 * time.Millisecond

func (a *App) deviceCheck(ctx context.Context, serial, report string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	begun, err := client.StartDeviceCheckWithResponse(ctx, serial)
	if err != nil || begun.JSON202 == nil {
		return a.Failed("check the device", err, begun)
	}
	c := begun.JSON202
	say := func(s api.CheckStep) {
		if a.JSON {
			return
		}
		fmt.Fprintf(a.Out, "  %-8s %-24s %6s  %s\n", s.State, s.Name, map[bool]string{true: TookText(time.Duration(s.TookMs) * time.Millisecond)}[s.State != api.StepSkipped], Deref(s.Found))
		if s.Remedy != nil {
			fmt.Fprintf(a.Out, "  %-8s what to do: %s\n", "", *s.Remedy)
		}
	}
	for told := 0; ; {
		for told < len(c.Steps) && c.Steps[told].State != api.StepRunning {
			if told == 0 && !a.JSON {
				fmt.Fprintf(a.Out, "%s %s, Android %s (API %d):\n", c.Maker, c.Model, c.Os, c.Api)
			}
			say(c.Steps[told])
			told++
		}
		if c.Done {
			break
		}
		select {
		case <-time.After(checkPoll):
		case <-ctx.Done():
			return ctx.Err()
		}
		r, err := client.GetDeviceCheckWithResponse(ctx, serial)
		if err != nil || r.JSON200 == nil {
			return a.Failed("see how the check stands", err, r)
		}
		c = r.JSON200
	}
	if report != "" {
		if err := writeReport(report, c); err != nil {
			return fmt.Errorf("the report can't be written: %w", err)
		}
	}
	if err := a.Show(c, func() {
		for _, l := range c.Limits {
			fmt.Fprintf(a.Out, "  note     %s\n", l)
		}
		fmt.Fprintf(a.Out, "\n%s It took %s.\n", c.Sentence, TookText(time.Duration(c.TookMs)*time.Millisecond))
		if report != "" {
			fmt.Fprintf(a.Out, "The report is in %s; it does not name the unit.\n", report)
		}
	}); err != nil {
		return err
	}
	if !c.Fit {
		return &Exit{verdict.ExitAppFailed, nil}
	}
	return nil
}

func (a *App) devicePairCmd() *cobra.Command {
	var host string
	var picture bool
	cmd := &cobra.Command{Use: "pair [HOST:PORT CODE]", Short: "Pair a phone over the network with a host", Args: UpTo(2),
		Long: `Pair a phone with a host over the network (Android 11 and later). Do this once for each phone and host.
On the phone, open Wireless debugging in the developer options. Choose "Pair device with pairing code" and enter the
address and the code here. Or use --picture, choose "Pair device with QR code" and scan the picture. Phone and host
must be in the same network. The host needs adb from platform tools 30 or later; 31 for pictures. For operators.`,
		Example: "  tessellant device pair 192.168.1.23:37123 482910\n  tessellant device pair --picture --host bench-2",
		RunE: func(c *cobra.Command, args []string) error {
			if picture != (len(args) == 0) || len(args) == 1 {
				return &Exit{verdict.ExitUsage, errors.New("enter the address and the code that the phone shows, or use --picture\nexample: tessellant device pair 192.168.1.23:37123 482910")}
			}
			var r api.PairRequest
			if !picture {
				r = api.PairRequest{Address: &args[0], Code: &args[1]}
			}
			return a.devicePair(c.Context(), host, r)
		}}
	cmd.Flags().StringVar(&host, "host", "", "the host to pair with the phone; default: the host built into the service (see: tessellant host list)")
	cmd.Flags().BoolVar(&picture, "picture", false, "draw a QR code for the phone to scan")
	return cmd
}

func (a *App) devicePair(ctx context.Context, host string, q api.PairRequest) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	if host == "" {
		if host, err = a.builtInHost(ctx, client); err != nil {
			return err
		}
	}
	begun, err := client.PairWithResponse(ctx, host, q)
	if err != nil || begun.JSON201 == nil {
		return a.Failed("pair with the phone", err, begun)
	}
	p := begun.JSON201
	if p.Picture != nil && !a.JSON {
		fmt.Fprint(a.Out, blocks(*p.Picture))
		fmt.Fprintln(a.Out, "Scan this: developer options, Wireless debugging, Pair device with QR code.")
	}
	for p.State == api.PairingWaiting {
		select {
		case <-time.After(checkPoll):
		case <-ctx.Done():
			return ctx.Err()
		}
		r, err := client.GetPairingWithResponse(ctx, host, p.Id)
		if err != nil || r.JSON200 == nil {
			return a.Failed("see how the pairing stands", err, r)
		}
		p = r.JSON200
	}
	if p.State == api.PairingFailed {
		return &Exit{verdict.ExitAppFailed, fmt.Errorf("%s\n  what to do: %s", Deref(p.Why), Deref(p.Remedy))}
	}
	return a.Show(p, func() {
		fmt.Fprintf(a.Out, "Paired. The phone appears in a moment in: tessellant device list\nIf it does not, give its address under Wireless debugging to the host with --connect.\n")
	})
}

// builtInHost gives the name of the host that is built into the service, where there is just one.
func (a *App) builtInHost(ctx context.Context, client *api.ClientWithResponses) (string, error) {
	r, err := client.ListHostsWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return "", a.Failed("list the hosts", err, r)
	}
	var names []string
	for _, h := range r.JSON200.Items {
		if h.Kind == api.BuiltIn && h.State == api.HostStateUp {
			names = append(names, h.Name)
		}
	}
	if len(names) != 1 {
		return "", &Exit{verdict.ExitUsage, fmt.Errorf("%s built into the service; name the host with --host, see: tessellant host list", Plural(len(names), "host"))}
	}
	return names[0], nil
}

// blocks draws a picture of dark and light modules in the terminal, two rows to a line. Light is drawn: most terminals are dark.
func blocks(rows []string) string {
	var out strings.Builder
	for y := 0; y < len(rows); y += 2 {
		for x := range rows[y] {
			top := rows[y][x] == '0'
			bottom := y+1 < len(rows) && rows[y+1][x] == '0'
			out.WriteString(map[[2]bool]string{{true, true}: "█", {true, false}: "▀", {false, true}: "▄", {false, false}: " "}[[2]bool{top, bottom}])
		}
		out.WriteString("\n")
	}
	return out.String()
}
