package cli

// What was done by hand as a script, and lines that are run on a held device.

import (
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func (a *App) holdScriptCmd() *cobra.Command {
	var name string
	cmd := &cobra.Command{Use: "script HOLD", Short: "Print what was done by hand as a script", Args: Exactly(1),
		Long: `Print what was done by hand on a held device as a script: taps, texts, keys and settings, with the best locator of each element. It works also when the hold is over.
With --save, add it as a package of that name. Add checks to it first, so that it tests something: print it into a file, edit the file, and try it with
tessellant device run.

` + holdRef,
		Example: "  tessellant hold script orr-01\n  tessellant hold script newest > recorded.star\n  tessellant hold script newest --save by-hand",
		RunE:    func(c *cobra.Command, args []string) error { return a.holdScript(c.Context(), args[0], name) }}
	cmd.Flags().StringVar(&name, "save", "", "add it as a package of this name")
	return cmd
}

func (a *App) holdScript(ctx context.Context, hold, name string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetHeldScriptWithResponse(ctx, hold)
	if err != nil || r.JSON200 == nil {
		return a.Failed("read what was done", err, r)
	}
	if name == "" {
		return a.Show(r.JSON200, func() { fmt.Fprint(a.Out, r.JSON200.Source) })
	}
	p, err := client.AddScriptWithResponse(ctx, api.NewScript{Name: name, Source: r.JSON200.Source})
	added := p.JSON201
	if err == nil && added == nil {
		added = p.JSON200
	}
	if err != nil || added == nil {
		return a.Failed("add the package", err, p)
	}
	return a.Show(added, func() {
		fmt.Fprintf(a.Out, "Added %s: %s.\nRun it with: tessellant run start --build BUILD --package %s --where platform=android --watch\n", added.Ref, Plural(len(r.JSON200.Lines), "line"), added.Ref)
	})
}

func (a *App) deviceRunCmd() *cobra.Command {
	var from int
	var within time.Duration
	cmd := &cobra.Command{Use: "run SERIAL FILE", Short: "Run lines of a script on a device that you hold", Args: Exactly(2),
		Long: `Run lines of a script on a device that your workspace holds, as it stands: nothing is cleared before, and nothing put back after. FILE is a script; the lines are
those of its first case. A file without a case is all lines. - is the standard input.
Exit code 1 if a line failed.`,
		Example: "  tessellant device run orr-01 recorded.star\n  tessellant device run orr-01 recorded.star --from 4",
		RunE: func(c *cobra.Command, args []string) error {
			lines, err := caseLines(args[1])
			if err != nil {
				return err
			}
			if from < 1 || from > len(lines) {
				return usage(c, fmt.Sprintf("there are %s in %s: --from takes 1 to %d", Plural(len(lines), "line"), args[1], len(lines)))
			}
			return a.deviceRun(c.Context(), args[0], lines, from-1, within)
		}}
	cmd.Flags().IntVar(&from, "from", 1, "the first line of the case to run, counted from 1")
	cmd.Flags().DurationVar(&within, "within", 2*time.Minute, "how long the lines may take, up to 10m")
	return cmd
}

// maxScript is how many bytes of a script are read.
const maxScript = 1 << 20

var caseForm = regexp.MustCompile(`^def \w+\(\w+\):\s*$`)

// linesOf takes the lines of the first case out of a script.
func linesOf(source string) (lines []string) {
	in, found := false, false
	for _, l := range strings.Split(strings.ReplaceAll(source, "\r\n", "\n"), "\n") {
		switch {
		case caseForm.MatchString(l) && !found:
			in, found, lines = true, true, nil
		case in && l != "" && !strings.HasPrefix(l, " ") && !strings.HasPrefix(l, "\t"):
			in = false
		case in:
			lines = append(lines, strings.TrimPrefix(strings.TrimPrefix(l, "\t"), "    "))
		case !found:
			lines = append(lines, l)
		}
	}
	for len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// caseLines reads the lines of the first case of a file; -: of the standard input.
func caseLines(file string) ([]string, error) {
	raw, err := os.ReadFile(file)
	if file == "-" {
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, maxScript))
	}
	return linesOf(string(raw)), err
}

func (a *App) deviceRun(ctx context.Context, serial string, lines []string, from int, within time.Duration) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	seconds := int(within.Seconds())
	r, err := client.RunOnHeldWithResponse(ctx, serial, api.RunLines{Lines: lines, From: &from, Seconds: &seconds})
	if err != nil || r.JSON200 == nil {
		return a.Failed("run the lines", err, r)
	}
	o := r.JSON200
	if err := a.Show(o, func() {
		fmt.Fprintf(a.Out, "%s on %s after %.1f s", o.Verdict, serial, o.Seconds)
		if o.Line != nil && *o.Line < len(lines) {
			fmt.Fprintf(a.Out, ", at line %d: %s", *o.Line+1, lines[*o.Line])
		}
		fmt.Fprintln(a.Out, ".")
		if o.Message != nil {
			fmt.Fprintln(a.Out, *o.Message)
		}
	}); err != nil {
		return err
	}
	if o.Verdict != api.Passed {
		return &Exit{verdict.ExitAppFailed, nil}
	}
	return nil
}
