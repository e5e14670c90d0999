package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"tessellant/api"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/access"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/phone"
)

// foretold is how the demo's runs must come out: by version of the app, then by
// serial. Devices that are not named pass.
type foretold map[string]map[string]foretoldLeg

type foretoldLeg struct {
	Verdict verdict.Verdict            `yaml:"verdict"`
	Cases   map[string]verdict.Verdict `yaml:"cases"` // those that do not pass
}

// everywhere names what comes out alike on all devices.
const everywhere = "everywhere"

// of is what is foretold for a device.
func (f foretold) of(label, serial string) foretoldLeg {
	leg := f[label][serial]
	if leg.Verdict == "" {
		leg.Verdict = verdict.Passed
	}
	cases := maps.Clone(f[label][everywhere].Cases)
	if cases == nil {
		cases = map[string]verdict.Verdict{}
	}
	maps.Copy(cases, leg.Cases)
	leg.Cases = cases
	return leg
}

func (a *app) exampleCmd() *cobra.Command {
	var dir, builds, data, temper, evidence string
	var phones []string
	cmd := &cobra.Command{Use: "example", Short: "Do the main job once, on simulated phones", Args: cobra.NoArgs,
		Long: `Do the main job once, on simulated phones: start a service of its own with the demo's
phones behind a real adb server, upload Kelpline and its package, run, and fetch the
evidence; then run the suites in other languages, from outside and as packages. Exit
code 0 when all came out as demo/foretold.yaml says, failures and all; 1 when not, with
the differences.`,
		Example: "  make example\n  tessellant example --temper instant --evidence .data/evidence\n  tessellant example --temper awkward --phones orr-01,orr-02,orr-03,orr-05,fen-01,fen-02",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.example(c.Context(), dir, builds, data, temper, evidence, phones)
		}}
	f := cmd.Flags()
	f.StringVar(&dir, "demo", "demo", "folder with fleet.yaml, foretold.yaml and shore-suite")
	f.StringVar(&builds, "builds", "build", "folder with Kelpline's builds; make build makes them")
	f.StringVar(&data, "data", ".data/example", "data folder of the service")
	f.StringVar(&temper, "temper", "real", temperHelp)
	f.StringSliceVar(&phones, "phones", nil, phonesHelp)
	f.StringVar(&evidence, "evidence", ".data/evidence", "where the evidence is put, a folder for each device")
	return cmd
}

func (a *app) example(ctx context.Context, dir, builds, data, temper, evidence string, phones []string) error {
	want, err := readForetold(dir)
	if err != nil {
		return err
	}
	h, err := a.startDemo(ctx, demoConfig{Dir: dir, Data: data, Listen: "127.0.0.1:0", Temper: temper, Phones: phones})
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(a.out, "The service is up at %s after %s, with %d simulated phones.\n", h.URL, tookText(h.took), h.phones)
	runs, err := a.mainJob(ctx, h, dir, builds)
	if err != nil {
		return err
	}
	return a.compare(ctx, want, runs, evidence, phones)
}

// readForetold reads how the demo's run must come out.
func readForetold(dir string) (want foretold, err error) {
	raw, err := os.ReadFile(filepath.Join(dir, "foretold.yaml"))
	if err != nil {
		return want, fmt.Errorf("the demo's files are not here: %w; run this in the project's folder", err)
	}
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	dec.KnownFields(true)
	if err := dec.Decode(&want); err != nil {
		return want, fmt.Errorf("foretold.yaml: %w", err)
	}
	return want, nil
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
	*house
	data   string
	phones int
	chosen []string      // serials; none: all
	took   time.Duration // to start
}

