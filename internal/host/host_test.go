package host_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/host"
	"tessellant/internal/housetest"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/service"
	standin "tessellant/internal/standin/phone"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// bench is a service, a phone and a host beside it, with Kelpline uploaded.
type bench struct {
	conditions conditions.Set // of the runs that are started
	*housetest.Service
	t     *testing.T
	adb   *adb.Process
	phone *standin.Phone
	stop  func()
	again func()

	confirm, attempts int // for the runs that start starts
	recording         *recording.Set
	bounds            []string
}

// config is a host's, with the addresses of its devices.
type config struct {
	host.Config
	Connect []string
}

func set(t *testing.T, serial string, temper standin.Temper, change ...func(*config)) *bench {
	t.Helper()
	traits := housetest.Fleet(t)[serial]
	traits.Temper = temper
	return setUp(t, traits, change...)
}

// setUp is the same with a phone of these traits.
func setUp(t *testing.T, traits standin.Traits, change ...func(*config)) *bench {
	t.Helper()
	server := housetest.ADB(t)
	p := housetest.Phone(t, server, traits)
	b := &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t, adb: server, phone: p}
	c := config{Connect: []string{p.Address()}}
	for _, f := range change {
		f(&c)
	}
	c.Labs = housetest.ADBLab(adblab.Config{Server: &server.Server, Connect: c.Connect})
	b.again = func() { b.stop = b.HostWith(t, c.Config) }
	b.again()
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	_, _, err = b.AddBuild(context.Background(), b.Who, service.Upload{Body: apk, Size: -1})
	require.NoError(t, err)
	housetest.Eventually(t, "the phone is free", func() bool {
		ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		return err == nil && len(ds) == 1 && ds[0].Standing().State == "ready"
	})
	return b
}

// start runs cases written as bodies of functions: name → body.
func (b *bench) start(limit int, cases ...string) string {
	b.t.Helper()
	var src strings.Builder
	for i := 0; i+1 < len(cases); i += 2 {
		src.WriteString("def test_" + cases[i] + "(phone):\n    " + strings.ReplaceAll(cases[i+1], "\n", "\n    ") + "\n")
	}
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: cases\nkind: script\n")}, "c.star": {Data: []byte(src.String())}}
	var zip bytes.Buffer
	require.NoError(b.t, testpkg.Pack(f, &zip))
	ctx := context.Background()
	_, _, err := b.AddPackage(ctx, b.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(b.t, err)
	r, _, err := b.StartRun(ctx, b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "cases@newest", LimitSeconds: limit, Confirm: b.confirm, Attempts: b.attempts, Conditions: b.conditions, Recording: b.recording, Bounds: b.bounds})
	require.NoError(b.t, err)
	return r.ID
}

// whole checks that an attempt's evidence is: its timeline without a gap, the pictures that it names, log and video.
func (b *bench) whole(a service.AttemptDetail) []timeline.Event {
	b.t.Helper()
	es := events(b.t, b.file(a, "timeline.jsonl"))
	for i, e := range es {
		assert.Equal(b.t, i+1, e.Seq)
		if e.File != "" {
			b.file(a, e.File)
		}
	}
	b.file(a, "device.log")
	b.file(a, "video.mp4")
	return es
}

// startFiles runs a package of these files, which takes a secret input code.
func (b *bench) startFiles(files, secrets map[string]string) string {
	b.t.Helper()
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: files\nkind: script\ninputs:\n  code: {secret: true}\n")}}
	for n, s := range files {
		f[n] = &fstest.MapFile{Data: []byte(s)}
	}
	var zip bytes.Buffer
	require.NoError(b.t, testpkg.Pack(f, &zip))
	ctx := context.Background()
	_, _, err := b.AddPackage(ctx, b.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(b.t, err)
	r, _, err := b.StartRun(ctx, b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "files@newest", Secrets: secrets})
	require.NoError(b.t, err)
	return r.ID
}

func (b *bench) leg(run string) service.LegDetail {
	b.t.Helper()
	ctx := context.Background()
	r, err := b.Run(ctx, b.Who, run)
	require.NoError(b.t, err)
	l, err := b.Leg(ctx, b.Who, r.Legs[0].ID)
	require.NoError(b.t, err)
	return l
}

func (b *bench) wait(run string) service.LegDetail {
	b.t.Helper()
	for deadline := time.Now().Add(90 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if l := b.leg(run); l.Stage == "done" {
			return l
		} else if time.Now().After(deadline) {
			require.Failf(b.t, "the leg does not end", "%+v", l)
		}
	}
}

// until waits until a case runs.
func (b *bench) until(run, name string) {
	b.t.Helper()
	housetest.Eventually(b.t, name+" runs", func() bool {
		l := b.leg(run)
		return len(l.Attempts) > 0 && l.Attempts[len(l.Attempts)-1].NowCase == name
	})
}

