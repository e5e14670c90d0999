package w3c

import (
	"cmp"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// Does says what becomes of a command in a context.
type Does int

const (
	Works     Does = iota // as the standard says
	Differs               // with a difference, which About tells
	Senseless             // answered with "unsupported operation": the context lacks what the command needs
)

// Command is one command: of the standard, or of our own under its extension mechanism (section 6.8, "Protocol extensions").
type Command struct {
	Method, Path string // the path's variables stand in braces
	Name         string
	Needs        Need
	Differs      bool   // from the standard
	About        string // what it does; where its context lacks what it needs, what to do instead
}

// Does says what becomes of the command in a context.
func (c Command) Does(in Context) Does {
	switch {
	case in.Lacks(c.Needs) != 0:
		return Senseless
	case c.Differs:
		return Differs
	}
	return Works
}

// Reason says why the command has no meaning in a context, and what to do instead; "": it has one.
func (c Command) Reason(in Context) string {
	lacks := in.Lacks(c.Needs)
	if lacks == 0 {
		return ""
	}
	if in.Own {
		return cmp.Or(in.Without[lacks], c.About)
	}
	return cmp.Or(c.About, in.Without[lacks])
}

// Refusal is the answer to a command that has no meaning in a context; nil: it has one.
func (c Command) Refusal(in Context) *Error {
	if why := c.Reason(in); why != "" {
		return Fail(UnsupportedOperation, "%s has no meaning here: %s", c.Name, why)
	}
	return nil
}

// Effect is what a command does to the screen.
type Effect int

const (
	Acts  Effect = iota // it may change what is on the screen
	Looks               // it only looks
	Marks               // it marks a moment, which stands in the evidence as that
)

// effects are those of the commands that do not act, besides all that are GET: those only look.
var effects = map[string]Effect{
	"Set Timeouts": Looks, "Switch To Window": Looks, "Switch To Frame": Looks, "Switch To Parent Frame": Looks,
	"Find Element": Looks, "Find Elements": Looks, "Find Element From Element": Looks, "Find Elements From Element": Looks, "Find Element From Shadow Root": Looks, "Find Elements From Shadow Root": Looks,
	"Get Device Log": Looks, "Fetch File": Looks, "Get Apps": Looks, "Switch Context": Looks,
	"Begin Case": Marks, "End Case": Marks, "Step": Marks, "Mark Session": Marks, "Hide Next Text": Marks,
}

// Effect says what the command does to the screen.
func (c Command) Effect() Effect {
	if c.Method == "GET" {
		return Looks
	}
	return effects[c.Name]
}

// Prefix begins all our extension commands' paths behind the session, and with a colon our capabilities.
const Prefix = "tessellant"

// Commands are all commands that the standard has (section 6.3, "Endpoints", and the appendix on
// displayedness), in its order.
var Commands = []Command{
	{"POST", "/session", "New Session", 0, false, "takes a device that fits; waits for one up to the patience"},
	{"DELETE", "/session/{session id}", "Delete Session", 0, false, "the device is free as soon as it is clean; its evidence is written after that"},
	{"GET", "/status", "Status", 0, false, ""},
	{"GET", "/session/{session id}/timeouts", "Get Timeouts", 0, false, ""},
	{"POST", "/session/{session id}/timeouts", "Set Timeouts", 0, false, "implicit is kept to; script and pageLoad are remembered and have no use"},
	{"POST", "/session/{session id}/url", "Navigate To", Page, false, ""},
	{"GET", "/session/{session id}/url", "Get Current URL", Page, false, ""},
	{"POST", "/session/{session id}/back", "Back", Hands, false, "presses the device's back key"},
	{"POST", "/session/{session id}/forward", "Forward", Page, false, ""},
	{"POST", "/session/{session id}/refresh", "Refresh", Page, false, ""},
	{"GET", "/session/{session id}/title", "Get Title", Page, false, ""},
	{"GET", "/session/{session id}/window", "Get Window Handle", Elements, false, "the screen is the one window: \"screen\""},
	{"DELETE", "/session/{session id}/window", "Close Window", Windows, false, "a screen can't be closed; end the session, or stop the app with POST …/tessellant/app/stop"},
	{"POST", "/session/{session id}/window", "Switch To Window", Elements, false, "to \"screen\"; any other is no such window"},
	{"GET", "/session/{session id}/window/handles", "Get Window Handles", Elements, false, ""},
	{"POST", "/session/{session id}/window/new", "New Window", Windows, false, "a phone has one screen"},
	{"POST", "/session/{session id}/frame", "Switch To Frame", Elements, false, "to null, the whole screen; there are no frames"},
	{"POST", "/session/{session id}/frame/parent", "Switch To Parent Frame", Elements, false, "changes nothing"},
	{"GET", "/session/{session id}/window/rect", "Get Window Rect", Elements, false, "the screen as it is held, in pixels"},
	{"POST", "/session/{session id}/window/rect", "Set Window Rect", Windows, false, "a phone's screen has its size; to turn it: POST …/tessellant/orientation"},
	{"POST", "/session/{session id}/window/maximize", "Maximize Window", Windows, false, "the app has the whole screen"},
	{"POST", "/session/{session id}/window/minimize", "Minimize Window", Windows, false, "to leave the app, stop it with POST …/tessellant/app/stop"},
	{"POST", "/session/{session id}/window/fullscreen", "Fullscreen Window", Windows, false, "the app has the whole screen"},
	{"GET", "/session/{session id}/element/active", "Get Active Element", Elements, false, "the element with the focus"},
	{"GET", "/session/{session id}/element/{element id}/shadow", "Get Element Shadow Root", Elements, false, "no element has one: no such shadow root"},
	{"POST", "/session/{session id}/element", "Find Element", Elements, false, "all five strategies, on the screen's tree"},
	{"POST", "/session/{session id}/elements", "Find Elements", Elements, false, ""},
	{"POST", "/session/{session id}/element/{element id}/element", "Find Element From Element", Elements, false, ""},
	{"POST", "/session/{session id}/element/{element id}/elements", "Find Elements From Element", Elements, false, ""},
	{"POST", "/session/{session id}/shadow/{shadow id}/element", "Find Element From Shadow Root", Elements, false, "there is none: no such shadow root"},
	{"POST", "/session/{session id}/shadow/{shadow id}/elements", "Find Elements From Shadow Root", Elements, false, "there is none: no such shadow root"},
	{"GET", "/session/{session id}/element/{element id}/selected", "Is Element Selected", Elements, false, "checked, or selected in a list"},
	{"GET", "/session/{session id}/element/{element id}/displayed", "Is Element Displayed", Elements, false, "whether any part of it is on the screen"},
	{"GET", "/session/{session id}/element/{element id}/attribute/{name}", "Get Element Attribute", Elements, false, "of the tree; null for what is false or not there"},
	{"GET", "/session/{session id}/element/{element id}/property/{property name}", "Get Element Property", Elements, true, "an attribute with its type: true, false, or text"},
	{"GET", "/session/{session id}/element/{element id}/css/{property name}", "Get Element CSS Value", Page, false, "native elements have no style sheets"},
	{"GET", "/session/{session id}/element/{element id}/text", "Get Element Text", Elements, false, "what a person reads on it and in it"},
	{"GET", "/session/{session id}/element/{element id}/name", "Get Element Tag Name", Elements, false, "its kind: button, text, field…"},
	{"GET", "/session/{session id}/element/{element id}/rect", "Get Element Rect", Elements, false, "in pixels of the screen as it is held"},
	{"GET", "/session/{session id}/element/{element id}/enabled", "Is Element Enabled", Elements, false, ""},
	{"GET", "/session/{session id}/element/{element id}/computedrole", "Get Computed Role", Elements, false, "the WAI-ARIA role of its kind"},
	{"GET", "/session/{session id}/element/{element id}/computedlabel", "Get Computed Label", Elements, false, "what a screen reader says"},
	{"POST", "/session/{session id}/element/{element id}/click", "Element Click", Elements | Hands, true, "a tap in its middle, where it is; it is not scrolled to"},
	{"POST", "/session/{session id}/element/{element id}/clear", "Element Clear", Elements | Hands, false, ""},
	{"POST", "/session/{session id}/element/{element id}/value", "Element Send Keys", Elements | Hands, false, "printable ASCII, and the keys that a phone has; any text with the keyboard helper"},
	{"GET", "/session/{session id}/source", "Get Page Source", Elements, false, "the screen's tree as XML"},
	{"POST", "/session/{session id}/execute/sync", "Execute Script", Page, false, ""},
	{"POST", "/session/{session id}/execute/async", "Execute Async Script", Page, false, ""},
	{"GET", "/session/{session id}/cookie", "Get All Cookies", Page, false, ""},
	{"GET", "/session/{session id}/cookie/{name}", "Get Named Cookie", Page, false, ""},
	{"POST", "/session/{session id}/cookie", "Add Cookie", Page, false, ""},
	{"DELETE", "/session/{session id}/cookie/{name}", "Delete Cookie", Page, false, ""},
	{"DELETE", "/session/{session id}/cookie", "Delete All Cookies", Page, false, ""},
	{"POST", "/session/{session id}/actions", "Perform Actions", Gestures, true, "touch, pen and mouse are fingers; keys; no wheel. A finger that stays down is carried out when it lifts. In a page: events of a browser, as the standard says, with a wheel"},
	{"DELETE", "/session/{session id}/actions", "Release Actions", Gestures, false, ""},
	{"POST", "/session/{session id}/alert/dismiss", "Dismiss Alert", Dialogs, false, "an app's dialog is part of the screen: find its buttons"},
	{"POST", "/session/{session id}/alert/accept", "Accept Alert", Dialogs, false, "an app's dialog is part of the screen: find its buttons"},
	{"GET", "/session/{session id}/alert/text", "Get Alert Text", Dialogs, false, "an app's dialog is part of the screen: find its texts"},
	{"POST", "/session/{session id}/alert/text", "Send Alert Text", Dialogs, false, "an app's dialog is part of the screen: find its field"},
	{"GET", "/session/{session id}/screenshot", "Take Screenshot", Picture, false, ""},
	{"GET", "/session/{session id}/element/{element id}/screenshot", "Take Element Screenshot", Elements | Picture, false, "cut out of the screen; it is not scrolled to"},
	{"POST", "/session/{session id}/print", "Print Page", Page, false, ""},
}

// Extensions are our own commands.
var Extensions = []Command{
	{"POST", "/session/{session id}/tessellant/app/install", "Install App", Phone, false, `{"build": reference} of any build of the workspace, or {} for the session's own; over what is there, whose data stays; launch it then`},
	{"POST", "/session/{session id}/tessellant/app/launch", "Launch App", Phone, false, `{"app": id, "args": {name: text}}; both may be left out`},
	{"POST", "/session/{session id}/tessellant/app/stop", "Stop App", Phone, false, `{"app": id}, or {} for the session's build`},
	{"POST", "/session/{session id}/tessellant/app/clear", "Clear App", Phone, false, `deletes its data; {"app": id of one installed for the session}, or {} for its build`},
	{"POST", "/session/{session id}/tessellant/app/remove", "Remove App", Phone, false, `{"app": id of one that was installed for the session}`},
	{"GET", "/session/{session id}/tessellant/apps", "Get Apps", Phone, false, `the apps that are not the system's: [{"app": id, "version": its code}]`},
	{"GET", "/session/{session id}/tessellant/contexts", "Get Contexts", Phone, false, `the screen and the pages of web views: [{"context": "native"}, {"context": "web:…", "app": id, "title": …, "url": …}]`},
	{"GET", "/session/{session id}/tessellant/context", "Get Context", Phone, false, "which of them commands work on: \"native\" unless it was switched"},
	{"POST", "/session/{session id}/tessellant/context", "Switch Context", Phone, false, `{"context": "native", or one that was listed}; or {"context": "web", "url": part of its address}, which waits for it as long as the implicit timeout`},
	{"GET", "/session/{session id}/tessellant/orientation", "Get Orientation", Phone, false, `"portrait" or "landscape"`},
	{"POST", "/session/{session id}/tessellant/orientation", "Set Orientation", Phone, false, `{"orientation": "landscape"}`},
	{"POST", "/session/{session id}/tessellant/network", "Set Network", Phone, false, `{"network": "edge"}; offline, full, or numbers as 120ms/2000/500/1: round trip, kbit/s down, up, % lost`},
	{"POST", "/session/{session id}/tessellant/conditions", "Set Conditions", Phone, false, `{"conditions": {"dark": "on", "font-scale": "1.3"}}: as a run has them, until the session ends`},
	{"POST", "/session/{session id}/tessellant/keyboard/hide", "Hide Keyboard", Phone, false, "no error when there is none"},
	{"GET", "/session/{session id}/tessellant/keyboard", "Is Keyboard Shown", Phone, false, "true or false"},
	{"POST", "/session/{session id}/tessellant/key", "Press Key", Phone, false, `{"key": "home"}: back, home, enter, delete, volume_up …`},
	{"GET", "/session/{session id}/tessellant/time", "Get Device Time", Phone, false, "on the device's own clock, RFC 3339"},
	{"POST", "/session/{session id}/tessellant/permission/ask", "Ask Permissions", Phone, false, `clears the app's data and takes its permissions back, so that it asks for them; {"app": id}, or {} for the session's build`},
	{"POST", "/session/{session id}/tessellant/permission/answer", "Answer Permission", Phone, false, `{"permission": "location", "allow": true}: answers the system's dialog, in any language, and returns when the app has the permission, or has it not; waits for the dialog up to 10 s`},
	{"POST", "/session/{session id}/tessellant/log", "Get Device Log", Phone, false, `{"since": next}: the lines since the last answer's next; 0 or nothing: since the session began`},
	{"POST", "/session/{session id}/tessellant/file/put", "Put File", Phone, false, `{"path": on the device, "content": Base64}`},
	{"POST", "/session/{session id}/tessellant/file/fetch", "Fetch File", Phone, false, `{"path": on the device} → Base64`},
	{"POST", "/session/{session id}/tessellant/case/begin", "Begin Case", Phone, false, `{"name": …}; a case that is open ends without a verdict`},
	{"POST", "/session/{session id}/tessellant/case/end", "End Case", Phone, false, `{"verdict": "passed", "failed" or "skipped", "message": …}`},
	{"POST", "/session/{session id}/tessellant/step", "Step", Phone, false, `{"name": …}: a named moment, with a screenshot`},
	{"POST", "/session/{session id}/tessellant/verdict", "Mark Session", Phone, false, `{"verdict": "passed" or "failed", "message": …} for the session as a whole`},
	{"POST", "/session/{session id}/tessellant/secret", "Hide Next Text", Phone, false, "the next text that is sent, also by actions, is masked wherever it would be kept"},
}

// Call is a command with the variables of its path.
type Call struct {
	Command
	Session, Element, Param string // Param: the name in the path's end
}

// patterns are all commands' paths, taken apart; when first needed.
var patterns = sync.OnceValue(func() (out []pattern) {
	for _, c := range slices.Concat(Commands, Extensions) {
		out = append(out, pattern{c, strings.Split(c.Path, "/")})
	}
	return out
})

type pattern struct {
	Command
	parts []string
}

// Route finds what a request asks for (section 6.3): no such path is unknown command, a path
// with another method unknown method.
func Route(method, path string) (Call, *Error) {
	otherMethod := false
	have := strings.Split(strings.TrimSuffix(path, "/"), "/")
	for _, p := range patterns() {
		vars, ok := match(p.parts, have)
		if !ok {
			continue
		}
		if p.Method != method {
			otherMethod = true
			continue
		}
		call := Call{Command: p.Command, Session: vars["session id"], Element: vars["element id"]}
		call.Param = vars["name"] + vars["property name"] + vars["shadow id"]
		return call, nil
	}
	if otherMethod {
		return Call{}, Fail(UnknownMethod, "%.20s is no method for %.200s", method, path)
	}
	return Call{}, Fail(UnknownCommand, "there is no command %.20s %.200s", method, path)
}

// match holds a path against one with variables. "element/active" wins over an element of that name, since it stands first.
func match(want, have []string) (map[string]string, bool) {
	if len(want) != len(have) {
		return nil, false
	}
	for i, w := range want { // most differ here already
		if w != have[i] && !strings.HasPrefix(w, "{") {
			return nil, false
		}
	}
	vars := map[string]string{}
	for i, w := range want {
		name, isVar := strings.CutPrefix(w, "{")
		if !isVar {
			continue
		}
		v, err := url.PathUnescape(have[i])
		if err != nil || v == "" {
			return nil, false
		}
		vars[strings.TrimSuffix(name, "}")] = v
	}
	return vars, true
}
