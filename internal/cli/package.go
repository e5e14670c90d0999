package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/report"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
)

func (a *App) packageCmd() *cobra.Command {
	check := &cobra.Command{Use: "check DIR", Short: "Find mistakes in a package before you upload it", Args: Exactly(1),
		Long:    "Find mistakes in a package before you upload it: syntax errors, undefined names, unknown script words, invalid locators.\nExit code 3 if the package can't run.",
		Example: "  tessellant package check demo/shore-suite",
		RunE:    func(_ *cobra.Command, args []string) error { return a.packageCheck(args[0]) }}
	add := &cobra.Command{Use: "add DIR", Short: "Pack a folder and upload it", Args: Exactly(1),
		Long:    "Check a folder, pack it and upload it as the next revision of the package named in tessellant.yaml.\nIf the content has not changed, you get the same revision.",
		Example: "  tessellant package add demo/shore-suite",
		RunE:    func(c *cobra.Command, args []string) error { return a.packageAdd(c.Context(), args[0]) }}
	var limit int
	var with []string
	list := &cobra.Command{Use: "list", Short: "List packages, the newest first", Args: Nothing, Example: "  tessellant package list\n  tessellant package list --label branch=main",
		RunE: func(c *cobra.Command, _ []string) error { return a.packageList(c.Context(), limit, with) }}
	list.Flags().StringArrayVar(&with, "label", nil, "only packages with this label, such as branch=main; repeat for more, which must all match")
	list.Flags().IntVar(&limit, "limit", 50, "how many to list, 1 to 200")
	show := &cobra.Command{Use: "show REF", Short: "Show a package and its cases", Args: Exactly(1),
		Long: "Show a package and its cases. REF is an id, shore-suite@7 (revision) or shore-suite@newest.", Example: "  tessellant package show shore-suite@newest",
		RunE: func(c *cobra.Command, args []string) error { return a.packageShow(c.Context(), args[0]) }}
	return group("package", "Check, upload and list test packages", check, add, list, show, a.labelCmd("package", "PACKAGE", "shore-suite@newest", a.labelPackage))
}

func readFolder(dir string) (fs.FS, *testpkg.Package, error) {
	st, err := os.Stat(dir)
	if err != nil {
		return nil, nil, fmt.Errorf("could not read the package: %w", err)
	}
	if !st.IsDir() {
		return nil, nil, fmt.Errorf("%s is a file; give the folder that holds tessellant.yaml", dir)
	}
	f := os.DirFS(dir)
	p, err := testpkg.Read(f)
	if err != nil {
		return nil, nil, fmt.Errorf("could not read the package: %w", err)
	}
	return f, p, nil
}

func (a *App) sayFindings(p *testpkg.Package) {
	for _, f := range p.Findings {
		where := f.File
		if where == "" {
			where = "package"
		}
		if f.Line > 0 {
			where = fmt.Sprintf("%s:%d", f.File, f.Line)
		}
		fmt.Fprintf(a.Out, "%s: %s: %s\n    %s\n", where, f.Level, f.What, f.Remedy)
	}
}

func (a *App) packageCheck(dir string) error {
	_, p, err := readFolder(dir)
	if err != nil {
		return err
	}
	if err := a.Show(p, func() {
		a.sayFindings(p)
		if len(p.Blocked()) == 0 && p.Program != nil {
			fmt.Fprintf(a.Out, "%s: a program, nothing keeps it from running.\n", p.Name)
		} else if len(p.Blocked()) == 0 {
			a.caseTable(fromLocal(p))
			fmt.Fprintf(a.Out, "%s: %s, nothing keeps it from running.\n", p.Name, Plural(len(p.Cases), "case"))
		}
	}); err != nil {
		return err
	}
	if n := len(p.Blocked()); n > 0 {
		return &Exit{verdict.ExitNothingSaid, fmt.Errorf("%s can't run: %s", dir, Plural(n, "mistake"))}
	}
	return nil
}

func Plural(n int, noun string) string {
	return report.Many(n, noun)
}

func fromLocal(p *testpkg.Package) []api.Case {
	var out []api.Case
	for _, c := range p.Cases {
		about := c.About
		out = append(out, api.Case{Name: c.Name, File: c.File, Line: c.Line, About: &about, Tags: &c.Tags})
	}
	return out
}

func (a *App) caseTable(cases []api.Case) {
	t := NewTable(a.Out, "case", "defined in", "tags", "about")
	for _, c := range cases {
		t.AppendRow(table.Row{c.Name, fmt.Sprintf("%s:%d", c.File, c.Line), strings.Join(Deref(c.Tags), " "), Deref(c.About)})
	}
	t.Render()
}

