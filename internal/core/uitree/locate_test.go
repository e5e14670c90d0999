package uitree

import (
	"errors"
	"fmt"
	"math/rand"
	"strings"
	"testing"
	"time"

	"github.com/andybalholm/cascadia"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wide is a screen of n elements, half of them in one chain, the others beside each other.
func wide(n int) *Screen {
	top := &Element{Kind: "group", ID: "top", Text: "a"}
	in := top
	for i := range n / 2 {
		e := &Element{Kind: []string{"group", "text", "button"}[i%3], ID: fmt.Sprint("e", i), Text: strings.Repeat("ab", i%5), Enabled: i%2 == 0}
		in.Children = append(in.Children, e, &Element{Kind: "text", Text: "a"})
		in = e
	}
	return &Screen{Elements: []*Element{top}}
}

// hostile are locators that ended the process, or ran for hours.
var hostile = []string{
	`//*[starts-with(1,'a')]`, `//*[starts-with(@id,1)]`, `//*[sum('a')>0]`, `//*[sum(@id)>0]`, `//*[contains(1,2)]`, `//*[contains(@id,2)]`, `//*[ends-with(1,2)]`,
	`//*[substring(@id,'a')]`, `//*[substring(@id,1,'a')]`, `//*[substring(1,2,3)]`, `//*[substring(@id,-1)]`, `//*[substring(@id,1,99999999999)]`, `//*[replace(@id,'(','a')]`, `//*[matches(@id,'(')]`, `//*[string-length(1)]`,
	`//*[translate(1,2,3)]`, `//*[ceiling('a')]`, `//*[a:b]`, `//*[$a]`, `//*[1 div 0]`, `count(//*)`, `//*[position()=last() div 0]`, `//*[normalize-space(1)]`, `//*[-'a']`, `//*[name(1)]`, `//*[concat()]`, `//*[not()]`, `(`, `//`, `//*[`, `///`, "//*[\x00]",
	`//*[substring-before(@id,1)]`, `//*[substring-after(1,@id)]`, `//*[string(//*//*//*)]`, `//*[lower-case(1)]`,
	"//*" + strings.Repeat("[count(//*", 8) + ")>0" + strings.Repeat("])>0", 7) + "]",
	"//*" + strings.Repeat("[count(.//*", 12) + ")>0" + strings.Repeat("])>0", 11) + "]",
	strings.Repeat("//*", 100), strings.Repeat("//*/..", 100), "//*" + strings.Repeat("/preceding::*", 50), "//*" + strings.Repeat("/following::*/preceding::*", 40),
	"//*[" + strings.Repeat("(", 2000) + "1" + strings.Repeat(")", 2000) + "]", "//*[" + strings.Repeat("-", 4000) + "1]", "//*" + strings.Repeat("[.//*", 150) + strings.Repeat("]", 150),
	strings.Repeat("*:has(", 100) + "x" + strings.Repeat(")", 100), strings.Repeat("* ", 1500) + "nothing", strings.Repeat("* ~ ", 900) + "nothing", strings.Repeat("*:not(", 200) + "x" + strings.Repeat(")", 200),
	"*" + strings.Repeat(":nth-child(2n+1)", 200), "*" + strings.Repeat(`:contains("a")`, 250), "*" + strings.Repeat(":empty", 600), `*:matches(')`, `[id#=(a)]`, `:n\6ft(*)`, `*:has(* * * * * * * * * * * * nothing)`, strings.Repeat("*:has(* ", 18) + "nothing" + strings.Repeat(")", 18),
	":::", ":not(", "::before", "a > > b", "a,,b", "a,", ",a", "/* a", "\\", "[a=\\", "*:nth-child(99999999999999999999n)", "a\x00b",
}

func TestNoLocatorStopsTheProcessOrTakesLong(t *testing.T) {
	s := wide(400)
	for _, l := range hostile {
		for _, asXPath := range []bool{true, false} {
			start := time.Now()
			_, err := s.FindIn(nil, l, asXPath)
			var bad *BadLocator
			if err != nil {
				assert.True(t, errors.As(err, &bad), "%s: %v", l, err)
				assert.Less(t, len(err.Error()), 1500)
			}
			_ = CheckLocator(l)
			assert.Less(t, time.Since(start), 2*maxTime, l)
		}
	}
}

func TestALocatorThatTakesTooMuchWorkSaysSo(t *testing.T) {
	_, err := wide(400).Find("//*" + strings.Repeat("[count(//*", 6) + ")>0" + strings.Repeat("])>0", 5) + "]")
	assert.ErrorContains(t, err, "too much work")
	start := time.Now()
	_, err = wide(400).Find(strings.Repeat("*:has(* ", 15) + "nothing" + strings.Repeat(")", 15))
	require.NoError(t, err, "each question is asked once")
	assert.Less(t, time.Since(start), time.Second)
	for locator, says := range map[string]string{`//*[replace(@text,'a','b')]`: "no function replace", `//*[matches (@text,'a')]`: "no function matches", `*:matches(a)`: "no :matches", `[text#=(a)]`: "no patterns"} {
		assert.ErrorContains(t, CheckLocator(locator), says)
	}
	assert.NoError(t, CheckLocator(`//text[@text="replace(all)"]`))
	assert.NoError(t, CheckLocator(`text[text="a :matches(b) #="]`))
}

// selectors are right ones, for the comparison with the library.
var selectors = []string{"*", "text", "#e3", "group text", "group > text", "button + text", "group ~ *", "text:first-child", "*:not(text)", "*:not(text, button)", "*:has(button)", ":has(> x)", ":has(#e5) > text", "group:haschild(button)",
	`[text^="a"]`, `[text="a"], #e4`, `*:not(:has(*))`, "group group  text , button", "*:nth-child(2)", "text:nth-of-type(2n+1)", `[ id = "e1" ]`, `[text="a)b"] , text`, `#e\31 `, `#e\31 text`, "group /* c */ > text", ":not(group):not(text)", "*:has(text + text)", ":only-child", ":empty", ":root > *", "*:contains(\"a\")", "group:has(text:not(:first-child)) button"}

func TestSelectorsMeanWhatTheLibrarySays(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	var grow func(depth int) *Element
	grow = func(depth int) *Element {
		e := &Element{Kind: []string{"group", "text", "button"}[r.Intn(3)], ID: fmt.Sprint("e", r.Intn(8)), Text: []string{"", "a", "ab", "a)b"}[r.Intn(4)]}
		for range r.Intn(4) {
			if depth > 0 {
				e.Children = append(e.Children, grow(depth-1))
			}
		}
		return e
	}
	for range 40 {
		s := &Screen{Elements: []*Element{grow(5), grow(3)}}
		for _, l := range selectors {
			sel, err := cascadia.ParseGroup(l)
			got, bad := s.FindIn(nil, l, false)
			if err != nil {
				assert.Error(t, bad, l)
				continue
			}
			require.NoError(t, bad, l)
			s.index()
			var want []*Element
			for _, n := range cascadia.QueryAll(s.html, sel) {
				if e := s.byHTML[n]; e != nil {
					want = append(want, e)
				}
			}
			assert.Equal(t, want, got, l)
		}
	}
}

// FuzzLocators looks for locators that panic, or that take long, whatever the tree.
func FuzzLocators(f *testing.F) {
	for i, l := range append(hostile, selectors...) {
		f.Add(l, uint8(i), i%2 == 0)
	}
	f.Fuzz(func(t *testing.T, locator string, size uint8, asXPath bool) {
		s := wide(int(size))
		start := time.Now()
		_, err := s.FindIn(nil, locator, asXPath)
		var bad *BadLocator
		if err != nil && !errors.As(err, &bad) {
			t.Fatalf("%q: %v", locator, err)
		}
		if took := time.Since(start); took > 3*maxTime {
			t.Fatalf("%q took %s", locator, took)
		}
	})
}
