package android

// Permissions that an app asks its user for while it runs, and the system's dialog that asks.

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/uitree"
)

var permitForm = regexp.MustCompile(`^\s+([A-Za-z][\w.]*): granted=(true|false)`)

// Permitted implements phone.Permissions.
func (d *Device) Permitted(ctx context.Context, id string) (map[string]bool, error) {
	if d.api < 23 { // all that the manifest asks for is granted by the install
		return nil, nil
	}
	a, err := d.shell(ctx, "say what the app may do", "dumpsys package "+quote(id), quick)
	if err != nil {
		return nil, err
	}
	return readPermits(string(a.out), d.user), nil
}

// readPermits reads from `dumpsys package` which runtime permissions an app has: those of the user who is at the device.
func readPermits(out, user string) map[string]bool {
	permits := map[string]bool{}
	inRuntime, inUser := false, true
	for _, line := range strings.Split(out, "\n") {
		trimmed := strings.TrimSpace(line)
		if u, ok := strings.CutPrefix(trimmed, "User "); ok {
			u, _, _ = strings.Cut(u, ":")
			inUser, inRuntime = u == orZero(user), false
			continue
		}
		if m := permitForm.FindStringSubmatch(line); m != nil {
			if inRuntime && inUser {
				permits[m[1]] = m[2] == "true"
			}
			continue
		}
		inRuntime = strings.HasPrefix(trimmed, "runtime permissions:")
	}
	return permits
}

func orZero(user string) string {
	if user == "" {
		return "0"
	}
	return user
}

// grant gives an app permissions, in one line.
func (d *Device) grant(ctx context.Context, id string, names []string) error {
	if d.gated(gateGrant) {
		return nil
	}
	var lines []string
	for _, n := range slices.Sorted(slices.Values(names)) {
		lines = append(lines, "pm grant"+d.forUser()+" "+quote(id)+" "+quote(n))
	}
	a, err := d.shell(ctx, "grant the app what it asks for", strings.Join(lines, "; "), quick)
	if err == nil && strings.Contains(a.text(), "SecurityException") && strings.Contains(a.text(), "GRANT_RUNTIME_PERMISSIONS") {
		d.gate(gateGrant)
	}
	return err
}

// dialogApps are the apps of the system whose dialog asks for permissions, over the levels and where the system comes with its maker's own build of them.
var dialogApps = []string{"com.android.permissioncontroller", "com.google.android.permissioncontroller", "com.android.packageinstaller", "com.google.android.packageinstaller"}

// permissions are the system's names for what our words mean, newer systems' names among them.
var permissions = map[string][]string{
	"location": {"ACCESS_FINE_LOCATION", "ACCESS_COARSE_LOCATION"}, "notifications": {"POST_NOTIFICATIONS"}, "camera": {"CAMERA"}, "microphone": {"RECORD_AUDIO"},
	"contacts": {"READ_CONTACTS", "WRITE_CONTACTS", "GET_ACCOUNTS"}, "calendar": {"READ_CALENDAR", "WRITE_CALENDAR"}, "calls": {"CALL_PHONE", "READ_PHONE_STATE", "READ_CALL_LOG"},
	"messages": {"SEND_SMS", "READ_SMS", "RECEIVE_SMS"}, "photos": {"READ_MEDIA_IMAGES", "READ_MEDIA_VIDEO", "READ_EXTERNAL_STORAGE"}, "files": {"READ_EXTERNAL_STORAGE", "WRITE_EXTERNAL_STORAGE"},
	"bluetooth": {"BLUETOOTH_CONNECT", "BLUETOOTH_SCAN", "BLUETOOTH_ADVERTISE"}, "activity": {"ACTIVITY_RECOGNITION"}, "sensors": {"BODY_SENSORS"},
}

// Named implements phone.Permissions.
func (d *Device) Named(word string) (names []string) {
	if strings.Contains(word, ".") {
		return []string{word}
	}
	for _, n := range permissions[word] {
		names = append(names, "android.permission."+n)
	}
	return names
}

// Answer implements phone.Permissions: by the ids of the dialog's buttons, which no language changes, and which do not say what is asked for.
func (d *Device) Answer(ctx context.Context, _ string, allow bool) (bool, error) {
	s, err := d.Tree(ctx)
	if err != nil {
		return false, err
	}
	ids := allowIDs
	if !allow {
		ids = denyIDs
	}
	b := dialogButton(s, ids)
	if b == nil {
		return false, nil
	}
	x, y := b.Bounds.Center()
	if err := d.Tap(ctx, x, y); err != nil {
		return true, err
	}
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); { // it goes away by itself
		if s, err = d.Tree(ctx); err != nil {
			return true, err
		}
		if now := dialogButton(s, ids); now == nil || now.ID != b.ID || now.Bounds != b.Bounds { // or the next is up
			break
		}
	}
	return true, nil
}

// dialogButton finds the first of some buttons of the dialog that asks.
func dialogButton(s *uitree.Screen, ids []string) *uitree.Element {
	all := s.All()
	for _, id := range ids {
		for _, e := range all {
			if e.ID == id && slices.Contains(dialogApps, e.App) {
				return e
			}
		}
	}
	return nil
}

// denyIDs are those that deny; newer systems have another id for the second time.
var denyIDs = []string{"permission_deny_button", "permission_deny_and_dont_ask_again_button", "permission_no_upgrade_button"}

// allowIDs are the dialog's buttons that allow, the best first: for good before once.
var allowIDs = []string{"permission_allow_button", "permission_allow_foreground_only_button", "permission_allow_one_time_button"}

// asked gives the button that allows, when the dialog is up on a device that does not let permissions be granted, for an app that is
// not to ask.
func (d *Device) asked(s *uitree.Screen) *uitree.Element {
	if !d.gated(gateGrant) {
		return nil
	}
	d.mu.Lock()
	asks := slices.ContainsFunc(slices.Collect(maps.Values(d.known)), func(k *known) bool { return k.asks })
	d.mu.Unlock()
	if asks {
		return nil
	}
	return dialogButton(s, allowIDs)
}
