// Package routes reads which servers the apps on a device may be led to: names and ports on the device, and where they lead on a person's own machine.
//
// A route is written [NAME:]PORT[=LOCAL]: an app that asks for NAME at PORT reaches the port LOCAL of 127.0.0.1 where the route was opened. NAME is route.test unless
// given (the domain is reserved for tests: RFC 6761, section 6.2), LOCAL is PORT. A workspace says which names may be led elsewhere: patterns NAME[:PORT], with *. for
// any names below one.
package routes

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

const (
	// Name is the name that a route has unless another is given, and the only one that every workspace allows from its beginning.
	Name = "route.test"
	// Most is how many routes may be opened at once.
	Most = 20
	// MostAllowed is how many patterns a workspace may have.
	MostAllowed = 50
	maxName     = 253
)

// Route leads from a name and a port on a device to a port of a person's own machine.
type Route struct {
	Host  string
	Port  int
	Local int
}

// At is what apps ask for, as route.test:3000.
func (r Route) At() string { return r.Host + ":" + strconv.Itoa(r.Port) }

func (r Route) String() string {
	if r.Local != r.Port && r.Local != 0 {
		return r.At() + "=" + strconv.Itoa(r.Local)
	}
	return r.At()
}

// Parse reads a route.
func Parse(s string) (r Route, err error) {
	at, local, other := strings.Cut(s, "=")
	host, port, named := strings.Cut(at, ":")
	if !named {
		host, port = Name, at
	}
	if r.Host, err = nameOf(host); err != nil {
		return r, err
	}
	if r.Port, err = portOf(port); err != nil {
		return r, err
	}
	if r.Local = r.Port; other {
		if r.Local, err = portOf(local); err != nil {
			return r, err
		}
	}
	return r, nil
}

// ParseAll reads several, no two of which lead from the same place.
func ParseAll(all []string) (out []Route, err error) {
	if len(all) > Most {
		return nil, fmt.Errorf("%d routes are too many at once; %d are the most", len(all), Most)
	}
	for _, s := range all {
		r, err := Parse(s)
		if err != nil {
			return nil, fmt.Errorf("the route %.100q: %w", s, err)
		}
		if slices.ContainsFunc(out, func(o Route) bool { return o.At() == r.At() }) {
			return nil, fmt.Errorf("the route %s is there twice", r.At())
		}
		out = append(out, r)
	}
	return out, nil
}

func portOf(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > 65535 || s != strconv.Itoa(n) {
		return 0, fmt.Errorf("%.20q is no port from 1 to 65535", s)
	}
	return n, nil
}

var errAddress = errors.New("an address can't be led elsewhere; use a name, such as " + Name)

// nameOf checks a name (RFC 1123, section 2.1).
func nameOf(s string) (string, error) {
	name := strings.ToLower(strings.TrimSuffix(s, "."))
	if _, err := netip.ParseAddr(name); err == nil {
		return "", errAddress
	}
	if name == "localhost" || strings.HasSuffix(name, ".localhost") {
		return "", errors.New("localhost is the device itself; use another name, such as " + Name)
	}
	bad := fmt.Errorf("%.100q is no name of a server, such as %s", s, Name)
	if len(name) > maxName || !strings.Contains(name, ".") {
		return "", bad
	}
	for label := range strings.SplitSeq(name, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' || strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return "", bad
		}
	}
	if last := name[strings.LastIndex(name, ".")+1:]; strings.Trim(last, "0123456789") == "" {
		return "", errAddress // as some programs read it
	}
	return name, nil
}

// Allowed are the patterns of names that may be led elsewhere.
type Allowed []string

// Usual is what a workspace allows from its beginning.
func Usual() Allowed { return Allowed{Name} }

// ParseAllowed reads patterns.
func ParseAllowed(all []string) (out Allowed, err error) {
	if len(all) > MostAllowed {
		return nil, fmt.Errorf("%d patterns are too many; %d are the most", len(all), MostAllowed)
	}
	out = Allowed{}
	for _, s := range all {
		name, port, has := strings.Cut(s, ":")
		below, wild := strings.CutPrefix(name, "*.")
		name, err := nameOf(below)
		if wild && err != nil && !strings.Contains(below, ".") { // as *.test
			_, err = nameOf("a." + below)
			name = strings.ToLower(below)
		}
		if err != nil {
			return nil, err
		}
		if wild {
			name = "*." + name
		}
		if has {
			if _, err := portOf(port); err != nil {
				return nil, err
			}
			name += ":" + port
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out, nil
}

// Allow says whether a route may be opened.
func (a Allowed) Allow(r Route) bool {
	return slices.ContainsFunc(a, func(p string) bool {
		name, port, has := strings.Cut(p, ":")
		if has && port != strconv.Itoa(r.Port) {
			return false
		}
		if below, wild := strings.CutPrefix(name, "*"); wild {
			return strings.HasSuffix(r.Host, below)
		}
		return name == r.Host
	})
}
