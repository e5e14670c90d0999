package host_test

// Nothing that a test, a program, an app or a fault makes of names, texts and numbers holds a device, fills the host, or turns a failure into a pass.

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	standin "tessellant/internal/standin/phone"
)

// free waits until the bench's phone can be given to somebody.
func (b *bench) free() {
	b.t.Helper()
	housetest.Eventually(b.t, "the phone is free again", func() bool {
		d, err := b.Device(b.t.Context(), b.Who, "orr-01")
		return err == nil && d.Standing().Free
	})
}

func TestALongOrOddTextHoldsNoDevice(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "message", "fail('x' * 70000)", "odd", `fail("\x00 \x1b[2J \u202e end")`, "reason", "skip('y' * 100000)", "check", "check.equal('a' * 100000, 'b' * 100000, 'about ' * 20000)")
	l := b.wait(run)
	b.free()
	assert.Equal(t, verdict.Failed, l.Verdict)
	assert.Less(t, len(l.Message), 6000)
	require.Len(t, l.Attempts[0].Cases, 4)
	assert.Contains(t, l.Attempts[0].Cases[0].Message, "(cut: it had")
	assert.NotContains(t, l.Attempts[0].Cases[1].Message, "\x00")
	assert.Equal(t, verdict.Skipped, l.Attempts[0].Cases[2].Verdict)
	b.whole(l.Attempts[0])
}

func TestManyLogLinesFillNeitherTheMemoryNorTheTimeline(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(300, "talks", "for i in range(1500):\n    log('z' * 60000)", "checks", "for i in range(3000):\n    check.equal('a' * 2000, 'b' * 2000, go_on = True)", "after", "phone.launch()")
	l := b.wait(run)
	assert.Equal(t, verdict.Failed, l.Verdict)
	es := events(t, b.file(l.Attempts[0], "timeline.jsonl"))
	bytes := 0
	for _, e := range es {
		bytes += e.Bytes()
	}
	assert.Less(t, bytes, 66<<20)
	said := es[len(es)-1]
	assert.Equal(t, "the timeline is not whole", said.Name)
	assert.Contains(t, said.Error, "× log")
	ends := 0
	for _, e := range es {
		if e.Kind == timeline.Case && e.Verdict != "" {
			ends++
		}
	}
	assert.Equal(t, 3, ends, "how cases came out is in it all the same")

	// It is read in windows.
	place, got := "", 0
	for n := 0; ; n++ {
		v, err := b.Timeline(t.Context(), b.Who, l.ID, 0, place)
		require.NoError(t, err)
		size := 0
		for _, e := range v.Events {
			require.Equal(t, es[got].Seq, e.Seq)
			got++
			size += e.Bytes()
		}
		assert.Less(t, size, 9<<20)
		if place = v.Next; place == "" {
			assert.Greater(t, n, 3)
			break
		}
	}
	assert.Equal(t, len(es), got)
	for _, bad := range []string{"x", "-1", "99999999999"} {
		_, err := b.Timeline(t.Context(), b.Who, l.ID, 0, bad)
		assert.ErrorContains(t, err, "set from to the next of the window before")
	}
}

func TestCasesOfOneNameAreNotMerged(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	xml := `<testsuite><testcase name="shore"/><testcase name="shore"><failure message="no"/></testcase><testcase name="shore"/></testsuite>`
	l := b.wait(b.startProgram(60, "run: [sh, run.sh]\nresults: [out.xml]\n", map[string]string{"run.sh": "cat > out.xml <<E\n" + xml + "\nE\n"}))
	require.Len(t, l.Attempts[0].Cases, 3)
	var got []string
	for _, c := range l.Attempts[0].Cases {
		got = append(got, c.Name+" "+string(c.Verdict))
	}
	assert.Equal(t, []string{"shore passed", "shore (2) failed", "shore (3) passed"}, got)
	assert.Equal(t, verdict.Failed, l.Verdict)
}

// manyCases is a shell command that writes a report of n cases, of which the last failed.
func manyCases(n int) string {
	return fmt.Sprintf(`awk 'BEGIN { print "<testsuite>"; for (i = 1; i < %d; i++) print "<testcase name=\"c" i "\"/>"; print "<testcase name=\"last\"><failure message=\"no\"/></testcase></testsuite>" }' > out.xml`, n)
}

func TestNoCaseOfAReportIsDropped(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	l := b.wait(b.startProgram(120, "run: [sh, run.sh]\nresults: [out.xml]\n", map[string]string{"run.sh": manyCases(12_000)}))
	assert.Equal(t, verdict.Failed, l.Verdict)
	require.Len(t, l.Attempts[0].Cases, 12_000)
	assert.Equal(t, "last", l.Attempts[0].Cases[11_999].Name)
}

