package adb

// Apps: installed, started, ended, removed.

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/phone"
)

var failureForm = regexp.MustCompile(`(?s)Failure \[(\w+)(?::\s*(.*?))?\]`)

var installRemedies = map[string]string{
	"OLDER_SDK":                            "the build needs a newer Android than the device has",
	"UPDATE_INCOMPATIBLE":                  "an app with this id but another signer is on the device: uninstall it there",
	"VERSION_DOWNGRADE":                    "a newer version is on the device: uninstall it there",
	"INSUFFICIENT_STORAGE":                 "free some storage on the device",
	"NO_MATCHING_ABIS":                     "the build has no code for the device's processor kind",
	"TEST_ONLY":                            "the build is marked testOnly",
	"USER_RESTRICTED":                      "the device asks its user to allow it: tap Allow there, or switch on installing over USB",
	"MISSING_SPLIT":                        "the build is one part of a split set: upload a universal APK",
	"INSTALL_PARSE_FAILED_NO_CERTIFICATES": "sign the build",
}

// Install installs the build.
func (d *Device) Install(ctx context.Context, app phone.App) error {
	const doing = "install the build"
	ctx, cancel := d.with(ctx, installMin+time.Duration(app.Size/installRate)*time.Second)
	defer cancel()
	file, err := app.Open()
	if err != nil {
		return fmt.Errorf("open the build: %w", err)
	}
	defer file.Close()
	flags := "-r -t"
	if d.api >= 23 {
		flags += " -g" // grants what the app asks for, so that no dialog stands in the way
	}
	var out string
	if d.features["cmd"] {
		raw, err := d.exec(ctx, doing, fmt.Sprintf("exec:cmd package install %s -S %d", flags, app.Size), file)
		if err != nil {
			return err
		}
		out = string(raw)
	} else {
		target := "/data/local/tmp/tessellant-" + path.Base(app.ID) + ".apk"
		if err := d.push(ctx, doing, file, target); err != nil {
			return err
		}
		a, err := d.shell(ctx, doing, "pm install "+flags+" "+quote(target)+"; rm -f "+quote(target), installMin)
		if err != nil {
			return err
		}
		out = a.text()
	}
	if strings.Contains(out, "Success") {
		return nil
	}
	if m := failureForm.FindStringSubmatch(out); m != nil {
		r := &phone.Refused{Doing: doing, Code: m[1], Why: strings.TrimSpace(m[2]), Remedy: "see the device's log"}
		for code, remedy := range installRemedies {
			if strings.HasSuffix(m[1], code) {
				r.Remedy = remedy
			}
		}
		if r.Why == "" {
			r.Why = "it gave no reason"
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
	c, err := d.server.open(ctx, d.transport, "sync:")
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

// Uninstall removes an app.
func (d *Device) Uninstall(ctx context.Context, id string) error {
	a, err := d.shell(ctx, "say whether the app is installed", "pm path "+quote(id), quick)
	if err != nil || !strings.Contains(string(a.out), "package:") {
		return err
	}
	a, err = d.shell(ctx, "uninstall the app", "pm uninstall "+quote(id), quick)
	if err == nil && !strings.Contains(a.text(), "Success") {
		err = &phone.Refused{Doing: "uninstall the app " + id, Why: clip(a.text())}
	}
	return err
}

// Launch starts the app.
func (d *Device) Launch(ctx context.Context, app phone.App) error {
	component := app.ID + "/" + app.Activity
	if app.Activity == "" {
		a, err := d.shell(ctx, "find the app's first screen", "cmd package resolve-activity --brief -c android.intent.category.LAUNCHER "+quote(app.ID), quick)
		if err != nil {
			return err
		}
		lines := strings.Split(strings.TrimSpace(string(a.out)), "\n")
		component = strings.TrimSpace(lines[len(lines)-1])
		if !strings.Contains(component, "/") {
			return &phone.Refused{Doing: "start the app " + app.ID, Why: "it is not installed, or has no screen that a launcher starts"}
		}
	}
	line := "am start -W -n " + quote(component)
	for _, n := range slices.Sorted(maps.Keys(app.Args)) {
		line += " --es " + quote(n) + " " + quote(app.Args[n])
	}
	a, err := d.shell(ctx, "start the app", line, launchLimit)
	if err != nil {
		return err
	}
	if !strings.Contains(a.text(), "Status: ok") { // the exit code says nothing
		return &phone.Refused{Doing: "start the app " + app.ID, Why: clip(a.text()), Remedy: "see whether it is installed"}
	}
	return nil
}

// Stop ends the app.
func (d *Device) Stop(ctx context.Context, id string) error {
	_, err := d.shell(ctx, "stop the app", "am force-stop "+quote(id), quick)
	return err
}

// Clear deletes the app's data.
func (d *Device) Clear(ctx context.Context, id string) error {
	a, err := d.shell(ctx, "clear the app's data", "pm clear "+quote(id), quick)
	if err == nil && !strings.Contains(a.text(), "Success") {
		err = &phone.Refused{Doing: "clear the data of " + id, Why: clip(a.text()), Remedy: "see whether it is installed"}
	}
	return err
}
