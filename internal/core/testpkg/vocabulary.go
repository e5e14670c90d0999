package testpkg

import (
	"fmt"
	"sort"
	"strings"
)

// Word is one word of the script language beyond Starlark's own. This table is
// the only place where words are written down: the check on upload, the
// process that runs a case, `tessellant script words` and docs/script-words.md all come from it.
type Word struct {
	Of      string `json:"of"` // phone, check or data; "": stands alone
	Name    string `json:"name"`
	Call    string `json:"call"` // with its parameters and what they are when left out
	Does    string `json:"does"`
	Example string `json:"example"`
	Locates bool   `json:"-"` // its first parameter may be a locator
	Top     bool   `json:"-"` // only at the top of a file, outside of functions
}

// Vocabulary is all words, in the order in which one learns them.
var Vocabulary = []Word{
	{Of: "phone", Name: "launch", Call: `launch(args=None)`, Does: "starts the app under test, with arguments where they are given, and waits until it is in front", Example: `phone.launch(args = {"shore": "gull-ledge"})`},
	{Of: "phone", Name: "stop", Call: `stop()`, Does: "ends the app under test", Example: `phone.stop()`},
	{Of: "phone", Name: "background", Call: `background(seconds=1)`, Does: "sends the app to the background for so long, and brings it back", Example: `phone.background(3)`},
	{Of: "phone", Name: "find", Call: `find(locator, within=10)`, Does: "waits for the element and returns it; fails when it does not come", Example: `switch = phone.find("#feet")`, Locates: true},
	{Of: "phone", Name: "all", Call: `all(locator)`, Does: "every element that the locator means now, without waiting", Example: `check.equal(len(phone.all("group[id^=shore_]")), 4)`, Locates: true},
	{Of: "phone", Name: "sees", Call: `sees(locator)`, Does: "whether the element is on the screen now, without waiting", Example: `check.that(not phone.sees("#offline"), "the tides are there")`, Locates: true},
	{Of: "phone", Name: "wait_for", Call: `wait_for(locator, text=None, within=10)`, Does: "waits for the element and, when given, until its text contains text", Example: `phone.wait_for("#total", text = "6.5", within = 5)`, Locates: true},
	{Of: "phone", Name: "wait_gone", Call: `wait_gone(locator, within=10)`, Does: "waits until no such element is on the screen", Example: `phone.wait_gone("#loading")`, Locates: true},
	{Of: "phone", Name: "wait_until", Call: `wait_until(condition, about="", within=10)`, Does: "calls the function again and again until what it returns is true, and returns that", Example: `phone.wait_until(lambda: len(phone.all("group")) > 3, "four groups")`},
	{Of: "phone", Name: "scroll_to", Call: `scroll_to(locator, look="down", most=20)`, Does: "scrolls down (or up, left, right) until the element is on the screen and returns it; fails at the end of what scrolls, or after so many swipes", Example: `phone.tap(phone.scroll_to("#shore_tern-rocks"))`, Locates: true},
	{Of: "phone", Name: "read", Call: `read(locator, within=10)`, Does: "the element's text", Example: `check.equal(phone.read("#total"), "Total cover: 6.5 %")`, Locates: true},
	{Of: "phone", Name: "tap", Call: `tap(target, within=10)`, Does: "taps the middle of the element", Example: `phone.tap("button[text=Send]")`, Locates: true},
	{Of: "phone", Name: "long_press", Call: `long_press(target, seconds=1, within=10)`, Does: "holds a finger on the middle of the element", Example: `phone.long_press("#shore_gull-ledge")`, Locates: true},
	{Of: "phone", Name: "type", Call: `type(target, text, within=10)`, Does: "taps the field and types the text at its end", Example: `phone.type("#note", "calm sea")`, Locates: true},
	{Of: "phone", Name: "clear", Call: `clear(target, within=10)`, Does: "empties the field", Example: `phone.clear("#search")`, Locates: true},
	{Of: "phone", Name: "swipe", Call: `swipe(direction, on=None)`, Does: "moves a finger up, down, left or right over the screen, or over the element", Example: `phone.swipe("left", on = "#tide_chart")`},
	{Of: "phone", Name: "press", Call: `press(key)`, Does: "presses a key: back, home, enter, tab, escape, delete, end, search, menu, volume_up, volume_down, up, down, left, right", Example: `phone.press("enter")`},
	{Of: "phone", Name: "back", Call: `back()`, Does: "goes back, as with the phone's own back key", Example: `phone.back()`},
	{Of: "phone", Name: "hide_keyboard", Call: `hide_keyboard()`, Does: "puts the keyboard away where it is up", Example: `phone.hide_keyboard()`},
	{Of: "phone", Name: "rotate", Call: `rotate(to)`, Does: "turns the screen to portrait or landscape; it is turned back after the case", Example: `phone.rotate("landscape")`},
	{Of: "phone", Name: "dark", Call: `dark(on=True)`, Does: "switches the system's dark mode; it is set back after the case", Example: `phone.dark()`},
	{Of: "phone", Name: "conditions", Call: `conditions(to)`, Does: "sets the device, as --conditions does: language, font-scale, display-size, wifi and the like; it is put back after the case. The app sees a language when it starts anew", Example: `phone.conditions("font-scale:1.3,animations:off")`},
	{Of: "phone", Name: "network", Call: `network(to)`, Does: "sets how good the network is until the end of the case: full, offline, edge, 3g, 4g, 5g, far-wifi, moving-train, satellite, or numbers as 120ms/2000/500/1 (round trip, kbit/s down, up, % lost)", Example: `phone.network("offline")`},
	{Of: "phone", Name: "allow", Call: `allow(permission, within=10)`, Does: "answers the system's dialog that asks for a permission with yes, in any language: location, notifications, camera, microphone, contacts, calendar, calls, messages, photos, files, bluetooth, activity, sensors, or the system's own name; does nothing where the app has it already", Example: `phone.allow("location")`},
	{Of: "phone", Name: "deny", Call: `deny(permission, within=10)`, Does: "answers it with no; fails where the app has the permission already", Example: `phone.deny("location")`},
	{Of: "phone", Name: "ask_permissions", Call: `ask_permissions()`, Does: "clears the app's data and takes its permissions back, so that it asks for them; otherwise it has all that its manifest asks for", Example: `phone.ask_permissions()`},
	{Of: "phone", Name: "settle", Call: `settle(on=True)`, Does: "with False, nothing waits for the screen to come to rest until the end of the case: what can't be read because it moves is looked at as it was last", Example: `phone.settle(False)`},
	{Of: "phone", Name: "step", Call: `step(name, like_reference=False)`, Does: "names this moment and keeps its screenshot; with like_reference, the case fails where the picture differs from the reference that was kept for this kind of device", Example: `phone.step("review", like_reference = True)`},
	{Of: "phone", Name: "gauge", Call: `gauge(name)`, Does: "reads a gauge now: processor, memory, threads, late-frames of the app; device-processor, device-memory, device-received, device-sent, battery, temperature of the device (units: tessellant leg gauges --help)", Example: `check.that(phone.gauge("memory") < 300, "memory stays below 300 MB")`},
	{Of: "phone", Name: "web", Call: `web(url="", within=10)`, Does: "waits for a page in a web view, or in the browser, at an address with url in it, and returns it: a page with words of its own", Example: `help = phone.web("/help")`},
	{Of: "phone", Name: "facts", Call: `facts`, Does: "what is known of the device: api, os, maker, model, form, width and height (in dp), language, memory_mb, serial", Example: `if phone.facts["form"] == "tablet": …`},

	{Of: "page", Name: "read", Call: `read(locator, within=10)`, Does: "the text of the element, as CSS or XPath says which", Example: `check.equal(help.read("#title"), "How to survey a rock pool")`},
	{Of: "page", Name: "sees", Call: `sees(locator)`, Does: "whether such an element is in the page now, without waiting", Example: `check.that(help.sees("#steps li"), "there are steps")`},
	{Of: "page", Name: "count", Call: `count(locator)`, Does: "how many such elements are in the page now", Example: `check.equal(help.count("#steps li"), 2)`},
	{Of: "page", Name: "wait_for", Call: `wait_for(locator, text=None, within=10)`, Does: "waits for the element and, when given, until its text contains text", Example: `help.wait_for("#steps li", text = "quadrat")`},
	{Of: "page", Name: "tap", Call: `tap(locator, within=10)`, Does: "clicks the middle of the element; it is scrolled to", Example: `help.tap("#more")`},
	{Of: "page", Name: "type", Call: `type(locator, text, within=10)`, Does: "types any text into the field, at its end", Example: `help.type("#search", "Küste")`},
	{Of: "page", Name: "clear", Call: `clear(locator, within=10)`, Does: "empties the field", Example: `help.clear("#search")`},
	{Of: "page", Name: "title", Call: `title()`, Does: "the page's title", Example: `check.equal(help.title(), "Kelpline help")`},
	{Of: "page", Name: "url", Call: `url()`, Does: "the page's address", Example: `check.contains(help.url(), "/help")`},
	{Of: "page", Name: "run", Call: `run(script)`, Does: "runs JavaScript in the page and returns what it returns, as plain values", Example: `check.equal(help.run("return document.links.length"), 0)`},

	{Of: "check", Name: "equal", Call: `equal(actual, expected, about="", go_on=False)`, Does: "the two are equal", Example: `check.equal(phone.read("#title"), "Shores")`},
	{Of: "check", Name: "contains", Call: `contains(whole, part, about="", go_on=False)`, Does: "the text contains the part, or the list the item", Example: `check.contains(phone.read("#receipt"), "KL-")`},
	{Of: "check", Name: "that", Call: `that(condition, about, go_on=False)`, Does: "the condition is true", Example: `check.that(phone.sees("#send"), "Send can be seen", go_on = True)`},

	{Of: "data", Name: "text", Call: `text(file)`, Does: "the text of a file of the package", Example: `note = data.text("data/long-note.txt")`},
	{Of: "data", Name: "json", Call: `json(file)`, Does: "the value in a JSON file of the package", Example: `limits = data.json("data/limits.json")`},
	{Of: "data", Name: "rows", Call: `rows(file)`, Does: "the rows of a table, one dict each: a .csv file whose first line names the columns, or a .json file that holds a list", Example: `for r in data.rows("data/shores.csv"): …`},

	{Name: "inputs", Call: `inputs`, Does: "the run's inputs by name, as texts; those that tessellant.yaml declares", Example: `phone.type("#code", inputs["code"])`},
	{Name: "prepared", Call: `prepared`, Does: "what this file's before_file returned; None without one", Example: `phone.tap("#shore_" + prepared["shore"])`},
	{Name: "log", Call: `log(text)`, Does: "writes a line into the timeline; so does print", Example: `log("two shores left")`},
	{Name: "pause", Call: `pause(why)`, Does: "waits for a person where one watches the device in the console, who can work on it and then resumes the test; goes on at once where nobody does. The case's time stands meanwhile", Example: `pause("is the total right?")`},
	{Name: "skip", Call: `skip(reason)`, Does: "ends the case as skipped", Example: `skip("a phone has no second column")`},
	{Name: "expect_failure", Call: `expect_failure(reason)`, Does: "says that this case is known to fail: a failure then counts as passed, with the reason, and a pass as failed. A crash is a crash", Example: `expect_failure("the dialog does not close with Back yet")`},
	{Name: "case", Call: `case(function, tags=[], needs=[], rows=None)`, Does: "gives a case tags, says what it needs of a device, and makes of it one case for each row of a table: dicts written out here, or the name of a data file; the function then takes (phone, row)", Example: `case(test_search, tags = ["smoke"], needs = ["form=phone"], rows = "data/shores.csv")`, Top: true},
	{Name: "file", Call: `file(clear_between=True)`, Does: "with False, the app keeps its data from one case of this file to the next", Example: `file(clear_between = False)`, Top: true},
}

