package android

// Apps: installed, ended, cleared, removed.

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/phone"
)

var failureForm = regexp.MustCompile(`(?s)Failure \[(\w+)(?::\s*(.*?))?\]`)

// installRemedies say what to do about a failure, by how its code ends.
var installRemedies = map[string]string{
	"OLDER_SDK":                            "the build needs a newer Android than the device has",
	"DEPRECATED_SDK_VERSION":               "the build is made for an Android that this device does not take any more: raise its targetSdkVersion",
	"UPDATE_INCOMPATIBLE":                  "an app with this id but another signer is on the device: uninstall it there",
	"VERSION_DOWNGRADE":                    "a newer version is on the device: uninstall it there",
	"INSUFFICIENT_STORAGE":                 "free some storage on the device",
	"NO_MATCHING_ABIS":                     "the build has no code for the device's processor kind",
	"TEST_ONLY":                            "the build is marked testOnly",
	"USER_RESTRICTED":                      "the device asks its user to allow it: tap Allow there, or switch on installing over USB in its developer options",
	"ABORTED":                              "somebody or something on the device broke it off: look at its screen, and tap Allow there when it asks",
	"MISSING_SPLIT":                        "the build is one part of a split set: upload a universal APK",
	"VERIFICATION_FAILURE":                 "the device's app verifier says no: switch off verifying apps over USB in its developer options",
	"VERIFICATION_TIMEOUT":                 "the device's app verifier gave no answer: switch off verifying apps over USB in its developer options",
	"CONFLICTING_PROVIDER":                 "another app on the device has a content provider of that name: uninstall it there",
	"DUPLICATE_PERMISSION":                 "another app on the device defines that permission: uninstall it there",
	"INSTALL_PARSE_FAILED_NO_CERTIFICATES": "sign the build; before Android 7 a device needs a signature of the JAR scheme (v1), too",
}

// known is an app that this driver installed.
type known struct {
	app     phone.App
	granted []string // what its manifest asks the user for, and the install granted
	asks    bool     // it is to ask its user now
}

// Install installs the build.
func (d *Device) Install(ctx context.Context, app phone.App) error {
	ctx, cancel := d.with(ctx, installMin+time.Duration(app.Size/installRate)*time.Second)
	defer cancel()
	if err := d.install(ctx, app, true); err != nil {
		return err
	}
	k := &known{app: app}
	if !d.gated(gateGrant) {
		permits, err := d.Permitted(ctx, app.ID)
		if err != nil {
			return err
		}
		for name, has := range permits {
			if has {
				k.granted = append(k.granted, name)
			}
		}
	}
	d.mu.Lock()
	d.known[app.ID] = k
	d.mu.Unlock()
	return nil
}

// install sends the build in, without what the device refuses about it.
func (d *Device) install(ctx context.Context, app phone.App, grant bool) error {
	const doing = "install the build"
	anySDK := false  // the device takes builds made for an old system when it is told to
	var off *setting // the verifier, while it stands in the way
	defer func() {
		if off != nil {
			_, _ = d.shell(context.WithoutCancel(ctx), "put its settings back", off.restore, quick)
		}
	}()
	for {
		line := "-r -t"
		if d.api >= 23 && grant && !d.gated(gateGrant) {
			line += " -g" // grants what the app asks for, so that no dialog stands in the way
		}
		if anySDK {
			line += " --bypass-low-target-sdk-block"
		}
		out, err := d.sendBuild(ctx, doing, app, line+d.forUser())
		switch {
		case err != nil:
			return err
		case strings.Contains(out, "Success"):
			return nil
		case strings.Contains(out, "SecurityException") && strings.Contains(out, "GRANT") && strings.Contains(line, "-g"):
			d.gate(gateGrant)
			continue
		case strings.Contains(out, "INSTALL_FAILED_VERIFICATION") && off == nil:
			if off, err = d.change(ctx, doing, "global", "verifier_verify_adb_installs", "0"); err == nil && off != nil {
				continue
			}
		case strings.Contains(out, "DEPRECATED_SDK_VERSION") && d.api >= 34 && !anySDK:
			anySDK = true
			continue
		}
		return d.notInstalled(ctx, doing, out)
	}
}

