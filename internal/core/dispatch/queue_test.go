package dispatch

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/work"
)

func unit(id, model string, usable bool) Unit {
	return Unit{ID: id, Facts: devices.Facts{Serial: id, Platform: "android", Model: model, API: 30, ABIs: []string{"arm64-v8a"}}, Standing: devices.Standing{Usable: usable}}
}

func TestWhichDevicesWillDo(t *testing.T) {
	all := []Unit{unit("a1", "Skerry", true), unit("a2", "Skerry", true), unit("a3", "Skerry", false), unit("b1", "Fennel", true), {ID: "unmet", Facts: devices.Facts{Serial: "x"}}}
	for name, c := range map[string]struct {
		wants work.Wants
		tried []string
		want  []string
		moved bool
	}{
		"its own device, however that stands":        {work.Wants{Device: "a3"}, nil, []string{"a3"}, false},
		"once it was tried, one like it first":       {work.Wants{Device: "a1"}, []string{"a1"}, []string{"a2", "a1"}, true},
		"none like it that was not tried":            {work.Wants{Device: "a1"}, []string{"a1", "a2"}, []string{"a1"}, false},
		"any, those that can be used first":          {work.Wants{}, nil, []string{"a1", "a2", "b1", "a3"}, false},
		"any that fits":                              {work.Wants{Where: []string{"model=Fennel"}}, nil, []string{"b1"}, false},
		"none that has what the app needs":           {work.Wants{Needs: &devices.Needs{Platform: "android", MinAPI: 31}}, nil, nil, false},
		"a device that is gone is waited for":        {work.Wants{Device: "gone"}, []string{"gone"}, []string{"gone"}, false},
		"what can't be read wants nothing, for good": {work.Wants{Where: []string{"nonsense"}}, nil, nil, false},
	} {
		got, moved := Candidates(c.wants, c.tried, all)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.moved, moved, name)
	}
}

func TestAPlaceCountsThoseWhoAskedBefore(t *testing.T) {
	got := Places([]Asked{{"1", []string{"a"}}, {"2", []string{"b"}}, {"3", []string{"a", "b", "c"}}, {"4", []string{"a"}}, {"5", []string{"a", "b"}}, {"6", []string{"c"}}, {"7", nil}})
	assert.Equal(t, map[string]int{"1": 1, "2": 1, "3": 3, "4": 3, "5": 5, "6": 2, "7": 1}, got)
}
