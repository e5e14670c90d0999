package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host"
	"tessellant/internal/hostlink/remote"
	"tessellant/internal/lab"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/sandbox"
)

func (a *app) hostCmd() *cobra.Command {
	var c hostConfig
	var join, level, format string
	cmd := &cobra.Command{Use: "host", Short: "Run a host beside devices, and look at hosts", Args: cobra.NoArgs,
		Long: `With --join, run a host: a process beside devices that carries out the work on them for a service elsewhere.
Its key comes from TESSELLANT_HOST_KEY; an owner of the workspace makes it with: tessellant host key NAME.
The host needs to reach the service over HTTP and its bus over TCP; nothing needs to reach the host.
What it gathers lies in its data folder until the service has it: either may be away for a while.

The service has a host of its own built in, for devices on its own machine.`,
		Example: "  tessellant host key bench-2\n  TESSELLANT_HOST_KEY=tslh_… tessellant host --join http://tessellant.example:7480\n  tessellant host list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if join == "" {
				_ = cmd.Help()
				return &exit{verdict.ExitUsage, nil}
			}
			log, err := newLogger(a.err, level, format)
			if err != nil {
				return err
			}
			c.Log = log
			return a.runHost(cmd.Context(), join, c)
		}}
	f := cmd.Flags()
	f.StringVar(&join, "join", "", "address of the service, such as http://tessellant.example:7480")
	f.StringVar(&c.Data, "data", filepath.Join(defaultData(), "host"), "data folder")
	f.StringVar(&c.ADB, "adb-server", "", adbServerHelp)
	f.StringArrayVar(&c.Connect, "connect", nil, "a device on the network: host:port; again for more")
	f.BoolVar(&c.OpenBox, "open-box", false, "run programs of packages even where they can't be kept apart from this machine: only if you trust all who upload")
	f.Int64Var(&c.SpoolMB, "spool-mb", 20<<10, "how many MB of evidence may wait in the data folder")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	f.StringVar(&format, "log-format", "text", "text or json")
	key := &cobra.Command{Use: "key NAME", Short: "Make a key for a host, in place of any it had", Args: exactly(1),
		Long:    "Make the key with which a process joins as the host NAME; it is shown only now. For owners.\nA process that had joined with an older key of this name is sent away.",
		Example: "  tessellant host key bench-2",
		RunE:    func(c *cobra.Command, args []string) error { return a.hostKey(c.Context(), args[0]) }}
	list := &cobra.Command{Use: "list", Short: "List hosts by name", Args: cobra.NoArgs, Example: "  tessellant host list",
		RunE: func(c *cobra.Command, _ []string) error { return a.hostList(c.Context()) }}
	remove := &cobra.Command{Use: "remove NAME", Short: "Take a host's key away", Args: exactly(1), Example: "  tessellant host remove bench-2",
		Long: "Take a host's key away: it can't join any more, and its devices are away. What was run on them stays.",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.client()
			if err != nil {
				return err
			}
			r, err := client.RemoveHostWithResponse(c.Context(), args[0])
			if err != nil || status(r) != 204 {
				return a.problem("remove the host", err, status(r), problemOf(r), bodyOf(r))
			}
			return a.show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "%s can't join any more.\n", args[0]) })
		}}
	cmd.AddCommand(key, list, remove)
	return cmd
}

// hostConfig is what a host can be told.
type hostConfig struct {
	Data    string
	ADB     string
	Connect []string
	SpoolMB int64
	OpenBox bool
	Log     *slog.Logger
}

// openBox sees how programs of packages can be kept apart; nil: not at all, and none are run.
func openBox(ctx context.Context, log *slog.Logger) *sandbox.Box {
	box, err := sandbox.Probe(ctx, "")
	if err != nil {
		log.Warn("no programs of packages can be run here", "err", err)
		return nil
	}
	if box.Level != sandbox.Tight {
		log.Warn("programs of packages can't be kept apart here", "why", box.Why)
	}
	return box
}

