// Package dispatch decides which waiting leg goes onto which free device.
//
// It is fair between workspaces, then between runs: each turn goes to the
// workspace, and in it to the run, that has the fewest devices. Within a run the leg
// that was made first goes first. In: what waits, what is free, what is held
// already. Out: pairs. Nothing is held here; the caller writes the holds.
package dispatch

import "sort"

// Leg is one leg that waits for a device.
type Leg struct {
	ID, Run, Workspace string
	Wants              []string // ids of the devices that will do, best first
}

// Held says how many devices a workspace and a run hold at present.
type Held struct{ Workspaces, Runs map[string]int }

// Pair is one leg and the device it should get.
type Pair struct{ Leg, Device string }

// Match pairs waiting legs with free devices. Legs come in the order they were
// made; each device and each leg is used at most once.
func Match(waiting []Leg, free []string, held Held) []Pair {
	isFree := map[string]bool{}
	for _, d := range free {
		isFree[d] = true
	}
	inWorkspace, inRun := copied(held.Workspaces), copied(held.Runs)
	left := append([]Leg(nil), waiting...)
	var pairs []Pair
	for len(isFree) > 0 && len(left) > 0 {
		sort.SliceStable(left, func(i, j int) bool {
			a, b := left[i], left[j]
			if inWorkspace[a.Workspace] != inWorkspace[b.Workspace] {
				return inWorkspace[a.Workspace] < inWorkspace[b.Workspace]
			}
			return inRun[a.Run] < inRun[b.Run]
		})
		took := false
		for i, leg := range left {
			device := firstFree(leg.Wants, isFree)
			if device == "" {
				continue
			}
			delete(isFree, device)
			pairs = append(pairs, Pair{leg.ID, device})
			inWorkspace[leg.Workspace]++
			inRun[leg.Run]++
			left = append(left[:i], left[i+1:]...)
			took = true
			break
		}
		if !took {
			break
		}
	}
	return pairs
}

func firstFree(wants []string, free map[string]bool) string {
	for _, d := range wants {
		if free[d] {
			return d
		}
	}
	return ""
}

func copied(m map[string]int) map[string]int {
	out := make(map[string]int, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}
