package devtools

// What a page's console says, and the faults of its scripts: Runtime.consoleAPICalled, Runtime.exceptionThrown.

import (
	"encoding/json"
	"strings"
)

// Remote is a value as a page gives it.
type Remote struct {
	Type, Subtype, ObjectID, Description string
	Unserializable                       string `json:"unserializableValue"`
	Value                                json.RawMessage
}

// Text is how a person reads it in a line.
func (r Remote) Text() string {
	var s string
	switch {
	case r.Type == "string" && json.Unmarshal(r.Value, &s) == nil:
		return s
	case r.Description != "":
		return r.Description
	case r.Unserializable != "":
		return r.Unserializable
	case len(r.Value) > 0:
		return string(r.Value)
	}
	return r.Type
}

// Stack is where in a script something happened.
type Stack struct {
	CallFrames []struct {
		FunctionName, URL        string
		LineNumber, ColumnNumber int
	}
}

// Said is a line of a page's console, or a fault of a script of its that nobody caught.
type Said struct {
	Fault  bool
	Method string   // of the console, as DevTools call it: warning, startGroup…
	Args   []Remote // what was said
	Text   string   // of a fault: "Uncaught", and more where its error is not told
	Error  *Remote  // of a fault; nil: it is not told
	World  int      // the script's
	At     int64    // ms since 1970
	Stack  *Stack   // nil: it is not told
}

// Said reads what an event tells of the console; false: nothing.
func (e Event) Said() (s Said, ok bool) {
	s.Fault = e.Method == "Runtime.exceptionThrown"
	if !s.Fault && e.Method != "Runtime.consoleAPICalled" {
		return s, false
	}
	var m struct {
		Type               string
		Args               []Remote
		ExecutionContextID int
		Timestamp          float64
		StackTrace         *Stack
		ExceptionDetails   struct {
			Text               string
			Exception          *Remote
			ExecutionContextID int
			StackTrace         *Stack
		}
	}
	if json.Unmarshal(e.Params, &m) != nil {
		return s, false
	}
	s.Method, s.Args, s.World, s.At, s.Stack = m.Type, m.Args, m.ExecutionContextID, int64(m.Timestamp), m.StackTrace
	if d := m.ExceptionDetails; s.Fault {
		s.Text, s.Error, s.World, s.Stack = d.Text, d.Exception, d.ExecutionContextID, d.StackTrace
	}
	return s, true
}

// Line is how a person reads it.
func (s Said) Line() string {
	var out []string
	if s.Fault {
		out = append(out, s.Text)
		if s.Error != nil {
			out = append(out, s.Error.Text())
		}
	}
	for _, a := range s.Args {
		out = append(out, a.Text())
	}
	return strings.TrimSpace(strings.Join(out, " "))
}
