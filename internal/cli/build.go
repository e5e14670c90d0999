package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"tessellant/api"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/verdict"
)

func (a *App) buildCmd() *cobra.Command {
	var page appfile.Page
	add := &cobra.Command{Use: "add FILE|ADDRESS", Short: "Upload a build, or add a page", Args: Exactly(1),
		Long: `Upload a build: an APK or an IPA. The service reads it at once and shows what it found. It refuses a file that is not a build.
If you upload the same file again, you get the same build.

With the address of a page, the page stands in place of an app: it is tested in the browsers of devices. --version says which state of it that is.`,
		Example: "  tessellant build add kelpline-1.8.0.apk\n  tessellant build add kelpline-1.9.0.ipa\n  tessellant build add https://tides.kelpline.example/ --name tides --version 14",
		RunE: func(c *cobra.Command, args []string) error {
			if !appfile.IsAddress(args[0]) {
				if page.Name+page.Version != "" {
					return usage(c, "--name and --version are for pages; a file says them itself")
				}
				return a.buildAdd(c.Context(), args[0])
			}
			if page.Address = args[0]; page.Name == "" || page.Version == "" {
				return usage(c, "a page needs --name and --version")
			}
			if err := page.Check(); err != nil {
				return usage(c, err.Error())
			}
			return a.upload(c.Context(), page.Name+".webmanifest", bytes.NewReader(page.JSON()), int64(len(page.JSON())))
		}}
	add.Flags().StringVar(&page.Name, "name", "", "of a page: what it is called")
	add.Flags().StringVar(&page.Version, "version", "", "of a page: which state of it this is, such as the number of what was deployed")
	var limit int
	var with []string
	list := &cobra.Command{Use: "list", Short: "List builds, the newest first", Args: Nothing, Example: "  tessellant build list\n  tessellant build list --label branch=main",
		RunE: func(c *cobra.Command, _ []string) error { return a.buildList(c.Context(), limit, with) }}
	list.Flags().StringArrayVar(&with, "label", nil, "only builds with this label, such as branch=main; repeat for more, which must all match")
	list.Flags().IntVar(&limit, "limit", 50, "how many to list, 1 to 200")
	var icon string
	show := &cobra.Command{Use: "show REF", Short: "Show what is in a build", Args: Exactly(1),
		Long:    "Show what is in a build. REF is an id, or an app and a version:\nkelpline/android@231 (version code), @v1.8.0 (version name), @newest.",
		Example: "  tessellant build show kelpline/android@newest\n  tessellant build show kelpline/android@231 --icon kelpline.png",
		RunE:    func(c *cobra.Command, args []string) error { return a.buildShow(c.Context(), args[0], icon) }}
	show.Flags().StringVar(&icon, "icon", "", "write the app's icon to this file")
	check := &cobra.Command{Use: "check FILE", Short: "Inspect a local build file without uploading it", Args: Exactly(1),
		Long:    "Inspect a local build file without uploading it. Exit code 3 if it is not a build.",
		Example: "  tessellant build check kelpline-1.8.0.apk",
		RunE:    func(_ *cobra.Command, args []string) error { return a.buildCheck(args[0]) }}
	return group("build", "Upload, inspect and list app builds", add, check, list, show, a.labelCmd("build", "BUILD", "kelpline/android@newest", a.labelBuild))
}

func (a *App) buildAdd(ctx context.Context, path string) error {
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
		return fmt.Errorf("%s is a folder; give the file of the build", path)
	}
	return a.upload(ctx, filepath.Base(path), f, st.Size())
}

// upload sends the file of a build.
func (a *App) upload(ctx context.Context, name string, f io.Reader, size int64) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	body, done := a.progress("uploading "+name, f, size)
	r, err := client.AddBuildWithBodyWithResponse(ctx, &api.AddBuildParams{Filename: &name}, "application/octet-stream", body, withLength(size))
	done()
	b := r2(r, func() (*api.Build, *api.Build) { return r.JSON201, r.JSON200 })
	if err != nil || b == nil {
		return a.Failed("add the build "+name, err, r)
	}
	return a.Show(b, func() {
		if r.JSON200 != nil {
			fmt.Fprintf(a.Out, "This file was here already, as %s.\n", b.Ref)
		} else {
			fmt.Fprintf(a.Out, "Added %s.\n", b.Ref)
		}
		a.buildFacts(b)
	})
}