func (b *bench) file(a service.AttemptDetail, name string) []byte {
	b.t.Helper()
	for _, f := range a.Artifacts {
		if f.Name == name {
			r, err := b.Open(context.Background(), f, 0, -1)
			require.NoError(b.t, err)
			defer r.Close()
			raw, err := io.ReadAll(r)
			require.NoError(b.t, err)
			return raw
		}
	}
	require.Failf(b.t, "no such artifact", "%s among %v", name, a.Artifacts)
	return nil
}

func events(t *testing.T, raw []byte) []timeline.Event {
	t.Helper()
	var out []timeline.Event
	require.NoError(t, timeline.Read(bytes.NewReader(raw), func(e timeline.Event) error { out = append(out, e); return nil }))
	return out
}

func TestALegLeavesItsEvidenceOnOneClock(t *testing.T) {
	b := set(t, "fen-01", standin.Instant) // Android 9, and a clock that goes 42 s fast
	l := b.wait(b.start(60,
		"good", "phone.launch()\nphone.find('#shore_gull-ledge')\nphone.step('shores')\ncheck.that(True, 'fine')\nlog('hello')",
		"bad", "phone.launch()\ncheck.equal(phone.read('#title'), 'Beaches', 'the title')",
		"dead", "phone.launch()\nphone.tap('#shore_gull-ledge')\nphone.tap('#show_chart')\nphone.find('#tide_chart', within = 30)",
		"typed", "phone.launch()\nphone.type('#search', 'Küste')",
		"after", "phone.launch()\nphone.find('#shore_gull-ledge')"))
	assert.Equal(t, verdict.Crashed, l.Verdict)
	require.Len(t, l.Attempts, 1)
	a := l.Attempts[0]
	var got []verdict.Verdict
	for _, c := range a.Cases {
		got = append(got, c.Verdict)
	}
	require.Equal(t, []verdict.Verdict{"passed", "failed", "crashed", "failed", "passed"}, got)
	bad, dead := a.Cases[1], a.Cases[2]
	assert.Equal(t, []string{`"Beaches"`, `"Shores"`, "c.star:9"}, []string{bad.Expected, bad.Actual, bad.Line})
	assert.Contains(t, string(b.file(a, bad.Tree)), `text="Shores"`)
	assert.True(t, bytes.HasPrefix(b.file(a, bad.Shot), []byte("\x89PNG")))
	assert.Contains(t, dead.Message, "NoSuchMethodError")
	assert.Contains(t, dead.Trace, "at org.kelpline.app.TideChart.onDraw(TideChart.java:")
	assert.Equal(t, "c.star:13", dead.Line)
	assert.Less(t, dead.TookMS, int64(20_000), "a crash ends the case at once, not after the 30 s it would have waited")
	assert.Contains(t, a.Cases[3].Message, `can't type "Küste": 'ü'`)

	es := events(t, b.file(a, "timeline.jsonl"))
	var step, crash, clock timeline.Event
	commands, last := 0, 0
	for _, e := range es {
		assert.Equal(t, last+1, e.Seq)
		last = e.Seq
		switch {
		case e.Kind == timeline.Command:
			commands++
			assert.NotEmpty(t, e.Name)
		case e.Kind == timeline.Step:
			step = e
		case e.Kind == timeline.Crash:
			crash = e
		case e.Kind == timeline.Marker && e.Name == "clock":
			clock = e
		}
	}
	assert.Greater(t, commands, 20)
	assert.Equal(t, "c.good", strings.Replace(step.Case, "test_", "", 1))
	b.file(a, step.File)
	assert.GreaterOrEqual(t, crash.At, dead.StartMS-50, "the device's clock goes 42 s fast, the timeline does not")
	assert.LessOrEqual(t, crash.At, dead.StartMS+dead.TookMS+50)
	assert.NotEmpty(t, clock.Args["device_zero_ms"])
	log := string(b.file(a, "device.log"))
	assert.Contains(t, log, "FATAL EXCEPTION: main")
	first, ok := devicelog.Parse(strings.SplitN(log, "\n", 3)[1], 0)
	require.True(t, ok)
	assert.WithinDuration(t, time.Now().Add(42*time.Second), first.At, 2*time.Minute)

	video := t.TempDir() + "/v.mp4"
	require.NoError(t, os.WriteFile(video, b.file(a, "video.mp4"), 0o600))
	out, err := exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "stream=codec_name,width,nb_frames,color_space,duration", "-of", "csv=p=0", video).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Regexp(t, `^h264,544,bt709,\d+\.\d+,\d+`, string(out))
}

func TestAPhoneThatIsUnpluggedInACaseGetsTheLegAnotherAttempt(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "first", "phone.launch()", "long", "phone.launch()\nphone.wait_gone('#title', within = 3)" /* fails after 3 s */)
	b.until(run, "c.test_long")
	b.phone.Unplug()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	one, two := l.Attempts[0], l.Attempts[1]
	assert.Equal(t, verdict.Lost, one.Verdict)
	assert.Contains(t, one.Message, "orr-01 was lost")
	assert.NotEmpty(t, events(t, b.file(one, "timeline.jsonl")), "what was gathered until then is kept")
	b.file(one, "device.log")
	b.file(one, "video.mp4")
	assert.Equal(t, verdict.Failed, two.Verdict)
	assert.Len(t, two.Cases, 2)
	assert.Equal(t, verdict.Failed, l.Verdict)
}