// index of words: Of → name → word.
var byName = func() map[string]map[string]Word {
	m := map[string]map[string]Word{}
	for _, w := range Vocabulary {
		if m[w.Of] == nil {
			m[w.Of] = map[string]Word{}
		}
		m[w.Of][w.Name] = w
	}
	for of := range m {
		if of != "" && of != "phone" && of != "page" { // a phone is a parameter, a page is what it gives; the others are there by name
			m[""][of] = Word{Name: of}
		}
	}
	return m
}()

// Params are the word's parameters as Starlark's argument parser wants them:
// those that may be left out end in a question mark.
func (w Word) Params() []string {
	_, list, ok := strings.Cut(strings.TrimSuffix(w.Call, ")"), "(")
	if !ok || list == "" {
		return nil
	}
	var out []string
	for _, p := range strings.Split(list, ", ") {
		name, _, optional := strings.Cut(p, "=")
		if optional {
			name += "?"
		}
		out = append(out, name)
	}
	return out
}

func wordsOf(of string) string {
	var out []string
	for n := range byName[of] {
		out = append(out, n)
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

// Hooks are the functions that a file may define to be called around its cases.
var Hooks = map[string]string{
	"before_file": "once before the file's first case; what it returns (plain values) is prepared in each case",
	"before_case": "before each case, with the app cleared",
	"after_case":  "after each case, failed ones too; it fails a case that passed",
	"after_file":  "once after the file's last case; it fails the last case where that passed",
}

// Reference is the page of docs/ that lists the words.
func Reference() string {
	var b strings.Builder
	b.WriteString("# The words of a script\n\n<!-- Made by `tessellant script words --markdown` from internal/core/testpkg/vocabulary.go. -->\n\n" +
		"A script is Starlark with these words. A target is a locator, or an element that `find` gave. `within` is in seconds: every lookup waits\nfor its element so long; there is nothing to sleep for.\n")
	section := func(of, title, about string) {
		fmt.Fprintf(&b, "\n## %s\n%s\n| word | what it does | such as |\n|---|---|---|\n", title, about)
		for _, w := range Vocabulary {
			if w.Of == of {
				call := w.Call
				if of != "" && of != "phone" {
					call = of + "." + call
				}
				fmt.Fprintf(&b, "| `%s` | %s | `%s` |\n", call, w.Does, strings.ReplaceAll(w.Example, "|", `\|`))
			}
		}
	}
	section("phone", "The phone", "Each case gets it as its first parameter: `phone.tap(…)`.\n")
	section("page", "Pages", "`phone.web` gives one: `help = phone.web(\"/help\")`, and then `help.tap(…)`. A locator is CSS, or XPath where it begins with / or (. It works where an app lets its web views be debugged, as builds for tests do.\n")
	section("check", "Checks", "A check that fails ends the case, unless it says `go_on = True`: then the case goes on, and fails at its end.\n")
	section("data", "Data files", "Any file in the package's folder, named from its root.\n")
	section("", "The rest", "")
	b.WriteString("\n## Functions around the cases\nA file may define them; each takes the phone. They are not cases.\n\n| function | called |\n|---|---|\n")
	for _, n := range []string{"before_file", "before_case", "after_case", "after_file"} {
		fmt.Fprintf(&b, "| `def %s(phone):` | %s |\n", n, Hooks[n])
	}
	return b.String()
}
