package main

// Choosing: filters, the devices that differ most, plans and the dispatcher's round, with 10,000 devices; and setting a phone.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/dispatch"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/work"
	"tessellant/internal/phone/android"
	"tessellant/internal/standin/phone"
)

const catalogue = 10_000 // devices

// made is a made-up catalogue of devices: some models often, many seldom, as in the field.
func made() (out []pools.Device) {
	r := rand.New(rand.NewPCG(16, 8))
	seldom := func(n int) int { return int(float64(n) * r.Float64() * r.Float64() * r.Float64()) }
	for i := range catalogue {
		model := seldom(900)
		maker := []string{"Orrery", "Fennel", "Quillon", "Marrow"}[model%4]
		api := 24 + (model*7+seldom(6))%13
		out = append(out, pools.Device{Ready: true, Free: i%3 > 0, Facts: devices.Facts{Serial: fmt.Sprintf("d-%05d", i), Platform: "android", OS: fmt.Sprint(api - 20), API: api, Maker: maker, Model: fmt.Sprintf("%s %d", maker, model),
			Form: []string{"phone", "phone", "phone", "tablet"}[model%13%4], Origin: []string{"real", "real", "emulated"}[i%3], Width: 640 + model%9*80, Height: 1600, Density: 240 + model%4*40, MemoryMB: 1024 * (2 + model%7*2),
			ABIs: []string{[]string{"arm64-v8a", "arm64-v8a", "x86_64"}[i%3]}, Language: []string{"en", "en", "de", "fr", "pt"}[seldom(5)]}})
	}
	return out
}

// fastest is the median of several rounds.
func fastest(rounds int, f func()) time.Duration {
	var took []time.Duration
	for range rounds {
		start := time.Now()
		f()
		took = append(took, time.Since(start))
	}
	return median(took)
}

