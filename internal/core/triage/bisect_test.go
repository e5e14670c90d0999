package triage

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestASteadyCaseIsBisectedInFewTries(t *testing.T) {
	most := 0
	for first := 1; first < 64; first++ {
		b := NewBisect(64, 0, 0)
		for build, more := b.Next(); more; build, more = b.Next() {
			b.Saw(build, build >= first)
		}
		good, bad, unsure := b.Answer()
		assert.Equal(t, []int{first - 1, first}, []int{good, bad})
		assert.LessOrEqual(t, unsure, Unsure)
		most = max(most, b.Tries())
	}
	t.Logf("64 builds: %d tries at most", most)
	assert.LessOrEqual(t, most, 8)
	b := NewBisect(2, 0, 0)
	_, more := b.Next()
	assert.False(t, more, "of two builds nothing is to be tried")
	_, bad, _ := b.Answer()
	assert.Equal(t, 1, bad)
}

func TestACaseThatWaversDoesNotMislead(t *testing.T) {
	rnd := rand.New(rand.NewPCG(64, 10))
	const histories = 100
	right, tries := 0, 0
	for range histories {
		first := 1 + rnd.IntN(63)
		b := NewBisect(64, 0.1, 0.1)
		for build, more := b.Next(); more; build, more = b.Next() {
			fails := build >= first
			if rnd.IntN(10) == 0 {
				fails = !fails
			}
			b.Saw(build, fails)
		}
		if _, bad, _ := b.Answer(); bad == first {
			right++
		}
		tries += b.Tries()
	}
	t.Logf("flaky at 10 %%: right in %d of %d, %.1f tries on average", right, histories, float64(tries)/histories)
	assert.GreaterOrEqual(t, right, 95)
}

func TestABuildOnWhichTheCaseCanNotBeJudgedIsPassedOver(t *testing.T) {
	for first := 1; first < 16; first++ {
		b := NewBisect(16, 0, 0)
		tried := map[int]int{}
		for build, more := b.Next(); more; build, more = b.Next() {
			if tried[build]++; build == 7 || build == 8 {
				b.Skip(build)
				continue
			}
			b.Saw(build, build >= first)
			if !assert.Less(t, b.Tries(), 40) {
				return
			}
		}
		assert.LessOrEqual(t, tried[7]+tried[8], 2)
		good, bad, unsure := b.Answer()
		if first < 7 || first > 9 {
			assert.Equal(t, []int{first - 1, first}, []int{good, bad})
			assert.LessOrEqual(t, unsure, Unsure)
		} else {
			assert.Greater(t, unsure, Unsure, "it says that it is not sure")
			assert.Contains(t, []int{7, 8, 9}, bad)
		}
	}
}
