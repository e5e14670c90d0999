// Package dispatch decides which waiting leg goes onto which free device.
//
// It is fair between workspaces, then between runs: each turn goes to the
// workspace, and in it to the run, that has the fewest devices. Within a run the leg
// that was made first goes first. In: what waits, what is free, what is held
// already. Out: pairs. Nothing is held here; the caller writes the holds.
package dispatch

import (
	"cmp"
	"container/heap"
)

// Leg is one leg that waits for a device.
type Leg struct {
	ID, Run, Workspace string
	Wants              []string // ids of the devices that will do, best first
}

// Held says how many devices a workspace and a run hold at present.
type Held struct{ Workspaces, Runs map[string]int }

// Labs says which devices belong to labs that lend only so many at a time, and how many more they lend now. The zero Labs has none.
type Labs struct {
	Of   map[string]string // device → lab
	Room map[string]int    // lab → devices
}

// full says whether a device can't be had because its lab lends no more.
func (l Labs) full(device string) bool {
	lab, limited := l.Of[device]
	return limited && l.Room[lab] <= 0
}

// take notes that a device is taken.
func (l Labs) take(device string) {
	if lab, limited := l.Of[device]; limited {
		l.Room[lab]--
	}
}

// Pair is one leg and the device it should get.
type Pair struct{ Leg, Device string }

// Match pairs waiting legs with free devices. Legs come in the order they were
// made; each device and each leg is used at most once.
//
// A leg for which no device is free now can't get one later in the same round, so that each leg is looked at once: the work grows with the
// number of legs, and with the logarithm of the number of runs.
//
// Labs are changed as their devices are taken.
func Match(waiting []Leg, free []string, held Held, labs Labs) []Pair {
	isFree := make(map[string]bool, len(free))
	for _, d := range free {
		isFree[d] = true
	}
	all := workspaces(waiting, held)
	heap.Init(&all)
	var pairs []Pair
	for len(isFree) > 0 && len(all) > 0 {
		w := all[0]
		r := w.runs[0]
		i := r.legs[0]
		if r.legs = r.legs[1:]; len(r.legs) == 0 {
			heap.Pop(&w.runs)
		} else {
			heap.Fix(&w.runs, 0)
		}
		if device := firstFree(waiting[i].Wants, isFree, labs); device != "" {
			delete(isFree, device)
			labs.take(device)
			pairs = append(pairs, Pair{waiting[i].ID, device})
			w.has++
			r.has++
			if len(r.legs) > 0 {
				heap.Fix(&w.runs, 0)
			}
		}
		if len(w.runs) == 0 {
			heap.Pop(&all)
		} else {
			heap.Fix(&all, 0)
		}
	}
	return pairs
}

// turn is a run whose legs wait.
type turn struct {
	has  int   // devices
	legs []int // that wait, by number
}

type turns []*turn

func (t turns) Len() int           { return len(t) }
func (t turns) Less(i, j int) bool { return t[i].before(t[j]) < 0 }
func (t turns) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }
func (t *turns) Push(x any)        { *t = append(*t, x.(*turn)) }
func (t *turns) Pop() any {
	x := (*t)[len(*t)-1]
	*t = (*t)[:len(*t)-1]
	return x
}

func (t *turn) before(o *turn) int { return cmp.Or(t.has-o.has, t.legs[0]-o.legs[0]) }

// share is a workspace with its runs, the one first whose turn it is.
type share struct {
	has  int
	runs turns
}

type shares []*share

func (s shares) Len() int { return len(s) }
func (s shares) Less(i, j int) bool {
	return cmp.Or(s[i].has-s[j].has, s[i].runs[0].before(s[j].runs[0])) < 0
}
func (s shares) Swap(i, j int) { s[i], s[j] = s[j], s[i] }
func (s *shares) Push(x any)   { *s = append(*s, x.(*share)) }
func (s *shares) Pop() any {
	x := (*s)[len(*s)-1]
	*s = (*s)[:len(*s)-1]
	return x
}

// workspaces puts what waits in order: by workspace, and in it by run.
func workspaces(waiting []Leg, held Held) (out shares) {
	type key struct{ workspace, run string }
	ofWorkspace, ofRun := map[string]*share{}, map[key]*turn{}
	var last *turn // legs of a run come one after the other
	var lastKey key
	for i, l := range waiting {
		k := key{l.Workspace, l.Run}
		if last != nil && k == lastKey {
			last.legs = append(last.legs, i)
			continue
		}
		t := ofRun[k]
		if t == nil {
			w := ofWorkspace[l.Workspace]
			if w == nil {
				w = &share{has: held.Workspaces[l.Workspace]}
				ofWorkspace[l.Workspace], out = w, append(out, w)
			}
			t = &turn{has: held.Runs[l.Run]}
			ofRun[k] = t
			w.runs = append(w.runs, t)
		}
		t.legs = append(t.legs, i)
		last, lastKey = t, k
	}
	for _, w := range out {
		heap.Init(&w.runs)
	}
	return out
}

func firstFree(wants []string, free map[string]bool, labs Labs) string {
	for _, d := range wants {
		if free[d] && !labs.full(d) {
			return d
		}
	}
	return ""
}