func TestAPhoneThatIsUnpluggedInWhatAFileWantsBeforeItsCasesIsLost(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	run := b.startFiles(map[string]string{
		"a.star": "def before_file(phone):\n    phone.launch()\n    phone.find('#title')\n    phone.wait_gone('#title', within = 3)\ndef test_one(phone):\n    log('never')\n",
	}, map[string]string{"code": "ebb-and-flow"})
	housetest.Eventually(t, "before_file runs", func() bool { return b.leg(run).Stage == "running" })
	b.phone.Unplug()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	require.Len(t, l.Attempts[0].Cases, 1)
	c := l.Attempts[0].Cases[0]
	assert.Contains(t, []verdict.Verdict{verdict.Lost, verdict.Skipped}, c.Verdict, "a device's loss is no failed case")
	assert.Contains(t, c.Message, "orr-01 was lost")
	assert.Contains(t, l.Attempts[0].Message, "orr-01 was lost")
	assert.Equal(t, verdict.Failed, l.Attempts[1].Verdict)
}

func TestAPhoneThatIsUnpluggedWhileTheBuildIsInstalled(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Real)
	run := b.start(120, "first", "phone.launch()")
	housetest.Eventually(t, "the leg is being prepared", func() bool { return b.leg(run).Stage == "preparing" })
	housetest.Eventually(t, "the phone is installing", b.phone.Installing)
	b.phone.Unplug()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Regexp(t, "orr-01 was lost while it should (install the build|send its log|answer)", l.Attempts[0].Message)
	b.file(l.Attempts[0], "timeline.jsonl")
	assert.Equal(t, verdict.Passed, l.Verdict)
	b.whole(l.Attempts[1])
}

func TestAPhoneThatIsUnpluggedWhileTheVideoIsWrittenHasDoneItsWork(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "first", "phone.launch()\nphone.find('#title')")
	housetest.Eventually(t, "the leg is collecting", func() bool { s := b.leg(run).Stage; return s == "collecting" || s == "done" })
	b.phone.Unplug()
	l := b.wait(run)
	require.Len(t, l.Attempts, 1)
	assert.Equal(t, verdict.Passed, l.Verdict)
	b.whole(l.Attempts[0])
}

func TestWhenTheADBServerDiesTheLegIsTriedAgain(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "first", "phone.launch()", "long", "phone.launch()\nphone.background(2)")
	b.until(run, "c.test_long")
	b.adb.Kill()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Equal(t, verdict.Passed, l.Verdict)
	b.whole(l.Attempts[0])
	b.whole(l.Attempts[1])
}

func TestAPhoneThatFreezesIsLostThoughItStaysListed(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, func(c *config) { c.Silence = 2 * time.Second })
	run := b.start(120, "long", "phone.launch()\nphone.find('#title')\nphone.background(2)\nphone.find('#title')")
	b.until(run, "c.test_long")
	b.phone.Freeze()
	listed, err := b.adb.Devices(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "device", listed[0].State)
	housetest.Eventually(t, "the attempt is lost", func() bool { l := b.leg(run); return len(l.Attempts) > 0 && l.Attempts[0].Verdict == verdict.Lost })
	b.phone.Thaw()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Contains(t, l.Attempts[0].Message, "it did not answer in time")
	assert.Equal(t, verdict.Passed, l.Verdict)
	b.file(l.Attempts[0], "timeline.jsonl")
}

func TestAnAppThatDoesNotRespondHasCrashed(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	l := b.wait(b.start(120, "hangs", "phone.launch(args = {'debug_block': '12000'})\nphone.background(1)\nphone.wait_until(lambda: phone.tap('#shore_gull-ledge') or phone.sees('#tide_0'), within = 30)",
		"dies", "phone.launch(args = {'debug_crash': 'low tide'})\nphone.find('#never', within = 20)", "after", "phone.launch()\nphone.find('#shore_gull-ledge')"))
	cs := l.Attempts[0].Cases
	require.Len(t, cs, 3)
	assert.Equal(t, []verdict.Verdict{"crashed", "crashed", "passed"}, []verdict.Verdict{cs[0].Verdict, cs[1].Verdict, cs[2].Verdict})
	assert.Contains(t, cs[0].Message, "the app is not responding: Input dispatching timed out")
	assert.Contains(t, cs[0].Trace, "ANR in org.kelpline.app")
	assert.Contains(t, string(b.file(l.Attempts[0], cs[0].Tree)), "isn&#39;t responding")
	assert.Contains(t, cs[1].Message, "low tide")
}