// sendBuild runs one install, and gives what the device says.
func (d *Device) sendBuild(ctx context.Context, doing string, app phone.App, flags string) (string, error) {
	file, err := app.Open()
	if err != nil {
		return "", fmt.Errorf("open the build: %w", err)
	}
	defer file.Close()
	if d.features["cmd"] {
		raw, err := d.exec(ctx, doing, fmt.Sprintf("exec:cmd package install %s -S %d", flags, app.Size), file)
		return string(raw), err
	}
	target := "/data/local/tmp/tessellant-" + path.Base(app.ID) + ".apk"
	if err := d.push(ctx, doing, file, target); err != nil {
		return "", err
	}
	a, err := d.shell(ctx, doing, "pm install "+flags+" "+quote(target)+"; rm -f "+quote(target), installMin)
	return a.text(), err
}

// notInstalled is the error that a device's answer to an install means.
func (d *Device) notInstalled(ctx context.Context, doing, out string) error {
	if m := failureForm.FindStringSubmatch(out); m != nil {
		r := &phone.Refused{Doing: doing, Code: m[1], Why: clip(m[2]), Remedy: "see the device's log"}
		for code, remedy := range installRemedies {
			if strings.HasSuffix(m[1], code) {
				r.Remedy = remedy
			}
		}
		return r
	}
	if strings.TrimSpace(out) == "" { // it never goes silent when it is there
		return d.failed(ctx, doing, errCut)
	}
	return &phone.Refused{Doing: doing, Why: clip(out)}
}

