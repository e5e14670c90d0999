package remoteend

// A command that is being carried out, and where it goes.

import (
	"context"
	"encoding/json"

	"tessellant/internal/core/w3c"
)

// command is one that is being carried out.
type command struct {
	*Session
	ctx    context.Context
	call   w3c.Call
	body   map[string]any
	args   map[string]string // as the timeline shows them
	answer string

	locator string // that is looked for
}

// do carries it out: what needs nothing of a surface here, what needs the phone by ours, the rest on the surface, as far as that has
// what it needs.
func (c *command) do() (any, *w3c.Error) {
	if err := c.call.Refusal(c.on.context()); err != nil {
		return nil, err
	}
	switch c.call.Needs {
	case 0:
		if _, passes := c.on.(*through); !passes || c.call.Name == "Delete Session" { // timeouts are a lab's own
			return c.ofSession()
		}
	case w3c.Phone:
		return c.ours()
	}
	return c.on.do(c)
}

func (c *command) ofSession() (any, *w3c.Error) {
	switch c.call.Name {
	case "Delete Session":
		c.end()
		return nil, nil
	case "Get Timeouts":
		return c.timeouts.JSON(), nil
	case "Set Timeouts":
		c.args["timeouts"] = asJSON(c.body)
		return nil, c.timeouts.Set(c.body)
	}
	return nil, w3c.Fail(w3c.UnknownCommand, "nothing here does %s", c.call.Name)
}

func short(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}

func asJSON(v any) string {
	raw, _ := json.Marshal(v)
	return clip(string(raw))
}
