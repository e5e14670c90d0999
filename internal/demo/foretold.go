package demo

// What is foretold of the demo's runs, and how what came out is held against it.

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"tessellant/api"
	"tessellant/internal/cli"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

// foretold is how the demo's runs must come out, by version of the app.
type foretold map[string]foretoldRun

// foretoldRun is what a run says, and how its legs come out: by serial. Devices that are not named pass.
type foretoldRun struct {
	Says []foretoldFamily       `yaml:"says"`
	Gone []foretoldFamily       `yaml:"gone"`
	Here []foretoldRemark       `yaml:"missing"` // controls that are not on the screen, though others show them
	Legs map[string]foretoldLeg `yaml:",inline"`
}

// foretoldFamily is a family of failures; those of a run in their order.
type foretoldFamily struct {
	Kind  verdict.Verdict `yaml:"kind"`
	Cases []string        `yaml:"cases"`
	On    string          `yaml:"on"`    // which devices; empty: nothing sets them apart
	Also  []string        `yaml:"also"`  // which other words are as true of them
	Now   string          `yaml:"now"`   // new, still; of those that are gone mended
	Since string          `yaml:"since"` // a version
}

// foretoldRemark is something that is wrong with screens, though no test asks for it.
type foretoldRemark struct {
	What string   `yaml:"what"`
	On   []string `yaml:"on"` // devices, with the variant behind a slash
}

type foretoldLeg struct {
	Verdict verdict.Verdict            `yaml:"verdict"`
	Cases   map[string]verdict.Verdict `yaml:"cases"` // those that do not pass
}

// everywhere names what comes out alike on all devices.
const everywhere = "everywhere"

// of is what is foretold for a device, under the conditions of a variant: that of both, else of the device.
func (f foretold) of(label, serial, variant string) foretoldLeg {
	leg, known := f[label].Legs[serial+"/"+variant]
	if !known {
		leg = f[label].Legs[serial]
	}
	if leg.Verdict == "" {
		leg.Verdict = verdict.Passed
	}
	cases := maps.Clone(f[label].Legs[everywhere].Cases)
	if cases == nil {
		cases = map[string]verdict.Verdict{}
	}
	maps.Copy(cases, leg.Cases)
	leg.Cases = cases
	return leg
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

// compare fetches the evidence of the runs, and holds it against what was foretold.
func (d *demo) compare(ctx context.Context, want foretold, runs []demoRun, evidence string, phones []string) error {
	var wrong []string
	for _, r := range runs {
		v := r.label
		run, err := d.run(ctx, r.id)
		if err != nil {
			return err
		}
		fmt.Fprintf(d.Out, "\nEvidence of %s:\n", v)
		seen := map[string]bool{}
		for _, l := range run.Legs {
			variant := cli.Deref(l.Variant)
			name := strings.TrimSuffix(l.Serial+"/"+variant, "/")
			seen[l.Serial], seen[name] = true, true
			dir := filepath.Join(evidence, v, filepath.FromSlash(name))
			if err := os.RemoveAll(dir); err != nil {
				return err
			}
			fmt.Fprintf(d.Out, "  %s: ", name)
			if err := d.silently(ctx, d.Out, nil, "leg", "fetch", l.Id, dir); err != nil {
				return err
			}
			leg, err := d.leg(ctx, l.Id)
			if err != nil {
				return err
			}
			expect := want.of(v, l.Serial, variant)
			for _, w := range differences(name, expect, leg, dir) {
				wrong = append(wrong, v+" on "+w)
			}
		}
		for serial := range want[v].Legs {
			if !seen[serial] && serial != everywhere && (len(phones) == 0 || slices.Contains(phones, strings.Split(serial, "/")[0])) {
				wrong = append(wrong, v+" on "+serial+": took no part")
			}
		}
		if len(phones) > 0 {
			continue // on other devices other rules are as true
		}
		says, err := d.answer(ctx, r.id)
		if err != nil {
			return err
		}
		for _, w := range misread(want[v], says) {
			wrong = append(wrong, v+" says: "+w)
		}
		remarks, err := d.remarked(ctx, r.id, want[v])
		if err != nil {
			return err
		}
		for _, w := range remarks {
			wrong = append(wrong, v+": "+w)
		}
	}
	if len(wrong) > 0 {
		sort.Strings(wrong)
		return &cli.Exit{Code: verdict.ExitAppFailed, Err: fmt.Errorf("\nThis is not how it should have come out:\n  %s", strings.Join(wrong, "\n  "))}
	}
	fmt.Fprintln(d.Out, "\nEvery result is as demo/foretold.yaml says, failures included.")
	return nil
}

// answer is what a run says.
func (d *demo) answer(ctx context.Context, id string) (*api.Answer, error) {
	client, err := d.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetRunAnswerWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, d.Failed("find out what the run says", err, r)
	}
	return r.JSON200, nil
}

