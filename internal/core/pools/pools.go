// Package pools says which devices a pool takes: all that its filter chooses, any few of them, or those that differ most.
//
// In: the devices that the filter chose, how many to take and how, the shares of users if they are known. Out: the devices, and what they
// cover (cover.go). The same devices in any order give the same answer.
package pools

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"

	"tessellant/internal/core/devices"
)

// How says how a pool takes devices.
type How string

// The ways.
const (
	All    How = "all"
	Any    How = "any"    // N of them, those that are free first
	Differ How = "differ" // the N that differ most
)

// Definition is what a pool is.
type Definition struct {
	Where   []string `json:"where,omitempty"` // a device filter
	Devices []string `json:"devices,omitempty"`
	Take    How      `json:"take"`
	N       int      `json:"n,omitempty"`
	Models  bool     `json:"models,omitempty"` // a device of it stands for any unit like it
	Shares  []Share  `json:"shares,omitempty"` // of users; of those that differ most
}

// MaxN is how many devices a pool may take where it says how many.
const MaxN = 1000

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// CheckName says why a pool can't be called so.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("a pool can't be named %.80q: use up to 63 small letters, digits, dots, dashes and underscores, and begin with a letter or a digit", name)
	}
	return nil
}

// Check says what is wrong with a definition.
func (d Definition) Check() error {
	f, err := devices.ParseFilter(d.Where, d.Devices)
	switch {
	case err != nil:
		return err
	case len(f.Pools()) > 0:
		return fmt.Errorf("a pool can't be made of other pools: write their filters instead of pool=%s", f.Pools()[0])
	case d.Take != All && d.Take != Any && d.Take != Differ:
		return fmt.Errorf("a pool takes all, any or differ, not %.40q", string(d.Take))
	case d.Take != All && (d.N < 1 || d.N > MaxN):
		return fmt.Errorf("a pool can't take %d devices: choose 1 to %d", d.N, MaxN)
	case d.Take == All && d.N != 0:
		return fmt.Errorf("a pool that takes all devices has no number: remove it, or say any or differ")
	case len(d.Shares) > 0 && d.Take != Differ:
		return fmt.Errorf("shares of users say which devices differ most: they go with differ alone")
	}
	return nil
}

// String says how the pool takes devices, such as "the 8 that differ most".
func (d Definition) String() string {
	s := "all"
	switch d.Take {
	case Any:
		s = fmt.Sprintf("any %d", d.N)
	case Differ:
		s = fmt.Sprintf("the %d that differ most", d.N)
	}
	if d.Models {
		s += ", any unit of each model"
	}
	return s
}

// Device is a device that the filter chose.
type Device struct {
	Facts devices.Facts
	Free  bool // it could begin now
	Ready bool // work can be planned on it
}

// Choice is which devices a pool takes.
type Choice struct {
	Serials []string // by serial
	Wanted  int      // how many it wants; 0: all
	Cover   *Cover   // what they cover; of those that differ most, and of all where it was asked for
}

// Choose takes devices. Those that are ready go before those that are not, and where any will do, those that are free before the others. Which
// differ most does not depend on what is free in this moment, as runs on them are to be compared; of units that have all values alike, a free one is taken.
func (d Definition) Choose(from []Device) (c Choice) {
	from = slices.Clone(from)
	slices.SortFunc(from, func(a, b Device) int {
		return cmp.Or(d.rank(a)-d.rank(b), cmp.Compare(a.Facts.Serial, b.Facts.Serial))
	})
	if d.Models {
		from = eachModel(from)
	}
	take := from
	c.Wanted = d.N
	switch d.Take {
	case Any:
		take = from[:min(d.N, len(from))]
	case Differ:
		var chosen []int
		chosen, c.Cover = cover(from, d.Shares, d.N)
		take = nil
		for _, i := range chosen {
			take = append(take, from[i])
		}
	}
	for _, x := range take {
		c.Serials = append(c.Serials, x.Facts.Serial)
	}
	slices.Sort(c.Serials)
	return c
}

// rank orders devices: those that are free, those that are not, those on which nothing can be planned.
func (d Definition) rank(x Device) int {
	switch {
	case !x.Ready:
		return 2
	case !x.Free && d.Take != Differ:
		return 1
	}
	return 0
}

// eachModel keeps one unit of those that are alike: the first.
func eachModel(from []Device) (out []Device) {
	seen := map[string]bool{}
	for _, d := range from {
		if k := d.Facts.Kind(); !seen[k] {
			seen[k] = true
			out = append(out, d)
		}
	}
	return out
}
