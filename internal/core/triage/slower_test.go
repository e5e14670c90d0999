package triage

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheRankSumIsThatOfTheTables(t *testing.T) {
	// Of the C(6,3) = 20 orders of three and three, one has the count 9, two have at least 8, four at least 7.
	assert.InDelta(t, 1.0/20, atLeast(3, 3, 9), 1e-12)
	assert.InDelta(t, 2.0/20, atLeast(3, 3, 8), 1e-12)
	assert.InDelta(t, 4.0/20, atLeast(3, 3, 7), 1e-12)
	assert.InDelta(t, 1, atLeast(4, 6, 0), 1e-12)
	assert.InDelta(t, 1.0/210, atLeast(4, 6, 24), 1e-12)
	// The approximation says about the same.
	var before, now []float64
	u := 0
	for i := range exactly + 1 {
		before, now = append(before, float64(i)), append(now, float64(i)+3.5)
	}
	for _, b := range before {
		for _, a := range now {
			if a > b {
				u++
			}
		}
	}
	assert.InDelta(t, atLeast(len(before), len(now), u), rankSum(before, now, float64(u)), 0.002)
}

func TestWhatIsSlowerIsSaidAndNoiseIsNot(t *testing.T) {
	rnd := rand.New(rand.NewPCG(9, 9))
	values := func(n int, of float64) (out []float64) {
		for range n {
			v := of * (1 + 0.1*rnd.NormFloat64())
			if rnd.IntN(20) == 0 {
				v *= 4 // now and then something else was going on
			}
			out = append(out, v)
		}
		return out
	}
	const tries = 1000
	alarms, found := 0, 0
	var by []float64
	for range tries {
		if _, is := Slower(values(10, 400), values(10, 400)); is {
			alarms++
		}
		if c, is := Slower(values(10, 400), values(10, 520)); is {
			found++
			by = append(by, c.By)
		}
	}
	t.Logf("of %d: %d false alarms; 30 %% slower is found %d times", tries, alarms, found)
	assert.LessOrEqual(t, alarms, tries/50)
	assert.GreaterOrEqual(t, found, tries*9/10)
	assert.InDelta(t, 120, middle(by), 15)
	_, is := Slower([]float64{400, 401, 399}, []float64{900})
	assert.False(t, is, "never by a single value")
	_, is = Slower([]float64{400, 400, 400, 400, 400}, []float64{401, 401, 401, 401, 401})
	assert.False(t, is, "by too little to matter")
	_, is = Slower([]float64{1, 1, 1, 1}, []float64{1, 1, 1, 1})
	assert.False(t, is)
}

func TestOfManyOnlyWhatIsNoChanceIsCalledSlower(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	draw := func(middle float64) (out []float64) {
		for range 12 {
			out = append(out, middle*(1+0.1*r.NormFloat64()))
		}
		return out
	}
	alarms, found := 0, 0
	for range 40 {
		var all []Compared
		for range 200 {
			all = append(all, Compared{draw(500), draw(500)})
		}
		all[42].Now = draw(700)
		all[7].Now = all[7].Now[:2] // too few
		grown, looked := SlowerOf(all)
		assert.Equal(t, 199, looked)
		if _, ok := grown[42]; ok {
			found++
		}
		delete(grown, 42)
		if len(grown) > 0 {
			alarms++
		}
	}
	t.Logf("of 40 runs with 200 measures and one that grew by 40 %%: %d found, %d with a false alarm", found, alarms)
	assert.GreaterOrEqual(t, found, 37)
	assert.LessOrEqual(t, alarms, 2)
	grown, looked := SlowerOf(nil)
	assert.Empty(t, grown)
	assert.Zero(t, looked)
}
