package listening

// What a page's console says, and the faults of its scripts, as entries of the log (section "log.entryAdded").

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/foreign"
	"tessellant/internal/devtools"
)

const (
	maxText  = 16 << 10 // bytes of an entry's text, and of the texts of its arguments together
	maxArgs  = 50       // of a line of the console
	maxStack = 50       // frames
	maxName  = 2 << 10  // bytes of an address, or a function's name, in a stack
)

// methods are the console's methods, where DevTools call them otherwise.
var methods = map[string]string{"warning": "warn", "startGroup": "group", "startGroupCollapsed": "groupCollapsed", "endGroup": "groupEnd"}

// entry is what was said as an entry, under mu: of the console ("console steps"), or of a fault ("error reporting steps").
func (p *page) entry(s devtools.Said) bidi.Entry {
	e := bidi.Entry{Type: "console", Level: "info", Source: bidi.Source{Realm: p.context + ":" + strconv.Itoa(s.World), Context: p.call(p.worlds[s.World])}, At: s.At, Text: s.Line(), Stack: stack(s.Stack)}
	if s.Fault {
		e.Type, e.Level = "javascript", "error"
		e.Text = fault(s)
	} else {
		p.said(&e, s)
	}
	e.Text = foreign.Fit(p.s.Mask(e.Text), maxText)
	return e
}

// fault is what a fault says of itself: its error's first line, or the text that was thrown.
func fault(s devtools.Said) string {
	if s.Error == nil {
		return strings.TrimPrefix(s.Text, "Uncaught ")
	}
	text := s.Error.Text()
	if s.Error.Subtype == "error" {
		text, _, _ = strings.Cut(text, "\n")
	}
	return text
}

// said fills in what a line of the console has besides its text.
func (p *page) said(e *bidi.Entry, s devtools.Said) {
	e.Method, e.Args = s.Method, []bidi.Value{}
	if other := methods[s.Method]; other != "" {
		e.Method = other
	}
	switch e.Method {
	case "error", "assert":
		e.Level = "error"
	case "debug", "trace":
		e.Level = "debug"
	case "warn":
		e.Level = "warn"
	}
	left := maxText
	for _, a := range s.Args[:min(len(s.Args), maxArgs)] {
		v := value(a)
		if text, is := v.Value.(string); is {
			text = foreign.Fit(p.s.Mask(text), left)
			v.Value, left = text, left-len(text)
		}
		e.Args = append(e.Args, v)
	}
}

func stack(s *devtools.Stack) *bidi.Stack {
	if s == nil {
		return nil
	}
	out := &bidi.Stack{Frames: []bidi.Frame{}}
	for _, f := range s.CallFrames[:min(len(s.CallFrames), maxStack)] {
		out.Frames = append(out.Frames, bidi.Frame{URL: foreign.Fit(f.URL, maxName), Function: foreign.Fit(f.FunctionName, maxName), Line: f.LineNumber, Column: f.ColumnNumber})
	}
	return out
}

// kinds are the draft's types of objects that DevTools tell apart; any other is an object.
var kinds = []string{"array", "null", "node", "regexp", "date", "map", "set", "weakmap", "weakset", "error", "proxy", "promise", "typedarray", "arraybuffer", "generator"}

// value gives a value as the draft does; what is in objects is left out.
func value(r devtools.Remote) bidi.Value {
	switch r.Type {
	case "undefined", "symbol", "function":
		return bidi.Value{Type: r.Type}
	case "bigint":
		return bidi.Value{Type: r.Type, Value: strings.TrimSuffix(r.Unserializable, "n")}
	case "string", "number", "boolean":
		if r.Unserializable != "" {
			return bidi.Value{Type: r.Type, Value: r.Unserializable}
		}
		var v any
		_ = json.Unmarshal(r.Value, &v)
		return bidi.Value{Type: r.Type, Value: v}
	}
	if slices.Contains(kinds, r.Subtype) {
		return bidi.Value{Type: r.Subtype}
	}
	return bidi.Value{Type: "object"}
}
