// Package wdlab is the lab of devices behind somebody else's door: a W3C WebDriver endpoint, as a lab file (core/labfile) describes it.
//
// The lab lists its devices, or the file does (catalogue.go). For a piece of work a device is borrowed: a place among those that may be open at a time, the
// build at the lab, a session that is on the device that was asked for (loan.go). What must outlive the process stands in a small file of the host's: the
// minutes of the day, where builds are known, sessions that could not be ended (ledger.go). A lab that can't be used says why, once, and is asked again at
// leisure.
package wdlab

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/masking"
	"tessellant/internal/guard"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/wd"
)

// Config is what a lab needs besides its file.
type Config struct {
	Lab    *labfile.Lab
	Folder string // of the lab file: files that it names lie beside it
	Dir    string // where the lab keeps what must outlive the process
	Log    *slog.Logger
	Own    map[string]string // of a browser of our own: what its templates name
}

// Lab implements lab.Lab and lab.Lender.
type Lab struct {
	Config
	end    *wd.Endpoint
	ledger *ledger
	places *places

	uploads sync.Map // by SHA-256: *upload

	mu      sync.Mutex
	look    func(context.Context)
	ctx     context.Context
	known   map[string]catalogue.Device
	order   []string // ids, as the catalogue has them
	listed  time.Time
	out     string            // why the lab can't be used; "": it can
	said    string            // what was logged last of that
	barred  time.Time         // until then it is left alone
	lent    map[string]*loan  // by device
	unfit   map[string]string // devices that it could not give, and why
	waiting int               // at the lab, as it says
	soon    chan struct{}
}

// New makes a lab. The error says what of its file can't be used on this machine: a secret that is not there, a certificate.
func New(c Config) (*Lab, error) {
	values, err := secrets(c)
	if err != nil {
		return nil, err
	}
	client, err := clientFor(c)
	if err != nil {
		return nil, err
	}
	var hidden []string
	for _, v := range values {
		hidden = append(hidden, v)
	}
	l := &Lab{Config: c, known: map[string]catalogue.Device{}, lent: map[string]*loan{}, unfit: map[string]string{}, ctx: context.Background(), look: func(context.Context) {}, soon: make(chan struct{}, 1),
		end: &wd.Endpoint{Base: c.Lab.Address, HTTP: client, Headers: c.Lab.Headers, Secrets: values, Mask: masking.New(hidden)}}
	if l.ledger, err = openLedger(filepath.Join(c.Dir, c.Lab.Name+".json")); err != nil {
		return nil, err
	}
	l.places = newPlaces(c.Lab.AtOnce)
	if c.Lab.Catalogue == nil {
		l.take(c.Lab.Devices)
	}
	return l, nil
}

// secrets finds the lab's secrets where the file says that they are.
func secrets(c Config) (map[string]string, error) {
	out := map[string]string{}
	for name, s := range c.Lab.Secrets {
		if s.Env != "" {
			if out[name] = os.Getenv(s.Env); out[name] == "" {
				return nil, fmt.Errorf("lab %s: the secret %s is not there: the variable %s is not set; set it before the host starts", c.Lab.Name, name, s.Env)
			}
			continue
		}
		path := s.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(c.Folder, path)
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("lab %s: the secret %s can't be read: %w", c.Lab.Name, name, err)
		}
		if out[name] = strings.TrimSpace(string(raw)); out[name] == "" || len(raw) > 64<<10 {
			return nil, fmt.Errorf("lab %s: the file of the secret %s is empty, or longer than 64 kB", c.Lab.Name, name)
		}
	}
	return out, nil
}

// clientFor makes the client by which a lab is asked. It follows no redirect to elsewhere: the lab's headers would go with it.
func clientFor(c Config) (*http.Client, error) {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 15 * time.Second}).DialContext, TLSHandshakeTimeout: 10 * time.Second,
		MaxIdleConns: 200, MaxIdleConnsPerHost: 100, IdleConnTimeout: 90 * time.Second, MaxResponseHeaderBytes: 256 << 10, ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}}
	if path := c.Lab.TrustCA; path != "" {
		if !filepath.IsAbs(path) {
			path = filepath.Join(c.Folder, path)
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("lab %s: the certificates that it is to be trusted by can't be read: %w", c.Lab.Name, err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("lab %s: %s has no certificate (PEM)", c.Lab.Name, path)
		}
		t.TLSClientConfig.RootCAs = pool
	}
	return &http.Client{Transport: t, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > 3 || r.URL.Host != via[0].URL.Host || r.URL.Scheme != via[0].URL.Scheme {
			return fmt.Errorf("it leads on to %s, which is not followed: the lab's headers would go there, too", r.URL.Host)
		}
		return nil
	}}, nil
}

// Maker makes a lab for a host.
func Maker(l *Lab) lab.Maker { return func(func(string) bool) lab.Lab { return l } }

// Name implements lab.Lab.
func (l *Lab) Name() string { return l.Lab.Name }

// Kind implements lab.Lab.
func (l *Lab) Kind() string { return l.Lab.Kind }

// tickEvery is how often the lab sees to what it owes.
const tickEvery = 2 * time.Second

