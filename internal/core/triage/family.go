package triage

import (
	"cmp"
	"crypto/sha256"
	"maps"
	"slices"
	"strings"

	"tessellant/internal/core/verdict"
)

// Family is the failures of one signature, and of those that are nearly the same.
type Family struct {
	ID        string // of its signature: the same in every run
	Signature Signature
	Failures  []int // indices of the failures, in their order
	Legs      []int // of the run's, in their order
	Cases     []string
	Joined    []Joined // signatures that differ from the family's own by one word
}

// Joined is a signature that was taken into a family, and by what it differs.
type Joined struct {
	Signature Signature
	Own       string // the family's word; "": it has one less
	Other     string // that one's word
	Failures  int
}

// leastWords is how many words two messages must have for one of them to make no difference.
const leastWords = 5

// Gathered takes in failures one by one and keeps of each its place and its signature alone: a run may have a hundred thousand, each with a stack.
type Gathered struct {
	byID  map[string]*Family
	all   []*Family
	known map[[sha256.Size]byte]string // signatures' ids by texts: most failures of a run say the same
	at    []place
}

type place struct {
	leg int
	in  string // the case
}

// maxKnown is how many different texts are known by heart.
const maxKnown = 20_000

// Add takes in a failure and answers the id of its signature.
func (g *Gathered) Add(f Failure) string {
	if g.byID == nil {
		g.byID, g.known = map[string]*Family{}, map[[sha256.Size]byte]string{}
	}
	text := sha256.Sum256([]byte(strings.Join([]string{string(f.Kind), f.Check, f.Message, f.Trace}, "\x00")))
	id, ok := g.known[text]
	if !ok {
		s := Of(f)
		id = s.ID()
		if g.byID[id] == nil {
			g.byID[id] = &Family{ID: id, Signature: s}
			g.all = append(g.all, g.byID[id])
		}
		if len(g.known) < maxKnown {
			g.known[text] = id
		}
	}
	g.byID[id].Failures = append(g.byID[id].Failures, len(g.at))
	g.at = append(g.at, place{f.Leg, f.Case})
	return id
}

// Families puts failures into families: the gravest kind first, of one kind those with the most legs.
func Families(failures []Failure) []Family {
	g := Gathered{}
	for _, f := range failures {
		g.Add(f)
	}
	return g.Families()
}

// Families puts the failures into families: the gravest kind first, of one kind those with the most legs.
func (g *Gathered) Families() []Family {
	all := make([]*Family, 0, len(g.all))
	for _, f := range g.all {
		all = append(all, &Family{ID: f.ID, Signature: f.Signature, Failures: slices.Clone(f.Failures)})
	}
	// The largest keeps its name; what is like it is joined to it, and to nothing else: one word away from one word away is another message.
	slices.SortStableFunc(all, func(a, b *Family) int {
		return cmp.Or(cmp.Compare(len(b.Failures), len(a.Failures)), cmp.Compare(a.ID, b.ID))
	})
	near := neighbours{}
	var out []Family
	taken := map[string]*Family{}
	var kept []*Family
	for _, f := range all {
		if head, j, ok := near.find(f.Signature); ok {
			j.Failures = len(f.Failures)
			into := taken[head]
			into.Failures = append(into.Failures, f.Failures...)
			into.Joined = append(into.Joined, j)
			continue
		}
		near.add(f.ID, f.Signature)
		taken[f.ID] = f
		kept = append(kept, f)
	}
	for _, f := range kept {
		slices.Sort(f.Failures)
		legs, cases := map[int]bool{}, map[string]bool{}
		for _, i := range f.Failures {
			legs[g.at[i].leg], cases[g.at[i].in] = true, true
		}
		f.Legs, f.Cases = slices.Sorted(maps.Keys(legs)), slices.Sorted(maps.Keys(cases))
		out = append(out, *f)
	}
	slices.SortStableFunc(out, func(a, b Family) int {
		return cmp.Or(cmp.Compare(slices.Index(verdict.Order, a.Signature.Kind), slices.Index(verdict.Order, b.Signature.Kind)), cmp.Compare(len(b.Legs), len(a.Legs)),
			cmp.Compare(len(b.Failures), len(a.Failures)), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// neighbours finds signatures that differ by one word, by all that is left of each when one word of it is left out.
type neighbours map[string][]known

type known struct {
	id    string
	words []string
}

// rest is all of a signature but its message.
func (s Signature) rest() string {
	return strings.Join(append([]string{string(s.Kind), s.Check, s.Cause}, s.Frames...), "\x00")
}

// maxWords is how many words of a message count.
const maxWords = 200

func (s Signature) words() []string {
	w := strings.Fields(s.Message)
	return w[:min(len(w), maxWords)]
}

// leftOut gives a signature's keys: the message as it is (at -1), and with each word left out.
func leftOut(s Signature, each func(at int, key string) bool) {
	words, rest := s.words(), s.rest()
	if len(words) < leastWords || !each(-1, rest+"\x01"+strings.Join(words, " ")) {
		return
	}
	for i := range words {
		if !each(i, rest+"\x01"+strings.Join(slices.Concat(words[:i], words[i+1:]), " ")) {
			return
		}
	}
}

func (n neighbours) add(id string, s Signature) {
	leftOut(s, func(at int, key string) bool {
		n[key] = append(n[key], known{id, s.words()})
		return true
	})
}

func (n neighbours) find(s Signature) (id string, j Joined, ok bool) {
	words := s.words()
	leftOut(s, func(at int, key string) bool {
		for _, k := range n[key] {
			own, other, one := differ(k.words, words)
			if one && mayDiffer(own, other) {
				id, j, ok = k.id, Joined{Signature: s, Own: own, Other: other}, true
				return false
			}
		}
		return true
	})
	return id, j, ok
}

// Alike says whether two signatures are of one family: they are the same, or differ by one word that makes no difference.
func Alike(a, b Signature) bool {
	if a.ID() == b.ID() {
		return true
	}
	if a.rest() != b.rest() || len(a.words()) < leastWords || len(b.words()) < leastWords {
		return false
	}
	own, other, one := differ(a.words(), b.words())
	return one && mayDiffer(own, other)
}

// differ says by which word two texts differ, if it is one.
func differ(a, b []string) (own, other string, one bool) {
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	switch {
	case len(a) == len(b) && i < len(a) && slices.Equal(a[i+1:], b[i+1:]):
		return a[i], b[i], true
	case len(a) == len(b)+1 && slices.Equal(a[i+1:], b[i:]):
		return a[i], "", true
	case len(b) == len(a)+1 && slices.Equal(a[i:], b[i+1:]):
		return "", b[i], true
	}
	return "", "", false
}

// telling are words that turn what is said into its opposite, or into something else.
var telling = map[string]bool{"not": true, "no": true, "never": true, "without": true, "none": true, "nothing": true, "cannot": true, "isn't": true, "wasn't": true, "can't": true, "true": true, "false": true, "null": true, "too": true,
	"more": true, "less": true, "above": true, "below": true, "before": true, "after": true, "on": true, "off": true, "nicht": true, "kein": true, "keine": true, "ohne": true}

// mayDiffer says whether two words may stand for each other: none of them turns the meaning, and none names an element, a file or a thing of code.
func mayDiffer(a, b string) bool {
	for _, w := range []string{a, b} {
		if telling[strings.ToLower(strings.Trim(w, ".,;:!?()"))] || strings.ContainsAny(w, "#=[]_/$") || strings.Contains(strings.Trim(w, ".,;:"), ".") {
			return false
		}
	}
	return true
}
