package android

// Fingers and keys, by the device's own input command.

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode"

	"tessellant/internal/phone"
)

func (d *Device) input(ctx context.Context, doing, line string) error {
	return d.inputWithin(ctx, doing, line, quick)
}

func (d *Device) inputWithin(ctx context.Context, doing, line string, limit time.Duration) error {
	a, err := d.shell(ctx, doing, "input "+line, limit)
	if err == nil {
		if closed := injected(doing, a); closed != nil {
			d.gate(gateInject)
			return closed
		}
	}
	if err == nil && (a.code != 0 || strings.Contains(a.text(), "Exception")) {
		err = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "see whether the device allows input over USB (its developer options)"}
	}
	return err
}

// Tap touches a point.
func (d *Device) Tap(ctx context.Context, x, y int) error {
	return d.input(ctx, "tap", fmt.Sprintf("tap %d %d", x, y))
}

// Swipe moves a finger.
func (d *Device) Swipe(ctx context.Context, x1, y1, x2, y2 int, took time.Duration) error {
	return d.input(ctx, "swipe", fmt.Sprintf("swipe %d %d %d %d %d", x1, y1, x2, y2, took.Milliseconds()))
}

const maxText = 10_000

// A device presses the keys of a text one after the other, at up to 20 ms each, and at ten times that when it is busy.
const (
	pieceOfText = 100
	perKey      = 200 * time.Millisecond
)

// keyed says whether the input command takes a character.
func keyed(r rune) bool { return r >= ' ' && r <= '~' }

// Type enters text. The device's input command takes printable ASCII alone; a
// new line is typed as the Enter key. Where our keyboard is (LayKeyboard), it types lines that have other characters.
func (d *Device) Type(ctx context.Context, text string) error {
	if len(text) > maxText {
		return fmt.Errorf("the text has %d bytes; %d can be typed at once", len(text), maxText)
	}
	by := d.laid()
	for _, r := range text {
		if !by && r != '\n' && !keyed(r) || unicode.IsControl(r) && r != '\n' {
			return &phone.Untypable{Text: text, Rune: r}
		}
	}
	for i, line := range strings.Split(text, "\n") {
		if i > 0 {
			if err := d.Press(ctx, phone.Enter); err != nil {
				return err
			}
		}
		if strings.ContainsFunc(line, func(r rune) bool { return !keyed(r) }) {
			if err := d.typeBy(ctx, line); err != nil {
				return err
			}
			continue
		}
		// The command takes %s for a blank, so a text that has %s in it is typed in two parts.
		parts := strings.SplitAfter(line, "%")
		for k := 0; k < len(parts); k++ {
			for k+1 < len(parts) && !strings.HasPrefix(parts[k+1], "s") {
				parts[k+1] = parts[k] + parts[k+1]
				k++
			}
			if parts[k] == "" {
				continue
			}
			for piece := parts[k]; piece != ""; {
				n := min(len(piece), pieceOfText)
				if err := d.inputWithin(ctx, "type", "text "+quote(strings.ReplaceAll(piece[:n], " ", "%s")), quick+time.Duration(n)*perKey); err != nil {
					return err
				}
				piece = piece[n:]
			}
		}
	}
	return nil
}

var keyCodes = map[phone.Key]string{phone.Back: "BACK", phone.Home: "HOME", phone.Recent: "APP_SWITCH", phone.Power: "POWER", phone.Enter: "ENTER", phone.Delete: "DEL", phone.End: "MOVE_END", "tab": "TAB", "escape": "ESCAPE",
	"search": "SEARCH", "menu": "MENU", "volume_up": "VOLUME_UP", "volume_down": "VOLUME_DOWN", "up": "DPAD_UP", "down": "DPAD_DOWN", "left": "DPAD_LEFT", "right": "DPAD_RIGHT"}

// Press presses keys.
func (d *Device) Press(ctx context.Context, keys ...phone.Key) error {
	var codes []string
	for _, k := range keys {
		code := keyCodes[k]
		if code == "" {
			return fmt.Errorf("an Android device has no key %q", k)
		}
		codes = append(codes, "KEYCODE_"+code)
	}
	return d.input(ctx, "press a key", "keyevent "+strings.Join(codes, " "))
}
