package junit

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/verdict"
)

func read(t testing.TB, text string) []Case {
	t.Helper()
	var out []Case
	require.NoError(t, Read(strings.NewReader(text), func(c Case) error { out = append(out, c); return nil }))
	return out
}

func TestReportsAreReadAsRunnersWriteThem(t *testing.T) {
	at := time.Date(2026, 11, 20, 9, 30, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		text string
		want []Case
	}{
		"one suite at the root": {`<testsuite name="shores" timestamp="2026-11-20T09:30:00"><testcase classname="shore.Open" name="opens" time="1.5"/><testcase name="closes" time="0.5"><failure message="not closed" type="AssertionError">line 3
line 4</failure></testcase></testsuite>`, []Case{
			{Suite: "shores", Class: "shore.Open", Name: "opens", Verdict: verdict.Passed, Start: at, Took: 1500 * time.Millisecond},
			{Suite: "shores", Name: "closes", Verdict: verdict.Failed, Message: "not closed", Trace: "line 3\nline 4", Start: at.Add(1500 * time.Millisecond), Took: 500 * time.Millisecond}}},
		"suites in suites, names left out": {`<?xml version="1.0"?><testsuites><testsuite name="a"><testsuite name=""><testsuite name="b"><testcase name="x"/></testsuite></testsuite><testcase name="y"/></testsuite></testsuites>`,
			[]Case{{Suite: "a / b", Name: "x", Verdict: verdict.Passed}, {Suite: "a", Name: "y", Verdict: verdict.Passed}}},
		"errors, skips, both": {`<testsuites><testsuite><testcase name="e"><error type="TypeError">boom at once</error></testcase><testcase name="s"><skipped/></testcase><testcase name="m"><skipped message="later"/></testcase>
			<testcase name="two"><failure>first</failure><error>second</error></testcase><testcase name="status" status="notrun"/></testsuite></testsuites>`,
			[]Case{{Name: "e", Verdict: verdict.Failed, Errored: true, Message: "boom at once", Trace: "boom at once"}, {Name: "s", Verdict: verdict.Skipped}, {Name: "m", Verdict: verdict.Skipped, Message: "later"},
				{Name: "two", Verdict: verdict.Failed, Message: "first", Trace: "first"}, {Name: "status", Verdict: verdict.Skipped}}},
		"reruns": {`<testsuite><testcase name="f"><flakyFailure message="once">trace</flakyFailure></testcase><testcase name="r"><failure message="again"/><rerunFailure message="and again"/></testcase></testsuite>`,
			[]Case{{Name: "f", Verdict: verdict.Flaky, Message: "once", Trace: "trace", Reruns: 1}, {Name: "r", Verdict: verdict.Failed, Message: "again", Reruns: 1}}},
		"output and properties": {`<testsuite><properties><property name="os" value="x"/></properties><testcase name="o"><properties><property name="id" value="T-1"/></properties><system-out><![CDATA[a <b> & c]]></system-out><system-err>d</system-err></testcase><system-out>of the suite</system-out></testsuite>`,
			[]Case{{Name: "o", Verdict: verdict.Passed, Output: "a <b> & cd", Properties: map[string]string{"id": "T-1"}}}},
		"odd times": {`<testsuite><testcase name="a" time="1,234.5"/><testcase name="b" time="0,25"/><testcase name="c" time="12s"/><testcase name="d" time="-3"/><testcase name="e" time="soon"/><testcase name="f" time="PT1.5S"/></testsuite>`,
			[]Case{{Name: "a", Verdict: verdict.Passed, Took: 1234500 * time.Millisecond}, {Name: "b", Verdict: verdict.Passed, Took: 250 * time.Millisecond}, {Name: "c", Verdict: verdict.Passed, Took: 12 * time.Second},
				{Name: "d", Verdict: verdict.Passed}, {Name: "e", Verdict: verdict.Passed}, {Name: "f", Verdict: verdict.Passed, Took: 1500 * time.Millisecond}}},
		"characters that XML does not allow, and a > in an attribute": {"<testsuite><testcase name=\"a > b\"><failure message=\"\x1b[31mred\x1b[0m &#x1b; R&D &amp; x &\">x</failure></testcase></testsuite>",
			[]Case{{Name: "a > b", Verdict: verdict.Failed, Message: "[31mred[0m  R&D & x &", Trace: "x"}}},
		"another encoding":                          {"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><testsuite><testcase name=\"K\xfcste\"/></testsuite>", []Case{{Name: "Küste", Verdict: verdict.Passed}}},
		"two bytes a character":                     {"\xff\xfe" + wide(`<?xml version="1.0" encoding="utf-16"?><testsuite><testcase name="é"/></testsuite>`), []Case{{Name: "é", Verdict: verdict.Passed}}},
		"a comment and a CDATA that look like ends": {`<testsuite><!-- <testcase name="no"/> ]]> --><testcase name="a"><failure><![CDATA[ a ]] > ]]]]><![CDATA[> b ]]></failure></testcase></testsuite>`, []Case{{Name: "a", Verdict: verdict.Failed, Message: "a ]] > ]]> b", Trace: "a ]] > ]]> b"}}},
		"a case by itself":                          {`<testcase name="alone" timestamp="2026-11-20T09:30:00Z"/>`, []Case{{Name: "alone", Verdict: verdict.Passed, Start: at}}},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, read(t, c.text)) })
	}
}

