package hands

// What people do, in its order, and how it stands on the timeline. Fingers are followed while they move where the device lets them be; else what they did is
// done when the last one lifts.

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tessellant/internal/core/scribe"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

// doing is one thing that waits to be done.
type doing struct {
	fingers []hostlink.Contact
	touch   bool // it is of fingers
	text    string
	secret  bool
	keys    []phone.Key
	away    bool // nobody has the device in hand any more
	at      time.Time
}

const (
	maxTyped    = 2000 // bytes that are typed at once
	maxKeys     = 50
	maxFingers  = 10
	commandTake = time.Minute
	letterTakes = 200 * time.Millisecond // of a text, on a device that is busy
	// A finger that moves by less than nearPart of the screen's width taps, or presses where it stays for longPress.
	nearPart  = 0.03
	longPress = 500 * time.Millisecond
	maxPath   = 400 // places of a finger that are remembered
	// A device says nothing when fingers have lifted: what is typed comes so much later, so that it goes where they touched.
	settles = 100 * time.Millisecond
)

// do puts into the queue what somebody did who has the device in hand. False: so much waits that it can't be followed any more.
func (d *Device) do(s *seat, done hostlink.Done) bool {
	x := doing{text: strings.ToValidUTF8(done.Text, ""), secret: done.Secret, at: time.Now()}
	problem := func(what, why, remedy string) bool {
		s.tell(hostlink.Told{Problem: &hostlink.Problem{What: what, Why: why, Remedy: remedy}})
		return true
	}
	for _, k := range done.Keys {
		if !slices.Contains(phone.Keys, phone.Key(k)) {
			return problem("press a key", fmt.Sprintf("there is no key %.50q", k), "")
		}
		x.keys = append(x.keys, phone.Key(k))
	}
	if done.Fingers != nil {
		x.touch, x.fingers = true, *done.Fingers
		for _, f := range x.fingers {
			if !(f.X >= 0 && f.X <= 1 && f.Y >= 0 && f.Y <= 1) {
				return problem("touch the screen", "a finger is beside it", "")
			}
		}
	}
	if len(x.fingers) > maxFingers || len(x.keys) > maxKeys || len(x.text) > maxTyped {
		return problem("do it", "it is too much at once", fmt.Sprintf("at most %d fingers, %d keys, or %d bytes of text", maxFingers, maxKeys, maxTyped))
	}
	if !d.Turns.Open() {
		s.tell(hostlink.Told{Problem: running("touch the device")})
		return true
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.hand != s {
		h := hostlink.Hand{}
		if d.hand != nil {
			h.Name = d.hand.who.Name
		}
		s.tell(hostlink.Told{Hand: &h})
		return true
	}
	return d.queue(x)
}

// queue puts something into the queue, under mu. What can be one with what waits last becomes one: moves of the same fingers, and text.
func (d *Device) queue(x doing) bool {
	if n := len(d.waiting); n > 0 {
		last := &d.waiting[n-1]
		switch {
		case x.touch && last.touch && len(x.fingers) > 0 && sameFingers(x.fingers, last.fingers) && n > 1 && sameFingers(d.waiting[n-2].fingers, x.fingers):
			last.fingers, last.at = x.fingers, x.at
			return true
		case !x.touch && !last.touch && x.text != "" && last.text != "" && len(x.keys)+len(last.keys) == 0 && x.secret == last.secret && len(last.text)+len(x.text) <= maxTyped:
			last.text += x.text
			return true
		case !x.touch && !last.touch && len(x.keys) == 1 && len(last.keys) > 0 && last.keys[0] == x.keys[0] && x.text == "" && len(last.keys) < maxKeys:
			last.keys = append(last.keys, x.keys...)
			return true
		}
	}
	if len(d.waiting) >= maxWaiting {
		return false
	}
	d.put(x)
	return true
}

// put puts something behind all that waits, under mu.
func (d *Device) put(x doing) {
	d.waiting = append(d.waiting, x)
	select {
	case d.todo <- struct{}{}:
	default:
	}
}

// lift has, under mu, all fingers lift, however much waits.
func (d *Device) lift() { d.put(doing{touch: true, at: time.Now()}) }

func sameFingers(a, b []hostlink.Contact) bool {
	return slices.EqualFunc(a, b, func(a, b hostlink.Contact) bool { return a.ID == b.ID })
}

func (d *Device) next() (x doing, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.waiting) == 0 {
		return x, false
	}
	x = d.waiting[0]
	d.waiting = d.waiting[1:]
	return x, true
}

