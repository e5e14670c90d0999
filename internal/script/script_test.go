package script

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.starlark.net/starlarkstruct"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/verdict"
	"tessellant/internal/phone"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == ChildArg {
		Child()
		return
	}
	if len(os.Args) > 1 && os.Args[1] == hostArg {
		hostOfAScript()
		return
	}
	os.Exit(m.Run())
}

// paper is a phone made of a tree and a list of what was done to it.
type paper struct {
	phone.Phone
	mu    sync.Mutex
	trees []string // one a look; the last stays
	done  []string
	last  *uitree.Screen

	camera, asks bool
}

func (p *paper) note(format string, args ...any) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done = append(p.done, fmt.Sprintf(format, args...))
	return nil
}

func (p *paper) Tree(ctx context.Context) (*uitree.Screen, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	tree := p.trees[0]
	if len(p.trees) > 1 {
		p.trees = p.trees[1:]
	}
	switch tree {
	case "moving":
		return nil, &phone.Restless{For: 12 * time.Second, Last: p.last, Seen: time.Now().Add(-14 * time.Second)}
	case "unreadable":
		return nil, &phone.Refused{Doing: "read", Why: "it gave no tree"}
	case "lost":
		return nil, &phone.Lost{Serial: "p-1", Doing: "read", Err: errors.New("unplugged")}
	}
	s, err := uitree.ParseAndroid([]byte("<hierarchy>" + tree + "</hierarchy>"))
	p.last = s
	return s, err
}

// A paper phone's app asks for its camera, when it was taken from it.
func (p *paper) Permitted(context.Context, string) (map[string]bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return map[string]bool{"paper.CAMERA": p.camera, "paper.OTHER": false}, nil
}
func (p *paper) Named(word string) []string {
	return map[string][]string{"camera": {"paper.CAMERA"}, "location": {"paper.PLACE"}}[word]
}
func (p *paper) AsNew(_ context.Context, id string) error {
	p.camera, p.asks = false, true
	return p.note("as new %s", id)
}
func (p *paper) Answer(_ context.Context, permission string, allow bool) (bool, error) {
	if !p.asks {
		return false, nil
	}
	p.asks, p.camera = false, allow
	return true, p.note("answer %s %v", permission, allow)
}
func (p *paper) Tap(_ context.Context, x, y int) error         { return p.note("tap %d,%d", x, y) }
func (p *paper) Type(_ context.Context, s string) error        { return p.note("type %s", s) }
func (p *paper) Press(_ context.Context, k ...phone.Key) error { return p.note("press %v", k) }
func (p *paper) Launch(_ context.Context, a phone.App) error {
	if a.Args != nil {
		return p.note("launch %s %v", a.ID, a.Args)
	}
	return p.note("launch %s", a.ID)
}
func (p *paper) Stop(_ context.Context, id string) error       { return p.note("stop %s", id) }
func (p *paper) KeyboardShown(_ context.Context) (bool, error) { return true, nil }
func (p *paper) Swipe(_ context.Context, a, b, c, d int, _ time.Duration) error {
	return p.note("swipe %d,%d-%d,%d", a, b, c, d)
}
func (p *paper) Step(_ context.Context, name, line string, _ *uitree.Screen, _ bool) error {
	return p.note("step %s %s", name, line)
}
func (p *paper) Check(about, expected, actual, line string, held bool) {
	_ = p.note("check %s %v", about, held)
}
func (p *paper) Log(text, line string) { _ = p.note("log %s", text) }

const send = `<node resource-id="a:id/send" class="android.widget.Button" text="Send" enabled="true" bounds="[10,20][30,60]"/>`

func try(t *testing.T, p *paper, body string, limits ...Limits) Outcome {
	t.Helper()
	src := "def test_it(phone):\n    " + strings.ReplaceAll(strings.TrimSpace(body), "\n", "\n    ") + "\n"
	p.camera = true
	h := &Hands{Phone: p, Keyboard: p, Permissions: p, App: phone.App{ID: "a"}, Facts: devices.Facts{Language: "de", API: 31, Width: 400, Height: 800, Density: 160}, Notes: p}
	var err error
	h.Data, err = testpkg.Read(fstest.MapFS{testpkg.Entry: {Data: []byte("name: a\nkind: script\n")}, "a.txt": {Data: []byte("hello")}, "b.json": {Data: []byte(`{"n": 7}`)}, "c.csv": {Data: []byte("name\none\ntwo\n")}})
	require.NoError(t, err)
	c := Case{Scripts: map[string]string{"it.star": src}, File: "it.star", Func: "test_it", Facts: h.Facts, Inputs: map[string]string{"code": "4711"}}
	if len(limits) > 0 {
		c.Limits = limits[0]
	}
	ctx, cancel := context.WithTimeoutCause(context.Background(), 20*time.Second, errors.New("the test's own limit"))
	defer cancel()
	return Run(ctx, c, h.Do)
}

