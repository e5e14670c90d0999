// Package recording says what is kept of a piece of work: of a leg, of a session.
//
// One table says what can be kept and how much of it. In: what a person wrote, as a line, as a file or as JSON. Out: a Set, which is part of
// the work's spec; the recorders of the host read nothing else. A new recording is a row here, and a recorder (internal/host/record).
package recording

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/nearest"
)

// What can be kept.
const (
	Video       = "video"
	Screenshots = "screenshots"
	Log         = "log"
	Gauges      = "gauges"
	Network     = "network"
	Trees       = "trees"
)

// How much is kept.
const (
	On       = conditions.On
	Off      = conditions.Off
	Failures = "failures" // where a case fails
	Steps    = "steps"    // and at each step
	Contents = "contents" // also where it is not known whether the device lets us
	Commands = "commands" // and after each command that may have changed the screen
)

// Kind is one kind of recording.
type Kind struct {
	Name   string
	Values []string // from the least to the most
	Usual  string
	About  string
}

// Table are all kinds.
var Table = []Kind{
	{Video, switches, On, "the screen, as a video"},
	{Screenshots, []string{Off, Failures, Steps, Commands}, Steps, "pictures of the screen: where a case fails, at each step, after each command"},
	{Log, switches, On, "the device log"},
	{Gauges, switches, On, "processor, memory, frames, battery and traffic, once a second"},
	{Network, []string{Off, On, Contents}, On, "what the app asks of servers: plain HTTP, connections, and the contents of HTTPS where the device trusts the host's certificate; contents: wherever the app lets us"},
	{Trees, []string{Off, Failures, Steps}, Failures, "what is on the screen as a tree: where a case fails, at each step (which then takes longer)"},
}

var switches = []string{Off, On}

// Set says how much is kept of each kind. The zero Set is that of work that was planned before there was a choice: nothing but what its
// JSON names, and pictures and trees as they always were.
type Set struct {
	Video       bool   `json:"video"`
	Screenshots string `json:"screenshots,omitempty"`
	Log         bool   `json:"log"`
	Gauges      bool   `json:"gauges,omitempty"`
	Network     string `json:"network,omitempty"`
	Trees       string `json:"trees,omitempty"`
}

// Usual is what is kept unless somebody says otherwise.
func Usual() (s Set) {
	for _, k := range Table {
		s.put(k.Name, k.Usual)
	}
	return s
}

// Names are the names of all kinds.
func Names() (out []string) {
	for _, k := range Table {
		out = append(out, k.Name)
	}
	return out
}

// Of says how much is kept of a kind.
func (s Set) Of(name string) string {
	on := map[bool]string{false: Off, true: On}
	switch name {
	case Video:
		return on[s.Video]
	case Screenshots:
		return cmp.Or(s.Screenshots, Steps)
	case Log:
		return on[s.Log]
	case Gauges:
		return on[s.Gauges]
	case Network:
		return cmp.Or(s.Network, Off)
	case Trees:
		return cmp.Or(s.Trees, Failures)
	}
	return Off
}

// Keeps says whether so much of a kind is kept, or more.
func (s Set) Keeps(name, much string) bool {
	for _, k := range Table {
		if k.Name == name {
			return slices.Index(k.Values, s.Of(name)) >= slices.Index(k.Values, much)
		}
	}
	return false
}

func (s *Set) put(name, value string) {
	switch name {
	case Video:
		s.Video = value == On
	case Screenshots:
		s.Screenshots = value
	case Log:
		s.Log = value == On
	case Gauges:
		s.Gauges = value == On
	case Network:
		s.Network = value
	case Trees:
		s.Trees = value
	}
}

// With gives the set with one kind changed, as a person wrote it. The error says what is wrong.
func (s Set) With(name, value string) (Set, error) {
	name, value = strings.ToLower(strings.TrimSpace(name)), strings.ToLower(strings.TrimSpace(value))
	i := slices.IndexFunc(Table, func(k Kind) bool { return k.Name == name })
	if i < 0 {
		return s, fmt.Errorf("there is no recording %.60q%s The recordings are %s", name, cmp.Or(nearest.Meant(name, Names()), "."), strings.Join(Names(), ", "))
	}
	k := Table[i]
	if !slices.Contains(k.Values, value) {
		return s, fmt.Errorf("%s is %s, not %.60q%s", name, strings.Join(k.Values, " or "), value, nearest.Meant(value, k.Values))
	}
	s.put(name, value)
	return s, nil
}

const maxText = 1000 // bytes of a line

// Parse changes a set by a line such as "video:off,screenshots:commands".
func (s Set) Parse(line string) (Set, error) {
	if len(line) > maxText {
		return s, fmt.Errorf("recordings of more than %d bytes are too long", maxText)
	}
	for item := range strings.SplitSeq(line, ",") {
		name, value, given := strings.Cut(item, ":")
		if !given {
			return s, fmt.Errorf("in %.200q, %.60q has no value; write name:value, such as video:off, with commas between", line, strings.TrimSpace(item))
		}
		var err error
		if s, err = s.With(name, value); err != nil {
			return s, err
		}
	}
	return s, nil
}

// WithAll changes a set by values by name.
func (s Set) WithAll(m map[string]string) (Set, error) {
	for _, name := range slices.Sorted(maps.Keys(m)) {
		var err error
		if s, err = s.With(name, m[name]); err != nil {
			return s, err
		}
	}
	return s, nil
}

// FromMap changes a set by an object of JSON: texts, or true and false.
func (s Set) FromMap(m map[string]any) (Set, error) {
	texts := map[string]string{}
	for name, value := range m {
		switch v := value.(type) {
		case bool:
			texts[name] = map[bool]string{true: On, false: Off}[v]
		case string:
			texts[name] = v
		default:
			raw, _ := json.Marshal(v)
			return s, fmt.Errorf("%.60s must be a text, or true or false, not %.60s", name, raw)
		}
	}
	return s.WithAll(texts)
}

// Map is what is kept of each kind, by name.
func (s Set) Map() map[string]string {
	m := map[string]string{}
	for _, k := range Table {
		m[k.Name] = s.Of(k.Name)
	}
	return m
}

// Changed is what differs from what is usual, by name; nil: nothing does.
func (s Set) Changed() map[string]string {
	var m map[string]string
	for _, k := range Table {
		if v := s.Of(k.Name); v != k.Usual {
			if m == nil {
				m = map[string]string{}
			}
			m[k.Name] = v
		}
	}
	return m
}

// String is the set as Parse reads it: what differs from what is usual; "": nothing does.
func (s Set) String() string {
	var items []string
	m := s.Changed()
	for _, k := range Table {
		if v, ok := m[k.Name]; ok {
			items = append(items, k.Name+":"+v)
		}
	}
	return strings.Join(items, ",")
}

// Check says what is wrong with a set that was not made by the functions here.
func (s Set) Check() error {
	for _, k := range Table {
		if !slices.Contains(k.Values, s.Of(k.Name)) {
			return errors.New(k.Name + " is " + strings.Join(k.Values, " or "))
		}
	}
	return nil
}
