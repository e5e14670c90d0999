// Package runners lists the runners, one for each kind of content.
package runners

import (
	"tessellant/internal/core/work"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/program"
	"tessellant/internal/host/runner/script"
	"tessellant/internal/host/runner/session"
)

// All are all of them.
var All = map[string]runner.Maker{
	work.Scripts:  script.New,
	work.Programs: program.New,
	work.Commands: session.New,
	work.Hands:    session.NewHands,
}