func wide(s string) string {
	var b bytes.Buffer
	for _, r := range s {
		b.Write([]byte{byte(r), byte(r >> 8)})
	}
	return b.String()
}

func TestWhatIsNoReportIsRefusedWithItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"": ErrNone.Error() + ": it is empty", "<testsuites/>": ErrNone.Error(), "<html><body/></html>": "JUnit XML, line 1: it begins with <html>, not with <testsuites> or <testsuite>",
		"<testsuite>\n<testcase name=\"a\"/>\n<testcase name=\"b\">": "JUnit XML, line 3: it is cut off",
		strings.Repeat("<testsuite>", 200):                           "JUnit XML, line 1: suites are more than 100 deep in each other",
	} {
		err := Read(strings.NewReader(text), func(Case) error { return nil })
		require.Error(t, err, text)
		assert.Equal(t, want, err.Error())
	}
}

func TestATagThatIsMadeToBeSlowIsRefusedSoon(t *testing.T) {
	begin := time.Now()
	err := Read(strings.NewReader(`<testsuite><testcase name="`+strings.Repeat(">", 8<<20)), func(Case) error { return nil })
	require.ErrorContains(t, err, "a tag is longer than")
	assert.Less(t, time.Since(begin), 2*time.Second)
}

func TestALongTextIsNotHeldInMemory(t *testing.T) {
	long := &io.LimitedReader{R: zeroes{}, N: 200 << 20}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	r := io.MultiReader(strings.NewReader(`<testsuite><testcase name="a"><failure message="m"><![CDATA[`), long, strings.NewReader(`]]></failure></testcase><testcase name="b"/></testsuite>`))
	var got []string
	require.NoError(t, Read(r, func(c Case) error { got = append(got, fmt.Sprint(c.Name, len(c.Trace))); return nil }))
	assert.Equal(t, []string{fmt.Sprint("a", maxText), "b0"}, got)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20), "bytes allocated in all")
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = '0'
	}
	return len(b), nil
}

func TestWhatIsWrittenCanBeRead(t *testing.T) {
	in := Suite{Name: "orr-01", Start: time.Date(2026, 11, 20, 9, 30, 0, 0, time.UTC), Properties: [][2]string{{"os", "14"}}, Lost: "it was unplugged", Cases: []Case{
		{Name: "passes", Class: "shores", Verdict: verdict.Passed, Took: time.Second}, {Name: "fails", Verdict: verdict.Failed, Message: "a < b \x00", Trace: "x & y ]]>"},
		{Name: "crashes", Verdict: verdict.Crashed, Message: "died"}, {Name: "waits", Verdict: verdict.Skipped}, {Name: "wavers", Verdict: verdict.Flaky, Message: "once"}}}
	var b bytes.Buffer
	require.NoError(t, Write(&b, "run", []Suite{in}))
	require.NoError(t, xml.Unmarshal(b.Bytes(), &struct{ XMLName xml.Name }{}))
	assert.Contains(t, b.String(), `tests="6" failures="1" errors="2" skipped="1"`)
	var said []string
	for _, c := range read(t, b.String()) {
		said = append(said, c.Class+"/"+c.Name+" "+string(c.Verdict)+" "+c.Message)
	}
	assert.Equal(t, []string{"shores/passes passed ", "orr-01/fails failed a < b", "orr-01/crashes failed died", "orr-01/waits skipped ", "orr-01/wavers flaky once", "orr-01/the device failed it was unplugged"}, said)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`<testsuites><testsuite name="a" timestamp="2026-11-20T09:30:00"><testcase name="x" time="1"><failure message="m"><![CDATA[t]]></failure></testcase></testsuite></testsuites>`))
	f.Add([]byte("<testsuite><!--x--><testcase name='y'><system-out>o</system-out></testcase></testsuite>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		_ = Read(bytes.NewReader(b), func(c Case) error {
			if n++; len(c.Message) > maxText+10 || len(c.Trace) > maxText+10 {
				t.Fatal("more is kept than may be")
			}
			return nil
		})
	})
}

func TestACasesNameIsBoundedAndKeepsItsEnd(t *testing.T) {
	c := Case{Class: strings.Repeat("ü", 400), Name: strings.Repeat("n", 390)}
	assert.LessOrEqual(t, len(c.FullName()), 512, "what a database's column takes")
	assert.True(t, strings.HasSuffix(c.FullName(), "."+c.Name))
	assert.Equal(t, "shores / opens", Case{Suite: "shores", Class: "test", Name: "opens"}.FullName())
	assert.Equal(t, "opens", Case{Name: "opens"}.FullName())
}

