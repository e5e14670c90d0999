package triage

import "math"

// Standing is how a family stands against an earlier run.
type Standing string

// The standings.
const (
	New     Standing = "new"     // it did not show where it shows now, and that ran
	Still   Standing = "still"   // it shows in both
	Mended  Standing = "mended"  // it showed, and where it did it was tried again and did not
	NotRun  Standing = "not run" // it showed, and what showed it did not run again
	Unknown Standing = ""        // what shows it now did not run then
)

// Spot is where a case ran: on a device, set in some way.
type Spot struct{ Device, Set, Case string }

// Ran is a run as it is compared.
type Ran struct {
	Judged map[Spot]bool     // that passed or failed; what was lost, stopped or skipped is not here
	Shown  map[string][]Spot // by families' ids, where they showed
}

// Since says how each family of either run stands.
func Since(now, before Ran) map[string]Standing {
	out := map[string]Standing{}
	for id, spots := range now.Shown {
		if len(before.Shown[id]) > 0 {
			out[id] = Still
			continue
		}
		out[id] = Unknown
		for _, s := range spots {
			if before.Judged[s] {
				out[id] = New
			}
		}
	}
	for id, spots := range before.Shown {
		if len(now.Shown[id]) > 0 || len(spots) == 0 {
			continue
		}
		out[id] = Mended
		for _, s := range spots {
			if !now.Judged[s] {
				out[id] = NotRun
			}
		}
	}
	return out
}

// Seen is what became of a family on a build, where it shows now.
type Seen struct {
	Build         string
	Shown, Passed int // how often
}

// FirstBad says since when a family shows, by its history with the oldest build first: with the build since which no build is known that was good, and the last good one
// before it, "" where none is known. False: it does not show on the newest build that was tried.
func FirstBad(history []Seen) (lastGood, firstBad string, shows bool) {
	for i := len(history) - 1; i >= 0; i-- {
		switch h := history[i]; {
		case h.Shown > 0:
			firstBad = h.Build
		case h.Passed > 0:
			return h.Build, firstBad, firstBad != ""
		}
	}
	return "", firstBad, firstBad != ""
}

// Rate is how often something happened, of how many times.
type Rate struct{ Times, Of int }

// Quiet is the chance that something that happens as often as it did would not happen so many times in a row: a small one says that it has gone.
func (r Rate) Quiet(times int) float64 {
	if r.Of == 0 {
		return 1
	}
	return math.Pow(1-float64(r.Times)/float64(r.Of), float64(times))
}

// Interval is between which shares the true one lies, 19 times of 20: the score interval (Wilson, Probable inference, the law of succession, and statistical inference,
// Journal of the American Statistical Association 22, 1927). Of nothing it is all there is.
func (r Rate) Interval() (low, high float64) {
	if r.Of == 0 {
		return 0, 1
	}
	const z = 1.959964
	n, p := float64(r.Of), float64(r.Times)/float64(r.Of)
	middle := (p + z*z/(2*n)) / (1 + z*z/n)
	half := z / (1 + z*z/n) * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	return max(0, middle-half), min(1, middle+half)
}