func TestWordsDoWhatTheySay(t *testing.T) {
	for name, c := range map[string]struct {
		trees []string
		body  string
		want  []string
	}{
		"tap waits for its element, also while the screen moves": {[]string{"", "moving", send}, `phone.tap("#send")`, []string{"tap 20,40"}},
		"an element found before can be tapped":                  {[]string{send}, `b = phone.find("button")` + "\n" + `phone.tap(b)`, []string{"tap 20,40"}},
		"type taps first":                                        {[]string{send}, `phone.type("#send", "hi there")`, []string{"tap 20,40", "type hi there"}},
		"clear deletes what is there": {[]string{`<node resource-id="f" class="EditText" text="abc" enabled="true" bounds="[0,0][10,10]"/>`}, `phone.clear("#f")`,
			[]string{"tap 5,5", "press [end delete delete delete]"}},
		"launch, stop, back and the keyboard":   {[]string{""}, "phone.launch()\nphone.back()\nphone.hide_keyboard()\nphone.stop()", []string{"launch a", "press [back]", "press [back]", "stop a"}},
		"allow what it has already":             {[]string{""}, `phone.allow("camera")`, nil},
		"allow what nobody asks for":            {[]string{""}, `phone.allow("location")`, nil},
		"ask, and allow":                        {[]string{""}, "phone.ask_permissions()\nphone.allow('camera')", []string{"as new a", "answer camera true"}},
		"ask, and deny":                         {[]string{""}, "phone.ask_permissions()\nphone.deny('camera')", []string{"as new a", "answer camera false"}},
		"a touch on the newest screen":          {[]string{send, "moving"}, "phone.find('#send')\nphone.tap('#send', within = 0.1)", []string{"log the screen has not come to rest for 12 s: #send is touched where it was 14 s ago", "tap 20,40"}},
		"looks that do not wait for rest":       {[]string{send, "moving"}, "phone.find('#send')\nphone.settle(False)\nphone.find('#send')\nphone.tap('#send')", []string{"log the screen has not come to rest for 12 s: #send is touched where it was 14 s ago", "tap 20,40"}},
		"swipe":                                 {[]string{""}, `phone.swipe("up")`, []string{"swipe 200,600-200,200"}},
		"steps, checks and lines are noted":     {[]string{send}, "phone.step('one')\ncheck.equal(phone.read('#send'), 'Send', 'the button')\nlog('x')\nprint('y')", []string{"step one it.star:2", "check the button true", "log x", "log y"}},
		"facts":                                 {[]string{""}, `log(phone.facts["language"] + str(phone.facts["width"]))`, []string{"log de400"}},
		"sees and all do not wait":              {[]string{send + send}, `log(str(phone.sees("#no")) + str(len(phone.all("button"))) + phone.all("button")[1].text)`, []string{"log False2Send"}},
		"wait_for waits for a text":             {[]string{send, strings.Replace(send, "Send", "Sent", 1)}, `log(phone.wait_for("#send", text = "Sent").text)`, []string{"log Sent"}},
		"launch with arguments":                 {[]string{""}, `phone.launch(args = {"shore": "x"})`, []string{"launch a map[shore:x]"}},
		"background":                            {[]string{""}, `phone.background(0.01)`, []string{"press [home]", "launch a"}},
		"press and long_press":                  {[]string{send}, "phone.press('enter')\nphone.long_press('#send', seconds = 2)", []string{"press [enter]", "swipe 20,40-20,40"}},
		"scroll_to swipes until it is there":    {[]string{"<node text='1'/>", "<node text='1'/>", "<node text='2'/>", send}, `phone.scroll_to("#send")`, nil},
		"wait_until calls the condition again":  {[]string{"", "", send}, `phone.wait_until(lambda: phone.sees("#send"), "Send")`, nil},
		"data files":                            {[]string{""}, `log(data.text("a.txt") + str(data.json("b.json")["n"]) + data.rows("c.csv")[1]["name"])`, []string{"log hello7two"}},
		"inputs":                                {[]string{""}, `log(inputs["code"])`, []string{"log 4711"}},
		"wait_gone":                             {[]string{send, send, ""}, `phone.wait_gone("#send")`, nil},
		"read of a group reads what lies in it": {[]string{`<node resource-id="r" class="ViewGroup" bounds="[0,0][9,9]"><node class="TextView" text="A"/><node class="TextView" text="B"/></node>`}, `log(phone.read("#r"))`, []string{"log A\nB"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := &paper{trees: c.trees}
			o := try(t, p, c.body)
			assert.Equal(t, verdict.Passed, o.Verdict, o.Message)
			if c.want != nil {
				assert.Equal(t, c.want, p.done)
			}
		})
	}
}

