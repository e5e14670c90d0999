package webpage

// What a page tells, in orders in which it does so seldom.

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/devtools"
)

func TestAFrameApartIsCommandedInItsOwnProcess(t *testing.T) {
	x := &Page{at: "F", contexts: map[string][]world{}, apart: map[string]apart{"around": {frame: "A"}, "own": {frame: "F", around: "around"}}, loading: map[string]bool{}, changed: make(chan struct{})}
	tells := func(session, method, params string) world {
		x.heard(devtools.Event{Session: session, Method: method, Params: json.RawMessage(params)})
		in, _, _, _ := x.state()
		return in
	}
	first := `{"context": {"id": 2, "auxData": {"isDefault": true, "frameId": "F"}}}`
	second := `{"context": {"id": 3, "auxData": {"isDefault": true, "frameId": "F"}}}`
	assert.Equal(t, world{"own", 3}, tells("own", "Runtime.executionContextCreated", second))
	assert.Equal(t, world{"own", 3}, tells("around", "Runtime.executionContextCreated", first), "that of the empty document before, told of late")
	assert.Equal(t, world{"own", 3}, tells("around", "Runtime.executionContextDestroyed", `{"executionContextId": 2}`))
	// It goes back into the process around.
	assert.Equal(t, world{"own", 3}, tells("around", "Runtime.executionContextCreated", first))
	assert.Equal(t, world{"around", 2}, tells("around", "Target.detachedFromTarget", `{"sessionId": "own"}`))
	assert.Equal(t, world{"around", 3}, tells("around", "Runtime.executionContextCreated", second), "the newest")
	assert.Equal(t, world{}, tells("around", "Runtime.executionContextsCleared", `{}`))
	assert.Empty(t, x.contexts)
}
