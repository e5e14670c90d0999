package host_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service"
	standin "tessellant/internal/standin/phone"
)

// Kelpline writes a line into the device's log in the moment in which its chart is opened: the tap that did it is known on the host's clock.
func TestEveryKindOfEvidenceStandsAtTheCommandThatCausedIt(t *testing.T) {
	for _, c := range []struct {
		how   string
		skew  time.Duration
		drift int // millionths
		jump  time.Duration
	}{
		{"as it should", 0, 0, 0},
		{"42 s fast", 42 * time.Second, 0, 0},
		{"too fast, by 1 in 500", -3 * time.Second, 2000, 0},
		{"set an hour back", time.Minute, 0, -time.Hour},
		{"set 700 ms ahead", 0, 0, 700 * time.Millisecond},
		{"too slow, and set 2 s back", 5 * time.Second, -1500, -2 * time.Second},
	} {
		t.Run(c.how, func(t *testing.T) {
			b, _ := online(t, func(tr *standin.Traits) { tr.Skew, tr.Drift = c.skew, c.drift })
			const look = "phone.launch()\nphone.tap('#shore_gull-ledge')\nfor i in range(%d):\n    phone.tap('#show_chart')\n    phone.wait_gone('#nothing', within = 1)\n    phone.tap('#show_table')\n"
			run := b.start(120, "before", fmt.Sprintf(look, 3), "between", "phone.launch()\nphone.background(2.5)", "after", fmt.Sprintf(look, 3), "crash", "phone.launch(args = {'debug_crash': 'ebb'})\nphone.wait_gone('#title', within = 5)")
			b.until(run, "c.test_between")
			b.phone.SetClock(c.jump)
			l := b.wait(run)
			a := l.Attempts[0]
			require.Equal(t, []verdict.Verdict{"passed", "passed", "passed", "crashed"}, []verdict.Verdict{a.Cases[0].Verdict, a.Cases[1].Verdict, a.Cases[2].Verdict, a.Cases[3].Verdict}, "%+v", a.Cases)
			var taps []timeline.Event
			var launch timeline.Event
			crashed := int64(0)
			for _, e := range events(t, b.file(a, "timeline.jsonl")) {
				switch {
				case e.Kind == timeline.Command && e.Name == "tap" && e.Args["element"] == "#show_chart":
					taps = append(taps, e)
				case e.Kind == timeline.Command && e.Name == "launch":
					launch = e
				case e.Kind == timeline.Crash:
					crashed = e.At
				}
			}
			require.Len(t, taps, 6)
			w, err := b.DeviceLog(context.Background(), b.Who, l.ID, 0, service.LogChoice{Limit: 1000})
			require.NoError(t, err)
			var lines, asked []int64
			for _, x := range w.Lines {
				switch x.Tag {
				case "TideChart":
					lines = append(lines, x.At)
				case "Tides":
					asked = append(asked, x.At)
				}
			}
			require.Len(t, lines, 6)
			doubt := a.ClockDoubtMS.Int64
			// The doubt grows with the way to the phone and back: on a machine with other work that is not always short. It is kept to, however long it is.
			assert.Less(t, doubt, int64(150))
			near := max(doubt, 50)
			const late = 150 // until the app has its turn, on a machine with other work; it never speaks before
			for i, e := range taps {
				assert.GreaterOrEqual(t, lines[i], e.At-near, "line %d", i)
				assert.LessOrEqual(t, lines[i], e.At+e.Took+near, "line %d", i)
			}
			// What the app says of a request stands at the request, as the network log has it.
			entries := b.network(l)
			require.GreaterOrEqual(t, len(asked), 2)
			for i, e := range entries[:min(2, len(asked))] {
				answered := e.At + int64(e.Time)
				assert.GreaterOrEqual(t, asked[i], answered-near)
				assert.LessOrEqual(t, asked[i], answered+near+late)
			}
			// The app dies 500 ms after its start, which is in the time of that command.
			assert.GreaterOrEqual(t, crashed, launch.At+500-near)
			assert.LessOrEqual(t, crashed, launch.At+launch.Took+500+near+late)
		})
	}
}
