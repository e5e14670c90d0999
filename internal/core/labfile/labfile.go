// Package labfile reads labs.yaml: where a host's devices come from. docs/labs.schema.json fixes the file, docs/labs.md explains it.
//
// A lab of somebody else's is data. How a build gets there, what a session asks for, what its own commands look like: each is an HTTP request whose
// texts are templates (text/template), put into JSON as values, so that nothing has to be escaped by hand (template.go). The file is read by its nodes
// (node.go), so that each mistake has its line and its remedy, and all of them are told at once. In: the text. Out: labs, or mistakes.
package labfile

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/nearest"
)

// Kinds of labs.
const (
	ADB        = "adb"        // what an adb server sees
	WebDriver  = "webdriver"  // somebody else's devices, behind a W3C WebDriver endpoint
	Tessellant = "tessellant" // what another Tessellant lends
	Browser    = "browser"    // Chromium on the host's own machine, in the sizes of phones
)

// Kinds are all of them.
var Kinds = []string{ADB, WebDriver, Tessellant, Browser}

// Bounds.
const (
	MaxBytes = 1 << 20
	MaxLabs  = 50
	maxName  = 32
)

// File is a lab file.
type File struct{ Labs []*Lab }

// Lab is one lab.
type Lab struct {
	Name, Kind string
	Line       int // at which it begins
	Place      string
	Origin     string // of its devices: cloud unless said

	Address  string            // of its endpoint: what comes before /session
	Secrets  map[string]Secret // by the names that templates use
	Headers  []Field           // that go with every request to it
	TrustCA  string            // a file of certificates (PEM) by which its own is checked; "": those of the system
	AtOnce   int               // sessions at a time; 0: what its catalogue says, or one for each device
	DayLimit int               // minutes of sessions a day, UTC; 0: no limit

	Catalogue *Request           // where it lists its devices; nil: Devices
	Every     time.Duration      // how often that is asked
	Devices   []catalogue.Device // that the file lists
	Build     *Upload            // how a build gets there; nil: it does not
	Session   Session
	Commands  map[string]*Request // its own, by their names: of Commands

	Startable []Startable // kinds of devices that are started when they are wanted
	AtMost    int         // that are up at a time; 0: all

	// Addresses say where the pages of a browser of our own may lead to; none: to every public address (addresses.go).
	Addresses []Address
}

// Secret is where a secret comes from. It never stands in the file.
type Secret struct {
	Env, File string
	Line      int
}

// Field is a name with a template.
type Field struct {
	Name  string
	Value *Text
}

// Request is an HTTP request as a template.
type Request struct {
	Method  string
	Address *Text // behind the lab's address and the session where it does not begin with http:// or https://
	Headers []Field
	Body    *Tree         // JSON; nil: none
	Answer  string        // a JSON Pointer (RFC 6901) to what is asked for
	Next    string        // of the log: a JSON Pointer to what the next request is told as {{.Next}}
	Within  time.Duration // how long it may take
	Line    int
}

// Upload is how a build gets to the lab.
type Upload struct {
	Request
	Part   string  // of multipart/form-data (RFC 7578) that holds the file; "": the file is the body
	Fields []Field // other parts
}

// Session is how a session is asked for.
type Session struct {
	Capabilities *Tree
	Pages        *Tree         // of a session in the phone's browser; nil: pages can't be tested there
	Within       time.Duration // how long the lab may take to give a device
	Told         Told
	Page         *Text         // address of a page about a session, for people
	KeepAlive    time.Duration // after which silence a session is asked something; 0: as is usual
	Busy         string        // a text of the lab's answer that says that it has no place for now; "": none is known
	Line         int
}

// Told are JSON Pointers into the capabilities of a new session's answer, that say which device came, by what people find the session at the lab, and where. "": the lab does not say.
type Told struct{ Device, Model, OS, Reference, Page string }

// Command is a command of a lab's own that can be told of.
type Command struct {
	Name, About, Answer string
}