// Watch implements lab.Lab.
func (l *Lab) Watch(ctx context.Context, look func(context.Context)) {
	l.mu.Lock()
	l.ctx, l.look = ctx, look
	l.mu.Unlock()
	defer l.end.HTTP.CloseIdleConnections()
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	for {
		_ = guard.Run(l.Log, guard.Loop, func() {
			l.refresh(ctx)
			l.settle(ctx)
			look(ctx)
		})
		select {
		case <-tick.C:
		case <-l.soon:
		case <-ctx.Done():
			return
		}
	}
}

// Devices implements lab.Lab. It never waits.
func (l *Lab) Devices(context.Context) ([]lab.Device, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	why := l.out
	if why == "" {
		why = l.spent()
	}
	out := make([]lab.Device, 0, len(l.order))
	for _, id := range l.order {
		d := l.known[id]
		f := d.Facts(l.Lab.Origin, l.Lab.Place)
		f.Limits, f.Lent, f.Sets, f.Pages = wd.Lacks(l.Lab, f.Platform), true, l.settable(), l.Lab.Session.Pages != nil
		one := lab.Device{Facts: f, State: devices.Ready, Checked: true}
		switch {
		case l.lent[id] != nil: // by us: what the lab says of it is about us
		case why != "":
			one.State, one.Why = devices.Unusable, why
		case d.State == catalogue.Busy:
			one.State, one.Why = devices.Unusable, "the lab "+l.Lab.Name+" has lent it to somebody else: wait until it is given back"
		case d.State == catalogue.Away:
			one.State, one.Why = devices.Unusable, "the lab "+l.Lab.Name+" can't lend it now"
			if d.Why != "" {
				one.Why += ": " + d.Why
			}
		case l.unfit[id] != "":
			one.State, one.Why = devices.Unusable, l.unfit[id]
		}
		out = append(out, one)
	}
	return out, nil
}

// settable are the conditions that a device of the lab can be set to.
func (l *Lab) settable() (out []string) {
	for _, name := range conditions.Names() {
		if sets(l.Lab.Session.Capabilities, name) || name == conditions.Orientation && l.Lab.Commands["rotate"] != nil || name == conditions.Dark && l.Lab.Commands["dark"] != nil {
			out = append(out, name)
		}
	}
	return out
}

// UsedToday is how long sessions were open today.
func (l *Lab) UsedToday() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.used()
}

// spent says, under mu, that the minutes of the day are used up; "": they are not.
func (l *Lab) spent() string {
	if l.Lab.DayLimit == 0 || l.used() < time.Duration(l.Lab.DayLimit)*time.Minute {
		return ""
	}
	return fmt.Sprintf("the %d minutes that the lab %s may be used today are used up: wait until midnight UTC, or raise max_minutes_a_day in the lab file", l.Lab.DayLimit, l.Lab.Name)
}

// used is, under mu, how long sessions were open today.
func (l *Lab) used() time.Duration {
	sum := l.ledger.used()
	for _, x := range l.lent {
		sum += x.lasted()
	}
	return sum
}

// Acquire implements lab.Lab. What it gives has to be borrowed first.
func (l *Lab) Acquire(serial string) (*lab.Unit, error) {
	l.mu.Lock()
	d, ok := l.known[serial]
	l.mu.Unlock()
	if !ok {
		return nil, lab.ErrNotHere
	}
	facts := d.Facts(l.Lab.Origin, l.Lab.Place)
	x := &loan{lab: l, wants: d}
	x.device = wd.New(wd.Config{Lab: l.Lab, Endpoint: l.end, Facts: facts, Anew: x.anew, Upload: func(ctx context.Context, app phone.App) (string, error) {
		ref, _, err := l.upload(ctx, app, "", x.values)
		return ref, err
	}, Leads: l.leads})
	return &lab.Unit{Unit: x.device.Unit(), Known: facts, Loan: x}, nil
}

// Lost implements lab.Lab: the next look at the catalogue says how the device stands.
func (l *Lab) Lost(string) { l.hurry() }

// hurry has the lab looked at soon.
func (l *Lab) hurry() {
	select {
	case l.soon <- struct{}{}:
	default:
	}
}

// unfitFor is how long a device that could not be given is left alone.
const unfitFor = time.Minute

// Unfit implements lab.Lab.
func (l *Lab) Unfit(serial string, why *phone.Refused) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.unfit[serial] = why.Why + ": " + why.Remedy
	time.AfterFunc(unfitFor, func() { l.LookAgain(serial) })
}

// Check implements lab.Lab: a device of such a lab is proved by the session that is opened on it.
func (l *Lab) Check([]string) {}

// LookAgain implements lab.Lab.
func (l *Lab) LookAgain(serial string) {
	l.mu.Lock()
	delete(l.unfit, serial)
	l.mu.Unlock()
	l.hurry()
}

// About says how the lab stands.
func (l *Lab) About() devices.Lab {
	l.mu.Lock()
	defer l.mu.Unlock()
	a := devices.Lab{Name: l.Lab.Name, Kind: l.Lab.Kind, Place: l.Lab.Place, Address: l.Lab.Address, Devices: len(l.order), AtOnce: l.places.most(), Open: len(l.lent), Waiting: l.waiting, Out: l.out,
		DayLimit: l.Lab.DayLimit, UsedMinutes: int(l.used().Minutes()), Lacks: map[string][]string{}}
	for _, d := range l.known {
		if a.Lacks[d.Platform] == nil {
			a.Lacks[d.Platform] = wd.Lacks(l.Lab, d.Platform)
		}
	}
	if a.Out == "" {
		a.Out = l.spent()
	}
	return a
}
