package cli

// Reports of runs, for people and tools elsewhere.

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"tessellant/api"
)

func (a *App) reportCmd() *cobra.Command {
	files := map[api.GetReportParamsForm]*string{}
	c := &cobra.Command{Use: "report RUN [RUN...]", Short: "Write what came of runs as a page, or for other tools", Args: between(1, 30),
		Long: `Write what came of a run, or of several as one report. --html writes one page that stands alone: it opens without a network and has the
sentence, the mosaic, the families with pictures, devices and cases. The other forms have each case on each device. RUN is a number, an id, or newest.`,
		Example: "  tessellant run report newest --html tides.html\n  tessellant run report newest --junit results.xml --csv cases.csv\n  tessellant run report 1 2 --html both.html\n  tessellant run report newest --tap -",
		RunE: func(c *cobra.Command, args []string) error {
			n := 0
			for _, form := range reportForms {
				if file := *files[form.form]; file != "" {
					n++
					if err := a.report(c.Context(), args, form.form, file); err != nil {
						return err
					}
				}
			}
			if n == 0 {
				return errors.New("say where to: one or more of --html, --junit, --csv, --cases and --tap, each with a file, or - for standard output")
			}
			return nil
		}}
	for _, form := range reportForms {
		files[form.form] = c.Flags().String(form.flag, "", form.what+"; - for standard output")
	}
	return c
}

// reportForms are the forms of reports and their flags.
var reportForms = []struct {
	form       api.GetReportParamsForm
	flag, what string
}{
	{api.Html, "html", "file for a page that stands alone"},
	{api.Junit, "junit", "file for JUnit XML, a suite per device"},
	{api.Csv, "csv", "file for all cases as CSV"},
	{api.Json, "cases", "file for all cases as JSON"},
	{api.Tap, "tap", "file for all cases in the Test Anything Protocol"},
}

func (a *App) report(ctx context.Context, runs []string, form api.GetReportParamsForm, file string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	q := api.GetReportParams{Form: form}
	if len(runs) > 1 {
		more := slices.Clone(runs[1:])
		q.With = &more
	}
	resp, err := client.GetReport(ctx, runs[0], &q)
	body, err := a.Bytes("write the report", resp, err)
	if err != nil {
		return err
	}
	defer body.Close()
	if file == "-" {
		_, err = io.Copy(a.Out, body)
		return err
	}
	size, err := a.save(body, resp.ContentLength, file, func() error { return nil })
	if err != nil {
		return err
	}
	return a.Show(map[string]any{"file": file, "bytes": size}, func() { fmt.Fprintf(a.Out, "%s, %s\n", file, BytesText(size)) })
}
