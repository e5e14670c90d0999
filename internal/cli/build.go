package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"tessellant/api"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/verdict"
	"tessellant/internal/httpd"
)

func (a *app) buildCmd() *cobra.Command {
	add := &cobra.Command{Use: "add FILE", Short: "Upload a build", Args: exactly(1),
		Long:    "Upload a build: an APK. It is read at once; what is in it is shown, and a file that is not a build is refused.\nThe same file again gives the same build.",
		Example: "  tessellant build add kelpline-1.8.0.apk",
		RunE:    func(c *cobra.Command, args []string) error { return a.buildAdd(c.Context(), args[0]) }}
	var limit int
	list := &cobra.Command{Use: "list", Short: "List builds, the newest first", Args: cobra.NoArgs, Example: "  tessellant build list",
		RunE: func(c *cobra.Command, _ []string) error { return a.buildList(c.Context(), limit) }}
	list.Flags().IntVar(&limit, "limit", 50, "how many, 1 to 200")
	var icon string
	show := &cobra.Command{Use: "show REF", Short: "Show what is in a build", Args: exactly(1),
		Long:    "Show what is in a build. REF is an id, or an app and a version:\nkelpline/android@231 (version code), @v1.8.0 (version name), @newest.",
		Example: "  tessellant build show kelpline/android@newest\n  tessellant build show kelpline/android@231 --icon kelpline.png",
		RunE:    func(c *cobra.Command, args []string) error { return a.buildShow(c.Context(), args[0], icon) }}
	show.Flags().StringVar(&icon, "icon", "", "write the app's icon into this file")
	check := &cobra.Command{Use: "check FILE", Short: "Read a build where it lies, without sending it", Args: exactly(1),
		Long:    "Read a build where it lies, without sending it. Exit code 3 when it is not one.",
		Example: "  tessellant build check kelpline-1.8.0.apk",
		RunE:    func(_ *cobra.Command, args []string) error { return a.buildCheck(args[0]) }}
	return group("build", "Upload and look at app builds", add, check, list, show)
}

func (a *app) buildAdd(ctx context.Context, path string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("could not read the build: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if st.IsDir() {
		return fmt.Errorf("%s is a folder; give the APK file", path)
	}
	name := filepath.Base(path)
	body, done := a.progress("uploading "+name, f, st.Size())
	r, err := client.AddBuildWithBodyWithResponse(ctx, &api.AddBuildParams{Filename: &name}, "application/octet-stream", body, withLength(st.Size()))
	done()
	b := r2(r, func() (*api.Build, *api.Build) { return r.JSON201, r.JSON200 })
	if err != nil || b == nil {
		return a.problem("add the build "+name, err, status(r), problemOf(r), bodyOf(r))
	}
	return a.show(b, func() {
		if r.JSON200 != nil {
			fmt.Fprintf(a.out, "This file was here already, as %s.\n", b.Ref)
		} else {
			fmt.Fprintf(a.out, "Added %s.\n", b.Ref)
		}
		a.buildFacts(b)
	})
}

