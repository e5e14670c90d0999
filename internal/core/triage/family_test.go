package triage

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/verdict"
)

const deathOfTheChart = `java.lang.NoSuchMethodError: No virtual method drawDoubleRoundRect(Landroid/graphics/RectF;FF)V in class Landroid/graphics/Canvas; (declaration of 'android.graphics.Canvas' appears in /system/framework/framework.jar!classes%d.dex)
	at org.kelpline.app.TideChart.onDraw(TideChart.java:%d)
	at android.view.View.draw(View.java:20207)
	at android.view.View.updateDisplayListIfDirty(View.java:19082)
	at org.kelpline.app.Shore$$Lambda$%d.run(Unknown Source:4)
	at java.lang.Thread.run(Thread.java:764)`

func TestWhatDiffersFromDeviceToDeviceIsTakenOut(t *testing.T) {
	for _, x := range []struct{ a, b string }{
		{`expected "6.5 %", but there was "29.0 %"`, `expected "6,5 %", but there was "24,0 %"`},
		{"no answer within 10s from http://tides.kelpline.example/shores?id=4", "no answer within 30s from https://10.0.2.2:8443/x"},
		{"line 14 of /data/user/0/org.kelpline.app/files/a.db is cut", "line 2077 of /data/user/10/org.kelpline.app/cache/b.db is cut"},
		{"view android.widget.Button@1f3a9c is gone", "view android.widget.Button@77b02e is gone"},
		{"survey 01M8PC1MXRGJBE5CZJC7SWHTFK was sent at 2026-11-30T14:05:11.123Z", "survey 01M8PBWQJ3E5M2M2AXP90P5Y85 was sent at 2026-11-29 09:00"},
		{"tapped at 270, 549 of 540×1080", "tapped at 12, 9 of 1080×2400"},
		{"the order 7c9e6679-7425-40de-944b-e07fc1f90ae7 is 0x7f3a large", "the order 16fd2706-8baf-433b-82eb-8c7fada847da is 0xAB large"},
		{"it   took\n1.5e3 ms", "it took 12 ms"},
		{`expected #send within 10s, but there was no such element among: #up, #title "Review", #r_shore and 3 more`, `expected #send within 10s, but there was no such element among: #r_wrack, "Nachweis" and 12 more`},
		{"a balance of 1’000.50 is missing", "a balance of 20 is missing"},
	} {
		assert.Equal(t, plain(strings.ReplaceAll(x.a, "’", "'")), plain(x.b))
	}
	for _, x := range []struct{ a, b string }{
		{"expected #receipt within 10s", "expected #send within 10s"},
		{"the title is wrong", "the total is wrong"},
		{"it is on", "it is off"},
	} {
		assert.NotEqual(t, plain(x.a), plain(x.b))
	}
	assert.LessOrEqual(t, len(plain(strings.Repeat("ä ", 40_000))), maxMessage)
}

