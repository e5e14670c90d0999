package cli

// A test that a person pauses to work on its device, and resumes.

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tessellant/api"
)

const onWhich = "SERIAL is the device on which the session or the leg runs; the id of the session or the leg does too."

func (a *App) devicePauseCmd() *cobra.Command {
	var long time.Duration
	var why string
	cmd := &cobra.Command{Use: "pause SERIAL", Short: "Pause the test that runs on a device", Args: Exactly(1),
		Long: `Pause the test that runs on a device before its next command. Meanwhile that command waits, and the time limits of the test stand.
You can look around and work on the device: with the commands below, or in the console, on the page of the leg or the session.
A script can pause itself with the word pause.

The test goes on when you resume it, when the time is over, and after 30 minutes at the latest. ` + onWhich,
		Example: "  tessellant device pause fen-01 --why 'the total is odd'\n  tessellant device tree fen-01\n  tessellant device do fen-01 tap '#review'\n  tessellant device resume fen-01",
		RunE: func(c *cobra.Command, args []string) error {
			seconds := int(long.Seconds())
			return a.paused(c.Context(), args[0], "pause the test", func(ctx context.Context, client *api.ClientWithResponses) (*api.Standing, answer, error) {
				r, err := client.PauseTestWithResponse(ctx, args[0], api.PauseRequest{Why: given(why), Seconds: &seconds})
				if err != nil {
					return nil, nil, err
				}
				return r.JSON200, r, nil
			})
		}}
	cmd.Flags().DurationVar(&long, "for", 10*time.Minute, "how long at least, up to 30m; it lasts longer while somebody watches in the console")
	cmd.Flags().StringVar(&why, "why", "", "why, for the timeline and for others who look")
	return cmd
}

func (a *App) deviceResumeCmd() *cobra.Command {
	return &cobra.Command{Use: "resume SERIAL", Short: "Resume a paused test", Args: Exactly(1), Long: "Resume a test that was paused, by a person or by itself. " + onWhich,
		Example: "  tessellant device resume fen-01",
		RunE: func(c *cobra.Command, args []string) error {
			return a.paused(c.Context(), args[0], "resume the test", func(ctx context.Context, client *api.ClientWithResponses) (*api.Standing, answer, error) {
				r, err := client.ResumeTestWithResponse(ctx, args[0])
				if err != nil {
					return nil, nil, err
				}
				return r.JSON200, r, nil
			})
		}}
}

// paused asks for something and says how the test stands then.
func (a *App) paused(ctx context.Context, ref, doing string, ask func(context.Context, *api.ClientWithResponses) (*api.Standing, answer, error)) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	s, r, err := ask(ctx, client)
	if err != nil || s == nil {
		return a.Failed(doing, err, r)
	}
	return a.Show(s, func() {
		if !s.Paused {
			fmt.Fprintf(a.Out, "The test on %s goes on.\n", ref)
			return
		}
		by := Deref(s.By)
		if by == "" {
			by = "the test itself"
		}
		state := "The test on " + ref + " is paused by " + by
		if s.Why != nil {
			state += ": " + *s.Why
		}
		fmt.Fprintln(a.Out, strings.TrimSuffix(state, ".")+".")
		switch {
		case s.Busy != nil:
			fmt.Fprintf(a.Out, "Its command has not ended yet; the device is yours behind it: %s\n", Deref(s.Last))
		case s.Waits != nil:
			fmt.Fprintf(a.Out, "This command of it waits: %s\n", Deref(s.Last))
		case s.Last != nil:
			fmt.Fprintf(a.Out, "Its last command: %s\n", *s.Last)
		}
		fmt.Fprintf(a.Out, "It goes on by itself in %s.\nWhat is on its screen:   tessellant device tree %[2]s\nResume it:               tessellant device resume %[2]s\n", leftText(time.Duration(Deref(s.Left))*time.Second), ref)
	})
}
