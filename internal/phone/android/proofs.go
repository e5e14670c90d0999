package android

// Proofs that what was changed is back as it was: for each line of the journal, what to ask of the device, and what it must say.

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"tessellant/internal/core/conditions"
	"tessellant/internal/phone"
)

// proof is what to ask of a device, and what it must say, where a line of the journal was undone.
type proof struct {
	read string
	want func(out string) bool
}

// proofs says how it can be seen that lines were undone, the last first: of several for one thing the first counts, which was done last.
func proofs(lines []string) (out []proof) {
	known := map[string]bool{}
	for _, l := range lines {
		p := proofOf(strings.Fields(strings.ReplaceAll(l, "'", "")))
		if p.read == "" || known[p.read] {
			continue
		}
		known[p.read] = true
		out = append(out, p)
	}
	return out
}

func proofOf(f []string) proof {
	is := func(want string) func(string) bool { return func(out string) bool { return value(out) == want } }
	has := func(want string) func(string) bool {
		return func(out string) bool { return strings.Contains(out, want) }
	}
	switchIs := func(on bool) func(string) bool {
		return func(out string) bool { return (switched(out) == conditions.On) == on }
	}
	at := func(i int) string {
		if i < len(f) {
			return f[i]
		}
		return ""
	}
	service := map[string]string{"wifi": "wifi_on", "data": "mobile_data", "bluetooth": "bluetooth_on"}
	switch at(0) + " " + at(1) {
	case "settings put":
		return proof{"settings get " + at(2) + " " + at(3), is(strings.Join(f[min(4, len(f)):], " "))}
	case "settings delete":
		return proof{"settings get " + at(2) + " " + at(3), is("null")}
	case "cmd uimode":
		return proof{"cmd uimode night", has("Night mode: " + at(3))}
	case "ime set":
		return proof{"settings get secure default_input_method", is(at(2))}
	case "wm density":
		return proof{"wm density", func(out string) bool {
			now, by := density(out)
			return strconv.Itoa(now) == at(2) || at(2) == "reset" && now == by
		}}
	case "svc wifi", "svc data", "svc bluetooth":
		return proof{"settings get global " + service[at(1)], switchIs(at(2) == "enable")}
	case "cmd bluetooth_manager":
		return proof{"settings get global bluetooth_on", switchIs(at(2) == "enable")}
	case "cmd connectivity":
		return proof{"cmd connectivity airplane-mode", has(at(3) + "d")}
	case "cmd alarm":
		return proof{"getprop persist.sys.timezone", is(at(3))}
	case "cmd location":
		if at(2) == "providers" {
			return proof{"dumpsys location", func(out string) bool { return !strings.Contains(out, "gps provider [mock]") }}
		}
		return proof{"settings get secure location_mode", switchIs(at(3) == "true")}
	}
	return proof{} // an app's language goes with the app
}

// undone sees that lines were undone: it asks the device how all that they changed stands now.
func (d *Device) undone(ctx context.Context, lines []string) error {
	const doing = "put its settings back"
	all := proofs(lines)
	reads := make([]string, len(all))
	for i, p := range all {
		reads[i] = p.read
	}
	return d.stands(ctx, doing, reads, func(i int, out string) bool { return all[i].want(out) }, func(i int, out string) *phone.Refused {
		return &phone.Refused{Doing: doing, Why: fmt.Sprintf("%s says %q afterwards", reads[i], clip(out)), Remedy: "set it by hand, and let the device pass a check"}
	})
}
