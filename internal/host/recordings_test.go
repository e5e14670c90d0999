package host_test

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/har"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/record"
	"tessellant/internal/housetest"
	"tessellant/internal/proxy"
	"tessellant/internal/service"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

// online is a bench whose host has a proxy, and whose phone finds the backend through it.
func online(t *testing.T, change func(*standin.Traits), more ...func(*config)) (*bench, *proxy.Authority) {
	t.Helper()
	back, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(back.Close)
	authority, err := proxy.OpenAuthority(t.TempDir())
	require.NoError(t, err)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper, traits.Network, traits.System, traits.Trusts = standin.Instant, back.Network(), back.Certificate, false
	if change != nil {
		change(&traits)
	}
	roots := x509.NewCertPool()
	roots.AddCert(back.Certificate)
	b := setUp(t, traits, append(more, func(c *config) {
		c.Outlet = &record.Outlet{Authority: authority, Names: back.Network(), Roots: roots, Version: "test"}
	})...)
	if traits.Trusts {
		b.phone.Trust(authority.Certificate)
	}
	return b, authority
}

const sends = "phone.launch()\nphone.tap('#shore_gull-ledge')\nphone.tap('#start')\nphone.type('#kelp', '3.5')\nphone.hide_keyboard()\nphone.tap('#review')\nphone.tap('#send')\nphone.find('#receipt')"
const signsIn = "phone.launch()\nphone.tap('#settings')\nphone.type('#observer', 'ada')\nphone.type('#code', 'ebb-and-flow-4711')\nphone.hide_keyboard()\nphone.tap('#signin')\nphone.find('#signed')"

// passed sees that a leg has passed; else it shows what its device and its network said.
func (b *bench) passed(l service.LegDetail) {
	b.t.Helper()
	if l.Verdict == verdict.Passed {
		return
	}
	a := l.Attempts[len(l.Attempts)-1]
	for _, c := range a.Cases {
		b.t.Logf("%s %s: %s", c.Name, c.Verdict, c.Message)
	}
	b.t.Logf("%s\n%s", b.file(a, "device.log"), b.file(a, "network.har"))
	require.Fail(b.t, "the leg has not passed", "%s: %s", l.Verdict, a.Message)
}

// network reads the network log of a leg's last attempt.
func (b *bench) network(l service.LegDetail) (out []har.Entry) {
	b.t.Helper()
	raw := b.file(l.Attempts[len(l.Attempts)-1], "network.har")
	require.True(b.t, json.Valid(raw), "it is JSON as a whole")
	x, err := har.Scan(bytes.NewReader(raw))
	require.NoError(b.t, err)
	for n := range x.Rows {
		at, length := x.Span(n)
		e, err := har.ParseLine(raw[at : at+length])
		require.NoError(b.t, err)
		out = append(out, e)
	}
	return out
}

func said(entries []har.Entry) (out []string) {
	for _, e := range entries {
		out = append(out, fmt.Sprintf("%s %s %s %d", e.Kind, e.Request.Method, e.Request.URL, e.Response.Status))
	}
	return out
}

func markers(es []timeline.Event) map[string]string {
	out := map[string]string{}
	for _, e := range es {
		if e.Kind == timeline.Marker {
			out[e.Name] = e.Error + e.Answer
		}
	}
	return out
}

