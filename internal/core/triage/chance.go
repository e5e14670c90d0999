package triage

// How likely a rule is luck: the chances of Fisher's exact test, and what of them is left when the number of rules that were tried is taken into account (rule.go has the sources).

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

const (
	maxExact     = 30_000 // ways to choose the legs that fail, up to which all are tried
	permutations = 4000   // that are tried of more
)

// table has the chances of Fisher's exact test for n legs of which k failed.
type table struct {
	n, k   int
	logs   []float64         // of factorials
	known  map[int][]float64 // by size: the tails for each a
	random *rand.Rand
}

func newTable(n, k int) *table {
	t := &table{n: n, k: k, logs: make([]float64, n+1), known: map[int][]float64{}, random: rand.New(rand.NewPCG(uint64(n), uint64(k)))}
	for i := 1; i <= n; i++ {
		t.logs[i] = t.logs[i-1] + math.Log(float64(i))
	}
	return t
}

func (t *table) choose(n, k int) float64 { return t.logs[n] - t.logs[k] - t.logs[n-k] }

// chance is the logarithm of that of at least a failed ones among size, were they drawn from all.
func (t *table) chance(size, a int) float64 {
	tails, ok := t.known[size]
	if !ok {
		tails = t.tails(size)
		t.known[size] = tails
	}
	return tails[min(max(a, 0), len(tails)-1)]
}

// tails are the chances for each a from 0 to one more than there can be, the sums from behind.
func (t *table) tails(size int) []float64 {
	least, most := max(0, size-(t.n-t.k)), min(size, t.k)
	out := make([]float64, most+2)
	out[most+1] = math.Inf(-1)
	for x := most; x >= 0; x-- {
		out[x] = out[x+1]
		if x >= least {
			out[x] = min(add(out[x+1], t.choose(t.k, x)+t.choose(t.n-t.k, size-x)-t.choose(t.n, size)), 0)
		}
	}
	return out
}

// add is the logarithm of the sum of two numbers of which the logarithms are given.
func add(a, b float64) float64 {
	if a < b {
		a, b = b, a
	}
	if math.IsInf(b, -1) {
		return a
	}
	return a + math.Log1p(math.Exp(b-a))
}

// tail is the logarithm of the upper tail of the hypergeometric distribution: of n, k are marked, and size are drawn; at least a of them are marked.
func (t *table) tail(n, k, size, a int) float64 {
	choose := func(n, k int) float64 { return t.logs[n] - t.logs[k] - t.logs[n-k] }
	most, sum := math.Inf(-1), 0.0
	for x := max(a, 0, size-(n-k)); x <= min(size, k); x++ {
		l := choose(k, x) + choose(n-k, size-x) - choose(n, size)
		if l > most {
			sum, most = sum*math.Exp(most-l), l
		}
		sum += math.Exp(l - most)
	}
	return min(most+math.Log(sum), 0)
}

// asGood is by how much two logarithms of chances may differ and mean the same.
const asGood = 1e-9

// corrected is the chance that the best of the candidates does as well, were any k legs the ones that fail.
func (t *table) corrected(all []candidate, observed float64) float64 {
	// As many as are needed among a size for it to be as good.
	type kind struct {
		size   int
		weight float64
	}
	enough := map[kind]int{}
	sum := 0.0
	needs := make([]int, len(all))
	for i, c := range all {
		at := kind{c.size, c.weight}
		a, ok := enough[at]
		if !ok {
			for a = max(0, c.size-(t.n-t.k)); a <= min(c.size, t.k) && t.chance(c.size, a)-math.Log(c.weight) > observed+asGood; {
				a++
			}
			enough[at] = a
		}
		needs[i] = a
		if a <= min(c.size, t.k) {
			sum += math.Exp(t.chance(c.size, a))
		}
	}
	if sum <= LuckOfTwo { // the sum of all is a bound: Bonferroni
		return sum
	}
	var may []int // that can be, the likeliest first: most ways are settled by them
	for i, c := range all {
		if needs[i] <= min(c.size, t.k) {
			may = append(may, i)
		}
	}
	slices.SortStableFunc(may, func(a, b int) int {
		return cmp.Compare(t.chance(all[b].size, needs[b]), t.chance(all[a].size, needs[a]))
	})
	good := func(fails set) bool {
		for _, i := range may {
			if all[i].in.common(fails) >= needs[i] {
				return true
			}
		}
		return false
	}
	if t.choose(t.n, t.k) < math.Log(maxExact) {
		ways, as := 0, 0
		chosen(t.n, t.k, func(fails set) {
			ways++
			if good(fails) {
				as++
			}
		})
		return float64(as) / float64(ways)
	}
	order := make([]int, t.n)
	for i := range order {
		order[i] = i
	}
	as := 1
	fails := newSet(t.n)
	for tried := 1; tried <= permutations; tried++ {
		clear(fails)
		for i := range t.k { // the first k of a shuffle
			j := i + t.random.IntN(t.n-i)
			order[i], order[j] = order[j], order[i]
			fails.add(order[i])
		}
		if good(fails) {
			if as++; float64(as) > 2*Luck*permutations || tried >= 200 && float64(as) > 5*Luck*float64(tried) {
				return float64(as) / float64(tried+1) // it is luck, by far
			}
		}
	}
	return float64(as) / (permutations + 1)
}

// chosen gives all ways to choose k of n.
func chosen(n, k int, each func(set)) {
	at := make([]int, k)
	for i := range at {
		at[i] = i
	}
	s := newSet(n)
	for {
		clear(s)
		for _, i := range at {
			s.add(i)
		}
		each(s)
		i := k - 1
		for i >= 0 && at[i] == n-k+i {
			i--
		}
		if i < 0 {
			return
		}
		at[i]++
		for j := i + 1; j < k; j++ {
			at[j] = at[j-1] + 1
		}
	}
}
