package phone

// Permissions that the user of an app is asked for while it runs, since Android 6, and the system's dialog that asks.
//
// The dialog belongs to an app of the system whose name, ids and buttons changed with the levels, as in the sources of
// PackageInstaller and PermissionController in the Android Open Source Project.

import (
	"fmt"
	"slices"
	"strings"

	"tessellant/internal/standin/app"
	"tessellant/internal/standin/paint"
)

// asking is the dialog that is up.
type asking struct {
	id         string // of the app
	permission string // its last word
	then       func(granted bool)
	buttons    []button
}

type button struct {
	id, text string
	grants   bool
	forGood  bool // it is not asked again
}

// runtime are the permissions that are asked for while an app runs, and the level since when.
var runtime = map[string]int{
	"ACCESS_FINE_LOCATION": 23, "ACCESS_COARSE_LOCATION": 23, "CAMERA": 23, "RECORD_AUDIO": 23, "READ_CONTACTS": 23, "WRITE_CONTACTS": 23, "READ_CALENDAR": 23, "CALL_PHONE": 23,
	"READ_PHONE_STATE": 23, "SEND_SMS": 23, "READ_EXTERNAL_STORAGE": 23, "WRITE_EXTERNAL_STORAGE": 23, "BODY_SENSORS": 23, "ACTIVITY_RECOGNITION": 29, "BLUETOOTH_CONNECT": 31, "BLUETOOTH_SCAN": 31,
	"POST_NOTIFICATIONS": 33, "READ_MEDIA_IMAGES": 33, "NEARBY_WIFI_DEVICES": 33,
}

const permissionPrefix = "android.permission."

// asksFor says whether a permission is one that the user is asked for here.
func (p *Phone) asksFor(name string) bool {
	since, ok := runtime[name]
	return ok && p.traits.API >= max(since, 23)
}

// wants gives the runtime permissions in an app's manifest, by their last words.
func (p *Phone) wants(in *installed) (out []string) {
	for _, full := range in.facts.Permissions {
		if name, ok := strings.CutPrefix(full, permissionPrefix); ok && p.asksFor(name) {
			out = append(out, name)
		}
	}
	return out
}

// may says, under mu, whether an app has a permission.
func (p *Phone) may(in *installed, name string) bool {
	if !slices.Contains(in.facts.Permissions, permissionPrefix+name) {
		return runtime[name] > p.traits.API // before the system knew it, nobody needed it
	}
	return !p.asksFor(name) || in.granted[name]
}

// grantAll gives an app, under mu, all that its manifest asks for.
func (p *Phone) grantAll(in *installed) {
	for _, name := range p.wants(in) {
		in.granted[name] = true
	}
}

// ask puts the system's dialog up, under mu, unless the answer is known; then is called when it is answered.
func (p *Phone) ask(id, name string, then func(bool)) (granted, known bool) {
	in := p.apps[id]
	switch {
	case in == nil:
	case p.may(in, name):
		return true, true
	case in.never[name], !slices.Contains(in.facts.Permissions, permissionPrefix+name):
		return false, true
	default:
		p.asking = &asking{id: id, permission: name, then: then, buttons: p.buttons(in, name)}
		p.changed()
	}
	return false, false
}

// dialogApp is the app that the dialog belongs to, and its ids do.
func (p *Phone) dialogApp() string {
	if p.traits.API >= 29 {
		return "com.android.permissioncontroller"
	}
	return "com.android.packageinstaller"
}

func (p *Phone) buttons(in *installed, name string) []button {
	say := func(en, de string) string {
		if p.traits.Language == "de" {
			return de
		}
		return en
	}
	allow := button{"permission_allow_button", say("Allow", "Zulassen"), true, false}
	deny := button{"permission_deny_button", say("Deny", "Ablehnen"), false, false}
	local := strings.Contains(name, "LOCATION") || name == "CAMERA" || name == "RECORD_AUDIO"
	if p.traits.API >= 30 && in.denied[name] > 0 {
		deny.id, deny.forGood = "permission_deny_and_dont_ask_again_button", true
	}
	switch {
	case p.traits.API >= 30:
		deny.text = say("Don't allow", "Nicht zulassen")
		if !local {
			return []button{allow, deny}
		}
		return []button{{"permission_allow_foreground_only_button", say("While using the app", "Bei Nutzung der App"), true, false},
			{"permission_allow_one_time_button", say("Only this time", "Nur dieses Mal"), true, false}, deny}
	case p.traits.API == 29 && strings.Contains(name, "LOCATION"):
		return []button{{"permission_allow_foreground_only_button", say("Allow only while using the app", "Nur während der Nutzung der App zulassen"), true, false}, deny}
	}
	return []button{deny, allow}
}

// answered is the tap on a button of the dialog, under mu.
func (p *Phone) answered(b button) {
	a := p.asking
	p.asking = nil
	in := p.apps[a.id]
	if in == nil {
		return
	}
	if b.grants {
		in.granted[a.permission] = true
	} else {
		in.denied[a.permission]++
		in.never[a.permission] = b.forGood
	}
	p.changed()
	p.act(func(*app.App) error { a.then(b.grants); return nil })
}

