// Package ours is what we add to the W3C WebDriver standard under its extension mechanism: capabilities that a session may ask for, and the
// reference of all that is answered.
package ours

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
)

// Wanted is what a client asks for with capabilities of ours.
type Wanted struct {
	Build      string           // a reference; "": no build, nothing is installed
	Where      []string         // a device filter
	Group      string           // in which it is listed
	Name       string           //
	Patience   time.Duration    // how long to wait for a device
	Limit      time.Duration    // how long the session may last
	Idle       time.Duration    // how long the client may be silent
	Recording  recording.Set    // what is kept
	Conditions conditions.Set   // how the device is set before the session begins
	Helpers    []string         // that may be installed: work.Helpers
	Key        string           // where no header has it
	Hold       string           // of a device that a person holds: the session works on it
	Filter     devices.Filter   // what Where says
	Standard   w3c.Capabilities // the rest
}

// Bounds of what may be asked for.
const (
	DefaultPatience = 2 * time.Minute
	MaxPatience     = time.Hour
	DefaultLimit    = time.Hour
	MaxLimit        = 24 * time.Hour
	DefaultIdle     = 2 * time.Minute
	MaxIdle         = time.Hour
)

// Extension is one of our capabilities.
type Extension struct {
	Name, Takes, About string
	read               func(w *Wanted, v any) error
}

// Extensions are all of them, in the order they are explained.
var Extensions = []Extension{
	{"build", "reference", `the build to install and launch, such as "kelpline/android@newest"; without it the device is as it is`, func(w *Wanted, v any) error { return text(v, &w.Build, 255) }},
	{"where", "list of texts", `which devices will do, such as ["os>=12", "maker=Orrery"]; without it any that fits the build`, readWhere},
	{"group", "text", "the group in which sessions are listed together", func(w *Wanted, v any) error { return text(v, &w.Group, 100) }},
	{"name", "text", "what this session is called", func(w *Wanted, v any) error { return text(v, &w.Name, 200) }},
	{"patience", "seconds", "how long to wait for a device; 120 unless said, 3600 at most", func(w *Wanted, v any) error { return seconds(v, &w.Patience, 0, MaxPatience) }},
	{"limit", "seconds", "how long the session may last; 3600 unless said, 86400 at most", func(w *Wanted, v any) error { return seconds(v, &w.Limit, time.Second, MaxLimit) }},
	{"idle", "seconds", "how long no command may come before the session is ended; 120 unless said, 3600 at most", func(w *Wanted, v any) error { return seconds(v, &w.Idle, time.Second, MaxIdle) }},
	{"recording", "object", `what is kept, besides what is usual: {"video": false, "screenshots": "commands"}`, readRecording},
	{"conditions", "object", `how the device is set: {"orientation": "landscape", "dark": true, "language": "de"}`, readConditions},
	{"helpers", "list of texts", `what may be installed on the device for the session: ["keyboard"], which types any text`, readHelpers},
	{"hold", "text", "a device that somebody of the workspace holds by hand, by the hold's id or the device's serial: the session works on it, and leaves it held", func(w *Wanted, v any) error { return text(v, &w.Hold, 100) }},
	{"key", "text", "the key, where the client can't send it in a header", func(w *Wanted, v any) error { return text(v, &w.Key, 200) }},
}

// CheckExtension says why a value of one of our capabilities won't do.
func CheckExtension(name string, v any) error {
	var w Wanted
	return w.take(name, v)
}

func (w *Wanted) take(name string, v any) error {
	short, _ := strings.CutPrefix(name, w3c.Prefix+":")
	for _, x := range Extensions {
		if x.Name == short {
			return x.read(w, v)
		}
	}
	var names []string
	for _, x := range Extensions {
		names = append(names, x.Name)
	}
	return fmt.Errorf("there is none of this name; there are %s", strings.Join(names, ", "))
}