func TestTimesOfAReportOnAnotherClock(t *testing.T) {
	zero := time.Date(2026, 11, 20, 9, 30, 0, 0, time.UTC)
	began := zero.Add(5 * time.Second)
	for at, want := range map[time.Duration]int64{7 * time.Second: 7000, 5 * time.Second: 5000, 4 * time.Second: 5000, 2 * time.Second: 0} {
		assert.Equal(t, want, Case{Start: zero.Add(at)}.On(zero, began), at)
	}
	assert.Zero(t, Case{}.On(zero, began), "the report does not say")
	assert.EqualValues(t, 1, Case{Start: zero}.On(zero, zero), "0 means that it is not known")
}

func TestCasesOfOneNameAreToldApart(t *testing.T) {
	got := Apart([]Case{{Name: "a", Verdict: verdict.Passed}, {Name: "a", Verdict: verdict.Failed, Message: "no"}, {Name: "a (2)"}, {Name: "a", Verdict: verdict.Passed}, {Class: "other", Name: "a"}, {Class: "other", Name: "a"}})
	var names []string
	for _, c := range got {
		names = append(names, c.FullName())
	}
	assert.Equal(t, []string{"a", "a (2)", "a (2) (2)", "a (3)", "other.a", "other.a (2)"}, names)
	assert.Equal(t, []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Passed}, []verdict.Verdict{got[0].Verdict, got[1].Verdict, got[3].Verdict}, "none was merged")
	many := make([]Case, 100_000)
	start := time.Now()
	Apart(many)
	assert.Less(t, time.Since(start), 5*time.Second)
}

func TestCasesFindTheirMarks(t *testing.T) {
	cases := []Case{{Class: "Tides", Name: "opens"}, {Class: "Shores", Name: "opens"}, {Class: "Shores", Name: "closes"}, {Class: "Shores", Name: "opens"}}
	marks := []Mark{{"opens", 1000}, {"opens", 9000}, {"Shores.closes", 12000}}
	assert.Equal(t, []int{1, 0, 2, -1}, Pair(cases, []int64{8800, 0, 0, 900}, marks), "the nearest where the time is known, else the first that is left")
	assert.Equal(t, []int{0, 1, 2, -1}, Pair(cases, make([]int64, 4), marks), "in their order")
	assert.Equal(t, []int{0, 1}, Pair(Apart([]Case{{Name: "opens"}, {Name: "opens"}}), make([]int64, 2), marks), "twins are marked by the one name")
	assert.Empty(t, Pair(nil, nil, marks))
}

// Whatever is written is read as Go's own XML reader reads it, and comes back as it was.
func TestAnyTextIsWrittenAndReadAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 4))
	pieces := []string{"tide", " ", "<", ">", "&", "&amp;", "\"", "'", "]]>", "<![CDATA[", "<!--", "-->", "ebb – 🌊", "\n", "\t", "</testcase>", "/>", "é", "=", "\x00", "\x1b[31m", "\ufffe", "\xff", "%s", "\\"}
	text := func() string {
		var b strings.Builder
		for range r.IntN(8) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		return b.String()
	}
	line := func() string {
		return strings.TrimSpace(strings.NewReplacer("\n", " ", "\t", " ").Replace(clean(text())))
	}
	verdicts := []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Skipped}
	for range 300 {
		in := Suite{Name: "orr-01"}
		for i := range 1 + r.IntN(6) {
			c := Case{Class: "shores", Name: fmt.Sprint(i, " ", text()), Verdict: verdicts[r.IntN(len(verdicts))], Took: time.Duration(r.IntN(100_000)) * time.Millisecond, Output: text()}
			if c.Verdict != verdict.Passed {
				c.Message, c.Trace = "said: "+line(), text()
			}
			in.Cases = append(in.Cases, c)
		}
		var b bytes.Buffer
		require.NoError(t, Write(&b, text(), []Suite{in}))
		var theirs struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
					Text    string `xml:",chardata"`
				} `xml:"failure"`
				Output string `xml:"system-out"`
			} `xml:"testsuite>testcase"`
		}
		require.NoError(t, xml.Unmarshal(b.Bytes(), &theirs), b.String())
		ours := read(t, b.String())
		require.Len(t, ours, len(in.Cases))
		require.Len(t, theirs.Cases, len(in.Cases))
		for i, c := range ours {
			given := in.Cases[i]
			assert.Equal(t, []any{given.Verdict, given.Took, "shores"}, []any{c.Verdict, c.Took, c.Class}, b.String())
			assert.Equal(t, clean(given.Name), c.Name, b.String())
			assert.Equal(t, theirs.Cases[i].Name, c.Name, b.String())
			assert.Equal(t, strings.TrimSpace(theirs.Cases[i].Output), c.Output, b.String())
			if f := theirs.Cases[i].Failure; f != nil {
				assert.Equal(t, strings.TrimSpace(f.Message), c.Message, b.String())
				assert.Equal(t, strings.TrimSpace(f.Text), c.Trace, b.String())
			}
		}
	}
}
