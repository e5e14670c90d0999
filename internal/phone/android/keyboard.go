package android

// A keyboard of our own, for texts that the device's input command does not take: it is installed where the work allows that, chosen until Unsettle, and
// uninstalled like any app of the work. What it is to type comes to it as a broadcast, which only the shell may send (keyboard/).

import (
	"bytes"
	"context"
	"embed"
	"encoding/base64"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"tessellant/internal/phone"
)

//go:embed all:built
var built embed.FS

const (
	keyboardApp    = "tessellant.keyboard"
	keyboardID     = keyboardApp + "/.Keyboard"
	keyboardAction = keyboardApp + ".TYPE"
	// keyboardWakes is how long it may take until it listens, once it was chosen.
	keyboardWakes = 5 * time.Second
	pieceTyped    = 400 // runes of a text that it types at once
)

var _ phone.Typist = (*Device)(nil)

// KeyboardApp implements phone.Typist.
func (d *Device) KeyboardApp() string { return keyboardApp }

// LayKeyboard implements phone.Typist.
func (d *Device) LayKeyboard(ctx context.Context) error {
	const doing = "put the keyboard on it"
	apk, err := built.ReadFile("built/keyboard.apk")
	if err != nil {
		return &phone.Refused{Doing: doing, Why: "the program on this host lacks the keyboard", Remedy: "build it with: make build"}
	}
	if err := d.Uninstall(ctx, keyboardApp); err != nil {
		return err
	}
	if err := d.Install(ctx, phone.App{ID: keyboardApp, Size: int64(len(apk)), Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(apk)), nil }}); err != nil {
		return err
	}
	a, err := d.shell(ctx, doing, "settings get secure default_input_method", quick)
	if err != nil {
		return err
	}
	back := setting{restore: "ime set " + quote(value(string(a.out)))}
	if !backForm.MatchString(back.restore) {
		back.restore = "settings delete secure default_input_method" // the system chooses one then
	}
	if err := d.changing(ctx, doing, []setting{back}, "ime enable "+quote(keyboardID)+"; ime set "+quote(keyboardID)); err != nil {
		return err
	}
	d.mu.Lock()
	d.settled = append(d.settled, back)
	d.mu.Unlock()
	if a, err = d.shell(ctx, doing, "settings get secure default_input_method", quick); err != nil {
		return err
	}
	if now := value(string(a.out)); now != keyboardID {
		return &phone.Refused{Doing: doing, Why: "the device does not let it be chosen: it stays with " + clip(now), Remedy: "allow other keyboards in its settings, or leave the helper out"}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.keyboard = true
	return nil
}

// laid says whether the keyboard is there.
func (d *Device) laid() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.keyboard
}

// broadcastResult is what "am broadcast" says: 1, it was typed; 2, no field takes text; 0, nobody listens.
var broadcastResult = regexp.MustCompile(`Broadcast completed: result=(-?\d+)`)

// typeBy has the keyboard type a text without line breaks.
func (d *Device) typeBy(ctx context.Context, text string) error {
	const doing = "type"
	for all := []rune(text); len(all) > 0; {
		n := min(len(all), pieceTyped)
		line := fmt.Sprintf("am broadcast -a %s -p %s --es text64 %s", keyboardAction, keyboardApp, base64.StdEncoding.EncodeToString([]byte(string(all[:n]))))
		for deadline := time.Now().Add(keyboardWakes); ; {
			a, err := d.shell(ctx, doing, line, quick)
			if err != nil {
				return err
			}
			said := broadcastResult.FindStringSubmatch(a.text())
			if said != nil && said[1] == "1" {
				break
			}
			if said != nil && said[1] == "2" {
				return &phone.Refused{Doing: doing, Why: "no field takes the text", Remedy: "tap a field first"}
			}
			if said == nil || time.Now().After(deadline) {
				return &phone.Refused{Doing: doing, Why: "the keyboard does not answer: " + clip(strings.TrimSpace(a.text())), Remedy: "leave the helper out, or use another device"}
			}
			if err := phone.Pause(ctx, 200*time.Millisecond); err != nil {
				return d.failed(ctx, doing, err)
			}
		}
		all = all[n:]
	}
	return nil
}