func TestADeviceIsSetAsTheRunWantsAndPutBack(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	before := b.phone.Stands()
	b.conditions = conditions.Set{conditions.Language: "de", conditions.DisplaySize: "1.2", conditions.FontScale: "1.3", conditions.Orientation: "landscape", conditions.TimeZone: "Asia/Tokyo", conditions.Animations: "off"}
	l := b.wait(b.start(120, "a", `phone.launch()
phone.find('#shore_gull-ledge')
log('language %s width %d' % (phone.facts['language'], phone.facts['width']))
phone.conditions('font-scale:1,dark')
check.that(phone.sees('#settings[label=Einstellungen]') or phone.sees('#settings[text=Einstellungen]'), 'the app is German')`, "b", "phone.launch()\nphone.find('#shore_gull-ledge')"))
	require.Equal(t, verdict.Passed, l.Verdict, l.Message)
	var said []string
	for _, e := range b.whole(l.Attempts[0]) {
		if e.Name == "set conditions" || e.Kind == timeline.Log {
			said = append(said, e.Name+e.Answer+e.Args["to"])
		}
	}
	assert.Equal(t, []string{"set conditionslanguage:de,time-zone:Asia/Tokyo,font-scale:1.3,display-size:1.2,animations:off,orientation:landscape", "language de width 342", "set conditionsfont-scale:1,dark"}, said)
	assert.Equal(t, before, b.phone.Stands(), "all is as it was")
	d, err := b.Store.DeviceByID(context.Background(), l.DeviceID)
	require.NoError(t, err)
	assert.False(t, d.Quarantined.Valid)
}

func TestADeviceThatTakesASettingAndKeepsItsOwnSaysSoInTheLeg(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	before := b.phone.Stands()
	b.phone.Lie("font_scale")
	b.conditions = conditions.Set{conditions.FontScale: "1.3", conditions.Dark: "on"}
	l := b.wait(b.start(120, "a", "phone.launch()"))
	require.Len(t, l.Attempts, 1, "another attempt would end the same")
	assert.Equal(t, verdict.Invalid, l.Verdict, "it says nothing of the app")
	assert.Contains(t, l.Message, `the device would not be set to font-scale:1.3: afterwards it says "1.0"; set the device by hand, or leave it out`)
	assert.Equal(t, before, b.phone.Stands(), "what was set beside it is put back")
	d, err := b.Store.DeviceByID(context.Background(), l.DeviceID)
	require.NoError(t, err)
	assert.Zero(t, d.LostInRow)
}

func TestFilesAreThereBeforeAndKeptAfterwardsAndAnotherAppIsBeside(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	ctx := context.Background()
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: files2\nkind: script\n")}, "data/note.txt": {Data: []byte("calm sea\n")}, "c.star": {Data: []byte("def test_a(phone):\n    phone.launch()\n    phone.find('#shore_gull-ledge')\n")}}
	var zip bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &zip))
	_, _, err := b.AddPackage(ctx, b.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(t, err)
	q := service.RunRequest{Build: "kelpline/android@newest", Package: "files2@newest", Put: []work.File{{From: "data/note.txt", To: "/sdcard/Download/note.txt"}}, Fetch: []string{"/sdcard/Download/note.txt", "/sdcard/none.txt"}}
	r, _, err := b.StartRun(ctx, b.Who, q)
	require.NoError(t, err)
	l := b.wait(r.ID)
	require.Equal(t, verdict.Passed, l.Verdict, l.Message)
	assert.Equal(t, "calm sea\n", string(b.file(l.Attempts[0], "kept/01-note.txt")))
	assert.Contains(t, string(b.file(l.Attempts[0], "timeline.jsonl")), "file not kept")
	assert.NotContains(t, b.phone.Files(), "/sdcard/Download/note.txt", "it is removed with the app")
	for path, why := range map[string]string{"/system/x": "is no place for a file", "/sdcard/../data/x": "is no place for a file", "relative": "is no place for a file"} {
		q.Put[0].To = path
		_, _, err = b.StartRun(ctx, b.Who, q)
		assert.ErrorContains(t, err, why, path)
	}
	q.Put, q.Beside = nil, []string{"kelpline/android@newest"}
	_, _, err = b.StartRun(ctx, b.Who, q)
	assert.ErrorContains(t, err, "they are the same app")
}

func TestARunThatIsStoppedEndsWithWhatItHas(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "a", "phone.launch()", "b", "phone.find('#never', within = 60)", "c", "phone.launch()")
	b.until(run, "c.test_b")
	_, err := b.StopRun(context.Background(), b.Who, run, "")
	require.NoError(t, err)
	stopped := time.Now()
	l := b.wait(run)
	assert.Less(t, time.Since(stopped), 10*time.Second)
	assert.Equal(t, verdict.Stopped, l.Verdict)
	require.Len(t, l.Attempts, 1)
	cs := l.Attempts[0].Cases
	assert.Equal(t, []verdict.Verdict{"passed", "stopped", "skipped"}, []verdict.Verdict{cs[0].Verdict, cs[1].Verdict, cs[2].Verdict})
	assert.Equal(t, "not begun: the run was stopped", cs[2].Message)
	b.whole(l.Attempts[0])
}