func TestFailuresSayWhatWasExpectedWhatWasThereAndWhere(t *testing.T) {
	for name, c := range map[string]struct {
		tree             string
		body             string
		expected, actual string
	}{
		"a check":                 {"", `check.equal("55", "6.5", "the total")`, `"6.5"`, `"55"`},
		"contains":                {"", `check.contains("abc", "x")`, `something that contains "x"`, `"abc"`},
		"that":                    {"", `check.that(1 > 2, "order")`, "true", "False"},
		"what never comes":        {send, `phone.tap("#gone", within = 0.2)`, "#gone within 200ms", `no such element among: #send "Send"`},
		"a text never there":      {send, `phone.wait_for("#send", text = "Sent", within = 0.1)`, `#send with the text "Sent" within 100ms`, `#send, but its text is "Send"`},
		"what never goes":         {send, `phone.wait_gone("#send", within = 0.1)`, "#send to go away within 100ms", "it still on the screen"},
		"what is disabled":        {strings.Replace(send, `enabled="true"`, `enabled="false"`, 1), `phone.tap("#send", within = 0.1)`, "#send within 100ms", "#send, but it is disabled"},
		"a condition never true":  {"", `phone.wait_until(lambda: 0, "a shore", within = 0.1)`, "a shore within 0.1s", "the condition still giving 0"},
		"the end of what scrolls": {send, `phone.scroll_to("#gone")`, "#gone after 1 swipes", `no such element among: #send "Send"`},
		"what moves all along":    {"moving", `phone.find("#send", within = 0.1)`, "#send within 100ms", "a screen that has not come to rest for 12 s and could not be read"},
		"what moves and stays":    {"moving", `phone.wait_gone("#send", within = 0.1)`, "#send to go away within 100ms", "a screen that has not come to rest for 12 s and could not be read"},
		"what can't be read":      {"unreadable", `phone.find("#send", within = 0.1)`, "#send within 100ms", "a screen that could not be read"},
		"a dialog never there":    {"", "phone.deny('camera', within = 0.1)", "to deny camera within 100ms", `the app has it already, and does not ask; make it ask: phone.ask_permissions() before phone.launch()`},
		"what nobody can deny":    {"", "phone.deny('location', within = 0.1)", "to deny location within 100ms", `this system does not ask for it, or the app's manifest does not; leave it out here: phone.facts["api"] says which system it is`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := try(t, &paper{trees: []string{c.tree}}, c.body+"\nlog('never')")
			assert.Equal(t, verdict.Failed, o.Verdict)
			var f *Failure
			require.ErrorAs(t, o.Err, &f)
			assert.Equal(t, c.expected, f.Expected)
			assert.Equal(t, c.actual, f.Actual)
			assert.Equal(t, "it.star:2", o.Line)
		})
	}
}