// startDemo starts the demo's backend, its phones and a service that sees them. The service's log
// goes to service.log in the data folder, and its key is kept there.
func (a *app) startDemo(ctx context.Context, c demoConfig) (h *demoHouse, err error) {
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
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, err
	}
	logFile, err := os.OpenFile(filepath.Join(c.Data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	started = append(started, func() { _ = logFile.Close() })
	log, err := newLogger(logFile, "info", "text")
	if err != nil {
		return nil, err
	}
	key, err := keptKey(filepath.Join(c.Data, "key"))
	if err != nil {
		return nil, err
	}
	hc := houseConfig{ADB: "own", Listen: c.Listen, Data: c.Data, Workspace: "demo", FirstKey: key, Log: log}
	for _, t := range traits {
		t.Temper = phone.Temper(c.Temper)
		t.Network = map[string]string{"tides.kelpline.example": back.Address()}
		p, err := phone.Start(t, "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		started = append(started, p.Close)
		hc.Connect = append(hc.Connect, p.Address())
	}
	inner, err := startHouse(ctx, hc)
	if err != nil {
		return nil, &exit{verdict.ExitUnreachable, fmt.Errorf("could not start the service: %w", err)}
	}
	inner.closers = append(started, inner.closers...)
	a.url, a.key = inner.URL, key
	return &demoHouse{inner, c.Data, len(traits), c.Phones, time.Since(start)}, nil
}

const (
	temperHelp = "how the phones behave: instant, real, stubborn or awkward"
	phonesHelp = "serials of the phones that are started; all unless said. The suites in other languages need orr-01 and orr-02"
)

// chosen keeps the phones with these serials; all, when there are none.
func chosen(fleet []phone.Traits, serials []string) (out []phone.Traits, err error) {
	if len(serials) == 0 {
		return fleet, nil
	}
	for _, s := range serials {
		i := slices.IndexFunc(fleet, func(t phone.Traits) bool { return t.Serial == s })
		if i < 0 {
			return nil, &exit{verdict.ExitNothingSaid, fmt.Errorf("the fleet has no phone %s; see fleet.yaml", s)}
		}
		out = append(out, fleet[i])
	}
	for _, s := range suites {
		if !slices.Contains(serials, s.device) {
			return nil, &exit{verdict.ExitNothingSaid, fmt.Errorf("%s needs %s, too: name it with --phones", s.name, s.device)}
		}
	}
	return out, nil
}

// versions of Kelpline, in the order in which they came out.
var versions = []string{"1.8.0", "1.9.0"}

// demoRun is a run that the demo started.
type demoRun struct{ label, id string } // by which it is foretold

// mainJob does what people come for, showing each command: devices, upload, run, results; for one version of the
// app, and then for the next; then with suites in other languages, as packages and meanwhile from outside. It answers the runs.
func (a *app) mainJob(ctx context.Context, h *demoHouse, dir, builds string) ([]demoRun, error) {
	if err := a.phonesReady(ctx, h.phones); err != nil {
		return nil, err
	}
	say := func(command string) { fmt.Fprintf(a.out, "\n$ %s\n", command) }
	say("tessellant device list")
	if err := a.deviceList(ctx, nil); err != nil {
		return nil, err
	}
	suite := filepath.Join(dir, "shore-suite")
	say("tessellant package add " + suite)
	if err := a.packageAdd(ctx, suite); err != nil {
		return nil, err
	}
	var runs []demoRun
	for _, v := range versions {
		build := filepath.Join(builds, "kelpline-"+v+".apk")
		say("tessellant build add " + build)
		if err := a.buildAdd(ctx, build); err != nil {
			return nil, err
		}
		ref := "kelpline/android@v" + v
		say("KELPLINE_CODE=" + backend.Code + " tessellant run start --build " + ref + " --package shore-suite@newest --confirm 1 --secret-from-env observer-code=KELPLINE_CODE --watch")
		limit, once := 1800, 1
		err := a.runStart(ctx, api.RunRequest{Build: ref, Package: "shore-suite@newest", LimitSeconds: &limit, Confirm: &once, Secrets: &map[string]string{"observer-code": backend.Code}}, true)
		var e *exit
		if err != nil && (!errors.As(err, &e) || e.code != verdict.ExitAppFailed) { // the demo's app has faults
			return nil, err
		}
		run, err := a.getRun(ctx, "newest")
		if err != nil {
			return nil, err
		}
		runs = append(runs, demoRun{v, run.Id})
	}
	more, err := a.asPackages(ctx, dir, h.chosen)
	if err != nil {
		return nil, err
	}
	if err := a.fromOutside(ctx, h, dir); err != nil {
		return nil, err
	}
	return append(runs, more...), a.toTheirEnd(ctx, more)
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
func (a *app) phonesReady(ctx context.Context, n int) error {
	client, err := a.client()
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
			return &exit{verdict.ExitUnreachable, fmt.Errorf("not all %d phones came up within a minute", n)}
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// compare fetches the evidence of the runs, and holds it against what was foretold.
func (a *app) compare(ctx context.Context, want foretold, runs []demoRun, evidence string, phones []string) error {
	var wrong []string
	for _, r := range runs {
		v := r.label
		run, err := a.getRun(ctx, r.id)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "\nEvidence of %s:\n", v)
		seen := map[string]bool{}
		for _, l := range run.Legs {
			seen[l.Serial] = true
			dir := filepath.Join(evidence, v, l.Serial)
			if err := os.RemoveAll(dir); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "  %s: ", l.Serial)
			if err := a.legFetch(ctx, l.Id, dir); err != nil {
				return err
			}
			_, leg, err := a.getLeg(ctx, l.Id)
			if err != nil {
				return err
			}
			expect := want.of(v, l.Serial)
			for _, w := range differences(l.Serial, expect, leg, dir) {
				wrong = append(wrong, v+" on "+w)
			}
		}
		for serial := range want[v] {
			if !seen[serial] && serial != everywhere && (len(phones) == 0 || slices.Contains(phones, serial)) {
				wrong = append(wrong, v+" on "+serial+": took no part")
			}
		}
	}
	if len(wrong) > 0 {
		sort.Strings(wrong)
		return &exit{verdict.ExitAppFailed, fmt.Errorf("\nThis is not how it should have come out:\n  %s", strings.Join(wrong, "\n  "))}
	}
	fmt.Fprintln(a.out, "\nAll came out as demo/foretold.yaml says, failures and all.")
	return nil
}

// differences says how a leg differs from what was foretold, and what evidence it lacks.
func differences(serial string, want foretoldLeg, leg *api.Leg, dir string) []string {
	var wrong []string
	add := func(format string, args ...any) { wrong = append(wrong, serial+": "+fmt.Sprintf(format, args...)) }
	if got := string(deref(leg.Verdict)); got != string(want.Verdict) {
		add("the verdict is %s, not %s (%s)", got, want.Verdict, deref(leg.Message))
	}
	if len(leg.Attempts) == 0 {
		add("there was no attempt")
		return wrong
	}
	at := leg.Attempts[len(leg.Attempts)-1]
	if len(at.Cases) != leg.CasesTotal {
		add("%d of %d cases have a result", len(at.Cases), leg.CasesTotal)
	}
	known := map[string]bool{}
	for _, c := range at.Cases {
		known[c.Name] = true
		expect := want.Cases[c.Name]
		if expect == "" {
			expect = verdict.Passed
		}
		if got := string(deref(c.Verdict)); got != string(expect) {
			add("%s %s, not %s (%s)", c.Name, got, expect, deref(c.Message))
		}
		if expect == verdict.Skipped {
			continue
		}
		if expect != verdict.Passed && c.Shot == nil {
			add("%s has no screen", c.Name)
		}
		if expect != verdict.Passed && expect != verdict.Flaky && c.Tree == nil { // while it waits, the screen moves and has no tree
			add("%s has no tree", c.Name)
		}
		if expect == verdict.Crashed && !strings.Contains(deref(c.Trace), "\n") {
			add("%s has no stack trace", c.Name)
		}
	}
	for name := range want.Cases {
		if !known[name] {
			add("there is no case %s", name)
		}
	}
	for _, name := range []string{"leg.json", "timeline.jsonl", "device.log", "video.mp4"} {
		if st, err := os.Stat(filepath.Join(dir, name)); err != nil || st.Size() == 0 {
			add("%s is missing or empty", name)
		}
	}
	return wrong
}