func (p *Phone) askText() string {
	a := p.asking
	what := map[string][2]string{"ACCESS_FINE_LOCATION": {"access this device's location", "auf den Standort dieses Geräts zugreifen"}, "POST_NOTIFICATIONS": {"send you notifications", "dir Benachrichtigungen senden"},
		"CAMERA": {"take pictures and record video", "Bilder und Videos aufnehmen"}}[a.permission]
	if what[0] == "" {
		what = [2]string{"use " + a.permission, a.permission + " nutzen"}
	}
	label := p.apps[a.id].facts.Label
	if p.traits.Language == "de" {
		return "Darf " + label + " " + what[1] + "?"
	}
	return "Allow " + label + " to " + what[0] + "?"
}

// askBox is where the dialog lies, and where its nth button does.
func (p *Phone) askBox(n int) (whole, button app.Box) {
	sw, sh := p.size()
	w := min(sw-p.dp(48), p.dp(340))
	h := p.dp(100 + 52*len(p.asking.buttons))
	x, y := (sw-w)/2, (sh-h)/2
	whole = app.Box{X1: x, Y1: y, X2: x + w, Y2: y + h}
	top := y + p.dp(92+52*n)
	return whole, app.Box{X1: x + p.dp(12), Y1: top, X2: x + w - p.dp(12), Y2: top + p.dp(48)}
}

func (p *Phone) drawAsking(c *paint.Canvas) {
	sw, sh := p.sizes()
	c.Box(0, 0, sw, sh, 0, paint.Fade(black, 0.55))
	b, _ := p.askBox(0)
	c.Box(float64(b.X1), float64(b.Y1), float64(b.X2-b.X1), float64(b.Y2-b.Y1), 8, white)
	words := strings.Fields(p.askText())
	line, y := "", float64(b.Y1)+c.DP(30)
	for i, w := range words {
		line = strings.TrimSpace(line + " " + w)
		if i == len(words)-1 || len(line)+len(words[i+1]) > 30 {
			c.Text(line, float64(b.X1)+c.DP(24), y, 0, paint.Medium, 17, black)
			line, y = "", y+c.DP(24)
		}
	}
	for i, btn := range p.asking.buttons {
		_, at := p.askBox(i)
		c.Box(float64(at.X1), float64(at.Y1), float64(at.X2-at.X1), float64(at.Y2-at.Y1), 6, keyPlate)
		c.Text(btn.text, float64(at.X1+at.X2)/2, float64(at.Y1+at.Y2)/2, 0.5, paint.Regular, 16, black)
	}
}

// askTree is the dialog in the tree.
func (p *Phone) askTree(root *treeNode) {
	owner := p.dialogApp()
	root.pkg = owner
	root.box, _ = p.askBox(0)
	message := root.box
	message.Y2 = message.Y1 + p.dp(88)
	root.children = []*treeNode{{class: "android.widget.TextView", id: owner + ":id/permission_message", text: p.askText(), pkg: owner, enabled: true, box: message}}
	for i, b := range p.asking.buttons {
		_, at := p.askBox(i)
		root.children = append(root.children, &treeNode{class: "android.widget.Button", id: owner + ":id/" + b.id, text: b.text, pkg: owner, enabled: true, clickable: true, box: at})
	}
}

// permit is pm grant and pm revoke.
func (p *Phone) permit(c *call, verb, id, full string) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	name := strings.TrimPrefix(full, permissionPrefix)
	fail := func(format string, args ...any) int {
		fmt.Fprintf(c.err, "\nException occurred while executing '%s':\njava.lang.%s\n", verb, fmt.Sprintf(format, args...))
		return 255
	}
	switch {
	case in == nil:
		return fail("IllegalArgumentException: Unknown package: %s", id)
	case p.traits.has(NoGrant):
		return fail("SecurityException: %sRuntimePermission: Neither user 2000 nor current process has android.permission.GRANT_RUNTIME_PERMISSIONS.", verb)
	case p.traits.API < 23 || !p.asksFor(name):
		return fail("SecurityException: Permission %s requested by %s is not a changeable permission type", full, id)
	case !slices.Contains(in.facts.Permissions, full):
		return fail("SecurityException: Package %s has not requested permission %s", id, full)
	}
	in.granted[name] = verb == "grant"
	if verb == "revoke" {
		p.kill(id) // as Android does
	}
	return 0
}

// sayPermissions is what dumpsys package says of them, under mu.
func (p *Phone) sayPermissions(c *call, in *installed) {
	c.say("    requested permissions:\n")
	for _, full := range in.facts.Permissions {
		c.say("      %s\n", full)
	}
	c.say("    install permissions:\n")
	for _, full := range in.facts.Permissions {
		if !p.asksFor(strings.TrimPrefix(full, permissionPrefix)) {
			c.say("      %s: granted=true\n", full)
		}
	}
	if p.traits.API < 23 {
		return
	}
	c.say("    User 0: ceDataInode=131 installed=true hidden=false suspended=false stopped=false notLaunched=false enabled=0 instant=false virtual=false\n      gids=[3003]\n      runtime permissions:\n")
	for _, name := range p.wants(in) {
		c.say("        %s%s: granted=%v, flags=[ USER_SENSITIVE_WHEN_GRANTED|USER_SENSITIVE_WHEN_DENIED]\n", permissionPrefix, name, in.granted[name])
	}
}