func TestWhatTheAppAskedOfServersIsSeen(t *testing.T) {
	b, _ := online(t, func(tr *standin.Traits) { tr.Trusts = true })
	l := b.wait(b.start(60, "sends", sends, "signs_in", signsIn))
	b.passed(l)
	entries := b.network(l)
	got := said(entries)
	assert.Contains(t, got, "http GET http://tides.kelpline.example/shores 200")
	assert.Contains(t, got, "http POST https://surveys.kelpline.example/surveys 201", "the device trusts the host: HTTPS is opened")
	i := slices.Index(got, "http POST https://surveys.kelpline.example/surveys 201")
	assert.Contains(t, entries[i].Request.Post.Text, `"kelp":"3.5"`)
	assert.Contains(t, entries[i].Response.Content.Text, "KL-0001")
	assert.Equal(t, "TLS 1.3", entries[i].TLS)
	// What the app has pinned it refuses once, and goes on.
	pinned := slices.DeleteFunc(slices.Clone(entries), func(e har.Entry) bool { return !strings.Contains(e.Request.URL, backend.Accounts) })
	require.Len(t, pinned, 2)
	assert.Contains(t, pinned[0].Error, "refused the certificate")
	assert.Equal(t, []any{har.Connection, "", 0}, []any{pinned[1].Kind, pinned[1].Error, pinned[1].Response.Status})
	assert.Positive(t, pinned[1].Received)

	// On the attempt's clock each stands behind the tap that led there.
	es := events(t, b.file(l.Attempts[0], "timeline.jsonl"))
	tap := int64(0)
	for _, e := range es {
		if e.Kind == timeline.Command && e.Name == "tap" && e.Args["element"] == "#send" {
			tap = e.At
		}
	}
	require.Positive(t, tap)
	assert.GreaterOrEqual(t, entries[i].At, tap)
	assert.Less(t, entries[i].At, tap+2000)
	assert.NotContains(t, markers(es), "network is not whole")
	assert.Empty(t, b.phone.Reverses(), "the device is as it was")
	assert.Empty(t, b.phone.Setting("global/http_proxy"))

	// The host remembers who refused: the next leg goes through at once.
	l = b.wait(b.start(60, "signs_in", signsIn))
	require.Equal(t, verdict.Passed, l.Verdict)
	for _, e := range b.network(l) {
		assert.Empty(t, e.Error)
	}
	// It is the run's to say what is kept.
	off, err := recording.Usual().Parse("network:off,gauges:off,log:off,video:off,screenshots:off,trees:off")
	require.NoError(t, err)
	b.recording = &off
	l = b.wait(b.start(60, "fails", "phone.launch()\nphone.step('there')\ncheck.equal(1, 2)"))
	var names []string
	for _, f := range l.Attempts[0].Artifacts {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"timeline.jsonl"}, names)
}

func TestADeviceThatDoesNotTrustTheHostShowsConnections(t *testing.T) {
	b, _ := online(t, nil)
	l := b.wait(b.start(60, "sends", sends, "signs_in", signsIn))
	b.passed(l)
	got := said(b.network(l))
	assert.Contains(t, got, "http GET http://tides.kelpline.example/shores 200")
	assert.Contains(t, got, "connection CONNECT https://surveys.kelpline.example 0")
	for _, e := range b.network(l) {
		assert.Empty(t, e.Error, "no app notices the host")
	}
}

func TestSecretsAreNotInTheNetworkLog(t *testing.T) {
	b, _ := online(t, func(tr *standin.Traits) { tr.Trusts = true })
	run := b.startFiles(map[string]string{"c.star": "def test_note(phone):\n" + "    " + strings.ReplaceAll(strings.Replace(sends, "phone.hide_keyboard()", "phone.type('#note', inputs['code'])\nphone.hide_keyboard()", 1), "\n", "\n    ") + "\n"},
		map[string]string{"code": "ebb-and-flow-4711"})
	l := b.wait(run)
	b.passed(l)
	raw := b.file(l.Attempts[0], "network.har")
	assert.NotContains(t, string(raw), "ebb-and-flow-4711")
	assert.Contains(t, string(raw), `\"note\":`)
}

func TestADeviceThatCantBeLedThroughTheProxyIsTestedAllTheSame(t *testing.T) {
	t.Parallel()
	for why, c := range map[string]struct {
		change func(*standin.Traits)
		marker string
		said   string
	}{
		"it opens no ports":             {func(tr *standin.Traits) { tr.NoReverse = true }, "network is not whole", "Operation not permitted"},
		"all its ports are taken":       {func(tr *standin.Traits) { tr.PortTaken = 1 }, "network is not whole", "Address already in use"},
		"its apps do not mind it":       {func(tr *standin.Traits) { tr.NoProxy = true }, "no traffic seen", "does not mind the device's proxy"},
		"its maker forbids the setting": {func(tr *standin.Traits) { tr.Gates = []standin.Gate{standin.NoChange} }, "network is not whole", "allow changing settings over USB"},
	} {
		t.Run(why, func(t *testing.T) {
			b, _ := online(t, c.change)
			l := b.wait(b.start(60, "sends", sends))
			b.passed(l)
			said := markers(events(t, b.file(l.Attempts[0], "timeline.jsonl")))
			assert.Contains(t, said[c.marker], c.said)
			assert.Empty(t, b.phone.Reverses())
		})
	}
}