// runHost runs a host for a service elsewhere until ctx ends.
func (a *app) runHost(ctx context.Context, url string, c hostConfig) error {
	key := os.Getenv("TESSELLANT_HOST_KEY")
	if key == "" {
		return errors.New("TESSELLANT_HOST_KEY is not set; an owner of the workspace makes a key with: tessellant host key NAME")
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	slog.SetDefault(c.Log)
	unlock, err := lockFolder(c.Data)
	if err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	defer unlock()
	server, err := findADB(ctx, c.ADB, filepath.Join(c.Data, "adb"))
	if err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	defer server.stop()
	c.Log.Info("devices come from " + server.found)
	link := &remote.Link{URL: url, Key: key, Version: Version, Log: c.Log}
	defer link.Leave()
	var name string
	for wait := time.Second; ; wait = min(wait*2, 15*time.Second) {
		if name, err = link.Join(ctx); err == nil {
			break
		}
		if errors.Is(err, remote.ErrRefused) || ctx.Err() != nil {
			return &exit{verdict.ExitUnreachable, fmt.Errorf("could not join: %w", err)}
		}
		c.Log.Warn("not joined yet", "err", err, "again in", wait)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil
		}
	}
	fmt.Fprintf(a.out, "Host %s works for %s\n", name, url)
	box := openBox(ctx, c.Log)
	defer box.Close()
	h := host.New(host.Config{Name: name, Dir: c.Data, Labs: []lab.Maker{adblab.Maker(adblab.Config{Server: server.Server, Emulators: emulatorPorts(server.ours), Connect: c.Connect, Log: c.Log})}, Link: link, Log: c.Log, SpoolLimit: c.SpoolMB << 20, Box: box, OpenBox: c.OpenBox})
	if err := h.Begin(); err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	run, cancel := context.WithCancel(ctx)
	defer cancel()
	var all sync.WaitGroup
	all.Go(func() { // a key that was taken away ends the host
		for tick := time.NewTicker(time.Second); ; {
			select {
			case <-tick.C:
				if link.Refused() != nil {
					cancel()
					return
				}
			case <-run.Done():
				return
			}
		}
	})
	err = h.Run(run)
	cancel()
	all.Wait()
	if refused := link.Refused(); refused != nil {
		err = refused
	}
	if err != nil {
		return &exit{verdict.ExitUnreachable, fmt.Errorf("the host ends: %w", err)}
	}
	return nil
}

func (a *app) hostKey(ctx context.Context, name string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.AddHostWithResponse(ctx, api.AddHostJSONRequestBody{Name: name})
	if err != nil || r.JSON201 == nil {
		return a.problem("make the host's key", err, status(r), problemOf(r), bodyOf(r))
	}
	return a.show(r.JSON201, func() {
		fmt.Fprintf(a.out, "The key of host %s, shown only now. On the machine beside the devices:\n  export TESSELLANT_HOST_KEY=%s\n  tessellant host --join %s\n", name, r.JSON201.Key, a.url)
	})
}

func (a *app) hostList(ctx context.Context) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	r, err := client.ListHostsWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.problem("list the hosts", err, status(r), problemOf(r), bodyOf(r))
	}
	return a.show(r.JSON200, func() {
		t := newTable(a.out, "host", "kind", "state", "devices", "at work", "programs", "version", "seen")
		for _, h := range r.JSON200.Items {
			seen := ""
			if h.Seen != nil {
				seen = ago(*h.Seen)
			}
			t.AppendRow(table.Row{h.Name, h.Kind, h.State, h.Devices, h.Holds, h.Isolation, deref(h.Version), seen})
		}
		t.Render()
		for _, h := range r.JSON200.Items {
			var has []string
			for _, n := range slices.Sorted(maps.Keys(h.Runtimes)) {
				if n != "sh" {
					has = append(has, n+" "+h.Runtimes[n])
				}
			}
			switch {
			case len(has) > 0:
				fmt.Fprintf(a.out, "\nPrograms on %s find %s.\n", h.Name, strings.Join(has, ", "))
			case h.Isolation == "none" && h.IsolationWhy != nil:
				fmt.Fprintf(a.out, "\n%s runs no programs: %s\n", h.Name, *h.IsolationWhy)
			}
		}
	})
}