func TestAFailureThatIsConfirmedIsFlakyWhenItPassesThen(t *testing.T) {
	t.Parallel()
	b := set(t, "fen-04", standin.Instant)
	b.confirm = 2
	send := "phone.launch()\nphone.tap('#shore_gull-ledge')\nphone.tap('#start')\nphone.tap(phone.scroll_to('#review'))\nphone.tap('#send')\nphone.find('#receipt', within = 3)"
	l := b.wait(b.start(120, "wrong", "check.equal(1, 2, 'sums')", "sync", send, "good", "phone.launch()"))
	cs := l.Attempts[0].Cases
	require.Len(t, cs, 3)
	assert.Equal(t, []verdict.Verdict{"failed", "flaky", "passed"}, []verdict.Verdict{cs[0].Verdict, cs[1].Verdict, cs[2].Verdict})
	assert.Equal(t, "sums: expected 2, but there was 1 (the same in 3 tries)", cs[0].Message)
	assert.Len(t, cs[0].Tries.V, 3)
	require.Len(t, cs[1].Tries.V, 2)
	assert.Equal(t, []verdict.Verdict{"failed", "passed"}, []verdict.Verdict{cs[1].Tries.V[0].Verdict, cs[1].Tries.V[1].Verdict})
	assert.Contains(t, cs[1].Message, "failed, then passed in try 2 with nothing changed: expected #receipt within 3s")
	assert.NotEmpty(t, cs[1].Shot, "the failed try's screen is kept")
	assert.Empty(t, cs[2].Tries.V)
	b.whole(l.Attempts[0])
}

func TestWhatFilesWantAroundTheirCasesIsDone(t *testing.T) {
	b := set(t, "qui-01", standin.Instant)
	l := b.wait(b.startFiles(map[string]string{
		"a.star": "def before_file(phone):\n    return {'shore': 'old-slip'}\ndef before_case(phone):\n    phone.launch(args = prepared)\n    phone.find('#tide_0')\n" +
			"def after_file(phone):\n    check.equal(1, 2, 'the tidying up')\n" +
			"def test_one(phone):\n    check.equal(phone.read('#title'), 'Old Slip')\n    phone.rotate('landscape')\n    phone.dark()\n    phone.step('turned')\n" +
			"def test_two(phone):\n    check.equal(phone.read('#title'), 'Old Slip')\n",
		"b.star":  "def before_file(phone):\n    x = 1 // 0\ndef test_three(phone):\n    log('never')\n",
		"b2.star": "def before_file(phone):\n    skip('only at low water')\ndef test_six(phone):\n    log('never')\n",
		"c.star":  "file(clear_between = False)\ndef test_four(phone):\n    phone.launch()\n    phone.tap('#shore_gull-ledge')\ndef test_five(phone):\n    phone.find('#tide_0')\n",
	}, map[string]string{"code": "ebb-and-flow"}))
	var got []string
	for _, c := range l.Attempts[0].Cases {
		got = append(got, string(c.Verdict)+" "+c.Message)
	}
	assert.Equal(t, []string{"passed ", "failed after_file: the tidying up: expected 2, but there was 1", "failed before_file: floored division by zero", "skipped before_file: only at low water", "passed ", "passed "}, got)
	es := b.whole(l.Attempts[0])
	restored := false
	for _, e := range es {
		restored = restored || e.Name == "restore settings"
	}
	assert.True(t, restored, "the device is set back after the case that turned it")
}

func TestSecretsAreNowhereInTheEvidence(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	l := b.wait(b.startFiles(map[string]string{"a.star": "def test_a(phone):\n    phone.launch()\n    phone.type('#search', inputs['code'])\n    log('the code is ' + inputs['code'])\n    check.equal(phone.read('#search'), 'x', inputs['code'])\n"},
		map[string]string{"code": "ebb and flow"}))
	assert.Equal(t, verdict.Failed, l.Verdict)
	c := l.Attempts[0].Cases[0]
	assert.Contains(t, c.Message+c.Actual, "••••••")
	for _, f := range l.Attempts[0].Artifacts {
		if f.Kind != "video" && f.Kind != "screenshot" {
			assert.NotContains(t, string(b.file(l.Attempts[0], f.Name)), "ebb and flow", f.Name)
		}
	}
	assert.NotContains(t, fmt.Sprintf("%+v", l), "ebb and flow")
	assert.Contains(t, string(b.file(l.Attempts[0], c.Tree)), "••••••")
}

func TestAHostWhoseFolderIsFullLeavesEvidenceOutAndNoVerdict(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, func(c *config) { c.SpoolLimit = 40 << 10 })
	l := b.wait(b.start(120, "a", "phone.launch()\nphone.find('#title')\nphone.step('one')", "b", "phone.launch()\ncheck.equal(1, 2, 'sums')"))
	assert.Equal(t, verdict.Failed, l.Verdict)
	assert.Contains(t, l.Message, "the host's folder holds as much as it may")
	assert.Len(t, l.Attempts[0].Cases, 2)
	b.file(l.Attempts[0], "timeline.jsonl")
}

