package triage

import (
	"slices"
	"strings"

	"tessellant/internal/core/verdict"
)

// Judged is a case that was judged in a leg.
type Judged struct {
	Case    string
	Verdict verdict.Verdict
}

// Explained is a family, and why it is on the devices on which it is.
type Explained struct {
	Family
	Rule *Rule // nil: nothing sets them apart
	Hint *Hint // its device is one of the others
}

// Explain finds for each family the rule that sets its legs apart from those in which the same cases passed. Judged gives the cases of each leg. A leg that
// failed there in another way, or never came so far, says nothing about the fault. Others are devices that took no part.
func Explain(families []Family, legs []Leg, judged [][]Judged, others []Leg) []Explained {
	out := make([]Explained, len(families))
	for i, f := range families {
		out[i].Family = f
		var failed []bool
		var some []Leg
		for j, l := range legs {
			_, shows := slices.BinarySearch(f.Legs, j)
			if !shows && !slices.ContainsFunc(judged[j], func(c Judged) bool {
				_, in := slices.BinarySearch(f.Cases, c.Case)
				return in && (c.Verdict == verdict.Passed || c.Verdict == verdict.Flaky && f.Signature.Kind != verdict.Flaky) // what passes at last does not have a fault that stays
			}) {
				continue
			}
			failed, some = append(failed, shows), append(some, l)
		}
		traits := TraitsOf(some)
		out[i].Rule = Why(failed, traits)
		if len(others) == 0 || len(f.Legs) < least {
			continue
		}
		all := TraitsOf(slices.Concat(some, others))
		for j := range all {
			all[j].Values = all[j].Values[len(some):]
		}
		out[i].Hint = Tell(failed, traits, all)
	}
	return out
}

// LayBy is the trait by which legs are best laid to see why: of the largest family that has a rule; one that is flaky only where no other has. "": there is none.
func LayBy(families []Explained) string {
	for _, flaky := range []bool{false, true} {
		most, trait := 0, ""
		for _, f := range families {
			if f.Rule != nil && len(f.Legs) > most && (f.Signature.Kind == verdict.Flaky) == flaky {
				most, trait = len(f.Legs), f.Rule.Literals[0].Trait
			}
		}
		switch trait {
		case "":
		case ofIOS:
			return "os"
		default:
			return trait
		}
	}
	return ""
}

// Sentence says what a device would tell: "fen-01 would tell: if it fails there, too, it fails on Android 9 or older; if not, with 2 GB of memory or less."
func (h Hint) Sentence(device string) string {
	either := func(all [][]Literal) string {
		var parts []string
		for _, ls := range all {
			parts = append(parts, (&Rule{Literals: ls}).Phrase())
		}
		return strings.Join(parts, " or ")
	}
	return device + " would tell: if it fails there, too, it fails " + either(h.Fails) + "; if not, " + either(h.Passes) + "."
}

// Match says for each family of before which of now's it is, by its id: they have a signature in common, or are alike. "": none.
func Match(now, before []Family) []string {
	owner := map[string]string{}
	for _, f := range now {
		owner[f.ID] = f.ID
		for _, j := range f.Joined {
			owner[j.Signature.ID()] = f.ID
		}
	}
	out := make([]string, len(before))
	for i, b := range before {
		for _, s := range append([]Signature{b.Signature}, joined(b)...) {
			if out[i] == "" {
				out[i] = owner[s.ID()]
			}
		}
		for _, f := range now[:min(len(now), maxAlike)] {
			if out[i] == "" && Alike(f.Signature, b.Signature) {
				out[i] = f.ID
			}
		}
	}
	return out
}

// maxAlike is how many families are compared word by word.
const maxAlike = 500

func joined(f Family) (out []Signature) {
	for _, j := range f.Joined {
		out = append(out, j.Signature)
	}
	return out
}

// Title says in one line what happened: where a crash is from, or what was said of it.
func (s Signature) Title(message string) string {
	const most = 140
	title, _, _ := strings.Cut(strings.TrimSpace(message), "\n")
	title, _, _ = strings.Cut(title, " among: ") // what else was on the screen
	if s.Kind == verdict.Crashed && s.Cause != "" && len(s.Frames) > 0 {
		parts := strings.Split(s.Frames[0], ".")
		title = s.Cause[strings.LastIndexByte(s.Cause, '.')+1:] + " in " + strings.Join(parts[max(0, len(parts)-2):], ".")
	}
	if title == "" {
		title = s.Cause
	}
	if title == "" {
		title = "nothing is said of it"
	}
	if r := []rune(title); len(r) > most {
		title = string(r[:most-1]) + "…"
	}
	return title
}
