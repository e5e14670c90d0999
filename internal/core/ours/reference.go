package ours

import (
	"fmt"
	"strings"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/w3c"
)

// Reference writes all that the remote end takes, as Markdown: every command of the standard with what it does here, our own
// commands, and our capabilities. docs/webdriver-commands.md is this text.
func Reference() string {
	var b strings.Builder
	b.WriteString("# The commands of /webdriver\n\nEvery command of [W3C WebDriver](https://www.w3.org/TR/webdriver2/), with what it does on a native app. `—` in the last column: as the standard says.\n\n")
	b.WriteString("| command | method and path | here |\n|---|---|---|\n")
	for _, c := range w3c.Commands {
		here := c.About
		if why := c.Reason(w3c.Native); why != "" {
			here = "`unsupported operation`: " + why
		} else if here == "" {
			here = "—"
		}
		fmt.Fprintf(&b, "| %s | `%s %s` | %s |\n", c.Name, c.Method, c.Path, cell(here))
	}
	b.WriteString("\n## Commands of our own\nUnder the standard's extension mechanism (section 6.8). Bodies are JSON objects; `{}` where nothing is to be said.\n\n| command | method and path | what it does |\n|---|---|---|\n")
	for _, c := range w3c.Extensions {
		fmt.Fprintf(&b, "| %s | `%s %s` | %s |\n", c.Name, c.Method, c.Path, cell(c.About))
	}
	b.WriteString("\nElement Send Keys also takes `\"tessellant:secret\": true` beside its text: then the text is masked wherever it would be kept.\n")
	fmt.Fprintf(&b, "\n## Commands of WebDriver BiDi\nOver the WebSocket at the capability `%s`, as [the draft](https://www.w3.org/TR/webdriver-bidi/) of %s has them. [How to listen to a session](11-outside.md#listen-to-a-session).\n\n| command | here |\n|---|---|\n", w3c.WebSocketURL, bidi.Draft)
	for _, v := range bidi.Verbs {
		fmt.Fprintf(&b, "| `%s` | %s |\n", v.Name, cell(v.Here()))
	}
	b.WriteString("\nEvents that come:")
	for _, e := range bidi.Events {
		if e.Here {
			fmt.Fprintf(&b, " `%s`", e.Name)
		}
	}
	b.WriteString(". A client may subscribe to the other events of the draft, too; they never come.\n")
	b.WriteString("\n## Capabilities of our own\nIn `alwaysMatch` or `firstMatch`, like any other.\n\n| capability | takes | what it asks for |\n|---|---|---|\n")
	for _, x := range Extensions {
		fmt.Fprintf(&b, "| `%s:%s` | %s | %s |\n", w3c.Prefix, x.Name, x.Takes, cell(x.About))
	}
	b.WriteString(`
A new session answers ` + "`tessellant:session`" + ` (its id in lists, and for the command line), ` + "`tessellant:device`" + ` (the unit that it got: serial, maker, model, os, api, form, origin, simulated) and ` + "`tessellant:build`" + `.
Of the standard's capabilities ` + "`platformName`, `timeouts`, `pageLoadStrategy`, `unhandledPromptBehavior` and `webSocketUrl`" + ` can be asked for; what a native app has nothing of (a browser, a proxy, insecure certificates) matches no device, and the error says so.

## Which element is which
A native screen has no lasting names for its elements: each look at it is a new tree. A reference stands for the only element of its kind, class and id; else for the only one of those that has the text it had;
else for the one in the same place of the tree, when its text is the same, or nothing but its text has changed and it is none of the others that has come there, as rows do
when their list is scrolled. Otherwise it is a ` + "`stale element reference`" + `.
`)
	return b.String()
}

func cell(s string) string { return strings.ReplaceAll(s, "|", `\|`) }
