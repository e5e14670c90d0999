package demo

import (
	"context"
	"crypto/x509"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/browserbox"
	"tessellant/internal/cli"
	"tessellant/internal/core/verdict"
	"tessellant/internal/house"
	"tessellant/internal/proxy"
	"tessellant/internal/service/access"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/phone"
)

func (d *demo) exampleCmd() *cobra.Command {
	var dir, builds, data, temper, evidence string
	var phones []string
	cmd := &cobra.Command{Use: "example", Short: "Do the main job once, on simulated phones", Args: cli.Nothing,
		Long: `Do the main job once on simulated phones: start a service with the demo's phones behind a real adb server, upload
Kelpline and its test package, run it, and fetch the evidence. Then run the suites in other languages, over WebDriver
and as packages. Exit code 0 if every result is as demo/foretold.yaml says, failures included; 1 if not, with the differences.`,
		Example: "  make example\n  tessellant example --temper instant --evidence .data/evidence\n  tessellant example --temper awkward --phones orr-01,orr-02,orr-03,orr-05,fen-01,fen-02",
		RunE: func(c *cobra.Command, _ []string) error {
			return d.example(c.Context(), dir, builds, data, temper, evidence, phones)
		}}
	f := cmd.Flags()
	f.StringVar(&dir, "demo", "demo", "folder with fleet.yaml, foretold.yaml and shore-suite")
	f.StringVar(&builds, "builds", "build", "folder with Kelpline's builds; make build makes them")
	f.StringVar(&data, "data", ".data/example", "data folder of the service")
	f.StringVar(&temper, "temper", "real", temperHelp)
	f.StringSliceVar(&phones, "phones", nil, phonesHelp)
	f.StringVar(&evidence, "evidence", ".data/evidence", "folder for the evidence, with one folder per device")
	return cmd
}

func (d *demo) example(ctx context.Context, dir, builds, data, temper, evidence string, phones []string) error {
	want, err := readForetold(dir)
	if err != nil {
		return err
	}
	h, err := d.startDemo(ctx, demoConfig{Dir: dir, Data: data, Listen: "127.0.0.1:0", Temper: temper, Phones: phones})
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(d.Out, "The service is up at %s after %s, with %d simulated phones.\n", h.URL, cli.TookText(h.took), h.phones)
	runs, err := d.mainJob(ctx, h, dir, builds)
	if err != nil {
		return err
	}
	return d.compare(ctx, want, runs, evidence, phones)
}

// demoConfig says how the demo's service is started.
type demoConfig struct {
	Dir    string // with fleet.yaml
	Data   string
	Listen string
	Temper string   // of the phones
	Phones []string // serials of those that are started; none: all
	Loose  bool     // cables drop, where the fleet says so
}

// demoHouse is a service with the demo's phones.
type demoHouse struct {
	*house.House
	data   string
	phones int
	chosen []string      // serials; none: all
	took   time.Duration // to start
}

