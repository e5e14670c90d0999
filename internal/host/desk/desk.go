// Package desk is what the service asks of a host itself rather than of a session: checks of devices, and pairing with phones over the network. It
// takes orders as a session does, those without a hold.
package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"tessellant/internal/checkup"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/remoteend"
)

func unable(why, remedy string) *hostlink.Unable {
	return &hostlink.Unable{Why: why, Remedy: remedy}
}

// Desk does the orders.
type Desk struct {
	Log    *slog.Logger
	Labs   map[string]lab.Lab // by name
	AtWork func(lab.ID) bool  // somebody's work has the device

	mu       sync.Mutex
	ctx      context.Context      // of Run
	care     sync.WaitGroup       // checks and pairings that go on
	checks   map[lab.ID]*checking // the newest
	pairings map[string]*hostlink.Pairing
}

// New makes the desk of a host with these labs. AtWork says whether somebody's work has a device.
func New(log *slog.Logger, labs map[string]lab.Lab, atWork func(lab.ID) bool) *Desk {
	return &Desk{Log: log, Labs: labs, AtWork: atWork, checks: map[lab.ID]*checking{}, pairings: map[string]*hostlink.Pairing{}}
}

// Run lets checks and pairings go on until ctx ends, and waits for their end.
func (d *Desk) Run(ctx context.Context) {
	d.mu.Lock()
	d.ctx = ctx
	d.mu.Unlock()
	<-ctx.Done()
	d.care.Wait()
}

// Checking says whether a check of a device goes on.
func (d *Desk) Checking(u lab.ID) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.checks[u]
	return c != nil && !c.over()
}

// context is Run's, under mu; before that, one that does not end.
func (d *Desk) context() context.Context {
	if d.ctx == nil {
		return context.Background()
	}
	return d.ctx
}

// Ended is never true: a host has its desk as long as it is there.
func (*Desk) Ended() bool { return false }

// Do carries out one order. Each answers at once: what takes long goes on beside, and is asked for again.
func (d *Desk) Do(_ context.Context, q remoteend.Request) remoteend.Response {
	kind, rest, _ := strings.Cut(strings.TrimPrefix(q.Path, "/"), "/")
	switch {
	case kind == "checks" && q.Method == http.MethodPost:
		return d.answer(d.startCheck(unitOf(rest)))
	case kind == "checks":
		return d.answer(d.lastCheck(unitOf(rest)))
	case kind == "pairings" && q.Method == http.MethodPost:
		var r hostlink.PairRequest
		if err := json.Unmarshal(q.Body, &r); err != nil {
			return d.answer(nil, http.StatusBadRequest, &hostlink.Unable{Why: "the request can't be read"})
		}
		return d.answer(d.startPairing(r))
	case kind == "pairings":
		return d.answer(d.pairing(rest))
	}
	return d.answer(nil, http.StatusNotFound, &hostlink.Unable{Why: "this host has no " + kind, Remedy: "run the same version of tessellant on both sides"})
}

// unitOf reads LAB/SERIAL; a serial may have slashes.
func unitOf(path string) lab.ID {
	name, serial, _ := strings.Cut(path, "/")
	return lab.ID{Lab: name, Serial: serial}
}

func (*Desk) answer(v any, status int, no *hostlink.Unable) remoteend.Response {
	if no != nil {
		v = no
	}
	return remoteend.Plain(status, v)
}

// checking is a check of a device, that goes on or has ended.
type checking struct {
	report checkup.Report
	ended  chan struct{}
}

const (
	checkTakes = 10 * time.Minute
	maxChecks  = 500 // that are remembered, the newest of each device
)

// startCheck begins the check of a device, unless one goes on; it answers how that stands.
func (d *Desk) startCheck(u lab.ID) (any, int, *hostlink.Unable) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.checks[u]; c != nil && !c.over() {
		return c.report, http.StatusOK, nil
	}
	l := d.Labs[u.Lab]
	if l == nil {
		l = lab.None{}
	}
	device, err := l.Acquire(u.Serial)
	if _, ok := l.(lab.Starter); ok && err != nil {
		return nil, http.StatusConflict, unable("it is not up: it is started when a run or a session wants it, and proved each time", "open a session on it, and check it meanwhile")
	}
	if err != nil {
		return nil, http.StatusNotFound, unable("it is not there at the moment, or does not let us in", "see what the list of devices says of it")
	}
	if device.Loan != nil {
		return nil, http.StatusConflict, unable("it belongs to a lab that lends it", "try it on the host with: tessellant lab try LABFILE --lab "+u.Lab+" --device "+u.Serial)
	}
	if d.AtWork(u) {
		return nil, http.StatusConflict, unable("it is running other work", "check it when that work has finished, or stop the work with: tessellant device free "+u.Serial)
	}
	if len(d.checks) >= maxChecks {
		for s, c := range d.checks {
			if c.over() {
				delete(d.checks, s)
			}
		}
	}
	c := &checking{ended: make(chan struct{}), report: checkup.Report{Began: time.Now().UTC(), Steps: []checkup.Step{}, Limits: []string{}}}
	d.checks[u] = c
	whole := d.context()
	d.care.Go(func() {
		defer l.LookAgain(u.Serial)
		defer close(c.ended)
		ctx, cancel := context.WithTimeout(whole, checkTakes)
		defer cancel()
		see := func(r checkup.Report) {
			d.mu.Lock()
			defer d.mu.Unlock()
			c.report = r
		}
		if err := guard.Run(d.Log, guard.Loop, func() { checkup.Run(ctx, device.Unit, see) }); err != nil {
			d.mu.Lock()
			defer d.mu.Unlock()
			c.report.Done, c.report.Sentence = true, "The check itself broke: "+err.Error()+"."
		}
	})
	return c.report, http.StatusAccepted, nil
}

