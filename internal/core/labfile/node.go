package labfile

// Reading the nodes of a YAML text, strictly: each mistake has its line and its remedy, and reading goes on behind it.

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/nearest"
)

// Mistake is what is wrong with a lab file.
type Mistake struct {
	Line   int    `json:"line"` // from 1; 0: the whole file
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

func (m Mistake) Error() string {
	if m.Line == 0 {
		return m.What + "; " + m.Remedy
	}
	return fmt.Sprintf("line %d: %s; %s", m.Line, m.What, m.Remedy)
}

const (
	maxMistakes = 100
	maxNodes    = 20_000
)

type reader struct {
	mistakes    []Mistake
	secretNames map[string]Secret // of the lab at hand
	browsers    bool              // its devices are browsers
}

// nodes are the values of a mapping, by their keys.
type nodes map[string]*yaml.Node

type pair struct{ key, value *yaml.Node }

func (r *reader) say(n *yaml.Node, what, remedy string) {
	line := 0
	if n != nil {
		line = n.Line
	}
	m := Mistake{line, what, remedy}
	for _, o := range r.mistakes {
		if o == m {
			return
		}
	}
	if len(r.mistakes) < maxMistakes {
		r.mistakes = append(r.mistakes, m)
	}
}

var lineForm = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)`)

// document gives the root of the text; nil: there is none.
func (r *reader) document(raw []byte) *yaml.Node {
	if len(raw) > MaxBytes {
		r.say(nil, fmt.Sprintf("the file has more than %d kB", MaxBytes>>10), "give some labs to another host")
		return nil
	}
	var doc yaml.Node
	dec := yaml.NewDecoder(strings.NewReader(string(raw)))
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			r.say(nil, "the file is empty", "write labs: and below it a list, each with name and kind")
			return nil
		}
		g := lineForm.FindStringSubmatch(err.Error())
		if g == nil {
			r.say(nil, foreign.Name(err.Error(), 200), "mend it as YAML")
			return nil
		}
		line, _ := strconv.Atoi(g[1])
		r.mistakes = append(r.mistakes, Mistake{line, "this is not YAML: " + foreign.Name(g[2], 200), "mind indents, colons and quotes: a text with {{ }} needs quotes"})
		return nil
	}
	if dec.Decode(&yaml.Node{}) == nil {
		r.say(nil, "the file has several documents", "keep one, without --- between")
		return nil
	}
	count, alias := 0, (*yaml.Node)(nil)
	var walk func(*yaml.Node)
	walk = func(n *yaml.Node) {
		if count++; count > maxNodes {
			return
		}
		if n.Kind == yaml.AliasNode {
			alias = n
			return
		}
		for _, c := range n.Content {
			walk(c)
		}
	}
	walk(&doc)
	switch {
	case alias != nil:
		r.say(alias, "the file refers to another place in it (*"+foreign.Name(alias.Value, 40)+")", "write it out")
		return nil
	case count > maxNodes:
		r.say(nil, "the file has too many values", "give some labs to another host")
		return nil
	}
	return doc.Content[0]
}

// mapping gives the values of a mapping that has only these keys; nil: it is none, or there is no such node.
func (r *reader) mapping(n *yaml.Node, what string, keys ...string) nodes {
	if n == nil {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		r.say(n, what+" is written as key: value", "see docs/labs.md")
		return nil
	}
	out := nodes{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if r.quoted(k) {
			continue
		}
		known := false
		for _, x := range keys {
			known = known || x == k.Value
		}
		switch {
		case !known:
			r.say(k, fmt.Sprintf("%s has no key %.60q%s", what, k.Value, nearest.Meant(k.Value, keys)), "the keys are "+strings.Join(keys, ", "))
		case out[k.Value] != nil:
			r.say(k, k.Value+" is there twice", "keep one of them")
		default:
			out[k.Value] = v
		}
	}
	return out
}

// pairs gives the keys and values of a mapping, in their order.
func (r *reader) pairs(n *yaml.Node, what string) (out []pair) {
	if n.Kind != yaml.MappingNode {
		r.say(n, what+" is written as name: value", "see docs/labs.md")
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if !r.quoted(n.Content[i]) {
			out = append(out, pair{n.Content[i], n.Content[i+1]})
		}
	}
	return out
}

// quoted says that a key is none because a template stands there without quotes: YAML takes its braces for a mapping.
func (r *reader) quoted(key *yaml.Node) bool {
	if key.Kind == yaml.ScalarNode {
		return false
	}
	r.say(key, "this is no name", "put a text with {{ }} into quotes: \"{{.Device.ID}}\"")
	return true
}

func (r *reader) list(n *yaml.Node, what string) []*yaml.Node {
	if n == nil {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		r.say(n, what+" is a list", "write each below it, with - before it")
		return nil
	}
	return n.Content
}

const maxText = 4096

func (r *reader) text(n *yaml.Node, what string) string {
	if n == nil {
		return ""
	}
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.say(n, what+" is a text", "write it behind "+what+":")
		return ""
	}
	if len(n.Value) > maxText {
		r.say(n, fmt.Sprintf("%s has %d bytes; %d is the most", what, len(n.Value), maxText), "shorten it")
		return ""
	}
	return n.Value
}

func (r *reader) number(n *yaml.Node, what string, least, most int) int {
	if n == nil {
		return 0
	}
	v, err := strconv.Atoi(n.Value)
	if n.Kind != yaml.ScalarNode || err != nil || v < least || v > most {
		r.say(n, fmt.Sprintf("%s can't be %.40q", what, n.Value), fmt.Sprintf("write a number from %d to %d", least, most))
		return 0
	}
	return v
}

func (r *reader) truth(n *yaml.Node, what string) bool {
	if n == nil {
		return false
	}
	if n.Tag != "!!bool" {
		r.say(n, fmt.Sprintf("%s can't be %.40q", what, n.Value), "write true or false")
		return false
	}
	return strings.EqualFold(n.Value, "true")
}

func (r *reader) duration(n *yaml.Node, what string, least, most time.Duration) time.Duration {
	d, err := time.ParseDuration(n.Value)
	if n.Kind != yaml.ScalarNode || err != nil || d < least || d > most {
		r.say(n, fmt.Sprintf("%s can't be %.40q", what, n.Value), fmt.Sprintf("write a time from %s to %s, such as 90s", least, most))
		return least
	}
	return d
}

// pointer reads a JSON Pointer (RFC 6901).
func (r *reader) pointer(n *yaml.Node, what string) string {
	p := r.text(n, what)
	if p != "" && !strings.HasPrefix(p, "/") {
		r.say(n, fmt.Sprintf("%s is a JSON Pointer, and %.60q is none", what, p), "write a path of names with / before each, such as /value/id (RFC 6901)")
		return ""
	}
	return p
}

func (r *reader) fields(n *yaml.Node, what string) (out []Field) {
	if n == nil {
		return nil
	}
	for _, p := range r.pairs(n, what) {
		if !headerForm.MatchString(p.key.Value) {
			r.say(p.key, fmt.Sprintf("%.60q can't be a name in %s", p.key.Value, what), "use letters, digits and hyphens")
			continue
		}
		if t := r.template(p.value, what+" "+p.key.Value); t != nil {
			out = append(out, Field{p.key.Value, t})
		}
	}
	return out
}

var headerForm = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")
