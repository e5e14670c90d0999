package hosts

// Labs, as their hosts tell of them.

import (
	"context"
	"slices"
	"strings"

	"tessellant/internal/core/devices"
	"tessellant/internal/service/refuse"
)

// LabView is a lab and how it stands.
type LabView struct {
	devices.Lab
	Host  string
	State string // up, out or silent
}

// Labs lists the labs of all hosts, by name and host.
func (s *Hosts) Labs(ctx context.Context) ([]LabView, error) {
	rows, err := s.ListHosts(ctx)
	if err != nil {
		return nil, err
	}
	out := []LabView{}
	for _, h := range rows {
		for _, l := range h.About.V.Labs {
			v := LabView{Lab: l, Host: h.Name, State: "up"}
			switch {
			case h.State != "up":
				v.State, v.Out = "silent", "its host has gone silent: see whether it runs"
			case l.Out != "":
				v.State = "out"
			}
			if l.Kind == firstLab { // it has as many as are plugged in
				v.Devices = h.Devices
				for _, o := range h.About.V.Labs {
					if o.Kind != firstLab {
						v.Devices -= min(o.Devices, v.Devices)
					}
				}
			}
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b LabView) int {
		return strings.Compare(a.Name+"\x00"+a.Host, b.Name+"\x00"+b.Host)
	})
	return out, nil
}

// Lab finds a lab by its name, or by NAME@HOST where several hosts have one of that name.
func (s *Hosts) Lab(ctx context.Context, name string) (LabView, error) {
	all, err := s.Labs(ctx)
	if err != nil {
		return LabView{}, err
	}
	var found []LabView
	for _, l := range all {
		if l.Name == name || l.Name+"@"+l.Host == name {
			found = append(found, l)
		}
	}
	switch len(found) {
	case 0:
		return LabView{}, refuse.New(refuse.NotFound, "show the lab", "see the labs with: tessellant lab list", "there is no lab %q", name)
	case 1:
		return found[0], nil
	}
	var hosts []string
	for _, l := range found {
		hosts = append(hosts, l.Name+"@"+l.Host)
	}
	return LabView{}, refuse.New(refuse.Invalid, "show the lab", "say which: "+strings.Join(hosts, " or "), "%d hosts have a lab %q", len(found), name)
}
