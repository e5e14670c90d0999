package remoteend

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestActionsAreToldAsPeopleReadThem(t *testing.T) {
	for body, want := range map[string]string{
		`{"actions": [{"type": "pointer", "id": "mouse", "actions": [{"type": "pointerMove", "x": 3, "y": -1.5, "duration": 60, "origin": {"element-6066-11e4-a52e-4f735466cecf": "e-7"}}, {"type": "pointerDown", "button": 2}, {"type": "pause", "duration": 40}, {"type": "pause"}, {"type": "pointerMove", "x": 9, "y": 0, "origin": "pointer"}, {"type": "pointerUp", "button": 2}]}]}`:                                                                                                                                                  "mouse: to 3,-1.5 from e-7 in 60 ms, down (button 2), rests 40 ms, to 9,0 from where it is, up (button 2)",
		`{"actions": [{"type": "key", "id": "k", "actions": [{"type": "keyDown", "value": "t"}, {"type": "keyUp", "value": "t"}, {"type": "keyDown", "value": "i"}, {"type": "pause", "duration": 5}, {"type": "keyDown", "value": "d"}, {"type": "keyDown", "value": "\uE008"}, {"type": "keyDown", "value": "e"}, {"type": "keyDown", "value": "8"}, {"type": "keyUp", "value": "\uE008"}, {"type": "keyDown", "value": "s"}]}, {"type": "wheel", "id": "w", "actions": [{"type": "scroll", "x": 1, "y": 2, "deltaX": 0, "deltaY": 40}]}]}`: "k: types tidE*s, keys that type nothing: 1; w: scrolls at 1,2 by 0,40",
		`{}`: "", `{"actions": 7}`: "", `{"actions": [1, {"actions": [2, {"type": 3}]}]}`: "<nil>: ; <nil>: ",
	} {
		var m map[string]any
		require.NoError(t, json.Unmarshal([]byte(body), &m))
		told, _ := acted(m)
		assert.Equal(t, want, told)
	}
}
