package phone

// The awkward sides of real phones. Each is something that many phones in the field do and a
// kind stand-in would not; the driver must cope with it, or say what a person can do.

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Gate is something that a maker forbids the shell, until a person switches it on in the developer options.
type Gate string

const (
	NoGrant  Gate = "no-grant"  // pm install -g and pm grant
	NoClear  Gate = "no-clear"  // pm clear
	NoInject Gate = "no-inject" // input
	NoChange Gate = "no-change" // settings put
)

// Sides are a phone's awkward sides; the zero value has none.
type Sides struct {
	Gates []Gate `yaml:"gates"`
	// Sleeps is how long after the last touch its screen goes off; 0: it never does.
	Sleeps time.Duration `yaml:"sleeps"`
	// Battery says that it is not being charged: what keeps the screen on while plugged in does not.
	Battery bool `yaml:"battery"`
	// Lock is what stands before its home screen: none, swipe or pin.
	Lock string `yaml:"lock"`
	// Boots is how long its system still starts when adb sees it already.
	Boots time.Duration `yaml:"boots"`
	// Quiet is how long nothing may have moved before a dump of the tree is made; 0: it need not wait.
	Quiet time.Duration `yaml:"quiet"`
	// Restless says that something on its screen always moves.
	Restless bool `yaml:"restless"`
	// Logcat is how its log differs: threadtime (it has no other format) or no-info (INFO and below are kept out).
	Logcat string `yaml:"logcat"`
	// Zone is how far its local time goes before UTC. Before Android 7 its log takes and tells local times.
	Zone time.Duration `yaml:"zone"`
	// Secure says that its screen may not be pictured, as a banking app asks for.
	Secure bool `yaml:"secure"`
	// HardKeys says that a keyboard is attached to it: it says that one is shown, and shows none.
	HardKeys bool `yaml:"hardware_keyboard"`
	// Composing says that its own keyboard swallows Latin letters.
	Composing bool `yaml:"composing"`
	// SaysSerial is the serial that it tells; empty: its own.
	SaysSerial string `yaml:"says_serial"`
	// Outer says that it folds: its first display is the outer one, 400×800, which is dark while it is open.
	Outer bool `yaml:"foldable"`
	// Installs is a failure that its installs end in: a code such as VERIFICATION_TIMEOUT; see installFailures.
	Installs string `yaml:"installs"`
	// SlowStart is how much longer than am waits an app takes to come up.
	SlowStart time.Duration `yaml:"slow_start"`
	// SlowStorage is how long removing and clearing take.
	SlowStorage time.Duration `yaml:"slow_storage"`
	// User is the number of the user who is at the phone; apps of user 0 are not hers.
	User int `yaml:"user"`
	// TwoLaunchers says that every app has two icons.
	TwoLaunchers bool `yaml:"two_launchers"`
	// TouchClosed says that the shell may not write to the touch screen.
	TouchClosed bool `yaml:"touch_closed"`
	// Lies are settings that it takes and keeps as they were: font_scale, night, locales, density, timezone, location, wifi_on and the like.
	Lies []string `yaml:"lies"`
	// NoReverse says that it opens no ports that lead to the host.
	NoReverse bool `yaml:"no_reverse"`
	// PortTaken is a port from which on something else listens at all of them; 0: nothing does.
	PortTaken int `yaml:"port_taken"`
	// NoProxy says that its apps do not mind the proxy that is set.
	NoProxy bool `yaml:"no_proxy"`
	// OddGauges says that its dumpsys tells of battery, memory and frames in a form of its maker's.
	OddGauges bool `yaml:"odd_gauges"`
	// NoFilm says that it has no encoder for a film of its screen.
	NoFilm bool `yaml:"no_film"`
	// Trailing says that its screencap writes something behind the picture.
	Trailing bool `yaml:"trailing"`
}

