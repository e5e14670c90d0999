package webpage

// Keys of a keyboard, as the standard names them (section 17.4.2) and as a page is told of them.

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"tessellant/internal/core/w3c"
)

// key is one as DevTools know it.
type key struct {
	name, code string
	number     int // of old: KeyboardEvent.keyCode
	place      int // 1 and 2: left and right; 3: the number pad. As the standard's table has it, also where UI Events has another
	types      string
	shifted    string // what it types with Shift
	bit        int    // of a modifier, in events' modifiers
}

// Bits of modifiers (DevTools: Input.dispatchKeyEvent).
const (
	alt = 1 << iota
	control
	meta
	shift
)

const nullKey = '\uE000' // lets go of all modifiers

// keys are those of the standard's own code points, and of a US keyboard.
var keys = func() map[rune]key {
	all := map[rune]key{
		'\uE001': {name: "Cancel", number: 3}, '\uE002': {name: "Help", code: "Help", number: 47}, '\uE003': {name: "Backspace", code: "Backspace", number: 8}, '\uE004': {name: "Tab", code: "Tab", number: 9}, '\uE005': {name: "Clear", number: 12},
		'\uE006': {name: "Enter", code: "Enter", number: 13, types: "\r"}, '\uE007': {name: "Enter", code: "NumpadEnter", number: 13, place: 1, types: "\r"},
		'\uE008': {name: "Shift", code: "ShiftLeft", number: 16, place: 1, bit: shift}, '\uE009': {name: "Control", code: "ControlLeft", number: 17, place: 1, bit: control}, '\uE00A': {name: "Alt", code: "AltLeft", number: 18, place: 1, bit: alt}, '\uE03D': {name: "Meta", code: "MetaLeft", number: 91, place: 1, bit: meta},
		'\uE050': {name: "Shift", code: "ShiftRight", number: 16, place: 2, bit: shift}, '\uE051': {name: "Control", code: "ControlRight", number: 17, place: 2, bit: control}, '\uE052': {name: "Alt", code: "AltRight", number: 18, place: 2, bit: alt}, '\uE053': {name: "Meta", code: "MetaRight", number: 92, place: 2, bit: meta},
		'\uE00B': {name: "Pause", code: "Pause", number: 19}, '\uE00C': {name: "Escape", code: "Escape", number: 27}, '\uE00D': {name: " ", code: "Space", number: 32, types: " "},
		'\uE018': {name: ";", number: 186, types: ";"}, '\uE019': {name: "=", number: 187, types: "="},
		'\n': {name: "Enter", code: "Enter", number: 13, types: "\r"}, '\r': {name: "Enter", code: "Enter", number: 13, types: "\r"}, '\t': {name: "Tab", code: "Tab", number: 9}, '\b': {name: "Backspace", code: "Backspace", number: 8},
	}
	for i, name := range []string{"PageUp", "PageDown", "End", "Home", "ArrowLeft", "ArrowUp", "ArrowRight", "ArrowDown"} {
		all['\uE00E'+rune(i)] = key{name: name, code: name, number: 33 + i}
		all['\uE054'+rune(i)] = key{name: name, code: "Numpad" + []string{"9", "3", "1", "7", "4", "8", "6", "2"}[i], number: 33 + i, place: 3}
	}
	for i, name := range []string{"Insert", "Delete"} {
		all['\uE016'+rune(i)] = key{name: name, code: name, number: 45 + i}
		all['\uE05C'+rune(i)] = key{name: name, code: []string{"Numpad0", "NumpadDecimal"}[i], number: 45 + i, place: 3}
	}
	for i := range 10 {
		n := fmt.Sprint(i)
		all['\uE01A'+rune(i)] = key{name: n, code: "Numpad" + n, number: 96 + i, place: 3, types: n}
	}
	for i, x := range []string{"*Multiply", "+Add", ",Comma", "-Subtract", ".Decimal", "/Divide"} {
		all['\uE024'+rune(i)] = key{name: x[:1], code: "Numpad" + x[1:], number: 106 + i, place: 3, types: x[:1]}
	}
	for i := range 12 {
		n := fmt.Sprint("F", i+1)
		all['\uE031'+rune(i)] = key{name: n, code: n, number: 112 + i}
	}
	pair := func(plain, shifted rune, code string, number int) {
		all[plain] = key{name: string(plain), code: code, number: number, types: string(plain), shifted: string(shifted)}
		all[shifted] = key{name: string(shifted), code: code, number: number, types: string(shifted)}
	}
	for r := 'a'; r <= 'z'; r++ {
		upper := r - 'a' + 'A'
		pair(r, upper, "Key"+string(upper), int(upper))
	}
	for i, shifted := range ")!@#$%^&*(" {
		pair('0'+rune(i), shifted, fmt.Sprint("Digit", i), '0'+i)
	}
	for _, x := range []string{"`~Backquote 192", "-_Minus 189", "=+Equal 187", "[{BracketLeft 219", "]}BracketRight 221", "\\|Backslash 220", ";:Semicolon 186", "'\"Quote 222", ",<Comma 188", ".>Period 190", "/?Slash 191"} {
		var code string
		var number int
		_, _ = fmt.Sscanf(x[2:], "%s %d", &code, &number)
		pair(rune(x[0]), rune(x[1]), code, number)
	}
	all[' '] = key{name: " ", code: "Space", number: 32, types: " "}
	return all
}()