func TestTracksThatGetNoMoreRoomAreWholeAsFarAsTheyGo(t *testing.T) {
	b, _ := online(t, func(tr *standin.Traits) { tr.Trusts = true }, func(c *config) { c.SpoolLimit = 12 << 10 })
	set, err := recording.Usual().Parse("log:off,video:off,screenshots:off,trees:off") // the room is for what is looked at here, however slow all goes
	require.NoError(t, err)
	b.recording = &set
	l := b.wait(b.start(120, "reads", "phone.gauge('battery')", "a", sends, "b", sends, "c", sends, "d", sends, "e", sends))
	b.passed(l)
	assert.Contains(t, l.Attempts[0].Message, "evidence is not whole: the host's folder holds as much as it may")
	assert.Less(t, len(b.network(l)), 15, "what each case asks is three")
	assert.NotEmpty(t, b.network(l))
	at, _, err := gauges.Collect(bytes.NewReader(b.file(l.Attempts[0], "gauges.csv")), 0, 0)
	require.NoError(t, err)
	assert.NotEmpty(t, at)
}

func TestTheNetworkIsACondition(t *testing.T) {
	b, _ := online(t, nil)
	var err error
	b.conditions, err = conditions.Parse("network:400ms")
	require.NoError(t, err)
	l := b.wait(b.start(60,
		"slow", "phone.launch()\nphone.find('#shore_gull-ledge')",
		"offline", "phone.network('offline')\nphone.launch()\nphone.find('#offline')\nphone.network('full')\nphone.tap('#retry')\nphone.find('#shore_gull-ledge')",
		"airplane", "phone.conditions('airplane-mode')\nphone.launch()\nphone.find('#offline')",
		"slow_again", "phone.launch()\nphone.find('#shore_gull-ledge')"))
	b.passed(l)
	times := map[string]float64{}
	for _, e := range b.network(l) {
		c := ""
		for _, x := range l.Attempts[0].Cases {
			if e.At >= x.StartMS {
				c = x.Name
			}
		}
		if e.Response.Status == 200 {
			times[c] = max(times[c], e.Time)
		}
	}
	for _, c := range []string{"c.test_slow", "c.test_slow_again"} {
		assert.GreaterOrEqual(t, times[c], 390.0, c)
	}
	assert.Less(t, times["c.test_offline"], 150.0)

	b2, _ := online(t, func(tr *standin.Traits) { tr.NoReverse = true })
	b2.conditions = b.conditions
	l = b2.wait(b2.start(60, "slow", "phone.launch()"))
	assert.Equal(t, verdict.Invalid, l.Verdict, "what a test needs and can't have ends it")
	assert.Contains(t, l.Attempts[0].Message, "lead its apps through the host's proxy")
}