func TestAServiceWithoutRoomGetsTheEvidenceWhenItHasSome(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	run := b.start(120, "a", "phone.launch()\nphone.find('#title')\nphone.step('one')")
	b.until(run, "c.test_a")
	b.Blobs.Reserve.Store(1 << 60)
	housetest.Eventually(t, "the leg is collecting", func() bool { return b.leg(run).Stage == "collecting" })
	_, _, err := b.AddBuild(context.Background(), b.Who, service.Upload{Body: strings.NewReader("x"), Size: -1})
	require.ErrorContains(t, err, "disk is full")
	assert.Never(t, func() bool { return b.leg(run).Stage == "done" }, time.Second, 100*time.Millisecond)
	b.Blobs.Reserve.Store(0)
	l := b.wait(run)
	assert.Equal(t, verdict.Passed, l.Verdict)
	b.whole(l.Attempts[0])
}

func TestADeviceWithoutStorageIsUnusableAndSaysWhatToDo(t *testing.T) {
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper, traits.FreeMB = standin.Instant, 12
	p := housetest.Phone(t, server, traits)
	s := housetest.StartService(t, housetest.DSN(t))
	s.Host(t, &server.Server, p.Address())
	housetest.Eventually(t, "the device is unusable", func() bool {
		ds, _, err := s.Devices(context.Background(), store.Identity{}, nil, "", 10)
		require.NoError(t, err)
		return len(ds) == 1 && ds[0].Standing().State == "unusable" && strings.Contains(ds[0].Standing().Why, "12 MB free): remove apps or files")
	})
}

func TestAQuarantinedDeviceIsCheckedAndReleased(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	b.QuarantineLasts = 500 * time.Millisecond
	ctx := context.Background()
	ds, _, err := b.Devices(ctx, store.Identity{}, nil, "", 10)
	require.NoError(t, err)
	require.NoError(t, b.Store.Quarantine(ctx, ds[0].ID, "itself", "cable"))
	housetest.Eventually(t, "it is released by its check", func() bool {
		d, err := b.Device(ctx, b.Who, "orr-01")
		require.NoError(t, err)
		return !d.Quarantined.Valid
	})
}

func TestALegOutOfTimeIsExpiredAndKeepsItsEvidence(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	l := b.wait(b.start(3, "a", "phone.launch()\nphone.find('#title')", "b", "phone.find('#never', within = 100)", "c", "phone.launch()"))
	assert.Equal(t, verdict.Expired, l.Verdict)
	cs := l.Attempts[0].Cases
	require.Len(t, cs, 3)
	assert.Equal(t, []verdict.Verdict{"passed", "expired", "skipped"}, []verdict.Verdict{cs[0].Verdict, cs[1].Verdict, cs[2].Verdict})
	assert.Equal(t, "c.star:5", cs[1].Line)
	assert.Contains(t, cs[1].Message, "time limit")
	b.file(l.Attempts[0], cs[1].Shot)
	b.file(l.Attempts[0], "video.mp4")
}

func TestAHostThatIsStoppedBreaksItsLegOffAndTheLegGoesOn(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	run := b.start(60, "a", "phone.launch()\nphone.wait_gone('#title', within = 2)")
	b.until(run, "c.test_a")
	b.stop()
	b.again()
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Equal(t, "the host was stopped while the leg ran", l.Attempts[0].Message)
	assert.NotEmpty(t, events(t, b.file(l.Attempts[0], "timeline.jsonl")))
	assert.Equal(t, verdict.Failed, l.Verdict)
}

func TestWorkWhoseHoldHasRunOutIsLeftBeforeTheDeviceIsUsedAgain(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant)
	run := b.start(60, "a", "phone.launch()\nphone.wait_gone('#title', within = 4)")
	b.until(run, "c.test_a")
	ctx := context.Background()
	holds, err := b.Store.ActiveHolds(ctx, "")
	require.NoError(t, err)
	// As the dispatcher does with a hold that was not renewed in time:
	_, ok, err := b.Store.CloseHold(ctx, holds[0].ID, store.Closing{Verdict: verdict.Lost, Message: "the host that ran the leg went away", Again: true})
	require.NoError(t, err)
	require.True(t, ok)
	l := b.wait(run)
	require.Len(t, l.Attempts, 2)
	assert.Equal(t, "the host that ran the leg went away", l.Attempts[0].Message, "what comes late changes no verdict")
	assert.Equal(t, verdict.Failed, l.Attempts[1].Verdict)
	two := events(t, b.file(l.Attempts[1], "timeline.jsonl"))
	for _, e := range two {
		assert.NotContains(t, e.Error, "not installed", "the one that was left did not meddle")
	}
	housetest.Eventually(t, "the evidence of the first attempt has come late", func() bool {
		for _, f := range b.leg(run).Attempts[0].Artifacts {
			if f.Name == "timeline.jsonl" {
				return true
			}
		}
		return false
	})
}

