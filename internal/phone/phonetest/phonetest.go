// Package phonetest is the suite that every driver of a phone passes.
//
// Run takes a phone with Kelpline's build at hand and tries each thing that
// phone.Phone promises, as a person would: it installs, launches, reads, taps,
// types. Each check has a sentence that says what a driver must do, printed
// when it does not. In: a phone. Out: a pass, or the sentences.
package phonetest

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// Subject is the phone under test.
type Subject struct {
	Phone     phone.Phone
	App       phone.App // Kelpline
	Language  string    // of the device
	Gated     bool      // it does not let permissions be granted
	NoKeys    bool      // it shows no keyboard, as one that has keys of its own
	Deaf      bool      // it takes one finger at a time
	NoFilm    bool      // it makes no film of its screen
	AnyText   bool      // it types whatever there is
	ReadMarks bool      // a mark stands in its log while that is read, behind the first line
	// Broke says that what lies between the driver and the phone has broken under the suite, so that what fails is not the driver's fault. Nil: nothing does.
	Broke func() bool
}

const patience = 30 * time.Second

type check struct {
	name    string
	explain string
	run     func(*probe)
}

type probe struct {
	*testing.T
	Subject
	unit *phone.Unit // the phone with what it can do besides
	ctx  context.Context
}

// Errorf fails the check, unless it could not be made.
func (p *probe) Errorf(format string, args ...any) {
	p.Helper()
	if p.Broke != nil && !p.Broke() {
		time.Sleep(100 * time.Millisecond) // it may be about to be noticed
	}
	if p.Broke != nil && p.Broke() {
		p.Logf(format, args...)
		p.Skip("it could not be made: what lies between the driver and the phone broke")
	}
	p.T.Errorf(format, args...)
}

// Run tries everything, in order: later checks build on the state that earlier ones leave. It says whether all could be tried.
func Run(t *testing.T, s Subject) (whole bool) {
	for _, c := range checks {
		ok := t.Run(c.name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
			defer cancel()
			t.Cleanup(func() {
				if t.Failed() {
					t.Log("what a driver must do: " + c.explain)
				}
			})
			c.run(&probe{t, s, phone.Of(s.Phone), ctx})
		})
		if !ok {
			return true
		}
		if s.Broke != nil && s.Broke() {
			return false
		}
	}
	return true
}

// find waits for an element.
func (p *probe) find(locator string) *uitree.Element {
	p.Helper()
	var last *uitree.Screen
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); {
		s, err := p.Phone.Tree(p.ctx)
		require.NoError(p, err)
		es, err := s.Find(locator)
		require.NoError(p, err)
		if len(es) > 0 {
			return es[0]
		}
		last = s
	}
	require.Failf(p, "not found", "%s never came; the screen:\n%s", locator, last.XML())
	return nil
}

func (p *probe) tap(locator string) {
	p.Helper()
	x, y := p.find(locator).Bounds.Center()
	require.NoError(p, p.Phone.Tap(p.ctx, x, y))
}

func (p *probe) hideKeyboard() {
	if k, ok := p.unit.Keyboard, p.unit.Keyboard != nil; ok {
		up, err := k.KeyboardShown(p.ctx)
		require.NoError(p, err)
		if up {
			require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
		}
	}
}

var checks = slices.Concat(atFirst, surroundings, inUse)

