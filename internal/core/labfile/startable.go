package labfile

// Devices that a command starts when they are wanted: kinds of them, in a lab of an adb server.

import (
	"fmt"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/catalogue"
)

// Startable is a kind of device that is started when it is wanted.
type Startable struct {
	Device    catalogue.Device // what it will be; its id begins the serials
	Count     int              // how many of them there may be
	Start     *Text            // a command for the shell; it stays up as long as the device does
	Stop      *Text            // another that ends it; nil: the command is ended
	Transport *Text            // what the adb server calls it; an address is connected to
	Origin    string
	Ready     time.Duration // within which it must be ready
	Idle      time.Duration // after which it is stopped when nobody wants it
	Fresh     bool          // it is thrown away after each piece of work
	Line      int
}

// Serials are those of the devices of the kind.
func (s Startable) Serials() (out []string) {
	if s.Count == 1 {
		return []string{s.Device.ID}
	}
	for n := range s.Count {
		out = append(out, fmt.Sprintf("%s-%d", s.Device.ID, n+1))
	}
	return out
}

const (
	usualReady, usualIdle = 3 * time.Minute, 5 * time.Minute
	maxCount              = 100
)

var startableKeys = []string{"id", "count", "start", "stop", "transport", "ready_within", "idle", "fresh", "origin", "os", "api", "maker", "model", "form", "width", "height", "density", "memory_mb", "abis", "language", "simulated"}

// startable reads the kinds of a lab.
func (r *reader) startable(n *yaml.Node) (out []Startable) {
	if n == nil {
		return nil
	}
	taken := map[string]bool{}
	for _, x := range r.list(n, "startable") {
		m := r.mapping(x, "a kind of startable devices", startableKeys...)
		if m == nil {
			continue
		}
		s := Startable{Line: x.Line, Count: max(1, r.number(m["count"], "count", 1, maxCount)), Start: r.template(m["start"], "start"), Stop: r.template(m["stop"], "stop"), Transport: r.template(m["transport"], "transport"), Origin: "emulated", Ready: usualReady, Idle: usualIdle}
		if m["start"] == nil {
			r.say(x, "this kind has no command that starts it", "write start: with the command, which names {{.Port}}, a free port of this machine")
		}
		if m["origin"] != nil {
			if s.Origin = r.text(m["origin"], "origin"); !slices.Contains([]string{"real", "emulated", "cloud"}, s.Origin) {
				r.say(m["origin"], fmt.Sprintf("the origin of devices can't be %.60q", s.Origin), "write real, emulated or cloud; without it they are emulated")
			}
		}
		if m["ready_within"] != nil {
			s.Ready = r.duration(m["ready_within"], "ready_within", time.Second, time.Hour)
		}
		if m["idle"] != nil {
			s.Idle = r.duration(m["idle"], "idle", time.Second, longest)
		}
		if m["fresh"] != nil {
			if how := r.text(m["fresh"], "fresh"); how != "each" {
				r.say(m["fresh"], fmt.Sprintf("fresh can't be %.40q", how), "write fresh: each, or leave it out: then the device is cleaned and kept until it is idle")
			}
			s.Fresh = true
		}
		d := r.device(m)
		d.Platform = "android"
		if why := d.Mend(); why != "" {
			r.say(x, "this kind can't be used: "+why, "say what the device will be: os, api, maker, model, width, height, density")
			continue
		}
		s.Device = d
		for _, serial := range s.Serials() {
			if taken[serial] {
				r.say(x, fmt.Sprintf("a device %s is there already", serial), "give the kind another id")
			}
			taken[serial] = true
		}
		if s.Transport == nil {
			s.Transport, _ = templateFor("127.0.0.1:{{.Port}}")
		}
		out = append(out, s)
	}
	return out
}
