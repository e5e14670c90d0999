package cli

// Devices that people hold: asked for, prolonged, given back.

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

const holdRef = "HOLD is an id, the serial of the device that is held, or newest."

func (a *App) deviceHoldCmd() *cobra.Command {
	var q api.HoldRequest
	var where []string
	var build, name string
	var long time.Duration
	var back bool
	var helpers []string
	cmd := &cobra.Command{Use: "hold [SERIAL]", Short: "Hold a device for yourself", Args: UpTo(1),
		Long: `Hold a device for yourself. The hold waits in the same queue as runs and sessions; its time counts from when the device is ready.
Name the device by its serial, or say which would do with --where. With --build, that build is installed and started first.
The device is recorded while you hold it, and cleaned when you give it back, or when the time is over.

The command waits until the device is yours. With --no-wait it prints the hold and exits.`,
		Example: "  tessellant device hold orr-01 --for 30m\n  tessellant device hold orr-01 --build kelpline/android@newest\n  tessellant device hold --where 'os>=12' --where maker=Orrery --no-wait\n  tessellant hold end orr-01",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				q.Device = &args[0]
			}
			if (q.Device == nil) == (len(where) == 0) {
				return usage(c, "name one device, or say which would do with --where")
			}
			seconds := int(long.Seconds())
			q.Where, q.Build, q.Name, q.Seconds, q.Helpers = listed(where), given(build), given(name), &seconds, listed(helpers)
			return a.deviceHold(c.Context(), q, !back)
		}}
	f := cmd.Flags()
	f.DurationVar(&long, "for", 30*time.Minute, "how long, from 1m to 8h")
	f.StringArrayVar(&where, "where", nil, whereHelp)
	f.StringVar(&build, "build", "", "a build to install at once, such as kelpline/android@newest")
	f.StringVar(&name, "name", "", "what to call it in lists")
	f.StringArrayVar(&helpers, "helper", nil, helperHelp)
	f.BoolVar(&back, "no-wait", false, "do not wait for the device")
	return cmd
}

const holdPoll = 400 * time.Millisecond

func (a *App) deviceHold(ctx context.Context, q api.HoldRequest, wait bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.HoldDeviceWithResponse(ctx, &api.HoldDeviceParams{}, q)
	if err != nil || r.JSON201 == nil {
		return a.Failed("hold a device", err, r)
	}
	h := r.JSON201
	for told := ""; wait && h.Stage != api.HoldStageRunning && h.Stage != api.HoldStageDone; {
		if text := holdState(*h); text != told && !a.JSON {
			fmt.Fprintln(a.Out, strings.ToUpper(text[:1])+text[1:]+".")
			told = text
		}
		select {
		case <-time.After(holdPoll):
		case <-ctx.Done():
			a.notWaited(client, h.Id)
			return ctx.Err()
		}
		r, err := client.GetHoldWithResponse(ctx, h.Id)
		if err != nil || r.JSON200 == nil {
			return a.Failed("see how the hold stands", err, r)
		}
		h = r.JSON200
	}
	if err := a.Show(h, func() { a.heldText(h) }); err != nil {
		return err
	}
	if h.Stage == api.HoldStageDone {
		return &Exit{verdict.ExitNothingSaid, nil}
	}
	return nil
}

// notWaited takes a hold out of the queue whose person has pressed Ctrl-C.
func (a *App) notWaited(client *api.ClientWithResponses, id string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if r, err := client.EndHoldWithResponse(ctx, id); err == nil && r.JSON200 != nil {
		fmt.Fprintln(a.Err, "The hold is taken back.")
	}
}

func (a *App) heldText(h *api.Hold) {
	switch {
	case h.Stage == api.HoldStageDone:
		fmt.Fprintf(a.Out, "The hold is over: %s.\n", holdState(*h))
	case h.Stage != api.HoldStageRunning:
		fmt.Fprintf(a.Out, "Hold %s: %s.\nSee how it stands with: tessellant hold show %s\n", h.Id, holdState(*h), h.Id)
	default:
		fmt.Fprintf(a.Out, "%s is yours until %s (%s).\n", h.Device.Serial, h.Until.Local().Format("15:04"), leftText(time.Until(*h.Until)))
		if h.Build != "" {
			fmt.Fprintf(a.Out, "%s is installed and started.\n", h.Build)
		}
		fmt.Fprintf(a.Out, "What is on its screen:   tessellant device tree %[1]s\nHold it longer:          tessellant hold prolong %[1]s --for 30m\nGive it back:            tessellant hold end %[1]s\nWith a WebDriver client: the capability \"tessellant:hold\": \"%[2]s\"\n", h.Device.Serial, h.Id)
	}
}

