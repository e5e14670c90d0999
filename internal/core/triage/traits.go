package triage

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

// Leg is where cases ran: a device, and how it was set.
type Leg struct {
	Device     devices.Facts
	Conditions conditions.Set
}

// words are how a trait is spoken of. Each takes the value.
type words struct {
	is, atMost, atLeast string
	newer, older        string // the others, where there is a word for them
}

// said are the traits that people think of first, in that order; what orders has words for thresholds.
var said = []struct {
	name string
	words
}{
	{"platform", words{is: "on %s"}},
	{"api", words{"on Android %s", "on Android %s or older", "on Android %s or newer", "newer", "older"}},
	{ofIOS, words{"on iOS %s", "on iOS %s or older", "on iOS %s or newer", "newer", "older"}},
	{"language", words{is: "in %s"}},
	{"form", words{is: "on %ss"}},
	{"width", words{"on screens %s dp wide", "on screens at most %s dp wide", "on screens at least %s dp wide", "wider", "narrower"}},
	{"memory", words{"with %s GB of memory", "with %s GB of memory or less", "with %s GB of memory or more", "with more", "with less"}},
	{conditions.Orientation, words{is: "in %s"}},
	{conditions.Dark, words{is: "with dark mode %s"}},
	{conditions.FontScale, words{"with font scale %s", "with font scale %s or smaller", "with font scale %s or larger", "with a larger one", "with a smaller one"}},
	{conditions.DisplaySize, words{"with display size %s", "with display size %s or smaller", "with display size %s or larger", "with a larger one", "with a smaller one"}},
	{conditions.Network, words{is: "with the network %s"}},
	{"processor", words{is: "with the processor %s"}},
	{"density", words{"with %s dpi", "with %s dpi or less", "with %s dpi or more", "with more", "with less"}},
	{"origin", words{is: "on %s devices"}},
	{"maker", words{is: "of %s"}},
	{"model", words{is: "on %s"}},
	{"place", words{is: "in %s"}},
}

// plainTraits are how many of them people think of first.
const plainTraits = 12

// ofIOS is iOS's version. Android's has a trait of devices: its API level.
const ofIOS = "ios"

// TraitsOf gives what the legs differ by: facts of the devices, as they were set, conditions and labels. What is the same of all is left out.
func TraitsOf(legs []Leg) (out []Trait) {
	names := make([]string, 0, len(said))
	for _, s := range said {
		names = append(names, s.name)
	}
	more := map[string]bool{}
	for _, l := range legs {
		for n := range l.Conditions {
			more[n] = true
		}
		for n := range l.Device.Labels {
			more[devices.OfLabel+n] = true
		}
	}
	for _, n := range slices.Sorted(maps.Keys(more)) {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	var own []map[string]string // the conditions win over the device's own
	for _, l := range legs {
		own = append(own, l.Conditions.Traits(l.Device.Traits()))
	}
	for i, n := range names {
		t := Trait{Name: n, Plain: i < plainTraits || i >= len(said) && !strings.HasPrefix(n, devices.OfLabel)}
		differ := map[string]bool{}
		for j, l := range legs {
			v := valueOf(n, own[j][n], l.Device)
			differ[v.Text] = true
			t.Values = append(t.Values, v)
		}
		if len(differ) > 1 {
			out = append(out, t)
		}
	}
	return out
}

// valueOf makes a value of what a leg has of a trait.
func valueOf(name, text string, device devices.Facts) (v Value) {
	if name == ofIOS {
		if device.Platform == "ios" && device.OS != "" {
			v = Value{device.OS, versionNumber(device.OS), true}
		}
		return v
	}
	v.Text = text
	if s := wordsOf(name); s.atMost != "" && v.Text != "" {
		if n, err := strconv.ParseFloat(v.Text, 64); err == nil {
			v.Number, v.Orders = n, true
		}
	}
	switch {
	case name == "platform" && devices.Platforms[text] != "":
		v.Text = devices.Platforms[text]
	case name == "api" && device.OS != "" && text != "":
		v.Text = device.OS
	case (name == conditions.FontScale || name == conditions.DisplaySize) && v.Text == "":
		v = Value{"1", 1, true}
	}
	return v
}

// versionNumber puts versions in order: 16.7.10 is behind 16.7.9, and before 16.10.
func versionNumber(version string) (n float64) {
	weight := 1.0
	for _, part := range strings.SplitN(version, ".", 3) {
		x, _ := strconv.ParseFloat(part, 64)
		n += x * weight
		weight /= 1000
	}
	return n
}

func wordsOf(name string) words {
	for _, s := range said {
		if s.name == name {
			return s.words
		}
	}
	if l, ok := strings.CutPrefix(name, devices.OfLabel); ok {
		return words{is: "with the label " + l + "=%s"}
	}
	return words{is: "with " + name + " %s"}
}

// String says of which devices the literal is true: "on Android 9 or older".
func (l Literal) String() string {
	w, value := wordsOf(l.Trait), l.Value
	if l.Trait == "language" {
		if tag, err := language.Parse(value); err == nil {
			if name := display.English.Languages().Name(tag); name != "" {
				value = name
			}
		}
	}
	form := w.is
	switch l.Op {
	case AtMost:
		form = w.atMost
	case AtLeast:
		form = w.atLeast
	}
	return fmt.Sprintf(form, value)
}

// Phrase says of which devices the rule is true.
func (r *Rule) Phrase() string {
	var parts []string
	for _, l := range r.Literals {
		parts = append(parts, l.String())
	}
	return strings.Join(parts, " and ")
}

// Sentence says what the rule says of failures of a kind: "All 3 on Android 9 or older crash; none of the 13 newer."
func (r *Rule) Sentence(kind verdict.Verdict) string {
	verb := map[verdict.Verdict][2]string{verdict.Crashed: {"crashes", "crash"}, verdict.Expired: {"runs out of time", "run out of time"}, verdict.Flaky: {"is flaky", "are flaky"}}[kind]
	if verb[0] == "" {
		verb = [2]string{"fails", "fail"}
	}
	return r.Says(verb[0], verb[1])
}

// Says is the sentence with other verbs, of one and of several: "All 3 on screens at most 340 dp wide show it; none of the 13 wider."
func (r *Rule) Says(one, many string) string {
	verb := [2]string{one, many}
	others := "others"
	if len(r.Literals) == 1 && !r.Lacking {
		switch w := wordsOf(r.Literals[0].Trait); {
		case r.Literals[0].Op == AtMost && w.newer != "":
			others = w.newer
		case r.Literals[0].Op == AtLeast && w.older != "":
			others = w.older
		}
	}
	some := func(n, of int) string {
		switch {
		case n == of && n == 1:
			return "The one"
		case n == of && n == 2:
			return "Both"
		case n == of:
			return fmt.Sprintf("All %d", n)
		}
		return fmt.Sprintf("%d of the %d", n, of)
	}
	s := some(r.FailIn, r.FailIn+r.PassIn) + " " + r.Phrase() + " " + verb[min(r.FailIn-1, 1)] + "; "
	switch out := r.FailOut + r.PassOut; {
	case r.FailOut > 0:
		s += fmt.Sprintf("%d of the %d %s, too.", r.FailOut, out, others)
	case out == 1:
		s += "not the other one."
	default:
		s += fmt.Sprintf("none of the %d %s.", out, others)
	}
	return s
}