// remarked says how the remarks on a run's screens differ from what was foretold: those on controls that are missing.
func (d *demo) remarked(ctx context.Context, id string, want foretoldRun) ([]string, error) {
	client, err := d.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetRemarksWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, d.Failed("find the remarks", err, r)
	}
	var got []foretoldRemark
	for _, f := range r.JSON200.Families {
		if f.Kind == api.RemarkMissing {
			got = append(got, foretoldRemark{f.What, slices.Sorted(slices.Values(f.Devices))})
		}
	}
	if fmt.Sprint(got) != fmt.Sprint(want.Here) {
		return []string{fmt.Sprintf("what is missing on screens is %v, not %v", got, want.Here)}, nil
	}
	return nil, nil
}

// misread says how what a run says differs from what was foretold.
func misread(want foretoldRun, says *api.Answer) (wrong []string) {
	var got, gone []foretoldFamily
	for _, f := range says.Families {
		x := foretoldFamily{Kind: verdict.Verdict(f.Kind), Cases: f.Cases, Now: string(cli.Deref(f.Standing))}
		if f.Rule != nil {
			x.On, x.Also = f.Rule.Phrase, f.Rule.Also
		}
		if f.FirstBad != nil {
			x.Since = f.FirstBad.Version
		}
		got = append(got, x)
	}
	for _, g := range says.Gone {
		gone = append(gone, foretoldFamily{Kind: verdict.Verdict(g.Kind), Cases: g.Cases, Now: string(g.Standing)})
	}
	for _, x := range []struct {
		what      string
		got, want []foretoldFamily
	}{{"families", got, want.Says}, {"what is gone", gone, want.Gone}} {
		if !slices.EqualFunc(x.got, x.want, func(a, b foretoldFamily) bool { return fmt.Sprint(a) == fmt.Sprint(b) }) {
			wrong = append(wrong, fmt.Sprintf("%s are %v, not %v", x.what, x.got, x.want))
		}
	}
	return wrong
}

// differences says how a leg differs from what was foretold, and what evidence it lacks.
func differences(serial string, want foretoldLeg, leg *api.Leg, dir string) []string {
	var wrong []string
	add := func(format string, args ...any) { wrong = append(wrong, serial+": "+fmt.Sprintf(format, args...)) }
	if got := string(cli.Deref(leg.Verdict)); got != string(want.Verdict) {
		add("the verdict is %s, not %s (%s)", got, want.Verdict, cli.Deref(leg.Message))
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
		if got := string(cli.Deref(c.Verdict)); got != string(expect) {
			add("%s %s, not %s (%s)", c.Name, got, expect, cli.Deref(c.Message))
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
		if expect == verdict.Crashed && !strings.Contains(cli.Deref(c.Trace), "\n") {
			add("%s has no stack trace", c.Name)
		}
	}
	for name := range want.Cases {
		if !known[name] {
			add("there is no case %s", name)
		}
	}
	files := []string{"leg.json", "timeline.jsonl", "video.mp4"}
	if leg.Device.Platform != devices.Web { // a browser gives no log
		files = append(files, "device.log")
	}
	for _, name := range files {
		if st, err := os.Stat(filepath.Join(dir, name)); err != nil || st.Size() == 0 {
			add("%s is missing or empty", name)
		}
	}
	return wrong
}
