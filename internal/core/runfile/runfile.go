// Package runfile reads and writes a run as a file: YAML (1.2) that docs/run-file.schema.json describes.
//
// In: the text. Out: what is to be run, or the line that is wrong, with what was probably meant; and back.
package runfile

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/nearest"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/work"
)

// MaxBytes is how long a run file may be.
const MaxBytes = 256 << 10

// File is a run as it stands in a file. The order is that of the file.
type File struct {
	Build          string            `yaml:"build,omitempty"`
	OtherBuilds    []string          `yaml:"other-builds,omitempty"` // for devices of other platforms
	Package        string            `yaml:"package,omitempty"`
	Name           string            `yaml:"name,omitempty"`
	Labels         map[string]string `yaml:"labels,omitempty"`
	Pool           string            `yaml:"pool,omitempty"`
	Where          []string          `yaml:"where,omitempty"`
	Devices        []string          `yaml:"devices,omitempty"`
	Any            int               `yaml:"any,omitempty"`    // so many of the devices that fit
	Differ         int               `yaml:"differ,omitempty"` // so many that differ most
	AnyUnit        bool              `yaml:"any-unit,omitempty"`
	Lines          []Line            `yaml:"lines,omitempty"`
	Conditions     Conditions        `yaml:"conditions,omitempty"`
	Variants       Variants          `yaml:"variants,omitempty"`
	Cases          []string          `yaml:"cases,omitempty"`
	Tags           []string          `yaml:"tags,omitempty"`
	Spread         bool              `yaml:"spread,omitempty"`
	Confirm        int               `yaml:"confirm,omitempty"`
	Attempts       int               `yaml:"attempts,omitempty"`
	Limit          Duration          `yaml:"limit,omitempty"`
	Inputs         map[string]string `yaml:"inputs,omitempty"`
	SecretsFromEnv map[string]string `yaml:"secrets-from-env,omitempty"` // input → variable
	Beside         []string          `yaml:"beside,omitempty"`
	Helpers        []string          `yaml:"helpers,omitempty"` // that may be installed
	Routes         []string          `yaml:"routes,omitempty"`  // from apps to the machine of who starts it
	Put            map[string]string `yaml:"put,omitempty"`     // file of the package → path on the device
	Fetch          []string          `yaml:"fetch,omitempty"`
	Recording      Recording         `yaml:"recording,omitempty"` // what differs from what is usual
	Bounds         []string          `yaml:"bounds,omitempty"`    // on gauges
	Remarks        string            `yaml:"remarks,omitempty"`   // tell or fail
}

// Line is a device with its conditions.
type Line struct {
	Device      string `yaml:"device"`
	Version     string `yaml:"version,omitempty"`
	Language    string `yaml:"language,omitempty"`
	Orientation string `yaml:"orientation,omitempty"`

	Variant    string     `yaml:"variant,omitempty"`
	Conditions Conditions `yaml:"conditions,omitempty"`
	Cases      []string   `yaml:"cases,omitempty"`
}

// Conditions are how devices are set.
type Conditions conditions.Set

// UnmarshalYAML implements yaml.Unmarshaler: switches may be true or false.
func (c *Conditions) UnmarshalYAML(n *yaml.Node) error {
	set, err := readSet(n)
	*c = Conditions(set)
	return err
}

// MarshalYAML implements yaml.Marshaler.
func (c Conditions) MarshalYAML() (any, error) { return setNode(conditions.Set(c)), nil }

func readSet(n *yaml.Node) (conditions.Set, error) {
	if n.Kind != yaml.MappingNode {
		if n.Kind == yaml.ScalarNode && n.Tag == "!!null" { // as the device is
			return nil, nil
		}
		return nil, at(n.Line, "conditions are written as name: value, such as language: de")
	}
	var set conditions.Set
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if v.Kind != yaml.ScalarNode {
			return nil, at(v.Line, "the condition %s must be a text, a number, or on or off", k.Value)
		}
		value := v.Value
		if v.Tag == "!!bool" {
			value = map[bool]string{true: conditions.On, false: conditions.Off}[strings.EqualFold(v.Value, "true")]
		}
		var err error
		if set, err = set.With(k.Value, value); err != nil {
			return nil, at(k.Line, "%v", err)
		}
	}
	return set, nil
}

func setNode(set conditions.Set) *yaml.Node {
	m := &yaml.Node{Kind: yaml.MappingNode}
	for _, name := range set.Sorted() {
		v := &yaml.Node{}
		v.SetString(set[name])
		if name != conditions.Location {
			v.Style = 0
		}
		m.Content = append(m.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: name}, v)
	}
	if len(m.Content) == 0 {
		m.Style = yaml.FlowStyle
	}
	return m
}

// Recording is what is kept, where it is not what is usual.
type Recording map[string]string

// UnmarshalYAML implements yaml.Unmarshaler: switches may be true or false.
func (r *Recording) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind != yaml.MappingNode {
		return at(n.Line, "recordings are written as name: value, such as video: off")
	}
	set := recording.Usual()
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		value := v.Value
		if v.Tag == "!!bool" {
			value = map[bool]string{true: recording.On, false: recording.Off}[strings.EqualFold(v.Value, "true")]
		}
		var err error
		if set, err = set.With(k.Value, value); err != nil {
			return at(k.Line, "%v", err)
		}
	}
	*r = set.Changed()
	return nil
}

// Variants are named sets of conditions, in their order.
type Variants []conditions.Variant