func TestWhatAProgramKeepsAndSaysHoldsNoDevice(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	script := `mkdir -p "$TESSELLANT_KEEP"
cd "$TESSELLANT_KEEP"
printf a > "$(printf 'name-\377\376.txt')"
printf b > "$(printf 'n%.0s' $(seq 1 240)).log"
printf c > "$(printf 'esc-\033[31m')"
printf d > plain.txt
cd - > /dev/null
printf '<testsuite><testcase name="%s"><failure message="%s">%s</failure></testcase></testsuite>' "$(printf 'n%.0s' $(seq 1 10000))" "$(printf 'm%.0s' $(seq 1 65540))" "$(printf 't%.0s' $(seq 1 65540))" > out.xml
`
	l := b.wait(b.startProgram(60, "run: [sh, run.sh]\nresults: [out.xml]\n", map[string]string{"run.sh": script}))
	b.free()
	assert.Equal(t, verdict.Failed, l.Verdict, l.Message)
	var kept []string
	for _, a := range l.Attempts[0].Artifacts {
		if a.Kind == "kept" {
			kept = append(kept, a.Name)
			assert.LessOrEqual(t, len(a.Name), 150)
		}
	}
	assert.Len(t, kept, 4)
	assert.Contains(t, kept, "kept/plain.txt")
	renamed := 0
	for _, e := range events(t, b.file(l.Attempts[0], "timeline.jsonl")) {
		if e.Name == "a file was renamed" {
			renamed++
		}
	}
	assert.Equal(t, 3, renamed)
}

func TestAHostThatIsStoppedMarksNoCaseExpired(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(60, "a", "phone.launch()\nphone.wait_gone('#title', within = 30)", "b", "pass")
	b.until(run, "c.test_a")
	b.stop()
	l := b.leg(run)
	require.NotEmpty(t, l.Attempts)
	for _, c := range l.Attempts[0].Cases {
		assert.NotEqual(t, verdict.Expired, c.Verdict, c.Message)
		assert.NotEqual(t, verdict.Failed, c.Verdict, c.Message)
	}
	b.again()
	_, err := b.StopRun(t.Context(), b.Who, run, "")
	require.NoError(t, err)
	b.wait(run)
}

func TestAPersonEndsWorkWhateverItsState(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(600, "a", "phone.launch()\nphone.wait_gone('#title', within = 300)")
	b.until(run, "c.test_a")
	d, err := b.FreeDevice(t.Context(), b.Who, "orr-01")
	require.NoError(t, err)
	assert.Nil(t, d.Hold)
	l := b.leg(run)
	assert.Equal(t, "done", l.Stage)
	assert.Equal(t, verdict.Stopped, l.Verdict)
	b.free()
	_, err = b.FreeDevice(t.Context(), b.Who, "orr-01")
	assert.ErrorContains(t, err, "nothing is running on it")
	_, err = b.FreeDevice(t.Context(), service.Identity{WorkspaceID: "another", Role: "owner"}, "orr-01")
	assert.Error(t, err)
	// The host has left it: the next run goes through.
	again := b.wait(b.start(60, "b", "phone.launch()"))
	assert.Equal(t, verdict.Passed, again.Verdict, again.Message)
}

func TestAPanicEndsOneHoldAndTheDeviceComesFree(t *testing.T) {
	armed := &panics{}
	armed.on.Store(true)
	b := set(t, "orr-01", standin.Instant, func(c *config) { c.Link = armed })
	l := b.wait(b.start(60, "a", "phone.launch()"))
	armed.on.Store(false)
	assert.Equal(t, verdict.Lost, l.Verdict)
	assert.Contains(t, l.Message, "Tessellant itself failed at it")
	assert.Len(t, l.Attempts, 1, "another try would end the same")
	d, err := b.Device(t.Context(), b.Who, "orr-01")
	require.NoError(t, err)
	assert.Zero(t, d.LostInRow, "the device is not to blame")
	b.free()
	again := b.wait(b.start(60, "b", "phone.launch()"))
	assert.Equal(t, verdict.Passed, again.Verdict, again.Message)
}

// panics is a link that panics when a package is fetched.
type panics struct {
	hostlink.Link
	on atomic.Bool
}

// Over implements what housetest looks for.
func (p *panics) Over(l hostlink.Link) { p.Link = l }

func (p *panics) Fetch(ctx context.Context, h hostlink.Hold, what hostlink.Content) (io.ReadCloser, error) {
	if p.on.Load() && what == hostlink.Package {
		var m map[string]int
		m["x"] = 1
	}
	return p.Link.Fetch(ctx, h, what)
}

func TestADeadAddressMakesNoHealthyDeviceFlap(t *testing.T) {
	t.Parallel()
	// A listener that takes connections and never says a word.
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer mute.Close()
	b := set(t, "orr-01", standin.Instant, func(c *config) {
		c.Connect = append([]string{mute.Addr().String(), "127.0.0.1:1"}, c.Connect...)
	})
	for start := time.Now(); time.Since(start) < 8*time.Second; time.Sleep(200 * time.Millisecond) {
		d, err := b.Device(t.Context(), b.Who, "orr-01")
		require.NoError(t, err)
		require.Equal(t, "ready", d.Standing().State, d.Standing().Why)
		require.Less(t, d.Silent, 7, "its host speaks of it all the while")
	}
	l := b.wait(b.start(60, "a", "phone.launch()"))
	assert.Equal(t, verdict.Passed, l.Verdict, l.Message)
}
