// Bench measures the figures that the project promises, each as a ratio against
// a named comparison run side by side on the same machine. See README.md.
package main

import (
	"archive/zip"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tessellant/api"
	"tessellant/internal/browserbox"
	"tessellant/internal/child"
	"tessellant/internal/core/timeline"
	"tessellant/internal/housetest"
	"tessellant/internal/sandbox"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/phone"
)

var (
	program = "bin/tessellant"
	apk     = "build/kelpline-1.8.0.apk"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == sandbox.ChildArg {
		sandbox.Child()
		return
	}
	if len(os.Args) == 4 && os.Args[1] == bareArg {
		if err := serveBare(os.Args[2], os.Args[3]); err != nil {
			fail(err)
		}
		return
	}
	rounds := flag.Int("rounds", 1, "how often the runs are repeated")
	only := flag.String("only", "", "facts, runs, upload, many, console, outside, access, choosing, evidence, answers, labs, hands or routes; default: all")
	flag.Parse()
	dir, err := os.MkdirTemp("", "tessellant-bench-")
	if err != nil {
		fail(err)
	}
	for _, f := range []struct {
		name    string
		measure func() error
	}{{"facts", func() error { return facts(dir) }}, {"runs", func() error { return runs(dir, *rounds) }}, {"upload", func() error { return uploads(dir) }}, {"many", func() error { return many(dir) }}, {"console", func() error { return consoleFigures(dir) }}, {"outside", func() error { return outside(dir) }}, {"access", func() error { return asking(dir) }}, {"choosing", func() error { return choosing(dir) }}, {"evidence", func() error { return evidence(dir) }}, {"answers", func() error { return whatRunsSay(dir) }}, {"labs", func() error { return labs(dir) }}, {"hands", func() error { return hands(dir) }}, {"routes", func() error { return routed(dir) }}} {
		if *only == "" || *only == f.name {
			err = errors.Join(err, f.measure())
		}
	}
	_ = os.RemoveAll(dir)
	if err != nil {
		fail(err)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

func say(name string, ratio, most float64, detail string, args ...any) error {
	word := "holds"
	var err error
	if ratio > most {
		word, err = "MISSED", fmt.Errorf("%s: %.3f is more than %.2f", name, ratio, most)
	}
	fmt.Printf("%-52s %.3f  (at most %.2f: %s)  %s\n", name, ratio, most, word, fmt.Sprintf(detail, args...))
	return err
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

// facts compares reading a 150 MB APK with Android's own tool, whole process
// against whole process, taken in turns.
func facts(dir string) error {
	big := filepath.Join(dir, "big.apk")
	if err := blowUp(big, 150<<20); err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for range 101 {
		for _, c := range []struct {
			into *[]time.Duration
			args []string
		}{{&ours, []string{program, "build", "check", big}}, {&theirs, []string{"aapt", "dump", "badging", big}}} {
			start := time.Now()
			if out, err := exec.Command(c.args[0], c.args[1:]...).CombinedOutput(); err != nil {
				return fmt.Errorf("%v: %w: %s", c.args, err, out)
			}
			*c.into = append(*c.into, time.Since(start))
		}
	}
	a, b := median(ours), median(theirs)
	return say("facts of a 150 MB APK ÷ aapt dump badging", float64(a)/float64(b), 1, "median of 101: %s against %s", a.Round(100*time.Microsecond), b.Round(100*time.Microsecond))
}

// blowUp adds an asset of random bytes to Kelpline's build.
func blowUp(target string, size int64) error {
	in, err := zip.OpenReader(apk)
	if err != nil {
		return fmt.Errorf("%w; make it with: make build", err)
	}
	defer in.Close()
	out, err := os.Create(target)
	if err != nil {
		return err
	}
	defer out.Close()
	z := zip.NewWriter(out)
	for _, f := range in.File {
		if err := z.Copy(f); err != nil {
			return err
		}
	}
	w, err := z.CreateHeader(&zip.FileHeader{Name: "assets/big.bin", Method: zip.Store})
	if err != nil {
		return err
	}
	if _, err := io.CopyN(w, rand.Reader, size); err != nil {
		return err
	}
	return z.Close()
}

// runs starts the service and the demo's phones, of real temper, and compares a
// run on all with the same run on the slowest device alone.
func runs(dir string, rounds int) error {
	fleet, err := phone.ReadFleetFile("demo/fleet.yaml", false)
	if err != nil {
		return err
	}
	for i := range fleet {
		fleet[i].Temper = phone.Real
	}
	d, stop, err := start(filepath.Join(dir, "runs"), fleet)
	if err != nil {
		return err
	}
	defer stop()
	if err := d.upload(); err != nil {
		return err
	}
	var first time.Duration // from the start to the first command on the last device
	var all, alone []time.Duration
	var caseTime, commandTime int64
	slowest := ""
	for range rounds {
		r, err := d.run("shore-suite", "--where", "platform=android", "--secret-from-env", "observer-code=KELPLINE_CODE")
		if err != nil {
			return err
		}
		all = append(all, r.Ended.Sub(r.Created))
		if slowest == "" {
			var most time.Duration
			for _, l := range r.Legs {
				if t := l.Ended.Sub(*l.Started); t > most {
					most, slowest = t, l.Serial
				}
			}
		}
		one, err := d.run("shore-suite", "--device", slowest, "--secret-from-env", "observer-code=KELPLINE_CODE")
		if err != nil {
			return err
		}
		alone = append(alone, one.Ended.Sub(one.Created))
		for _, l := range r.Legs {
			a, b, began, err := d.cases(dir, l.Id)
			if err != nil {
				return err
			}
			caseTime, commandTime = caseTime+a, commandTime+b
			first = max(first, l.Started.Sub(r.Created)+began)
		}
	}
	a, b := median(all), median(alone)
	return errors.Join(
		say("run on 16 devices ÷ on its slowest device alone", float64(a)/float64(b), 1.15, "%s against %s on %s, collecting included", a.Round(time.Millisecond), b.Round(time.Millisecond), slowest),
		say("a script case ÷ the sum of its device commands", float64(caseTime)/float64(commandTime), 1.05, "passed cases of 16 devices: %.1f s against %.1f s", float64(caseTime)/1000, float64(commandTime)/1000),
		say("seconds from the start to the last device's first command", first.Seconds(), 3, "16 devices"))
}

// start starts the service with phones beside it, and waits until all are free.
func start(dir string, fleet []phone.Traits) (d *desk, stop func(), err error) {
	return startWith(dir, fleet, len(fleet))
}

// startWith starts the service with more arguments, and waits until so many devices are free.
func startWith(dir string, fleet []phone.Traits, devices int, more ...string) (d *desk, stop func(), err error) {
	var stops []func()
	stop = func() {
		for i := len(stops) - 1; i >= 0; i-- {
			stops[i]()
		}
	}
	defer func() {
		if err != nil {
			stop()
		}
	}()
	back, err := backend.Start("127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	stops = append(stops, back.Close)
	var connect []string
	for _, t := range fleet {
		t.Network, t.System, t.Browser = back.Network(), back.Certificate, browserbox.Browser
		p, err := phone.Start(t, "127.0.0.1:0")
		if err != nil {
			return nil, stop, err
		}
		stops = append(stops, p.Close)
		connect = append(connect, "--connect", p.Address())
	}
	port, err := child.FreePort() // after the phones have theirs
	if err != nil {
		return nil, stop, err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	args := append([]string{"serve", "--adb-server", "own", "--listen", address, "--data", dir, "--log-level", "warn"}, append(connect, append(housetest.Backends(back), more...)...)...)
	const key = "tsl_a_key_for_the_benchmark"
	serve := exec.Command(program, args...)
	serve.Env = append(os.Environ(), "TESSELLANT_FIRST_KEY="+key)
	serve.Stderr = os.Stderr
	if err := serve.Start(); err != nil {
		return nil, stop, err
	}
	stops = append(stops, func() {
		_ = serve.Process.Signal(os.Interrupt)
		_ = serve.Wait()
	})
	d = &desk{url: "http://" + address, key: key, pid: serve.Process.Pid}
	return d, stop, d.ready(devices)
}

type desk struct {
	url, key string
	pid      int
}

func (d *desk) command(args ...string) ([]byte, error) {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "TESSELLANT_URL="+d.url, "TESSELLANT_KEY="+d.key, "KELPLINE_CODE="+backend.Code)
	return cmd.Output()
}

// upload adds the app's build and its suite.
func (d *desk) upload() error {
	for _, a := range [][]string{{"build", "add", apk}, {"package", "add", "demo/shore-suite"}} {
		if out, err := d.command(a...); err != nil {
			return fmt.Errorf("%v: %w: %s", a, err, out)
		}
	}
	return nil
}

func (d *desk) ready(phones int) error {
	for deadline := time.Now().Add(3 * time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		if r, err := http.Get(d.url + "/readyz"); err == nil {
			_ = r.Body.Close()
			out, _ := d.command("device", "list", "--json")
			if strings.Count(string(out), `"state": "free"`) >= phones {
				return nil
			}
		}
	}
	return errors.New("the service and its phones did not come up within three minutes")
}

func (d *desk) run(pkg string, where ...string) (api.Run, error) {
	var r api.Run
	out, err := d.command(append([]string{"run", "start", "--build", "kelpline/android@newest", "--package", pkg + "@newest", "--watch", "--json"}, where...)...)
	var code *exec.ExitError
	if err != nil && !(errors.As(err, &code) && code.ExitCode() == 1) { // that the app fails is foretold
		return r, err
	}
	return r, json.Unmarshal(out, &r)
}

// cases sums the time of a leg's passed cases, and of the commands in them, in ms; began is when its first command did.
func (d *desk) cases(dir, leg string) (whole, commands int64, began time.Duration, err error) {
	target := filepath.Join(dir, leg)
	if _, err := d.command("leg", "fetch", leg, target); err != nil {
		return 0, 0, 0, err
	}
	f, err := os.Open(filepath.Join(target, "timeline.jsonl"))
	if err != nil {
		return 0, 0, 0, err
	}
	defer f.Close()
	sums := map[string]int64{}
	err = timeline.Read(f, func(e timeline.Event) error {
		switch {
		case e.Kind == timeline.Command:
			if began == 0 {
				began = time.Duration(e.At) * time.Millisecond
			}
			sums[e.Case] += e.Took
		case e.Kind == timeline.Case && e.Verdict == "passed":
			whole, commands = whole+e.Took, commands+sums[e.Name]
		}
		return nil
	})
	return whole, commands, began, err
}
