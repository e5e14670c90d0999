// Package checkup tries on one device everything that tests need of it, and says in one sentence whether it can be tested.
//
// In: a phone under control. Out: a report of steps, each with what was found, the time it took and, where it failed, what a
// person can do; it grows while the steps go on. It installs a tiny app of its own (built/check.apk, which make builds from app/), and
// leaves the device as it was. A report names neither the unit nor its owner.
package checkup

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"embed"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

//go:embed all:built
var built embed.FS

const (
	appID      = "tessellant.check"
	permission = "android.permission.CAMERA" // that the app asks for
)

// App is the app that a check installs. A program that was not built with make lacks it.
func App() (phone.App, error) {
	apk, err := built.ReadFile("built/check.apk")
	if err != nil {
		return phone.App{}, fault("build it with: make build", "the program on this host lacks the app that a check installs")
	}
	return phone.App{ID: appID, Activity: appID + ".Screen", Size: int64(len(apk)), Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(apk)), nil }}, nil
}

// State is how a step came out.
type State string

const (
	Running State = "running"
	Passed  State = "passed"
	Failed  State = "failed"
	Skipped State = "skipped" // a step before it failed, or the device has no such thing
)

// Step is one thing that is tried.
type Step struct {
	Name   string `json:"name"` // such as "an app is installed"
	State  State  `json:"state"`
	TookMS int64  `json:"took_ms"`
	Found  string `json:"found,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// Report is what a check found.
type Report struct {
	Maker     string    `json:"maker"`
	Model     string    `json:"model"`
	OS        string    `json:"os"`
	API       int       `json:"api"`
	Origin    string    `json:"origin"`
	Simulated bool      `json:"simulated"`
	Began     time.Time `json:"began"`
	TookMS    int64     `json:"took_ms"`
	Done      bool      `json:"done"`
	Fit       bool      `json:"fit"` // it can be tested
	Sentence  string    `json:"sentence"`
	Steps     []Step    `json:"steps"`
	Of        int       `json:"of"`     // how many steps there are
	Limits    []string  `json:"limits"` // what the device does not let us do, and what is done instead
}

// stepLimit is how long one step may take.
const stepLimit = 90 * time.Second

// check is one that goes on.
type check struct {
	phone  *phone.Unit
	report Report
	see    func(Report)
	facts  devices.Facts
	app    phone.App       // ours
	there  bool            // it is on the device
	field  *uitree.Element // of it, as it was seen last
}

var errSkip = errors.New("") // wrapped: why a step has nothing to try

func skip(format string, args ...any) error {
	return fmt.Errorf("%w%s", errSkip, fmt.Sprintf(format, args...))
}

// Run checks a phone. See is told of the report whenever it has grown. It ends by ctx, and cleans up then, too.
func Run(ctx context.Context, p phone.Phone, see func(Report)) Report {
	c := &check{phone: phone.Of(p), see: see, report: Report{Began: time.Now().UTC(), Steps: []Step{}, Limits: []string{}}}
	type step struct {
		name   string
		needed bool // without it nothing after it can be tried
		do     func(context.Context) (string, error)
	}
	steps := []step{
		{"it answers", true, c.answers}, {"it wakes, unlocked", true, c.wakes}, {"it can be held still", false, c.settles},
		{"the tree of its screen", true, c.tree}, {"a picture of its screen", false, c.picture}, {"its clock", false, c.clock}, {"its log", false, c.log},
		{"an app is installed", true, c.install}, {"the app starts", true, c.launch}, {"touches and text", false, c.text}, {"the app is cleared", false, c.clear},
		{"permissions", false, c.permissions}, {"the screen is turned", false, c.turn},
	}
	c.report.Of = len(steps) + 1
	stopped := ""
	for _, s := range steps {
		if stopped != "" {
			c.note(Step{Name: s.name, State: Skipped, Found: stopped})
			continue
		}
		if !c.try(ctx, s.name, s.do) && s.needed {
			stopped = fmt.Sprintf("not tried: %q comes first", s.name)
		}
	}
	c.try(context.WithoutCancel(ctx), "all is as it was", c.leave)
	if l := c.phone.Limited; l != nil {
		c.report.Limits = append(c.report.Limits, l.Limits()...)
	}
	c.report.Done, c.report.TookMS = true, time.Since(c.report.Began).Milliseconds()
	c.report.Fit, c.report.Sentence = sentence(c.report.Steps, len(c.report.Limits))
	see(c.report)
	return c.report
}

// sentence says whether a device can be tested.
func sentence(steps []Step, limits int) (fit bool, s string) {
	failed := 0
	first := Step{}
	for _, x := range steps {
		if x.State == Failed {
			if failed++; failed == 1 {
				first = x
			}
		}
	}
	switch {
	case failed > 0:
		s = fmt.Sprintf("This device can't be tested yet: %s (%s)", first.Found, first.Name)
		if first.Remedy != "" {
			s += ". What to do: " + first.Remedy
		}
		return false, s + "."
	case limits > 0:
		return true, "This device can be tested; what its maker forbids is done in another way."
	}
	return true, "This device can be tested."
}

func (c *check) note(s Step) {
	if n := len(c.report.Steps); n > 0 && c.report.Steps[n-1].Name == s.Name {
		c.report.Steps[n-1] = s
	} else {
		c.report.Steps = append(c.report.Steps, s)
	}
	out := c.report
	out.Steps = append([]Step{}, c.report.Steps...)
	c.see(out)
}

// try does one step, and says whether what comes after it can be tried.
func (c *check) try(ctx context.Context, name string, do func(context.Context) (string, error)) bool {
	c.note(Step{Name: name, State: Running})
	ctx, cancel := context.WithTimeout(ctx, stepLimit)
	defer cancel()
	start := time.Now()
	found, err := do(ctx)
	s := Step{Name: name, State: Passed, TookMS: time.Since(start).Milliseconds(), Found: found}
	var refused *phone.Refused
	var lost *phone.Lost
	switch {
	case err == nil:
	case errors.Is(err, errSkip):
		s.State, s.Found = Skipped, err.Error()
	case errors.As(err, &refused):
		s.State, s.Found, s.Remedy = Failed, refused.Why, refused.Remedy
	case errors.As(err, &lost):
		s.State, s.Found, s.Remedy = Failed, "it went away: "+lost.Err.Error(), "look at its cable and its USB mode, and check again"
	case errors.Is(err, context.DeadlineExceeded):
		s.State, s.Found, s.Remedy = Failed, fmt.Sprintf("it took longer than %s", stepLimit), "restart the device, and check again"
	default:
		s.State, s.Found = Failed, err.Error()
	}
	if c.facts.Serial != "" {
		s.Found = strings.ReplaceAll(s.Found, c.facts.Serial, "the device")
	}
	c.note(s)
	return s.State != Failed
}

// fault is something that was found, and what to do about it.
func fault(remedy, format string, args ...any) error {
	return &phone.Refused{Why: fmt.Sprintf(format, args...), Remedy: remedy}
}

func (c *check) answers(ctx context.Context) (string, error) {
	f, err := c.phone.Facts(ctx)
	if err != nil {
		return "", err
	}
	c.facts = f
	r := &c.report
	r.Maker, r.Model, r.OS, r.API, r.Origin, r.Simulated = f.Maker, f.Model, f.OS, f.API, f.Origin, f.Simulated
	if f.Width == 0 || f.Height == 0 {
		return "", fault("restart it, and wait until its home screen is there", "it does not say how large its screen is")
	}
	return fmt.Sprintf("%s %s, Android %s (API %d), %d×%d at %d dpi", f.Maker, f.Model, f.OS, f.API, f.Width, f.Height, f.Density), nil
}

func (c *check) wakes(ctx context.Context) (string, error) {
	w := c.phone.Waker
	if w == nil {
		return "", skip("its screen can't be switched on from here")
	}
	return "its screen is on", w.Wake(ctx)
}

func (c *check) settles(ctx context.Context) (string, error) {
	s := c.phone.Settler
	if s == nil {
		return "", skip("it has no settings that can be changed")
	}
	return "it stays on, and does not turn by itself", s.Settle(ctx)
}

func (c *check) tree(ctx context.Context) (string, error) {
	s, err := c.phone.Tree(ctx)
	var restless *phone.Restless
	if errors.As(err, &restless) {
		return "", fault("end what moves on its screen: a live wallpaper, a video, a clock with seconds; then check again", "%v", err)
	}
	if err != nil {
		return "", err
	}
	if n := len(s.All()); n != 1 {
		return fmt.Sprintf("%d elements", n), nil
	}
	return "one element", nil
}

func (c *check) picture(ctx context.Context) (string, error) {
	raw, err := c.phone.Screenshot(ctx)
	if err != nil {
		return "", err
	}
	img, err := phone.Unpacked(raw)
	if err != nil {
		return "", fault("restart the device", "what it sent is no picture: %v", err)
	}
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	if w*h != c.facts.Width*c.facts.Height {
		return "", fault("a second display, or a folded one, may be pictured: unplug it, or open the device, and check again", "the picture has %d×%d pixels, its screen %d×%d", w, h, c.facts.Width, c.facts.Height)
	}
	return fmt.Sprintf("%d×%d, %d KB", w, h, len(raw)>>10), nil
}

func (c *check) clock(ctx context.Context) (string, error) {
	k := c.phone.Clock
	if k == nil {
		return "", skip("it tells no time")
	}
	before := time.Now()
	now, err := k.Now(ctx)
	if err != nil {
		return "", err
	}
	off := now.Sub(before.Add(time.Since(before) / 2)).Round(100 * time.Millisecond)
	switch {
	case off < 0:
		return fmt.Sprintf("%.1f s behind this host's", -off.Seconds()), nil
	case off > 0:
		return fmt.Sprintf("%.1f s before this host's", off.Seconds()), nil
	}
	return "as this host's", nil
}

func (c *check) log(ctx context.Context) (string, error) {
	l := c.phone.Logger
	k := c.phone.Clock
	if l == nil || k == nil {
		return "", skip("it has no log")
	}
	now, err := k.Now(ctx)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	r, err := l.Log(ctx, now)
	if err != nil {
		return "", err
	}
	defer r.Close()
	stop := context.AfterFunc(ctx, func() { _ = r.Close() })
	defer stop()
	mark := "check " + rand.Text()
	if err := l.Mark(ctx, mark); err != nil {
		return "", err
	}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if line, ok := devicelog.Parse(lines.Text(), now.Year()); ok && line.Text == mark {
			return "a line that was written came back", nil
		}
	}
	return "", fault("see whether the device's log is switched off: developer options, Logger buffer sizes", "a line that was written into its log did not come back")
}

func (c *check) install(ctx context.Context) (s string, err error) {
	if c.app, err = App(); err != nil {
		return "", err
	}
	if err := c.phone.Uninstall(ctx, appID); err != nil {
		return "", err
	}
	c.there = true
	if err := c.phone.Install(ctx, c.app); err != nil {
		return "", err
	}
	return fmt.Sprintf("an app of %d KB, for the time of this check", c.app.Size>>10), nil
}

// seek waits for our app's field.
func (c *check) seek(ctx context.Context) error {
	const within = 20 * time.Second
	for end := time.Now().Add(within); ; {
		s, err := c.phone.Tree(ctx)
		if err != nil {
			return err
		}
		es, err := s.Find("#field")
		if err != nil {
			return err
		}
		if len(es) > 0 {
			c.field = es[0]
			return nil
		}
		if time.Now().After(end) {
			return fault("look at its screen: something else may lie over the app", "the app's screen did not come within %s", within)
		}
		if err := phone.Pause(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
}

func (c *check) launch(ctx context.Context) (string, error) {
	if err := c.phone.Launch(ctx, c.app); err != nil {
		return "", err
	}
	return "its screen is in front", c.seek(ctx)
}

const typed = "ebb 47 & flow"

func (c *check) text(ctx context.Context) (string, error) {
	x, y := c.field.Bounds.Center() // nothing was done since it was seen
	if err := c.phone.Tap(ctx, x, y); err != nil {
		return "", err
	}
	if err := c.phone.Type(ctx, typed); err != nil {
		return "", err
	}
	if err := c.seek(ctx); err != nil {
		return "", err
	}
	if c.field.Value != typed {
		return "", fault("choose a keyboard for Latin letters on the device, without suggestions, and check again", "%q was typed, and %q came", typed, c.field.Value)
	}
	return "what was typed came", nil
}

func (c *check) clear(ctx context.Context) (string, error) {
	if err := c.phone.Clear(ctx, appID); err != nil {
		return "", err
	}
	if _, err := c.launch(ctx); err != nil {
		return "", err
	}
	if c.field.Value != "" {
		return "", fault("restart the device, and check again", "the field still has %q", c.field.Value)
	}
	return "the app is as new", nil
}

func (c *check) permissions(ctx context.Context) (string, error) {
	p := c.phone.Permissions
	if p == nil {
		return "", skip("it knows no permissions")
	}
	has, err := p.Permitted(ctx, appID)
	if err != nil {
		return "", err
	}
	granted, known := has[permission]
	if !known {
		return "", skip("before Android 6 an app has what its manifest asks for")
	}
	if err := p.AsNew(ctx, appID); err != nil {
		return "", err
	}
	app := c.app
	app.Args = map[string]string{"ask": permission}
	if err := c.phone.Launch(ctx, app); err != nil {
		return "", err
	}
	if err := phone.Decide(ctx, p, appID, permission, true, 15*time.Second); err != nil {
		return "", err
	}
	if !granted {
		return "they can't be granted; the system's dialog was answered", nil
	}
	return "granted by the install, and by the system's dialog", nil
}

func (c *check) turn(ctx context.Context) (string, error) {
	s := c.phone.Settings
	if s == nil {
		return "", skip("its screen can't be turned")
	}
	if err := s.Rotate(ctx, c.facts.Width < c.facts.Height); err != nil {
		return "", err
	}
	tree, err := c.phone.Tree(ctx)
	if err := errors.Join(err, s.Restore(ctx)); err != nil {
		return "", err
	}
	if tree.Rotation%2 == 0 {
		return "", fault("see whether the device lets its screen be turned: Settings, Display", "its screen did not turn")
	}
	return "and back again", nil
}

// leave takes everything away that the check has brought.
func (c *check) leave(ctx context.Context) (string, error) {
	var errs []error
	if c.there {
		errs = append(errs, c.phone.Uninstall(ctx, appID))
	}
	if s := c.phone.Settler; s != nil {
		errs = append(errs, s.Unsettle(ctx))
	}
	errs = append(errs, c.phone.Press(ctx, phone.Home))
	return "the app is gone, and the settings are back", errors.Join(errs...)
}
