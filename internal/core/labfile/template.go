package labfile

// Templates: texts with values put in, and JSON whose texts are such.

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"strings"
	"text/template"
	"text/template/parse"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/foreign"
)

// Values are what templates can name.
type Values struct {
	Device      Device
	App         App
	Build       string            // the lab's reference for the build; "": the session has none
	Page        string            // the address of a page, in a session in the phone's browser
	Screen      Screen            // as it is to be held
	Name        string            // of the work
	Conditions  map[string]string // that the device is to be set to, such as language; of Conditions
	Language    string            // of the conditions, else the device's
	Session     string            // the lab's own id of the session
	Reference   string            // by which people find the session at the lab
	Secret      map[string]string
	Port        int               // of a device that is started: free on this machine
	Transport   string            // what the adb server calls it
	Own         map[string]string // of a browser of our own: what is known when it starts
	Args        map[string]string // that the app is started with
	Path        string            // of a file on the device
	Content     string            // of a file, base64
	Key         string            // that is pressed
	Orientation string            // portrait or landscape
	Dark        string            // on or off
	Since       time.Time         // of the log: on the device's clock
	Next        any               // of the log: what the answer before said; nil: there was none
}

// Device is the device that is asked for.
type Device struct{ ID, Platform, OS, Maker, Model, Language string }

// Screen is a screen, in the units of pages (CSS pixels), and how many pixels each has.
type Screen struct {
	Width, Height int
	Scale         float64
}

// App is the build.
type App struct {
	ID, Activity, File string
	Size               int64
}

// Conditions are those that the device is to be set to, with all others that there are, as "".
func Conditions(set conditions.Set) map[string]string {
	out := map[string]string{}
	for _, name := range conditions.Names() {
		out[name] = set[name]
	}
	return out
}

// sample is what templates are tried with.
func sample(secrets map[string]Secret) Values {
	v := Values{Device: Device{"id", "android", "14", "maker", "model", "en"}, App: App{ID: "org.example.app", Activity: "org.example.app.Main", File: "build.apk", Size: 1}, Build: "build", Page: "https://page.example", Screen: Screen{360, 800, 3}, Name: "name", Conditions: Conditions(nil),
		Language: "en", Session: "session", Reference: "session", Secret: map[string]string{}, Port: 10240, Transport: "127.0.0.1:10240", Own: map[string]string{"proxy": "127.0.0.1:1", "box": "--no-sandbox"}, Args: map[string]string{}, Path: "/sdcard/f", Content: "AA==", Key: "home", Orientation: "portrait", Dark: "on", Since: time.Unix(0, 0).UTC(), Next: ""}
	for name := range secrets {
		v.Secret[name] = "secret"
	}
	return v
}

// Bounds of what a template makes.
const (
	maxMade  = 64 << 20 // bytes of one text: a file in base64
	maxDepth = 30       // of JSON
)

// Text is a text with values put in.
type Text struct {
	t      *template.Template
	Source string
}

var functions = template.FuncMap{
	"query": url.QueryEscape, "path": url.PathEscape,
	"json":  func(v any) (string, error) { raw, err := json.Marshal(v); return string(raw), err },
	"ms":    func(t time.Time) int64 { return t.UnixMilli() },
	"lower": strings.ToLower, "upper": strings.ToUpper,
}

// templateFor compiles a text.
func templateFor(text string) (*Text, error) {
	t, err := template.New("").Option("missingkey=error").Funcs(functions).Parse(text)
	if err != nil {
		return nil, err
	}
	if loops(t.Root, false) {
		return nil, errors.New("it can range over .Args and .Conditions alone, not one in the other, and call no other template")
	}
	return &Text{t, text}, nil
}