// work does what waits until ctx ends.
func (d *Device) work(ctx context.Context) {
	w := worker{d: d}
	defer w.close()
	for {
		x, ok := d.next()
		if !ok {
			select {
			case <-d.todo:
				continue
			case <-ctx.Done():
				return
			}
		}
		if ctx.Err() != nil {
			return
		}
		one, cancel := context.WithTimeout(ctx, commandTake+time.Duration(len(x.text))*letterTakes)
		err := guard.Do(d.Log, guard.Hold, func() error { return w.do(one, x) })
		cancel()
		if err != nil && ctx.Err() == nil {
			d.tellHand(problemOf(x, err))
		}
	}
}

func problemOf(x doing, err error) hostlink.Problem {
	what := "touch the screen"
	switch {
	case !x.touch && x.text == "" && len(x.keys) == 0:
		what = "make the device ready"
	case x.text != "":
		what = "type the text"
	case len(x.keys) > 0:
		what = "press the key"
	}
	p := hostlink.Problem{What: what, Why: err.Error()}
	var refused *phone.Refused
	if errors.As(err, &refused) {
		p.Why, p.Remedy = refused.Why, refused.Remedy
	}
	return p
}

// worker does one thing after the other.
type worker struct {
	d      *Device
	hand   phone.Hand
	closed bool // there is none to be had
	now    gesture
	lifted time.Time // when fingers that were followed did last
}

// gesture is what fingers do from where the first touches to where the last lifts.
type gesture struct {
	began   time.Time
	strokes []phone.Stroke
	ids     []int // of the strokes whose fingers touch still; -1: it has lifted
	failed  error
	element string // the locator of what the first one touched; "": not known
}

func (w *worker) close() {
	if w.hand != nil {
		_ = w.hand.Close()
		w.hand = nil
	}
}

func (w *worker) do(ctx context.Context, x doing) error {
	d := w.d
	switch {
	case x.touch:
		return w.touch(ctx, x)
	case x.away:
		w.close()
		w.closed = false
		return nil
	}
	if wait := settles - time.Since(w.lifted); wait > 0 {
		if err := phone.Pause(ctx, wait); err != nil {
			return err
		}
	}
	switch {
	case x.text != "":
		element, secret := d.focused()
		return d.Do("type", map[string]string{"text": Shown(x.text, x.secret || secret), "element": element}, func() error { return d.Phone.Type(ctx, x.text) })
	case len(x.keys) > 0:
		for len(x.keys) > 0 { // those that are alike are one command
			n := 1
			for n < len(x.keys) && x.keys[n] == x.keys[0] {
				n++
			}
			args := map[string]string{"key": string(x.keys[0])}
			if n > 1 {
				args["times"] = fmt.Sprint(n)
			}
			if err := d.Do("press", args, func() error { return d.Phone.Press(ctx, x.keys[:n]...) }); err != nil {
				return err
			}
			x.keys = x.keys[n:]
		}
		return nil
	}
	return w.ready(ctx)
}

// Shown is a text as it is kept.
func Shown(text string, secret bool) string {
	if secret {
		return strings.Repeat(scribe.Masked, utf8.RuneCountInString(text))
	}
	return text
}

// Do does something, and notes it.
func (d *Device) Do(name string, args map[string]string, do func() error) error {
	c := phone.Command{Name: name, Args: args, Start: time.Now()}
	if args["element"] == "" {
		delete(args, "element")
	}
	c.Err = do()
	c.Took = time.Since(c.Start)
	d.Acted()
	d.Note(c)
	return c.Err
}

// ready lays a hand on the device, where it can be.
func (w *worker) ready(ctx context.Context) error {
	if w.hand != nil || w.closed || w.d.Phone.Touchable == nil {
		return nil
	}
	hand, err := w.d.Phone.Touchable.LayHand(ctx)
	var lost *phone.Lost
	if errors.As(err, &lost) || ctx.Err() != nil {
		return err
	}
	w.closed = err != nil
	if !w.closed {
		w.hand = hand
	}
	return nil
}

// screen is how large the screen is as it is held.
func (w *worker) screen() image.Point {
	if w.d.Film != nil {
		if s := w.d.Film.Held(); s != (image.Point{}) {
			return s
		}
	}
	return w.d.Size
}

