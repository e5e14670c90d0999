package feed

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/bus"
	"tessellant/internal/core/timeline"
	"tessellant/internal/hostlink"
	"tessellant/internal/store"
)

func TestAFeedGivesEachWhatConcernsThem(t *testing.T) {
	f := Feed{Bus: &bus.Local{}}
	start := f.Here()
	f.Add("build", "ours", "", store.Build{ID: "b"}, 0)
	f.Add("build", "theirs", "", store.Build{}, 0)
	f.Add("device", "", "", []store.Device{{}}, 0)
	f.Live(hostlink.Hold{WorkspaceID: "ours", WorkID: "leg", AttemptID: "a"}, hostlink.Now{Events: []timeline.Event{{Seq: 1}}, Frame: []byte("x"), FrameAt: 9})
	kinds := func(workspace, leg string) (out []string) {
		changes, _, _, ok := f.After(start, workspace, leg)
		require.True(t, ok)
		for _, c := range changes {
			out = append(out, c.Kind)
		}
		return out
	}
	assert.Equal(t, []string{"build", "device"}, kinds("ours", ""))
	assert.Equal(t, []string{"build", "device", "timeline", "screen"}, kinds("ours", "leg"))
	assert.Equal(t, []string{"build", "device"}, kinds("theirs", "leg"), "another workspace's leg is not seen, whoever knows its id")
	changes, now, news, _ := f.After(start, "ours", "")
	n := 0
	for range 3 {
		_ = changes[0].Encoded(false, func(Change, bool) []byte { n++; return nil })
	}
	assert.Equal(t, 1, n, "written once for all")
	select {
	case <-news:
		assert.Fail(t, "there is nothing new yet")
	default:
	}
	f.Add("build", "ours", "", store.Build{}, 0)
	<-news
	changes, _, _, ok := f.After(now, "ours", "")
	assert.True(t, ok)
	assert.Len(t, changes, 1)
}

func TestAFeedKeepsOnlySoMuch(t *testing.T) {
	f := Feed{Bus: &bus.Local{}}
	start := f.Here()
	for range feedKeeps * 2 {
		f.Add("build", "", "", store.Build{}, 0)
	}
	assert.LessOrEqual(t, len(f.kept), feedKeeps)
	_, now, _, ok := f.After(start, "", "")
	assert.False(t, ok, "what was missed is gone, and that is said")
	_, _, _, ok = f.After(now, "", "")
	assert.True(t, ok)
	many := make([]timeline.Event, 1500)
	for range 200 {
		f.Live(hostlink.Hold{AttemptID: "a"}, hostlink.Now{Events: many})
	}
	total := 0
	for _, c := range f.kept {
		total += c.weight
	}
	assert.LessOrEqual(t, total, feedWeighs)
	assert.Equal(t, total, f.weight)
	events, _, _ := f.Now("a")
	assert.LessOrEqual(t, len(events), liveEvents)
	f.AttemptOver("a")
	events, _, _ = f.Now("a")
	assert.Empty(t, events)
}