// Read takes apart a set of capabilities that w3c.Process gave.
func Read(c w3c.Capabilities) (Wanted, error) {
	w := Wanted{Patience: DefaultPatience, Limit: DefaultLimit, Idle: DefaultIdle, Recording: recording.Usual(), Standard: w3c.Capabilities{}}
	for _, name := range slices.Sorted(maps.Keys(c)) {
		if !strings.HasPrefix(name, w3c.Prefix+":") {
			w.Standard[name] = c[name]
			continue
		}
		if err := w.take(name, c[name]); err != nil {
			return w, fmt.Errorf("%s: %w", name, err)
		}
	}
	return w, nil
}

// Told is what a new session's answer says of ours: which session it is, the build ("": none), and the device; and which browser, where it is one.
func Told(session, build string, f devices.Facts) map[string]any {
	out := map[string]any{w3c.Prefix + ":session": session,
		w3c.Prefix + ":device": map[string]any{"serial": f.Serial, "maker": f.Maker, "model": f.Model, "os": f.OS, "api": f.API, "form": f.Form, "origin": f.Origin, "simulated": f.Simulated}}
	if build != "" {
		out[w3c.Prefix+":build"] = build
	}
	if f.Platform == devices.Web {
		out["browserName"], out["browserVersion"] = w3c.Browser, f.OS
	}
	return out
}

// MaxKeyless is how many bytes a New Session request may have whose key stands in it: anybody can send it.
const MaxKeyless = 64 << 10

// KeyIn gives the key that stands among the capabilities of a New Session request; "": there is none.
func KeyIn(request []byte) string {
	if len(request) > MaxKeyless {
		return ""
	}
	body, err := w3c.Object(request)
	if err != nil {
		return ""
	}
	sets, _ := w3c.Process(body, func(string, any) error { return nil })
	for _, c := range sets {
		if key, ok := c[w3c.Prefix+":key"].(string); ok {
			return key
		}
	}
	return ""
}

func text(v any, to *string, longest int) error {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("it must be a text, not %s", asJSON(v))
	}
	if len(s) > longest {
		return fmt.Errorf("it has %d bytes; %d is the most", len(s), longest)
	}
	*to = s
	return nil
}

func seconds(v any, to *time.Duration, least, most time.Duration) error {
	f, ok := v.(float64)
	d := time.Duration(f * float64(time.Second))
	if !ok || f < 0 || f > most.Seconds() || d < least {
		return fmt.Errorf("it must be a number of seconds from %g to %g, not %s", least.Seconds(), most.Seconds(), asJSON(v))
	}
	*to = d
	return nil
}

func readWhere(w *Wanted, v any) (err error) {
	if one, is := v.(string); is {
		v = []any{one}
	}
	if w.Where, err = texts(v, "device filter", `["os>=12"]`); err != nil {
		return err
	}
	w.Filter, err = devices.ParseFilter(w.Where, nil)
	return err
}

func readHelpers(w *Wanted, v any) (err error) {
	if w.Helpers, err = texts(v, "helper", `["keyboard"]`); err != nil {
		return err
	}
	return work.CheckHelpers(w.Helpers)
}

// texts reads a list of texts; of says what each is, like is such a list.
func texts(v any, of, like string) (out []string, err error) {
	list, ok := v.([]any)
	if !ok {
		return nil, fmt.Errorf("it must be a list of %ss, such as %s, not %s", of, like, asJSON(v))
	}
	for _, x := range list {
		s, ok := x.(string)
		if !ok {
			return nil, fmt.Errorf("each %s must be a text, not %s", of, asJSON(x))
		}
		out = append(out, s)
	}
	return out, nil
}

func readRecording(w *Wanted, v any) error {
	m, ok := v.(map[string]any)
	if !ok {
		return fmt.Errorf("it must be an object, not %s", asJSON(v))
	}
	set, err := w.Recording.FromMap(m)
	w.Recording = set
	return err
}

func readConditions(w *Wanted, v any) error {
	m, ok := v.(map[string]any)
	if !ok {
		return fmt.Errorf("it must be an object, not %s", asJSON(v))
	}
	set, err := conditions.FromMap(m)
	if err == nil && len(m) == 0 {
		set = nil
	}
	w.Conditions = set
	return err
}

func asJSON(v any) string {
	raw, _ := json.Marshal(v)
	return foreign.Name(string(raw), 2000)
}