func (a *app) buildCheck(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("could not read the build: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	build, err := appfile.Open(f, st.Size())
	var x appfile.Facts
	if err == nil {
		x, err = build.Examine()
	}
	var refusal *appfile.Refusal
	if errors.As(err, &refusal) {
		return &exit{verdict.ExitNothingSaid, fmt.Errorf("%s is not a build: %s\n  what to do: %s", path, refusal.Why, refusal.Remedy)}
	}
	if err != nil {
		return err
	}
	return a.show(x, func() {
		b := api.Build{AppId: x.AppID, Label: x.Label, VersionName: x.VersionName, VersionCode: x.VersionCode, MinApi: x.MinAPI, TargetApi: x.TargetAPI,
			Permissions: x.Permissions, Abis: x.ABIs, Size: st.Size(), Filename: filepath.Base(path), Debuggable: x.Debuggable, MinCode: &x.MinCode, TargetCode: &x.TargetCode, Findings: httpd.BuildFindings(x.Findings)}
		a.buildFacts(&b)
	})
}

// r2 gives whichever of two answers is there.
func r2[R any, T any](r *R, f func() (*T, *T)) *T {
	if r == nil {
		return nil
	}
	x, y := f()
	if x != nil {
		return x
	}
	return y
}

func withLength(n int64) api.RequestEditorFn {
	return func(_ context.Context, r *http.Request) error {
		r.ContentLength = n
		return nil
	}
}

// progress shows on a terminal how far reading r has come.
func (a *app) progress(what string, r io.Reader, size int64) (io.Reader, func()) {
	if _, ok := terminal(a.err); !ok || a.json {
		return io.NopCloser(r), func() {}
	}
	p := mpb.New(mpb.WithOutput(a.err), mpb.WithWidth(40))
	bar := p.New(size, mpb.BarStyle().Lbound(" ").Filler("▪").Tip("▪").Padding("·").Rbound(" "), mpb.PrependDecorators(decor.Name(what)),
		mpb.AppendDecorators(decor.CountersKiloByte("% .1f of % .1f"), decor.Percentage(decor.WCSyncSpace)), mpb.BarRemoveOnComplete())
	return bar.ProxyReader(r), func() {
		bar.Abort(true) // no-op when it is complete
		p.Wait()
	}
}

func (a *app) buildFacts(b *api.Build) {
	runs := "all processor kinds"
	if len(b.Abis) > 0 {
		runs = strings.Join(b.Abis, ", ")
	}
	debug := ""
	if b.Debuggable {
		debug = "yes"
	}
	needs, made := fmt.Sprintf("API level %d or later", b.MinApi), fmt.Sprint(b.TargetApi)
	if c := deref(b.MinCode); c != "" {
		needs = "the unreleased " + c
	}
	if c := deref(b.TargetCode); c != "" {
		made = "the unreleased " + c
	}
	facts(a.out, "reference", b.Ref, "id", b.Id, "app", fmt.Sprintf("%s (%s)", b.Label, b.AppId), "version", fmt.Sprintf("%s (code %d)", b.VersionName, b.VersionCode),
		"Android", needs+", made for "+made, "code for", runs, "asks for", strings.Join(short(b.Permissions), ", "),
		"debuggable", debug, "size", bytesText(b.Size), "SHA-256", b.Sha256, "file", b.Filename)
	for _, f := range deref(b.Findings) {
		fmt.Fprintln(a.out, findingText(f))
	}
}

// short leaves out what all permissions of the system begin with.
func short(ps []string) []string {
	var out []string
	for _, p := range ps {
		out = append(out, strings.TrimPrefix(p, "android.permission."))
	}
	return out
}

func (a *app) buildList(ctx context.Context, limit int) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.ListBuildsWithResponse(ctx, &api.ListBuildsParams{Limit: &limit})
	if err != nil || r.JSON200 == nil {
		return a.problem("list the builds", err, status(r), problemOf(r), bodyOf(r))
	}
	return a.show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.out, "No builds yet. Upload one with: tessellant build add FILE")
			return
		}
		t := newTable(a.out, "reference", "app", "version", "Android", "size", "added")
		for _, b := range r.JSON200.Items {
			t.AppendRow(table.Row{b.Ref, b.Label, b.VersionName, fmt.Sprintf("API %d+", b.MinApi), bytesText(b.Size), ago(b.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

// more says that a list went on.
func (a *app) more(next *string) {
	if next != nil {
		fmt.Fprintln(a.err, "There are more; raise --limit to see them.")
	}
}

func (a *app) buildShow(ctx context.Context, ref, icon string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.GetBuildWithResponse(ctx, ref)
	if err != nil || r.JSON200 == nil {
		return a.problem("show the build", err, status(r), problemOf(r), bodyOf(r))
	}
	if icon != "" {
		p, err := client.GetBuildIconWithResponse(ctx, r.JSON200.Id)
		if err != nil || p.StatusCode() != http.StatusOK {
			return a.problem("fetch the icon", err, status(p), problemOf(p), bodyOf(p))
		}
		if err := os.WriteFile(icon, p.Body, 0o644); err != nil {
			return fmt.Errorf("could not write the icon: %w", err)
		}
	}
	return a.show(r.JSON200, func() { a.buildFacts(r.JSON200) })
}