func TestTwoRunsThatWantOneDeviceGoOneAfterTheOther(t *testing.T) {
	b := set(t, "emu-03", standin.Instant)
	one := b.start(60, "a", "phone.launch()\nphone.find('#title')")
	two := b.start(60, "a", "phone.launch()\nphone.find('#title')")
	l1, l2 := b.wait(one), b.wait(two)
	assert.Equal(t, verdict.Passed, l1.Verdict)
	assert.Equal(t, verdict.Passed, l2.Verdict)
	var order string
	db, err := sql.Open("mysql", b.DSN)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow("SELECT group_concat(if(h.released <= n.created, 'given back first', 'still held')) FROM holds h, holds n WHERE h.work_id = ? AND n.work_id = ?", l1.ID, l2.ID).Scan(&order))
	assert.Equal(t, "given back first", order, "the second began when the first had left the device")
	assert.False(t, l1.Attempts[0].Ended.Time.Before(l1.Attempts[0].Started))
}

func TestADeviceThatGoesAwayIsAwayAndComesBack(t *testing.T) {
	b := set(t, "orr-01", standin.Instant)
	b.phone.Close()
	state := func() string {
		ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		require.NoError(t, err)
		return ds[0].Standing().State + ": " + ds[0].Standing().Why
	}
	housetest.Eventually(t, "the phone is away", func() bool {
		return strings.HasPrefix(state(), "away: its host does not see it") || strings.HasPrefix(state(), "unusable: the adb server says")
	})
	_, _, err := b.StartRun(context.Background(), b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "x@1"})
	require.ErrorContains(t, err, `no package "x@1"`)
}

func TestADeviceThatCannotBeTestedIsNotGivenWorkAndSaysWhy(t *testing.T) {
	t.Parallel()
	server := housetest.ADB(t)
	b := &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t, adb: server}
	phone := func(serial string, sides standin.Sides) *standin.Phone {
		traits := housetest.Fleet(t)[serial]
		traits.Temper, traits.Sides = standin.Instant, sides
		return housetest.Phone(t, server, traits)
	}
	locked, starting, deaf := phone("orr-01", standin.Sides{Lock: "pin"}), phone("orr-02", standin.Sides{Boots: 4 * time.Second}), phone("orr-04", standin.Sides{Gates: []standin.Gate{standin.NoInject}})
	b.HostWith(t, host.Config{Labs: housetest.ADBLab(adblab.Config{Server: &server.Server, Connect: []string{locked.Address(), starting.Address(), deaf.Address()}})})
	is := func(serial, state, why string) func() bool {
		return func() bool {
			ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
			require.NoError(t, err)
			for _, d := range ds {
				if d.Serial == serial {
					return string(d.Standing().State) == state && strings.Contains(d.Standing().Why, why)
				}
			}
			return false
		}
	}
	housetest.Eventually(t, "one is still starting", is("orr-02", "unusable", "still starting"))
	housetest.Eventually(t, "one is locked", is("orr-01", "unusable", "locked by a PIN"))
	housetest.Eventually(t, "one takes no input", is("orr-04", "unusable", "USB debugging (Security settings)"))
	housetest.Eventually(t, "it has started", is("orr-02", "ready", ""))
	locked.Unlock()
	housetest.Eventually(t, "a person unlocked it", is("orr-01", "ready", ""))
}

func TestADeviceThatIsThereInTwoWaysIsShownOnce(t *testing.T) {
	server := housetest.ADB(t)
	b := &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t, adb: server}
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = standin.Instant
	one := housetest.Phone(t, server, traits)
	other := "localhost" + one.Address()[strings.LastIndex(one.Address(), ":"):] // the same, by another address
	traits = housetest.Fleet(t)["orr-02"]
	traits.Temper, traits.SaysSerial = standin.Instant, "orr-01"
	same := housetest.Phone(t, server, traits)
	b.HostWith(t, host.Config{Labs: housetest.ADBLab(adblab.Config{Server: &server.Server, Connect: []string{one.Address(), other, same.Address()}})})
	housetest.Eventually(t, "two devices, of which one is there in two ways", func() bool {
		ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		require.NoError(t, err)
		listed, err := server.Devices(context.Background())
		require.NoError(t, err)
		return len(listed) == 3 && len(ds) == 2 && ds[0].Standing().State == "ready" && ds[1].Standing().State == "ready"
	})
	ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
	require.NoError(t, err)
	housetest.Eventually(t, "one says its two ways, the other has none to say", func() bool {
		ds, _, err = b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		require.NoError(t, err)
		return len(ds[0].Facts.V.Ways)+len(ds[1].Facts.V.Ways) == 2
	})
	assert.Equal(t, "orr-01", ds[0].Serial)
	assert.Contains(t, ds[1].Serial, "orr-01@", "the other one tells the same serial")
	// Each keeps its name when it was away.
	named := ds[1].Serial
	one.Unplug()
	same.Unplug()
	housetest.Eventually(t, "both are there again, as before", func() bool {
		ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		require.NoError(t, err)
		return len(ds) == 2 && ds[0].Standing().State == "ready" && ds[1].Standing().State == "ready" && ds[0].Serial == "orr-01" && ds[1].Serial == named
	})
}