func TestACaseThatIsWrongEndsTheCaseAndNotTheHost(t *testing.T) {
	for name, c := range map[string]struct {
		body    string
		limits  Limits
		verdict verdict.Verdict
		message string
	}{
		"an endless loop":              {"while True:\n    pass", Limits{Steps: 1_000_000, Memory: 64 << 20}, verdict.Expired, "is there an endless loop at it.star:"},
		"memory, bit by bit":           {"x = [1]\nwhile True:\n    x = x + x", Limits{Steps: 1 << 40, Memory: 64 << 20}, verdict.Failed, "needed more than 64 MB of memory"},
		"memory, in one go":            {"x = [0] * (1 << 29)", Limits{Steps: 1 << 40, Memory: 64 << 20}, verdict.Failed, "needed more than 64 MB of memory"},
		"a text without end":           {"x = 'a'\nwhile True:\n    x = x + x", Limits{Steps: 1 << 40, Memory: 64 << 20}, verdict.Failed, "needed more than 64 MB of memory"},
		"an error of the script's own": {"x = 1 // 0", Limits{}, verdict.Failed, "division by zero"},
		"a wrong argument":             {"phone.tap()", Limits{}, verdict.Failed, "missing argument for target"},
		"a wrong type":                 {"phone.tap([1])", Limits{}, verdict.Failed, "want a locator or an element"},
		"a function as a locator":      {"phone.tap(len)", Limits{}, verdict.Failed, "can't be used here"},
		"a key that is none":           {"phone.press('any')", Limits{}, verdict.Failed, "the keys are back, home"},
		"a way to turn that is none":   {"phone.rotate('round')", Limits{}, verdict.Failed, "no settings that can be changed"},
		"arguments that are no dict":   {"phone.launch(args = 'x')", Limits{}, verdict.Failed, "args must be a dict"},
		"a truth that is none":         {"phone.step('review', like_reference = 1)", Limits{}, verdict.Failed, "like_reference must be True or False"},
		"a truth in quotes":            {"phone.settle('no')", Limits{}, verdict.Failed, "on must be True or False"},
		"seconds that are none":        {"phone.find('#a', within = '5')", Limits{}, verdict.Failed, "within must be a number of seconds"},
		"a wrong locator":              {"phone.tap('but' + 'ton[')", Limits{}, verdict.Failed, "can't be used: as CSS"},
		"a wrong direction":            {"phone.swipe('round')", Limits{}, verdict.Failed, "up, down, left or right"},
		"numbers squared on and on":    {"x = 3\nfor i in range(60):\n    x = x * x\n    log(str(x))", Limits{Steps: 1 << 40, Memory: 256 << 20, CPU: 2}, verdict.Expired, "2 s of processor time"},
		"a top level without end":      {"pass\nwhile True:\n    pass\n", Limits{Steps: 1_000_000, Memory: 64 << 20}, verdict.Expired, "is there an endless loop"},
		"an error that is a book":      {"fail('x' * (1 << 23))", Limits{}, verdict.Failed, "(cut: it had 8388"},
	} {
		t.Run(name, func(t *testing.T) {
			if strings.Contains(c.message, "of memory") && !bounded {
				t.Skip("under the race detector a script's memory has no bound")
			}
			t.Parallel()
			o := try(t, &paper{trees: []string{""}}, c.body, c.limits)
			assert.Equal(t, c.verdict, o.Verdict, o.Message)
			assert.Contains(t, o.Message, c.message)
		})
	}
}

// worked is the processor time of this process and of those that it has waited for.
func worked(t *testing.T) (all time.Duration) {
	for _, who := range []int{syscall.RUSAGE_SELF, syscall.RUSAGE_CHILDREN} {
		var u syscall.Rusage
		require.NoError(t, syscall.Getrusage(who, &u))
		all += time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	return all
}

func TestATextThatIsLongIsCutAndTheCaseGoesOn(t *testing.T) {
	for _, body := range []string{"log('x' * (20 << 20))", "print('x' * (20 << 20))", "check.equal('x' * (20 << 20), 'y', 'about ' * (1 << 20), go_on = True)", "check.that([] == [], 'z' * (20 << 20))"} {
		p := &paper{trees: []string{""}}
		before := worked(t)
		o := try(t, p, body+"\nlog('it went on')")
		assert.Less(t, worked(t)-before, 10*time.Second)
		require.Len(t, p.done, 2, "%s: %s", body, o.Message)
		assert.Equal(t, "log it went on", p.done[1])
		assert.Less(t, len(p.done[0]), 100<<10)
		if !strings.Contains(body, "check.equal") {
			assert.Equal(t, verdict.Passed, o.Verdict, o.Message)
			assert.Contains(t, p.done[0], "(cut: it had 20971520 bytes)")
		}
	}
}

func TestALostPhoneEndsTheCaseWithItsOwnError(t *testing.T) {
	o := try(t, &paper{trees: []string{send, "lost"}}, "phone.find('#send')\nphone.find('#send')")
	var lost *phone.Lost
	require.ErrorAs(t, o.Err, &lost)
	assert.Equal(t, "it.star:3", o.Line)
}

func TestACaseThatComesTooLateSaysWhyAndIsNotInvalid(t *testing.T) {
	cause := errors.New("a person stopped it")
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(cause)
	o := Run(ctx, Case{Scripts: map[string]string{"it.star": "def test_it(phone):\n    pass\n"}, File: "it.star", Func: "test_it"}, nil)
	assert.Equal(t, verdict.Expired, o.Verdict)
	assert.Equal(t, cause, o.Err)
	assert.Equal(t, cause.Error(), o.Message)
}

func TestTheCallersLimitEndsTheCase(t *testing.T) {
	for name, body := range map[string]string{"in a wait": "phone.find('#never', within = 60)", "in a loop": "while True:\n    pass"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := &Hands{Phone: &paper{trees: []string{""}}, Notes: &paper{}}
			src := "def test_it(phone):\n    " + strings.ReplaceAll(body, "\n", "\n    ")
			cause := errors.New("out of time")
			ctx, cancel := context.WithTimeoutCause(context.Background(), 300*time.Millisecond, cause)
			defer cancel()
			start := time.Now()
			o := Run(ctx, Case{Scripts: map[string]string{"it.star": src}, File: "it.star", Func: "test_it", Limits: Limits{Steps: 1 << 60, Memory: 64 << 20}}, h.Do)
			assert.Equal(t, verdict.Expired, o.Verdict, o.Message)
			assert.ErrorIs(t, o.Err, cause)
			assert.Less(t, time.Since(start), 10*time.Second)
		})
	}
}

