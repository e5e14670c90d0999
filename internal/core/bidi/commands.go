package bidi

// The draft's commands, and what becomes of each here.

import (
	"slices"
	"strings"

	"tessellant/internal/core/w3c"
)

// Verb is one of the draft's commands.
type Verb struct {
	Name  string
	About string // what it does here
	Not   string // why it is not done here, and what to do instead; "": it is
}

// Here says what becomes of it here.
func (v Verb) Here() string {
	if v.Not != "" {
		return string(w3c.UnsupportedOperation) + ": " + v.Not
	}
	return v.About
}

const (
	scripts  = "run scripts in a page with POST …/execute/sync, after POST …/tessellant/context"
	requests = "requests are seen, and not held up; make the network worse with POST …/tessellant/network, or lead a name to a server of yours with: tessellant route open"
	onePage  = "the app opens and closes its web views; it has one window, the screen"
)

// Verbs are all commands of the draft, by its modules.
var Verbs = []Verb{
	{"session.status", "whether a session can be made on this connection", ""},
	{"session.new", "on ws://…/webdriver/session: takes a device, as New Session does", ""},
	{"session.end", "as Delete Session", ""},
	{"session.subscribe", "to events, or to all of a module; for all contexts, or for some", ""},
	{"session.unsubscribe", "by the subscription's id, or by the events' names", ""},
	{"browser.close", "", "a device has no browser to close; end the session"},
	{"browser.createUserContext", "", "a device has one: default"},
	{"browser.getClientWindows", "", onePage},
	{"browser.getUserContexts", "the one that there is: default", ""},
	{"browser.removeUserContext", "", "a device has one: default"},
	{"browser.setClientWindowState", "", onePage},
	{"browsingContext.activate", "brings a page to the front of its web view", ""},
	{"browsingContext.captureScreenshot", "of the screen as PNG; of a page as PNG, JPEG or WebP, and of a part of it", ""},
	{"browsingContext.close", "", onePage},
	{"browsingContext.create", "", onePage},
	{"browsingContext.getTree", "the screen, and the pages of web views with their frames", ""},
	{"browsingContext.handleUserPrompt", "answers a dialog of a page; an app's is part of its screen", ""},
	{"browsingContext.locateNodes", "", "find elements with POST …/elements, after POST …/tessellant/context"},
	{"browsingContext.navigate", "takes a page elsewhere; the screen goes nowhere", ""},
	{"browsingContext.print", "", "a web view does not print"},
	{"browsingContext.reload", "of a page", ""},
	{"browsingContext.setViewport", "", "a web view has the size that its app gives it; turn the device with POST …/tessellant/orientation"},
	{"browsingContext.traverseHistory", "of a page; for the screen there is Back", ""},
	{"emulation.setGeolocationOverride", "", "set the device's place: POST …/tessellant/conditions"},
	{"emulation.setLocaleOverride", "", "set the device's language: POST …/tessellant/conditions"},
	{"emulation.setScreenOrientationOverride", "", "turn the device: POST …/tessellant/orientation"},
	{"emulation.setTimezoneOverride", "", "set the device's time zone: POST …/tessellant/conditions"},
	{"input.performActions", "", "act with POST …/actions: on the screen, or in a page after POST …/tessellant/context"},
	{"input.releaseActions", "", "let go with DELETE …/actions"},
	{"input.setFiles", "", "put files onto the device with POST …/tessellant/file/put"},
	{"network.addIntercept", "", requests},
	{"network.continueRequest", "", requests},
	{"network.continueResponse", "", requests},
	{"network.continueWithAuth", "", requests},
	{"network.failRequest", "", requests},
	{"network.provideResponse", "", requests},
	{"network.removeIntercept", "", requests},
	{"network.setCacheBehavior", "", requests},
	{"script.addPreloadScript", "", scripts},
	{"script.callFunction", "", scripts},
	{"script.disown", "", scripts},
	{"script.evaluate", "", scripts},
	{"script.getRealms", "", scripts},
	{"script.removePreloadScript", "", scripts},
	{"storage.deleteCookies", "", "cookies of a page are read and written with …/cookie, after POST …/tessellant/context"},
	{"storage.getCookies", "", "cookies of a page are read and written with …/cookie, after POST …/tessellant/context"},
	{"storage.setCookie", "", "cookies of a page are read and written with …/cookie, after POST …/tessellant/context"},
	{"webExtension.install", "", "a web view takes none"},
	{"webExtension.uninstall", "", "a web view takes none"},
}

// Refusal says why a command is not done; nil: it is.
func Refusal(method string) *w3c.Error {
	i := slices.IndexFunc(Verbs, func(v Verb) bool { return v.Name == method })
	switch {
	case i < 0:
		return w3c.Fail(w3c.UnknownCommand, "the draft of %s has no command %.100q", Draft, method)
	case Verbs[i].Not != "":
		return w3c.Fail(w3c.UnsupportedOperation, "%s is not done here: %s", method, Verbs[i].Not)
	}
	return nil
}

// Told is one of the draft's events. Here: it comes.
type Told struct {
	Name string
	Here bool
}

// Names of events that come.
const (
	LogEntry        = "log.entryAdded"
	ContextCreated  = "browsingContext.contextCreated"
	ContextGone     = "browsingContext.contextDestroyed"
	Navigating      = "browsingContext.navigationStarted"
	Committed       = "browsingContext.navigationCommitted"
	Fragment        = "browsingContext.fragmentNavigated"
	HistoryUpdated  = "browsingContext.historyUpdated"
	ContentLoaded   = "browsingContext.domContentLoaded"
	Loaded          = "browsingContext.load"
	PromptOpened    = "browsingContext.userPromptOpened"
	PromptClosed    = "browsingContext.userPromptClosed"
	RequestSent     = "network.beforeRequestSent"
	ResponseStarted = "network.responseStarted"
	ResponseWhole   = "network.responseCompleted"
	FetchError      = "network.fetchError"
)

// Events are all events of the draft: a client may subscribe to any of them, also to one that never comes.
var Events = []Told{
	{ContextCreated, true}, {ContextGone, true}, {ContentLoaded, true}, {"browsingContext.downloadWillBegin", false}, {Fragment, true}, {HistoryUpdated, true}, {Loaded, true},
	{"browsingContext.navigationAborted", false}, {Committed, true}, {"browsingContext.navigationFailed", false}, {Navigating, true}, {PromptClosed, true}, {PromptOpened, true},
	{"input.fileDialogOpened", false}, {LogEntry, true},
	{"network.authRequired", false}, {RequestSent, true}, {FetchError, true}, {ResponseWhole, true}, {ResponseStarted, true},
	{"script.message", false}, {"script.realmCreated", false}, {"script.realmDestroyed", false},
}

// expand gives the events that names stand for: those of a module, or one (section "session.subscribe", "obtain a set of event names").
func expand(names []string) (out []string, err *w3c.Error) {
	for _, n := range names {
		found := false
		for _, e := range Events {
			module, _, _ := strings.Cut(e.Name, ".")
			if e.Name == n || module == n {
				found = true
				if !slices.Contains(out, e.Name) {
					out = append(out, e.Name)
				}
			}
		}
		if !found {
			return nil, w3c.Fail(w3c.InvalidArgument, "the draft of %s has no event or module %.100q", Draft, n)
		}
	}
	return out, nil
}
