package beside

// Lines of a script that people run on the device. The app stays as it is: nothing is cleared before, nothing put back after.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/record"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
	"tessellant/internal/script"
)

// linesFile is what lines are called in places such as lines.star:3.
const linesFile = "lines.star"

var errLinesTime = errors.New("the lines took longer than they may")

// run runs lines.
func (p *People) run(ctx context.Context, body []byte) remoteend.Response {
	var q hostlink.Script
	if err := json.Unmarshal(body, &q); err != nil || q.Within <= 0 {
		return Refused("what is to be run can't be read", "")
	}
	lines, err := testpkg.ReadSingle("lines", linesFile, q.Source)
	if err != nil {
		return Refused(err.Error(), "")
	}
	hand := script.On(p.Phone)
	hand.App, hand.Facts, hand.Data, hand.Notes, hand.Calls = p.App, p.Unit.Known, lines, record.Notes{R: p.Timeline, P: p.Phone}, p.Timeline.AtCall
	hand.See, hand.Console, hand.Reaches = p.Timeline.Command, p.Kit.Console, p.Apps.Reaches
	defer hand.ClosePages()
	if p.Gauges != nil {
		hand.Gauge = p.Gauges.Now
	}
	ctx, cancel := context.WithTimeoutCause(ctx, q.Within, errLinesTime)
	defer cancel()
	defer p.Timeline.AtCall("", "")
	defer p.Device.Acted()
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "lines of a script are run"})
	begun := time.Now()
	o := script.Run(ctx, script.Case{Scripts: lines.Scripts, File: linesFile, Func: q.Func, Inputs: q.Inputs, Facts: p.Unit.Known, Limits: script.DefaultLimits}, hand.Guarded(p.Log))
	r := hostlink.Ran{Verdict: o.Verdict, Message: foreign.Fit(p.Mask.Text(o.Message), verdict.MaxMessage), Took: time.Since(begun)}
	if _, line, ok := strings.Cut(o.Line, ":"); ok {
		r.Line, _ = strconv.Atoi(line)
	}
	var f *script.Failure
	if errors.As(o.Err, &f) {
		r.Expected, r.Actual = foreign.Fit(f.Expected, verdict.MaxMessage), foreign.Fit(f.Actual, verdict.MaxMessage)
	}
	var lost *phone.Lost
	if errors.As(o.Err, &lost) {
		return Refused(fmt.Sprintf("the device went away: %v", lost), "")
	}
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the lines have ended: " + string(r.Verdict), Error: map[bool]string{true: r.Message}[r.Verdict != verdict.Passed]})
	return remoteend.Plain(http.StatusOK, r)
}