func TestAScriptThatCannotBeLoadedIsInvalid(t *testing.T) {
	o := Run(context.Background(), Case{Scripts: map[string]string{"it.star": "x = 1 // 0\ndef test_it(phone):\n    pass\n"}, File: "it.star", Func: "test_it"}, (&Hands{}).Do)
	assert.Equal(t, verdict.Invalid, o.Verdict)
	assert.Equal(t, "it.star:1", o.Line)
	o = Run(context.Background(), Case{File: "it.star", Func: "x", Command: []string{"/nowhere"}}, nil)
	assert.Equal(t, verdict.Invalid, o.Verdict)
}

// files runs test_it of it.star among other files.
func files(t *testing.T, c Case, scripts ...string) (Outcome, []string) {
	t.Helper()
	c.Scripts, c.File = map[string]string{}, "it.star"
	for i := 0; i+1 < len(scripts); i += 2 {
		c.Scripts[scripts[i]] = scripts[i+1]
	}
	if c.Func == "" {
		c.Func = "test_it"
	}
	p := &paper{trees: []string{""}}
	o := Run(context.Background(), c, (&Hands{Phone: p, Notes: p}).Do)
	return o, p.done
}

func TestFilesLoadOneAnother(t *testing.T) {
	o, done := files(t, Case{}, "it.star", "load('lib/a.star', 'hi')\ndef test_it(phone):\n    hi(phone)", "lib/a.star", "load('lib/b.star', 'word')\ndef hi(phone):\n    log(word)", "lib/b.star", "word = 'hello'")
	assert.Equal(t, verdict.Passed, o.Verdict, o.Message)
	assert.Equal(t, []string{"log hello"}, done)
	o, _ = files(t, Case{}, "it.star", "load('a.star', 'x')\ndef test_it(phone):\n    pass", "a.star", "load('it.star', 'y')\nx = 1")
	assert.Equal(t, verdict.Invalid, o.Verdict)
	assert.Contains(t, o.Message, "loads itself")
}

func TestWhatIsAroundACaseIsCalledAndCanFailIt(t *testing.T) {
	const hooks = "def before_case(phone):\n    log('before')\ndef after_case(phone):\n    log('after')\n"
	o, done := files(t, Case{Before: true, After: true}, "it.star", hooks+"def test_it(phone):\n    log('case')")
	assert.Equal(t, verdict.Passed, o.Verdict, o.Message)
	assert.Equal(t, []string{"log before", "log case", "log after"}, done)
	o, done = files(t, Case{Before: true, After: true}, "it.star", hooks+"def test_it(phone):\n    check.equal(1, 2, 'sums')")
	assert.Equal(t, "sums: expected 2, but there was 1", o.Message)
	assert.Equal(t, "log after", done[len(done)-1], "also after a failed case")
	o, _ = files(t, Case{Before: true}, "it.star", "def before_case(phone):\n    check.equal(1, 2)\ndef test_it(phone):\n    log('never')")
	assert.Equal(t, "before_case: expected 2, but there was 1", o.Message)
	var f *Failure
	assert.ErrorAs(t, o.Err, &f)
	o, _ = files(t, Case{After: true}, "it.star", "def after_case(phone):\n    x = 1 // 0\ndef test_it(phone):\n    pass")
	assert.Equal(t, verdict.Failed, o.Verdict)
	assert.Contains(t, o.Message, "after_case: ")
}