func TestGaugesAreReadAndBoundsFailCases(t *testing.T) {
	for _, serial := range []string{"orr-01", "emu-01", "fen-02"} { // with dumpsys, with smaps_rollup, and an app that waits for memory
		t.Run(serial, func(t *testing.T) {
			b := set(t, serial, standin.Instant)
			b.bounds = []string{"memory<90", "threads<=1000"}
			l := b.wait(b.start(120, "reads", "phone.launch()\nphone.find('#shore_gull-ledge')\nlog(str(phone.gauge('memory')))\ncheck.that(phone.gauge('memory') > 50, 'some memory')\ncheck.that(phone.gauge('battery') == 87, 'the battery')",
				"wrong", "phone.gauge('memry')", "syncs", strings.Replace(sends, "phone.find('#receipt')", "phone.wait_gone('#sending', within = 40)\nphone.find('#receipt')", 1)))
			cases := l.Attempts[0].Cases
			assert.Equal(t, verdict.Passed, cases[0].Verdict, cases[0].Message)
			assert.Contains(t, cases[1].Message, `there is no gauge "memry"; was memory meant?`)
			at, series, err := gauges.Collect(bytes.NewReader(b.file(l.Attempts[0], "gauges.csv")), 0, 0)
			require.NoError(t, err)
			assert.NotEmpty(t, at)
			of := map[string]gauges.Summary{}
			for _, s := range series {
				of[s.Gauge.Name] = s.Summary()
			}
			for _, g := range []string{"memory", "processor", "threads", "device-processor", "device-memory", "battery", "temperature", "device-received"} {
				assert.Positive(t, of[g].Count, g)
			}
			assert.InDelta(t, 64, of["memory"].Min, 6)
			assert.Equal(t, 87.0, of["battery"].Median)
			assert.InDelta(t, 29, of["temperature"].Median, 6)
			if serial != "fen-02" {
				assert.Equal(t, verdict.Passed, cases[2].Verdict, cases[2].Message)
				return
			}
			assert.Greater(t, of["processor"].Max, 60.0, "it looks for memory in vain")
			assert.Greater(t, of["memory"].Max, 90.0)
			assert.Equal(t, verdict.Failed, cases[2].Verdict)
			assert.Contains(t, cases[2].Message, "the bound memory<90 was passed: memory was ")
			assert.Equal(t, "memory<90", cases[2].Expected)
		})
	}
}

func TestGaugesInAFormThatWasNeverSeenAreLeftOutAndCounted(t *testing.T) {
	b, _ := online(t, func(tr *standin.Traits) { tr.OddGauges = true })
	b.bounds = []string{"memory<1"}
	l := b.wait(b.start(60, "reads", "phone.launch()\ncheck.that(phone.gauge('threads') > 1, 'threads')", "asks", "phone.gauge('battery')"))
	cases := l.Attempts[0].Cases
	assert.Equal(t, verdict.Passed, cases[0].Verdict, cases[0].Message)
	assert.Contains(t, cases[1].Message, "the device does not say the gauge battery")
	said := markers(events(t, b.file(l.Attempts[0], "timeline.jsonl")))["gauges is not whole"]
	assert.Contains(t, said, "the bound memory<1 was not checked: no memory was read")
	assert.Regexp(t, `not understood of: battery \d+ times, frames \d+ times, memory \d+ times`, said)
	_, series, err := gauges.Collect(bytes.NewReader(b.file(l.Attempts[0], "gauges.csv")), 0, 0)
	require.NoError(t, err)
	for _, s := range series {
		assert.NotContains(t, []string{"memory", "battery", "temperature", "late-frames"}, s.Gauge.Name)
	}
}

func TestPicturesAfterEachCommand(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	s, err := recording.Usual().Parse("screenshots:commands,trees:steps")
	require.NoError(t, err)
	b.recording = &s
	l := b.wait(b.start(60, "looks", "phone.launch()\nphone.find('#shore_gull-ledge')\nphone.step('there')\nphone.tap('#shore_gull-ledge')\nphone.find('#tide_0')\nphone.wait_gone('#start', within = 1)"))
	es := b.whole(l.Attempts[0])
	after := map[string]bool{}
	for _, e := range es {
		if strings.HasPrefix(e.Name, "after ") {
			after[e.Name] = e.File != ""
		}
		if e.Kind == timeline.Step {
			assert.NotEmpty(t, e.File)
			assert.Contains(t, string(b.file(l.Attempts[0], e.Tree)), "shore_gull-ledge")
		}
	}
	assert.True(t, after["after tap"])
}

// shown are the moments of a video's pictures, in ms.
func shown(t *testing.T, video []byte) (at []int64) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "v.mp4")
	require.NoError(t, os.WriteFile(file, video, 0o600))
	text, err := exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "packet=pts_time", "-of", "csv=p=0", file).Output()
	require.NoError(t, err)
	for _, l := range strings.Fields(string(text)) {
		s, err := strconv.ParseFloat(strings.Trim(l, ","), 64)
		require.NoError(t, err)
		at = append(at, int64(math.Round(s*1000)))
	}
	return at
}