// UnmarshalYAML implements yaml.Unmarshaler.
func (v *Variants) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind != yaml.MappingNode {
		return at(n.Line, "variants are written as name: conditions, such as de: {language: de}")
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		set, err := readSet(n.Content[i+1])
		if err != nil {
			return err
		}
		*v = append(*v, conditions.Variant{Name: n.Content[i].Value, Conditions: set})
	}
	if err := conditions.CheckVariants(*v); err != nil {
		return at(n.Line, "%v", err)
	}
	return nil
}

// MarshalYAML implements yaml.Marshaler.
func (v Variants) MarshalYAML() (any, error) {
	m := &yaml.Node{Kind: yaml.MappingNode}
	for _, x := range v {
		set := setNode(x.Conditions)
		set.Style = yaml.FlowStyle
		m.Content = append(m.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: x.Name}, set)
	}
	return m, nil
}

// Duration is a time such as 30m.
type Duration time.Duration

// UnmarshalYAML implements yaml.Unmarshaler.
func (d *Duration) UnmarshalYAML(n *yaml.Node) error {
	v, err := time.ParseDuration(n.Value)
	if err != nil || v < time.Second || v > 24*time.Hour {
		return at(n.Line, "limit: %.40q is no time from 1s to 24h, such as 30m", n.Value)
	}
	*d = Duration(v)
	return nil
}

// MarshalYAML implements yaml.Marshaler.
func (d Duration) MarshalYAML() (any, error) { return short(time.Duration(d)), nil }

// short writes 30m0s as 30m.
func short(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Mistake is what is wrong with a run file.
type Mistake struct {
	Line int // from 1; 0: the whole file
	Why  string
}

func (m *Mistake) Error() string {
	if m.Line == 0 {
		return "the run file: " + m.Why
	}
	return fmt.Sprintf("line %d of the run file: %s", m.Line, m.Why)
}

func at(line int, why string, args ...any) error { return &Mistake{line, fmt.Sprintf(why, args...)} }

// keys are those of a file.
func keys() (out []string) {
	t := reflect.TypeOf(File{})
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		out = append(out, name)
	}
	return out
}

var lineForm = regexp.MustCompile(`^(?:yaml: )?(?:unmarshal errors:\s*)?line (\d+): (.*)`)

// Parse reads a run file. The error is a *Mistake.
func Parse(raw []byte) (f File, err error) {
	if len(raw) > MaxBytes {
		return f, at(0, "it has more than %d kB", MaxBytes>>10)
	}
	var doc yaml.Node
	dec := yaml.NewDecoder(strings.NewReader(string(raw)))
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return f, at(0, "it is empty; write build: and package: at least")
		}
		return f, mistake(err)
	}
	if dec.Decode(&yaml.Node{}) == nil {
		return f, at(0, "it has several documents; a file is one run")
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		return f, at(root.Line, "a run file is written as key: value, such as build: kelpline/android@newest")
	}
	known := keys()
	for i := 0; i < len(root.Content); i += 2 {
		k := root.Content[i]
		if !slices.Contains(known, k.Value) {
			return f, at(k.Line, "there is no key %.60q%s", k.Value, nearest.Meant(k.Value, known))
		}
	}
	if err := root.Decode(&f); err != nil {
		return f, mistake(err)
	}
	return f, f.check(root)
}

// check finds what can be known to be wrong, and in which line.
func (f File) check(root *yaml.Node) error {
	line := func(key string) int {
		for i := 0; i+1 < len(root.Content); i += 2 {
			if root.Content[i].Value == key {
				return root.Content[i].Line
			}
		}
		return 0
	}
	if f.Any != 0 && f.Differ != 0 {
		return at(line("differ"), "any and differ can't go together")
	}
	for _, x := range []struct {
		key string
		n   int
	}{{"any", f.Any}, {"differ", f.Differ}} {
		if x.n < 0 || x.n > pools.MaxN {
			return at(line(x.key), "%s: choose 1 to %d devices", x.key, pools.MaxN)
		}
	}
	if _, err := devices.ParseFilter(f.Where, nil); err != nil {
		return at(line("where"), "%v", err)
	}
	if _, err := gauges.ParseBounds(f.Bounds); err != nil {
		return at(line("bounds"), "%v", err)
	}
	if f.Remarks != "" && f.Remarks != work.RemarksTell && f.Remarks != work.RemarksFail {
		return at(line("remarks"), "remarks tell or fail, not %.60q", f.Remarks)
	}
	if err := labels.Check(f.Labels); err != nil {
		return at(line("labels"), "%v", err)
	}
	return nil
}

// mistake gives a decoder's error its line.
func mistake(err error) error {
	var m *Mistake
	if errors.As(err, &m) {
		return m
	}
	text := err.Error()
	var t *yaml.TypeError
	if errors.As(err, &t) && len(t.Errors) > 0 {
		text = t.Errors[0]
	}
	if g := lineForm.FindStringSubmatch(text); g != nil {
		n, _ := strconv.Atoi(g[1])
		why := strings.NewReplacer("cannot unmarshal ", "it has ", " into ", " where there must be ", "!!str", "the text", "!!seq", "a list", "!!map", "keys and values", "!!int", "the number", "!!bool", "",
			"[]string", "a list of texts", "map[string]string", "names and texts", "runfile.Line", "a device", "string", "a text", "int", "a number").Replace(g[2])
		return at(n, "%s", why)
	}
	return at(0, "%s", strings.TrimPrefix(text, "yaml: "))
}

// YAML writes the file.
func (f File) YAML() string {
	var b strings.Builder
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	_ = enc.Encode(f) // into memory, of what has no cycles
	_ = enc.Close()
	return b.String()
}