// Commands are all that a lab may have besides the standard's.
var Commands = []Command{
	{"install", "puts the build {{.Build}} onto the device, over an older one", ""},
	{"uninstall", "removes the app {{.App.ID}} with its data", ""},
	{"launch", "starts the app {{.App.ID}} with the arguments {{.Args}}", ""},
	{"stop", "ends the app {{.App.ID}}", ""},
	{"clear", "deletes the data of the app {{.App.ID}}", ""},
	{"log", "gives the device's log since {{.Since}}, or from {{.Next}} on", "a text of lines, or a list of them"},
	{"clock", "tells the device's time", "an RFC 3339 text, or milliseconds since 1970"},
	{"put_file", "writes {{.Content}} (base64) to {{.Path}}", ""},
	{"fetch_file", "reads {{.Path}}", "base64"},
	{"remove_file", "removes {{.Path}}", ""},
	{"keyboard", "says whether the keyboard is shown", "true or false"},
	{"press", "presses {{.Key}}: home, enter, volume_up …", ""},
	{"rotate", "turns the screen to {{.Orientation}}", ""},
	{"dark", "sets dark mode to {{.Dark}}: on or off", ""},
}

// commandNames are the names of all commands.
func commandNames() (out []string) {
	for _, c := range Commands {
		out = append(out, c.Name)
	}
	return out
}

