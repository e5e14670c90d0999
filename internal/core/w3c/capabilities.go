package w3c

// Processing capabilities (section 7.2).

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/devices"
)

// Capabilities is one set of them, as JSON gives it.
type Capabilities map[string]any

// maxSafe is the largest number that timeouts may have (section 8.5; ECMAScript's maximum safe integer).
const maxSafe = 1<<53 - 1

// Timeouts are a session's (section 8.5).
type Timeouts struct {
	Script   *time.Duration // nil: none
	PageLoad time.Duration
	Implicit time.Duration

	said map[string]int64 // as they were set, in ms: a Duration can't be as long
}

// DefaultTimeouts are those of a new session.
func DefaultTimeouts() Timeouts {
	s := 30 * time.Second
	return Timeouts{Script: &s, PageLoad: 300 * time.Second}
}

// JSON gives them as the wire has them, in milliseconds.
func (t Timeouts) JSON() map[string]any {
	out := map[string]any{"script": nil, "pageLoad": t.PageLoad.Milliseconds(), "implicit": t.Implicit.Milliseconds()}
	if t.Script != nil {
		out["script"] = t.Script.Milliseconds()
	}
	for name, ms := range t.said {
		if out[name] != nil {
			out[name] = ms
		}
	}
	return out
}

// Set takes over those that v names (section 8.5, "deserialize as a timeout configuration").
func (t *Timeouts) Set(v any) *Error {
	m, ok := v.(map[string]any)
	if !ok {
		return Fail(InvalidArgument, "timeouts must be an object with script, pageLoad or implicit, in milliseconds")
	}
	next := *t
	next.said = maps.Clone(t.said)
	if next.said == nil {
		next.said = map[string]int64{}
	}
	for _, name := range slices.Sorted(maps.Keys(m)) {
		value := m[name]
		if name != "script" && name != "pageLoad" && name != "implicit" {
			continue // the standard passes over what it does not know
		}
		if name == "script" && value == nil {
			next.Script = nil
			continue
		}
		n, ok := whole(value)
		if !ok || n < 0 {
			return Fail(InvalidArgument, "the timeout %s must be a whole number of milliseconds from 0 to %d, not %v", name, int64(maxSafe), value)
		}
		next.said[name] = n
		d := time.Duration(min(n, int64(math.MaxInt64/time.Millisecond))) * time.Millisecond
		switch name {
		case "script":
			next.Script = &d
		case "pageLoad":
			next.PageLoad = d
		case "implicit":
			next.Implicit = d
		}
	}
	*t = next
	return nil
}

// whole reads a JSON number that is an integer within the safe range.
func whole(v any) (int64, bool) {
	f, ok := v.(float64)
	if !ok || f != math.Trunc(f) || math.Abs(f) > maxSafe {
		return 0, false
	}
	return int64(f), true
}

const (
	maxDeep   = 64      // objects and lists in one another
	maxValues = 100_000 // in one body
	maxFirst  = 100     // sets in firstMatch: each is merged with alwaysMatch
)

// excessive says what there is too much of in a body; "": nothing. It looks at it before anything is made of it.
func excessive(body []byte) string {
	deep, values, inText := 0, 0, false
	for i := 0; i < len(body); i++ {
		c := body[i]
		switch {
		case inText && c == '\\':
			i++
		case c == '"':
			inText = !inText
		case inText:
		case c == '{' || c == '[':
			deep++
			values++
		case c == '}' || c == ']':
			deep--
		case c == ',' || c == ':':
			values++
		}
		if deep > maxDeep {
			return fmt.Sprintf("it is nested more than %d deep", maxDeep)
		}
		if values > maxValues {
			return fmt.Sprintf("it has more than %d values", maxValues)
		}
	}
	return ""
}

// Object reads a request's body, which must be a JSON object (section 6.3).
func Object(body []byte) (map[string]any, *Error) {
	if why := excessive(body); why != "" {
		return nil, Fail(InvalidArgument, "the request's body can't be taken: %s", why)
	}
	var v any
	dec := json.NewDecoder(bytes.NewReader(body))
	err := dec.Decode(&v)
	if err == nil {
		if _, more := dec.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("there is more text after its end")
		}
	}
	if err != nil {
		return nil, Fail(InvalidArgument, "the request's body is not JSON: %v", err)
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, Fail(InvalidArgument, "the request's body must be a JSON object")
	}
	return m, nil
}