// atFirst are the checks of a device that is new, until an app is in front.
var atFirst = []check{
	{"facts", "Facts names the unit, and its screen, memory and system in plausible figures.", func(p *probe) {
		f, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		require.NotEmpty(p, f.Serial)
		require.NotEmpty(p, f.Maker)
		require.NotEmpty(p, f.Model)
		require.NotEmpty(p, f.ABIs)
		require.Equal(p, p.Language, f.Language)
		if f.Platform == "android" {
			require.Greater(p, f.API, 15)
		}
		require.Greater(p, f.MemoryMB, 500)
		require.Greater(p, f.WidthDP(), 200)
		require.Greater(p, f.Height, f.Width/2)
	}},
	{"wake", "Wake, where it exists, leaves the screen on; Settle keeps it so.", func(p *probe) {
		if s, ok := p.unit.Settler, p.unit.Settler != nil; ok {
			require.NoError(p, s.Settle(p.ctx))
		}
		if w, ok := p.unit.Waker, p.unit.Waker != nil; ok {
			require.NoError(p, w.Wake(p.ctx))
		}
	}},
	{"an app that is not there", "Uninstall of what is not there is no error; Launch of it is *phone.Refused.", func(p *probe) {
		require.NoError(p, p.Phone.Uninstall(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Stop(p.ctx, p.App.ID))
		var refused *phone.Refused
		require.ErrorAs(p, p.Phone.Launch(p.ctx, p.App), &refused)
		require.ErrorAs(p, p.Phone.Clear(p.ctx, p.App.ID), &refused)
	}},
	{"a build that is none", "Install of a file that is no build is *phone.Refused, with the device's own reason.", func(p *probe) {
		bad := phone.App{ID: p.App.ID, Size: 11, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("not an apk!")), nil }}
		var refused *phone.Refused
		require.ErrorAs(p, p.Phone.Install(p.ctx, bad), &refused)
		require.NotEmpty(p, refused.Why)
	}},
	{"install and launch", "After Install and Launch the app's first screen is in front.", func(p *probe) {
		require.NoError(p, p.Phone.Install(p.ctx, p.App))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		e := p.find(`text[id=title]`)
		require.Equal(p, map[string]string{"en": "Shores", "de": "Küsten"}[p.Language], e.Text)
		require.Equal(p, p.App.ID, e.App)
	}},
	{"files", "Files puts a file, gives it back as it was, and removes it; one that is not there, or is too long, is *phone.Refused.", func(p *probe) {
		files, ok := p.unit.Files, p.unit.Files != nil
		if !ok {
			p.Skip("this phone takes no files")
		}
		const path = "/sdcard/Download/tide table.csv"
		content := bytes.Repeat([]byte("high,low\n"), 20_000)
		require.NoError(p, files.Put(p.ctx, path, bytes.NewReader(content)))
		back, err := files.Fetch(p.ctx, path, 1<<20)
		require.NoError(p, err)
		require.Equal(p, content, back)
		var refused *phone.Refused
		_, err = files.Fetch(p.ctx, path, 1000)
		require.ErrorAs(p, err, &refused)
		_, err = files.Fetch(p.ctx, "/sdcard/not-there", 1000)
		require.ErrorAs(p, err, &refused)
		require.Contains(p, refused.Why, "No such file")
		require.NoError(p, files.Remove(p.ctx, path))
		_, err = files.Fetch(p.ctx, path, 1<<20)
		require.ErrorAs(p, err, &refused)
		require.NoError(p, files.Remove(p.ctx, path), "it is gone already")
	}},
	{"fingers", "Fingers does what one finger or several do: one that touches and lifts is a tap, also while another rests elsewhere.", func(p *probe) {
		fingers, ok := p.unit.Fingers, p.unit.Fingers != nil
		if !ok {
			p.Skip("this phone takes no fingers")
		}
		rests := p.find("text[id=title]").Bounds
		for _, several := range []bool{false, true} {
			x, y := p.find("#shore_gull-ledge").Bounds.Center()
			strokes := []phone.Stroke{{{X: x, Y: y}, {X: x + 1, Y: y, At: 60 * time.Millisecond}, {X: x, Y: y, At: 100 * time.Millisecond}}}
			if several {
				rx, ry := rests.Center()
				strokes = append(strokes, phone.Stroke{{X: rx, Y: ry}, {X: rx, Y: ry, At: 200 * time.Millisecond}})
			}
			err := fingers.Touch(p.ctx, strokes)
			if p.Deaf && several {
				var refused *phone.Refused
				require.ErrorAs(p, err, &refused)
				require.Contains(p, refused.Remedy, "one finger")
				return
			}
			require.NoError(p, err)
			p.find("#start")
			require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
		}
	}},
	{"hand", "LayHand lays fingers on the screen that are followed while they move: one taps, also while another rests; one that is not named any more lifts, and all do when the hand is taken away. Or it is refused.", func(p *probe) {
		if p.unit.Touchable == nil {
			p.Skip("this phone follows no fingers")
		}
		hand, err := p.unit.Touchable.LayHand(p.ctx)
		var refused *phone.Refused
		if errors.As(err, &refused) {
			p.Skip(refused.Why)
		}
		require.NoError(p, err)
		defer func() { require.NoError(p, hand.Close()) }()
		place := func(fingers ...phone.Finger) { require.NoError(p, hand.Place(p.ctx, fingers)) }
		rx, ry := p.find("text[id=title]").Bounds.Center()
		rests := phone.Finger{ID: 7, X: rx, Y: ry}
		for _, several := range []bool{false, true} {
			x, y := p.find("#shore_gull-ledge").Bounds.Center()
			if several {
				place(rests)
				place(rests, phone.Finger{ID: 1, X: x, Y: y})
				place(rests)
			} else {
				place(phone.Finger{ID: 1, X: x, Y: y})
				place(phone.Finger{ID: 1, X: x + 1, Y: y})
			}
			place()
			p.find("#start")
			require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
		}
		x, y := p.find("#shore_gull-ledge").Bounds.Center()
		place(phone.Finger{ID: 1, X: x, Y: y})
		require.NoError(p, hand.Close())
		p.find("#start")
		require.Error(p, hand.Place(p.ctx, nil))
		require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
	}},
	{"drawer", "Installed lists the apps that are not the system's.", func(p *probe) {
		if p.unit.Drawer == nil {
			p.Skip("this phone does not tell")
		}
		all, err := p.unit.Drawer.Installed(p.ctx)
		require.NoError(p, err)
		require.Contains(p, fmt.Sprint(all), p.App.ID)
		require.NotContains(p, fmt.Sprint(all), "systemui")
	}},
}