func TestAStackSaysWhereInTheApp(t *testing.T) {
	for name, x := range map[string]struct {
		trace, cause string
		frames       []string
	}{
		"java":           {fmt.Sprintf(deathOfTheChart, 2, 41, 7), "java.lang.NoSuchMethodError", []string{"org.kelpline.app.TideChart.onDraw", "org.kelpline.app.Shore$$.run"}},
		"a device's log": {"FATAL EXCEPTION: main\nProcess: org.kelpline.app, PID: 4270\njava.lang.NoSuchMethodError: No virtual method\n\tat org.kelpline.app.TideChart.onDraw(TideChart.java:7)", "java.lang.NoSuchMethodError", []string{"org.kelpline.app.TideChart.onDraw"}},
		"java's root":    {"java.lang.RuntimeException: Unable to start\n\tat android.app.A.b(A.java:1)\n\tat org.kelpline.app.M.c(M.java:2)\nCaused by: java.io.IOException: disk\n\tat org.kelpline.app.Store.open(Store.java:9)\n\t... 3 more", "java.io.IOException", []string{"org.kelpline.app.Store.open"}},
		"python":         {"Traceback (most recent call last):\n  File \"/usr/lib/python3/dist-packages/unittest/case.py\", line 57, in run\n    x()\n  File \"/box/tests/tides.py\", line 12, in test_chart\n    look()\n  File \"/box/tests/look.py\", line 3, in look\n    raise AssertionError('no')\nAssertionError: no", "AssertionError", []string{"look.py look", "tides.py test_chart"}},
		"javascript":     {"AssertionError [ERR_ASSERTION]: no\n    at look (file:///box/tests/look.mjs:3:9)\n    at async test (/box/tests/tides.mjs:12:3)\n    at node:internal/test:1:1", "", []string{"look.mjs look", "tides.mjs test"}},
		"native":         {"Fatal signal 11 (SIGSEGV), code 1\n    #00 pc 0001f2a0  /system/lib64/libc.so (abort+88)\n    #01 pc 00000a10  /data/app/org.kelpline.app/lib/arm64/libtide.so (draw+16)", "SIGSEGV", []string{"libtide.so draw"}},
		"no one's":       {"java.lang.OutOfMemoryError: x\n\tat java.util.Arrays.copyOf(Arrays.java:1)", "java.lang.OutOfMemoryError", []string{"java.util.Arrays.copyOf"}},
		"none":           {"", "", nil},
	} {
		t.Run(name, func(t *testing.T) {
			cause, frames := read(x.trace)
			if x.cause != "" {
				assert.Equal(t, x.cause, cause)
			}
			assert.Equal(t, x.frames, frames)
		})
	}
}

func TestFailuresOfOneFaultAreOneFamily(t *testing.T) {
	var all []Failure
	for leg := range 3 {
		all = append(all, Failure{Leg: leg, Case: "tides.test_chart", Kind: verdict.Crashed, Message: "java.lang.NoSuchMethodError: No virtual method", Trace: fmt.Sprintf(deathOfTheChart, leg, 41+leg, leg)})
	}
	for leg := range 5 {
		all = append(all, Failure{Leg: 3 + leg, Case: "survey.test_total", Kind: verdict.Failed, Check: "the total cover", Message: fmt.Sprintf(`the total cover: expected "6.5 %%", but there was "%d.0 %%"`, leg)})
	}
	all = append(all, Failure{Leg: 2, Case: "survey.test_send", Kind: verdict.Failed, Message: "expected #receipt within 10s, but there was a screen without it"},
		Failure{Leg: 9, Case: "survey.test_send", Kind: verdict.Failed, Message: "expected #receipt within 10s, but there was a dialog without it"},
		Failure{Leg: 9, Case: "survey.test_send", Kind: verdict.Failed, Message: "expected #receipt within 10s, but there was a screen not without it"},
		Failure{Leg: 9, Case: "survey.test_send", Kind: verdict.Failed, Message: "expected #review within 10s, but there was a screen without it"})
	got := Families(all)
	require.Len(t, got, 5)
	assert.Equal(t, []int{0, 1, 2}, got[0].Legs, "the gravest first")
	assert.Equal(t, []int{3, 4, 5, 6, 7}, got[1].Legs, "then the largest")
	assert.Equal(t, []string{"survey.test_total"}, got[1].Cases)
	joined := got[2]
	require.Len(t, joined.Joined, 1)
	assert.ElementsMatch(t, []string{"screen", "dialog"}, []string{joined.Joined[0].Own, joined.Joined[0].Other}, "it says why the two are one")
	assert.Equal(t, []int{2, 9}, joined.Legs)
	assert.Equal(t, got, Families(all), "the same for the same")
	again := slicesReversed(all)
	assert.Equal(t, got[1].ID, Families(again)[1].ID, "the name of a family is that of its signature")
}

func slicesReversed(in []Failure) (out []Failure) {
	for i := len(in) - 1; i >= 0; i-- {
		out = append(out, in[i])
	}
	return out
}

