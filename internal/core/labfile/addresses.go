package labfile

// Where pages may lead to: hosts, some with a port, some with all that is below a name.

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Address is a server, or all servers below a name.
type Address struct {
	Host  string // in small letters; behind a "*.": a name, for all below it
	Port  string // "": any
	Below bool
}

// serverForm takes a server apart: an IPv6 address in brackets or a host, and a port.
var serverForm = regexp.MustCompile(`^(?:\[([0-9a-f:.]+)\]|([a-z0-9_](?:[a-z0-9_.-]*[a-z0-9_])?))(?::(\d{1,5}))?$`)

// addressOf reads tides.example, *.tides.example, 10.0.0.7:8080, [::1]:8080.
func addressOf(text string) (a Address, ok bool) {
	text = strings.ToLower(strings.TrimSpace(text))
	if rest, below := strings.CutPrefix(text, "*."); below {
		a.Below, text = true, rest
	}
	m := serverForm.FindStringSubmatch(text)
	if m == nil {
		return a, false
	}
	a.Host, a.Port = m[1]+m[2], m[3]
	if n, err := strconv.ParseUint(a.Port, 10, 16); a.Port != "" && (err != nil || n == 0) {
		return a, false
	}
	if m[1] != "" { // RFC 3986, section 3.2.2
		at, err := netip.ParseAddr(m[1])
		return a, err == nil && at.Is6() && !a.Below
	}
	return a, true
}

func (r *reader) addresses(n *yaml.Node) (out []Address) {
	for _, x := range r.list(n, "addresses") {
		text := r.text(x, "addresses")
		a, ok := addressOf(text)
		if !ok && text != "" {
			r.say(x, fmt.Sprintf("%.80q is no server", text), "write a name, a name with *. before it, or an address; with :port where only that is meant")
			continue
		}
		out = append(out, a)
	}
	return out
}

// Leads says whether pages may lead to a server, and whether it was named itself: then it may be on the host's own network. Without addresses, pages may lead
// everywhere but to that.
func (l *Lab) Leads(host, port string) (may, named bool) {
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	for _, a := range l.Addresses {
		switch {
		case a.Port != "" && a.Port != port:
		case a.Host == host && !a.Below:
			return true, true
		case a.Below && strings.HasSuffix(host, "."+a.Host):
			may = true
		}
	}
	return may || len(l.Addresses) == 0, false
}