func TestACrashDialogOfAnyLevelIsClosed(t *testing.T) {
	for _, api := range []int{23, 34} {
		t.Run(fmt.Sprint(api), func(t *testing.T) {
			t.Parallel()
			traits := housetest.Fleet(t)["orr-01"]
			traits.API, traits.Temper = api, standin.Instant
			b := setUp(t, traits)
			const fine = "phone.launch()\nphone.find('#shore_gull-ledge')"
			l := b.wait(b.start(60, "a_crash_of_native_code", "phone.launch(args = {'debug_signal': '11'})\nphone.find('#never')", "a_crash", "phone.launch(args = {'debug_crash': 'low tide'})\nphone.find('#never')", "b_fine", fine,
				"c_hang", "phone.launch(args = {'debug_block': '9000'})\nphone.find('#settings')\nphone.wait_until(lambda: [phone.tap('#settings'), phone.back()] and False, within = 15)", "d_fine", fine))
			var got []string
			for _, c := range l.Attempts[0].Cases {
				got = append(got, string(c.Verdict))
			}
			assert.Equal(t, []string{"crashed", "crashed", "passed", "crashed", "passed"}, got)
			assert.Contains(t, l.Attempts[0].Cases[0].Trace+l.Attempts[0].Cases[1].Trace, "libkelp.so (grow+16)", "the whole tombstone")
		})
	}
}

func TestAnEmulatorThatStartsLaterIsFound(t *testing.T) {
	server := housetest.ADB(t)
	b := &bench{Service: housetest.StartService(t, housetest.DSN(t)), t: t, adb: server}
	traits := housetest.Fleet(t)["emu-03"]
	traits.Temper = standin.Instant
	p, err := standin.Start(traits, "127.0.0.1:0") // not where emulators are: other tests' adb servers look there
	require.NoError(t, err)
	t.Cleanup(p.Close)
	_, port, err := net.SplitHostPort(p.Address())
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	b.HostWith(t, host.Config{Labs: housetest.ADBLab(adblab.Config{Server: &server.Server, Emulators: []int{n}})})
	housetest.Eventually(t, "it is among the devices", func() bool {
		ds, _, err := b.Devices(context.Background(), store.Identity{}, nil, "", 10)
		return err == nil && len(ds) == 1 && ds[0].Serial == "emu-03" && ds[0].Standing().State == "ready"
	})
}

func TestADeviceThatIsAtWorkIsNotCheckedAndWorkWaitsForACheck(t *testing.T) {
	t.Parallel()
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper, traits.SlowStorage = standin.Instant, time.Second // so that a check takes some seconds
	b := setUp(t, traits)
	ctx := context.Background()
	long := b.start(60, "long", "phone.launch()\nphone.wait_until(lambda: False, within = 3)")
	housetest.Eventually(t, "it runs", func() bool { return b.leg(long).Stage == "running" })
	_, err := b.StartDeviceCheck(ctx, b.Who, "orr-01")
	require.ErrorContains(t, err, "it is running other work")
	b.wait(long)
	housetest.Eventually(t, "it is free for a check", func() bool { _, err = b.StartDeviceCheck(ctx, b.Who, "orr-01"); return err == nil })
	again, err := b.StartDeviceCheck(ctx, b.Who, "orr-01")
	require.NoError(t, err)
	assert.False(t, again.Done, "one at a time")
	next := b.start(60, "next", "phone.launch()\nphone.find('#shore_gull-ledge')")
	l := b.wait(next)
	assert.Equal(t, "passed", string(l.Verdict), l.Message)
	r, err := b.DeviceCheck(ctx, b.Who, "orr-01")
	require.NoError(t, err)
	assert.True(t, r.Done && r.Fit, r.Sentence)
}

func TestAScreenThatMayNotBePicturedFailsNoCase(t *testing.T) {
	traits := housetest.Fleet(t)["fen-01"] // Android 9: its screencap says nothing then
	traits.Temper, traits.Secure = standin.Instant, true
	b := setUp(t, traits)
	l := b.wait(b.start(60, "secure", "phone.launch()\nphone.find('#shore_gull-ledge')\nphone.step('kept secret')"))
	assert.Equal(t, "passed", string(l.Verdict), l.Message)
	said := ""
	for _, e := range events(t, b.file(l.Attempts[0], "timeline.jsonl")) {
		if e.Kind == timeline.Step {
			said = e.Error
		}
	}
	assert.Contains(t, said, "FLAG_SECURE")
}

func TestAPhoneThatWasLostAtWorkIsPutBackWhenItIsThereAgain(t *testing.T) {
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper, traits.Sleeps = standin.Instant, time.Minute
	b := setUp(t, traits)
	b.attempts = 1 // no next one puts them back
	before := b.phone.Settings()
	run := b.start(60, "long", "phone.launch()\nphone.dark()\nphone.find('#never', within = 3)")
	housetest.Eventually(t, "it is set up for the test", func() bool {
		return b.phone.Settings()["system/screen_off_timeout"] != before["system/screen_off_timeout"]
	})
	b.phone.Unplug()
	housetest.Eventually(t, "its settings are back, also between attempts", func() bool {
		return b.leg(run).Stage == "done" && assert.ObjectsAreEqual(before, b.phone.Settings())
	})
}