// push writes a file on the device (SYNC.TXT: SEND).
func (d *Device) push(ctx context.Context, doing string, r io.Reader, target string) error {
	c, err := d.server.Open(ctx, d.transport, "sync:")
	if err != nil {
		return d.failed(ctx, doing, err)
	}
	defer c.Close()
	le := binary.LittleEndian
	send := func(id string, n uint32, body []byte) error {
		_, err := c.Write(append(le.AppendUint32([]byte(id), n), body...))
		return err
	}
	name := target + ",33188" // a plain file, 0644
	if err := send("SEND", uint32(len(name)), []byte(name)); err != nil {
		return d.failed(ctx, doing, err)
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(r, buf)
		if n > 0 {
			if err := send("DATA", uint32(n), buf[:n]); err != nil {
				return d.failed(ctx, doing, err)
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("read the build: %w", err)
		}
	}
	if err := send("DONE", uint32(time.Now().Unix()), nil); err != nil {
		return d.failed(ctx, doing, err)
	}
	head := make([]byte, 8)
	if _, err := io.ReadFull(c, head); err != nil {
		return d.failed(ctx, doing, errCut)
	}
	if string(head[:4]) == "OKAY" {
		return nil
	}
	why, _ := io.ReadAll(io.LimitReader(c, int64(min(le.Uint32(head[4:]), 1<<10))))
	return &phone.Refused{Doing: doing, Why: string(why), Remedy: "free some storage on the device"}
}

// Uninstall removes an app. Whether one is there is asked afterwards alone: `pm path` sees one user's apps.
func (d *Device) Uninstall(ctx context.Context, id string) error {
	a, err := d.slowly(ctx, "uninstall the app", "pm uninstall "+quote(id))
	if err != nil || strings.Contains(a.text(), "Success") {
		return err
	}
	said := a.text()
	there, err := d.installed(ctx, id)
	if err == nil && there {
		err = &phone.Refused{Doing: "uninstall the app " + id, Why: clip(said)}
	}
	return err
}

func (d *Device) installed(ctx context.Context, id string) (bool, error) {
	a, err := d.shell(ctx, "say whether the app is installed", "pm path"+d.forUser()+" "+quote(id), quick)
	return strings.Contains(string(a.out), "package:"), err
}

// Stop ends the app.
func (d *Device) Stop(ctx context.Context, id string) error {
	_, err := d.shell(ctx, "stop the app", "am force-stop"+d.forUser()+" "+quote(id), quick)
	return err
}

// Clear deletes the app's data, and grants it again what its install did: clearing takes that back.
func (d *Device) Clear(ctx context.Context, id string) error { return d.clear(ctx, id, true) }

// AsNew implements phone.Permissions.
func (d *Device) AsNew(ctx context.Context, id string) error { return d.clear(ctx, id, false) }

func (d *Device) clear(ctx context.Context, id string, grant bool) error {
	d.mu.Lock()
	k := d.known[id]
	d.mu.Unlock()
	if d.gated(gateClear) && k != nil {
		return d.anew(ctx, k, grant)
	}
	a, err := d.slowly(ctx, "clear the app's data", "pm clear"+d.forUser()+" "+quote(id))
	switch said := a.text(); {
	case err != nil:
		return err
	case strings.Contains(said, "forbidden") || strings.Contains(said, "SecurityException"):
		d.gate(gateClear)
		if k != nil {
			return d.anew(ctx, k, grant)
		}
		if there, err := d.installed(ctx, id); err != nil || !there {
			return cmp.Or(err, error(&phone.Refused{Doing: "clear the data of " + id, Why: "it is not installed"}))
		}
		return &phone.Refused{Doing: "clear the data of " + id, Code: "forbidden", Why: "its maker does not let the shell do that", Remedy: gates[gateClear].remedy}
	case !strings.Contains(said, "Success"):
		return &phone.Refused{Doing: "clear the data of " + id, Why: clip(said), Remedy: "see whether it is installed"}
	}
	if err := d.speakAgain(ctx, id); err != nil || k == nil {
		return err
	}
	d.mu.Lock()
	k.asks = !grant
	d.mu.Unlock()
	if grant && len(k.granted) > 0 {
		return d.grant(ctx, id, k.granted)
	}
	return nil
}

// anew clears an app where clearing is forbidden: it is removed and installed again.
func (d *Device) anew(ctx context.Context, k *known, grant bool) error {
	ctx, cancel := d.with(ctx, installMin+time.Duration(k.app.Size/installRate)*time.Second)
	defer cancel()
	if there, err := d.installed(ctx, k.app.ID); err != nil || !there {
		return cmp.Or(err, error(&phone.Refused{Doing: "clear the data of " + k.app.ID, Why: "it is not installed"}))
	}
	if err := d.Uninstall(ctx, k.app.ID); err != nil {
		return err
	}
	d.mu.Lock()
	k.asks = !grant
	d.mu.Unlock()
	if err := d.install(ctx, k.app, grant); err != nil {
		return err
	}
	return d.speakAgain(ctx, k.app.ID)
}

var packageForm = regexp.MustCompile(`(?m)^package:([\w.]+)(?: versionCode:(\d+))?\s*$`)

// maxInstalled is how many apps of a user's are told.
const maxInstalled = 2000

// Installed implements phone.Drawer: the apps that are not the system's.
func (d *Device) Installed(ctx context.Context) ([]phone.Installed, error) {
	const doing = "list its apps"
	line := "pm list packages -3"
	if d.api >= 26 {
		line += " --show-versioncode"
	}
	a, err := d.shell(ctx, doing, line, quick)
	if err != nil {
		return nil, err
	}
	out := []phone.Installed{}
	for _, m := range packageForm.FindAllStringSubmatch(strings.ReplaceAll(string(a.out), "\r\n", "\n"), maxInstalled) {
		out = append(out, phone.Installed{ID: m[1], Version: m[2]})
	}
	if len(out) == 0 && (a.code != 0 || strings.Contains(a.text(), "rror")) {
		return nil, &phone.Refused{Doing: doing, Why: clip(a.text())}
	}
	slices.SortFunc(out, func(a, b phone.Installed) int { return strings.Compare(a.ID, b.ID) })
	return out, nil
}