// Usual limits.
const (
	usualWithin  = 5 * time.Minute  // until a device is given
	usualUpload  = 10 * time.Minute // of a build
	usualCommand = time.Minute
	usualEvery   = time.Minute
	leastEvery   = 5 * time.Second
	longest      = 24 * time.Hour
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

// Parse reads a lab file. It tells all mistakes; where there is one that blocks, the file is not to be used.
func Parse(raw []byte) (*File, []Mistake) {
	r := &reader{}
	f := &File{}
	root := r.document(raw)
	if root == nil {
		return f, r.mistakes
	}
	top := r.mapping(root, "a lab file", "labs")
	list := r.list(top["labs"], "labs")
	if top["labs"] == nil && len(r.mistakes) == 0 {
		r.say(root, "it has no labs", "write labs: and below it a list, each with name and kind")
	}
	if len(list) > MaxLabs {
		r.say(top["labs"], fmt.Sprintf("it has %d labs; %d is the most", len(list), MaxLabs), "give some to another host")
		list = list[:MaxLabs]
	}
	for _, n := range list {
		l := r.lab(n)
		if l == nil {
			continue
		}
		if i := slices.IndexFunc(f.Labs, func(o *Lab) bool { return o.Name == l.Name }); i >= 0 && l.Name != "" {
			r.say(n, fmt.Sprintf("the lab %s stands in line %d already", l.Name, f.Labs[i].Line), "give one of them another name")
		}
		f.Labs = append(f.Labs, l)
	}
	slices.SortStableFunc(r.mistakes, func(a, b Mistake) int { return cmp.Compare(a.Line, b.Line) })
	return f, r.mistakes
}

var labKeys = []string{"name", "kind", "place", "origin", "address", "secrets", "headers", "trust", "at_once", "max_minutes_a_day", "catalogue", "devices", "build", "session", "commands", "key", "addresses", "startable", "at_most"}

// keysOf are those that a kind of lab has besides name and kind.
var keysOf = map[string][]string{
	ADB:        {"place", "startable", "at_most"},
	WebDriver:  {"place", "origin", "address", "secrets", "headers", "trust", "at_once", "max_minutes_a_day", "catalogue", "devices", "build", "session", "commands"},
	Browser:    {"place", "addresses", "at_once", "devices"},
	Tessellant: {"place", "origin", "address", "key", "trust", "at_once", "max_minutes_a_day"},
}

func (r *reader) lab(n *yaml.Node) *Lab {
	m := r.mapping(n, "a lab", labKeys...)
	if m == nil {
		return nil
	}
	l := &Lab{Line: n.Line, Name: r.text(m["name"], "name"), Kind: r.text(m["kind"], "kind"), Place: r.text(m["place"], "place")}
	switch {
	case m["name"] == nil:
		r.say(n, "this lab has no name", "write name: and by which its devices are to be known, such as heron")
	case l.Name != "" && (!nameForm.MatchString(l.Name) || len(l.Name) > maxName):
		r.say(m["name"], fmt.Sprintf("%.60q can't be a lab's name", l.Name), fmt.Sprintf("use a to z, 0 to 9 and hyphens, %d at most", maxName))
	}
	switch {
	case m["kind"] == nil:
		r.say(n, "this lab has no kind", "write kind: "+strings.Join(Kinds, " or "))
		return l
	case !slices.Contains(Kinds, l.Kind):
		r.say(m["kind"], fmt.Sprintf("there is no kind of lab %.60q%s", l.Kind, nearest.Meant(l.Kind, Kinds)), "write "+strings.Join(Kinds, " or "))
		return l
	}
	for _, key := range labKeys[2:] {
		if m[key] != nil && !slices.Contains(keysOf[l.Kind], key) {
			r.say(m[key], fmt.Sprintf("a lab of kind %s has no %s", l.Kind, key), "take it out")
		}
	}
	switch l.Kind {
	case ADB:
		l.Startable, l.AtMost = r.startable(m["startable"]), r.number(m["at_most"], "at_most", 1, 1000)
		if l.AtMost > 0 && len(l.Startable) == 0 {
			r.say(m["at_most"], "at_most is for devices that are started, and there are none", "write startable:, or take it out")
		}
	case WebDriver:
		r.webdriver(l, n, m)
	case Tessellant:
		r.tessellant(l, n, m)
	case Browser:
		r.browser(l, n, m)
	}
	return l
}

func (r *reader) webdriver(l *Lab, n *yaml.Node, m nodes) {
	l.Origin = "cloud"
	if m["origin"] != nil {
		if l.Origin = r.text(m["origin"], "origin"); !slices.Contains([]string{"real", "emulated", "cloud"}, l.Origin) {
			r.say(m["origin"], fmt.Sprintf("the origin of devices can't be %.60q", l.Origin), "write real, emulated or cloud; without it they are cloud")
		}
	}
	l.Secrets = r.secrets(m["secrets"])
	r.secretNames = l.Secrets
	l.Address = strings.TrimRight(r.text(m["address"], "address"), "/")
	if u, err := url.Parse(l.Address); m["address"] == nil || err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		r.say(cmp.Or(m["address"], n), "its address is not that of a WebDriver endpoint", "write address: https://… as it stands before /session")
	} else if u.User != nil {
		r.say(m["address"], "its address has a user or a password in it", "name a secret below secrets: and send it with headers:")
	}
	l.Headers = r.fields(m["headers"], "headers")
	l.TrustCA = r.text(m["trust"], "trust")
	l.AtOnce = r.number(m["at_once"], "at_once", 1, 10_000)
	l.DayLimit = r.number(m["max_minutes_a_day"], "max_minutes_a_day", 1, 100_000_000)
	switch {
	case m["catalogue"] == nil && m["devices"] == nil:
		r.say(n, "it says of no device that it has it", "write catalogue: with an address that answers the format of docs/lab-catalogue.md, or devices: with a list")
	case m["catalogue"] != nil && m["devices"] != nil:
		r.say(m["devices"], "it has both catalogue and devices", "keep one of them")
	case m["catalogue"] != nil:
		l.Catalogue, l.Every = r.catalogue(m["catalogue"])
	default:
		l.Devices = r.devices(m["devices"])
	}
	if m["build"] != nil {
		l.Build = r.upload(m["build"])
	}
	if m["session"] == nil {
		r.say(n, "it does not say how a session is asked for", "write session: and below it capabilities:")
	} else {
		l.Session = r.session(m["session"])
	}
	l.Commands = map[string]*Request{}
	if m["commands"] != nil {
		own := r.mapping(m["commands"], "commands", commandNames()...)
		for _, c := range Commands {
			if own[c.Name] == nil {
				continue
			}
			keys := requestKeys
			if c.Name == "log" {
				keys = append(slices.Clone(keys), "next")
			}
			l.Commands[c.Name] = r.request(own[c.Name], c.Name, usualCommand, "POST", keys...)
		}
	}
	r.agree(l, m)
}