// leftText is a time of which the seconds matter only when they are few.
func leftText(d time.Duration) string {
	switch d = max(0, d.Round(time.Second)); {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	}
	d = d.Round(time.Minute)
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// holdState says how a hold stands, in a few words.
func holdState(h api.Hold) string {
	switch h.Stage {
	case api.HoldStageWaiting:
		if h.Place != nil {
			return fmt.Sprintf("it waits for its device, number %d in the queue", *h.Place)
		}
		return "it waits for its device"
	case api.HoldStageHeld, api.HoldStagePreparing:
		return "the device is being made ready"
	case api.HoldStageCollecting:
		return "the device is being given back"
	case api.HoldStageRunning:
		if h.Stopping != nil {
			return "the device is being given back"
		}
		if h.Until != nil {
			return "held, " + leftText(time.Until(*h.Until)) + " left"
		}
		return "held"
	}
	out := map[string]string{"client": "given back", "limit": "its time was over", "lost": "the device or its host went away", "stopped": "ended", "never": "it never got a device"}[Deref(h.How)]
	if h.Message != nil {
		out = strings.TrimPrefix(out+": "+*h.Message, ": ")
	}
	return out
}

func (a *App) holdCmd() *cobra.Command {
	var going bool
	var device, after string
	list := &cobra.Command{Use: "list", Short: "List devices that people hold, and held", Args: Nothing,
		Example: "  tessellant hold list\n  tessellant hold list --going",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.holdList(c.Context(), api.ListHoldsParams{Going: &going, Device: given(device), After: given(after)})
		}}
	list.Flags().BoolVar(&going, "going", false, "only those that are not over")
	list.Flags().StringVar(&device, "device", "", "only those of the device with this serial")
	list.Flags().StringVar(&after, "after", "", "continue after this hold; an earlier list printed the id")
	var withTimeline bool
	show := &cobra.Command{Use: "show HOLD", Short: "Show how a hold stands, and what was done", Args: Exactly(1),
		Long:    "Show how a hold stands, and what was gathered. With --timeline it also shows every command.\n\n" + holdRef,
		Example: "  tessellant hold show newest\n  tessellant hold show orr-01 --timeline",
		RunE:    func(c *cobra.Command, args []string) error { return a.holdShow(c.Context(), args[0], withTimeline) }}
	show.Flags().BoolVar(&withTimeline, "timeline", false, "show every command")
	var by time.Duration
	prolong := &cobra.Command{Use: "prolong HOLD", Short: "Hold a device longer", Args: Exactly(1),
		Long:    "Hold a device longer: its end moves by so much. At most 8 hours may be left afterwards.\n\n" + holdRef,
		Example: "  tessellant hold prolong orr-01 --for 30m",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.ProlongHoldWithResponse(c.Context(), args[0], api.Prolong{Seconds: int(by.Seconds())})
			if err != nil || r.JSON200 == nil {
				return a.Failed("prolong the hold", err, r)
			}
			return a.Show(r.JSON200, func() { a.heldText(r.JSON200) })
		}}
	prolong.Flags().DurationVar(&by, "for", 30*time.Minute, "by how much, from 1m to 8h")
	end := &cobra.Command{Use: "end HOLD", Short: "Give a device back", Args: Exactly(1),
		Long:    "Give a device back: it is cleaned, and goes to the next. A hold that waits still is taken out of the queue.\n\n" + holdRef,
		Example: "  tessellant hold end orr-01\n  tessellant hold end newest",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.EndHoldWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("give the device back", err, r)
			}
			return a.Show(r.JSON200, func() {
				if h := r.JSON200; h.Device != nil {
					fmt.Fprintf(a.Out, "%s is given back. What was gathered: tessellant hold show %s\n", h.Device.Serial, h.Id)
				} else {
					fmt.Fprintf(a.Out, "Hold %s does not wait any more.\n", h.Id)
				}
			})
		}}
	return group("hold", "List, prolong and end what people hold", list, show, prolong, end, a.holdScriptCmd())
}

func (a *App) holdList(ctx context.Context, q api.ListHoldsParams) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListHoldsWithResponse(ctx, &q)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the holds", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "Nobody holds a device. Hold one with: tessellant device hold SERIAL")
			return
		}
		t := NewTable(a.Out, "hold", "device", "by", "name", "build", "state", "asked for")
		for _, h := range r.JSON200.Items {
			device := strings.Join(h.Where, " ")
			if h.Device != nil {
				device = h.Device.Serial
			}
			t.AppendRow(table.Row{h.Id, device, h.By, clipTo(h.Name, 24), h.Build, holdState(h), ago(h.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

func (a *App) holdShow(ctx context.Context, ref string, withTimeline bool) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetHoldWithResponse(ctx, ref)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the hold", err, r)
	}
	h := r.JSON200
	if a.JSON {
		return a.Show(h, nil)
	}
	client, l, err := a.getLeg(ctx, h.Id)
	if err != nil {
		return err
	}
	device := "none yet"
	if h.Device != nil {
		device = h.Device.Serial + ": " + h.Device.Model + ", " + h.Device.System + map[bool]string{true: " (simulated)"}[h.Device.Simulated]
	} else if h.Ended != nil {
		device = "none"
	}
	facts(a.Out, "hold", h.Id, "name", h.Name, "by", h.By, "device", device, "where", strings.Join(h.Where, " "), "build", h.Build, "state", holdState(*h), "asked for", ago(h.Created)+", for "+leftText(time.Duration(h.Seconds)*time.Second))
	return a.attempts(ctx, client, l, withTimeline, "tessellant leg fetch "+h.Id+" DIR")
}
