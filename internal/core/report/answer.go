package report

import (
	"fmt"
	"strings"

	"tessellant/internal/core/verdict"
)

// Group is one family of failures, as a sentence speaks of it.
type Group struct {
	Kind  verdict.Verdict
	Legs  int
	Cases []string
	Where string // of which devices it is true; "": nothing sets them apart
	All   bool   // and of all of them
	Since string // "new", "since 1.8.0"; "": nobody knows
	Known string // why it does not count: "as known (KELP-12)"; "": it counts
}

// maxGroups is how many families a sentence speaks of.
const maxGroups = 3

// Answer says what a run says, in one sentence: "Not good: 3 of 16 devices crash in “tide chart”, all on Android 9 or older, since 1.8.0; 2 fail in “total of
// decimals”, all in German. 11 are fine." While legs go on, or where no case failed, it counts as Sentence does. Groups are in the order in which they matter; those
// that are flaky are left out.
func Answer(what string, legs []verdict.Verdict, groups []Group) string {
	going := len(legs)
	for _, n := range verdict.Count(legs...) {
		going -= n
	}
	var count, known []Group
	for _, g := range groups {
		switch {
		case g.Kind == verdict.Flaky:
		case g.Known != "":
			known = append(known, g)
		default:
			count = append(count, g)
		}
	}
	if going > 0 || len(count)+len(known) == 0 {
		return Sentence(what, legs)
	}
	said, left := append(count, known...), 0
	if len(said) > maxGroups {
		said, left = said[:maxGroups], len(said)-maxGroups
	}
	var parts []string
	for i, g := range said {
		number := fmt.Sprint(g.Legs)
		if i == 0 {
			number = fmt.Sprintf("%d of %d %ss", g.Legs, len(legs), what)
			if len(legs) == 1 {
				number = "the " + what
			}
		}
		part := number + " " + verb(g.Kind, g.Legs)
		if g.Known != "" {
			part += " " + g.Known
		}
		if where := cases(g.Cases); where != "" {
			part += " in " + where
		}
		switch {
		case g.Where != "" && g.All && g.Legs > 1:
			part += ", " + all(g.Legs) + " " + g.Where
		case g.Where != "" && g.All:
			part += ", " + g.Where
		case g.Where != "":
			part += ", most of them " + g.Where
		}
		if g.Since != "" {
			part += ", " + g.Since
		}
		parts = append(parts, part)
	}
	if left > 0 {
		parts = append(parts, Many(left, "more kind")+" of failure")
	}
	s := strings.Join(parts, "; ")
	switch {
	case len(count) > 0:
		s = "Not good: " + s + "."
	default:
		s = "Nothing new: " + s + "."
	}
	return s + rest(legs)
}

// rest says how the legs came out that did not fail: " 11 are fine, 1 was lost."
func rest(legs []verdict.Verdict) string {
	var parts []string
	c := verdict.Count(legs...)
	if n := c[verdict.Passed]; n == 1 {
		parts = append(parts, "1 is fine")
	} else if n > 1 {
		parts = append(parts, fmt.Sprintf("%d are fine", n))
	}
	for _, v := range []verdict.Verdict{verdict.Flaky, verdict.Lost, verdict.Invalid, verdict.Stopped, verdict.Skipped} {
		switch n := c[v]; {
		case n == 0:
		case v == verdict.Flaky && n == 1:
			parts = append(parts, "1 is flaky")
		case v == verdict.Flaky:
			parts = append(parts, fmt.Sprintf("%d are flaky", n))
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n, phrase(v, n)))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return " " + strings.Join(parts, ", ") + "."
}

func verb(v verdict.Verdict, n int) string {
	words := map[verdict.Verdict][2]string{verdict.Crashed: {"crashes", "crash"}, verdict.Expired: {"runs out of time", "run out of time"}}[v]
	if words[0] == "" {
		words = [2]string{"fails", "fail"}
	}
	if n == 1 {
		return words[0]
	}
	return words[1]
}

func all(n int) string {
	if n == 2 {
		return "both"
	}
	return "all"
}

// Many counts things: "1 leg", "3 legs".
func Many(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Few names the first of so many things, and counts the others: "fen-02, orr-01 and 3 more".
func Few(first []string, of, most int) string {
	if of <= most {
		return strings.Join(first, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(first[:most], ", "), of-most)
}

// LegsAre is what the legs of a run are called: devices, unless there may be several on one. Devices are those of its lines, as they are named there.
func LegsAre(variants int, devices []string) string {
	on := map[string]bool{}
	for _, d := range devices {
		if !strings.HasPrefix(d, "serial=") || on[d] {
			return "leg"
		}
		on[d] = true
	}
	if variants > 1 {
		return "leg"
	}
	return "device"
}

// cases names the case in which something happened, or says in how many it did.
func cases(names []string) string {
	switch len(names) {
	case 0:
		return ""
	case 1:
		return "“" + CaseTitle(names[0]) + "”"
	}
	return fmt.Sprintf("%d cases", len(names))
}

// CaseTitle is how a case is spoken of: "tides.test_tide_chart" is “tide chart”.
func CaseTitle(name string) string {
	_, after, cut := strings.Cut(name, ".test_")
	if !cut {
		after, cut = strings.CutPrefix(name, "test_")
	}
	if !cut {
		return strings.TrimSpace(name)
	}
	after, with, has := strings.Cut(after, "/")
	if after = strings.TrimSpace(strings.ReplaceAll(after, "_", " ")); after == "" {
		return name
	}
	if has {
		after += " (" + with + ")"
	}
	return after
}
