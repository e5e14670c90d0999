// Package netprofile has the conditions of a network: how long a round trip takes, how much goes through in each direction, and how much is lost.
//
// In: a name such as edge, or numbers such as 120ms/2000/500/1. Out: a Profile. The names and their numbers are our own; docs/5-runs.md lists them.
package netprofile

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/nearest"
)

// Profile is how a network is.
type Profile struct {
	Name    string
	Offline bool
	RTT     time.Duration // of a round trip, besides what the network has anyway
	Down    int64         // bits a second to the device; 0: as fast as it goes
	Up      int64         // and from it
	Loss    float64       // percent of packets that must be sent again
	About   string
}

// Named are the profiles that have a name.
var Named = []Profile{
	{Name: "full", About: "the network as it is"},
	{Name: "offline", Offline: true, About: "no connection at all"},
	{Name: "edge", RTT: 400 * time.Millisecond, Down: 240_000, Up: 120_000, Loss: 1, About: "the slowest that phones still meet in the country"},
	{Name: "3g", RTT: 150 * time.Millisecond, Down: 2_000_000, Up: 700_000, About: "a crowded cell"},
	{Name: "4g", RTT: 60 * time.Millisecond, Down: 20_000_000, Up: 8_000_000, About: "an ordinary mobile connection"},
	{Name: "5g", RTT: 20 * time.Millisecond, Down: 150_000_000, Up: 40_000_000, About: "a good mobile connection"},
	{Name: "far-wifi", RTT: 40 * time.Millisecond, Down: 4_000_000, Up: 1_000_000, Loss: 2, About: "Wi-Fi two rooms away"},
	{Name: "moving-train", RTT: 250 * time.Millisecond, Down: 1_000_000, Up: 300_000, Loss: 5, About: "cells that change all the time"},
	{Name: "satellite", RTT: 650 * time.Millisecond, Down: 10_000_000, Up: 2_000_000, About: "wide and far"},
}

// Names are the names of all profiles.
func Names() (out []string) {
	for _, p := range Named {
		out = append(out, p.Name)
	}
	return out
}

// Full says whether the profile changes nothing.
func (p Profile) Full() bool {
	return !p.Offline && p.RTT == 0 && p.Down == 0 && p.Up == 0 && p.Loss == 0
}

// Parse reads a profile: a name, or RTT/DOWN/UP/LOSS with the time as 120ms, the rates in kbit/s and the loss in percent. What is left out at the end is not
// limited.
func Parse(text string) (p Profile, err error) {
	text = strings.ToLower(strings.TrimSpace(text))
	for _, x := range Named {
		if x.Name == text {
			return x, nil
		}
	}
	if !strings.ContainsAny(text, "/0123456789") || slices.ContainsFunc([]rune(text), func(r rune) bool { return r >= 'a' && r <= 'z' && r != 'm' && r != 's' }) {
		return p, fmt.Errorf("there is no network %.40q%s The networks are %s, or numbers such as 120ms/2000/500/1", text, cmp.Or(nearest.Meant(text, Names()), "."), strings.Join(Names(), ", "))
	}
	parts := strings.Split(text, "/")
	if len(parts) > 4 {
		return p, fmt.Errorf("%.40q has more than RTT/DOWN/UP/LOSS", text)
	}
	p.Name = text
	if p.RTT, err = time.ParseDuration(parts[0]); err != nil || p.RTT < 0 || p.RTT > 10*time.Second {
		return Profile{}, fmt.Errorf("%.40q is no time of a round trip from 0ms to 10s, such as 120ms", parts[0])
	}
	for i, to := range []*int64{&p.Down, &p.Up} {
		if len(parts) <= i+1 || parts[i+1] == "" {
			continue
		}
		kbit, err := strconv.ParseInt(parts[i+1], 10, 64)
		if err != nil || kbit < 8 || kbit > 10_000_000 {
			return Profile{}, fmt.Errorf("%.40q is no rate from 8 to 10000000 kbit/s", parts[i+1])
		}
		*to = kbit * 1000
	}
	if len(parts) == 4 {
		if p.Loss, err = strconv.ParseFloat(parts[3], 64); err != nil || !(p.Loss >= 0 && p.Loss <= 50) {
			return Profile{}, fmt.Errorf("%.40q is no loss from 0 to 50 percent", parts[3])
		}
	}
	return p, nil
}

// Numbers says what a profile does.
func (p Profile) Numbers() string {
	switch {
	case p.Offline:
		return "nothing goes through"
	case p.Full():
		return "nothing is held back"
	}
	rate := func(bits int64) string {
		if bits == 0 {
			return "as it is"
		}
		return strconv.FormatFloat(float64(bits)/1e6, 'f', -1, 64) + " Mbit/s"
	}
	return fmt.Sprintf("round trip + %d ms, down %s, up %s, loss %g %%", p.RTT.Milliseconds(), rate(p.Down), rate(p.Up), p.Loss)
}
