package devices

// Filters, and the grammar in which they are written: the one place that reads it, for requests, commands, run files, capabilities and
// the console alike.
//
//	filter  = pattern …                      all must hold
//	pattern = trait op value {"," value}     any one of the values will do; with != none of them may
//	trait   = one of Names | "label:" name | "pool"
//	op      = "=" | "!=" | ">=" | "<=" | ">" | "<"      those with < and > take one number, such as 8.1
//	value   = glob | "/" regular expression "/"
//
// A glob has * for any letters, ? for one, [ab] for one of several. A regular expression is RE2's, and need match only a part. Case
// never counts. A slash inside a regular expression is written \/.

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"tessellant/internal/core/nearest"
	"tessellant/internal/core/versions"
)

// OfPool is the trait by which a pool is named.
const OfPool = "pool"

// Bounds of a filter.
const (
	MaxPattern  = 4000 // bytes of one pattern
	MaxPatterns = 100
)

var operators = []string{">=", "<=", "!=", "=", ">", "<"}

// Pattern is one pattern over one trait.
type Pattern struct {
	Trait  string
	Op     string
	Values []string // as they were written; for the comparing ones just one

	hits  []func(string) bool // one for each value
	units map[string]bool     // of the pools, once they were looked up
}

// Filter chooses devices: all patterns must hold, and the serial must be one of Units unless that is empty.
type Filter struct {
	Where []Pattern
	Units []string
}

// Mistake is what is wrong with a pattern.
type Mistake struct {
	Pattern string
	At      int    // the letter at which it is, from 1
	Why     string // what is wrong, and what was expected
	Nearest string // what was probably meant; "": nothing is like it
}

func (m *Mistake) Error() string {
	s := fmt.Sprintf("in the device filter %q, at letter %d: %s", m.Pattern, m.At, m.Why)
	if m.Nearest != "" {
		s += fmt.Sprintf("; was %s meant?", m.Nearest)
	}
	return s
}

// ParsePattern reads "os>=10", "maker=Orrery,Fennel", "model=Skerry*", "serial=/^orr-0[1-3]$/" or "label:desk=3". The error is a *Mistake.
func ParsePattern(s string) (Pattern, error) {
	wrong := func(at int, nearest, format string, args ...any) (Pattern, error) {
		shown := s
		if len(shown) > 200 {
			shown = strings.ToValidUTF8(shown[:200], "") + "…"
		}
		return Pattern{}, &Mistake{shown, len([]rune(s[:min(at, len(s))])) + 1, fmt.Sprintf(format, args...), nearest}
	}
	if len(s) > MaxPattern {
		return wrong(MaxPattern, "", "it goes on for %d bytes; %d is the most", len(s), MaxPattern)
	}
	i := strings.IndexAny(s, "=!<>")
	if i < 0 {
		return wrong(len(s), "", "an operator is missing; write trait=value, such as maker=Orrery or os>=10")
	}
	p := Pattern{Trait: strings.TrimSpace(s[:i])}
	label, isLabel := strings.CutPrefix(p.Trait, OfLabel)
	if !isLabel { // people chose the case of a label's name
		p.Trait = strings.ToLower(p.Trait)
	}
	for _, op := range operators {
		if strings.HasPrefix(s[i:], op) {
			p.Op = op
			break
		}
	}
	rest := i + len(p.Op)
	switch {
	case p.Trait == "":
		return wrong(0, "", "a trait is missing before %q; the traits are %s, label:NAME, pool", s[i:], strings.Join(Names, ", "))
	case isLabel && label == "":
		return wrong(len(OfLabel), "", "the name of a label is missing after label:, such as label:desk=3")
	case !isLabel && p.Trait != OfPool && !slices.Contains(Names, p.Trait):
		return wrong(strings.Index(s, strings.TrimSpace(s[:i])), nearest.Word(p.Trait, append([]string{OfPool}, Names...)),
			"there is no trait %q; the traits are %s, label:NAME, pool", p.Trait, strings.Join(Names, ", "))
	case p.Op == "":
		return wrong(i, "!=", "%q is no operator; they are = != >= <= > <", s[i:i+1])
	case strings.TrimSpace(s[rest:]) == "":
		return wrong(len(s), "", "a value for %s is missing after %s", p.Trait, p.Op)
	case p.Trait == OfPool && p.Op != "=" && p.Op != "!=":
		return wrong(i, "=", "a pool is named with = or !=, not with %s", p.Op)
	}
	if strings.ContainsAny(p.Op, "<>") {
		v := strings.TrimSpace(s[rest:])
		if _, ok := versions.Compare(v, v); !ok {
			return wrong(rest, "", "%q is not a number, such as 10 or 8.1; %s compares numbers", v, p.Op)
		}
		p.Values, p.hits = []string{v}, []func(string) bool{compares(p.Op, v)}
		return p, nil
	}
	for at := rest; at <= len(s); {
		v, next, err := value(s, at)
		if err != nil {
			return wrong(at, "", "%v", err)
		}
		from := at + len(s[at:]) - len(strings.TrimLeft(s[at:], " "))
		at = next
		if v == "" && p.Trait != "place" && len(p.Values) > 0 && next > len(s) {
			return wrong(len(s), "", "a value is missing after the comma")
		}
		p.Values = append(p.Values, v)
		if p.Trait == OfPool {
			continue
		}
		hit, err := matches(v)
		if err != nil {
			return wrong(from, "", "%v", err)
		}
		p.hits = append(p.hits, hit)
	}
	return p, nil
}

