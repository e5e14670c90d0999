package remarks

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
)

// Seen is what of a screen is held against the same moment elsewhere.
type Seen struct {
	Parts   []Part  `json:"parts"`
	Scrolls bool    `json:"scrolls,omitempty"` // there may be more
	Font    float64 `json:"font,omitempty"`    // the font scale; 0: 1
}

// Part is a control or a text.
type Part struct {
	Key     string  `json:"key"`
	What    string  `json:"what"`
	Text    string  `json:"text,omitempty"`
	Control bool    `json:"control,omitempty"`
	High    float64 `json:"high,omitempty"` // dp, of the letters; 0: not known
}

const (
	maxParts  = 120
	usual     = 0.6  // of the others that show a control, for it to be missing here
	samePage  = 0.5  // of what the smaller one of two screens shows that the other one shows too, for them to be the same page
	fewest    = 2    // others that show it
	maxPeers  = 40   // others that are looked at
	fontApart = 1.15 // two font scales that differ by less tell nothing
)

// See gives what of a screen is held against others.
func See(s Screen) (out Seen) {
	if s.Tree == nil || s.Scale <= 0 {
		return out
	}
	out.Font = s.Font
	has := map[string]bool{}
	for _, p := range s.elements() {
		e := p.Element
		out.Scrolls = out.Scrolls || e.Scrollable
		if e.Bounds.Empty() || len(out.Parts) >= maxParts {
			continue
		}
		control := isControl(e) && e.Enabled && !p.inControl()
		if !control && e.Text == "" || has[keyOf(e)] {
			continue
		}
		has[keyOf(e)] = true
		part := Part{Key: keyOf(e), What: nameOf(e), Control: control}
		if e.Text != "" && len(e.Children) == 0 {
			part.Text = cut(e.Text)
			if look, ok := s.ink(e); ok {
				part.High = look.high
			}
		}
		out.Parts = append(out.Parts, part)
	}
	return out
}

func cut(s string) string {
	if r := []rune(s); len(r) > maxName {
		return string(r[:maxName])
	}
	return s
}

// Place is one leg's screen at the moment that is looked at.
type Place struct {
	Seen
	Device string // screens of one device are held against each other, too
}

// Across holds the same moment on several devices against each other. It gives the remarks of each place.
func Across(places []Place) [][]Remark {
	out := make([][]Remark, len(places))
	has := make([]map[string]bool, len(places))
	for i, p := range places {
		has[i] = map[string]bool{}
		for _, x := range p.Parts {
			has[i][x.Key] = true
		}
	}
	for i, p := range places {
		if !p.Scrolls && len(p.Parts) > 0 {
			out[i] = missing(i, places, has)
		}
	}
	fixed(places, out)
	return out
}

// missing finds the controls that most others of the same page show, and place i does not.
func missing(i int, places []Place, has []map[string]bool) (out []Remark) {
	type count struct {
		Part
		shows, not int
	}
	found := map[string]*count{}
	var peers []int
	for j := range places {
		if j != i && len(peers) < maxPeers && samePlace(has[i], has[j]) {
			peers = append(peers, j)
		}
	}
	for _, j := range peers {
		for _, x := range places[j].Parts {
			if x.Control && !has[i][x.Key] && found[x.Key] == nil {
				found[x.Key] = &count{Part: x}
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(found)) {
		c := found[k]
		for _, j := range peers {
			switch {
			case has[j][k]:
				c.shows++
			case !places[j].Scrolls:
				c.not++
			}
		}
		if c.shows >= fewest && float64(c.shows) >= usual*float64(c.shows+c.not) {
			out = append(out, Remark{Kind: Missing, Key: k, What: c.What, Says: fmt.Sprintf("%s is not on the screen, and the screen does not scroll; %d of %d others show it", c.What, c.shows, c.shows+c.not)})
		}
	}
	return out
}

// samePlace says whether two screens are the same page of the app.
func samePlace(a, b map[string]bool) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	both := 0
	for k := range a {
		if b[k] {
			both++
		}
	}
	return both > 0 && float64(both) >= samePage*float64(len(a))
}

// fixed finds texts that are as high with a larger font scale as with a smaller one, on the same device.
func fixed(places []Place, out [][]Remark) {
	type text struct{ device, key, said string }
	type seen struct {
		place int
		font  float64
		Part
	}
	at := map[text][]seen{}
	var order []text
	for i, p := range places {
		for _, x := range p.Parts {
			if t := (text{p.Device, x.Key, x.Text}); x.Text != "" && x.High > 0 {
				if at[t] == nil {
					order = append(order, t)
				}
				at[t] = append(at[t], seen{i, cmp.Or(p.Font, 1), x})
			}
		}
	}
	for _, t := range order {
		small := slices.MinFunc(at[t], func(a, b seen) int { return cmp.Compare(a.font, b.font) })
		for _, x := range at[t] {
			if grew := x.font / small.font; grew >= fontApart && x.High < small.High*(1+(grew-1)/3) {
				out[x.place] = append(out[x.place], Remark{Kind: Fixed, Key: t.key, What: x.What, Says: fmt.Sprintf("%s does not grow with the font size: its letters are %.0f dp high with font scale %.2g, and %.0f dp with %.2g", x.What, small.High, small.font, x.High, x.font)})
			}
		}
	}
}
