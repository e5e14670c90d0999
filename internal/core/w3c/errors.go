// Package w3c is what of W3C WebDriver needs no device: its commands, its
// errors, the processing of capabilities, what a locator means on a screen, an
// element's state, and what actions ask fingers and keys to do.
//
// "The standard" is WebDriver, https://www.w3.org/TR/webdriver2/, whose sections
// are named where a rule comes from. In: what came over the wire, and a screen.
// Out: values, or an *Error in the standard's words. Nothing here speaks HTTP or to a device.
package w3c

import "fmt"

// Code is one of the standard's error codes (section 6.6, "Errors").
type Code string

// The standard's error codes, and no others.
const (
	ElementClickIntercepted Code = "element click intercepted"
	ElementNotInteractable  Code = "element not interactable"
	InsecureCertificate     Code = "insecure certificate"
	InvalidArgument         Code = "invalid argument"
	InvalidCookieDomain     Code = "invalid cookie domain"
	InvalidElementState     Code = "invalid element state"
	InvalidSelector         Code = "invalid selector"
	InvalidSessionID        Code = "invalid session id"
	JavascriptError         Code = "javascript error"
	MoveTargetOutOfBounds   Code = "move target out of bounds"
	NoSuchAlert             Code = "no such alert"
	NoSuchCookie            Code = "no such cookie"
	NoSuchElement           Code = "no such element"
	NoSuchFrame             Code = "no such frame"
	NoSuchWindow            Code = "no such window"
	NoSuchShadowRoot        Code = "no such shadow root"
	ScriptTimeout           Code = "script timeout"
	SessionNotCreated       Code = "session not created"
	StaleElementReference   Code = "stale element reference"
	DetachedShadowRoot      Code = "detached shadow root"
	Timeout                 Code = "timeout"
	UnableToSetCookie       Code = "unable to set cookie"
	UnableToCaptureScreen   Code = "unable to capture screen"
	UnexpectedAlertOpen     Code = "unexpected alert open"
	UnknownCommand          Code = "unknown command"
	UnknownError            Code = "unknown error"
	UnknownMethod           Code = "unknown method"
	UnsupportedOperation    Code = "unsupported operation"
)

// statuses are the HTTP status of each code, as the standard's table has them.
var statuses = map[Code]int{
	ElementClickIntercepted: 400, ElementNotInteractable: 400, InsecureCertificate: 400, InvalidArgument: 400, InvalidCookieDomain: 400,
	InvalidElementState: 400, InvalidSelector: 400, InvalidSessionID: 404, JavascriptError: 500, MoveTargetOutOfBounds: 500, NoSuchAlert: 404,
	NoSuchCookie: 404, NoSuchElement: 404, NoSuchFrame: 404, NoSuchWindow: 404, NoSuchShadowRoot: 404, ScriptTimeout: 500, SessionNotCreated: 500,
	StaleElementReference: 404, DetachedShadowRoot: 404, Timeout: 500, UnableToSetCookie: 500, UnableToCaptureScreen: 500, UnexpectedAlertOpen: 500,
	UnknownCommand: 404, UnknownError: 500, UnknownMethod: 405, UnsupportedOperation: 500,
}

// Error is an error as it goes over the wire.
type Error struct {
	Code    Code
	Message string         // what was tried, on what, why not, what to do
	Data    map[string]any // optional
}

func (e *Error) Error() string { return string(e.Code) + ": " + e.Message }

// Status is the HTTP status that goes with the error.
func (e *Error) Status() int {
	if s := statuses[e.Code]; s != 0 {
		return s
	}
	return 500
}

// Body is the answer's body (section 6.6: error, message and stacktrace, which is empty: there is no script of ours in it).
func (e *Error) Body() map[string]any {
	v := map[string]any{"error": string(e.Code), "message": e.Message, "stacktrace": ""}
	if e.Data != nil {
		v["data"] = e.Data
	}
	return map[string]any{"value": v}
}

// Fail makes an Error.
func Fail(code Code, format string, args ...any) *Error {
	return &Error{Code: code, Message: fmt.Sprintf(format, args...)}
}