// agree finds what does not go together.
func (r *reader) agree(l *Lab, m nodes) {
	if l.Build == nil && m["commands"] != nil && l.Commands["install"] != nil {
		r.say(m["commands"], "it has a command install, but no build gets there", "write build: with the request that uploads one")
	}
	if l.Build != nil && !l.Session.Capabilities.Names(".Build") && l.Commands["install"] == nil {
		r.say(m["build"], "a build gets there, and nothing installs it", "name {{.Build}} in the capabilities, or write a command install")
	}
	if l.Build == nil && l.Session.Capabilities.Names(".Build") {
		r.say(m["session"], "the capabilities name {{.Build}}, but no build gets there", "write build: with the request that uploads one")
	}
}

func (r *reader) secrets(n *yaml.Node) map[string]Secret {
	out := map[string]Secret{}
	if n == nil {
		return out
	}
	for _, p := range r.pairs(n, "secrets") {
		s := Secret{Line: p.key.Line}
		if !secretForm.MatchString(p.key.Value) {
			r.say(p.key, fmt.Sprintf("%.60q can't be the name of a secret", p.key.Value), "use letters, digits and underscores: templates name it as {{.Secret.name}}")
		}
		if p.value.Kind == yaml.ScalarNode {
			r.say(p.value, "a secret must not stand in the file", "write {env: VARIABLE} or {file: path}")
			continue
		}
		m := r.mapping(p.value, "a secret", "env", "file")
		s.Env, s.File = r.text(m["env"], "env"), r.text(m["file"], "file")
		if (s.Env == "") == (s.File == "") {
			r.say(p.value, "a secret comes from a variable or from a file", "write {env: VARIABLE} or {file: path}")
		}
		out[p.key.Value] = s
	}
	return out
}

var secretForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (r *reader) catalogue(n *yaml.Node) (*Request, time.Duration) {
	q := r.request(n, "catalogue", usualCommand, "GET", "address", "method", "headers", "within", "every")
	if q == nil {
		return nil, 0
	}
	every := usualEvery
	if e := r.mapping(n, "catalogue", "address", "method", "headers", "within", "every")["every"]; e != nil {
		every = r.duration(e, "every", leastEvery, longest)
	}
	return q, every
}

// device reads what a device says of itself.
func (r *reader) device(m nodes) catalogue.Device {
	d := catalogue.Device{ID: r.text(m["id"], "id"), Platform: r.text(m["platform"], "platform"), OS: r.text(m["os"], "os"), Maker: r.text(m["maker"], "maker"), Model: r.text(m["model"], "model"), Form: r.text(m["form"], "form"),
		API: r.number(m["api"], "api", 0, 10_000), Width: r.number(m["width"], "width", 1, 20_000), Height: r.number(m["height"], "height", 1, 20_000), Density: r.number(m["density"], "density", 20, 2000),
		MemoryMB: r.number(m["memory_mb"], "memory_mb", 0, 10<<20), Language: r.text(m["language"], "language"), UDID: r.text(m["udid"], "udid"), Simulated: r.truth(m["simulated"], "simulated")}
	for _, a := range r.list(m["abis"], "abis") {
		d.ABIs = append(d.ABIs, r.text(a, "abis"))
	}
	return d
}

func (r *reader) devices(n *yaml.Node) (out []catalogue.Device) {
	list := r.list(n, "devices")
	if len(list) == 0 && n.Kind == yaml.SequenceNode {
		r.say(n, "the list of devices is empty", "write at least one: {id: …, platform: android, os: \"14\", api: 34, maker: …, model: …, width: 1080, height: 2400, density: 420}")
	}
	for _, x := range list {
		m := r.mapping(x, "a device", "id", "platform", "os", "api", "maker", "model", "form", "width", "height", "density", "memory_mb", "abis", "language", "udid", "simulated")
		if m == nil {
			continue
		}
		d := r.device(m)
		if r.browsers {
			d = asBrowser(d)
		}
		if why := d.Mend(); why != "" {
			r.say(x, "this device can't be used: "+why, "see docs/lab-catalogue.md for what a device says of itself")
			continue
		}
		if slices.ContainsFunc(out, func(o catalogue.Device) bool { return o.ID == d.ID }) {
			r.say(x, fmt.Sprintf("the device %s is there twice", d.ID), "keep one of them")
			continue
		}
		out = append(out, d)
	}
	return out
}