func (a *App) buildCheck(path string) error {
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
		return &Exit{verdict.ExitNothingSaid, fmt.Errorf("%s is not a build: %s\n  what to do: %s", path, refusal.Why, refusal.Remedy)}
	}
	if err != nil {
		return err
	}
	if x.IOS != nil {
		x.Findings = append(x.Findings, x.IOS.Outdated(time.Now())...)
	}
	return a.Show(x, func() {
		b := api.Build{AppId: x.AppID, Label: x.Label, VersionName: x.VersionName, VersionCode: x.VersionCode, MinApi: x.MinAPI, TargetApi: x.TargetAPI,
			Permissions: x.Permissions, Abis: x.ABIs, Size: st.Size(), Filename: filepath.Base(path), Debuggable: x.Debuggable, MinCode: &x.MinCode, TargetCode: &x.TargetCode, Findings: api.BuildFindings(x.Findings), Ios: api.IOSOf(x.IOS)}
		if x.Page != "" {
			b.Page = &x.Page
		}
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
func (a *App) progress(what string, r io.Reader, size int64) (io.Reader, func()) {
	if _, ok := terminal(a.Err); !ok || a.JSON {
		return io.NopCloser(r), func() {}
	}
	p := mpb.New(mpb.WithOutput(a.Err), mpb.WithWidth(40))
	bar := p.New(size, mpb.BarStyle().Lbound(" ").Filler("▪").Tip("▪").Padding("·").Rbound(" "), mpb.PrependDecorators(decor.Name(what)),
		mpb.AppendDecorators(decor.CountersKiloByte("% .1f of % .1f"), decor.Percentage(decor.WCSyncSpace)), mpb.BarRemoveOnComplete())
	return bar.ProxyReader(r), func() {
		bar.Abort(true) // no-op when it is complete
		p.Wait()
	}
}

func (a *App) buildFacts(b *api.Build) {
	runs := "all processor kinds"
	if len(b.Abis) > 0 {
		runs = strings.Join(b.Abis, ", ")
	}
	debug := ""
	if b.Debuggable {
		debug = "yes"
	}
	switch {
	case b.Ios != nil:
		a.iosFacts(b)
		return
	case b.Page != nil:
		facts(a.Out, "reference", b.Ref, "id", b.Id, "page", b.Label, "address", *b.Page, "version", b.VersionName, "runs in", "browsers of devices: --where platform=web")
		a.buildFindings(b)
		return
	}
	needs, made := fmt.Sprintf("API level %d or later", b.MinApi), fmt.Sprint(b.TargetApi)
	if c := Deref(b.MinCode); c != "" {
		needs = "the unreleased " + c
	}
	if c := Deref(b.TargetCode); c != "" {
		made = "the unreleased " + c
	}
	facts(a.Out, "reference", b.Ref, "id", b.Id, "app", fmt.Sprintf("%s (%s)", b.Label, b.AppId), "version", fmt.Sprintf("%s (code %d)", b.VersionName, b.VersionCode),
		"Android", needs+", made for "+made, "code for", runs, "asks for", strings.Join(short(b.Permissions), ", "),
		"debuggable", debug, "size", BytesText(b.Size), "SHA-256", b.Sha256, "file", b.Filename)
	a.buildFindings(b)
}

func (a *App) buildFindings(b *api.Build) {
	for _, f := range Deref(b.Findings) {
		fmt.Fprintln(a.Out, findingText(f))
	}
}

// iosFacts shows a build for iOS.
func (a *App) iosFacts(b *api.Build) {
	x := b.Ios
	var profile, lets, signer string
	if p := x.Profile; p != nil {
		profile = fmt.Sprintf("%s, of %s; %s, good until %s", p.Name, p.Team, p.Kind, p.Expires.Format(time.DateOnly))
		lets = map[api.ProvisioningProfileKind]string{"enterprise": "every device", "store": "no device"}[p.Kind]
		if lets == "" {
			lets = "its " + Plural(len(Deref(p.Devices)), "device")
		}
	}
	if s := x.Signer; s != nil {
		signer = fmt.Sprintf("%s, good until %s", s.Name, s.Expires.Format(time.DateOnly))
	}
	facts(a.Out, "reference", b.Ref, "id", b.Id, "app", fmt.Sprintf("%s (%s)", b.Label, b.AppId), "version", fmt.Sprintf("%s (%s)", b.VersionName, x.Version),
		"iOS", x.MinOs+" or later, for "+strings.Join(x.Families, "s and ")+"s", "profile", profile, "installs on", lets, "signed by", signer, "asks for", strings.Join(b.Permissions, ", "),
		"size", BytesText(b.Size), "SHA-256", b.Sha256, "file", b.Filename)
	a.buildFindings(b)
}

// runsOn is the lowest system that a build runs on.
func runsOn(b api.Build) string {
	if b.Ios != nil {
		return "iOS " + b.Ios.MinOs + "+"
	}
	if b.Page != nil {
		return "browsers"
	}
	return fmt.Sprintf("Android API %d+", b.MinApi)
}

// short leaves out what all permissions of the system begin with.
func short(ps []string) []string {
	var out []string
	for _, p := range ps {
		out = append(out, strings.TrimPrefix(p, "android.permission."))
	}
	return out
}

func (a *App) buildList(ctx context.Context, limit int, with []string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.ListBuildsWithResponse(ctx, &api.ListBuildsParams{Limit: &limit, Label: listed(with)})
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the builds", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "No builds yet. Upload one with: tessellant build add FILE")
			return
		}
		t := NewTable(a.Out, "reference", "app", "version", "runs on", "size", "added")
		for _, b := range r.JSON200.Items {
			t.AppendRow(table.Row{b.Ref, b.Label, b.VersionName, runsOn(b), BytesText(b.Size), ago(b.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

// more says that a list went on.
func (a *App) more(next *string) {
	if next != nil {
		fmt.Fprintln(a.Err, "There are more; raise --limit to see them.")
	}
}

func (a *App) buildShow(ctx context.Context, ref, icon string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetBuildWithResponse(ctx, ref)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the build", err, r)
	}
	if icon != "" {
		p, err := client.GetBuildIconWithResponse(ctx, r.JSON200.Id)
		if err != nil || p.StatusCode() != http.StatusOK {
			return a.Failed("fetch the icon", err, p)
		}
		if err := os.WriteFile(icon, p.Body, 0o644); err != nil {
			return fmt.Errorf("could not write the icon: %w", err)
		}
	}
	return a.Show(r.JSON200, func() { a.buildFacts(r.JSON200) })
}
