package dispatch

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMatch(t *testing.T) {
	a, b, c := "dev-a", "dev-b", "dev-c"
	for name, x := range map[string]struct {
		waiting []Leg
		free    []string
		held    Held
		want    []Pair
	}{
		"each leg gets the device it wants": {
			[]Leg{{"1", "r", "w", []string{a}}, {"2", "r", "w", []string{b}}}, []string{b, a}, Held{},
			[]Pair{{"1", a}, {"2", b}}},
		"a taken device makes its leg wait and no other": {
			[]Leg{{"1", "r", "w", []string{a}}, {"2", "r", "w", []string{b}}}, []string{b}, Held{},
			[]Pair{{"2", b}}},
		"two runs that want one device: the one made first": {
			[]Leg{{"1", "r", "w", []string{a}}, {"2", "q", "w", []string{a}}}, []string{a}, Held{},
			[]Pair{{"1", a}}},
		"a leg that takes any unit takes its second choice": {
			[]Leg{{"1", "r", "w", []string{a, b}}}, []string{b}, Held{}, []Pair{{"1", b}}},
		"a workspace that holds nothing goes before one that holds two": {
			[]Leg{{"1", "r", "w", []string{a}}, {"2", "q", "v", []string{a}}}, []string{a},
			Held{Workspaces: map[string]int{"w": 2}}, []Pair{{"2", a}}},
		"turns alternate between two runs of one workspace": {
			[]Leg{{"1", "r", "w", []string{a, b, c}}, {"2", "r", "w", []string{a, b, c}}, {"3", "q", "w", []string{a, b, c}}},
			[]string{a, b}, Held{}, []Pair{{"1", a}, {"3", b}}},
		"nothing free, nothing paired": {[]Leg{{"1", "r", "w", []string{a}}}, nil, Held{}, nil},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, x.want, Match(x.waiting, x.free, x.held, Labs{})) })
	}
}

// However much waits for however little: nothing is given twice, nothing that is wanted stays free, and nobody gets ahead of who has less.
func TestWhatIsFreeIsShared(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 3))
	for range 500 {
		var free []string
		for i := range r.IntN(12) {
			free = append(free, fmt.Sprint("dev-", i))
		}
		var waiting []Leg
		for i := range r.IntN(30) {
			ws := r.IntN(3)
			l := Leg{ID: fmt.Sprint("leg-", i), Workspace: fmt.Sprint("w", ws), Run: fmt.Sprintf("w%d-r%d", ws, r.IntN(3))}
			for range 1 + r.IntN(4) {
				l.Wants = append(l.Wants, fmt.Sprint("dev-", r.IntN(14)))
			}
			waiting = append(waiting, l)
		}
		before := slices.Clone(waiting)
		pairs := Match(waiting, free, Held{}, Labs{})
		assert.Equal(t, before, waiting, "what was given stays as it is")
		legOf, deviceOf := map[string]string{}, map[string]string{}
		for _, p := range pairs {
			assert.NotContains(t, legOf, p.Device)
			assert.NotContains(t, deviceOf, p.Leg)
			assert.Contains(t, free, p.Device)
			legOf[p.Device], deviceOf[p.Leg] = p.Leg, p.Device
		}
		for _, l := range waiting {
			d, got := deviceOf[l.ID]
			if got {
				assert.Contains(t, l.Wants, d)
				continue
			}
			for _, d := range l.Wants {
				if slices.Contains(free, d) {
					assert.Contains(t, legOf, d, "%s waits for %s, which nobody has", l.ID, d)
				}
			}
		}
	}
}

func TestAWorkspaceWithManyLegsHoldsUpNobody(t *testing.T) {
	var waiting []Leg
	var free, wants []string
	for i := range 8 {
		free = append(free, fmt.Sprint("dev-", i))
	}
	wants = free
	for i := range 100 {
		waiting = append(waiting, Leg{fmt.Sprint("big-", i), "big", "w", wants})
	}
	for i := range 2 {
		waiting = append(waiting, Leg{fmt.Sprint("small-", i), "small", "v", wants})
	}
	count := map[byte]int{}
	for _, p := range Match(waiting, free, Held{}, Labs{}) {
		count[p.Leg[0]]++
	}
	assert.Equal(t, map[byte]int{'b': 6, 's': 2}, count, "who wants two gets two")
}

func TestALabLendsNoMoreThanItHasRoomFor(t *testing.T) {
	leg := func(id string, wants ...string) Leg { return Leg{ID: id, Run: "r", Workspace: "w", Wants: wants} }
	labs := Labs{Of: map[string]string{"c1": "cloud", "c2": "cloud", "c3": "cloud"}, Room: map[string]int{"cloud": 2}}
	pairs := Match([]Leg{leg("1", "c1"), leg("2", "c2"), leg("3", "c3"), leg("4", "a1"), leg("5", "c3", "a2")}, []string{"a1", "a2", "c1", "c2", "c3"}, Held{}, labs)
	assert.Equal(t, []Pair{{"1", "c1"}, {"2", "c2"}, {"4", "a1"}, {"5", "a2"}}, pairs, "the third of the cloud waits; who takes another device, too, gets that")
	assert.Empty(t, Match([]Leg{leg("3", "c3")}, []string{"c3"}, Held{}, labs), "nor in the next round")
}