func choosing(dir string) error {
	all := made()
	var errs []error
	within := func(what string, bound time.Duration, took time.Duration, format string, args ...any) {
		errs = append(errs, say(what, float64(took)/float64(bound), 1, "median %s; "+format, append([]any{took.Round(10 * time.Microsecond)}, args...)...))
	}
	f, err := devices.ParseFilter([]string{"os>=9", "model=Orrery*", "serial=/[02468]$/"}, nil)
	if err != nil {
		return err
	}
	found := 0
	took := fastest(21, func() {
		found = 0
		for _, d := range all {
			if f.Match(d.Facts) {
				found++
			}
		}
	})
	within("a filter over 10,000 devices ÷ 20 ms", 20*time.Millisecond, took, "three patterns, a glob and a regular expression among them, find %d", found)

	var c pools.Choice
	took = fastest(5, func() { c = pools.Definition{Take: pools.Differ, N: 50}.Choose(all) })
	within("the 50 of 10,000 devices that differ most ÷ 200 ms", 200*time.Millisecond, took, "they cover %.1f %% of what differs", 100*c.Cover.Share)
	r, best := rand.New(rand.NewPCG(1, 1)), 0.0
	for range 1000 {
		var some []string
		for _, i := range r.Perm(len(all))[:50] {
			some = append(some, all[i].Facts.Serial)
		}
		best = max(best, pools.CoverOf(all, nil, some).Share)
	}
	errs = append(errs, say("the best of 1,000 random choices of 50 ÷ those that differ most", best/c.Cover.Share, 1, "%.1f %% against %.1f %% covered", 100*best, 100*c.Cover.Share))
	more := c.Cover.Share // of what exchanging one can still reach
	for out := range c.Serials {
		for range 40 {
			some := slices.Clone(c.Serials)
			some[out] = all[r.IntN(len(all))].Facts.Serial
			more = max(more, pools.CoverOf(all, nil, some).Share)
		}
	}
	errs = append(errs, say("what 2,000 exchanges of one device reach ÷ those that differ most", more/c.Cover.Share, 1/0.95, "%.2f %%", 100*more))

	q := planning.Request{App: appfile.Facts{Platform: "android", MinAPI: 26}, Targets: []planning.Target{{Variants: []conditions.Variant{{Name: "as-it-is"}, {Name: "de", Conditions: conditions.Set{"language": "de"}},
		{Name: "wide", Conditions: conditions.Set{"orientation": "landscape"}}, {Name: "dark", Conditions: conditions.Set{"dark": "on"}}}}}}
	for i := range 500 {
		x := planning.Case{Name: fmt.Sprintf("suite.test_%03d", i)}
		if i%50 == 0 {
			x.Needs = []string{"form=tablet"}
		}
		q.Cases = append(q.Cases, x)
	}
	for i, d := range all {
		q.Devices = append(q.Devices, planning.Device{ID: "id-" + d.Facts.Serial, Facts: d.Facts, Free: d.Free})
		if i%7 == 0 {
			q.Past = append(q.Past, planning.Past{Device: "id-" + d.Facts.Serial, Kind: d.Facts.Kind(), Cases: 500, Took: time.Duration(300+i%200) * time.Second})
		}
	}
	var p planning.Plan
	took = fastest(5, func() { p = planning.Make(q) })
	within("a plan of 10,000 devices × 500 cases × 4 variants ÷ 500 ms", 500*time.Millisecond, took, "%d legs, with their forecast", len(p.Legs))

	var units []dispatch.Unit
	var free []string
	for _, d := range all {
		units = append(units, dispatch.Unit{ID: d.Facts.Serial, Facts: d.Facts, Standing: devices.Standing{Usable: true, Free: true}})
		free = append(free, d.Facts.Serial)
	}
	wants := make([]work.Wants, 100_000)
	legs := make([]dispatch.Leg, len(wants))
	for i := range wants {
		wants[i].Device = free[i%len(free)]
		legs[i] = dispatch.Leg{ID: fmt.Sprintf("leg-%06d", i), Run: fmt.Sprint("run-", i/2000), Workspace: fmt.Sprint("workspace-", i/20_000)}
	}
	pairs := 0
	took = fastest(9, func() {
		for i := range wants {
			legs[i].Wants, _ = dispatch.Candidates(wants[i], nil, units)
		}
		pairs = len(dispatch.Match(legs, free, dispatch.Held{}, dispatch.Labs{}))
	})
	within("a round of the dispatcher, 10,000 devices × 100,000 waiting ÷ 50 ms", 50*time.Millisecond, took, "%d legs get a device", pairs)
	errs = append(errs, setting(dir))
	return join(errs)
}

func join(errs []error) error {
	var said []string
	for _, e := range errs {
		if e != nil {
			said = append(said, e.Error())
		}
	}
	if len(said) == 0 {
		return nil
	}
	return fmt.Errorf("%s", strings.Join(said, "\n"))
}

// setting measures setting a phone to five conditions, reading them back, and putting all back with proof.
func setting(dir string) error {
	ctx := context.Background()
	server, err := adb.StartServer(ctx, filepath.Join(dir, "adb"))
	if err != nil {
		return err
	}
	defer server.Close()
	fleet, err := phone.ReadFleetFile("demo/fleet.yaml", false)
	if err != nil {
		return err
	}
	traits := fleet[0]
	traits.Temper = phone.Instant
	ph, err := phone.Start(traits, "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer ph.Close()
	if err := server.Connect(ctx, ph.Address()); err != nil {
		return err
	}
	d, err := android.Open(ctx, &server.Server, ph.Address())
	if err != nil {
		return err
	}
	defer d.Close()
	set := conditions.Set{"dark": "on", "font-scale": "1.3", "display-size": "1.2", "time-zone": "Asia/Tokyo", "wifi": "off"}
	took := fastest(11, func() {
		if e := d.Condition(ctx, "", set, true); e != nil {
			err = e
		}
		if e := d.Unsettle(ctx); e != nil {
			err = e
		}
	})
	if err != nil {
		return err
	}
	return say("setting five conditions and undoing them, on a phone of instant temper ÷ 2 s", float64(took)/float64(2*time.Second), 1, "median %s", took.Round(time.Millisecond))
}