// over says whether a check has ended.
func (c *checking) over() bool {
	select {
	case <-c.ended:
		return true
	default:
		return false
	}
}

func (d *Desk) lastCheck(u lab.ID) (any, int, *hostlink.Unable) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.checks[u]; c != nil {
		return c.report, http.StatusOK, nil
	}
	return nil, http.StatusNotFound, unable("it has not been checked since its host was started", "check it with: tessellant device check "+u.Serial)
}

// AfterCheck waits until no check goes on on a device: two never work on one.
func (d *Desk) AfterCheck(ctx context.Context, u lab.ID) {
	d.mu.Lock()
	c := d.checks[u]
	d.mu.Unlock()
	if c != nil {
		select {
		case <-c.ended:
		case <-ctx.Done():
		}
	}
}

const (
	pairTakes    = 20 * time.Second
	pictureTakes = 3 * time.Minute // for a person to find the page on the phone
	maxPairings  = 50
)

// startPairing begins a pairing.
func (d *Desk) startPairing(r hostlink.PairRequest) (any, int, *hostlink.Unable) {
	pairer := d.pairer()
	if pairer == nil {
		return nil, http.StatusConflict, unable("the devices of this host are not reached over a network that it pairs with", "pair from a host with an adb server")
	}
	p := &hostlink.Pairing{ID: strings.ToLower(rand.Text()[:12]), State: "waiting"}
	takes := pairTakes
	byCode := r.Address != "" || r.Code != ""
	if byCode && (r.Address == "" || r.Code == "") {
		return nil, http.StatusBadRequest, unable("a pairing by code needs both address and code", "give both as the phone shows them: Wireless debugging, Pair device with pairing code")
	}
	name, password := "tessellant-"+rand.Text()[:8], rand.Text()[:12]
	if !byCode {
		p.Payload, takes = "WIFI:T:ADB;S:"+name+";P:"+password+";;", pictureTakes
	}
	p.Until = time.Now().Add(takes).UTC()
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.pairings) >= maxPairings {
		for id, x := range d.pairings {
			if x.State != "waiting" {
				delete(d.pairings, id)
			}
		}
	}
	if len(d.pairings) >= maxPairings {
		return nil, http.StatusConflict, unable(fmt.Sprintf("%d pairings go on", maxPairings), "wait some minutes")
	}
	d.pairings[p.ID] = p
	answer, whole := *p, d.context()
	d.care.Go(func() {
		ctx, cancel := context.WithTimeout(whole, takes)
		defer cancel()
		err := guard.Do(d.Log, guard.Loop, func() error {
			if byCode {
				return pairer.Pair(ctx, r.Address, r.Code)
			}
			return pairer.PairByName(ctx, name, password)
		})
		d.mu.Lock()
		defer d.mu.Unlock()
		if p.State = "paired"; err != nil {
			p.State, p.Why, p.Remedy = "failed", err.Error(), "open Wireless debugging on the phone again: the code changes each time. Phone and host must be in the same network"
			var better interface{ Remedy() string }
			if errors.As(err, &better) {
				p.Remedy = better.Remedy()
			}
		}
	})
	return answer, http.StatusCreated, nil
}

// pairer is the lab that can be paired with phones; nil: there is none.
func (d *Desk) pairer() lab.Pairer {
	for _, l := range d.Labs {
		if p, ok := l.(lab.Pairer); ok {
			return p
		}
	}
	return nil
}

func (d *Desk) pairing(id string) (any, int, *hostlink.Unable) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if p := d.pairings[id]; p != nil {
		return *p, http.StatusOK, nil
	}
	return nil, http.StatusNotFound, unable("there is no such pairing", "start a new one")
}
