package testpkg

import "sort"

// The words of a script. docs/scripts.md is checked against these tables, and
// internal/script must define each of them.

// Globals are the names that every script file finds defined.
var Globals = map[string]string{
	"check": "the checks; see CheckWords",
	"log":   "log(text): writes a line into the timeline",
}

// PhoneWords are what the phone of a case can do.
var PhoneWords = map[string]string{
	"launch":        "launch(): starts the app under test and waits until it is in front",
	"stop":          "stop(): ends the app under test",
	"find":          "find(locator, within=10): waits for the element and returns it; fails when it does not come",
	"all":           "all(locator): every element that the locator means now, without waiting",
	"sees":          "sees(locator): whether the element is on the screen now, without waiting",
	"wait_for":      "wait_for(locator, text=None, within=10): waits for the element and, when given, until its text contains text",
	"wait_gone":     "wait_gone(locator, within=10): waits until no such element is on the screen",
	"read":          "read(locator, within=10): the element's text",
	"tap":           "tap(target, within=10): taps the middle of the element",
	"type":          "type(target, text, within=10): taps the field and types the text at its end",
	"clear":         "clear(target, within=10): empties the field",
	"swipe":         "swipe(direction, on=None): moves a finger up, down, left or right over the screen, or over the element",
	"hide_keyboard": "hide_keyboard(): puts the keyboard away where it is up",
	"back":          "back(): goes back, as with the phone's own back key",
	"step":          "step(name): names this moment and keeps its screenshot",
	"facts":         "facts: what is known of the device: facts[\"language\"], facts[\"api\"], facts[\"width\"]…",
}

// CheckWords are what can be checked.
var CheckWords = map[string]string{
	"equal":    "equal(actual, expected, about=\"\"): the two are equal",
	"contains": "contains(whole, part, about=\"\"): the text contains the part, or the list the item",
	"that":     "that(condition, about): the condition is true",
}

// TakesLocator are the words of a phone whose first argument may be a locator.
var TakesLocator = map[string]bool{"find": true, "all": true, "sees": true, "wait_for": true, "wait_gone": true,
	"read": true, "tap": true, "type": true, "clear": true}

func words(m map[string]string) []string {
	var out []string
	for w := range m {
		out = append(out, w)
	}
	sort.Strings(out)
	return out
}
