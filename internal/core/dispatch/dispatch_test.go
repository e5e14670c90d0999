package dispatch

import (
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
		t.Run(name, func(t *testing.T) { assert.Equal(t, x.want, Match(x.waiting, x.free, x.held)) })
	}
}