// loops says whether a template may take long: it calls templates, which could call themselves, or ranges over something else than a few values.
func loops(n parse.Node, inside bool) bool {
	switch x := n.(type) {
	case *parse.ListNode:
		if x == nil {
			return false
		}
		for _, c := range x.Nodes {
			if loops(c, inside) {
				return true
			}
		}
	case *parse.TemplateNode:
		return true
	case *parse.IfNode:
		return loops(x.List, inside) || loops(x.ElseList, inside)
	case *parse.WithNode:
		return loops(x.List, inside) || loops(x.ElseList, inside)
	case *parse.RangeNode:
		over := x.Pipe.String()
		if _, value, declared := strings.Cut(over, " := "); declared {
			over = value
		}
		return inside || over != ".Args" && over != ".Conditions" || loops(x.List, true) || loops(x.ElseList, true)
	}
	return false
}

type bounded struct {
	bytes.Buffer
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxMade {
		return 0, io.ErrShortBuffer
	}
	return b.Buffer.Write(p)
}

// Make gives the text with the values.
func (t *Text) Make(v Values) (string, error) {
	if !strings.Contains(t.Source, "{{") {
		return t.Source, nil
	}
	var b bounded
	if err := t.t.Execute(&b, v); err != nil {
		return "", fmt.Errorf("the template %s can't be filled in: %s", foreign.Name(t.Source, 200), plain(err))
	}
	return b.String(), nil
}

// plain is an error of a template without what only its author understands.
func plain(err error) string {
	text := err.Error()
	var e template.ExecError
	if errors.As(err, &e) {
		text = e.Err.Error()
	}
	if i := strings.Index(text, ">: "); i >= 0 {
		text = text[i+3:]
	}
	if _, rest, ok := strings.Cut(text, "template: :"); ok {
		if _, rest, ok = strings.Cut(rest, ": "); ok {
			text = rest
		}
	}
	if m := noField.FindStringSubmatch(text); m != nil {
		text = "there is no value " + m[1]
	} else if m := noEntry.FindStringSubmatch(text); m != nil {
		text = "there is nothing of the name " + m[1]
	}
	return foreign.Name(text, 200)
}

var (
	noField = regexp.MustCompile(`^can't evaluate field (\w+) in type`)
	noEntry = regexp.MustCompile(`^map has no entry for key "([^"]*)"`)
)

// template reads a text with values put in, and tries it.
func (r *reader) template(n *yaml.Node, what string) *Text {
	text := r.text(n, what)
	if text == "" {
		return nil
	}
	t, err := templateFor(text)
	if err == nil {
		_, err = t.Make(sample(r.secretNames))
	}
	if err != nil {
		r.say(n, what+" is a template with a mistake: "+plain(err), "see docs/labs.md for the values; a secret has to stand below secrets:")
		return nil
	}
	return t
}

// alone are the values that are no texts: one that stands alone in a template keeps its own type. False: there is none, and it is left out.
var alone = map[string]func(v Values) (any, bool){
	"{{.Args}}":          func(v Values) (any, bool) { return v.Args, len(v.Args) > 0 },
	"{{.Next}}":          func(v Values) (any, bool) { return v.Next, v.Next != nil },
	"{{.Screen.Width}}":  func(v Values) (any, bool) { return v.Screen.Width, true },
	"{{.Screen.Height}}": func(v Values) (any, bool) { return v.Screen.Height, true },
	"{{.Screen.Scale}}":  func(v Values) (any, bool) { return v.Screen.Scale, true },
	"{{.Conditions}}": func(v Values) (any, bool) {
		set := map[string]string{}
		for name, value := range v.Conditions {
			if value != "" {
				set[name] = value
			}
		}
		return set, len(set) > 0
	},
}

// Tree is JSON whose texts are templates. A text that is put together of nothing is left out, with its key.
type Tree struct {
	keys  []string // of an object
	items []*Tree  // of an object or a list
	list  bool
	text  *Text
	value any // a number, a truth or null
	plain bool
}

// tree reads JSON, as YAML has it, whose texts are templates.
func (r *reader) tree(n *yaml.Node, what string) *Tree { return r.branch(n, what, 0) }