// touch does what fingers do.
func (w *worker) touch(ctx context.Context, x doing) error {
	size := w.screen()
	var fingers []phone.Finger
	for _, f := range x.fingers {
		fingers = append(fingers, phone.Finger{ID: f.ID, X: min(int(f.X*float64(size.X)), size.X-1), Y: min(int(f.Y*float64(size.Y)), size.Y-1)})
	}
	if len(fingers) == 0 && len(w.now.strokes) == 0 {
		return nil
	}
	if err := w.ready(ctx); err != nil {
		return err
	}
	if len(w.now.strokes) == 0 {
		w.now.element = w.d.touched(w.d.look(ctx), fingers[0].X, fingers[0].Y)
	}
	w.now.follow(fingers, x.at)
	if w.hand != nil && w.now.failed == nil {
		if err := w.hand.Place(ctx, fingers); err != nil {
			w.close()
			var refused *phone.Refused
			w.closed = errors.As(err, &refused)
			if len(w.now.strokes) > 1 || len(w.now.strokes[0]) > 1 || !w.closed {
				w.now.failed = err
			}
		}
	}
	if len(fingers) > 0 {
		return nil
	}
	g := w.now
	w.now = gesture{}
	c := g.command(size)
	if w.hand == nil && g.failed == nil {
		return w.d.Do(c.Name, c.Args, func() error { return w.play(ctx, g, size) })
	}
	w.lifted = time.Now()
	c.Err = g.failed
	w.d.Acted()
	w.d.Note(c)
	return g.failed
}

// follow takes in where the fingers are now.
func (g *gesture) follow(fingers []phone.Finger, at time.Time) {
	if len(g.strokes) == 0 {
		g.began = at
	}
	since := max(0, at.Sub(g.began))
	for i, id := range g.ids {
		if id < 0 {
			continue
		}
		s := &g.strokes[i]
		k := slices.IndexFunc(fingers, func(f phone.Finger) bool { return f.ID == id })
		if k < 0 {
			last := (*s)[len(*s)-1]
			last.At = since
			*s, g.ids[i] = append(*s, last), -1
			continue
		}
		c := phone.Contact{X: fingers[k].X, Y: fingers[k].Y, At: since}
		if last := (*s)[len(*s)-1]; len(*s) < maxPath && (last.X != c.X || last.Y != c.Y) {
			*s = append(*s, c)
		}
	}
	for _, f := range fingers {
		if !slices.Contains(g.ids, f.ID) && len(g.strokes) < 2*maxFingers {
			g.ids = append(g.ids, f.ID)
			g.strokes = append(g.strokes, phone.Stroke{{X: f.X, Y: f.Y, At: since}})
		}
	}
}

// kind says what one finger did.
func (g *gesture) kind(size image.Point) (kind string, first, last phone.Contact) {
	s := g.strokes[0]
	first, last = s[0], s[len(s)-1]
	far := 0.0
	for _, c := range s {
		far = max(far, math.Hypot(float64(c.X-first.X), float64(c.Y-first.Y)))
	}
	switch {
	case len(g.strokes) > 1:
		return "fingers", first, last
	case far > nearPart*float64(min(size.X, size.Y)):
		return "swipe", first, last
	case last.At-first.At >= longPress:
		return "long press", first, last
	}
	return "tap", first, last
}

// command is the gesture as it stands on the timeline.
func (g *gesture) command(size image.Point) (c phone.Command) {
	kind, first, last := g.kind(size)
	c = phone.Command{Name: kind, Start: g.began, Took: last.At}
	place := func(c phone.Contact) string { return fmt.Sprintf("%d,%d", c.X, c.Y) }
	ms := fmt.Sprint((last.At - first.At).Milliseconds())
	defer func() {
		if g.element != "" && (kind == "tap" || kind == "long press") {
			c.Args["element"] = g.element
		}
	}()
	switch kind {
	case "tap":
		c.Args = map[string]string{"x": fmt.Sprint(first.X), "y": fmt.Sprint(first.Y)}
	case "long press":
		c.Args = map[string]string{"x": fmt.Sprint(first.X), "y": fmt.Sprint(first.Y), "ms": ms}
	case "swipe":
		c.Args = map[string]string{"from": place(first), "to": place(last), "ms": ms}
	default:
		c.Args = map[string]string{"fingers": fmt.Sprint(len(g.strokes))}
		for i, s := range g.strokes {
			c.Args[fmt.Sprintf("finger %d", i+1)] = place(s[0]) + " to " + place(s[len(s)-1])
			c.Took = max(c.Took, s[len(s)-1].At)
		}
	}
	return c
}

// play does a gesture that is over, on a device whose fingers can't be followed.
func (w *worker) play(ctx context.Context, g gesture, size image.Point) error {
	p := w.d.Phone
	kind, first, last := g.kind(size)
	switch {
	case kind == "tap":
		return p.Tap(ctx, first.X, first.Y)
	case kind == "long press":
		return p.Swipe(ctx, first.X, first.Y, first.X, first.Y, last.At-first.At)
	case p.Fingers != nil:
		return p.Fingers.Touch(ctx, g.strokes)
	case kind == "swipe":
		return p.Swipe(ctx, first.X, first.Y, last.X, last.Y, max(last.At-first.At, 40*time.Millisecond))
	}
	return &phone.Refused{Doing: "touch", Why: "this device takes one finger at a time"}
}
