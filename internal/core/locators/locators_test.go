package locators_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
)

func TestTheBestLocatorComesFirst(t *testing.T) {
	send := &uitree.Element{Kind: "button", ID: "send", Text: "Send"}
	row := func(n int) *uitree.Element {
		return &uitree.Element{Kind: "group", Children: []*uitree.Element{{Kind: "text", ID: "name", Text: "Shore"}, {Kind: "text", Text: fmt.Sprintf("%d.8 m", n)}, {Kind: "image", Label: "Pinned"}}}
	}
	list := &uitree.Element{Kind: "list", ID: "tides", Children: []*uitree.Element{row(4), row(0)}}
	box := &uitree.Element{Kind: "group", ID: "sheet", Children: []*uitree.Element{{Kind: "group", Children: []*uitree.Element{{Kind: "switch"}}}, send}}
	x := locators.New(&uitree.Screen{Elements: []*uitree.Element{list, box}})
	for e, want := range map[*uitree.Element][]locators.Locator{
		send:                         {{By: locators.ID, CSS: "#send", Here: 1}, {By: locators.Text, CSS: `button[text="Send"]`, Here: 1}},
		box.Children[0].Children[0]:  {{By: locators.Way, CSS: "#sheet switch", Here: 1}},
		list.Children[1].Children[0]: {{By: locators.Way, CSS: "#tides > group:nth-of-type(2) > text:nth-of-type(1)", Here: 1}, {By: locators.ID, CSS: "#name", Here: 2}, {By: locators.Text, CSS: `text[text="Shore"]`, Here: 2}},
		list.Children[0].Children[1]: {{By: locators.Way, CSS: "#tides > group:nth-of-type(1) > text:nth-of-type(2)", Here: 1}, {By: locators.Text, CSS: `text[text="4.8 m"]`, Here: 1, Fickle: true}},
		list.Children[0].Children[2]: {{By: locators.Way, CSS: "#tides > group:nth-of-type(1) > image", Here: 1}, {By: locators.Label, CSS: `image[label="Pinned"]`, Here: 2}},
		list.Children[0]:             {{By: locators.Way, CSS: "#tides > group:nth-of-type(1)", Here: 1}},
	} {
		assert.Equal(t, want, x.Of(e))
	}
	one := locators.New(&uitree.Screen{Elements: []*uitree.Element{list}})
	assert.Equal(t, 0, one.Means("#send"))
	assert.Equal(t, 1, one.Means("#tides > group:nth-of-type(2)"))
}

func TestALocatorIsCountedOnTheSameScreenOfOthers(t *testing.T) {
	screen := func(more ...*uitree.Element) *locators.Index {
		return locators.New(&uitree.Screen{Elements: append([]*uitree.Element{{Kind: "text", ID: "title", Text: "Review"}, {Kind: "text", ID: "shore", Text: "Gull Ledge"}}, more...)})
	}
	send := &uitree.Element{Kind: "button", ID: "send", Text: "Send"}
	here := screen(send)
	other := locators.New(&uitree.Screen{Elements: []*uitree.Element{{Kind: "text", ID: "chart"}, {Kind: "button", ID: "send"}}})
	kept := []locators.Kept{{Device: "orr-05", Index: other}, {Device: "orr-05", Index: screen(send)}, {Device: "emu-03", Index: screen(send, send)}, {Device: "orr-03", Index: screen()}, {Device: "qui-01", Index: other}, {Device: "fen-01", Index: screen(send)}}
	others := here.Others(kept)
	counts := locators.Counts(others, here.Of(send)[0].CSS)
	assert.Equal(t, []locators.Count{{Device: "emu-03", N: 2}, {Device: "fen-01", N: 1}, {Device: "orr-03", N: 0}, {Device: "orr-05", N: 1}}, counts, "qui-01 kept no such screen")
	assert.Equal(t, "1 on 2 of 4; 0 on orr-03; 2 on emu-03", locators.Say(counts))
	assert.Equal(t, "1 on all 2", locators.Say([]locators.Count{{Device: "a", N: 1}, {Device: "b", N: 1}}))
	assert.Equal(t, "0 on a", locators.Say([]locators.Count{{Device: "a", N: 0}}))
	assert.Empty(t, locators.Say(nil))
}

// Whatever ids and texts apps have, a locator means what is said of it.
func TestLocatorsMeanWhatIsSaid(t *testing.T) {
	rnd := rand.New(rand.NewPCG(20, 3))
	words := []string{"", "", "send", "a b", `quote"d`, `back\slash`, "1st", "-", "--x", "-9", "Küste", "潮", "line\nbreak", "a.b:c", "#hash", "]", "4.8 m", "tab\there"}
	kinds := []string{"group", "text", "button", "list"}
	var grow func(depth int) []*uitree.Element
	grow = func(depth int) (out []*uitree.Element) {
		for range rnd.IntN(5) {
			e := &uitree.Element{Kind: kinds[rnd.IntN(len(kinds))], ID: words[rnd.IntN(len(words))], Text: words[rnd.IntN(len(words))], Label: words[rnd.IntN(len(words))]}
			if depth < 4 {
				e.Children = grow(depth + 1)
			}
			out = append(out, e)
		}
		return out
	}
	for range 60 {
		s := &uitree.Screen{Elements: grow(0)}
		x := locators.New(s)
		for _, e := range s.All() {
			all := x.Of(e)
			require.NotEmpty(t, all)
			assert.Equal(t, 1, all[0].Here, "the best means it alone: %v", all)
			for _, l := range all {
				found, err := s.Find(l.CSS)
				require.NoError(t, err, "%+v", l)
				assert.Len(t, found, l.Here, "%+v\n%s", l, s.XML())
				assert.Contains(t, found, e, "%+v", l)
				assert.Equal(t, l.Here, x.Means(l.CSS))
			}
		}
	}
}
