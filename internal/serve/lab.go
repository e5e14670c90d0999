package serve

// Trying a lab of a lab file for real: one session, opened on this machine.

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tessellant/internal/cli"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/verdict"
	"tessellant/internal/house"
	"tessellant/internal/lab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/phone"
)

// tried is one thing that was tried.
type tried struct {
	What   string `json:"what"`
	Good   bool   `json:"good"`
	Found  string `json:"found"`
	TookMS int64  `json:"took_ms"`
}

// labTryCmd makes of the client's lab command one that can try a lab, too.
func labTryCmd(a *cli.App, cmd *cobra.Command) {
	var name, device, build string
	try := &cobra.Command{Use: "try FILE", Short: "Open one session at a lab of a lab file", Args: cli.Exactly(1),
		Long: `Open one session at a lab as a host would, look at its screen, and end it. Run it on the machine of the host, with the same variables: the secrets of the
lab file are read from there. No service is needed. With --build, the build is brought to the lab and started.
Exit code 0 if all went well, 4 if not.`,
		Example: "  HERON_KEY=… tessellant lab try labs.yaml --lab heron\n  HERON_KEY=… tessellant lab try labs.yaml --lab heron --device her-05 --build app.ipa",
		RunE: func(c *cobra.Command, args []string) error {
			return labTry(c.Context(), a, args[0], name, device, build)
		}}
	f := try.Flags()
	f.StringVar(&name, "lab", "", "the lab; default: the only one whose devices are lent")
	f.StringVar(&device, "device", "", "the device by its serial; default: the first that is free")
	f.StringVar(&build, "build", "", "file of a build: an APK or an IPA")
	cmd.AddCommand(try)
}

func labTry(ctx context.Context, a *cli.App, path, name, device, build string) error {
	file, err := house.ReadLabs(path)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUsage, Err: err}
	}
	l, err := theLab(file, name)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUsage, Err: err}
	}
	dir, err := os.MkdirTemp("", "lab-try-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	log, err := house.Logger(io.Discard, "error", "text")
	if err != nil {
		return err
	}
	made, err := wdlab.New(wdlab.Config{Lab: l, Folder: filepath.Dir(path), Dir: dir, Log: log})
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUsage, Err: err}
	}
	want := lab.Want{Name: "lab try"}
	if build != "" {
		if want.App, err = appOf(build); err != nil {
			return &cli.Exit{Code: verdict.ExitUsage, Err: err}
		}
		want.SHA256 = build
	}
	var all []tried
	bad := false
	step := func(what string, do func() (string, error)) bool {
		start := time.Now()
		found, err := do()
		x := tried{what, err == nil, found, time.Since(start).Milliseconds()}
		if err != nil {
			x.Found, bad = err.Error(), true
		}
		all = append(all, x)
		if !a.JSON {
			fmt.Fprintf(a.Out, "%-4s %-28s %7s  %s\n", map[bool]string{true: "ok", false: "no"}[x.Good], what, cli.TookText(time.Since(start)), x.Found)
		}
		return err == nil
	}
	tryOut(ctx, made, device, want, step)
	if a.JSON {
		if err := a.Show(map[string]any{"lab": l.Name, "steps": all}, nil); err != nil {
			return err
		}
	}
	if bad {
		return &cli.Exit{Code: verdict.ExitUnreachable, Err: fmt.Errorf("the lab %s can't be used like this", l.Name)}
	}
	return nil
}

// tryOut borrows a device, looks at it and gives it back.
func tryOut(ctx context.Context, made *wdlab.Lab, device string, want lab.Want, step func(string, func() (string, error)) bool) {
	if !step("the lab lists its devices", func() (string, error) {
		if err := made.Ask(ctx); err != nil {
			return "", err
		}
		about := made.About()
		return cli.Plural(about.Devices, "device"), nil
	}) {
		return
	}
	var unit *lab.Unit
	if !step("a device is there", func() (s string, err error) {
		all, _ := made.Devices(ctx)
		i := slices.IndexFunc(all, func(d lab.Device) bool { return d.Facts.Serial == device || device == "" && d.State == devices.Ready })
		switch {
		case i < 0 && device != "":
			return "", fmt.Errorf("the lab has no device %s", device)
		case i < 0:
			return "", errors.New("none is free now")
		case all[i].State != devices.Ready:
			return "", errors.New(all[i].Why)
		}
		f := all[i].Facts
		unit, err = made.Acquire(f.Serial)
		return fmt.Sprintf("%s: %s %s, %s %s", f.Serial, f.Maker, f.Model, f.Platform, f.OS), err
	}) {
		return
	}
	defer step("the session is ended", func() (string, error) { return "", unit.Loan.End(context.WithoutCancel(ctx)) })
	if !step("a session is opened", func() (string, error) {
		g, err := unit.Loan.Begin(ctx, want, func(string) {})
		return strings.TrimSpace("session " + g.Shown + " " + g.Page), err
	}) {
		return
	}
	step("the tree of its screen", func() (string, error) {
		s, err := unit.Tree(ctx)
		if err != nil {
			return "", err
		}
		return cli.Plural(len(s.All()), "element"), nil
	})
	step("a picture of its screen", func() (string, error) {
		raw, err := unit.Screenshot(ctx)
		return fmt.Sprintf("%d kB", len(raw)>>10), err
	})
	if unit.Clock != nil {
		step("its clock", func() (string, error) {
			t, err := unit.Clock.Now(ctx)
			return t.Format(time.RFC3339), err
		})
	}
	if want.App.ID != "" {
		step("the app is started", func() (string, error) { return want.App.ID, unit.Launch(ctx, want.App) })
	}
}

// theLab finds the lab that is meant.
func theLab(file *labfile.File, name string) (found *labfile.Lab, err error) {
	var names []string
	for _, l := range file.Labs {
		if l.Kind == labfile.ADB {
			continue
		}
		names = append(names, l.Name)
		if l.Name == name || name == "" {
			found = l
		}
	}
	switch {
	case len(names) == 0:
		return nil, errors.New("the lab file has no lab whose devices are lent: those at the adb server are checked with tessellant doctor")
	case found == nil:
		return nil, fmt.Errorf("the lab file has no lab %s; it has %s", name, strings.Join(names, ", "))
	case name == "" && len(names) > 1:
		return nil, fmt.Errorf("say with --lab which is meant: %s", strings.Join(names, ", "))
	}
	return found, nil
}

func appOf(path string) (app phone.App, err error) {
	f, err := os.Open(path)
	if err != nil {
		return app, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return app, err
	}
	facts, err := appfile.Read(f, st.Size())
	if err != nil {
		return app, err
	}
	return phone.App{ID: facts.AppID, Activity: facts.Activity, Page: facts.Page, Size: st.Size(), Open: func() (io.ReadCloser, error) { return os.Open(path) }}, nil
}
