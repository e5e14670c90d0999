package main

// Much at once: a large upload, and hundreds of phones on one host.

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/standin/phone"
)

// uploads compares the upload of a 1 GB build with copying and hashing the same file.
func uploads(dir string) error {
	big := filepath.Join(dir, "gigabyte.apk")
	if err := blowUp(big, 1<<30); err != nil {
		return err
	}
	defer os.Remove(big)
	d, stop, err := start(filepath.Join(dir, "upload"), nil)
	if err != nil {
		return err
	}
	defer stop()
	before := peak(d.pid)
	begun := time.Now()
	if out, err := d.command("build", "add", big); err != nil {
		return fmt.Errorf("upload: %w: %s", err, out)
	}
	ours := time.Since(begun)
	after := peak(d.pid)
	begun = time.Now()
	for _, c := range [][]string{{"cp", big, filepath.Join(dir, "upload", "copy")}, {"sha256sum", big}} {
		if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w: %s", c, err, out)
		}
	}
	theirs := time.Since(begun)
	return errors.Join(
		say("upload of 1 GB ÷ cp and sha256sum of the same file", float64(ours)/float64(theirs), 2, "%s against %s", ours.Round(time.Millisecond), theirs.Round(time.Millisecond)),
		say("service's memory after the upload ÷ before", float64(after)/float64(before), 2, "peaks of %d MB and %d MB", after>>10, before>>10))
}

// peak is the most memory that a process ever had, in kB.
func peak(pid int) int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, l := range strings.Split(string(raw), "\n") {
		if v, ok := strings.CutPrefix(l, "VmHWM:"); ok {
			n, _ := strconv.Atoi(strings.Fields(v)[0])
			return n
		}
	}
	return 0
}

// cpu is the processor time of a process and of its children that have ended.
func cpu(pid int) time.Duration { return cpuOf(pid, 11, 12, 13, 14) } // utime, stime, cutime, cstime

// cpuOf sums fields of /proc/PID/stat behind the name, in ticks.
func cpuOf(pid int, fields ...int) time.Duration {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, rest, _ := strings.Cut(string(raw), ") ")
	f := strings.Fields(rest)
	var ticks int
	for _, i := range fields {
		if len(f) > i {
			n, _ := strconv.Atoi(f[i])
			ticks += n
		}
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// manyPhones is how many phones one host holds.
const manyPhones = 300

const small = `def test_look(phone):
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("shores")

def test_type(phone):
    phone.launch()
    phone.type("#search", "tern")
    check.contains(phone.read("#shore_tern-rocks"), "Tern")
`

// many runs a small package on hundreds of phones at once.
func many(dir string) error {
	var fleet []phone.Traits
	for i := range manyPhones {
		fleet = append(fleet, phone.Traits{Serial: fmt.Sprintf("many-%03d", i+1), Maker: "Orrery", Model: "Skerry 5", Origin: "real", Android: "14", API: 34, Width: 360, Height: 720, Density: 160,
			MemoryGB: 4, Language: "en", ABIs: []string{"arm64-v8a"}, Temper: phone.Instant})
	}
	d, stop, err := start(filepath.Join(dir, "many"), fleet)
	if err != nil {
		return err
	}
	defer stop()
	pkg := filepath.Join(dir, "small")
	if err := errors.Join(os.MkdirAll(pkg, 0o700), os.WriteFile(filepath.Join(pkg, "tessellant.yaml"), []byte("name: small\nkind: script\n"), 0o600), os.WriteFile(filepath.Join(pkg, "c.star"), []byte(small), 0o600)); err != nil {
		return err
	}
	for _, a := range [][]string{{"build", "add", apk}, {"package", "add", pkg}} {
		if out, err := d.command(a...); err != nil {
			return fmt.Errorf("%v: %w: %s", a, err, out)
		}
	}
	used := cpu(d.pid)
	r, err := d.run("small", "--attempts", "1")
	if err != nil {
		return err
	}
	bad := 0
	for _, l := range r.Legs {
		if l.Verdict == nil || *l.Verdict != "passed" {
			bad++
			why := ""
			if l.Message != nil {
				why = *l.Message
			}
			fmt.Printf("  %s: %v %s\n", l.Serial, *l.Verdict, why)
		}
	}
	used = cpu(d.pid) - used
	return say(fmt.Sprintf("legs of %d that did not pass", len(r.Legs)), float64(bad), 0, "%s in all; the service and its host: %d MB at most, %s of processor a leg, its scripts' processes and videos included",
		r.Ended.Sub(r.Created).Round(time.Millisecond), peak(d.pid)>>10, (used / manyPhones).Round(time.Millisecond))
}