// Awkward are all sides at once that go together on a phone that can still be worked with.
func Awkward(api int) Sides {
	s := Sides{Gates: []Gate{NoGrant, NoClear}, Sleeps: 15 * time.Second, Battery: true, Lock: "swipe", Quiet: time.Second, Logcat: "no-info", Zone: -7 * time.Hour,
		HardKeys: true, Composing: true, TwoLaunchers: true, TouchClosed: true, Trailing: true}
	switch {
	case api < 23: // without runtime permissions there is no gate before granting them
		s.Gates = []Gate{NoClear}
	case api == 24 || api == 25:
		s.Logcat = "threadtime"
	}
	return s
}

func (s Sides) has(g Gate) bool { return slices.Contains(s.Gates, g) }

func (s Sides) check() error {
	for _, g := range s.Gates {
		if g != NoGrant && g != NoClear && g != NoInject && g != NoChange {
			return fmt.Errorf("one of its gates is %q; there are no-grant, no-clear, no-inject and no-change", g)
		}
	}
	for _, x := range []struct{ what, is, can string }{
		{"lock", s.Lock, "none swipe pin"}, {"logcat", s.Logcat, "threadtime no-info"},
	} {
		if x.is != "" && !slices.Contains(strings.Fields(x.can), x.is) {
			return fmt.Errorf("its %s is %q; it can be %s", x.what, x.is, strings.Join(strings.Fields(x.can), " or "))
		}
	}
	if s.Installs != "" && installFailures[s.Installs] == "" {
		return fmt.Errorf("its installs end in %q, which is no failure that it knows", s.Installs)
	}
	return nil
}

// --- The system that still starts.

func (p *Phone) booting() bool { return time.Since(p.began) < p.traits.Boots }

// notYet answers for a system service while the system still starts.
func (p *Phone) notYet(c *call, service string) bool {
	if !p.booting() {
		return false
	}
	if p.traits.oldShell() {
		c.say("Error: Could not access the %s. Is the system running?\n", strings.ToUpper(service[:1])+service[1:]+" Manager")
	} else {
		fmt.Fprintf(c.err, "cmd: Can't find service: %s\n", service)
	}
	return true
}

// --- The screen that goes off, and the lock behind it.

// doze lets the screen go off, under mu, when it is time.
func (p *Phone) doze() {
	if p.traits.Sleeps == 0 || p.asleep {
		return
	}
	if !p.traits.Battery && p.settings["global/stay_on_while_plugged_in"] != "" && p.settings["global/stay_on_while_plugged_in"] != "0" {
		return
	}
	var ms int64
	_, _ = fmt.Sscan(p.settings["system/screen_off_timeout"], &ms)
	if time.Since(p.touched) > time.Duration(ms)*time.Millisecond {
		p.sleepNow()
	}
}

// sleepNow switches the screen off, under mu, and locks the phone.
func (p *Phone) sleepNow() {
	p.asleep = true
	p.locked = p.traits.Lock == "swipe" || p.traits.Lock == "pin"
	p.changed()
}

// user notes, under mu, that somebody or something did what keeps the screen on.
func (p *Phone) user() {
	if !p.asleep {
		p.touched = time.Now()
	}
}

// Sleep switches the screen off, as the power key does.
func (p *Phone) Sleep() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sleepNow()
}

// Unlock is a person who enters the PIN.
func (p *Phone) Unlock() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asleep, p.locked, p.sealed, p.touched = false, false, false, time.Now()
	p.changed()
}

// Restless sets whether something on the screen always moves.
func (p *Phone) Restless(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.restless = on
}

// Fold folds a foldable phone, or opens it.
func (p *Phone) Fold(folded bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.folded = folded
	p.adjusted()
}

// --- Installs that fail.