// keyOf gives the key of a character or of one of the standard's code points.
func keyOf(r rune) (key, *w3c.Error) {
	if k, ok := keys[r]; ok {
		return k, nil
	}
	if r >= '\uE000' && r <= '\uF8FF' {
		return key{}, w3c.Fail(w3c.UnsupportedOperation, "there is no key for the code point %U", r)
	}
	return key{name: string(r), types: string(r)}, nil
}

// Shifted gives what the key of a character types with Shift.
func Shifted(character string) string {
	if r := []rune(character); len(r) == 1 && keys[r[0]].shifted != "" {
		return keys[r[0]].shifted
	}
	return character
}

// keyEvent says that a key goes down or up, while modifiers are held.
func keyEvent(k key, down bool, held int) map[string]any {
	text := k.types
	if held&shift != 0 && k.shifted != "" {
		text = k.shifted
	}
	name := k.name
	if k.types != "" && k.types == k.name {
		name = text
	}
	q := map[string]any{"type": "keyUp", "key": name, "modifiers": held}
	if k.code != "" {
		q["code"] = k.code
	}
	if k.number != 0 {
		q["windowsVirtualKeyCode"] = k.number
	}
	if k.place != 0 {
		q["location"], q["isKeypad"] = k.place, k.place == 3
	}
	switch {
	case !down:
	case text == "" || held&(control|meta) != 0: // a shortcut types nothing
		q["type"] = "rawKeyDown"
		if held&(control|meta) != 0 && strings.EqualFold(k.name, "a") {
			q["commands"] = []string{"selectAll"}
		}
	default:
		q["type"], q["text"], q["unmodifiedText"] = "keyDown", text, k.types
	}
	return q
}

// press presses keys and types text into what has the focus. Modifiers stay pressed until \uE000 or the end.
func (x *Page) press(ctx context.Context, text string) error {
	held, down := 0, []key(nil)
	send := func(k key, is bool) error {
		err := x.do(ctx, "Input.dispatchKeyEvent", keyEvent(k, is, held), nil)
		if errors.Is(err, errDialog) {
			return nil
		}
		return err
	}
	release := func() error {
		for _, k := range down {
			held &^= k.bit
			if err := send(k, false); err != nil {
				return err
			}
		}
		down = nil
		return nil
	}
	for _, r := range text {
		if r == nullKey {
			if err := release(); err != nil {
				return err
			}
			continue
		}
		k, werr := keyOf(r)
		if werr != nil {
			return werr
		}
		var err error
		switch {
		case k.bit != 0 && held&k.bit != 0:
			held &^= k.bit
			err = send(k, false)
		case k.bit != 0:
			held |= k.bit
			down = append(down, k)
			err = send(k, true)
		default:
			if err = send(k, true); err == nil {
				err = send(k, false)
			}
		}
		if err != nil {
			return err
		}
	}
	return release()
}
