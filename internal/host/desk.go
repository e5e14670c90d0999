package host

// The host's own desk: what the service asks of the host itself rather than of a session. It takes orders as a session
// does, those without a hold: checks of devices, and pairing with phones over the network.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
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

// desk does the orders.
type desk struct{ h *Host }

// Ended is never true: a host has its desk as long as it is there.
func (desk) Ended() bool { return false }

// Do carries out one order. Each answers at once: what takes long goes on beside, and is asked for again.
func (d desk) Do(_ context.Context, q remoteend.Request) remoteend.Response {
	kind, rest, _ := strings.Cut(strings.TrimPrefix(q.Path, "/"), "/")
	switch {
	case kind == "checks" && q.Method == http.MethodPost:
		return d.answer(d.h.startCheck(unitOf(rest)))
	case kind == "checks":
		return d.answer(d.h.lastCheck(unitOf(rest)))
	case kind == "pairings" && q.Method == http.MethodPost:
		var r hostlink.PairRequest
		if err := json.Unmarshal(q.Body, &r); err != nil {
			return d.answer(nil, http.StatusBadRequest, &hostlink.Unable{Why: "the request can't be read"})
		}
		return d.answer(d.h.startPairing(r))
	case kind == "pairings":
		return d.answer(d.h.pairing(rest))
	}
	return d.answer(nil, http.StatusNotFound, &hostlink.Unable{Why: "this host has no " + kind, Remedy: "run the same version of tessellant on both sides"})
}

// unitOf reads LAB/SERIAL; a serial may have slashes.
func unitOf(path string) unit {
	kind, serial, _ := strings.Cut(path, "/")
	return unit{kind, serial}
}

func (desk) answer(v any, status int, no *hostlink.Unable) remoteend.Response {
	if no != nil {
		v = no
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return remoteend.Response{Status: http.StatusInternalServerError}
	}
	return remoteend.Response{Status: status, Body: raw}
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
func (h *Host) startCheck(u unit) (any, int, *hostlink.Unable) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.checks[u]; c != nil && !c.over() {
		return c.report, http.StatusOK, nil
	}
	l := h.labs[u.lab]
	if l == nil {
		l = lab.None{}
	}
	device, err := l.Acquire(u.serial)
	if err != nil {
		return nil, http.StatusNotFound, unable("it is not there at the moment, or does not let us in", "see what the list of devices says of it")
	}
	if h.onDevice(u) != nil {
		return nil, http.StatusConflict, unable("it is at work", "check it when its work is done, or end that with: tessellant device free "+u.serial)
	}
	if len(h.checks) >= maxChecks {
		for s, c := range h.checks {
			if c.over() {
				delete(h.checks, s)
			}
		}
	}
	c := &checking{ended: make(chan struct{}), report: checkup.Report{Began: time.Now().UTC(), Steps: []checkup.Step{}, Limits: []string{}}}
	h.checks[u] = c
	h.care.Go(func() {
		defer l.LookAgain(u.serial)
		defer close(c.ended)
		ctx, cancel := context.WithTimeout(h.careCtx, checkTakes)
		defer cancel()
		see := func(r checkup.Report) {
			h.mu.Lock()
			defer h.mu.Unlock()
			c.report = r
		}
		if err := guard.Run(h.Log, guard.Loop, func() { checkup.Run(ctx, device.Unit, see) }); err != nil {
			h.mu.Lock()
			defer h.mu.Unlock()
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

func (h *Host) lastCheck(u unit) (any, int, *hostlink.Unable) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.checks[u]; c != nil {
		return c.report, http.StatusOK, nil
	}
	return nil, http.StatusNotFound, unable("it has not been checked since its host was started", "check it with: tessellant device check "+u.serial)
}

// afterCheck waits until no check goes on on a device: two never work on one.
func (h *Host) afterCheck(ctx context.Context, u unit) {
	h.mu.Lock()
	c := h.checks[u]
	h.mu.Unlock()
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
func (h *Host) startPairing(r hostlink.PairRequest) (any, int, *hostlink.Unable) {
	pairer := h.pairer()
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
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.pairings) >= maxPairings {
		for id, x := range h.pairings {
			if x.State != "waiting" {
				delete(h.pairings, id)
			}
		}
	}
	if len(h.pairings) >= maxPairings {
		return nil, http.StatusConflict, unable(fmt.Sprintf("%d pairings go on", maxPairings), "wait some minutes")
	}
	h.pairings[p.ID] = p
	answer := *p
	h.care.Go(func() {
		ctx, cancel := context.WithTimeout(h.careCtx, takes)
		defer cancel()
		err := guard.Do(h.Log, guard.Loop, func() error {
			if byCode {
				return pairer.Pair(ctx, r.Address, r.Code)
			}
			return pairer.PairByName(ctx, name, password)
		})
		h.mu.Lock()
		defer h.mu.Unlock()
		if p.State = "paired"; err != nil {
			p.State, p.Why, p.Remedy = "failed", err.Error(), "open Wireless debugging on the phone anew: its code changes each time, and both must be in one network"
			var better interface{ Remedy() string }
			if errors.As(err, &better) {
				p.Remedy = better.Remedy()
			}
		}
	})
	return answer, http.StatusCreated, nil
}

// pairer is the lab that can be paired with phones; nil: there is none.
func (h *Host) pairer() lab.Pairer {
	for _, l := range h.labs {
		if p, ok := l.(lab.Pairer); ok {
			return p
		}
	}
	return nil
}

func (h *Host) pairing(id string) (any, int, *hostlink.Unable) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if p := h.pairings[id]; p != nil {
		return *p, http.StatusOK, nil
	}
	return nil, http.StatusNotFound, unable("there is no such pairing", "begin one anew")
}