func TestTheVideoShowsWhatACommandDidWhenItDidIt(t *testing.T) {
	// Where a machine stands still for seconds, so does the phone's encoder, which is one in software: that spoils a film, but not three.
	var wrong []string
	for range 3 {
		if wrong = misplaced(t); len(wrong) == 0 {
			return
		}
		t.Log(wrong)
	}
	assert.Empty(t, wrong)
}

// misplaced films a test, and says which of its taps the video does not show when they were.
func misplaced(t *testing.T) (wrong []string) {
	aMinute := time.Now().Truncate(time.Minute).Add(2 * time.Minute) // the phone's begins with the test: its clock, too, is on the screen
	b, _ := online(t, func(tr *standin.Traits) { tr.Temper, tr.Skew = standin.Real, time.Until(aMinute) })
	l := b.wait(b.start(120, "film", "phone.launch()\nphone.tap('#shore_gull-ledge')\nfor i in range(2):\n    phone.long_press('#title', seconds = 2)\n    phone.tap('#show_chart')\n    phone.long_press('#title', seconds = 2)\n    phone.tap('#show_table')\nphone.long_press('#title', seconds = 2)\n"))
	require.Equal(t, verdict.Passed, l.Verdict, "%+v", l.Attempts[0].Cases)
	a := l.Attempts[0]
	pictures := shown(t, b.file(a, "video.mp4"))
	taps := 0
	for _, e := range events(t, b.file(a, "timeline.jsonl")) {
		if e.Kind != timeline.Command || e.Name != "tap" || e.Args["element"] != "#show_chart" && e.Args["element"] != "#show_table" {
			continue
		}
		taps++
		in := func(from, to int64) bool {
			return slices.ContainsFunc(pictures, func(at int64) bool { return at >= from && at <= to })
		}
		if !in(e.At, e.At+e.Took+1500) {
			wrong = append(wrong, fmt.Sprintf("what the tap from %d for %d ms did is not shown then: %v", e.At, e.Took, pictures))
		}
		if in(e.At-300, e.At-1) {
			wrong = append(wrong, fmt.Sprintf("something is shown before the tap from %d: %v", e.At, pictures))
		}
	}
	require.Equal(t, 4, taps)
	return wrong
}

func TestTheVideoGoesOnWhenTheDeviceFilmsNoMore(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*standin.Traits)
		during func(*standin.Phone)
		told   string
	}{
		"it never did":         {func(tr *standin.Traits) { tr.NoFilm = true }, nil, "unable to create video/avc codec instance"},
		"it dies, and is back": {nil, func(p *standin.Phone) { p.BreakFilm(false) }, ""},
		"it dies for good":     {nil, func(p *standin.Phone) { p.BreakFilm(true) }, "unable to create video/avc codec instance"},
	} {
		t.Run(name, func(t *testing.T) { // one after the other: where a machine has too much to do, single pictures are taken seldom
			if c.change == nil {
				c.change = func(*standin.Traits) {}
			}
			b, _ := online(t, c.change)
			const look = "phone.launch()\nphone.tap('#shore_gull-ledge')\nfor i in range(%d):\n    phone.tap('#show_chart')\n    phone.background(0.5)\n    phone.tap('#show_table')\n"
			run := b.start(120, "before", fmt.Sprintf(look, 3), "after", fmt.Sprintf(look, 8))
			b.until(run, "c.test_after")
			if c.during != nil {
				c.during(b.phone)
			}
			l := b.wait(run)
			a := l.Attempts[0]
			require.Equal(t, verdict.Passed, l.Verdict)
			told := ""
			for _, e := range events(t, b.file(a, "timeline.jsonl")) {
				if e.Kind == timeline.Marker && strings.HasPrefix(e.Name, "the video is of single pictures") {
					told += e.Answer
				}
				assert.NotContains(t, e.Name, "not whole")
			}
			if c.told == "" {
				assert.Empty(t, told)
			} else {
				assert.Contains(t, told, c.told)
			}
			pictures := shown(t, b.file(a, "video.mp4"))
			assert.Zero(t, pictures[0])
			later := 0
			for _, at := range pictures {
				if at > a.Cases[1].StartMS {
					later++
				}
			}
			assert.Greater(t, later, 3, "%v", pictures)
		})
	}
}