func (r *reader) branch(n *yaml.Node, what string, depth int) *Tree {
	if depth > maxDepth {
		r.say(n, what+" goes too deep", "make it flatter")
		return &Tree{plain: true}
	}
	switch n.Kind {
	case yaml.MappingNode:
		t := &Tree{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			r.quoted(n.Content[i])
			t.keys = append(t.keys, n.Content[i].Value)
			t.items = append(t.items, r.branch(n.Content[i+1], what, depth+1))
		}
		return t
	case yaml.SequenceNode:
		t := &Tree{list: true}
		for _, c := range n.Content {
			t.items = append(t.items, r.branch(c, what, depth+1))
		}
		return t
	}
	if n.Tag != "!!str" {
		t := &Tree{plain: true}
		if err := n.Decode(&t.value); err != nil {
			r.say(n, what+" has a value that JSON can't have", "put it in quotes")
		}
		if _, is := t.value.(time.Time); is { // YAML's date, which JSON has not
			t.value = n.Value
		}
		if _, err := json.Marshal(t.value); err != nil {
			r.say(n, what+" has a value that JSON can't have", "put it in quotes")
			t.value = nil
		}
		return t
	}
	if n.Value == "" {
		return &Tree{plain: true, value: ""}
	}
	return &Tree{text: r.template(n, what)}
}

// Names says whether a text of the tree has this in it, such as .Build.
func (t *Tree) Names(what string) bool { return t != nil && strings.Contains(t.source(), what) }

// source is all text of the tree.
func (t *Tree) source() string {
	if t.text != nil {
		return t.text.Source
	}
	var b strings.Builder
	for _, c := range t.items {
		b.WriteString(c.source())
		b.WriteByte('\n')
	}
	return b.String()
}

// object is an object whose keys keep their order.
type object struct {
	keys   []string
	values []any
}

// MarshalJSON implements json.Marshaler.
func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, k := range o.keys {
		if i > 0 {
			b.WriteByte(',')
		}
		key, _ := json.Marshal(k)
		value, err := json.Marshal(o.values[i])
		if err != nil {
			return nil, err
		}
		b.Write(key)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// Make gives the JSON with the values.
func (t *Tree) Make(v Values) ([]byte, error) {
	made, _, err := t.make(v)
	if err != nil {
		return nil, err
	}
	return json.Marshal(made)
}

// make gives the value, and whether there is one.
func (t *Tree) make(v Values) (any, bool, error) {
	switch {
	case t.plain:
		return t.value, true, nil
	case t.text != nil && alone[t.text.Source] != nil:
		value, there := alone[t.text.Source](v)
		return value, there, nil
	case t.text != nil:
		s, err := t.text.Make(v)
		return s, s != "", err
	case t.list:
		out := []any{}
		for _, c := range t.items {
			x, there, err := c.make(v)
			if err != nil {
				return nil, false, err
			}
			if there {
				out = append(out, x)
			}
		}
		return out, true, nil
	}
	o := object{}
	for i, c := range t.items {
		x, there, err := c.make(v)
		if err != nil {
			return nil, false, err
		}
		if there {
			o.keys, o.values = append(o.keys, t.keys[i]), append(o.values, x)
		}
	}
	return o, true, nil
}

// At gives what a JSON Pointer (RFC 6901, section 4) leads to in a JSON value; false: nothing is there.
func At(v any, pointer string) (any, bool) {
	if pointer == "" {
		return v, true
	}
	for _, part := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		part = strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~")
		switch x := v.(type) {
		case map[string]any:
			next, ok := x[part]
			if !ok {
				return nil, false
			}
			v = next
		case []any:
			n := 0
			if _, err := fmt.Sscanf(part, "%d", &n); err != nil || fmt.Sprint(n) != part || n < 0 || n >= len(x) {
				return nil, false
			}
			v = x[n]
		default:
			return nil, false
		}
	}
	return v, true
}