// Process validates a New Session request's capabilities, and merges each of firstMatch with alwaysMatch
// (section 7.2, steps 1 to 6). What is left is to be matched, in this order; extension says of ours whether
// a value will do.
func Process(request map[string]any, extension func(name string, value any) error) ([]Capabilities, *Error) {
	caps, ok := request["capabilities"].(map[string]any)
	if !ok {
		return nil, Fail(InvalidArgument, `the request has no "capabilities" object`)
	}
	always := Capabilities{}
	if v, given := caps["alwaysMatch"]; given {
		m, ok := v.(map[string]any)
		if !ok {
			return nil, Fail(InvalidArgument, "alwaysMatch must be an object")
		}
		var err *Error
		if always, err = validate(m, extension); err != nil {
			return nil, err
		}
	}
	first := []any{map[string]any{}}
	if v, given := caps["firstMatch"]; given {
		if first, ok = v.([]any); !ok || len(first) == 0 {
			return nil, Fail(InvalidArgument, "firstMatch must be a list with at least one object")
		}
		if len(first) > maxFirst {
			return nil, Fail(InvalidArgument, "firstMatch has %d sets; %d is the most", len(first), maxFirst)
		}
	}
	var merged []Capabilities
	for _, f := range first {
		m, ok := f.(map[string]any)
		if !ok {
			return nil, Fail(InvalidArgument, "each of firstMatch must be an object")
		}
		valid, err := validate(m, extension)
		if err != nil {
			return nil, err
		}
		one := maps.Clone(always)
		for name, value := range valid {
			if _, twice := one[name]; twice {
				return nil, Fail(InvalidArgument, "the capability %s is both in alwaysMatch and in firstMatch", name)
			}
			one[name] = value
		}
		merged = append(merged, one)
	}
	return merged, nil
}

// WebSocketURL asks for a way to listen to the session (WebDriver BiDi); answered, it is its address.
const WebSocketURL = "webSocketUrl"

// Names of the standard's capabilities, with what each must be.
var standard = map[string]func(v any) string{
	"acceptInsecureCerts":       isBool,
	"browserName":               isText,
	"browserVersion":            isText,
	"platformName":              isText,
	"pageLoadStrategy":          isOneOf("none", "eager", "normal"),
	"proxy":                     isProxy,
	"setWindowRect":             isBool,
	"timeouts":                  isTimeouts,
	"strictFileInteractability": isBool,
	"unhandledPromptBehavior":   isPromptBehavior,
	WebSocketURL:                isBool,
	"userAgent":                 isText,
}

func isBool(v any) string {
	if _, ok := v.(bool); !ok {
		return "must be true or false"
	}
	return ""
}

func isText(v any) string {
	if _, ok := v.(string); !ok {
		return "must be a string"
	}
	return ""
}

// isProxy holds a proxy to the standard's table (section 7.1, "deserialize as a proxy"): validation comes before matching.
func isProxy(v any) string {
	m, ok := v.(map[string]any)
	if !ok {
		return "must be an object"
	}
	for _, name := range slices.Sorted(maps.Keys(m)) {
		bad := ""
		switch name {
		case "proxyType":
			bad = isOneOf("pac", "direct", "autodetect", "system", "manual")(m[name])
		case "proxyAutoconfigUrl", "ftpProxy", "httpProxy", "sslProxy", "socksProxy":
			bad = isText(m[name])
		case "socksVersion":
			if n, whole := whole(m[name]); !whole || n < 0 || n > 255 {
				bad = "must be a whole number from 0 to 255"
			}
		case "noProxy":
			list, ok := m[name].([]any)
			for _, x := range list {
				ok = ok && isText(x) == ""
			}
			if !ok {
				bad = "must be a list of strings"
			}
		}
		if bad != "" {
			return "has a " + name + " that " + bad
		}
	}
	return ""
}

func isOneOf(words ...string) func(any) string {
	return func(v any) string {
		if s, ok := v.(string); !ok || !slices.Contains(words, s) {
			return "must be one of " + strings.Join(words, ", ")
		}
		return ""
	}
}

func isTimeouts(v any) string {
	t := Timeouts{}
	if err := t.Set(v); err != nil {
		return "does not do: " + err.Message
	}
	return ""
}

var promptBehaviors = isOneOf("dismiss", "accept", "dismiss and notify", "accept and notify", "ignore")

