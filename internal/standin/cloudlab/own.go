package cloudlab

// The cloud's own commands, below …/heron/ .

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"time"

	"tessellant/internal/core/w3c"
)

// own are the cloud's own commands.
func (s *Cloud) own(x *session, r *http.Request, name string, body map[string]any) (any, *w3c.Error) {
	text := func(key string) string {
		v, _ := body[key].(string)
		return v
	}
	failed := func(err error) (any, *w3c.Error) {
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		return nil, nil
	}
	p := x.rig
	switch r.Method + " " + name {
	case "POST install":
		s.mu.Lock()
		raw := s.builds[text("build")]
		s.mu.Unlock()
		if raw == nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "the build %.60q is not here; upload it", text("build"))
		}
		return failed(p.Add(raw))
	case "POST remove":
		p.Remove(text("app"))
	case "POST start":
		args := map[string]string{}
		if m, ok := body["with"].(map[string]any); ok {
			for k, v := range m {
				args[k] = fmt.Sprint(v)
			}
		}
		return failed(p.Open(text("app"), args))
	case "POST end":
		p.Quit(text("app"))
	case "POST wipe":
		return failed(p.Wipe(text("app")))
	case "GET log":
		lines := p.Lines(time.UnixMilli(number(r, "since") - s.Skew.Load()))
		if lines == nil {
			lines = []string{}
		}
		return lines, nil
	case "GET clock":
		return s.clock(x).UTC().Format(time.RFC3339Nano), nil
	case "GET keyboard":
		return p.Keys(), nil
	case "POST key":
		name, known := map[string]string{"home": "HOME", "search": "SEARCH", "menu": "MENU", "volume_up": "VOLUME_UP", "volume_down": "VOLUME_DOWN"}[text("key")]
		if !known {
			return nil, w3c.Fail(w3c.InvalidArgument, "there is no key %.40q", text("key"))
		}
		p.Key(name)
	case "POST turn":
		p.Turn(text("to") == "landscape")
	case "POST night":
		p.Night(text("to") == "on")
	case "POST file":
		raw, err := base64.StdEncoding.DecodeString(text("content"))
		if err != nil {
			return failed(err)
		}
		p.WriteFile(text("path"), raw)
	case "GET file":
		raw, err := p.ReadFile(r.URL.Query().Get("path"))
		if err != nil {
			return failed(err)
		}
		return base64.StdEncoding.EncodeToString(raw), nil
	case "DELETE file":
		p.DeleteFile(r.URL.Query().Get("path"))
	default:
		return nil, w3c.Fail(w3c.UnknownCommand, "there is no command %s %s", r.Method, name)
	}
	return nil, nil
}
