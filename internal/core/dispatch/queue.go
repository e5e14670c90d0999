package dispatch

import (
	"slices"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/work"
)

// Unit is a device as the queue sees it.
type Unit struct {
	ID    string
	Facts devices.Facts
	devices.Standing
}

// Candidates lists the devices that will do for a piece of work, by id, the best first: those that can be used now come before
// those that can't. Tried are those on which an attempt was lost: then one that is like the wanted one will do, too. Moved says that
// there is such a one.
func Candidates(w work.Wants, tried []string, all []Unit) (ids []string, moved bool) {
	if w.Device != "" {
		return oneOrLike(w, tried, all)
	}
	filter, err := devices.ParseFilter(w.Where, w.Units)
	if err != nil {
		return nil, false // it was seen to be right when it was written
	}
	var later []string
	for _, d := range all {
		if d.Facts.Platform == "" || !filter.Match(d.Facts) {
			continue
		}
		if w.Needs != nil {
			if what, _ := w.Needs.Unmet(d.Facts); what != "" {
				continue
			}
		}
		if d.Usable {
			ids = append(ids, d.ID)
		} else {
			later = append(later, d.ID)
		}
	}
	return append(ids, later...), false
}

func oneOrLike(w work.Wants, tried []string, all []Unit) (ids []string, moved bool) {
	if len(tried) == 0 && !w.Like {
		return []string{w.Device}, false
	}
	i := slices.IndexFunc(all, func(d Unit) bool { return d.ID == w.Device })
	first := !slices.Contains(tried, w.Device) && i >= 0 && all[i].Usable // it goes before those that are like it
	if first {
		ids = append(ids, w.Device)
	}
	for _, d := range all {
		if i >= 0 && d.ID != w.Device && !slices.Contains(tried, d.ID) && d.Usable && d.Facts.Like(all[i].Facts) {
			ids, moved = append(ids, d.ID), true
		}
	}
	if !first {
		ids = append(ids, w.Device)
	}
	return ids, moved
}

// Asked is a piece of work that waits, with the devices that will do for it.
type Asked struct {
	ID      string
	Devices []string
}

// Places gives each piece of work that waits its place: 1, and how many asked before it for one of the devices that will do for
// it. The dispatcher is fair between workspaces and runs, so that a place is a bound and not a promise. Asked comes in the order in
// which it was made.
func Places(asked []Asked) map[string]int {
	out := make(map[string]int, len(asked))
	before := map[string][]int{} // device → who asked for it, by number
	for n, a := range asked {
		if len(a.Devices) == 1 {
			out[a.ID] = 1 + len(before[a.Devices[0]])
		} else {
			who := map[int]bool{}
			for _, d := range a.Devices {
				for _, m := range before[d] {
					who[m] = true
				}
			}
			out[a.ID] = 1 + len(who)
		}
		for _, d := range a.Devices {
			before[d] = append(before[d], n)
		}
	}
	return out
}