func isPromptBehavior(v any) string {
	m, ok := v.(map[string]any)
	if !ok {
		return promptBehaviors(v)
	}
	for _, x := range m {
		if bad := promptBehaviors(x); bad != "" {
			return bad
		}
	}
	return ""
}

// validate is the standard's "validate capabilities": what is null is left out.
func validate(m map[string]any, extension func(string, any) error) (Capabilities, *Error) {
	out := Capabilities{}
	for _, name := range slices.Sorted(maps.Keys(m)) {
		value := m[name]
		if value == nil {
			continue
		}
		switch check, known := standard[name]; {
		case known:
			if bad := check(value); bad != "" {
				return nil, Fail(InvalidArgument, "the capability %s %s", name, bad)
			}
		case strings.HasPrefix(name, Prefix+":"):
			if err := extension(name, value); err != nil {
				return nil, Fail(InvalidArgument, "the capability %s: %v", name, err)
			}
		case !strings.Contains(name, ":"):
			return nil, Fail(InvalidArgument, "there is no capability %q in the standard; ours begin with %q", name, Prefix+":")
		}
		out[name] = value
	}
	return out, nil
}

// Browser is the name that the remote ends of the browsers here give them.
const Browser = "chrome"

// IsBrowser says whether a browserName is that of the browsers here.
func IsBrowser(name any) bool {
	text, _ := name.(string)
	return strings.EqualFold(text, Browser) || strings.EqualFold(text, "chromium")
}

// Unmatched says why a set of capabilities can't be had on any device here; "" where nothing of the standard's
// stands against it (section 7.2, "matching capabilities"). Platform is what the device runs.
func (c Capabilities) Unmatched(platform string) string {
	for _, name := range slices.Sorted(maps.Keys(c)) {
		value := c[name]
		switch {
		case name == "browserName" && platform == devices.Web:
			if _, ok := value.(string); !ok || value != "" && !IsBrowser(value) {
				return fmt.Sprintf("browserName %q: the browsers here are %s", value, Browser)
			}
		case name == "browserVersion" && platform == devices.Web && value != "":
			return fmt.Sprintf("browserVersion %q: say it with tessellant:where, such as os>=120", value)
		case (name == "browserName" || name == "browserVersion" || name == "userAgent") && value != "": // "" is what is answered
			return fmt.Sprintf("%s %q: this session drives a native app; for a page in a browser say platformName %s and browserName %s, or leave it out", name, value, devices.Web, Browser)
		case name == "platformName" && !strings.EqualFold(value.(string), platform):
			return fmt.Sprintf("platformName %q: the devices here run %s", value, platform)
		case name == "acceptInsecureCerts" && value == true, name == "setWindowRect" && value == true, name == "strictFileInteractability" && value == true:
			return name + ": a native app's screen has nothing of the kind; leave it out"
		case name == WebSocketURL && value == true && platform == devices.Web:
			return name + ": a browser's session is its lab's own, and is not listened to here; leave it out"
		case name == "proxy" && len(value.(map[string]any)) > 0:
			return "proxy: it can't be set for a session; leave it out"
		case strings.Contains(name, ":") && !strings.HasPrefix(name, Prefix+":"):
			return fmt.Sprintf("%s: it is not one of ours, and would have no effect; leave it out", name)
		}
	}
	return ""
}

// Timeouts are those that a set of capabilities asks for, and the defaults for the rest.
func (c Capabilities) Timeouts() (Timeouts, *Error) {
	t := DefaultTimeouts()
	if v, given := c["timeouts"]; given {
		if err := t.Set(v); err != nil {
			return t, err
		}
	}
	return t, nil
}

// Answer is what a new session's capabilities are (section 8.1, step 9): the standard's, then more.
func (c Capabilities) Answer(platform string, t Timeouts, more map[string]any) Capabilities {
	out := Capabilities{"browserName": "", "browserVersion": "", "platformName": platform, "acceptInsecureCerts": false, "pageLoadStrategy": "normal", "proxy": map[string]any{},
		"setWindowRect": false, "strictFileInteractability": false, "timeouts": t.JSON(), "unhandledPromptBehavior": "dismiss and notify"}
	for _, name := range []string{"pageLoadStrategy", "unhandledPromptBehavior"} {
		if v, given := c[name]; given {
			out[name] = v
		}
	}
	maps.Copy(out, more)
	return out
}