// installFailures are what installs can end in, in pm's words.
var installFailures = map[string]string{
	"DEPRECATED_SDK_VERSION": "INSTALL_FAILED_DEPRECATED_SDK_VERSION: App package must target at least SDK version 23, but found 21",
	"VERIFICATION_FAILURE":   "INSTALL_FAILED_VERIFICATION_FAILURE: Install not allowed",
	"VERIFICATION_TIMEOUT":   "INSTALL_FAILED_VERIFICATION_TIMEOUT",
	"ABORTED":                "INSTALL_FAILED_ABORTED: User rejected permissions",
	"CONFLICTING_PROVIDER":   "INSTALL_FAILED_CONFLICTING_PROVIDER: Package couldn't be installed in /data/app: Can't install because provider name org.kelpline.files (in package org.kelpline.app) is already used by org.other.app",
	"DUPLICATE_PERMISSION":   "INSTALL_FAILED_DUPLICATE_PERMISSION: Package org.kelpline.app attempting to redeclare permission org.kelpline.READ already owned by org.other.app",
	"NO_CERTIFICATES":        "INSTALL_PARSE_FAILED_NO_CERTIFICATES: Package /data/app/vmdl.tmp/base.apk has no certificates at entry AndroidManifest.xml",
	"USER_RESTRICTED":        "INSTALL_FAILED_USER_RESTRICTED: Install canceled by user",
	"UPDATE_INCOMPATIBLE":    "INSTALL_FAILED_UPDATE_INCOMPATIBLE: Package signatures do not match previously installed version; ignoring!",
	"INTERNAL_ERROR":         "INSTALL_FAILED_INTERNAL_ERROR: Failed to restore /data",
	"DEXOPT":                 "INSTALL_FAILED_DEXOPT",
}

// installOptions are those of pm install that make a difference.
type installOptions struct{ grant, downgrade, anySDK bool }

// refusesInstall gives, under mu, how an install fails that the phone will not do; empty: it does it.
func (p *Phone) refusesInstall(o installOptions) string {
	switch code := p.traits.Installs; {
	case p.traits.has(NoGrant) && o.grant:
		return "Exception occurred while executing 'install':\njava.lang.SecurityException: You need the android.permission.INSTALL_GRANT_RUNTIME_PERMISSIONS permission to use the PackageManager.INSTALL_GRANT_RUNTIME_PERMISSIONS flag\n\tat com.android.server.pm.PackageInstallerService.createSessionInternal(PackageInstallerService.java:713)"
	case code == "":
	case strings.HasPrefix(code, "VERIFICATION") && p.settings["global/verifier_verify_adb_installs"] == "0":
	case code == "DEPRECATED_SDK_VERSION" && o.anySDK && p.traits.API >= 34:
	default:
		return "Failure [" + installFailures[code] + "]"
	}
	return ""
}

// --- What a test may want to see of the phone itself.

// Settings are those that differ from phone to phone, as they stand now.
func (p *Phone) Settings() map[string]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.settings)
}

// Apps are the ids of the apps that are installed.
func (p *Phone) Apps() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Sorted(maps.Keys(p.apps))
}

// Files are the paths of the files on it.
func (p *Phone) Files() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Sorted(maps.Keys(p.files))
}

// Lie makes it take a setting from now on and keep it as it is.
func (p *Phone) Lie(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.traits.Lies = append(slices.Clone(p.traits.Lies), name)
}

// Stands is how it is set: its settings, and what services keep.
func (p *Phone) Stands() map[string]string {
	out := p.Settings()
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(out, "appops/mock_location")
	for id, language := range p.set.languages {
		out["language of "+id] = language
	}
	out["night"], out["density"], out["zone"], out["located"], out["airplane"] = fmt.Sprint(p.night), fmt.Sprint(p.density()), p.set.zone, fmt.Sprint(p.set.mocked, p.set.located), fmt.Sprint(p.set.airplane)
	out["global/airplane_mode_on"] = out["airplane"]
	return out
}

// Forget removes a file from it.
func (p *Phone) Forget(path string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.files, path)
}
