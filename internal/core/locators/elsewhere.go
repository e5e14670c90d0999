package locators

// What a locator means on other devices: on the kept tree of each that is most like the screen at hand.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Kept is a tree that a run kept of a device.
type Kept struct {
	Device string
	*Index
}

// alikeFrom is how much of what two screens show by name they must have in common to be taken for the same one.
const alikeFrom = 0.5

// Likeness is how much of what is named (ids, labels, texts without digits) two screens have in common: from 0 to 1, the Jaccard index.
func (x *Index) Likeness(o *Index) float64 {
	both, either := 0, 0
	for name := range x.names {
		if o.names[name] {
			both++
		}
	}
	if either = len(x.names) + len(o.names) - both; either == 0 {
		return 0
	}
	return float64(both) / float64(either)
}

// Others picks for each device the tree that is most like this screen, of two alike the one that comes first; devices without any that is like it are left out.
func (x *Index) Others(kept []Kept) []Kept {
	best := map[string]Kept{}
	most := map[string]float64{}
	for _, k := range kept {
		if l := x.Likeness(k.Index); l >= alikeFrom && l > most[k.Device] {
			best[k.Device], most[k.Device] = k, l
		}
	}
	out := slices.Collect(maps.Values(best))
	slices.SortFunc(out, func(a, b Kept) int { return strings.Compare(a.Device, b.Device) })
	return out
}

// Count is how many elements a locator means on a device.
type Count struct {
	Device string
	N      int
}

// Counts says of each of the others how many elements a locator means there.
func Counts(others []Kept, css string) []Count {
	out := make([]Count, 0, len(others))
	for _, k := range others {
		out = append(out, Count{k.Device, k.Means(css)})
	}
	return out
}

// maxNamed is how many devices are named in a sentence.
const maxNamed = 3

// Say says counts in a few words, what is most usual first: "1 on 15 of 16; 2 on emu-03". Empty: there are none.
func Say(counts []Count) string {
	on := map[int][]string{}
	for _, c := range counts {
		on[c.N] = append(on[c.N], c.Device)
	}
	ns := slices.SortedFunc(maps.Keys(on), func(a, b int) int { return cmp.Or(len(on[b])-len(on[a]), a-b) })
	var parts []string
	for i, n := range ns {
		switch {
		case i == 0 && len(ns) == 1 && len(counts) > 1:
			parts = append(parts, fmt.Sprintf("%d on all %d", n, len(counts)))
		case i == 0 && len(counts) > 1:
			parts = append(parts, fmt.Sprintf("%d on %d of %d", n, len(on[n]), len(counts)))
		case len(on[n]) > maxNamed:
			parts = append(parts, fmt.Sprintf("%d on %s and %d more", n, strings.Join(on[n][:maxNamed], ", "), len(on[n])-maxNamed))
		default:
			parts = append(parts, fmt.Sprintf("%d on %s", n, strings.Join(on[n], ", ")))
		}
	}
	return strings.Join(parts, "; ")
}