var (
	requestKeys = []string{"method", "address", "headers", "body", "answer", "within"}
	uploadKeys  = []string{"method", "address", "headers", "part", "fields", "answer", "within"}
)

var methods = []string{"GET", "POST", "PUT", "DELETE", "PATCH"}

// request reads an HTTP request that has some of the keys.
func (r *reader) request(n *yaml.Node, what string, within time.Duration, method string, keys ...string) *Request {
	m := r.mapping(n, what, keys...)
	if m == nil {
		return nil
	}
	q := &Request{Line: n.Line, Method: method, Within: within, Headers: r.fields(m["headers"], "headers"), Answer: r.pointer(m["answer"], "answer"), Next: r.pointer(m["next"], "next")}
	if m["method"] != nil {
		if q.Method = strings.ToUpper(r.text(m["method"], "method")); !slices.Contains(methods, q.Method) {
			r.say(m["method"], fmt.Sprintf("the method of %s can't be %.40q", what, q.Method), "write "+strings.Join(methods, ", "))
		}
	}
	if m["address"] == nil {
		r.say(n, what+" has no address", "write address: with what the request goes to")
	} else {
		q.Address = r.template(m["address"], what+"'s address")
	}
	if m["body"] != nil {
		q.Body = r.tree(m["body"], what+"'s body")
	}
	if m["within"] != nil {
		q.Within = r.duration(m["within"], "within", time.Second, longest)
	}
	return q
}

func (r *reader) upload(n *yaml.Node) *Upload {
	q := r.request(n, "build", usualUpload, "POST", uploadKeys...)
	if q == nil {
		return nil
	}
	m := r.mapping(n, "build", uploadKeys...)
	u := &Upload{Request: *q, Part: r.text(m["part"], "part"), Fields: r.fields(m["fields"], "fields")}
	if m["answer"] == nil {
		r.say(n, "the upload does not say where its answer has the lab's reference", "write answer: with a JSON Pointer, such as /id")
	}
	if u.Part == "" && len(u.Fields) > 0 {
		r.say(m["fields"], "fields need a part for the file itself", "write part: with the name of the form's field that takes the file")
	}
	return u
}

// capabilities reads those of New Session.
func (r *reader) capabilities(n *yaml.Node, what string) *Tree {
	if n == nil {
		return nil
	}
	if n.Kind != yaml.MappingNode || !slices.ContainsFunc(n.Content, func(k *yaml.Node) bool { return k.Value == "alwaysMatch" || k.Value == "firstMatch" }) {
		r.say(n, what+" must have alwaysMatch or firstMatch (W3C WebDriver, section 7.2)", "put what you ask for below alwaysMatch:")
		return nil
	}
	return r.tree(n, "the "+what)
}

func (r *reader) session(n *yaml.Node) (s Session) {
	s.Line, s.Within = n.Line, usualWithin
	m := r.mapping(n, "session", "capabilities", "pages", "within", "told", "page", "keep_alive", "busy")
	if m == nil {
		return s
	}
	if m["capabilities"] == nil {
		r.say(n, "the session asks for no capabilities", `write capabilities: and below it alwaysMatch:, such as {alwaysMatch: {platformName: "{{.Device.Platform}}"}}`)
	}
	s.Capabilities, s.Pages = r.capabilities(m["capabilities"], "capabilities"), r.capabilities(m["pages"], "pages")
	if m["within"] != nil {
		s.Within = r.duration(m["within"], "within", time.Second, longest)
	}
	if m["keep_alive"] != nil {
		s.KeepAlive = r.duration(m["keep_alive"], "keep_alive", time.Second, time.Hour)
	}
	s.Busy = r.text(m["busy"], "busy")
	if m["page"] != nil {
		s.Page = r.template(m["page"], "the page's address")
	}
	if t := r.mapping(m["told"], "told", "device", "model", "os", "reference", "page"); t != nil {
		s.Told = Told{Device: r.pointer(t["device"], "device"), Model: r.pointer(t["model"], "model"), OS: r.pointer(t["os"], "os"), Reference: r.pointer(t["reference"], "reference"), Page: r.pointer(t["page"], "page")}
	}
	return s
}
