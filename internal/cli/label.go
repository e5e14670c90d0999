package cli

// Labels that people give to things, and the names of runs.

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/labels"
)

// labelText writes labels in a line.
func labelText(m map[string]string) string {
	var parts []string
	for _, n := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, n+"="+m[n])
	}
	return strings.Join(parts, " ")
}

// labelCmd is the command that labels one kind of thing. Put carries out the change and gives the thing and its labels.
func (a *App) labelCmd(what, argument, example string, put func(context.Context, string, api.LabelChange) (any, map[string]string, error)) *cobra.Command {
	var remove []string
	short := map[bool]string{true: ". For operators"}[what == "device"]
	c := &cobra.Command{Use: "label " + argument + " [NAME=VALUE]", Short: "Set or remove labels of a " + what, Args: between(1, labels.Most+1),
		Long:    "Set or remove labels of a " + what + short + ". Without any, show them.",
		Example: fmt.Sprintf("  tessellant %s label %s branch=main\n  tessellant %s label %s --remove branch", what, example, what, example),
		RunE: func(c *cobra.Command, args []string) error {
			set, err := labels.Parse(args[1:])
			if err != nil {
				return err
			}
			thing, now, err := put(c.Context(), args[0], api.LabelChange{Set: &set, Remove: listed(remove)})
			if err != nil {
				return err
			}
			return a.Show(thing, func() {
				if len(now) == 0 {
					fmt.Fprintf(a.Out, "%s has no labels.\n", args[0])
					return
				}
				fmt.Fprintf(a.Out, "%s: %s\n", args[0], labelText(now))
			})
		}}
	if what == "device" {
		c.Example = "  tessellant device label orr-01 desk=3\n  tessellant device label orr-01 --remove desk"
	}
	c.Flags().StringArrayVar(&remove, "remove", nil, "name of a label to remove; repeat for more")
	return c
}

func (a *App) labelDevice(ctx context.Context, serial string, x api.LabelChange) (any, map[string]string, error) {
	client, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	r, err := client.LabelDeviceWithResponse(ctx, serial, x)
	if err != nil || r.JSON200 == nil {
		return nil, nil, a.Failed("label the device", err, r)
	}
	return r.JSON200, Deref(r.JSON200.Labels), nil
}

func (a *App) labelRun(ctx context.Context, id string, x api.LabelChange) (any, map[string]string, error) {
	client, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	r, err := client.LabelRunWithResponse(ctx, id, x)
	if err != nil || r.JSON200 == nil {
		return nil, nil, a.Failed("label the run", err, r)
	}
	return r.JSON200, r.JSON200.Labels, nil
}

func (a *App) labelBuild(ctx context.Context, ref string, x api.LabelChange) (any, map[string]string, error) {
	client, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	r, err := client.LabelBuildWithResponse(ctx, ref, x)
	if err != nil || r.JSON200 == nil {
		return nil, nil, a.Failed("label the build", err, r)
	}
	return r.JSON200, Deref(r.JSON200.Labels), nil
}

func (a *App) labelPackage(ctx context.Context, ref string, x api.LabelChange) (any, map[string]string, error) {
	client, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	r, err := client.LabelPackageWithResponse(ctx, ref, x)
	if err != nil || r.JSON200 == nil {
		return nil, nil, a.Failed("label the package", err, r)
	}
	return r.JSON200, Deref(r.JSON200.Labels), nil
}

func (a *App) runNameCmd() *cobra.Command {
	return &cobra.Command{Use: "name RUN NAME", Short: "Give a run another name", Args: Exactly(2), Example: "  tessellant run name newest 'before the release'",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.NameRunWithResponse(c.Context(), args[0], api.RunName{Name: args[1]})
			if err != nil || r.JSON200 == nil {
				return a.Failed("name the run", err, r)
			}
			return a.Show(r.JSON200, func() { fmt.Fprintf(a.Out, "Run %d is called %q.\n", r.JSON200.Number, r.JSON200.Name) })
		}}
}

// runFile prints what a run was asked for.
func (a *App) runFile(ctx context.Context, id string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	resp, err := client.GetRunFile(ctx, id)
	body, err := a.Bytes("write the run file", resp, err)
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(a.Out, body)
	return err
}
