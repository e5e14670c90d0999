package remoteend

// A surface of somebody else's: the commands of the standard go through to a lab's own session as they are. Elements, time-outs and errors are the
// lab's; what is recorded, masked, limited and judged is ours.

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// through implements surface.
type through struct{ end phone.Passage }

// anything is a context of which the lab says itself what it has.
var anything = w3c.Context{Has: ^w3c.Need(0)}

func (*through) context() w3c.Context { return anything }

func (*through) anew() {}

// do implements surface.
func (t *through) do(c *command) (any, *w3c.Error) {
	t.tell(c)
	path := strings.TrimPrefix(c.call.Path, "/session/{session id}")
	path = strings.NewReplacer("{element id}", c.call.Element, "{shadow id}", c.call.Param, "{name}", c.call.Param, "{property name}", c.call.Param).Replace(path)
	var body []byte
	if c.call.Method == http.MethodPost {
		delete(c.body, "tessellant:secret") // ours
		raw, err := json.Marshal(c.body)
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "the body can't be passed on: %v", err)
		}
		body = raw
	}
	if c.call.Effect() != w3c.Looks {
		defer c.touched()
	}
	value, err := t.end.Pass(c.ctx, c.call.Method, path, body)
	if err != nil {
		return nil, asError("pass the command on to the lab", err)
	}
	c.answer = brief(value)
	return value, nil
}

// tell notes what the timeline shows of a command.
func (t *through) tell(c *command) {
	for _, name := range []string{"using", "value", "text", "url", "handle", "script"} {
		if v, ok := c.body[name].(string); ok {
			c.args[name] = short(v)
		}
	}
	if c.call.Element != "" {
		c.args["element"] = short(c.call.Element)
	}
	if c.call.Param != "" {
		c.args["name"] = short(c.call.Param)
	}
	if c.call.Name == "Set Timeouts" {
		c.args["body"] = asJSON(c.body)
	}
}

// brief is an answer as the timeline shows it.
func brief(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		if len(v) > 4096 {
			return fmt.Sprintf("%d bytes", len(v))
		}
		return short(v)
	case []any:
		return fmt.Sprintf("%d elements", len(v))
	}
	return short(asJSON(value))
}
