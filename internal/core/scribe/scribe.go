// Package scribe writes down what a person did on a held device as lines of a script.
//
// In: the events of a hold's timeline; those of touches and typed texts have the locator of their element. Out: lines in the language of core/testpkg, which
// do the same again: lookups wait by themselves, so that a line needs no pause before it. What can't be done again stands there as a remark.
package scribe

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"tessellant/internal/core/timeline"
)

// Line is one line, without its indent.
type Line struct {
	At   int64  `json:"at"` // ms on the hold's clock
	Text string `json:"text"`
}

// Case is the name of the case that lines become.
const Case = "test_recorded"

// Quote writes a text as the script language does.
func Quote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(s) + "'"
}

// Masked is what stands in place of each letter of a secret.
const Masked = "•"

// typed is a text that may go on.
type typed struct{ element, text string }

type scribe struct {
	out  []Line
	open *typed // the last line is of this
}

func (s *scribe) add(at int64, text string, args ...any) {
	s.open = nil
	line := strings.ToValidUTF8(fmt.Sprintf(text, args...), "")
	if strings.HasPrefix(line, "#") { // a remark ends with its line
		line = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
				return ' '
			}
			return r
		}, line)
	}
	s.out = append(s.out, Line{at, line})
}

// Lines gives what was done, from when the device was ready. App is the hold's own.
func Lines(events []timeline.Event, app string) []Line {
	s := scribe{out: []Line{}}
	ready := false
	for _, e := range events {
		switch {
		case e.Kind == timeline.Stage:
			ready = e.Name == "running"
		case !ready:
		case e.Line != "": // a script did it
		case e.Kind == timeline.Step:
			s.add(e.At, "phone.step(%s)", Quote(e.Name))
		case e.Kind == timeline.Command && e.Error == "":
			s.command(e, app)
		}
	}
	return s.out
}

func (s *scribe) command(e timeline.Event, app string) {
	element := e.Args["element"]
	switch e.Name {
	case "tap":
		if element == "" {
			s.add(e.At, "# a tap at %s,%s: what is there could not be read", e.Args["x"], e.Args["y"])
			return
		}
		s.add(e.At, "phone.tap(%s)", Quote(element))
	case "long press":
		if element == "" {
			s.add(e.At, "# a long press at %s,%s: what is there could not be read", e.Args["x"], e.Args["y"])
			return
		}
		s.add(e.At, "phone.long_press(%s)", Quote(element))
	case "swipe":
		if d := direction(e.Args["from"], e.Args["to"]); d != "" {
			s.add(e.At, "phone.swipe(%s)", Quote(d))
		}
	case "fingers":
		s.add(e.At, "# %s fingers at once: no word of the script language does that", e.Args["fingers"])
	case "type":
		s.typed(e.At, element, e.Args["text"])
	case "press", "press key":
		times, _ := strconv.Atoi(e.Args["times"])
		s.pressed(e.At, e.Args["key"], max(times, 1))
	case "launch app":
		if e.Args["app"] == app {
			s.add(e.At, "phone.launch()")
		}
	case "stop app":
		if e.Args["app"] == app {
			s.add(e.At, "phone.stop()")
		}
	case "set orientation":
		s.add(e.At, "phone.rotate(%s)", Quote(e.Args["to"]))
	case "set network":
		s.add(e.At, "phone.network(%s)", Quote(e.Args["to"]))
	case "set conditions":
		var all []string
		for _, name := range slices.Sorted(maps.Keys(e.Args)) {
			all = append(all, name+":"+e.Args[name])
		}
		s.add(e.At, "phone.conditions(%s)", Quote(strings.Join(all, ",")))
	}
}

// direction is where a finger moved; "": nowhere.
func direction(from, to string) string {
	var x1, y1, x2, y2 int
	if _, err := fmt.Sscanf(from+" "+to, "%d,%d %d,%d", &x1, &y1, &x2, &y2); err != nil {
		return ""
	}
	dx, dy := x2-x1, y2-y1
	switch {
	case dx == 0 && dy == 0:
		return ""
	case max(dy, -dy) >= max(dx, -dx) && dy < 0:
		return "up"
	case max(dy, -dy) >= max(dx, -dx):
		return "down"
	case dx < 0:
		return "left"
	}
	return "right"
}

// typed writes what was typed: what goes on where the last stopped is one text, and the tap that gave the field the focus is part of typing.
func (s *scribe) typed(at int64, element, text string) {
	switch {
	case strings.Trim(text, Masked) == "":
		if s.open == nil || !strings.HasPrefix(s.out[len(s.out)-1].Text, "# a secret") {
			s.add(at, "# a secret was typed into %s: declare an input, and type inputs[NAME]", element)
			s.open = &typed{element: element}
		}
		return
	case element == "":
		s.add(at, "# %s was typed: which field had the focus could not be read", Quote(text))
		return
	case s.open != nil && s.open.element == element && s.open.text != "":
		text = s.open.text + text
		s.drop()
	case len(s.out) > 0 && s.out[len(s.out)-1].Text == "phone.tap("+Quote(element)+")":
		s.drop()
	}
	s.add(at, "phone.type(%s, %s)", Quote(element), Quote(text))
	s.open = &typed{element, text}
}

// drop takes the last line back.
func (s *scribe) drop() { s.out = s.out[:len(s.out)-1] }

// pressed writes keys. Deleting what was typed just now is as if it had not been typed.
func (s *scribe) pressed(at int64, key string, times int) {
	for ; key == "delete" && times > 0 && s.open != nil && s.open.text != ""; times-- {
		_, n := utf8.DecodeLastRuneInString(s.open.text)
		element, left := s.open.element, s.open.text[:len(s.open.text)-n]
		s.drop()
		if left == "" {
			s.add(at, "phone.tap(%s)", Quote(element))
			times--
			break
		}
		s.add(at, "phone.type(%s, %s)", Quote(element), Quote(left))
		s.open = &typed{element, left}
	}
	for range times {
		if key == "back" {
			s.add(at, "phone.back()")
			continue
		}
		s.add(at, "phone.press(%s)", Quote(key))
	}
}

// Source makes a script of lines: one case that begins with the app's launch, unless the first line does so.
func Source(lines []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "def %s(phone):\n", Case)
	if len(lines) == 0 || lines[0] != "phone.launch()" {
		b.WriteString("    phone.launch()\n")
	}
	for _, l := range lines {
		for _, part := range strings.Split(l, "\n") {
			if strings.TrimSpace(part) != "" {
				b.WriteString("    " + part)
			}
			b.WriteByte('\n')
		}
	}
	return b.String()
}
