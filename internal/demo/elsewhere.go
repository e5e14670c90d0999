package demo

// The demo's suites in other languages: run from outside against /webdriver, and then, unchanged, as packages.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"tessellant/api"
	"tessellant/internal/cli"
)

// suite is one of them.
type suite struct {
	name    string
	device  string   // on which it runs from outside
	on      []string // those on which it runs as a package meanwhile
	command []string
}

var suites = []suite{
	{"shore-suite-js", "orr-01", []string{"orr-03", "orr-04", "fen-01"}, []string{"node", "--test", "--test-reporter=junit", "--test-reporter-destination=results/shore.xml", "shore.test.mjs"}},
	{"shore-suite-py", "orr-02", []string{"fen-03", "qui-02", "emu-02"}, []string{"python3", "run.py"}},
}

// fromOutside runs the suites on this machine, both at once, and hands in their reports.
func (d *demo) fromOutside(ctx context.Context, h *demoHouse, dir string) error {
	fmt.Fprintf(d.Out, "\nThe same roads from this machine, with any W3C WebDriver client: change the address and the capabilities, nothing else.\n")
	var all sync.WaitGroup
	failed := make([]error, len(suites))
	for i, s := range suites {
		work := filepath.Join(h.data, "outside", s.name)
		if err := errors.Join(os.RemoveAll(work), os.MkdirAll(filepath.Dir(work), 0o700), os.CopyFS(work, os.DirFS(filepath.Join(dir, s.name))), os.MkdirAll(filepath.Join(work, "results"), 0o700)); err != nil {
			return err
		}
		fmt.Fprintf(d.Out, "\n$ cd %s && TESSELLANT_WEBDRIVER_URL=%s/webdriver SHORE_WHERE=serial=%s %s\n", filepath.Join(dir, s.name), d.URL, s.device, strings.Join(s.command, " "))
		all.Go(func() { failed[i] = d.outsideOnce(ctx, s, work) })
	}
	all.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	for _, s := range suites {
		client, err := d.Client()
		if err != nil {
			return err
		}
		r, err := client.ListSessionsWithResponse(ctx, &api.ListSessionsParams{Group: &s.name})
		if err != nil || r.JSON200 == nil || len(r.JSON200.Items) == 0 {
			return d.Failed("find the session", err, r)
		}
		if s.name == "shore-suite-js" { // one session for all of its tests: the report says more than their marks
			id := r.JSON200.Items[0].Id
			fmt.Fprintf(d.Out, "\n$ tessellant session report results/shore.xml --session %s\n", id)
			if err := d.silently(ctx, d.Out, nil, "session", "report", filepath.Join(h.data, "outside", s.name, "results", "shore.xml"), "--session", id); err != nil {
				return err
			}
		}
	}
	return d.types(ctx, "", nil, "session", "list")
}

func (d *demo) outsideOnce(ctx context.Context, s suite, work string) error {
	cmd := exec.CommandContext(ctx, s.command[0], s.command[1:]...)
	cmd.Dir = work
	cmd.Env = append(os.Environ(), "TESSELLANT_WEBDRIVER_URL="+d.URL+"/webdriver", "TESSELLANT_KEY="+d.Key, "SHORE_WHERE=serial="+s.device)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s from outside: %w\n%s", s.name, err, out.String())
	}
	return nil
}

// asPackages uploads the suites as they are, and starts them on those of their devices that are there.
func (d *demo) asPackages(ctx context.Context, dir string, phones []string) (runs []demoRun, err error) {
	client, err := d.Client()
	if err != nil {
		return nil, err
	}
	hosts, err := client.ListHostsWithResponse(ctx)
	if err != nil || hosts.JSON200 == nil {
		return nil, d.Failed("list the hosts", err, hosts)
	}
	if h := hosts.JSON200.Items[0]; h.Isolation == "none" {
		fmt.Fprintf(d.Out, "\nPrograms can't be kept apart on this machine (%s), so the suites are not run as packages.\n", cli.Deref(h.IsolationWhy))
		return nil, nil
	}
	const version = "1.8.0"
	for _, s := range suites {
		on := slices.DeleteFunc(slices.Clone(s.on), func(serial string) bool { return len(phones) > 0 && !slices.Contains(phones, serial) })
		if len(on) == 0 {
			continue
		}
		if err := d.types(ctx, "", nil, "package", "add", filepath.Join(dir, s.name)); err != nil {
			return nil, err
		}
		start := []string{"run", "start", "--build", "kelpline/android@v" + version, "--package", s.name + "@newest", "--limit", "10m"}
		for _, serial := range on {
			start = append(start, "--device", serial)
		}
		if err := d.types(ctx, "", nil, start...); err != nil {
			return nil, err
		}
		run, err := d.run(ctx, "newest")
		if err != nil {
			return nil, err
		}
		runs = append(runs, demoRun{version + " with " + s.name, run.Id})
	}
	return runs, nil
}

// toTheirEnd watches runs until they have ended. That the demo's app has faults is no error.
func (d *demo) toTheirEnd(ctx context.Context, runs []demoRun) error {
	for _, r := range runs {
		if err := d.types(ctx, "", appFailed, "run", "watch", r.id); err != nil {
			return err
		}
	}
	return nil
}
