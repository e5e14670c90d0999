package testpkg

// Choosing among a package's cases, and the inputs that a run gives it.

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
)

// Choose gives the cases that a run wants: those whose name fits one of the patterns and that
// have one of the tags; no pattern, no tag: all. In a pattern * stands for anything but a
// slash, and a case's name alone means its rows too. The error names what fits nothing.
func Choose(cases []Case, patterns, tags []string) ([]Case, error) {
	out := []Case{}
	used := map[string]bool{}
	for _, p := range patterns {
		if _, err := path.Match(p, ""); err != nil {
			return nil, fmt.Errorf("the pattern %q can't be read: a [ without its ]?", p)
		}
	}
	for _, c := range cases {
		fits, tagged := len(patterns) == 0, len(tags) == 0
		whole := strings.TrimSuffix(c.File, path.Ext(c.File)) + "." + c.Func
		for _, p := range patterns {
			a, _ := path.Match(p, c.Name)
			b, _ := path.Match(p, whole)
			if a || b {
				fits, used[p] = true, true
			}
		}
		for _, t := range tags {
			if slices.Contains(c.Tags, t) {
				tagged, used["#"+t] = true, true
			}
		}
		if fits && tagged {
			out = append(out, c)
		}
	}
	for _, p := range patterns {
		if !used[p] {
			return nil, fmt.Errorf("no case is called %q", p)
		}
	}
	for _, t := range tags {
		if !used["#"+t] {
			return nil, fmt.Errorf("no case has the tag %q; there are %s", t, tagsOf(cases))
		}
	}
	if len(out) == 0 && len(cases) > 0 {
		return nil, fmt.Errorf("no case has both such a name and such a tag")
	}
	return out, nil
}

func tagsOf(cases []Case) string {
	var all []string
	for _, c := range cases {
		for _, t := range c.Tags {
			if !slices.Contains(all, t) {
				all = append(all, t)
			}
		}
	}
	if len(all) == 0 {
		return "no tags"
	}
	sort.Strings(all)
	return strings.Join(all, ", ")
}

// Input is a value that a run gives to the package.
type Input struct {
	Name    string  `json:"name"`
	About   string  `json:"about,omitempty"`
	Default *string `json:"default,omitempty"` // nil: the run must give it
	Secret  bool    `json:"secret,omitempty"`
}

// ShortestSecret is how long a secret must be at least: a shorter one can't be masked
// without hiding half of what is written.
const ShortestSecret = 4

const maxInput = 4096 // bytes

// Inputs puts together what a run gives and what the package declares. It answers the
// values of all inputs, and those among them that are secret.
func Inputs(declared []Input, plain, secret map[string]string) (values map[string]string, hidden []string, err error) {
	values = map[string]string{}
	known := map[string]bool{}
	for _, in := range declared {
		known[in.Name] = true
		v, given := plain[in.Name]
		s, hid := secret[in.Name]
		switch {
		case given && in.Secret:
			return nil, nil, fmt.Errorf("the input %s is secret: it must not be written out; give it with --secret-from-env %s=VARIABLE", in.Name, in.Name)
		case given && hid:
			return nil, nil, fmt.Errorf("the input %s is given twice", in.Name)
		case hid:
			if len(s) < ShortestSecret {
				return nil, nil, fmt.Errorf("the secret %s is shorter than %d characters: it could not be masked", in.Name, ShortestSecret)
			}
			v = s
			hidden = append(hidden, s)
		case !given && in.Default != nil:
			v = *in.Default
		case !given:
			return nil, nil, fmt.Errorf("the package wants the input %s (%s)", in.Name, in.About)
		}
		if len(v) > maxInput {
			return nil, nil, fmt.Errorf("the input %s has %d bytes; %d is the most", in.Name, len(v), maxInput)
		}
		values[in.Name] = v
	}
	for _, m := range []map[string]string{plain, secret} {
		for n := range m {
			if !known[n] {
				return nil, nil, fmt.Errorf("the package declares no input %s; declare it under inputs: in tessellant.yaml", n)
			}
		}
	}
	return values, hidden, nil
}
