package phone

// Installing: what a phone takes in, and how it refuses. The failures that a trait asks for stand in sides.go.

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"strings"

	"tessellant/internal/core/appfile"
	"tessellant/internal/standin/app"
)

type installed struct {
	facts    appfile.Facts
	source   string        // the behaviour file; "": none
	keyboard *app.Keyboard // it is an input method; nil: it is none
	icon     image.Image
	size     int
	proc     *process
	memory   *rand.Rand // when there is little, see wantsMemory
	// Runtime permissions by their last words: what the app has, how often it was denied, and what it may not ask for again.
	granted, never map[string]bool
	denied         map[string]int
}

// Installing says whether the phone is taking an APK in at the moment.
func (p *Phone) Installing() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.installing > 0
}

// install takes an APK in, and answers as pm does.
func (p *Phone) install(raw []byte, o installOptions) string {
	fail := func(code, why string, args ...any) string {
		return fmt.Sprintf("Failure [%s: %s]", code, fmt.Sprintf(why, args...))
	}
	file, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	var facts appfile.Facts
	if err == nil {
		facts, err = file.Facts()
	}
	if err == nil && facts.Platform != "android" {
		err = errors.New("it has no AndroidManifest.xml")
	}
	if err != nil {
		return fail("INSTALL_PARSE_FAILED_NOT_APK", "Failed to parse /data/app/vmdl.tmp/base.apk: %v", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	old := p.apps[facts.AppID]
	if refusal := p.refusesInstall(o); refusal != "" {
		return refusal
	}
	switch {
	case facts.MinAPI > p.traits.API:
		return fail("INSTALL_FAILED_OLDER_SDK", "Requires newer sdk version #%d (current version is #%d)", facts.MinAPI, p.traits.API)
	case p.full(len(raw)):
		return fail("INSTALL_FAILED_INSUFFICIENT_STORAGE", "Failed to override installation location")
	case len(facts.ABIs) > 0 && !overlap(facts.ABIs, p.traits.ABIs):
		return fail("INSTALL_FAILED_NO_MATCHING_ABIS", "Failed to extract native libraries, res=-113")
	case old != nil && old.facts.VersionCode > facts.VersionCode && !o.downgrade:
		return fail("INSTALL_FAILED_VERSION_DOWNGRADE", "Downgrade detected: Update version code %d is older than current %d", facts.VersionCode, old.facts.VersionCode)
	}
	in := &installed{facts: facts, size: len(raw), granted: map[string]bool{}, never: map[string]bool{}, denied: map[string]int{}}
	if old != nil { // an update keeps what was granted
		in.granted, in.never, in.denied = old.granted, old.never, old.denied
	}
	if o.grant {
		p.grantAll(in)
	}
	if src, err := file.Entry("assets/behaviour.star", 256<<10); err == nil {
		in.source = string(src)
		if strings.Contains(in.source, "INPUT_METHOD") {
			if in.keyboard, err = app.ReadKeyboard(in.source); err != nil {
				return fail("INSTALL_FAILED_DEXOPT", "%v", err)
			}
		}
	}
	if icon := file.Icon(facts.IconPath); icon != nil {
		in.icon, _ = png.Decode(bytes.NewReader(icon))
	}
	p.kill(facts.AppID)
	p.apps[facts.AppID] = in
	p.log("system", 812, 'I', "PackageManager", "Installed %s versionCode=%d", facts.AppID, facts.VersionCode)
	p.changed()
	return "Success"
}

func overlap(a, b []string) bool {
	for _, x := range a {
		for _, y := range b {
			if x == y {
				return true
			}
		}
	}
	return false
}