// value reads one value that begins at a place of the text, and says where the next begins; behind the end: there is none.
func value(s string, at int) (v string, next int, err error) {
	from := at + len(s[at:]) - len(strings.TrimLeft(s[at:], " "))
	if !strings.HasPrefix(s[from:], "/") {
		end := strings.IndexByte(s[at:], ',')
		if end < 0 {
			return strings.TrimSpace(s[at:]), len(s) + 1, nil
		}
		return strings.TrimSpace(s[at : at+end]), at + end + 1, nil
	}
	for i := from + 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '/':
			after := strings.TrimLeft(s[i+1:], " ")
			switch {
			case after == "":
				return s[from : i+1], len(s) + 1, nil
			case after[0] == ',':
				return s[from : i+1], len(s) - len(after) + 1, nil
			}
			return "", 0, fmt.Errorf("behind the regular expression %s a comma or the end was expected, not %q; a slash inside it is written \\/", s[from:i+1], after)
		}
	}
	return "", 0, fmt.Errorf("the regular expression %s is not closed with a slash", s[from:])
}

// matches makes of a value what tells whether a trait has it.
func matches(v string) (func(string) bool, error) {
	if strings.HasPrefix(v, "/") {
		re, err := regexp.Compile("(?i)" + strings.ReplaceAll(v[1:len(v)-1], `\/`, "/"))
		if err != nil {
			return nil, fmt.Errorf("%s is no regular expression (RE2): %s", v, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
		return re.MatchString, nil
	}
	low := strings.ToLower(v)
	if !strings.ContainsAny(v, `*?[\`) {
		return func(s string) bool { return strings.EqualFold(s, v) }, nil
	}
	if _, err := path.Match(low, ""); err != nil {
		return nil, fmt.Errorf("the pattern %q has an open bracket", v)
	}
	return func(s string) bool {
		ok, _ := path.Match(low, strings.ToLower(s))
		return ok
	}, nil
}

func compares(op, with string) func(string) bool {
	return func(s string) bool {
		order, ok := versions.Compare(s, with)
		switch {
		case !ok:
			return false
		case op == ">=":
			return order >= 0
		case op == "<=":
			return order <= 0
		case op == ">":
			return order > 0
		}
		return order < 0
	}
}

// ParseFilter reads patterns as ParsePattern does, and takes units as they are.
func ParseFilter(where, units []string) (Filter, error) {
	f := Filter{Units: units}
	if len(where) > MaxPatterns {
		return f, fmt.Errorf("a device filter of %d patterns is too long; %d is the most", len(where), MaxPatterns)
	}
	for _, w := range where {
		p, err := ParsePattern(w)
		if err != nil {
			return f, err
		}
		f.Where = append(f.Where, p)
	}
	return f, nil
}

// Pools are the names of the pools that the filter names.
func (f Filter) Pools() (names []string) {
	for _, p := range f.Where {
		if p.Trait == OfPool {
			names = append(names, p.Values...)
		}
	}
	return names
}

// LookUp says which units the pools are that the filter names. Until then, none is in any.
func (f Filter) LookUp(pools map[string][]string) {
	for i, p := range f.Where {
		if p.Trait != OfPool {
			continue
		}
		f.Where[i].units = map[string]bool{}
		for _, name := range p.Values {
			for _, serial := range pools[name] {
				f.Where[i].units[serial] = true
			}
		}
	}
}

// String writes the pattern as ParsePattern reads it.
func (p Pattern) String() string { return p.Trait + p.Op + strings.Join(p.Values, ",") }

// String writes the filter in one line; an empty one is "any device".
func (f Filter) String() string {
	var parts []string
	for _, p := range f.Where {
		parts = append(parts, p.String())
	}
	if len(f.Units) > 0 {
		parts = append(parts, "serial="+strings.Join(f.Units, ","))
	}
	if len(parts) == 0 {
		return "any device"
	}
	return strings.Join(parts, " ")
}

// Match reports whether the filter chooses this device.
func (f Filter) Match(d Facts) bool {
	for _, p := range f.Where {
		if !p.holds(d) {
			return false
		}
	}
	return len(f.Units) == 0 || slices.Contains(f.Units, d.Serial)
}

func (p Pattern) holds(d Facts) bool {
	is := p.units[d.Serial]
	if p.Trait != OfPool {
		v := d.Trait(p.Trait)
		is = slices.ContainsFunc(p.hits, func(hit func(string) bool) bool { return hit(v) })
	}
	return is == (p.Op != "!=")
}
