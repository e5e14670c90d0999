package webpage

import (
	"encoding/json"
	"strings"

	"tessellant/internal/devtools"
)

const (
	maxConsole = 4 << 10 // bytes of a line of a page's console
	maxLines   = 2000    // of it that are told
)

// hearConsole tells what a page's console says from now on, and the faults of its scripts: level is log, warning or error.
func hearConsole(p *devtools.Page, tell func(level, text string)) {
	lines := 0
	p.Hear(func(e devtools.Event) {
		var m struct {
			Type string
			Args []struct {
				Value       any
				Description string
			}
			ExceptionDetails struct {
				Text      string
				Exception struct{ Description string }
			}
		}
		if e.Method != "Runtime.consoleAPICalled" && e.Method != "Runtime.exceptionThrown" || json.Unmarshal(e.Params, &m) != nil {
			return
		}
		if lines++; lines > maxLines {
			return
		}
		level, text := "log", ""
		switch {
		case e.Method == "Runtime.exceptionThrown":
			level, text = "error", strings.TrimSpace(m.ExceptionDetails.Text+" "+m.ExceptionDetails.Exception.Description)
		case m.Type == "error" || m.Type == "assert":
			level = "error"
		case m.Type == "warning":
			level = m.Type
		}
		for _, a := range m.Args {
			one := a.Description
			if s, is := a.Value.(string); is {
				one = s
			} else if one == "" {
				raw, _ := json.Marshal(a.Value)
				one = string(raw)
			}
			text = strings.TrimSpace(text + " " + one)
		}
		if len(text) > maxConsole {
			text = strings.ToValidUTF8(text[:maxConsole], "") + "…"
		}
		tell(level, text)
	})
}
