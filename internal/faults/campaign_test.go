package faults

// One fault after the other, at random moments, on one service, host and set of phones.

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/api"
)

var (
	rounds = flag.Int("rounds", 3, "runs with a fault in TestCampaign")
	seed   = flag.Uint64("seed", 0, "of the campaign; 0: the time")
)

// mixed is a package that does a bit of everything in about five seconds.
const mixed = `def test_walk(phone):
    phone.launch()
    phone.tap("#shore_gull-ledge")
    phone.find("#tide_0")
    phone.step("tides")
    phone.background(1)
    phone.back()

def test_type(phone):
    phone.launch()
    phone.type("#search", "tern")
    phone.step("searched")
    phone.background(1)
    check.contains(phone.read("#shore_tern-rocks"), "Tern")

def test_wait(phone):
    phone.launch()
    for i in range(2):
        phone.find("#title")
        phone.step("look %d" % i)
        phone.background(1)
`

// fault is something that goes wrong: what, and what a run may come out as then.
type fault struct {
	name string
	pkg  string
	// strike makes it happen to a run that has been going for a random while.
	strike func(l *lab, rnd *rand.Rand, run *api.Run)
	// verdicts are those that say what happened; the runs pass unless said otherwise.
	verdicts []api.Verdict
}

func pause(rnd *rand.Rand, most time.Duration) { time.Sleep(time.Duration(rnd.Int64N(int64(most)))) }

var faultsThere = []fault{
	{name: "a phone is unplugged", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) { l.phones[rnd.IntN(len(l.phones))].Unplug() }},
	{name: "all phones are unplugged", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		for _, p := range l.phones {
			p.Unplug()
		}
	}},
	{name: "a phone freezes for half a minute", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		p := l.phones[rnd.IntN(len(l.phones))]
		p.Freeze()
		time.AfterFunc(30*time.Second, p.Thaw)
	}},
	{name: "the adb server is killed", strike: func(l *lab, _ *rand.Rand, _ *api.Run) { _ = syscall.Kill(l.host.childNamed("adb"), syscall.SIGKILL) }},
	{name: "the service is killed and started again", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		l.service.kill()
		pause(rnd, 3*time.Second)
		l.service.start()
	}},
	{name: "the service is ended and started again", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		l.service.end()
		l.service.start()
	}},
	{name: "the host is killed and started again", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		l.host.kill()
		pause(rnd, 3*time.Second)
		l.host.start()
	}},
	{name: "the host is ended and started again", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		l.host.end()
		l.host.start()
	}},
	{name: "the database is killed", strike: func(l *lab, _ *rand.Rand, _ *api.Run) {
		_ = syscall.Kill(l.service.childNamed("mariadbd"), syscall.SIGKILL)
	}},
	{name: "the database hangs for a while", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		pid := l.service.childNamed("mariadbd")
		_ = syscall.Kill(pid, syscall.SIGSTOP)
		pause(rnd, 20*time.Second)
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}},
	{name: "a person stops the run", verdicts: []api.Verdict{api.Stopped, api.Passed}, strike: func(l *lab, _ *rand.Rand, run *api.Run) {
		_, _ = l.StopRunWithResponse(ctx, run.Id, api.Stop{})
	}},
	{name: "another run wants the same phones", strike: func(l *lab, _ *rand.Rand, _ *api.Run) {
		other := l.start("mixed", 4)
		l.t.Cleanup(func() { l.over(other.Id, 3*time.Minute) })
	}},
	{name: "the legs run out of time", pkg: "endless", verdicts: []api.Verdict{api.Expired}, strike: func(*lab, *rand.Rand, *api.Run) {}},
	{name: "the app does not respond", pkg: "hangs", verdicts: []api.Verdict{api.Crashed}, strike: func(*lab, *rand.Rand, *api.Run) {}},
	{name: "the service's disk is full for a while", strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		if !l.small {
			return
		}
		_ = os.WriteFile(filepath.Join(l.blobs(), "somebody-else"), make([]byte, 300<<20), 0o600) // as much as there is room for
		pause(rnd, 8*time.Second)
		_ = os.Remove(filepath.Join(l.blobs(), "somebody-else"))
	}},
	{name: "the app crashes, and the phone is unplugged", pkg: "crashes", verdicts: []api.Verdict{api.Crashed}, strike: func(l *lab, rnd *rand.Rand, _ *api.Run) {
		l.phones[rnd.IntN(len(l.phones))].Unplug()
	}},
}