func TestWhatBeforeFileReturnsIsThereInTheCases(t *testing.T) {
	const src = "def before_file(phone):\n    return {'shore': 'x', 'n': [1, None]}\ndef test_it(phone):\n    log(prepared['shore'])"
	o, _ := files(t, Case{Func: "before_file"}, "it.star", src)
	require.Equal(t, verdict.Passed, o.Verdict, o.Message)
	_, done := files(t, Case{Prepared: o.Value}, "it.star", src)
	assert.Equal(t, []string{"log x"}, done)
	o, _ = files(t, Case{Func: "before_file"}, "it.star", "def before_file(phone):\n    return len")
	assert.Contains(t, o.Message, "can't be handed to the cases")
}

func TestARowComesAsTheSecondParameter(t *testing.T) {
	o, done := files(t, Case{Row: map[string]any{"n": 2.0}}, "it.star", "def test_it(phone, row):\n    log(str(row['n'] + 1))")
	assert.Equal(t, verdict.Passed, o.Verdict, o.Message)
	assert.Equal(t, []string{"log 3"}, done)
}

func TestChecksThatGoOnSkipsAndExpectedFailures(t *testing.T) {
	for name, c := range map[string]struct {
		body, message string
		verdict       verdict.Verdict
		goesOn        bool
	}{
		"one soft check":                  {"check.equal(1, 2, 'a', go_on = True)\nlog('on')", "a: expected 2, but there was 1", verdict.Failed, true},
		"two soft checks":                 {"check.that(False, 'a', go_on = True)\ncheck.that(False, 'b', go_on = True)\nlog('on')", "a: expected true, but there was False (and 1 more checks did not hold: see the timeline)", verdict.Failed, true},
		"a soft check, then a hard one":   {"check.that(False, 'a', go_on = True)\ncheck.that(False, 'b')", "b: expected true, but there was False", verdict.Failed, false},
		"skip":                            {"skip('no second column')", "no second column", verdict.Skipped, false},
		"a failure that is expected":      {"expect_failure('known')\ncheck.that(False, 'a')", "failed as expected (known): a: expected true, but there was False", verdict.Passed, false},
		"a soft failure that is expected": {"expect_failure('known')\ncheck.that(False, 'a', go_on = True)", "failed as expected (known): a: expected true, but there was False", verdict.Passed, false},
		"an expected failure that passes": {"expect_failure('known')", "passed, though it was known to fail (known): take expect_failure away", verdict.Failed, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := &paper{trees: []string{""}}
			o := try(t, p, c.body)
			assert.Equal(t, c.verdict, o.Verdict)
			assert.Equal(t, c.message, o.Message)
			if c.goesOn {
				assert.Equal(t, "log on", p.done[len(p.done)-1])
			}
		})
	}
}

func TestEveryWordOfTheVocabularyIsThere(t *testing.T) {
	c := &child{}
	there := c.words()
	made := map[string]*starlarkstruct.Struct{"phone": c.makePhone().(*starlarkstruct.Struct), "page": c.makePage("p").(*starlarkstruct.Struct)}
	for _, w := range testpkg.Vocabulary {
		switch w.Of {
		case "phone", "page":
			_, err := made[w.Of].Attr(w.Name)
			assert.NoError(t, err, w.Name)
		case "":
			assert.Contains(t, there, w.Name)
		default:
			_, err := there[w.Of].(*starlarkstruct.Struct).Attr(w.Name)
			assert.NoError(t, err, w.Name)
		}
	}
}

func TestFilesThatAreLoadedTakeFromTheSameSteps(t *testing.T) {
	work := "def work():\n    for i in range(40000):\n        pass\nwork()\n"
	scripts := map[string]string{"it.star": ""}
	for i := range 10 {
		name := fmt.Sprintf("m%d.star", i)
		scripts["it.star"] += fmt.Sprintf("load(%q, %q)\n", name, fmt.Sprintf("x%d", i))
		scripts[name] = work + fmt.Sprintf("x%d = 1\n", i)
	}
	scripts["it.star"] += "def test_it(phone):\n    pass\n"
	for steps, want := range map[uint64]verdict.Verdict{10_000_000: verdict.Passed, 500_000: verdict.Expired} {
		o := Run(t.Context(), Case{Scripts: scripts, File: "it.star", Func: "test_it", Limits: Limits{Steps: steps, Memory: 64 << 20}}, func(context.Context, Call) (any, error) { return nil, nil })
		assert.Equal(t, want, o.Verdict, "%d: %s", steps, o.Message)
	}
}