// startDemo starts the demo's backend, its phones and a service that sees them. The service's log
// goes to service.log in the data folder, and its key is kept there.
func (d *demo) startDemo(ctx context.Context, c demoConfig) (h *demoHouse, err error) {
	start := time.Now()
	var started []func() // outlives the service
	defer func() {
		if err != nil {
			for _, f := range started {
				f()
			}
		}
	}()
	traits, err := phone.ReadFleetFile(filepath.Join(c.Dir, "fleet.yaml"), c.Loose)
	if err != nil {
		return nil, err
	}
	if traits, err = chosen(traits, c.Phones); err != nil {
		return nil, err
	}
	back, err := backend.Start("127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	started = append(started, back.Close)
	if err := os.MkdirAll(filepath.Join(c.Data, "host"), 0o700); err != nil {
		return nil, err
	}
	logFile, err := os.OpenFile(filepath.Join(c.Data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	started = append(started, func() { _ = logFile.Close() })
	log, err := house.Logger(logFile, "info", "text")
	if err != nil {
		return nil, err
	}
	key, err := keptKey(filepath.Join(c.Data, "key"))
	if err != nil {
		return nil, err
	}
	hc := house.Config{ADB: "own", HostName: "bench-1", Version: cli.Version, Listen: c.Listen, Data: c.Data, Workspace: "demo", FirstKey: key, Log: log}
	hc.Names, hc.Roots = back.Network(), x509.NewCertPool()
	hc.Roots.AddCert(back.Certificate)
	authority, err := proxy.OpenAuthority(filepath.Join(c.Data, "host"))
	if err != nil {
		return nil, err
	}
	for _, t := range traits {
		t.Temper = phone.Temper(c.Temper)
		t.Network, t.System, t.Browser = back.Network(), back.Certificate, browserbox.Browser
		p, err := phone.Start(t, "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		if t.Trusts {
			p.Trust(authority.Certificate)
		}
		started = append(started, p.Close)
		hc.Connect = append(hc.Connect, p.Address())
	}
	others := 0
	if len(c.Phones) == 0 {
		labs, stop, err := startCloud(ctx, c, back)
		if err != nil {
			return nil, err
		}
		started = append(started, stop)
		hc.Labs, others = labs, lent
	}
	inner, err := house.Start(ctx, hc)
	if err != nil {
		return nil, &cli.Exit{Code: verdict.ExitUnreachable, Err: fmt.Errorf("could not start the service: %w", err)}
	}
	inner.Outlived(started)
	d.URL, d.Key = inner.URL, key
	return &demoHouse{inner, c.Data, len(traits) + others, c.Phones, time.Since(start)}, nil
}

const (
	temperHelp = "how the phones behave: instant, real, stubborn or awkward"
	phonesHelp = "serials of the phones to start; default: all. The suites in other languages need orr-01 and orr-02"
)

// chosen keeps the phones with these serials; all, when there are none.
func chosen(fleet []phone.Traits, serials []string) (out []phone.Traits, err error) {
	if len(serials) == 0 {
		return fleet, nil
	}
	for _, s := range serials {
		i := slices.IndexFunc(fleet, func(t phone.Traits) bool { return t.Serial == s })
		if i < 0 {
			return nil, &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf("the fleet has no phone %s; see fleet.yaml", s)}
		}
		out = append(out, fleet[i])
	}
	for _, s := range suites {
		if !slices.Contains(serials, s.device) {
			return nil, &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf("%s needs %s, too: name it with --phones", s.name, s.device)}
		}
	}
	return out, nil
}

// pool is one of the demo's.
const pool = "most-different"

// versions of Kelpline, in the order in which they came out.
var versions = []string{"1.8.0", "1.9.0"}

// demoRun is a run that the demo started.
type demoRun struct{ label, id string } // by which it is foretold

// mainJob does what people come for, showing each command: devices, upload, run, results; for one version of the
// app, and then for the next; then with suites in other languages, as packages and meanwhile from outside. It answers the runs.
func (d *demo) mainJob(ctx context.Context, h *demoHouse, dir, builds string) ([]demoRun, error) {
	if err := d.phonesReady(ctx, h.phones); err != nil {
		return nil, err
	}
	if err := d.types(ctx, "", nil, "device", "list"); err != nil {
		return nil, err
	}
	if err := d.types(ctx, "", nil, "package", "add", filepath.Join(dir, "shore-suite")); err != nil {
		return nil, err
	}
	if err := os.Setenv(codeVariable, backend.Code); err != nil {
		return nil, err
	}
	if err := d.types(ctx, "", nil, "pool", "add", pool, "--differ", "8", "--where", here, "--where", android); err != nil {
		return nil, err
	}
	var runs, beside []demoRun
	for _, v := range versions {
		if err := d.types(ctx, "", nil, "build", "add", filepath.Join(builds, "kelpline-"+v+".apk")); err != nil {
			return nil, err
		}
		start := []string{"run", "start", "--build", "kelpline/android@v" + v, "--package", "shore-suite@newest", "--confirm", "1", "--secret-from-env", "observer-code=" + codeVariable, "--watch"}
		if v == versions[0] {
			if len(h.chosen) == 0 { // these go on beside the next
				both, err := d.onBothPlatforms(ctx, builds)
				if err != nil {
					return nil, err
				}
				page, err := d.onAPage(ctx, dir)
				if err != nil {
					return nil, err
				}
				beside = append(beside, both, page)
			}
			start = append(start, "--case", "survey.test_total*", "--case", "survey.test_send*", "--case", "survey.test_draft_survives_turning", "--case", "tides.test_tide_chart", "--pool", pool, "--variant", "as-it-is", "--variant", "de=language:de", "--variant", "large=display-size:1.15", "--name", "variants")
		}
		if v == versions[1] {
			start = append(start, "--where", here, "--where", android)
		}
		if err := d.types(ctx, codeVariable+"="+backend.Code+" ", appFailed, start...); err != nil {
			return nil, err
		}
		run, err := d.run(ctx, "newest")
		if err != nil {
			return nil, err
		}
		runs = append(runs, demoRun{v, run.Id})
	}
	runs = append(runs, beside...)
	more, err := d.asPackages(ctx, dir, h.chosen)
	if err != nil {
		return nil, err
	}
	if err := d.fromOutside(ctx, h, dir); err != nil {
		return nil, err
	}
	return append(runs, more...), d.toTheirEnd(ctx, append(more, beside...))
}

const (
	// here, android are the devices at the adb server.
	here, android = "origin!=cloud", "platform=android"
	// lent are those of demo/cloud.yaml, and the browsers of demo/labs.yaml.
	lent = 8 + 3
	// bothPlatforms is by what the run on both is foretold.
	bothPlatforms = "1.8.0 on both platforms"
)

// onBothPlatforms starts a run of one package on phones at the adb server and on Android and iOS phones of the cloud, each with its own build.
func (d *demo) onBothPlatforms(ctx context.Context, builds string) (r demoRun, err error) {
	if err := d.types(ctx, "", nil, "lab", "list"); err != nil {
		return r, err
	}
	version := versions[0]
	if err := d.types(ctx, "", nil, "build", "add", filepath.Join(builds, "kelpline-"+version+".ipa")); err != nil {
		return r, err
	}
	if err := d.types(ctx, codeVariable+"="+backend.Code+" ", nil, "run", "start", "--build", "kelpline/android@v"+version, "--other-build", "kelpline/ios@v"+version, "--package", "shore-suite@newest",
		"--case", "survey.test_total*", "--case", "survey.test_send*", "--where", "serial=/^her|^orr-0[13]/", "--confirm", "1", "--secret-from-env", "observer-code="+codeVariable, "--name", "both platforms"); err != nil {
		return r, err
	}
	run, err := d.run(ctx, "newest")
	if err != nil {
		return r, err
	}
	return demoRun{bothPlatforms, run.Id}, nil
}

// tides is by what the run on the page is foretold.
const tides = "the page of tides"

// onAPage starts a run on a page, in browsers of three sizes.
func (d *demo) onAPage(ctx context.Context, dir string) (r demoRun, err error) {
	for _, line := range [][]string{
		{"build", "add", "http://" + backend.Tides + "/", "--name", "tides", "--version", "14"},
		{"package", "add", filepath.Join(dir, "tide-page")},
		{"run", "start", "--build", "tides/web@newest", "--package", "tide-page@newest", "--where", "platform=web", "--name", "page of tides"},
	} {
		if err := d.types(ctx, "", nil, line...); err != nil {
			return r, err
		}
	}
	run, err := d.run(ctx, "newest")
	if err != nil {
		return r, err
	}
	return demoRun{tides, run.Id}, nil
}

// codeVariable is where the observer's code is while the demo types.
const codeVariable = "KELPLINE_CODE"

func (d *demo) run(ctx context.Context, id string) (*api.Run, error) {
	client, err := d.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetRunWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, d.Failed("show the run", err, r)
	}
	return r.JSON200, nil
}

// keptKey reads the key of an earlier start from a file, or makes one there.
func keptKey(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(raw)), nil
	}
	key := access.NewKey()
	return key, os.WriteFile(path, []byte(key+"\n"), 0o600)
}

// phonesReady waits until all phones are free.
func (d *demo) phonesReady(ctx context.Context, n int) error {
	client, err := d.Client()
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(60 * time.Second); ; {
		r, err := client.ListDevicesWithResponse(ctx, &api.ListDevicesParams{})
		if err == nil && r.JSON200 != nil {
			free := 0
			for _, d := range r.JSON200.Items {
				if d.State == "free" {
					free++
				}
			}
			if free >= n {
				return nil
			}
		}
		if time.Now().After(deadline) {
			return &cli.Exit{Code: verdict.ExitUnreachable, Err: fmt.Errorf("not all %d phones came up within a minute", n)}
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (d *demo) leg(ctx context.Context, id string) (*api.Leg, error) {
	client, err := d.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetLegWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, d.Failed("show the leg", err, r)
	}
	return r.JSON200, nil
}
