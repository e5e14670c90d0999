package verdict

// Session gives the verdict of a session from what was seen of it (passed, failed and expired are then only inferred
// from how it ended), what somebody marked it as a whole, "" for nothing, and the verdicts of its cases, "" for those that were
// left open. Inferred says that nobody said how it came out: neither the whole nor, where one of its cases was left open, that case.
//
// What was seen for certain (a crash, a lost device, a person's stop, a start that failed) counts beside what the cases say; a mark for
// the whole takes the place of what was inferred, and of what the cases say.
func Session(seen, marked Verdict, cases ...Verdict) (v Verdict, inferred bool) {
	var said []Verdict
	for _, c := range cases {
		if c != "" {
			said = append(said, c)
		}
	}
	certain := seen == Crashed || seen == Lost || seen == Stopped || seen == Invalid
	switch {
	case marked != "" && certain:
		return Roll(seen, marked), false
	case marked != "":
		return marked, false
	case certain:
		return Roll(append(said, seen)...), false
	case len(said) > 0 && seen == Expired: // its client went away before it had said all
		return Roll(append(said, seen)...), false
	case len(said) == 0:
		return seen, true
	}
	v = Roll(said...)
	if len(said) == len(cases) || v == Roll(append(said, seen)...) && v != Passed {
		return v, false
	}
	return Roll(append(said, seen)...), true
}
