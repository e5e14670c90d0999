package webpage

import (
	"tessellant/internal/core/foreign"
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
		s, ok := e.Said()
		if !ok {
			return
		}
		if lines++; lines > maxLines {
			return
		}
		level := "log"
		switch {
		case s.Fault || s.Method == "error" || s.Method == "assert":
			level = "error"
		case s.Method == "warning":
			level = s.Method
		}
		tell(level, foreign.Fit(s.Line(), maxConsole))
	})
}
