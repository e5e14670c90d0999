// Package browserlab is a lab of browsers on the host's own machine: Chromium in the sizes of phones, behind chromedriver, as a real W3C WebDriver lab (lab/wdlab).
//
// Chromedriver, and every Chromium that it starts, runs in a box: it sees programs and fonts of the machine, no files of the host, and writes into memory that goes with it. Pages
// reach the network through a proxy of the lab's (internal/proxy), which leads only to the servers that the operator allows. In: a lab of a lab file. Out: a *wdlab.Lab, and its end.
package browserlab

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"tessellant/internal/browserbox"
	"tessellant/internal/child"
	"tessellant/internal/core/labfile"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/proxy"
)

// Config is what the lab needs besides its file.
type Config struct {
	Lab   *labfile.Lab
	Dir   string // where the lab keeps what must outlive the process
	Open  bool   // without a box, where there can be none
	Names map[string]string
	Roots *x509.CertPool // by which the proxy trusts servers; nil: the system's
	Log   *slog.Logger
}

const (
	readyTakes = 20 * time.Second
	tryTakes   = 15 * time.Second
	grace      = 3 * time.Second
)

// Start starts chromedriver and the proxy. The error says what is missing on this machine.
func Start(ctx context.Context, c Config) (made *wdlab.Lab, stop func(), err error) {
	for _, program := range []string{"chromedriver", "chromium"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, nil, fmt.Errorf("lab %s: %s is not installed: install the packages chromium and chromium-driver, or take the lab out of the lab file", c.Lab.Name, program)
		}
	}
	version, err := versionOf(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("lab %s: Chromium does not start: %w", c.Lab.Name, err)
	}
	var ends []func()
	stop = func() {
		for i := len(ends) - 1; i >= 0; i-- {
			ends[i]()
		}
	}
	defer func() {
		if err != nil {
			stop()
		}
	}()
	way, closeWay, err := wayOut(c)
	if err != nil {
		return nil, nil, err
	}
	ends = append(ends, closeWay)
	box, flag, err := boxFor(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	port, err := child.FreePort()
	if err != nil {
		return nil, nil, err
	}
	address := fmt.Sprintf("http://127.0.0.1:%d", port)
	kept, err := child.Keep(ctx, "chromedriver of the lab "+c.Lab.Name, grace, func(ctx context.Context) (*child.Process, error) {
		p, err := child.Start(box.Command(context.Background(), nil, "chromedriver", fmt.Sprintf("--port=%d", port), "--log-level=SEVERE"), syscall.SIGKILL)
		if err != nil {
			return nil, err
		}
		if err := p.Ready(ctx, readyTakes, func() error { return asked(ctx, address) }); err != nil {
			p.Stop(0)
			return nil, fmt.Errorf("chromedriver: %w", err)
		}
		return p, nil
	})
	if err != nil {
		return nil, nil, fmt.Errorf("lab %s: %w", c.Lab.Name, err)
	}
	ends = append(ends, kept.Close)
	l := *c.Lab
	l.Address = address
	for i := range l.Devices {
		l.Devices[i].OS = version
	}
	made, err = wdlab.New(wdlab.Config{Lab: &l, Dir: c.Dir, Log: c.Log, Own: map[string]string{"proxy": way, "box": flag}})
	return made, stop, err
}

// asked asks chromedriver whether it is ready (WebDriver, section 8.3).
func asked(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/status", nil)
	if err != nil {
		return err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	var said struct{ Value struct{ Ready bool } }
	if err := json.NewDecoder(answer.Body).Decode(&said); err != nil || !said.Value.Ready {
		return errors.Join(err, errors.New("it is not ready"))
	}
	return nil
}

var versionForm = regexp.MustCompile(`\b(\d+(?:\.\d+)+)\b`)

// versionOf asks Chromium for its version.
func versionOf(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, tryTakes)
	defer cancel()
	out, err := exec.CommandContext(ctx, "chromium", "--version").Output()
	m := versionForm.FindSubmatch(out)
	if m == nil {
		return "", fmt.Errorf("it does not say its version (%w): %.200q", err, out)
	}
	major, _, _ := strings.Cut(string(m[1]), ".")
	return major, nil
}

// wayOut is the proxy through which pages reach servers.
func wayOut(c Config) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	p := proxy.New(proxy.Config{Names: c.Names, Roots: c.Roots, Leads: c.Lab.Leads})
	var done sync.WaitGroup
	done.Go(func() { _ = p.Serve(l) })
	return l.Addr().String(), func() { p.Close(); done.Wait() }, nil
}

// boxFor gives the box that browsers run in, or none, where the operator trusts all pages.
func boxFor(ctx context.Context, c Config) (box browserbox.Box, flag string, err error) {
	box = browserbox.Here(ctx)
	switch {
	case box.Why == "":
		return box, strings.Join(box.Flags, " "), nil
	case !c.Open:
		return box, "", fmt.Errorf("lab %s: browsers can't be kept apart from this machine: %s; install bubblewrap and allow user namespaces, or start with --open-box if you trust all pages", c.Lab.Name, box.Why)
	}
	c.Log.Warn("browsers of a lab are not kept apart from this machine", "lab", c.Lab.Name, "why", box.Why)
	if os.Geteuid() == 0 {
		flag = "--no-sandbox"
	}
	return box, flag, nil
}
