package adblab

// What a device is called, and by which of its ways it is used: one may be connected in several, and several may tell one serial.

import (
	"net"
	"slices"
	"strings"
)

// onNetwork says whether a way to a device goes over the network: the adb server lists such by their addresses.
func onNetwork(transport string) bool {
	_, _, err := net.SplitHostPort(transport)
	return err == nil || strings.Contains(transport, "._adb-tls-")
}

// bestWay gives, under mu, the way by which a device is used that has several: a cable rather than the network.
func (l *Lab) bestWay(serial string) (best string) {
	for t, u := range l.units {
		if u.facts.Serial == serial && (best == "" || onNetwork(best) && !onNetwork(t) || onNetwork(best) == onNetwork(t) && t < best) {
			best = t
		}
	}
	return best
}

// ways are, under mu, those by which a device is connected, the one in use first; none where there is one.
func (l *Lab) ways(serial string) (all []string) {
	best := l.bestWay(serial)
	for t, u := range l.units {
		if u.facts.Serial == serial && t != best {
			all = append(all, t)
		}
	}
	if len(all) == 0 {
		return nil
	}
	slices.Sort(all)
	return append([]string{best}, all...)
}

// ownSerial gives, under mu, what a device is known by that was just met: the serial that it tells, unless another device, which
// was started at another moment, tells the same.
func (l *Lab) ownSerial(transport string, u *unit) string {
	shared := false
	before := l.said[transport].Serial
	if before != u.told && !strings.HasPrefix(before, u.told+"@") {
		before = "" // another device
	}
	for t, o := range l.units {
		if t == transport || o.told != u.told {
			continue
		}
		if o.device.Boot() == u.device.Boot() {
			l.Log.Info("a device is connected in two ways", "device", o.facts.Serial, "ways", []string{t, transport})
			return o.facts.Serial
		}
		shared = true
		if o.facts.Serial == before {
			before = ""
		}
	}
	switch {
	case before != "":
		return before // what it was called when it was there last
	case !shared:
		return u.told
	}
	l.Log.Warn("several devices tell the same serial", "serial", u.told, "way", transport)
	return u.told + "@" + transport
}