// inUse are the checks of an app that is used.
var inUse = []check{
	{"long press", "A finger that stays where it is for a second is a long press, not a tap.", func(p *probe) {
		x, y := p.find("#shore_gull-ledge").Bounds.Center()
		require.NoError(p, p.Phone.Swipe(p.ctx, x, y, x, y, time.Second))
		require.Regexp(p, "Pinned|Gemerkt", p.find("#shore_gull-ledge_detail").Text)
	}},
	{"arguments", "Launch hands its arguments to the app, also to one that runs.", func(p *probe) {
		app := p.App
		app.Args = map[string]string{"shore": "old-slip", "odd": `a 'b' "c" $d`}
		require.NoError(p, p.Phone.Launch(p.ctx, app))
		require.Equal(p, "Old Slip", p.find("#title[text='Old Slip']").Text)
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		p.find("#shore_gull-ledge")
	}},
	{"screenshot", "Screenshot is a PNG of the whole screen, whatever the device prints before it, and changes when the screen does.", func(p *probe) {
		p.find("#shore_gull-ledge")
		one, err := p.Phone.Screenshot(p.ctx)
		require.NoError(p, err)
		img, err := png.Decode(bytes.NewReader(one))
		require.NoError(p, err)
		f, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		require.Equal(p, f.Width, img.Bounds().Dx())
		require.Equal(p, f.Height, img.Bounds().Dy())
		p.tap("#settings")
		p.find("#feet")
		two, err := p.Phone.Screenshot(p.ctx)
		require.NoError(p, err)
		require.NotEqual(p, one, two)
		require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
		p.find("#shore_gull-ledge")
	}},
	{"tap and type", "Tap gives a field the focus; Type enters the text there, blanks, quotes and percent signs as they are.", func(p *probe) {
		const text = `a 'b' "c" $d %s 5% & \e ~`
		p.tap("#search")
		require.NoError(p, p.Phone.Type(p.ctx, text))
		e := p.find("#search")
		require.Equal(p, text, e.Value)
		require.True(p, e.Focused)
	}},
	{"keys", "Press takes several keys and presses them in order; Delete deletes one character.", func(p *probe) {
		require.NoError(p, p.Phone.Press(p.ctx, phone.End, phone.Delete, phone.Delete))
		require.Equal(p, `a 'b' "c" $d %s 5% & \`, strings.TrimSuffix(p.find("#search").Value, "e"))
		require.Error(p, p.Phone.Press(p.ctx, phone.Key("moon")))
	}},
	{"a text that can't be typed", "Type of a character that the device can't type is *phone.Untypable, and types nothing.", func(p *probe) {
		before := p.find("#search").Value
		if p.AnyText {
			require.NoError(p, p.Phone.Type(p.ctx, "ü潮"))
			require.Equal(p, before+"ü潮", p.find("#search").Value)
			return
		}
		var u *phone.Untypable
		require.ErrorAs(p, p.Phone.Type(p.ctx, "Seepocken für später"), &u)
		require.Equal(p, 'ü', u.Rune)
		require.Equal(p, before, p.find("#search").Value)
		require.NoError(p, p.Phone.Type(p.ctx, ""))
	}},
	{"keyboard", "KeyboardShown, where it exists, is true while the keyboard is up; Back puts it away.", func(p *probe) {
		k, ok := p.unit.Keyboard, p.unit.Keyboard != nil
		if !ok {
			return
		}
		up, err := k.KeyboardShown(p.ctx)
		require.NoError(p, err)
		require.Equal(p, !p.NoKeys, up)
		p.hideKeyboard()
		up, err = k.KeyboardShown(p.ctx)
		require.NoError(p, err)
		require.False(p, up)
	}},
	{"clear", "Clear ends the app and deletes its data: after the next launch all is as new.", func(p *probe) {
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		e := p.find("#search")
		require.NotContains(p, e.Value, "%", "what was typed is gone; systems that don't tell hints from text say the hint")
		if e.Hint != "" {
			require.Empty(p, e.Value)
		}
	}},
	{"permissions", "Permissions says what an app may do; AsNew makes it ask, and Clear grants what the install did, where the phone lets it.", func(p *probe) {
		permissions, ok := p.unit.Permissions, p.unit.Permissions != nil
		if !ok {
			p.Skip("this phone knows no permissions")
		}
		const place = "android.permission.ACCESS_FINE_LOCATION"
		before, err := permissions.Permitted(p.ctx, p.App.ID)
		require.NoError(p, err)
		if len(before) == 0 {
			return // a system on which apps have what their manifest asks for
		}
		require.Equal(p, !p.Gated, before[place])
		require.NoError(p, permissions.AsNew(p.ctx, p.App.ID))
		now, err := permissions.Permitted(p.ctx, p.App.ID)
		require.NoError(p, err)
		require.False(p, now[place])
		asks := p.App
		asks.Args = map[string]string{"debug_ask": "ACCESS_FINE_LOCATION"}
		require.NoError(p, p.Phone.Launch(p.ctx, asks))
		x, y := p.find("[id^=permission_allow]").Bounds.Center()
		require.NoError(p, p.Phone.Tap(p.ctx, x, y))
		p.find("#shore_gull-ledge")
		now, err = permissions.Permitted(p.ctx, p.App.ID)
		require.NoError(p, err)
		require.True(p, now[place], "the user allowed it")
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		now, err = permissions.Permitted(p.ctx, p.App.ID)
		require.NoError(p, err)
		require.Equal(p, !p.Gated, now[place])
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
	}},
	{"swipe", "Swipe up moves the content of a screen that scrolls up, when there is more than fits.", func(p *probe) {
		p.find("#shore_gull-ledge")
		p.tap("#search") // with the keyboard up, the list is longer than the screen
		content := p.find("#content")
		list, x := content.Bounds, content.Bounds.Left+content.Bounds.Right/2
		before := p.find("#shore_gull-ledge").Bounds
		require.NoError(p, p.Phone.Swipe(p.ctx, x, list.Bottom-10, x, list.Top+10, 300*time.Millisecond))
		s, err := p.Phone.Tree(p.ctx)
		require.NoError(p, err)
		after, err := s.Find("#shore_gull-ledge")
		require.NoError(p, err)
		if content.Scrollable && len(after) > 0 {
			require.Less(p, after[0].Bounds.Bottom, before.Bottom)
		}
		p.hideKeyboard()
	}},
	{"stop", "Stop ends the app: it is not in front any more.", func(p *probe) {
		require.NoError(p, p.Phone.Stop(p.ctx, p.App.ID))
		s, err := p.Phone.Tree(p.ctx)
		require.NoError(p, err)
		es, err := s.Find(`[app="` + p.App.ID + `"]`)
		require.NoError(p, err)
		require.Empty(p, es)
	}},
	{"log", "Log streams from a moment on the device's own clock, and Mark's line comes through it.", func(p *probe) {
		l, ok := p.unit.Logger, p.unit.Logger != nil
		c, ok2 := p.unit.Clock, p.unit.Clock != nil
		if !ok || !ok2 {
			return
		}
		now, err := c.Now(p.ctx)
		require.NoError(p, err)
		r, err := l.Log(p.ctx, now)
		require.NoError(p, err)
		defer r.Close()
		marked := make(chan error, 1)
		if p.ReadMarks {
			require.NoError(p, p.Phone.Launch(p.ctx, p.App)) // the system tells of it
			go func() { marked <- l.Mark(p.ctx, "it's here") }()
		} else {
			marked <- l.Mark(p.ctx, "it's here")
		}
		lines := bufio.NewScanner(r)
		for lines.Scan() {
			line, ok := devicelog.Parse(lines.Text(), now.Year())
			if !ok {
				continue
			}
			require.WithinDuration(p, now, line.At, time.Minute, "only what came after the moment")
			if line.Text == "it's here" {
				require.NoError(p, <-marked)
				return
			}
		}
		require.Fail(p, "the mark never came")
	}},
	{"deadlines", "A call whose context has ended returns at once with the context's error.", func(p *probe) {
		ctx, cancel := context.WithCancel(p.ctx)
		cancel()
		start := time.Now()
		_, err := p.Phone.Tree(ctx)
		require.ErrorIs(p, err, context.Canceled)
		require.Less(p, time.Since(start), 5*time.Second)
	}},
	{"uninstall and close", "Uninstall removes the app; after Close every call fails.", func(p *probe) {
		require.NoError(p, p.Phone.Uninstall(p.ctx, p.App.ID))
		require.Error(p, p.Phone.Launch(p.ctx, p.App))
		require.NoError(p, p.Phone.Close())
		_, err := p.Phone.Tree(p.ctx)
		require.Error(p, err)
		var lost *phone.Lost
		require.False(p, errors.As(err, &lost), "a phone that was let go is not lost")
	}},
}