// messages are sets of messages of which is known what belongs together.
func messages(rnd *rand.Rand) (all []Failure, truth []int) {
	words := strings.Fields("tide shore survey quadrat kelp chart total cover note review draft receipt list search pool ledge reading height window count button field screen row answer server entry page")
	word := func() string { return words[rnd.IntN(len(words))] }
	n := 2 + rnd.IntN(12)
	for family := range n {
		kind := []verdict.Verdict{verdict.Crashed, verdict.Failed, verdict.Failed, verdict.Expired}[rnd.IntN(4)]
		form := make([]string, 6+rnd.IntN(8))
		for i := range form {
			form[i] = word()
		}
		form[0] = fmt.Sprint("the", string(rune('a'+family)), word()) // no two families say the same
		class := fmt.Sprintf("org.kelpline.app.%s%c", strings.ToUpper(word()), 'A'+rune(family))
		variant := rnd.IntN(len(form)-1) + 1
		for range 1 + rnd.IntN(20) {
			said := append([]string(nil), form...)
			for i := range said {
				if i%4 == 3 {
					said[i] = []string{fmt.Sprint(rnd.IntN(1e6)), fmt.Sprintf("%q", word()), fmt.Sprintf("/data/%s/%d", word(), rnd.IntN(99)), fmt.Sprintf("0x%x", rnd.Uint32()), fmt.Sprintf("http://%s.example/%d", word(), rnd.IntN(9)), fmt.Sprintf("%d,%d", rnd.IntN(99), rnd.IntN(99))}[(family+i)%6]
				}
			}
			if rnd.IntN(6) == 0 && variant%4 != 3 {
				said[variant] = word() // one word apart
			}
			f := Failure{Leg: len(all), Kind: kind, Message: strings.Join(said, " ")}
			if kind == verdict.Crashed {
				f.Trace = fmt.Sprintf("java.lang.IllegalStateException: %s\n\tat %s.on%s(X.java:%d)\n\tat android.view.View.draw(View.java:%d)", f.Message, class, "Draw", rnd.IntN(400), rnd.IntN(9000))
			}
			all, truth = append(all, f), append(truth, family)
		}
	}
	rnd.Shuffle(len(all), func(i, j int) { all[i], all[j], truth[i], truth[j] = all[j], all[i], truth[j], truth[i] })
	return all, truth
}

// agreement is the adjusted Rand index of two groupings (Hubert and Arabie, Comparing partitions, Journal of Classification 2, 1985).
func agreement(a, b []int) float64 {
	type cell struct{ x, y int }
	both, left, right := map[cell]int{}, map[int]int{}, map[int]int{}
	for i := range a {
		both[cell{a[i], b[i]}]++
		left[a[i]]++
		right[b[i]]++
	}
	pairs := func(n int) float64 { return float64(n) * float64(n-1) / 2 }
	var index, l, r float64
	for _, n := range both {
		index += pairs(n)
	}
	for _, n := range left {
		l += pairs(n)
	}
	for _, n := range right {
		r += pairs(n)
	}
	expected := l * r / pairs(len(a))
	if (l+r)/2 == expected {
		return 1
	}
	return (index - expected) / ((l+r)/2 - expected)
}

func TestFamiliesAreThoseThatAreKnown(t *testing.T) {
	sum, least := 0.0, 1.0
	const sets = 100
	for seed := range uint64(sets) {
		all, truth := messages(rand.New(rand.NewPCG(seed, 18)))
		found := make([]int, len(all))
		for k, f := range Families(all) {
			for _, i := range f.Failures {
				found[i] = k
			}
		}
		a := agreement(truth, found)
		sum, least = sum+a, min(least, a)
	}
	t.Logf("adjusted Rand index of %d sets: %.3f on average, %.3f at least", sets, sum/sets, least)
	assert.GreaterOrEqual(t, sum/sets, 0.95)
}

func FuzzSignatures(f *testing.F) {
	f.Add(`expected "a", but 'b' was there at 10:11 in /x/y`, fmt.Sprintf(deathOfTheChart, 1, 2, 3))
	f.Add("", "Traceback\n  File \"a\", line 1, in b\nE: x")
	f.Fuzz(func(t *testing.T, message, trace string) {
		a := Of(Failure{Kind: verdict.Failed, Message: message, Trace: trace})
		require.LessOrEqual(t, len(a.Frames), maxFrames)
		require.Equal(t, a, Of(Failure{Kind: verdict.Failed, Message: message, Trace: trace}))
		require.Len(t, Families([]Failure{{Message: message, Trace: trace}, {Leg: 1, Message: message, Trace: trace}}), 1)
	})
}