// outcome of one round.
type outcome struct {
	fault, wrong string
	took         time.Duration
	attempts     int
}

func TestCampaign(t *testing.T) {
	if *seed == 0 {
		*seed = uint64(time.Now().UnixNano())
	}
	rnd := rand.New(rand.NewPCG(*seed, 1))
	t.Logf("%d runs, seed %d", *rounds, *seed)
	l := newLab(t, 3)
	l.add("mixed", mixed)
	l.add("crashes", strings.Replace(mixed, "phone.launch()", "phone.launch(args = {'debug_crash': 'low tide'})\n    phone.find('#never', within = 20)", 1))
	l.add("endless", strings.Replace(mixed, "phone.launch()", "phone.launch()\n    phone.find('#never', within = 60)", 1))
	l.add("hangs", strings.Replace(mixed, "phone.launch()", "phone.launch(args = {'debug_block': '20000'})\n    phone.background(1)\n    phone.wait_until(lambda: phone.back() or False, within = 30)", 1))
	l.mountSmall()
	var all []outcome
	for i := range *rounds {
		f := faultsThere[rnd.IntN(len(faultsThere))]
		if *rounds >= len(faultsThere) { // each of them as often as the others
			f = faultsThere[i%len(faultsThere)]
		}
		o := l.round(f, rnd)
		all = append(all, o)
		if o.wrong == "" {
			o.wrong = "true and complete"
		}
		fmt.Printf("%3d  %-46s %6.1f s  %d attempts  %s\n", i+1, o.fault, o.took.Seconds(), o.attempts, o.wrong)
	}
	summary(all)
	for _, o := range all {
		if o.wrong != "" {
			t.Errorf("%s: %s", o.fault, o.wrong)
		}
	}
}

// round runs one run with one fault at a random moment.
func (l *lab) round(f fault, rnd *rand.Rand) (o outcome) {
	o.fault = f.name
	l.up()
	l.free(1)
	pkg := f.pkg
	if pkg == "" {
		pkg = "mixed"
	}
	begun := time.Now()
	var serials []string
	r, err := l.ListDevicesWithResponse(ctx, &api.ListDevicesParams{})
	require.NoError(l.t, err)
	for _, d := range r.JSON200.Items {
		if d.State == "free" || d.State == "held" {
			serials = append(serials, d.Serial)
		}
	}
	l.limit = map[string]int{"endless": 4}[pkg]
	run := l.start(pkg, 6, serials...)
	pause(rnd, 8*time.Second)
	f.strike(l, rnd, run)
	over, legs := l.over(run.Id, 4*time.Minute)
	o.took = time.Since(begun)
	allowed := f.verdicts
	if allowed == nil {
		allowed = []api.Verdict{api.Passed}
	}
	var wrong []string
	if over.Verdict == nil || !slices.Contains(allowed, *over.Verdict) {
		wrong = append(wrong, fmt.Sprintf("the run %s came out %v", run.Id, over.Sentence))
	}
	for _, leg := range legs {
		o.attempts += len(leg.Attempts)
		for _, a := range leg.Attempts {
			for _, w := range l.lacks(a, leg.CasesTotal) {
				wrong = append(wrong, leg.Device.Serial+" "+w)
			}
		}
	}
	o.wrong = strings.Join(wrong, "; ")
	return o
}

func summary(all []outcome) {
	by := map[string][]outcome{}
	good := 0
	for _, o := range all {
		by[o.fault] = append(by[o.fault], o)
		if o.wrong == "" {
			good++
		}
	}
	names := make([]string, 0, len(by))
	for n := range by {
		names = append(names, n)
	}
	sort.Strings(names)
	fmt.Printf("\n%-46s %5s %5s %10s\n", "what happened", "runs", "good", "median")
	for _, n := range names {
		g := 0
		var took []float64
		for _, o := range by[n] {
			took = append(took, o.took.Seconds())
			if o.wrong == "" {
				g++
			}
		}
		sort.Float64s(took)
		fmt.Printf("%-46s %5d %5d %8.1f s\n", n, len(by[n]), g, took[len(took)/2])
	}
	fmt.Printf("\n%d of %d runs ended with a true verdict and complete evidence.\n", good, len(all))
}