func (a *App) packageAdd(ctx context.Context, dir string) error {
	out, isNew, err := a.sendPackage(ctx, dir)
	if err != nil {
		return err
	}
	return a.Show(out, func() {
		if !isNew {
			fmt.Fprintf(a.Out, "This content was here already, as %s.\n", out.Ref)
		} else {
			what := Plural(len(out.Cases), "case")
			if out.Program != nil {
				what = "a program"
			}
			fmt.Fprintf(a.Out, "Added %s: %s, %s.\n", out.Ref, what, BytesText(out.Size))
		}
		a.contents(out)
		for _, f := range out.Findings {
			fmt.Fprintln(a.Out, "\n"+findingText(f))
		}
	})
}

// contents writes what is in a package: its cases, or what it runs; and its inputs.
func (a *App) contents(p *api.Package) {
	if g := p.Program; g != nil {
		facts(a.Out, "prepare", strings.Join(Deref(g.Prepare), " "), "run", strings.Join(g.Run, " "), "needs", strings.Join(g.Needs, ", "), "results", strings.Join(g.Results, ", "), "cases", "are seen when it has run")
	} else {
		a.caseTable(p.Cases)
	}
	a.inputText(p.Inputs)
}

// sendPackage checks a folder, packs it and uploads it.
func (a *App) sendPackage(ctx context.Context, dir string) (p *api.Package, isNew bool, err error) {
	client, err := a.Client()
	if err != nil {
		return nil, false, err
	}
	f, read, err := readFolder(dir)
	if err != nil {
		return nil, false, err
	}
	if n := len(read.Blocked()); n > 0 {
		a.sayFindings(read)
		return nil, false, &Exit{verdict.ExitNothingSaid, fmt.Errorf("%s was not sent: %s", dir, Plural(n, "mistake"))}
	}
	zip, err := os.CreateTemp("", "tessellant-package-")
	if err != nil {
		return nil, false, fmt.Errorf("could not pack the package: %w", err)
	}
	defer os.Remove(zip.Name())
	defer zip.Close()
	if err := testpkg.Pack(f, zip); err != nil {
		return nil, false, err
	}
	size, err := zip.Seek(0, io.SeekCurrent)
	if err == nil {
		_, err = zip.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, false, fmt.Errorf("could not pack the package: %w", err)
	}
	if size > testpkg.MaxZip {
		return nil, false, &Exit{verdict.ExitNothingSaid, fmt.Errorf("%s was not sent: packed it has %d bytes, and %d is the most", dir, size, int64(testpkg.MaxZip))}
	}
	body, done := a.progress("uploading "+read.Name, zip, size)
	r, err := client.AddPackageWithBodyWithResponse(ctx, "application/zip", body, withLength(size))
	done()
	out := r2(r, func() (*api.Package, *api.Package) { return r.JSON201, r.JSON200 })
	if err != nil || out == nil {
		return nil, false, a.Failed("add the package", err, r)
	}
	return out, r.JSON200 == nil, nil
}

// inputText says what a run can or must give to a package.
func (a *App) inputText(inputs []api.Input) {
	if len(inputs) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := NewTable(a.Out, "input", "about", "give it with")
	for _, in := range inputs {
		how := "--set " + in.Name + "=VALUE"
		if in.Secret {
			how = "--secret-from-env " + in.Name + "=VARIABLE"
		}
		if in.Default != nil {
			how += fmt.Sprintf(" (%q unless given)", *in.Default)
		}
		t.AppendRow(table.Row{in.Name, Deref(in.About), how})
	}
	t.Render()
}

func (a *App) packageList(ctx context.Context, limit int, with []string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListPackagesWithResponse(ctx, &api.ListPackagesParams{Limit: &limit, Label: listed(with)})
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the packages", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "No packages yet. Upload one with: tessellant package add DIR")
			return
		}
		t := NewTable(a.Out, "reference", "kind", "cases", "about", "added")
		for _, p := range r.JSON200.Items {
			t.AppendRow(table.Row{p.Ref, p.Kind, len(p.Cases), p.About, ago(p.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

func (a *App) packageShow(ctx context.Context, ref string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetPackageWithResponse(ctx, ref)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the package", err, r)
	}
	p := r.JSON200
	return a.Show(p, func() {
		facts(a.Out, "reference", p.Ref, "id", p.Id, "kind", p.Kind, "about", p.About, "size", BytesText(p.Size), "SHA-256", p.Sha256, "added", ago(p.Created))
		fmt.Fprintln(a.Out)
		a.contents(p)
	})
}
